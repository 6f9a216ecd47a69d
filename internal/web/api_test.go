package web

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"math"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/store"
	"crust/internal/studio"
)

// desk is a server without a browser.
type desk struct {
	t      *testing.T
	studio *studio.Studio
	server *httptest.Server
	web    *Server
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	st, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	d := &desk{t: t, studio: studio.New(st)}
	d.studio.Root = t.TempDir()
	d.server = httptest.NewUnstartedServer(nil)
	srv, err := New(d.studio, d.server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	d.web, d.server.Config.Handler = srv, srv
	d.server.Start()
	t.Cleanup(func() { d.server.CloseClientConnections(); d.server.Close(); d.studio.Close(); st.Close() })
	return d
}

func (d *desk) do(method, path string, body io.Reader, kind string) (int, []byte, http.Header) {
	d.t.Helper()
	q, err := http.NewRequest(method, d.server.URL+path, body)
	if err != nil {
		d.t.Fatal(err)
	}
	if kind != "" {
		q.Header.Set("Content-Type", kind)
	}
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		d.t.Fatal(err)
	}
	defer r.Body.Close()
	data, err := io.ReadAll(r.Body)
	if err != nil {
		d.t.Fatal(err)
	}
	return r.StatusCode, data, r.Header
}

func (d *desk) upload(path string, files map[string][]byte) (int, []byte) {
	d.t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for name, data := range files {
		f, err := w.CreateFormFile("files", name)
		if err != nil {
			d.t.Fatal(err)
		}
		f.Write(data)
	}
	w.Close()
	code, out, _ := d.do("POST", path, &b, w.FormDataContentType())
	return code, out
}

// ball makes an asset of a sphere whose UVs lie on tile 1002 when shifted.
func (d *desk) ball() {
	d.t.Helper()
	m := mesh.Sphere(24, 12, 0.5, [3]float64{})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		d.t.Fatal(err)
	}
	if code, out := d.upload("/api/assets", map[string][]byte{"ball.glb": b.Bytes()}); code != http.StatusCreated || string(out) != "{\"id\":1}\n" {
		d.t.Fatalf("%d %s", code, out)
	}
}

func (d *desk) call(what, body string) (int, string) {
	d.t.Helper()
	code, out, _ := d.do("POST", "/api/assets/1/do/"+what, strings.NewReader(body), "application/json")
	return code, string(out)
}

func (d *desk) bake() {
	d.t.Helper()
	if code, out := d.call("settings", `{"settings":{"quality":"draft","size":128,"radius":0.05}}`); code != 204 {
		d.t.Fatalf("settings: %d %s", code, out)
	}
	if code, out := d.call("bake", `{"cells":[{"set":"asset","kind":"ao"},{"set":"asset","kind":"world-normal"}]}`); code != 204 {
		d.t.Fatalf("bake: %d %s", code, out)
	}
	a, err := d.studio.Open(1)
	if err != nil {
		d.t.Fatal(err)
	}
	a.WaitJob(nil)
}

