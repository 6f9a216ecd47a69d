// The strokes of a clause as ticks along the bench's foot: one a stroke, as wide as it is long.
import { $, el, icon, toast } from './dom.js';
import { call } from './api.js';
import { value } from './values.js';

const GAP = 2, LEAST = 4;

export class Tally {
  constructor(app, brushwork) {
    this.app = app;
    this.brushwork = brushwork;
    this.list = [];
    this.picked = new Set();
    this.key = '';
    const c = this.canvas = $('#tally canvas');
    c.onpointerdown = e => this.down(e);
    c.onpointermove = e => { if (!this.dragging) this.point(this.under(e)); };
    c.onpointerleave = () => this.point(null);
    c.onkeydown = e => this.typed(e);
    c.addEventListener('wheel', e => { $('#tally .tally-run').scrollLeft += e.deltaY + e.deltaX; }, { passive: true });
    new ResizeObserver(() => this.draw()).observe($('#tally'));
  }

  /** Fetches the strokes when they have changed. */
  async render() {
    const to = this.brushwork.target(), box = $('#tally');
    box.hidden = !to || this.app.stageName !== 'paint';
    if (!to) { this.key = ''; return; }
    const key = `${to.layer.id} ${to.clause.id} ${to.clause.strokes || ''} ${this.app.state?.modelVersion}`;
    if (key === this.key) return;
    const other = !this.key.startsWith(`${to.layer.id} ${to.clause.id} `);
    this.key = key;
    if (other) this.picked.clear();
    try {
      const list = await call('GET', `${this.app.api}/strokes?layer=${encodeURIComponent(to.layer.id)}&clause=${encodeURIComponent(to.clause.id)}`);
      if (key !== this.key) return;
      this.list = list;
      const stamps = this.brushwork.stamps;
      if (list.some(s => s.n === stamps.fresh)) stamps.fresh = 0;
      for (const n of this.picked) if (n !== stamps.fresh && !list.some(s => s.n === n)) this.picked.delete(n);
      this.draw();
      const run = $('#tally .tally-run');
      run.scrollLeft = run.scrollWidth;
    } catch (e) {
      toast(e.message);
    }
  }

  /** Lays the ticks out and draws them. */
  draw() {
    this.tools(); // which take room from the run
    const c = this.canvas, run = $('#tally .tally-run'), room = run.clientWidth, k = devicePixelRatio || 1, high = 18;
    const long = Math.max(1e-9, ...this.list.map(s => s.length)), wide = s => LEAST + 44 * Math.sqrt(s.length / long);
    let x = 0;
    this.ticks = this.list.map(s => { const t = { s, x, w: wide(s) }; x += t.w + GAP; return t; });
    const fit = x > room && this.list.length * (2 + 1) < room ? room / x : 1; // many short ones are squeezed before they are scrolled
    for (const t of this.ticks) { t.x *= fit; t.w = Math.max(1.5, t.w * fit - (fit < 1 ? 0.5 : 0)); }
    const all = Math.min(16000, Math.max(room, x * fit));
    c.style.width = `${all}px`;
    c.width = Math.round(all * k);
    c.height = Math.round(high * k);
    const g = c.getContext('2d'), css = getComputedStyle(document.body), to = this.brushwork.target();
    g.scale(k, k);
    const plain = to?.layer.what.colour.on && to.layer.what.colour.hex || '#d8d2c4';
    this.ground(plain);
    for (const t of this.ticks) {
      g.globalAlpha = t.s.hidden ? 0.25 : 1;
      g.fillStyle = this.picked.has(t.s.n) ? css.getPropertyValue('--verdigris') : t.s.lost ? css.getPropertyValue('--oxide') : t.s.colour || plain;
      if (t.s.erase || t.s.work) { g.strokeStyle = g.fillStyle; g.strokeRect(t.x + 0.5, 5.5, Math.max(1, t.w - 1), 7); } else g.fillRect(t.x, 4, t.w, 10);
      if (this.picked.has(t.s.n)) g.fillRect(t.x, 16, t.w, 2);
      if (t.s.n === this.pointed) { g.globalAlpha = 1; g.strokeStyle = css.getPropertyValue('--text'); g.strokeRect(t.x - 0.5, 2.5, t.w + 1, 13); }
    }
    g.globalAlpha = 1;
    c.setAttribute('aria-label', `${this.list.length} strokes, ${this.picked.size} chosen; arrows choose, Delete removes, H hides`);
    this.brushwork.stamps?.sync();
  }

  /** Chooses a ground that a colour stands out from. */
  ground(hex) {
    const n = parseInt(hex.slice(1), 16);
    // Rec. ITU-R BT.709's luma.
    document.body.classList.toggle('pale-ground', 0.2126 * (n >> 16) + 0.7152 * (n >> 8 & 255) + 0.0722 * (n & 255) < 70);
  }

  under(e) {
    const x = e.clientX - this.canvas.getBoundingClientRect().left;
    return this.ticks?.find(t => x >= t.x - GAP / 2 && x < t.x + t.w + GAP / 2)?.s || null;
  }

