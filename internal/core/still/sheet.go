package still

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"io"
	"slices"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/letters"
	"crust/internal/core/light"
	"crust/internal/core/pixel"
)

// View is what one picture of a shot shows.
type View struct {
	Frame   *light.Frame // nil for a view that fits the model
	Channel string       // name of one of Channels; empty for the surface in its light
}

// Views are all pairs of frames and channels, by name, frame by frame. None is the same as the empty name.
func (s *Shot) Views(frames, channels []string) ([]View, error) {
	if len(frames) == 0 {
		frames = []string{""}
	}
	if len(channels) == 0 {
		channels = []string{""}
	}
	var out []View
	for _, name := range frames {
		var f *light.Frame
		if name != "" {
			var err error
			if f, err = s.Setup.Frame(name); err != nil {
				return nil, err
			}
		}
		for _, c := range channels {
			if _, err := ChannelOf(c); err != nil {
				return nil, err
			}
			out = append(out, View{f, c})
		}
	}
	return out, nil
}

// FrameWords name the view's frame; empty for the view that fits.
func (v View) FrameWords() string {
	if v.Frame == nil {
		return ""
	}
	return v.Frame.Name
}

// ChannelWords name what the view shows.
func (v View) ChannelWords() string {
	if c, err := ChannelOf(v.Channel); err == nil && c != nil {
		return c.Label
	}
	return "Lit"
}

// Sheet is rows of pictures with words above them.
type Sheet struct {
	Title string
	Rows  []SheetRow
}

// SheetRow is a row of a sheet.
type SheetRow struct {
	Words string // above all of it
	Cells []SheetCell
}

// SheetCell is a picture with words above it; nil is one that is not there.
type SheetCell struct {
	Words   string
	Picture *image.NRGBA
}

// abreast is how many pictures stand beside each other where there is one row alone.
const abreast = 4

// SheetOf lays out pictures of views in several states, state by state: frames are rows; states, and channels within them, are columns. A
// row that is alone is broken into several. Pictures that are missing at the end leave their places empty.
func SheetOf(title string, views []View, states []string, pictures []*image.NRGBA) (*image.NRGBA, error) {
	channels := 1
	for channels < len(views) && views[channels].Frame == views[0].Frame {
		channels++
	}
	s := Sheet{Title: title}
	for i := 0; i < len(views); i += channels {
		row := SheetRow{Words: views[i].FrameWords()}
		for k, state := range states {
			for j, v := range views[i : i+channels] {
				cell := SheetCell{}
				if at := k*len(views) + i + j; at < len(pictures) {
					cell.Picture = pictures[at]
				}
				if i == 0 {
					if cell.Words = state; channels > 1 || v.Channel != "" {
						cell.Words = strings.TrimPrefix(state+" · "+v.ChannelWords(), " · ")
					}
				}
				row.Cells = append(row.Cells, cell)
			}
		}
		s.Rows = append(s.Rows, row)
	}
	if of := s.Rows[0]; len(s.Rows) == 1 && len(of.Cells) > abreast {
		s.Rows = nil
		for part := range slices.Chunk(of.Cells, abreast) {
			s.Rows = append(s.Rows, SheetRow{of.Words, part})
			of.Words = ""
		}
	}
	return s.Draw()
}

// MostSheet bounds a sheet's sides in px.
const MostSheet = 16384

