package main

import (
	"sync"

	"crust/internal/core/compose"
	"crust/internal/core/imgfile"
	"crust/internal/core/picture"
	"crust/internal/core/strata"
)

// theStrata is the evaluator's surface under all that strata have: five groups, one with a Where and one laid together, three
// pictures of 4096², patterns, a softened clause and one of relief, in 20 layers of 3 clauses.
var theStrata = sync.OnceValue(func() *evaluator {
	e := &evaluator{}
	low, sets, src := buoy(2048, 16)
	e.doc = fullStack(20)
	e.open(low, sets, src, 2048, 512<<20)
	e.sets[0].Body().Show(bigPictures())
	return e
})

// bigPictures are a colour, a roughness and a height, 4096² each.
func bigPictures() compose.Pictures {
	const side = 4096
	made := map[string]*picture.Picture{}
	for n, mark := range []string{"p1", "p2", "p3"} {
		channels, space := 1, picture.Data
		if n == 0 {
			channels, space = 3, picture.Colour
		}
		from := &imgfile.Picture{Width: side, Height: side, Channels: channels, Bits: 8, Whole: make([]uint16, side*side*channels)}
		for i := range from.Whole {
			from.Whole[i] = uint16(uint32(i) * 2654435761 >> 16)
		}
		p, err := picture.New(from, space)
		check(err)
		made[mark] = p
	}
	return func(mark string) (*picture.Picture, error) { return made[mark], nil }
}

// fullStack is deepStack in groups, with pictures, patterns, softening and relief.
func fullStack(layers int) *strata.Document {
	d := deepStack(layers)
	clause := func(kind string) strata.Clause {
		c, err := d.NewClause(kind)
		check(err)
		c.Join = "or"
		return c
	}
	of := func(mark string, high float32) *strata.Source {
		return &strata.Source{Kind: "picture", Picture: mark, Lay: map[string]float64{"size": 0.7}, High: high}
	}
	for n := range d.Layers {
		l := &d.Layers[n]
		if n%3 == 1 {
			c := clause("pattern")
			c.Params["form"] = float64(n % 6)
			l.Where[1] = c
		}
	}
	d.Layers[2].What.Colour.Source = of("p1", 1)
	d.Layers[6].What.Roughness.Source = of("p2", 0.9)
	d.Layers[8].What.Height.Source = of("p3", 0.4)
	d.Layers[9].Where[2].Shape.Soften = 0.03
	d.Layers[17].Where[1] = clause("relief")
	for k := range 5 {
		var in []string
		for n := range d.Layers {
			if l := &d.Layers[n]; !l.Group && l.In == "" && len(in) < layers/5 {
				in = append(in, l.ID) // the lowest that lie in none yet
			}
		}
		_, mark, err := d.Apply(strata.Edit{Do: "group", Layers: in})
		check(err)
		g, _, err := d.Layer(mark)
		check(err)
		switch k {
		case 1:
			g.Where = []strata.Clause{clause("facing")}
		case 2:
			g.Opacity = 0.8
		case 3:
			g.Blend = "multiply"
		}
	}
	check(d.Check())
	return d
}

// allFromNothing evaluates the full stack once, with all that is made on the way: clouds, readings, pictures.
func allFromNothing() map[string]any {
	e := theStrata()
	profileFromHere()
	_, full, tiles := e.run("")
	return map[string]any{"seconds": round(full), "texels": e.texels, "tiles": tiles, "layers": len(e.doc.Layers)}
}

// allOneNoise drags the noise of a layer in the middle.
func allOneNoise() map[string]any {
	e := theStrata()
	l, err := e.doc.Named("layer 11")
	check(err)
	return e.dragNoise(l)
}
