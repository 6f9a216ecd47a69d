// The page of one asset: its stages, its socket, and what they share.
import { $, choose, clock, complain, el, grouped, pennant, toast, typing } from './dom.js';
import { call, Socket } from './api.js';
import { value } from './values.js';
import { Viewport } from './viewport.js';
import { Intake } from './intake.js';
import { BakeBoard } from './bakeboard.js';
import { Strata } from './strata.js';
import { Bench } from './bench.js';
import { Deliver } from './deliver.js';
import { Sources } from './sources.js';
import { Probe } from './probe.js';
import { Keepsakes } from './keepsakes.js';
import { Brushwork } from './brushwork.js';
import { Lighting } from './lighting.js';

const STAGES = ['intake', 'bake', 'paint', 'deliver'];
const SHOWN = ['lit', 'base', 'roughness', 'metallic', 'normal', 'height', 'occlusion', 'emissive', 'opacity', 'where', 'checks', 'texels'];

/** Those of them that there are only where some layer lays the channel down. */
const EXTRA = ['emissive', 'opacity'];

/** Whose edits these are, so that undo takes back one's own: kept by the browser, for all its pages. */
function author() {
  try {
    return localStorage.author ||= crypto.randomUUID?.() || Array.from(crypto.getRandomValues(new Uint8Array(12)), b => b.toString(16)).join('');
  } catch {
    return ''; // nothing may be kept here
  }
}

/** The page's root object: everything that the stages share hangs on it. */
class App {
  constructor() {
    this.id = document.body.dataset.id;
    this.api = `/api/assets/${this.id}`;
    this.tables = JSON.parse($('#tables').textContent);
    this.state = null;
    this.doc = { layers: [] };
    this.chosen = null; // ID of the chosen layer
    this.others = new Set(); // IDs of those chosen with it
    this.showing = 'lit';
    this.layout = 'model';
    this.hover = null; // what a pointed-at card shows: {clause}
    this.viewport = new Viewport($('#model'), $('#flat'), this.tables.physical);
    this.intake = new Intake(this);
    this.board = new BakeBoard(this);
    this.strata = new Strata(this);
    this.sources = new Sources(this);
    this.probe = new Probe(this);
    this.keepsakes = new Keepsakes(this);
    this.bench = new Bench(this);
    this.brushwork = new Brushwork(this);
    this.lighting = new Lighting(this);
    this.deliver = new Deliver(this);
    this.header();
    this.strip();
    this.keys();
    this.stage(document.body.dataset.stage, false);
    const ws = location.protocol === 'https:' ? 'wss' : 'ws';
    this.viewport.api = this.api;
    this.viewport.failed = words => toast(words);
    this.socket = new Socket(`${ws}://${location.host}${this.api}/socket?author=${author()}`, {
      open: () => this.look(true),
      event: e => this.event(e),
      rect: (h, px) => this.viewport.rect(h, px),
    });
  }

  event(e) {
    switch (e.t) {
      case 'state': return this.take(e);
      case 'doc': return this.takeDoc(e);
      case 'whole':
        this.viewport.whole(e);
        if (e.full) this.settled(e);
        return;
      case 'coverage':
        for (const l of this.doc.layers) if (e.of[l.id] !== undefined) l.coverage = e.of[l.id];
        this.coverageVersion = e.version;
        this.strata.shares();
        this.bench.share();
        this.waitPicture();
        return;
      case 'cards': return this.bench.pictures(e);
      case 'still': return this.lighting.came(e);
      case 'job': return this.job(e);
      case 'done': return this.done(e);
      case 'error': return toast(e.text);
    }
  }

  settled() {
    if (this.viewport.sets.size && !this.picking) this.waiting('');
  }

  /** Says over the model what it waits for. */
  waiting(text) { complain($('#view-wait'), text); }

  /** Takes a state: the panels at once, the model when its mesh has come. */
  take(s) {
    const old = this.state;
    this.state = s;
    document.title = `${s.name} · Crust`;
    if (document.activeElement !== $('#asset-name')) $('#asset-name').value = s.name;
    const split = JSON.stringify([s.split, s.modelVersion, s.sets.map(k => k.name)]);
    if (split !== this.split) {
      this.split = split;
      this.viewport.useSets(s.sets.map(k => k.name));
      this.loadMesh(!!old && old.modelVersion === s.modelVersion).then(() => this.look(true),
        e => toast(`The model could not be loaded: ${e.message} Reload the page.`));
    }
    this.job(s.job || null);
    this.stations();
    this.intake.take(s, old);
    this.board.take(s);
    this.deliver.take(s);
    this.keepsakes.take();
    this.flatSets();
    this.sizeSelect();
    if (!old) { this.strata.render(); this.bench.render(); this.stage(document.body.dataset.stage, false); }
    else { this.words(); this.strata.render(); this.bench.render(); }
    this.brushwork.render();
    this.shapes();
  }

