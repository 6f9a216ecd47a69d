package mesh

import "fmt"

// Intake is how a model's file is taken: its unit and axes, its normals, and which UVs are used.
type Intake struct {
	Metres  float64 `json:"metres"`  // length of the file's unit; 0 means 1
	ZUp     bool    `json:"zUp"`     // the file's Z axis points up
	Compute bool    `json:"compute"` // compute all normals instead of taking the file's
	Crease  float64 `json:"crease"`  // degrees, when normals are computed
	Channel int     `json:"channel"` // UV channel, 0 for the first
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
	if b := m.Bounds(); !b.Min.Finite() || !b.Max.Finite() {
		return fmt.Errorf("with a unit of %g m the model is too large to compute with; choose a smaller unit", o.Metres)
	}
	return nil
}
