package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"crust/internal/core/strata"
)

// server is a crust serve in a process of its own.
type server struct {
	cmd  *exec.Cmd
	url  string
	errs bytes.Buffer
}

// startServer starts a server over a data folder and waits until it answers.
func startServer(data, root string) (*server, error) {
	s := &server{cmd: exec.Command(*program, "serve", "--data", data, "--addr", "127.0.0.1:0", "--deliver-root", root)}
	s.cmd.Stderr = &s.errs
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	line := make([]byte, 0, 200)
	one := make([]byte, 1)
	for {
		if _, err := out.Read(one); err != nil {
			_ = s.cmd.Wait()
			return nil, fmt.Errorf("the server did not start: %s", strings.TrimSpace(s.errs.String()))
		}
		if one[0] == '\n' {
			break
		}
		line = append(line, one[0])
	}
	text := string(line)
	at := strings.Index(text, "http")
	if at < 0 {
		s.kill()
		return nil, fmt.Errorf("the server said %q", text)
	}
	s.url = strings.TrimSpace(text[at:])
	return s, nil
}

// kill ends the server as kill -9 does.
func (s *server) kill() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

// end ends it as its user does.
func (s *server) end() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	_ = s.cmd.Wait()
}

// refusedError is an answer of the server that refuses what was asked.
type refusedError struct {
	code int
	text string
}

func (r *refusedError) Error() string { return fmt.Sprintf("%d %s", r.code, r.text) }

var caller = &http.Client{Timeout: 60 * time.Second}

// call asks the server for something.
func (s *server) call(method, path, kind string, body []byte) ([]byte, error) {
	r, err := http.NewRequest(method, s.url+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	a, err := caller.Do(r)
	if err != nil {
		return nil, err
	}
	defer a.Body.Close()
	text, err := io.ReadAll(a.Body)
	if err != nil {
		return nil, err
	}
	if a.StatusCode > 299 {
		return nil, &refusedError{a.StatusCode, strings.TrimSpace(string(text))}
	}
	return text, nil
}

// do is one of the small calls on an asset.
func (s *server) do(asset uint, what string, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, err = s.call("POST", fmt.Sprintf("/api/assets/%d/do/%s", asset, what), "application/json", text)
	return err
}

// bring brings a file in as an asset.
func (s *server) bring(name string, data []byte) (uint, error) {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	f, err := w.CreateFormFile("files", name)
	if err != nil {
		return 0, err
	}
	if _, err := f.Write(data); err != nil {
		return 0, err
	}
	if err := w.Close(); err != nil {
		return 0, err
	}
	text, err := s.call("POST", "/api/assets", w.FormDataContentType(), b.Bytes())
	if err != nil {
		return 0, err
	}
	var made struct{ ID uint }
	return made.ID, json.Unmarshal(text, &made)
}

// page is an asset's page without a browser.
type page struct {
	ws     *websocket.Conn
	ctx    context.Context
	cancel context.CancelFunc
	mu     sync.Mutex
	next   int
	calls  map[int]chan event
	layers []strata.Layer
	done   chan event // of jobs
	rects  map[string]*plane
	whole  map[string]int // versions by set and view
	closed chan struct{}
}

// event is what a page is told, as far as the trial looks at it.
type event struct {
	T       string
	N       int
	Layer   string
	Number  int32
	Error   string
	Kind    string
	Stopped bool
	Set     string
	View    string
	Full    bool
	Size    int
	X, Y    int
	W, H    int
	Version int
	Layers  []strata.Layer
}

// plane is a picture as it has come to the page.
type plane struct {
	size int
	rgba []byte
}

func (s *server) page(asset uint, author string) (*page, error) {
	ctx, cancel := context.WithCancel(context.Background())
	dial, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	ws, _, err := websocket.Dial(dial, fmt.Sprintf("%s/api/assets/%d/socket?author=%s", strings.Replace(s.url, "http", "ws", 1), asset, author), nil)
	if err != nil {
		cancel()
		return nil, err
	}
	ws.SetReadLimit(64 << 20)
	p := &page{ws: ws, ctx: ctx, cancel: cancel, calls: map[int]chan event{}, done: make(chan event, 100), rects: map[string]*plane{}, whole: map[string]int{}, closed: make(chan struct{})}
	go p.listen()
	return p, nil
}

func (p *page) close() {
	p.cancel()
	_ = p.ws.CloseNow()
}

func (p *page) listen() {
	defer close(p.closed)
	for {
		kind, data, err := p.ws.Read(p.ctx)
		if err != nil {
			return
		}
		if kind == websocket.MessageBinary {
			p.rect(data)
			continue
		}
		var e event
		if json.Unmarshal(data, &e) != nil {
			var t struct{ T string }
			_ = json.Unmarshal(data, &t)
			e.T = t.T // members of other kinds of events have other shapes
		}
		p.mu.Lock()
		switch e.T {
		case "answer":
			if c := p.calls[e.N]; c != nil {
				c <- e
				delete(p.calls, e.N)
			}
		case "doc":
			p.layers = e.Layers
		case "whole":
			if e.Full {
				p.whole[e.Set+"\x00"+e.View] = e.Version
			}
		case "done":
			select {
			case p.done <- e:
			default:
			}
		}
		p.mu.Unlock()
	}
}

// rect takes a piece of a picture and lets the server go on.
func (p *page) rect(data []byte) {
	n := binary.LittleEndian.Uint32(data)
	var e event
	if json.Unmarshal(data[4:4+n], &e) == nil && e.Full {
		p.mu.Lock()
		k := e.Set + "\x00" + e.View
		to := p.rects[k]
		if to == nil || to.size != e.Size {
			to = &plane{e.Size, make([]byte, 4*e.Size*e.Size)}
			p.rects[k] = to
		}
		from := data[4+n:]
		for y := range e.H {
			copy(to.rgba[4*((e.Y+y)*e.Size+e.X):], from[4*y*e.W:4*(y+1)*e.W])
		}
		p.mu.Unlock()
	}
	_ = p.send(map[string]any{"t": "ack"})
}

func (p *page) send(m any) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	return p.ws.Write(ctx, websocket.MessageText, text)
}

var errGone = errors.New("the page's server is gone")

// ask sends a message and waits for its answer.
func (p *page) ask(m map[string]any) (event, error) {
	c := make(chan event, 1)
	p.mu.Lock()
	p.next++
	m["n"] = p.next
	p.calls[p.next] = c
	p.mu.Unlock()
	if p.send(m) != nil {
		return event{}, errGone
	}
	select {
	case e := <-c:
		if e.Error != "" {
			return e, &refusedError{422, e.Error}
		}
		return e, nil
	case <-p.closed:
		return event{}, errGone
	case <-time.After(60 * time.Second):
		return event{}, errors.New("no answer came within a minute")
	}
}

func (p *page) edit(e strata.Edit) (event, error) {
	return p.ask(map[string]any{"t": "edit", "edit": e})
}

// job waits for the end of a job of a kind.
func (p *page) job(kind string) error {
	for {
		select {
		case e := <-p.done:
			switch {
			case e.Kind != kind:
			case e.Error != "":
				return &refusedError{422, e.Error}
			case e.Stopped:
				return errors.New("it was stopped")
			default:
				return nil
			}
		case <-p.closed:
			return errGone
		case <-time.After(3 * time.Minute):
			return errors.New("a job did not end within three minutes")
		}
	}
}

// clauseOf is the first clause of a layer.
func (p *page) clauseOf(layer string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.layers {
		if l.ID == layer && len(l.Where) > 0 {
			return l.Where[0].ID
		}
	}
	return ""
}
