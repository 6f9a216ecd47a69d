package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"path/filepath"

	"golang.org/x/image/tiff"

	"crust/internal/core/brush"
	"crust/internal/core/deliver"
	"crust/internal/core/finish"
	"crust/internal/core/imgfile"
	"crust/internal/core/inspect"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/demo"
	"crust/internal/store"
	"crust/internal/studio"
)

// file is a sound file that mutants are made of.
type file struct {
	name string
	data []byte
}

// reader is one of Crust's readers of files.
type reader struct {
	name  string
	seeds func() ([]file, error)
	// open makes ready to read, in a folder, and what ends that.
	open func(dir string) (read func(name string, data []byte) error, end func(), err error)
	// sound, if it is there, chooses the mutants that are read.
	sound func(name string, data []byte) bool
}

// throughName is the reader that goes all the way from a model to its delivery.
const throughName = "through"

func readerOf(name string) *reader {
	for i := range readers {
		if readers[i].name == name {
			return &readers[i]
		}
	}
	return nil
}

// plainly is a reader that needs nothing else.
func plainly(read func(name string, data []byte) error) func(string) (func(string, []byte) error, func(), error) {
	return func(string) (func(string, []byte) error, func(), error) { return read, func() {}, nil }
}

var readers []reader

func init() {
	readers = []reader{
		{"models", models, plainly(readModel), nil},
		{"pictures", pictures, plainly(func(name string, data []byte) error {
			_, err := imgfile.Read(name, data)
			return err
		}), nil},
		{"archives", archives, inStudio(func(s *studio.Studio, _ string, data []byte) error {
			id, err := s.Unpack(bytes.NewReader(data), int64(len(data)))
			if err != nil {
				return err
			}
			return s.Delete(id)
		}), nil},
		{"backups", backups, func(dir string) (func(string, []byte) error, func(), error) {
			in, err := os.MkdirTemp(dir, "backups-")
			return func(_ string, data []byte) error {
				to := filepath.Join(in, "data")
				defer os.RemoveAll(to)
				return store.RestoreFolder(bytes.NewReader(data), int64(len(data)), to)
			}, func() { os.RemoveAll(in) }, err
		}, nil},
		{"presets", presets, plainly(func(_ string, data []byte) error { _, err := deliver.ParsePreset(data); return err }), nil},
		{"finishes", finishes, plainly(func(_ string, data []byte) error {
			f, err := finish.Parse(data)
			if err == nil {
				_, err = f.Group(new(strata.Document), nil, 1)
			}
			return err
		}), nil},
		{"brushes", brushes, plainly(func(_ string, data []byte) error { _, err := brush.ParseFile(data); return err }), nil},
		{"strata files", strataFiles, plainly(func(_ string, data []byte) error { _, _, err := strata.ParseFile(data); return err }), nil},
		{throughName, models, inStudio(through), func(name string, data []byte) (ok bool) {
			defer func() { _ = recover() }() // the readers of models answer for that
			return readModel(name, data) == nil
		}},
	}
}

// readModel reads a model as it is brought in.
func readModel(name string, data []byte) error {
	files, err := mesh.Unpack([]mesh.File{{Name: name, Data: data}})
	if err != nil {
		return err
	}
	f, beside, err := mesh.Pick(files)
	if err != nil {
		return err
	}
	_, err = mesh.Open(f, beside)
	return err
}

// inStudio is a reader that stores what it reads.
func inStudio(read func(s *studio.Studio, name string, data []byte) error) func(string) (func(string, []byte) error, func(), error) {
	return func(dir string) (func(string, []byte) error, func(), error) {
		in, err := os.MkdirTemp(dir, "studio-")
		if err != nil {
			return nil, nil, err
		}
		st, err := store.Open(in)
		if err != nil {
			return nil, nil, err
		}
		s := studio.New(st)
		return func(name string, data []byte) error { return read(s, name, data) }, func() { s.Close(); st.Close(); os.RemoveAll(in) }, nil
	}
}

// through takes a model in, looks at it, lays a finish, bakes what is missing, and delivers.
func through(s *studio.Studio, name string, data []byte) (err error) {
	id, err := s.Create("", studio.Upload{{Name: name, Data: data}}, nil)
	if err != nil {
		return err
	}
	defer func() {
		if e := s.Delete(id); err == nil {
			err = e
		}
	}()
	a, err := s.Open(id)
	if err != nil {
		return err
	}
	m, sets := a.Model()
	if _, err := inspect.Model(context.Background(), m, sets, inspect.Options{Padding: inspect.DefaultPadding, Size: func(string) int { return 64 }}, func(float64) {}); err != nil {
		return err
	}
	if !m.HasUV || len(sets) > 6 {
		return nil
	}
	if err := a.SetSettings(studio.Settings{Quality: "draft", Size: 64}); err != nil {
		return err
	}
	d := a.Document()
	layers, err := finish.Finishes[int(m.Tris[0][1])%len(finish.Finishes)].Group(d, nil, float64(m.Bounds().Diagonal()))
	if err != nil {
		return err
	}
	clip, err := json.Marshal(strata.Clip{Layers: layers})
	if err != nil {
		return err
	}
	if _, err := a.Edit(strata.Edit{Do: "paste", Layer: d.Layers[0].ID, Value: clip}, false); err != nil {
		return err
	}
	if err := a.Bake(a.Missing()); err != nil {
		return err
	}
	a.WaitJob(nil)
	if n := len(a.Missing()); n > 0 {
		return errors.New("maps were not baked")
	}
	if err := a.ChangeShipping(json.RawMessage(`{"preset":"gltf","size":64,"to":"zip"}`)); err != nil {
		return err
	}
	if err := a.Deliver("", false); err != nil {
		return err
	}
	a.WaitJob(nil)
	list, err := a.Deliveries()
	if err == nil && len(list) != 1 {
		err = errors.New("nothing was delivered")
	}
	return err
}

