// Join sheets: the plan by which several sets become one on delivery, laid out by hand or by a rule.
import { $, choose, complain, el, icon, pennant, setColour } from './dom.js';
import { call } from './api.js';
import { value } from './values.js';

/** How cells are laid out by a rule. */
const ROUNDS = [['together', 'Laid together', 'each set is the whole sheet: for sets that occupy other places of the same square'], ['grid', 'Grid', 'cells of one size'], ['density', 'By texel density', 'a metre is as many texels on all of them']];

const STEP = 1 / 64; // cells snap to it

export class Joins {
  constructor(app, deliver) {
    this.app = app;
    this.deliver = deliver;
    this.name = ''; // of the sheet that is worked on, empty for none
    this.paths = new Map();
    $('#join-new').onclick = () => this.make();
    $('#join-close').onclick = () => this.close();
    $('#join-gone').onclick = () => this.drop();
    $('#join-round').replaceChildren(...ROUNDS.map(([v, w, title]) => el('button', { 'data-value': v, title }, w)));
    for (const b of $('#join-round').children) b.onclick = () => this.app.do('lay-sheet', { key: this.name, value: b.dataset.value }, $('#join-complaint'));
    const name = $('#join-name');
    name.onchange = () => this.rename(name.value.trim());
    name.onkeydown = e => { if (e.key === 'Enter') name.blur(); e.stopPropagation(); };
    this.canvas = $('#join-canvas');
    this.canvas.onpointerdown = e => this.grab(e);
    new ResizeObserver(() => this.draw()).observe(this.canvas.parentElement);
  }

  get all() { return this.app.state?.shipping.joins || []; }

  sheet() { return this.all.find(j => j.name === this.name); }

  /** Takes what the asset's sheets are now. */
  take() {
    const h = this.app.state.shipping, several = this.app.state.sets.length > 1;
    $('#joins-box').hidden = !several;
    const key = JSON.stringify([this.all.map(j => [j.name, j.sets.length]), h.unused]);
    if (key !== this.linesKey) $('#joins').replaceChildren(...this.all.map(j => {
      const on = !h.unused?.includes(j.name), i = el('input', { type: 'checkbox', checked: on, 'aria-label': `Use join sheet ${j.name}` });
      i.onchange = () => this.deliver.ship({ unused: i.checked ? h.unused.filter(n => n !== j.name) : [...(h.unused || []), j.name] });
      const open = el('button.link', { 'data-join': j.name }, `${j.name} · ${j.sets.length} sets`);
      open.onclick = () => this.open(j.name);
      return el('div.join-line', {}, i, open);
    }));
    this.linesKey = key;
    if (this.name && !this.sheet()) this.close();
    if (this.name) this.render();
  }

  async make() {
    const sets = this.app.state.sets, taken = new Set(this.all.filter(j => !this.app.state.shipping.unused?.includes(j.name)).flatMap(j => j.sets.map(c => c.set)));
    const free = sets.filter(k => !taken.has(k.name)), of = (free.length > 1 ? free : sets).map(k => ({ set: k.name, x: 0, y: 0, side: 1 }));
    let name = 'sheet';
    for (let n = 2; this.all.some(j => j.name.toLowerCase() === name); n++) name = `sheet ${n}`;
    const joins = [...this.all, { name, sets: of, round: 'together' }];
    // A set is on one used sheet alone.
    const unused = [...(this.app.state.shipping.unused || []), ...(free.length > 1 ? [] : this.all.map(j => j.name))];
    if (await this.deliver.ship({ joins, unused })) { this.name = name; await this.app.do('lay-sheet', { key: name, value: 'density' }, $('#join-complaint')); this.open(name); }
  }

  open(name) {
    this.name = name;
    this.looked = '';
    document.body.classList.add('joining');
    $('#joinsheet').hidden = false;
    complain($('#join-complaint'), '');
    this.render();
  }

  close() {
    this.name = '';
    document.body.classList.remove('joining');
    $('#joinsheet').hidden = true;
  }

  async drop() {
    const name = this.name;
    this.close();
    await this.deliver.ship({ joins: this.all.filter(j => j.name !== name), unused: (this.app.state.shipping.unused || []).filter(n => n !== name) });
  }

