// Stamps: shapes, pictures and texts that are placed on the model, and moved, turned and scaled while they are chosen.
import { $, el, toast, choose } from './dom.js';
import { call } from './api.js';
import { show, value } from './values.js';

const SIDES = [['', 'middle'], ['left', 'left'], ['right', 'right']];

const NEW = { tip: 'hexagon', words: 'No. 14', font: '', apart: 0, stencil: false, side: '', size: 0, turn: 0, roundness: 1, hardness: 0.9, opacity: 1, way: 0, straight: false, depth: 0, row: false, gap: 0, erase: false, alpha: '' };

const sub = (a, b) => a.map((x, k) => x - b[k]), dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2], add = (a, b, s = 1) => a.map((x, k) => x + b[k] * s);
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]], unit = a => a.map(x => x / (Math.hypot(...a) || 1));

export class Stamps {
  constructor(app, brushwork) {
    this.app = app;
    this.brushwork = brushwork;
    this.set = brushwork.set.stamp = { ...NEW, ...brushwork.set.stamp };
    this.faces = new Map();
    this.became = new Map();
    this.fresh = 0; // the stamp that was just kept, which the list of strokes may not hold yet
    this.left = 0; // counts how often a stamp was let go of
    this.live = null; // the stamp that is chosen: its number, its stroke, half its width and height in sizes
    const svg = this.svg = $('#stamp-live');
    svg.addEventListener('pointerdown', e => this.grab(e));
    app.viewport.drawn = () => this.draw();
    addEventListener('keydown', e => {
      if (!this.live || !this.on() || e.target.closest?.('input, select, textarea, dialog')) return;
      if (e.key === 'Delete') { e.preventDefault(); e.stopImmediatePropagation(); this.gone(); }
      if (e.key === 'Escape') { e.stopImmediatePropagation(); this.leave(); }
    }, true);
  }

  on() { return this.brushwork.tool === 'stamp' && this.app.stageName === 'paint'; }

  /** How wide a stamp is, or how high its letters are, in metres. */
  size() { return this.set.size || (this.app.viewport.size || 1) / 16; }

  /** The stroke that the values of the tray make, with a path. */
  stroke(path) {
    const s = this.set, text = s.tip === 'text';
    const brush = { ...this.app.tables.brushes[0], name: text ? 'Text' : this.label(s.tip), tip: { text: 'round', decal: 'picture', normals: 'picture' }[s.tip] || s.tip, hardness: s.hardness, roundness: text ? 1 : s.roundness, turn: s.turn, way: s.way, opacity: s.opacity, pressSize: 0 };
    if (brush.tip === 'picture') brush.alpha = s.alpha;
    const stamp = { straight: s.straight, depth: s.depth };
    if (text) stamp.text = { words: s.words, font: s.font, apart: s.apart, stencil: s.stencil, side: s.side };
    if (path.length > 1) stamp.gap = this.gap();
    const out = { brush, size: this.size(), erase: s.erase, seed: 1, stamp, paths: [path] };
    this.brushwork.bound(out, this.hit);
    return out;
  }

  gap() { return this.set.gap || this.size() * 1.6; }

  label(tip) { return { decal: 'Decal', normals: 'Normals' }[tip] || this.app.tables.tips.find(t => t.name === tip)?.label.replace(/^./, c => c.toUpperCase()) || 'Stamp'; }

  /** What a stamp looks like flat, and half its width and height in sizes. */
  async face(stroke) {
    const key = JSON.stringify([stroke.brush.tip, stroke.brush.alpha, stroke.brush.hardness, stroke.brush.roundness, stroke.stamp.text]);
    if (!this.faces.has(key)) {
      if (this.faces.size > 200) this.faces.clear();
      this.faces.set(key, call('GET', `/api/stamp?px=64&stroke=${encodeURIComponent(JSON.stringify({ brush: stroke.brush, size: 1, stamp: { text: stroke.stamp.text } }))}`).then(f => ({ ...f, px: Uint8Array.from(atob(f.grey), c => c.charCodeAt(0)) })));
    }
    try { return await this.faces.get(key); } catch (e) { this.faces.delete(key); throw e; }
  }

