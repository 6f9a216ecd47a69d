package compose

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// A noise that is evaluated only where what was joined before it is open gives what its whole field gives, for every join and
// strength: by Join.Mix, which pixel holds to its formulas. The first clause is nothing on one side and all on the other.
func TestWhatIsSettledIsLeftOutUnseen(t *testing.T) {
	c, _ := square(t, 128, nil)
	for _, soft := range []float32{0, 0.05} {
		for name, j := range map[string]pixel.Join{"and": pixel.JoinAnd, "or": pixel.JoinOr, "plus": pixel.JoinPlus, "minus": pixel.JoinMinus, "higher": pixel.JoinHigher, "lower": pixel.JoinLower, "replace": pixel.JoinReplace} {
			for _, strength := range []float32{1, 0.4} {
				d := new(strata.Document)
				coat(d, "#ffffff", func(l *strata.Layer) {
					first := clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 0.65, "to": 0.35})
					first.Shape.Soften = soft // joined tile by tile, not run by run
					noise := clauseOf(t, d, "noise", map[string]float64{"size": 0.1})
					noise.Join, noise.Shape.Strength = name, strength
					l.Where = []strata.Clause{first, noise}
				})
				where := d.Layers[0].Where
				got := fieldOf(t, c, d, 0, "")
				where[1].Shape.Strength = 1 // alone a clause would fade towards 1
				a, v := fieldOf(t, c, d, 0, where[0].ID), fieldOf(t, c, d, 0, where[1].ID)
				settled := 0
				for i := range got {
					want := a[i] + (j.Mix(a[i], v[i])-a[i])*strength
					if math.Abs(float64(got[i]-want)) > 1e-4 {
						t.Fatalf("%s at strength %g, softened by %g: %g and %g give %g, want %g", name, strength, soft, a[i], v[i], got[i], want)
					}
					if at, ok := j.Settled(); ok && a[i] == at {
						settled++
					}
				}
				if _, ok := j.Settled(); ok && settled < len(got)/10 {
					t.Errorf("%s: only %d of %d places are settled; the test needs some", name, settled, len(got))
				}
			}
		}
	}
}

// Kinds that are left out in places are handed the place and the part alone.
func TestDearKindsReadThePlaceAlone(t *testing.T) {
	for i := range field.Kinds {
		if k := &field.Kinds[i]; k.Dear && k.Needs&^(field.NeedPlace|field.NeedPart) != 0 {
			t.Errorf("%s takes long and reads more than the place and the part", k.Name)
		}
	}
}

// Many places of a picture lie where each alone does.
func TestPlacesOfAPictureLieAsEachDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 7))
	const n = 50
	b := &field.Block{}
	var side []float32
	var at []uint16
	for i := range n {
		b.X, b.Y, b.Z = append(b.X, r.Float32()*4-2), append(b.Y, r.Float32()*4-2), append(b.Z, r.Float32()*4-2)
		side, at = append(side, r.Float32()*2-1), append(at, uint16(n-1-i))
	}
	for _, mirror := range []bool{false, true} {
		sin, cos := math.Sincos(0.7)
		l := &laying{size: 0.6, sin: float32(sin), cos: float32(cos), u: 0.2, v: -0.3, tall: 1.5, mirror: mirror}
		for from := range 3 {
			u, v := make([]float32, n), make([]float32, n)
			l.planes(b, from, side, at, u, v)
			for j, i := range at {
				x, y := l.plane(from, geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}, side[i])
				if math.Abs(float64(u[j]-x)) > 1e-5 || math.Abs(float64(v[j]-y)) > 1e-5 {
					t.Fatalf("from %d, mirrored %v: (%g, %g), want (%g, %g)", from, mirror, u[j], v[j], x, y)
				}
			}
		}
	}
}
