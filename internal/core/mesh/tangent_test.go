package mesh

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"crust/internal/core/geom"
)

// reference runs the MikkTSpace reference code (npm mikktspace) over the model's corners.
func reference(t *testing.T, m *Model) [][3]geom.Vec4 {
	t.Helper()
	root, err := filepath.Abs("../../../testdata")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(root, "node_modules", "mikktspace")); err != nil {
		t.Fatal("npm's mikktspace is missing; ./run test installs it")
	}
	var in bytes.Buffer
	f := func(v ...float32) { _ = binary.Write(&in, binary.LittleEndian, v) }
	_ = binary.Write(&in, binary.LittleEndian, uint32(3*len(m.Tris)))
	each := func(g func(v uint32)) {
		for _, tri := range m.Tris {
			for _, v := range tri {
				g(v)
			}
		}
	}
	each(func(v uint32) { p := m.Positions[v]; f(p.X, p.Y, p.Z) })
	each(func(v uint32) { n := m.Normals[v]; f(n.X, n.Y, n.Z) })
	each(func(v uint32) { u := m.UVs[v]; f(u.X, u.Y) })
	cmd := exec.Command("node", "-e", `const b = require('fs').readFileSync(0), a = b.buffer.slice(b.byteOffset, b.byteOffset + b.length);
const n = new DataView(a).getUint32(0, true), f = (at, k) => new Float32Array(a, at, k);
const t = require('mikktspace').generateTangents(f(4, 3 * n), f(4 + 12 * n, 3 * n), f(4 + 24 * n, 2 * n));
process.stdout.write(Buffer.from(t.buffer, t.byteOffset, t.byteLength))`)
	cmd.Dir, cmd.Stdin, cmd.Stderr = root, &in, os.Stderr
	out, err := cmd.Output()
	if err != nil || len(out) != 48*len(m.Tris) {
		t.Fatalf("the reference gave %d bytes, %v", len(out), err)
	}
	at := func(i int) float32 { return math.Float32frombits(binary.LittleEndian.Uint32(out[4*i:])) }
	back := make([][3]geom.Vec4, len(m.Tris))
	for i := range back {
		for k := range 3 {
			j := 12*i + 4*k
			back[i][k] = geom.Vec4{X: at(j), Y: at(j + 1), Z: at(j + 2), W: at(j + 3)}
		}
	}
	return back
}

// Tangents and signs are those of the MikkTSpace reference (npm mikktspace) within 1e-4.
func TestTangentsMatchTheReference(t *testing.T) {
	box := func(smooth bool) *Model {
		m, err := Read("box.obj", []byte(boxOBJ(smooth)), nil)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	mirrored := Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{s*2 - 1, 0.2 * math.Sin(5*t), 1 - t} })
	for i, p := range mirrored.Positions {
		mirrored.UVs[i].X = float32(math.Abs(float64(p.X))) // both halves share one space
	}
	soup := Sphere(10, 6, 1, [3]float64{})
	r := rand.New(rand.NewPCG(1, 2))
	for i := range soup.UVs {
		soup.UVs[i] = geom.Vec2{X: r.Float32(), Y: r.Float32()}
		if i%7 == 0 {
			soup.UVs[i] = geom.Vec2{X: 0.5, Y: 0.5}
		}
	}
	flat := Sphere(10, 6, 1, [3]float64{})
	for i := range flat.UVs {
		if i%3 > 0 {
			flat.UVs[i] = geom.Vec2{X: 0.25, Y: 0.75}
		}
	}
	needle := Grid(3, 3, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	needle.Tris = append(needle.Tris, [3]uint32{1, 1, 6}, [3]uint32{5, 9, 9})
	for _, c := range []struct {
		name string
		m    *Model
	}{
		{"smooth", Sphere(24, 12, 1, [3]float64{})},
		{"bumpy", BumpySphere(40, 20)},
		{"hard-edged", box(false)},
		{"smoothed over edges", box(true)},
		{"mirrored", mirrored},
		{"random UVs of both hands", soup},
		{"UVs without area", flat},
		{"triangles without extent", needle},
	} {
		got, want := c.m.Tangents(), reference(t, c.m)
	corners:
		for i := range want {
			for k := range 3 {
				if got[i][k].W != want[i][k].W || got[i][k].XYZ().Dist(want[i][k].XYZ()) > 1e-4 {
					t.Errorf("%s: triangle %d, corner %d: %v, the reference has %v", c.name, i, k, got[i][k], want[i][k])
					break corners
				}
			}
		}
	}
}

// boxOBJ is a cube with one island for each side; smoothing groups make it all one surface or flat.
func boxOBJ(smooth bool) string {
	s := "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1\nvt 0 0\nvt 0.3 0\nvt 0.3 0.3\nvt 0 0.3\n"
	if smooth {
		s += "s 1\n"
	} else {
		s += "s off\n"
	}
	for _, f := range []string{"4 3 2 1", "5 6 7 8", "1 2 6 5", "3 4 8 7", "2 3 7 6", "4 1 5 8"} {
		var a, b, c, d string
		for i, w := range bytes.Fields([]byte(f)) {
			*[]*string{&a, &b, &c, &d}[i] = string(w)
		}
		s += "f " + a + "/1 " + b + "/2 " + c + "/3 " + d + "/4\n"
	}
	return s
}