// The model comes in the layout that the viewport reads: lengths, unit normals, V downwards.
func TestMeshIsPackedForTheViewport(t *testing.T) {
	d := newDesk(t)
	d.ball()
	code, data, _ := d.do("GET", "/api/assets/1/mesh", nil, "")
	if code != 200 {
		t.Fatalf("%d %s", code, data)
	}
	n := binary.LittleEndian.Uint32(data)
	var head struct {
		Sets []struct {
			Name              string
			Vertices, Indices int
		}
		Min, Max [3]float32
	}
	if err := json.Unmarshal(data[4:4+n], &head); err != nil {
		t.Fatal(err)
	}
	s := head.Sets[0]
	if n%4 != 0 || len(data) != 4+int(n)+4*(s.Vertices*(3+3+4+2)+s.Indices) || head.Max[1] != 0.5 {
		t.Fatalf("%d bytes for %+v", len(data), head)
	}
	f := func(at int) float64 {
		return float64(math.Float32frombits(binary.LittleEndian.Uint32(data[4+int(n)+4*at:])))
	}
	v := s.Vertices
	for i := range v {
		y, ny := f(3*i+1), f(3*v+3*i+1)
		if l := math.Hypot(math.Hypot(f(3*v+3*i), ny), f(3*v+3*i+2)); math.Abs(l-1) > 1e-4 {
			t.Fatalf("normal %d has length %g", i, l)
		}
		if w := f(6*v + 4*i + 3); w != 1 && w != -1 {
			t.Fatalf("tangent %d has sign %g", i, w)
		}
		// The sphere's V grows from pole to pole; packed, it shrinks.
		if tv := f(10*v + 2*i + 1); math.Abs((1-tv-0.02)/0.96-(math.Asin(2*y)/math.Pi+0.5)) > 2e-3 {
			t.Fatalf("V of vertex %d at height %.3f is %.3f", i, y, tv)
		}
	}
	for k := range s.Indices {
		if i := binary.LittleEndian.Uint32(data[4+int(n)+4*(12*v+k):]); int(i) >= v {
			t.Fatalf("index %d of %d", i, v)
		}
	}
}

func TestFlatMapIsSVG(t *testing.T) {
	d := newDesk(t)
	d.ball()
	code, data, h := d.do("GET", "/api/assets/1/flat?set=asset", nil, "")
	if code != 200 || h.Get("Content-Type") != "image/svg+xml" {
		t.Fatalf("%d %s", code, h)
	}
	x := xml.NewDecoder(bytes.NewReader(data))
	paths := 0
	for {
		tok, err := x.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if e, ok := tok.(xml.StartElement); ok && e.Name.Local == "path" {
			paths++
		}
	}
	if paths != 13 || !bytes.Contains(data, []byte(">1001<")) {
		t.Errorf("%d paths, want 11 of the grid, the faces and the rims, and the tile's number", paths)
	}
}

func TestMapsComeWholeAndSmall(t *testing.T) {
	d := newDesk(t)
	d.ball()
	d.bake()
	code, data, h := d.do("GET", "/api/assets/1/maps/world-normal?set=asset", nil, "")
	whole, err := png.Decode(bytes.NewReader(data))
	if code != 200 || err != nil || whole.Bounds().Dx() != 128 || !strings.Contains(h.Get("Content-Disposition"), "asset_world-normal.png") {
		t.Fatalf("%d, %v, %v", code, err, h)
	}
	code, data, _ = d.do("GET", "/api/assets/1/maps/world-normal?set=asset&px=64", nil, "")
	small, err := png.Decode(bytes.NewReader(data))
	if code != 200 || err != nil || small.Bounds().Dx() != 64 {
		t.Fatalf("%d, %v", code, err)
	}
	// A small one is the mean of the whole.
	for y := range 64 {
		for x := range 64 {
			sum := uint32(0)
			for k := range 4 {
				r, _, _, _ := whole.At(2*x+k%2, 2*y+k/2).RGBA()
				sum += r
			}
			r, _, _, _ := small.At(x, y).RGBA()
			if math.Abs(float64(r>>8)-float64(sum/4)/257) > 1 {
				t.Fatalf("(%d, %d): %d, the mean is %d", x, y, r>>8, sum/4/257)
			}
		}
	}
	for path, want := range map[string]int{"/api/assets/1/maps/glow?set=asset": 404, "/api/assets/1/maps/ao?set=none": 404, "/api/assets/1/maps/ao?set=asset&px=5": 422, "/api/assets/1/maps/curvature?set=asset": 404} {
		if code, data, _ := d.do("GET", path, nil, ""); code != want || !json.Valid(data) {
			t.Errorf("%s: %d %s, want %d", path, code, data, want)
		}
	}
}

