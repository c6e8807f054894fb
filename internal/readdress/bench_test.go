package readdress

import (
	"io"
	"os"
	"testing"

	"hovix/internal/rewrite"
)

func TestZZ(t *testing.T) {
	f, _ := os.Open("/tmp/d.sql")
	var o Options
	a, _ := rewrite.ParseAddress("http://blog.old-harbour.example")
	b, _ := rewrite.ParseAddress("https://blog.new.example")
	o.Rewrite.Mappings = []rewrite.Mapping{{Old: a, New: b}}
	Dump(t.Context(), io.Discard, f, o)
}
