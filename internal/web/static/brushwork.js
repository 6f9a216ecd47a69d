// Painting by hand: the rack of tools, the tray with the brush's values, and the pen on the model and on the flat map.
import { $, choose, el, icon, toast, typing } from './dom.js';
import { call } from './api.js';
import { curve, show, value } from './values.js';
import { Picker } from './picker.js';
import { Tally } from './tally.js';
import { Stamps } from './stamps.js';
import { StencilView } from './stencil.js';

/** Where the pressure comes from when there is no pen. */
const STAND_INS = [['full', 'none: always full'], ['speed', 'from speed: slow is heavy'], ['hand', 'as a hand would'], ['keys', 'from keys 1 – 9, held']];

/** What can be done with what was painted. */
const WORKS = [['soften', 'soften', 'takes the mean of what lies round it'], ['smudge', 'smudge', 'pulls it along'], ['clone', 'clone', 'lays down what lies elsewhere']];

const KEPT = 'crust-brush';

/** A place of a copy of a square that repeats, by that of the square itself. */
const moved = (hit, by) => ({ ...hit, place: [hit.place[0] + by.x, hit.place[1] + by.y, hit.place[2] + by.z] });

export class Brushwork {
  constructor(app) {
    this.app = app;
    this.tool = 'orbit';
    this.clause = null; // the brush clause that is painted in, of the chosen layer
    const built = app.tables.brushes;
    this.set = { brush: built[0], by: 'model', metres: 0, px: 48, texels: 24, standIn: 'full', own: null, fill: 'part', steady: 0, mirror: { x: false, y: false, z: false, turns: 1 }, hold: { part: false, set: false, island: false, id: false, front: false, seen: false, angle: 0 } };
    try { Object.assign(this.set, JSON.parse(localStorage[KEPT])); } catch { /* nothing is kept yet */ }
    this.set.work = { kind: 'soften', hardness: 0.3, flow: 1, opacity: 1, ...this.set.work };
    // A brush that was kept may know fewer numbers than there are now.
    this.set.brush = { ...built[0], ...this.set.brush };
    this.tally = new Tally(app, this);
    this.stamps = new Stamps(app, this);
    this.stencil = new StencilView(app, this);
    for (const b of document.querySelectorAll('#rack [data-tool]')) b.onclick = () => this.take(b.dataset.tool);
    this.pens();
    this.keys();
  }

  keep() { try { localStorage[KEPT] = JSON.stringify(this.set); } catch { /* it lasts as long as the page */ } }

  /** The layer and the clause of it that are painted in; null for none. */
  target() {
    const l = this.app.layer(), all = l && !l.group ? l.where.filter(c => this.painted(c)) : [];
    const c = all.find(c => c.id === this.clause) || all.find(c => c.kind === 'brush') || all.find(c => c.params?.from === 2);
    return c ? { layer: l, clause: c } : null;
  }

  /** Whether a clause takes strokes. */
  painted(c) { return !!this.app.tables.clauses.find(k => k.name === c.kind)?.strokes; }

  /** Takes a tool of the rack up. */
  take(tool) {
    this.tool = tool;
    for (const b of document.querySelectorAll('#rack [data-tool]')) { b.classList.toggle('on', b.dataset.tool === tool); b.setAttribute('aria-pressed', b.dataset.tool === tool); }
    document.body.classList.toggle('painting', tool !== 'orbit');
    if (tool !== 'orbit' && this.app.lighting?.shown) this.app.lighting.open(false);
    this.ring(null);
    this.render();
    this.stencil.draw();
  }

  /** Whether the pen paints now. */
  paints() { return this.tool !== 'orbit' && this.app.stageName === 'paint' && !this.app.picking && !this.app.turning; }

  /** The model's places; looked up anew when the model has changed. */
  picker() {
    const v = this.app.viewport, first = v.sets.values().next().value?.mesh;
    if (this.pickerOf !== first) {
      this.pickerOf = first;
      this.found = first ? new Picker(v.sets) : null;
    }
    return this.found;
  }

  /** The place of the model under a point of the screen. */
  at(x, y) {
    const p = this.picker(), v = this.app.viewport;
    if (!p) return null;
    const [o, d] = v.rayAt(x, y);
    let best = null, far = Infinity;
    for (const by of v.shifts()) { // a copy is hit where the square itself would be
      const hit = p.ray(o.x - by.x, o.y - by.y, o.z - by.z, d.x, d.y, d.z);
      if (hit && hit.distance < far) { best = moved(hit, by); far = hit.distance; }
    }
    return best;
  }

  /** The place of the model under a point of the flat map. */
  onFlat(x, y) {
    const hit = this.app.viewport.pickFlat({ clientX: x, clientY: y });
    const at = hit && this.picker()?.flat(hit.set, hit.u, hit.v);
    return at && hit.by ? moved(at, hit.by) : at;
  }

  /** How wide the brush is at a place, in metres. */
  metres(hit) {
    const s = this.set;
    if (s.by === 'screen') return Math.max(1e-4, s.px * this.app.viewport.metresPerPx(hit.place));
    if (s.by === 'texels') {
      const k = this.app.state.sets.find(k => k.name === hit.set);
      return Math.max(1e-4, s.texels / Math.max(1e-9, k.density * Math.min(k.size, this.app.state.size)));
    }
    return s.metres || (this.app.viewport.size || 1) / 40;
  }

