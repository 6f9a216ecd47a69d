package compose

import (
	"container/list"
	"sync"
)

// Cache keeps what tiles were evaluated to, of all canvases that share it, within one bound; what was not used for longest
// goes first. Its lock is its own.
type Cache struct {
	mu    sync.Mutex
	at    map[cacheKey]*list.Element
	order list.List // of *entry, the one used last in front
	bytes int
	bound int
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
}

// entryBytes is about what an entry takes beside its value.
const entryBytes = 160

// NewCache makes a cache of at most about so many bytes.
func NewCache(bound int) *Cache { return &Cache{at: map[cacheKey]*list.Element{}, bound: bound} }

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
	bytes += entryBytes
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at[k] != nil {
		return // another worker was faster with the same
	}
	c.at[k] = c.order.PushFront(&entry{k, v, bytes})
	c.bytes += bytes
	for c.bytes > c.bound && c.order.Len() > 1 {
		c.drop(c.order.Back())
	}
}

func (c *Cache) drop(e *list.Element) {
	k := c.order.Remove(e).(*entry)
	delete(c.at, k.key)
	c.bytes -= k.bytes
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
