package geom

import (
	"math"
	"math/rand/v2"
	"testing"
)

func near(t *testing.T, what string, got, want Vec3) {
	t.Helper()
	if got.Dist(want) > 1e-5 {
		t.Errorf("%s: %v, want %v", what, got, want)
	}
}

// Duff et al. (JCGT 2017): the frame is orthonormal and right-handed for every unit vector, also
// straight down.
func TestBasisIsARightHandedFrame(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	all := []Vec3{{Z: 1}, {Z: -1}, {X: 1}, {Y: -1}}
	for range 500 {
		all = append(all, Vec3{float32(r.NormFloat64()), float32(r.NormFloat64()), float32(r.NormFloat64())}.Norm())
	}
	for _, n := range all {
		a, b := Basis(n)
		if math.Abs(float64(a.Len()-1)) > 1e-5 || math.Abs(float64(b.Len()-1)) > 1e-5 || math.Abs(float64(a.Dot(n))) > 1e-5 || math.Abs(float64(a.Dot(b))) > 1e-5 {
			t.Fatalf("frame of %v: %v, %v", n, a, b)
		}
		near(t, "a × b", a.Cross(b), n)
	}
}

// glTF 2.0 §3.5.3: a point is scaled, then rotated, then moved; rotation is a unit quaternion.
func TestTRSScalesRotatesMoves(t *testing.T) {
	h := float32(math.Sqrt2 / 2)
	m := TRS(Vec3{10, 0, 0}, [4]float32{0, h, 0, h}, Vec3{2, 3, 4}) // a quarter turn about Y
	near(t, "X", m.Point(Vec3{1, 0, 0}), Vec3{10, 0, -2})
	near(t, "Y", m.Point(Vec3{0, 1, 0}), Vec3{10, 3, 0})
	near(t, "Z", m.Point(Vec3{0, 0, 1}), Vec3{14, 0, 0})
	if m.Mirrors() || !TRS(Vec3{}, [4]float32{0, 0, 0, 1}, Vec3{-1, 1, 1}).Mirrors() {
		t.Error("mirroring is told wrongly")
	}
	twice := m.Mul(m)
	near(t, "composition", twice.Point(Vec3{1, 2, 3}), m.Point(m.Point(Vec3{1, 2, 3})))
}

// A normal stays square to the surface under any transform, and on its outer side.
func TestNormalsStaySquareToTheSurface(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	for range 200 {
		v := func() Vec3 { return Vec3{r.Float32() - 0.5, r.Float32() - 0.5, r.Float32() - 0.5} }
		q := [4]float32{r.Float32() - 0.5, r.Float32() - 0.5, r.Float32() - 0.5, r.Float32() - 0.5}
		l := float32(math.Sqrt(float64(q[0]*q[0] + q[1]*q[1] + q[2]*q[2] + q[3]*q[3])))
		for i := range q {
			q[i] /= l
		}
		s := Vec3{0.3 + r.Float32(), 0.3 + r.Float32(), 0.3 + r.Float32()}
		if r.IntN(2) == 0 {
			s.X = -s.X
		}
		m := TRS(v(), q, s)
		a, b := v().Norm(), v().Norm()
		n := a.Cross(b).Norm()
		o := m.Point(Vec3{})
		a2, b2, out := m.Point(a).Sub(o).Norm(), m.Point(b).Sub(o).Norm(), m.Point(n).Sub(o)
		got := m.Normal(n)
		if math.Abs(float64(got.Dot(a2))) > 1e-4 || math.Abs(float64(got.Dot(b2))) > 1e-4 || got.Dot(out) < 0 {
			t.Fatalf("normal %v for edges %v, %v and outside %v", got, a2, b2, out)
		}
	}
}

func TestBoxesGrowAndMeasure(t *testing.T) {
	b := EmptyBox()
	if !b.Empty() || b.HalfArea() != 0 || b.Diagonal() != 0 {
		t.Error("an empty box has a size")
	}
	b = b.Add(Vec3{1, 2, 3}).Add(Vec3{3, 5, 9})
	near(t, "size", b.Size(), Vec3{2, 3, 6})
	near(t, "centre", b.Centre(), Vec3{2, 3.5, 6})
	if b.HalfArea() != 2*3+3*6+6*2 || b.Diagonal() != 7 {
		t.Errorf("half area %g, diagonal %g; want 36 and 7", b.HalfArea(), b.Diagonal())
	}
}

func TestFiniteAndClamp(t *testing.T) {
	nan, inf := float32(math.NaN()), float32(math.Inf(1))
	if (Vec3{X: nan}).Finite() || (Vec3{Z: inf}).Finite() || !(Vec3{1, 2, 3}).Finite() || (Vec2{Y: nan}).Finite() {
		t.Error("finite is told wrongly")
	}
	for in, want := range map[float32]float32{-1: 0, 0.25: 0.25, 2: 1} {
		if got := Clamp01(in); got != want {
			t.Errorf("%g becomes %g", in, got)
		}
	}
	if Clamp01(nan) != 0 {
		t.Error("NaN does not become 0")
	}
}

func TestGroupsAndQuantiles(t *testing.T) {
	g := NewGroups(6)
	g.Join(4, 2)
	g.Join(5, 4)
	g.Join(0, 1)
	for i, want := range []int32{0, 0, 2, 3, 2, 2} {
		if got := g.Of(int32(i)); got != want {
			t.Errorf("%d is in the group of %d, want %d", i, got, want)
		}
	}
	// Half of a weight of 10 is reached within the value 3, which alone weighs 6.
	if got := Quantile([]float64{7, 3, 1}, []float64{2, 6, 2}, 0.5); got != 3 {
		t.Errorf("the weighted median is %g, want 3", got)
	}
}
