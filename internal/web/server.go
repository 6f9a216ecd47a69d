// Package web serves Crust's pages, its pictures and the socket that keeps a page alive.
package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"crust/internal/access"
	"crust/internal/core/bake"
	"crust/internal/core/bring"
	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/field"
	"crust/internal/core/finish"
	"crust/internal/core/imgfile"
	"crust/internal/core/layout"
	"crust/internal/core/letters"
	"crust/internal/core/light"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/plain"
	"crust/internal/core/still"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
	"crust/internal/studio"
)

//go:embed templates static
var files embed.FS

// importMap lets three's own modules find it by name. The page may run no other inline script: the
// policy names this one's hash.
const importMap = `{"imports":{"three":"/static/vendor/three/three.module.js"}}`

var importMapHash = func() string {
	sum := sha256.Sum256([]byte(importMap))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}()

// Server answers for one studio.
type Server struct {
	studio *studio.Studio
	echo   *echo.Echo
	hosts  map[string]bool
	port   string
	// Demo makes the demo asset; nil when there is none to offer.
	Demo  func() (uint, error)
	pages *template.Template
	// Users are those who may enter; nil where everybody who reaches the server may. They are set before it serves.
	Users *access.Users
	// TLS is the certificate that it answers with; nil for plain HTTP.
	TLS *tls.Certificate

	wrong   wrongTokens
	paces   paces
	sockets sockets
	atOnce  share
	uploads share
}

// New makes the handler of a server that is reached at addr, “host:port”. Requests that name another
// host, or come from another origin's page, are refused.
func New(st *studio.Studio, addr string) (*Server, error) {
	s := &Server{studio: st, echo: echo.New(), hosts: map[string]bool{}, atOnce: make(share, maxAtOnce), uploads: make(share, uploadsAtOnce)}
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("address %s: %w", addr, err)
	}
	s.port = port
	for _, h := range []string{host, "127.0.0.1", "localhost", "::1"} {
		s.hosts[net.JoinHostPort(h, port)] = true
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
		for _, h := range ownNames() {
			s.hosts[net.JoinHostPort(h, port)] = true
		}
	}
	if s.pages, err = template.New("").Funcs(template.FuncMap{"icon": icon, "ago": ago, "bytes": bytesText}).ParseFS(files, "templates/*.html"); err != nil {
		return nil, err
	}
	s.echo.Renderer = &echo.TemplateRenderer{Template: s.pages}
	s.echo.HTTPErrorHandler = answerError
	s.echo.IPExtractor = echo.ExtractIPDirect()
	s.echo.Use(s.guard, s.limited, s.enter, s.mayChange, catch)
	s.routes()
	return s, nil
}

// ownNames are the names and addresses under which this machine can be reached.
func ownNames() (out []string) {
	if name, err := os.Hostname(); err == nil {
		out = append(out, name)
	}
	addrs, _ := net.InterfaceAddrs()
	for _, a := range addrs {
		if n, ok := a.(*net.IPNet); ok {
			out = append(out, n.IP.String())
		}
	}
	return out
}

// Serve answers on the listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	srv := &http.Server{Handler: s, ReadHeaderTimeout: headerWithin, IdleTimeout: idleFor, MaxHeaderBytes: maxHeader, ErrorLog: log.New(io.Discard, "", 0), BaseContext: func(net.Listener) context.Context { return ctx }}
	serve := srv.Serve
	if s.TLS != nil {
		srv.TLSConfig = &tls.Config{Certificates: []tls.Certificate{*s.TLS}, MinVersion: tls.VersionTLS12}
		serve = func(l net.Listener) error { return srv.ServeTLS(l, "", "") }
	}
	failed := make(chan error, 1)
	go func() { failed <- serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	end, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := srv.Shutdown(end); err != nil {
		srv.Close()
	}
	return nil
}

// answersFor tells whether a “host:port” is this server: one of its own names, or one of its certificate's.
func (s *Server) answersFor(at string) bool {
	if s.hosts[at] {
		return true
	}
	host, port, err := net.SplitHostPort(at)
	if s.TLS == nil || err != nil && at == "" {
		return false
	}
	if err != nil {
		host, port = at, "443"
	}
	return port == s.port && s.TLS.Leaf != nil && s.TLS.Leaf.VerifyHostname(host) == nil
}

