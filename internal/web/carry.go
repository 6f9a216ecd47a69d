package web

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"image"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"

	"crust/internal/core/imgfile"
	"crust/internal/core/layout"
	"crust/internal/studio"
)

// carry takes a picture made for the UVs before a layout, for the set that the query names, and answers
// with what it is on the UVs in use: one PNG, or a zip of one for each set.
func (s *Server) carry(c *echo.Context, a *studio.Asset) error {
	files, err := s.upload(c)
	if err != nil {
		return err
	}
	if len(files) != 1 {
		return errors.New("carry over one picture at a time")
	}
	img, err := imgfile.ReadPNG(files[0].Name, files[0].Data)
	if err != nil {
		return err
	}
	out, err := a.CarryPicture(c.Request().Context(), map[string]*layout.Picture{c.QueryParam("set"): pictureOf(img)}, c.QueryParam("content"))
	if err != nil {
		return err
	}
	stem := strings.TrimSuffix(files[0].Name, path.Ext(files[0].Name))
	_, sets := a.Model()
	var names []string
	var data [][]byte
	for i := range sets {
		p := out[sets[i].Key]
		if p == nil {
			continue
		}
		b, err := imgfile.Bytes(&imgfile.Image{Width: p.Width, Height: p.Height, Channels: p.Channels, Bits: 16, Pix16: p.Pix, SRGB: c.QueryParam("content") == layout.Colour})
		if err != nil {
			return err
		}
		names, data = append(names, fmt.Sprintf("%s_%s.png", stem, sets[i].Name)), append(data, b)
	}
	if len(data) == 1 {
		attach(c, stem+"_carried.png")
		return c.Blob(http.StatusOK, "image/png", data[0])
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i, name := range names {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		if err != nil {
			return err
		}
		if _, err := w.Write(data[i]); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	attach(c, stem+"_carried.zip")
	return c.Blob(http.StatusOK, "application/zip", b.Bytes())
}

// pictureOf unpacks a picture into 16-bit channels, alpha not multiplied in; alpha only where it says
// something.
func pictureOf(img image.Image) *layout.Picture {
	b := img.Bounds()
	p := &layout.Picture{Width: b.Dx(), Height: b.Dy(), Channels: 3}
	if o, ok := img.(interface{ Opaque() bool }); ok && !o.Opaque() {
		p.Channels = 4
	}
	p.Pix = make([]uint16, p.Width*p.Height*p.Channels)
	i := 0
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			r, g, bl, al := img.At(x, y).RGBA()
			if p.Channels == 4 && al > 0 {
				r, g, bl = min(65535, r*65535/al), min(65535, g*65535/al), min(65535, bl*65535/al)
			}
			p.Pix[i], p.Pix[i+1], p.Pix[i+2] = uint16(r), uint16(g), uint16(bl)
			if p.Channels == 4 {
				p.Pix[i+3] = uint16(al)
			}
			i += p.Channels
		}
	}
	return p
}