  /** Loads the model with its sets; keep holds the camera, split shows another way to split. The last asked for holds. */
  async loadMesh(keep = true, split = '') {
    const mine = this.meshAsked = {};
    this.waiting('loading the model…');
    try {
      const buffer = await call('GET', `${this.api}/mesh${split && `?split=${split}`}`);
      if (mine === this.meshAsked) this.viewport.loadMesh(buffer, keep);
    } finally {
      if (mine === this.meshAsked) this.waiting('');
    }
  }

  takeDoc(e) {
    this.doc = e;
    for (const id of this.others) if (!e.layers.some(l => l.id === id)) this.others.delete(id);
    if (!e.layers.some(l => l.id === this.chosen)) this.choose(e.layers.at(-1)?.id || null, true);
    for (const [id, label] of [['undo', e.undo], ['redo', e.redo]]) {
      const b = $('#' + id);
      b.disabled = !label;
      b.title = (id === 'undo' ? 'Undo' : 'Redo') + (label ? `: ${label}` : '');
    }
    if (this.alone && !(this.alone = this.alone.filter(id => e.layers.some(l => l.id === id))).length) this.solo();
    else if (this.alone) this.live({ do: 'solo', layers: this.alone });
    this.extras();
    this.strata.render();
    this.bench.render();
    this.stations();
    this.deliver.render();
    this.brushwork.render();
    this.lighting.take();
    this.ghost();
  }

  /** Whether some layer lays a channel down. */
  uses(channel) { return this.doc.layers.some(l => l.what[channel].on && l.what[channel].opacity > 0); }

  /** Offers the channels that only some documents have. */
  extras() {
    const used = EXTRA.filter(c => this.uses(c));
    for (const c of EXTRA) $(`#view-show [data-value="${c}"]`).hidden = !used.includes(c);
    this.viewport.uses(used);
    if (EXTRA.includes(this.showing) && !used.includes(this.showing)) this.setShow('lit');
  }

  /** The chosen layer. */
  layer() { return this.doc.layers.find(l => l.id === this.chosen); }

  /** IDs of all chosen layers, in the order of the document. */
  all() { return this.doc.layers.filter(l => l.id === this.chosen || this.others.has(l.id)).map(l => l.id); }

  /** Adds a layer to those chosen, or takes it away. */
  also(id) {
    if (this.others.delete(id)) return this.strata.render();
    if (id === this.chosen) {
      const next = [...this.others].at(-1);
      if (!next) return;
      this.others.delete(next);
      const rest = this.others;
      this.choose(next);
      this.others = rest;
      return this.strata.render();
    }
    const was = new Set(this.others);
    if (this.chosen) was.add(this.chosen);
    this.choose(id);
    this.others = was;
    this.strata.render();
  }

  /** Chooses from the chosen layer up to another, of rows as they stand. */
  upTo(id, rows) {
    const a = rows.indexOf(this.chosen), b = rows.indexOf(id);
    if (a < 0) return this.choose(id);
    this.others = new Set(rows.slice(Math.min(a, b), Math.max(a, b) + 1).filter(k => k !== this.chosen));
    this.strata.render();
  }

  choose(id, quiet) {
    const alone = !this.others.size;
    this.others = new Set();
    if (this.chosen === id) { if (!alone) this.strata.render(); return; }
    this.chosen = id;
    this.hover = null;
    if (quiet) { this.look(); return; }
    this.strata.render();
    this.bench.render();
    this.brushwork.render();
    this.look();
    this.ghost();
  }

  /** Shows the chosen layers alone, on this asset's pages, until it is asked again; nothing is kept of it. */
  solo() {
    this.alone = !this.alone && this.chosen ? this.all() : null;
    document.body.classList.toggle('alone', !!this.alone);
    if (this.alone) this.live({ do: 'solo', layers: this.alone });
    else this.socket.send({ t: 'drop' });
    this.strata.render();
  }

