// A stencil: a picture that lies over the view, through which strokes are laid. It is moved, turned and scaled by its handles.
import { $, el, icon, toast } from './dom.js';
import { call } from './api.js';

const NEW = { alpha: '', name: '', on: false, repeat: false, invert: false, x: 0, y: 0, size: 0.4, turn: 0 };

export class StencilView {
  constructor(app, brushwork) {
    this.app = app;
    this.brushwork = brushwork;
    this.set = brushwork.set.stencil = { ...NEW, ...brushwork.set.stencil };
    this.svg = $('#stencil-live');
    this.svg.addEventListener('pointerdown', e => this.grab(e));
    new ResizeObserver(() => this.draw()).observe(this.svg.parentElement);
  }

  /** Whether strokes are laid through it now. */
  on() { return this.set.on && this.set.alpha && ['brush', 'erase'].includes(this.brushwork.tool) && this.app.stageName === 'paint' && !$('#pane-model').hidden; }

  /** Where it lies on the pane, in px: its middle and half its side. */
  box() {
    const b = $('#pane-model').getBoundingClientRect(), s = this.set;
    return { wide: b.width, high: b.height, x: b.width * (0.5 + s.x), y: b.height * (0.5 + s.y), half: Math.max(4, b.height * s.size / 2) };
  }

  /** What a stroke needs of it: how it lies over the view now. */
  bound(stroke, where) {
    if (!this.on() || where !== 'model') return;
    const s = this.set, b = this.box(), cam = this.app.viewport.camera;
    cam.updateMatrixWorld();
    const m = cam.projectionMatrix.clone().multiply(cam.matrixWorldInverse).elements, row = k => [m[k], m[k + 4], m[k + 8], m[k + 12]];
    const X = row(0), Y = row(1), W = row(3);
    // Px to the right of its middle, and up from it, times w.
    const dx = X.map((v, k) => b.wide / 2 * v + (b.wide / 2 - b.x) * W[k]), dy = Y.map((v, k) => b.high / 2 * v + (b.y - b.high / 2) * W[k]);
    const a = s.turn * Math.PI / 180, cos = Math.cos(a) / b.half, sin = Math.sin(a) / b.half;
    stroke.stencil = { alpha: s.alpha, repeat: s.repeat, invert: s.invert, through: [...dx.map((v, k) => v * cos + dy[k] * sin), ...dy.map((v, k) => v * cos - dx[k] * sin), ...W] };
  }

  change(values) {
    Object.assign(this.set, values);
    this.brushwork.keep();
    this.draw();
    this.brushwork.render();
  }

  /** Draws it over the view, with its handles. */
  async draw() {
    const svg = this.svg, on = this.on();
    svg.toggleAttribute('hidden', !on);
    if (!on) return svg.replaceChildren();
    const picture = await this.picture();
    if (!this.on() || !picture) return;
    const b = this.box(), s = this.set, made = (tag, props, to = svg) => { const e = document.createElementNS('http://www.w3.org/2000/svg', tag); for (const [k, v] of Object.entries(props)) e.setAttribute(k, v); to.append(e); return e; };
    svg.replaceChildren();
    const turn = `rotate(${-s.turn} ${b.x} ${b.y})`, x = b.x - b.half, y = b.y - b.half, side = 2 * b.half;
    if (s.repeat) {
      const p = made('pattern', { id: 'stencil-tile', patternUnits: 'userSpaceOnUse', x, y, width: side, height: side, patternTransform: turn }, made('defs', {}));
      made('image', { href: picture, x: 0, y: 0, width: side, height: side, preserveAspectRatio: 'none' }, p);
      made('rect', { x: 0, y: 0, width: b.wide, height: b.high, fill: 'url(#stencil-tile)', class: 'sheet' });
    } else {
      made('image', { href: picture, x, y, width: side, height: side, preserveAspectRatio: 'none', transform: turn, class: 'sheet' });
    }
    made('rect', { x, y, width: side, height: side, transform: turn, class: 'frame' });
    const a = s.turn * Math.PI / 180, at = (u, v) => [b.x + (u * Math.cos(a) - v * Math.sin(a)) * b.half, b.y - (u * Math.sin(a) + v * Math.cos(a)) * b.half];
    const knob = (what, [cx, cy], title) => { const k = made('circle', { cx, cy, r: 6, class: 'knob', 'data-knob': what }); made('title', {}, k).textContent = title; };
    const top = at(0, 1), far = at(0, 1 + 22 / b.half);
    made('line', { x1: top[0], y1: top[1], x2: far[0], y2: far[1], class: 'row' });
    knob('move', [b.x, b.y], 'Drag to move the stencil');
    knob('turn', far, 'Drag to turn the stencil; with Shift by 15°');
    knob('scale', at(1, 1), 'Drag to scale the stencil');
  }

