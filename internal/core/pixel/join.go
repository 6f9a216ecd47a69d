package pixel

// Join is a way in which a clause's values join those before them.
type Join uint8

// The joins: acc and v are what was before and what joins it.
const (
	JoinAnd     Join = iota // acc · v
	JoinOr                  // acc + v − acc · v
	JoinPlus                // acc + v, at most 1
	JoinMinus               // acc − v, at least 0
	JoinHigher              // the higher of the two
	JoinLower               // the lower of the two
	JoinReplace             // v
)

// Mix is what one value becomes.
func (j Join) Mix(acc, v float32) float32 {
	switch j {
	case JoinAnd:
		return acc * v
	case JoinOr:
		return acc + v - acc*v
	case JoinPlus:
		return min(1, acc+v)
	case JoinMinus:
		return max(0, acc-v)
	case JoinHigher:
		return max(acc, v)
	case JoinLower:
		return min(acc, v)
	}
	return v
}

// Settled is the value that stays as it is whatever joins it; false where there is none.
func (j Join) Settled() (at float32, ok bool) {
	switch j {
	case JoinAnd, JoinMinus, JoinLower:
		return 0, true
	case JoinOr, JoinPlus, JoinHigher:
		return 1, true
	}
	return 0, false
}

// Lay joins a run of values; with a strength under 1 they count for less.
func (j Join) Lay(acc, v []float32, strength float32) { joinRun(j, acc, v[:len(acc)], strength) }

func joinPlain(j Join, acc, v []float32, s float32) {
	for i, x := range v {
		acc[i] += (j.Mix(acc[i], x) - acc[i]) * s
	}
}

// Widen writes 16-bit values times scale.
func Widen(dst []float32, q []uint16, scale float32) { widenRun(dst, q[:len(dst)], scale, 0) }

// WidenFrom writes 16-bit values times scale, counted from low.
func WidenFrom(dst []float32, q []uint16, scale, low float32) {
	widenRun(dst, q[:len(dst)], scale, low)
}

func widenPlain(dst []float32, q []uint16, scale, low float32) {
	for i, v := range q {
		dst[i] = float32(v)*scale + low
	}
}

// WidenSigned writes signed 16-bit values times scale.
func WidenSigned(dst []float32, q []int16, scale float32) {
	for i := signedRun(dst, q[:len(dst)], scale); i < len(dst); i++ {
		dst[i] = float32(q[i]) * scale
	}
}

// Narrow writes values in 16 bits as Q16 does.
func Narrow(dst []uint16, v []float32) { narrowRun(dst, v[:len(dst)]) }

func narrowPlain(dst []uint16, v []float32) {
	for i, x := range v {
		dst[i] = Q16(x)
	}
}

// Same counts the values that are x.
func Same(v []float32, x float32) int {
	at, n := sameRun(v, x)
	for _, w := range v[at:] {
		if w == x {
			n++
		}
	}
	return n
}

// Count tells whether any value is not 0, and how many are limit or more; limit is 1 or more.
func Count(q []uint16, limit uint16) (some bool, n int) {
	at, any, n := countRun(q, limit)
	for _, v := range q[at:] {
		any |= v
		if v >= limit {
			n++
		}
	}
	return any != 0, n
}

// Bytes writes three planes side by side in 8 bits, each times its scale plus its offset, as Q8 rounds them.
func Bytes(dst []uint8, v *[3][]float32, scale, offset *[3]float32) {
	n := len(v[0])
	dst = dst[:3*n]
	for i := bytesRun(dst, v, scale, offset); i < n; i++ {
		for k := range v {
			dst[3*i+k] = Q8(v[k][i]*scale[k] + offset[k])
		}
	}
}
