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
	"crust/internal/core/pixel"
	"crust/internal/core/plain"
)

// Alpha is a picture as a tip: a square of grey, from the top left, of which each value is how much is laid down; and for stamps
// that have colours, those.
type Alpha struct {
	Side   int    `json:"side"` // a power of two
	Grey   []byte `json:"grey"`
	Colour []byte `json:"colour,omitempty"` // three for each of grey: in sRGB,
	Normal bool   `json:"normal,omitempty"` // or those of a normal map, green up
	// Halved copies, the first as it is.
	levels  [][]uint8
	colours [][]uint8
}

// MaxAlpha is the largest side of a brush's picture, and MaxDecal that of a stamp's with colours.
const (
	MaxAlpha = 256
	MaxDecal = 1024
)

// NewAlpha makes an alpha of a picture of w × h values from 0 to 1, fitted into the square.
func NewAlpha(w, h int, at func(x, y int) float32) *Alpha {
	a := newAlpha(w, h, MaxAlpha)
	a.fit(w, h, func(k int, pixels func(yield func(x, y int) bool), n float32) {
		sum := float32(0)
		for x, y := range pixels {
			sum += at(x, y)
		}
		a.Grey[k] = uint8(geom.Clamp01(sum/n)*255 + 0.5)
	})
	return a
}

// NewDecal makes an alpha with colours of a picture of w × h colours, in sRGB, and opacities.
func NewDecal(w, h int, at func(x, y int) (rgb [3]float32, opacity float32)) *Alpha {
	return newColoured(w, h, false, at)
}

// NewNormals makes an alpha of a normal map, green up, of w × h values and opacities.
func NewNormals(w, h int, at func(x, y int) (rgb [3]float32, opacity float32)) *Alpha {
	return newColoured(w, h, true, at)
}

func newColoured(w, h int, normal bool, at func(x, y int) (rgb [3]float32, opacity float32)) *Alpha {
	a := newAlpha(w, h, MaxDecal)
	a.Colour, a.Normal = make([]byte, 3*len(a.Grey)), normal
	a.fit(w, h, func(k int, pixels func(yield func(x, y int) bool), n float32) {
		var sum [3]float32
		all := float32(0)
		for x, y := range pixels {
			rgb, opacity := at(x, y)
			all += opacity
			for c, v := range rgb {
				sum[c] += a.light(v) * opacity
			}
		}
		a.Grey[k] = uint8(geom.Clamp01(all/n)*255 + 0.5)
		for c, v := range sum {
			if all > 0 {
				a.Colour[3*k+c] = uint8(geom.Clamp01(a.encoded(v/all))*255 + 0.5)
			}
		}
	})
	return a
}

// newAlpha is an empty one with room for a picture of w × h.
func newAlpha(w, h, limit int) *Alpha {
	side := max(2, min(limit, 1<<bits.Len(uint(max(1, max(w, h, 1)-1)))))
	return &Alpha{Side: side, Grey: make([]byte, side*side)}
}

// fit calls put for each texel of the square with the pixels that lie under it, of which n would lie there if it were all covered.
func (a *Alpha) fit(w, h int, put func(k int, pixels func(yield func(x, y int) bool), n float32)) {
	scale := float64(max(w, h, 1)) / float64(a.Side)
	n := max(1, int(scale+0.5))
	for y := range a.Side {
		for x := range a.Side {
			x0, y0 := (float64(x)-float64(a.Side)/2)*scale+float64(w)/2, (float64(y)-float64(a.Side)/2)*scale+float64(h)/2
			put(y*a.Side+x, func(yield func(x, y int) bool) {
				for j := range n {
					for i := range n {
						px, py := int(x0+(float64(i)+0.5)*scale/float64(n)), int(y0+(float64(j)+0.5)*scale/float64(n))
						if x0 >= -scale && y0 >= -scale && px >= 0 && px < w && py >= 0 && py < h && !yield(px, py) {
							return
						}
					}
				}
			}, float32(n*n))
		}
	}
}

// Check says what is wrong with an alpha.
func (a *Alpha) Check() error {
	limit := MaxAlpha
	if a.Colour != nil {
		limit = MaxDecal
	}
	if a.Side < 2 || a.Side > limit || a.Side&(a.Side-1) != 0 || len(a.Grey) != a.Side*a.Side {
		return fmt.Errorf("a brush's picture is a square of grey, 2 to %d px a side, or %d with colours, a power of two", MaxAlpha, MaxDecal)
	}
	if a.Normal && a.Colour == nil {
		return errors.New("a picture of normals has three values for each of its grey ones, “colour”")
	}
	if a.Colour != nil && len(a.Colour) != 3*len(a.Grey) {
		return errors.New("a picture's colours are three for each of its grey values")
	}
	return nil
}

