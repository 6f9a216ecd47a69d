// Light and frame: what lights the model, the views that pictures are made of, and stills.
import { $, choose, complain, el, icon } from './dom.js';
import { upload } from './api.js';
import { value } from './values.js';

/** Kinds of lamps with what a fresh one is like; sizes are shares of the model's. */
const LAMPS = {
  point: { words: 'Point', strength: 800, wide: 0.02, high: 0 },
  spot: { words: 'Spot', strength: 1500, wide: 0.02, high: 0, cone: 30, soft: 0.3 },
  area: { words: 'Area', strength: 2000, wide: 0.4, high: 0.4 },
  sun: { words: 'Sun', strength: 3000, wide: 0, high: 0 },
};

/** Proportions that frames are offered in. */
const PROPORTIONS = [['3:2', 3, 2], ['4:3', 4, 3], ['1:1', 1, 1], ['16:9', 16, 9], ['9:16', 9, 16], ['2:3', 2, 3]];

export class Lighting {
  constructor(app) {
    this.app = app;
    this.tab = 'light';
    this.lamp = -1; // the lamp that is worked on
    this.frame = ''; // the frame that is looked through
    this.wanted = { size: 1280, over: 1, samples: 128, clear: false, frames: [], channels: [], states: [], sheet: false, turns: 0 };
    this.beside = ''; // the frame that is seen beside the view
    for (const b of ['#light-open', '#light-open2']) $(b).onclick = () => this.open(!this.shown);
    const v = app.viewport;
    v.rim = box => {
      $('#frame-rim').hidden = !box;
      if (box) for (const [k, x] of Object.entries(box)) $('#frame-rim').style[k] = `${x}px`;
    };
    v.left = () => { this.frame = ''; this.render(true); };
    v.glint = e => this.dragGlint(e);
    // What frames see follows the view, as often as the machine keeps up.
    setInterval(() => this.strip(), v.software ? 2500 : 500);
    new ResizeObserver(() => this.pane()).observe($('#pane-frame'));
    $('#frame-away').onclick = () => { this.beside = ''; this.pane(); this.render(true); };
    for (const b of $('#light-tabs').children) b.onclick = () => { this.tab = b.dataset.value; this.drawnAt = -1; this.render(true); this.handle(); };
    $('#still-large').onclick = () => { $('#still-large').hidden = true; };
    addEventListener('keydown', e => { if (e.key === 'Escape') $('#still-large').hidden = true; });
  }

  get setup() { return this.app.doc.look; }

  open(on) {
    this.shown = on;
    $('#light-tray').hidden = !on;
    for (const id of ['#light-open', '#light-open2']) {
      $(id).classList.toggle('on', on);
      $(id).setAttribute('aria-pressed', on);
    }
    if (on && this.app.brushwork.tool !== 'orbit') this.app.brushwork.take('orbit');
    this.drawnAt = -1;
    this.render(true);
    this.handle();
  }

  /** Draws the frames' pictures when the view has changed. */
  strip() {
    const v = this.app.viewport, strip = this.shown && this.tab === 'frames', beside = this.seenBeside();
    if (!strip && !beside || document.hidden || !v.sets.size || v.frames === this.drawnAt || v.high || v.paired || v.over || v.waiting) return;
    this.drawnAt = v.frames;
    if (strip) v.strip(this.setup.frames, f => document.querySelector(`[data-strip="${CSS.escape(f.name)}"]`));
    if (beside) v.strip([beside], () => $('#frame-view'));
  }

  /** The frame that is seen beside the view, if that can be. */
  seenBeside() { return ['paint', 'deliver'].includes(this.app.stageName) && !this.app.viewport.paired && this.setup?.frames.find(f => f.name === this.beside); }

  /** Makes room for the frame that is seen beside the view, as large as its pane holds it. */
  pane() {
    const f = this.seenBeside(), pane = $('#pane-frame'), c = $('#frame-view');
    if (pane.hidden === !!f) {
      pane.hidden = !f;
      this.app.applyLayout();
    }
    if (!f) return;
    const box = pane.getBoundingClientRect(), k = Math.min(2, devicePixelRatio), wide = Math.min(box.width - 24, (box.height - 60) * f.wide / f.high);
    const w = Math.max(16, Math.round(wide * k)), h = Math.max(16, Math.round(wide * f.high / f.wide * k));
    if (c.width !== w || c.height !== h) { c.width = w; c.height = h; c.style.width = `${w / k}px`; c.style.height = `${h / k}px`; this.drawnAt = -1; }
    $('#frame-words').textContent = f.name;
  }