func models() (out []file, err error) {
	m := mesh.Sphere(10, 6, 0.5, [3]float64{})
	var glb bytes.Buffer
	if err := mesh.WriteGLB(&glb, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		return nil, err
	}
	small := []byte("mtllib quay.mtl\no plate\nusemtl steel\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0.2\nv 0 0 1\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\nf 1/1/1 2/2/1 3/3/1 4/4/1\no other\nusemtl paint\nf 1/1 2/2 5/3\n")
	out = []file{{"ball.glb", glb.Bytes()}, {"plates.obj", small}, {"quay.obj", plates()}}
	// glTF as text, its buffer in the text.
	j := glb.Bytes()[20 : 20+binary.LittleEndian.Uint32(glb.Bytes()[12:])]
	bin := glb.Bytes()[20+len(j)+8:]
	var tree map[string]any
	if err := json.Unmarshal(j, &tree); err != nil {
		return nil, err
	}
	tree["buffers"] = []any{map[string]any{"byteLength": len(bin), "uri": "data:application/octet-stream;base64," + base64Of(bin)}}
	text, err := json.Marshal(tree)
	if err != nil {
		return nil, err
	}
	out = append(out, file{"ball.gltf", text})
	for _, order := range []string{"ascii", "binary_little_endian", "binary_big_endian"} {
		out = append(out, file{"square.ply", ply(order)})
	}
	return append(out, file{"quay.zip", zipOf([]file{{"in/quay.obj", small}, {"in/quay.mtl", []byte("newmtl steel\nKd 0.5 0.5 0.5\nnewmtl paint\n")}})}), nil
}

func ply(order string) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "ply\nformat %s 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\nproperty float s\nproperty float t\nelement face 2\nproperty list uchar int vertex_indices\nend_header\n", order)
	at := [][5]float32{{0, 0, 0, 0, 0}, {1, 0, 0, 1, 0}, {1, 1, 0, 1, 1}, {0, 1, 0, 0, 1}}
	faces := [][3]int32{{0, 1, 2}, {0, 2, 3}}
	if order == "ascii" {
		for _, v := range at {
			fmt.Fprintln(&b, v[0], v[1], v[2], v[3], v[4])
		}
		for _, f := range faces {
			fmt.Fprintln(&b, 3, f[0], f[1], f[2])
		}
		return b.Bytes()
	}
	o := binary.AppendByteOrder(binary.LittleEndian)
	if order == "binary_big_endian" {
		o = binary.BigEndian
	}
	var out []byte
	for _, v := range at {
		for _, x := range v {
			out = o.AppendUint32(out, math.Float32bits(x))
		}
	}
	for _, f := range faces {
		out = append(out, 3)
		for _, x := range f {
			out = o.AppendUint32(out, uint32(x))
		}
	}
	return append(b.Bytes(), out...)
}

func pictures() ([]file, error) {
	const w, h = 19, 13
	rgba, grey, deep, names := image.NewNRGBA(image.Rect(0, 0, w, h)), image.NewGray(image.Rect(0, 0, w, h)), image.NewNRGBA64(image.Rect(0, 0, w, h)), image.NewPaletted(image.Rect(0, 0, w, h), color.Palette{color.Black, color.White, color.Gray{90}})
	floats := make([]float32, 3*w*h)
	for y := range h {
		for x := range w {
			c := color.NRGBA{byte(13 * x), byte(17 * y), byte(x * y), 255 - byte(3*x)}
			rgba.Set(x, y, c)
			grey.Set(x, y, c)
			deep.Set(x, y, c)
			names.Set(x, y, c)
			floats[3*(y*w+x)] = float32(x) / w
		}
	}
	var out []file
	var errs []error
	add := func(name string, write func(b *bytes.Buffer) error) {
		var b bytes.Buffer
		errs = append(errs, write(&b))
		out = append(out, file{name, b.Bytes()})
	}
	for _, im := range []image.Image{rgba, grey, deep, names} {
		add("a.png", func(b *bytes.Buffer) error { return png.Encode(b, im) })
	}
	add("a.jpg", func(b *bytes.Buffer) error { return jpeg.Encode(b, rgba, nil) })
	add("g.jpg", func(b *bytes.Buffer) error { return jpeg.Encode(b, grey, nil) })
	add("a.tif", func(b *bytes.Buffer) error { return tiff.Encode(b, rgba, &tiff.Options{Compression: tiff.Deflate}) })
	add("b.tif", func(b *bytes.Buffer) error { return tiff.Encode(b, deep, nil) })
	add("a.exr", func(b *bytes.Buffer) error { return imgfile.WriteEXR(b, w, h, 3, floats) })
	head := []byte{0, 0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 6, 0, 2, 0, 24, 0}
	out = append(out, file{"a.tga", append(bytes.Clone(head), 0x85, 1, 2, 3, 0x05, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18)})
	head[2] = 2
	out = append(out, file{"b.tga", append(bytes.Clone(head), make([]byte, 36)...)}, file{"a.hdr", []byte("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 2 +X 8\n\x02\x02\x00\x08\x88\x01\x88\x01\x88\x01\x88\x80\x02\x02\x00\x08\x88\x01\x88\x01\x88\x01\x88\x80")})
	return out, errors.Join(errs...)
}

