package mesh

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"

	"crust/internal/core/plain"
)

// File is a named file.
type File struct {
	Name string
	Data []byte
}

// MaxFiles is how many files may come together, those of a zip included.
const MaxFiles = 2000

// A file of a zip that is larger than swollen bytes may be packed to one in mostPacked at the best.
const (
	swollen    = 64 << 20
	mostPacked = 200
)

// Unpack puts the contents of zips in their place. What a zip says of its sizes is not trusted: at
// most MaxBytes come out of all of them.
func Unpack(files []File) ([]File, error) {
	var out []File
	left := int64(MaxBytes)
	for _, f := range files {
		if !strings.EqualFold(path.Ext(f.Name), ".zip") {
			out = append(out, f)
			continue
		}
		fail := func(place, what, do string) error { return &Error{f.Name, place, what, do} }
		z, err := zip.NewReader(bytes.NewReader(f.Data), int64(len(f.Data)))
		if err != nil {
			return nil, fail("", "this is not a sound zip ("+plain.Cause(err)+")", "pack it again")
		}
		for _, e := range z.File {
			name := strings.ReplaceAll(e.Name, "\\", "/")
			if strings.HasSuffix(name, "/") || strings.HasPrefix(path.Base(name), ".") || strings.HasPrefix(name, "__MACOSX/") {
				continue
			}
			if len(out) >= MaxFiles {
				return nil, fail("", fmt.Sprintf("more than %d files", MaxFiles), "pack only the model and what belongs to it")
			}
			if e.UncompressedSize64 > swollen && e.UncompressedSize64 > mostPacked*e.CompressedSize64 {
				return nil, fail(clip([]byte(name)), fmt.Sprintf("unpacks to %d MB from %d kB, as no model or picture does", e.UncompressedSize64>>20, e.CompressedSize64>>10), "leave it out")
			}
			r, err := e.Open()
			if err != nil {
				return nil, fail(clip([]byte(name)), "cannot be unpacked ("+plain.Cause(err)+")", "pack it again, without a password")
			}
			var b bytes.Buffer
			b.Grow(int(min(e.UncompressedSize64, uint64(left)+1, swollen)) + bytes.MinRead)
			_, err = io.Copy(&b, io.LimitReader(r, left+1))
			data := b.Bytes()
			r.Close()
			if err != nil {
				return nil, fail(clip([]byte(name)), "is damaged in the zip ("+plain.Cause(err)+")", "pack it again")
			}
			if left -= int64(len(data)); left < 0 {
				return nil, fail("", fmt.Sprintf("holds more than %d MB", MaxBytes>>20), "bring in fewer files")
			}
			out = append(out, File{name, data})
		}
	}
	return out, nil
}

// Split parts the models among files that came together from what lies beside them.
func Split(files []File) (models, beside []File) {
	for _, f := range files {
		if Readers[strings.ToLower(path.Ext(f.Name))] != nil {
			models = append(models, f)
		} else {
			beside = append(beside, f)
		}
	}
	return models, beside
}

// Pick finds the one model among files that came together.
func Pick(files []File) (model File, beside []File, err error) {
	at := -1
	var names []string
	for i, f := range files {
		names = append(names, base(f.Name))
		if Readers[strings.ToLower(path.Ext(f.Name))] == nil {
			continue
		}
		if at >= 0 {
			return File{}, nil, fmt.Errorf("%s and %s are both models; bring in one at a time", base(files[at].Name), base(f.Name))
		}
		at = i
	}
	if at < 0 {
		return File{}, nil, fmt.Errorf("%s: no model among these files; Crust reads .obj, .glb, .gltf and .ply, or a .zip with one of them", clipTo(strings.Join(names, ", "), 200))
	}
	return files[at], append(append([]File{}, files[:at]...), files[at+1:]...), nil
}

// Open reads a model with what was picked beside it.
func Open(model File, beside []File) (*Model, error) {
	return Read(model.Name, model.Data, func(name string) ([]byte, error) {
		for _, b := range beside {
			if strings.EqualFold(base(b.Name), name) {
				return b.Data, nil
			}
		}
		return nil, fmt.Errorf("%s was not given", name)
	})
}
