// How the layers lie in groups. What a group holds lies right below it in the document's list, which runs from the lowest up.

/** Where each layer of a list lies: its group, the lowest layer that it holds, how deep it is. */
export class Tree {
  /** @param {{id: string, group?: boolean, in?: string}[]} layers lowest first */
  constructor(layers) {
    this.layers = layers;
    this.at = new Map(layers.map((l, i) => [l.id, i]));
    this.parent = layers.map(l => this.at.get(l.in) ?? -1);
    this.first = layers.map((_, i) => i);
    layers.forEach((_, i) => { const p = this.parent[i]; if (p >= 0) this.first[p] = Math.min(this.first[p], this.first[i]); });
    this.depth = layers.map(() => 0);
    for (let i = layers.length - 1; i >= 0; i--) if (this.parent[i] >= 0) this.depth[i] = this.depth[this.parent[i]] + 1;
  }

  /** Places of the layers right in a group, lowest first; −1 is for those in none. */
  holds(i) { return this.parent.flatMap((p, k) => p === i ? [k] : []); }

  /** Whether layer i is layer j, or lies in it at any depth. */
  within(i, j) { return this.first[j] <= i && i <= j; }

  /** Places of a layer's groups, from the innermost on. */
  over(i) {
    const out = [];
    for (let p = this.parent[i]; p >= 0; p = this.parent[p]) out.push(p);
    return out;
  }

  /** IDs of some layers and of all that they hold, lowest first. */
  block(ids) {
    const tops = ids.map(id => this.at.get(id)).filter(i => i !== undefined);
    return this.layers.filter((_, i) => tops.some(j => this.within(i, j)));
  }
}