  /** Its picture as an image: what it holds back is dark. */
  async picture() {
    const key = `${this.set.alpha} ${this.set.invert}`;
    if (this.key !== key) {
      try {
        const a = await call('GET', `/api/alphas/${this.set.alpha}`), c = el('canvas', { width: a.side, height: a.side }), g = c.getContext('2d'), im = g.createImageData(a.side, a.side), grey = Uint8Array.from(atob(a.grey), k => k.charCodeAt(0));
        for (let i = 0; i < grey.length; i++) im.data[4 * i + 3] = this.set.invert ? grey[i] : 255 - grey[i];
        g.putImageData(im, 0, 0);
        this.key = key;
        this.url = c.toDataURL();
      } catch (e) {
        toast(e.message);
        this.set.on = false;
        return '';
      }
    }
    return this.url;
  }

  grab(e) {
    const knob = e.target.dataset.knob;
    if (!knob || e.button) return;
    e.stopPropagation();
    e.preventDefault();
    const pane = $('#pane-model').getBoundingClientRect(), b = this.box(), s0 = { ...this.set }, far = m => Math.hypot(m.clientX - pane.left - b.x, m.clientY - pane.top - b.y), angle = m => Math.atan2(pane.top + b.y - m.clientY, m.clientX - pane.left - b.x) * 180 / Math.PI;
    const began = { far: far(e), angle: angle(e) };
    this.svg.setPointerCapture(e.pointerId);
    const move = m => {
      if (knob === 'move') Object.assign(this.set, { x: s0.x + (m.clientX - e.clientX) / b.wide, y: s0.y + (m.clientY - e.clientY) / b.high });
      if (knob === 'scale') this.set.size = Math.min(8, Math.max(0.02, s0.size * far(m) / Math.max(1, began.far)));
      if (knob === 'turn') {
        const t = s0.turn + angle(m) - began.angle;
        this.set.turn = ((m.shiftKey ? Math.round(t / 15) * 15 : t) + 540) % 360 - 180;
      }
      this.draw();
    };
    const up = () => {
      this.svg.removeEventListener('pointermove', move);
      this.svg.removeEventListener('pointerup', up);
      this.svg.removeEventListener('pointercancel', up);
      this.brushwork.keep();
    };
    this.svg.addEventListener('pointermove', move);
    this.svg.addEventListener('pointerup', up);
    this.svg.addEventListener('pointercancel', up);
  }

  /** Its part of the tray. */
  values() {
    const s = this.set, input = el('input', { type: 'file', accept: 'image/*,.tga,.exr,.tif,.tiff', hidden: true, 'data-stencil-picture': '' }), pick = el('button.button', { title: 'A picture: its opacity, or how light it is, lets through' }, icon('photo'), s.name || 'Picture…');
    pick.onclick = () => input.click();
    input.onchange = async () => {
      const f = input.files[0], form = new FormData();
      if (!f) return;
      form.append('files', f, f.name);
      try { const a = await call('POST', '/api/alphas', form); this.change({ alpha: a.alpha, name: f.name.replace(/\.[^.]*$/, '').slice(0, 24), on: true }); } catch (e) { toast(e.message); }
      input.value = '';
    };
    const tick = (name, words, title = '') => { const i = el('input', { type: 'checkbox', checked: s[name], disabled: !s.alpha, 'data-key': `stencil-${name}` }); i.onchange = () => this.change({ [name]: i.checked }); return el('label.tick', { title }, i, words); };
    return [el('div.tray-ticks', {}, pick, input), el('div.tray-ticks', {}, tick('on', 'over the view', 'Strokes on the model are laid through it'), tick('repeat', 'repeated'), tick('invert', 'inverted'))];
  }
}
