// Bake: the board of sets × maps, one map in the side panel or large, and the settings of coming bakes.
import { $, choose, clock, complain, el, grouped, icon, pennant } from './dom.js';
import { call, upload } from './api.js';
import { show, value } from './values.js';
import { Cage } from './cage.js';
import { Bringing } from './bringing.js';

const STATES = { missing: 'missing', stale: 'stale', running: 'running', ready: 'ready', brought: 'brought in' };
const cellKey = c => c.set + '\n' + c.kind;

export class BakeBoard {
  constructor(app) {
    this.app = app;
    this.chosen = null; // the cell that is looked at
    this.picked = new Set(); // keys of the cells that are to be baked
    this.kin = ''; // the map that is shown in place of the chosen one, which came with it
    this.showing = 'map';
    this.cage = new Cage(this);
    this.bringing = new Bringing(this);
    $('#bake-missing').onclick = () => this.bake(this.wanting());
    $('#bake-chosen').onclick = () => this.bake(this.app.state.cells.filter(c => this.picked.has(cellKey(c))));
    $('#high-pick').onclick = () => $('#high-file').click();
    $('#high-file').onchange = e => this.send(`${app.api}/high?add=1`, e.target, $('#high-complaint'));
    $('#map-bring').onclick = () => $('#bring-file').click();
    $('#bring-file').accept = app.tables.pictureEndings.join(',');
    $('#bring-file').onchange = e => this.send(this.url(this.chosen), e.target, $('#bring-complaint'));
    $('#map-open').onclick = () => this.enlarge(true);
    $('#large-back').onclick = () => this.enlarge(false);
    const large = $('#map-large canvas');
    large.onpointermove = e => this.under(e);
    large.onpointerleave = () => this.tell('');
    large.ondblclick = () => this.enlarge(true);
    const canvas = $('#large-canvas');
    canvas.onpointermove = e => this.under(e);
    canvas.onpointerleave = () => this.tell('');
    this.look = { zoom: 1, x: 0, y: 0 };
    this.pan(canvas);
    new ResizeObserver(() => this.drawLarge()).observe(canvas.parentElement);
    $('#model').addEventListener('pointermove', e => this.overModel(e));
    $('#model').addEventListener('pointerleave', () => this.tell(''));
    for (const b of document.querySelectorAll('#bake-view button')) b.onclick = () => this.show(b.dataset.value);
    choose($('#bake-view'), 'map');
    addEventListener('keydown', e => { if (e.key === 'Escape' && app.stageName === 'bake' && document.body.dataset.large) { if (this.showing === 'compare') this.show('map'); else this.enlarge(false); } });
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

  url(c) { return `${this.app.api}/maps/${c.kind}?set=${encodeURIComponent(c.set)}`; }
  same(c) { return this.chosen && c.set === this.chosen.set && c.kind === this.chosen.kind; }
  wanting() { return this.app.state.cells.filter(c => c.state === 'missing' || c.state === 'stale'); }

  bake(cells) {
    if (cells.length) this.app.do('bake', { cells: cells.map(c => ({ set: c.set, kind: c.kind })) }, $('#bake-complaint'));
  }

  take(s) {
    if (!this.chosen || !s.sets.some(k => k.name === this.chosen.set)) this.chosen = s.cells[0];
    this.chosen = s.cells.find(c => this.same(c)) || s.cells[0];
    const known = new Set(s.cells.map(cellKey));
    for (const k of this.picked) if (!known.has(k)) this.picked.delete(k);
    if (!this.picked.size && this.chosen) this.picked.add(cellKey(this.chosen));
    this.board(s);
    this.settings(s);
    this.large();
    this.cage.take(s);
    this.foretell(s);
    if (this.app.stageName === 'bake') this.present();
  }

  /** Chooses cells: one alone, one more with Ctrl, all up to one with Shift. */
  pick(c, e) {
    const s = this.app.state, kinds = this.kinds().map(m => m.name);
    complain($('#bring-complaint'), '');
    if (e?.shiftKey && this.chosen) {
      const at = k => [s.sets.findIndex(x => x.name === k.set), kinds.indexOf(k.kind)];
      const [a, b] = [at(this.chosen), at(c)];
      for (const k of s.cells) {
        const [y, x] = at(k);
        if (y >= Math.min(a[0], b[0]) && y <= Math.max(a[0], b[0]) && x >= Math.min(a[1], b[1]) && x <= Math.max(a[1], b[1])) this.picked.add(cellKey(k));
      }
    } else if (e?.ctrlKey || e?.metaKey) {
      if (!this.picked.delete(cellKey(c))) this.picked.add(cellKey(c));
      this.chosen = c;
    } else {
      this.picked = new Set([cellKey(c)]);
      this.chosen = c;
    }
    this.kin = '';
    this.take(s);
  }

  /** Chooses a row or a column, beside what is chosen with Ctrl. */
  pickAll(match, e) {
    const cells = this.app.state.cells.filter(match);
    if (!(e.ctrlKey || e.metaKey)) this.picked.clear();
    for (const c of cells) this.picked.add(cellKey(c));
    if (!cells.some(c => this.same(c))) this.chosen = cells[0];
    this.kin = '';
    this.take(this.app.state);
  }

  kinds() { return this.app.tables.maps.filter(m => !m.with); }

  board(s) {
    const key = JSON.stringify([s.sets.map(k => [k.name, k.label, s.settings.size || k.size])]);
    if (key !== this.boardKey) {
      this.boardKey = key;
      this.squares = new Map();
      const maps = this.kinds();
      const head = el('tr', {}, el('th', {}), ...maps.map(m => {
        const b = el('button.plain.column', { title: `${m.help}; click to choose the column`, 'data-column': m.name }, m.label);
        b.onclick = e => this.pickAll(c => c.kind === m.name, e);
        return el('th', {}, b);
      }));
      const rows = s.sets.map((set, i) => {
        const b = el('button.plain.column', { title: 'Choose the row', 'data-row': set.name }, pennant(i), ' ' + set.label);
        b.onclick = e => this.pickAll(c => c.set === set.name, e);
        return el('tr', {}, el('th.set', {}, b, el('div.quiet.figure', {}, `${s.settings.size || set.size} px`)), ...maps.map(m => el('td', {}, this.square(set.name, m.name))));
      });
      $('#board').replaceChildren(head, ...rows);
    }
    // What has not changed stays as it is: a click in the making is not lost, and pictures are not decoded again.
    for (const c of s.cells) this.cell(s, c);
    const stale = s.cells.filter(c => c.state === 'stale');
    $('#board-words').textContent = !s.hasUV ? 'The model has faces without UVs, so there is nowhere to bake to.'
      : stale.length ? reasons(stale, s, k => this.label(k))
        : s.cells.every(c => c.state === 'missing') ? 'Baked maps tell the layers where edges, crevices and shelter are. Press “Bake missing maps” to begin.' : '';
    this.buttons(s);
  }

  /** The button of a cell, which stays while its looks change. */
  square(set, kind) {
    const b = el('button.cell', { 'data-set': set, 'data-kind': kind }), own = () => this.app.state.cells.find(c => c.set === set && c.kind === kind);
    b.onclick = e => this.pick(own(), e);
    b.ondblclick = () => this.enlarge(true);
    b.onkeydown = e => {
      if (e.key === 'Enter') { e.preventDefault(); this.pick(own()); this.enlarge(true); }
      const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[e.key];
      if (!step) return;
      e.preventDefault();
      const sets = this.app.state.sets.map(k => k.name), kinds = this.kinds().map(k => k.name);
      const next = this.squares.get(cellKey({ set: sets[sets.indexOf(set) + step[0]], kind: kinds[kinds.indexOf(kind) + step[1]] }));
      if (next) { next.focus(); next.onclick(e); }
    };
    this.squares.set(cellKey({ set, kind }), b);
    return b;
  }

  /** Brings a cell's button up to date. */
  cell(s, c) {
    const b = this.squares.get(cellKey(c)), picked = this.picked.has(cellKey(c)), label = s.sets.find(k => k.name === c.set).label;
    b.className = `cell ${c.state}${this.same(c) ? ' on' : ''}${picked ? ' picked' : ''}`;
    b.title = `${label} · ${this.label(c.kind)}${c.why ? ': ' + c.why : ''}`;
    b.setAttribute('aria-pressed', picked);
    const key = JSON.stringify([c.state, c.made, c.size, this.app.state.modelVersion]);
    if (key === b.looks) return;
    b.looks = key;
    const src = c.made && `${this.url(c)}&px=106&made=${c.made}`, old = $('img', b);
    const thumb = !c.made ? el('i.thumb') : old?.getAttribute('src') === src ? old : el('img.thumb', { src, alt: '' });
    b.replaceChildren(thumb, el('span', {}, STATES[c.state] + (c.made && c.state !== 'running' ? ` · ${c.size}` : '')), ...c.state === 'running' ? [el('progress', { max: 1, value: c.share || 0 })] : []);
  }

  buttons(s) {
    const need = this.wanting().length, go = $('#bake-missing'), one = $('#bake-chosen'), n = this.picked.size;
    go.textContent = need ? `Bake missing maps · ${need}` : 'All maps are baked';
    go.disabled = !need || !!s.job || !s.hasUV;
    one.textContent = n === 1 && this.chosen && this.picked.has(cellKey(this.chosen)) ? `Bake ${s.sets.find(k => k.name === this.chosen.set)?.label} · ${this.label(this.chosen.kind)}` : `Bake the ${n} chosen maps`;
    one.disabled = !!s.job || !n || !s.hasUV;
  }

  label(kind) { return this.app.tables.maps.find(m => m.name === kind)?.label.toLowerCase() || kind; }

  /** Asks how long each quality would take for what wants baking, or for what is chosen when nothing does. */
  foretell(s) {
    if (this.app.stageName !== 'bake' || s.job || !s.hasUV) return;
    const cells = this.wanting().length ? this.wanting() : s.cells.filter(c => this.picked.has(cellKey(c)));
    const list = cells.map(c => ({ set: c.set, kind: c.kind }));
    const key = JSON.stringify([list, { ...s.settings, quality: '', words: null }, s.high, s.modelVersion, s.sets.map(k => k.size)]);
    if (key === this.foretold) return;
    this.foretold = key;
    clearTimeout(this.foretelling);
    this.foretelling = setTimeout(async () => {
      if (this.app.state.job) { this.foretold = ''; return; }
      try {
        const t = await call('POST', `${this.app.api}/estimate`, { cells: list });
        if (this.foretold !== key) return;
        this.times = t;
        this.timesFor = cells.length;
      } catch { this.times = null; this.foretold = ''; }
      this.timeWords();
    }, 400);
  }

  timeWords() {
    for (const b of document.querySelectorAll('#quality button')) {
      const t = this.times?.[b.dataset.value];
      $('em', b).textContent = t ? `≈ ${t < 60 ? Math.max(1, Math.round(t)) + ' s' : clock(t)}` : '';
    }
    if (this.times) $('#quality-words').title = `foretold for ${this.timesFor} map${this.timesFor === 1 ? '' : 's'} from a probe on this machine`;
  }

  settings(s) {
    const key = JSON.stringify([s.settings, s.high, s.suggested, s.bounds]);
    if (key === this.settingsKey) return;
    this.settingsKey = key;
    const set = change => this.app.do('settings', { settings: change });
    $('#quality').replaceChildren(...this.app.tables.qualities.map(q => {
      const b = el('button', { 'data-value': q.name, title: `${q.rays} occlusion rays a texel, ${q.samples} sample${q.samples > 1 ? 's' : ''}` }, q.label, el('small', {}, `${q.rays} rays`), el('em.figure', {}, ''));
      b.classList.toggle('on', q.name === s.settings.quality);
      b.onclick = () => set({ quality: q.name });
      return b;
    }));
    this.timeWords();
    const size = el('select.compact', { 'aria-label': 'Size of the maps' }, ...[0, 512, 1024, 2048, 4096].map(n => el('option', { value: n, selected: n === s.settings.size }, n ? `${n} px` : 'each set’s own')));
    size.onchange = () => set({ size: Number(size.value) });
    const q = this.app.tables.qualities.find(k => k.name === s.settings.quality);
    $('#quality-words').replaceChildren(size, ` ${q.samples} sample${q.samples > 1 ? 's' : ''} a texel`);
    $('#highs').replaceChildren(...(s.high || []).map(h => {
      const x = el('button.plain', { title: `Take ${h.name} away`, 'aria-label': `Take ${h.name} away` }, icon('x'));
      x.onclick = () => this.app.do('drop-high', { value: h.name }, $('#high-complaint'));
      return el('li', {}, el('span.clip', { title: h.name }, h.name), h.triangles ? el('span.figure.quiet', {}, `${grouped(h.triangles)} tri`) : null, x);
    }), s.high?.length ? '' : el('li.quiet', {}, 'none: maps come from the model itself'));
    const most = s.bounds.reduce((a, b) => Math.max(a, b)) * 2;
    const length = (name, label, zero) => value({ name, label, value: s.settings[name], min: 0, max: most, default: 0, unit: 'm', zero, commit: v => set({ [name]: v }) });
    const mm = v => `≈ ${show(v, { unit: 'm' }, 3)}`;
    $('#lengths').replaceChildren(length('radius', 'curvature radius', mm(s.suggested.radius)), length('far', 'occlusion limit', 'none'),
      length('front', 'high-poly, front', 'by part'), length('rear', 'high-poly, rear', 'by part'), length('deep', 'thickness limit', mm(s.suggested.deep)));
    const pick = (label, key, options) => {
      const k = el('select.compact', { 'aria-label': label, 'data-key': key }, ...options.map(([v, words], i) => el('option', { value: v, selected: String(v) === String(s.settings[key]) || !i && !s.settings[key] }, words)));
      k.onchange = () => set({ [key]: k.value === 'true' ? true : k.value === 'false' ? false : k.value });
      return el('label.value', {}, el('span', {}, label), k);
    };
    const plain = list => list.map(v => [v, v]);
    const floor = el('input', { type: 'checkbox', checked: s.settings.ground });
    floor.onchange = () => set({ ground: floor.checked });
    $('#lengths').append(pick('occlusion sees', 'sees', plain(this.app.tables.sees)), pick('ID from', 'id', plain(this.app.tables.ids)),
      pick('rays to the high-poly', 'straight', [[false, 'averaged'], [true, 'as normals']]), el('label.tick', {}, floor, ' floor shades'));
  }

  /** The cell whose map is shown: the chosen one, or a map that came with it. */
  shown() {
    return this.kin ? this.app.state.companions.find(c => c.set === this.chosen.set && c.kind === this.kin) : this.chosen;
  }

  async large() {
    const c = this.shown(), s = this.app.state;
    const title = c ? `${s.sets.find(k => k.name === c.set)?.label || c.set} · ${this.label(c.kind)}` : '';
    $('#map-title').textContent = $('#large-title').textContent = title;
    const kin = s.companions.filter(k => this.chosen && k.set === this.chosen.set && k.with === this.chosen.kind && k.made);
    $('#large-kin').hidden = !kin.length;
    $('#large-kin').replaceChildren(...[null, ...kin].map(k => {
      const b = el('button', { 'data-value': k?.kind || '' }, k ? this.label(k.kind).replace(/^curvature, /, '') : 'at the radius');
      b.onclick = () => { this.kin = k?.kind || ''; this.large(); this.present(); };
      return b;
    }));
    choose($('#large-kin'), this.kin);
    const canvas = $('#map-large canvas'), g = canvas.getContext('2d', { willReadFrequently: true });
    const link = $('#map-download');
    link.hidden = $('#map-open').hidden = !c?.made;
    $('#map-large p').textContent = c?.made ? '' : 'not baked yet';
    this.facts();
    if (!c?.made) { g.clearRect(0, 0, 512, 512); this.drawn = this.picture = null; this.drawLarge(); return; }
    link.href = this.url(c);
    const key = `${this.url(c)}&px=2048&made=${c.made}`;
    if (key === this.drawn) return;
    const img = new Image();
    img.src = key;
    await img.decode().catch(() => {});
    if (this.shown()?.made !== c.made || cellKey(this.shown()) !== cellKey(c)) return;
    this.drawn = key;
    this.picture = img;
    g.drawImage(img, 0, 0, 512, 512);
    this.drawLarge();
  }

  enlarge(on) {
    if (on && !this.shown()?.made) return;
    document.body.dataset.large = on ? '1' : '';
    this.tell('');
    this.app.applyLayout();
    requestAnimationFrame(() => this.drawLarge());
    if (on) $('#large-back').focus();
  }

  /** Draws the large map, fitted, zoomed and moved. */
  drawLarge() {
    const c = $('#large-canvas'), box = c.parentElement.getBoundingClientRect();
    if (box.width < 2 || document.body.dataset.large !== '1') return;
    const k = Math.min(2, devicePixelRatio);
    c.width = Math.round(box.width * k);
    c.height = Math.round(box.height * k);
    const g = c.getContext('2d'), v = this.look, side = Math.min(c.width, c.height) * 0.96 * v.zoom;
    g.imageSmoothingEnabled = !this.picture || side < this.picture.width;
    this.place = { x: (c.width - side) / 2 + v.x * k, y: (c.height - side) / 2 + v.y * k, side, k };
    if (this.picture) g.drawImage(this.picture, this.place.x, this.place.y, side, side);
  }

  pan(c) {
    const v = this.look;
    c.addEventListener('wheel', e => {
      e.preventDefault();
      const box = c.getBoundingClientRect(), next = Math.min(40, Math.max(0.5, v.zoom * (e.deltaY < 0 ? 1.2 : 1 / 1.2))), f = next / v.zoom;
      const mx = e.clientX - box.left - box.width / 2, my = e.clientY - box.top - box.height / 2;
      Object.assign(v, { zoom: next, x: mx + (v.x - mx) * f, y: my + (v.y - my) * f });
      this.drawLarge();
    }, { passive: false });
    c.addEventListener('pointerdown', e => {
      c.setPointerCapture(e.pointerId);
      const x0 = e.clientX - v.x, y0 = e.clientY - v.y;
      const move = m => { v.x = m.clientX - x0; v.y = m.clientY - y0; this.drawLarge(); };
      c.addEventListener('pointermove', move);
      c.addEventListener('pointerup', () => c.removeEventListener('pointermove', move), { once: true });
    });
    c.ondblclick = () => { Object.assign(v, { zoom: 1, x: 0, y: 0 }); this.drawLarge(); };
  }

  facts(under) {
    const c = this.shown();
    const rows = [];
    if (c?.made) {
      rows.push(['under the pointer', under || '—']);
      if (c.rays) rows.push(['rays', grouped(c.rays)]);
      rows.push(['took', c.seconds < 60 ? `${c.seconds.toFixed(1)} s` : clock(c.seconds)]);
      if (c.high) rows.push(['0 to 1 is', `${(c.low || 0).toPrecision(3)} to ${c.high.toPrecision(3)} m`]);
      if (c.box) rows.push(['0 to 1 is', ['x', 'y', 'z'].map((a, i) => `${a} ${c.box[0][i].toFixed(3)} to ${c.box[1][i].toFixed(3)}`).join(', ') + ' m']);
      if (this.app.state.high?.length && c.state !== 'brought') rows.push(['texels that missed the high-poly', grouped(c.missed || 0)]);
    }
    $('#map-facts').replaceChildren(...rows.map(([k, v]) => el('div', {}, el('dt', {}, k), el('dd', {}, v))),
      ...(c?.legend || []).map(l => el('div', {}, el('dt', {}, el('span.swatch', { style: `background:${l.colour}` }), ' ' + l.name), el('dd', {}, `${Number(l.area.toPrecision(3))} m²`))));
  }

  /** Shows what a value is, in the side panel and over the large map. */
  tell(words) {
    $('#large-value').textContent = words;
    const dd = $('#map-facts dd');
    if (dd && this.shown()?.made) dd.textContent = words || '—';
  }

  under(e) {
    if (!this.drawn) return;
    const box = e.target.getBoundingClientRect();
    let u = (e.clientX - box.left) / box.width, v = (e.clientY - box.top) / box.height;
    if (e.target.id === 'large-canvas') {
      const p = this.place;
      u = ((e.clientX - box.left) * p.k - p.x) / p.side;
      v = ((e.clientY - box.top) * p.k - p.y) / p.side;
    }
    this.ask(this.shown().set, u, v);
  }

  overModel(e) {
    if (this.app.stageName !== 'bake' || e.buttons || this.showing !== 'map') return;
    const hit = this.app.viewport.pick(e);
    if (!hit) { this.tell(''); return; }
    this.ask(hit.set, hit.u, hit.v);
  }

  /** Asks the server for the exact value at a place; only the newest question is answered. */
  async ask(set, u, v) {
    this.next = { set, u, v };
    if (this.asking) return;
    this.asking = true;
    while (this.next) {
      const q = this.next;
      this.next = null;
      if (q.u < 0 || q.u >= 1 || q.v < 0 || q.v >= 1) { this.tell(''); continue; }
      const kind = this.shown().kind;
      try {
        const a = await call('GET', `${this.app.api}/maps/${kind}/at?set=${encodeURIComponent(q.set)}&u=${q.u}&v=${q.v}`);
        const label = q.set === this.shown().set ? '' : (this.app.state.sets.find(k => k.name === q.set)?.label || '') + ' · ';
        this.tell(`${label}${a.values.map(x => x.toFixed(4)).join('  ')}${a.means ? ' · ' + a.means : ''} · texel ${a.x}, ${a.y}`);
      } catch { this.tell(''); }
    }
    this.asking = false;
  }

  /** What the model shows: the chosen map, the cage, or the normals beside the high-poly. */
  show(what) {
    if (what === this.showing && what !== 'map') what = 'map';
    this.showing = what;
    choose($('#bake-view'), what);
    // Two models side by side want the whole width.
    const wide = what === 'compare' ? '2' : document.body.dataset.large === '2' ? '' : document.body.dataset.large || '';
    if (wide !== (document.body.dataset.large || '')) { document.body.dataset.large = wide; this.app.applyLayout(); }
    this.present();
  }

  present() {
    const v = this.app.viewport, s = this.app.state;
    if (this.app.stageName !== 'bake') return;
    $('#bake-view-words').textContent = '';
    for (const b of document.querySelectorAll('#bake-view button')) b.disabled = b.dataset.value !== 'map' && !s?.high?.length;
    if (!s?.high?.length && this.showing !== 'map') this.showing = 'map';
    choose($('#bake-view'), this.showing);
    if (this.showing === 'cage') return this.cage.present();
    v.showShells(null);
    if (this.showing === 'compare') return this.cage.compare();
    v.compare(null);
    if (!s || !this.chosen) return v.show('plain');
    const kind = this.shown().kind;
    // While a bake runs, what is already shown is not drawn again and again.
    const key = JSON.stringify([kind, document.body.dataset.large, s.modelVersion, [...s.cells, ...s.companions].filter(c => c.kind === kind).map(c => c.made)]);
    if (key === this.presented && v.mode === 'map' && v.mapKind === kind && s.job) return;
    if (s.job && v.software && v.mode === 'map' && v.mapKind === kind) return; // its frames would take turns with the bake
    this.presented = key;
    for (const c of [...s.cells, ...s.companions].filter(k => k.kind === kind)) {
      if (c.made) v.loadMap(`${this.url(c)}&px=${document.body.dataset.large ? 2048 : 1024}&made=${c.made}`, c.set, c.kind, c.made);
      else v.forgetMap(c.set, c.kind);
    }
    v.show('map', kind);
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
