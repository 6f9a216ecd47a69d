// Finds places of the model under the pointer, many times a frame: a tree of boxes over all triangles, and a grid over those of each
// flat map.

const LEAF = 6, GRID = 96;

/** A place of the surface: {set, part, place, normal, u, v, distance}. */
export class Picker {
  /** @param {Map<string, object>} sets those of the viewport */
  constructor(sets) {
    this.sets = [...sets].map(([name, s]) => ({ name, parts: s.parts, at: s.mesh.geometry.index.array, pos: s.mesh.geometry.attributes.position.array, nor: s.mesh.geometry.attributes.normal.array, uv: s.mesh.geometry.attributes.uv.array }));
    let n = 0;
    for (const s of this.sets) n += s.at.length / 3;
    this.set = new Uint16Array(n);
    this.tri = new Uint32Array(n);
    const box = new Float32Array(6 * n);
    let k = 0;
    this.sets.forEach((s, i) => {
      for (let t = 0; t < s.at.length; t += 3, k++) {
        this.set[k] = i;
        this.tri[k] = t;
        for (let a = 0; a < 3; a++) {
          const x = s.pos[3 * s.at[t] + a], y = s.pos[3 * s.at[t + 1] + a], z = s.pos[3 * s.at[t + 2] + a];
          box[6 * k + a] = Math.min(x, y, z);
          box[6 * k + 3 + a] = Math.max(x, y, z);
        }
      }
    });
    this.order = new Uint32Array(n).map((_, i) => i);
    this.nodes = new Float32Array(6 * Math.max(1, 2 * Math.ceil(n / (LEAF / 2))));
    this.link = new Int32Array(2 * this.nodes.length / 6); // first and count of a leaf, or the two below as ~first, second
    this.count = 0;
    if (n) this.build(0, n, box);
    this.flats = new Map();
  }

  /** Builds a node over triangles from one to before another of the order, and returns its number. */
  build(from, to, box) {
    const me = this.count++, N = this.nodes, o = this.order;
    let [x0, y0, z0, x1, y1, z1] = [Infinity, Infinity, Infinity, -Infinity, -Infinity, -Infinity];
    for (let i = from; i < to; i++) {
      const b = 6 * o[i];
      x0 = Math.min(x0, box[b]); y0 = Math.min(y0, box[b + 1]); z0 = Math.min(z0, box[b + 2]);
      x1 = Math.max(x1, box[b + 3]); y1 = Math.max(y1, box[b + 4]); z1 = Math.max(z1, box[b + 5]);
    }
    N.set([x0, y0, z0, x1, y1, z1], 6 * me);
    if (to - from <= LEAF) {
      this.link[2 * me] = from;
      this.link[2 * me + 1] = to - from;
      return me;
    }
    const axis = x1 - x0 >= y1 - y0 && x1 - x0 >= z1 - z0 ? 0 : y1 - y0 >= z1 - z0 ? 1 : 2, half = (from + to) >> 1;
    const key = i => box[6 * o[i] + axis] + box[6 * o[i] + 3 + axis];
    // Hoare's selection: the half with the lesser middles comes first.
    for (let a = from, b = to - 1; a < b;) {
      const pivot = key((a + b) >> 1);
      let i = a, j = b;
      while (i <= j) {
        while (key(i) < pivot) i++;
        while (key(j) > pivot) j--;
        if (i <= j) { const t = o[i]; o[i++] = o[j]; o[j--] = t; }
      }
      if (half <= j) b = j; else if (half >= i) a = i; else break;
    }
    const first = this.build(from, half, box), second = this.build(half, to, box);
    this.link[2 * me] = ~first;
    this.link[2 * me + 1] = second;
    return me;
  }

