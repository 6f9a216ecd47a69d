package light

import (
	"errors"
	"fmt"
	"slices"

	"crust/internal/core/pixel"
)

// Setup is how an asset is lit, framed and shown: what the tray “Light and frame” changes.
type Setup struct {
	Sky      string   `json:"sky"`      // name of the surroundings
	Turn     float64  `json:"turn"`     // degrees about the upright axis
	Strength float64  `json:"strength"` // times
	Exposure float64  `json:"exposure"` // stops brighter than the surroundings ask for
	Backdrop Backdrop `json:"backdrop"`
	Lamps    []Lamp   `json:"lamps"`
	Frames   []Frame  `json:"frames"`
	Surface  Surface  `json:"surface"`
	Card     string   `json:"card,omitempty"` // name of the frame that Home shows; empty for the view that was last
}

// Backdrop is what stands behind the model, apart from what lights it.
type Backdrop struct {
	Kind   string  `json:"kind"`   // BackColour or BackSky
	Hex    string  `json:"hex"`    // sRGB “#rrggbb”
	Blur   float64 `json:"blur"`   // of the surroundings, 0–1
	Dim    float64 `json:"dim"`    // how bright the surroundings are as a backdrop, times
	Ground bool    `json:"ground"` // the model throws a shadow below it
}

// Kinds of backdrops.
const (
	BackColour = "colour"
	BackSky    = "surroundings"
)

// Frame is a view that pictures are made of.
type Frame struct {
	Name string     `json:"name"`
	Eye  [3]float32 `json:"eye"` // metres
	At   [3]float32 `json:"at"`
	Mm   float32    `json:"mm"`   // focal length for a film of 24 × 36 mm, along the longer side
	Wide float32    `json:"wide"` // proportion
	High float32    `json:"high"`
}

// Surface is how the surface is shown.
type Surface struct {
	Shape float64 `json:"shape"` // times the height moves it in stills; 0 for not at all
	Cut   float64 `json:"cut"`   // opacity below which it is cut away; 0 has it fade
	Glow  float64 `json:"glow"`  // times what it emits
	Halo  float64 `json:"halo"`  // how much of what it emits spreads round it in the picture; 0 not at all
	Both  bool    `json:"both"`  // faces are seen from behind too
}

// Default is how assets are shown at first.
func Default() Setup {
	return Setup{Sky: All[0].Name, Strength: 1, Backdrop: Backdrop{Kind: BackColour, Hex: "#2f2f2f", Blur: 0.5, Dim: 1, Ground: true}, Lamps: []Lamp{}, Frames: []Frame{}, Surface: Surface{Shape: 1, Cut: 0.5, Glow: 1, Halo: 0.3}}
}

// Limits of a setup.
const (
	MaxFrames = 40
	LeastMm   = 8
	MostMm    = 800
)

// Clone is a deep copy; nil stays nil.
func (s *Setup) Clone() *Setup {
	if s == nil {
		return nil
	}
	out := *s
	out.Lamps, out.Frames = slices.Clone(s.Lamps), slices.Clone(s.Frames)
	return &out
}

// Check says the first thing that is wrong with a setup.
func (s *Setup) Check() error {
	if _, err := Of(s.Sky); err != nil {
		return err
	}
	within := func(v, low, high float64) bool { return v >= low && v <= high }
	switch {
	case !within(s.Turn, -3600, 3600):
		return errors.New("the surroundings are turned more than ten times round")
	case !within(s.Strength, 0, 100):
		return fmt.Errorf("the strength of the surroundings is %g; it goes from 0 to 100", s.Strength)
	case !within(s.Exposure, -12, 12):
		return fmt.Errorf("the exposure is %g stops; it goes from -12 to 12", s.Exposure)
	case s.Backdrop.Kind != BackColour && s.Backdrop.Kind != BackSky:
		return fmt.Errorf("“%s” is no backdrop; use %s or %s", s.Backdrop.Kind, BackColour, BackSky)
	case !pixel.IsHex(s.Backdrop.Hex):
		return fmt.Errorf("“%s” is not a colour; write it as #rrggbb", s.Backdrop.Hex)
	case !within(s.Backdrop.Blur, 0, 1) || !within(s.Backdrop.Dim, 0, 100):
		return errors.New("the backdrop's blur goes from 0 to 1, its brightness from 0 to 100")
	case len(s.Lamps) > MaxLamps:
		return fmt.Errorf("%d lamps are more than %d", len(s.Lamps), MaxLamps)
	case len(s.Frames) > MaxFrames:
		return fmt.Errorf("%d frames are more than %d", len(s.Frames), MaxFrames)
	case !within(s.Surface.Shape, 0, 20) || !within(s.Surface.Cut, 0, 1) || !within(s.Surface.Glow, 0, 1000) || !within(s.Surface.Halo, 0, 1):
		return errors.New("shape goes from 0 to 20, the cut from 0 to 1, the glow from 0 to 1000, the halo from 0 to 1")
	}
	for i := range s.Lamps {
		if err := s.Lamps[i].Check(); err != nil {
			return err
		}
	}
	names := map[string]bool{}
	for i := range s.Frames {
		f := &s.Frames[i]
		if f.Name == "" || len(f.Name) > 80 || names[f.Name] {
			return fmt.Errorf("frame %d needs a name of its own, of 1 to 80 letters", i+1)
		}
		names[f.Name] = true
		if err := f.check(); err != nil {
			return fmt.Errorf("frame “%s”: %w", f.Name, err)
		}
	}
	return nil
}

func (f *Frame) check() error {
	for _, v := range append(f.Eye[:], f.At[:]...) {
		if !(v >= -1e5 && v <= 1e5) {
			return errors.New("it does not stand anywhere near")
		}
	}
	switch {
	case f.Eye == f.At:
		return errors.New("it looks at where it stands")
	case !(f.Mm >= LeastMm && f.Mm <= MostMm):
		return fmt.Errorf("a focal length of %g mm is not offered; it goes from %d to %d", f.Mm, LeastMm, MostMm)
	case !(f.Wide > 0 && f.High > 0 && f.Wide/f.High >= 0.1 && f.Wide/f.High <= 10):
		return errors.New("it is no more than ten times as wide as high, or as high as wide")
	}
	return nil
}

// Frame finds a frame by its name.
func (s *Setup) Frame(name string) (*Frame, error) {
	for i := range s.Frames {
		if s.Frames[i].Name == name {
			return &s.Frames[i], nil
		}
	}
	return nil, fmt.Errorf("there is no frame “%s”", name)
}
