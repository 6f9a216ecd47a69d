package web

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"os"
	"slices"
	"strconv"

	"github.com/labstack/echo/v5"

	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/uv"
	"crust/internal/store"
	"crust/internal/studio"
)

// maxPicture limits a card's picture.
const maxPicture = 2 << 20

func (s *Server) picture(c *echo.Context) error {
	id, err := echo.PathParam[uint](c, "id")
	if err != nil {
		return store.ErrNone
	}
	row, err := s.studio.Store.Asset(id)
	if err != nil {
		return err
	}
	if len(row.Picture) == 0 {
		return fmt.Errorf("the asset's picture: %w", store.ErrNone)
	}
	c.Response().Header().Set("Cache-Control", "no-cache")
	return c.Blob(http.StatusOK, "image/png", row.Picture)
}

func (s *Server) putPicture(c *echo.Context, a *studio.Asset) error {
	data, err := io.ReadAll(http.MaxBytesReader(c.Response(), c.Request().Body, maxPicture))
	if err != nil {
		return err
	}
	if _, err := imgfile.Check("the card's picture", data); err != nil {
		return err
	}
	if err := a.SetPicture(data); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// mesh answers with the model for the viewport: the length of a JSON head in four bytes, the head
// padded to four, then for each set, its triangles part by part, positions, normals, tangents and UVs as floats and indices as
// 32-bit numbers. UVs are those of the set's own square, with V downwards as WebGL pictures have it.
func (s *Server) mesh(c *echo.Context, a *studio.Asset) error {
	m, sets := a.Model()
	if split := c.QueryParam("split"); split != "" {
		var err error
		if sets, err = a.Preview(split); err != nil {
			return err
		}
	}
	type head struct {
		Name     string `json:"name"`
		Vertices int    `json:"vertices"`
		Indices  int    `json:"indices"`
		// Parts are runs of indices: the part's number in the model, the first index and how many.
		Parts [][3]int `json:"parts"`
	}
	var heads []head
	var body bytes.Buffer
	tangents := m.Tangents()
	f32 := func(v ...float32) {
		var b [4]byte
		for _, x := range v {
			binary.LittleEndian.PutUint32(b[:], math.Float32bits(x))
			body.Write(b[:])
		}
	}
	for i := range sets {
		tris := slices.Clone(sets[i].Tris)
		slices.SortStableFunc(tris, func(a, b int32) int { return int(m.Part[a] - m.Part[b]) })
		var parts [][3]int
		for k, t := range tris {
			if n := len(parts); n == 0 || parts[n-1][0] != int(m.Part[t]) {
				parts = append(parts, [3]int{int(m.Part[t]), 3 * k, 0})
			}
			parts[len(parts)-1][2] += 3
		}
		order, tan, idx := m.Indexed(tris, tangents)
		for _, v := range order {
			p := m.Positions[v]
			f32(p.X, p.Y, p.Z)
		}
		for _, v := range order {
			n := m.Normals[v]
			f32(n.X, n.Y, n.Z)
		}
		for _, t := range tan {
			f32(t.X, t.Y, t.Z, t.W)
		}
		for _, v := range order {
			t := m.UVs[v].Sub(sets[i].Origin)
			f32(t.X, 1-t.Y)
		}
		for _, j := range idx {
			body.Write(binary.LittleEndian.AppendUint32(nil, j))
		}
		heads = append(heads, head{sets[i].Key, len(order), len(idx), parts})
	}
	b := m.Bounds()
	text, err := json.Marshal(map[string]any{"sets": heads, "min": b.Min.Array(), "max": b.Max.Array()})
	if err != nil {
		return err
	}
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	out := binary.LittleEndian.AppendUint32(nil, uint32(len(text)))
	return c.Blob(http.StatusOK, "application/octet-stream", append(append(out, text...), body.Bytes()...))
}

func (s *Server) checks(c *echo.Context, a *studio.Asset) error {
	look, err := a.Findings(c.Request().Context())
	if err != nil {
		return err
	}
	_, sets := a.Model()
	type of struct {
		Islands int     `json:"islands"`
		Used    float64 `json:"used"`
	}
	bySet := map[string]of{}
	for i := range sets {
		if i < len(look.Islands) {
			bySet[sets[i].Key] = of{look.Islands[i], look.Used[i]}
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"findings": look.Findings, "sets": bySet})
}

// maxShown is how many faces of a finding's place are sent to be shown.
const maxShown = 6000

// placeShape answers with what a place of a finding looks like: its faces' corners on the model as nine
// numbers each, and polygons on the flat map of its set.
func (s *Server) placeShape(c *echo.Context, a *studio.Asset) error {
	look, err := a.Findings(c.Request().Context())
	if err != nil {
		return err
	}
	n, err := echo.PathParam[int](c, "n")
	k, err2 := echo.PathParam[int](c, "place")
	if err != nil || err2 != nil || n < 0 || n >= len(look.Findings) || k < 0 || k >= len(look.Findings[n].Places) {
		return fmt.Errorf("that finding: %w", store.ErrNone)
	}
	m, sets := a.Model()
	p := &look.Findings[n].Places[k]
	tris := p.Tris[:min(len(p.Tris), maxShown)]
	var origin geom.Vec2
	if set, ok := uv.Find(sets, p.Set); ok {
		origin = set.Origin
	}
	faces := make([]float32, 0, 9*len(tris))
	polygons := p.Shape
	for _, t := range tris {
		if int(t) >= len(m.Tris) {
			return fmt.Errorf("that finding: %w", store.ErrNone)
		}
		var poly []geom.Vec2
		for _, v := range m.Tris[t] {
			q := m.Positions[v]
			faces = append(faces, q.X, q.Y, q.Z)
			poly = append(poly, m.UVs[v].Sub(origin))
		}
		if p.Shape == nil {
			polygons = append(polygons, poly)
		}
	}
	flat := make([][]float32, 0, len(polygons))
	for _, poly := range polygons {
		var out []float32
		for _, q := range poly {
			out = append(out, q.X, q.Y)
		}
		flat = append(flat, out)
	}
	return c.JSON(http.StatusOK, map[string]any{"faces": faces, "flat": flat})
}

// maxDrawn is up to how many faces are drawn one by one on the flat map.
const maxDrawn = 60_000

// flat draws a set's flat map as SVG, 1000 units a side, growing beyond when UVs do.
func (s *Server) flat(c *echo.Context, a *studio.Asset) error {
	m, sets := a.Model()
	if split := c.QueryParam("split"); split != "" {
		var err error
		if sets, err = a.Preview(split); err != nil {
			return err
		}
	}
	name := c.QueryParam("set")
	for i := range sets {
		set := &sets[i]
		if set.Key != name {
			continue
		}
		var b bytes.Buffer
		x0, y0, x1, y1 := set.Bounds(m)
		fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="%.0f %.0f %.0f %.0f"><g class="grid">`, x0*1000-20, (1-y1)*1000-20, (x1-x0)*1000+40, (y1-y0)*1000+40)
		for k := 0; k <= 10; k++ {
			fmt.Fprintf(&b, `<path d="M%d 0V1000M0 %dH1000"/>`, k*100, k*100)
		}
		b.WriteString(`</g><path class="faces" d="`)
		at := func(u, v float32) {
			b.WriteString(strconv.FormatFloat(float64(u)*1000, 'f', 1, 32))
			b.WriteByte(' ')
			b.WriteString(strconv.FormatFloat(float64(1-v)*1000, 'f', 1, 32))
		}
		tris := set.Tris
		if len(tris) > maxDrawn {
			tris = nil // the rims alone show where islands lie
		}
		for _, t := range tris {
			for k, v := range m.Tris[t] {
				b.WriteByte("MLL"[k])
				p := m.UVs[v].Sub(set.Origin)
				at(p.X, p.Y)
			}
			b.WriteByte('Z')
		}
		b.WriteString(`"/><path class="rims" d="`)
		for _, e := range uv.Outline(m, set) {
			b.WriteByte('M')
			at(e[0].X, e[0].Y)
			b.WriteByte('L')
			at(e[1].X, e[1].Y)
		}
		tile := set.Tile
		if tile == 0 {
			tile = 1001
		}
		fmt.Fprintf(&b, `"/><rect class="tile" width="1000" height="1000"/><text class="tile-number" x="10" y="990">%d</text></svg>`, tile)
		return c.Blob(http.StatusOK, "image/svg+xml", b.Bytes())
	}
	return fmt.Errorf("set “%s”: %w", name, store.ErrNone)
}

// mapPicture answers with a baked map: 16 bits and whole, or with px at 8 bits and that size.
func (s *Server) mapPicture(c *echo.Context, a *studio.Asset) error {
	set, kind := c.QueryParam("set"), c.Param("kind")
	m, err := a.Map(set, kind)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-cache")
	im := &imgfile.Image{Width: m.Size, Height: m.Size, Channels: m.Channels, Bits: 16, Pix16: m.Pix}
	if px, err := strconv.Atoi(c.QueryParam("px")); err == nil {
		if px < 16 || px > 4096 {
			return errors.New("a preview has 16 to 4096 px")
		}
		im = shrink(m, min(px, m.Size))
	} else {
		attach(c, fmt.Sprintf("%s_%s.png", uv.FileName(set), kind))
	}
	data, err := imgfile.Bytes(im)
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "image/png", data)
}

