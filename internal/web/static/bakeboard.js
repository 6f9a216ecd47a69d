// Bake: the board of sets × maps, one map large, and the settings of coming bakes.
import { $, clock, complain, el, grouped, pennant } from './dom.js';
import { upload } from './api.js';
import { value } from './values.js';

const STATES = { missing: 'missing', stale: 'stale', running: 'running', ready: 'ready', brought: 'brought in' };

export class BakeBoard {
  constructor(app) {
    this.app = app;
    this.chosen = null;
    $('#bake-missing').onclick = () => this.bake(c => c.state === 'missing' || c.state === 'stale');
    $('#bake-chosen').onclick = () => this.bake(c => this.same(c));
    $('#high-pick').onclick = () => $('#high-file').click();
    $('#high-file').onchange = e => this.send(`${app.api}/high`, e.target, $('#high-complaint'));
    $('#map-bring').onclick = () => $('#bring-file').click();
    $('#bring-file').onchange = e => this.send(this.url(this.chosen), e.target, $('#bring-complaint'));
    const large = $('#map-large canvas');
    large.onpointermove = e => this.under(e);
    large.onpointerleave = () => this.facts();
  }

  async send(url, input, words) {
    complain(words, '');
    try {
      await upload(url, [...input.files]);
    } catch (e) {
      complain(words, e.message);
    }
    input.value = '';
  }

  url(c) { return `${this.app.api}/maps/${encodeURIComponent(c.set)}/${c.kind}`; }
  same(c) { return this.chosen && c.set === this.chosen.set && c.kind === this.chosen.kind; }

  bake(pick) {
    const cells = this.app.state.cells.filter(pick).map(c => ({ set: c.set, kind: c.kind }));
    if (cells.length) this.app.do('bake', { cells });
  }

  take(s) {
    if (!this.chosen || !s.sets.some(k => k.name === this.chosen.set)) this.chosen = s.cells[0];
    this.chosen = s.cells.find(c => this.same(c)) || s.cells[0];
    this.board(s);
    this.settings(s);
    this.large();
    if (this.app.stageName === 'bake') this.present();
  }

  board(s) {
    const maps = this.app.tables.maps;
    const head = el('tr', {}, el('th', {}), ...maps.map(m => { const b = el('button.plain.column', { title: `${m.help}; click to bake the column`, 'data-column': m.name }, m.label); b.onclick = () => this.bake(c => c.kind === m.name); return el('th', {}, b); }));
    const rows = s.sets.map((set, i) => el('tr', {}, el('th.set', {}, (() => { const b = el('button.plain.column', { title: 'Bake the row', 'data-row': set.name }, pennant(i), ' ' + set.label); b.onclick = () => this.bake(c => c.set === set.name); return b; })(), el('div.quiet.figure', {}, `${s.settings.size || set.size} px`)),
      ...maps.map(m => {
        const c = s.cells.find(k => k.set === set.name && k.kind === m.name);
        const b = el('button.cell.' + c.state, { 'data-set': c.set, 'data-kind': c.kind, title: `${set.label} · ${m.label}${c.why ? ': ' + c.why : ''}` });
        b.classList.toggle('on', this.same(c));
        if (c.made) b.append(el('img.thumb', { src: `${this.url(c)}?px=106&made=${c.made}`, alt: '' }));
        else b.append(el('i.thumb'));
        b.append(el('span', {}, STATES[c.state] + (c.made && c.state !== 'running' ? ` · ${c.size}` : '')));
        if (c.state === 'running') b.append(el('progress', { max: 1, value: c.share || 0 }));
        b.onclick = () => { this.chosen = c; complain($('#bring-complaint'), ''); this.take(this.app.state); };
        return el('td', {}, b);
      })));
    $('#board').replaceChildren(head, ...rows);
    const stale = s.cells.filter(c => c.state === 'stale');
    $('#board-words').textContent = !s.hasUV ? 'The model has faces without UVs, so there is nowhere to bake to.'
      : stale.length ? reasons(stale, s, k => this.label(k))
        : s.cells.every(c => c.state === 'missing') ? 'Baked maps tell the layers where edges, crevices and shelter are. Press “Bake missing maps” to begin.' : '';
    const need = s.cells.filter(c => c.state === 'missing' || c.state === 'stale').length;
    const go = $('#bake-missing');
    go.textContent = need ? `Bake missing maps · ${need}` : 'All maps are baked';
    go.disabled = !need || !!s.job || !s.hasUV;
    const one = $('#bake-chosen');
    one.textContent = this.chosen ? `Bake ${s.sets.find(k => k.name === this.chosen.set)?.label} · ${this.label(this.chosen.kind)}` : 'Bake the chosen map';
    one.disabled = !!s.job || !this.chosen || !s.hasUV;
  }

  label(kind) { return this.app.tables.maps.find(m => m.name === kind)?.label.toLowerCase() || kind; }

