// Intake: the texture sets, how the model is taken, its flat map, and what is wrong with it.
import { $, choose, complain, el, grouped, pennant, setColour } from './dom.js';
import { call, upload } from './api.js';
import { show, value } from './values.js';
import { FlatMap } from './flatmap.js';
import { Findings } from './findings.js';

const SPLITS = { single: 'one set', material: 'by material', udim: 'by UDIM tile' };

/** The lengths of three sides, with their unit once where all have the same. */
function sides(metres) {
  const all = metres.map(v => show(v, { unit: 'm' }).split(' ')), same = all.every(([, unit]) => unit === all[0][1]);
  return all.map(([n, unit], i) => (same && i < 2 ? n : `${n} ${unit}`)).join(' × ');
}

export class Intake {
  constructor(app) {
    this.app = app;
    this.set = null;
    this.preview = null; // {split, sets} while a way to split is only looked at
    this.relay = { into: 'one', tiles: 4, pixels: 8 };
    this.flatmap = new FlatMap($('#flatmap'));
    this.findings = new Findings(this);
    for (const b of document.querySelectorAll('#split button')) b.onclick = () => this.look(b.dataset.value);
    $('#preview-take').onclick = () => this.takeSplit();
    $('#preview-back').onclick = () => this.look(this.app.state.split);
    $('#own-take').onclick = () => this.own();
    $('#again-pick').onclick = () => $('#again-files').click();
    $('#again-files').onchange = e => this.again([...e.target.files]);
    $('#again-no').onclick = () => { $('#again-plan').hidden = true; };
    $('#again-yes').onclick = async () => { if (await app.do('replace', {}, $('#intake-complaint'))) $('#again-plan').hidden = true; };
    $('#carry-maps').onclick = () => app.do('carry', {}, $('#intake-complaint'));
    $('#carry-pick').onclick = () => $('#carry-file').click();
    $('#carry-file').onchange = e => this.carry(e.target.files[0]);
    $('#layout-go').onclick = () => { complain($('#layout-complaint'), ''); app.do('layout', { layout: this.relay }, $('#layout-complaint')); };
    for (const b of document.querySelectorAll('#layout-into button')) b.onclick = () => { this.relay.into = b.dataset.value; this.layoutForm(); };
    const scale = $('#figure');
    scale.onchange = () => app.viewport.showFigure(scale.checked);
    this.layoutForm();
  }

  take(s, old) {
    if (!old || old.modelVersion !== s.modelVersion || old.split !== s.split) this.preview = null;
    const key = JSON.stringify([s.modelVersion, s.split, s.intake.padding, s.sets.map(k => [k.name, k.label, k.size])]);
    const changed = key !== this.key;
    this.key = key;
    this.render(s);
    if (!old || old.modelVersion !== s.modelVersion || old.split !== s.split) this.flatmap.set = null;
    if (changed) { this.flat(); this.findings.load(); }
  }

  render(s) {
    choose($('#split'), this.preview?.split || s.split);
    const sets = this.preview?.sets || s.sets;
    if (!sets.some(k => k.name === this.set)) this.set = sets[0]?.name;
    $('#preview-bar').hidden = !this.preview;
    if (this.preview) $('#preview-words').textContent = `${sets.length} set${sets.length === 1 ? '' : 's'} ${SPLITS[this.preview.split]}. Layers stay on their faces.`;
    this.rows(sets, !!this.preview);
    this.model(s);
    this.layoutForm();
    $('#model-notes').textContent = (s.notes || []).join(' ');
  }

  /** One row a set: its name and resolution can be changed in place. */
  rows(sets, preview) {
    const box = $('#sets');
    if (box.contains(document.activeElement) && document.activeElement.matches('input')) return;
    const mid = median(sets.map(k => k.density * k.size));
    box.replaceChildren(...sets.map((k, i) => {
      const row = el('div.set-row', { 'data-set': k.name });
      const pick = el('button.set-pick', { title: `Show ${k.label} on the flat map`, 'aria-label': `Show ${k.label} on the flat map`, 'aria-pressed': k.name === this.set }, pennant(i));
      const density = k.density * k.size, off = density > 0 && (density > 2 * mid || density < mid / 2);
      row.append(pick, preview ? el('strong', {}, k.label) : this.nameBox(k), preview ? el('span') : this.sizeBox(k),
        el('span.quiet', {}, `${grouped(k.triangles)} triangle${k.triangles === 1 ? '' : 's'}`),
        el('span.figure' + (off ? '.amiss' : ''), { title: off ? `far off the median of ${grouped(mid)} px/m` : 'texel density' }, `${grouped(density)} px/m`));
      row.classList.toggle('on', k.name === this.set);
      row.onclick = () => this.choose(k.name);
      return row;
    }));
    const all = $('#all-sizes');
    all.hidden = preview || sets.length < 2;
    if (!preview) {
      const same = sets.every(k => k.size === sets[0].size) ? sets[0].size : 0;
      const sel = el('select.compact', { 'aria-label': 'Resolution of all sets' }, same ? null : el('option', { value: 0 }, 'mixed'),
        ...this.app.tables.setSizes.map(n => el('option', { value: n, selected: n === same }, `${n} px`)));
      sel.onchange = () => Number(sel.value) && this.app.do('size-set', { number: Number(sel.value) }, $('#intake-complaint'));
      all.replaceChildren(el('span.quiet', {}, 'all sets at'), sel);
    }
  }

