package plain

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestTextIsOneLineWithoutControls(t *testing.T) {
	for _, c := range [][2]string{
		{"quay.obj, line 3: “0,5” is no number", "quay.obj, line 3: “0,5” is no number"},
		{"a\x00b\nc\td\x1b[31me", "a·b·c·d·[31me"},
		{"gnp.\u202egpj", "gnp.·gpj"}, // RIGHT-TO-LEFT OVERRIDE, which would show png.jpg
		{"a\xffb", "a·b"},
		{"", ""},
	} {
		if got := Text(c[0]); got != c[1] {
			t.Errorf("%q becomes %q, want %q", c[0], got, c[1])
		}
	}
	if got := Text(strings.Repeat("ä", 10_000)); len(got) > mostText+8 || !utf8.ValidString(got) || !strings.HasSuffix(got, "…") {
		t.Errorf("%d bytes are shown of a long text", len(got))
	}
}

// What the libraries say of really damaged files is told without their words, and the error is still found.
func TestCausesOfRealDamage(t *testing.T) {
	_, noZip := zip.NewReader(strings.NewReader("x"), 1)
	_, noPNG := png.Decode(strings.NewReader("x"))
	_, cut := png.Decode(strings.NewReader("\x89PNG\r\n\x1a\n\x00\x00"))
	_, broken := io.ReadAll(flate.NewReader(bytes.NewReader([]byte{0xff, 1, 2})))
	for _, c := range []struct {
		err  error
		want string
	}{
		{noZip, "its list of files is damaged"}, {noPNG, "it ends too soon"}, {cut, "it ends too soon"}, {broken, "its packed data is damaged"},
		{fmt.Errorf("block 3: %w", broken), "its packed data is damaged"}, {errors.New("its head has no end"), "its head has no end"}, {errors.New("runtime error: x"), "something in it is not as its format wants it"},
	} {
		if got := Cause(c.err); got != c.want {
			t.Errorf("%v: %q, want %q", c.err, got, c.want)
		}
		if d := Damage("the file is damaged (%s)", c.err); !errors.Is(d, c.err) || d.Error() != "the file is damaged ("+c.want+")" {
			t.Errorf("%v", d)
		}
	}
}

func TestJSONFaultsNameTheirPlace(t *testing.T) {
	for _, c := range [][2]string{
		{`{"a": x}`, "byte 7: “x” does not belong there; it is no sound JSON"},
		{`{"a": 1`, "it ends too soon; it is no sound JSON"},
		{"{\x00", "byte 2: what stands there is no text; it is no sound JSON"},
		{"", "it ends too soon; it is no sound JSON"},
		{`{'a'`, "byte 2: “'” does not belong there; it is no sound JSON"},
	} {
		var v any
		err := json.NewDecoder(strings.NewReader(c[0])).Decode(&v)
		if got := JSON(err); got.Error() != c[1] {
			t.Errorf("%s: %q, want %q", c[0], got, c[1])
		}
	}
}

// What a text holds may be wrong although it is sound.
func TestWhatDoesNotFitIsNamed(t *testing.T) {
	for _, c := range [][2]string{
		{`{"size": "x"}`, "size: text does not belong there"}, {`{"size": 1e308}`, "size: 1e308 is outside of what such a number can be"},
		{`{"sise": 1}`, "sise is not known here"}, {`3`, "it: a number does not belong there"},
	} {
		var v struct {
			Size float32 `json:"size"`
		}
		d := json.NewDecoder(strings.NewReader(c[0]))
		d.DisallowUnknownFields()
		if got := JSON(d.Decode(&v)); got.Error() != c[1] {
			t.Errorf("%s: %q, want %q", c[0], got, c[1])
		}
	}
}

func TestSpeakKeepsTheError(t *testing.T) {
	was := fmt.Errorf("a\x00: %w", io.EOF)
	err := was
	Speak(&err)
	if err.Error() != "a·: EOF" || !errors.Is(err, io.EOF) {
		t.Errorf("%q", err)
	}
	err = nil
	if Speak(&err); err != nil {
		t.Error(err)
	}
}
