// Deliver: presets and their packing table, the files that will be written, where they go, and past deliveries.
import { $, choose, complain, el, icon, pennant } from './dom.js';
import { call } from './api.js';
import { value } from './values.js';
import { PlaneList } from './planes.js';
import { ReadBack } from './readback.js';
import { Joins } from './joins.js';

const LETTERS = ['r', 'g', 'b', 'a'];

/** What goes beside the files. */
const BESIDE = [['glb', 'GLB', 'one file that holds the model with its textures'], ['materialx', 'MaterialX', 'a document that wires the files'], ['usd', 'USD', 'the model as USD text, with the files wired']];

/** How the padding is measured. */
const PADS = [['all', 'without limit'], ['px', 'in px'], ['share', 'share of the side']];

export class Deliver {
  constructor(app) {
    this.app = app;
    this.own = [];
    this.count = 0;
    this.pending = [];
    this.shipped = Promise.resolve();
    this.planes = new PlaneList(app, this);
    this.readBack = new ReadBack(app);
    this.joins = new Joins(app, this);
    $('#deliver').onclick = () => this.run(false);
    $('#deliver-replace').onclick = () => this.run(true);
    $('#packing-add').onclick = () => this.change(p => p.files.push({ label: 'New file', map: 'new', r: 'roughness', format: 'png', bits: 8 }));
    $('#preset-back').onclick = () => this.ship({ edited: null });
    $('#preset-save').onclick = () => this.save();
    $('#preset-import').onclick = () => $('#preset-file').click();
    $('#preset-file').onchange = async e => { const f = e.target.files[0]; e.target.value = ''; if (f) await this.takeFile(await f.text()); };
    $('#preset-name').onkeydown = e => { e.stopPropagation(); if (e.key === 'Enter') this.save(); };
    for (const b of $('#deliver-to').children) b.onclick = () => this.ship({ to: b.dataset.value });
    for (const [id, key] of [['#folder', 'folder'], ['#naming', 'naming']]) {
      $(id).onchange = () => this.ship({ [key]: $(id).value.trim() });
      $(id).onkeydown = e => { if (e.key === 'Enter') $(id).blur(); e.stopPropagation(); };
    }
  }

  async take() {
    this.render();
    if (this.count === 0) this.list();
    if (!this.listed) { this.listed = true; await this.listOwn(); }
  }

  /** How the asset is delivered, with what is on its way to the server. */
  get shipping() { return Object.assign({}, this.app.state.shipping, ...this.pending); }

  /** Changes how the asset is delivered; what follows at once goes on from it, before the server has answered. */
  ship(change, complaint = '#preset-complaint') {
    this.pending.push(change);
    const mine = this.shipped = this.shipped.then(() => this.app.do('shipping', { shipping: change }, $(complaint))).then(done => {
      this.pending.splice(this.pending.indexOf(change), 1);
      if (done) Object.assign(this.app.state.shipping, change);
      return done;
    });
    return mine;
  }

  /** The preset that is chosen, as it is saved. */
  saved() { return [...this.own, ...this.app.tables.presets].find(p => p.name === this.shipping.preset) || this.app.tables.presets[0]; }

  /** The preset as it is used: with what was changed for this asset. */
  preset() { return this.shipping.edited || this.saved(); }

  /** Changes the packing table for this asset. */
  change(how) {
    const p = structuredClone(this.preset());
    how(p);
    return this.ship({ edited: JSON.stringify(p) === JSON.stringify(this.saved()) ? null : p });
  }

  async listOwn() {
    try { this.own = await call('GET', '/api/presets'); } catch { return; }
    this.render();
  }

  /** Takes a preset's file in. */
  async takeFile(text) {
    complain($('#preset-complaint'), '');
    try {
      const p = await call('PUT', '/api/presets', new Blob([text]));
      await this.listOwn();
      await this.ship({ preset: p.name, edited: null });
      $('#preset-name').value = '';
    } catch (e) {
      complain($('#preset-complaint'), e.message);
    }
  }

  async save() {
    const name = $('#preset-name').value.trim(), p = { ...this.preset(), name: name || this.preset().name, title: name || this.preset().title };
    await this.takeFile(JSON.stringify({ crust: 'preset 1', ...p }));
  }

  async drop(name) {
    try {
      await call('DELETE', `/api/presets/${encodeURIComponent(name)}`);
      if (this.shipping.preset === name) await this.ship({ preset: this.app.tables.presets[0].name, edited: null });
      await this.listOwn();
    } catch (e) {
      complain($('#preset-complaint'), e.message);
    }
  }

