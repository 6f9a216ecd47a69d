package web

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"mime"
	"net/http"
	"sync"

	"github.com/labstack/echo/v5"

	"crust/internal/core/geom"
	"crust/internal/core/light"
	"crust/internal/core/pixel"
	"crust/internal/core/still"
	"crust/internal/studio"
)

// skies are the surroundings that ship, by name and size, and as small pictures; each is made once, when it is first asked for.
var skies = func() map[string]func() []byte {
	out := map[string]func() []byte{}
	for i := range light.All {
		of := &light.All[i]
		for size := light.LeastCube; size <= light.MostCube; size *= 2 {
			out[fmt.Sprint(of.Name, size)] = sync.OnceValue(func() []byte { return of.Panorama(4 * size).Cube(size) })
		}
		out[of.Name+"picture"] = sync.OnceValue(func() []byte { return horizonOf(of) })
	}
	return out
}()

// surroundings answers with a panorama as a filtered cube of half floats, or with a small picture of it.
func (s *Server) surroundings(c *echo.Context) error {
	make := skies[c.Param("name")+c.Param("size")]
	if make == nil {
		return echo.ErrNotFound
	}
	c.Response().Header().Set("Cache-Control", "max-age=3600")
	if c.Param("size") == "picture" {
		return c.Blob(http.StatusOK, "image/png", make())
	}
	return c.Blob(http.StatusOK, "application/octet-stream", make())
}

// horizonOf is the part of surroundings round the horizon, small.
func horizonOf(of *light.Surroundings) []byte {
	const wide, high, rows = 128, 48, 64
	e := of.Panorama(wide)
	img := image.NewNRGBA(image.Rect(0, 0, wide, high))
	for y := range high {
		for x := range wide {
			p := e.Pix[((y+rows/10)*wide+x)*3:]
			c := still.Tone(geom.Vec3{X: p[0], Y: p[1], Z: p[2]}.Mul(0.8))
			q := func(v float32) uint8 { return pixel.Q8(pixel.ToSRGB(min(1, max(0, v)))) }
			img.SetNRGBA(x, y, color.NRGBA{q(c.X), q(c.Y), q(c.Z), 255})
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		panic(err) // a picture in memory always encodes
	}
	return b.Bytes()
}

// stillKinds are the forms that stills come in.
var stillKinds = map[string]struct{ mime, ending string }{
	"png": {"image/png", ".png"}, "sheet": {"image/png", ".png"}, "exr": {"image/x-exr", ".exr"}, "apng": {"image/apng", ".apng"}, "zip": {"application/zip", ".zip"}, "exrs": {"application/zip", ".zip"},
}

// still answers with the still that was made last.
func (s *Server) still(c *echo.Context, a *studio.Asset) error {
	format := c.Param("format")
	kind, ok := stillKinds[format]
	if !ok {
		return echo.ErrNotFound
	}
	var b bytes.Buffer
	name, err := a.WriteStill(&b, format)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	if c.QueryParam("save") != "" {
		h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name + kind.ending}))
	}
	return c.Blob(http.StatusOK, kind.mime, b.Bytes())
}

// sky answers with a picture of the asset as a filtered cube of half floats.
func (s *Server) sky(c *echo.Context, a *studio.Asset) error {
	size, err := echo.PathParam[int](c, "size")
	if err != nil || size < light.LeastCube || size > light.MostCube || size&(size-1) != 0 {
		return echo.ErrNotFound
	}
	e, err := a.Sky(light.Own + c.Param("mark"))
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "application/octet-stream", e.Small(4*size).Cube(size))
}
