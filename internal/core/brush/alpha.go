package brush

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/bits"
	"strings"

	"crust/internal/core/geom"
)

// Alpha is a picture as a tip: a square of grey, from the top left, of which each value is how much is laid down.
type Alpha struct {
	Side int    `json:"side"` // a power of two
	Grey []byte `json:"grey"`
	// Halved copies, the first as it is.
	levels [][]uint8
}

// MaxAlpha is the largest side of an alpha.
const MaxAlpha = 256

// NewAlpha makes an alpha of a picture of w × h values from 0 to 1, fitted into the square.
func NewAlpha(w, h int, at func(x, y int) float32) *Alpha {
	most := max(w, h, 1)
	side := min(MaxAlpha, 1<<bits.Len(uint(max(1, most-1))))
	a := &Alpha{Side: max(2, side)}
	a.Grey = make([]byte, a.Side*a.Side)
	scale := float64(most) / float64(a.Side)
	for y := range a.Side {
		for x := range a.Side {
			// The mean of what lies under the square's texel.
			x0, y0 := (float64(x)-float64(a.Side)/2)*scale+float64(w)/2, (float64(y)-float64(a.Side)/2)*scale+float64(h)/2
			n := max(1, int(scale+0.5))
			sum := float32(0)
			for j := range n {
				for i := range n {
					px, py := int(x0+(float64(i)+0.5)*scale/float64(n)), int(y0+(float64(j)+0.5)*scale/float64(n))
					if x0 >= -scale && y0 >= -scale && px >= 0 && px < w && py >= 0 && py < h {
						sum += at(px, py)
					}
				}
			}
			a.Grey[y*a.Side+x] = uint8(geom.Clamp01(sum/float32(n*n))*255 + 0.5)
		}
	}
	return a
}

// Check says what is wrong with an alpha.
func (a *Alpha) Check() error {
	if a.Side < 2 || a.Side > MaxAlpha || a.Side&(a.Side-1) != 0 || len(a.Grey) != a.Side*a.Side {
		return fmt.Errorf("a brush's picture is a square of grey, 2 to %d px a side, a power of two", MaxAlpha)
	}
	return nil
}

// Hash names an alpha by what it holds.
func (a *Alpha) Hash() string {
	sum := sha256.Sum256(append([]byte{byte(bits.Len(uint(a.Side)))}, a.Grey...))
	return hex.EncodeToString(sum[:12])
}

// ready makes the halved copies.
func (a *Alpha) ready() {
	if a.levels != nil {
		return
	}
	levels := [][]uint8{a.Grey}
	for side := a.Side / 2; side >= 1; side /= 2 {
		up, next := levels[len(levels)-1], make([]uint8, side*side)
		for y := range side {
			for x := range side {
				k := 4*y*side + 2*x
				next[y*side+x] = uint8((int(up[k]) + int(up[k+1]) + int(up[k+2*side]) + int(up[k+2*side+1]) + 2) / 4)
			}
		}
		levels = append(levels, next)
	}
	a.levels = levels
}

// at is the alpha at a place of the tip, blurred over about soft.
func (a *Alpha) at(u, v, soft float32) float32 {
	level := 0
	for texel := 2 / float32(a.Side); texel < soft && level < len(a.levels)-1; texel *= 2 {
		level++
	}
	side := a.Side >> level
	px := a.levels[level]
	x, y := (u+1)/2*float32(side)-0.5, (1-v)/2*float32(side)-0.5
	x0, y0 := floor(x), floor(y)
	get := func(x, y float32) float32 {
		if x < 0 || y < 0 || x >= float32(side) || y >= float32(side) {
			return 0
		}
		return float32(px[int(y)*side+int(x)]) / 255
	}
	fx, fy := x-x0, y-y0
	top := get(x0, y0)*(1-fx) + get(x0+1, y0)*fx
	return top*(1-fy) + (get(x0, y0+1)*(1-fx)+get(x0+1, y0+1)*fx)*fy
}

// Attach gives a stroke the picture of its brush.
func (s *Stroke) Attach(a *Alpha) {
	if a != nil {
		a.ready()
	}
	s.alpha = a
}

// Alpha is the picture of the stroke's brush, nil for none.
func (s *Stroke) Alpha() *Alpha { return s.alpha }

// File is a brush as a file holds it, with its picture.
type File struct {
	Brush   Brush  `json:"brush"`
	Picture *Alpha `json:"picture,omitempty"`
}

// MaxFileBytes bounds a brush's file.
const MaxFileBytes = 1 << 18

// ParseFile reads a brush's file and checks it.
func ParseFile(data []byte) (*File, error) {
	if len(data) > MaxFileBytes {
		return nil, fmt.Errorf("a brush's file has at most %d kB", MaxFileBytes>>10)
	}
	f := &File{Brush: New()}
	r := json.NewDecoder(strings.NewReader(string(data)))
	r.DisallowUnknownFields()
	if err := r.Decode(f); err != nil {
		return nil, errors.New("a brush's file is a JSON object with “brush” and, for tips that are pictures, “picture”")
	}
	if f.Picture != nil {
		if err := f.Picture.Check(); err != nil {
			return nil, err
		}
		f.Brush.Alpha = f.Picture.Hash()
	} else {
		f.Brush.Alpha = ""
	}
	return f, f.Brush.Check()
}
