package brush

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/pixel"
)

// Limits of a stroke.
const (
	MaxPoints = 20_000
	MaxPaths  = 400
	MinSize   = 1e-5 // metres
	MaxSize   = 100.0
)

// Point is a place of a path: where it lies in metres, the surface's normal there, the pen's pressure, 0–1, and which way its shaft
// leans, of the length of the sine of how far: 0 for a pen that stands upright on the screen, or for none.
type Point [10]float32

// uprightLen is how many numbers write down a point of a pen that does not lean.
const uprightLen = 7

// MarshalJSON leaves out how the pen leans where it does not.
func (p Point) MarshalJSON() ([]byte, error) {
	if p.Lean() == (geom.Vec3{}) {
		return json.Marshal(p[:uprightLen])
	}
	return json.Marshal(p[:])
}

// At is where the point lies.
func (p *Point) At() geom.Vec3 { return geom.Vec3{X: p[0], Y: p[1], Z: p[2]} }

// Normal is the surface's there.
func (p *Point) Normal() geom.Vec3 { return geom.Vec3{X: p[3], Y: p[4], Z: p[5]} }

// Pressure is the pen's.
func (p *Point) Pressure() float32 { return p[6] }

// Lean is which way the pen leans.
func (p *Point) Lean() geom.Vec3 { return geom.Vec3{X: p[7], Y: p[8], Z: p[9]} }

// leans is which way the pen leans along a surface of normal n, and how far: the sine.
func (p *Point) leans(n geom.Vec3) (way geom.Vec3, far float32) {
	way = p.Lean()
	way = way.Sub(n.Mul(way.Dot(n)))
	if far = way.Len(); far > 0 {
		way = way.Mul(1 / far)
	}
	return way, min(1, far)
}

// Stroke is what a hand did from setting the pen down to taking it away.
type Stroke struct {
	Brush Brush   `json:"brush"`
	Size  float32 `json:"size"`            // metres across, at full pressure
	Erase bool    `json:"erase,omitempty"` // it takes away
	Seed  uint32  `json:"seed,omitempty"`
	Hold  *Hold   `json:"hold,omitempty"`   // where it may paint; nil for everywhere
	Again *Again  `json:"mirror,omitempty"` // it is made again elsewhere at the same time
	Fill  string  `json:"fill,omitempty"`   // it covers all of something, from where it was laid: one of Fills
	Own   *Values `json:"values,omitempty"` // what it lays down in place of its layer's; nil for nothing of its own
	Stamp *Stamp  `json:"stamp,omitempty"`  // it is placed, not drawn
	// It does something with what was painted before it, one of Works, and takes that from a place.
	Work   string `json:"work,omitempty"`
	Source *Point `json:"source,omitempty"`
	// It is laid through a picture over the view.
	Stencil *Stencil  `json:"stencil,omitempty"`
	Paths   [][]Point `json:"paths"` // one each time that the pen came down anew
	// The last part of the last path may change still.
	loose bool
	// Pressure is how much of it there is: see Stain.
	stain bool
	// The pictures of its brush and its stencil.
	alpha, stencil *Alpha
	// It is made on a square that repeats, which lies within a box.
	square *geom.Square
	within geom.Box
}

// Stain is what runs down along paths, so many metres wide where it is strongest: the pressure of its points is how strong it is.
func Stain(wide float32, paths [][]Point) *Stroke {
	b := New()
	b.Hardness, b.PressSize, b.CurveSize = 0.25, 0.55, -1
	return &Stroke{Brush: b, Size: wide, Paths: paths, stain: true}
}

// Hold keeps a stroke to some of the surface.
type Hold struct {
	Part  string     `json:"part,omitempty"`  // of the model
	Set   string     `json:"set,omitempty"`   // key of a texture set
	Angle float32    `json:"angle,omitempty"` // degrees that a face may turn away from where the stroke began; 0 for any
	Front bool       `json:"front,omitempty"` // what faces the eye alone
	Seen  bool       `json:"seen,omitempty"`  // what faces the eye and has nothing before it
	Eye   [3]float32 `json:"eye,omitempty"`
	// The UV island, or the colour of the ID map, that the stroke began on.
	Island bool `json:"island,omitempty"`
	ID     bool `json:"id,omitempty"`
}