// Every refusal is one sentence as JSON with a fitting status.
func TestRefusalsAreOneSentence(t *testing.T) {
	d := newDesk(t)
	d.ball()
	for _, c := range []struct {
		method, path, body string
		want               int
	}{
		{"GET", "/api/assets/99/mesh", "", 404},
		{"GET", "/api/assets/x/mesh", "", 404},
		{"GET", "/api/nothing", "", 404},
		{"GET", "/api/assets/1/picture", "", 404},
		{"GET", "/api/assets/1/flat?set=none", "", 404},
		{"GET", "/api/assets/1/deliveries/7/zip", "", 404},
		{"POST", "/api/assets", "no form", 422},
		{"POST", "/api/demo", "", 404},
		{"POST", "/api/assets/1/do/fly", "{}", 404},
		{"POST", "/api/assets/1/do/size", `{"number":77}`, 422},
		{"POST", "/api/assets/1/do/size", `{`, 422},
		{"POST", "/api/assets/1/do/split", `{"value":"parts"}`, 422},
		{"POST", "/api/assets/1/do/rename", `{"value":""}`, 422},
		{"POST", "/api/assets/1/do/bake", `{"cells":[]}`, 422},
		{"POST", "/api/assets/1/do/bake", `{"cells":[{"set":"gone","kind":"ao"}]}`, 422},
		{"POST", "/api/assets/1/do/shipping", `{"shipping":{"preset":"x","size":512,"to":"zip"}}`, 422},
		{"PUT", "/api/assets/1/picture", "not a picture", 422},
		{"PUT", "/api/assets/1/mesh", "", 405},
		{"DELETE", "/api/assets/1/do/bake", "", 405},
	} {
		kind := ""
		if strings.HasPrefix(c.body, "{") {
			kind = "application/json"
		}
		code, data, _ := d.do(c.method, c.path, strings.NewReader(c.body), kind)
		var e struct{ Error string }
		if err := json.Unmarshal(data, &e); err != nil || code != c.want || e.Error == "" || strings.Contains(e.Error, "\n") {
			t.Errorf("%s %s: %d %s, want %d and a sentence", c.method, c.path, code, data, c.want)
		}
	}
	if code, out := d.upload("/api/assets", map[string][]byte{"a.glb": {}, "b.glb": {}}); code != 422 || !strings.Contains(string(out), "both models") {
		t.Errorf("two models at once: %d %s", code, out)
	}
	if code, _, _ := d.do("GET", "/assets/1/polish", nil, ""); code != 404 {
		t.Errorf("an unknown stage answers %d", code)
	}
}

// Pages name everything they need on this server, and it is there.
func TestPagesShipWhatTheyNeed(t *testing.T) {
	d := newDesk(t)
	d.ball()
	for _, page := range []string{"/", "/assets/1/paint"} {
		code, data, h := d.do("GET", page, nil, "")
		if code != 200 || !strings.Contains(h.Get("Content-Security-Policy"), "default-src 'self'") {
			t.Fatalf("%s: %d %v", page, code, h)
		}
		for _, part := range strings.Split(string(data), `"`) {
			if strings.HasPrefix(part, "http") && !strings.HasPrefix(part, "http://www.w3.org/") {
				t.Errorf("%s reaches out to %s", page, part)
			}
			if strings.HasPrefix(part, "/static/") {
				if code, _, _ := d.do("GET", part, nil, ""); code != 200 {
					t.Errorf("%s needs %s: %d", page, part, code)
				}
			}
		}
	}
	for _, path := range []string{"/static/vendor/three/three.core.js", "/static/vendor/fonts/atkinson-hyperlegible-next-latin-wght-normal.woff2", "/static/values.js", "/api/surroundings/quay/256", "/api/surroundings/night/128", "/api/surroundings/shed/picture"} {
		if code, _, _ := d.do("GET", path, nil, ""); code != 200 {
			t.Errorf("%s: %d", path, code)
		}
	}
	if code, _, _ := d.do("GET", "/static/../templates/home.html", nil, ""); code == 200 {
		t.Error("a file outside static is served")
	}
}

