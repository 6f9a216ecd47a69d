package compose

import (
	"container/list"
	"sync"
	"sync/atomic"
)

// Cache keeps what tiles were evaluated to, of all canvases that share it, within one bound. What comes is kept for a while
// in any case. It stays where there is room, for which what was not used for longest goes first; but what the document just
// compiled, or the one before, has used does not go for it: work that needs more room than there is finds a part of it again
// each time, instead of nothing. Its lock is its own.
type Cache struct {
	mu       sync.RWMutex
	at       map[cacheKey]*list.Element
	shelves  map[shelfKey]*list.Element
	fresh    list.List // of *entry, those that came last, the one used last in front
	order    list.List // likewise, those that stay
	young    int       // bytes of those that came last
	bytes    int       // of all
	bound    int
	pictures album
	turn     atomic.Uint32 // counts the documents that were compiled
}

// cacheKey names a result: of which canvas and tile, and a hash of all that it depends on.
type cacheKey struct {
	canvas uint64
	tile   int32
	what   uint64
}

type entry struct {
	key   cacheKey
	value any
	bytes int
	on    *shelf        // where value is a mask
	last  atomic.Uint32 // the turn in which it was used, as far as that is known under the lock
	stays bool          // it is in order, not in fresh
}

// used is where uses without the lock are noted, nil where there are none.
func (e *entry) used() *atomic.Uint32 {
	switch v := e.value.(type) {
	case *mask:
		return &v.used
	case *shelf:
		return &v.used
	}
	return nil
}

// entryBytes is about what an entry takes beside its value.
const entryBytes = 160

// shelf keeps the masks of a step by tile, where they are found without the lock. After a mask had to go the shelf still
// knows whether it was empty.
type shelf struct {
	at   []atomic.Pointer[mask]
	used atomic.Uint32
}

// use notes, without the lock, in which turn something was used.
func (c *Cache) use(used *atomic.Uint32) {
	if now := c.turn.Load(); used.Load() != now {
		used.Store(now)
	}
}

// shelfKey names a shelf: of which canvas, and a hash of all that its masks depend on.
type shelfKey struct{ canvas, what uint64 }

// tileOnShelf is about what a shelf takes for each tile, with the notes of masks that went.
const tileOnShelf = 56

// NewCache makes a cache of at most about so many bytes.
func NewCache(bound int) *Cache {
	return &Cache{at: map[cacheKey]*list.Element{}, shelves: map[shelfKey]*list.Element{}, bound: bound, pictures: album{bound: albumBytes}}
}

// Hold changes the bound of the cache, and of the pictures with it, which is a share of what they have where there is memory. What is
// beyond goes at once, in use or not: it is made anew where it is wanted.
func (c *Cache) Hold(bound int, share float64) {
	c.pictures.hold(int(share * albumBytes))
	c.mu.Lock()
	defer c.mu.Unlock()
	c.bound = int(share * float64(bound))
	for _, l := range []*list.List{&c.order, &c.fresh} {
		for c.bytes > c.bound && l.Len() > 0 {
			c.drop(l.Back())
		}
	}
}

// get returns the value of a key, nil when it is not kept.
func (c *Cache) get(k cacheKey) any {
	c.mu.RLock()
	e := c.at[k]
	if e == nil {
		c.mu.RUnlock()
		return nil
	}
	of := e.Value.(*entry)
	v := of.value
	noted := of.last.Load() == c.turn.Load()
	c.mu.RUnlock()
	if !noted { // once a turn is enough; workers need not wait for each other
		c.mu.Lock()
		if c.at[k] == e {
			c.touch(e)
		}
		c.mu.Unlock()
	}
	return v
}

// touch notes that an entry is used. mu is held.
func (c *Cache) touch(at *list.Element) *entry {
	e := at.Value.(*entry)
	e.last.Store(c.turn.Load())
	c.home(e).MoveToFront(at)
	return e
}

// home is the list that an entry is in.
func (c *Cache) home(e *entry) *list.List {
	if e.stays {
		return &c.order
	}
	return &c.fresh
}

// put keeps a value of so many bytes.
func (c *Cache) put(k cacheKey, v any, bytes int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at[k] != nil {
		return // another worker was faster with the same
	}
	c.keep(&entry{key: k, value: v, bytes: bytes})
}

