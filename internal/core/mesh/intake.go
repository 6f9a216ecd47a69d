package mesh

import (
	"fmt"
	"math"
)

// Intake is how a model's file is taken: its unit and axes, its normals, and which UVs are used.
type Intake struct {
	Metres  float64 `json:"metres"`            // length of the file's unit; 0 means 1
	ZUp     bool    `json:"zUp"`               // the file's Z axis points up
	Compute bool    `json:"compute"`           // compute all normals instead of taking the file's
	Crease  float64 `json:"crease"`            // degrees, when normals are computed
	Channel int     `json:"channel"`           // UV channel, 0 for the first
	Repeats bool    `json:"repeats,omitempty"` // it is a flat square that is laid again and again, see Model.AsSquare
}

// Limits of the unit in metres.
const leastUnit, mostUnit = 1e-6, 1e6

// Check says what is wrong with the settings.
func (o Intake) Check() error {
	switch {
	case o.Metres != 0 && !(o.Metres >= leastUnit && o.Metres <= mostUnit):
		return fmt.Errorf("a unit of %g m is outside %g–%g m", o.Metres, leastUnit, mostUnit)
	case !(o.Crease >= 0 && o.Crease <= 180):
		return fmt.Errorf("a crease of %g° is outside 0–180°", o.Crease)
	case o.Channel < 0 || o.Channel >= 64:
		return fmt.Errorf("there is no UV channel %d", o.Channel+1)
	}
	return nil
}

// Apply turns a model as it was read into what the settings say; its channels stay unchosen until
// Choose.
func (o Intake) Apply(m *Model) error {
	if err := o.Check(); err != nil {
		return err
	}
	if o.Compute {
		m.ComputeNormals(o.Crease)
	}
	if o.Metres == 0 {
		o.Metres = 1
	}
	m.Place(o.Metres, o.ZUp)
	return m.CheckSize()
}

// Sizes in metres between which a model can be worked with: beyond them 32-bit numbers do not hold its areas.
const (
	LeastSize = 1e-6
	MostSize  = 1e6
)

// SizeError refuses a model for its size in metres.
type SizeError struct{ Metres float64 }

func (e *SizeError) Error() string {
	return fmt.Sprintf("the model is %.3g m long, outside %g–%g m; choose the unit that it was made in, or scale it in your modeller", e.Metres, LeastSize, MostSize)
}

// long is the model's longest side in its own unit. A model far from the origin counts as larger: its places are
// as coarse as a larger one's.
func (m *Model) long() (long float64) {
	b := m.Bounds()
	for k := range 3 {
		lo, hi := float64(b.Min.Axis(k)), float64(b.Max.Axis(k))
		long = max(long, hi-lo, 1e-3*max(math.Abs(lo), math.Abs(hi)))
	}
	return long
}

// CheckSize tells whether the model can be worked with as large as it is.
func (m *Model) CheckSize() error {
	if v := m.long(); !(v >= LeastSize && v <= MostSize) {
		return &SizeError{v}
	}
	return nil
}

// UnitFor is the length in metres of the first unit in which a model, read in metres, can be worked with, 0 for none.
func (m *Model) UnitFor() float64 {
	long := m.long()
	for _, u := range Units {
		if v := long * u.Metres; v >= LeastSize && v <= MostSize {
			return u.Metres
		}
	}
	return 0
}
