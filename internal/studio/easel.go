package studio

import (
	"bytes"
	"sync"

	"crust/internal/core/compose"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
)

// easel keeps the canvases of one asset; the painter alone uses it.
type easel struct {
	key    easelKey
	body   *compose.Body
	of     []string       // kinds of maps that the body reads
	maps   map[string]int // their versions by set
	sheets map[sheetKey]*sheet
	kept   map[uint]*strata.Document // keepsakes that pages compare with; they never change
}

type easelKey struct {
	split string
	model int
}

type sheetKey struct {
	set  string
	size int
}

// sheet is a canvas with its pictures that pages watch.
type sheet struct {
	*compose.Canvas
	maps  int            // version of its set's maps
	reads []string       // their kinds
	keys  []compose.Keys // by tile: of what views hold
	views map[string]*picture
	kept  map[uint]*keptSheet // by keepsake
	rest  [][]int32           // by square: other squares with empty texels that take their value from this one
}

func newSheet(c *compose.Canvas, maps int, reads []string) *sheet {
	s := &sheet{Canvas: c, maps: maps, reads: reads, keys: make([]compose.Keys, len(c.Surf.Tiles)), views: map[string]*picture{}}
	s.rest = spread(c)
	return s
}

// spread finds, for each square, the others that show some of its texels because padding fills them from there.
func spread(c *compose.Canvas) [][]int32 {
	n, texels := c.Surf.Size, c.Texels()
	across := surface.Across(n)
	out := make([][]int32, across*across)
	squareOf := func(at int) int32 { return int32(at/n/surface.TileSize*across + at%n/surface.TileSize) }
	seen := map[[2]int32]bool{}
	for y := range n {
		row := c.Surf.Nearest[y*n : (y+1)*n]
		lastFrom, lastTo := int32(-1), int32(-1)
		for x, near := range row {
			to, from := squareOf(y*n+x), squareOf(int(texels[near]))
			if from == to || from == lastFrom && to == lastTo {
				continue
			}
			lastFrom, lastTo = from, to
			if k := [2]int32{from, to}; !seen[k] {
				seen[k] = true
				out[from] = append(out[from], to)
			}
		}
	}
	return out
}

// view is one of the sheet's pictures, made when it is first asked for.
func (s *sheet) view(name string) *picture {
	if s.views[name] == nil {
		s.views[name] = newPicture(s)
	}
	return s.views[name]
}

// inherit takes over pictures of a sheet of the same texels, so that pages are sent only what differs.
func (s *sheet) inherit(old *sheet) {
	if old == nil || old.Surf.Size != s.Surf.Size || old.Len() != s.Len() {
		return
	}
	for name, p := range old.views {
		p.mu.Lock()
		p.sheet = s
		p.mu.Unlock()
		s.views[name] = p
	}
}

// picture is a view of a sheet in bytes. The painter puts tiles in, pages cut rectangles out.
type picture struct {
	mu    sync.RWMutex
	sheet *sheet   // that it is of now
	pix   []uint8  // three a covered texel
	stamp []uint32 // by square: grows when what it shows has changed
}

// surf is how the picture's texels lie.
func (p *picture) surf() *surface.Surface {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.sheet.Surf
}

func newPicture(s *sheet) *picture {
	across := surface.Across(s.Surf.Size)
	return &picture{sheet: s, pix: make([]uint8, 3*s.Len()), stamp: make([]uint32, across*across)}
}

// put takes a tile's bytes; squares that show them are stamped when they differ.
func (p *picture) put(t int, pix []uint8) {
	s := p.sheet
	tile := &s.Surf.Tiles[t]
	at := int(tile.Y)*surface.Across(s.Surf.Size) + int(tile.X)
	p.mu.Lock()
	defer p.mu.Unlock()
	mine := p.pix[3*tile.From : 3*tile.To]
	if p.stamp[at] > 0 && bytes.Equal(mine, pix) {
		return
	}
	copy(mine, pix)
	p.stamp[at]++
	for _, o := range s.rest[at] {
		p.stamp[o]++
	}
}

// Frame is a picture that is on its way to a page.
type Frame struct {
	Set, View string
	Full      bool
	picture   *picture
	whole     bool // nothing more of this version follows
	version   int
}

// sent is what a page has of a picture.
type sent struct {
	picture *picture
	stamp   []uint32
}

// next finds the next run of squares in a row that the page has not got as they are now, from square at on, and marks it as
// sent; ok is false when there is none.
func (s *sent) next(at int) (x, y, squares int, ok bool) {
	p := s.picture
	p.mu.RLock()
	defer p.mu.RUnlock()
	across := surface.Across(p.sheet.Surf.Size)
	for ; at < len(p.stamp); at++ {
		if s.stamp[at] == p.stamp[at] {
			continue
		}
		x, y = at%across, at/across
		for ; x+squares < across && s.stamp[at+squares] != p.stamp[at+squares]; squares++ {
			s.stamp[at+squares] = p.stamp[at+squares]
		}
		return x, y, squares, true
	}
	return 0, 0, 0, false
}
