package mesh

import (
	"bytes"
	"fmt"
	"path"
	"strconv"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/pixel"
)

// Roles of a material's own pictures.
const (
	OwnBase      = "base" // with opacity in alpha, where Cut is set
	OwnRoughness = "roughness"
	OwnMetallic  = "metallic"
	OwnOcclusion = "occlusion"
	OwnNormal    = "normal" // green up
	OwnEmissive  = "emissive"
	OwnOpacity   = "opacity"
)

// OwnPicture is a picture that a model's material came with.
type OwnPicture struct {
	Role    string
	Name    string
	Data    []byte
	Channel int    // of the model's UVs that it is laid by, from 1 on
	Of      string // what is read of it: colour, red, green, blue, alpha or grey
}

// OwnMaterial is a material slot as the model's file describes it, for those who go on from there.
type OwnMaterial struct {
	Name      string
	Colour    [3]float32 // sRGB; with a base picture what it is multiplied by, which is not done
	Roughness float32    // with a picture what it is multiplied by
	Metallic  float32
	Emissive  [3]float32 // sRGB
	Cut       bool       // what its opacity leaves is cut away or blended
	Pictures  []OwnPicture
}

// Own reads the materials that a model came with, with their pictures: those of glTF and GLB, and of OBJ with MTL. Pictures that are
// not there are left out.
func Own(model File, beside []File) ([]OwnMaterial, error) {
	files := func(name string) ([]byte, error) {
		for _, b := range beside {
			if strings.EqualFold(base(b.Name), name) {
				return b.Data, nil
			}
		}
		return nil, fmt.Errorf("%s was not given", name)
	}
	switch strings.ToLower(path.Ext(model.Name)) {
	case ".glb", ".gltf":
		r := gltfReader{name: model.Name, files: files}
		if err := r.open(model.Data); err != nil {
			return nil, err
		}
		return r.own(), nil
	case ".obj":
		return ownMTL(model.Data, files), nil
	}
	return nil, nil
}

// image is a picture of the file; nil when it is not there.
func (r *gltfReader) image(i int) (name string, data []byte) {
	if i < 0 || i >= len(r.doc.Images) {
		return "", nil
	}
	im := r.doc.Images[i]
	name = named(im.Name, fmt.Sprintf("picture %d", i+1))
	var err error
	switch place := fmt.Sprintf("image %d", i); {
	case im.BufferView != nil:
		_, data, err = r.view(place, *im.BufferView)
	case strings.HasPrefix(im.URI, "data:"):
		data, err = r.uri(place, im.URI)
	default:
		name = path.Base(im.URI)
		data, err = r.files(name)
	}
	if err != nil {
		return "", nil
	}
	if path.Ext(name) == "" {
		ending := ".png"
		if bytes.HasPrefix(data, []byte{0xff, 0xd8}) {
			ending = ".jpg"
		}
		name += ending
	}
	return name, data
}

func (r *gltfReader) own() (out []OwnMaterial) {
	names := map[string]bool{}
	for _, m := range r.doc.Materials {
		// The same names as reading gives them.
		name := named(m.Name, "material")
		for first, n := name, 2; names[name]; n++ {
			name = fmt.Sprintf("%s_%d", first, n)
		}
		names[name] = true
		o := OwnMaterial{Name: name, Colour: [3]float32{1, 1, 1}, Roughness: 1, Metallic: 1, Cut: m.AlphaMode != "" && m.AlphaMode != "OPAQUE"}
		for c := 0; c < 3 && c < len(m.PBR.Factor); c++ {
			o.Colour[c] = pixel.ToSRGB(geom.Clamp01(m.PBR.Factor[c]))
		}
		for c := 0; c < 3 && c < len(m.EmissiveFactor); c++ {
			o.Emissive[c] = pixel.ToSRGB(geom.Clamp01(m.EmissiveFactor[c]))
		}
		if m.PBR.Roughness != nil {
			o.Roughness = geom.Clamp01(*m.PBR.Roughness)
		}
		if m.PBR.Metallic != nil {
			o.Metallic = geom.Clamp01(*m.PBR.Metallic)
		}
		add := func(ref *gltfTexRef, role, of string) {
			if ref == nil || ref.Index < 0 || ref.Index >= len(r.doc.Textures) || r.doc.Textures[ref.Index].Source == nil {
				return
			}
			if name, data := r.image(*r.doc.Textures[ref.Index].Source); data != nil {
				o.Pictures = append(o.Pictures, OwnPicture{role, name, data, ref.TexCoord + 1, of})
			}
		}
		add(m.PBR.Colour, OwnBase, "colour")
		add(m.PBR.MR, OwnRoughness, "green") // glTF 2.0 §3.9.2
		add(m.PBR.MR, OwnMetallic, "blue")
		add(m.Occlusion, OwnOcclusion, "red")
		add(m.Normal, OwnNormal, "")
		add(m.Emissive, OwnEmissive, "colour")
		if o.Cut {
			add(m.PBR.Colour, OwnOpacity, "alpha")
		}
		out = append(out, o)
	}
	return out
}

// mtlRoles are what the statements of an MTL name pictures for (Wavefront MTL, and the widespread additions for physically based
// materials).
var mtlRoles = map[string][2]string{
	"map_kd": {OwnBase, "colour"}, "map_pr": {OwnRoughness, "grey"}, "map_pm": {OwnMetallic, "grey"}, "norm": {OwnNormal, ""}, "map_ke": {OwnEmissive, "colour"}, "map_d": {OwnOpacity, "grey"},
}

// ownMTL reads the materials of the libraries that an OBJ names.
func ownMTL(obj []byte, files func(name string) ([]byte, error)) (out []OwnMaterial) {
	for line := range strings.Lines(string(obj)) {
		rest, ok := strings.CutPrefix(strings.TrimSpace(line), "mtllib ")
		if !ok {
			continue
		}
		data, err := files(base(strings.TrimSpace(rest)))
		if err != nil {
			continue
		}
		var m *OwnMaterial
		for line := range strings.Lines(string(data)) {
			f := strings.Fields(line)
			if len(f) < 2 {
				continue
			}
			number := func(k int) float32 {
				if k >= len(f) {
					return 0
				}
				v, err := strconv.ParseFloat(f[k], 32)
				if err != nil || v*0 != 0 {
					return 0
				}
				return geom.Clamp01(float32(v))
			}
			switch word := strings.ToLower(f[0]); word {
			case "newmtl":
				out = append(out, OwnMaterial{Name: strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), f[0])), Colour: [3]float32{0.8, 0.8, 0.8}, Roughness: 0.6})
				m = &out[len(out)-1]
			case "kd", "ke":
				if m != nil {
					to := &m.Colour
					if word == "ke" {
						to = &m.Emissive
					}
					*to = [3]float32{number(1), number(2), number(3)}
				}
			case "pr":
				if m != nil {
					m.Roughness = number(1)
				}
			case "pm":
				if m != nil {
					m.Metallic = number(1)
				}
			default:
				role, ok := mtlRoles[word]
				if !ok || m == nil {
					continue
				}
				if data, err := files(base(f[len(f)-1])); err == nil {
					m.Pictures = append(m.Pictures, OwnPicture{role[0], base(f[len(f)-1]), data, 1, role[1]})
					m.Cut = m.Cut || role[0] == OwnOpacity
				}
			}
		}
	}
	return out
}