  async rename(name) {
    const old = this.name, unused = (this.app.state.shipping.unused || []).map(n => n === old ? name : n);
    if (!name || name === old) { $('#join-name').value = old; return; }
    if (await this.change(j => { j.name = name; }, { unused })) this.open(name); else $('#join-name').value = old;
  }

  /** Changes the sheet that is worked on. */
  async change(how, more = {}) {
    const joins = structuredClone(this.all), j = joins.find(k => k.name === this.name);
    how(j);
    complain($('#join-complaint'), '');
    return this.deliver.ship({ joins, ...more }, '#join-complaint');
  }

  render() {
    const j = this.sheet(), sets = this.app.state.sets;
    if (!j) return;
    if (document.activeElement !== $('#join-name')) $('#join-name').value = j.name;
    choose($('#join-round'), j.round || '');
    const focus = document.activeElement?.closest('#join-sets') && document.activeElement.dataset.key;
    $('#join-sets').replaceChildren(...sets.map((k, i) => {
      const c = j.sets.find(o => o.set === k.name), tick = el('input', { type: 'checkbox', checked: !!c, 'aria-label': `${k.label} is on the sheet`, disabled: c && j.sets.length < 3 });
      tick.onchange = () => this.change(q => { q.sets = tick.checked ? [...q.sets, { set: k.name, x: 0, y: 0, side: q.round === 'together' ? 1 : 0.25 }] : q.sets.filter(o => o.set !== k.name); });
      const number = (name, min) => value({ name: `${name}-${i}`, label: `${name} of ${k.label}`, value: 100 * c[name], min, max: 100, default: name === 'side' ? 50 : 0, figures: 4, unit: '%', commit: v => this.put(k.name, { [name]: v / 100 }) });
      return el('tr', {}, el('td', {}, tick), el('td', {}, pennant(i), ' ', k.label), ...c ? [number('x', 0), number('y', 0), number('side', 2)].map(v => el('td', {}, v)) : [el('td', { colSpan: 3 })]);
    }));
    if (focus) $(`#join-sets [data-key="${focus}"]`)?.focus();
    this.draw();
    this.conflicts(j);
  }

  /** Puts a set's cell elsewhere, within the sheet. */
  put(set, to) {
    return this.change(j => {
      const c = Object.assign(j.sets.find(o => o.set === set), to);
      c.side = Math.min(1, Math.max(STEP, c.side));
      c.x = Math.min(1 - c.side, Math.max(0, c.x));
      c.y = Math.min(1 - c.side, Math.max(0, c.y));
      delete j.round;
    });
  }

  /** Finds out where sets lie on each other. */
  async conflicts(j) {
    const key = JSON.stringify([j, this.app.state.modelVersion]);
    if (key === this.looked) return;
    this.looked = key;
    let found;
    try { found = await call('GET', `${this.app.api}/conflicts?sheet=${encodeURIComponent(j.name)}`); } catch { return; }
    if (key !== this.looked) return;
    const label = k => this.app.state.sets.find(s => s.name === k)?.label || k;
    const over = this.over = document.createElement('canvas'), g = over.getContext('2d');
    over.width = over.height = found.side;
    const im = g.createImageData(found.side, found.side);
    for (const at of found.texels) if ((at % found.side + Math.floor(at / found.side)) % 8 < 4) im.data.set([208, 102, 60, 255], 4 * at);
    g.putImageData(im, 0, 0);
    const words = $('#join-conflicts');
    words.textContent = found.of.length ? found.of.map(c => `${label(c.a)} and ${label(c.b)} lie on each other on ${(100 * c.texels / found.side ** 2).toPrecision(2)} % of the sheet.`).join(' ') : 'No set lies on another.';
    words.classList.toggle('bad', !!found.of.length);
    this.draw();
  }

  /** The islands of a set in its own square, as a path. */
  path(set) {
    const g = this.app.viewport.sets.get(set)?.mesh.geometry, known = this.paths.get(set);
    if (!g) return null;
    if (known?.of === g) return known.path;
    const path = new Path2D(), at = g.index.array, uv = g.attributes.uv.array;
    for (let i = 0; i < at.length; i += 3) {
      for (let k = 0; k < 3; k++) path[k ? 'lineTo' : 'moveTo'](uv[2 * at[i + k]], uv[2 * at[i + k] + 1]);
      path.closePath();
    }
    this.paths.set(set, { of: g, path });
    return path;
  }

