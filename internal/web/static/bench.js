// The bench: the chosen layer's What, channel by channel, and its Where as a chain of cards.
import { $, complain, el, icon, stamp, toast } from './dom.js';
import { call } from './api.js';
import { keyed } from './keyed.js';
import { Tree } from './tree.js';
import { value } from './values.js';

/** What the modes of normals are called. */
const COMBINED = { add: 'Combine', over: 'Replace' };

export class Bench {
  constructor(app) {
    this.app = app;
    this.pics = {};
    $('#chain-end').onclick = () => { $('#chain').scrollLeft = $('#chain').scrollWidth; $('#chain [data-add]')?.focus({ preventScroll: true }); };
    new ResizeObserver(() => this.ends()).observe($('#chain'));
  }

  /** Offers the way to the chain's end when it is out of sight. */
  ends() { $('#chain-end').hidden = $('#chain').scrollWidth <= $('#chain').clientWidth + 8; }

  render() {
    const l = this.app.layer();
    $('#what-name').textContent = l ? l.name : '';
    $('#where-words').textContent = $('#where-words').title = l ? l.reading : '';
    keyed($('#what-tools'), l ? [{ key: l.id, of: l.locked, make: () => this.tools(l) }] : []);
    if (!l) {
      keyed($('#what'), [{ key: 'none', of: 0, make: () => el('p.quiet', {}, 'Choose a layer to work on it here.') }]);
      keyed($('#chain'), []);
      return;
    }
    keyed($('#what'), [{ key: l.id + '.opacity', of: [l.opacity, l.clip], make: () => this.opacity(l) },
      ...l.group ? [{ key: l.id + '.group', of: [l.blend, l.finish, l.flat, this.showing?.group === l.id && this.showing.label], make: () => this.group(l) }] : this.channels(l)]);
    this.chain(l);
    this.app.sources.render();
  }

  set(l, path, v) { return this.app.edit({ do: 'set', layer: l.id, path, value: v }); }
  live(l, path, v) { this.app.live({ do: 'set', layer: l.id, path, value: v }); }

  opacity(l) {
    const v = value({ name: 'opacity', value: l.opacity, min: 0, max: 1, default: 1, live: x => this.live(l, 'opacity', x), commit: x => this.set(l, 'opacity', x) });
    const clip = el('button.plain.clip', { title: l.clip ? 'Show it everywhere again, not only where the layer below does' : 'Show it only where the layer below does', 'aria-label': 'Clip to the layer below', 'aria-pressed': String(!!l.clip) }, icon('corner-left-down'), 'clip');
    clip.onclick = () => this.set(l, 'clip', !l.clip);
    return el('div.what-row', {}, el('span'), el('span', {}, 'Opacity'), v, clip);
  }

  /** What is done to the layer as a whole. */
  tools(l) {
    const copy = el('button.plain', { title: 'Duplicate (Ctrl+D)', 'aria-label': 'Duplicate layer' }, icon('copy'));
    copy.onclick = () => this.app.edit({ do: 'duplicate', layer: l.id });
    const lock = el('button.plain', { title: l.locked ? 'Unlock it' : 'Lock it: nothing changes it until it is unlocked', 'aria-label': 'Lock layer', 'aria-pressed': String(!!l.locked) }, icon(l.locked ? 'lock' : 'lock-open'));
    lock.onclick = () => this.set(l, 'locked', !l.locked);
    const gone = el('button.plain', { title: 'Delete layer (Delete)', 'aria-label': 'Delete layer' }, icon('trash'));
    gone.onclick = () => this.app.edit({ do: 'delete', layer: l.id });
    const flat = el('button.plain', { title: 'Flatten: keep what layers make as maps, for speed; they stay as they are and can be opened at any time', 'aria-label': 'Flatten', 'aria-haspopup': 'menu', 'data-flatten': '' }, icon('stack-push'));
    flat.onclick = () => this.flatten(this.app.layer(), flat);
    const aim = el('button.plain', { title: 'Targets: the sets and parts that it touches, chosen here or on the model', 'aria-label': 'Targets', 'aria-haspopup': 'dialog', 'data-targets': '' }, icon('target'));
    aim.onclick = () => this.app.strata.targets.show(this.app.layer(), aim);
    return el('span', {}, aim, lock, flat, copy, gone);
  }

