// The strata: layers as a core sample, top first.
import { $, el, icon, stamp, toast } from './dom.js';
import { Finishes } from './finishes.js';
import { keyed } from './keyed.js';
import { Targets } from './targets.js';
import { Tree } from './tree.js';

export class Strata {
  constructor(app) {
    this.app = app;
    this.list = $('#layers');
    this.targets = new Targets(app);
    $('#add-coat').onclick = () => app.edit({ do: 'add', layer: app.chosen || undefined });
    $('#add-group').onclick = () => this.group();
    this.folded = new Set(JSON.parse(localStorage.getItem(this.kept()) || '[]')); // IDs of groups
    this.sheet = new Finishes(app);
    const file = $('#material-file');
    $('#add-material').onclick = () => file.click();
    file.onchange = () => { if (file.files.length) app.sources.material([...file.files]); file.value = ''; };
    this.search = el('input.input', { type: 'search', placeholder: 'Search layers', 'aria-label': 'Search layers', id: 'layer-search', hidden: true });
    this.search.oninput = () => this.narrow();
    this.search.onkeydown = e => { if (e.key === 'Escape') { this.search.value = ''; this.narrow(); } };
    this.list.before(this.search);
    // Below the lowest layer, out of all groups.
    this.list.ondragover = e => { if (this.dragged && e.target === this.list) e.preventDefault(); };
    this.list.ondrop = e => { if (this.dragged && e.target === this.list) { e.preventDefault(); this.drop(0, ''); } };
    for (const what of ['copy', 'cut', 'paste']) document.addEventListener(what, e => this.clip(e));
  }

  /** Under which name the browser keeps what is folded. */
  kept() { return `folded ${this.app.id}`; }

  fold(id, fold) {
    if (fold) this.folded.add(id); else this.folded.delete(id);
    localStorage.setItem(this.kept(), JSON.stringify([...this.folded]));
    this.render();
  }

  /** Puts the chosen layers into a new group; without one it stays empty. */
  group() { this.app.edit({ do: 'group', layers: this.app.all() }); }

  /** Copies, cuts and pastes layers by the browser's own keys and clipboard, also into other assets. */
  clip(e) {
    const app = this.app, l = app.layer();
    if (app.stageName !== 'paint' || e.target.closest?.('input, select, textarea, [contenteditable="true"], dialog') || !getSelection().isCollapsed) return;
    if (e.type === 'paste') {
      let from;
      try { from = JSON.parse(e.clipboardData.getData('text/plain')); } catch { return; }
      if (!from?.layers?.length) return;
      e.preventDefault();
      // Sets and layers of another asset mean nothing here.
      const layers = from.asset === app.api ? from.layers : from.layers.map(({ targets, parts, ...k }) => k);
      app.edit({ do: 'paste', layer: app.chosen || undefined, value: { layers } });
      return;
    }
    if (!l) return;
    e.preventDefault();
    const ids = app.all(), layers = new Tree(app.doc.layers).block(ids).map(({ reading, coverage, ...k }) => k);
    e.clipboardData.setData('text/plain', JSON.stringify({ asset: app.api, layers }));
    if (e.type === 'cut') app.edit({ do: 'delete', layers: ids });
    else toast(`${ids.length > 1 ? `${ids.length} layers are` : `“${l.name}” is`} copied; paste ${ids.length > 1 ? 'them' : 'it'} here or in another asset.`);
  }

  render() {
    const app = this.app;
    if (!app.state) return;
    const focused = document.activeElement?.matches?.('.layer') && document.activeElement.dataset.id;
    const sets = app.state.sets.map(k => [k.name, k.label]);
    const tree = this.tree = new Tree(app.doc.layers), chosen = new Set(app.all());
    const open = i => tree.over(i).every(p => !this.folded.has(app.doc.layers[p].id) && !app.doc.layers[p].flat);
    const rows = app.doc.layers.flatMap((l, i) => {
      if (!open(i)) return [];
      const place = this.place(i);
      return [{ key: l.id, of: [l.name, l.reading, l.hidden, l.locked, l.flat, l.clip, l.group, l.targets, l.what.colour, l.what.roughness, l.what.metallic, i, chosen.has(l.id), l.id === app.chosen, app.alone?.includes(l.id), place, sets], make: () => this.row(l, i, place) }];
    }).reverse();
    if (!rows.length) rows.push({ key: 'none', of: 0, make: () => el('li.empty', {}, 'Layers lie here, the top one first. Add a coat, or lay a finish.') });
    keyed(this.list, rows);
    this.search.hidden = app.doc.layers.length < 8;
    if (this.search.hidden) this.search.value = '';
    this.narrow();
    this.shares();
    this.targets.render();
    if (focused && !this.list.contains(document.activeElement)) this.list.querySelector(`[data-id="${focused}"]`)?.focus({ preventScroll: true });
  }

