// The height as shape: a set's faces cut so small that the height moves them, without cracks along seams.

/** What faces are made of, by attribute, with how many numbers each. */
const MADE = { position: 3, normal: 3, tangent: 4, uv: 2 };

/**
 * Cuts faces until no edge is longer than longest. An edge is cut by what it is alone, so faces on both sides of it, also those across
 * a seam of the texture, are cut alike.
 * @param {Record<string, Float32Array>} of attributes by name @param {Uint32Array} index @param {number[][]} runs of indices: from, how many
 */
export function cut(of, index, runs, longest, most) {
  const made = {};
  let n = of.position.length / 3;
  for (const [k, w] of Object.entries(MADE)) if (of[k]) made[k] = { w, a: of[k].slice(), n: of[k].length };
  const room = (k, more) => {
    if (k.n + more <= k.a.length) return;
    const a = new Float32Array(2 * (k.n + more));
    a.set(k.a.subarray(0, k.n));
    k.a = a;
  };
  const halfway = (a, b) => {
    for (const k of Object.values(made)) {
      room(k, k.w);
      for (let c = 0; c < k.w; c++) k.a[k.n + c] = k.w === 4 && c === 3 ? k.a[k.w * a + c] : (k.a[k.w * a + c] + k.a[k.w * b + c]) / 2;
      if (k.w > 2) {
        const x = k.a[k.n], y = k.a[k.n + 1], z = k.a[k.n + 2], l = k === made.position ? 1 : Math.hypot(x, y, z) || 1;
        k.a[k.n] = x / l; k.a[k.n + 1] = y / l; k.a[k.n + 2] = z / l;
      }
      k.n += k.w;
    }
    return n++;
  };
  const limit = longest * longest;
  let faces = runs.map(([from, many]) => index.slice(from, from + many));
  for (let pass = 0; pass < 14; pass++) {
    const middles = new Map();
    const middle = (a, b) => {
      const p = made.position.a, x = p[3 * a] - p[3 * b], y = p[3 * a + 1] - p[3 * b + 1], z = p[3 * a + 2] - p[3 * b + 2];
      if (x * x + y * y + z * z <= limit) return -1;
      const key = a < b ? a * 2 ** 26 + b : b * 2 ** 26 + a;
      let m = middles.get(key);
      if (m === undefined) middles.set(key, m = a < b ? halfway(a, b) : halfway(b, a));
      return m;
    };
    let some = false, all = 0;
    faces = faces.map(run => {
      const out = [];
      for (let i = 0; i < run.length; i += 3) {
        const [a, b, c] = [run[i], run[i + 1], run[i + 2]], ab = middle(a, b), bc = middle(b, c), ca = middle(c, a);
        const many = (ab >= 0) + (bc >= 0) + (ca >= 0);
        some ||= many > 0;
        if (!many) out.push(a, b, c);
        else if (many === 3) out.push(a, ab, ca, ab, b, bc, ca, bc, c, ab, bc, ca);
        // Turned so that the first edge, or the first two, are those that are cut.
        else if (many === 1) { const [p, q, r, m] = ab >= 0 ? [a, b, c, ab] : bc >= 0 ? [b, c, a, bc] : [c, a, b, ca]; out.push(p, m, r, m, q, r); }
        else { const [p, q, r, m, o] = ca < 0 ? [a, b, c, ab, bc] : ab < 0 ? [b, c, a, bc, ca] : [c, a, b, ca, ab]; out.push(p, m, r, m, q, o, m, o, r); }
      }
      all += out.length / 3;
      return out;
    });
    if (!some || all > most) break;
  }
  const out = { runs: [], index: new Uint32Array(faces.reduce((s, f) => s + f.length, 0)) };
  for (const [k, v] of Object.entries(made)) out[k] = v.a.slice(0, v.n);
  let at = 0;
  for (const f of faces) {
    out.index.set(f, at);
    out.runs.push([at, f.length]);
    at += f.length;
  }
  return out;
}

/** Corners that lie in one place, but for rounding, by number from 0 on: what moves one of them moves all. */
export function places(position) {
  let far = 1e-9;
  for (const x of position) far = Math.max(far, Math.abs(x));
  const n = position.length / 3, bits = Int32Array.from(position, x => Math.round(x / far * 4e6)), of = new Int32Array(n);
  let size = 1;
  while (size < 2 * n) size *= 2;
  const table = new Int32Array(size).fill(-1);
  let count = 0;
  const first = new Int32Array(n);
  for (let i = 0; i < n; i++) {
    let h = Math.imul(bits[3 * i], 0x8da6b343) ^ Math.imul(bits[3 * i + 1], 0xd8163841) ^ Math.imul(bits[3 * i + 2], 0xcb1ab31f);
    h = Math.imul(h ^ h >>> 15, 0x2c1b3c6d);
    for (h = (h ^ h >>> 13) & (size - 1); ; h = h + 1 & (size - 1)) {
      const at = table[h];
      if (at < 0) { table[h] = i; first[i] = count++; of[i] = first[i]; break; }
      if (bits[3 * at] === bits[3 * i] && bits[3 * at + 1] === bits[3 * i + 1] && bits[3 * at + 2] === bits[3 * i + 2]) { of[i] = first[at]; break; }
    }
  }
  return { of, count };
}

/** Heights in metres of a picture whose texels hold them in two bytes, halved so often. @param {{size: number, data: Uint8Array}} p */
export function heights(p, range, halved) {
  let size = p.size, h = new Float32Array(size * size);
  for (let i = 0; i < h.length; i++) h[i] = ((p.data[4 * i] * 256 + p.data[4 * i + 1]) / 65535 * 2 - 1) * range;
  for (; halved > 0 && size > 16; halved--) {
    const half = size / 2, out = new Float32Array(half * half);
    for (let y = 0; y < half; y++) for (let x = 0; x < half; x++) { const i = 2 * y * size + 2 * x; out[y * half + x] = (h[i] + h[i + 1] + h[i + size] + h[i + size + 1]) / 4; }
    size = half;
    h = out;
  }
  return { size, h };
}

/** The height at a place of the square, between its texels. Beyond the rim it goes on from the other side, where the square repeats. */
export function heightAt({ size, h }, u, v, repeats) {
  const in_ = repeats ? i => (i % size + size) % size : i => Math.min(size - 1, Math.max(0, i));
  const x = u * size - 0.5, y = v * size - 0.5, i = Math.floor(x), j = Math.floor(y), fx = x - i, fy = y - j;
  const a = in_(i), b = in_(i + 1), c = in_(j) * size, d = in_(j + 1) * size;
  return (h[c + a] * (1 - fx) + h[c + b] * fx) * (1 - fy) + (h[d + a] * (1 - fx) + h[d + b] * fx) * fy;
}

/** Moves corners out along their normals by the height; those in one place move alike. */
export function move(of, spots, high, repeats, by, out) {
  const { position, normal, uv } = of, n = position.length / 3, sum = new Float64Array(3 * spots.count), many = new Uint16Array(spots.count);
  for (let i = 0; i < n; i++) {
    const h = by * heightAt(high, uv[2 * i], uv[2 * i + 1], repeats), k = spots.of[i];
    many[k]++;
    for (let c = 0; c < 3; c++) sum[3 * k + c] += h * normal[3 * i + c];
  }
  for (let i = 0; i < n; i++) {
    const k = spots.of[i];
    for (let c = 0; c < 3; c++) out[3 * i + c] = position[3 * i + c] + sum[3 * k + c] / many[k];
  }
}