  /** The frame that a stamp stands in: to its right, up, and off the surface. As the core has it. */
  frame(stroke) {
    const [p, q] = stroke.paths[0], n = unit(p.slice(3, 6));
    let right = cross([0, 1, 0], n);
    if (dot(right, right) < 0.02) right = [1, 0, 0];
    if (stroke.brush.way === 1 && q) right = sub(q.slice(0, 3), p.slice(0, 3));
    right = unit(add(right, n, -dot(right, n)));
    const up = cross(n, right), a = stroke.brush.turn * Math.PI / 180, c = Math.cos(a), s = Math.sin(a);
    return { at: p.slice(0, 3), n, right: add(right.map(x => x * c), up, s), up: add(up.map(x => x * c), right, -s) };
  }

  /**
   * A place of a stamp on the surface, in halves of its width and height: straight down from its plane, or as far along the surface,
   * walked in small steps.
   */
  place(f, half, x, y, straight) {
    const pick = this.brushwork.picker(), way = add(f.right.map(v => v * x * half[0]), f.up, y * half[1]), long = Math.hypot(...way);
    const down = (p, n, far) => pick?.ray(...add(p, n, far), ...n.map(v => -v), 2 * far);
    if (straight || !long) {
      const q = add(f.at, way);
      return down(q, f.n, Math.max(...half))?.place || q;
    }
    let p = f.at, n = f.n, d = unit(way);
    const steps = 12, step = long / steps;
    for (let i = 0; i < steps; i++) {
      const q = add(p, d, step), h = down(q, n, step * 1.2);
      p = h ? h.place : q;
      if (!h || dot(h.normal, n) < 0.1) continue;
      n = unit(h.normal);
      d = unit(add(d, n, -dot(d, n)));
    }
    return p;
  }

  /** The rim of a stamp as points of the screen. */
  rim(f, half, straight) {
    const v = this.app.viewport, out = [];
    for (const [ax, ay, bx, by] of [[-1, -1, 1, -1], [1, -1, 1, 1], [1, 1, -1, 1], [-1, 1, -1, -1]]) {
      for (let i = 0; i < 10; i++) out.push(v.screenOf(this.place(f, half, ax + (bx - ax) * i / 10, ay + (by - ay) * i / 10, straight)));
    }
    return out;
  }

  /** The stamp that a click would place, under the pointer; null for none. */
  ghost(hit) {
    this.ghostAt = hit && !this.dragging ? hit : null;
    this.draw();
  }

