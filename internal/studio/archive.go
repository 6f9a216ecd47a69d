package studio

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/plain"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// An asset archive is an asset as one zip; docs/archive.md describes it.

// archiveKind is what an archive says it is.
const archiveKind = "asset 1"

// Names in an archive.
const (
	archiveHead   = "archive.json"
	archiveStrata = "strata.json"
	archiveCard   = "card.png"
)

// Limits of an archive.
const (
	maxArchiveFiles = 5000
	maxArchiveBytes = 8 << 30 // of all files, unpacked
	maxArchiveFile  = 2 << 30
)

// archive is archive.json.
type archive struct {
	Crust     string            `json:"crust"`
	Name      string            `json:"name"`
	Split     string            `json:"split"`
	Size      int               `json:"size"`
	ModelName string            `json:"model_name"`
	HighName  string            `json:"high_name,omitempty"`
	Intake    json.RawMessage   `json:"intake,omitempty"`
	Settings  json.RawMessage   `json:"settings,omitempty"`
	Shipping  json.RawMessage   `json:"shipping,omitempty"`
	Files     []archiveFile     `json:"files"`
	Pictures  []archivePicture  `json:"pictures,omitempty"`
	Maps      []archiveMap      `json:"maps,omitempty"`
	Keepsakes []archiveKeepsake `json:"keepsakes,omitempty"`
}

type archiveFile struct {
	Kind string `json:"kind"` // one of store.FileKinds
	Name string `json:"name"` // as it was brought in
	File string `json:"file"` // in the archive
}

type archivePicture struct {
	Mark     string `json:"mark"` // what the strata call it
	Name     string `json:"name"`
	Space    string `json:"space"`
	Channel  string `json:"channel,omitempty"`
	Inverted bool   `json:"inverted,omitempty"`
	File     string `json:"file"`
}

type archiveMap struct {
	Set     string          `json:"set"`
	Kind    string          `json:"kind"`
	Stamp   string          `json:"stamp"` // of what it was baked from
	Brought bool            `json:"brought,omitempty"`
	Rays    int64           `json:"rays,omitempty"`
	Missed  int64           `json:"missed,omitempty"`
	Seconds float64         `json:"seconds,omitempty"`
	Low     float64         `json:"low,omitempty"` // metres
	High    float64         `json:"high,omitempty"`
	Legend  json.RawMessage `json:"legend,omitempty"`
	Box     json.RawMessage `json:"box,omitempty"`
	File    string          `json:"file"`
}

type archiveKeepsake struct {
	Name string    `json:"name"`
	Made time.Time `json:"made"`
	File string    `json:"file"`
}

// inFull is a document as its file, with its strokes.
func (s *Studio) inFull(d *strata.Document, strokes func(n int32) *brush.Stroke) ([]byte, error) {
	tree, err := d.InFull(func(n int32) (*brush.Stroke, error) { return strokes(n), nil })
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(tree, "", " ")
}