// passing is a data folder that done takes away.
func passing() (st *store.Store, done func(), err error) {
	dir, err := os.MkdirTemp("", "crust-trial-seed-")
	if err != nil {
		return nil, nil, err
	}
	if st, err = store.Open(dir); err != nil {
		os.RemoveAll(dir)
		return nil, nil, err
	}
	return st, func() { st.Close(); os.RemoveAll(dir) }, nil
}

// archives are an asset with a picture and a baked map, packed; it is made once for all.
func archives() ([]file, error) {
	st, done, err := passing()
	if err != nil {
		return nil, err
	}
	defer done()
	s := studio.New(st)
	defer s.Close()
	id, err := s.Create("quay", studio.Upload{{Name: "quay.obj", Data: plates()}}, nil)
	if err != nil {
		return nil, err
	}
	a, err := s.Open(id)
	if err != nil {
		return nil, err
	}
	if err := a.SetSettings(studio.Settings{Quality: "draft", Size: 64}); err != nil {
		return nil, err
	}
	if err := a.Bake([]studio.Cell{{Set: "steel", Kind: "ao"}, {Set: "paint", Kind: "position"}}); err != nil {
		return nil, err
	}
	a.WaitJob(nil)
	if err := a.Keep("before"); err != nil {
		return nil, err
	}
	var b, bare bytes.Buffer
	if err := s.Pack(&b, id, true); err != nil {
		return nil, err
	}
	if err := s.Pack(&bare, id, false); err != nil {
		return nil, err
	}
	return []file{{"a.crust.zip", b.Bytes()}, {"b.crust.zip", bare.Bytes()}}, nil
}

func backups() ([]file, error) {
	st, done, err := passing()
	if err != nil {
		return nil, err
	}
	defer done()
	if err := st.Create(&store.Asset{Name: "quay"}, store.File{Name: "quay.obj", Data: []byte("v 0 0 0\n")}, nil, `{"layers":[],"next":0}`); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = st.Backup(&b, st.Dir)
	return []file{{"backup.zip", b.Bytes()}}, err
}

func presets() (out []file, err error) {
	for i := range deliver.Presets {
		out = append(out, file{"a.preset.json", deliver.Presets[i].Bytes()})
	}
	return out, nil
}

func finishes() (out []file, err error) {
	for i := range finish.Finishes {
		b, err := json.Marshal(finish.Finishes[i])
		if err != nil {
			return nil, err
		}
		out = append(out, file{"a.finish.json", b})
	}
	return out, nil
}

func brushes() (out []file, err error) {
	a := brush.NewAlpha(9, 7, func(x, y int) float32 { return float32(x) / 9 })
	for i := range brush.Built {
		b, err := json.Marshal(brush.File{Brush: brush.Built[i]})
		if err != nil {
			return nil, err
		}
		out = append(out, file{"a.brush.json", b})
	}
	b, err := json.Marshal(brush.File{Brush: brush.Brush{Name: "Stamp", Tip: "picture", Alpha: a.Hash(), Roundness: 1, Spacing: 1, Flow: 1, Opacity: 1, Count: 1, Grain: 0.2}, Picture: a})
	return append(out, file{"b.brush.json", b}), err
}

func strataFiles() (out []file, err error) {
	for _, d := range []*strata.Document{demo.WinchStrata()} {
		tree, err := d.InFull(func(int32) (*brush.Stroke, error) { return nil, nil })
		if err != nil {
			return nil, err
		}
		b, err := json.Marshal(tree)
		if err != nil {
			return nil, err
		}
		out = append(out, file{"a.json", b})
	}
	return append(out, file{"b.json", []byte(`{"layers": [{"name": "a", "what": {"colour": {"hex": "#102030"}}, "where": [{"kind": "noise", "params": {"size": 1}}, {"kind": "brush", "strokes": [{"brush": "round", "size": 0.1, "seed": 3, "paths": [[[0, 0, 0, 0, 0, 1, 1], [1, 0, 0, 0, 0, 1, 0.5]]]}]}]}], "next": 3}`)}), nil
}