  /** Offers what can be flattened from a layer. */
  flatten(l, beside) {
    const menu = $('#flatten-menu'), of = this.app.doc.layers.filter(k => (k.in || '') === (l.in || '')), at = of.indexOf(l);
    const item = (text, kind, on, edit) => {
      const b = el('button.plain', { role: 'menuitem', 'data-kind': kind, disabled: !on }, text);
      b.onclick = () => { menu.hidePopover(); this.app.edit(edit); };
      return b;
    };
    menu.replaceChildren(...l.group ? [l.flat ? item('Open this group again', 'open', true, { do: 'set', layer: l.id, path: 'flat', value: false }) : item('Flatten this group', 'group', true, { do: 'flatten', layer: l.id })] : [],
      item('Flatten all below', 'below', at > 0, { do: 'flatten', layer: l.id, kind: 'below' }), item('Flatten all above', 'above', at < of.length - 1, { do: 'flatten', layer: l.id, kind: 'above' }));
    menu.showPopover();
    const box = beside.getBoundingClientRect();
    menu.style.left = `${Math.max(8, box.right - menu.offsetWidth)}px`;
    menu.style.top = `${box.top - menu.offsetHeight - 6}px`;
    menu.querySelector('button:not(:disabled)')?.focus();
  }

  /** How a group's layers go over what lies below. */
  group(l) {
    const blend = el('select', { 'aria-label': 'Blend of the group', 'data-key': 'blend' }, el('option', { value: '', selected: !l.blend }, 'one by one'), ...this.app.tables.blends.map(b => el('option', { value: b.name, selected: b.name === l.blend }, `together: ${b.label.toLowerCase()}`)));
    blend.onchange = () => this.set(l, 'blend', blend.value);
    const open = el('button.button', { 'data-ungroup': '', title: 'Ungroup (Ctrl+Shift+G): its layers stay, its Where and opacity go' }, icon('stack-pop'), 'Ungroup');
    open.onclick = () => this.app.edit({ do: 'ungroup', layer: l.id });
    const save = el('button.button', { title: 'Keep this group as a finish of your own, to lay on other models', 'data-save': '' }, icon('bookmark-plus'), 'Save as finish');
    save.onclick = () => this.save(l);
    const dials = l.finish ? this.dials(l) : [];
    if (l.flat) {
      const open = el('button.button', { title: 'Have its layers evaluated again, and changed', 'data-open': '' }, icon('stack-pop'), 'Open again');
      open.onclick = () => this.set(l, 'flat', false);
      return el('div.group-what', {}, el('label', {}, el('span', {}, 'Laid'), blend), el('p.quiet', {}, 'It is flattened: what it makes is kept as maps. Its layers are all there, and locked until it is opened again.'), el('div.row', {}, open));
    }
    return el('div.group-what', {}, ...dials, ...this.newDial(l), el('label', {}, el('span', {}, 'Laid'), blend), dials.length ? null : el('p.quiet', {}, l.blend ? 'What it holds is laid over nothing first, and the outcome over what lies below.' : 'Each of its layers goes over what lies below; its Where and opacity fade them all.'), el('div.row', {}, save, open));
  }