  /** Draws the ghost, and the rim and handles of the chosen stamp. */
  draw() {
    const svg = this.svg, on = this.on() && !$('#pane-model').hidden;
    if (!on && svg.hasAttribute('hidden')) return;
    svg.replaceChildren();
    svg.toggleAttribute('hidden', !on);
    if (!on) return;
    const box = svg.getBoundingClientRect(), made = (tag, props) => { const e = document.createElementNS('http://www.w3.org/2000/svg', tag); for (const [k, v] of Object.entries(props)) e.setAttribute(k, v); svg.append(e); return e; };
    const points = list => list.map(([x, y]) => `${(x - box.left).toFixed(1)},${(y - box.top).toFixed(1)}`).join(' ');
    if (this.ghostAt && this.half) {
      const s = this.stroke([[...this.ghostAt.place, ...this.ghostAt.normal, 1]]), rim = this.rim(this.frame(s), this.half.map(h => h * s.size), s.stamp.straight);
      made('polygon', { points: points(rim), class: 'rim ghost' });
      const right = rim.reduce((a, b) => b[0] > a[0] ? b : a);
      made('text', { x: (right[0] - box.left + 8).toFixed(0), y: (right[1] - box.top + 4).toFixed(0) }).textContent = this.brushwork.target() ? show(s.size, { unit: 'm' }, 3) : 'nothing to stamp on';
    }
    const l = this.live;
    if (!l) return;
    const s = l.stroke, path = s.paths[0], f = this.frame(s), half = l.half.map(h => h * s.size), at = p => { const [x, y] = this.app.viewport.screenOf(p); return { x: x - box.left, y: y - box.top }; };
    const knob = (what, p, title) => { const k = made('circle', { cx: p.x.toFixed(1), cy: p.y.toFixed(1), r: 6, class: 'knob', 'data-knob': what }); const t = document.createElementNS('http://www.w3.org/2000/svg', 'title'); t.textContent = title; k.append(t); };
    if (path.length > 1) {
      made('polyline', { points: points(path.map(p => this.app.viewport.screenOf(p.slice(0, 3)))), class: 'row' });
      knob('first', at(path[0].slice(0, 3)), 'Drag this end of the row');
      knob('last', at(path.at(-1).slice(0, 3)), 'Drag this end of the row');
      return;
    }
    made('polygon', { points: points(this.rim(f, half, s.stamp.straight)), class: 'rim live', 'data-knob': 'move' });
    const top = at(this.place(f, half, 0, 1, s.stamp.straight)), middle = at(f.at), long = Math.hypot(top.x - middle.x, top.y - middle.y) || 1, stick = { x: top.x + (top.x - middle.x) / long * 22, y: top.y + (top.y - middle.y) / long * 22 };
    made('line', { x1: top.x, y1: top.y, x2: stick.x, y2: stick.y, class: 'row' });
    knob('turn', stick, 'Drag to turn; with Shift by 15°');
    knob('scale', at(this.place(f, half, 1, 1, s.stamp.straight)), 'Drag to scale');
  }

  /** The pen comes down with the tool in hand: a stamp is placed, or a row begun. */
  down(e, hit, at, where, canvas) {
    const to = this.brushwork.target();
    if (!to) return this.brushwork.nowhere();
    if (this.fault) return toast(this.fault);
    this.hit = hit;
    this.ghost(null);
    if (this.set.tip === 'normals' && !to.layer.what.normal.on) this.app.edit({ do: 'set', layer: to.layer.id, path: 'what.normal.on', value: true });
    const first = [...hit.place, ...hit.normal, 1], x0 = e.clientX, y0 = e.clientY;
    this.begin({ layer: to.layer.id, clause: to.clause.id, instead: 0 });
    let path = [first];
    this.send(this.stroke(path));
    const move = m => {
      const h = at(m.clientX, m.clientY);
      if (!h) return;
      if (!this.set.row) path = [[...h.place, ...h.normal, 1]];
      else if (Math.hypot(m.clientX - x0, m.clientY - y0) > 4) path = this.way(at, x0, y0, m.clientX, m.clientY);
      this.hit = h;
      this.send(this.stroke(path));
    };
    this.drag(canvas, e, move, () => this.finish());
  }

  /** The way over the surface between two points of the screen, as points of a path. */
  way(at, x0, y0, x1, y1) {
    const n = Math.max(2, Math.min(96, Math.ceil(Math.hypot(x1 - x0, y1 - y0) / 8))), out = [];
    for (let i = 0; i <= n; i++) {
      const h = at(x0 + (x1 - x0) * i / n, y0 + (y1 - y0) * i / n);
      if (h) out.push([...h.place, ...h.normal, 1]);
    }
    return out;
  }

