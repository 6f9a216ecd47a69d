// Package plain brings what a stranger's file holds, and what libraries say of it, into words that a person can be shown.
package plain

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// mostText is how many bytes of a message are shown at the most.
const mostText = 600

// Text is text in one line and without what would change how a terminal or a page shows the rest: control characters, marks that turn
// the direction of writing, and bytes that are no text become “·”.
func Text(text string) string {
	sound := func(r rune) bool {
		return r != utf8.RuneError && !unicode.IsControl(r) && !unicode.Is(unicode.Bidi_Control, r)
	}
	if len(text) <= mostText && !strings.ContainsFunc(text, func(r rune) bool { return !sound(r) }) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if !sound(r) {
			r = '·'
		}
		if b.Len() > mostText {
			b.WriteString("…")
			break
		}
		b.WriteRune(r)
	}
	return b.String()
}

// said is an error in other words.
type said struct {
	text string
	err  error
}

func (s *said) Error() string { return s.text }
func (s *said) Unwrap() error { return s.err }

// Speak, deferred, makes the words of an error such as Text gives.
func Speak(err *error) {
	if *err == nil {
		return
	}
	if was := (*err).Error(); Text(was) != was {
		*err = &said{Text(was), *err}
	}
}

// causes is what libraries say of damaged files, from the one that is looked for first, and what that means.
var causes = []struct{ says, means string }{
	{"too much pixel data", "it holds more pixels than its head says"},
	{"not enough pixel data", "it holds fewer pixels than its head says"},
	{"unexpected EOF", "it ends too soon"},
	{"EOF", "it ends too soon"},
	{"checksum", "a checksum in it does not hold"},
	{"corrupt input", "its packed data is damaged"},
	{"invalid header", "its packed data is damaged"},
	{"invalid dictionary", "its packed data is damaged"},
	{"not a valid zip", "its list of files is damaged"},
	{"unsupported compression algorithm", "it is packed in a way that is not known here"},
	{"compression method", "it is packed in a way that is not known here"},
	{"unsupported feature", "it is of a kind that is not known here"},
	{"unknown", "it is of a kind that is not known here"},
	{"unsupported", "it is of a kind that is not known here"},
	{"dimension", "its size is no size"},
	{"zero-size", "its size is no size"},
	{"size", "its sizes do not fit together"},
	{"order", "its parts are out of order"},
	{"length", "the length of one of its parts is wrong"},
	{"palette", "its palette is damaged"},
	{"Huffman", "its packed data is damaged"},
	{"not a ", "its beginning is damaged"},
	{"offset", "it points outside itself"},
	{"range", "it points outside itself"},
}

// libraries are the beginnings by which their words are told from ours.
var libraries = regexp.MustCompile(`EOF|zip:|png:|jpeg:|tiff:|flate:|zlib:|lzw:|runtime error|slice bounds|index out of range`)

// Cause is what a library says of a damaged file in plain words; words of ours stay.
func Cause(err error) string {
	text := err.Error()
	if !libraries.MatchString(text) {
		return Text(text)
	}
	for _, c := range causes {
		if strings.Contains(text, c.says) {
			return c.means
		}
	}
	return "something in it is not as its format wants it"
}

// Damage is an error that says a file's cause in plain words.
func Damage(format string, err error) error { return &said{fmt.Sprintf(format, Cause(err)), err} }

// wrongLetter finds what stands at the wrong place of a JSON text.
var wrongLetter = regexp.MustCompile(`invalid character '(.+)' `)

// kinds are the kinds of JSON's values as encoding/json names them.
var kinds = map[string]string{"array": "a list", "object": "an object", "string": "text", "number": "a number", "bool": "true or false"}

// JSON is what is wrong with a JSON text, or with what it holds, in plain words.
func JSON(err error) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	name, unknown := strings.CutPrefix(err.Error(), "json: unknown field ")
	switch {
	case unknown:
		return fmt.Errorf("%s is not known here", strings.Trim(name, `"`))
	case errors.As(err, &kind) && strings.HasPrefix(kind.Value, "number "):
		return fmt.Errorf("%s: %s is outside of what such a number can be", cmp.Or(kind.Field, "it"), strings.TrimPrefix(kind.Value, "number "))
	case errors.As(err, &kind):
		return fmt.Errorf("%s: %s does not belong there", cmp.Or(kind.Field, "it"), cmp.Or(kinds[kind.Value], kind.Value))
	case errors.As(err, &syntax):
		m := wrongLetter.FindStringSubmatch(syntax.Error())
		if m == nil {
			return fmt.Errorf("it ends too soon, at byte %d; it is no sound JSON", syntax.Offset)
		}
		if strings.HasPrefix(m[1], `\`) && m[1] != `\'` && m[1] != `\\` {
			return fmt.Errorf("byte %d: what stands there is no text; it is no sound JSON", syntax.Offset)
		}
		return fmt.Errorf("byte %d: “%s” does not belong there; it is no sound JSON", syntax.Offset, strings.TrimPrefix(m[1], `\`))
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("it ends too soon; it is no sound JSON")
	}
	if text := err.Error(); !strings.HasPrefix(text, "json: ") {
		return errors.New(Text(text)) // words of ours
	}
	return errors.New("it is no sound JSON")
}