  /** The first place that a ray meets from outside, no farther than most; null for none. */
  ray(ox, oy, oz, dx, dy, dz, most = Infinity) {
    if (!this.count) return null;
    const N = this.nodes, ix = 1 / dx, iy = 1 / dy, iz = 1 / dz, stack = this.stack ||= new Int32Array(128);
    let best = most, hit = -1, bu = 0, bv = 0, n = 0;
    stack[n++] = 0;
    while (n) {
      const me = stack[--n], b = 6 * me;
      const ax = (N[b] - ox) * ix, bx = (N[b + 3] - ox) * ix, ay = (N[b + 1] - oy) * iy, by = (N[b + 4] - oy) * iy, az = (N[b + 2] - oz) * iz, bz = (N[b + 5] - oz) * iz;
      const near = Math.max(Math.min(ax, bx), Math.min(ay, by), Math.min(az, bz)), far = Math.min(Math.max(ax, bx), Math.max(ay, by), Math.max(az, bz));
      if (far < Math.max(0, near) || near > best) continue;
      const first = this.link[2 * me];
      if (first < 0) {
        stack[n++] = ~first;
        stack[n++] = this.link[2 * me + 1];
        continue;
      }
      for (let i = first; i < first + this.link[2 * me + 1]; i++) {
        const k = this.order[i], s = this.sets[this.set[k]], t = this.tri[k], p = s.pos, a = 3 * s.at[t], c = 3 * s.at[t + 1], d = 3 * s.at[t + 2];
        // Möller and Trumbore, 1997; faces seen from behind are passed through.
        const e1x = p[c] - p[a], e1y = p[c + 1] - p[a + 1], e1z = p[c + 2] - p[a + 2], e2x = p[d] - p[a], e2y = p[d + 1] - p[a + 1], e2z = p[d + 2] - p[a + 2];
        const hx = dy * e2z - dz * e2y, hy = dz * e2x - dx * e2z, hz = dx * e2y - dy * e2x, det = e1x * hx + e1y * hy + e1z * hz;
        if (det <= 0) continue;
        const tx = ox - p[a], ty = oy - p[a + 1], tz = oz - p[a + 2], u = (tx * hx + ty * hy + tz * hz) / det;
        if (u < 0 || u > 1) continue;
        const qx = ty * e1z - tz * e1y, qy = tz * e1x - tx * e1z, qz = tx * e1y - ty * e1x, v = (dx * qx + dy * qy + dz * qz) / det;
        if (v < 0 || u + v > 1) continue;
        const far = (e2x * qx + e2y * qy + e2z * qz) / det;
        if (far >= 0 && far < best) { best = far; hit = k; bu = u; bv = v; }
      }
    }
    if (hit < 0) return null;
    return { ...this.place(this.sets[this.set[hit]], this.tri[hit], bu, bv), distance: best };
  }

  /** What lies at a place of a triangle. */
  place(s, t, u, v) {
    const [a, c, d] = [s.at[t], s.at[t + 1], s.at[t + 2]], w = 1 - u - v;
    const mix = (of, n, k) => of[n * a + k] * w + of[n * c + k] * u + of[n * d + k] * v;
    const normal = [mix(s.nor, 3, 0), mix(s.nor, 3, 1), mix(s.nor, 3, 2)], long = Math.hypot(...normal) || 1;
    return { set: s.name, part: s.parts.find(([, from, n]) => t >= from && t < from + n)?.[0], place: [mix(s.pos, 3, 0), mix(s.pos, 3, 1), mix(s.pos, 3, 2)], normal: normal.map(x => x / long), u: mix(s.uv, 2, 0), v: mix(s.uv, 2, 1) };
  }

  /** The place of a set's square, 0–1 from the top left; null where no face lies. */
  flat(name, u, v) {
    const s = this.sets.find(k => k.name === name);
    if (!s) return null;
    const grid = this.grid(s), cell = grid[Math.min(GRID - 1, Math.max(0, Math.floor(v * GRID))) * GRID + Math.min(GRID - 1, Math.max(0, Math.floor(u * GRID)))];
    for (const t of cell || []) {
      const [a, c, d] = [2 * s.at[t], 2 * s.at[t + 1], 2 * s.at[t + 2]];
      const ux = s.uv[c] - s.uv[a], uy = s.uv[c + 1] - s.uv[a + 1], vx = s.uv[d] - s.uv[a], vy = s.uv[d + 1] - s.uv[a + 1], det = ux * vy - uy * vx;
      if (!det) continue;
      const x = u - s.uv[a], y = v - s.uv[a + 1], p = (x * vy - y * vx) / det, q = (ux * y - uy * x) / det;
      if (p >= 0 && q >= 0 && p + q <= 1) return this.place(s, t, p, q);
    }
    return null;
  }

  /** The triangles of a set by the cells of a grid over its square. */
  grid(s) {
    if (this.flats.has(s.name)) return this.flats.get(s.name);
    const grid = [];
    const cell = x => Math.min(GRID - 1, Math.max(0, Math.floor(x * GRID)));
    for (let t = 0; t < s.at.length; t += 3) {
      const x = [0, 1, 2].map(k => s.uv[2 * s.at[t + k]]), y = [0, 1, 2].map(k => s.uv[2 * s.at[t + k] + 1]);
      for (let j = cell(Math.min(...y)); j <= cell(Math.max(...y)); j++) for (let i = cell(Math.min(...x)); i <= cell(Math.max(...x)); i++) (grid[j * GRID + i] ||= []).push(t);
    }
    this.flats.set(s.name, grid);
    return grid;
  }
}
