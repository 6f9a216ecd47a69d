package web

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"

	"crust/internal/access"
	"crust/internal/store"
	"crust/internal/studio"
)

// visitor is a browser of someone.
type visitor struct {
	*desk
	client *http.Client
}

func (d *desk) visitor() *visitor {
	jar, err := cookiejar.New(nil)
	if err != nil {
		d.t.Fatal(err)
	}
	return &visitor{d, &http.Client{Jar: jar, Timeout: 10 * time.Second}}
}

func (v *visitor) ask(method, path, body string) (int, string) {
	v.t.Helper()
	r, err := http.NewRequest(method, v.server.URL+path, strings.NewReader(body))
	if err != nil {
		v.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	a, err := v.client.Do(r)
	if err != nil {
		v.t.Fatal(err)
	}
	defer a.Body.Close()
	text, err := io.ReadAll(a.Body)
	if err != nil {
		v.t.Fatal(err)
	}
	return a.StatusCode, string(text)
}

func (v *visitor) enter(token string) int {
	v.t.Helper()
	a, err := v.client.PostForm(v.server.URL+"/enter", url.Values{"token": {token}})
	if err != nil {
		v.t.Fatal(err)
	}
	a.Body.Close()
	return a.StatusCode
}

// dial opens an asset's socket and answers the messages that it is asked to send.
func (v *visitor) dial(path string) (*websocket.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	ws, _, err := websocket.Dial(ctx, strings.Replace(v.server.URL, "http", "ws", 1)+path, &websocket.DialOptions{HTTPClient: v.client})
	if err == nil {
		ws.SetReadLimit(64 << 20)
	}
	return ws, err
}

// answerTo is the error in the answer to a message, after all else that comes on the socket.
func answerTo(t *testing.T, ws *websocket.Conn, message string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if err := ws.Write(ctx, websocket.MessageText, []byte(message)); err != nil {
		t.Fatal(err)
	}
	for {
		kind, data, err := ws.Read(ctx)
		if err != nil {
			t.Fatal(err)
		}
		var e struct{ T, Error string }
		if kind == websocket.MessageText && json.Unmarshal(data, &e) == nil && e.T == "answer" {
			return e.Error
		}
	}
}

// withUsers has a desk ask for tokens: ida works, tom looks.
func withUsers(t *testing.T) (d *desk, ida, tom access.User) {
	t.Helper()
	d = newDesk(t)
	d.ball()
	u, err := access.Open(d.studio.Store.Dir)
	if err != nil {
		t.Fatal(err)
	}
	if ida, err = u.Add(access.User{Name: "ida"}); err != nil {
		t.Fatal(err)
	}
	if tom, err = u.Add(access.User{Name: "tom", Guest: true}); err != nil {
		t.Fatal(err)
	}
	d.web.Users = u
	return d, ida, tom
}

// Without a token nothing is seen but the entrance; with one's own, all; and no longer once it was changed.
func TestATokenLetsIn(t *testing.T) {
	d, ida, _ := withUsers(t)
	v := d.visitor()
	for _, path := range []string{"/api/assets/1/mesh", "/api/finishes", "/api/assets/1/archive", "/api/nothing"} {
		if code, text := v.ask("GET", path, ""); code != http.StatusUnauthorized || !strings.Contains(text, "enter with your token") {
			t.Errorf("%s: %d %.80s", path, code, text)
		}
	}
	for _, path := range []string{"/", "/assets/1/paint"} {
		if code, text := v.ask("GET", path, ""); code != 200 || !strings.Contains(text, `name="token"`) || strings.Contains(text, "ball") {
			t.Errorf("%s: %d %.200s; want the entrance", path, code, text)
		}
	}
	if _, err := v.dial("/api/assets/1/socket"); err == nil {
		t.Error("a socket opens without a token")
	}
	if code := v.enter("wrong"); code != http.StatusUnauthorized {
		t.Errorf("a wrong token: %d", code)
	}
	if code := v.enter(ida.Token); code != 200 {
		t.Fatalf("the right token: %d", code)
	}
	if code, text := v.ask("GET", "/", ""); code != 200 || !strings.Contains(text, "ball") {
		t.Errorf("%d %.200s; want the assets", code, text)
	}
	if code, text := v.ask("POST", "/api/assets/1/do/rename", `{"value":"mole"}`); code != 204 {
		t.Errorf("%d %s", code, text)
	}
	if code, _ := d.visitor().ask("GET", "/enter?token="+ida.Token, ""); code != 200 {
		t.Errorf("by the address with the token: %d", code)
	}
	if _, err := d.web.Users.Renew("ida"); err != nil {
		t.Fatal(err)
	}
	if code, _ := v.ask("GET", "/api/finishes", ""); code != http.StatusUnauthorized {
		t.Errorf("%d after the token was changed", code)
	}
}

// Tokens cannot be tried out: after ten wrong ones even the right one has to wait.
func TestTokensCannotBeTriedOut(t *testing.T) {
	d, ida, _ := withUsers(t)
	v := d.visitor()
	for n := range mostWrong {
		if code := v.enter(fmt.Sprint("guess ", n)); code != http.StatusUnauthorized {
			t.Fatalf("guess %d: %d", n, code)
		}
	}
	if code := v.enter(ida.Token); code != http.StatusTooManyRequests {
		t.Errorf("%d after %d wrong tokens", code, mostWrong)
	}
}

// A guest sees all and changes nothing, whatever call he makes.
func TestGuestsLook(t *testing.T) {
	d, _, tom := withUsers(t)
	v := d.visitor()
	if code := v.enter(tom.Token); code != 200 {
		t.Fatal(code)
	}
	for _, path := range []string{"/", "/assets/1/paint", "/api/assets/1/mesh", "/api/assets/1/checks", "/api/assets/1/delivery-plan"} {
		if code, text := v.ask("GET", path, ""); code != 200 {
			t.Errorf("%s: %d %.200s", path, code, text)
		}
	}
	if _, text := v.ask("GET", "/assets/1/paint", ""); !strings.Contains(text, "you look only") {
		t.Error("the page does not say that one only looks")
	}
	was := state(t, d)
	refused := 0
	for _, r := range d.web.echo.Router().Routes() {
		if r.Method == http.MethodGet || !strings.HasPrefix(r.Path, "/api/") || strings.HasSuffix(r.Path, "/estimate") || strings.HasSuffix(r.Path, "/planes") {
			continue
		}
		paths := []string{strings.NewReplacer(":id", "1", ":kind", "ao", ":name", "x").Replace(r.Path)}
		if strings.HasSuffix(r.Path, ":what") {
			paths = nil
			for what := range calls {
				paths = append(paths, "/api/assets/1/do/"+what)
			}
		}
		for _, p := range paths {
			refused++
			if code, text := v.ask(r.Method, p, "{}"); code != http.StatusForbidden || !strings.Contains(text, "you entered as a guest") {
				t.Errorf("%s %s: %d %.120s", r.Method, p, code, text)
			}
		}
	}
	if refused < 40 {
		t.Errorf("only %d calls were tried", refused)
	}
	ws, err := v.dial("/api/assets/1/socket")
	if err != nil {
		t.Fatal(err)
	}
	defer ws.CloseNow()
	for _, m := range []string{`{"t":"edit","n":1,"edit":{"do":"add"}}`, `{"t":"undo","n":2}`, `{"t":"redo","n":3}`, `{"t":"ink","n":4,"ink":{}}`} {
		if got := answerTo(t, ws, m); !strings.Contains(got, "you entered as a guest") {
			t.Errorf("%s: %q", m, got)
		}
	}
	if is := state(t, d); is != was {
		t.Errorf("the guest changed the asset:\n%s\n%s", was, is)
	}
}

// state is all that is stored of an asset but its files.
func state(t *testing.T, d *desk) string {
	t.Helper()
	row, err := d.studio.Store.Asset(1)
	if err != nil {
		t.Fatal(err)
	}
	snap, ops, err := d.studio.Store.History(1)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("%+v %+v %+v", row, snap, ops)
}

// Everyone's deliveries lie below a folder of their own.
func TestEveryoneDeliversBelowTheirOwnRoot(t *testing.T) {
	d, ida, _ := withUsers(t)
	far := t.TempDir()
	eva, err := d.web.Users.Add(access.User{Name: "eva", Root: far})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		user access.User
		root string
	}{{ida, filepath.Join(d.studio.Root, "ida")}, {eva, far}} {
		v := d.visitor()
		if code := v.enter(c.user.Token); code != 200 {
			t.Fatal(code)
		}
		v.ask("POST", "/api/assets/1/do/shipping", `{"shipping":{"to":"folder","folder":"out","size":64}}`)
		if code, text := v.ask("POST", "/api/assets/1/do/deliver", `{}`); code != 204 {
			t.Fatalf("%s: %d %s", c.user.Name, code, text)
		}
		a, err := d.studio.Open(1)
		if err != nil {
			t.Fatal(err)
		}
		a.WaitJob(nil)
		if _, err := os.Stat(filepath.Join(c.root, "out", "delivery.json")); err != nil {
			t.Errorf("%s: %v", c.user.Name, err)
		}
		v.ask("POST", "/api/assets/1/do/shipping", `{"shipping":{"folder":"`+filepath.Join(d.studio.Root, "other")+`"}}`)
		if code, text := v.ask("POST", "/api/assets/1/do/deliver", `{}`); code != 422 || !strings.Contains(text, "does not lie below") {
			t.Errorf("%s, outside: %d %s", c.user.Name, code, text)
		}
	}
}