  /** Makes a dial by showing what it does: how the layers stand with it at 0, then, once they were changed, at 1. */
  newDial(l) {
    const now = () => new Tree(this.app.doc.layers).block([l.id]);
    if (this.showing?.group === l.id) {
      const done = el('button.button.is-primary', { title: 'The layers stand as they are to stand with the dial at 1', 'data-dial-done': '' }, `This is ${this.showing.label} at 1`);
      done.onclick = async () => {
        if (await this.app.edit({ do: 'dial.add', layer: l.id, value: { label: this.showing.label, layers: this.showing.layers } })) this.showing = null;
        this.render();
      };
      const not = el('button.button', {}, 'Cancel');
      not.onclick = () => { this.showing = null; this.render(); };
      return [el('p.quiet', {}, `“${this.showing.label}” at 0 is how the layers stood. Change their numbers and colours to how they are to stand at 1.`), el('div.row', {}, done, not)];
    }
    const name = el('input.field-text', { maxLength: 40, placeholder: 'name of a new dial', 'aria-label': 'Name of a new dial', 'data-key': 'dial-name', spellcheck: false });
    const begin = el('button.button', { title: 'Begin a dial: the layers stand as they are to stand with the dial at 0', 'data-dial': '' }, icon('adjustments'), 'Begin');
    const go = () => {
      const label = name.value.trim();
      if (!label) return name.focus();
      this.showing = { group: l.id, label, layers: now().map(({ reading, coverage, ...k }) => k) };
      this.render();
    };
    begin.onclick = go;
    name.onkeydown = e => { if (e.key === 'Enter') go(); e.stopPropagation(); };
    return [el('div.row.new-dial', {}, name, begin)];
  }

  /** The dials of a group that is a finish. */
  dials(l) {
    const of = l.finish.own?.dials || this.app.tables.dials[l.finish.name] || [];
    const turn = (d, v) => ({ do: 'dial', layer: l.id, dials: { [d.name]: v } });
    return of.map(d => {
      const v = value({ ...d, value: l.finish.dials[d.name] ?? d.default, live: x => this.app.live(turn(d, x)), commit: x => this.app.edit(turn(d, x)) });
      v.title = d.help;
      v.classList.add('dial');
      if (l.finish.own) {
        const gone = el('button.plain.dial-gone', { title: `Remove the dial ${d.label}; what it moved stays as it stands`, 'aria-label': `Remove the dial ${d.label}`, 'data-dial-gone': d.name }, icon('x'));
        gone.onclick = () => this.app.edit({ do: 'dial.drop', layer: l.id, kind: d.name });
        v.append(gone);
      }
      return v;
    });
  }

  /** Keeps a group as a finish. */
  save(l) {
    const sheet = $('#save-finish'), title = $('#save-finish-title'), help = $('#save-finish-help'), complaint = $('#save-finish-complaint');
    title.value = l.name;
    help.value = '';
    complain(complaint, '');
    sheet.showModal();
    title.select();
    $('#save-finish-yes').onclick = async e => {
      e.preventDefault();
      try {
        const a = await call('POST', `${this.app.api}/finish`, { layer: l.id, title: title.value, help: help.value });
        sheet.close();
        toast(`“${title.value.trim()}” is among your finishes now. ${(a.notes || []).join(' ')}`);
      } catch (err) {
        complain(complaint, err.message);
      }
    };
  }

  /** The rows of the channels: those that few layers use when they are on; the others are offered below. */
  channels(l) {
    const all = this.app.tables.channels, rare = all.filter(c => c.extra && !l.what[c.name].on);
    const rows = all.filter(c => !rare.includes(c)).map(c => ({ key: `${l.id}.${c.name}`, of: l.what[c.name], make: () => this.channel(l, c) }));
    if (rare.length) rows.push({ key: l.id + '.more', of: rare.map(c => c.name), make: () => this.more(l, rare) });
    return rows;
  }

  more(l, rare) {
    const row = el('div.what-more', { role: 'group', 'aria-label': 'More channels' });
    for (const c of rare) {
      const b = el('button.plain', { title: `Lay down ${c.label.toLowerCase()} too`, 'data-more': c.name }, icon('plus'), c.label);
      b.onclick = async () => {
        await this.set(l, `what.${c.name}.on`, true);
        if (c.sources) this.app.sources.open({ layer: l.id, channel: c.name });
      };
      row.append(b);
    }
    return row;
  }