func (s *Server) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if !s.answersFor(r.Host) {
			return echo.NewHTTPError(http.StatusForbidden, "this server does not answer for "+r.Host)
		}
		if o := r.Header.Get("Origin"); o != "" {
			if u, err := url.Parse(o); err != nil || !s.answersFor(u.Host) {
				return echo.NewHTTPError(http.StatusForbidden, "this server does not answer pages of "+o)
			}
		}
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; script-src 'self' "+importMapHash+"; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'")
		return next(c)
	}
}

func (s *Server) routes() {
	e := s.echo
	e.GET("/", s.home)
	e.GET("/enter", s.entrance)
	e.POST("/enter", s.entrance)
	e.POST("/leave", s.leave)
	e.GET("/assets/:id", func(c *echo.Context) error {
		return c.Redirect(http.StatusFound, "/assets/"+c.Param("id")+"/intake")
	})
	e.GET("/assets/:id/:stage", s.with(s.asset))
	static, _ := fs.Sub(files, "static")
	e.GET("/static/*", func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.FileFS(path.Clean(c.Param("*")), static)
	})
	e.GET("/api/surroundings/:name/:size", s.surroundings)
	e.GET("/api/finishes", s.finishes)
	e.POST("/api/finishes", s.takeFinish)
	e.GET("/api/finishes/:name", s.finishFile)
	e.GET("/api/finishes/:name/picture", s.finishPicture)
	e.DELETE("/api/finishes/:name", s.dropFinish)
	e.GET("/api/specimen", s.specimen)
	e.GET("/api/stamp", s.face)
	e.GET("/api/presets", s.ownPresets)
	e.PUT("/api/presets", s.putPreset)
	e.GET("/api/presets/:name", s.presetFile)
	e.DELETE("/api/presets/:name", s.dropPreset)
	e.GET("/api/brushes", s.brushes)
	e.POST("/api/brushes", s.takeBrush)
	e.GET("/api/brushes/:name", s.brushFile)
	e.DELETE("/api/brushes/:name", s.dropBrush)
	e.POST("/api/alphas", s.addAlpha)
	e.GET("/api/alphas/:hash", s.alpha)
	e.POST("/api/assets", s.create)
	e.POST("/api/squares", s.square)
	e.POST("/api/demo", s.demo)
	e.DELETE("/api/assets/:id", s.remove)
	e.GET("/api/assets/:id/picture", s.picture)
	e.GET("/api/assets/:id/archive", s.with(s.archive))
	e.PUT("/api/assets/:id/picture", s.with(s.putPicture))
	e.GET("/api/assets/:id/socket", s.with(s.socket))
	e.GET("/api/assets/:id/mesh", s.with(s.mesh))
	e.GET("/api/assets/:id/checks", s.with(s.checks))
	e.GET("/api/assets/:id/checks/:n/:place", s.with(s.placeShape))
	e.GET("/api/assets/:id/preview/:split", s.with(s.preview))
	e.POST("/api/assets/:id/again", s.with(s.again))
	e.POST("/api/assets/:id/carry", s.with(s.carry))
	e.POST("/api/assets/:id/own-materials", s.with(s.ownMaterials))
	e.GET("/api/assets/:id/flat", s.with(s.flat))
	e.GET("/api/assets/:id/maps/:kind", s.with(s.mapPicture))
	e.POST("/api/assets/:id/maps/:kind", s.with(s.bringMap))
	e.GET("/api/assets/:id/maps/:kind/at", s.with(s.mapValue))
	e.POST("/api/assets/:id/estimate", s.with(s.estimate))
	e.GET("/api/assets/:id/pairing", s.with(s.pairing))
	e.GET("/api/assets/:id/cage", s.with(s.cage))
	e.GET("/api/assets/:id/high-mesh", s.with(s.highMesh))
	e.GET("/api/assets/:id/misses", s.with(s.misses))
	e.POST("/api/assets/:id/bring", s.with(s.bring))
	e.POST("/api/assets/:id/pictures", s.with(s.addPictures))
	e.GET("/api/assets/:id/pictures/:mark", s.with(s.thumb))
	e.GET("/api/assets/:id/at", s.with(s.at))
	e.GET("/api/assets/:id/strokes", s.with(s.strokes))
	e.GET("/api/assets/:id/strokes/:n", s.with(s.stroke))
	e.GET("/api/assets/:id/legend", s.with(s.legend))
	e.POST("/api/assets/:id/high", s.with(s.high))
	e.POST("/api/assets/:id/finish", s.with(s.saveFinish))
	e.POST("/api/assets/:id/do/:what", s.with(s.do))
	e.GET("/api/assets/:id/still/:format", s.with(s.still))
	e.GET("/api/assets/:id/sky/:mark/:size", s.with(s.sky))
	e.GET("/api/assets/:id/delivery-plan", s.with(s.deliveryPlan))
	e.POST("/api/assets/:id/planes", s.with(s.planes))
	e.GET("/api/assets/:id/conflicts", s.with(s.conflicts))
	e.GET("/api/assets/:id/deliveries", s.with(s.deliveries))
	e.GET("/api/assets/:id/deliveries/:n/zip", s.with(s.deliveryZip))
	e.GET("/api/assets/:id/deliveries/:n/files", s.with(s.readDelivery))
	e.GET("/api/assets/:id/deliveries/:n/wired", s.with(s.wired))
	e.GET("/api/assets/:id/deliveries/:n/plane", s.with(s.deliveredPlane))
}

