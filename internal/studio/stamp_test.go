package studio

import (
	"slices"
	"strings"
	"testing"

	"crust/internal/core/bake"
)

// Every cause is told in the order's list, and depends on maps that there are.
func TestCausesAreAllListed(t *testing.T) {
	if len(causeOrder) != len(causes) {
		t.Errorf("%d causes, %d in the order", len(causes), len(causeOrder))
	}
	for _, name := range causeOrder {
		c, ok := causes[name]
		if !ok || c.words == "" {
			t.Errorf("%s is not a cause with words", name)
		}
		for _, k := range c.maps {
			if _, err := bake.KindOf(k); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
	}
}

// What a setting changes is what depends on it, map by map, with its reason.
func TestEachSettingMakesItsOwnMapsStale(t *testing.T) {
	a := &Asset{whole: "w", highHash: "h", settings: Settings{Radius: 0.01}}
	kinds := func() (out []string) {
		for _, k := range bake.Kinds {
			out = append(out, a.grounds().stampOf(k.Name, "faces"))
		}
		return out
	}
	for _, c := range []struct {
		name   string
		change func()
		stale  string
		words  string
	}{
		{"nothing", func() {}, "", ""},
		{"radius", func() { a.settings.Radius = 0.02 }, "curvature", "curvature radius"},
		{"occlusion limit", func() { a.settings.Far = 1 }, "ao", "occlusion limit"},
		{"sees", func() { a.settings.Sees = bake.SeesOwn }, "ao", "what occlusion sees"},
		{"floor", func() { a.settings.Ground = true }, "ao", "floor"},
		{"thickness limit", func() { a.settings.Deep = 2 }, "thickness", "thickness limit"},
		{"IDs", func() { a.settings.ID = bake.IDIslands }, "id", "IDs"},
		{"model", func() { a.whole = "x" }, "ao,curvature,thickness,position,id", "the model changed"},
		{"front", func() { a.settings.Front = 0.5 }, "ao,curvature,thickness,world-normal,normal,height,position,id", "front distance"},
		{"high-poly", func() { a.highHash = "i" }, "ao,curvature,thickness,world-normal,normal,height,position,id", "the high-poly changed"},
	} {
		before := kinds()
		c.change()
		var stale []string
		for i, now := range kinds() {
			if now == before[i] {
				continue
			}
			stale = append(stale, bake.Kinds[i].Name)
			if w := why(before[i], now); !strings.Contains(w, c.words) || strings.Contains(w, ",") {
				t.Errorf("%s: %s is stale because %q, want one reason with %q", c.name, bake.Kinds[i].Name, w, c.words)
			}
		}
		want := strings.Split(c.stale, ",")
		if c.stale == "" {
			want = nil
		}
		if !slices.Equal(stale, want) {
			t.Errorf("%s makes %v stale, want %v", c.name, stale, want)
		}
	}
	if w := why("0a1b", a.grounds().stampOf(bake.AO, "faces")); !strings.Contains(w, "earlier version") {
		t.Errorf("an old stamp: %q", w)
	}
	// Without a high-poly its distances do not count.
	a.highHash = ""
	before := kinds()
	a.settings.Front, a.settings.Rear = 9, 9
	if !slices.Equal(before, kinds()) {
		t.Error("distances to a high-poly that is not there made maps stale")
	}
}
