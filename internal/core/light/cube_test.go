package light

import (
	"encoding/binary"
	"math"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/pixel"
)

// texelsOf calls f for the texels of a level of a cube with the direction that OpenGL reads them for (OpenGL 4.6, table 8.19: major axis and
// sc, tc of each face), turned back from its mirror image.
func texelsOf(t *testing.T, cube []byte, size, level int, f func(d, c geom.Vec3)) {
	t.Helper()
	at := 0
	for range level {
		at += 6 * size * size * 8
		size /= 2
	}
	for face := range 6 {
		for y := range size {
			for x := range size {
				s, q := (2*float32(x)+1)/float32(size)-1, (2*float32(y)+1)/float32(size)-1
				// sc and tc by r: +X (−rz, −ry), −X (rz, −ry), +Y (rx, rz), −Y (rx, −rz), +Z (rx, −ry), −Z (−rx, −ry).
				r := []geom.Vec3{{X: 1, Y: -q, Z: -s}, {X: -1, Y: -q, Z: s}, {X: s, Y: 1, Z: q}, {X: s, Y: -1, Z: -q}, {X: s, Y: -q, Z: 1}, {X: -s, Y: -q, Z: -1}}[face].Norm()
				r.X = -r.X
				half := func(k int) float32 { return pixel.FromHalf(binary.LittleEndian.Uint16(cube[at+2*k:])) }
				f(r, geom.Vec3{X: half(0), Y: half(1), Z: half(2)})
				at += 8
			}
		}
	}
}

// Even light stays even on every level; the first level is the panorama itself, the last two what a matt plane takes, over π.
func TestCubesHoldTheLight(t *testing.T) {
	grey := FromPicture(256, 128, 1, func(int) float32 { return 0.75 }).Cube(64)
	for level := range 5 {
		texelsOf(t, grey, 64, level, func(d, c geom.Vec3) {
			if c.Dist(geom.Vec3{X: 0.75, Y: 0.75, Z: 0.75}) > 1e-3 {
				t.Fatalf("level %d, %v: %v", level, d, c)
			}
		})
	}
	e := All[0].Panorama(128)
	cube, sky := e.Cube(64), e.Sky(0, 1)
	sum, many := 0.0, 0.0
	texelsOf(t, cube, 64, 0, func(d, c geom.Vec3) {
		sum += math.Abs(float64(c.Y/sky.Light(d).Y - 1))
		many++
	})
	if sum/many > 0.02 {
		t.Errorf("the mirror differs from the panorama by %.3f in the mean", sum/many)
	}
	for _, level := range []int{3, 4} {
		texelsOf(t, cube, 64, level, func(d, c geom.Vec3) {
			if want := sky.Irradiance(d).Mul(1 / math.Pi); c.Dist(want) > 0.02*want.Len() {
				t.Errorf("level %d, %v: %v, want %v", level, d, c, want)
			}
		})
	}
}

// The levels between them against the integral itself, over all directions: light times D(h) times the cosine, over D times the cosine, with
// D the GGX distribution (Walter et al., Microfacet Models for Refraction through Rough Surfaces, 2007, eq. 33).
func TestLevelsAreFilteredByTheirRoughness(t *testing.T) {
	e := All[1].Panorama(512)
	sky, cube := e.Sky(0, 1), e.Cube(128)
	for level := 1; level <= 3; level++ {
		rough := 1 - math.Sqrt(1-float64(level)/4)
		a2 := math.Pow(rough, 4)
		n, far, whole := 0, 0.0, 0.0
		texelsOf(t, cube, 128, level, func(d, c geom.Vec3) {
			if n++; n%(997>>(2*level)) != 0 {
				return
			}
			x, y := geom.Basis(d)
			var sum, all float64
			const rings, round = 200, 32
			for i := range rings {
				// More finely where the lobe is narrow.
				u := (float64(i) + 0.5) / rings
				theta := math.Pi / 2 * u * u
				step := math.Pi / 2 * ((float64(i+1)/rings)*(float64(i+1)/rings) - (float64(i)/rings)*(float64(i)/rings))
				sin, cos := math.Sincos(theta)
				h := math.Cos(theta / 2)
				q := h*h*(a2-1) + 1
				w := a2 / (math.Pi * q * q) * cos * sin * step
				for j := range round {
					s, k := math.Sincos(2 * math.Pi * float64(j) / round)
					l := x.Mul(float32(sin * k)).Add(y.Mul(float32(sin * s))).Add(d.Mul(float32(cos)))
					sum += w * float64(sky.Light(l).Y)
					all += w
				}
			}
			far += math.Abs(sum/all - float64(c.Y))
			whole += sum / all
		})
		if r := far / whole; r > 0.03 {
			t.Errorf("level %d, roughness %.2f: it differs by %.3f of the light in the mean", level, rough, r)
		}
	}
}

// Angles are those of the mathematical library, all round.
func TestAnglesAreThoseOfTheLibrary(t *testing.T) {
	for i := range 100_000 {
		a := (float64(i)/100_000*2 - 1) * math.Pi
		sin, cos := math.Sincos(a)
		y, x := float32(3*sin), float32(3*cos)
		if got, want := float64(angle(y, x)), math.Atan2(float64(y), float64(x)); math.Abs(got-want) > 2e-5 {
			t.Fatalf("the angle of %g, %g is %g, want %g", y, x, got, want)
		}
	}
	for _, v := range [][2]float32{{0, 0}, {0, 1}, {0, -1}, {1, 0}, {-1, 0}} {
		if got, want := float64(angle(v[0], v[1])), math.Atan2(float64(v[0]), float64(v[1])); math.Abs(got-want) > 2e-5 {
			t.Errorf("the angle of %v is %g, want %g", v, got, want)
		}
	}
}
