// Package field gives values at points of space: the kinds of clauses and their kernels.
package field

import "math"

// Hash constants are odd and far apart, so that neighbouring lattice points get unlike bits.
const (
	hashX = 0x8da6b343
	hashY = 0xd8163841
	hashZ = 0xcb1ab31f
	hashM = 0x2c1b3c6d
)

// maxOctaves of a noise.
const maxOctaves = 8

// Noise fills out with gradient noise summed over octaves, about 0–1 with mean 0.5. Points are
// scaled by 1/size; each octave halves the size and weighs rough times the one before. Gradients
// are the eight directions (±1, ±1, ±1), picked by three bits of a hash of the lattice point; the
// fade is Perlin's quintic (Improving Noise, 2002). From octave to octave space is turned, so that
// the lattice does not show.
func Noise(x, y, z []float32, size, octaves, rough float32, seed uint32, out []float32) {
	x, y, z = x[:len(out)], y[:len(out)], z[:len(out)]
	sumOctaves(octaves, rough, out, func(o int, finer, amp float32) {
		octave(x, y, z, finer/size, amp, seed+uint32(o)*0x9e3779b9, &turns[o], out)
	})
}

// mean is a run of what noise goes round.
var mean = func() (out [32]float32) {
	for i := range out {
		out[i] = 0.5
	}
	return out
}()

// sumOctaves has octaves added to out by their number, how much finer than the first they are, and their weight.
func sumOctaves(octaves, rough float32, out []float32, add func(o int, finer, amp float32)) {
	n := min(maxOctaves, max(1, int(octaves+0.5)))
	amp, total := float32(1), float32(0)
	for range n {
		total += amp
		amp *= rough
	}
	// The sum has a standard deviation near 0.27 of its reach; 0.75 uses the range well.
	amp = 0.75 / total
	for n := copy(out, mean[:]); n > 0 && n < len(out); n *= 2 {
		copy(out[n:], out[:n])
	}
	finer := float32(1)
	for o := range n {
		add(o, finer, amp)
		finer *= 2
		amp *= rough
	}
}

// turn is a rotation and shift of space, row by row.
type rotation [12]float32

// turns are rotations by (2k+1) golden angles round axes spread over the sphere, and shifts.
var turns = makeTurns()

func makeTurns() (out [maxOctaves]rotation) {
	for k := range out {
		a := float64(2*k+1) * 2.399963229728653
		t := float64(k)*0.754877666 + 0.3
		u := float64(k)*0.569840291 + 0.6
		cz := 2*(t-math.Floor(t)) - 1
		sp := math.Sqrt(1 - cz*cz)
		sin, cos := math.Sincos(2 * math.Pi * u)
		ax := [3]float64{sp * cos, sp * sin, cz}
		s, c := math.Sincos(a)
		for i := range 3 {
			for j := range 3 {
				v := ax[i] * ax[j] * (1 - c)
				if i == j {
					v += c
				} else {
					sign := 1.0
					if (j-i+3)%3 == 1 {
						sign = -1
					}
					v += sign * ax[3-i-j] * s
				}
				out[k][i*4+j] = float32(v)
			}
			out[k][i*4+3] = float32(17.31*float64(k+1) + 5.17*float64(i))
		}
	}
	return out
}

func octavePlain(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	for i := range out {
		px, py, pz := x[i]*freq, y[i]*freq, z[i]*freq
		out[i] += amp * gradient(
			px*r[0]+py*r[1]+pz*r[2]+r[3],
			px*r[4]+py*r[5]+pz*r[6]+r[7],
			px*r[8]+py*r[9]+pz*r[10]+r[11], seed)
	}
}

func gradient(x, y, z float32, seed uint32) float32 {
	fx, fy, fz := floor(x), floor(y), floor(z)
	hx, hy, hz := uint32(int32(fx))*hashX, uint32(int32(fy))*hashY, uint32(int32(fz))*hashZ
	x, y, z = x-fx, y-fy, z-fz
	u, v, w := fade(x), fade(y), fade(z)
	corner := func(i, j, k uint32, dx, dy, dz float32) float32 {
		return lean((hx+i*hashX)^(hy+j*hashY)^(hz+k*hashZ)^seed, dx, dy, dz)
	}
	a := lerp(u, corner(0, 0, 0, x, y, z), corner(1, 0, 0, x-1, y, z))
	b := lerp(u, corner(0, 1, 0, x, y-1, z), corner(1, 1, 0, x-1, y-1, z))
	c := lerp(u, corner(0, 0, 1, x, y, z-1), corner(1, 0, 1, x-1, y, z-1))
	d := lerp(u, corner(0, 1, 1, x, y-1, z-1), corner(1, 1, 1, x-1, y-1, z-1))
	return lerp(w, lerp(v, a, b), lerp(v, c, d))
}

func floor(v float32) float32 { return float32(math.Floor(float64(v))) }

func fade(t float32) float32 { return t * t * t * (t*(t*6-15) + 10) }

func lerp(t, a, b float32) float32 { return a + t*(b-a) }
