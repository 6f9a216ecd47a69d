// The sheet where a channel or a clause gets its values from: a picture, a field, a baked map, or what lies below, changed.
import { $, complain, el, icon, toast } from './dom.js';
import { upload } from './api.js';
import { value } from './values.js';

const RAMP = [{ at: 0, hex: '#2b2621' }, { at: 1, hex: '#cbb9a0' }];

export class Sources {
  constructor(app) {
    this.app = app;
    this.sheet = $('#source-sheet');
    $('#source-close').onclick = () => this.close();
    this.sheet.onkeydown = e => { if (e.key === 'Escape') { e.stopPropagation(); this.close(); } };
    this.at = null; // {layer, channel} or {layer, clause}
    this.file = el('input', { type: 'file', multiple: true, hidden: true, id: 'picture-file', accept: app.tables.pictureEndings.join(',') + ',.zip' });
    this.file.onchange = () => { this.bring([...this.file.files]); this.file.value = ''; };
    document.body.append(this.file);
  }

  close() { this.at = null; this.sheet.hidePopover(); }

  /** Opens the sheet, at the right so that model and bench stay in sight. */
  open(at) {
    this.at = at;
    this.shown = null;
    this.render();
    this.sheet.showPopover();
    this.sheet.querySelector('button.on, select, button')?.focus({ preventScroll: true });
  }

  /** What the sheet is about as it stands: its layer, the holder of the source, and how it is changed. */
  now() {
    const l = this.at && this.app.doc.layers.find(k => k.id === this.at.layer);
    if (!l) return null;
    if (this.at.clause) {
      const c = l.where.find(k => k.id === this.at.clause);
      const edit = v => ({ do: 'clause.set', layer: l.id, clause: c.id, path: 'source', value: v });
      return c && { title: `Picture of ${l.name}`, kinds: ['picture'], source: c.source, live: v => this.app.live(edit(v)), commit: v => this.app.edit(edit(v)) };
    }
    const ch = this.app.tables.channels.find(k => k.name === this.at.channel), v = l.what[ch.name];
    const set = (path, x) => ({ do: 'set', layer: l.id, path: `what.${ch.name}.${path}`, value: x });
    return {
      title: `${ch.label} of ${l.name}`, channel: ch, source: v.source, adjust: v.adjust, colour: ch.colour, number: v.number, normal: !!ch.sources,
      kinds: ch.sources || ['value', ...this.app.tables.sourceKinds.map(k => k.name), ...ch.adjusts ? ['adjust'] : []],
      strength: { live: x => this.app.live(set('number', x)), commit: x => this.app.edit(set('number', x)) },
      live: x => this.app.live(set('source', x)), commit: x => this.app.edit(set('source', x)),
      liveAdjust: x => this.app.live(set('adjust', x)), commitAdjust: x => this.app.edit(set('adjust', x)),
      plain: async () => { if (v.adjust) await this.app.edit(set('adjust', null)); if (v.source) await this.app.edit(set('source', null)); },
    };
  }

  /** What a value is called where it stands in for a number. */
  words(v) {
    if (v.adjust) return 'adjusted';
    const s = v.source;
    if (s.kind === 'picture') return this.app.state?.pictures.find(p => p.mark === s.picture)?.name || 'no picture';
    if (s.kind === 'map') return this.app.tables.maps.find(m => m.name === s.map)?.label || s.map;
    const k = this.app.tables.clauses.find(c => c.name === s.field.kind), form = k.params.find(p => p.name === 'form');
    return form.choices[s.field.params?.form ?? 0];
  }

  /** A source of a kind with its defaults. */
  fresh(kind, now) {
    const s = { kind, low: 0, high: now.channel && now.channel.name !== 'height' ? 1 : now.channel ? 0.5 : 1 };
    if (kind === 'picture') { s.picture = this.app.state.pictures.at(-1)?.mark || ''; s.lay = this.lay(); }
    if (kind === 'map') s.map = 'ao';
    if (kind === 'field') s.field = this.field('noise');
    if (now.colour && kind !== 'picture') s.ramp = RAMP;
    return s;
  }