  /** Leaves only the layers whose name or reading has what is searched for. */
  narrow() {
    const words = this.search.value.trim().toLowerCase();
    for (const l of this.app.doc.layers) {
      const li = this.list.querySelector(`[data-id="${l.id}"]`);
      if (li) li.hidden = !!words && !`${l.name} ${l.reading}`.toLowerCase().includes(words);
    }
  }

  /** Whether what a group holds is out of sight. */
  shut(l) { return this.folded.has(l.id) || !!l.flat; }

  /** How a layer lies in its groups: one letter for each group over it, the outermost first, that tells whether the group ends here. */
  place(i) {
    const tree = this.tree, l = tree.layers[i], over = tree.over(i).reverse().map(p => tree.first[p] === i || l.group && this.shut(l) && tree.first[p] === tree.first[i] ? 'e' : 'i');
    return over.join('') + (l.group ? this.shut(l) ? 'f' : tree.first[i] < i ? 'o' : 'n' : '');
  }

  row(l, i, place) {
    const app = this.app, li = stamp('layer-row');
    li.dataset.id = l.id;
    li.classList.toggle('on', app.all().includes(l.id));
    li.classList.toggle('first', l.id === app.chosen);
    li.classList.toggle('group', !!l.group);
    li.classList.toggle('alone', !!app.alone?.includes(l.id));
    for (const c of place) $('.brackets', li).append(el('i.' + { i: 'inside', e: 'ends', f: 'folded', o: 'opens', n: 'folded' }[c]));
    if (l.flat) {
      const open = el('button.plain.fold.flat', { title: 'Flattened: what it makes is kept as maps. Click to open it again', 'aria-label': `Open ${l.name} again` }, icon('stack-push'));
      open.onclick = e => { e.stopPropagation(); app.edit({ do: 'set', layer: l.id, path: 'flat', value: false }); };
      $('.layer-text', li).prepend(open);
    } else if (l.group) {
      const folded = place.endsWith('f'), fold = el('button.plain.fold', { title: folded ? 'Open the group' : 'Fold the group', 'aria-label': `${folded ? 'Open' : 'Fold'} ${l.name}`, 'aria-expanded': String(!folded) }, icon(folded ? 'chevron-right' : 'chevron-down'));
      fold.onclick = e => { e.stopPropagation(); this.fold(l.id, !folded); };
      $('.layer-text', li).prepend(fold);
    }
    if (l.locked) {
      const open = el('button.plain.unlock', { title: 'Locked: nothing changes it. Click to unlock', 'aria-label': `Unlock ${l.name}` }, icon('lock'));
      open.onclick = e => { e.stopPropagation(); app.edit({ do: 'set', layer: l.id, path: 'locked', value: false }); };
      $('.layer-side', li).append(open);
    }
    li.classList.toggle('hidden-layer', !!l.hidden);
    li.classList.toggle('clipped', !!l.clip);
    if (l.id === app.chosen) li.setAttribute('aria-current', 'true');
    const name = $('.layer-name', li);
    name.textContent = l.name;
    name.title = 'Double-click to rename';
    name.ondblclick = () => this.rename(name, l);
    $('.layer-reading', li).textContent = l.reading;
    const eye = $('.layer-eye', li);
    eye.append(icon(l.hidden ? 'eye-off' : 'eye'));
    eye.title = l.hidden ? 'Show' : 'Hide';
    eye.setAttribute('aria-label', `${eye.title} ${l.name}`);
    eye.title += '; Alt+click shows it alone';
    eye.onclick = e => { e.stopPropagation(); if (e.altKey) { app.choose(l.id); return app.solo(); } app.edit({ do: 'set', layer: l.id, path: 'hidden', value: !l.hidden }); };
    $('.pennants', li).append(...this.targets.controls(l));
    li.onclick = e => {
      if (e.ctrlKey || e.metaKey) app.also(l.id);
      else if (e.shiftKey) app.upTo(l.id, [...this.list.querySelectorAll('.layer:not([hidden])')].map(k => k.dataset.id));
      else app.choose(l.id);
    };
    li.onkeydown = e => this.key(e, l, i);
    this.drag(li, l);
    return li;
  }