  /** While its glint is dragged the pointer on the model says where the lamp stands. */
  dragGlint(e) {
    if (!this.glinting || !this.shown || e.button || !this.glintAt(e, false)) return false;
    e.stopImmediatePropagation();
    const c = this.app.viewport.canvas;
    let last = e;
    c.setPointerCapture(e.pointerId);
    this.app.viewport.grabbed = true;
    setTimeout(() => { this.app.viewport.grabbed = false; }, 0);
    const move = m => { if (this.glintAt(m, false)) last = m; };
    c.addEventListener('pointermove', move);
    c.addEventListener('pointerup', () => { c.removeEventListener('pointermove', move); this.glintAt(last, true); }, { once: true });
    return true;
  }

  /** The surroundings that light the model; own ones stand for about an overcast sky. */
  of() { return this.app.tables.surroundings.find(k => k.name === this.setup.sky) || { nits: 1400 }; }

  /** Takes the setup of a new document. */
  take() {
    const key = JSON.stringify(this.setup);
    if (key === this.taken) return;
    this.taken = key;
    this.app.viewport.lightBy(this.setup, this.app.tables.surroundings);
    if (this.frame && !this.setup.frames.some(f => f.name === this.frame)) this.look('');
    else if (this.frame) this.through();
    this.render(true);
    this.handle();
    this.drawnAt = -1;
    this.pane();
  }

  set(path, v) { return this.app.edit({ do: 'look', path, value: v }); }

  /** Shows a change while a control is dragged. */
  try(change) {
    const s = structuredClone(this.setup);
    change(s);
    this.app.viewport.lightBy(s, this.app.tables.surroundings);
  }

  number(name, label, path, o) {
    const at = path.split('.').reduce((x, k) => x[k], this.setup);
    return value({ name, label, value: at, figures: 3, ...o, live: v => this.try(s => put(s, path, v)), commit: v => this.set(path, v) });
  }

  render(anew) {
    if (!this.shown || !this.setup) return;
    choose($('#light-tabs'), this.tab);
    const box = $('#light-body');
    if (!anew && box.contains(document.activeElement)) return;
    const focus = box.contains(document.activeElement) && document.activeElement.dataset.key, top = box.scrollTop;
    box.replaceChildren(...this[this.tab]().filter(Boolean));
    if (focus) box.querySelector(`[data-key="${focus}"]`)?.focus({ preventScroll: true });
    box.scrollTop = top;
  }