// Draw lays the sheet out. Words are a fortieth of the widest picture high, or as high as can be read.
func (s *Sheet) Draw() (*image.NRGBA, error) {
	var wide []int
	high, headed := make([]int, len(s.Rows)), make([]bool, len(s.Rows))
	most := 0
	for j, row := range s.Rows {
		for i, c := range row.Cells {
			if i == len(wide) {
				wide = append(wide, 0)
			}
			if headed[j] = headed[j] || c.Words != ""; c.Picture != nil {
				b := c.Picture.Rect
				wide[i], high[j], most = max(wide[i], b.Dx()), max(high[j], b.Dy()), max(most, b.Dx())
			}
		}
	}
	cap := max(9, most/40) // height of a capital
	gap, line := cap, 2*cap
	across, down := gap, gap+line
	for _, w := range wide {
		across += w + gap
	}
	for j, h := range high {
		down += h + gap
		for _, there := range []bool{headed[j], s.Rows[j].Words != ""} {
			if there {
				down += line
			}
		}
	}
	if across > MostSheet || down > MostSheet {
		return nil, fmt.Errorf("the sheet would have %d × %d px and may have %d; make its pictures smaller or fewer", across, down, MostSheet)
	}
	paper, ink, quiet := color.NRGBA{0x23, 0x23, 0x23, 255}, color.NRGBA{0xe9, 0xe6, 0xdf, 255}, color.NRGBA{0xa9, 0xa5, 0x9c, 255}
	out := image.NewNRGBA(image.Rect(0, 0, across, down))
	draw.Draw(out, out.Rect, image.NewUniform(paper), image.Point{}, draw.Src)
	y := gap
	write(out, s.Title, gap, y, across-2*gap, cap, ink)
	y += line
	for j, row := range s.Rows {
		if row.Words != "" {
			write(out, row.Words, gap, y, across-2*gap, cap, ink)
			y += line
		}
		if headed[j] {
			x := gap
			for i, c := range row.Cells {
				write(out, c.Words, x, y, wide[i], cap, quiet)
				x += wide[i] + gap
			}
			y += line
		}
		x := gap
		for i, c := range row.Cells {
			if p := c.Picture; p != nil {
				at := image.Pt(x+(wide[i]-p.Rect.Dx())/2, y+(high[j]-p.Rect.Dy())/2)
				draw.Draw(out, p.Rect.Add(at), p, p.Rect.Min, draw.Over)
			}
			x += wide[i] + gap
		}
		y += high[j] + gap
	}
	return out, nil
}

// WriteSheet writes a sheet as PNG.
func WriteSheet(w io.Writer, sheet *image.NRGBA) error {
	pix := make([]uint8, 0, len(sheet.Pix)/4*3)
	for i := 0; i < len(sheet.Pix); i += 4 {
		pix = append(pix, sheet.Pix[i:i+3]...)
	}
	return imgfile.WritePNG(w, &imgfile.Image{Width: sheet.Rect.Dx(), Height: sheet.Rect.Dy(), Channels: 3, Bits: 8, Pix8: pix, SRGB: true}, 6)
}

// write writes words from a place on, their capitals so many px high; what has no room is left away, and letters that the font lacks are
// question marks.
func write(to *image.NRGBA, words string, x, y, room, cap int, ink color.NRGBA) {
	words = strings.Map(func(r rune) rune {
		if one := (&letters.Text{Words: "H" + string(r), Font: "plate"}); r < ' ' || one.Check() != nil {
			return '?'
		}
		return r
	}, words)
	long := []rune(words)
	var o *letters.Outline
	for ; len(long) > 0; long = long[:len(long)-1] {
		t := &letters.Text{Words: string(long), Font: "plate", Side: "left"}
		if t.Check() == nil {
			if o = t.Outline(); int(2*o.Wide*float32(cap)) <= room {
				break
			}
		}
	}
	if len(long) == 0 {
		return
	}
	px := float32(cap)
	for j := -cap / 2; j < 2*cap; j++ {
		for i := range min(room, int(2*o.Wide*px)+2) {
			a := geom.Clamp01(0.5 + px*o.Inside((float32(i)+0.5)/px-o.Wide, 0.5-(float32(j)+0.5)/px, 2/px))
			if a == 0 || !(image.Pt(x+i, y+j).In(to.Rect)) {
				continue
			}
			p := to.Pix[to.PixOffset(x+i, y+j):]
			for k, v := range [3]uint8{ink.R, ink.G, ink.B} {
				p[k] = pixel.Q8((float32(p[k])*(1-a) + float32(v)*a) / 255)
			}
		}
	}
}
