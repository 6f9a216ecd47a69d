// What planes of files hold: the cells of the packing table, and the list from which a source is chosen.
import { $, el } from './dom.js';
import { call } from './api.js';
import { value } from './values.js';

/** @typedef {string|{from: string, invert?: boolean, uses?: string}} Plane as presets have it */

const from = p => typeof p === 'string' ? p : p?.from;

export class PlaneList {
  constructor(app, deliver) {
    this.app = app;
    this.deliver = deliver;
    this.of = new Map(); // from a source to its picture
    this.shapes = [];
    addEventListener('pointerdown', e => { if (this.menu && !this.menu.contains(e.target)) this.close(); }, true);
    addEventListener('keydown', e => { if (this.menu && e.key === 'Escape') { e.stopPropagation(); this.close(true); } }, true);
  }

  /** All sources, with the layers of this asset. */
  sources() {
    return [...this.app.tables.planeSources, ...this.app.doc.layers.map(l => ({ name: `where:${l.name}`, label: `Where of “${l.name}”`, group: 'Layers' }))];
  }

  /** Whether a plane holds data, not a colour or a constant. */
  data(p) {
    const name = from(p), s = this.app.tables.planeSources.find(k => k.name === name);
    return !name.startsWith('value:') && !s?.colour;
  }

  words(p) {
    const name = from(p);
    if (name.startsWith('value:')) return `always ${Number(name.slice(6))}`;
    const s = this.sources().find(k => k.name === name);
    return (s?.label || name) + (p.invert ? ', inverted' : '') + (p.uses ? ', if used' : '');
  }

  /** Has the pictures made, when the strata are others than when they were made. */
  async look() {
    const s = this.app.state, set = s.sets[0]?.name, key = JSON.stringify([this.app.doc.version, set, s.mapsVersion, s.cells.map(c => c.made), this.app.doc.layers.map(l => l.name)]);
    if (key === this.key || !set || !s.hasUV) return;
    this.key = key;
    const names = this.sources().map(k => k.name).slice(0, 280);
    let got;
    try { got = await call('POST', `${this.app.api}/planes`, { set, names }); } catch { this.key = ''; return; }
    this.side = got.side;
    this.of.clear();
    for (const [name, b64] of Object.entries(got.of)) this.of.set(name, Uint8Array.from(atob(b64), c => c.charCodeAt(0)));
    for (const c of document.querySelectorAll('canvas[data-plane]')) this.draw(c);
  }

  /** The picture of a plane, small. */
  picture(p) {
    const c = el('canvas', { width: 48, height: 48, 'data-plane': from(p), 'aria-hidden': 'true' });
    c.plane = p;
    this.draw(c);
    return c;
  }

  draw(c) {
    const p = c.plane, name = from(p), g = c.getContext('2d'), grey = this.of.get(name);
    if (name.startsWith('value:')) {
      const v = Math.round((p.invert ? 1 - Number(name.slice(6)) : Number(name.slice(6))) * 255);
      g.fillStyle = `rgb(${v} ${v} ${v})`;
      g.fillRect(0, 0, 48, 48);
      return;
    }
    if (!grey) { g.clearRect(0, 0, 48, 48); return; }
    const im = g.createImageData(this.side, this.side);
    for (let i = 0; i < grey.length; i++) {
      const v = p.invert ? 255 - grey[i] : grey[i];
      im.data.set([v, v, v, 255], 4 * i);
    }
    g.putImageData(im, 0, 0);
  }

  /** A cell of the packing table. */
  cell(f, k, n, put) {
    const p = f[k], b = el('button.plane', { 'data-key': `${k}-${f.map}`, 'data-letter': k, title: p ? this.words(p) : 'Nothing; click to put something there', 'aria-label': `${k.toUpperCase()} of ${f.label}: ${p ? this.words(p) : 'none'}`, 'aria-haspopup': 'dialog' });
    b.append(...(p ? [this.picture(p), el('span', {}, this.words(p))] : [el('span.quiet', {}, 'none')]));
    b.onclick = () => this.choose(b, f, k, put);
    return b;
  }

  /** Opens the list of sources beside a cell. */
  choose(at, f, k, put) {
    this.close();
    const p = f[k], name = p ? from(p) : '', box = at.getBoundingClientRect();
    const menu = this.menu = el('div.plane-list', { role: 'dialog', 'aria-label': `What ${k.toUpperCase()} of ${f.label} holds` });
    const search = el('input.field-text', { placeholder: 'Search', 'aria-label': 'Search sources', spellcheck: false }), list = el('div.plane-rows', {});
    const keep = q => put(typeof q === 'object' && !q.invert && !q.uses ? q.from : q);
    const invert = el('input', { type: 'checkbox', checked: !!p?.invert, disabled: !p });
    invert.onchange = () => { this.close(true); keep({ ...(typeof p === 'object' ? p : { from: p }), invert: invert.checked }); };
    const none = k === 'r' ? null : el('button.button', {}, 'Nothing');
    if (none) none.onclick = () => { this.close(true); put(null); };
    const constant = value({ name: 'constant', label: 'always', value: name.startsWith('value:') ? Number(name.slice(6)) : 0, min: 0, max: 1, default: 0, figures: 3, commit: v => { this.close(true); put(`value:${v}`); } });
    const fill = () => {
      const word = search.value.trim().toLowerCase(), rows = [];
      let group = '';
      for (const s of this.sources()) {
        if (word && !`${s.label} ${s.name}`.toLowerCase().includes(word)) continue;
        if (s.group !== group) rows.push(el('h3', {}, group = s.group));
        const b = el('button', { 'data-source': s.name }, this.picture(s.name), el('span', {}, s.label));
        b.classList.toggle('on', s.name === name);
        b.onclick = () => { this.close(true); keep({ from: s.name, ...(typeof p === 'object' && p.uses ? { uses: p.uses } : {}) }); };
        rows.push(b);
      }
      list.replaceChildren(...rows.length ? rows : [el('p.quiet', {}, 'None of them.')]);
    };
    search.oninput = fill;
    search.onkeydown = e => { if (e.key !== 'Escape') e.stopPropagation(); if (e.key === 'Enter') list.querySelector('button')?.click(); };
    fill();
    menu.append(el('div.plane-head', {}, search, el('label.tick', {}, invert, 'inverted')), list, el('div.plane-foot', {}, constant, none || ''));
    document.body.append(menu);
    menu.style.left = `${Math.min(box.left, innerWidth - menu.offsetWidth - 8)}px`;
    menu.style.top = `${Math.max(8, Math.min(box.bottom + 4, innerHeight - menu.offsetHeight - 8))}px`;
    this.back = at.dataset.key;
    search.focus();
    list.querySelector('.on')?.scrollIntoView({ block: 'center' });
  }

  close(focus) {
    this.menu?.remove();
    this.menu = null;
    if (focus && this.back) $(`#packing [data-key="${CSS.escape(this.back)}"]`)?.focus({ preventScroll: true });
  }
}