  /** Asks what would be written, when that may have changed. */
  ask() {
    if (this.app.stageName !== 'deliver' || !this.app.state) return;
    clearTimeout(this.timer);
    this.timer = setTimeout(async () => {
      const mine = this.mine = {};
      let plan;
      try { plan = await call('GET', `${this.app.api}/delivery-plan`); } catch { return; }
      if (mine !== this.mine) return;
      this.plan = plan;
      this.table(this.preset());
      this.planned();
      this.planes.look();
    }, 120);
  }

  render() {
    const s = this.app.state;
    if (!s) return;
    const p = this.preset(), h = this.shipping, edited = !!h.edited;
    const button = (k, own) => {
      const b = el('button', { 'data-preset': k.name, title: k.help }, k.title);
      b.classList.toggle('on', k.name === h.preset);
      b.setAttribute('aria-pressed', k.name === h.preset);
      b.onclick = () => this.ship({ preset: k.name, edited: null, ...(k.size ? { size: k.size } : {}) });
      if (!own) return b;
      const gone = el('button.plain', { title: `Delete ${k.title}`, 'aria-label': `Delete ${k.title}`, 'data-gone': k.name }, icon('trash'));
      gone.onclick = () => this.drop(k.name);
      return el('div.own-preset', {}, b, gone);
    };
    anew($('#presets'), [h.preset], () => this.app.tables.presets.map(k => button(k, false)));
    anew($('#presets-own'), [h.preset, this.own], () => this.own.map(k => button(k, true)));
    $('#own-title').hidden = !this.own.length;
    // What was changed for this asset goes into the file, too.
    const file = $('#preset-export');
    URL.revokeObjectURL(this.exported);
    file.href = edited ? this.exported = URL.createObjectURL(new Blob([JSON.stringify({ crust: 'preset 1', ...p }, null, 2)], { type: 'application/json' })) : `/api/presets/${encodeURIComponent(h.preset)}`;
    file.download = `${h.preset}.preset.json`;
    $('#packing-title').textContent = `Packing table · ${p.title}`;
    $('#preset-changed').hidden = !edited;
    this.table(p);
    if (document.activeElement !== $('#naming')) $('#naming').value = h.naming || p.naming || '{set}_{map}';
    $('#naming-help').textContent = `${this.app.tables.nameWords.map(w => `{${w}}`).join(' ')}`;
    anew($('#beside'), BESIDE.map(([k]) => !!p[k]), () => BESIDE.map(([k, words, title]) => tick(words, !!p[k], on => this.change(q => { q[k] = on; }), title)));
    choose($('#deliver-to'), h.to);
    $('#folder-line').hidden = h.to !== 'folder';
    if (document.activeElement !== $('#folder')) $('#folder').value = h.folder;
    anew($('#deliver-size'), [h.size, !!p.nearest], () => [0, ...this.app.tables.deliverSizes.filter(n => p.nearest ? n <= 256 : n >= 256)].map(n => {
      const b = el('button', { 'data-size': n, title: n ? '' : 'each set at its own resolution' }, n ? `${n} px` : 'own');
      b.classList.toggle('on', n === h.size);
      b.setAttribute('aria-pressed', n === h.size);
      b.onclick = () => this.ship({ size: n });
      return b;
    }));
    this.sets(h);
    this.joins.take();
    this.padding(h, p);
    this.planned();
    this.ask();
  }

  /** The rows of the packing table. */
  table(p) {
    const box = $('#packing'), key = JSON.stringify([p.files, this.more, p.files.map(f => this.fault(f)), this.app.doc.layers.map(l => l.name)]);
    if (key === this.tableKey) return;
    this.tableKey = key;
    const focus = document.activeElement?.closest?.('#packing') && document.activeElement.dataset.key;
    box.replaceChildren(el('thead', {}, el('tr', {}, ...['File', 'R', 'G', 'B', 'A', 'Format', 'Read as', ''].map(t => el('th', {}, t)))), el('tbody', {}, ...p.files.map((f, i) => this.row(p, f, i))));
    if (focus) box.querySelector(`[data-key="${focus}"]`)?.focus({ preventScroll: true });
  }

