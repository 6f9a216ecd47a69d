package demo

import (
	"bytes"
	"os"
	"testing"
)

func TestDump(t *testing.T) {
	l, h := Buoy()
	var b bytes.Buffer
	WriteModel(&b, l)
	os.WriteFile("/tmp/buoy.glb", b.Bytes(), 0o644)
	b.Reset()
	WriteModel(&b, h)
	os.WriteFile("/tmp/buoy_high.glb", b.Bytes(), 0o644)
}