// A data folder that can only be looked at shows everything, and says why nothing can be changed.
func TestAFolderThatIsLookedAt(t *testing.T) {
	d := newDesk(t)
	d.ball()
	look, err := store.Look(d.studio.Store.Dir, "its disk is at sea")
	if err != nil {
		t.Fatal(err)
	}
	d.studio.Store, look = look, d.studio.Store
	t.Cleanup(func() { look.Close() })
	v := d.visitor()
	for _, path := range []string{"/", "/assets/1/paint", "/api/assets/1/mesh"} {
		if code, text := v.ask("GET", path, ""); code != 200 || strings.HasPrefix(path, "/a") && path != "/api/assets/1/mesh" && !strings.Contains(text, "its disk is at sea") {
			t.Errorf("%s: %d %.300s", path, code, text)
		}
	}
	if code, text := v.ask("POST", "/api/assets/1/do/rename", `{"value":"mole"}`); code != http.StatusForbidden || !strings.Contains(text, "its disk is at sea") {
		t.Errorf("%d %s", code, text)
	}
	ws, err := v.dial("/api/assets/1/socket")
	if err != nil {
		t.Fatal(err)
	}
	defer ws.CloseNow()
	if got := answerTo(t, ws, `{"t":"edit","n":1,"edit":{"do":"add"}}`); !strings.Contains(got, "its disk is at sea") {
		t.Errorf("%q", got)
	}
}