// answerError turns errors into one sentence, as JSON for the page's own calls.
func answerError(c *echo.Context, err error) {
	code, text := http.StatusUnprocessableEntity, plain.Text(err.Error())
	var h *echo.HTTPError
	var coded echo.HTTPStatusCoder
	var big *http.MaxBytesError
	var fault *store.Fault
	var lost *par.Panic
	var file *fs.PathError
	var link *os.LinkError
	var looking *store.Looking
	switch {
	case errors.As(err, &looking):
		code = http.StatusForbidden
	case errors.Is(err, errSlow):
		code, text = http.StatusRequestTimeout, errSlow.Error()
	case errors.Is(err, context.Canceled) && c.Request().Context().Err() != nil:
		code = 499 // the client has gone
	case errors.As(err, &lost):
		slog.Error("a fault ended a request", "path", c.Request().URL.Path, "fault", lost.Value, "trace", string(lost.Trace))
		code, text = http.StatusInternalServerError, studio.ErrFault.Error()
	case errors.Is(err, studio.ErrFault), errors.As(err, &fault), errors.As(err, &link), errors.As(err, &file) && !errors.Is(err, fs.ErrNotExist):
		code = http.StatusInternalServerError
	case errors.As(err, &big):
		code, text = http.StatusRequestEntityTooLarge, fmt.Sprintf("the files are larger than %d MB together; bring them in one by one", big.Limit>>20)
	case errors.As(err, &h):
		code, text = h.Code, h.Message
	case errors.Is(err, echo.ErrNotFound):
		code, text = http.StatusNotFound, "there is nothing at this address"
	case errors.Is(err, echo.ErrMethodNotAllowed):
		code, text = http.StatusMethodNotAllowed, "this address does not take "+c.Request().Method
	case errors.Is(err, store.ErrNone), errors.Is(err, fs.ErrNotExist):
		code = http.StatusNotFound
	case errors.As(err, &coded) && coded.StatusCode() >= 400:
		code = coded.StatusCode()
	}
	if code >= 500 {
		slog.Error("request failed", "path", c.Request().URL.Path, "error", err)
	}
	if strings.HasPrefix(c.Request().URL.Path, "/api/") {
		err = c.JSON(code, map[string]string{"error": text})
	} else {
		err = c.String(code, text)
	}
	if err != nil {
		slog.Debug("answer not sent", "error", err)
	}
}

// catch turns a panic of a handler into an error, so that it ends that request alone.
func catch(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) (err error) {
		defer par.Catch(&err)
		return next(c)
	}
}

