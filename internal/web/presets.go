package web

import (
	"fmt"
	"io"
	"net/http"

	"github.com/labstack/echo/v5"

	"crust/internal/core/deliver"
	"crust/internal/core/uv"
	"crust/internal/studio"
)

// ownPresets lists people's own presets.
func (s *Server) ownPresets(c *echo.Context) error {
	own, err := s.studio.OwnPresets()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, own)
}

// putPreset stores a preset that comes as its file.
func (s *Server) putPreset(c *echo.Context) error {
	data, err := io.ReadAll(http.MaxBytesReader(c.Response(), c.Request().Body, deliver.MaxPresetBytes))
	if err != nil {
		return err
	}
	p, err := deliver.ParsePreset(data)
	if err != nil {
		return err
	}
	if err := s.studio.KeepPreset(p); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, p)
}

// presetFile is a preset, one that ships or one of people's own, as its file.
func (s *Server) presetFile(c *echo.Context) error {
	p, err := s.studio.Preset(c.Param("name"))
	if err != nil {
		return err
	}
	attach(c, uv.FileName(p.Name)+".preset.json")
	return c.Blob(http.StatusOK, "application/json", p.Bytes())
}

// dropPreset deletes one of people's own presets.
func (s *Server) dropPreset(c *echo.Context) error {
	if err := s.studio.Store.DropPreset(c.Param("name")); err != nil {
		return fmt.Errorf("preset “%s”: %w", c.Param("name"), err)
	}
	return c.NoContent(http.StatusNoContent)
}

// deliveryPlan says what a delivery would write.
func (s *Server) deliveryPlan(c *echo.Context, a *studio.Asset) error {
	p, err := a.PlanDelivery(s.rootOf(c))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, p)
}

// maxPlanes bounds how many sources are shown at once.
const maxPlanes = 300

// planes shows what sources of planes hold on a set.
func (s *Server) planes(c *echo.Context, a *studio.Asset) error {
	var ask struct {
		Set   string   `json:"set"`
		Names []string `json:"names"`
	}
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 1<<17)
	if err := c.Bind(&ask); err != nil || len(ask.Names) == 0 || len(ask.Names) > maxPlanes {
		return fmt.Errorf("name a set and 1 to %d sources", maxPlanes)
	}
	of, side, err := a.Planes(c.Request().Context(), ask.Set, ask.Names)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"side": side, "of": of})
}

// conflicts tells where sets lie on each other on a join sheet.
func (s *Server) conflicts(c *echo.Context, a *studio.Asset) error {
	found, err := a.Conflicts(c.QueryParam("sheet"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, found)
}

// ownMaterials takes the materials that the model came with in as layers.
func (s *Server) ownMaterials(c *echo.Context, a *studio.Asset) error {
	layer, notes, err := a.TakeMaterials()
	if err != nil {
		return err
	}
	if notes == nil {
		notes = []string{}
	}
	return c.JSON(http.StatusOK, map[string]any{"layer": layer, "notes": notes})
}