// More pages than an asset can have are refused in one sentence, and those that are open go on.
func TestTooManySocketsAreRefused(t *testing.T) {
	d := newDesk(t)
	d.ball()
	v := d.visitor()
	var open []*websocket.Conn
	for range maxWatchers {
		ws, err := v.dial("/api/assets/1/socket")
		if err != nil {
			t.Fatalf("socket %d: %v", len(open), err)
		}
		defer ws.CloseNow()
		open = append(open, ws)
	}
	if code, text := v.ask("GET", "/api/assets/1/socket", ""); code != http.StatusServiceUnavailable || !strings.Contains(text, "too many pages") {
		t.Errorf("%d %s", code, text)
	}
	if got := answerTo(t, open[0], `{"t":"edit","n":1,"edit":{"do":"nothing"}}`); !strings.Contains(got, "nothing") {
		t.Errorf("%q; want that there is no such edit", got)
	}
	open[1].CloseNow()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		ws, err := v.dial("/api/assets/1/socket")
		if err == nil {
			ws.CloseNow()
			break
		}
		if time.Now().After(end) {
			t.Fatal("no place was free after a page had gone")
		}
	}
}

// 5,000 connections that say nothing do not keep anybody from working.
func TestManySilentConnections(t *testing.T) {
	d := newDesk(t)
	d.ball()
	var mu sync.Mutex
	var silent []net.Conn
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() {
			for range 100 {
				c, err := net.Dial("tcp", d.server.Listener.Addr().String())
				if err != nil {
					return // the machine itself allows fewer
				}
				fmt.Fprint(c, "GET / HTTP/1.1\r\n")
				mu.Lock()
				silent = append(silent, c)
				mu.Unlock()
			}
		})
	}
	group.Wait()
	if len(silent) < 400 {
		t.Fatalf("only %d connections", len(silent))
	}
	if len(silent) < 5000 { // no file is left on this machine; some are for the rest
		for _, c := range silent[:200] {
			c.Close()
		}
		time.Sleep(200 * time.Millisecond)
	}
	if code, text := d.visitor().ask("GET", "/api/assets/1/mesh", ""); code != 200 {
		t.Errorf("%d %.80s beside %d silent connections", code, text, len(silent))
	}
	for _, c := range silent {
		c.Close()
	}
}

