package pixel

// LayEach is Lay where each texel has a value of its own.
func (b Blend) LayEach(below, own, alpha []float32) {
	below, own = below[:len(alpha)], own[:len(alpha)]
	if b.Name == Blends[0].Name {
		fade(below, own, alpha)
		return
	}
	for i, a := range alpha {
		if a > 0 {
			below[i] += (b.Mix(below[i], own[i]) - below[i]) * a
		}
	}
}

// LayOver is LayEach over what covers its ground in part only, as layers do in a group that stands alone: cover is how much of
// each texel they cover so far (W3C, Compositing and Blending Level 1, 10: αo·Co = αs·(1 − αb)·Cs + αs·αb·B(Cb, Cs) +
// (1 − αs)·αb·Cb, with αo = αs + αb − αs·αb). Values are not multiplied by cover.
func (b Blend) LayOver(below, own, alpha, cover []float32) {
	for i, a := range alpha {
		if a <= 0 {
			continue
		}
		c := cover[i]
		all := a + c - a*c
		below[i] = (a*(1-c)*own[i] + a*c*b.Mix(below[i], own[i]) + (1-a)*c*below[i]) / all
	}
}

// Cover adds to how much of each texel is covered.
func Cover(cover, alpha []float32) {
	for i, a := range alpha {
		cover[i] += a - a*cover[i]
	}
}

func fadePlain(below, own, alpha []float32) {
	for i, a := range alpha {
		below[i] += (own[i] - below[i]) * a
	}
}