// shelf finds the shelf for masks of some tiles, or makes it.
func (c *Cache) shelf(k shelfKey, tiles int) *shelf {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.shelves[k]; e != nil {
		return c.touch(e).value.(*shelf)
	}
	s := &shelf{at: make([]atomic.Pointer[mask], tiles)}
	c.keep(&entry{key: cacheKey{k.canvas, -1, k.what}, value: s, bytes: tileOnShelf * tiles})
	return s
}

// putMask keeps a mask on a shelf.
func (c *Cache) putMask(canvas uint64, s *shelf, t int, m *mask) {
	if m.v == nil {
		s.at[t].Store(m) // it takes no more than the shelf does
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if was := s.at[t].Load(); was != nil && was.v != nil {
		return
	}
	s.at[t].Store(m)
	c.keep(&entry{key: cacheKey{canvas, int32(t), 0}, value: m, bytes: 2 * len(m.v), on: s})
}

const (
	// youth is which part of the bound those take that came last.
	youth = 8
	// mostLooks is how many entries are looked at for room, so that a cache full of what is in use costs no more than that.
	mostLooks = 16
)

// keep takes an entry in. mu is held.
func (c *Cache) keep(e *entry) {
	e.bytes += entryBytes
	e.last.Store(c.turn.Load())
	c.bytes += e.bytes
	c.young += e.bytes
	at := c.fresh.PushFront(e)
	c.find(e, at)
	for c.young > c.bound/youth && c.fresh.Len() > 1 {
		c.settle()
	}
}

// settle has the oldest of those that came last stay where there is room, and drops it where there is none.
func (c *Cache) settle() {
	at := c.fresh.Back()
	e := at.Value.(*entry)
	if !c.room(e.bytes) {
		c.drop(at)
		return
	}
	c.fresh.Remove(at)
	c.young -= e.bytes
	e.stays = true
	c.find(e, c.order.PushFront(e))
}

// find has an entry found where it stands; masks stand on their shelves.
func (c *Cache) find(e *entry, at *list.Element) {
	switch e.value.(type) {
	case *mask:
	case *shelf:
		c.shelves[shelfKey{e.key.canvas, e.key.what}] = at
	default:
		c.at[e.key] = at
	}
}

// room makes room for so many bytes among those that stay; false where all that was looked at is in use. Shelves and masks are
// used without the lock, so where they stand says little: those in use go to the front once more.
func (c *Cache) room(bytes int) bool {
	now := c.turn.Load()
	for looks := 0; c.bytes-c.young+bytes > c.bound-c.bound/youth; looks++ {
		back := c.order.Back()
		if back == nil || looks == mostLooks {
			return false
		}
		old := back.Value.(*entry)
		if used := old.used(); used != nil {
			old.last.Store(max(old.last.Load(), used.Load()))
		}
		if old.last.Load()+1 < now {
			c.drop(back)
			looks = -1
			continue
		}
		c.order.MoveToFront(back)
	}
	return true
}

func (c *Cache) drop(at *list.Element) {
	e := c.home(at.Value.(*entry)).Remove(at).(*entry)
	c.bytes -= e.bytes
	if !e.stays {
		c.young -= e.bytes
	}
	switch v := e.value.(type) {
	case *mask:
		e.on.at[e.key.tile].CompareAndSwap(v, &mask{shown: v.shown})
	case *shelf:
		delete(c.shelves, shelfKey{e.key.canvas, e.key.what})
	default:
		delete(c.at, e.key)
	}
}

// ForgetPicture drops a picture, which is not what it was.
func (c *Cache) ForgetPicture(mark string) {
	c.pictures.forget(mark)
}

// forget drops all that belongs to a canvas.
func (c *Cache) forget(canvas uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, l := range []*list.List{&c.fresh, &c.order} {
		for e := l.Front(); e != nil; {
			next := e.Next()
			if e.Value.(*entry).key.canvas == canvas {
				c.drop(e)
			}
			e = next
		}
	}
}

// Bytes is about how much is kept.
func (c *Cache) Bytes() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.bytes
}
