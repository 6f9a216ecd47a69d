// A number that is dragged, typed, wheeled over, and set to its default by a double click.
import { el } from './dom.js';

const UNITS = { m: 1, cm: 0.01, mm: 0.001, km: 1000 };

/**
 * Reads what a person types: numbers, sums (“1/3”, “5 + 2”), and lengths with units (“2cm”).
 * @param {string} text @param {string} unit unit of a bare number
 * @returns {number} in the value's own unit, NaN when it cannot be read
 */
export function parse(text, unit) {
  const base = UNITS[unit];
  let s = text.toLowerCase().replaceAll(',', '.').replaceAll('−', '-').replace(/[°%]|px(\/m)?/g, '').trim();
  if (base) s = s.replace(/([\d.)]+)\s*(mm|cm|km|m)\b/g, (_, n, u) => `(${n}*${UNITS[u] / base})`);
  if (!s || !/^[\d.+\-*/()\se]+$/.test(s)) return NaN;
  const p = { s: s.replace(/\s+/g, ''), i: 0 }, v = sum(p);
  return p.i === p.s.length ? v : NaN;
}

function sum(p) {
  let v = product(p);
  while (p.s[p.i] === '+' || p.s[p.i] === '-') v = p.s[p.i++] === '+' ? v + product(p) : v - product(p);
  return p.i < p.s.length && p.s[p.i] !== ')' ? NaN : v;
}

function product(p) {
  let v = factor(p);
  while (p.s[p.i] === '*' || p.s[p.i] === '/') v = p.s[p.i++] === '*' ? v * factor(p) : v / factor(p);
  return v;
}

function factor(p) {
  if (p.s[p.i] === '-') { p.i++; return -factor(p); }
  if (p.s[p.i] === '(') {
    p.i++;
    const v = sum(p);
    return p.s[p.i++] === ')' ? v : NaN;
  }
  const m = /^(\d+\.?\d*|\.\d+)(e-?\d+)?/.exec(p.s.slice(p.i));
  if (!m) return NaN;
  p.i += m[0].length;
  return Number(m[0]);
}

/** Writes a value with its unit, with as many figures as it needs up to so many. Lengths go by size. */
export function show(v, o, figures = 4) {
  if (UNITS[o.unit]) {
    const m = v * UNITS[o.unit], a = Math.abs(m);
    const unit = a === 0 ? o.unit : a < 0.01 ? 'mm' : a < 1 ? 'cm' : a < 10000 ? 'm' : 'km';
    return `${trim(m / UNITS[unit], figures)} ${unit}`;
  }
  return (o.whole ? String(Math.round(v)) : trim(v, figures)) + (o.unit === '°' ? '°' : o.unit ? ' ' + o.unit : '');
}

const trim = (v, n) => String(Number(v.toPrecision(n)));

/** A value as it stands while it is typed over: with all figures that it has. */
const exact = (v, o) => show(v, o, 12);

/**
 * @typedef {{label?: string, name: string, value: number, min: number, max: number, default: number, unit?: string,
 *   log?: boolean, whole?: boolean, choices?: string[], zero?: string, the word for 0; with log it stands for all below min
 *   share?: number, what a share of the tile like 0.02 is taken of
 *   figures?: number, how many are shown, 4 when not said
 *   live?: (v: number) => void, commit: (v: number) => void}} ValueOptions
 */