  channel(l, c) {
    const v = l.what[c.name], path = k => `what.${c.name}.${k}`;
    const on = el('input', { type: 'checkbox', checked: v.on, 'aria-label': `${c.label} on`, 'data-key': c.name + '.on' });
    on.onchange = () => this.set(l, path('on'), on.checked);
    let own;
    if (v.source || v.adjust || c.sources) {
      own = el('button.source-chip', { title: 'Where its values come from', 'data-source': c.name }, v.source || v.adjust ? this.app.sources.words(v) : 'choose a picture');
      own.onclick = () => this.app.sources.open({ layer: l.id, channel: c.name });
    } else if (c.colour) {
      own = el('input', { type: 'color', value: v.hex || '#808080', 'aria-label': c.label, 'data-key': c.name === 'colour' ? 'hex' : c.name + '.hex' });
      own.oninput = () => this.live(l, path('hex'), own.value);
      own.onchange = () => this.set(l, path('hex'), own.value);
    } else {
      const wide = c.name === 'height';
      own = value({ name: c.name, value: v.number, min: wide ? -2 : c.min, max: wide ? 2 : c.max, default: wide ? 0 : 0.5, unit: c.unit, live: x => this.live(l, path('number'), x), commit: x => this.set(l, path('number'), x) });
    }
    const from = el('button.plain.from', { title: 'Take it from a picture, a field or a baked map, or change what lies below', 'aria-label': `Source of ${c.label}`, 'data-from': c.name }, icon(v.adjust ? 'adjustments' : 'color-swatch'));
    from.onclick = () => this.app.sources.open({ layer: l.id, channel: c.name });
    const blend = el('select', { 'aria-label': `Blend of ${c.label}`, 'data-key': c.name + '.blend' }, ...this.app.tables.blends.filter(b => !c.blends || c.blends.includes(b.name)).map(b => el('option', { value: b.name, selected: b.name === (v.blend || 'over') }, c.blends ? COMBINED[b.name] : b.label)));
    blend.onchange = () => this.set(l, path('blend'), blend.value);
    const op = value({ name: c.name + '.opacity', value: v.opacity, min: 0, max: 1, default: 1, live: x => this.live(l, path('opacity'), x), commit: x => this.set(l, path('opacity'), x) });
    return el('div.what-row' + (v.on ? '' : '.off'), { 'data-channel': c.name }, on, el('span', {}, c.label), el('span.own', {}, own, from), blend, op);
  }

  chain(l) {
    const bounds = this.app.state?.bounds, parts = this.app.state?.parts;
    const end = this.end(l), below = this.app.doc.layers.map((o, i) => [o.id, o.name, this.lays(o), i < end]);
    const items = l.where.map((c, i) => {
      const kind = this.kind(c);
      return { key: c.id, of: [c, i, l.where.map(k => k.id), bounds, this.lacks(kind), kind.parts && parts, kind.source && this.app.state?.pictures, kind.ids && [this.legend, this.app.picking?.clause === c.id], this.app.picking?.clause?.startsWith(c.id + '.') && this.app.picking.clause, (kind.layers || kind.layer) && below], make: () => this.card(l, c, i) };
    });
    items.push({ key: l.id + '.result', of: [l.soften, !!l.where.length, bounds], make: () => this.result(l) });
    items.push({ key: l.id + '.add', of: !!l.where.length, make: () => this.add(l) });
    $('#chain').classList.toggle('wide', l.where.length < 4);
    keyed($('#chain'), items);
    for (const v of document.querySelectorAll('#chain .card-values')) v.classList.toggle('more', v.scrollHeight > v.clientHeight + 1);
    this.share();
    this.ends();
    if (this.pics.layer === l.id) this.draw();
  }

  /** Where what lies below a layer ends in the list. */
  end(l) {
    const tree = new Tree(this.app.doc.layers);
    return tree.first[tree.at.get(l.id)];
  }

  /** Whether a layer, or some layer that it holds, lays down height. */
  lays(l) {
    return l.group ? new Tree(this.app.doc.layers).block([l.id]).some(k => !k.group && k.what.height.on) : l.what.height.on;
  }