func icon(name string) (template.HTML, error) {
	b, err := files.ReadFile("static/vendor/tabler/" + name + ".svg")
	if err != nil {
		return "", err
	}
	return template.HTML(strings.Replace(string(b), "<svg", `<svg aria-hidden="true"`, 1)), nil
}

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Format("2 Jan 2006")
}

func bytesText(n int64) string {
	if n < 1<<20 {
		return fmt.Sprintf("%d kB", (n+1023)>>10)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
}

type card struct {
	store.Asset
	Used  int64
	Stage string // that it opens: where work goes on
}

func (s *Server) home(c *echo.Context) error {
	assets, err := s.studio.Store.Assets()
	if err != nil {
		return err
	}
	cards := make([]card, len(assets))
	for i, a := range assets {
		used, err := s.studio.Store.Used(a.ID)
		if err != nil {
			return err
		}
		maps, err := s.studio.Store.Maps(a.ID)
		if err != nil {
			return err
		}
		cards[i] = card{a, used, "intake"}
		if len(maps) > 0 {
			cards[i].Stage = "paint"
		}
	}
	return c.Render(http.StatusOK, "home.html", map[string]any{"Assets": cards, "Demo": s.Demo != nil && s.refusal(c) == nil, "Looks": s.looks(c), "User": userOf(c).Name})
}

// Stages in the order of the work.
var stages = []string{"intake", "bake", "paint", "deliver"}

// pageIcons are the icons that the page's scripts place.
var pageIcons = func() []string {
	out := []string{"x", "eye", "eye-off", "trash", "copy", "corner-left-down", "clipboard", "plus", "download", "chevron-down", "chevron-right", "lock", "lock-open", "stack-pop", "stack-push", "target", "bookmark-plus", "photo", "photo-plus", "color-swatch", "adjustments", "color-picker", "focus-2", "bookmarks", "brush", "eraser", "upload"}
	for i := range field.Kinds {
		out = append(out, field.Kinds[i].Icon)
	}
	return out
}()

// tables is what the page's controls are made from, straight from the core's tables.
func tables() map[string]any {
	type blend struct {
		Name  string `json:"name"`
		Label string `json:"label"`
	}
	type kind struct {
		Name     string `json:"name"`
		Label    string `json:"label"`
		Help     string `json:"help"`
		Channels int    `json:"channels"`
		With     string `json:"with,omitempty"` // the kind whose bake makes it too
	}
	var blends []blend
	for _, b := range pixel.Blends {
		blends = append(blends, blend{b.Name, b.Label})
	}
	var kinds []kind
	for _, k := range bake.All() {
		kinds = append(kinds, kind{k.Name, k.Label, k.Help, k.Channels, k.With})
	}
	sources := map[string]string{}
	for _, s := range compose.Sources {
		sources[s.Name] = s.Label
	}
	dials := map[string][]finish.Dial{}
	for _, f := range finish.Finishes {
		dials[f.Name] = f.Dials
	}
	return map[string]any{"fonts": letters.Fonts, "brushes": brush.Built, "brushParams": brush.Params, "tips": brush.Tips, "hand": brush.Hand,
		"dials": dials, "blends": blends, "sources": sources, "joins": strata.Joins, "physical": pixel.Physical, "laying": strata.Laying, "sourceKinds": strata.SourceKinds, "of": strata.Of, "normalOf": strata.NormalOf, "channels": strata.Channels, "clauses": field.Kinds, "maps": kinds,
		"surroundings": light.All, "lampKinds": light.Kinds, "stillChannels": still.Channels, "presets": deliver.Presets, "planeSources": append(deliver.Sources[:len(deliver.Sources):len(deliver.Sources)], deliver.MapSources()...), "formats": imgfile.Formats, "nameWords": deliver.NameWords, "scales": deliver.Scales, "sizes": studio.Sizes, "deliverSizes": deliver.Sizes, "qualities": studio.Qualities, "splits": uv.Splits, "setSizes": studio.SetSizes, "units": mesh.Units, "contents": layout.Contents, "sees": bake.SeesChoices, "ids": bake.IDChoices, "pictureEndings": imgfile.Endings(), "words": bring.Words}
}

func (s *Server) asset(c *echo.Context, a *studio.Asset) error {
	stage := c.Param("stage")
	for _, k := range stages {
		if k == stage {
			return c.Render(http.StatusOK, "asset.html", map[string]any{"Looks": s.looks(c), "ID": a.ID, "Stage": stage, "Stages": stages, "Tables": tables(), "Icons": pageIcons, "ImportMap": template.HTML(`<script type="importmap">` + importMap + `</script>`)})
		}
	}
	return echo.ErrNotFound
}

func (s *Server) open(c *echo.Context) (*studio.Asset, error) {
	id, err := echo.PathParam[uint](c, "id")
	if err != nil {
		return nil, fmt.Errorf("asset %s: %w", c.Param("id"), store.ErrNone)
	}
	return s.studio.Open(id)
}

// with opens the asset that the address names before the handler runs.
func (s *Server) with(h func(c *echo.Context, a *studio.Asset) error) echo.HandlerFunc {
	return func(c *echo.Context) error {
		a, err := s.open(c)
		if err != nil {
			return err
		}
		a.Hold()
		defer a.Release()
		return h(c, a)
	}
}

// upload reads the files of a form, limited in all.
func (s *Server) upload(c *echo.Context) (studio.Upload, error) {
	r := c.Request()
	if err := s.uploads.take(r.Context()); err != nil {
		return nil, err
	}
	defer s.uploads.give()
	r.Body = http.MaxBytesReader(c.Response(), r.Body, mesh.MaxBytes)
	mr, err := r.MultipartReader()
	if err != nil {
		return nil, errors.New("no files came with this request; choose a file")
	}
	var out studio.Upload
	for {
		p, err := mr.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if p.FileName() == "" {
			continue
		}
		data, err := io.ReadAll(p)
		if err != nil {
			return nil, err
		}
		name := path.Base(strings.ReplaceAll(p.FileName(), "\\", "/"))
		if f := p.FormName(); strings.Contains(f, "/") {
			name = path.Clean("/" + f)[1:] // a file of a folder comes with its path
		}
		out = append(out, store.File{Name: name, Data: data})
		if len(out) > 500 {
			return nil, errors.New("more than 500 files at once; bring in fewer")
		}
	}
	if len(out) == 0 {
		return nil, errors.New("no file was chosen")
	}
	return out, nil
}

func (s *Server) create(c *echo.Context) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	if len(u) == 1 && studio.IsArchive(u[0].Data) {
		id, err := s.studio.Unpack(bytes.NewReader(u[0].Data), int64(len(u[0].Data)))
		if err != nil {
			return err
		}
		return c.JSON(http.StatusCreated, map[string]any{"id": id, "stage": "paint"})
	}
	id, err := s.studio.Create("", u, nil)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]uint{"id": id})
}

