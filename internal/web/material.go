package web

import (
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"crust/internal/core/bake"
	"crust/internal/core/imgfile"
	"crust/internal/core/pixel"
	"crust/internal/studio"
)

// addPictures brings pictures in.
func (s *Server) addPictures(c *echo.Context, a *studio.Asset) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	added, notes, err := a.AddPictures(u)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"pictures": added, "notes": notes})
}

// thumbSides are the least and largest side of a small picture, in px.
const leastThumb, largestThumb = 16, 512

// thumb answers with a picture in small.
func (s *Server) thumb(c *echo.Context, a *studio.Asset) error {
	p, err := a.PictureFile(c.Param("mark"))
	if err != nil {
		return err
	}
	px, err := strconv.Atoi(c.QueryParam("px"))
	if err != nil || px < leastThumb || px > largestThumb {
		px = 96
	}
	n := p.Channels
	if n == 2 {
		n = 1
	}
	side := max(p.Width, p.Height)
	im := &imgfile.Image{Width: max(1, p.Width*px/side), Height: max(1, p.Height*px/side), Channels: min(3, n), Bits: 8}
	im.Pix8 = make([]uint8, im.Width*im.Height*im.Channels)
	for y := range im.Height {
		for x := range im.Width {
			// The mean of nine places of what the small pixel covers.
			for k := range im.Channels {
				sum := float32(0)
				for j := range 9 {
					sx, sy := (x*3+j%3)*p.Width/(im.Width*3), (y*3+j/3)*p.Height/(im.Height*3)
					v := p.At((sy*p.Width+sx)*p.Channels + k)
					if p.Float {
						v = pixel.ToSRGB(min(1, max(0, v)))
					}
					sum += v
				}
				im.Pix8[(y*im.Width+x)*im.Channels+k] = pixel.Q8(sum / 9)
			}
		}
	}
	data, err := imgfile.Bytes(im)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "max-age=86400")
	return c.Blob(http.StatusOK, "image/png", data)
}

// legend answers with the colours of the ID maps of all sets.
func (s *Server) legend(c *echo.Context, a *studio.Asset) error {
	_, sets := a.Model()
	out := []bake.Legend{}
	at := map[string]int{}
	for i := range sets {
		m, err := a.Map(sets[i].Key, bake.ID)
		if err != nil {
			continue // that set has none
		}
		for _, l := range m.Legend {
			if k, ok := at[l.Colour]; ok {
				out[k].Area += l.Area
				continue
			}
			at[l.Colour] = len(out)
			out = append(out, l)
		}
	}
	return c.JSON(http.StatusOK, out)
}
