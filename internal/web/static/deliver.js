// Deliver: presets, their packing table, the files that will be written, and past deliveries.
import { $, complain, el, pennant } from './dom.js';
import { call } from './api.js';

export class Deliver {
  constructor(app) {
    this.app = app;
    this.preset = app.tables.presets[0].name;
    this.size = 1024;
    this.count = 0;
    $('#deliver').onclick = () => this.run();
  }

  take() {
    this.render();
    if (this.count === 0) this.list();
  }

  /** The chosen preset as it is for these strata: without files that no layer lays anything down for. */
  chosen() {
    const p = this.app.tables.presets.find(k => k.name === this.preset), uses = c => this.app.uses(c);
    return { ...p, files: p.files.filter(f => !f.uses || uses(f.uses)).map(f => f.alpha && uses('opacity') ? { ...f, channels: [...f.channels, f.alpha] } : f) };
  }

  render() {
    const s = this.app.state;
    if (!s) return;
    const p = this.chosen();
    $('#presets').replaceChildren(...this.app.tables.presets.map(k => {
      const b = el('button', { 'data-preset': k.name, title: k.help }, k.title);
      b.classList.toggle('on', k.name === this.preset);
      b.onclick = () => { this.preset = k.name; this.render(); };
      return b;
    }));
    $('#packing-title').textContent = `Packing table · ${p.title}`;
    const chan = (f, i) => el('td.chan.' + 'rgba'[i], {}, f.channels[i] ? this.words(f.channels[i]) : '—');
    $('#packing').replaceChildren(el('tr', {}, ...['File', 'R', 'G', 'B', 'A', 'Format', 'Colour space', 'Name'].map(t => el('th', {}, t))),
      ...p.files.map(f => el('tr', {}, el('td', {}, el('strong', {}, f.label)), chan(f, 0), chan(f, 1), chan(f, 2), chan(f, 3), el('td.figure', {}, `PNG ${f.bits}`), el('td', {}, f.srgb ? 'sRGB' : 'linear'), el('td.figure', {}, f.pattern + '.png'))));
    $('#deliver-size').replaceChildren(...[0, ...this.app.tables.deliverSizes].map(n => {
      const b = el('button', { 'data-size': n, title: n ? '' : 'each set at its own resolution' }, n ? `${n} px` : 'own');
      b.classList.toggle('on', n === this.size);
      b.onclick = () => { this.size = n; this.render(); };
      return b;
    }));
    const files = s.sets.flatMap((k, i) => p.files.map(f => ({ i, name: f.pattern.replace('{set}', k.tile ? s.name : k.label) + (k.tile ? `.${k.tile}` : '') + '.png', size: this.size || k.size, bytes: this.guess(f, this.size || k.size) })));
    const list = files.map(f => el('li', {}, pennant(f.i), el('span.figure.name', {}, f.name), el('span.figure', {}, `${f.size} · ≈ ${mb(f.bytes)}`)));
    let total = files.reduce((a, f) => a + f.bytes, 0);
    if (p.glb) { list.push(el('li', {}, el('span.figure.name', {}, `${s.name}.glb`), el('span.figure', {}, `≈ ${mb(total)}`))); total *= 2; }
    list.push(el('li', {}, el('span.figure.name', {}, 'delivery.json'), el('span.figure', {}, 'what each file holds')));
    $('#files').replaceChildren(...list);
    $('#files-title').textContent = `Will be written · ${list.length} files, ≈ ${mb(total)}`;
    const missing = s.cells.filter(c => c.state === 'missing'), stale = s.cells.filter(c => c.state === 'stale');
    const warn = [];
    if (missing.length) warn.push(`${missing.length} maps are not baked; layers that read them see flat, open surface there.`);
    if (stale.length) warn.push(`${stale.length} maps are stale.`);
    if (!this.app.doc.layers.some(l => !l.hidden)) warn.push('No layer is visible, so the maps will be bare.');
    warn.push('Packed and normal files are data: read them as linear, not as sRGB. delivery.json says so beside them.');
    $('#deliver-warning').textContent = warn.join(' ');
    const go = $('#deliver');
    go.textContent = `Deliver ${list.length} files`;
    go.disabled = !!s.job || !s.hasUV;
  }

  words(name) { return this.app.tables.sources[name] || name; }

  /** Bytes of a file before it is made: what such maps came to per texel. */
  guess(f, size) { return size * size * (f.bits === 16 ? 2.2 : f.srgb ? 0.8 : 0.85); }

  run() {
    complain($('#deliver-complaint'), '');
    $('#deliver-words').textContent = '';
    this.app.do('deliver', { value: this.preset, number: this.size, folder: $('#folder').value.trim() }, $('#deliver-complaint'));
  }

  progress(j) {
    if (j.kind === 'deliver') $('#deliver-words').textContent = `${Math.round(j.share * 100)} % · evaluated anew at ${this.size ? this.size + ' px' : 'each set’s own resolution'}`;
  }

  async done(e) {
    $('#deliver-words').textContent = '';
    if (e.error) { complain($('#deliver-complaint'), e.error); return; }
    await this.list();
    $('#deliver-words').textContent = e.stopped ? 'Stopped; nothing was written.' : 'Done. The newest delivery stands on top of the list.';
  }

  async list() {
    let rows;
    try {
      rows = await call('GET', `${this.app.api}/deliveries`);
    } catch {
      return;
    }
    this.count = rows.length;
    this.app.stations();
    const table = $('#deliveries');
    if (!rows.length) { table.replaceChildren(el('tr', {}, el('td.quiet', {}, 'None yet.'))); return; }
    table.replaceChildren(...rows.map(d => {
      const again = el('button.button', {}, 'Deliver again');
      again.onclick = () => { this.preset = d.preset; this.size = d.size; $('#folder').value = d.folder; this.render(); this.run(); };
      return el('tr', { 'data-delivery': d.id }, el('td.figure', {}, d.made), el('td', {}, d.title), el('td.figure', {}, d.size ? `${d.size} px` : 'own'), el('td', {}, `${d.note.files.length + 1} files`),
        el('td.quiet', {}, d.folder), el('td.row', {}, el('a.button', { href: `${this.app.api}/deliveries/${d.id}/zip`, download: '', 'data-zip': d.id }, 'Download zip'), again));
    }));
  }
}

const mb = b => b < 1e6 ? `${Math.max(1, Math.round(b / 1e3))} kB` : `${(b / 1e6).toFixed(b < 1e7 ? 1 : 0)} MB`;