  /** Ghosts the sets and parts that the chosen layer, or a group that it is in, leaves out. */
  ghost() {
    const sets = this.state?.sets.map(s => s.name) || [], out = new Set(), parts = new Set();
    for (let l = this.ghosts && this.layer(); l; l = this.doc.layers.find(k => k.id === l.in)) {
      if (l.targets?.some(t => sets.includes(t))) for (const s of sets) if (!l.targets.includes(s)) out.add(s);
      if (l.parts?.length) this.state.parts.forEach((p, i) => { if (!l.parts.includes(p)) parts.add(i); });
    }
    this.viewport.ghost(out, parts);
  }

  /** Sends an edit that is kept. */
  async edit(edit) {
    try {
      const a = await this.socket.ask({ t: 'edit', edit });
      if (edit.do !== 'set' && !edit.do.startsWith('clause') && a.layer) { this.choose(a.layer); }
      return a;
    } catch (e) {
      toast(e.message);
      this.socket.send({ t: 'drop' });
      this.strata.render();
      this.bench.render();
      return null;
    }
  }

  /** What a parameter begins at: lengths of some go by the model's size, see strata.First. */
  first(p) { return p.fits ? Math.min(p.max, Math.max(p.min, +(p.default * this.state.fit).toPrecision(3))) : p.default; }

  /** Shows an edit without keeping it, while a control is dragged. */
  live(edit) {
    // Where the person looks is asked for when a drag begins, not at each of its steps.
    const now = performance.now(), begins = now - (this.lived || -Infinity) > 1000, near = begins && this.viewport.near();
    if (near) this.socket.send({ t: 'near', near });
    this.lived = now;
    this.socket.send({ t: 'edit', edit, live: true });
  }

  /** Has clicks on the model go to what wants a place of it, until Escape or another choice. */
  pickFromModel(what) {
    this.picking = this.picking?.clause === what.clause ? null : what;
    document.body.classList.toggle('picking', !!this.picking);
    this.viewport.setHandle(this.picking?.handle || null);
    this.waiting(this.picking ? what.words : '');
    this.bench.render();
  }

  /** Tells the server what this page shows, when that has changed. */
  look(always) {
    const where = this.hover || this.held ? 'where' : this.showing;
    const shown = where === 'where' || this.keepsakes.against?.mode !== 'height' ? where : 'height';
    const l = { show: this.stageName === 'paint' ? shown : 'lit', layer: this.chosen || '', clause: this.hover?.clause || '', set: this.viewport.flatSet, kept: this.stageName === 'paint' ? this.keepsakes.compared : 0, away: this.away(), shape: this.shapeOn() };
    const key = JSON.stringify(l);
    if (!always && key === this.looked) return;
    this.looked = key;
    this.socket?.send({ t: 'look', look: l });
    this.present();
  }

  /** Whether the stage shows nothing that is painted; the server does not paint for it then. */
  away() { return this.stageName === 'intake' || this.stageName === 'bake'; }

  /** Whether the height is shown as shape. */
  shapeOn() { return this.shape !== undefined && !this.away(); }

  /** Shows the buttons of copies and shape as they are, and has the viewport do so. */
  shapes() {
    const v = this.viewport, nine = !!this.state?.repeats && !!this.nine, press = (b, on) => { b.classList.toggle('on', on); b.setAttribute('aria-pressed', on); };
    $('#view-nine').hidden = !this.state?.repeats;
    press($('#view-nine'), nine);
    press($('#view-shape'), this.shape !== undefined);
    if (!!$('#shape-by').firstChild !== (this.shape !== undefined)) $('#shape-by').replaceChildren(this.shape === undefined ? '' : value({ name: 'shape-by', label: '', title: 'So many times as high as it is', value: this.shape, min: 0, max: 20, default: 1, unit: '×', figures: 3, live: n => { this.shape = n; v.showShape(n); }, commit: n => { this.shape = n; v.showShape(n); } }));
    v.repeat(this.state?.repeats || null);
    v.showNine(nine && !this.away());
    v.showShape(this.shapeOn() ? this.shape : null);
  }

  /** Puts the viewport in the mode of the stage and of what is pointed at. */
  present() {
    const v = this.viewport;
    this.shapes();
    v.showFigure(this.stageName === 'intake' && $('#figure').checked);
    if (this.stageName !== 'intake') v.mark(null);
    if (this.stageName !== 'bake') { v.showShells(null); v.compare(null); }
    if (this.stageName === 'intake') return v.show('plain');
    if (this.stageName === 'bake') return this.board.present();
    if (this.stageName === 'deliver') return v.show('lit');
    v.show(this.hover || this.held ? 'where' : this.showing);
  }

