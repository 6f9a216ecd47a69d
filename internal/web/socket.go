package web

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/labstack/echo/v5"

	"crust/internal/core/par"
	"crust/internal/core/plain"
	"crust/internal/core/strata"
	"crust/internal/studio"
)

// message is what a page sends over its socket; T names it.
type message struct {
	T    string      `json:"t"`
	N    int         `json:"n"` // number of the call, given back in the answer
	Live bool        `json:"live"`
	Edit strata.Edit `json:"edit"`
	Look studio.Look `json:"look"`
	Near studio.Near `json:"near"`
	Ink  studio.Ink  `json:"ink"`
}

// maxMessage limits what a page may send at once.
const maxMessage = 1 << 20

func (s *Server) socket(c *echo.Context, a *studio.Asset) error {
	if !s.sockets.open(a.ID) {
		return echo.NewHTTPError(http.StatusServiceUnavailable, "too many pages have this asset open; close some")
	}
	defer s.sockets.close(a.ID)
	refused := s.refusal(c)
	ws, err := websocket.Accept(c.Response(), c.Request(), nil)
	if err != nil {
		return nil // Accept has answered
	}
	defer ws.CloseNow()
	ws.SetReadLimit(maxMessage)
	ctx, cancel := context.WithCancel(c.Request().Context())
	defer cancel()
	p := a.Watch(authorOf(c.QueryParam("author")))
	defer p.Leave()
	go func() {
		defer cancel()
		text := func(b []byte) error { return send(ctx, ws, websocket.MessageText, b) }
		binary := func(b []byte) error { return send(ctx, ws, websocket.MessageBinary, b) }
		err := func() (err error) {
			defer par.Catch(&err)
			return p.Run(ctx, text, binary) // it ends when the page is gone
		}()
		if lost, ok := err.(*par.Panic); ok {
			slog.Error("a fault ended a page's pictures", "fault", lost.Value, "trace", string(lost.Trace))
		}
	}()
	var pace metered
	for {
		pace.one()
		_, data, err := ws.Read(ctx)
		if err != nil {
			return nil
		}
		var m message
		if json.Unmarshal(data, &m) != nil {
			continue
		}
		if r := s.handle(p, m, refused); r != nil {
			b, err := json.Marshal(r)
			if err != nil {
				return nil
			}
			if send(ctx, ws, websocket.MessageText, b) != nil {
				return nil
			}
		}
	}
}

// maxAuthor is the longest name of an author that is kept, in letters of its own choice.
const maxAuthor = 64

// authorOf is the author that a page names, empty when it is none that could be kept.
func authorOf(name string) string {
	if len(name) > maxAuthor || strings.ContainsFunc(name, func(r rune) bool {
		return r != '-' && (r < '0' || r > '9') && (r < 'a' || r > 'z')
	}) {
		return ""
	}
	return name
}

func send(ctx context.Context, ws *websocket.Conn, kind websocket.MessageType, b []byte) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	return ws.Write(ctx, kind, b)
}

// changes are the messages that change an asset.
var changes = []string{"edit", "ink", "undo", "redo"}

// handle does what a message asks and returns the answer, nil when there is none. refused, if there is a reason, answers all changes.
func (s *Server) handle(p *studio.Page, m message, refused error) studio.Event {
	answer := func(layer string, err error) studio.Event {
		e := studio.Event{"t": "answer", "n": m.N, "layer": layer}
		if err != nil {
			e["error"] = plain.Text(err.Error())
		}
		return e
	}
	if refused != nil && slices.Contains(changes, m.T) {
		if m.N == 0 {
			return nil // of something that is under way; its end is answered
		}
		return answer("", refused)
	}
	switch m.T {
	case "ack":
		p.Ack()
	case "look":
		p.SetLook(m.Look)
	case "near":
		p.SetNear(m.Near)
	case "edit":
		layer, err := p.Edit(m.Edit, m.Live)
		if m.Live && err == nil {
			return nil
		}
		return answer(layer, err)
	case "drop":
		p.Drop()
	case "ink":
		number, err := p.Ink(m.Ink)
		if m.N == 0 && err != nil {
			return studio.Event{"t": "error", "text": plain.Text(err.Error())}
		}
		if m.N == 0 {
			return nil
		}
		e := answer(m.Ink.Layer, err)
		e["number"] = number
		return e
	case "undo":
		return answer("", p.Go(-1))
	case "redo":
		return answer("", p.Go(1))
	}
	return nil
}
