// Reading back: the model as it is painted beside the model as its delivered files have it, wired as the preset says or with one of
// the mistakes that are made most often.
import { $, complain, el, pennant } from './dom.js';
import { call } from './api.js';

/**
 * Mistakes in reading files, and what each does to the texels of a picture.
 * @type {{name: string, words: string, sign: string, orm?: (d: Uint8Array, i: number) => void, normal?: (d: Uint8Array, i: number) => void, bare?: boolean}[]}
 */
const MISTAKES = [
  { name: 'srgb', words: 'data read as sRGB', sign: 'Too glossy, thinner metal edges, normals lean: the sRGB switch of packed and normal maps was left on.', orm: (d, i) => { for (let k = 0; k < 3; k++) d[i + k] = linear[d[i + k]]; }, normal: (d, i) => { for (let k = 0; k < 3; k++) d[i + k] = linear[d[i + k]]; } },
  { name: 'green', words: 'green the wrong way', sign: 'Bumps look like dents when the light comes from above: green up was read as green down, or the other way.', normal: (d, i) => { d[i + 1] = 255 - d[i + 1]; } },
  { name: 'smooth', words: 'roughness taken for smoothness', sign: 'What is dull shines and what shines is dull.', orm: (d, i) => { d[i + 1] = 255 - d[i + 1]; } },
  { name: 'swapped', words: 'channels swapped', sign: 'Occlusion was read as metallic and metallic as occlusion: open places turn to metal and bare metal to black.', orm: (d, i) => { [d[i], d[i + 2]] = [d[i + 2], d[i]]; } },
  { name: 'bare', words: 'no padding', sign: 'Dark lines along the rims of islands, more of them the farther away: look from afar.', bare: true },
];

/** What a stored byte is in linear light (IEC 61966-2-1), as a byte. */
const linear = Uint8Array.from({ length: 256 }, (_, i) => { const v = i / 255; return Math.round(255 * (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)); });

export class ReadBack {
  constructor(app) {
    this.app = app;
    this.id = 0; // of the delivery that is looked at, 0 for none
    this.wrong = new Set();
    $('#read-close').onclick = () => this.close();
    $('#read-far').onclick = () => this.step(!this.far);
    $('#read-wipe').onclick = () => this.wipe(!this.wiped);
    $('#read-compare').onclick = () => this.compare();
    addEventListener('keydown', e => { if (e.key === 'Escape' && this.id && !this.wiped && !document.querySelector('dialog[open]')) this.close(); });
  }

  /** Looks at a delivery. */
  async open(d) {
    this.id = d.id;
    this.made = d;
    this.wrong.clear();
    this.files = [];
    this.differences = [];
    this.set = this.app.state.sets.find(k => this.went(k.name))?.name;
    document.body.classList.add('reading');
    $('#readback').hidden = false;
    $('#read-title').textContent = `${d.title}, ${d.made}`;
    complain($('#read-complaint'), '');
    if (!this.set) complain($('#read-complaint'), 'None of the sets that were delivered is there any more: the model has been split or laid out otherwise since. Deliver again to see it here.');
    $('#read-compare').hidden = !this.set;
    this.app.viewport.pair(true);
    this.app.applyLayout();
    this.render();
    await Promise.all([this.list(), this.wire()]);
  }

  /** What the files of a set belong to: the set itself, or the join sheet that it lies on. */
  family(set) {
    const sheet = this.made.note.joins?.find(j => j.sets.some(c => c.set === set));
    return sheet ? `join:${sheet.name}` : set;
  }

  /** Whether a set was delivered. */
  went(set) { const of = this.family(set); return this.made.note.files.some(f => f.set === of); }

  close() {
    if (!this.id) return;
    this.id = 0;
    document.body.classList.remove('reading');
    $('#readback').hidden = true;
    $('#read-large').hidden = true;
    this.step(false);
    this.wipe(false);
    this.app.viewport.pair(null);
    this.app.applyLayout();
  }

  /** Shows both over a line instead of side by side, or side by side again. */
  wipe(on) {
    if (!!this.wiped === on) return;
    this.wiped = on;
    $('#read-sides').hidden = on;
    $('#read-wipe').textContent = on ? 'Side by side' : 'Over a line';
    this.app.keepsakes.versus(on ? { side: 'sent-' } : null, 'from the files', 'as it is painted');
  }

  /** Looks from afar, or from where it was again. */
  step(far) {
    if (!!this.far === far) return;
    this.far = far;
    this.app.viewport.stepBack(far);
    $('#read-far').textContent = far ? 'Come back' : 'From afar';
  }

  async list() {
    const mine = this.id;
    try {
      const r = await call('GET', `${this.app.api}/deliveries/${mine}/files`);
      if (mine !== this.id) return;
      this.files = r.files;
      this.differences = r.differences;
    } catch (e) {
      complain($('#read-complaint'), e.message);
    }
    this.render();
  }

