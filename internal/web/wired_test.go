package web

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/deliver"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// readersPage loads a delivered document with the readers of npm's three, which are nobody's here, and says what they found.
const readersPage = `<!doctype html><script type="importmap">{"imports": {"three": "/three/build/three.module.js", "three/webgpu": "/three/build/three.webgpu.js", "three/tsl": "/three/build/three.tsl.js", "three/addons/": "/three/examples/jsm/"}}</script>
<script type="module">
window.mtlx = async (folder, name) => {
  const { MaterialXLoader } = await import('three/addons/loaders/MaterialXLoader.js');
  const loader = new MaterialXLoader().setPath('/out/' + folder + '/');
  const got = await loader.loadAsync(name);
  return JSON.stringify({ materials: Object.keys(got.materials), faults: [...(got.errors || []), ...(got.warnings || [])].map(e => e.message) });
};
window.usd = async (folder, name) => {
  const { USDLoader } = await import('three/addons/loaders/USDLoader.js');
  const text = await (await fetch('/out/' + folder + '/' + name)).text();
  const group = new USDLoader().parse(text, '/out/' + folder + '/');
  const out = { materials: [], triangles: 0, maps: {} };
  group.traverse(o => {
    if (!o.isMesh) return;
    const g = o.geometry;
    out.triangles += (g.index ? g.index.count : g.attributes.position.count) / 3;
    for (const m of [o.material].flat()) { for (const k of ['map', 'normalMap', 'roughnessMap', 'metalnessMap', 'aoMap']) if (m[k]) out.maps[k] = (out.maps[k] || 0) + 1; }
  });
  return JSON.stringify(out);
};
window.ready = true;
</script>`

// wiredJob is a delivery of two balls: two sets, or two UDIM tiles.
func wiredJob(t *testing.T, preset, split string) deliver.Job {
	t.Helper()
	m := mesh.Sphere(24, 12, 0.5, [3]float64{})
	m.Materials[0].Name = "hull & co"
	o := mesh.Sphere(24, 12, 0.5, [3]float64{2, 0, 0})
	o.Materials[0].Name, o.Parts[0] = "lamp", "lamp"
	if split == uv.PerTile {
		for i := range o.UVs {
			o.UVs[i].X++
		}
	}
	m.Append(o)
	sets, err := uv.Sets(m, split)
	if err != nil {
		t.Fatal(err)
	}
	p, err := deliver.PresetOf(preset)
	if err != nil {
		t.Fatal(err)
	}
	doc := new(strata.Document)
	l := doc.NewLayer("all")
	l.What.Emissive = strata.Value{On: true, Hex: "#402010", Blend: "over", Opacity: 1}
	l.What.Opacity = strata.Value{On: true, Number: 0.5, Blend: "over", Opacity: 1}
	l.What.Height = strata.Value{On: true, Number: 2, Blend: "add", Opacity: 1}
	noise, err := doc.NewClause("noise")
	if err != nil {
		t.Fatal(err)
	}
	l.Where = []strata.Clause{noise}
	doc.Layers = []strata.Layer{l}
	return deliver.Job{Asset: "two balls", Model: m, Sets: sets, Maps: func(string) (map[string]*bake.Map, error) { return nil, nil }, Document: doc, Preset: p, Size: 64, Aside: t.TempDir()}
}

// MaterialX documents and USD text are read by readers of others without a complaint, with all materials, triangles and pictures.
func TestWiredDocumentsAreReadByOthers(t *testing.T) {
	t.Parallel()
	root, err := filepath.Abs("../../testdata/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	out := t.TempDir()
	mux := http.NewServeMux()
	mux.Handle("/three/", http.FileServer(http.Dir(root)))
	mux.Handle("/out/", http.StripPrefix("/out/", http.FileServer(http.Dir(out))))
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, readersPage)
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	chromium, err := theBrowser()
	if err != nil {
		t.Fatal(err)
	}
	b, err := chromium.Incognito()
	if err != nil {
		t.Fatal(err)
	}
	defer b.MustClose()
	page := b.MustPage(server.URL).Timeout(5 * time.Minute)
	page.MustWait(`() => window.ready`)
	for n, c := range []struct {
		preset, split, file string
		materials           string
	}{
		{"materialx", uv.PerMaterial, "two balls.mtlx", "hull___co lamp"},
		{"materialx", uv.PerTile, "two balls.mtlx", "two_balls"},
		{"usd-preview", uv.PerMaterial, "two balls.usda", ""},
	} {
		j := wiredJob(t, c.preset, c.split)
		d, err := deliver.Run(context.Background(), j)
		if err != nil {
			t.Fatal(err)
		}
		dir := filepath.Join(out, fmt.Sprint(n))
		if _, err := d.WriteFolder(dir, false); err != nil {
			t.Fatal(err)
		}
		d.Close()
		read := map[bool]string{true: "mtlx", false: "usd"}[strings.HasSuffix(c.file, "mtlx")]
		got := page.MustEval(`(read, folder, name) => window[read](folder, name).catch(e => JSON.stringify({ faults: [String(e)] }))`, read, fmt.Sprint(n), c.file).Str()
		var found struct {
			Materials []string
			Faults    []string
			Triangles int
			Maps      map[string]int
		}
		if err := json.Unmarshal([]byte(got), &found); err != nil {
			t.Fatal(got)
		}
		// A reader that knows no UDIM finds no picture of that name.
		if c.split == uv.PerTile {
			kept := found.Faults[:0]
			for _, f := range found.Faults {
				if !strings.Contains(f, "UDIM") {
					kept = append(kept, f)
				}
			}
			found.Faults = kept
		}
		if len(found.Faults) > 0 || strings.Join(found.Materials, " ") != c.materials {
			t.Errorf("%s, %s: materials %v, faults %v", c.preset, c.split, found.Materials, found.Faults)
		}
		if read == "usd" && (found.Triangles != len(j.Model.Tris) || found.Maps["map"] != 2 || found.Maps["normalMap"] != 2 || found.Maps["roughnessMap"] != 2 || found.Maps["metalnessMap"] != 2 || found.Maps["aoMap"] != 2) {
			t.Errorf("USD: %s", got)
		}
	}
}
