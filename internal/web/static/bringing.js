// Maps that come from elsewhere: where each file would go, to be corrected before anything is taken in.
import { $, complain, el } from './dom.js';
import { upload } from './api.js';

export class Bringing {
  constructor(board) {
    this.board = board;
    this.app = board.app;
    this.rows = [];
    $('#bring-files').accept = [...this.app.tables.pictureEndings, '.zip'].join(',');
    $('#bring-maps').onclick = () => $('#bring-files').click();
    $('#bring-folder').onclick = () => $('#bring-dir').click();
    for (const id of ['#bring-files', '#bring-dir']) $(id).onchange = e => this.send(e.target);
    $('#bring-close').onclick = () => { $('#bring-sheet').hidden = true; };
    $('#bring-take').onclick = () => this.take();
    const wrap = $('.board-wrap');
    wrap.ondragover = e => { e.preventDefault(); wrap.classList.add('over'); };
    wrap.ondragleave = () => wrap.classList.remove('over');
    wrap.ondrop = e => { e.preventDefault(); wrap.classList.remove('over'); this.send({ files: e.dataTransfer.files }); };
  }

  async send(input) {
    const files = [...input.files];
    input.value = '';
    if (!files.length) return;
    complain($('#bring-all-complaint'), '');
    try {
      this.files = files;
      this.show(await upload(`${this.app.api}/bring`, files));
    } catch (e) {
      complain($('#bring-all-complaint'), e.message);
    }
  }

  show(answer) {
    this.rows = answer.rows;
    this.words = answer.words;
    this.key = answer.key;
    complain($('#bring-sheet-complaint'), '');
    $('#pair-sheet').hidden = true;
    $('#bring-sheet').hidden = false;
    this.render();
    this.wordList();
  }

  render() {
    const s = this.app.state;
    const pick = (row, key, options, label) => {
      const k = el('select.compact', { 'aria-label': `${label} of ${row.file}`, disabled: !!row.broken }, el('option', { value: '' }, '—'), ...options.map(([v, words]) => el('option', { value: v, selected: v === row[key] }, words)));
      k.onchange = () => { row[key] = k.value; row.own = true; this.render(); };
      return k;
    };
    const placed = this.rows.filter(r => r.set && r.kind);
    const double = r => placed.some(o => o !== r && o.set === r.set && o.kind === r.kind && r.set && r.kind);
    $('#bring-title').textContent = `Maps to bring in: ${placed.length} of ${this.rows.length} files have a place`;
    $('#bring-rows').replaceChildren(el('tr', {}, ...['File', 'Size', 'Set', 'Map', 'Green', ''].map(w => el('th', {}, w))), ...this.rows.map(r => {
      const flip = el('input', { type: 'checkbox', checked: r.flip, 'aria-label': `Flip green of ${r.file}` });
      flip.onchange = () => { r.flip = flip.checked; r.sure = 0; r.own = true; this.render(); };
      const guess = r.sure >= 0.3 ? `looks ${r.flip ? 'down' : 'up'}` : '';
      const s2 = r.width ? `${r.width} × ${r.height}` + (r.size !== r.width || r.size !== r.height ? ` → ${r.size}` : '') : '';
      return el('tr', { 'data-file': r.file, className: !r.set || !r.kind ? 'unplaced' : '' }, el('td.clip', { title: r.file }, r.file), el('td.figure', {}, s2),
        el('td', {}, pick(r, 'set', s.sets.map(k => [k.name, k.label]), 'Set')), el('td', {}, pick(r, 'kind', this.app.tables.maps.map(m => [m.name, m.label]), 'Map')),
        el('td', {}, r.kind === 'normal' || r.kind === 'world-normal' ? el('label.tick', {}, flip, ' flip ', el('span.quiet', {}, guess)) : ''),
        el('td' + (double(r) ? '.amiss' : '.quiet'), {}, double(r) ? 'another file is meant for this place' : r.set && r.kind ? '' : r.reason || ''));
    }));
    const take = $('#bring-take');
    take.textContent = placed.length ? `Take ${placed.length} map${placed.length === 1 ? '' : 's'} in` : 'No file has a place yet';
    take.disabled = !placed.length || placed.some(double);
  }

  /** The words that name each map; the user's own can be changed. */
  wordList() {
    const own = this.app.state.settings.words || {};
    $('#bring-words').replaceChildren(...this.app.tables.maps.map(m => {
      const input = el('input.field-text', { value: (own[m.name] || []).join(', '), placeholder: 'more words, with commas between', 'aria-label': `More words for ${m.label}`, 'data-words': m.name, spellcheck: false });
      input.onkeydown = e => { if (e.key === 'Enter') input.blur(); e.stopPropagation(); };
      input.onchange = async () => {
        const words = { ...own, [m.name]: input.value.split(',').map(w => w.trim()).filter(Boolean) };
        if (String(words[m.name]) === String(own[m.name] || [])) return;
        if (!await this.app.do('words', { words }, $('#bring-sheet-complaint'))) return;
        own[m.name] = words[m.name];
        // The names are read anew with the new words; what was put right by hand stays.
        try {
          const { rows, key } = await upload(`${this.app.api}/bring`, this.files);
          this.key = key;
          this.rows = rows.map((r, i) => this.rows[i]?.own ? this.rows[i] : r);
          this.render();
        } catch (e) { complain($('#bring-sheet-complaint'), e.message); }
      };
      return el('div.word-row', {}, el('strong', {}, m.label), el('span.quiet', {}, (this.words[m.name] || []).join(', ')), input);
    }));
  }

  async take() {
    if (await this.app.do('bring', { value: this.key, rows: this.rows }, $('#bring-sheet-complaint'))) $('#bring-sheet').hidden = true;
  }
}