// A body that trickles is ended; nothing of it is stored.
func TestABodyThatTricklesIsEnded(t *testing.T) {
	now := time.Now().Add(-slowAfter - time.Second)
	s := &steady{io.NopCloser(strings.NewReader(strings.Repeat("x", 1000))), http.NewResponseController(nil), now, 0}
	if _, err := s.Read(make([]byte, 100)); !errors.Is(err, errSlow) {
		t.Errorf("%v after 100 bytes in half a minute", err)
	}
	s = &steady{io.NopCloser(strings.NewReader(strings.Repeat("x", 1000))), http.NewResponseController(nil), time.Now(), 0}
	if text, err := io.ReadAll(s); err != nil || len(text) != 1000 {
		t.Errorf("%d bytes, %v of one that comes at once", len(text), err)
	}
}

// timed notes the deadlines of an answer.
type timed struct {
	*httptest.ResponseRecorder
	set []time.Time
}

func (d *timed) SetWriteDeadline(t time.Time) error { d.set = append(d.set, t); return nil }
func (d *timed) SetReadDeadline(time.Time) error    { return nil }

// An answer has a minute from each piece on, and none from the answer before on the same connection.
func TestAnswersHaveADeadlineOfTheirOwn(t *testing.T) {
	d := newDesk(t)
	d.ball()
	for _, c := range []struct {
		method, path, body string
		code               int
	}{{"GET", "/api/finishes", "", 200}, {"POST", "/api/assets/1/do/rename", `{"value":"mole"}`, 204}} {
		w := &timed{ResponseRecorder: httptest.NewRecorder()}
		r := httptest.NewRequest(c.method, "http://"+d.server.Listener.Addr().String()+c.path, strings.NewReader(c.body))
		r.Header.Set("Content-Type", "application/json")
		d.web.ServeHTTP(w, r)
		if w.Code != c.code || len(w.set) < 2 || !w.set[0].IsZero() || time.Until(w.set[len(w.set)-1]) < sentWithin-5*time.Second {
			t.Errorf("%s: %d, deadlines %v", c.path, w.Code, w.set)
		}
		if wrote := len(w.set) > 2; wrote != (c.code == 200) {
			t.Errorf("%s: %d deadlines were set", c.path, len(w.set))
		}
	}
}

// Heads that never end, and requests in a flood, are refused.
func TestHeadsAndFloodsAreLimited(t *testing.T) {
	dir := t.TempDir()
	st, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	s := studio.New(st)
	defer s.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	srv, err := New(s, l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- srv.Serve(ctx, l) }()
	defer func() { stop(); <-ended }()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "GET / HTTP/1.1\r\nHost: %s\r\nX: %s\r\n\r\n", l.Addr(), strings.Repeat("x", 1<<20))
	if line, err := bufio.NewReader(c).ReadString('\n'); err == nil && !strings.Contains(line, "431") { // RFC 6585: Request Header Fields Too Large
		t.Errorf("a head of 1 MB: %s", line)
	}
	p := paces{}
	for n := range burst {
		if !p.allows("a") {
			t.Fatalf("request %d of a burst is refused", n)
		}
	}
	for range burst {
		p.allows("a")
	}
	if p.allows("a") || !p.allows("b") {
		t.Error("a flood from one address is let through, or another's request is not")
	}
}