// attach has the answer saved under a name.
func attach(c *echo.Context, name string) {
	c.Response().Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
}

// shrink averages a map down to n × n at 8 bits.
func shrink(m *bake.Map, n int) *imgfile.Image {
	im := &imgfile.Image{Width: n, Height: n, Channels: m.Channels, Bits: 8, Pix8: make([]uint8, n*n*m.Channels)}
	for y := range n {
		y0, y1 := y*m.Size/n, max(y*m.Size/n+1, (y+1)*m.Size/n)
		for x := range n {
			x0, x1 := x*m.Size/n, max(x*m.Size/n+1, (x+1)*m.Size/n)
			for k := range m.Channels {
				sum := 0
				for j := y0; j < y1; j++ {
					for i := x0; i < x1; i++ {
						sum += int(m.Pix[(j*m.Size+i)*m.Channels+k])
					}
				}
				im.Pix8[(y*n+x)*m.Channels+k] = uint8((sum/((y1-y0)*(x1-x0)) + 128) / 257)
			}
		}
	}
	return im
}

func (s *Server) bringMap(c *echo.Context, a *studio.Asset) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	if err := a.BringMap(c.QueryParam("set"), c.Param("kind"), u[0]); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) deliveries(c *echo.Context, a *studio.Asset) error {
	rows, err := a.Deliveries()
	if err != nil {
		return err
	}
	type row struct {
		ID      uint            `json:"id"`
		Made    string          `json:"made"`
		Preset  string          `json:"preset"`
		Title   string          `json:"title"`
		Size    int             `json:"size"`
		Folder  string          `json:"folder"`
		Zip     bool            `json:"zip"`
		Changed int             `json:"changed"`
		Note    json.RawMessage `json:"note"`
	}
	out := []row{}
	for _, d := range rows {
		_, err := os.Stat(s.studio.Store.ZipOf(&d))
		out = append(out, row{d.ID, d.Made.Format("2 Jan, 15:04"), d.Preset, d.Title, d.Size, d.Folder, err == nil, d.Changed, json.RawMessage(d.Note)})
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) deliveryZip(c *echo.Context, a *studio.Asset) error {
	rows, err := a.Deliveries()
	if err != nil {
		return err
	}
	for i := range rows {
		if fmt.Sprint(rows[i].ID) == c.Param("n") {
			attach(c, fmt.Sprintf("%s_%s_%d.zip", uv.FileName(a.Name()), rows[i].Preset, rows[i].Size))
			http.ServeFile(c.Response(), c.Request(), s.studio.Store.ZipOf(&rows[i]))
			return nil
		}
	}
	return fmt.Errorf("delivery %s: %w", c.Param("n"), store.ErrNone)
}
