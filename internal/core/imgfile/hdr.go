package imgfile

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// hdrHead reads the head of a Radiance picture (Ward, Real Pixels, Graphics Gems II, 1991): lines of text up to an empty one, then how its
// rows lie.
func hdrHead(d []byte) (width, height, at int, err error) {
	if !bytes.HasPrefix(d, []byte("#?")) {
		return 0, 0, 0, errors.New("the file is no Radiance picture; save it again")
	}
	const most = 1 << 16
	line := func() (string, bool) {
		n := bytes.IndexByte(d[at:min(len(d), at+most)], '\n')
		if n < 0 {
			return "", false
		}
		s := strings.TrimRight(string(d[at:at+n]), "\r")
		at += n + 1
		return s, true
	}
	for range 200 {
		s, ok := line()
		if !ok {
			return 0, 0, 0, damaged(errShort)
		}
		if f, is := strings.CutPrefix(s, "FORMAT="); is && f != "32-bit_rle_rgbe" {
			return 0, 0, 0, fmt.Errorf("its format is “%.40s”; save it as 32-bit RGBE", f)
		}
		if s != "" {
			continue
		}
		s, ok = line()
		f := strings.Fields(s)
		if !ok || len(f) != 4 {
			return 0, 0, 0, damaged(errors.New("how its rows lie is not said"))
		}
		if f[0] != "-Y" || f[2] != "+X" {
			return 0, 0, 0, fmt.Errorf("its rows lie as “%.10s %.10s”; save it from the top down, left to right", f[0], f[2])
		}
		h, err := strconv.Atoi(f[1])
		w, err2 := strconv.Atoi(f[3])
		if err != nil || err2 != nil || w < 1 || h < 1 {
			return 0, 0, 0, damaged(errors.New("its size is no size"))
		}
		return w, h, at, nil
	}
	return 0, 0, 0, damaged(errors.New("its head has no end"))
}

func hdrSize(d []byte) (int, int, error) {
	w, h, _, err := hdrHead(d)
	return w, h, err
}

// readHDR reads a Radiance picture, whose rows are packed by runs, plane by plane, or not at all.
func readHDR(d []byte) (*Picture, error) {
	w, h, at, err := hdrHead(d)
	if err != nil {
		return nil, err
	}
	d = d[at:]
	// A row takes four bytes at the least when it is packed, four a pixel when it is not; 127 alike are one run.
	if least := h * (4 + 8*(w/127)); w >= 8 && len(d) < least && len(d) < 4*w*h {
		return nil, damaged(errShort)
	}
	p := &Picture{Width: w, Height: h, Channels: 3, Bits: 32, Float: true, Pix: make([]float32, 3*w*h)}
	row := make([]byte, 4*w)
	for y := range h {
		if len(d) >= 4 && w >= 8 && w < 1<<15 && d[0] == 2 && d[1] == 2 && int(d[2])<<8|int(d[3]) == w {
			d = d[4:]
			for c := range 4 {
				for x := 0; x < w; {
					if len(d) < 2 {
						return nil, damaged(errShort)
					}
					n := int(d[0])
					run := n > 128
					if run {
						n -= 128
					}
					if n == 0 || x+n > w || !run && len(d) < 1+n {
						return nil, damaged(fmt.Errorf("row %d is out of step", y))
					}
					for i := range n {
						if run {
							row[4*(x+i)+c] = d[1]
						} else {
							row[4*(x+i)+c] = d[1+i]
						}
					}
					x += n
					if run {
						n = 1
					}
					d = d[1+n:]
				}
			}
		} else {
			if len(d) < 4*w {
				return nil, damaged(errShort)
			}
			copy(row, d[:4*w])
			d = d[4*w:]
		}
		for x := range w {
			if e := row[4*x+3]; e > 0 {
				scale := float32(math.Ldexp(1, int(e)-128-8))
				for c := range 3 {
					p.Pix[3*(y*w+x)+c] = (float32(row[4*x+c]) + 0.5) * scale
				}
			}
		}
	}
	return p, nil
}
