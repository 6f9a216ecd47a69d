package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"sync"

	"github.com/labstack/echo/v5"

	"crust/internal/core/finish"
	"crust/internal/preview"
	"crust/internal/store"
	"crust/internal/studio"
)

// offer is a finish as the page offers it.
type offer struct {
	Name  string        `json:"name"`
	Title string        `json:"title"`
	Help  string        `json:"help"`
	Tags  []string      `json:"tags"`
	Dials []finish.Dial `json:"dials"`
	Own   bool          `json:"own"`

	Sample []finish.Band `json:"sample"`
}

// offers are those of people's own, the newest first, then those built in.
func (s *Server) offers() ([]offer, error) {
	own, err := s.studio.Finishes()
	if err != nil {
		return nil, err
	}
	var out []offer
	for _, list := range [][]finish.Finish{own, finish.Finishes} {
		for i := range list {
			f := &list[i]
			out = append(out, offer{f.Name, f.Title, f.Help, f.Tags, f.Dials, len(out) < len(own), f.Sample()})
		}
	}
	return out, nil
}

func (s *Server) finishes(c *echo.Context) error {
	cards, err := s.offers()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, cards)
}

// finishFile answers with a finish as its file.
func (s *Server) finishFile(c *echo.Context) error {
	f, err := s.studio.FinishOf(c.Param("name"))
	if err != nil {
		return fmt.Errorf("finish “%s”: %w", c.Param("name"), store.ErrNone)
	}
	text, err := json.MarshalIndent(f, "", " ")
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", f.Name+".finish.json"))
	return c.Blob(http.StatusOK, "application/json", append(text, '\n'))
}

// takeFinish keeps a finish from a file.
func (s *Server) takeFinish(c *echo.Context) error {
	data, err := io.ReadAll(io.LimitReader(c.Request().Body, finish.MaxBytes+1))
	if err != nil {
		return err
	}
	f, err := finish.Parse(data)
	if err != nil {
		return fmt.Errorf("this is no finish that can be read. %w", err)
	}
	if err := s.studio.KeepFinish(f); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]string{"name": f.Name})
}

func (s *Server) dropFinish(c *echo.Context) error {
	if err := s.studio.DropFinish(c.Param("name")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// saveFinish keeps a group of an asset as a finish.
func (s *Server) saveFinish(c *echo.Context, a *studio.Asset) error {
	var r struct{ Layer, Title, Help string }
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 1<<16)
	if err := c.Bind(&r); err != nil {
		return errors.New("the call could not be understood")
	}
	f, notes, err := a.SaveFinish(r.Layer, r.Title, r.Help)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"name": f.Name, "notes": notes})
}

// previews are pictures of finishes, by what they are of.
type previews struct {
	shelf preview.Shelf
	mu    sync.Mutex
	made  map[string][]byte
}

// thePreviews are those of the whole process: the bollard is the same for all.
var thePreviews previews

// mostPreviews bounds how many are kept.
const mostPreviews = 200

// previewSide is that of a preview in px.
const previewSide = 144

func (p *previews) of(ctx context.Context, f *finish.Finish) ([]byte, error) {
	text, err := json.Marshal(f)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	data, ok := p.made[string(text)]
	p.mu.Unlock()
	if ok {
		return data, nil
	}
	im, err := p.shelf.Picture(ctx, f, previewSide)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := png.Encode(&b, im); err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.made == nil || len(p.made) >= mostPreviews {
		p.made = map[string][]byte{}
	}
	p.made[string(text)] = b.Bytes()
	return b.Bytes(), nil
}

// finishPicture answers with a finish on the bollard.
func (s *Server) finishPicture(c *echo.Context) error {
	f, err := s.studio.FinishOf(c.Param("name"))
	if err != nil {
		return fmt.Errorf("finish “%s”: %w", c.Param("name"), store.ErrNone)
	}
	data, err := thePreviews.of(c.Request().Context(), f)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-cache")
	return c.Blob(http.StatusOK, "image/png", data)
}
