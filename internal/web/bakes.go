package web

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"crust/internal/core/bake"
	"crust/internal/core/bring"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/studio"
)

// estimate answers with the seconds that each quality would take for the cells that are asked for.
func (s *Server) estimate(c *echo.Context, a *studio.Asset) error {
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 1<<20)
	var r request
	if err := c.Bind(&r); err != nil {
		return err
	}
	seconds, err := a.Estimate(c.Request().Context(), r.Cells)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, seconds)
}

// pairing answers with how parts found their high-poly.
func (s *Server) pairing(c *echo.Context, a *studio.Asset) error {
	p, err := a.Pairing(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, p)
}

// cage answers with the shells between which rays look for the high-poly: the number of vertices and of indices in four
// bytes each, the front positions and the rear ones as floats, then the indices.
func (s *Server) cage(c *echo.Context, a *studio.Asset) error {
	src, err := a.Cage(c.Request().Context())
	if err != nil {
		return err
	}
	front, rear := src.Shell()
	out := binary.LittleEndian.AppendUint32(nil, uint32(len(front)))
	out = binary.LittleEndian.AppendUint32(out, uint32(3*len(src.Low.Tris)))
	for _, list := range [][]geom.Vec3{front, rear} {
		out = appendPoints(out, list)
	}
	return c.Blob(http.StatusOK, "application/octet-stream", appendTris(out, src.Low.Tris))
}

// highMesh answers with the high-poly: counts as cage has them, positions, normals, indices.
func (s *Server) highMesh(c *echo.Context, a *studio.Asset) error {
	src, err := a.Cage(c.Request().Context())
	if err != nil {
		return err
	}
	m := src.High
	out := make([]byte, 0, 8+24*len(m.Positions)+12*len(m.Tris))
	out = binary.LittleEndian.AppendUint32(out, uint32(len(m.Positions)))
	out = binary.LittleEndian.AppendUint32(out, uint32(3*len(m.Tris)))
	out = appendPoints(appendPoints(out, m.Positions), m.Normals)
	return c.Blob(http.StatusOK, "application/octet-stream", appendTris(out, m.Tris))
}

func appendPoints(out []byte, list []geom.Vec3) []byte {
	for _, p := range list {
		for _, v := range p.Array() {
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
		}
	}
	return out
}

func appendTris(out []byte, tris [][3]uint32) []byte {
	for _, t := range tris {
		for _, v := range t {
			out = binary.LittleEndian.AppendUint32(out, v)
		}
	}
	return out
}

// missSize is the size of the pictures that show misses.
const missSize = 512

// missColours are for empty texels, those that found the high-poly, and those that missed.
var missColours = [3][3]uint8{{40, 40, 40}, {120, 122, 120}, {255, 0, 200}}

// misses answers with a picture of the places where rays of a set find no high-poly, in a loud colour, and in its head
// with how many of how many texels these are.
func (s *Server) misses(c *echo.Context, a *studio.Asset) error {
	mask, missed, err := a.Misses(c.Request().Context(), c.QueryParam("set"), missSize)
	if err != nil {
		return err
	}
	im := &imgfile.Image{Width: missSize, Height: missSize, Channels: 3, Bits: 8, Pix8: make([]uint8, 3*len(mask))}
	covered := 0
	for i, v := range mask {
		copy(im.Pix8[3*i:], missColours[v][:])
		if v > 0 {
			covered++
		}
	}
	data, err := imgfile.Bytes(im)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("X-Missed", strconv.Itoa(missed))
	h.Set("X-Texels", strconv.Itoa(covered))
	return c.Blob(http.StatusOK, "image/png", data)
}

// mapValue answers with a baked map's exact value at a place of its square, u to the right and v down, both 0–1, and
// with what it stands for.
func (s *Server) mapValue(c *echo.Context, a *studio.Asset) error {
	u, err := strconv.ParseFloat(c.QueryParam("u"), 64)
	v, err2 := strconv.ParseFloat(c.QueryParam("v"), 64)
	if err != nil || err2 != nil || !(u >= 0 && u < 1 && v >= 0 && v < 1) {
		return fmt.Errorf("a place has u and v from 0 to 1")
	}
	m, err := a.Map(c.QueryParam("set"), c.Param("kind"))
	if err != nil {
		return err
	}
	x, y := int(u*float64(m.Size)), int(v*float64(m.Size))
	values := make([]float64, m.Channels)
	for k := range values {
		values[k] = float64(m.Pix[(y*m.Size+x)*m.Channels+k]) / 65535
	}
	return c.JSON(http.StatusOK, map[string]any{"values": values, "x": x, "y": y, "means": means(m, values)})
}

// means says in words what a value stands for, when it does for anything.
func means(m *bake.Map, v []float64) string {
	switch {
	case m.High != m.Low:
		return fmt.Sprintf("%.2f mm", 1000*(m.Low+(m.High-m.Low)*v[0]))
	case m.Kind == bake.Position && m.Box != (bake.Corners{}):
		at := func(k int) float64 { return float64(m.Box[0][k]) + v[k]*float64(m.Box[1][k]-m.Box[0][k]) }
		return fmt.Sprintf("(%.3f %.3f %.3f) m", at(0), at(1), at(2))
	case m.Kind == bake.ID:
		hex := fmt.Sprintf("#%02x%02x%02x", uint8(v[0]*255+0.5), uint8(v[1]*255+0.5), uint8(v[2]*255+0.5))
		for _, l := range m.Legend {
			if l.Colour == hex {
				return l.Name
			}
		}
		return hex
	case m.Kind == bake.WorldNormal || m.Kind == bake.Normal:
		return fmt.Sprintf("(%+.2f %+.2f %+.2f)", v[0]*2-1, v[1]*2-1, v[2]*2-1)
	}
	return ""
}

// bring reads what files are called and answers with where they would go, and with the words that decided it.
func (s *Server) bring(c *echo.Context, a *studio.Asset) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	rows, key, err := a.Bring(c.Request().Context(), u)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"rows": rows, "key": key, "words": bring.Words})
}
