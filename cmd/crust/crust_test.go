package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io"
	"math"
	"mime/multipart"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"crust/internal/core/brush"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/store"
	"crust/internal/studio"
)

// The tests run the real program: this test binary with a variable set.
func TestMain(m *testing.M) {
	if os.Getenv("CRUST_RUN") == "1" {
		main()
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func crust(t *testing.T, args ...string) (out, errs string, status int) {
	t.Helper()
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), "CRUST_RUN=1")
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		status = exit.ExitCode()
	} else if err != nil {
		t.Fatal(err)
	}
	return o.String(), e.String(), status
}

func ball(t *testing.T, dir, name string, nu, nv int) string {
	t.Helper()
	m := mesh.Sphere(nu, nv, 0.5, [3]float64{})
	m.Materials[0].Name = "ball"
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		t.Fatal(err)
	}
	name = filepath.Join(dir, name)
	if err := os.WriteFile(name, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

// one reads exactly one JSON object from standard output.
func one(t *testing.T, out string, into any) {
	t.Helper()
	d := json.NewDecoder(strings.NewReader(out))
	if err := d.Decode(into); err != nil {
		t.Fatalf("%v in %q", err, out)
	}
	if d.More() {
		t.Errorf("more than one object: %q", out)
	}
}

func TestInspectReportsTheModel(t *testing.T) {
	out, _, status := crust(t, "inspect", ball(t, t.TempDir(), "ball.glb", 24, 12), "--json")
	var r struct {
		Parts []struct{ Name string }
		Sets  []struct {
			Name      string
			Triangles int
			Density   float64 `json:"texel_density"`
		}
		Bounds struct{ Size [3]float64 }
		Checks []struct{ Kind, Severity, Set, Detail string }
	}
	one(t, out, &r)
	// A ball unrolled like a map of the world is stretched towards its poles, and nothing else.
	if len(r.Checks) != 1 || r.Checks[0].Kind != "stretched" || r.Checks[0].Severity != "know" || r.Checks[0].Set != "ball" || r.Checks[0].Detail == "" {
		t.Errorf("checks %+v", r.Checks)
	}
	if status != 0 || len(r.Parts) != 1 || len(r.Sets) != 1 || r.Sets[0].Name != "ball" || r.Sets[0].Triangles == 0 || r.Sets[0].Density == 0 || r.Bounds.Size[1] != 1 {
		t.Errorf("status %d, %+v", status, r)
	}
}

func TestBakeAndDeliverWriteTheirFiles(t *testing.T) {
	dir := t.TempDir()
	low, high := ball(t, dir, "ball.glb", 24, 12), ball(t, dir, "ball_high.glb", 100, 50)
	out, _, status := crust(t, "bake", low, "--high", high, "--maps", "ao,normal", "--size", "128", "--rays", "16", "--out", filepath.Join(dir, "maps"), "--json")
	var b struct {
		Maps []struct {
			Set, Map, File string
			Size           int
			Rays           int64
			Seconds        float64
			Rate           float64 `json:"rays_per_second"`
		}
	}
	one(t, out, &b)
	if status != 0 || len(b.Maps) != 2 || b.Maps[0].Rays < 30_000 || b.Maps[0].Rate == 0 || filepath.Base(b.Maps[1].File) != "ball_normal.png" {
		t.Fatalf("status %d, %+v", status, b)
	}
	data, err := os.ReadFile(b.Maps[1].File)
	if err != nil {
		t.Fatal(err)
	}
	if c, err := png.DecodeConfig(bytes.NewReader(data)); err != nil || c.Width != 128 {
		t.Errorf("the written map: %v, %v", c, err)
	}
	// All eight maps as floats; ranges and legends are told.
	out, _, status = crust(t, "bake", low, "--high", high, "--float", "--maps", "ao,curvature,normal,world-normal,position,thickness,id,height", "--size", "64", "--rays", "16", "--ground", "--out", filepath.Join(dir, "floats"), "--json")
	var f struct {
		Maps []struct {
			Map, File string
			Low, High float64
			Legend    []struct{ Name string }
		}
	}
	one(t, out, &f)
	if status != 0 || len(f.Maps) != 8 {
		t.Fatalf("status %d, %+v", status, f)
	}
	for _, m := range f.Maps {
		data, err := os.ReadFile(m.File)
		if err != nil || filepath.Ext(m.File) != ".exr" || !bytes.HasPrefix(data, []byte{0x76, 0x2f, 0x31, 0x01}) {
			t.Errorf("%s: %s, %v; want OpenEXR's magic number", m.Map, m.File, err)
		}
		if long := m.Map == "thickness" || m.Map == "height"; long != (m.High > 0) || (m.Map == "id") != (len(m.Legend) > 0) {
			t.Errorf("%s: range %g to %g, legend %v", m.Map, m.Low, m.High, m.Legend)
		}
	}
	to := filepath.Join(dir, "out")
	out, errs, status := crust(t, "deliver", low, "--finish", "worn-marine-paint", "--dial", "age=0.8", "--preset", "orm-green-down", "--size", "256", "--out", to, "--json")
	var d struct {
		Files []struct {
			File     string
			Channels map[string]string
			Bits     int
			Space    string `json:"colour_space"`
			Size     int
			SHA256   string
		}
	}
	one(t, out, &d)
	if status != 0 || len(d.Files) != 4 || d.Files[3].File != "wiring.txt" || d.Files[2].Bits != 16 || d.Files[0].Space != "sRGB" || len(d.Files[1].SHA256) != 64 || d.Files[1].Channels["B"] != "metallic" {
		t.Errorf("status %d, %+v", status, d)
	}
	if !strings.Contains(errs, "deliver") {
		t.Errorf("no progress on standard error: %q", errs)
	}
	for _, name := range []string{"ball_basecolor.png", "ball_orm.png", "ball_normal.png", "delivery.json"} {
		if _, err := os.Stat(filepath.Join(to, name)); err != nil {
			t.Error(err)
		}
	}
}

func TestListsAreOneObject(t *testing.T) {
	var f struct {
		Finishes []struct {
			Name  string
			Dials []struct{ Name string }
		}
	}
	out, _, _ := crust(t, "finishes", "--json")
	one(t, out, &f)
	var p struct{ Presets []struct{ Name string } }
	out, _, _ = crust(t, "presets", "--json")
	one(t, out, &p)
	if len(f.Finishes) == 0 || len(f.Finishes[0].Dials) < 3 || len(p.Presets) < 11 {
		t.Errorf("%+v, %+v", f, p)
	}
}

// Status 1 when the work failed, 2 when the call was wrong; one line that says what, where and what
// to do, nothing on standard output, no file left behind.
func TestErrorsAreOneLineWithAStatus(t *testing.T) {
	dir := t.TempDir()
	put := func(name, data string) string {
		name = filepath.Join(dir, name)
		if err := os.WriteFile(name, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
		return name
	}
	good := ball(t, dir, "ball.glb", 12, 6)
	whole, err := os.ReadFile(good)
	if err != nil {
		t.Fatal(err)
	}
	bare := put("bare.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
	textured := put("pic.obj", "mtllib pic.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
	put("pic.mtl", "newmtl a\nmap_Kd paint.png\n")
	put("paint.png", "\x89PNG\r\n\x1a\nbroken")
	to := filepath.Join(dir, "out")
	for _, c := range []struct {
		status int
		want   string
		args   []string
	}{
		{1, "no such file", []string{"inspect", filepath.Join(dir, "none.obj")}},
		{1, "the file is empty", []string{"inspect", put("empty.obj", "")}},
		{1, "line 1", []string{"inspect", put("nan.obj", "v nan 0 0\n")}},
		{1, "vertex 7", []string{"inspect", put("far.obj", "v 0 0 0\nf 1 1 7\n")}},
		{1, "cut short", []string{"bake", put("cut.glb", string(whole[:len(whole)-9])), "--out", to}},
		{1, "paint.png", []string{"inspect", textured}},
		{1, "without UVs", []string{"bake", bare, "--out", to}},
		{1, "is a folder", []string{"inspect", dir}},
		{2, "give a model", []string{"inspect"}},
		{2, "use single, material, udim", []string{"inspect", good, "--sets", "parts"}},
		{2, "not a baked map", []string{"bake", good, "--maps", "glow", "--out", to}},
		{2, "outside 64–8192", []string{"bake", good, "--size", "9", "--out", to}},
		{2, "no finish", []string{"deliver", good, "--preset", "gltf", "--finish", "chrome", "--out", to}},
		{2, "no preset", []string{"deliver", good, "--preset", "x", "--finish", "worn-marine-paint", "--out", to}},
		{2, "no dial", []string{"deliver", good, "--preset", "gltf", "--finish", "worn-marine-paint", "--dial", "x=1", "--out", to}},
		{2, "from 0 to 1", []string{"deliver", good, "--preset", "gltf", "--finish", "worn-marine-paint", "--dial", "age=3", "--out", to}},
		{2, "unknown", []string{"polish"}},
		{2, "unknown flag", []string{"inspect", good, "--shiny"}},
	} {
		out, errs, status := crust(t, c.args...)
		if status != c.status || out != "" || strings.Count(errs, "\n") != 1 || !strings.Contains(errs, c.want) || strings.Contains(errs, "goroutine") {
			t.Errorf("%v: status %d, output %q, error %q; want status %d and one line about “%s”", c.args, status, out, errs, c.status, c.want)
		}
	}
	if _, err := os.Stat(to); err == nil {
		t.Error("a failed run left its folder behind")
	}
}

// served is crust serve in a process of its own.
type served struct {
	t    *testing.T
	cmd  *exec.Cmd
	url  string
	said []string // the lines that it began with
}

// serve starts a server with more flags.
func serve(t *testing.T, data string, more ...string) *served {
	t.Helper()
	s := &served{t: t, cmd: exec.Command(os.Args[0], append([]string{"serve", "--data", data, "--addr", "127.0.0.1:0"}, more...)...)}
	s.begin()
	return s
}

func (s *served) begin() {
	s.t.Helper()
	s.cmd.Env = append(os.Environ(), "CRUST_RUN=1")
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		s.t.Fatal(err)
	}
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(s.kill)
	lines := bufio.NewReader(out)
	for s.url == "" || strings.HasPrefix(s.url, "https") && len(s.said) < 2 {
		line, err := lines.ReadString('\n')
		if err != nil {
			s.t.Fatal(err)
		}
		line = strings.TrimSpace(line)
		s.said = append(s.said, line)
		if at := strings.Index(line, "http"); at >= 0 && s.url == "" {
			s.url = line[at:]
		}
	}
}

// end ends the process as its user does.
func (s *served) end() {
	s.t.Helper()
	if err := s.cmd.Process.Signal(os.Interrupt); err != nil {
		s.t.Fatal(err)
	}
	_ = s.cmd.Wait()
}

// kill ends the process as kill -9 does.
func (s *served) kill() {
	_ = s.cmd.Process.Kill() // a second time it is gone already
	_ = s.cmd.Wait()
}

// post sends files or JSON and returns the answer.
func (s *served) post(path string, body []byte, files ...string) []byte {
	s.t.Helper()
	kind := "application/json"
	if len(files) > 0 {
		var b bytes.Buffer
		w := multipart.NewWriter(&b)
		for _, name := range files {
			data, err := os.ReadFile(name)
			if err != nil {
				s.t.Fatal(err)
			}
			f, err := w.CreateFormFile("files", filepath.Base(name))
			if err != nil {
				s.t.Fatal(err)
			}
			f.Write(data)
		}
		w.Close()
		body, kind = b.Bytes(), w.FormDataContentType()
	}
	r, err := http.Post(s.url+path, kind, bytes.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	defer r.Body.Close()
	out, err := io.ReadAll(r.Body)
	if err != nil || r.StatusCode > 299 {
		s.t.Fatalf("%s: %d %s %v", path, r.StatusCode, out, err)
	}
	return out
}

// get returns a file, nil when it is not there.
func (s *served) get(path string) []byte {
	s.t.Helper()
	r, err := http.Get(s.url + path)
	if err != nil {
		s.t.Fatal(err)
	}
	defer r.Body.Close()
	out, err := io.ReadAll(r.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	if r.StatusCode != http.StatusOK {
		return nil
	}
	return out
}

// wait polls until a map is there.
func (s *served) wait(path string) []byte {
	s.t.Helper()
	for range 600 {
		if out := s.get(path); out != nil {
			return out
		}
		time.Sleep(100 * time.Millisecond)
	}
	s.t.Fatalf("%s does not come", path)
	return nil
}

// crust bake writes what the page's bake gives, texel by texel; and a server that is killed in the middle of a bake
// leaves a folder that opens clean, with the maps that were done, and bakes on.
func TestThePageBakesTheSameAndSurvivesAKill(t *testing.T) {
	dir := t.TempDir()
	low, high := ball(t, dir, "ball.glb", 24, 12), ball(t, dir, "ball_high.glb", 100, 50)
	if _, errs, status := crust(t, "bake", low, "--high", high, "--sets", "single", "--maps", "ao,curvature,curvature-soft,normal,height,id", "--size", "128", "--rays", "64", "--samples", "4", "--out", dir); status != 0 {
		t.Fatal(errs)
	}
	data := filepath.Join(dir, "data")
	s := serve(t, data)
	s.post("/api/assets", nil, low)
	s.post("/api/assets/1/high", nil, high)
	s.post("/api/assets/1/do/settings", []byte(`{"settings":{"quality":"normal","size":128}}`))
	s.post("/api/assets/1/do/bake", []byte(`{"cells":[{"set":"asset","kind":"ao"},{"set":"asset","kind":"curvature"},{"set":"asset","kind":"normal"},{"set":"asset","kind":"height"},{"set":"asset","kind":"id"}]}`))
	page := map[string][]byte{}
	for _, kind := range []string{"ao", "curvature", "curvature-soft", "normal", "height", "id"} {
		page[kind] = s.wait("/api/assets/1/maps/" + kind + "?set=asset")
		files, err := filepath.Glob(filepath.Join(dir, "*_"+kind+".png"))
		if err != nil || len(files) != 1 {
			t.Fatalf("%s: files %v, %v", kind, files, err)
		}
		file, err := os.ReadFile(files[0])
		if err != nil {
			t.Fatal(err)
		}
		a, err := png.Decode(bytes.NewReader(file))
		if err != nil {
			t.Fatal(err)
		}
		b, err := png.Decode(bytes.NewReader(page[kind]))
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(a, b) {
			t.Errorf("%s: the command's map is not the page's", kind)
		}
	}
	// A bake that would take minutes is killed soon after it has begun.
	s.post("/api/assets/1/do/settings", []byte(`{"settings":{"quality":"final","size":4096}}`))
	s.post("/api/assets/1/do/bake", []byte(`{"cells":[{"set":"asset","kind":"ao"},{"set":"asset","kind":"thickness"}]}`))
	time.Sleep(1500 * time.Millisecond)
	s.kill()
	s = serve(t, data)
	for kind, was := range page {
		if got := s.get("/api/assets/1/maps/" + kind + "?set=asset"); !bytes.Equal(got, was) {
			t.Errorf("%s is not what it was before the kill", kind)
		}
	}
	if s.get("/api/assets/1/maps/thickness?set=asset") != nil {
		t.Error("a map that was not finished is there")
	}
	s.post("/api/assets/1/do/settings", []byte(`{"settings":{"quality":"draft","size":128}}`))
	s.post("/api/assets/1/do/bake", []byte(`{"cells":[{"set":"asset","kind":"thickness"}]}`))
	s.wait("/api/assets/1/maps/thickness?set=asset")
}

// The laid out GLB's first UV channel is the new one: inspect finds what layout reported.
func TestLayoutWritesAModelWithTheNewChannelFirst(t *testing.T) {
	dir := t.TempDir()
	file := ball(t, dir, "ball.glb", 16, 8)
	var r struct {
		Islands                int
		Used                   []float64
		Margin, Asked, Seconds float64
		Stretch                struct{ Median, Worst float64 }
		Checks                 []struct{ Kind, Severity string }
	}
	out, errs, status := crust(t, "layout", file, "--into", "one", "--margin", "6px", "--size", "512", "--out", filepath.Join(dir, "out.glb"), "--json")
	if status != 0 {
		t.Fatal(status, errs)
	}
	one(t, out, &r)
	if r.Margin != 6 || r.Asked != 6 || r.Islands < 2 || len(r.Used) != 1 || r.Used[0] < 0.5 || r.Stretch.Median < 1 || r.Stretch.Median > 1.15 || r.Seconds <= 0 {
		t.Errorf("%+v", r)
	}
	for _, c := range r.Checks {
		if c.Severity == "mend" {
			t.Errorf("the layout has %s", c.Kind)
		}
	}
	var i struct {
		Sets []struct {
			Islands int
			Used    float64
		}
	}
	out, errs, status = crust(t, "inspect", filepath.Join(dir, "out.glb"), "--json")
	if status != 0 {
		t.Fatal(status, errs)
	}
	one(t, out, &i)
	if len(i.Sets) != 1 || i.Sets[0].Islands != r.Islands || i.Sets[0].Used < r.Used[0]-0.03 || i.Sets[0].Used > r.Used[0]+0.03 {
		t.Errorf("inspect finds %+v, layout said %+v", i.Sets, r)
	}
	for _, bad := range [][]string{{"--margin", "wide"}, {"--margin", "0.7"}, {"--out", "x.obj"}, {"--into", "heap"}, {"--size", "3"}} {
		if _, errs, status := crust(t, append([]string{"layout", file}, bad...)...); status != 2 || strings.Count(errs, "\n") != 1 {
			t.Errorf("%v: status %d, %q; want 2 and one line", bad, status, errs)
		}
	}
}

// An asset goes out of a data folder as an archive and into another, by its name.
func TestPackAndUnpack(t *testing.T) {
	dir := t.TempDir()
	one, two := filepath.Join(dir, "one"), filepath.Join(dir, "two")
	st, err := store.Open(one)
	if err != nil {
		t.Fatal(err)
	}
	s := studio.New(st)
	id, err := s.Create("quay", studio.Upload{{Name: "quay.obj", Data: []byte("v 0 0 0\nv 1 0 0\nv 1 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nf 1/1 2/2 3/3\n")}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	st.Close()
	file := filepath.Join(dir, "quay.crust.zip")
	if _, errs, status := crust(t, "pack", "quay", "--data", one, "--out", file); status != 0 {
		t.Fatal(errs)
	}
	out, errs, status := crust(t, "unpack", file, "--data", two)
	if status != 0 || out != "1\n" {
		t.Fatal(out, errs)
	}
	was, _, _ := crust(t, "strata", fmt.Sprint(id), "--data", one)
	if is, _, status := crust(t, "strata", "quay", "--data", two); status != 0 || is != was || !strings.Contains(is, "Base") {
		t.Errorf("the strata are %s, they were %s", is, was)
	}
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"pack", "quay", "--data", one}, 2, "--out: name the archive"}, {[]string{"pack", "mole", "--data", one, "--out", file}, 1, "there is no asset “mole”"},
		{[]string{"pack", "quay", "--data", dir, "--out", file}, 1, "is no data folder"}, {[]string{"unpack", filepath.Join(dir, "nothing.crust.zip"), "--data", two}, 1, "there is no such file"},
		{[]string{"unpack", filepath.Join(one, "crust.db"), "--data", two}, 1, "crust.db: the archive is no sound zip"},
	} {
		if _, errs, status := crust(t, c.args...); status != c.status || !strings.Contains(errs, c.want) || strings.Count(errs, "\n") != 1 {
			t.Errorf("%v: %d, %s", c.args, status, errs)
		}
	}
}

// A square that repeats, with a stroke over its rim, goes out as an archive and is delivered from it: every map goes on from its right
// column to its left one, and from its bottom row to its top one, no more sharply than inside. The same strata lie on another model.
func TestAnArchiveIsDelivered(t *testing.T) {
	dir := t.TempDir()
	st, err := store.Open(filepath.Join(dir, "data"))
	if err != nil {
		t.Fatal(err)
	}
	s := studio.New(st)
	doc := new(strata.Document)
	lay := func(hex string, height float32, kind string, change func(c *strata.Clause)) {
		l := doc.NewLayer(hex)
		l.What.Colour.Hex = hex
		l.What.Height.On, l.What.Height.Number, l.What.Height.Blend = height != 0, height, "add"
		if kind != "" {
			c, err := doc.NewClause(kind)
			if err != nil {
				t.Fatal(err)
			}
			change(&c)
			l.Where = append(l.Where, c)
		}
		doc.Layers = append(doc.Layers, l)
	}
	lay("#6f6250", 0, "", nil)
	lay("#807c76", 8, "pattern", func(c *strata.Clause) { c.Params["form"], c.Params["size"], c.Shape.Warp = 6, 0.13, 0.01 })
	lay("#b9b2a6", 1, "noise", func(c *strata.Clause) { c.Params["size"] = 0.15 })
	lay("#2d2822", 0, "relief", func(c *strata.Clause) { c.Params["form"], c.Params["radius"], c.Params["depth"] = 1, 0.06, 0.004 })
	lay("#171513", 1, "brush", func(c *strata.Clause) { c.Strokes = strata.Strokes{1} })
	stroke := &brush.Stroke{Brush: brush.New(), Size: 0.15, Paths: [][]brush.Point{{{0.3, 0, 0.2, 0, 1, 0, 1}, {0.7, 0, 0.6, 0, 1, 0, 1}}}}
	id, err := s.CreateSquare("Quay stone", 1, doc, strata.Painting{1: stroke})
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if err := a.ChangeSettings(json.RawMessage(`{"quality":"draft","size":256}`)); err != nil {
		t.Fatal(err)
	}
	s.Close()
	st.Close()
	file, out := filepath.Join(dir, "stone.crust.zip"), filepath.Join(dir, "out")
	if _, errs, status := crust(t, "pack", "Quay stone", "--data", filepath.Join(dir, "data"), "--out", file); status != 0 {
		t.Fatal(errs)
	}
	text, errs, status := crust(t, "deliver", "--asset", file, "--preset", "separate", "--size", "512", "--out", out, "--json")
	if status != 0 {
		t.Fatal(errs)
	}
	var d struct {
		Files []struct {
			File string `json:"file"`
			Bits int    `json:"bits"`
		} `json:"files"`
	}
	if err := json.Unmarshal([]byte(text), &d); err != nil {
		t.Fatal(err)
	}
	maps := 0
	for _, f := range d.Files {
		if !strings.HasSuffix(f.File, ".png") {
			continue
		}
		maps++
		r, err := os.Open(filepath.Join(out, f.File))
		if err != nil {
			t.Fatal(err)
		}
		p, err := png.Decode(r)
		r.Close()
		if err != nil || p.Bounds().Dx() != 512 {
			t.Fatal(f.File, err)
		}
		for _, down := range []bool{false, true} {
			rim, most := 0.0, 0.0
			for at := range 512 {
				sum := 0.0
				for i := range 512 {
					a, b := p.At(at, i), p.At((at+1)%512, i)
					if down {
						a, b = p.At(i, at), p.At(i, (at+1)%512)
					}
					r, g, bl, _ := a.RGBA()
					r2, g2, bl2, _ := b.RGBA()
					sum += math.Abs(float64(r)-float64(r2)) + math.Abs(float64(g)-float64(g2)) + math.Abs(float64(bl)-float64(bl2))
				}
				if at == 511 {
					rim = sum
				} else {
					most = max(most, sum)
				}
			}
			if rim > most {
				t.Errorf("%s: across the rim neighbours differ by %.0f, inside by %.0f at the most (down %v)", f.File, rim, most, down)
			}
		}
	}
	if maps < 6 {
		t.Errorf("%d maps, want base colour, roughness, metallic, occlusion, normal and height", maps)
	}
	if _, errs, status := crust(t, "deliver", ball(t, dir, "ball.glb", 24, 12), "--asset", file, "--preset", "orm-green-down", "--size", "256", "--rays", "4", "--out", filepath.Join(dir, "ball")); status != 0 {
		t.Error(errs)
	}
	for _, bad := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"--asset", file, "--finish", "rust"}, 2, "one of them"}, {[]string{"--asset", file + "x", "--preset", "separate"}, 1, "there is no such file"},
		{[]string{"--preset", "separate"}, 2, "give a model, or an asset's archive"}, {[]string{"--asset", filepath.Join(dir, "data", "crust.db"), "--preset", "separate"}, 1, "no sound zip"},
		{[]string{"--asset", file, "--preset", "separate", "--size", "300"}, 2, "use one of"},
	} {
		if _, errs, status := crust(t, append([]string{"deliver", "--out", out}, bad.args...)...); status != bad.status || !strings.Contains(errs, bad.want) || strings.Count(errs, "\n") != 1 {
			t.Errorf("%v: %d, %s", bad.args, status, errs)
		}
	}
}

// A still is as large as asked, the same for the same seed, of an asset, an archive or a model; the light itself is read by OpenEXR's tools.
func TestStills(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	model := ball(t, dir, "ball.glb", 24, 12)
	common := []string{"still", model, "--finish", "bare-steel", "--size", "64", "--samples", "4", "--textures", "64"}
	for _, name := range []string{"a.png", "b.png"} {
		if _, errs, status := crust(t, append(common, "--out", at(name))...); status != 0 {
			t.Fatal(errs)
		}
	}
	a, err := os.ReadFile(at("a.png"))
	if err != nil {
		t.Fatal(err)
	}
	if b, _ := os.ReadFile(at("b.png")); !bytes.Equal(a, b) {
		t.Error("the same seed gives another picture")
	}
	img, err := png.Decode(bytes.NewReader(a))
	if err != nil || img.Bounds().Dx() != 64 || img.Bounds().Dy() != 48 {
		t.Fatalf("%v, %v", img.Bounds(), err)
	}
	r0, _, _, _ := img.At(2, 2).RGBA()
	r1, _, _, _ := img.At(32, 24).RGBA()
	if r0>>8 != 0x2f || r1 == r0 {
		t.Errorf("the backdrop is %#x, the ball %#x", r0>>8, r1>>8)
	}
	out, errs, status := crust(t, append(common, "--out", at("a.exr"), "--transparent", "--surroundings", "night", "--json")...)
	if status != 0 || !strings.Contains(out, `"samples":4`) {
		t.Fatal(out, errs)
	}
	if head, err := exec.Command("exrheader", at("a.exr")).CombinedOutput(); err != nil || !strings.Contains(string(head), "A, 32-bit") || !strings.Contains(string(head), "(0 0) - (63 47)") {
		t.Errorf("%v: %s", err, head)
	}
	// A turntable is numbered PNGs and one that moves, whose first is the first of them.
	if _, errs, status := crust(t, append(common, "--out", at("turn.png"), "--turntable", "3")...); status != 0 {
		t.Fatal(errs)
	}
	moving, err := os.ReadFile(at("turn.png"))
	if err != nil || bytes.Count(moving, []byte("fcTL")) != 3 || !bytes.Contains(moving, []byte("acTL\x00\x00\x00\x03")) {
		t.Errorf("%d frames, %v", bytes.Count(moving, []byte("fcTL")), err)
	}
	first, err := png.Decode(bytes.NewReader(moving))
	if err != nil || !reflect.DeepEqual(first, img) {
		t.Errorf("its first picture is another, %v", err)
	}
	one, _ := os.ReadFile(at("turn_001.png"))
	three, _ := os.ReadFile(at("turn_003.png"))
	if !bytes.Equal(one, a) || bytes.Equal(one, three) || len(three) == 0 {
		t.Error("the numbered pictures are not those of the turntable")
	}
	// Channels come as files of their own, or with the lit surface on one sheet.
	if out, errs, status := crust(t, append(common, "--out", at("c.png"), "--channel", "roughness", "--channel", "normal", "--over", "2", "--json")...); status != 0 || !strings.Contains(out, "c_roughness.png") {
		t.Fatal(out, errs)
	}
	if f, err := os.Open(at("c_normal.png")); err != nil {
		t.Error(err)
	} else if img, err := png.Decode(f); err != nil || img.Bounds().Dx() != 64 {
		t.Error(img.Bounds(), err)
	} else if r, _, b, _ := img.At(32, 24).RGBA(); r>>8 < 100 || r>>8 > 156 || b>>8 < 230 {
		t.Errorf("the normal in the middle is %d, %d", r>>8, b>>8)
	}
	if _, errs, status := crust(t, append(common, "--out", at("sheet.png"), "--channel", "lit", "--channel", "base", "--sheet")...); status != 0 {
		t.Fatal(errs)
	}
	if f, err := os.Open(at("sheet.png")); err != nil {
		t.Error(err)
	} else if c, err := png.DecodeConfig(f); err != nil || c.Width != 2*64+3*9 {
		t.Error(c.Width, err)
	}
	for _, bad := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{model, "--out", at("x.png"), "--channel", "gloss", "--finish", "bare-steel"}, 2, "“gloss” is not a channel"},
		{[]string{model, "--finish", common[3], "--out", at("x.png"), "--size", "64", "--textures", "64", "--all-frames"}, 1, "has no frames yet"},
		{[]string{model, "--out", at("x.exr"), "--turntable", "4", "--finish", "bare-steel"}, 2, "--turntable 4"}, {[]string{model, "--out", at("x.png")}, 2, "give a finish or strata"}, {[]string{model, "--finish", "nothing", "--out", at("x.png")}, 2, "--finish"},
		{[]string{model, "--finish", common[3]}, 2, "--out: name the file"}, {[]string{model, "--finish", common[3], "--out", at("x.png"), "--size", "5"}, 2, "is not offered"},
		{[]string{model, "--finish", common[3], "--out", at("x.png"), "--size", "64", "--textures", "64", "--frame", "front"}, 1, "there is no frame “front”"},
		{[]string{model, "--finish", common[3], "--out", at("x.png"), "--size", "64", "--textures", "64", "--surroundings", "moon"}, 2, "“moon” are no surroundings"},
		{[]string{"nobody", "--data", dir, "--out", at("x.png")}, 1, "is no data folder"},
	} {
		if _, errs, status := crust(t, append([]string{"still"}, bad.args...)...); status != bad.status || !strings.Contains(errs, bad.want) || strings.Count(errs, "\n") > 9 {
			t.Errorf("%v: %d, %s", bad.args, status, errs)
		}
	}
	if _, err := os.Stat(at("x.png")); err == nil {
		t.Error("something was written")
	}
}
