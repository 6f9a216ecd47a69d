package studio

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"

	"crust/internal/core/brush"
	"crust/internal/core/imgfile"
	"crust/internal/core/pixel"
	"crust/internal/store"
)

// MaxBrushes bounds how many brushes of their own people keep.
const MaxBrushes = 500

// Brushes lists people's own brushes, the newest first.
func (s *Studio) Brushes() ([]brush.Brush, error) {
	rows, err := s.Store.Brushes()
	if err != nil {
		return nil, err
	}
	out := []brush.Brush{}
	for _, r := range rows {
		b := brush.New()
		if err := json.Unmarshal([]byte(r.Text), &b); err != nil || b.Check() != nil {
			slog.Warn("a stored brush cannot be read", "brush", r.Name, "error", err)
			continue
		}
		out = append(out, b)
	}
	return out, nil
}

// KeepBrush stores a brush; one of the same name gives way. Those that ship keep their names.
func (s *Studio) KeepBrush(b brush.Brush) error {
	b.Name = strings.TrimSpace(b.Name)
	if err := b.Check(); err != nil {
		return err
	}
	if _, err := brush.BuiltIn(b.Name); err == nil {
		return fmt.Errorf("“%s” is a brush that ships; give yours another name", b.Name)
	}
	if b.Alpha != "" {
		if _, err := s.Alpha(b.Alpha); err != nil {
			return err
		}
	}
	own, err := s.Store.Brushes()
	if err != nil {
		return err
	}
	if len(own) >= MaxBrushes {
		return fmt.Errorf("%d brushes are kept already; delete some first", len(own))
	}
	text, err := json.Marshal(b)
	if err != nil {
		return err
	}
	return s.Store.PutBrush(b.Name, string(text))
}

// BrushFile is a brush of people's own as its file.
func (s *Studio) BrushFile(name string) (*brush.File, error) {
	own, err := s.Brushes()
	if err != nil {
		return nil, err
	}
	for _, b := range own {
		if b.Name == name {
			f := &brush.File{Brush: b}
			if b.Alpha != "" {
				f.Picture, err = s.Alpha(b.Alpha)
			}
			return f, err
		}
	}
	return nil, fmt.Errorf("brush “%s”: %w", name, store.ErrNone)
}

// TakeBrush keeps a brush from its file.
func (s *Studio) TakeBrush(data []byte) (string, error) {
	f, err := brush.ParseFile(data)
	if err != nil {
		return "", fmt.Errorf("this is no brush that can be read. %w", err)
	}
	if f.Picture != nil {
		if err := s.keepAlpha(f.Picture); err != nil {
			return "", err
		}
	}
	return f.Brush.Name, s.KeepBrush(f.Brush)
}

// What AddAlpha takes of a picture besides grey.
const (
	AlphaColours = "colours"
	AlphaNormals = "normals"
)

// AddAlpha takes a picture as a brush's: its opacity where it has one that says something, or else how light it is; or for stamps with
// its colours or normals, and then it is opaque where nothing says otherwise.
func (s *Studio) AddAlpha(u Upload, with string) (hash string, err error) {
	if len(u) != 1 {
		return "", errors.New("a brush has one picture; choose one")
	}
	p, err := imgfile.Read(u[0].Name, u[0].Data)
	if err != nil {
		return "", err
	}
	n := p.Channels
	clear := n == 2 || n == 4
	if clear {
		clear = false
		for i := n - 1; i < n*p.Width*p.Height; i += n {
			clear = clear || p.At(i) < 0.999
		}
	}
	opacity := func(i int) float32 {
		if clear {
			return p.At(i + n - 1)
		}
		return 1
	}
	var a *brush.Alpha
	if with != "" {
		make := brush.NewDecal
		if with == AlphaNormals {
			if n < 3 {
				return "", fmt.Errorf("%s has %d channels; a normal map has three", u[0].Name, n)
			}
			make = brush.NewNormals
		}
		a = make(p.Width, p.Height, func(x, y int) (rgb [3]float32, o float32) {
			i := (y*p.Width + x) * n
			for c := range rgb {
				v := p.At(i)
				if n >= 3 {
					v = p.At(i + c)
				}
				if p.Float && with == AlphaColours {
					v = pixel.ToSRGB(min(1, max(0, v)))
				}
				rgb[c] = v
			}
			return rgb, opacity(i)
		})
	} else {
		a = brush.NewAlpha(p.Width, p.Height, func(x, y int) float32 {
			i := (y*p.Width + x) * n
			switch {
			case clear:
				return opacity(i)
			case n >= 3:
				// Rec. ITU-R BT.709's luma.
				return 0.2126*p.At(i) + 0.7152*p.At(i+1) + 0.0722*p.At(i+2)
			}
			return p.At(i)
		})
	}
	return a.Hash(), s.keepAlpha(a)
}

func (s *Studio) keepAlpha(a *brush.Alpha) error {
	return s.Store.PutAlpha(&store.Alpha{Hash: a.Hash(), Side: a.Side, Grey: a.Grey, Colour: a.Colour, Normal: a.Normal})
}

// Alpha finds a brush's picture by its hash.
func (s *Studio) Alpha(hash string) (*brush.Alpha, error) {
	if a, ok := s.alphas.Load(hash); ok {
		return a.(*brush.Alpha), nil
	}
	row, err := s.Store.Alpha(hash)
	if err != nil {
		return nil, err
	}
	a := row.Picture()
	if err := a.Check(); err != nil {
		return nil, err
	}
	new(brush.Stroke).Attach(a) // makes it ready before others see it
	had, _ := s.alphas.LoadOrStore(hash, a)
	return had.(*brush.Alpha), nil
}

// attach gives a stroke its pictures.
func (s *Studio) attach(k *brush.Stroke) error { return k.Fetch(s.Alpha) }