  choose(name) {
    this.set = name;
    for (const r of document.querySelectorAll('#sets .set-row')) {
      r.classList.toggle('on', r.dataset.set === name);
      $('.set-pick', r).setAttribute('aria-pressed', r.dataset.set === name);
    }
    this.flat();
  }

  nameBox(k) {
    const input = el('input.set-name', { value: k.label, 'aria-label': `Name of set ${k.label}`, spellcheck: false, maxLength: 200 });
    const send = async () => {
      if (input.value === k.label) return;
      complain($('#intake-complaint'), '');
      try {
        await call('POST', `${this.app.api}/do/name-set`, { key: k.name, value: input.value });
      } catch (e) {
        complain($('#intake-complaint'), e.message);
        input.value = k.label;
      }
    };
    input.onblur = send;
    input.onclick = e => { e.stopPropagation(); this.choose(k.name); };
    input.onkeydown = e => {
      e.stopPropagation();
      if (e.key === 'Enter') input.blur();
      if (e.key === 'Escape') { input.value = k.label; input.blur(); }
    };
    return input;
  }

  sizeBox(k) {
    const sel = el('select.compact', { 'aria-label': `Resolution of set ${k.label}` }, ...this.app.tables.setSizes.map(n => el('option', { value: n, selected: n === k.size }, `${n} px`)));
    sel.onclick = e => e.stopPropagation();
    sel.onkeydown = e => e.stopPropagation();
    sel.onchange = () => this.app.do('size-set', { key: k.name, number: Number(sel.value) }, $('#intake-complaint'));
    return sel;
  }

  /** How the model is taken: UV channel, unit, axis, normals. Every change is live. */
  model(s) {
    const box = $('#model-take'), t = s.intake;
    if (box.contains(document.activeElement) && document.activeElement.matches('input')) return;
    const send = change => this.app.do('intake', { intake: { ...t, ...change } }, $('#intake-complaint'));
    const pick = (label, options, on) => {
      const sel = el('select.compact', { 'aria-label': label }, ...options.map(o => el('option', { value: o[0], selected: o[2] }, o[1])));
      sel.onchange = () => on(sel.value);
      return el('label.take-row', {}, el('span', {}, label), sel);
    };
    const metres = t.metres || 1;
    const units = this.app.tables.units.map(u => [u.metres, u.name === 'm' ? 'm (metres)' : u.name, Math.abs(u.metres - metres) < 1e-12]);
    if (!units.some(u => u[2])) units.push([metres, `${metres} m`, true]);
    const [x, y, z] = s.bounds;
    box.replaceChildren(
      el('div.take-row', {}, el('span', {}, 'File'), el('span.figure.clip', { title: s.model }, s.model)),
      pick('UVs', (s.channels || []).map((c, i) => [i, c, i === t.channel]), v => send({ channel: Number(v) })),
      pick('Unit', units, v => send({ metres: Number(v) })),
      el('div.take-row', {}, el('span', {}, 'Factor'), value({ name: 'metres', value: metres, min: 1e-4, max: 1000, default: 1, log: true, commit: v => send({ metres: v }) })),
      pick('Up', [['y', 'Y axis', !t.zUp], ['z', 'Z axis', t.zUp]], v => send({ zUp: v === 'z' })),
      pick('Normals', [['file', 'as in the file', !t.compute], ['own', 'computed', t.compute]], v => send({ compute: v === 'own', crease: t.crease || 50 })),
      t.compute ? el('div.take-row', {}, el('span', {}, 'Crease'), value({ name: 'crease', value: t.crease, min: 0, max: 180, default: 50, unit: '°', commit: v => send({ crease: v }) })) : '',
      s.flat || t.repeats ? el('label.take-row', { title: 'What lies on this flat square goes on from one side to the other' }, el('span', {}, 'Repeats'), el('input', { type: 'checkbox', id: 'model-repeats', checked: !!t.repeats, onchange: e => send({ repeats: e.target.checked }) })) : '',
      el('div.take-row', {}, el('span', {}, 'Size'), el('span.figure', { id: 'model-size' }, sides([x, y, z]))),
      el('div.take-row', {}, el('span', {}, 'Content'), el('span.figure', {}, `${grouped(s.triangles)} tri · ${s.parts.length} part${s.parts.length === 1 ? '' : 's'}`)));
    const first = (s.channels || []).length - (t.layouts || []).length, made = (t.layouts || [])[t.channel - first];
    $('#layout-report').hidden = !made;
    if (made) {
      const r = made.report;
      const used = r.used.length > 4 ? `${Math.round(Math.min(...r.used) * 100)}–${Math.round(Math.max(...r.used) * 100)} %` : r.used.map(u => `${Math.round(u * 100)} %`).join(', ');
      const px = r.pixels ?? r.margin * t.size, less = r.asked > px * 1.001;
      $('#layout-words').textContent = `${made.name}: ${grouped(r.islands)} islands, ${used} of the tile used, stretch ${r.stretch.toFixed(2)}, margin ${Number(px.toPrecision(2))} px${less ? ` (the largest that fits; ${Number(r.asked.toPrecision(3))} px were asked for)` : ''}.`;
      $('#carry-set').replaceChildren(...made.sets.map(k => el('option', { value: k }, k)));
      $('#carry-content').replaceChildren(...this.app.tables.contents.map(k => el('option', { value: k }, k)));
    }
  }