  /** A handle of the chosen stamp is taken. */
  grab(e) {
    const knob = e.target.dataset.knob, l = this.live;
    if (!knob || !l || e.button || e.altKey) return;
    e.stopPropagation();
    e.preventDefault();
    const bw = this.brushwork, v = this.app.viewport, at = (x, y) => bw.at(x, y), s0 = structuredClone(l.stroke), f = this.frame(s0), [cx, cy] = v.screenOf(f.at);
    const angle = m => {
      // Where the pointer's ray meets the plane of the stamp.
      const [o, d] = v.rayAt(m.clientX, m.clientY), oo = [o.x, o.y, o.z], dd = [d.x, d.y, d.z], t = dot(sub(f.at, oo), f.n) / (dot(dd, f.n) || 1e-9), p = sub(add(oo, dd, t), f.at);
      return Math.atan2(dot(p, f.up), dot(p, f.right)) * 180 / Math.PI;
    };
    const began = { far: Math.hypot(e.clientX - cx, e.clientY - cy), angle: angle(e) }, row = s0.paths[0], ends = [v.screenOf(row[0].slice(0, 3)), v.screenOf(row.at(-1).slice(0, 3))];
    this.begin({ layer: l.layer, clause: l.clause, instead: l.number });
    const move = m => {
      const s = structuredClone(s0);
      if (knob === 'move') {
        const h = at(cx + m.clientX - e.clientX, cy + m.clientY - e.clientY);
        if (!h) return;
        s.paths = [[[...h.place, ...h.normal, 1]]];
      } else if (knob === 'scale') {
        this.set.size = s.size = Number((s0.size * Math.max(0.02, Math.hypot(m.clientX - cx, m.clientY - cy) / Math.max(1, began.far))).toPrecision(4));
      } else if (knob === 'turn') {
        let a = s0.brush.turn + angle(m) - began.angle;
        if (m.shiftKey) a = Math.round(a / 15) * 15;
        this.set.turn = s.brush.turn = Number(((a + 540) % 360 - 180).toFixed(2));
      } else {
        const [a, b] = knob === 'first' ? [[m.clientX, m.clientY], ends[1]] : [ends[0], [m.clientX, m.clientY]], path = this.way(at, ...a, ...b);
        if (path.length > 1) s.paths = [path];
      }
      this.send(s);
    };
    this.drag(this.svg, e, move, () => this.finish());
  }

  /** Follows the pointer until it is let go of. */
  drag(on, e, move, done) {
    this.dragging = true;
    on.setPointerCapture(e.pointerId);
    const up = u => {
      on.removeEventListener('pointermove', move);
      on.removeEventListener('pointerup', up);
      on.removeEventListener('pointercancel', up);
      this.dragging = false;
      done(u);
    };
    on.addEventListener('pointermove', move);
    on.addEventListener('pointerup', up);
    on.addEventListener('pointercancel', up);
  }

  /** Begins a change of a stamp: a new one, or one instead of another. */
  begin(to) {
    this.to = to;
    this.last = null;
  }

  /** Shows a stamp as it is now, once a frame. */
  send(stroke) {
    this.last = stroke;
    if (this.live && this.to?.instead) this.live.stroke = stroke;
    this.draw();
    if (this.asked) return;
    this.asked = requestAnimationFrame(() => {
      this.asked = 0;
      if (this.last && !this.pending) this.app.socket.send({ t: 'ink', ink: { ...this.to, instead: this.nowOf(this.to.instead), place: this.last } });
    });
  }

  /** Keeps the stamp as it is now, after what is being kept still. */
  async finish() {
    const s = this.last, to = this.to;
    cancelAnimationFrame(this.asked);
    this.asked = 0;
    this.last = this.to = null;
    if (!s) return;
    const left = this.left, mine = this.pending = Promise.resolve(this.pending).then(() => this.store(s, to, left));
    await mine;
    if (this.pending === mine) this.pending = null;
  }

  /** The stroke that another has become, by its number. */
  nowOf(n) {
    while (n && this.became.has(n)) n = this.became.get(n);
    return n;
  }