  light() {
    const s = this.setup, b = s.backdrop, of = this.of();
    const ev = Math.log2(of.nits / (1.2 * 1.15)) - s.exposure;
    const skies = el('div.skies', { role: 'group', 'aria-label': 'Surroundings' }, ...this.app.tables.surroundings.map(k => {
      const button = el('button', { 'data-sky': k.name, title: k.help, 'aria-pressed': k.name === s.sky }, el('img', { src: `/api/surroundings/${k.name}/picture`, alt: '', draggable: false }), el('span', {}, k.label));
      button.classList.toggle('on', k.name === s.sky);
      button.onclick = () => this.set('sky', k.name);
      return button;
    }));
    const file = el('input', { type: 'file', id: 'sky-file', accept: '.hdr,.exr', hidden: true }), own = el('button.button', { id: 'sky-own', title: 'Light the model by a panorama of your own: .hdr or .exr' }, s.sky.startsWith('picture:') ? `Own: ${this.app.state.pictures.find(p => p.mark === s.sky.slice(8))?.name || 'gone'}` : 'Own panorama…');
    own.classList.toggle('on', s.sky.startsWith('picture:'));
    own.onclick = () => file.click();
    file.onchange = () => { if (file.files.length) this.bring([...file.files]); };
    const kinds = el('div.segments', { role: 'group', 'aria-label': 'Backdrop' }, ...[['colour', 'Colour'], ['surroundings', 'Surroundings']].map(([v, words]) => {
      const button = el('button', { 'data-value': v }, words);
      button.onclick = () => this.set('backdrop.kind', v);
      return button;
    }));
    choose(kinds, b.kind);
    const colour = el('input', { type: 'color', value: b.hex, 'aria-label': 'Colour of the backdrop' });
    colour.oninput = () => this.try(k => { k.backdrop.hex = colour.value; });
    colour.onchange = () => this.set('backdrop.hex', colour.value);
    return [
      skies, el('div.row', {}, own, file), el('p.complaint', { id: 'sky-complaint', role: 'alert', hidden: true }),
      el('div.tray-grid', {}, this.number('sky-turn', 'turn', 'turn', { min: -180, max: 180, default: 0, unit: '°', whole: true }), this.number('sky-strength', 'strength', 'strength', { min: 0, max: 4, default: 1 }),
        this.number('exposure', 'exposure', 'exposure', { min: -6, max: 6, default: 0 }), el('span.quiet.figure.ev', { title: 'Exposure value at ISO 100' }, `EV ${ev.toFixed(1)}`)),
      el('h3', {}, 'Backdrop'), kinds,
      b.kind === 'colour' ? el('div.tray-own', {}, colour, el('span.figure.quiet', {}, b.hex)) : el('div.tray-grid', {}, this.number('backdrop-blur', 'blur', 'backdrop.blur', { min: 0, max: 1, default: 0.5 }), this.number('backdrop-dim', 'bright', 'backdrop.dim', { min: 0, max: 4, default: 1 })),
      tick('shadow on the ground', b.ground, on => this.set('backdrop.ground', on)),
      el('h3', {}, 'Lamps'), this.lampList(), this.lampValues(),
      el('h3', {}, 'Surface'),
      el('div.tray-grid', {}, this.number('surface-shape', 'height', 'surface.shape', { min: 0, max: 20, default: 1, unit: '×', title: 'So many times as high as it is the height moves the surface in stills; in the view, the button Shape does' }), this.number('surface-cut', 'cut at', 'surface.cut', { min: 0, max: 1, default: 0.5, zero: 'fades' }),
        this.number('surface-glow', 'light', 'surface.glow', { min: 0, max: 50, default: 1, unit: '×', title: 'How bright what is emissive shines' }), this.number('surface-halo', 'halo', 'surface.halo', { min: 0, max: 1, default: 0.3, zero: 'off', title: 'How much of its light spreads round it' })),
      tick('seen from both sides', !!s.surface.both, on => this.set('surface.both', on)),
    ];
  }

  /** Takes a panorama in, and lights the model by it. */
  async bring(files) {
    complain($('#sky-complaint'), '');
    try {
      const { pictures } = await upload(`${this.app.api}/pictures`, files);
      if (pictures.length) await this.set('sky', `picture:${pictures[0].mark}`);
    } catch (e) {
      complain($('#sky-complaint'), e.message);
    }
  }

  lampList() {
    const lamps = this.setup.lamps;
    const add = el('div.segments.lamp-add', { role: 'group', 'aria-label': 'Put up a lamp' }, ...Object.entries(LAMPS).map(([kind, k]) => {
      const b = el('button', { 'data-lamp': kind, title: `Put up a lamp: ${k.words.toLowerCase()}` }, `+ ${k.words}`);
      b.onclick = () => this.putUp(kind);
      return b;
    }));
    return el('div', {}, el('ul.lamps', {}, ...lamps.map((l, i) => {
      const name = el('button.plain.lamp-name', { 'data-at': i, 'aria-pressed': i === this.lamp }, l.name || LAMPS[l.kind].words);
      name.onclick = () => { this.lamp = this.lamp === i ? -1 : i; this.render(true); this.handle(); };
      const eye = el('button.plain', { title: l.off ? 'Light it' : 'Put it out', 'aria-label': `${l.off ? 'Light' : 'Put out'} ${l.name}` }, icon(l.off ? 'eye-off' : 'eye'));
      eye.onclick = () => this.change(i, { off: !l.off });
      const gone = el('button.plain', { title: 'Take it away', 'aria-label': `Take ${l.name} away` }, icon('trash'));
      gone.onclick = () => { this.lamp = -1; this.set('lamps', lamps.toSpliced(i, 1)); };
      const row = el('li', {}, el('i', { style: `background:${warmth(l.kelvin)}` }), name, eye, gone);
      row.classList.toggle('on', i === this.lamp);
      return row;
    })), add);
  }