  draw() {
    const j = this.sheet(), c = this.canvas;
    if (!j || !c) return;
    const side = Math.max(60, Math.floor(Math.min(c.parentElement.clientWidth, c.parentElement.clientHeight))), k = Math.min(2, devicePixelRatio);
    if (c.width !== side * k) { c.width = c.height = side * k; c.style.width = c.style.height = `${side}px`; }
    const g = c.getContext('2d'), n = c.width, css = getComputedStyle(document.body);
    g.setTransform(1, 0, 0, 1, 0, 0);
    g.fillStyle = css.getPropertyValue('--well');
    g.fillRect(0, 0, n, n);
    g.strokeStyle = css.getPropertyValue('--line');
    g.lineWidth = 1;
    for (let i = 0; i <= 8; i++) { g.beginPath(); g.moveTo(i * n / 8, 0); g.lineTo(i * n / 8, n); g.moveTo(0, i * n / 8); g.lineTo(n, i * n / 8); g.stroke(); }
    const sets = this.app.state.sets, cells = this.moving ? j.sets.map(o => o.set === this.moving.set ? this.moving : o) : j.sets;
    for (const o of cells) {
      const i = sets.findIndex(s => s.name === o.set), colour = setColour(i), path = this.path(o.set);
      if (path) {
        g.setTransform(o.side * n, 0, 0, o.side * n, o.x * n, o.y * n);
        g.fillStyle = colour + '88';
        g.fill(path);
        g.setTransform(1, 0, 0, 1, 0, 0);
      }
      g.strokeStyle = colour;
      g.lineWidth = 2 * k;
      g.strokeRect(o.x * n + 1, o.y * n + 1, o.side * n - 2, o.side * n - 2);
      if (!o.side) continue;
      // The corner that scales it, and its name.
      g.fillStyle = colour;
      g.fillRect((o.x + o.side) * n - 12 * k, (o.y + o.side) * n - 12 * k, 10 * k, 10 * k);
      g.fillStyle = css.getPropertyValue('--text');
      g.font = `${12 * k}px Hyper, sans-serif`;
      if (j.round !== 'together') g.fillText(sets[i]?.label || o.set, o.x * n + 8 * k, o.y * n + 18 * k, o.side * n - 12 * k);
    }
    if (this.over && !this.moving) { g.imageSmoothingEnabled = false; g.drawImage(this.over, 0, 0, n, n); }
  }

  /** Takes a cell by the pointer: by its corner it is scaled, elsewhere moved. */
  grab(e) {
    const j = this.sheet(), box = this.canvas.getBoundingClientRect(), at = m => [(m.clientX - box.left) / box.width, (m.clientY - box.top) / box.height];
    const [x, y] = at(e), c = j.sets.findLast(o => x >= o.x && y >= o.y && x <= o.x + o.side && y <= o.y + o.side);
    if (!c || e.button) return;
    e.preventDefault();
    const near = 14 / box.width, scales = c.x + c.side - x < near && c.y + c.side - y < near, snap = v => Math.round(v / STEP) * STEP;
    this.moving = { ...c };
    this.canvas.setPointerCapture(e.pointerId);
    this.canvas.onpointermove = m => {
      const [u, v] = at(m), o = this.moving;
      if (scales) o.side = Math.min(1 - o.x, 1 - o.y, Math.max(STEP * 2, snap(Math.max(u - c.x, v - c.y))));
      else { o.x = Math.min(1 - o.side, Math.max(0, snap(c.x + u - x))); o.y = Math.min(1 - o.side, Math.max(0, snap(c.y + v - y))); }
      this.draw();
    };
    this.canvas.onpointerup = async () => {
      this.canvas.onpointermove = this.canvas.onpointerup = null;
      const o = this.moving;
      if (o.x !== c.x || o.y !== c.y || o.side !== c.side) await this.put(o.set, { x: o.x, y: o.y, side: o.side });
      this.moving = null;
      this.draw();
    };
  }
}