  row(p, f, i) {
    const set = change => this.change(q => Object.assign(q.files[i], change));
    const text = (key, label, title) => {
      const input = el('input.field-text', { value: f[key], 'aria-label': label, title: title || label, 'data-key': `${key}-${i}`, spellcheck: false });
      input.onchange = () => set({ [key]: input.value.trim() });
      input.onkeydown = e => { if (e.key === 'Enter') input.blur(); e.stopPropagation(); };
      return input;
    };
    const formats = el('select.compact', { 'aria-label': `Format of ${f.label}`, 'data-key': `format-${i}` }, ...this.app.tables.formats.flatMap(k => k.bits.map(b => el('option', { value: `${k.name} ${b}`, selected: k.name === f.format && b === f.bits }, `${k.label} ${k.float ? (b === 16 ? 'half' : 'float') : b}`))));
    formats.onchange = () => {
      const [format, bits] = formats.value.split(' '), k = this.app.tables.formats.find(x => x.name === format);
      set({ format, bits: Number(bits), ...(k.float ? { srgb: false } : {}), ...(format !== 'png' || bits !== '8' ? { colours: 0 } : {}), dither: bits === '8' && !k.float && f.dither });
    };
    const space = el('select.compact', { 'aria-label': `${f.label} is read as`, 'data-key': `space-${i}`, disabled: !!this.app.tables.formats.find(k => k.name === f.format)?.float }, el('option', { value: '', selected: !f.srgb }, 'linear'), el('option', { value: '1', selected: !!f.srgb }, 'sRGB'));
    space.onchange = () => set({ srgb: !!space.value });
    const more = el('button.plain', { title: 'More of this file', 'aria-label': `More of ${f.label}`, 'aria-expanded': this.more === i, 'data-key': `more-${i}` }, icon('adjustments'));
    more.onclick = () => { this.more = this.more === i ? -1 : i; this.table(this.preset()); };
    const gone = el('button.plain', { title: 'Take this file out', 'aria-label': `Take ${f.label} out`, 'data-key': `gone-${i}`, disabled: p.files.length === 1 }, icon('trash'));
    gone.onclick = () => { this.more = -1; this.change(q => q.files.splice(i, 1)); };
    const row = el('tr', { 'data-row': i }, el('td', {}, text('label', 'What it is'), el('label.map-word', {}, '{map}', text('map', `The word for {map} of ${f.label}`))),
      ...LETTERS.map((k, n) => el('td.chan.' + k, {}, this.planes.cell(f, k, n, plane => this.plane(i, k, plane)))),
      el('td', {}, formats), el('td', {}, space), el('td.row-tools', {}, more, gone));
    const fault = this.fault(f);
    const out = [row];
    if (this.more === i) out.push(el('tr', {}, el('td', { colSpan: 8 }, this.extra(f, i, set))));
    if (fault) out.push(el('tr', {}, el(fault.startsWith('Left out') ? 'td.cell-fault.quiet' : 'td.cell-fault', { colSpan: 8 }, fault)));
    return out.length === 1 ? row : frag(out);
  }

  /** Puts something into a plane of a file. A file is grey, has three planes, or four. */
  plane(i, k, plane) {
    return this.change(q => {
      const f = q.files[i];
      if (plane) {
        f[k] = plane;
        if (k !== 'r') for (const o of ['g', 'b']) f[o] ||= 'value:0';
      } else if (k === 'a') delete f.a;
      else if (k !== 'r') for (const o of ['g', 'b', 'a']) delete f[o];
    });
  }

  /** What is wrong with a row, in words; the server refuses more. */
  fault(f) {
    const s = this.plan?.preset?.files.find(k => k.label === f.label);
    if (f.srgb && LETTERS.slice(0, 3).some(k => f[k] && this.planes.data(f[k]))) return 'It is read as sRGB but holds data, which would be read wrong.';
    return s ? '' : this.plan && !this.plan.error && f.uses ? `Left out: no layer lays down ${f.uses}.` : '';
  }