  /** Puts a lamp up beside the model, where it is seen. */
  putUp(kind) {
    const v = this.app.viewport, k = LAMPS[kind], lamps = this.setup.lamps, size = v.size || 1, mid = v.middle.toArray();
    const eye = v.camera.position.toArray(), way = eye.map((x, i) => x - mid[i]), right = [way[2], 0, -way[0]], long = Math.hypot(...right) || 1;
    const at = mid.map((m, i) => m - right[i] / long * size * 0.4 + way[i] / Math.hypot(...way) * size * 0.35 + (i === 1 ? size * 0.06 : 0));
    const words = `${k.words} ${1 + lamps.filter(l => l.kind === kind).length}`, unit = this.of().nits;
    // Strong enough to be seen beside the surroundings.
    const strength = kind === 'sun' ? 2 * unit : Number((unit * (kind === 'area' ? 2 : 4) * size * size).toPrecision(2));
    this.lamp = lamps.length;
    return this.set('lamps', [...lamps, { name: words, kind, at, aim: mid, kelvin: 4500, strength, wide: k.wide * size, high: k.high * size, cone: k.cone || 0, soft: k.soft || 0 }]);
  }

  change(i, change) { return this.set('lamps', this.setup.lamps.map((l, k) => k === i ? { ...l, ...change } : l)); }

  lampValues() {
    const i = this.lamp, l = this.setup.lamps[i];
    if (!l) return this.setup.lamps.length ? el('p.quiet', {}, 'Choose a lamp to change it, or drag it in the view.') : null;
    const number = (key, label, o) => value({ name: `lamp-${key}`, label, value: l[key], figures: 3, ...o, live: v => this.try(s => { s.lamps[i][key] = v; }), commit: v => this.change(i, { [key]: v }) });
    const name = el('input.field-text', { value: l.name, 'aria-label': 'Name of the lamp', maxLength: 80, spellcheck: false });
    name.onchange = () => this.change(i, { name: name.value.trim() });
    name.onkeydown = e => { e.stopPropagation(); if (e.key === 'Enter') name.blur(); };
    const glint = el('button.button', { id: 'lamp-glint', title: 'Drag on the model: the lamp stands where it is mirrored', 'aria-pressed': !!this.glinting }, 'Drag its glint');
    glint.classList.toggle('on', !!this.glinting);
    glint.onclick = () => { this.glinting = !this.glinting; this.render(true); };
    const disk = l.kind === 'area' ? tick('a disk', l.high === 0, on => this.change(i, { high: on ? 0 : l.wide })) : null;
    const size = this.app.viewport.size || 1;
    return el('div.lamp-values', {}, name, el('div.tray-grid', {},
      number('strength', l.kind === 'sun' ? 'lux' : 'lumens', { min: 0, max: l.kind === 'sun' ? 200000 : Math.max(2000, 400 * this.of().nits * size * size), default: LAMPS[l.kind].strength }),
      number('kelvin', 'kelvin', { min: 1000, max: 20000, default: 4500, log: true, unit: 'K', whole: true }),
      l.kind !== 'sun' ? number('wide', l.kind === 'area' ? 'wide' : 'ball', { min: l.kind === 'area' ? size * 0.01 : 0, max: size * 2, default: LAMPS[l.kind].wide * size, unit: 'm' }) : null,
      l.kind === 'area' && l.high > 0 ? number('high', 'high', { min: size * 0.01, max: size * 2, default: LAMPS.area.high * size, unit: 'm' }) : null,
      l.kind === 'spot' ? number('cone', 'cone', { min: 1, max: 90, default: 30, unit: '°' }) : null,
      l.kind === 'spot' ? number('soft', 'soft', { min: 0, max: 1, default: 0.3 }) : null), disk,
    el('div.row', {}, glint), this.unlikely(l) ? el('p.quiet', {}, this.unlikely(l)) : null);
  }