// Hash names an alpha by what it holds.
func (a *Alpha) Hash() string {
	h := sha256.New()
	h.Write([]byte{byte(bits.Len(uint(a.Side)))})
	h.Write(a.Grey)
	h.Write(a.Colour)
	if a.Normal {
		h.Write([]byte("normal"))
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// ready makes the halved copies.
func (a *Alpha) ready() {
	if a.levels != nil {
		return
	}
	levels, colours := [][]uint8{a.Grey}, [][]uint8{a.Colour}
	for side := a.Side / 2; side >= 1; side /= 2 {
		up, next := levels[len(levels)-1], make([]uint8, side*side)
		tint := colours[len(colours)-1]
		var nextTint []uint8
		if tint != nil {
			nextTint = make([]uint8, 3*side*side)
		}
		for y := range side {
			for x := range side {
				k := 4*y*side + 2*x
				of := [4]int{k, k + 1, k + 2*side, k + 2*side + 1}
				all := int(up[of[0]]) + int(up[of[1]]) + int(up[of[2]]) + int(up[of[3]])
				next[y*side+x] = uint8((all + 2) / 4)
				if tint == nil || all == 0 {
					continue
				}
				for c := range 3 {
					sum := float32(0)
					for _, i := range of {
						sum += a.light(float32(tint[3*i+c])/255) * float32(up[i])
					}
					nextTint[3*(y*side+x)+c] = uint8(a.encoded(sum/float32(all))*255 + 0.5)
				}
			}
		}
		levels, colours = append(levels, next), append(colours, nextTint)
	}
	a.levels, a.colours = levels, colours
}

// light is a value as it is mixed, and encoded is one as it is kept: colours are mixed as light.
func (a *Alpha) light(v float32) float32 {
	if a.Normal {
		return v
	}
	return pixel.FromSRGB(v)
}

func (a *Alpha) encoded(v float32) float32 {
	if a.Normal {
		return v
	}
	return pixel.ToSRGB(v)
}

// colour is the colour, as it is kept, at a place of the tip; false where nothing is.
func (a *Alpha) colour(u, v, soft float32) (rgb [3]float32, some bool) {
	level := 0
	for texel := 2 / float32(a.Side); texel < soft && level < len(a.levels)-1; texel *= 2 {
		level++
	}
	side := a.Side >> level
	x, y := (u+1)/2*float32(side)-0.5, (1-v)/2*float32(side)-0.5
	x0, y0 := floor(x), floor(y)
	fx, fy := x-x0, y-y0
	all := float32(0)
	for k, w := range [4]float32{(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy} {
		px, py := int(x0)+k&1, int(y0)+k>>1
		if px < 0 || py < 0 || px >= side || py >= side {
			continue
		}
		i := py*side + px
		w *= float32(a.levels[level][i])
		all += w
		for c := range rgb {
			rgb[c] += w * float32(a.colours[level][3*i+c])
		}
	}
	if all <= 0 {
		return rgb, false
	}
	for c := range rgb {
		rgb[c] /= all * 255
	}
	return rgb, true
}

// at is the alpha at a place of the tip, blurred over about soft; 0 beside it.
func (a *Alpha) at(u, v, soft float32) float32 {
	return a.read(u, v, soft, func(x, y, side int) int {
		if x < 0 || y < 0 || x >= side || y >= side {
			return -1
		}
		return y*side + x
	})
}

// repeated is at of a picture that goes on beyond its rims.
func (a *Alpha) repeated(u, v, soft float32) float32 {
	return a.read(u, v, soft, func(x, y, side int) int { return (y&(side-1))*side + x&(side-1) }) // a side is a power of two
}

// read mixes the four texels round a place; where tells at which index one is, below 0 for none.
func (a *Alpha) read(u, v, soft float32, where func(x, y, side int) int) float32 {
	level := 0
	for texel := 2 / float32(a.Side); texel < soft && level < len(a.levels)-1; texel *= 2 {
		level++
	}
	side := a.Side >> level
	px := a.levels[level]
	const far = 1 << 20 // beyond which there are no more repeats
	x, y := min(far, max(-far, (u+1)/2*float32(side)-0.5)), min(far, max(-far, (1-v)/2*float32(side)-0.5))
	x0, y0 := floor(x), floor(y)
	get := func(x, y int) float32 {
		if i := where(x, y, side); i >= 0 {
			return float32(px[i]) / 255
		}
		return 0
	}
	fx, fy := x-x0, y-y0
	i, j := int(x0), int(y0)
	top := get(i, j)*(1-fx) + get(i+1, j)*fx
	return top*(1-fy) + (get(i, j+1)*(1-fx)+get(i+1, j+1)*fx)*fy
}

// Attach gives a stroke the picture of its brush.
func (s *Stroke) Attach(a *Alpha) {
	if a != nil {
		a.ready()
	}
	s.alpha = a
}

// Fetch attaches the pictures that a stroke needs, those of its brush and its stencil.
func (s *Stroke) Fetch(find func(hash string) (*Alpha, error)) error {
	s.Attach(nil)
	s.AttachStencil(nil)
	if hash := s.Brush.Alpha; hash != "" {
		a, err := find(hash)
		if err != nil {
			return err
		}
		s.Attach(a)
	}
	if s.Stencil != nil {
		a, err := find(s.Stencil.Alpha)
		if err != nil {
			return err
		}
		s.AttachStencil(a)
	}
	return nil
}

// Pictures are those that are attached to a stroke, by their hashes.
func (s *Stroke) Pictures() map[string]*Alpha {
	out := map[string]*Alpha{}
	if s.alpha != nil {
		out[s.Brush.Alpha] = s.alpha
	}
	if s.stencil != nil {
		out[s.Stencil.Alpha] = s.stencil
	}
	return out
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
func ParseFile(data []byte) (_ *File, err error) {
	defer plain.Speak(&err)
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
		if f.Picture.Colour != nil {
			return nil, errors.New("a brush's picture has no colours; they are for stamps")
		}
		f.Brush.Alpha = f.Picture.Hash()
	} else {
		f.Brush.Alpha = ""
	}
	return f, f.Brush.Check()
}