  /** Lights a stroke on the model. */
  async point(s) {
    const n = s?.n;
    if (n === this.pointed) return;
    this.pointed = n;
    this.draw();
    this.canvas.title = s?.lost ? 'No surface lies any more where this was painted' : s ? `${s.words ? `“${s.words.replaceAll('\n', ' ')}”` : s.brush}, ${s.erase ? 'erases, ' : ''}${s.fill ? `fills ${s.fill}, ` : ''}${s.hidden ? 'hidden' : 'stroke ' + (this.list.indexOf(s) + 1)}` : '';
    if (!s) return this.app.viewport.showPath(null);
    try {
      const k = await call('GET', `${this.app.api}/strokes/${n}`);
      if (this.pointed === n) this.app.viewport.showPath(k.paths);
    } catch { /* it is gone */ }
  }

  down(e) {
    const first = this.under(e);
    this.canvas.focus();
    if (!e.shiftKey && !e.ctrlKey) this.picked.clear();
    if (first) { if (e.ctrlKey && this.picked.has(first.n)) this.picked.delete(first.n); else this.picked.add(first.n); }
    this.draw();
    if (!first) return;
    this.dragging = true;
    this.canvas.setPointerCapture(e.pointerId);
    const a = this.list.indexOf(first), had = new Set(this.picked);
    this.canvas.addEventListener('pointermove', this.drag = m => {
      const b = this.list.indexOf(this.under(m));
      if (b < 0) return;
      this.picked = new Set([...had, ...this.list.slice(Math.min(a, b), Math.max(a, b) + 1).map(s => s.n)]);
      this.draw();
    });
    this.canvas.addEventListener('pointerup', () => { this.dragging = false; this.canvas.removeEventListener('pointermove', this.drag); }, { once: true });
  }

  typed(e) {
    const at = this.list.findIndex(s => this.picked.has(s.n)), go = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
    if (go && this.list.length) {
      e.preventDefault();
      const s = this.list[Math.min(this.list.length - 1, Math.max(0, at < 0 ? this.list.length - 1 : at + go))];
      this.picked = new Set([s.n]);
      this.point(s);
    }
    if (e.key === 'Delete' && this.picked.size) { e.preventDefault(); e.stopPropagation(); this.edit('stroke.delete'); }
    if (e.key.toLowerCase() === 'h' && this.picked.size) this.edit(this.hidden() ? 'stroke.show' : 'stroke.hide');
  }

  hidden() { return this.list.some(s => this.picked.has(s.n) && s.hidden); }

  edit(what, change) {
    const to = this.brushwork.target();
    const numbers = this.list.filter(s => this.picked.has(s.n)).map(s => s.n);
    if (!to || !numbers.length) return;
    const places = numbers.map(n => this.list.findIndex(s => s.n === n));
    const key = this.key;
    return this.app.edit({ do: what, layer: to.layer.id, clause: to.clause.id, strokes: numbers.join(' '), ...(change ? { value: change } : {}) }).then(async a => {
      if (!a || what !== 'stroke.change') return;
      // Those in their places stay chosen.
      for (let i = 0; i < 100 && this.key === key; i++) await new Promise(r => setTimeout(r, 20));
      for (let i = 0; i < 100 && this.list.some(s => numbers.includes(s.n)); i++) await new Promise(r => setTimeout(r, 20));
      this.picked = new Set(places.map(p => this.list[p]?.n).filter(Boolean));
      this.draw();
    });
  }

  /** What can be done with the chosen strokes. */
  tools() {
    const box = $('#tally .tally-tools'), n = this.picked.size, lost = this.list.filter(s => s.lost).length, key = JSON.stringify([n, lost, this.hidden(), this.list.length, [...this.picked]]);
    if (key === this.toolsKey) return;
    this.toolsKey = key;
    const words = el('span.figure', {}, n ? `${n} of ${this.list.length} strokes` : `${this.list.length} stroke${this.list.length === 1 ? '' : 's'}${lost ? `, ${lost} without a surface` : ''}`);
    if (!n) return box.replaceChildren(words);
    const b = (name, title, f) => { const k = el('button.plain', { title, 'aria-label': title, 'data-do': name }, icon(name)); k.onclick = f; return k; };
    const hidden = this.hidden();
    box.replaceChildren(words,
      value({ name: 'times', label: 'size ×', value: 1, min: 0.1, max: 10, default: 1, log: true, figures: 3, commit: v => { if (v !== 1) this.edit('stroke.change', { times: v }); } }),
      b('brush', `Give them the brush in hand: ${this.brushwork.set.brush.name}`, () => this.edit('stroke.change', { brush: this.brushwork.set.brush })),
      b('color-swatch', this.brushwork.set.own ? 'Give them the values in hand' : 'Have them take the layer’s values', () => this.edit('stroke.change', { values: this.brushwork.set.own || {} })),
      b(hidden ? 'eye-off' : 'eye', hidden ? 'Show them (H)' : 'Hide them (H)', () => this.edit(hidden ? 'stroke.show' : 'stroke.hide')),
      b('trash', 'Delete them', () => this.edit('stroke.delete')));
  }

  /** Chooses the stroke that lies on top at a place of the model. */
  async pickAt(hit, to) {
    if (!to) return;
    try {
      const a = await call('GET', `${this.app.api}/strokes?layer=${encodeURIComponent(to.layer.id)}&clause=${encodeURIComponent(to.clause.id)}&at=${hit.place.join(',')}`);
      this.picked = new Set(a.map(s => s.n));
      this.draw();
      if (a.length) this.point(a[0]);
    } catch (e) {
      toast(e.message);
    }
  }
}