  /** What of a lamp no real one has. */
  unlikely(l) {
    if (l.kind === 'sun' && l.strength > 120000) return 'The sun gives no more than about 120,000 lux.';
    if (l.kind !== 'sun' && l.strength > 500000) return 'Film lights end at about 500,000 lumens.';
    if (l.kind === 'area' && l.strength / (Math.PI * (l.high ? l.wide * l.high : Math.PI * l.wide * l.wide / 4)) > 1e6) return 'So bright a surface would be the filament of a lamp; make it larger or weaker.';
    return '';
  }

  /** Shows the lamps in the view, those that may be dragged. */
  handle() {
    if (!this.setup) return;
    const v = this.app.viewport;
    v.work(this.shown ? this.lamp : -1);
    v.showLamps(this.shown && this.tab === 'light' ? this.setup.lamps : [], this.lamp, {
      choose: i => { this.lamp = i; this.render(true); this.handle(); },
      live: (i, at) => this.try(s => { s.lamps[i].at = at; }),
      commit: (i, at) => this.change(i, { at }),
    });
  }

  /** Stands the lamp where a place of the model mirrors it to who looks; true when the pointer was on the model. */
  glintAt(e, done) {
    const l = this.setup.lamps[this.lamp], v = this.app.viewport, hit = l && v.pick(e);
    if (!hit) return false;
    const far = Math.hypot(...l.at.map((x, i) => x - l.aim[i])) || v.size, eye = v.camera.position.toArray(), n = hit.normal;
    const way = eye.map((x, i) => x - hit.place[i]), long = Math.hypot(...way), w = way.map(x => x / long), c = 2 * (w[0] * n[0] + w[1] * n[1] + w[2] * n[2]);
    const at = hit.place.map((p, i) => p + far * (c * n[i] - w[i]));
    if (done) this.change(this.lamp, { at, aim: hit.place });
    else this.try(s => Object.assign(s.lamps[this.lamp], { at, aim: hit.place }));
    return true;
  }

  frames() {
    const list = this.setup.frames, f = list.find(k => k.name === this.frame), at = list.indexOf(f);
    const change = o => this.set('frames', list.map((k, i) => i === at ? { ...k, ...o } : k));
    const add = el('button.button.is-primary', { id: 'frame-add' }, icon('plus'), 'Frame this view');
    add.onclick = () => this.addFrame();
    const is = p => Math.abs(p[1] / p[2] - f.wide / f.high) < 1e-3, known = f && PROPORTIONS.some(is);
    const proportion = f && el('select.compact', { 'aria-label': 'Proportion' }, ...PROPORTIONS.map(p => el('option', { value: p[0], selected: is(p) }, p[0])), known ? null : el('option', { value: '', selected: true }, 'own'));
    if (proportion) proportion.onchange = () => { const [, wide, high] = PROPORTIONS.find(p => p[0] === proportion.value) || [0, f.wide, f.high]; change({ wide, high }); };
    const name = f && el('input.field-text', { value: f.name, 'aria-label': 'Name of the frame', maxLength: 80, spellcheck: false });
    if (name) {
      name.onchange = () => { const to = name.value.trim(); if (to && to !== f.name && !list.some(k => k.name === to)) { this.frame = to; change({ name: to }); } else name.value = f.name; };
      name.onkeydown = e => { e.stopPropagation(); if (e.key === 'Enter') name.blur(); };
    }
    const again = f && el('button.button', { id: 'frame-here', title: 'The frame takes the view as it is now' }, 'Take this view');
    if (again) again.onclick = () => change(this.app.viewport.view());
    const beside = f && el('button.button', { id: 'frame-beside', title: 'See it in a second pane while you work in your own view', 'aria-pressed': this.beside === f.name }, 'See beside');
    if (beside) {
      beside.classList.toggle('on', this.beside === f.name);
      beside.onclick = () => {
        this.beside = this.beside === f.name ? '' : f.name;
        this.look('');
        this.frame = '';
        this.pane();
        this.render(true);
      };
    }
    const card = f && el('button.button', { id: 'frame-card', title: 'Home shows the asset so' }, 'Use on Home');
    if (card) {
      const on = this.setup.card === f.name;
      card.classList.toggle('on', on);
      card.setAttribute('aria-pressed', on);
      card.onclick = () => this.set('card', on ? '' : f.name);
    }
    return [add,
      list.length ? el('ul.frames', {}, ...list.map(k => {
        const b = el('button.plain', { 'data-frame': k.name, 'aria-pressed': k.name === this.frame }, el('canvas', { width: 240, height: Math.round(240 * Math.min(2, k.high / k.wide)), 'data-strip': k.name }), el('span', {}, k.name));
        b.onclick = () => this.look(this.frame === k.name ? '' : k.name);
        const gone = el('button.plain', { title: `Delete ${k.name}`, 'aria-label': `Delete ${k.name}` }, icon('trash'));
        gone.onclick = () => { if (this.frame === k.name) this.look(''); this.set('frames', list.filter(o => o !== k)); };
        const li = el('li', {}, b, gone);
        li.classList.toggle('on', k.name === this.frame);
        return li;
      })) : el('p.quiet', {}, 'A frame is a view that is kept, with its proportion and focal length; stills are made of it.'),
      f && el('div.lamp-values', {}, name, el('div.tray-grid', {}, value({ name: 'frame-mm', label: 'focal mm', value: f.mm, min: 8, max: 400, default: 50, log: true, figures: 3, live: mm => this.app.viewport.lookThrough({ ...f, mm }), commit: mm => change({ mm }) }), proportion, value({ name: 'frame-ratio', label: 'wide : 1', title: 'So many times as wide as high', value: f.wide / f.high, min: 0.1, max: 10, default: 1.5, log: true, figures: 3, live: r => this.app.viewport.lookThrough({ ...f, wide: r, high: 1 }), commit: r => change({ wide: r, high: 1 }) })), el('div.row', {}, again, beside, card)),
    ];
  }