// preview answers with the sets that a way to split would give.
func (s *Server) preview(c *echo.Context, a *studio.Asset) error {
	sets, err := a.Preview(c.Param("split"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, studio.SetEvents(sets, func(string) int { return studio.DefaultSize }))
}

// again reads a corrected model and answers with what it would change.
func (s *Server) again(c *echo.Context, a *studio.Asset) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	plan, err := a.Again(u)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, plan)
}

// square makes an asset of a flat square that repeats.
func (s *Server) square(c *echo.Context) error {
	var r struct {
		Name string  `json:"name"`
		Side float64 `json:"side"`
	}
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 1<<12)
	if err := c.Bind(&r); err != nil {
		return errors.New("the call could not be understood")
	}
	id, err := s.studio.CreateSquare(strings.TrimSpace(r.Name), r.Side, nil, nil)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"id": id, "stage": "paint"})
}

func (s *Server) demo(c *echo.Context) error {
	if s.Demo == nil {
		return echo.ErrNotFound
	}
	id, err := s.Demo()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]uint{"id": id})
}

func (s *Server) remove(c *echo.Context) error {
	id, err := echo.PathParam[uint](c, "id")
	if err != nil {
		return store.ErrNone
	}
	if err := s.studio.Delete(id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) high(c *echo.Context, a *studio.Asset) error {
	u, err := s.upload(c)
	if err != nil {
		return err
	}
	if err := a.SetHigh(u, c.QueryParam("add") != ""); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// request is the body of the small calls under /do/.
type request struct {
	Key      string             `json:"key"`
	Intake   studio.Intake      `json:"intake"`
	Layout   layout.Options     `json:"layout"`
	Value    string             `json:"value"`
	Number   int                `json:"number"`
	Cells    []studio.Cell      `json:"cells"`
	Settings json.RawMessage    `json:"settings"` // what changes of studio.Settings
	Shipping json.RawMessage    `json:"shipping"` // what changes of studio.Shipping
	Replace  bool               `json:"replace"`
	Still    studio.StillWanted `json:"still"`

	Rows  []studio.Brought    `json:"rows"`
	Words map[string][]string `json:"words"`

	root string // below which the deliveries of the one who asks lie
}

// calls are the small calls on an asset.
var calls = map[string]func(a *studio.Asset, r request) error{
	"rename":        func(a *studio.Asset, r request) error { return a.Rename(r.Value) },
	"split":         func(a *studio.Asset, r request) error { return a.Split(r.Value) },
	"name-set":      func(a *studio.Asset, r request) error { return a.NameSet(r.Key, r.Value) },
	"size-set":      func(a *studio.Asset, r request) error { return a.SizeSet(r.Key, r.Number) },
	"intake":        func(a *studio.Asset, r request) error { return a.SetIntake(r.Intake) },
	"padding":       func(a *studio.Asset, r request) error { return a.SetPadding(r.Intake.Padding) },
	"layout":        func(a *studio.Asset, r request) error { return a.Layout(r.Layout) },
	"carry":         func(a *studio.Asset, _ request) error { return a.CarryMaps() },
	"replace":       func(a *studio.Asset, _ request) error { return a.Replace() },
	"size":          func(a *studio.Asset, r request) error { return a.SetSize(r.Number) },
	"keep":          func(a *studio.Asset, r request) error { return a.Keep(r.Value) },
	"drop-keepsake": func(a *studio.Asset, r request) error { return a.DropKeepsake(uint(max(0, r.Number))) },
	"space":         func(a *studio.Asset, r request) error { return a.SetSpace(r.Key, r.Value) },
	"settings":      func(a *studio.Asset, r request) error { return a.ChangeSettings(r.Settings) },
	"bake":          func(a *studio.Asset, r request) error { return a.Bake(r.Cells) },
	"drop-high":     func(a *studio.Asset, r request) error { return a.DropHigh(r.Value) },
	"bring":         func(a *studio.Asset, r request) error { return a.TakeBrought(r.Value, r.Rows) },
	"words":         func(a *studio.Asset, r request) error { return a.SetWords(r.Words) },
	"stop":          func(a *studio.Asset, r request) error { a.StopJob(); return nil },
	"shipping":      func(a *studio.Asset, r request) error { return a.ChangeShipping(r.Shipping) },
	"deliver":       func(a *studio.Asset, r request) error { return a.Deliver(r.root, r.Replace) },
	"deliver-again": func(a *studio.Asset, r request) error {
		return a.DeliverAgain(r.root, uint(max(0, r.Number)), r.Replace)
	},
	"still":         func(a *studio.Asset, r request) error { return a.Still(r.Still) },
	"lay-sheet":     func(a *studio.Asset, r request) error { return a.LaySheet(r.Key, r.Value) },
	"compare":       func(a *studio.Asset, r request) error { return a.CompareDelivery(uint(max(0, r.Number))) },
	"drop-delivery": func(a *studio.Asset, r request) error { return a.DropDelivery(uint(max(0, r.Number))) },
}

func (s *Server) do(c *echo.Context, a *studio.Asset) error {
	call := calls[c.Param("what")]
	if call == nil {
		return echo.ErrNotFound
	}
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 1<<20)
	var r request
	if err := c.Bind(&r); err != nil {
		return errors.New("the call could not be understood")
	}
	r.root = s.rootOf(c)
	if err := call(a, r); err != nil {
		var name *studio.NameError
		if errors.As(err, &name) {
			return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": err.Error(), "proposal": name.Proposal})
		}
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