// NeedsIDs tells whether what the stroke covers depends on the ID map.
func (s *Stroke) NeedsIDs() bool { return s.Fill == FillID || s.Hold != nil && s.Hold.ID }

// What a stroke may fill: the part, set, UV island or colour of the ID map that its first point lies on, the faces that are joined
// to it, or all.
const (
	FillPart   = "part"
	FillSet    = "set"
	FillIsland = "island"
	FillJoined = "joined"
	FillID     = "id"
	FillAll    = "all"
)

// Fills lists what strokes may fill; the first is for those that do not.
var Fills = []string{"", FillPart, FillSet, FillIsland, FillJoined, FillID, FillAll}

// Values are a stroke's own values; those that are not there are its layer's.
type Values struct {
	Colour    string   `json:"colour,omitempty"` // sRGB “#rrggbb”
	Roughness *float32 `json:"roughness,omitempty"`
	Metallic  *float32 `json:"metallic,omitempty"`
	Height    *float32 `json:"height,omitempty"` // millimetres
}

// HeightLimit is the height that a stroke may lay down, in millimetres, up or down.
const HeightLimit = 50

func (v *Values) check() error {
	if v.Colour != "" && !pixel.IsHex(v.Colour) {
		return fmt.Errorf("“%s” is not a colour; write it as #rrggbb", v.Colour)
	}
	for _, x := range []*float32{v.Roughness, v.Metallic} {
		if x != nil && !(*x >= 0 && *x <= 1) {
			return fmt.Errorf("a value of a stroke is %g; it goes from 0 to 1", *x)
		}
	}
	if h := v.Height; h != nil && !(*h >= -HeightLimit && *h <= HeightLimit) {
		return fmt.Errorf("the height of a stroke is %g mm; it goes from -%d to %d", *h, HeightLimit, HeightLimit)
	}
	return nil
}

// Again repeats a stroke: mirrored across planes through a place, and turned about the upright axis through it.
type Again struct {
	X      bool       `json:"x,omitempty"`
	Y      bool       `json:"y,omitempty"`
	Z      bool       `json:"z,omitempty"`
	Turns  int        `json:"turns,omitempty"` // so many all round; 0 and 1 for none
	Centre [3]float32 `json:"centre"`
}

// MaxTurns bounds how many times a stroke is repeated all round.
const MaxTurns = 64

// reach is how far from the path something is laid down, each way.
func (s *Stroke) reach() geom.Vec3 {
	r := s.Size / 2 * (math.Sqrt2*(1+s.Brush.TiltLong) + 2*s.Brush.Scatter)
	if s.Stamp != nil {
		wide, high := s.Half()
		r = float32(math.Hypot(float64(wide), float64(high))) + s.Size*s.Brush.Scatter
		if s.Stamp.Straight {
			r += s.depth()
		}
	}
	return geom.Vec3{X: r, Y: r, Z: r}
}

// Length is that of all paths, in metres.
func (s *Stroke) Length() (sum float32) {
	for _, path := range s.Paths {
		for i := 1; i < len(path); i++ {
			a, b := path[i-1].At(), path[i].At()
			sum += a.Dist(b)
		}
	}
	return sum
}

// Distance is that of a place from the nearest of the paths.
func (s *Stroke) Distance(p geom.Vec3) float32 {
	if s.square == nil {
		return s.distance(p)
	}
	least := float32(math.Inf(1))
	for v := -farCopies; v <= farCopies; v++ {
		for u := -farCopies; u <= farCopies; u++ {
			least = min(least, s.distance(p.Sub(s.square.Shift(u, v))))
		}
	}
	return least
}

