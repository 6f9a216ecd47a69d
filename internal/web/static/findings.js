// The list of what was found on the model: each with what it means, where it is and what to do.
import { $, el, grouped, pennant } from './dom.js';
import { call } from './api.js';
import { value } from './values.js';

export class Findings {
  constructor(intake) {
    this.intake = intake;
    this.app = intake.app;
    this.list = [];
    this.at = -1; // of list
    this.row = -1; // of the rows shown
    this.open = new Set(); // kinds that are unfolded
    const keys = (box, move, go) => box.addEventListener('keydown', e => {
      const by = { ArrowDown: 1, ArrowUp: -1, Home: -1e6, End: 1e6 }[e.key];
      if (by) { e.preventDefault(); move(by); }
      if (e.key === 'Enter' || e.key === ' ') { e.preventDefault(); go(); }
    });
    keys($('#findings'), by => this.pick(Math.max(0, Math.min(this.entries().length - 1, this.row + by)), true), () => this.go());
    $('#findings').addEventListener('keydown', e => {
      const k = this.entries()[this.row]?.kind;
      if (!k || e.key !== 'ArrowRight' && e.key !== 'ArrowLeft') return;
      e.preventDefault();
      this.unfold(k, e.key === 'ArrowRight');
    });
    keys($('#places'), by => this.show(Math.max(0, Math.min(this.places().length - 1, this.place + by)), true), () => this.show(this.place));
  }

  places() { return this.list[this.at]?.places || []; }

  async load() {
    $('#findings-title').textContent = 'Looking…';
    this.clear();
    const mine = this.loading = {};
    let r;
    try {
      r = await call('GET', `${this.app.api}/checks`);
    } catch (e) {
      $('#findings-title').textContent = e.message;
      return;
    }
    if (mine !== this.loading) return;
    this.list = r.findings;
    this.sets = r.sets;
    const mend = this.list.filter(f => f.severity === 'mend').length;
    $('#findings-title').textContent = this.list.length ? `Findings · ${mend} to mend, ${this.list.length - mend} to know` : 'Findings · none';
    this.at = this.row = -1;
    this.padding();
    this.rows();
    if (this.list.length) this.pick(0);
    else { $('#finding-words').textContent = 'Islands lie inside their tile, do not overlap and keep the padding; faces and names are sound.'; $('#places').replaceChildren(); }
  }

  padding() {
    const t = this.app.state.intake;
    $('#padding').replaceChildren(value({ name: 'padding', label: 'padding', value: t.padding, min: 0, max: 64, default: 4, unit: 'px', commit: v => this.app.do('padding', { intake: { padding: v } }) }));
  }

  /** What the list shows: findings of one kind in several sets are one row that unfolds. */
  entries() {
    const out = [];
    for (const kind of new Set(this.list.map(f => f.kind))) {
      const items = this.list.flatMap((f, n) => f.kind === kind ? [n] : []);
      if (items.length === 1) out.push({ n: items[0] });
      else {
        out.push({ n: items[0], kind, items });
        if (this.open.has(kind)) out.push(...items.map(n => ({ n, inner: true })));
      }
    }
    return out;
  }

  rows() {
    $('#findings').replaceChildren(...this.entries().map((e, at) => {
      const f = this.list[e.n], i = this.app.state.sets.findIndex(k => k.label === f.set);
      const count = e.items ? e.items.reduce((sum, n) => sum + this.list[n].count, 0) : f.count;
      const row = el('div.finding.sev-' + f.severity + (e.inner ? '.inner' : ''), { role: 'option', tabIndex: at === Math.max(0, this.row) ? 0 : -1, 'aria-selected': at === this.row, 'data-kind': f.kind },
        el('span.finding-title', {}, e.items ? `${this.open.has(e.kind) ? '▾' : '▸'} ${f.title}` : f.title),
        el('span.quiet', {}, !e.items && i >= 0 ? pennant(i) : null, e.items ? `${e.items.length} sets` : i >= 0 ? ' ' + f.set : 'model'),
        el('span.figure', {}, f.kind === 'unused' ? e.items ? '' : `${f.count} %` : grouped(count)));
      if (e.items) row.dataset.open = this.open.has(e.kind);
      row.onclick = () => { this.pick(at, true); this.go(); };
      return row;
    }));
  }

  /** Does what Enter does on the chosen row: unfolds it, or frames its first place. */
  go() {
    const k = this.entries()[this.row]?.kind;
    if (k) this.unfold(k, !this.open.has(k)); else this.show(0);
  }

  unfold(kind, on) {
    if (on) this.open.add(kind); else this.open.delete(kind);
    this.rows();
    $('#findings').children[this.row]?.focus();
  }

  /** Chooses a row and says what it means. */
  pick(at, focus) {
    const e = this.entries()[at];
    if (!e) return;
    this.row = at;
    this.at = e.n;
    const f = this.list[e.n];
    [...$('#findings').children].forEach((r, i) => { r.setAttribute('aria-selected', i === at); r.tabIndex = i === at ? 0 : -1; });
    if (focus) $('#findings').children[at].focus();
    const words = e.items ? `${e.items.length} sets have it` : f.detail[0].toUpperCase() + f.detail.slice(1);
    $('#finding-words').replaceChildren(el('strong', {}, words + '.'), ' ' + f.remedy);
    this.place = 0;
    const places = e.items ? [] : f.places;
    $('#places').replaceChildren(...places.map((p, i) => {
      const b = el('div.place', { role: 'option', tabIndex: i ? -1 : 0, 'aria-selected': false, 'data-place': i }, p.label);
      b.onclick = () => this.show(i, true);
      return b;
    }), !e.items && f.count > f.places.length && f.places.length === 40 ? el('p.quiet', {}, `and ${grouped(f.count - 40)} more`) : '');
  }

  /** Frames a place of the chosen finding on the flat map and on the model. */
  async show(k, focus) {
    const f = this.list[this.at], p = f?.places[k];
    if (!p) return;
    this.place = k;
    const rows = [...$('#places').querySelectorAll('.place')];
    rows.forEach((r, i) => { r.setAttribute('aria-selected', i === k); r.tabIndex = i === k ? 0 : -1; });
    if (focus) rows[k].focus();
    rows[k].scrollIntoView({ block: 'nearest' });
    const n = this.at, shape = await call('GET', `${this.app.api}/checks/${n}/${k}`).catch(() => null);
    if (!shape || n !== this.at || k !== this.place) return;
    if (p.set && p.set !== this.intake.set && !this.intake.preview) this.intake.choose(p.set);
    await this.intake.flat();
    this.intake.flatmap.mark(shape.flat);
    if (p.uv[2] > p.uv[0] || p.uv[3] > p.uv[1]) this.intake.flatmap.frame(p.uv);
    this.app.viewport.mark(new Float32Array(shape.faces));
    this.app.viewport.frameBox(p.min, p.max);
    this.shown = `${f.kind} ${k}`;
  }

  clear() {
    this.app.viewport?.mark(null);
    this.intake.flatmap.mark(null);
    this.shown = '';
  }
}