  /** Makes the brush wider or narrower. */
  scale(by) {
    const s = this.set, k = { model: 'metres', screen: 'px', texels: 'texels' }[s.by];
    if (k === 'metres' && !s.metres) s.metres = (this.app.viewport.size || 1) / 40;
    s[k] = Number(Math.max(k === 'metres' ? 1e-4 : 1, s[k] * by).toPrecision(3));
    this.keep();
    this.render();
    this.again();
  }

  pens() {
    const v = this.app.viewport;
    for (const [canvas, at, where] of [[v.canvas, (x, y) => this.at(x, y), 'model'], [v.flatCanvas, (x, y) => this.onFlat(x, y), 'flat']]) {
      canvas.addEventListener('pointerdown', e => this.down(e, canvas, at, where), true);
      canvas.addEventListener('pointermove', e => { if (!this.stroke) this.hover(e, at, where); });
      canvas.addEventListener('pointerleave', () => { if (!this.stroke) this.ring(null); });
    }
  }

  /** The ring follows the pointer. */
  hover(e, at, where) {
    this.pointed = { x: e.clientX, y: e.clientY, at, where };
    if (!this.paints()) return this.ring(null);
    this.again();
  }

  /** Draws the ring again with the next frame. */
  again() {
    if (this.asked || !this.pointed) return;
    this.asked = requestAnimationFrame(() => {
      this.asked = 0;
      const p = this.pointed;
      if (this.paints()) this.ring(p.at(p.x, p.y), p.where);
    });
  }

  down(e, canvas, at, where) {
    if (!this.paints() || e.button || e.altKey || this.app.viewport.grabbed) return;
    const hit = at(e.clientX, e.clientY);
    if (!hit) return; // beside the model the view is turned
    e.stopImmediatePropagation();
    e.preventDefault();
    this.app.viewport.grabbed = true; // so that the click that follows picks nothing
    setTimeout(() => { this.app.viewport.grabbed = false; }, 0);
    const to = this.target();
    if (e.ctrlKey || e.metaKey) { this.tally.pickAt(hit, to); return; }
    if (!to) { this.nowhere(); return; }
    canvas.setPointerCapture(e.pointerId);
    canvas.focus({ preventScroll: true });
    const s = this.set, size = this.metres(hit), v = this.app.viewport;
    if (this.tool === 'stamp') return this.stamps.down(e, hit, at, where, canvas);
    const begin = { brush: s.brush, size, erase: this.tool === 'erase', seed: Math.floor(Math.random() * 2 ** 31) + 1 };
    this.bound(begin, hit);
    if (this.tool === 'fill') begin.fill = s.fill; else this.stencil.bound(begin, where);
    if (this.tool === 'work') {
      const w = s.work;
      if (w.kind === 'clone' && (e.shiftKey || !this.source)) {
        this.source = [...hit.place, ...hit.normal, 1];
        this.again();
        return this.render();
      }
      Object.assign(begin, { work: w.kind, brush: { ...this.app.tables.brushes[0], name: w.kind.replace(/^./, c => c.toUpperCase()), hardness: w.hardness, flow: w.flow, opacity: w.opacity, pressSize: 0, tiltLong: 0 } }, w.kind === 'clone' ? { source: this.source } : {});
      delete begin.values;
      if (w.kind === 'clone') delete begin.mirror; // its source is one place
    }
    this.stroke = { layer: to.layer.id, clause: to.clause.id, at, where, size, x: e.clientX, y: e.clientY, time: e.timeStamp, speed: 0, gone: 0, points: [], px: Math.max(1, size / this.perPx(hit, where)) };
    const k = this.stroke;
    this.app.socket.send({ t: 'ink', ink: { layer: k.layer, clause: k.clause, begin } });
    if (e.shiftKey && this.tool !== 'work' && this.last?.layer === k.layer && where === 'model') {
      // A straight line from where the stroke before ended, over what is seen between the two.
      const [x, y] = v.screenOf(this.last.place);
      k.points.push([...this.last.place, ...this.last.normal, this.last.pressure]);
      k.from = this.last.place;
      [k.x, k.y] = [x, y];
      this.walk(e.clientX, e.clientY, this.pressure(e));
    } else {
      k.lean = this.lean(e);
      this.point(hit, this.pressure(e));
    }
    this.flush();
    if (this.tool === 'fill') return this.end(e);
    const move = m => this.move(m);
    const up = u => {
      canvas.removeEventListener('pointermove', move);
      canvas.removeEventListener('pointerup', up);
      canvas.removeEventListener('pointercancel', up);
      this.end(u);
    };
    canvas.addEventListener('pointermove', move);
    canvas.addEventListener('pointerup', up);
    canvas.addEventListener('pointercancel', up);
  }