  /** How a picture is laid that comes anew: its length by the model. */
  lay() {
    return Object.fromEntries(this.app.tables.laying.filter(p => p.fits && this.app.first(p) !== p.default).map(p => [p.name, this.app.first(p)]));
  }

  field(kind) {
    const k = this.app.tables.clauses.find(c => c.name === kind);
    return { id: '', kind, join: 'and', params: Object.fromEntries(k.params.map(p => [p.name, this.app.first(p)])), shape: { low: 0.2, high: 0.8, balance: 0.5, contrast: 0, invert: false, strength: 1 } };
  }

  render() {
    const now = this.now();
    if (!now) { if (this.at) this.close(); return; }
    $('#source-title').textContent = now.title;
    const kind = now.adjust ? 'adjust' : now.source?.kind || (now.kinds[0] === 'value' ? 'value' : 'picture');
    const key = JSON.stringify([this.at, now.source, now.adjust, this.app.state.pictures]);
    if (this.shown === key || this.sheet.contains(document.activeElement) && document.activeElement.matches('input[type=text], input[type=color]') && this.sheet.matches(':popover-open')) return;
    this.shown = key;
    const body = [];
    if (now.kinds.length > 1) {
      const labels = { value: 'Value', adjust: 'Adjust', ...Object.fromEntries(this.app.tables.sourceKinds.map(k => [k.name, k.label[0].toUpperCase() + k.label.slice(1)])) };
      const seg = el('div.segments', { role: 'group', 'aria-label': 'Where values come from' });
      for (const k of now.kinds) {
        const b = el('button', { 'data-kind': k, className: k === kind ? 'on' : '', 'aria-pressed': k === kind }, labels[k]);
        b.onclick = () => this.turn(k, now);
        seg.append(b);
      }
      body.push(seg);
    }
    if (kind === 'picture') body.push(...this.picture(now));
    if (kind === 'field') body.push(...this.fieldRows(now));
    if (kind === 'map') body.push(this.pick('map', 'baked map', this.app.tables.maps.map(m => [m.name, m.label]), now.source.map, v => now.commit({ ...now.source, map: v })), ...this.of(now));
    if (kind === 'adjust') body.push(...this.adjust(now));
    if (kind === 'value') body.push(el('p.quiet', {}, 'One value everywhere. It stands on the bench.'));
    if (now.normal) {
      if (now.source) body.push(value({ name: 'strength', label: 'strength', min: 0, max: 4, default: 1, value: now.number, ...now.strength }));
    } else if (now.source && kind !== 'value') body.push(...now.colour ? this.ramp(now) : now.channel ? this.range(now) : []);
    $('#source-body').replaceChildren(...body);
  }

  async turn(kind, now) {
    if (kind === 'value') return now.plain();
    if (kind === 'adjust') {
      if (now.source) await now.commit(null);
      return now.commitAdjust({ hue: 0, saturation: 0, lightness: 0, contrast: 0, low: 0, high: 1, gamma: 1 });
    }
    if (now.adjust) await now.commitAdjust(null);
    return now.commit(this.fresh(kind, now));
  }

  pick(name, label, options, v, change) {
    const s = el('select', { 'aria-label': label, 'data-key': name }, ...options.map(([k, text]) => el('option', { value: k, selected: String(k) === String(v) }, text)));
    s.onchange = () => change(s.value);
    return el('label.source-row', {}, el('span', {}, label), s);
  }

  number(p, v, now, put) {
    const send = f => x => f(put(x));
    return value({ ...p, default: this.app.first(p), value: v ?? p.default, figures: 3, live: send(now.live), commit: send(now.commit) });
  }

