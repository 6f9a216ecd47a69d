// What is here: the values of every channel at a place, and the layers that show there. I held follows the pointer.
import { $, el, icon, pennant } from './dom.js';
import { call } from './api.js';

const sRGB = v => Math.round(v * 255);

export class Probe {
  constructor(app) {
    this.app = app;
    this.box = $('#probe');
    this.held = false;
    addEventListener('pointermove', e => { this.last = e; if (this.held) this.follow(e); });
    addEventListener('pointerdown', e => { if (!this.held && !this.box.contains(e.target)) this.close(); }, true);
    addEventListener('keydown', e => { if (e.key === 'Escape') this.close(); });
  }

  hold(on) {
    if (this.held === on) return;
    this.held = on;
    if (on && this.last) this.follow(this.last);
  }

  close() { this.box.hidden = true; }

  /** Asks about the place under the pointer; only the newest question is answered. */
  async follow(e) {
    const v = this.app.viewport, hit = e.target === v.canvas ? v.pick(e) : e.target === v.flatCanvas ? v.pickFlat(e) : null;
    this.next = hit && { set: hit.set, u: hit.u - Math.floor(hit.u), v: hit.v - Math.floor(hit.v), x: e.clientX, y: e.clientY };
    if (this.asking) return;
    this.asking = true;
    while (this.next) {
      const q = this.next;
      this.next = null;
      try {
        const a = await call('GET', `${this.app.api}/at?set=${encodeURIComponent(q.set)}&u=${q.u}&v=${q.v}`);
        if (a) this.show(a, q); else this.close();
      } catch (err) {
        this.box.replaceChildren(el('p.quiet', {}, err.message));
      }
    }
    this.asking = false;
  }

  show(a, q) {
    const sets = this.app.state.sets, i = sets.findIndex(s => s.name === q.set), hex = '#' + a.base.map(v => sRGB(v).toString(16).padStart(2, '0')).join('');
    const rows = [['Base colour', el('span', {}, el('span.swatch', { style: `background:${hex}` }), ` ${hex} · ${a.base.map(sRGB).join(' ')}`)], ['Roughness', a.roughness.toFixed(3)], ['Metallic', a.metallic.toFixed(3)],
      ['Height', `${(a.height * 1000).toFixed(3)} mm`], ['Normal', a.normal.map(x => x.toFixed(3)).join('  ')], ['Occlusion', a.ao.toFixed(3)],
      ...this.app.uses('emissive') ? [['Emissive', a.emissive.map(sRGB).join(' ')]] : [], ...this.app.uses('opacity') ? [['Opacity', a.opacity.toFixed(3)]] : []];
    const byID = new Map(this.app.doc.layers.map(l => [l.id, l]));
    const layers = (a.layers || []).filter(s => byID.has(s.layer)).map(s => {
      const l = byID.get(s.layer), b = el('button.probe-layer', { title: `${l.name}: ${Math.round(s.share * 100)}% of it shows here${s.seen ? `; ${Math.round(s.seen * 100)}% of its colour is seen` : ''}. Click to choose it` },
        el('span.probe-share', { style: `--share:${Math.round(s.share * 100)}%;--seen:${Math.round(s.seen * 100)}%;--hex:${l.what.colour.on && l.what.colour.hex || '#777'}` }), el('span', {}, l.name), el('span.figure', {}, `${Math.round(s.share * 100)}%`));
      b.onclick = () => { this.app.choose(l.id); $(`#layers [data-id="${l.id}"]`)?.scrollIntoView({ block: 'nearest' }); };
      return b;
    });
    this.box.replaceChildren(el('p.probe-head', {}, pennant(Math.max(0, i)), ` ${sets[i]?.label || q.set}`, el('span.quiet.figure', {}, ` texel ${a.column}, ${a.row}`)),
      el('table', {}, el('tbody', {}, ...rows.map(([k, v]) => el('tr', {}, el('td.quiet', {}, k), el('td.figure', {}, v))))),
      ...(a.notes || []).map(n => el('p.lack', {}, n)),
      layers.length ? el('div.probe-layers', {}, ...layers) : el('p.quiet', {}, 'Nothing is laid here yet.'));
    this.box.hidden = false;
    const w = this.box.offsetWidth, h = this.box.offsetHeight;
    this.box.style.left = `${q.x + 18 + w < innerWidth ? q.x + 18 : q.x - 18 - w}px`;
    this.box.style.top = `${Math.max(50, Math.min(q.y - 30, innerHeight - h - 8))}px`;
  }
}