  /** Gives a stroke that begins at a place what the tray says of all: what it is held to, its own values, its mirrors. */
  bound(stroke, hit) {
    const s = this.set, h = s.hold, m = s.mirror, v = this.app.viewport;
    if (hit && (h.part || h.set || h.island || h.id || h.front || h.seen || h.angle)) {
      stroke.hold = { part: h.part ? this.app.state.parts[hit.part] : '', set: h.set ? hit.set : '', island: !!h.island, id: !!h.id, angle: h.angle, front: h.front, seen: !!h.seen, eye: v.camera.position.toArray() };
    }
    if (s.own && !stroke.erase) stroke.values = s.own;
    if (m.x || m.y || m.z || m.turns > 1) stroke.mirror = { x: m.x, y: m.y, z: m.z, turns: m.turns, centre: v.middle.toArray() };
  }

  /** Metres of the surface to a px of the screen, at a place. */
  perPx(hit, where) {
    if (where === 'model') return this.app.viewport.metresPerPx(hit.place);
    const k = this.app.state.sets.find(k => k.name === hit.set);
    return 1 / Math.max(1e-9, k.density * this.app.viewport.flatFit());
  }

  move(e) {
    const k = this.stroke;
    if (!k) return;
    const all = e.getCoalescedEvents?.() || [];
    for (const c of all.length ? all : [e]) {
      const x = c.clientX, y = c.clientY, dt = Math.max(1, c.timeStamp - k.time), d = Math.hypot(x - k.x, y - k.y);
      k.speed += (d / dt - k.speed) * 0.3;
      k.time = c.timeStamp;
      // A steadied hand comes after the pointer like something drawn by a string.
      const follow = 1 - 0.92 * this.set.steady;
      k.lean = this.lean(c);
      this.walk(k.x + (x - k.x) * follow, k.y + (y - k.y) * follow, this.pressure(c));
    }
    this.flush();
    this.pointed = { x: e.clientX, y: e.clientY, at: k.at, where: k.where };
    this.again();
  }

  /** Takes the pen to a point of the screen, over the surface. */
  walk(x, y, pressure) {
    const k = this.stroke, d = Math.hypot(x - k.x, y - k.y), step = Math.max(2, Math.min(24, k.px / 5));
    const n = Math.max(1, Math.min(400, Math.ceil(d / step))), x0 = k.x, y0 = k.y, p0 = k.pressure ?? pressure;
    for (let i = 1; i <= n; i++) {
      const t = i / n, hit = k.at(x0 + (x - x0) * t, y0 + (y - y0) * t);
      if (!hit) { this.lift(); continue; }
      // From one side of a gap to the other the pen is taken up.
      if (k.from) {
        const jump = Math.hypot(hit.place[0] - k.from[0], hit.place[1] - k.from[1], hit.place[2] - k.from[2]);
        if (jump > Math.max(0.75 * k.size, 12 * (d / n) * this.perPx(hit, k.where))) this.lift();
      }
      this.point(hit, p0 + (pressure - p0) * t);
    }
    [k.x, k.y, k.pressure] = [x, y, pressure];
  }

  point(hit, pressure) {
    const k = this.stroke;
    if (k.from) k.gone += Math.hypot(hit.place[0] - k.from[0], hit.place[1] - k.from[1], hit.place[2] - k.from[2]);
    k.from = hit.place;
    const at = [...hit.place, ...hit.normal, Math.min(1, Math.max(0, pressure))];
    if (k.lean) at.push(...k.lean);
    k.points.push(at);
    this.last = { layer: k.layer, place: hit.place, normal: hit.normal, pressure };
  }

  lift() {
    const k = this.stroke;
    if (!k.from) return;
    this.flush();
    k.from = null;
    k.lifted = true;
  }

  flush() {
    const k = this.stroke;
    if (!k.points.length) return;
    this.app.socket.send({ t: 'ink', ink: { layer: k.layer, clause: k.clause, points: k.points, lift: !!k.lifted } });
    k.points = [];
    k.lifted = false;
  }

  /** The pressure of the pen, or of what stands in for it. */
  pressure(e) {
    if (e.pointerType === 'pen') return e.pressure;
    const k = this.stroke;
    if (this.set.standIn === 'speed') return Math.min(1, Math.max(0.1, 1.1 - k.speed / 1.6));
    if (this.set.standIn === 'keys') return this.digit ? this.digit / 10 : 1;
    if (this.set.standIn === 'hand') {
      const hand = this.app.tables.hand, half = hand.length / 2;
      // It comes down over the first sizes of the path and wavers from then on; how it lifts is not known before it does.
      const at = Math.min(half, k.gone / k.size * 2), waver = Math.sin(k.gone / k.size * 1.7) * 0.05;
      return Math.min(1, hand[Math.floor(at)] + (at >= half ? waver : 0));
    }
    return 1;
  }

  /** Which way a pen leans that tells it, along the screen, of the length of the sine of how far; null for one that does not. */
  lean(e) {
    if (e.pointerType !== 'pen' || !e.tiltX && !e.tiltY || this.stroke?.where === 'flat') return null;
    const x = Math.tan(e.tiltX * Math.PI / 180), y = Math.tan(e.tiltY * Math.PI / 180), far = Math.hypot(x, y, 1), m = this.app.viewport.camera.matrixWorld.elements;
    return [0, 1, 2].map(i => Number(((m[i] * x - m[4 + i] * y) / far).toFixed(4)));
  }