/** @param {ValueOptions} o */
export function value(o) {
  if (o.choices?.length) return choice(o);
  const bar = el('b');
  const input = el('input', { type: 'text', spellcheck: false, 'aria-label': o.label || o.name, 'data-key': o.name });
  const box = el('span.drag', { title: `${o.label || o.name}: drag, wheel or type; double-click for ${o.zero ?? show(o.default, o)}` }, bar, input);
  let v = o.value;
  const share = x => o.log ? Math.log(x / o.min) / Math.log(o.max / o.min) : (x - o.min) / (o.max - o.min);
  const at = s => o.log && o.zero && s <= 0 ? 0 : o.log ? o.min * (o.max / o.min) ** s : o.min + s * (o.max - o.min);
  const fit = x => {
    if (o.log && o.zero && x < o.min) return 0;
    x = Math.min(o.max, Math.max(o.min, x));
    return o.whole ? Math.round(x) : Number(x.toPrecision(6));
  };
  const draw = () => {
    bar.style.width = `${Math.max(0, Math.min(1, share(Math.max(v, o.log ? o.min : -Infinity)))) * 100}%`;
    if (document.activeElement !== input) input.value = o.zero && v === 0 ? o.zero : show(v, o, o.figures);
    // How much room the label leaves it, where the two share a line.
    box.parentElement?.style.setProperty('--chars', input.value.length);
  };
  const set = x => { v = fit(x); draw(); };
  // A wide plain range is dragged by steps of its value, not by its whole width.
  const stride = o.whole && o.max - o.min > 100 ? 0.25 : !o.log && o.max - o.min > 20 && o.unit === 'm' ? 0.005 : 0;
  let dragged = false;
  input.onpointerdown = e => {
    if (document.activeElement === input || e.button) return;
    e.preventDefault();
    const x0 = e.clientX, v0 = v, s0 = share(Math.max(v, o.log ? o.min : v));
    let moved = false;
    box.setPointerCapture(e.pointerId);
    box.onpointermove = m => {
      const dx = m.clientX - x0;
      if (!moved && Math.abs(dx) < 3) return;
      moved = true;
      const k = m.shiftKey ? 0.1 : 1;
      set(stride ? v0 + dx * stride * k : at(Math.min(1, Math.max(0, s0 + dx * k / 150))));
      o.live?.(v);
    };
    box.onpointerup = () => {
      box.onpointermove = box.onpointerup = null;
      dragged = moved;
      if (moved) { if (v !== v0) o.commit(v); } else { input.focus(); input.select(); }
    };
  };
  input.onkeydown = e => {
    if (e.key === 'Enter') input.blur();
    if (e.key === 'Escape') {
      clearTimeout(wheelTimer);
      if (v !== began) { v = began; o.live?.(v); }
      input.value = shown = exact(v, o);
      input.blur();
    }
    if (e.key === 'ArrowUp' || e.key === 'ArrowDown') {
      e.preventDefault();
      nudge(e.key === 'ArrowUp' ? 1 : -1, e.shiftKey);
      input.value = shown = exact(v, o);
    }
    e.stopPropagation();
  };
  // What stands in the field when it is entered; only what is typed over it changes the value.
  let wheelTimer, shown = '', began = v;
  input.onblur = () => {
    const typed = input.value !== shown, was = v;
    const x = typed ? parse(input.value, o.unit) : NaN;
    if (Number.isFinite(x)) v = fit(o.share && input.value.includes('.') && x > 0 && x < 0.5 && !/px/.test(input.value) ? x * o.share : x);
    draw();
    if (v !== was) o.commit(v);
  };
  input.onfocus = () => { began = v; input.value = shown = exact(v, o); };
  const nudge = (dir, fine) => {
    const k = fine ? 0.1 : 1;
    set(o.whole ? v + dir : stride ? v + dir * stride * 4 * k : at(share(Math.max(v, o.log ? o.min : v)) + dir * 0.02 * k));
    o.live?.(v);
    clearTimeout(wheelTimer);
    wheelTimer = setTimeout(() => o.commit(v), 300);
  };
  box.addEventListener('wheel', e => { e.preventDefault(); nudge(e.deltaY < 0 ? 1 : -1, e.shiftKey); }, { passive: false });
  box.ondblclick = e => { e.preventDefault(); input.blur(); set(o.default); o.commit(v); };
  const whole = el(o.label ? 'label.value' : 'span.value.bare', {}, o.label ? el('span', {}, o.label) : null, box);
  // The click that ends a drag would have the label give its field the focus.
  whole.onclick = e => { if (dragged) e.preventDefault(); dragged = false; };
  draw();
  return whole;
}

const CURVE = 26; // px of a curve's square

/**
 * The curve x to the power of 2^value, drawn in a small square: it is dragged up and down, moved by arrow keys, made straight by a
 * double click.
 * @param {ValueOptions & {off: boolean}} o
 */
export function curve(o) {
  const NS = 'http://www.w3.org/2000/svg', svg = document.createElementNS(NS, 'svg'), path = document.createElementNS(NS, 'path');
  svg.setAttribute('viewBox', `0 0 ${CURVE} ${CURVE}`);
  svg.append(path);
  const box = el('span.curve', { tabindex: 0, role: 'slider', 'aria-label': o.label, 'aria-valuemin': o.min, 'aria-valuemax': o.max, 'data-key': o.name, title: `${o.label}: drag up or down, double-click for straight; ${o.help}` }, svg);
  box.classList.toggle('off', o.off);
  let v = o.value;
  const set = x => {
    v = Number(Math.min(o.max, Math.max(o.min, x)).toFixed(2));
    const at = i => [3 + i / 12 * (CURVE - 6), CURVE - 3 - (i / 12) ** (2 ** v) * (CURVE - 6)].map(n => n.toFixed(1));
    path.setAttribute('d', Array.from({ length: 13 }, (_, i) => `${i ? 'L' : 'M'}${at(i)}`).join(''));
    box.setAttribute('aria-valuenow', v);
    box.setAttribute('aria-valuetext', v === 0 ? 'straight' : v < 0 ? `light pressure counts more, ${-v}` : `light pressure counts less, ${v}`);
  };
  box.onpointerdown = e => {
    if (e.button) return;
    box.setPointerCapture(e.pointerId);
    const y0 = e.clientY, v0 = v;
    box.onpointermove = m => set(v0 + (m.clientY - y0) / 30);
    box.onpointerup = () => { box.onpointermove = box.onpointerup = null; if (v !== v0) o.commit(v); };
  };
  box.ondblclick = () => { set(0); o.commit(v); };
  box.onkeydown = e => {
    const by = { ArrowUp: -0.1, ArrowLeft: -0.1, ArrowDown: 0.1, ArrowRight: 0.1 }[e.key];
    if (!by) return;
    e.preventDefault();
    e.stopPropagation();
    set(v + by);
    o.commit(v);
  };
  set(v);
  return box;
}

/** A value whose whole numbers have names. */
function choice(o) {
  const s = el('select', { 'aria-label': o.label, 'data-key': o.name }, ...o.choices.map((c, i) => el('option', { value: i, selected: i === o.value }, c)));
  s.onchange = () => o.commit(Number(s.value));
  const whole = el('label.value', {}, el('span', {}, o.label), s);
  whole.style.setProperty('--chars', Math.min(5, (o.choices[o.value] || '').length) + 0.5);
  return whole;
}
