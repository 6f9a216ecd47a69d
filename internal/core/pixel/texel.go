package pixel

// Spread writes texels of three bytes as RGBA, each the one of pix that near numbers; pix has a byte behind its last texel.
func Spread(dst, pix []uint8, near []int32) {
	dst = dst[:4*len(near)]
	n := spreadRun(dst, pix, near)
	spreadPlain(dst[4*n:], pix, near[n:])
}

func spreadPlain(dst, pix []uint8, near []int32) {
	for k, i := range near {
		from, to := pix[3*i:][:3], dst[4*k:][:4]
		to[0], to[1], to[2], to[3] = from[0], from[1], from[2], 255
	}
}

// Cover16 lays coverages over those that paint holds, or takes them away from these, in 16 bits: so it comes out the same
// whether they are laid at once or one by one.
func Cover16(paint []uint16, cover []float32, away bool) {
	cover = cover[:len(paint)]
	n := cover16Run(paint, cover, away)
	cover16Plain(paint[n:], cover[n:], away)
}

func cover16Plain(paint []uint16, cover []float32, away bool) {
	for i, c := range cover {
		q := uint32(max(0, c)*65535 + 0.5)
		if away {
			paint[i] -= uint16((uint32(paint[i])*q + 32767) / 65535)
		} else {
			paint[i] += uint16((uint32(65535-paint[i])*q + 32767) / 65535)
		}
	}
}
