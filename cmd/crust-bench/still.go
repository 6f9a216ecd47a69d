package main

import (
	"context"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/light"
	"crust/internal/core/still"
	"crust/internal/demo"
)

// stillNoise is how far the pixels of a still may be from what they would be at last, in parts of 255: the root of the mean square.
const stillNoise = 3

// stills makes a still of the buoy, 1280 × 800, until its noise is low, and compares its rays with the reference's.
func stills() map[string]any {
	ctx := context.Background()
	low, sets, src := buoy(1024, 16)
	doc := demo.Strata()
	maps := map[string]map[string]*bake.Map{}
	for i := range sets {
		made, err := src.Bake(ctx, &sets[i], compose.Reads(doc), nil)
		check(err)
		maps[sets[i].Key] = map[string]*bake.Map{}
		for _, m := range made {
			maps[sets[i].Key][m.Kind] = m
		}
	}
	body := compose.NewBody(compose.NewCache(256<<20), low, sets, func(set string) (map[string]*bake.Map, error) { return maps[set], nil })
	made, err := still.Evaluate(ctx, body, sets, doc, func(string) int { return 1024 }, nil)
	check(err)
	before := referenceRate(low, 20000, 64)
	shot := &still.Shot{Model: low, Sets: sets, Maps: made, Setup: light.Default(), Long: 1280, Wide: 1.6, Samples: 1, Seed: 1}
	begun := time.Now()
	scene, err := shot.Scene(ctx)
	check(err)
	t, err := shot.Tracer(scene, nil, "")
	check(err)
	ready := time.Since(begun).Seconds()
	other := *shot
	other.Seed = 2
	u, err := other.Tracer(scene, nil, "")
	check(err)
	profileFromHere()
	p, q := t.Picture(), u.Picture()
	begun = time.Now()
	// Two halves of one picture, from two seeds: how they differ tells the noise of both together.
	for n := 8; ; n = p.Samples {
		check(t.Add(ctx, p, n, nil))
		check(u.Add(ctx, q, n, nil))
		if t.Noise(p, q) < stillNoise || p.Samples >= 2048 {
			break
		}
	}
	seconds := time.Since(begun).Seconds()
	samples := float64(2*p.Samples) * float64(p.Width) * float64(p.Height)
	rays := float64(t.Rays()+u.Rays()) / seconds / 1e6
	out := map[string]any{"seconds": round(seconds), "ready": round(ready), "samples": 2 * p.Samples, "noise": round(t.Noise(p, q)), "samples_per_second": round(samples / seconds), "mrays_per_s": round(rays)}
	if before > 0 {
		ratio := (before + referenceRate(low, 20000, 64)) / 2
		out["reference_mrays_per_s"], out["ratio"] = round(ratio), round(rays/ratio)
	}
	return out
}