  rename(name, l) {
    name.contentEditable = 'true';
    name.focus();
    getSelection().selectAllChildren(name);
    name.onkeydown = e => {
      if (e.key === 'Enter') { e.preventDefault(); name.blur(); }
      if (e.key === 'Escape') { name.textContent = l.name; name.blur(); }
      e.stopPropagation();
    };
    name.onblur = () => {
      name.contentEditable = 'false';
      const text = name.textContent.trim();
      if (text && text !== l.name) this.app.edit({ do: 'set', layer: l.id, path: 'name', value: text });
      else name.textContent = l.name;
    };
  }

  key(e, l, i) {
    if (e.target !== e.currentTarget) return;
    const app = this.app, tree = this.tree, up = e.key === 'ArrowUp', down = e.key === 'ArrowDown', left = e.key === 'ArrowLeft', right = e.key === 'ArrowRight';
    if (e.key === 'Enter' || e.key === ' ') { e.preventDefault(); app.choose(l.id); }
    if (e.key === 'F2') this.rename($('.layer-name', e.currentTarget), l);
    if (!(up || down || left || right)) return;
    e.preventDefault();
    if (!e.altKey) {
      if (left || right) { if (l.group && !l.flat) this.fold(l.id, left); return; }
      const other = up ? e.currentTarget.previousElementSibling : e.currentTarget.nextElementSibling;
      if (!other?.dataset.id) return;
      app.choose(other.dataset.id);
      this.list.querySelector(`[data-id="${other.dataset.id}"]`)?.focus();
      return;
    }
    // Among those of its group; left takes it out of the group, right into the one next to it.
    const p = tree.parent[i], row = tree.holds(p), at = row.indexOf(i), size = i + 1 - tree.first[i];
    const move = (to, into) => app.edit({ do: 'move', layer: l.id, to, in: into < 0 ? '' : tree.layers[into].id });
    if (up && at + 1 < row.length) move(row[at + 1] + 1 - size, p);
    else if (down && at > 0) move(tree.first[row[at - 1]], p);
    else if (left && p >= 0) move(p + 1 - size, tree.parent[p]);
    else if (right) {
      const above = row[at + 1], below = row[at - 1];
      if (tree.layers[below]?.group) move(below, below);
      else if (tree.layers[above]?.group) move(tree.first[above] - size, above);
    }
  }

  drag(li, l) {
    li.ondragstart = e => {
      e.dataTransfer.setData('text/plain', l.id);
      this.dragged = this.app.all().includes(l.id) ? this.app.all() : [l.id];
    };
    const marks = ['drop-above', 'drop-into', 'drop-below'];
    const where = e => {
      const box = li.getBoundingClientRect(), y = (e.clientY - box.top) / box.height, folded = this.shut(l);
      if (!l.group) return y < 0.5 ? 'drop-above' : 'drop-below';
      return y < 0.3 ? 'drop-above' : y > 0.7 && folded ? 'drop-below' : 'drop-into';
    };
    const moved = () => new Set(this.tree.block(this.dragged).map(k => k.id));
    li.ondragover = e => {
      if (!this.dragged || moved().has(l.id)) return;
      e.preventDefault();
      const w = where(e);
      for (const m of marks) li.classList.toggle(m, m === w);
    };
    li.ondragleave = () => li.classList.remove(...marks);
    li.ondragend = () => { this.dragged = null; };
    li.ondrop = e => {
      e.preventDefault();
      e.stopPropagation();
      const tree = this.tree, i = tree.at.get(l.id), gone = moved(), w = where(e);
      const at = w === 'drop-above' ? i + 1 : w === 'drop-into' ? i : tree.first[i];
      this.drop(tree.layers.slice(0, at).filter(k => !gone.has(k.id)).length, w === 'drop-into' ? l.id : l.in || '');
    };
  }

  /** Puts what is dragged at a place among the layers that stay, into a group or none. */
  drop(to, into) {
    const layers = this.dragged;
    this.dragged = null;
    this.app.edit({ do: 'move', layers, to, in: into });
  }

