// Keepsakes: stored states of the strata, to compare with over a wipe or to return to; and the wipe itself.
import { $, el, icon } from './dom.js';

/** What the wipe can show beside what is shown. */
const CHANNELS = [['lit', 'Lit'], ['base', 'Colour'], ['roughness', 'Roughness'], ['metallic', 'Metal'], ['normal', 'Normal'], ['height', 'Height'], ['occlusion', 'Occlusion'], ['emissive', 'Emissive'], ['opacity', 'Opacity']];

export class Keepsakes {
  constructor(app) {
    this.app = app;
    this.sheet = $('#keepsake-sheet');
    this.against = null; // what the view is compared with: {kept} and whose pictures, {mode} for another channel, {side} for other pictures
    this.line = { x: 0.5, y: 0.5, turn: 0 }; // a point of it as shares of the view, and how far it is turned from upright
    $('#keepsakes').onclick = () => this.open();
    this.wipe = $('#wipe');
    this.drag($('[data-part="line"]', this.wipe), (e, box) => { this.line.x = clamp((e.clientX - box.left) / box.width); this.line.y = clamp((e.clientY - box.top) / box.height); });
    this.drag($('[data-part="turn"]', this.wipe), (e, box) => { this.line.turn = Math.atan2(e.clientX - box.left - this.line.x * box.width, -(e.clientY - box.top - this.line.y * box.height)); });
    $('[data-part="line"]', this.wipe).onkeydown = e => {
      const d = { ArrowLeft: -0.02, ArrowRight: 0.02 }[e.key];
      if (d) { e.preventDefault(); this.line.x = clamp(this.line.x + d); this.place(); }
    };
    addEventListener('keydown', e => { if (e.key === 'Escape' && this.against) this.versus(null); });
    new ResizeObserver(() => this.place()).observe($('#pane-model'));
  }

  /** ID of the keepsake that the view is compared with, 0 for none. */
  get compared() { return this.against?.kept || 0; }

  list() { return this.app.state?.keepsakes || []; }

  take() {
    $('#keepsakes .figure').textContent = this.list().length || '';
    if (this.compared && !this.list().some(k => k.id === this.compared)) this.compare(0);
    if (this.sheet.matches(':popover-open')) this.render();
  }

  async keep(name = '') {
    if (await this.app.do('keep', { value: name })) this.app.waiting('kept');
    setTimeout(() => this.app.waiting(''), 900);
  }

  open() {
    const box = $('#keepsakes').getBoundingClientRect();
    this.render();
    this.sheet.showPopover();
    this.sheet.style.left = `${Math.min(box.left, innerWidth - this.sheet.offsetWidth - 8)}px`;
    this.sheet.style.top = `${box.bottom + 6}px`;
  }

  render() {
    const keep = el('button.button.is-primary', { id: 'keep-now', title: 'Keep the strata as they stand (K)' }, 'Keep these strata');
    keep.onclick = () => this.keep();
    const rows = this.list().map(k => {
      const on = k.id === this.compared;
      const compare = el('button.button', { 'data-compare': k.id, 'aria-pressed': String(on) }, on ? 'End' : 'Compare');
      compare.onclick = () => { this.compare(on ? 0 : k.id); this.sheet.hidePopover(); };
      const back = el('button.button', { 'data-return': k.id, title: 'Make the strata as they were then; undo takes it back' }, 'Return');
      back.onclick = () => { this.app.edit({ do: 'return', to: k.id }); this.sheet.hidePopover(); };
      const gone = el('button.plain', { title: 'Delete this keepsake', 'aria-label': `Delete ${k.name}` }, icon('trash'));
      gone.onclick = () => this.app.do('drop-keepsake', { number: k.id });
      return el('div.keepsake-row', {}, el('span', {}, el('strong', {}, k.name), el('span.quiet.figure', {}, new Date(k.made).toLocaleString([], { dateStyle: 'short', timeStyle: 'short' }))), compare, back, gone);
    });
    const channel = el('select.compact', { id: 'wipe-channel', 'aria-label': 'Channel to compare with' }, el('option', { value: '' }, 'another channel…'), ...CHANNELS.filter(([c]) => c !== this.app.showing && (!['emissive', 'opacity'].includes(c) || this.app.uses(c))).map(([c, words]) => el('option', { value: c, selected: this.against?.mode === c }, words)));
    channel.onchange = () => { this.versus(channel.value ? { side: '', mode: channel.value } : null, CHANNELS.find(([c]) => c === channel.value)?.[1]); if (channel.value) this.sheet.hidePopover(); };
    this.sheet.replaceChildren(el('h2', {}, 'Keepsakes'), el('label.line-field', {}, 'Wipe against', channel), keep, ...rows.length ? rows : [el('p.quiet', {}, 'A keepsake stores the strata as they stand, to compare with later or to return to.')]);
  }

