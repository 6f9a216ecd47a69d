package studio

import (
	"bytes"
	"context"
	"image"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
)

// easel keeps the canvases of one asset; the painter alone uses it.
type easel struct {
	key     easelKey
	body    *compose.Body
	of      []string       // kinds of maps that the body reads
	maps    map[string]int // their versions by set
	sheets  map[sheetKey]*sheet
	wet     map[int32]*brush.Stroke   // strokes that pages are making
	gone    []geom.Box                // where strokes are not shown any more, which is not painted yet
	changed []geom.Box                // where strokes that are being made have changed something that is not painted yet
	touched map[sheetKey][]int        // on which tiles, by sheet
	owed    []geom.Box                // where averages over what has changed are still to come
	kept    map[uint]*strata.Document // keepsakes that pages compare with; they never change
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
	maps  int      // version of its set's maps
	reads []string // their kinds
	shown
	kept map[uint]*shown // by keepsake
	rest [][]int32       // by square: other squares with empty texels that take their value from this one
}

func newSheet(c *compose.Canvas, maps int, reads []string) *sheet {
	s := &sheet{Canvas: c, maps: maps, reads: reads}
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

// shown is what a document looks like on a sheet: pictures by view, and by tile the keys of what they hold.
type shown struct {
	keys  []compose.Keys
	views map[string]*picture
}

// viewsOf are the views of a document's textures that every page keeps.
func viewsOf(d *strata.Document) []string {
	names := []string{"base", "orm", "normal"}
	for _, extra := range []string{"emissive", "opacity"} {
		if d.Uses(extra) {
			names = append(names, extra)
		}
	}
	return names
}

// views are those of the document's textures that pages show.
func (s *snapshot) views() []string {
	names := viewsOf(s.doc)
	for _, view := range asked {
		if slices.ContainsFunc(s.pages, func(p *Page) bool { return p.Look().wants(view) }) {
			names = append(names, view)
		}
	}
	return names
}

// paint brings views up to date with a program on a sheet, and calls told every few tiles. Other views are let go: they would
// not be kept up.
func (s *shown) paint(ctx context.Context, c *sheet, prog *compose.Program, names []string, pass compose.Pass, told func()) error {
	if s.views == nil {
		s.keys, s.views = make([]compose.Keys, len(c.Surf.Tiles)), map[string]*picture{}
	}
	maps.DeleteFunc(s.views, func(name string, _ *picture) bool { return !slices.Contains(names, name) })
	for _, name := range names {
		if s.views[name] == nil {
			s.views[name] = newPicture(c)
			clear(s.keys) // all of it has to be filled, also when this is ended half way
		}
	}
	var done atomic.Int64
	bytesOf := make([][]uint8, par.Slots)
	pass.Has = func(t int) compose.Keys { return s.keys[t] }
	pass.Do = func(w, t int, is compose.Keys, ch *compose.Channels) {
		n := c.Surf.Tiles[t].Len()
		if bytesOf[w] == nil {
			bytesOf[w] = make([]uint8, 3*surface.TileSize*surface.TileSize)
		}
		for _, name := range names {
			if v := views[name]; v.Of(ch) {
				v.Quantise(ch, bytesOf[w][:3*n])
				s.views[name].put(t, bytesOf[w][:3*n])
			}
		}
		s.keys[t] = is
		if done.Add(1)%tellEvery == 0 {
			told()
		}
	}
	return c.Run(ctx, prog, pass)
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
		if s.views == nil {
			s.views = map[string]*picture{}
		}
		s.views[name] = p
	}
	if s.views != nil {
		s.keys = make([]compose.Keys, len(s.Surf.Tiles))
	}
}

// picture is a view of a sheet in bytes. The painter puts tiles in, pages cut rectangles out.
type picture struct {
	mu    sync.RWMutex
	sheet *sheet   // that it is of now
	pix   []uint8  // three a covered texel, and one more
	stamp []uint32 // by square: grows when what it shows has changed
	last  []part   // by square: where it changed last
}

// part is texels of a square, from some to before others.
type part struct{ x0, y0, x1, y1 uint8 }

var allOf = part{0, 0, surface.TileSize, surface.TileSize}

func (p part) union(o part) part {
	return part{min(p.x0, o.x0), min(p.y0, o.y0), max(p.x1, o.x1), max(p.y1, o.y1)}
}

// partStep is how many texels of a row are compared at a time.
const partStep = 16

// differ finds where bytes of a tile's texels, three each, differ.
func (s *sheet) differ(t int, a, b []uint8) (p part) {
	some := false
	s.EachRow(t, func(from, x, y, n int) {
		for i := 0; i < n; i += partStep {
			to := min(n, i+partStep)
			if bytes.Equal(a[3*(from+i):3*(from+to)], b[3*(from+i):3*(from+to)]) {
				continue
			}
			in := part{uint8(x + i), uint8(y), uint8(x + to), uint8(y + 1)}
			if some {
				in = in.union(p)
			}
			p, some = in, true
		}
	})
	return p
}

// surf is how the picture's texels lie.
func (p *picture) surf() *surface.Surface {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.sheet.Surf
}

func newPicture(s *sheet) *picture {
	across := surface.Across(s.Surf.Size)
	return &picture{sheet: s, pix: make([]uint8, 3*s.Len()+1), stamp: make([]uint32, across*across), last: make([]part, across*across)}
}

// put takes a tile's bytes; squares that show them are stamped when they differ.
func (p *picture) put(t int, pix []uint8) {
	s := p.sheet
	tile := &s.Surf.Tiles[t]
	at := int(tile.Y)*surface.Across(s.Surf.Size) + int(tile.X)
	p.mu.Lock()
	defer p.mu.Unlock()
	mine, where := p.pix[3*tile.From:3*tile.To], allOf
	if p.stamp[at] > 0 {
		if bytes.Equal(mine, pix) {
			return
		}
		if tile.Len() == surface.TileSize*surface.TileSize { // else some of it shows beside itself, as padding
			where = s.differ(t, mine, pix)
		}
	}
	copy(mine, pix)
	p.stamp[at]++
	p.last[at] = where
	for _, o := range s.rest[at] {
		p.stamp[o]++
		p.last[o] = allOf
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

// next finds a rectangle of texels that the page has not got as they are now, of squares in a row from square at on, and marks it as
// sent; then is the square after it, and ok is false when there is none.
func (s *sent) next(at int) (r image.Rectangle, then int, ok bool) {
	p := s.picture
	p.mu.RLock()
	defer p.mu.RUnlock()
	n := p.sheet.Surf.Size
	across := surface.Across(n)
	for ; at < len(p.stamp); at++ {
		if s.stamp[at] == p.stamp[at] {
			continue
		}
		x, y := at%across, at/across
		for then = at; then < (y+1)*across && s.stamp[then] != p.stamp[then]; then++ {
			in := allOf
			if s.stamp[then] == p.stamp[then]-1 {
				in = p.last[then]
			}
			s.stamp[then] = p.stamp[then]
			left := (x + then - at) * surface.TileSize
			r = r.Union(image.Rect(left+int(in.x0), y*surface.TileSize+int(in.y0), left+int(in.x1), y*surface.TileSize+int(in.y1)))
		}
		return r.Intersect(image.Rect(0, 0, n, n)), then, true
	}
	return r, at, false
}
