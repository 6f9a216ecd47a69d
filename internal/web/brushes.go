package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/studio"
)

// Sides of a specimen, in px.
const (
	specimenWide = 236
	specimenTall = 44
	specimenSize = 26 // of the brush
)

// specimen is a stroke of a brush, one byte a texel.
func (s *Server) specimen(c *echo.Context) error {
	b := brush.New()
	if err := json.Unmarshal([]byte(c.QueryParam("brush")), &b); err != nil {
		return errors.New("a brush is an object with its numbers")
	}
	if err := b.Check(); err != nil {
		return err
	}
	var alpha *brush.Alpha
	if b.Alpha != "" {
		var err error
		if alpha, err = s.studio.Alpha(b.Alpha); err != nil {
			return err
		}
	}
	return c.Blob(http.StatusOK, "application/octet-stream", brush.Specimen(b, alpha, specimenWide, specimenTall, specimenSize))
}

// maxFace bounds the picture of a stamp, in px a side.
const maxFace = 256

// face is a stamp as it comes out on a flat surface: half its width and height in sizes, and its picture in grey.
func (s *Server) face(c *echo.Context) error {
	k := brush.Stroke{Brush: brush.New(), Size: 1, Paths: [][]brush.Point{{{5: 1, 6: 1}}}}
	if err := json.Unmarshal([]byte(c.QueryParam("stroke")), &k); err != nil || k.Stamp == nil {
		return errors.New("a stamp is a stroke with brush, size and stamp")
	}
	if err := k.Check(); err != nil {
		return err
	}
	if k.Brush.Alpha != "" {
		alpha, err := s.studio.Alpha(k.Brush.Alpha)
		if err != nil {
			return err
		}
		k.Attach(alpha)
	}
	side, err := strconv.Atoi(c.QueryParam("px"))
	if err != nil || side < 8 || side > maxFace {
		return fmt.Errorf("px goes from 8 to %d", maxFace)
	}
	wide, high := k.Half()
	return c.JSON(http.StatusOK, map[string]any{"wide": wide / k.Size, "high": high / k.Size, "grey": brush.Face(&k, side), "coloured": k.Coloured(), "leans": k.Leans()})
}

// brushes lists people's own brushes.
func (s *Server) brushes(c *echo.Context) error {
	list, err := s.studio.Brushes()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

// takeBrush keeps a brush from its file; the page saves brushes as files without their pictures, which are here already.
func (s *Server) takeBrush(c *echo.Context) error {
	data, err := io.ReadAll(io.LimitReader(c.Request().Body, brush.MaxFileBytes+1))
	if err != nil {
		return err
	}
	if c.QueryParam("save") != "" {
		b := brush.New()
		if err := json.Unmarshal(data, &b); err != nil {
			return errors.New("a brush is an object with its numbers")
		}
		if err := s.studio.KeepBrush(b); err != nil {
			return err
		}
		return c.JSON(http.StatusCreated, map[string]string{"name": b.Name})
	}
	name, err := s.studio.TakeBrush(data)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]string{"name": name})
}

func (s *Server) dropBrush(c *echo.Context) error {
	if err := s.studio.Store.DropBrush(c.Param("name")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// brushFile answers with a brush as its file.
func (s *Server) brushFile(c *echo.Context) error {
	f, err := s.studio.BrushFile(c.Param("name"))
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(f, "", " ")
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "brush.json"))
	return c.Blob(http.StatusOK, "application/json", append(text, '\n'))
}

// addAlpha takes a picture as a brush's.
func (s *Server) addAlpha(c *echo.Context) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	with := c.QueryParam("with")
	if with != "" && with != studio.AlphaColours && with != studio.AlphaNormals {
		return errors.New("a picture is taken with colours, with normals, or as it is")
	}
	hash, err := s.studio.AddAlpha(u, with)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]string{"alpha": hash})
}

// alpha is a picture of brushes, stamps or stencils.
func (s *Server) alpha(c *echo.Context) error {
	a, err := s.studio.Alpha(c.Param("hash"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"side": a.Side, "grey": a.Grey})
}

// strokes lists the strokes of a clause.
func (s *Server) strokes(c *echo.Context, a *studio.Asset) error {
	var at *geom.Vec3
	if text := c.QueryParam("at"); text != "" {
		var p geom.Vec3
		if n, err := fmt.Sscanf(text, "%g,%g,%g", &p.X, &p.Y, &p.Z); n != 3 || err != nil {
			return errors.New("a place is x,y,z in metres")
		}
		at = &p
	}
	list, err := a.StrokesOf(c.QueryParam("layer"), c.QueryParam("clause"), at)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

// stroke is one stroke with its paths.
func (s *Server) stroke(c *echo.Context, a *studio.Asset) error {
	n, err := strconv.ParseInt(c.Param("n"), 10, 32)
	if err != nil {
		return echo.ErrNotFound
	}
	k := a.Stroke(int32(n))
	if k == nil {
		return echo.ErrNotFound
	}
	return c.JSON(http.StatusOK, k)
}
