// The flat map of a set as SVG: zoom, pan, framing, and marks drawn on it.
const NS = 'http://www.w3.org/2000/svg';

export class FlatMap {
  /** @param {HTMLElement} box */
  constructor(box) {
    this.box = box;
    this.set = null;
    box.addEventListener('wheel', e => {
      const v = this.view();
      if (!v) return;
      e.preventDefault();
      const k = e.deltaY < 0 ? 1 / 1.25 : 1.25, p = this.at(e);
      this.show({ x: p.x - (p.x - v.x) * k, y: p.y - (p.y - v.y) * k, width: v.width * k, height: v.height * k });
    }, { passive: false });
    box.addEventListener('pointerdown', e => {
      const v = this.view();
      if (!v) return;
      box.setPointerCapture(e.pointerId);
      const p0 = { x: e.clientX, y: e.clientY }, r = this.svg.getBoundingClientRect(), k = Math.max(v.width / r.width, v.height / r.height);
      const move = m => this.show({ x: v.x - (m.clientX - p0.x) * k, y: v.y - (m.clientY - p0.y) * k, width: v.width, height: v.height });
      box.addEventListener('pointermove', move);
      box.addEventListener('pointerup', () => box.removeEventListener('pointermove', move), { once: true });
    });
    box.addEventListener('dblclick', () => this.whole && this.show(this.whole));
  }

  get svg() { return this.box.querySelector('svg'); }

  view() {
    const s = this.svg;
    return s ? { x: s.viewBox.baseVal.x, y: s.viewBox.baseVal.y, width: s.viewBox.baseVal.width, height: s.viewBox.baseVal.height } : null;
  }

  show(v) { this.svg?.setAttribute('viewBox', `${v.x} ${v.y} ${v.width} ${v.height}`); }

  at(e) {
    const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(this.svg.getScreenCTM().inverse());
    return { x: p.x, y: p.y };
  }

  async load(url, set, colour) {
    if (this.url === url && this.set === set) return;
    this.wanted = url;
    const r = await fetch(url);
    if (!r.ok || this.wanted !== url) return;
    this.box.innerHTML = await r.text();
    this.box.style.setProperty('--set', colour);
    this.url = url;
    this.set = set;
    this.whole = this.view();
  }

  /** Draws polygons in UVs of the set's square, or takes them away. */
  mark(polygons) {
    const s = this.svg;
    if (!s) return;
    s.querySelector('.marks')?.remove();
    if (!polygons?.length) return;
    const p = document.createElementNS(NS, 'path');
    p.setAttribute('class', 'marks');
    p.setAttribute('d', polygons.map(q => {
      let d = '';
      for (let i = 0; i + 1 < q.length; i += 2) d += `${i ? 'L' : 'M'}${(q[i] * 1000).toFixed(2)} ${((1 - q[i + 1]) * 1000).toFixed(2)}`;
      return d + 'Z';
    }).join(''));
    s.append(p);
  }

  /** Brings a box of UVs into view, with room round it. */
  frame([u0, v0, u1, v1]) {
    const side = Math.min(this.whole?.width || 1e9, Math.max(u1 - u0, v1 - v0, 0.01) * 1000 * 1.9);
    this.show({ x: (u0 + u1) * 500 - side / 2, y: (2 - v0 - v1) * 500 - side / 2, width: side, height: side });
  }
}
