package pixel

// LayEach is Lay where each texel has a value of its own. Room is for as many values.
func (b Blend) LayEach(below, own, alpha, room []float32) {
	n := len(alpha)
	if b.Name != Blends[0].Name {
		b.mix(room[:n], below, own)
		own = room
	}
	fade(below[:n], own[:n], alpha)
}

// LayOver is LayEach over what covers its ground in part only, as layers do in a group that stands alone: cover is how much of
// each texel they cover so far (W3C, Compositing and Blending Level 1, 10: αo·Co = αs·(1 − αb)·Cs + αs·αb·B(Cb, Cs) +
// (1 − αs)·αb·Cb, with αo = αs + αb − αs·αb). Values are not multiplied by cover.
func (b Blend) LayOver(below, own, alpha, cover, room []float32) {
	n := len(alpha)
	mixed := own
	if b.Name != Blends[0].Name {
		b.mix(room[:n], below, own)
		mixed = room
	}
	layOver(below[:n], own[:n], mixed[:n], alpha, cover[:n])
}

// mix writes what a mode makes of two runs of values.
func (b Blend) mix(out, below, own []float32) {
	below, own = below[:len(out)], own[:len(out)]
	if b.each != nil {
		b.each(out, below, own)
		return
	}
	for i, x := range below {
		out[i] = b.Mix(x, own[i])
	}
}

func layOverPlain(below, own, mixed, alpha, cover []float32) {
	for i, a := range alpha {
		if a <= 0 {
			continue
		}
		c := cover[i]
		below[i] = (a*(own[i]+(mixed[i]-own[i])*c) + (1-a)*c*below[i]) / (a + c - a*c)
	}
}

// Cover adds to how much of each texel is covered: a + c − a·c.
func Cover(cover, alpha []float32) { layLine(cover, -1, 1, alpha) }

// Between leaves in v a share of itself over what lies under it: under + (v − under) · share.
func Between(v, under, share []float32) { between(v, under[:len(v)], share[:len(v)]) }

// Times writes a · b.
func Times(out, a, b []float32) { times(out, a[:len(out)], b[:len(out)]) }

// Scale writes a · by.
func Scale(out, a []float32, by float32) { scale(out, a[:len(out)], by) }

func betweenPlain(v, under, share []float32) {
	for i, a := range share {
		v[i] = under[i] + (v[i]-under[i])*a
	}
}

func timesPlain(out, a, b []float32) {
	for i, x := range a {
		out[i] = x * b[i]
	}
}

func scalePlain(out, a []float32, by float32) {
	for i, x := range a {
		out[i] = x * by
	}
}

func fadePlain(below, own, alpha []float32) {
	for i, a := range alpha {
		below[i] += (own[i] - below[i]) * a
	}
}