  result(l) {
    const result = el('div.card-result', { title: 'The finished Where; point at it to see it on the model' }, el('div.card-title', {}, el('strong', {}, 'Result'), el('span.figure.quiet')),
      el('div', {}, el('img.card-pic', { alt: 'The finished Where on the flat map', 'data-pic': '' })));
    this.point(result, '');
    const copy = el('button.plain', { title: 'Copy this Where', 'aria-label': 'Copy the Where' }, icon('copy'));
    copy.onclick = () => { localStorage.setItem('where', JSON.stringify({ asset: this.app.api, where: l.where, soften: l.soften || 0 })); toast('The Where is copied; paste it on another layer, here or in another asset.'); };
    const paste = el('button.plain', { title: 'Replace this Where by the one copied', 'aria-label': 'Paste a Where' }, icon('clipboard'));
    paste.onclick = () => {
      const from = JSON.parse(localStorage.getItem('where') || 'null');
      if (!from) return toast('No Where is copied yet.');
      const where = from.asset === this.app.api ? from.where : from.where.map(c => ({ ...c, layers: undefined }));
      this.app.edit({ do: 'where.paste', layer: l.id, value: { where, soften: from.soften } });
    };
    if (l.where.length) result.append(el('div.card-values', {}, this.soften(l.soften, { live: x => this.live(l, 'soften', x), commit: x => this.set(l, 'soften', x) })));
    result.append(el('div.row.where-clip', {}, copy, paste));
    return result;
  }

  kind(c) { return this.app.tables.clauses.find(k => k.name === c.kind); }

  /** The baked maps that a kind reads and some set has not. */
  lacks(kind) { return (kind.reads || []).filter(m => this.app.state?.cells?.some(x => x.kind === m && x.state === 'missing')); }

  share() {
    const l = this.app.layer(), s = $('.card-result .figure');
    if (l && s) s.textContent = l.coverage >= 0 ? `${Math.round(l.coverage * 100)}%` : '';
  }

  join(l, c) {
    const s = el('select.join', { 'aria-label': 'Join', title: 'How this clause joins the ones before it' }, ...this.app.tables.joins.map(j => el('option', { value: j.name, selected: j.name === c.join }, j.label)));
    s.onchange = () => this.clause(l, c, 'join', s.value);
    return s;
  }

  clause(l, c, path, v) { return this.app.edit({ do: 'clause.set', layer: l.id, clause: c.id, path, value: v }); }