  async store(s, to, left) {
    try {
      const face = await this.face(s);
      to.instead = this.nowOf(to.instead);
      const a = await this.app.socket.ask({ t: 'ink', ink: { ...to, place: s, end: true } });
      if (!a.number) return;
      // What has been begun meanwhile changes what came of this.
      if (to.instead) this.became.set(to.instead, a.number);
      const next = to.instead && this.to?.instead === to.instead;
      if (next) this.to.instead = a.number;
      if (left !== this.left) return; // it was let go of meanwhile
      this.live = { ...to, number: a.number, stroke: next && this.last || s, half: [face.wide, face.high] };
      this.brushwork.tally.picked = new Set([a.number]);
      this.wanted = this.fresh = a.number;
      this.brushwork.keep();
      this.brushwork.render();
      this.draw();
    } catch (e) {
      this.app.socket.send({ t: 'ink', ink: { drop: true } });
      toast(e.message);
      this.leave();
    }
  }

  /** Changes the chosen stamp as the tray says; while a value is dragged it is shown, and kept when it rests. */
  async change(values, rests = true) {
    Object.assign(this.set, values);
    this.brushwork.keep();
    const l = this.live;
    if (!l) { this.measure(); if (rests) this.brushwork.render(); return; }
    const path = l.stroke.paths[0], own = l.stroke.values;
    const s = { ...this.stroke(path), mirror: l.stroke.mirror, hold: l.stroke.hold, seed: l.stroke.seed, values: 'own' in values ? values.own || undefined : own };
    if ('words' in values || 'font' in values) {
      if (!await this.measure(s) || this.live?.layer !== l.layer) return;
    } else {
      this.measure(s);
    }
    const n = this.live?.number;
    if (!n) return;
    if (!this.to || this.to.instead !== n) this.begin({ layer: l.layer, clause: l.clause, instead: n });
    this.send(s);
    if (rests) this.finish().then(() => this.brushwork.render());
  }

  /** Finds out how large the stamp in hand is; false where it cannot be made, which the tray says. */
  async measure(stroke) {
    const s = stroke || this.stroke([[0, 0, 0, 0, 1, 0, 1]]), mine = this.measuring = {};
    const words = $('#stamp-words-fault');
    try {
      const face = await this.face(s);
      if (mine !== this.measuring) return false;
      this.fault = '';
      this.half = [face.wide, face.high];
      if (this.live) this.live.half = this.half;
      if (words) words.hidden = true;
      this.draw();
      return true;
    } catch (e) {
      if (mine !== this.measuring) return false;
      this.fault = e.message;
      if (words) { words.textContent = e.message; words.hidden = false; }
      return false;
    }
  }

  /** Lets go of the chosen stamp; it stays where it is. */
  leave() {
    this.left++;
    this.live = null;
    this.wanted = 0;
    this.to = null;
    this.brushwork.tally.picked.clear();
    this.brushwork.tally.draw();
    this.draw();
    this.brushwork.render();
  }

  /** Deletes the chosen stamp. */
  async gone() {
    await this.pending;
    const l = this.live;
    if (!l) return;
    this.leave();
    await this.app.edit({ do: 'stroke.delete', layer: l.layer, clause: l.clause, strokes: String(l.number) });
  }

  /** The chosen strokes have changed: one that is a stamp alone has handles. */
  async sync() {
    const t = this.brushwork.tally, n = t.picked.size === 1 ? [...t.picked][0] : 0, entry = t.list.find(s => s.n === n);
    if (this.dragging || n === this.wanted && (n || !this.live)) return;
    if (n && !entry && this.live) return; // the list is not there yet
    this.wanted = n;
    if (!entry?.stamp) {
      this.live = null;
      this.draw();
      return;
    }
    try {
      const stroke = await call('GET', `${this.app.api}/strokes/${n}`), face = await this.face(stroke), to = this.brushwork.target();
      if (this.wanted !== n || !to) return;
      this.live = { layer: to.layer.id, clause: to.clause.id, number: n, stroke, half: [face.wide, face.high] };
      this.half = this.live.half;
      const b = stroke.brush, k = stroke.stamp;
      Object.assign(this.set, { tip: k.text ? 'text' : face.coloured ? 'decal' : face.leans ? 'normals' : b.tip, alpha: b.alpha || '', size: stroke.size, turn: Number(b.turn.toFixed(2)) || 0, roundness: b.roundness, hardness: b.hardness, opacity: b.opacity, way: b.way, straight: !!k.straight, depth: k.depth || 0, erase: !!stroke.erase }, k.gap ? { row: true, gap: k.gap } : {}, k.text ? { apart: 0, stencil: false, side: '', font: '', ...k.text } : {});
      if (this.brushwork.tool !== 'stamp') this.brushwork.take('stamp'); else this.brushwork.render();
      this.draw();
    } catch (e) {
      toast(e.message);
    }
  }

