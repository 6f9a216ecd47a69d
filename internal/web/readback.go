package web

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strconv"

	"github.com/labstack/echo/v5"

	"crust/internal/core/deliver"
	"crust/internal/core/imgfile"
	"crust/internal/core/uv"
	"crust/internal/studio"
)

func deliveryID(c *echo.Context) (uint, error) {
	n, err := strconv.ParseUint(c.Param("n"), 10, 32)
	if err != nil {
		return 0, errors.New("a delivery is known by its number")
	}
	return uint(n), nil
}

// readDelivery lists a delivery's files as they lie there now, with what they were found to differ by.
func (s *Server) readDelivery(c *echo.Context, a *studio.Asset) error {
	id, err := deliveryID(c)
	if err != nil {
		return err
	}
	files, err := a.ReadDelivery(id)
	if err != nil {
		return err
	}
	diffs := a.Differences(id)
	if diffs == nil {
		diffs = []deliver.Difference{}
	}
	return c.JSON(http.StatusOK, map[string]any{"files": files, "differences": diffs})
}

// wired gives a set's files as something that wires them by their note sees them: the side in four bytes, little endian, then
// base colour, occlusion–roughness–metallic, normal and emissive, four bytes a texel each.
func (s *Server) wired(c *echo.Context, a *studio.Asset) error {
	id, err := deliveryID(c)
	if err != nil {
		return err
	}
	w, err := a.WiredFiles(id, c.QueryParam("set"), c.QueryParam("bare") == "1")
	if err != nil {
		return err
	}
	out := binary.LittleEndian.AppendUint32(nil, uint32(w.Size))
	for _, p := range [][]byte{w.Base, w.ORM, w.Normal, w.Emissive} {
		out = append(out, p...)
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "application/octet-stream", out)
}

// Sides of the pictures of one channel, in px.
const (
	planeSmall = 96
	planeLarge = 1024
)

// deliveredPlane is one channel of a delivered file as a grey PNG.
func (s *Server) deliveredPlane(c *echo.Context, a *studio.Asset) error {
	id, err := deliveryID(c)
	if err != nil {
		return err
	}
	k, err := strconv.Atoi(c.QueryParam("k"))
	if err != nil {
		return errors.New("a channel is known by its number, 0 to 3")
	}
	most := planeSmall
	if c.QueryParam("large") == "1" {
		most = planeLarge
	}
	grey, side, err := a.DeliveredPlane(id, c.QueryParam("file"), k, most)
	if err != nil {
		return err
	}
	data, err := imgfile.Bytes(&imgfile.Image{Width: side, Height: side, Channels: 1, Bits: 8, Pix8: grey})
	if err != nil {
		return fmt.Errorf("the picture could not be made: %w", err)
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "image/png", data)
}

// archive is the asset as an archive, with its baked maps when maps is 1.
func (s *Server) archive(c *echo.Context, a *studio.Asset) error {
	f, err := os.CreateTemp("", "crust-archive-*")
	if err != nil {
		return deliver.Told(err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := s.studio.Pack(f, a.ID, c.QueryParam("maps") == "1"); err != nil {
		return deliver.Told(err)
	}
	attach(c, uv.FileName(a.Name())+".crust.zip")
	http.ServeFile(c.Response(), c.Request(), f.Name())
	return nil
}