  /** Numbers of a file that are seldom touched. */
  extra(f, i, set) {
    const number = (name, label, o) => value({ name: `${name}-${i}`, label, value: f[name] ?? o.default, figures: 4, ...o, commit: v => set({ [name]: v }) });
    const format = this.app.tables.formats.find(k => k.name === f.format), height = LETTERS.some(k => f[k] && (f[k].from || f[k]) === 'height');
    const scale = el('select.compact', { 'aria-label': 'Size against the set’s' }, ...this.app.tables.scales.map(n => el('option', { value: n, selected: n === (f.scale || 1) }, `× ${n}`)));
    scale.onchange = () => set({ scale: Number(scale.value) });
    const name = el('input.field-text', { value: f.name || '', placeholder: 'as the others', 'aria-label': `Name of ${f.label} alone`, spellcheck: false });
    name.onchange = () => set({ name: name.value.trim() });
    name.onkeydown = e => e.stopPropagation();
    return el('div.pack-more', {}, el('label.line-field', {}, 'size', scale), el('label.line-field', {}, 'name', name),
      f.bits === 8 && !format?.float ? tick('dither', !!f.dither, on => set({ dither: on }), 'rounds up or down by chance, so that gradients do not step') : null,
      tick('leave out where empty', !!f.skip, on => set({ skip: on }), 'no file when all it holds is one value everywhere'),
      f.format === 'png' && f.bits === 8 && f.g && !f.a ? number('colours', 'palette', { min: 0, max: 256, default: 0, zero: 'none', whole: true }) : null,
      height && !format?.float ? number('low', 'black is', { min: -0.1, max: 0.1, default: 0, unit: 'm' }) : null,
      height && !format?.float ? number('high', 'white is', { min: -0.1, max: 0.1, default: 0, unit: 'm' }) : null,
      height && !format?.float ? el('span.quiet', {}, f.low || f.high ? '' : 'both 0: the range that there is') : null);
  }

  /** Which sets are delivered, each at which size. */
  sets(h) {
    const all = this.app.state.sets, some = all.filter(k => !h.only?.length || h.only.includes(k.name));
    $('#deliver-sets-title').textContent = some.length === all.length ? `All ${all.length} sets` : `${some.length} of ${all.length} sets`;
    $('#deliver-sets-box').hidden = all.length < 2;
    anew($('#deliver-sets'), [all.map(k => [k.name, k.label]), h.only, h.sizes], () => all.map((k, i) => {
      const on = some.includes(k), box = el('input', { type: 'checkbox', checked: on, 'aria-label': `Deliver ${k.label}`, disabled: on && some.length === 1 });
      box.onchange = () => {
        const next = all.filter(o => o === k ? box.checked : some.includes(o)).map(o => o.name);
        this.ship({ only: next.length === all.length ? [] : next });
      };
      const size = el('select.compact', { 'aria-label': `Size of ${k.label}` }, el('option', { value: 0 }, 'as all'), ...this.app.tables.deliverSizes.map(n => el('option', { value: n, selected: n === h.sizes?.[k.name] }, `${n} px`)));
      size.onchange = () => this.ship({ sizes: { ...h.sizes, [k.name]: Number(size.value) } });
      return el('tr', {}, el('td', {}, box), el('td', {}, pennant(i), ' ', k.label), el('td', {}, size));
    }));
  }

  padding(h, p) {
    const pad = h.pad || p.padding || { by: 'all' }, by = pad.by || 'all';
    const how = el('select.compact', { 'aria-label': 'Padding' }, ...PADS.map(([v, w]) => el('option', { value: v, selected: v === by }, w)));
    how.onchange = () => this.ship({ pad: { by: how.value, amount: { px: 16, share: 0.01 }[how.value] || 0 } });
    anew($('#deliver-pad'), [pad], () => [how, by === 'all' ? '' : value({ name: 'padding', label: '', value: pad.amount, min: 0, max: by === 'px' ? 512 : 0.25, default: by === 'px' ? 16 : 0.01, whole: by === 'px', unit: by === 'px' ? 'px' : '', figures: 3, commit: amount => this.ship({ pad: { by, amount } }) })]);
  }

  /** What will be written, and what there is to say before. */
  planned() {
    const plan = this.plan, s = this.app.state;
    const go = $('#deliver');
    go.disabled = !!s.job || !s.hasUV || !plan || !!plan.error;
    if (!plan) return;
    const at = new Map(s.sets.map((k, i) => [k.name, i]));
    $('#files').replaceChildren(...plan.files.map(f => el('li', { title: f.what }, f.set && at.has(f.set) ? pennant(at.get(f.set)) : el('span.pennant.none', {}), el('span.figure.name', {}, f.file), el('span.figure', {}, f.size ? `${f.size} · ≈ ${mb(f.bytes)}` : f.what))));
    $('#files-title').textContent = `Will be written · ${plan.files.length} files, ≈ ${mb(plan.bytes)}`;
    complain($('#plan-error'), plan.error || '');
    const stale = s.cells.filter(c => c.state === 'stale');
    $('#deliver-warning').textContent = [...plan.warnings, ...(stale.length ? [`${stale.length} baked maps are stale.`] : [])].join(' ');
    $('#folder-words').textContent = plan.folder ? `Goes to ${plan.folder}` : plan.root ? `Folders lie below ${plan.root}` : 'The server was started without a folder for deliveries.';
    const taken = plan.taken || [];
    $('#deliver-replace').hidden = !taken.length || !!s.job;
    if (taken.length) complain($('#deliver-complaint'), `In the way: ${taken.slice(0, 4).map(t => `${t.file} (${t.why})`).join(', ')}${taken.length > 4 ? ` and ${taken.length - 4} more` : ''}.`);
    else if ($('#deliver-complaint').textContent.startsWith('In the way')) complain($('#deliver-complaint'), '');
    go.textContent = `Deliver ${plan.files.length} files`;
    if (taken.length) go.disabled = true;
  }

