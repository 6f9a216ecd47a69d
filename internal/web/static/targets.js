// The sets and parts that a layer touches: a pennant for each set, or a list where there are many; and a sheet in which both
// are chosen, from the list, on the model or on the flat map, what is pointed at being lit in all three.
import { $, choose, el, pennant } from './dom.js';

/** As many pennants as a layer's row has room for. */
const FEW = 4;

export class Targets {
  constructor(app) {
    this.app = app;
    this.sheet = $('#target-sheet');
    this.search = $('#target-search');
    this.kind = 'sets';
    this.open = null; // ID of the layer whose list is open
    this.search.oninput = () => this.rows();
    this.search.onkeydown = e => { if (e.key !== 'Escape') e.stopPropagation(); };
    $('#target-all').onclick = () => this.kind === 'sets' ? this.aim(this.layer(), this.names()) : this.aimParts(this.layer(), this.parts());
    $('#target-close').onclick = () => this.close();
    addEventListener('keydown', e => { if (e.key === 'Escape') this.close(); });
    for (const b of $('#target-kind').children) b.onclick = () => { this.kind = b.dataset.value; this.render(); };
  }

  close() {
    if (!this.open) return;
    this.open = null;
    this.light(null);
    this.sheet.hidePopover();
  }

  names() { return this.app.state.sets.map(s => s.name); }
  parts() { return this.app.state.parts; }
  layer() { return this.app.doc.layers.find(l => l.id === this.open); }

  /** Names of the sets that the layer touches, in the order of the sets. */
  of(l) {
    const all = this.names();
    return l.targets?.length ? all.filter(n => l.targets.includes(n)) : all;
  }

  /** Names of the parts that it touches, likewise. */
  partsOf(l) { return l.parts?.length ? this.parts().filter(p => l.parts.includes(p)) : this.parts(); }

  /** Aims the layer at sets; it keeps at least one. */
  aim(l, names) {
    if (l && names.length) this.app.edit({ do: 'set', layer: l.id, path: 'targets', value: names.length === this.app.state.sets.length ? [] : names });
  }

  /** Aims it at parts, likewise. */
  aimParts(l, names) {
    if (l && names.length) this.app.edit({ do: 'set', layer: l.id, path: 'parts', value: names.length === this.parts().length ? [] : names });
  }

  toggle(l, name) {
    const now = this.of(l);
    this.aim(l, this.names().filter(n => n === name ? !now.includes(n) : now.includes(n)));
  }

  togglePart(l, name) {
    const now = this.partsOf(l);
    this.aimParts(l, this.parts().filter(n => n === name ? !now.includes(n) : now.includes(n)));
  }

  /** A click on the model or the flat map while the sheet is open: the first aims at what is there alone, others add and remove. */
  click(hit) {
    const l = this.layer();
    if (!l || !hit) return;
    if (this.kind === 'sets') {
      if (this.of(l).length === this.names().length) this.aim(l, [hit.set]); else this.toggle(l, hit.set);
    } else if (this.partsOf(l).length === this.parts().length) this.aimParts(l, [this.parts()[hit.part]]);
    else this.togglePart(l, this.parts()[hit.part]);
  }

  /** Lights what the pointer is over on the model or the flat map; at asks for it, once a frame at the most. */
  over(at) {
    if (!this.open) return;
    this.at = at;
    if (this.asked) return;
    this.asked = true;
    requestAnimationFrame(() => {
      this.asked = false;
      const hit = this.open && this.at();
      this.light(hit ? this.kind === 'sets' ? { set: hit.set } : { part: hit.part } : null);
    });
  }

  /** Lights a set or a part on the model, on the flat map and in the list. */
  light(what) {
    this.app.viewport.lightUp(what);
    const key = what && (what.set ?? this.parts()[what.part]);
    for (const r of $('#target-list').children) r.classList.toggle('lit', !!key && r.dataset.set === key);
    if (key) $('#target-list .lit')?.scrollIntoView({ block: 'nearest' });
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
      b.onpointerenter = () => this.app.viewport.lightUp({ set: s.name });
      b.onpointerleave = () => this.app.viewport.lightUp(null);
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
    this.top = box.top;
    this.place();
    this.search.focus();
  }

  /** Keeps the sheet in the window, beside what opened it. */
  place() { this.sheet.style.top = `${Math.max(8, Math.min(this.top, innerHeight - this.sheet.offsetHeight - 8))}px`; }

  /** Brings the open list up to date with the strata. */
  render() {
    const l = this.open && this.layer();
    if (!l) return this.close();
    $('#target-title').textContent = `What “${l.name}” touches`;
    choose($('#target-kind'), this.kind);
    this.rows();
    this.place();
  }

  rows() {
    const l = this.layer(), word = this.search.value.trim().toLowerCase(), sets = this.kind === 'sets';
    const focused = document.activeElement?.closest?.('#target-list [data-set]')?.dataset.set;
    const now = sets ? this.of(l) : this.partsOf(l);
    const all = sets ? this.app.state.sets.map((s, i) => ({ name: s.name, label: s.label, mark: pennant(i), what: { set: s.name } })) : this.parts().map((p, i) => ({ name: p, label: p.replaceAll('_', ' '), mark: null, what: { part: i } }));
    const rows = all.filter(k => k.label.toLowerCase().includes(word)).map(k => {
      const tick = el('input', { type: 'checkbox', checked: now.includes(k.name), disabled: now.length === 1 && now[0] === k.name });
      tick.onchange = () => sets ? this.toggle(l, k.name) : this.togglePart(l, k.name);
      const only = el('button.plain', { title: `Touch ${k.label} alone`, 'aria-label': `only ${k.label}` }, 'only');
      only.onclick = () => sets ? this.aim(l, [k.name]) : this.aimParts(l, [k.name]);
      const row = el('div.target-row', { 'data-set': k.name }, el('label', {}, tick, k.mark, el('span', {}, k.label)), only);
      row.onpointerenter = () => this.light(k.what);
      row.onpointerleave = () => this.light(null);
      return row;
    });
    if (!rows.length) rows.push(el('p.quiet', {}, `No ${sets ? 'set' : 'part'} has this in its name.`));
    $('#target-list').replaceChildren(...rows);
    if (focused) [...$('#target-list').children].find(r => r.dataset.set === focused)?.querySelector('input')?.focus({ preventScroll: true });
  }
}