  addFrame() {
    const list = this.setup.frames;
    let n = list.length + 1;
    while (list.some(f => f.name === `Frame ${n}`)) n++;
    this.frame = `Frame ${n}`;
    return this.set('frames', [...list, { name: this.frame, ...this.app.viewport.view(), wide: 3, high: 2 }]);
  }

  /** Looks through a frame; none gives the view back. */
  look(name) {
    if (name === this.frame) return;
    this.frame = name;
    this.through();
    this.render(true);
  }

  through() {
    const f = this.setup.frames.find(k => k.name === this.frame);
    this.app.viewport.lookThrough(f || null);
  }

  /** Fills a list of choices with words for each; the chosen one says what becomes of the still. */
  choice(id, label, list, at, change) {
    const sel = el('select.compact', { id, 'aria-label': label }, ...list.map(([words], i) => el('option', { value: i, selected: i === at }, words)));
    sel.onchange = () => { change(list[sel.value][1]); this.render(true); };
    return el('label.line-field', {}, label, sel);
  }

  /** How many pictures are wanted. */
  many() { const w = this.wanted, n = l => Math.max(1, l.length); return n(w.frames) * n(w.channels) * n(w.states); }

  still() {
    const w = this.wanted, frames = this.setup.frames.map(f => f.name), kept = this.app.keepsakes.list(), used = this.app.tables.stillChannels.filter(c => !['emissive', 'opacity'].includes(c.name) || this.app.uses(c.name));
    w.frames = w.frames.filter(f => frames.includes(f));
    w.states = w.states.filter(id => !id || kept.some(k => k.id === id));
    const same = (a, b) => a.length === b.length && a.every((x, i) => x === b[i]);
    const pick = (id, label, key, list) => list.length > 1 && this.choice(id, label, list, Math.max(0, list.findIndex(([, v]) => same(v, w[key]))), v => { w[key] = v; });
    const many = this.many(), running = this.app.running?.kind === 'still', grid = (...k) => el('div.tray-grid', {}, ...k);
    const number = (key, label, o) => value({ name: `still-${key}`, label, value: w[key], whole: true, ...o, commit: v => { w[key] = o.fix ? o.fix(v) : v; this.render(true); } });
    const go = el('button.button.is-primary', { id: 'still-go', disabled: !!this.app.state?.job }, many > 1 ? `Make ${many} stills` : w.turns ? 'Make a turntable' : 'Make a still');
    go.onclick = () => { this.came(null); this.app.do('still', { still: { ...w, sheet: w.sheet && many > 1 } }, $('#still-complaint')); };
    return [
      pick('still-frame', 'frame', 'frames', [['fits the model', []], ...frames.map(f => [f, [f]]), ...frames.length > 1 ? [[`all ${frames.length} frames`, frames]] : []]),
      pick('still-channel', 'shows', 'channels', [['the surface in its light', []], ...used.map(c => [c.label, [c.name]]), ['its light, and every channel', ['', ...used.map(c => c.name)]]]),
      pick('still-state', 'state', 'states', [['as it stands', []], ...kept.length ? [['with every keepsake', [0, ...kept.map(k => k.id)]]] : []]),
      grid(number('size', 'size', { min: 64, max: 8192, default: 1280, log: true, unit: 'px' }), number('over', 'made at', { min: 1, max: 8, default: 1, unit: '×', title: 'Made so many times as large, then scaled down' }), number('samples', 'samples', { min: 1, max: 4096, default: 128, log: true }),
        many === 1 ? number('turns', 'turntable', { min: 0, max: 240, default: 0, zero: 'no', fix: v => v === 1 ? 2 : v }) : null),
      tick('transparent', w.clear, on => { w.clear = on; }), many > 1 ? tick('all on one sheet', w.sheet, on => { w.sheet = on; }) : null,
      el('div.row', {}, go, running ? el('span.quiet', {}, 'It comes below; stop it at any time and keep what is there.') : ''),
      el('p.complaint', { id: 'still-complaint', role: 'alert', hidden: true }), ...this.shownStill(),
    ];
  }