  card(l, c, i) {
    const kind = this.kind(c);
    const e = stamp('clause-card');
    e.dataset.clause = c.id;
    $('strong', e).textContent = kind.label;
    $('strong', e).title = kind.help;
    const x = $('[data-remove]', e);
    x.append(icon('x'));
    x.onclick = () => { this.app.hover = null; this.app.edit({ do: 'clause.delete', layer: l.id, clause: c.id }); };
    const eye = $('[data-eye]', e);
    eye.append(icon(c.off ? 'eye-off' : 'eye'));
    eye.title = c.off ? 'It has no say; let it count again' : 'Let it have no say, and keep it';
    eye.setAttribute('aria-label', `${kind.label} counts`);
    eye.setAttribute('aria-pressed', String(!c.off));
    eye.onclick = () => this.clause(l, c, 'off', !c.off);
    e.classList.toggle('off', !!c.off);
    $('.card-pic', e).dataset.pic = c.id;
    $('.card-pic', e).alt = `${kind.label} on the flat map`;
    const invert = $('[data-invert]', e);
    invert.checked = !!c.shape.invert;
    invert.onchange = () => this.clause(l, c, 'shape.invert', invert.checked);
    this.levels($('.levels', e), l, c);
    const send = path => ({ live: v => this.app.live({ do: 'clause.set', layer: l.id, clause: c.id, path, value: v }), commit: v => this.clause(l, c, path, v) });
    const box = $('.card-values', e);
    box.classList.toggle('roomy', !!kind.layers || !!kind.layer || !!kind.ids);
    box.classList.toggle('long', (kind.params || []).length > 5);
    const first = kind.params?.[0], choice = first && (c.params?.[first.name] ?? first.default), counts = p => !p.when || p.when.includes(choice);
    for (const p of kind.params || []) if (counts(p) && !p.pick) box.append(value({ ...p, default: this.app.first(p), figures: 3, value: c.params?.[p.name] ?? p.default, ...send('params.' + p.name) }));
    for (const pick of new Set((kind.params || []).filter(counts).map(p => p.pick).filter(Boolean))) box.append(this.pickPlace(l, c, pick));
    if (kind.parts) box.append(this.parts(l, c));
    if (kind.layers && c.params.of) box.append(this.layers(l, c));
    if (kind.layer && (kind.name !== 'runoff' || c.params.from === 1)) box.append(this.below(l, c));
    if (kind.source) box.append(this.source(l, c));
    if (kind.ids) box.append(this.ids(l, c));
    if (kind.strokes && (kind.name !== 'runoff' || c.params.from === 2)) box.append(this.strokes(l, c));
    for (const [name, d] of [['balance', 0.5], ['contrast', 0], ['strength', 1]]) box.append(value({ name, label: name, value: c.shape[name], min: 0, max: 1, default: d, ...send('shape.' + name) }));
    box.append(this.soften(c.shape.soften, send('shape.soften')));
    if (kind.warps) {
      box.append(this.length('warp', c.shape.warp, send('shape.warp')));
      if (c.shape.warp) box.append(value({ name: 'waves', label: 'waves', value: c.shape.waves || 5 * c.shape.warp, min: 0.001, max: 100, default: 5 * c.shape.warp, unit: 'm', log: true, figures: 2, ...send('shape.waves') }));
    }
    this.point($('.card-pic', e), c.id);
    if (i) $('.levels', e).after(this.join(l, c));
    const lacks = this.lacks(kind);
    if (lacks.length) $('.card-left', e).append(el('p.lack', { title: `It shows nothing of its own on sets without ${lacks.join(', ')}; bake it on the Bake stage` }, `${lacks.join(', ').replaceAll('-', ' ')} not baked`));
    e.ondragstart = d => { if (d.target !== e) return; this.dragged = c.id; d.dataTransfer.setData('text/plain', c.id); };
    e.ondragover = d => { if (this.dragged && this.dragged !== c.id) { d.preventDefault(); e.classList.add('drop-left'); } };
    e.ondragleave = () => e.classList.remove('drop-left');
    e.ondrop = d => {
      d.preventDefault();
      const from = l.where.findIndex(k => k.id === this.dragged);
      if (from >= 0) this.app.edit({ do: 'clause.move', layer: l.id, clause: this.dragged, to: from < i ? i - 1 : i });
      this.dragged = null;
    };
    // A drag that begins on a control is the control's own.
    e.onpointerdown = d => { e.draggable = !d.target.closest('.card-values, .levels, input, select'); };
    return e;
  }

  parts(l, c) {
    const list = el('div.part-list');
    for (const p of this.app.state.parts) {
      const k = el('input', { type: 'checkbox', checked: c.parts?.includes(p) });
      k.onchange = () => this.clause(l, c, 'parts', this.app.state.parts.filter(n => n === p ? k.checked : c.parts?.includes(n)));
      list.append(el('label', {}, k, p.replaceAll('_', ' ')));
    }
    return list;
  }

  /** The layers below that a clause of relief is about; those that it cannot see are only shown when they were chosen. */
  layers(l, c) {
    const all = this.app.doc.layers, own = this.end(l), list = el('div.part-list');
    all.forEach((o, i) => {
      const on = !!c.layers?.includes(o.id);
      if (!on && (i >= own || !this.lays(o))) return;
      const k = el('input', { type: 'checkbox', checked: on });
      k.onchange = () => this.clause(l, c, 'layers', all.map(n => n.id).filter(n => n === o.id ? k.checked : c.layers?.includes(n)));
      list.prepend(el('label', { title: i >= own ? 'It does not lie below, so it is not seen' : o.name }, k, o.name));
    });
    if (!list.children.length) list.append(el('p.quiet', {}, 'No layer below lays down height.'));
    return list;
  }