func (s *Stroke) distance(p geom.Vec3) float32 {
	least := float32(math.Inf(1))
	for _, path := range s.Paths {
		for i := range path {
			a, b := path[max(0, i-1)].At(), path[i].At()
			way := b.Sub(a)
			t := float32(0)
			if long := way.Dot(way); long > 0 {
				t = geom.Clamp01(p.Sub(a).Dot(way) / long)
			}
			least = min(least, p.Dist(a.Add(way.Mul(t))))
		}
	}
	return least
}

// Check says the first thing that is wrong with a stroke.
func (s *Stroke) Check() error {
	if err := s.Brush.Check(); err != nil {
		return err
	}
	if !(s.Size >= MinSize && s.Size <= MaxSize) {
		return fmt.Errorf("a stroke's size is %g m; it goes from %g to %g", s.Size, MinSize, MaxSize)
	}
	if h := s.Hold; h != nil && !(h.Angle >= 0 && h.Angle <= 180) {
		return fmt.Errorf("the angle that a stroke is held to is %g°; it goes from 0 to 180", h.Angle)
	}
	if a := s.Again; a != nil && (a.Turns < 0 || a.Turns > MaxTurns) {
		return fmt.Errorf("a stroke is repeated %d times all round; it goes from 0 to %d", a.Turns, MaxTurns)
	}
	if !slices.Contains(Fills, s.Fill) {
		return fmt.Errorf("“%s” cannot be filled; use %s", s.Fill, strings.Join(Fills[1:], ", "))
	}
	if s.Own != nil {
		if err := s.Own.check(); err != nil {
			return err
		}
	}
	if len(s.Paths) == 0 || len(s.Paths) > MaxPaths {
		return fmt.Errorf("a stroke has 1 to %d paths, not %d", MaxPaths, len(s.Paths))
	}
	n := 0
	for _, path := range s.Paths {
		if len(path) == 0 {
			return errors.New("a path of a stroke has no points")
		}
		if n += len(path); n > MaxPoints {
			return fmt.Errorf("a stroke has more than %d points", MaxPoints)
		}
		for i := range path {
			if err := path[i].check(); err != nil {
				return err
			}
		}
	}
	if err := s.checkWork(); err != nil {
		return err
	}
	if s.Stencil != nil {
		if err := s.Stencil.check(); err != nil {
			return err
		}
	}
	if s.Stamp != nil {
		return s.Stamp.check(s)
	}
	return nil
}

// farthest is how far from the middle of things a point may lie, in metres.
const farthest = 1e5

func (p *Point) check() error {
	for _, v := range p[:3] {
		if !(v >= -farthest && v <= farthest) {
			return errors.New("a point of a stroke does not lie anywhere near")
		}
	}
	if l := p.Normal().Len(); !(l > 0.9 && l < 1.1) {
		return errors.New("a normal of a stroke is not of length 1")
	}
	if !(p[6] >= 0 && p[6] <= 1) {
		return fmt.Errorf("pressure is %g; it goes from 0 to 1", p[6])
	}
	if l := p.Lean().Len(); !(l <= 1.01) {
		return errors.New("a pen leans by a sine of more than 1")
	}
	return nil
}

// head is a stroke without its paths.
type head struct {
	Brush Brush    `json:"brush"`
	Size  float32  `json:"size"`
	Erase bool     `json:"erase,omitempty"`
	Seed  uint32   `json:"seed,omitempty"`
	Hold  *Hold    `json:"hold,omitempty"`
	Again *Again   `json:"mirror,omitempty"`
	Fill  string   `json:"fill,omitempty"`
	Own   *Values  `json:"values,omitempty"`
	Stamp *Stamp   `json:"stamp,omitempty"`
	Cut   *Stencil `json:"stencil,omitempty"`
	Work  string   `json:"work,omitempty"`
	From  *Point   `json:"source,omitempty"`
	Leans bool     `json:"leans,omitempty"` // points say how the pen leans
	Paths []uint32 `json:"paths"`           // points of each
}

