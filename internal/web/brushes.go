package web

import (
	"encoding/json"
	"errors"
	"fmt"
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
	return c.Blob(http.StatusOK, "application/octet-stream", brush.Specimen(b, specimenWide, specimenTall, specimenSize))
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