  /** The layer below whose Where a clause uses again. */
  below(l, c) {
    const all = this.app.doc.layers, own = this.end(l), now = c.layers?.[0];
    const s = el('select.below', { 'aria-label': 'Same as', title: 'The layer below whose Where is used again' });
    if (!now) s.append(el('option', { value: '' }, 'choose a layer'));
    all.forEach((o, i) => { if (i < own || o.id === now) s.append(el('option', { value: o.id, selected: o.id === now }, o.name)); });
    s.onchange = () => this.clause(l, c, 'layers', s.value ? [s.value] : []);
    return s;
  }

  /** Picks a place, or a direction, of a clause: by a click on the model, or by the handle that stands there. */
  pickPlace(l, c, pick) {
    const key = `${c.id}.${pick}`, words = { direction: 'Drag the arrow, or click the model where it faces that way; Escape ends it.', place: 'Drag the handle, or click the place on the model; Escape ends it.', end: 'Drag the handle, or click the other place on the model; Escape ends it.' };
    const b = el('button.button.pick-id', { title: words[pick], 'data-pick': pick, 'aria-pressed': String(this.app.picking?.clause === key) }, icon('focus-2'), { direction: 'Pick', place: 'Place', end: 'To' }[pick]);
    const low = this.app.state.low, way = pick === 'direction', fresh = () => this.app.layer()?.where.find(k => k.id === c.id) || c;
    const params = v => ({ ...fresh().params, ...Object.fromEntries(['X', 'Y', 'Z'].map((a, i) => [pick + a, Number((way ? v[i] : v[i] - low[i]).toPrecision(6))])) });
    const now = ['X', 'Y', 'Z'].map((a, i) => (c.params[pick + a] ?? 0) + (way ? 0 : low[i]));
    const handle = { [way ? 'way' : 'place']: now, live: v => this.app.live({ do: 'clause.set', layer: l.id, clause: c.id, path: 'params', value: params(v) }), commit: v => this.clause(l, c, 'params', params(v)) };
    b.onclick = () => this.app.pickFromModel({ clause: key, words: words[pick], handle, at: async hit => {
      await this.clause(l, c, 'params', params(way ? hit.normal : hit.place));
      if (this.app.picking) this.app.pickFromModel(this.app.picking);
    } });
    return b;
  }

  /** Takes the brush up for a clause. */
  strokes(l, c) {
    const b = el('button.button.pick-id', { title: 'Paint in this clause (B)', 'data-paint': c.id }, icon('brush'), 'Paint');
    b.onclick = () => { this.app.brushwork.clause = c.id; this.app.brushwork.take('brush'); };
    return b;
  }

  /** The picture of a clause. */
  source(l, c) {
    const b = el('button.source-chip', { title: 'Choose the picture and how it is laid', 'data-source': c.id }, c.source?.picture ? this.app.sources.words(c) : 'choose a picture');
    b.onclick = () => this.app.sources.open({ layer: l.id, clause: c.id });
    return b;
  }

  /** The colours of the ID maps, to choose from; Pick takes them from the model. */
  ids(l, c) {
    if (!this.legend) {
      this.legend = [];
      call('GET', `${this.app.api}/legend`).then(list => { this.legend = list; this.render(); }, () => {});
    }
    const has = c.ids || [], list = el('div.part-list');
    const turn = (hex, on) => this.clause(l, c, 'ids', on ? [...has, hex] : has.filter(h => h !== hex));
    const pick = el('button.button.pick-id', { title: 'Click a place on the model to add or remove its ID; Escape ends it', 'aria-pressed': String(this.app.picking?.clause === c.id) }, icon('color-picker'), 'Pick');
    pick.onclick = () => this.app.pickFromModel({ clause: c.id, words: 'Click on the model to add or remove its ID; Escape ends it.', at: async hit => {
      const a = await call('GET', `${this.app.api}/maps/id/at?set=${encodeURIComponent(hit.set)}&u=${hit.u}&v=${hit.v}`);
      const hex = '#' + a.values.slice(0, 3).map(x => Math.round(x * 255).toString(16).padStart(2, '0')).join('');
      const fresh = this.app.layer()?.where.find(k => k.id === c.id);
      if (fresh) await this.clause(l, c, 'ids', fresh.ids?.includes(hex) ? fresh.ids.filter(h => h !== hex) : [...(fresh.ids || []), hex]);
    } });
    list.append(pick);
    const named = new Map(this.legend.map(k => [k.colour, k.name]));
    for (const hex of new Set([...has, ...named.keys()])) {
      const tick = el('input', { type: 'checkbox', checked: has.includes(hex) });
      tick.onchange = () => turn(hex, tick.checked);
      list.append(el('label', { title: hex }, tick, el('span.swatch', { style: `background:${hex}` }), ' ' + (named.get(hex) || hex).replaceAll('_', ' ')));
    }
    return list;
  }