// Encode packs a stroke: the length of its head in four bytes, the head as JSON, then its points, all little endian.
func Encode(s *Stroke) []byte {
	h := head{Brush: s.Brush, Size: s.Size, Erase: s.Erase, Seed: s.Seed, Hold: s.Hold, Again: s.Again, Fill: s.Fill, Own: s.Own, Stamp: s.Stamp, Cut: s.Stencil, Work: s.Work, From: s.Source}
	for _, path := range s.Paths {
		h.Paths = append(h.Paths, uint32(len(path)))
		h.Leans = h.Leans || slices.ContainsFunc(path, func(p Point) bool { return p.Lean() != geom.Vec3{} })
	}
	text, err := json.Marshal(h)
	if err != nil {
		panic(err) // what was checked always encodes
	}
	out := binary.LittleEndian.AppendUint32(nil, uint32(len(text)))
	out = append(out, text...)
	for _, path := range s.Paths {
		for i := range path {
			for _, v := range path[i][:h.numbers()] {
				out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
			}
		}
	}
	return out
}

// numbers is how many of a point are packed.
func (h *head) numbers() int {
	if h.Leans {
		return len(Point{})
	}
	return uprightLen
}

// Decode reads a stroke that Encode has packed, and checks it.
func Decode(data []byte) (*Stroke, error) {
	short := errors.New("a stroke is cut off")
	if len(data) < 4 {
		return nil, short
	}
	n := binary.LittleEndian.Uint32(data)
	if data = data[4:]; uint64(n) > uint64(len(data)) {
		return nil, short
	}
	var h head
	if err := json.Unmarshal(data[:n], &h); err != nil {
		return nil, errors.New("the head of a stroke is no sound JSON")
	}
	data = data[n:]
	s := &Stroke{Brush: h.Brush, Size: h.Size, Erase: h.Erase, Seed: h.Seed, Hold: h.Hold, Again: h.Again, Fill: h.Fill, Own: h.Own, Stamp: h.Stamp, Stencil: h.Cut, Work: h.Work, Source: h.From}
	for _, n := range h.Paths {
		if uint64(n)*uint64(4*h.numbers()) > uint64(len(data)) {
			return nil, short
		}
		path := make([]Point, n)
		for i := range path {
			for k := range h.numbers() {
				path[i][k] = math.Float32frombits(binary.LittleEndian.Uint32(data))
				data = data[4:]
			}
		}
		s.Paths = append(s.Paths, path)
	}
	if len(data) > 0 {
		return nil, errors.New("a stroke holds more than its points")
	}
	return s, s.Check()
}

// perPiece is how many points of a path share a box; while a stroke is made each has its own.
const perPiece = 8

// Boxes hold all that the stroke may touch, piece by piece; those of all but the last piece do not change when it goes on.
func (s *Stroke) Boxes() (out []geom.Box) {
	if s.Fill != "" {
		far := geom.Vec3{X: math.MaxFloat32, Y: math.MaxFloat32, Z: math.MaxFloat32}
		return []geom.Box{{Min: far.Neg(), Max: far}}
	}
	grow, per := s.reach(), perPiece
	if s.loose {
		per = 1
	}
	copies := s.copies()
	for _, path := range s.Paths {
		for from := 0; from == 0 || from < len(path)-1; from += per {
			for c := range copies {
				box := geom.EmptyBox()
				for i := from; i <= min(from+per, len(path)-1); i++ {
					box = box.Add(copies[c].place(path[i].At()))
				}
				if box = (geom.Box{Min: box.Min.Sub(grow), Max: box.Max.Add(grow)}); s.counts(&box) {
					out = append(out, box)
				}
			}
		}
	}
	return out
}

// Live is a stamp that is being placed still: it may be another one the next time.
func (s *Stroke) Live() *Stroke {
	out := *s
	out.loose = true
	return &out
}

// Done is a stamp that has found its place.
func (s *Stroke) Done() *Stroke {
	out := *s
	out.loose = false
	return &out
}

// Loose tells that the stroke is being made still: the last part of its last path may change.
func (s *Stroke) Loose() bool { return s.loose }
