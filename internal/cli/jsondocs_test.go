package cli

import (
	"encoding"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/demo"
	"hovix/internal/pack"
	"hovix/internal/redirects"
	"hovix/internal/restore"
)

// documents are what commands write with --json.
var documents = []struct {
	command string
	of      any
}{
	{"any command that fails, unless standard output is for something else", failureJSON{}},
	{"version", versionJSON{}},
	{"survey", surveyJSON{}},
	{"pack", pack.Result{}},
	{"inspect", inspection{}},
	{"inspect --list", listJSON{}},
	{"inspect --extract", extractedJSON{}},
	{"restore", restoreJSON{}},
	{"restore --plan", restore.Plan{}},
	{"password", passwordJSON{}},
	{"undo", restore.UndoResult{}},
	{"undo --plan", undoPlanJSON{}},
	{"undo --discard", discardedJSON{}},
	{"rewrite", rewriteJSON{}},
	{"redirects gather", gatheredJSON{}},
	{"redirects gather -o FILE", gathering{}},
	{"redirects pair", pairing{}},
	{"redirects check", redirects.Report{}},
	{"redirects write -o FILE", written{}},
	{"redirects try", redirects.Tried{}},
	{"demo", demo.TourReport{}},
}

// comments gives what the source says of the fields of its structs, by package, type and
// field.
func comments(t *testing.T) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		pkg := "hovix/internal/" + filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../"))
		ast.Inspect(f, func(n ast.Node) bool {
			ts, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			st, ok := ts.Type.(*ast.StructType)
			if !ok {
				return true
			}
			for _, field := range st.Fields.List {
				text := strings.TrimSpace(field.Comment.Text())
				if text == "" {
					text = strings.TrimSpace(field.Doc.Text())
				}
				for _, name := range field.Names {
					out[pkg+"."+ts.Name.Name+"."+name.Name] = strings.Join(strings.Fields(text), " ")
				}
			}
			return true
		})
		return nil
	}))
	return out
}

// jsonDocs writes the reference of the documents.
type jsonDocs struct {
	t        *testing.T
	comments map[string]string
	names    map[reflect.Type]string // of types that have a section
	queue    []reflect.Type
	b        strings.Builder
}

var camelCase = regexp.MustCompile(`^[a-z][A-Za-z0-9]*$`)

// shown gives a type for people, and has a section written of it if it is a struct.
func (d *jsonDocs) shown(of reflect.Type) string {
	switch {
	case of == reflect.TypeFor[time.Time]():
		return "time (RFC 3339)"
	case of == reflect.TypeFor[time.Duration]():
		return "nanoseconds"
	case of == reflect.TypeFor[json.RawMessage]():
		return "any"
	case of.Implements(reflect.TypeFor[encoding.TextMarshaler]()), reflect.PointerTo(of).Implements(reflect.TypeFor[encoding.TextMarshaler]()):
		return "text"
	case of.Implements(reflect.TypeFor[json.Marshaler]()), reflect.PointerTo(of).Implements(reflect.TypeFor[json.Marshaler]()):
		return "text"
	}
	switch of.Kind() {
	case reflect.Pointer:
		return d.shown(of.Elem())
	case reflect.Slice, reflect.Array:
		if of.Elem().Kind() == reflect.Uint8 {
			return "text"
		}
		return "list of " + d.shown(of.Elem())
	case reflect.Map:
		return "by " + d.shown(of.Key()) + ": " + d.shown(of.Elem())
	case reflect.Struct:
		name, known := d.names[of]
		if !known {
			name = strings.TrimSuffix(of.Name(), "JSON")
			name = strings.ToUpper(name[:1]) + name[1:]
			for _, other := range d.names {
				if other == name { // of another package
					pkg := of.PkgPath()[strings.LastIndex(of.PkgPath(), "/")+1:]
					name = strings.ToUpper(pkg[:1]) + pkg[1:] + name
				}
			}
			d.names[of] = name
			d.queue = append(d.queue, of)
		}
		return "[" + name + "](#" + strings.ToLower(name) + ")"
	case reflect.String:
		return "text"
	case reflect.Bool:
		return "true or false"
	case reflect.Interface:
		return "any"
	case reflect.Float32, reflect.Float64:
		return "number"
	}
	return "whole number"
}