  picture(now) {
    const s = now.source, pics = this.app.state.pictures, base = s || this.fresh('picture', now);
    const grid = el('div.picture-grid', { role: 'group', 'aria-label': 'Pictures' });
    for (const p of pics) {
      const b = el('button', { 'data-picture': p.mark, title: `${p.name}, ${p.width} × ${p.height} px`, 'aria-label': p.name, className: s?.picture === p.mark ? 'on' : '', 'aria-pressed': s?.picture === p.mark }, el('img', { src: `${this.app.api}/pictures/${p.mark}?px=96`, alt: '' }));
      b.onclick = () => now.commit({ ...base, picture: p.mark });
      grid.append(b);
    }
    const bring = el('button.button', { id: 'picture-bring', title: 'Bring pictures in from files or a zip' }, icon('photo-plus'), 'Bring in');
    bring.onclick = () => this.file.click();
    this.complaint = el('p.complaint', { hidden: true, role: 'alert', id: 'picture-complaint' });
    const out = [grid, bring, this.complaint];
    const pic = pics.find(p => p.mark === s?.picture);
    if (!pic) {
      if (s?.picture) out.push(el('p.lack', {}, 'This picture is not among the asset\u2019s; choose another.'));
      return out;
    }
    if (now.normal) out.push(this.pick('of', 'green points', this.app.tables.normalOf.map(o => [o, o.replace('green ', '')]), s.of || this.app.tables.normalOf[0], v => now.commit({ ...s, of: v })));
    else out.push(this.pick('space', 'it holds', [['colour', 'colours'], ['data', 'data']], pic.space, v => this.app.do('space', { key: pic.mark, value: v })), ...this.of(now));
    const by = s.lay?.by ?? 1, uses = { repeats: by === 0, channel: by === 0 && (this.app.state.channels || []).length > 1, size: by > 0, from: by === 2, rim: by === 1 };
    for (const p of this.app.tables.laying) if (uses[p.name] ?? true) out.push(this.number(p.name === 'channel' ? { ...p, choices: p.choices.slice(0, this.app.state.channels.length + 1) } : p, s.lay?.[p.name], now, x => ({ ...s, lay: { ...s.lay, [p.name]: x } })));
    return out;
  }

  /** What is read of a picture or a map. */
  of(now) {
    const s = now.source, all = this.app.tables.of.filter(o => now.colour || o !== 'colour');
    return [this.pick('of', 'read', all.map(o => [o, o]), s.of || (now.colour && s.kind === 'picture' ? 'colour' : 'grey'), v => now.commit({ ...s, of: v }))];
  }

  fieldRows(now) {
    const s = now.source, c = s.field, free = this.app.tables.clauses.filter(k => k.free), kind = free.find(k => k.name === c.kind);
    const put = f => x => ({ ...s, field: { ...c, ...f(x) } });
    return [this.pick('kind', 'field', free.map(k => [k.name, k.label]), c.kind, v => now.commit({ ...s, field: this.field(v) })),
      ...kind.params.map(p => this.number(p, c.params?.[p.name], now, put(x => ({ params: { ...c.params, [p.name]: x } })))),
      ...[['low', 0], ['high', 1], ['balance', 0.5], ['contrast', 0]].map(([name, d]) => this.number({ name: 'shape.' + name, label: name, min: 0, max: 1, default: d }, c.shape[name], now, put(x => ({ shape: { ...c.shape, [name]: x } }))))];
  }

  /** The numbers that 0 and 1 become. */
  range(now) {
    const s = now.source, c = now.channel, wide = c.name === 'height';
    return [['low', 'at 0', 0], ['high', 'at 1', wide ? 0.5 : 1]].map(([name, label, d]) => this.number({ name, label, min: wide ? -5 : c.min, max: wide ? 5 : c.max, default: d, unit: c.unit }, s[name], now, x => ({ ...s, [name]: x })));
  }

