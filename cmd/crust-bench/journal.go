package main

import (
	"bytes"
	"encoding/json"
	"slices"
	"time"

	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/studio"
)

// journal makes 20,000 edits of a document of 400 layers, and opens the asset anew.
func journal() map[string]any {
	s, done := freshStudio()
	defer done()
	st := s.Store
	model := mesh.Sphere(16, 8, 0.5, [3]float64{})
	data, err := glbOf(model)
	check(err)
	id, err := s.Create("many", studio.Upload{{Name: "ball.glb", Data: data}}, nil)
	check(err)
	a, err := s.Open(id)
	check(err)
	for range strata.MaxLayers - 1 {
		_, err := a.Edit(strata.Edit{Do: "add"}, false)
		check(err)
	}
	layers := a.Document().Layers
	size := func() int64 { n, err := st.Used(id); check(err); return n }
	var spent []float64
	small := size()
	for n := range 20_000 {
		v, _ := json.Marshal(float64(n%1000) / 1000)
		t := time.Now()
		_, err := a.Edit(strata.Edit{Do: "set", Layer: layers[n%len(layers)].ID, Path: "what.roughness.number", Value: v}, false)
		check(err)
		spent = append(spent, time.Since(t).Seconds())
	}
	late := spent[len(spent)-1000:]
	slices.Sort(late)
	grown := float64(size()-small) / 20_000
	again := studio.New(st)
	defer again.Close()
	t := time.Now()
	_, err = again.Open(id)
	check(err)
	return map[string]any{"layers": len(layers), "edit_ms": round(late[len(late)/2] * 1000), "edit_p99_ms": round(late[len(late)*99/100] * 1000), "open_s": round(time.Since(t).Seconds()), "bytes_an_edit": round(grown)}
}

func glbOf(m *mesh.Model) ([]byte, error) {
	var b bytes.Buffer
	err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }})
	return b.Bytes(), err
}
