package main

import (
	"bufio"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime/pprof"
	"sync"
	"time"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

var pat [65536]geom.Vec3

func main() {
	for i := range pat {
		q, p := math.Sqrt(rand.Float64()), 2*math.Pi*rand.Float64()
		sn, cs := math.Sincos(p)
		pat[i] = geom.Vec3{X: float32(q * cs), Y: float32(q * sn), Z: float32(math.Sqrt(max(0, 1-q*q)))}
	}
	pf, _ := os.Create("/tmp/cpu.prof")
	pprof.StartCPUProfile(pf)
	defer pprof.StopCPUProfile()
	for _, s := range [][2]int{{256, 128}, {1024, 512}} {
		m := mesh.BumpySphere(s[0], s[1])
		f, _ := os.Create(fmt.Sprintf("/tmp/bumpy%d.obj", s[0]))
		w := bufio.NewWriter(f)
		for _, p := range m.Positions {
			fmt.Fprintf(w, "v %g %g %g\n", p.X, p.Y, p.Z)
		}
		for _, t := range m.Tris {
			fmt.Fprintf(w, "f %d %d %d\n", t[0]+1, t[1]+1, t[2]+1)
		}
		w.Flush()
		f.Close()
		t0 := time.Now()
		b := accel.Build(accel.Mesh{Positions: m.Positions, Tris: m.Tris})
		bt := time.Since(t0)
		const points, rays = 200000, 64
		t0 = time.Now()
		var wg sync.WaitGroup
		var vis [2]int
		for c := range 2 {
			wg.Go(func() {
				r := rand.New(rand.NewPCG(uint64(c), 7))
				s := new(accel.Stream)
				dirs := make([]geom.Vec3, rays)
				for i := c; i < points; i += 2 {
					k := i * len(m.Tris) / points
					a, bb, cc := m.Corners(k)
					n := m.FaceNormal(k)
					u, v := r.Float32(), r.Float32()
					if u+v > 1 {
						u, v = 1-u, 1-v
					}
					o := geom.Bary(a, bb, cc, u, v).Add(n.Mul(1e-4))
					tx, ty := geom.Basis(n)
					base := r.IntN(65536)
					for j := range dirs {
						l := pat[(base+j)&65535]
						dirs[j] = tx.Mul(l.X).Add(ty.Mul(l.Y)).Add(n.Mul(l.Z))
					}
					s.Set(dirs)
					h := b.Occluded(o, float32(math.Inf(1)), s)
					for ; h != 0; h &= h - 1 {
						vis[c]++
					}
				}
			})
		}
		wg.Wait()
		d := time.Since(t0).Seconds()
		fmt.Printf("triangles %d build %.3f mrays/s %.2f vis %.4f simd %v\n", len(m.Tris), bt.Seconds(), points*rays/d/1e6, 1-float64(vis[0]+vis[1])/points/rays, accel.HasSIMD)
	}
}
