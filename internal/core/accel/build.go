// Package accel answers ray queries over triangles with an eight-wide bounding volume hierarchy
// built by the surface-area heuristic (Wald, On fast Construction of SAH-based Bounding Volume
// Hierarchies, 2007).
package accel

import (
	"context"
	"math"
	"math/bits"

	"crust/internal/core/geom"
	"crust/internal/core/par"
)

const (
	width    = 8  // children of a node and triangles of a leaf block
	bins     = 16 // enough: more changed the ray rate by less than the noise
	maxDepth = 64
)

// node has up to eight children, planes kept by axis so that eight boxes are tested at once.
// child ≥ 0 is a node, < 0 the leaf block ^child.
type node struct {
	minX, minY, minZ [width]float32
	maxX, maxY, maxZ [width]float32
	child            [width]int32
	valid            uint32 // bit per child that is there; an empty box would always be hit
	_                [7]uint32
}

// block holds up to eight triangles, by component. Unused slots are degenerate and never hit. Nodes and
// blocks fill whole cache lines.
type block struct {
	ax, ay, az [width]float32
	bx, by, bz [width]float32
	cx, cy, cz [width]float32
	tri        [width]int32
}

// BVH is built once and read by any number of goroutines.
type BVH struct {
	nodes  []node
	blocks []block
	box    geom.Box
	// eps is how far a ray origin is lifted off the surface, in metres: a millionth of the size.
	eps float32
}

// Mesh is what a BVH is built over.
type Mesh struct {
	Positions []geom.Vec3
	Tris      [][3]uint32
}

// Bounds is the box around all triangles.
func (b *BVH) Bounds() geom.Box { return b.box }

// Epsilon is a distance that is safely above rounding at the mesh's size.
func (b *BVH) Epsilon() float32 { return b.eps }

// Build makes the hierarchy, on as many cores as there are. Degenerate triangles are left out.
func Build(m Mesh) *BVH {
	b, _ := BuildWithin(context.Background(), m) // never stopped
	return b
}

// BuildWithin is Build that gives up with the context's error when that ends.
func BuildWithin(ctx context.Context, m Mesh) (*BVH, error) {
	bd := builder{ctx: ctx, mesh: m}
	box := geom.EmptyBox()
	for t, tri := range m.Tris {
		a, b, c := m.Positions[tri[0]], m.Positions[tri[1]], m.Positions[tri[2]]
		if b.Sub(a).Cross(c.Sub(a)) == (geom.Vec3{}) {
			continue
		}
		bb := geom.Box{Min: a.Min(b).Min(c), Max: a.Max(b).Max(c)}
		bd.refs = append(bd.refs, ref{bb, bb.Centre(), int32(t)})
		box = box.Union(bb)
	}
	out := &BVH{box: box, eps: max(1e-7, box.Diagonal()*2e-6)}
	if len(bd.refs) == 0 {
		return out, nil
	}
	depth := bits.Len(uint(par.Workers())) + 3
	root := bd.split(bd.refs, depth, 0)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	out.nodes = make([]node, 0, len(bd.refs)/4+1)
	out.blocks = make([]block, 0, len(bd.refs)/5+1)
	root.weigh()
	if root.left == nil {
		root = &tree{box: root.box, left: root, right: nil}
	}
	out.collapse(m, root)
	LargePages(out.nodes)
	LargePages(out.blocks)
	return out, nil
}

type ref struct {
	box geom.Box
	mid geom.Vec3
	tri int32
}

type tree struct {
	box         geom.Box
	left, right *tree
	refs        []ref
	cost        [width]float32 // see weigh
}

type builder struct {
	ctx  context.Context
	mesh Mesh
	refs []ref
}

type bin struct {
	box geom.Box
	n   int
}

// split partitions refs in place. spread is how many more levels may start goroutines.
func (b *builder) split(refs []ref, spread, depth int) *tree {
	box, mids := geom.EmptyBox(), geom.EmptyBox()
	for i := range refs {
		box = box.Union(refs[i].box)
		mids = mids.Add(refs[i].mid)
	}
	t := &tree{box: box}
	if len(refs) <= width || len(refs) > 4096 && b.ctx.Err() != nil {
		t.refs = refs
		return t
	}
	at := b.partition(refs, box, mids, depth)
	if spread > 0 && len(refs) > 4096 {
		var wg par.Group
		wg.Go(func() { t.left = b.split(refs[:at], spread-1, depth+1) })
		t.right = b.split(refs[at:], spread-1, depth+1)
		wg.Wait()
	} else {
		t.left = b.split(refs[:at], 0, depth+1)
		t.right = b.split(refs[at:], 0, depth+1)
	}
	return t
}

