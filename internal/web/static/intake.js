// Intake: the texture sets, the flat map, and what is wrong with the model.
import { $, choose, el, grouped, pennant, setColour } from './dom.js';
import { call } from './api.js';

export class Intake {
  constructor(app) {
    this.app = app;
    this.set = null;
    for (const b of document.querySelectorAll('#split button')) b.onclick = () => app.do('split', { value: b.dataset.value });
  }

  take(s, old) {
    choose($('#split'), s.split);
    if (!s.sets.some(k => k.name === this.set)) this.set = s.sets[0]?.name;
    this.rows(s);
    const [x, y, z] = s.bounds.map(v => v.toFixed(2));
    const facts = [['model', s.model], ['size', `${x} × ${y} × ${z} m`], ['triangles', grouped(s.triangles)], ['parts', s.parts.length]];
    $('#model-facts').replaceChildren(...facts.map(([k, v]) => el('div', {}, el('dt', {}, k), el('dd', {}, String(v)))));
    $('#model-notes').textContent = (s.notes || []).join(' ');
    if (!old || old.split !== s.split) { this.flat(); this.findings(); }
  }

  rows(s) {
    $('#sets').replaceChildren(...s.sets.map((k, i) => {
      const row = el('div.set-row', { tabIndex: 0, role: 'button', 'data-set': k.name }, pennant(i), el('strong', {}, k.name), el('span.figure', {}, `${s.size} px`),
        el('span.quiet', {}, `${grouped(k.triangles)} triangle${k.triangles === 1 ? '' : 's'}`), el('span.figure', {}, `${grouped(k.density * s.size)} px/m`));
      row.classList.toggle('on', k.name === this.set);
      row.onclick = () => { this.set = k.name; this.rows(this.app.state); this.flat(); };
      row.onkeydown = e => { if (e.key === 'Enter') row.onclick(); };
      return row;
    }));
  }

  async flat() {
    const box = $('#flatmap'), set = this.set, i = this.app.state.sets.findIndex(k => k.name === set);
    const r = await fetch(`${this.app.api}/flat/${encodeURIComponent(set)}.svg`);
    if (!r.ok || set !== this.set) return;
    box.innerHTML = await r.text();
    box.style.setProperty('--set', setColour(i));
  }

  async findings() {
    const list = await call('GET', `${this.app.api}/checks`);
    const mend = list.filter(c => c.severity === 'mend').length;
    $('#findings-title').textContent = list.length ? `Findings · ${mend} to mend, ${list.length - mend} to know` : 'Findings · none: islands lie inside their tile and do not overlap';
    $('#findings').replaceChildren(...list.map(c => {
      const i = this.app.state.sets.findIndex(k => k.name === c.set);
      const see = el('button.button', {}, 'See the set');
      see.onclick = () => { this.set = c.set; this.rows(this.app.state); this.flat(); };
      return el('tr', {}, el('td', { className: 'sev-' + c.severity }, c.kind), el('td', {}, pennant(i), ' ' + c.set), el('td', {}, `${grouped(c.count)} ${c.detail}`), el('td', {}, see));
    }));
  }
}