  async end(e) {
    const k = this.stroke;
    if (!k) return;
    if (e.type === 'pointerup' && this.set.steady) this.walk(e.clientX, e.clientY, this.pressure(e));
    this.flush();
    this.stroke = null;
    this.again();
    try {
      await this.app.socket.ask({ t: 'ink', ink: { layer: k.layer, clause: k.clause, end: true } });
    } catch (err) {
      toast(err.message);
    }
  }

  /** Gives the stroke up that is being made. */
  drop() {
    if (!this.stroke) return false;
    this.app.socket.send({ t: 'ink', ink: { drop: true } });
    this.stroke = null;
    return true;
  }

  /** Says that the chosen layer has nothing to paint in, in the tray, where there are buttons for it. */
  nowhere() {
    const t = $('#tray .tray-target');
    t.classList.remove('pulse');
    void t.offsetWidth;
    t.classList.add('pulse');
  }

  keys() {
    addEventListener('keydown', e => {
      if (typing(e) || e.ctrlKey || e.metaKey || this.app.stageName !== 'paint') return;
      const key = e.key.toLowerCase();
      if (key === 'b' && !e.repeat) this.take('brush');
      if (key === 'e' && !e.repeat) this.take('erase');
      if (key === 'l' && !e.repeat) this.take('fill');
      if (key === 't' && !e.repeat) this.take('stamp');
      if (key === 'r' && !e.repeat) this.take('work');
      if (key === 'p' && !e.repeat && this.paints() && this.pointed) this.pick(this.pointed.at(this.pointed.x, this.pointed.y));
      if (e.key === '[') this.scale(1 / 1.15);
      if (e.key === ']') this.scale(1.15);
      if (e.key === '{' || e.key === '}') this.change('hardness', Math.min(1, Math.max(0, this.set.brush.hardness + (e.key === '{' ? -0.1 : 0.1))));
      if (key === 'b' || key === 'e') this.heldKey = true;
      if (key >= '1' && key <= '9' && !e.shiftKey) this.digit = Number(key);
      if (e.key === 'Escape' && !this.drop() && !this.app.picking && this.tool !== 'orbit' && !document.querySelector(':popover-open')) this.take('orbit');
    });
    addEventListener('keyup', e => {
      if (['b', 'e'].includes(e.key.toLowerCase())) this.heldKey = false;
      if (Number(e.key) === this.digit) this.digit = 0;
    });
    addEventListener('blur', () => { this.digit = 0; this.heldKey = false; });
    // The wheel changes the size while B or E is held.
    for (const c of [this.app.viewport.canvas, this.app.viewport.flatCanvas]) c.addEventListener('wheel', e => {
      if (!this.heldKey || !this.paints()) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      this.scale(e.deltaY < 0 ? 1.1 : 1 / 1.1);
    }, { passive: false, capture: true });
  }

  /** Takes the values of a place of the surface for the strokes to come. */
  async pick(hit) {
    if (!hit) return;
    try {
      const a = await call('GET', `${this.app.api}/at?set=${encodeURIComponent(hit.set)}&u=${hit.u - Math.floor(hit.u)}&v=${hit.v - Math.floor(hit.v)}`);
      if (!a) return;
      const two = x => Math.round(x * 255).toString(16).padStart(2, '0'), round = x => Number(x.toFixed(3));
      this.own({ colour: '#' + a.base.map(two).join(''), roughness: round(a.roughness), metallic: round(a.metallic) });
    } catch (e) {
      toast(e.message);
    }
  }

  /** Gives the strokes to come values of their own; null has them take the layer's. */
  own(values) {
    this.set.own = values;
    this.keep();
    if (this.tool === 'stamp') this.stamps.change({ own: values });
    this.render();
  }

  /** Changes a number of the brush. */
  change(name, v) {
    this.set.brush = { ...this.set.brush, [name]: Number(v.toPrecision(4)) };
    this.keep();
    this.render();
    this.again();
  }

