package compose

import (
	"reflect"
	"testing"

	"crust/internal/core/strata"
)

// Every field of a clause, a source and an adjustment changes what is evaluated, and so its digest; the mark of a clause does not,
// and its strokes are hashed where they lie.
func TestDigestsSeeEveryField(t *testing.T) {
	left := map[string]bool{"Clause.ID": true, "Clause.Strokes": true}
	var change func(v reflect.Value, path string, check func(path string))
	change = func(v reflect.Value, path string, check func(path string)) {
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		switch v.Kind() {
		case reflect.Struct:
			for i := range v.NumField() {
				at := v.Type().Name() + "." + v.Type().Field(i).Name
				if left[at] {
					continue
				}
				change(v.Field(i), path+"/"+at, check)
			}
			return
		case reflect.Pointer:
			// What it points to, which has another value in the field that is changed.
			one := reflect.New(v.Type().Elem())
			v.Set(one)
			check(path)
			if len(path) < 200 { // a source may hold a clause, and this one a source
				change(one.Elem(), path, check)
			}
		case reflect.Slice:
			one := reflect.MakeSlice(v.Type(), 1, 1)
			v.Set(one)
			check(path)
			if one.Index(0).Kind() == reflect.Struct {
				change(one.Index(0), path, check)
			} else {
				change(one.Index(0), path+"[0]", check)
			}
		case reflect.Map:
			for _, key := range []string{"one", "two"} {
				m := reflect.MakeMap(v.Type())
				m.SetMapIndex(reflect.ValueOf(key), reflect.ValueOf(1.5))
				v.Set(m)
				check(path + "[" + key + "]")
			}
			m := reflect.MakeMap(v.Type())
			m.SetMapIndex(reflect.ValueOf("one"), reflect.ValueOf(2.5))
			v.Set(m)
			check(path + " of another number")
		case reflect.String:
			v.SetString("other")
			check(path)
		case reflect.Bool:
			v.SetBool(true)
			check(path)
		case reflect.Float32, reflect.Float64:
			v.SetFloat(0.25)
			check(path)
		default:
			t.Fatalf("%s is of a kind that no digest knows: %s", path, v.Kind())
		}
		v.Set(was)
	}
	clause, source, adjust := new(strata.Clause), new(strata.Source), new(strata.Adjust)
	for _, c := range []struct {
		name   string
		of     any
		digest func() uint64
	}{
		{"clause", clause, func() uint64 { return digestClause(clause) }},
		{"source", source, func() uint64 { return digestSource(source) }},
		{"adjustment", adjust, func() uint64 { return digestAdjust(adjust) }},
	} {
		seen := map[uint64]string{c.digest(): "as it was"}
		change(reflect.ValueOf(c.of).Elem(), c.name, func(path string) {
			h := c.digest()
			if old, ok := seen[h]; ok {
				t.Errorf("%s and %s have the same digest", path, old)
			}
			seen[h] = path
		})
		if len(seen) < 7 {
			t.Errorf("%s: only %d changes were tried", c.name, len(seen))
		}
	}
}