  settings(s) {
    const set = change => this.app.do('settings', { settings: { ...s.settings, ...change } });
    $('#quality').replaceChildren(...this.app.tables.qualities.map(q => {
      const b = el('button', { 'data-value': q.name }, q.label, el('small', {}, `${q.rays} rays`));
      b.classList.toggle('on', q.name === s.settings.quality);
      b.onclick = () => set({ quality: q.name });
      return b;
    }), (() => {
      const k = el('select.compact', { 'aria-label': 'Size of the maps' }, ...[0, 512, 1024, 2048, 4096].map(n => el('option', { value: n, selected: n === s.settings.size }, n ? `${n} px` : 'each set’s own')));
      k.onchange = () => set({ size: Number(k.value) });
      return k;
    })());
    const q = this.app.tables.qualities.find(k => k.name === s.settings.quality);
    $('#quality-words').textContent = `${q.rays} occlusion rays, ${q.samples} sample${q.samples > 1 ? 's' : ''} a texel`;
    $('#high-name').textContent = s.high ? s.high.name + (s.high.triangles ? ` · ${grouped(s.high.triangles)} triangles` : '') : 'none: maps come from the model itself';
    const length = (name, label, suggested, zero) => value({ name, label, value: s.settings[name], min: 0, max: s.bounds.reduce((a, b) => Math.max(a, b)) * 2, default: 0, unit: 'm', zero, commit: v => set({ [name]: v }) });
    const cm = v => `≈ ${(v * 1000).toFixed(1)} mm`;
    $('#lengths').replaceChildren(length('radius', 'curvature radius', 0, cm(s.suggested.radius)), length('far', 'occlusion limit', 0, 'none'),
      length('front', 'high-poly, front', 0, cm(s.suggested.reach)), length('rear', 'high-poly, rear', 0, cm(s.suggested.reach)), length('deep', 'thickness limit', 0, cm(s.suggested.deep)));
    const pick = (label, key, options) => {
      const k = el('select.compact', { 'aria-label': label, 'data-key': key }, ...options.map((o, i) => el('option', { value: o, selected: o === s.settings[key] || !i && !s.settings[key] }, o)));
      k.onchange = () => set({ [key]: k.value });
      return el('label.value', {}, el('span', {}, label), k);
    };
    const floor = el('input', { type: 'checkbox', checked: s.settings.ground });
    floor.onchange = () => set({ ground: floor.checked });
    $('#lengths').append(pick('occlusion sees', 'sees', this.app.tables.sees), pick('ID from', 'id', this.app.tables.ids), el('label.tick', {}, floor, ' floor shades'));
  }

  async large() {
    const c = this.chosen;
    $('#map-title').textContent = c ? `${this.app.state.sets.find(k => k.name === c.set)?.label || c.set} · ${this.label(c.kind)}` : '';
    const canvas = $('#map-large canvas'), g = canvas.getContext('2d', { willReadFrequently: true });
    const link = $('#map-download');
    link.hidden = !c?.made;
    $('#map-large p').textContent = c?.made ? '' : 'not baked yet';
    this.facts();
    if (!c?.made) { g.clearRect(0, 0, 512, 512); this.drawn = null; return; }
    link.href = this.url(c);
    const key = `${this.url(c)}?px=512&made=${c.made}`;
    if (key === this.drawn) return;
    const img = new Image();
    img.src = key;
    await img.decode().catch(() => {});
    if (this.chosen !== c && !this.same(c)) return;
    this.drawn = key;
    g.drawImage(img, 0, 0, 512, 512);
  }

  facts(under) {
    const c = this.chosen;
    const rows = [];
    if (c?.made) {
      rows.push(['under the pointer', under || '—']);
      if (c.rays) rows.push(['rays', grouped(c.rays)]);
      rows.push(['took', c.seconds < 60 ? `${c.seconds.toFixed(1)} s` : clock(c.seconds)]);
      if (c.high) rows.push(['0 to 1 is', `${(c.low || 0).toPrecision(3)} to ${c.high.toPrecision(3)} m`]);
      if (this.app.state.high) rows.push(['texels that missed the high-poly', grouped(c.missed || 0)]);
    }
    $('#map-facts').replaceChildren(...rows.map(([k, v]) => el('div', {}, el('dt', {}, k), el('dd', {}, v))),
      ...(c?.legend || []).map(l => el('div', {}, el('dt', {}, el('span.swatch', { style: `background:${l.colour}` }), ' ' + l.name), el('dd', {}, `${Number(l.area.toPrecision(3))} m²`))));
  }

  under(e) {
    if (!this.drawn) return;
    const box = e.target.getBoundingClientRect();
    const x = Math.floor((e.clientX - box.left) / box.width * 512), y = Math.floor((e.clientY - box.top) / box.height * 512);
    const px = e.target.getContext('2d').getImageData(x, y, 1, 1).data;
    const one = this.app.tables.maps.find(m => m.name === this.chosen.kind)?.channels === 1;
    this.facts([...px].slice(0, one ? 1 : 3).map(v => (v / 255).toFixed(3)).join('  '));
  }

  /** Shows the chosen kind of map on the model. */
  present() {
    const v = this.app.viewport, s = this.app.state;
    if (!s || !this.chosen) return v.show('plain');
    for (const c of s.cells.filter(k => k.kind === this.chosen.kind)) {
      if (c.made) v.loadMap(`${this.url(c)}?px=1024&made=${c.made}`, c.set, c.kind, c.made);
      else v.forgetMap(c.set, c.kind);
    }
    v.show('map', this.chosen.kind);
  }

  progress(j) {
    if (j.kind !== 'bake' || !this.app.state) return;
    for (const b of document.querySelectorAll('.cell.running progress')) b.value = j.share;
  }
}

/** Why maps are stale: one sentence for each reason, with the maps that it concerns. */
function reasons(stale, s, label) {
  const by = new Map();
  for (const c of stale) by.set(c.why, [...(by.get(c.why) || []), c]);
  return [...by].map(([why, cells]) => {
    const sets = [...new Set(cells.map(c => s.sets.find(k => k.name === c.set)?.label))], kinds = [...new Set(cells.map(c => label(c.kind)))];
    return `Stale because ${why}: ${kinds.join(', ')} of ${sets.join(', ')}.`;
  }).join(' ');
}