  /** The ring that lies on the surface under the pointer, with its size beside it; null takes it away. */
  ring(hit, where) {
    const svg = $('#ring'), flat = $('#flat-ring'), v = this.app.viewport;
    svg.replaceChildren();
    flat.replaceChildren();
    const stamps = this.tool === 'stamp';
    this.stamps.ghost(stamps ? hit : null);
    for (const s of [svg, flat]) s.hidden = !hit || stamps;
    if (!hit || stamps) return;
    const size = this.metres(hit), r = size / 2, ok = !!this.target();
    if (this.tool === 'fill') return;
    const line = (points, cls) => {
      const p = document.createElementNS('http://www.w3.org/2000/svg', 'polygon');
      p.setAttribute('points', points.map(q => q.map(x => x.toFixed(1)).join(',')).join(' '));
      p.setAttribute('class', cls);
      return p;
    };
    const text = (x, y, words) => {
      const t = document.createElementNS('http://www.w3.org/2000/svg', 'text');
      t.setAttribute('x', x.toFixed(0));
      t.setAttribute('y', y.toFixed(0));
      t.textContent = words;
      return t;
    };
    const words = ok ? show(size, { unit: 'm' }, 3) : 'nothing to paint in';
    if (!$('#pane-model').hidden) {
      const box = svg.getBoundingClientRect(), hard = this.tool === 'work' ? this.set.work.hardness : this.set.brush.tip === 'round' ? this.set.brush.hardness : 1, rounds = [[r, 'rim'], ...(hard < 0.98 ? [[r * Math.max(0.04, hard), 'core']] : [])];
      let right = -Infinity, low = 0;
      for (const [radius, cls] of rounds) {
        const points = this.circle(hit, radius).map(p => v.screenOf(p)).map(([x, y]) => [x - box.left, y - box.top]);
        svg.append(line(points, cls + (where === 'model' ? '' : ' other')));
        for (const [x, y] of points) if (x > right) [right, low] = [x, y];
      }
      if (where === 'model') svg.append(text(right + 8, low + 4, words));
      if (this.tool === 'work' && this.set.work.kind === 'clone' && this.source) {
        const [x, y] = v.screenOf(this.source.slice(0, 3)).map((q, k) => q - (k ? box.top : box.left)), r = 7;
        svg.append(line([[x - r, y], [x + r, y]], 'rim'), line([[x, y - r], [x, y + r]], 'rim'));
      }
    }
    if (!$('#pane-flat').hidden && hit.set === v.flatSet) {
      const box = flat.getBoundingClientRect(), [x, y] = v.flatOf(hit.u, hit.v), k = 1 / this.perPx(hit, 'flat');
      const round = radius => Array.from({ length: 40 }, (_, i) => [x - box.left + radius * k * Math.cos(i * Math.PI / 20), y - box.top + radius * k * Math.sin(i * Math.PI / 20)]);
      flat.append(line(round(r), 'rim' + (where === 'flat' ? '' : ' other')));
      if (where === 'flat') flat.append(text(x - box.left + r * k + 8, y - box.top + 4, words));
    }
  }

  /** Points of a circle that lies on the surface round a place. */
  circle(hit, r) {
    const n = hit.normal, p = hit.place, pick = this.picker();
    const t = Math.abs(n[1]) < 0.9 ? [n[2], 0, -n[0]] : [0, -n[2], n[1]], long = Math.hypot(...t), a = t.map(x => x / long);
    const b = [n[1] * a[2] - n[2] * a[1], n[2] * a[0] - n[0] * a[2], n[0] * a[1] - n[1] * a[0]];
    return Array.from({ length: 48 }, (_, i) => {
      const c = Math.cos(i * Math.PI / 24) * r, s = Math.sin(i * Math.PI / 24) * r, q = p.map((x, k) => x + a[k] * c + b[k] * s);
      const down = pick.ray(...q.map((x, k) => x + n[k] * r), ...n.map(x => -x), 2 * r);
      return down ? down.place : q;
    });
  }

  /** Brings rack, tray and tally up to date with the document and the tool. */
  render() {
    this.tally.render();
    const tray = $('#tray'), open = this.tool !== 'orbit' && this.app.stageName === 'paint';
    tray.hidden = !open;
    if (!open) return;
    const to = this.target(), l = this.app.layer(), line = $('.tray-target', tray);
    const key = JSON.stringify([to?.layer.id, to?.layer.name, to?.clause.id, l?.id, l?.name, l?.group, this.tool]);
    if (key !== this.targetKey) {
      this.targetKey = key;
      line.replaceChildren();
      if (to) line.append(el('span.quiet', {}, { erase: 'erases on', stamp: 'stamps on', work: 'works on' }[this.tool] || 'paints on'), ' ', el('strong', {}, to.layer.name));
      else {
        const add = el('button.button.is-primary', { id: 'new-brushwork' }, icon('brush'), 'New brushwork'), here = el('button.button', { id: 'brush-here', title: 'A clause of its Where that is painted by hand' }, `In “${l?.name}”`);
        add.onclick = () => this.app.edit({ do: 'add', kind: 'brush', layer: this.app.chosen || '' });
        here.onclick = () => this.app.edit({ do: 'clause.add', layer: l.id, kind: 'brush' });
        line.append(el('p', {}, l && !l.group ? `“${l.name}” is not painted by hand yet.` : 'Choose a layer to paint on, or begin one.'), el('div.row', {}, add, l && !l.group ? here : null));
      }
    }
    this.values();
    const strokes = this.tool === 'brush' || this.tool === 'erase';
    $('#specimens').hidden = !strokes;
    $('#stamp-shapes').hidden = this.tool !== 'stamp';
    tray.classList.toggle('short', this.tool === 'fill' || this.tool === 'work');
    if (strokes) this.board();
    if (this.tool === 'stamp') this.stamps.gallery();
  }