// fields writes the table of a struct's fields.
func (d *jsonDocs) fields(of reflect.Type) {
	for f := range fieldsOf(of) {
		tag, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
		if tag == "-" || !f.IsExported() && !f.Anonymous {
			continue
		}
		if f.Anonymous && tag == "" {
			inner := f.Type
			if inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			d.fields(inner)
			continue
		}
		where := fmt.Sprintf("%s.%s.%s", of.PkgPath(), of.Name(), f.Name)
		assert.Regexp(d.t, camelCase, tag, "%s has no name in one style", where)
		holds := d.shown(f.Type)
		if strings.Contains(opts, "omitempty") {
			holds += ", or missing"
		}
		fmt.Fprintf(&d.b, "| `%s` | %s | %s |\n", tag, holds, strings.ReplaceAll(d.comments[where], "|", "\\|"))
	}
}

func fieldsOf(of reflect.Type) func(yield func(reflect.StructField) bool) {
	return func(yield func(reflect.StructField) bool) {
		for i := range of.NumField() {
			if !yield(of.Field(i)) {
				return
			}
		}
	}
}

// TestJSONDocuments: docs/json.md lists every document that a command writes, field by
// field, as the types have it; -update writes it anew.
func TestJSONDocuments(t *testing.T) {
	d := &jsonDocs{t: t, comments: comments(t), names: map[reflect.Type]string{}}
	d.b.WriteString("# JSON documents\n\n" +
		"With `--json` each command writes one document to standard output, and nothing else; what is for people goes to standard error. " +
		"Names are in one style (`leftOut`), sizes are in bytes, and a field that is missing stands for nothing, zero or no. " +
		"Where standard output is for something else (`-o -`), no document is written.\n\n" +
		"This page is made from the types that the documents are written from (`go test ./internal/cli -update`).\n\n")
	for _, doc := range documents {
		of := reflect.TypeOf(doc.of)
		fmt.Fprintf(&d.b, "## %s\n\n", doc.command)
		d.table(of)
	}
	for len(d.queue) > 0 {
		of := d.queue[0]
		d.queue = d.queue[1:]
		fmt.Fprintf(&d.b, "### %s\n\n", d.names[of])
		d.table(of)
	}
	golden(t, "../../../docs/json.md", d.b.String())
}

func (d *jsonDocs) table(of reflect.Type) {
	d.b.WriteString("| field | holds | meaning |\n|---|---|---|\n")
	d.fields(of)
	d.b.WriteString("\n")
}

// TestFailuresAsJSON: a command that fails says so in its one document too.
func TestFailuresAsJSON(t *testing.T) {
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"inspect", "nosuch.tar.zst", "--json"}, exitFailed, "there is no file nosuch.tar.zst"},
		{[]string{"survey", "--json"}, exitUsage, "SITE is missing"},
		{[]string{"--json", "pack", "--nosuch"}, exitUsage, "there is no option --nosuch"},
		{[]string{"nosuch", "--json"}, exitUsage, "there is no command nosuch"},
		{[]string{"undo", t.TempDir(), "--json"}, exitFailed, "nothing is kept"},
	} {
		status, out, errs := run(t, c.args...)
		assert.Equal(t, c.status, status)
		var f failureJSON
		require.NoError(t, json.Unmarshal([]byte(out), &f), "%s", out)
		assert.Equal(t, c.status, f.Status)
		assert.Contains(t, f.Error, c.says)
		assert.Contains(t, errs, c.says)
	}
}