  stage(name, push = true) {
    if (!STAGES.includes(name)) return;
    const before = this.stageName;
    this.stageName = name;
    if (name !== 'deliver') { this.deliver?.readBack.close(); this.deliver?.joins.close(); }
    if (name !== 'paint') { this.sources?.close(); this.strata?.targets.close(); } // they would stand over other stages
    document.body.dataset.stage = name;
    if (push) history.pushState(null, '', `/assets/${this.id}/${name}`);
    this.applyLayout();
    this.stations();
    if (before === 'paint' && name !== 'paint') {
      this.picture();
      this.keepsakes.versus(null);
    }
    if (this.away()) this.lighting?.look('');
    this.lighting?.handle();
    this.look(true);
    if (!this.away() && !this.viewport.pictures.size && this.viewport.sets.size) this.waiting('laying the strata…');
    if (name === 'bake' && this.state) this.board.take(this.state);
    if (name === 'deliver') { this.deliver.list(); this.deliver.render(); }
    this.brushwork?.render();
    this.words();
  }

  stations() {
    const missing = this.state?.cells.filter(c => c.state === 'missing').length || 0;
    const stale = this.state?.cells.filter(c => c.state === 'stale').length || 0;
    const words = { intake: '', bake: missing ? `${missing} missing` : stale ? `${stale} stale` : '', paint: this.doc.layers.length ? '' : 'no layer', deliver: '' };
    const done = { intake: !!this.state, bake: !!this.state && !missing && !stale, paint: this.doc.layers.length > 1, deliver: this.deliver?.count > 0 };
    for (const a of document.querySelectorAll('.stations a')) {
      const k = a.dataset.stage;
      a.classList.toggle('here', k === this.stageName);
      a.classList.toggle('done', done[k]);
      if (k === this.stageName) a.setAttribute('aria-current', 'page'); else a.removeAttribute('aria-current');
      $('em', a).textContent = words[k];
    }
  }

  header() {
    for (const a of document.querySelectorAll('.stations a')) a.onclick = e => { e.preventDefault(); this.stage(a.dataset.stage); };
    addEventListener('popstate', () => this.stage(location.pathname.split('/').pop(), false));
    const back = by => this.socket.ask({ t: by }).catch(e => toast(e.message));
    $('#undo').onclick = () => back('undo');
    $('#redo').onclick = () => back('redo');
    $('#stop').onclick = () => this.do('stop');
    $('#keys').onclick = () => $('#keys-dialog').showModal();
    const name = $('#asset-name');
    name.onchange = () => this.do('rename', { value: name.value.trim() });
    name.onkeydown = e => { if (e.key === 'Enter') name.blur(); e.stopPropagation(); };
    addEventListener('pagehide', () => this.picture());
  }

  /** One of the small calls on the asset; refusals go to node, or to the toast. */
  async do(what, body = {}, node) {
    if (node) complain(node, '');
    try {
      await call('POST', `${this.api}/do/${what}`, body);
      return true;
    } catch (e) {
      if (node) complain(node, e.message); else toast(e.message);
      return false;
    }
  }

  job(j) {
    $('#job').hidden = !j;
    if (j && !this.running) for (const n of ['#layout-complaint', '#bake-complaint']) complain($(n), '');
    this.running = j;
    if (!j) return;
    $('.job-label').textContent = j.label;
    $('#job progress').value = j.share;
    $('.job-left').textContent = j.stopping ? 'stopping' : j.left !== undefined ? clock(j.left + 0.9) : '';
    this.board.progress(j);
    this.deliver.progress(j);
  }

  done(e) {
    this.job(null);
    if (e.kind === 'still') { this.lighting.render(true); if (e.error) complain($('#still-complaint'), e.error); return; }
    if (e.kind === 'deliver') return this.deliver.done(e);
    if (e.kind === 'compare') return this.deliver.readBack.done(e);
    // Beside what it concerns, until something changes.
    const node = { layout: '#layout-complaint', carry: '#layout-complaint', bake: '#bake-complaint', bring: '#bring-all-complaint' }[e.kind];
    if (node) complain($(node), e.error || '');
    else if (e.error) toast(e.error);
  }