  /** The values of the brush, built anew when one of them has changed. */
  values() {
    const s = this.set, b = s.brush, key = JSON.stringify([s, this.tool, this.target()?.layer.what.colour.hex, this.stamps.live?.number, !!this.source]);
    if (key === this.valuesKey) return;
    this.valuesKey = key;
    const box = $('#tray-values'), open = new Set([...box.querySelectorAll('details[open]')].map(d => d.dataset.group)), focus = document.activeElement?.dataset?.key;
    const put = (k, v) => { Object.assign(this.set, { [k]: v }); this.keep(); this.render(); this.again(); };
    const unit = { model: ['metres', 'm', 1e-4, 10], screen: ['px', 'px', 1, 600], texels: ['texels', 'px', 1, 1024] }[s.by];
    const size = value({ name: 'size', label: 'size', value: s[unit[0]] || this.metres({}), min: unit[2], max: unit[3], default: unit[0] === 'metres' ? (this.app.viewport.size || 1) / 40 : unit[0] === 'px' ? 48 : 24, unit: unit[1], log: true, figures: 3, live: v => { this.set[unit[0]] = v; this.again(); }, commit: v => put(unit[0], v) });
    const by = el('select.compact', { 'aria-label': 'Size is measured', title: 'How the size is measured' }, ...[['model', 'on the model'], ['screen', 'on screen'], ['texels', 'in texels']].map(([v, w]) => el('option', { value: v, selected: v === s.by }, w)));
    by.onchange = () => put('by', by.value);
    const tells = { hardness: 'hard', grain: 'grain' }, tip0 = this.app.tables.tips.find(t => t.name === b.tip);
    const counts = p => !tells[p.name] || tip0?.[tells[p.name]]; // numbers that do nothing for the tip are left out
    const number = p => value({ ...p, name: p.name, value: b[p.name], figures: 2, commit: v => this.change(p.name, v) });
    const all = this.app.tables.brushParams, first = ['hardness', 'flow', 'opacity', 'spacing'];
    const group = (name, words, ...more) => {
      const d = el('details', { 'data-group': name, open: open.has(name) }, el('summary', {}, words), el('div.tray-grid', {}, ...all.filter(p => p.group === name && !first.includes(p.name) && counts(p)).map(number)), ...more);
      return d;
    };
    const tick = (words, on, set, title = '') => { const i = el('input', { type: 'checkbox', checked: on }); i.onchange = () => set(i.checked); return el('label.tick', { title }, i, words); };
    const tip = el('select.compact', { 'aria-label': 'Tip' }, ...this.app.tables.tips.filter(t => t.name !== 'picture' || b.alpha).map(t => el('option', { value: t.name, selected: t.name === b.tip }, t.label)));
    tip.onchange = () => { const { alpha, ...rest } = this.set.brush; put('brush', tip.value === 'picture' ? { ...rest, alpha, tip: 'picture' } : { ...rest, tip: tip.value }); };
    const stand = el('select.compact', { 'aria-label': 'Pressure without a pen' }, ...STAND_INS.map(([v, w]) => el('option', { value: v, selected: v === s.standIn }, w)));
    stand.onchange = () => put('standIn', stand.value);
    const l = this.target()?.layer, hex = s.own?.colour || l?.what.colour.on && l.what.colour.hex || '#d8d2c4';
    const colour = el('input', { type: 'color', value: hex, 'aria-label': 'Colour of the strokes', title: s.own ? 'Strokes have a colour of their own' : 'Strokes have the layer’s colour; choose one of their own', 'data-own': '' });
    colour.onchange = () => this.own({ ...s.own, colour: colour.value });
    const pick = el('button.plain', { title: 'Take colour, roughness and metal from the model (P over it)', 'aria-label': 'Take values from the model', 'data-pick-surface': '' }, icon('color-picker'));
    pick.onclick = () => this.app.pickFromModel({ clause: 'surface', words: 'Click where the values are to be taken from; Escape ends it.', at: async h => { this.app.pickFromModel(this.app.picking); await this.pick(h); } });
    const layers = el('button.plain', { title: 'Have them take the layer’s values again', 'aria-label': 'The layer’s values', 'data-own-none': '', hidden: !s.own }, icon('x'));
    layers.onclick = () => this.own(null);
    const ownWords = s.own ? [s.own.colour, s.own.roughness !== undefined ? `rough ${s.own.roughness}` : '', s.own.metallic ? `metal ${s.own.metallic}` : ''].filter(Boolean).join(' · ') : 'the layer’s values';
    if (this.tool === 'stamp') {
      const at = box.querySelector('#stamp-words');
      if (at && at === document.activeElement && this.set.stamp.tip === 'text') { this.valuesKey = ''; return; } // it is being typed in
      this.stamps.values(box, el('div.tray-own', {}, colour, el('span.quiet', {}, ownWords), layers, pick));
      this.stamps.measure(this.stamps.live?.stroke);
      if (focus) box.querySelector(`[data-key="${focus}"]`)?.focus({ preventScroll: true });
      return;
    }
    const fill = el('select.compact', { 'aria-label': 'Fills' }, ...[['part', 'the part'], ['set', 'the set'], ['island', 'the UV island'], ['id', 'the ID colour'], ['joined', 'faces that are joined'], ['all', 'everything']].map(([v, w]) => el('option', { value: v, selected: v === s.fill }, w)));
    fill.onchange = () => put('fill', fill.value);
    const mirror = m => put('mirror', { ...this.set.mirror, ...m }), hold = h => put('hold', { ...this.set.hold, ...h });
    if (this.tool === 'fill') {
      return box.replaceChildren(el('label.tray-line', {}, 'fills', fill), el('div.tray-own', {}, colour, el('span.quiet', {}, ownWords), layers, pick), number(all.find(p => p.name === 'opacity')));
    }
    if (this.tool === 'work') {
      const w = s.work, kinds = el('div.segments', { role: 'group', 'aria-label': 'What it does' }, ...WORKS.map(([k, words, title]) => el('button', { 'data-value': k, title }, words)));
      choose(kinds, w.kind);
      for (const k of kinds.children) k.onclick = () => put('work', { ...w, kind: k.dataset.value });
      const own = (name, label) => value({ name, label, value: w[name], min: name === 'hardness' ? 0 : 0.01, max: 1, default: name === 'hardness' ? 0.3 : 1, figures: 2, commit: x => put('work', { ...this.set.work, [name]: x }) });
      const help = { soften: 'Takes the mean of what was painted round each place. Pass over it again for more.', smudge: 'Pulls what was painted along.', clone: this.source ? 'Lays down what was painted round the cross. Shift+click puts the cross elsewhere.' : 'Click where it is to be taken from.' }[w.kind];
      return box.replaceChildren(kinds, el('div.tray-size', {}, size, by), el('div.tray-grid', {}, own('hardness', 'hardness'), w.kind === 'clone' ? null : own('flow', 'strength'), w.kind === 'soften' ? null : own('opacity', 'opacity')), el('p.quiet', { id: 'work-help' }, help));
    }
    box.replaceChildren(
      this.shelf(),
      el('div.tray-size', {}, size, by),
      el('div.tray-own', {}, colour, el('span.quiet', {}, ownWords), layers, pick),
      el('div.tray-grid', {}, ...first.map(n => all.find(p => p.name === n)).filter(counts).map(number)),
      group('shape', 'Shape', el('label.tray-line', {}, 'tip', tip)),
      group('laying', 'Scatter'),
      group('chance', 'By chance'),
      el('details', { 'data-group': 'pressure', open: open.has('pressure') }, el('summary', {}, 'Pressure and tilt'),
        ...['Size', 'Flow', 'Hard'].filter(k => k !== 'Hard' || tip0?.hard).map(k => this.pressed(k, all)),
        el('label.tray-line', {}, 'without a pen', stand),
        number(all.find(p => p.name === 'tiltLong'))),
      el('details', { 'data-group': 'stencil', open: open.has('stencil') }, el('summary', {}, 'Stencil'), ...this.stencil.values()),
      el('details', { 'data-group': 'hand', open: open.has('hand') }, el('summary', {}, 'Steady, mirror, hold'),
        value({ name: 'steady', label: 'steady', value: s.steady, min: 0, max: 1, default: 0, figures: 2, commit: v => put('steady', v) }),
        el('div.tray-ticks', {}, el('span.quiet', {}, 'mirror'), ...['x', 'y', 'z'].map(a => tick(a.toUpperCase(), s.mirror[a], on => mirror({ [a]: on })))),
        value({ name: 'turns', label: 'all round', value: s.mirror.turns, min: 1, max: 64, default: 1, whole: true, commit: v => mirror({ turns: v }) }),
        el('div.tray-ticks', {}, el('span.quiet', {}, 'only'), tick('this part', s.hold.part, part => hold({ part }), 'the part that the stroke begins on'), tick('this set', s.hold.set, set => hold({ set }))),
        el('div.tray-ticks', {}, tick('this island', s.hold.island, island => hold({ island }), 'the UV island that the stroke begins on'), tick('this ID', s.hold.id, id => hold({ id }), 'the colour of the baked ID map that the stroke begins on')),
        el('div.tray-ticks', {}, tick('front', s.hold.front, front => hold({ front }), 'what faces the eye'), tick('what is seen', s.hold.seen, seen => hold({ seen }), 'what has nothing before it from here')),
        value({ name: 'angle', label: 'within', value: s.hold.angle, min: 0, max: 180, default: 0, unit: '°', zero: 'any', whole: true, commit: angle => hold({ angle }) })));
    if (focus) box.querySelector(`[data-key="${focus}"]`)?.focus({ preventScroll: true });
  }