// The socket tells state and strata first, then pictures as rectangles with a head, waits for
// acknowledgements, and answers edits by number.
func TestSocketSpeaksItsProtocol(t *testing.T) {
	d := newDesk(t)
	d.ball()
	if code, out := d.call("size", `{"number":512}`); code != 204 {
		t.Fatalf("%d %s", code, out)
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	ws, _, err := websocket.Dial(ctx, strings.Replace(d.server.URL, "http", "ws", 1)+"/api/assets/1/socket", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer ws.CloseNow()
	ws.SetReadLimit(8 << 20)
	say := func(m string) {
		t.Helper()
		if err := ws.Write(ctx, websocket.MessageText, []byte(m)); err != nil {
			t.Fatal(err)
		}
	}
	covered := map[string]map[[2]int]bool{} // squares of 64 texels that have come, by picture
	sent := map[string]int{}                // texels
	wholes := map[string]bool{}
	// next reads to the next event named t; pictures on the way are counted and acknowledged.
	next := func(name string) map[string]any {
		t.Helper()
		for {
			kind, data, err := ws.Read(ctx)
			if err != nil {
				t.Fatalf("waiting for %s: %v", name, err)
			}
			if kind == websocket.MessageBinary {
				n := binary.LittleEndian.Uint32(data)
				var h struct {
					Set, View        string
					Full             bool
					Size, X, Y, W, H int
				}
				if err := json.Unmarshal(data[4:4+n], &h); err != nil || len(data) != 4+int(n)+4*h.W*h.H {
					t.Fatalf("%v: %d bytes for %+v", err, len(data), h)
				}
				k := fmt.Sprintf("%s %v", h.View, h.Full)
				if covered[k] == nil {
					covered[k] = map[[2]int]bool{}
				}
				for y := h.Y; y < h.Y+h.H; y += 64 {
					for x := h.X; x < h.X+h.W; x += 64 {
						covered[k][[2]int{x, y}] = true
					}
				}
				sent[k] += h.W * h.H
				say(`{"t":"ack"}`)
				continue
			}
			var e map[string]any
			if err := json.Unmarshal(data, &e); err != nil {
				t.Fatal(err)
			}
			if e["t"] == "whole" {
				wholes[fmt.Sprintf("%v %v", e["view"], e["full"])] = true
			}
			if e["t"] == name {
				return e
			}
		}
	}
	if s := next("state"); s["model"] != "ball.glb" {
		t.Errorf("state %v", s)
	}
	layer := next("doc")["layers"].([]any)[0].(map[string]any)
	next("coverage")
	for len(wholes) < 6 {
		next("whole")
	}
	for _, v := range []string{"base", "orm", "normal"} {
		// Squares whose empty texels take their value from another may come twice.
		full, coarse := v+" true", v+" false"
		if len(covered[full]) != 64 || len(covered[coarse]) != 4 || sent[full] > 2*512*512 || sent[coarse] > 2*128*128 {
			t.Errorf("%s: %d full and %d coarse squares in %d and %d texels, want all 64 and 4, hardly one twice", v, len(covered[full]), len(covered[coarse]), sent[full], sent[coarse])
		}
	}
	say(fmt.Sprintf(`{"t":"edit","n":7,"edit":{"do":"set","layer":%q,"path":"opacity","value":0.5}}`, layer["id"]))
	if a := next("answer"); a["n"] != 7.0 || a["error"] != nil {
		t.Errorf("answer %v", a)
	}
	say(fmt.Sprintf(`{"t":"edit","n":8,"edit":{"do":"set","layer":%q,"path":"opacity","value":5}}`, layer["id"]))
	if a := next("answer"); a["n"] != 8.0 || !strings.Contains(a["error"].(string), "0 to 1") {
		t.Errorf("answer %v", a)
	}
	say(`not json`)
	say(`{"t":"unknown"}`)
	say(`{"t":"undo","n":9}`)
	if a := next("answer"); a["n"] != 9.0 {
		t.Errorf("answer %v", a)
	}
}

// A picture made for the UVs before a layout comes back on the new ones: red above the ball's middle
// and blue below it, as it was; a preview of a split changes nothing; a bad name comes with a proposal.
func TestPicturesAreCarriedOver(t *testing.T) {
	d := newDesk(t)
	d.ball()
	var plain bytes.Buffer
	halves := image.NewNRGBA(image.Rect(0, 0, 128, 128))
	for i := range 128 * 128 {
		c := color.NRGBA{R: 255, A: 255}
		if i/128 >= 64 { // V grows from pole to pole
			c = color.NRGBA{B: 255, A: 255}
		}
		halves.SetNRGBA(i%128, i/128, c)
	}
	if err := png.Encode(&plain, halves); err != nil {
		t.Fatal(err)
	}
	if code, out := d.upload("/api/assets/1/carry?set=asset&content=colour", map[string][]byte{"a.png": plain.Bytes()}); code != 422 || !strings.Contains(string(out), "not laid out here") {
		t.Errorf("before any layout: %d %s", code, out)
	}
	if code, out, _ := d.do("GET", "/api/assets/1/preview/udim", nil, ""); code != 200 || !strings.Contains(string(out), `"tile":1001`) {
		t.Errorf("preview: %d %s", code, out)
	}
	if code, out := d.call("name-set", `{"key":"asset","value":"lpt1"}`); code != 422 || !strings.Contains(out, `"proposal":"lpt1_"`) {
		t.Errorf("a reserved name: %d %s", code, out)
	}
	if code, out := d.call("layout", `{"layout":{"into":"one","margin":0.02}}`); code != 204 {
		t.Fatalf("%d %s", code, out)
	}
	a, err := d.studio.Open(1)
	if err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	for _, q := range []struct{ query, want string }{{"set=none&content=colour", "had no set"}, {"set=asset&content=smell", "not “smell”"}} {
		if code, out := d.upload("/api/assets/1/carry?"+q.query, map[string][]byte{"a.png": plain.Bytes()}); code != 422 || !strings.Contains(string(out), q.want) {
			t.Errorf("%s: %d %s", q.query, code, out)
		}
	}
	code, out := d.upload("/api/assets/1/carry?set=asset&content=colour", map[string][]byte{"a.png": plain.Bytes()})
	if code != 200 {
		t.Fatalf("%d %s", code, out)
	}
	img, err := png.Decode(bytes.NewReader(out))
	if err != nil || img.Bounds().Dx() != 128 {
		t.Fatalf("%v, %v", img, err)
	}
	m, _ := a.Model()
	right, all := 0, 0
	for tri := range m.Tris {
		p, q, r := m.Corners(tri)
		mid := geom.Bary(p, q, r, 1./3, 1./3)
		if m.Area(tri) < 1e-4 || mid.Y > -0.06 && mid.Y < 0.06 {
			continue
		}
		i := m.Tris[tri]
		at := m.UVs[i[0]].Add(m.UVs[i[1]]).Add(m.UVs[i[2]]).Mul(1. / 3)
		red, _, blue, _ := img.At(int(at.X*128), int((1-at.Y)*128)).RGBA()
		all++
		if red > blue == (mid.Y > 0) {
			right++
		}
	}
	if all < 100 || right != all {
		t.Errorf("%d of %d faces kept their half's colour", right, all)
	}
}

// When the data folder fails, the answer is 500 and says what to do; the server goes on.
func TestOurOwnFaultsAnswer500(t *testing.T) {
	d := newDesk(t)
	d.ball()
	if code, _, _ := d.do("GET", "/api/assets/1/mesh", nil, ""); code != http.StatusOK { // it is open from now on
		t.Fatal(code)
	}
	if err := d.studio.Store.Close(); err != nil {
		t.Fatal(err)
	}
	code, out, _ := d.do("GET", "/api/assets/7/mesh", nil, "")
	if code != http.StatusInternalServerError || !strings.Contains(string(out), "data folder") || strings.Contains(string(out), "record not found") {
		t.Errorf("%d %s, want 500 and a word about the data folder", code, out)
	}
	if code, out := d.call("rename", `{"value":"new"}`); code != http.StatusInternalServerError {
		t.Errorf("%d %s", code, out)
	}
	if code, _, _ := d.do("GET", "/api/assets/1/mesh", nil, ""); code != http.StatusOK {
		t.Errorf("what is in memory is answered with %d", code)
	}
}
