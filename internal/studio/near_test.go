package studio

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/surface"
)

// The painter begins where a page's person looks, and a place beyond the set changes nothing.
func TestPaintingBeginsWhereOneLooks(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	p := a.Watch("")
	defer p.Leave()
	e := &easel{}
	defer e.clear()
	s := a.snap(e)
	s.ctx = context.Background()
	c, err := a.sheet(e, s, &s.sets[0], 512)
	if err != nil {
		t.Fatal(err)
	}
	if s.tiles(c) != nil {
		t.Error("tiles are put in an order though nobody looks at the set")
	}
	p.SetNear(Near{Set: c.Set, X: 0.7, Y: 0.2})
	order := s.tiles(c)
	if len(order) != len(c.Surf.Tiles) {
		t.Fatalf("%d tiles of %d are painted", len(order), len(c.Surf.Tiles))
	}
	seen, last := map[int]bool{}, 0.0
	for _, n := range order {
		tile := &c.Surf.Tiles[n]
		x, y := (float64(tile.X)+0.5)*surface.TileSize/512, (float64(tile.Y)+0.5)*surface.TileSize/512
		far := math.Hypot(x-0.7, y-0.2)
		if seen[n] || far < last-1e-9 {
			t.Fatalf("tile (%d, %d) comes again, or after one that is further", tile.X, tile.Y)
		}
		seen[n], last = true, far
	}
	p.SetNear(Near{Set: "gone", X: math.NaN()})
	if s.tiles(c) != nil {
		t.Error("a place on a set that is not there puts tiles in an order")
	}
}
