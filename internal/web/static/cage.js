// How parts pair with the high-poly, the cage on the model, where rays miss, and the normals beside the high-poly.
import { $, complain, el, grouped } from './dom.js';
import { call } from './api.js';
import { show, value } from './values.js';

export class Cage {
  constructor(board) {
    this.board = board;
    this.app = board.app;
    $('#pair-open').onclick = () => { $('#pair-sheet').hidden = false; $('#bring-sheet').hidden = true; this.load(); };
    $('#pair-close').onclick = () => { $('#pair-sheet').hidden = true; };
    const ends = $('#endings');
    ends.onkeydown = e => { if (e.key === 'Enter') ends.blur(); e.stopPropagation(); };
    ends.onchange = () => this.set({ endings: ends.value.trim() ? ends.value.split(/[,;]/).map(w => w.trim()).filter(Boolean) : null });
  }

  /** What the cage depends on. */
  key(s) { return JSON.stringify([s.high, s.modelVersion, s.settings.front, s.settings.rear, s.settings.parts, s.settings.endings, s.settings.straight, s.sets.map(k => k.name)]); }

  set(change) { return this.app.do('settings', { settings: change }, $('#pair-complaint')); }

  take(s) {
    $('#pair-open').disabled = !s.high?.length;
    if (!s.high?.length) $('#pair-sheet').hidden = true;
    if (!$('#pair-sheet').hidden) this.load();
  }

  async load() {
    const s = this.app.state, key = this.key(s);
    if (key === this.loaded) return;
    this.loaded = key;
    $('#pair-words').textContent = 'Measuring the two shapes…';
    try {
      const p = await call('GET', `${this.app.api}/pairing`);
      if (key !== this.loaded) return;
      complain($('#pair-complaint'), '');
      this.render(s, p);
    } catch (e) {
      this.loaded = '';
      complain($('#pair-complaint'), e.message);
    }
  }

  render(s, p) {
    const lone = p.parts.filter(k => !k.high.length).length;
    $('#pair-words').textContent = `${p.parts.length - lone} of ${p.parts.length} parts have a high-poly of their name.` + (lone ? ` ${lone} take any part that is near.` : '') + (p.alone.length ? ` Without a partner in the high-poly: ${p.alone.join(', ')}.` : '');
    const ends = $('#endings');
    if (document.activeElement !== ends) ends.value = p.endings.join(', ');
    const most = s.bounds.reduce((a, b) => Math.max(a, b)), parts = s.settings.parts || {};
    const reach = (part, side) => {
      const own = parts[part.part]?.[side] || 0;
      return value({ name: `${side} of ${part.part}`, value: own, min: 0, max: most, default: 0, unit: 'm', zero: `≈ ${show(part.reach[side], { unit: 'm' })}`, commit: v => {
        const next = { ...parts, [part.part]: { front: 0, rear: 0, ...parts[part.part], [side]: v } };
        if (!next[part.part].front && !next[part.part].rear) delete next[part.part];
        this.set({ parts: next });
      } });
    };
    $('#pairs').replaceChildren(el('tr', {}, ...['Part', 'High-poly', 'Front', 'Rear'].map(w => el('th', {}, w))), ...p.parts.map(k => el('tr', { 'data-part': k.part },
      el('td', {}, k.part, k.joined.length ? el('div.quiet', {}, `one surface with ${k.joined.join(', ')}`) : null),
      el('td' + (k.high.length ? '' : '.amiss'), {}, k.high.join(', ') || 'none of its name'),
      el('td', {}, reach(k, 'front')), el('td', {}, reach(k, 'rear')))));
  }

  /** Shows the shells and, on the model, where rays find nothing. */
  async present() {
    const v = this.app.viewport, s = this.app.state, key = this.key(s), words = $('#bake-view-words');
    v.compare(null);
    if (key !== this.shown) {
      words.textContent = 'looking…';
      this.shown = key;
      try {
        const b = await call('GET', `${this.app.api}/cage`);
        const n = new DataView(b).getUint32(0, true), m = new DataView(b).getUint32(4, true);
        this.shells = { front: new Float32Array(b, 8, 3 * n), rear: new Float32Array(b, 8 + 12 * n, 3 * n), index: new Uint32Array(b, 8 + 24 * n, m) };
        let missed = 0, texels = 0;
        for (const set of s.sets) {
          const r = await fetch(`${this.app.api}/misses?set=${encodeURIComponent(set.name)}`);
          if (!r.ok) throw new Error((await r.json()).error);
          missed += Number(r.headers.get('X-Missed'));
          texels += Number(r.headers.get('X-Texels'));
          await v.takeMap(await r.blob(), set.name, 'misses', key);
        }
        this.count = missed ? `rays miss at ${grouped(missed)} of ${grouped(texels)} texels (512 px)` : `no ray misses at ${grouped(texels)} texels`;
      } catch (e) {
        this.shown = '';
        words.textContent = e.message;
        return;
      }
    }
    if (this.board.showing !== 'cage' || this.app.stageName !== 'bake') return;
    words.textContent = this.count;
    v.showShells(this.shells);
    v.show('map', 'misses');
  }

  /** Puts the low-poly with its baked normals beside the high-poly, under a light that goes round. */
  async compare() {
    const v = this.app.viewport, s = this.app.state, words = $('#bake-view-words');
    const baked = s.cells.filter(c => c.kind === 'normal' && c.made);
    if (!baked.length) { words.textContent = 'bake the tangent normal first'; v.compare(null); v.show('plain'); return; }
    words.textContent = 'fetching the high-poly…';
    const key = JSON.stringify([s.high, s.modelVersion]);
    try {
      if (key !== this.highKey) {
        const b = await call('GET', `${this.app.api}/high-mesh`);
        const n = new DataView(b).getUint32(0, true), m = new DataView(b).getUint32(4, true);
        this.high = { position: new Float32Array(b, 8, 3 * n), normal: new Float32Array(b, 8 + 12 * n, 3 * n), index: new Uint32Array(b, 8 + 24 * n, m) };
        this.highKey = key;
      }
      await Promise.all(baked.map(c => v.loadMap(`${this.board.url(c)}&px=2048&made=${c.made}`, c.set, c.kind, c.made)));
    } catch (e) {
      words.textContent = e.message;
      return;
    }
    if (this.board.showing !== 'compare' || this.app.stageName !== 'bake') return;
    words.textContent = 'left: baked · right: high-poly';
    v.compare(this.high);
  }
}