  /** The shapes that can be stamped, drawn by the core. */
  gallery() {
    const box = $('#stamp-shapes');
    if (!this.shelved) {
      this.shelved = true;
      const tips = this.app.tables.tips.filter(t => !['picture', 'chalk', 'bristle', 'scratch'].includes(t.name));
      const tile = (tip, label) => {
        const c = el('canvas', { width: 64, height: 64, 'aria-hidden': 'true' }), b = el('button', { 'data-shape': tip, title: label, 'aria-label': label, 'aria-pressed': 'false' }, c);
        b.onclick = () => this.change({ tip });
        const s = { ...this.stroke([[0, 0, 0, 0, 1, 0, 1]]), stamp: tip === 'text' ? { text: { words: 'Aa', font: 'block' } } : {} };
        s.brush = { ...s.brush, tip: tip === 'text' ? 'round' : tip, roundness: 1, hardness: 0.9 };
        delete s.brush.alpha;
        this.face(s).then(f => { c.face = f.px; this.ink(c); }, () => {});
        return b;
      };
      const picture = (tip, words, title) => {
        const input = el('input', { type: 'file', accept: 'image/*,.tga,.exr,.tif,.tiff', hidden: true, [`data-stamp-${tip}`]: '' }), b = el('button', { 'data-shape': tip, title, 'aria-label': `${words} ${title}`, 'aria-pressed': 'false' }, words);
        b.onclick = () => input.click();
        input.onchange = async () => {
          const form = new FormData();
          if (!input.files[0]) return;
          form.append('files', input.files[0], input.files[0].name);
          try { const a = await call('POST', `/api/alphas${{ decal: '?with=colours', normals: '?with=normals' }[tip] || ''}`, form); this.change({ tip, alpha: a.alpha }); } catch (e) { toast(e.message); }
          input.value = '';
        };
        return [b, input];
      };
      box.replaceChildren(tile('text', 'Text'), ...picture('picture', 'form…', 'A picture as the form: its opacity, or how light it is'), ...picture('decal', 'colours…', 'A picture with its colours'), ...picture('normals', 'normals…', 'A normal map, green up'), ...tips.map(t => tile(t.name, t.label)));
    }
    for (const b of box.querySelectorAll('[data-shape]')) { const on = b.dataset.shape === this.set.tip; b.classList.toggle('on', on); b.setAttribute('aria-pressed', on); }
  }

  /** Draws a shape of the gallery. */
  ink(c) {
    const g = c.getContext('2d'), im = g.createImageData(64, 64);
    for (let i = 0; i < c.face.length; i++) im.data.set([242, 239, 232, c.face[i]], 4 * i);
    g.putImageData(im, 0, 0);
  }