  /** What is tried, and about how long it takes. */
  foretell() {
    const n = this.app.state?.layoutSeconds;
    $('#layout-time').textContent = n ? `takes about ${n < 90 ? `${Math.round(n)} s` : `${Math.round(n / 60)} min`}; can be stopped` : '';
  }

  layoutForm() {
    this.foretell();
    choose($('#layout-into'), this.relay.into);
    const o = this.relay;
    $('#layout-values').replaceChildren(
      value({ name: 'margin', label: 'margin', value: o.pixels, min: 0, max: 64, default: 8, unit: 'px', share: this.app.state?.intake.size || 1024, commit: v => { o.pixels = v; this.layoutForm(); } }),
      o.into === 'tiles' ? value({ name: 'tiles', label: 'tiles', value: o.tiles, min: 1, max: 20, default: 4, whole: true, commit: v => { o.tiles = v; this.layoutForm(); } }) : '');
  }

  /** Shows what a way to split would give; it is taken only when asked. */
  async look(split) {
    complain($('#intake-complaint'), '');
    if (split === this.app.state.split) {
      const was = this.preview;
      this.preview = null;
      this.render(this.app.state);
      if (was) await this.app.loadMesh();
      this.flat();
      return;
    }
    try {
      const sets = await call('GET', `${this.app.api}/preview/${split}`);
      this.preview = { split, sets };
      this.render(this.app.state);
      await this.app.loadMesh(true, split);
      this.flat();
    } catch (e) {
      complain($('#intake-complaint'), e.message);
    }
  }

  async takeSplit() {
    const split = this.preview.split;
    await this.app.do('split', { value: split }, $('#intake-complaint'));
  }

  async flat() {
    const sets = this.preview?.sets || this.app.state.sets, i = sets.findIndex(k => k.name === this.set);
    const query = new URLSearchParams({ set: this.set, ...(this.preview && { split: this.preview.split }) });
    await this.flatmap.load(`${this.app.api}/flat?${query}`, this.set, setColour(Math.max(0, i)));
  }

  /** Brings a corrected model in: first says what would happen. */
  async again(files) {
    $('#again-files').value = '';
    if (!files.length) return;
    complain($('#intake-complaint'), '');
    try {
      const p = await upload(`${this.app.api}/again`, files);
      const line = (words, list) => list?.length ? el('li', {}, `${words}: ${list.join(', ')}`) : null;
      $('#again-list').replaceChildren(...[
        el('li', {}, `${p.file}: ${grouped(p.triangles)} triangles`),
        line('Sets found again', p.matched), line('Sets that are gone', p.gone), line('New sets', p.fresh),
        el('li', {}, `${p.keep} baked map${p.keep === 1 ? '' : 's'} still fit, ${p.stale} will be stale`),
        ...(p.layers || []).map(t => el('li.amiss', {}, t)), ...(p.notes || []).map(t => el('li', {}, t)),
        p.gone?.length || p.layers?.length ? null : el('li', {}, 'Layers, targets and settings all find their place.'),
      ].filter(Boolean));
      $('#again-plan').hidden = false;
      $('#again-yes').focus();
    } catch (e) {
      complain($('#intake-complaint'), e.message);
    }
  }

  /** Carries a picture made for the UVs before over, and saves what comes back. */
  /** Takes the materials that the model came with in as layers, and goes to them. */
  async own() {
    complain($('#intake-complaint'), '');
    try {
      const { layer, notes } = await call('POST', `${this.app.api}/own-materials`);
      this.app.stage('paint');
      this.app.choose(layer);
      if (notes.length) toast(notes.join(' '));
    } catch (e) {
      complain($('#intake-complaint'), e.message);
    }
  }

  async carry(file) {
    $('#carry-file').value = '';
    if (!file) return;
    complain($('#intake-complaint'), '');
    try {
      const q = new URLSearchParams({ set: $('#carry-set').value, content: $('#carry-content').value });
      const data = await upload(`${this.app.api}/carry?${q}`, [file]);
      const zip = new Uint8Array(data)[0] === 0x50;
      const a = el('a', { href: URL.createObjectURL(new Blob([data])), download: file.name.replace(/\.png$/i, '') + (zip ? '_carried.zip' : '_carried.png') });
      a.click();
      setTimeout(() => URL.revokeObjectURL(a.href), 10000);
    } catch (e) {
      complain($('#intake-complaint'), e.message);
    }
  }
}

function median(v) {
  const s = v.filter(x => x > 0).sort((a, b) => a - b);
  return s.length ? s[Math.floor((s.length - 1) / 2)] : 0;
}
