// The sheet of finishes: those of people's own and those built in, with their dials.
import { $, complain, el, icon, toast } from './dom.js';
import { call } from './api.js';
import { value } from './values.js';

export class Finishes {
  constructor(app) {
    this.app = app;
    $('#add-finish').onclick = () => this.show();
    $('#finish-close').onclick = () => { $('#finish-sheet').hidden = true; };
    this.search = el('input.input', { type: 'search', placeholder: 'Search finishes', 'aria-label': 'Search finishes', id: 'finish-search' });
    this.search.oninput = () => this.narrow();
    this.none = el('p.empty', { hidden: true }, 'No finish is called that.');
    this.complaint = el('p.complaint', { hidden: true, role: 'alert', id: 'finish-complaint' });
    const file = el('input', { type: 'file', accept: '.json', hidden: true, id: 'finish-file' });
    file.onchange = async () => { await this.bring(file.files[0]); file.value = ''; };
    const bring = el('button.button', { id: 'finish-bring', title: 'Bring in a finish from its file' }, icon('plus'), 'From file');
    bring.onclick = () => file.click();
    const model = $('#model');
    model.addEventListener('dragover', e => { if (this.dragged) e.preventDefault(); });
    model.addEventListener('drop', e => { if (this.dragged) { e.preventDefault(); this.drop(e); } });
    this.tools = el('div.finish-tools', {}, this.search, bring, file);
  }

  async show() {
    $('#finish-sheet').hidden = false;
    await this.list();
    this.search.focus();
  }

  async list() {
    let all;
    try { all = await call('GET', '/api/finishes'); } catch (e) { return toast(e.message); }
    const own = all.filter(f => f.own), rest = all.filter(f => !f.own);
    this.cards = all.map(f => [f, this.card(f)]);
    const of = list => this.cards.filter(([f]) => list.includes(f)).map(c => c[1]);
    $('#finish-list').replaceChildren(this.tools, this.complaint, ...own.length ? [el('h3.finish-head', {}, 'Yours'), ...of(own), el('h3.finish-head', {}, 'Built in')] : [], ...of(rest), this.none);
    this.narrow();
  }

  /** Leaves only the finishes whose name, help or tags have all that is searched for. */
  narrow() {
    const words = this.search.value.trim().toLowerCase().split(/\s+/);
    for (const [f, card] of this.cards) card.hidden = !words.every(w => `${f.title} ${f.help} ${(f.tags || []).join(' ')}`.toLowerCase().includes(w));
    this.none.hidden = this.cards.some(([, card]) => !card.hidden);
  }

  /** Where a finish is laid: in the chosen group when that is no finish itself, else on top of all. */
  into() {
    const l = this.app.layer();
    return l?.group && !l.finish ? l : null;
  }

  card(f) {
    const dials = Object.fromEntries(f.dials.map(d => [d.name, d.default])), into = this.into();
    const lay = el('button.button.is-primary', { 'data-finish': f.name }, into ? `Lay into “${into.name}”` : 'Lay on top');
    lay.onclick = async () => {
      await this.app.edit({ do: 'finish', kind: f.name, dials, layer: this.into()?.id });
      $('#finish-sheet').hidden = true;
    };
    const sample = el('canvas.finish-sample', { width: 14, height: 72, 'aria-hidden': 'true' });
    core(sample, f.sample);
    const picture = el('img.finish-picture', { src: `/api/finishes/${encodeURIComponent(f.name)}/picture`, loading: 'lazy', width: 72, height: 72, alt: `${f.title} on a bollard` });
    const tools = el('div.row', {}, lay, el('a.button', { href: `/api/finishes/${encodeURIComponent(f.name)}`, title: 'Save this finish as a file' }, icon('download'), 'File'));
    if (f.own) {
      const gone = el('button.plain', { title: 'Delete this finish; where it was laid it stays', 'aria-label': `Delete ${f.title}` }, icon('trash'));
      gone.onclick = async () => {
        try { await call('DELETE', `/api/finishes/${encodeURIComponent(f.name)}`); } catch (e) { toast(e.message); }
        this.list();
      };
      tools.append(gone);
    }
    const card = el('details.finish-card', { name: 'finish', 'data-card': f.name }, el('summary', {}, sample, picture, el('span', {}, el('strong', {}, f.title), el('span.quiet', {}, f.help))),
      ...f.dials.map(d => { const v = value({ ...d, value: d.default, commit: x => { dials[d.name] = x; }, live: x => { dials[d.name] = x; } }); v.title = d.help; return v; }), tools);
    // Dragged onto the model it goes to the set under the pointer.
    const summary = card.firstElementChild;
    summary.draggable = true;
    summary.ondragstart = e => { e.dataTransfer.setData('text/plain', f.title); this.dragged = { kind: f.name, dials }; };
    summary.ondragend = () => { this.dragged = null; };
    return card;
  }

  /** Lays the dragged finish on the set that it was let go over. */
  drop(e) {
    const hit = this.app.viewport.pick(e), { kind, dials } = this.dragged;
    this.dragged = null;
    if (!hit) return toast('Let it go over the model.');
    this.app.edit({ do: 'finish', kind, dials, targets: this.app.state.sets.length > 1 ? [hit.set] : [] });
    $('#finish-sheet').hidden = true;
  }

  async bring(file) {
    complain(this.complaint, '');
    if (!file) return;
    try {
      const { name } = await call('POST', '/api/finishes', file);
      await this.list();
      const card = $(`[data-card="${CSS.escape(name)}"]`);
      card.open = true;
      card.scrollIntoView({ block: 'nearest' });
    } catch (e) {
      complain(this.complaint, `${file.name}: ${e.message}`);
    }
  }
}

/** A finish as a core sample: its coats as bands with uneven rims, the lowest at the foot. */
function core(canvas, bands) {
  const g = canvas.getContext('2d'), w = canvas.width, h = canvas.height, high = h / bands.length;
  let seed = 11;
  const rnd = () => { seed = seed * 1664525 + 1013904223 | 0; return (seed >>> 8) / 16777216; };
  for (let i = bands.length - 1; i >= 0; i--) { // each hides the foot of those above it
    const b = bands[i], top = h - (i + 1) * high;
    g.fillStyle = b.hex;
    g.beginPath();
    g.moveTo(0, h);
    for (let x = 0; x <= w; x += 4) g.lineTo(x, Math.max(0, top + (i + 1 < bands.length ? (rnd() - 0.5) * Math.min(5, high) : 0)));
    g.lineTo(w, h);
    g.fill();
    for (let k = 0; k < b.rough * 26; k++) {
      g.fillStyle = rnd() < 0.5 ? '#ffffff22' : '#00000030';
      g.fillRect(rnd() * w, top + rnd() * high, 1.5, 1.5);
    }
    if (b.metal > 0.5) { g.fillStyle = '#ffffff38'; g.fillRect(w * 0.2, top, 3, high); }
  }
}