  /** The still that was made last, with what it can be saved as. */
  shownStill() {
    const c = this.got;
    if (!c) return [];
    const large = el('button.plain.still-button', { title: 'Large', 'aria-label': 'The still, large' }, el('img.still', { src: this.stillURL(), alt: 'The still' }));
    large.onclick = () => { $('#still-large img').src = this.stillURL(); $('#still-large').hidden = false; };
    const saves = c.turn ? [['apng', 'Save moving PNG'], ['zip', 'Save numbered PNGs']] : c.made ? [...c.sheet ? [['sheet', 'Save sheet']] : [], ['zip', 'Save PNGs'], ['exrs', 'Save EXRs']] : [['png', 'Save PNG'], ['exr', 'Save EXR']];
    return [large, el('p.quiet.figure', { id: 'still-words' }, this.stillWords()), el('div.row', {}, ...saves.map(([kind, words]) => el('a.button', { href: `${this.app.api}/still/${kind}?save=1`, download: '', 'data-save': kind }, words)))];
  }

  stillWords() {
    const c = this.got, size = `${c.width} × ${c.height} px`;
    return c.turn ? `${size}, picture ${c.made} of ${c.of}` : c.made ? `${size} each, ${c.made} of ${c.of}` : `${size}, ${c.samples} samples a pixel`;
  }

  /** The still as it is now; a turntable moves once it is whole. */
  stillURL() {
    const c = this.got, kind = c.sheet ? 'sheet' : c.turn && c.made === c.of ? 'apng' : 'png';
    return `${this.app.api}/still/${kind}?n=${c.samples}.${c.made}`;
  }

  /** A still has come some way; null is none yet. */
  came(e) {
    const before = this.got;
    this.got = e;
    if (this.tab !== 'still' || !this.shown || !e && !before) return;
    const img = $('#light-body img.still');
    if (!e || !img || before.sheet !== e.sheet || !before.made !== !e.made) return this.render(true);
    img.src = this.stillURL();
    $('#still-words').textContent = this.stillWords();
    if (!$('#still-large').hidden) $('#still-large img').src = this.stillURL();
  }
}

function put(s, path, v) {
  const keys = path.split('.'), last = keys.pop();
  keys.reduce((x, k) => x[k], s)[last] = v;
}

function tick(words, on, change) {
  const box = el('input', { type: 'checkbox', checked: on });
  box.onchange = () => change(box.checked);
  return el('label.tick', {}, box, ' ' + words);
}

/** About the colour of a temperature, for a mark in the list. */
function warmth(k) {
  const t = Math.min(1, Math.max(0, (Math.log(k) - Math.log(1500)) / (Math.log(12000) - Math.log(1500))));
  const mix = (a, b, f) => a.map((x, i) => Math.round(x + (b[i] - x) * f));
  const c = t < 0.6 ? mix([255, 140, 50], [255, 250, 244], t / 0.6) : mix([255, 250, 244], [176, 205, 255], (t - 0.6) / 0.4);
  return `rgb(${c.join()})`;
}