// partition orders refs by the cheapest of the binned planes and returns where it cuts. Counts are
// rounded up to whole leaf blocks, which fills the leaves.
func (b *builder) partition(refs []ref, box, mids geom.Box, depth int) int {
	best, axis, cut := float32(0), -1, 0
	size := mids.Size()
	var all [3][bins]bin
	var scale [3]float32
	for k := range 3 {
		for i := range bins {
			all[k][i].box = geom.EmptyBox()
		}
		// Centres that are closer than numbers can part, or further away, are one in this direction.
		if s := bins * 0.9999 / size.Axis(k); s > 0 && s <= math.MaxFloat32 {
			scale[k] = s
		}
	}
	lo := mids.Min
	for i := range refs {
		r := &refs[i]
		d := r.mid.Sub(lo)
		for k, v := range [3]float32{d.X * scale[0], d.Y * scale[1], d.Z * scale[2]} {
			bn := &all[k][max(0, min(bins-1, int(v)))]
			bn.n++
			bn.box = bn.box.Union(r.box)
		}
	}
	if depth < maxDepth-24 {
		for k := range 3 {
			if scale[k] == 0 {
				continue
			}
			var right [bins]float32
			acc, n := geom.EmptyBox(), 0
			for i := bins - 1; i > 0; i-- {
				acc, n = acc.Union(all[k][i].box), n+all[k][i].n
				right[i] = acc.HalfArea() * float32((n+width-1)/width)
			}
			acc, n = geom.EmptyBox(), 0
			for i := 0; i < bins-1; i++ {
				acc, n = acc.Union(all[k][i].box), n+all[k][i].n
				if n == 0 || n == len(refs) {
					continue
				}
				cost := acc.HalfArea()*float32((n+width-1)/width) + right[i+1]
				if axis < 0 || cost < best {
					best, axis, cut = cost, k, i
				}
			}
		}
	}
	if axis < 0 {
		return len(refs) / 2
	}
	i, j := 0, len(refs)
	base := lo.Axis(axis)
	for i < j {
		if int((refs[i].mid.Axis(axis)-base)*scale[axis]) <= cut {
			i++
		} else {
			j--
			refs[i], refs[j] = refs[j], refs[i]
		}
	}
	if i == 0 || i == len(refs) {
		return len(refs) / 2
	}
	return i
}

// Costs of a visit by a few rays, measured: 31 ns for eight boxes, 42 ns for eight triangles.
const (
	nodeCost = 1
	leafCost = 1.4
)

// weigh fills cost: what the subtree costs when it stands as at most i+1 children of a wide node (Ylitie,
// Karras & Laine, Efficient Incoherent Ray Traversal on GPUs Through Compressed Wide BVHs, 2017, §3.1).
func (t *tree) weigh() {
	area := t.box.HalfArea()
	if t.left == nil {
		for i := range t.cost {
			t.cost[i] = area * leafCost
		}
		return
	}
	t.left.weigh()
	t.right.weigh()
	t.cost[0] = area*nodeCost + t.left.cost[width-1-1-t.share(width)] + t.right.cost[t.share(width)]
	for i := 2; i <= width; i++ {
		k := t.share(i)
		t.cost[i-1] = min(t.cost[i-2], t.left.cost[i-2-k]+t.right.cost[k])
	}
}

// share is how many of n children, less one, the right side best gets.
func (t *tree) share(n int) (k int) {
	for j := 1; j <= n-2; j++ {
		if t.left.cost[n-2-j]+t.right.cost[j] < t.left.cost[n-2-k]+t.right.cost[k] {
			k = j
		}
	}
	return k
}

// spread lists the at most n children that t is best split into.
func (t *tree) spread(n int, kids []*tree) []*tree {
	for n > 1 && t.left != nil && t.cost[n-1] == t.cost[n-2] {
		n--
	}
	if n == 1 || t.left == nil {
		return append(kids, t)
	}
	k := t.share(n)
	return t.right.spread(k+1, t.left.spread(n-1-k, kids))
}

// collapse writes t as an eight-wide node with the children that make it cheapest.
func (b *BVH) collapse(m Mesh, t *tree) int32 {
	at := int32(len(b.nodes))
	b.nodes = append(b.nodes, node{})
	kids := make([]*tree, 0, width)
	if t.right == nil {
		kids = append(kids, t.left)
	} else {
		k := t.share(width)
		kids = t.right.spread(k+1, t.left.spread(width-1-k, kids))
	}
	var n node
	for i, k := range kids {
		n.minX[i], n.minY[i], n.minZ[i] = k.box.Min.X, k.box.Min.Y, k.box.Min.Z
		n.maxX[i], n.maxY[i], n.maxZ[i] = k.box.Max.X, k.box.Max.Y, k.box.Max.Z
		n.valid |= 1 << i
		if k.left != nil {
			n.child[i] = b.collapse(m, k)
		} else {
			n.child[i] = ^b.leaf(m, k.refs)
		}
	}
	b.nodes[at] = n
	return at
}

func (b *BVH) leaf(m Mesh, refs []ref) int32 {
	var k block
	for i, r := range refs {
		t := m.Tris[r.tri]
		p, q, s := m.Positions[t[0]], m.Positions[t[1]], m.Positions[t[2]]
		k.ax[i], k.ay[i], k.az[i] = p.X, p.Y, p.Z
		k.bx[i], k.by[i], k.bz[i] = q.X, q.Y, q.Z
		k.cx[i], k.cy[i], k.cz[i] = s.X, s.Y, s.Z
		k.tri[i] = r.tri
	}
	// Unused slots repeat a point of the first triangle, so that they never stick out of the block.
	for i := len(refs); i < width; i++ {
		k.ax[i], k.ay[i], k.az[i] = k.ax[0], k.ay[0], k.az[0]
		k.bx[i], k.by[i], k.bz[i] = k.ax[0], k.ay[0], k.az[0]
		k.cx[i], k.cy[i], k.cz[i] = k.ax[0], k.ay[0], k.az[0]
	}
	b.blocks = append(b.blocks, k)
	return int32(len(b.blocks) - 1)
}