// Pack writes an asset as an archive, with its baked maps or without.
func (s *Studio) Pack(w io.Writer, id uint, withMaps bool) error {
	row, err := s.Store.Asset(id)
	if err != nil {
		return err
	}
	a, err := s.Open(id)
	if err != nil {
		return err
	}
	raw := func(text string) json.RawMessage {
		if text == "" {
			return nil
		}
		return json.RawMessage(text)
	}
	head := archive{Crust: archiveKind, Name: row.Name, Split: row.Split, Size: row.Size, ModelName: row.ModelName, HighName: row.HighName, Intake: raw(row.Intake), Settings: raw(row.Settings), Shipping: raw(row.Shipping), Files: []archiveFile{}}
	z := zip.NewWriter(w)
	put := func(name string, method uint16, data []byte) error {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: method, Modified: time.Now()})
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		return err
	}
	for _, kind := range store.FileKinds {
		files, err := s.Store.Files(id, kind)
		if err != nil {
			return err
		}
		for i, f := range files {
			at := fmt.Sprintf("%s/%d/%s", kind, i+1, uv.FileName(path.Base(f.Name)))
			head.Files = append(head.Files, archiveFile{kind, f.Name, at})
			if err := put(at, zip.Deflate, f.Data); err != nil {
				return err
			}
		}
	}
	pictures, err := s.Store.Pictures(id)
	if err != nil {
		return err
	}
	for i := range pictures {
		p := &pictures[i]
		f, err := s.Store.PictureFile(p)
		if err != nil {
			return err
		}
		at := fmt.Sprintf("pictures/%d/%s", i+1, uv.FileName(path.Base(f.Name)))
		head.Pictures = append(head.Pictures, archivePicture{markOf(p), p.Name, p.Space, p.Channel, p.Inverted, at})
		if err := put(at, zip.Store, f.Data); err != nil {
			return err
		}
	}
	a.mu.Lock()
	doc := a.doc.Clone()
	a.mu.Unlock()
	text, err := s.inFull(doc, a.Stroke)
	if err != nil {
		return err
	}
	if err := put(archiveStrata, zip.Deflate, text); err != nil {
		return err
	}
	keepsakes, err := s.Store.Keepsakes(id)
	if err != nil {
		return err
	}
	for i, k := range keepsakes {
		full, err := s.Store.Keepsake(id, k.ID)
		if err != nil {
			return err
		}
		d := new(strata.Document)
		if err := json.Unmarshal([]byte(full.Text), d); err != nil {
			return fmt.Errorf("keepsake “%s”: %w", k.Name, err)
		}
		text, err := s.inFull(d, func(n int32) *brush.Stroke { return s.storedStroke(a, n) })
		if err != nil {
			return err
		}
		at := fmt.Sprintf("keepsakes/%d.json", i+1)
		head.Keepsakes = append(head.Keepsakes, archiveKeepsake{k.Name, k.Made, at})
		if err := put(at, zip.Deflate, text); err != nil {
			return err
		}
	}
	if withMaps {
		rows, err := s.Store.Maps(id)
		if err != nil {
			return err
		}
		for i, r := range rows {
			m, err := s.Store.Map(id, r.Set, r.Kind)
			if err != nil {
				return err
			}
			at := fmt.Sprintf("maps/%d/%s_%s.png", i+1, uv.FileName(r.Set), r.Kind)
			head.Maps = append(head.Maps, archiveMap{r.Set, r.Kind, r.Stamp, r.Brought, r.Rays, r.Missed, r.Seconds, r.Low, r.High, raw(r.Legend), raw(r.Box), at})
			f, err := z.CreateHeader(&zip.FileHeader{Name: at, Method: zip.Store, Modified: time.Now()})
			if err != nil {
				return err
			}
			if err := imgfile.WritePNG(f, &imgfile.Image{Width: m.Size, Height: m.Size, Channels: m.Channels, Bits: 16, Pix16: m.Pix}, 3); err != nil {
				return err
			}
		}
	}
	if len(row.Picture) > 0 {
		if err := put(archiveCard, zip.Store, row.Picture); err != nil {
			return err
		}
	}
	out, err := json.MarshalIndent(head, "", "  ")
	if err != nil {
		return err
	}
	if err := put(archiveHead, zip.Deflate, append(out, '\n')); err != nil {
		return err
	}
	return z.Close()
}

// storedStroke finds a stroke that a keepsake holds, which the strata may not have any more.
func (s *Studio) storedStroke(a *Asset, n int32) *brush.Stroke {
	if k := a.Stroke(n); k != nil {
		return k
	}
	row, err := s.Store.Stroke(n)
	if err != nil {
		return nil
	}
	k, err := brush.Decode(row.Data)
	if err != nil || k.Fetch(s.Alpha) != nil {
		return nil
	}
	return k
}

// IsArchive tells whether a zip is an asset archive.
func IsArchive(data []byte) bool {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	return err == nil && slices.ContainsFunc(z.File, func(f *zip.File) bool { return f.Name == archiveHead })
}

// unpacking is an archive while it is read.
type unpacking struct {
	of   map[string]*zip.File
	left int64 // bytes that it may still hold
}

// read reads a file of the archive.
func (u *unpacking) read(name string) ([]byte, error) {
	f := u.of[name]
	if f == nil {
		return nil, fmt.Errorf("the archive has no file “%.80s”, which it speaks of; pack the asset again", name)
	}
	if f.UncompressedSize64 > maxArchiveFile || int64(f.UncompressedSize64) > u.left {
		return nil, fmt.Errorf("the archive is larger unpacked than %d GB", maxArchiveBytes>>30)
	}
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("“%.80s” in the archive is damaged; pack the asset again", name)
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, int64(f.UncompressedSize64)+1))
	if err != nil || uint64(len(data)) != f.UncompressedSize64 {
		return nil, fmt.Errorf("“%.80s” in the archive is damaged; pack the asset again", name)
	}
	u.left -= int64(len(data))
	return data, nil
}

