package web

import (
	"context"
	"errors"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"crust/internal/access"
	"crust/internal/store"
)

// cookieName is that of the cookie by which a browser that has entered is known.
const cookieName = "crust"

// userKey is where a request keeps its user.
const userKey = "user"

// userOf is who asks; where everybody may enter, somebody without a name.
func userOf(c *echo.Context) access.User {
	u, _ := c.Get(userKey).(access.User)
	return u
}

// enter lets in those whom the users' file names, where there is one.
func (s *Server) enter(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		p := c.Request().URL.Path
		if s.Users == nil || p == "/enter" || strings.HasPrefix(p, "/static/") {
			return next(c)
		}
		if k, err := c.Cookie(cookieName); err == nil {
			if u, ok := s.Users.ByCookie(k.Value); ok {
				c.Set(userKey, u)
				return next(c)
			}
		}
		if strings.HasPrefix(p, "/api/") {
			return echo.NewHTTPError(http.StatusUnauthorized, "you have not entered, or your token was changed; open the first page and enter with your token")
		}
		return c.Redirect(http.StatusSeeOther, "/enter")
	}
}

// entrance shows the page that asks for a token, and takes one.
func (s *Server) entrance(c *echo.Context) error {
	if s.Users == nil {
		return c.Redirect(http.StatusSeeOther, "/")
	}
	r := c.Request()
	token := c.QueryParam("token")
	if r.Method == http.MethodPost {
		r.Body = http.MaxBytesReader(c.Response(), r.Body, 1<<12)
		token = strings.TrimSpace(c.FormValue("token"))
	}
	if token == "" {
		return c.Render(http.StatusOK, "enter.html", map[string]any{"Wrong": false})
	}
	from := c.RealIP()
	if !s.wrong.may(from) {
		return echo.NewHTTPError(http.StatusTooManyRequests, "too many wrong tokens came from here; wait a minute and try again")
	}
	u, ok := s.Users.ByToken(token)
	if !ok {
		s.wrong.note(from)
		return c.Render(http.StatusUnauthorized, "enter.html", map[string]any{"Wrong": true})
	}
	c.SetCookie(&http.Cookie{Name: cookieName, Value: u.Cookie(), Path: "/", MaxAge: 90 * 24 * 3600, HttpOnly: true, Secure: r.TLS != nil, SameSite: http.SameSiteStrictMode})
	return c.Redirect(http.StatusSeeOther, "/")
}

// leave lets the browser forget who entered.
func (s *Server) leave(c *echo.Context) error {
	c.SetCookie(&http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, Secure: c.Request().TLS != nil, SameSite: http.SameSiteStrictMode})
	return c.Redirect(http.StatusSeeOther, "/enter")
}

// wrongTokens counts the wrong tokens of the last minute by where they came from.
type wrongTokens struct {
	mu   sync.Mutex
	of   map[string][]time.Time
	seen time.Time
}

// A hand mistypes a few times; a guess of 160 bits takes longer than there is.
const (
	mostWrong = 10
	wrongFor  = time.Minute
)

func (w *wrongTokens) may(from string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.recent(from)) < mostWrong
}

// recent are those that still count. mu is held.
func (w *wrongTokens) recent(from string) []time.Time {
	return slices.DeleteFunc(w.of[from], func(t time.Time) bool { return time.Since(t) > wrongFor })
}

func (w *wrongTokens) note(from string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.of == nil || time.Since(w.seen) > wrongFor {
		w.of = map[string][]time.Time{} // what is older counts no more
	}
	w.seen = time.Now()
	w.of[from] = append(w.recent(from), w.seen)
}

// harmless are calls that change nothing although they bring a body.
var harmless = []string{"/estimate", "/planes"}

// memoryAlone are calls whose results the server keeps in memory.
var memoryAlone = []string{"/do/still", "/do/compare", "/do/stop"}

// mayChange refuses changes by those who may only look, and of a data folder that can only be looked at.
func (s *Server) mayChange(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		ends := func(s string) bool { return strings.HasSuffix(r.URL.Path, s) }
		switch {
		case r.Method == http.MethodGet || r.Method == http.MethodHead || !strings.HasPrefix(r.URL.Path, "/api/") || slices.ContainsFunc(harmless, ends):
			return next(c)
		case !userOf(c).Guest && slices.ContainsFunc(memoryAlone, ends):
			return next(c)
		}
		if err := s.refusal(c); err != nil {
			return err
		}
		return next(c)
	}
}

// refusal is why the one who asks may change nothing, nil when they may.
func (s *Server) refusal(c *echo.Context) error {
	if userOf(c).Guest {
		return &store.Looking{Why: "you entered as a guest, who looks; ask for a token of your own to work here"}
	}
	return s.studio.Store.MayChange()
}

// looks is refusal in words, empty when changes may be made.
func (s *Server) looks(c *echo.Context) string {
	var l *store.Looking
	if errors.As(s.refusal(c), &l) {
		return l.Why
	}
	return ""
}

// rootOf is the folder below which deliveries of the one who asks lie.
func (s *Server) rootOf(c *echo.Context) string {
	u := userOf(c)
	switch {
	case u.Root != "":
		return u.Root
	case u.Name == "" || u.Name == access.Owner || s.studio.Root == "":
		return s.studio.Root
	}
	return filepath.Join(s.studio.Root, u.Name)
}

// share bounds how many do something at once; others wait.
type share chan struct{}

func (s share) take(ctx context.Context) error {
	select {
	case s <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (s share) give() { <-s }