  strip() {
    $('#view-nine').onclick = () => { this.nine = !this.nine; this.shapes(); };
    $('#view-shape').onclick = () => { this.shape = this.shape === undefined ? 1 : undefined; this.look(); this.shapes(); };
    for (const b of document.querySelectorAll('#view-layout button')) b.onclick = () => this.setLayout(b.dataset.value);
    for (const b of document.querySelectorAll('#view-show button')) b.onclick = () => this.setShow(b.dataset.value);
    $('#working-size').onchange = e => { this.waiting('evaluating anew…'); this.do('size', { number: Number(e.target.value) }); };
    choose($('#view-layout'), this.layout);
    choose($('#view-show'), this.showing);
  }

  setLayout(l) {
    this.layout = l;
    choose($('#view-layout'), l);
    this.applyLayout();
  }

  setShow(s) {
    this.showing = s;
    choose($('#view-show'), s);
    this.words();
    this.keepsakes.named();
    document.body.classList.toggle('checking', s === 'checks');
    this.look();
    this.present();
  }

  applyLayout() {
    const l = this.stageName === 'paint' ? this.layout : 'model';
    $('#pane-model').hidden = l === 'flat';
    $('#pane-flat').hidden = l === 'model';
    this.lighting?.pane();
    requestAnimationFrame(() => { this.viewport.resize(); this.viewport.drawFlat(); });
  }

  /** Chooses the set of the flat map: a button each, or a list where there are many. */
  flatSets() {
    const box = $('#flat-sets'), v = this.viewport, sets = this.state.sets;
    const look = name => { v.flatSet = name; this.look(); v.drawFlat(); };
    if (sets.length > 6) {
      const sel = el('select.compact', { 'aria-label': 'Set of the flat map' }, ...sets.map(s => el('option', { value: s.name, selected: s.name === v.flatSet }, s.label)));
      sel.onchange = () => look(sel.value);
      box.replaceChildren(sel);
      return;
    }
    box.replaceChildren(...sets.map((s, i) => {
      const b = el('button', { 'data-value': s.name }, pennant(i), ' ' + s.label);
      b.onclick = () => { choose(box, s.name); look(s.name); };
      return b;
    }));
    choose(box, v.flatSet);
  }

  sizeSelect() {
    const s = $('#working-size');
    if (document.activeElement === s) return;
    s.replaceChildren(...this.tables.sizes.map(n => el('option', { value: n, selected: n === this.state.size }, `${n} px`)));
  }

  words() {
    if (!this.state) return;
    const s = this.state;
    const checks = this.stageName === 'paint' && this.showing === 'checks';
    // The colours are those of the check's shader.
    if (checks) return $('#view-words').replaceChildren(...[['#d65e00', 'too dark'], ['#f0e342', 'too bright'], ['#57b3e8', 'half metal'], ['#cc78a6', 'dark metal']].flatMap(([c, words]) => [el('span.swatch', { style: `background:${c}` }), ` ${words}   `]));
    $('#view-words').textContent = this.stageName === 'paint' && this.showing === 'texels' ? 'each check is 16 texels' : this.stageName === 'paint' ? `${s.sets.length > 4 ? `${s.sets.length} sets` : s.sets.map(k => k.label).join(', ')} · ${s.working} px${s.working < s.size ? `, since ${s.sets.length} sets of ${s.size} px are too many at once` : ''} · ${grouped(s.triangles)} triangles` : '';
  }