// Unpack makes an asset from an archive, whole or not at all.
func (s *Studio) Unpack(r io.ReaderAt, size int64) (_ uint, err error) {
	defer plain.Speak(&err)
	z, err := zip.NewReader(r, size)
	if err != nil {
		return 0, errors.New("the archive is no sound zip; pack the asset again")
	}
	if len(z.File) > maxArchiveFiles {
		return 0, fmt.Errorf("the archive has %d files; %d is the limit", len(z.File), maxArchiveFiles)
	}
	u := &unpacking{of: map[string]*zip.File{}, left: maxArchiveBytes}
	for _, f := range z.File {
		u.of[f.Name] = f
	}
	text, err := u.read(archiveHead)
	if err != nil {
		return 0, err
	}
	var head archive
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&head); err != nil {
		return 0, fmt.Errorf("%s is not what docs/archive.md describes; it may be from a newer version", archiveHead)
	}
	if head.Crust != archiveKind {
		return 0, fmt.Errorf("the file says that it is “%.40s”; an asset archive says “%s”", head.Crust, archiveKind)
	}
	w, painted, err := s.wholeOf(u, &head)
	if err != nil {
		return 0, err
	}
	for _, k := range painted {
		for _, p := range k {
			for _, a := range p.Pictures() {
				if err := s.keepAlpha(a); err != nil {
					return 0, err
				}
			}
		}
	}
	err = s.Store.Restore(w, func(i int) (*bake.Map, error) { return u.mapOf(&head.Maps[i]) }, func(w *store.Whole) error { return s.remark(u, &head, w) })
	if err != nil {
		return 0, err
	}
	return w.Asset.ID, nil
}

// wholeOf reads all of an archive but its maps' texels, checks it, and does not store anything.
func (s *Studio) wholeOf(u *unpacking, head *archive) (*store.Whole, []strata.Painting, error) {
	w := &store.Whole{Files: map[string][]store.File{}}
	name := strings.TrimSpace(head.Name)
	if name == "" || len(name) > strata.MaxName {
		return nil, nil, fmt.Errorf("the asset's name in the archive has 1 to %d letters", strata.MaxName)
	}
	in, err := parseIntake(string(head.Intake))
	if err != nil {
		return nil, nil, errors.New("the intake settings in the archive cannot be read; pack the asset again")
	}
	settings := Settings{Quality: "normal"}
	if len(head.Settings) > 0 && json.Unmarshal(head.Settings, &settings) != nil {
		return nil, nil, errors.New("the bake settings in the archive cannot be read; pack the asset again")
	}
	shipping := parseShipping(string(head.Shipping))
	for _, f := range head.Files {
		if !slices.Contains(store.FileKinds, f.Kind) || strings.Contains(f.Name, "..") || path.IsAbs(f.Name) || len(f.Name) > 1000 {
			return nil, nil, fmt.Errorf("the archive names a file “%.80s” of kind “%.40s”, which an asset does not have", f.Name, f.Kind)
		}
		data, err := u.read(f.File)
		if err != nil {
			return nil, nil, err
		}
		w.Files[f.Kind] = append(w.Files[f.Kind], store.File{Name: f.Name, Data: data})
	}
	if len(w.Files["model"]) != 1 {
		return nil, nil, errors.New("the archive does not hold one model; pack the asset again")
	}
	// It has to open the way it was.
	model, err := mesh.Open(w.Files["model"][0], w.Files["beside"])
	if err != nil {
		return nil, nil, fmt.Errorf("the model in the archive: %w", err)
	}
	t, err := takeModel(model, in, head.Split, w.Files["layout"])
	if err != nil {
		return nil, nil, fmt.Errorf("the model in the archive: %w", err)
	}
	if err := shipping.check(t.sets); err != nil {
		shipping = newShipping()
	}
	if len(head.Pictures) > MaxPictures || len(head.Keepsakes) > MaxKeepsakes || len(head.Maps) > 100*len(t.sets)+100 {
		return nil, nil, errors.New("the archive holds more pictures, keepsakes or maps than an asset has")
	}
	for _, p := range head.Pictures {
		data, err := u.read(p.File)
		if err != nil {
			return nil, nil, err
		}
		pic, err := imgfile.Read(path.Base(p.File), data)
		if err != nil {
			return nil, nil, fmt.Errorf("picture “%.80s” in the archive: %w", p.Name, err)
		}
		w.Pictures = append(w.Pictures, store.Picture{Name: p.Name, Space: p.Space, Channel: p.Channel, Inverted: p.Inverted, Width: pic.Width, Height: pic.Height, Channels: pic.Channels})
		w.PicFiles = append(w.PicFiles, store.File{Name: p.Name, Data: data})
	}
	for _, m := range head.Maps {
		if !slices.ContainsFunc(bake.All(), func(k bake.Kind) bool { return k.Name == m.Kind }) {
			return nil, nil, fmt.Errorf("the archive holds a map “%.40s”, which is not one of the baked maps", m.Kind)
		}
		file := u.of[m.File]
		if file == nil {
			return nil, nil, fmt.Errorf("the archive has no file “%.80s”, which it speaks of; pack the asset again", m.File)
		}
		w.Maps = append(w.Maps, store.Baked{Set: m.Set, Kind: m.Kind, Stamp: m.Stamp, Brought: m.Brought, Rays: m.Rays, Missed: m.Missed, Seconds: m.Seconds, Low: m.Low, High: m.High, Legend: compact(m.Legend), Box: compact(m.Box), Made: time.Now()})
	}
	var painted []strata.Painting
	for _, name := range append([]string{archiveStrata}, keepsakeFiles(head)...) {
		text, err := u.read(name)
		if err != nil {
			return nil, nil, err
		}
		_, p, err := strata.ParseFile(text)
		if err != nil {
			return nil, nil, fmt.Errorf("%s in the archive: %w", name, err)
		}
		painted = append(painted, p)
	}
	if card, err := u.read(archiveCard); err == nil {
		if _, err := imgfile.Check(archiveCard, card); err == nil {
			w.Asset.Picture = card
		}
	}
	if !slices.Contains(Sizes, head.Size) {
		head.Size = 1024
	}
	text := func(v any) string { b, _ := json.Marshal(v); return string(b) }
	w.Asset.Name, w.Asset.Split, w.Asset.Size, w.Asset.ModelName, w.Asset.HighName = name, head.Split, head.Size, head.ModelName, head.HighName
	w.Asset.Intake, w.Asset.Settings, w.Asset.Shipping = text(in), text(settings), text(shipping)
	return w, painted, nil
}

