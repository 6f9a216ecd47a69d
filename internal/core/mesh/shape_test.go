package mesh

import (
	"strings"
	"testing"

	"crust/internal/core/geom"
)

func grid2() *Model {
	m := Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	m.Channels = []Channel{{Name: "UV 1", UVs: m.UVs}}
	return m
}

// A channel whose corners differ at one place parts the vertex there, and the others keep theirs.
func TestAddedChannelsPartVerticesAtTheirSeams(t *testing.T) {
	m := grid2()
	corners := make([][3]geom.Vec2, len(m.Tris))
	for i, tri := range m.Tris {
		for k, v := range tri {
			corners[i][k] = m.UVs[v].Mul(0.5)
			if i >= 4 { // the upper row lies elsewhere
				corners[i][k] = corners[i][k].Add(geom.Vec2{X: 0.5})
			}
		}
	}
	before := len(m.Positions)
	old := append([]geom.Vec2(nil), m.UVs...)
	k := m.AddChannel("two", corners)
	if len(m.Positions) != before+3 { // the three vertices between the rows
		t.Errorf("%d vertices, want %d", len(m.Positions), before+3)
	}
	for i, tri := range m.Tris {
		for c, v := range tri {
			if m.Channels[k].UVs[v] != corners[i][c] {
				t.Fatalf("corner %d of triangle %d has %v, want %v", c, i, m.Channels[k].UVs[v], corners[i][c])
			}
			if int(v) < before && m.UVs[v] != old[v] {
				t.Fatalf("the first channel changed at vertex %d", v)
			}
		}
	}
	if len(m.UVs) != len(m.Positions) || len(m.Normals) != len(m.Positions) {
		t.Errorf("%d UVs and %d normals for %d vertices", len(m.UVs), len(m.Normals), len(m.Positions))
	}
}

// A copy can be cut and chosen without the original noticing.
func TestClonesAreApart(t *testing.T) {
	m := grid2()
	c := m.Clone()
	corners := make([][3]geom.Vec2, len(m.Tris))
	for i := range corners {
		corners[i] = [3]geom.Vec2{{X: float32(i)}, {X: 1}, {Y: 1}}
	}
	if err := c.Choose(c.AddChannel("apart", corners)); err != nil {
		t.Fatal(err)
	}
	c.Positions[0].X = 99
	if len(m.Channels) != 1 || len(m.Positions) != 9 || m.Positions[0].X != 0 || m.UVs[0] != (geom.Vec2{}) {
		t.Errorf("the original has %d channels, %d vertices, first at %v", len(m.Channels), len(m.Positions), m.Positions[0])
	}
}

// A model with two channels takes in one with one: the second channel is bare there.
func TestAppendingKeepsChannels(t *testing.T) {
	a, b := grid2(), grid2()
	a.Channels = append(a.Channels, Channel{Name: "UV 2", UVs: append([]geom.Vec2(nil), a.UVs...)})
	a.Append(b)
	if a.Channels[0].Bare != 0 || a.Channels[1].Bare != 3*len(b.Tris) || len(a.Channels[1].UVs) != len(a.Positions) || !a.HasUV {
		t.Errorf("channels %+v", a.Channels)
	}
	if err := a.Choose(1); err != nil || a.HasUV {
		t.Errorf("the second channel has UVs for every face: %v, %v", a.HasUV, err)
	}
}

// A square of two triangles has five edges, one of them shared; three triangles on one edge are told
// apart from two.
func TestEdgesCountTheirSides(t *testing.T) {
	m, err := Read("a.obj", []byte("v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\nf 1 3 4\nf 1 3 5\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := m.Edges(m.Weld(), nil)
	count := map[int32]int{}
	for i, n := range e.Count {
		count[n]++
		sides := 0
		for s := e.First[i]; s >= 0; s = e.Next[s] {
			if e.Of[s] != int32(i) {
				t.Fatalf("side %d says it is of edge %d, not %d", s, e.Of[s], i)
			}
			sides++
		}
		if sides != int(n) {
			t.Errorf("edge %d has %d sides in its list and %d by count", i, sides, n)
		}
	}
	if count[3] != 1 || count[1] != 6 {
		t.Errorf("edges by sides: %v, want one of three and six of one", count)
	}
	if e = m.Edges(m.Weld(), []bool{true, false, false}); e.Of[0] != -1 || len(e.Count) != 5 {
		t.Errorf("with a triangle passed over: side 0 of edge %d, %d edges", e.Of[0], len(e.Count))
	}
}

// Corners that share vertex and tangent become one, others do not.
func TestIndexedJoinsWhatIsTheSame(t *testing.T) {
	m := grid2()
	all := []int32{0, 1, 2, 3, 4, 5, 6, 7}
	v, tan, idx := m.Indexed(all, nil)
	if len(v) != 9 || tan != nil || len(idx) != 24 {
		t.Errorf("%d vertices, %d indices; want 9 and 24", len(v), len(idx))
	}
	tangents := m.Tangents()
	tangents[0][0].W = -1
	if v, tan, idx = m.Indexed(all, tangents); len(v) != 10 || len(tan) != 10 {
		t.Errorf("%d vertices with one corner of another hand, want 10", len(v))
	}
	for i, tri := range m.Tris {
		for k := range tri {
			if j := idx[3*i+k]; v[j] != tri[k] {
				t.Fatalf("corner %d of triangle %d became vertex %d, was %d", k, i, v[j], tri[k])
			}
		}
	}
}

func TestAlikeNamesAreGrouped(t *testing.T) {
	got := alike([]string{"Bolt_A", "bolt-a", "bolt a", "nut.001", "nut.002", "lid"})
	if len(got) != 1 || strings.Join(got[0], ",") != "Bolt_A,bolt a,bolt-a" {
		t.Errorf("%v; want the three bolts alone", got)
	}
}

// A frame takes a vector into the model and back (Mikkelsen 2008: the inverse of what a shader does).
func TestFramesTurnThereAndBack(t *testing.T) {
	m := BumpySphere(20, 10)
	tan := m.Tangents()
	for tri := range m.Tris {
		f := m.FrameAt(tan, tri, 0.3, 0.4)
		n := geom.Vec3{X: 0.3, Y: -0.2, Z: 0.9}.Norm()
		back, ok := f.Local(f.World(n))
		if ok && back.Dist(n) > 1e-4 {
			t.Fatalf("triangle %d: %v came back as %v", tri, n, back)
		}
	}
	if _, ok := (Frame{}).Local(geom.Vec3{Z: 1}); ok {
		t.Error("a flat frame was taken for sound")
	}
}