  /** The values of the stamp in hand, or of the chosen one. */
  values(box, own) {
    const s = this.set, text = s.tip === 'text', grow = this.app.viewport.size || 1;
    const number = (name, o) => value({ name, value: s[name], figures: 3, live: v => this.change({ [name]: v }, false), commit: v => this.change({ [name]: v }), ...o });
    const pick = (name, label, list) => { const k = el('select.compact', { 'aria-label': label, 'data-key': name }, ...list.map(([v, w]) => el('option', { value: v, selected: v === s[name] }, w))); k.onchange = () => this.change({ [name]: k.value }); return el('label.tray-line', {}, label, k); };
    const tick = (name, words, title = '') => { const i = el('input', { type: 'checkbox', checked: s[name], 'data-key': name }); i.onchange = () => this.change({ [name]: i.checked }); return el('label.tick', { title }, i, words); };
    const lies = el('div.segments', { role: 'group', 'aria-label': 'Lies' }, el('button', { 'data-value': 'false', title: 'It follows the surface round bends' }, 'wrapped'), el('button', { 'data-value': 'true', title: 'It goes straight down, as light from a projector' }, 'straight'));
    choose(lies, s.straight);
    for (const b of lies.children) b.onclick = () => this.change({ straight: b.dataset.value === 'true' });
    const words = el('textarea.field-text', { id: 'stamp-words', rows: 2, maxLength: 120, spellcheck: false, 'aria-label': 'Text', value: s.words });
    let timer;
    words.oninput = () => { clearTimeout(timer); timer = setTimeout(() => this.change({ words: words.value }, false), 120); };
    words.onchange = () => { clearTimeout(timer); this.change({ words: words.value }); };
    words.onkeydown = e => { e.stopPropagation(); if (e.key === 'Escape') words.blur(); };
    const hard = this.app.tables.tips.find(t => t.name === s.tip)?.hard;
    box.replaceChildren(...[
      text ? words : null, text ? el('p.complaint', { id: 'stamp-words-fault', role: 'alert', hidden: true }) : null,
      text ? pick('font', 'font', this.app.tables.fonts.map((f, i) => [i ? f.name : '', f.label])) : null,
      el('div.tray-grid', {}, number('size', { label: text ? 'capitals' : 'width', value: this.size(), min: grow / 2000, max: grow, default: grow / 16, unit: 'm', log: true }), number('turn', { label: 'turn', min: -180, max: 180, default: 0, unit: '°' })),
      own,
      el('div.tray-grid', {}, number('opacity', { label: 'opacity', min: 0.01, max: 1, default: 1, figures: 2 }), text ? number('apart', { label: 'apart', min: -0.2, max: 2, default: 0, figures: 2 }) : number('roundness', { label: 'height', min: 0.05, max: 1, default: 1, figures: 2 }), !text && hard ? number('hardness', { label: 'hardness', min: 0, max: 1, default: 0.9, figures: 2 }) : null),
      text ? pick('side', 'lines', SIDES) : null,
      el('div.tray-ticks', {}, text ? tick('stencil', 'stencil', 'Bridges hold what lies inside letters, as in a stencil') : null, tick('erase', 'takes away', 'It takes away what was painted')),
      el('label.tray-line', {}, 'lies', lies),
      number('depth', { label: 'depth', min: grow / 2000, max: grow, default: 0, unit: 'm', log: true, zero: 'fits' }),
      el('div.tray-ticks', {}, tick('row', 'in a row: drag from end to end')),
      s.row ? el('div.tray-grid', {}, number('gap', { label: 'gap', value: this.gap(), min: grow / 1000, max: grow, default: this.size() * 1.6, unit: 'm', log: true }), el('label.value', {}, el('span', {}, 'stands'), this.way3())) : null,
      el('p.quiet', { id: 'stamp-help' }, this.live ? 'Chosen: drag it to move it, the corner to scale it, the stick to turn it. Escape lets go of it.' : s.row ? 'Drag over the model to lay a row.' : 'Click on the model. Ctrl+click chooses a stamp that lies there.'),
    ].filter(Boolean));
  }

  /** How the stamps of a row stand. */
  way3() {
    const k = el('select', { 'aria-label': 'Stands', 'data-key': 'way' }, ...this.app.tables.brushParams.find(p => p.name === 'way').choices.slice(0, 3).map((c, i) => el('option', { value: i, selected: i === this.set.way }, c)));
    k.onchange = () => this.change({ way: Number(k.value) });
    return k;
  }
}