  /** Over how many metres something is softened. */
  soften(v, send) { return this.length('soften', v, send); }

  /** A length on the model that may be none. */
  length(name, v, send) {
    return value({ name, label: name, value: v || 0, min: 0.001, max: this.widest(), default: 0, unit: 'm', log: true, zero: 'off', figures: 2, ...send });
  }

  /** The widest softening that is of use on the model: a third of its size. */
  widest() { return Math.min(20, Math.max(0.01, Math.max(...(this.app.state.bounds || [1])) / 3)); }

  /** The two handles of low and high on a ramp. */
  levels(bar, l, c) {
    for (const h of bar.querySelectorAll('i')) {
      const name = h.dataset.level;
      let v = c.shape[name];
      const draw = () => { h.style.left = `${v * 100}%`; h.title = `${name} ${v.toFixed(2)}`; h.setAttribute('aria-valuenow', v); };
      const path = 'shape.' + name;
      h.onpointerdown = e => {
        e.preventDefault();
        e.stopPropagation();
        h.setPointerCapture(e.pointerId);
        const box = bar.getBoundingClientRect();
        h.onpointermove = m => {
          v = Math.min(1, Math.max(0, Number(((m.clientX - box.left) / box.width).toFixed(3))));
          draw();
          this.app.live({ do: 'clause.set', layer: l.id, clause: c.id, path, value: v });
        };
        h.onpointerup = () => { h.onpointermove = h.onpointerup = null; if (v !== c.shape[name]) this.clause(l, c, path, v); };
      };
      h.onkeydown = e => {
        const d = { ArrowLeft: -0.01, ArrowRight: 0.01 }[e.key];
        if (!d) return;
        e.preventDefault();
        v = Math.min(1, Math.max(0, Number((v + d).toFixed(3))));
        draw();
        this.clause(l, c, path, v);
      };
      h.ondblclick = () => this.clause(l, c, path, name === 'low' ? 0 : 1);
      h.dataset.key = path;
      draw();
    }
  }

  /** Shows a clause on the model while the pointer rests on its picture. */
  point(e, clause) {
    let timer;
    e.onpointerenter = () => { timer = setTimeout(() => { this.app.hover = { clause }; this.app.look(); }, 250); };
    e.onpointerleave = () => { clearTimeout(timer); if (this.app.hover) { this.app.hover = null; this.app.look(); } };
  }

  add(l) {
    const box = el('div.card-clause.card-add', {}, el('div.card-title', {}, el('strong', {}, l.where.length ? 'Add a clause' : 'Everywhere; narrow it by')));
    const kinds = el('div.kinds');
    for (const k of this.app.tables.clauses) {
      const b = el('button', { title: k.help, 'data-add': k.name }, icon(k.icon), k.label);
      b.onclick = () => this.app.edit({ do: 'clause.add', layer: l.id, kind: k.name });
      kinds.append(b);
    }
    box.append(kinds);
    return box;
  }

  pictures(e) {
    this.pics = e;
    this.draw();
  }

  draw() {
    if (this.pics.layer !== this.app.chosen) return;
    for (const img of document.querySelectorAll('#chain [data-pic]')) {
      const src = this.pics.pics[img.dataset.pic];
      if (src) img.src = src;
    }
  }
}
