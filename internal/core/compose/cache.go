package compose

import (
	"container/list"
	"sync"
	"sync/atomic"
)

// Cache keeps what tiles were evaluated to, of all canvases that share it, within one bound; what was not used for longest
// goes first. Its lock is its own.
type Cache struct {
	mu       sync.Mutex
	at       map[cacheKey]*list.Element
	shelves  map[shelfKey]*list.Element
	order    list.List // of *entry, the one used last in front
	bytes    int
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
	on    *shelf // where value is a mask
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
	return &Cache{at: map[cacheKey]*list.Element{}, shelves: map[shelfKey]*list.Element{}, bound: bound}
}

// get returns the value of a key, nil when it is not kept.
func (c *Cache) get(k cacheKey) any {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.at[k]
	if e == nil {
		return nil
	}
	c.order.MoveToFront(e)
	return e.Value.(*entry).value
}

// put keeps a value of so many bytes.
func (c *Cache) put(k cacheKey, v any, bytes int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at[k] != nil {
		return // another worker was faster with the same
	}
	c.at[k] = c.keep(&entry{key: k, value: v, bytes: bytes})
}

// shelf finds the shelf for masks of some tiles, or makes it.
func (c *Cache) shelf(k shelfKey, tiles int) *shelf {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.shelves[k]; e != nil {
		c.order.MoveToFront(e)
		return e.Value.(*entry).value.(*shelf)
	}
	s := &shelf{at: make([]atomic.Pointer[mask], tiles)}
	c.shelves[k] = c.keep(&entry{key: cacheKey{k.canvas, -1, k.what}, value: s, bytes: tileOnShelf * tiles})
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
	c.keep(&entry{cacheKey{canvas, int32(t), 0}, m, 2 * len(m.v), s})
}

// keep puts an entry in front and lets go what is over the bound. Shelves and masks are used without the lock: what was used
// in this turn or the last, since it was last seen here, goes to the front once more. mu is held.
func (c *Cache) keep(e *entry) *list.Element {
	e.bytes += entryBytes
	c.bytes += e.bytes
	at := c.order.PushFront(e)
	for c.bytes > c.bound && c.order.Len() > 1 {
		last := c.order.Back()
		if used := last.Value.(*entry).used(); used != nil {
			if at := used.Swap(0); at > 0 && at+1 >= c.turn.Load() {
				c.order.MoveToFront(last)
				continue
			}
		}
		c.drop(last)
	}
	return at
}

func (c *Cache) drop(at *list.Element) {
	e := c.order.Remove(at).(*entry)
	c.bytes -= e.bytes
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
	for e := c.order.Front(); e != nil; {
		next := e.Next()
		if e.Value.(*entry).key.canvas == canvas {
			c.drop(e)
		}
		e = next
	}
}

// Bytes is about how much is kept.
func (c *Cache) Bytes() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.bytes
}
