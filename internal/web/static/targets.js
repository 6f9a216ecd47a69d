// The sets that a layer touches: a pennant each, or a list where there are many.
import { $, el, pennant } from './dom.js';

/** As many pennants as a layer's row has room for. */
const FEW = 4;

export class Targets {
  constructor(app) {
    this.app = app;
    this.sheet = $('#target-sheet');
    this.search = $('#target-search');
    this.search.oninput = () => this.rows();
    this.search.onkeydown = e => e.stopPropagation();
    $('#target-all').onclick = () => this.aim(this.layer(), this.names());
    this.sheet.addEventListener('toggle', e => { if (e.newState === 'closed') this.open = null; });
    this.open = null; // ID of the layer whose list is open
  }

  names() { return this.app.state.sets.map(s => s.name); }
  layer() { return this.app.doc.layers.find(l => l.id === this.open); }

  /** Names of the sets that the layer touches, in the order of the sets. */
  of(l) {
    const all = this.names();
    return l.targets?.length ? all.filter(n => l.targets.includes(n)) : all;
  }

  /** Aims the layer at sets; it keeps at least one. */
  aim(l, names) {
    if (l && names.length) this.app.edit({ do: 'set', layer: l.id, path: 'targets', value: names.length === this.app.state.sets.length ? [] : names });
  }

  toggle(l, name) {
    const now = this.of(l);
    this.aim(l, this.names().filter(n => n === name ? !now.includes(n) : now.includes(n)));
  }

  /** The controls of a layer's row. */
  controls(l) {
    const sets = this.app.state.sets, now = this.of(l);
    if (sets.length > FEW) {
      const words = now.length === sets.length ? `all ${sets.length}` : `${now.length} of ${sets.length}`;
      const b = el('button.target-count', { title: 'Choose the sets that this layer touches', 'aria-label': `${words} sets: targets of ${l.name}`, 'aria-haspopup': 'dialog' }, pennant(now.length ? sets.findIndex(s => s.name === now[0]) : 0), ' ' + words);
      b.onclick = e => { e.stopPropagation(); this.show(l, b); };
      return [b];
    }
    return sets.map((s, k) => {
      const on = now.includes(s.name);
      const b = el('button', { className: on ? '' : 'off', title: `${on ? 'Touches' : 'Leaves out'} ${s.label}; click to change`, 'aria-label': `Target ${s.label}`, 'aria-pressed': on }, pennant(k));
      b.onclick = e => { e.stopPropagation(); this.toggle(l, s.name); };
      return b;
    });
  }

  show(l, beside) {
    const box = beside.getBoundingClientRect();
    this.open = l.id;
    this.search.value = '';
    this.render();
    this.sheet.showPopover();
    this.sheet.style.left = `${box.right + 8}px`;
    this.sheet.style.top = `${Math.max(8, Math.min(box.top, innerHeight - this.sheet.offsetHeight - 8))}px`;
    this.search.focus();
  }

  /** Brings the open list up to date with the strata. */
  render() {
    const l = this.open && this.layer();
    if (!l) { if (this.open) this.sheet.hidePopover(); return; }
    $('#target-title').textContent = `Sets that “${l.name}” touches`;
    this.rows();
  }

  rows() {
    const l = this.layer(), now = this.of(l), word = this.search.value.trim().toLowerCase();
    const focused = document.activeElement?.closest?.('#target-list [data-set]')?.dataset.set;
    const rows = [];
    this.app.state.sets.forEach((s, i) => {
      if (!s.label.toLowerCase().includes(word)) return;
      const tick = el('input', { type: 'checkbox', checked: now.includes(s.name), disabled: now.length === 1 && now[0] === s.name });
      tick.onchange = () => this.toggle(l, s.name);
      const only = el('button.plain', { title: `Touch ${s.label} alone`, 'aria-label': `only ${s.label}` }, 'only');
      only.onclick = () => this.aim(l, [s.name]);
      rows.push(el('div.target-row', { 'data-set': s.name }, el('label', {}, tick, pennant(i), el('span', {}, s.label)), only));
    });
    if (!rows.length) rows.push(el('p.quiet', {}, 'No set has this in its name.'));
    $('#target-list').replaceChildren(...rows);
    if (focused) [...$('#target-list').children].find(r => r.dataset.set === focused)?.querySelector('input')?.focus({ preventScroll: true });
  }
}