  /** Compares the view with a keepsake, over a line; 0 ends it. */
  compare(id) { this.versus(id ? { side: 'kept-', kept: id } : null, this.list().find(o => o.id === id)?.name); }

  /** Compares the view with something else over a line, which has a name; null ends it. */
  versus(against, words, now) {
    if (this.compared && this.compared !== against?.kept) this.app.viewport.dropKept();
    this.against = against;
    this.wipe.hidden = !against;
    this.words = against && [now, words];
    this.named();
    this.app.look();
    this.place();
  }

  /** Says on both sides of the line what is seen there. */
  named() {
    if (!this.against) return;
    const mine = this.against.mode && CHANNELS.find(([c]) => c === this.app.showing)?.[1], [now, other] = this.words;
    $('[data-side="now"]', this.wipe).textContent = now || mine || 'now';
    $('[data-side="kept"]', this.wipe).textContent = other;
  }

  /** Shows the keepsake alone while a key is held. */
  hold(on) {
    if (on && !this.against) {
      const last = this.list()[0];
      if (!last) return;
      this.held = true;
      this.compare(last.id);
    }
    this.whole = on;
    if (!on && this.held) { this.held = false; this.compare(0); }
    this.place();
  }

  /** Puts the line, and what is seen of the keepsake on its right, where they belong. */
  place() {
    const over = $('#kept-view');
    over.hidden = !this.against;
    this.app.viewport.overlay(this.against ? over : null, this.against);
    if (!this.against) return;
    const { x, y, turn } = this.line, box = this.wipe.getBoundingClientRect(), w = box.width, h = box.height;
    this.wipe.style.setProperty('--x', `${x * 100}%`);
    this.wipe.style.setProperty('--y', `${y * 100}%`);
    this.wipe.style.setProperty('--turn', `${turn}rad`);
    // The names stand at the line's foot.
    const foot = x - Math.tan(turn) * (1 - 44 / h - y) * h / w;
    this.wipe.style.setProperty('--foot', `${clamp(Math.abs(foot) < 9 ? foot : x) * 100}%`);
    $('[data-part="line"]', this.wipe).setAttribute('aria-valuenow', Math.round(x * 100));
    this.wipe.classList.toggle('whole', !!this.whole);
    // A half of the plane, far beyond the view.
    const far = 3 * (w + h), up = [Math.sin(turn) * far, -Math.cos(turn) * far], right = [Math.cos(turn) * far, Math.sin(turn) * far];
    const corner = (a, b) => `${x * w + a * up[0] + b * right[0]}px ${y * h + a * up[1] + b * right[1]}px`;
    over.style.clipPath = this.whole ? '' : `polygon(${corner(1, 0)}, ${corner(1, 1)}, ${corner(-1, 1)}, ${corner(-1, 0)})`;
  }

  drag(part, move) {
    part.onpointerdown = e => {
      e.preventDefault();
      e.stopPropagation();
      part.setPointerCapture(e.pointerId);
      part.onpointermove = m => { move(m, this.wipe.getBoundingClientRect()); this.place(); };
      part.onpointerup = () => { part.onpointermove = part.onpointerup = null; };
    };
  }
}

const clamp = v => Math.max(0.02, Math.min(0.98, v));
