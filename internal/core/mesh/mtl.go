package mesh

import (
	"bytes"
	"fmt"
	"path"
	"strconv"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
)

// libraries reads the material libraries that the file names; one statement may name several.
func (r *objReader) libraries() error {
	for _, lib := range r.libs {
		names := []string{lib}
		if _, err := r.files(base(lib)); err != nil {
			names = strings.Fields(lib)
		}
		for _, name := range names {
			data, err := r.files(base(name))
			if err != nil {
				r.b.m.note("The material library “%s” was not given; slots keep their names.", clip([]byte(name)))
				continue
			}
			if err := r.library(name, plainText(data)); err != nil {
				return err
			}
		}
	}
	return nil
}

// base is the last element of a path of either kind.
func base(name string) string { return path.Base(strings.ReplaceAll(name, "\\", "/")) }

func (r *objReader) library(lib string, data []byte) error {
	var mat *Material
	for n, line := range strings.Split(string(data), "\n") {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		switch f[0] {
		case "newmtl":
			mat = nil
			if i, ok := r.b.mat[strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "newmtl"))]; ok {
				mat = &r.b.m.Materials[i]
			}
		case "Kd":
			for k := 0; k < 3 && k+1 < len(f) && mat != nil; k++ {
				v, err := strconv.ParseFloat(f[k+1], 32)
				if err != nil || v*0 != 0 {
					return &Error{lib, fmt.Sprintf("line %d", n+1), fmt.Sprintf("“%s” is not a finite number", clip([]byte(f[k+1]))), "export the materials again"}
				}
				mat.Colour[k] = geom.Clamp01(float32(v))
			}
		case "map_Kd":
			pic := base(f[len(f)-1])
			data, err := r.files(pic)
			if err != nil {
				r.b.m.note("The picture “%s” was not given.", clip([]byte(pic)))
				continue
			}
			if !bytes.HasPrefix(data, []byte(imgfile.Signature)) {
				continue
			}
			if _, err := imgfile.Check(pic, data); err != nil {
				return err
			}
			r.b.m.Pictures = append(r.b.m.Pictures, pic)
		}
	}
	return nil
}
