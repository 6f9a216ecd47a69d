package pixel

import (
	"strings"
	"testing"
)

// Real things pass, impossible ones are named: charcoal, snow, brick and all tabulated metals are real (common practice).
func TestWhatNoSurfaceHasIsNamed(t *testing.T) {
	for _, c := range []struct {
		name     string
		base     [3]float32
		metallic float32
		want     string
	}{
		{"charcoal", [3]float32{0.2, 0.2, 0.2}, 0, ""}, {"white paper", [3]float32{0.96, 0.97, 0.98}, 0, "brighter than snow"}, {"old snow", [3]float32{0.9, 0.92, 0.94}, 0, ""},
		{"brick", [3]float32{0.58, 0.3, 0.22}, 0, ""}, {"ink", [3]float32{0.05, 0.05, 0.08}, 0, "darker than charcoal"}, {"deep blue", [3]float32{0.02, 0.05, 0.4}, 0, ""},
		{"a mixture", [3]float32{0.5, 0.5, 0.5}, 0.5, "half metal (0.50)"}, {"black metal", [3]float32{0.3, 0.3, 0.3}, 1, "darker than bare metal"},
		{"brown metal", [3]float32{0.5, 0.38, 0.3}, 1, "copper"},
	} {
		got := strings.Join(Physical.Judge(c.base, c.metallic), "; ")
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	for _, m := range Metals {
		if got := Physical.Judge([3]float32{ToSRGB(m.RGB[0]), ToSRGB(m.RGB[1]), ToSRGB(m.RGB[2])}, 1); got != nil {
			t.Errorf("%s: %v", m.Name, got)
		}
	}
}
