package web

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
)

// Limits of what clients may ask for. A page has one socket and, while it opens, a few dozen requests under way.
const (
	maxHeader     = 32 << 10 // bytes of a request's head
	headerWithin  = 10 * time.Second
	idleFor       = 2 * time.Minute
	maxAtOnce     = 512 // requests under way, sockets aside
	uploadsAtOnce = 2   // each may take as much memory as a model may
	maxSockets    = 1000
	maxWatchers   = 64   // sockets of one asset
	perSecond     = 500  // requests from one address in the long run
	burst         = 3000 // and at once
	messages      = 5000 // of a socket in a second; more have to wait
	pieceWithin   = 20 * time.Second
	slowAfter     = 30 * time.Second // from when on a body has to come
	slowest       = 4 << 10          // at this many bytes a second
	sentWithin    = time.Minute      // each piece of an answer
)

// errSlow ends a body that trickles.
var errSlow = fmt.Errorf("the files came at less than %d kB a second; try again over a faster connection", slowest>>10)

// unhurried is an answer each piece of which has to be taken within sentWithin.
type unhurried struct {
	http.ResponseWriter
	control *http.ResponseController
}

func (u *unhurried) Unwrap() http.ResponseWriter { return u.ResponseWriter }

func (u *unhurried) Write(b []byte) (int, error) {
	_ = u.control.SetWriteDeadline(time.Now().Add(sentWithin))
	return u.ResponseWriter.Write(b)
}

func (u *unhurried) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	_ = u.control.SetWriteDeadline(time.Time{})
	return u.control.Hijack()
}

func (u *unhurried) Flush() { _ = u.control.Flush() }

// steady is a body that has to keep coming.
type steady struct {
	io.ReadCloser
	control *http.ResponseController
	began   time.Time
	bytes   int64
}

func (s *steady) Read(b []byte) (int, error) {
	_ = s.control.SetReadDeadline(time.Now().Add(pieceWithin))
	n, err := s.ReadCloser.Read(b)
	s.bytes += int64(n)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return n, errSlow
	}
	if err != nil {
		_ = s.control.SetReadDeadline(time.Time{})
		return n, err
	}
	if gone := time.Since(s.began); gone > slowAfter && float64(s.bytes) < slowest*gone.Seconds() {
		return n, errSlow
	}
	return n, nil
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	control := http.NewResponseController(w)
	if r.ContentLength != 0 {
		r.Body = &steady{r.Body, control, time.Now(), 0}
	}
	_ = control.SetWriteDeadline(time.Time{}) // that of the connection's last answer is over
	s.echo.ServeHTTP(&unhurried{w, control}, r)
	_ = control.SetWriteDeadline(time.Now().Add(sentWithin)) // what is not sent yet goes now
}

// limited holds requests to what the server can bear.
func (s *Server) limited(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if !s.paces.allows(c.RealIP()) {
			return echo.NewHTTPError(http.StatusTooManyRequests, "too many requests came from here; wait a moment and try again")
		}
		if strings.HasSuffix(c.Request().URL.Path, "/socket") {
			return next(c)
		}
		select {
		case s.atOnce <- struct{}{}:
		default:
			return echo.NewHTTPError(http.StatusServiceUnavailable, "the server has its hands full; wait a moment and try again")
		}
		defer s.atOnce.give()
		return next(c)
	}
}

// paces counts requests by where they come from: each address has a stock of burst that fills by perSecond.
type paces struct {
	mu sync.Mutex
	of map[string]*pace
}

type pace struct {
	left float64
	at   time.Time
}

// mostPaces is how many addresses are remembered; those that have their whole stock again are forgotten then.
const mostPaces = 10_000

func (p *paces) allows(from string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if p.of == nil || len(p.of) > mostPaces {
		kept := map[string]*pace{}
		for k, v := range p.of {
			if v.left+perSecond*now.Sub(v.at).Seconds() < burst {
				kept[k] = v
			}
		}
		p.of = kept
	}
	v := p.of[from]
	if v == nil {
		v = &pace{left: burst, at: now}
		p.of[from] = v
	}
	v.left = min(burst, v.left+perSecond*now.Sub(v.at).Seconds())
	v.at = now
	if v.left < 1 {
		return false
	}
	v.left--
	return true
}

// sockets counts those that are open, by asset.
type sockets struct {
	mu  sync.Mutex
	of  map[uint]int
	all int
}

// open counts one more; false when there are too many.
func (s *sockets) open(asset uint) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= maxSockets || s.of[asset] >= maxWatchers {
		return false
	}
	if s.of == nil {
		s.of = map[uint]int{}
	}
	s.of[asset]++
	s.all++
	return true
}

func (s *sockets) close(asset uint) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.of[asset]--; s.of[asset] == 0 {
		delete(s.of, asset)
	}
}

// metered has a reader of messages wait when more come than messages a second.
type metered struct {
	n     int
	since time.Time
}

func (m *metered) one() {
	if m.n++; m.n < messages {
		return
	}
	if gone := time.Since(m.since); gone < time.Second {
		time.Sleep(time.Second - gone)
	}
	m.n, m.since = 0, time.Now()
}