  /** What pressure does to a number of the brush: a switch, how much of it light pressure takes away, and along which curve. */
  pressed(what, all) {
    const b = this.set.brush, name = `press${what}`, along = `curve${what}`, p = all.find(p => p.name === name), was = this.pressedBefore ||= {}, on = b[name] > 0;
    if (on) was[name] = b[name];
    const tick = el('input', { type: 'checkbox', checked: on, 'data-key': `${name}-on` });
    tick.onchange = () => this.change(name, tick.checked ? was[name] || 1 : 0);
    return el('div.tray-press', {}, el('label.tick', { title: `Whether pressure tells on the ${p.label}` }, tick, p.label),
      value({ ...p, label: `pressure on ${p.label}`, value: b[name], figures: 2, zero: 'off', commit: v => this.change(name, v) }),
      curve({ ...all.find(p => p.name === along), value: b[along], off: !on, commit: v => this.change(along, v) }));
  }

  /** The specimens: a real stroke of each brush, people's own first. */
  board() {
    const box = $('#specimens'), l = this.target()?.layer || this.app.layer(), hex = this.set.own?.colour || l?.what.colour.on && l.what.colour.hex || '#d8d2c4';
    if (!this.boarded) {
      this.boarded = true;
      box.replaceChildren(...this.app.tables.brushes.map(b => this.specimen(b, false)));
      this.listOwn();
    }
    this.tally.ground(hex);
    if (hex !== this.hex) {
      this.hex = hex;
      for (const c of box.querySelectorAll('canvas')) this.ink(c);
    }
    for (const k of box.querySelectorAll('[data-brush]')) { const on = k.dataset.brush === this.set.brush.name; k.parentElement.classList.toggle('on', on); k.setAttribute('aria-pressed', on); }
  }