  keys() {
    addEventListener('keydown', e => {
      if (typing(e)) return;
      const key = e.key.toLowerCase();
      if (e.ctrlKey || e.metaKey) {
        if (key === 'z') { e.preventDefault(); (e.shiftKey ? $('#redo') : $('#undo')).click(); }
        if (key === 'd' && this.stageName === 'paint' && this.chosen) { e.preventDefault(); this.edit({ do: 'duplicate', layers: this.all() }); }
        if (key === 'g' && this.stageName === 'paint') { e.preventDefault(); if (e.shiftKey) this.edit({ do: 'ungroup', layer: this.chosen }); else this.strata.group(); }
        return;
      }
      const n = ['Digit1', 'Digit2', 'Digit3', 'Digit4'].indexOf(e.code);
      if (e.shiftKey && n >= 0) { e.preventDefault(); this.stage(STAGES[n]); return; }
      if (e.key === '?') { $('#keys-dialog').showModal(); return; }
      if (key === 'f') this.viewport.frame();
      if (key === 'j') this.turning = true;
      if (key === 'u' && !this.away()) this.lighting.open(!this.lighting.shown);
      if (this.stageName !== 'paint') return;
      if (key === 'v') this.setLayout({ model: 'flat', flat: 'both', both: 'model' }[this.layout]);
      if (key === 'c') {
        const shown = SHOWN.filter(s => !EXTRA.includes(s) || this.uses(s));
        this.setShow(shown[(shown.indexOf(this.showing) + 1) % shown.length]);
      }
      if (key === 's' && !e.repeat) this.solo();
      if (key === 'g' && !e.repeat) { this.ghosts = !this.ghosts; this.ghost(); }
      if (key === 'i') this.probe.hold(true);
      if (key === 'k' && !e.repeat) this.keepsakes.keep();
      if (key === 'y' && !e.repeat) this.keepsakes.hold(true);
      if (key === 'm' && !this.held) { this.held = true; this.look(); }
      if (e.key === 'Delete' && this.chosen) this.edit({ do: 'delete', layers: this.all() });
    });
    addEventListener('keyup', e => {
      const key = e.key.toLowerCase();
      if (key === 'm' && this.held) { this.held = false; this.look(); }
      if (key === 'j') this.turning = false;
      if (key === 'i') this.probe.hold(false);
      if (key === 'y') this.keepsakes.hold(false);
    });
    addEventListener('keydown', e => { if (e.key === 'Escape' && this.picking) this.pickFromModel(this.picking); });
    const c = $('#model');
    let down = null;
    c.addEventListener('pointerdown', e => { down = [e.clientX, e.clientY]; });
    c.addEventListener('click', async e => {
      // A drag turns the camera and picks nothing.
      if (this.viewport.grabbed) { this.viewport.grabbed = false; return; }
      if (down && !this.picking && Math.hypot(e.clientX - down[0], e.clientY - down[1]) <= 4) this.strata.targets.click(this.viewport.pick(e));
      if (!this.picking || !down || Math.hypot(e.clientX - down[0], e.clientY - down[1]) > 4) return;
      const hit = this.viewport.pick(e);
      if (hit) try { await this.picking.at(hit); } catch (err) { toast(err.message); }
    });
    const flat = $('#flat');
    let pressed = null;
    flat.addEventListener('pointerdown', e => { pressed = [e.clientX, e.clientY]; });
    flat.addEventListener('click', e => {
      if (pressed && Math.hypot(e.clientX - pressed[0], e.clientY - pressed[1]) <= 4) this.strata.targets.click(this.onFlat(e));
    });
    for (const [box, at] of [[c, e => this.viewport.pick(e)], [flat, e => this.onFlat(e)]]) {
      box.addEventListener('pointermove', e => this.strata.targets.over(() => at(e)));
      box.addEventListener('pointerleave', () => this.strata.targets.over(() => null));
    }
    c.addEventListener('pointerdown', e => {
      if (!this.turning) return;
      e.stopImmediatePropagation();
      c.setPointerCapture(e.pointerId);
      const x0 = e.clientX, t0 = this.viewport.turn;
      const move = m => this.viewport.setTurn(t0 + (m.clientX - x0) * 0.01);
      c.addEventListener('pointermove', move);
      c.addEventListener('pointerup', () => {
        c.removeEventListener('pointermove', move);
        const turn = Math.round(this.viewport.turn * 180 / Math.PI);
        this.edit({ do: 'look', path: 'turn', value: ((turn + 180) % 360 + 360) % 360 - 180 });
      }, { once: true });
    }, true);
  }

  /** The place on the flat map under the pointer with its part; null beside what is covered. */
  onFlat(e) {
    const hit = this.viewport.pickFlat(e), part = hit && this.viewport.partOf(hit.set, hit.u, hit.v);
    return part === undefined ? null : { ...hit, part };
  }

  /** Takes the card's picture once the strata have settled, and again after changes. */
  waitPicture() {
    clearTimeout(this.pictureTimer);
    this.pictureTimer = setTimeout(() => this.picture(), 1500);
  }

  async picture() {
    if (this.stageName !== 'paint' || this.viewport.mode !== 'lit' || this.layout === 'flat') return;
    const look = this.doc.look, blob = await this.viewport.snapshot(look?.frames.find(f => f.name === look.card));
    if (blob && !document.body.dataset.looks) fetch(`${this.api}/picture`, { method: 'PUT', body: blob }).catch(() => {});
  }
}

window.crust = new App();