  /** Draws each layer's band of the core sample and writes its coverage. */
  shares() {
    const rows = new Map([...this.list.children].map(li => [li.dataset.id, li]));
    for (const l of this.app.doc.layers) {
      const li = rows.get(l.id);
      if (!li) continue;
      const share = $('.layer-share', li), known = l.coverage >= 0;
      share.textContent = !known ? '' : l.coverage === 0 ? 'nowhere' : l.coverage < 0.01 ? '<1%' : `${Math.round(l.coverage * 100)}%`;
      share.classList.toggle('none', known && l.coverage === 0);
      share.title = known && l.coverage === 0 ? 'This layer shows nowhere: widen its Where or its targets' : 'Share of the targeted surface where the layer shows';
      const canvas = $('.core', li), inside = l.group && this.shut(l) ? this.app.doc.layers.filter((k, i) => !k.group && !k.hidden && k.coverage > 0 && this.tree.within(i, this.tree.at.get(l.id))) : [];
      // What stands there already is not drawn again.
      const shown = JSON.stringify([l.coverage, l.hidden, l.group, ...(l.group ? inside : [l]).map(k => [colourOf(k), k.coverage, k.what.roughness, k.what.metallic])]);
      if (canvas.dataset.shown === shown) continue;
      canvas.dataset.shown = shown;
      if (!l.group) band(canvas, l);
      else if (inside.length) bandOf(canvas, inside, l);
      else canvas.getContext('2d').clearRect(0, 0, canvas.width, canvas.height);
    }
  }
}

/** The colour that stands for a layer: its own, or the middle one of its ramp. */
function colourOf(l) {
  const v = l.what.colour, ramp = v.source?.ramp;
  return !v.on ? '#777' : ramp?.length ? ramp[ramp.length >> 1].hex : v.source || v.adjust ? '#777' : v.hex;
}

/** The band of a folded group: its layers side by side, each as much as it covers. */
function bandOf(canvas, layers, group) {
  const g = canvas.getContext('2d'), w = canvas.width, h = canvas.height, all = layers.reduce((a, l) => a + l.coverage, 0);
  g.clearRect(0, 0, w, h);
  g.globalAlpha = group.hidden ? 0.25 : 1;
  let y = h;
  const width = Math.max(4, (group.coverage || 0) * w);
  for (const l of layers) {
    const high = h * l.coverage / all;
    y -= high;
    g.fillStyle = colourOf(l);
    g.fillRect(0, y, width, high + 0.5);
  }
  g.globalAlpha = 1;
}

/** A band of a core sample: the layer's colour, grainier when rougher, as wide as its coverage. */
function band(canvas, l) {
  const g = canvas.getContext('2d'), w = canvas.width, h = canvas.height;
  g.clearRect(0, 0, w, h);
  const width = l.coverage >= 0 ? Math.max(l.coverage > 0 ? 2 : 0, l.coverage * (w - 2)) : 0;
  let seed = [...l.id].reduce((a, c) => a * 31 + c.charCodeAt(0) | 0, 7);
  const rnd = () => { seed = seed * 1664525 + 1013904223 | 0; return (seed >>> 8) / 16777216; };
  g.fillStyle = colourOf(l);
  g.globalAlpha = l.hidden ? 0.25 : 1;
  g.beginPath();
  g.moveTo(0, 0);
  for (let y = 0; y <= h; y += 3) g.lineTo(width >= w - 3 ? w : width + (rnd() - 0.5) * 4, y);
  g.lineTo(0, h);
  g.fill();
  g.save();
  g.clip();
  const grains = Math.round((l.what.roughness.on ? l.what.roughness.number : 0.5) * 90);
  for (let i = 0; i < grains; i++) {
    g.fillStyle = rnd() < 0.5 ? '#ffffff26' : '#00000033';
    g.fillRect(rnd() * w, rnd() * h, 1.5, 1.5);
  }
  if (l.what.metallic.on && l.what.metallic.number > 0.5) {
    g.fillStyle = '#ffffff22';
    for (let y = 6; y < h; y += 12) g.fillRect(0, y, w, 3);
  }
  g.restore();
  g.globalAlpha = 1;
  g.fillStyle = '#0006';
  g.fillRect(0, h - 1, w, 1);
}