  /** The strip of a brush. */
  specimen(b, own) {
    const c = el('canvas', { width: 236, height: 44, 'aria-hidden': 'true' }), k = el('button', { 'data-brush': b.name, title: b.name }, c, el('span', {}, b.name)), row = el(own ? 'div.specimen.own' : 'div.specimen', {}, k);
    k.onclick = () => { this.set.brush = { ...b }; this.keep(); this.render(); this.again(); };
    if (own) {
      const url = `/api/brushes/${encodeURIComponent(b.name)}`;
      const file = el('a.plain', { href: url, download: `${b.name}.brush.json`, title: 'Save it as a file', 'aria-label': `Save ${b.name} as a file` }, icon('download'));
      const gone = el('button.plain', { title: 'Delete it; strokes made with it stay', 'aria-label': `Delete ${b.name}`, 'data-gone': b.name }, icon('trash'));
      gone.onclick = async () => { try { await call('DELETE', url); await this.listOwn(); } catch (e) { toast(e.message); } };
      row.append(file, gone);
    }
    call('GET', `/api/specimen?brush=${encodeURIComponent(JSON.stringify(b))}`).then(px => { c.cover = new Uint8Array(px); this.ink(c); }, () => {});
    return row;
  }

  /** Fetches people's own brushes. */
  async listOwn() {
    try {
      const own = await call('GET', '/api/brushes'), box = $('#specimens');
      for (const k of box.querySelectorAll('.own')) k.remove();
      box.prepend(...own.map(b => this.specimen(b, true)));
      this.board();
    } catch (e) {
      toast(e.message);
    }
  }

  /** What is done with brushes as a whole: a picture as the tip, keeping the one in hand, bringing one in. */
  shelf() {
    const name = el('input.field-text', { placeholder: 'name of the brush in hand', 'aria-label': 'Name to keep the brush under', maxLength: 60, 'data-brush-name': '' });
    const own = this.app.tables.brushes.some(b => b.name === this.set.brush.name) ? '' : this.set.brush.name;
    name.value = own;
    const save = async () => {
      if (!name.value.trim()) return;
      try {
        const b = { ...this.set.brush, name: name.value.trim() };
        await call('POST', '/api/brushes?save=1', b);
        this.set.brush = b;
        this.keep();
        await this.listOwn();
        this.render();
      } catch (e) {
        toast(e.message);
      }
    };
    name.onkeydown = e => { e.stopPropagation(); if (e.key === 'Enter') save(); };
    const keep = el('button.button', { title: 'Keep the brush in hand under this name', 'data-brush-keep': '' }, 'Keep');
    keep.onclick = save;
    const file = (title, accept, icon_, sel, then) => {
      const input = el('input', { type: 'file', accept, hidden: true, [sel]: '' }), b = el('button.plain', { title, 'aria-label': title }, icon(icon_));
      b.onclick = () => input.click();
      input.onchange = async () => { try { if (input.files[0]) await then(input.files[0]); } catch (e) { toast(e.message); } input.value = ''; };
      return [b, input];
    };
    return el('div.tray-shelf', {}, name, keep,
      ...file('A picture as the tip: its opacity, or how light it is', 'image/*,.tga,.exr,.tif,.tiff', 'photo', 'data-brush-picture', async f => {
        const form = new FormData();
        form.append('files', f, f.name);
        const a = await call('POST', '/api/alphas', form);
        this.set.brush = { ...this.set.brush, name: f.name.replace(/\.[^.]*$/, '').slice(0, 40) || 'Picture', tip: 'picture', alpha: a.alpha };
        this.keep();
        this.render();
      }),
      ...file('Bring a brush in from its file', '.json', 'upload', 'data-brush-file', async f => {
        const a = await call('POST', '/api/brushes', f);
        await this.listOwn();
        const b = (await call('GET', '/api/brushes')).find(k => k.name === a.name);
        if (b) { this.set.brush = b; this.keep(); this.render(); }
      }));
  }

  /** Draws a specimen in the layer's colour. */
  ink(c) {
    if (!c.cover) return;
    const g = c.getContext('2d'), im = g.createImageData(c.width, c.height), n = parseInt(this.hex.slice(1), 16);
    for (let i = 0; i < c.cover.length; i++) im.data.set([n >> 16, n >> 8 & 255, n & 255, c.cover[i]], 4 * i);
    g.putImageData(im, 0, 0);
  }
}