  async run(replace) {
    complain($('#deliver-complaint'), '');
    $('#deliver-words').textContent = '';
    await this.shipped; // what was chosen last counts
    this.app.do('deliver', { replace }, $('#deliver-complaint'));
  }

  progress(j) {
    if (j.kind === 'deliver') $('#deliver-words').textContent = `${Math.round(j.share * 100)} %${j.step ? ` · ${j.step}` : ''}`;
  }

  async done(e) {
    $('#deliver-words').textContent = '';
    this.ask();
    if (e.error) { complain($('#deliver-complaint'), e.error); return; }
    await this.list();
    const d = this.rows?.[0];
    $('#deliver-words').textContent = e.stopped ? 'Stopped; nothing was written.' : d?.folder ? `Done: ${d.changed} of ${d.note.files.length} files changed.` : 'Done. The newest delivery stands on top of the list.';
  }

  async list() {
    let rows;
    try {
      rows = await call('GET', `${this.app.api}/deliveries`);
    } catch {
      return;
    }
    this.rows = rows;
    this.count = rows.length;
    this.app.stations();
    const table = $('#deliveries');
    if (!rows.length) { table.replaceChildren(el('tr', {}, el('td.quiet', {}, 'None yet.'))); return; }
    table.replaceChildren(...rows.map(d => {
      const again = el('button.button', { 'data-again': d.id, title: 'With the same preset, names, sizes and place' }, 'Deliver again');
      again.onclick = () => this.app.do('deliver-again', { number: d.id }, $('#deliver-complaint'));
      const look = el('button.button', { 'data-look': d.id, title: 'The files, read back, beside the strata' }, 'Look');
      look.onclick = () => this.readBack.open(d);
      const gone = el('button.plain', { title: d.folder ? 'Forget it; its files stay' : 'Delete it', 'aria-label': `Forget the delivery of ${d.made}`, 'data-drop': d.id }, icon('trash'));
      gone.onclick = async () => { if (await this.app.do('drop-delivery', { number: d.id })) await this.list(); };
      return el('tr', { 'data-delivery': d.id }, el('td.figure', {}, d.made), el('td', {}, d.title), el('td.figure', {}, d.size ? `${d.size} px` : 'own'), el('td', {}, `${d.note.files.length + 1} files, ${mb(d.note.files.reduce((n, f) => n + f.bytes, 0))}`),
        el('td.quiet', { title: d.folder }, d.folder ? shorter(d.folder, this.plan?.root) : ''), el('td', {}, el('div.row', {}, d.zip ? el('a.button', { href: `${this.app.api}/deliveries/${d.id}/zip`, download: '', 'data-zip': d.id }, 'Download zip') : '', look, again, gone)));
    }));
  }
}

/** Fills a node, when what it is made of has changed: what lies under the pointer stays there. */
function anew(node, of, make) {
  const key = JSON.stringify(of);
  if (node.madeOf === key) return;
  node.madeOf = key;
  node.replaceChildren(...make());
}

/** A box to tick with its words. */
function tick(words, on, set, title = '') {
  const i = el('input', { type: 'checkbox', checked: on });
  i.onchange = () => set(i.checked);
  return el('label.tick', { title }, i, words);
}

function frag(kids) {
  const f = document.createDocumentFragment();
  f.append(...kids);
  return f;
}

const shorter = (folder, root) => root && folder.startsWith(root) ? folder.slice(root.length + 1) : folder;

const mb = b => b < 1e6 ? `${Math.max(1, Math.round(b / 1e3))} kB` : `${(b / 1e6).toFixed(b < 1e7 ? 1 : 0)} MB`;
