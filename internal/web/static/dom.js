// Small helpers for building parts of the page.

/** Colours of the sets' pennants: Okabe & Ito's palette. */
const PALETTE = ['#56b4e9', '#e69f00', '#cc79a7', '#009e73', '#f0e442', '#d55e00', '#0072b2', '#b0b0b0'];

/** @param {number} i place of the set */
export const setColour = i => PALETTE[i % PALETTE.length];

/** @template {Element} T @param {string} sel @param {ParentNode} [root] @returns {T} */
export const $ = (sel, root = document) => root.querySelector(sel);

/**
 * Makes an element. Children are elements or text; properties go to the element itself.
 * @param {string} tag “name.class.class” @param {object} [props] @param {...(Node|string|null)} kids
 */
export function el(tag, props = {}, ...kids) {
  const [name, ...classes] = tag.split('.');
  const e = document.createElement(name);
  if (classes.length) e.className = classes.join(' ');
  for (const [k, v] of Object.entries(props)) {
    if (k.startsWith('data-') || k.startsWith('aria-') || k === 'role' || k === 'for') e.setAttribute(k, v);
    else e[k] = v;
  }
  e.append(...kids.filter(k => k !== null && k !== undefined));
  return e;
}

/** A copy of one of the page's icons. */
export function icon(name) {
  const t = $('#icons').content.querySelector(`[data-icon="${name}"] svg`);
  return t.cloneNode(true);
}

/** A copy of a template's first element. */
export const stamp = id => $('#' + id).content.firstElementChild.cloneNode(true);

/** The pennant of the set at place i. */
export const pennant = i => el('span.pennant', { style: `background:${setColour(i)}` });

/** Marks the button with the value among those of a group. */
export function choose(group, value) {
  for (const b of group.querySelectorAll('button')) {
    const on = b.dataset.value === String(value);
    b.classList.toggle('on', on);
    b.setAttribute('aria-pressed', on);
  }
}

/** Shows a sentence beside what it concerns, or takes it away. */
export function complain(node, text) {
  node.textContent = text || '';
  node.hidden = !text;
}

/** Whether a key goes to a field or a dialog. */
export const typing = e => e.target.closest?.('input, select, textarea, [contenteditable="true"], dialog');

let toastTimer;
/** Shows a sentence for a while when there is no better place for it. */
export function toast(text) {
  const t = $('#toast');
  t.textContent = text;
  t.hidden = false;
  clearTimeout(toastTimer);
  toastTimer = setTimeout(() => { t.hidden = true; }, 7000);
}

/** 12345 → “12 345” */
export const grouped = n => String(Math.round(n)).replace(/\B(?=(\d{3})+(?!\d))/g, '\u202f');

/** Seconds as m:ss. */
export const clock = s => `${Math.floor(s / 60)}:${String(Math.floor(s % 60)).padStart(2, '0')}`;