// compact is JSON without blanks.
func compact(text json.RawMessage) string {
	var b bytes.Buffer
	if json.Compact(&b, text) != nil {
		return ""
	}
	return b.String()
}

func keepsakeFiles(head *archive) (out []string) {
	for _, k := range head.Keepsakes {
		out = append(out, k.File)
	}
	return out
}

// mapOf reads a map's texels.
func (u *unpacking) mapOf(m *archiveMap) (*bake.Map, error) {
	data, err := u.read(m.File)
	if err != nil {
		return nil, err
	}
	if _, err := imgfile.Check(m.File, data); err != nil {
		return nil, err
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s: the file is damaged; pack the asset again", m.File)
	}
	size := img.Bounds().Dx()
	if size != img.Bounds().Dy() || size > 8192 {
		return nil, fmt.Errorf("%s is %d × %d px; a map is square and at most 8192 px wide", m.File, size, img.Bounds().Dy())
	}
	out := &bake.Map{Set: m.Set, Kind: m.Kind, Size: size, Channels: 1}
	switch p := img.(type) {
	case *image.Gray16:
		out.Pix = make([]uint16, size*size)
		for i := range out.Pix {
			out.Pix[i] = binary.BigEndian.Uint16(p.Pix[2*i:])
		}
	case *image.RGBA64:
		out.Channels, out.Pix = 3, make([]uint16, 3*size*size)
		for i := range out.Pix {
			out.Pix[i] = binary.BigEndian.Uint16(p.Pix[8*(i/3)+2*(i%3):])
		}
	default:
		return nil, fmt.Errorf("%s is not a map of 16 bits, grey or with three channels", m.File)
	}
	return out, nil
}

// remark gives the documents of an archive the marks that its pictures and strokes have here.
func (s *Studio) remark(u *unpacking, head *archive, w *store.Whole) error {
	to := map[string]string{}
	for i := range w.Pictures {
		to[head.Pictures[i].Mark] = markOf(&w.Pictures[i])
	}
	read := func(name string) (string, error) {
		text, err := u.read(name)
		if err != nil {
			return "", err
		}
		d, painted, err := strata.ParseFile(text)
		if err != nil {
			return "", err
		}
		clip := strata.Clip{Layers: d.Layers}
		for _, src := range clip.Sources() {
			if m := to[src.Picture]; m != "" {
				src.Picture = m
			} else {
				src.Picture = "p0" // of a picture that was gone already
			}
		}
		w.Strokes = append(w.Strokes, s.number(d, painted)...)
		out, err := json.Marshal(d)
		return string(out), err
	}
	var err error
	if w.Document, err = read(archiveStrata); err != nil {
		return err
	}
	for _, k := range head.Keepsakes {
		text, err := read(k.File)
		if err != nil {
			return err
		}
		w.Keepsakes = append(w.Keepsakes, store.Keepsake{Name: k.Name, Made: k.Made, Text: text})
	}
	return nil
}