  /** Colours of values, where colours are not the picture's own. */
  ramp(now) {
    const s = now.source;
    if (s.kind === 'picture' && (!s.of || s.of === 'colour') || s.kind === 'map' && s.of === 'colour') return [];
    const stops = s.ramp?.length ? s.ramp : [{ at: 0, hex: '#000000' }, { at: 1, hex: '#ffffff' }];
    const put = list => ({ ...s, ramp: list });
    const bar = el('div.ramp', { 'aria-hidden': 'true', style: `background:linear-gradient(to right, ${stops.map(k => `${k.hex} ${k.at * 100}%`).join(', ')})` });
    const rows = stops.map((k, i) => {
      const others = x => stops.map((o, j) => j === i ? x : o).sort((a, b) => a.at - b.at);
      const hex = el('input', { type: 'color', value: k.hex, 'aria-label': `Colour ${i + 1}`, 'data-key': `ramp.${i}` });
      hex.oninput = () => now.live(put(others({ ...k, hex: hex.value })));
      hex.onchange = () => now.commit(put(others({ ...k, hex: hex.value })));
      const at = value({ name: `at.${i}`, label: 'at', min: 0, max: 1, default: k.at, value: k.at, live: x => now.live(put(others({ ...k, at: x }))), commit: x => now.commit(put(others({ ...k, at: x }))) });
      const gone = el('button.plain', { title: 'Remove this colour', 'aria-label': `Remove colour ${i + 1}`, disabled: stops.length < 2 }, icon('x'));
      gone.onclick = () => now.commit(put(stops.filter((_, j) => j !== i)));
      return el('div.ramp-row', {}, hex, at, gone);
    });
    const more = el('button.button', { 'data-add-colour': '', disabled: stops.length >= 16 }, icon('plus'), 'Colour');
    more.onclick = () => {
      const a = stops.at(-2) || stops[0], b = stops.at(-1);
      now.commit(put([...stops, { at: (a.at + b.at) / 2, hex: b.hex }].sort((x, y) => x.at - y.at)));
    };
    return [bar, ...rows, more];
  }

  adjust(now) {
    const a = now.adjust, rows = [...now.colour ? [['hue', -180, 180, 0, '°'], ['saturation', -1, 1, 0], ['lightness', -1, 1, 0]] : [], ['contrast', -1, 1, 0], ['low', 0, 1, 0], ['high', 0, 1, 1], ['gamma', 0.1, 10, 1]];
    return [el('p.quiet', {}, 'What lies below, changed where this layer shows.'),
      ...rows.map(([name, min, max, d, unit]) => value({ name, label: name, min, max, default: d, unit, log: name === 'gamma', value: a[name], live: x => now.liveAdjust({ ...a, [name]: x }), commit: x => now.commitAdjust({ ...a, [name]: x }) }))];
  }

  /** Brings pictures in, and chooses the first of them. */
  async bring(files) {
    const now = this.now();
    if (this.complaint) complain(this.complaint, '');
    try {
      const { pictures, notes } = await upload(`${this.app.api}/pictures`, files);
      if (notes) toast(notes.join(' '));
      if (now) await now.commit({ ...(now.source?.kind === 'picture' ? now.source : this.fresh('picture', now)), picture: pictures[0].mark });
      return pictures;
    } catch (e) {
      if (this.complaint) complain(this.complaint, e.message); else toast(e.message);
      return null;
    }
  }

  /** Lays a coat of several pictures, each on the channel that its name says; those of one name without channel go to the colour. */
  async material(files) {
    let added;
    try { added = await upload(`${this.app.api}/pictures`, files); } catch (e) { return toast(e.message); }
    const channels = this.app.tables.channels, what = {}, left = [];
    for (const c of channels) what[c.name] = { ...c.first, on: false, blend: c.first.blend || 'over', opacity: 1 };
    for (const p of added.pictures) {
      const c = channels.find(k => k.name === (p.channel || 'colour'));
      if (!c || what[c.name].on) { left.push(p.name); continue; }
      const ends = c.sources ? { of: this.app.tables.normalOf[p.inverted ? 1 : 0], low: 0, high: 1 } : { low: p.inverted ? 1 : 0, high: p.inverted ? 0 : 1 };
      what[c.name] = { ...what[c.name], on: true, source: { kind: 'picture', picture: p.mark, lay: this.lay(), ...ends } };
    }
    const name = added.pictures[0].name.replace(/\.[^.]*$/, '').replace(/[_-]?(base_?colou?r|colou?r|albedo|diffuse|roughness|rough|metal(lic|ness)?|height|displacement|normal(gl|dx)?|ao|occlusion|emissi(ve|on)|opacity|alpha|gloss(iness)?)$/i, '') || 'Material';
    await this.app.edit({ do: 'paste', layer: this.app.chosen || undefined, value: { layers: [{ id: 'x', name: name.slice(0, 80), opacity: 1, what, where: [] }] } });
    if (left.length || added.notes) toast([left.length ? `Not laid: ${left.join(', ')}, for which no channel is free.` : '', ...(added.notes || [])].join(' '));
  }
}