  /** Takes the files' pictures, wired by their note, and makes the chosen mistakes with them. */
  async wire() {
    const mine = this.wiring = {}, bare = MISTAKES.some(m => m.bare && this.wrong.has(m.name));
    for (const k of this.app.state.sets) {
      if (!this.went(k.name)) continue;
      let b;
      try {
        b = await call('GET', `${this.app.api}/deliveries/${this.id}/wired?set=${encodeURIComponent(k.name)}${bare ? '&bare=1' : ''}`);
      } catch (e) {
        complain($('#read-complaint'), e.message);
        return;
      }
      if (mine !== this.wiring || !this.id) return;
      const size = new DataView(b).getUint32(0, true), n = 4 * size * size, at = i => new Uint8Array(b, 4 + i * n, n);
      const [base, orm, normal, glow] = [0, 1, 2, 3].map(at), wrong = MISTAKES.filter(m => this.wrong.has(m.name));
      for (const m of wrong) for (let i = 0; i < n; i += 4) { m.orm?.(orm, i); m.normal?.(normal, i); }
      for (const [view, data] of [['base', base], ['orm', orm], ['normal', normal]]) this.app.viewport.sent(k.name, view, size, data);
      if (this.app.uses('emissive')) this.app.viewport.sent(k.name, 'emissive', size, glow);
      if (this.app.uses('opacity')) {
        const clear = new Uint8Array(n);
        for (let i = 0; i < n; i += 4) clear.set([base[i + 3], base[i + 3], base[i + 3], 255], i);
        this.app.viewport.sent(k.name, 'opacity', size, clear);
      }
    }
    this.wiredOnce = true;
  }

  compare() { complain($('#read-complaint'), ''); this.app.do('compare', { number: this.id }, $('#read-complaint')); }

  /** A comparison has ended. */
  done(e) {
    if (e.error) { complain($('#read-complaint'), e.error); return; }
    if (this.id) this.list();
  }

  render() {
    const sets = this.app.state.sets, at = new Map(sets.map((k, i) => [k.name, i])), bad = this.files.filter(f => f.state !== 'whole');
    $('#read-mistakes').replaceChildren(...MISTAKES.map(m => {
      const i = el('input', { type: 'checkbox', checked: this.wrong.has(m.name), 'data-mistake': m.name });
      i.onchange = () => { this.wrong[i.checked ? 'add' : 'delete'](m.name); this.render(); this.wire(); };
      return el('label.tick', {}, i, m.words);
    }));
    const signs = MISTAKES.filter(m => this.wrong.has(m.name)).map(m => m.sign);
    $('#read-sign').textContent = signs.join(' ') || 'The files are read exactly as the preset says.';
    $('#read-sides').lastElementChild.textContent = signs.length ? 'from the files, read wrong' : 'from the files';
    $('#read-state').textContent = !this.files.length ? '' : bad.length ? `${bad.length} of ${this.files.length} files are ${bad.every(f => f.state === 'missing') ? 'missing' : 'missing or changed'}: ${bad.slice(0, 3).map(f => f.file).join(', ')}` : `All ${this.files.length} files are as they were delivered, ${mb(this.files.reduce((n, f) => n + f.bytes, 0))}.`;
    // What differs most, by channel.
    const most = new Map();
    for (const d of this.differences) if (!most.has(d.channel) || most.get(d.channel).most < d.most) most.set(d.channel, d);
    $('#read-compare').textContent = this.differences.length ? 'Compare again' : 'Compare with the strata';
    $('#read-differences').replaceChildren(...[...most.values()].map(d => el('tr', {}, el('td', {}, this.app.deliver.planes.words(d.channel.replace(/^inverted /, ''))), el('td.figure', { 'data-difference': d.channel }, d.steps ? `${d.steps.toFixed(2)} steps` : d.most.toExponential(1)), el('td.quiet', { title: `${d.file}, texel ${d.x}, ${d.y}` }, d.file))));
    // The files of a set, channel by channel.
    $('#read-sets').replaceChildren(...sets.filter(k => this.went(k.name)).map(k => {
      const b = el('button', { 'data-set': k.name, 'aria-pressed': k.name === this.set }, pennant(at.get(k.name)), k.label);
      b.classList.toggle('on', k.name === this.set);
      b.onclick = () => { this.set = k.name; this.render(); };
      return b;
    }));
    const files = this.files.filter(f => f.channels && this.set && f.set === this.family(this.set));
    $('#read-files').replaceChildren(...files.map(f => el('div.read-file', {}, el('div', {}, el('strong.figure', {}, f.file), el('span.quiet', {}, `${f.colour_space} · ${f.size} px · ${f.bits} bits · ${mb(f.bytes)}`)),
      el('div.read-planes', {}, ...['R', 'G', 'B', 'A'].filter(k => f.channels[k]).map(k => {
        const n = 'RGBA'.indexOf(k), src = `${this.app.api}/deliveries/${this.id}/plane?file=${encodeURIComponent(f.file)}&k=${n}`;
        const b = el('button', { 'data-plane': `${f.file} ${k}`, title: `${k}: ${f.channels[k]}`, 'aria-label': `${k} ${f.channels[k]} of ${f.file}` }, el('img', { src, alt: '', width: 54, height: 54 }), el('span', {}, `${k} ${f.channels[k]}`));
        b.onclick = () => this.large(src, `${f.file} · ${k}: ${f.channels[k]}`);
        return b;
      })))));
  }

  /** Shows one channel of a file large, or ends that. */
  large(src, words) {
    const box = $('#read-large'), same = !box.hidden && box.dataset.src === src;
    box.hidden = same;
    box.dataset.src = src;
    if (same) return;
    $('img', box).src = `${src}&large=1`;
    $('span', box).textContent = words;
    box.onclick = () => { box.hidden = true; };
  }
}

const mb = b => b < 1e6 ? `${Math.max(1, Math.round(b / 1e3))} kB` : `${(b / 1e6).toFixed(b < 1e7 ? 1 : 0)} MB`;
