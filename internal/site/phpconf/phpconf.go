// Package phpconf reads and changes settings in PHP source: constants,
// variables, arrays, properties of classes and what a file returns. It cuts the
// source into tokens as PHP does and follows it as far as that can be done
// without running anything: joined texts, defaults of environment variables,
// guards around definitions, files that are included. What only PHP could tell
// is named with what it needs. A change replaces the bytes of one value and
// keeps every other byte.
package phpconf

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Options says what source may refer to. The zero value knows of nothing.
type Options struct {
	// Name is the path of the source, for __DIR__ and for what it includes.
	Name string
	// Read gives the content of a file that is included or asked for.
	Read func(path string) ([]byte, error)
	// Env gives an environment variable; nil: nothing is known of them.
	Env func(name string) (string, bool)
}

// File is PHP source, with what it includes, and the settings found in it.
type File struct {
	opts    Options
	changed map[string][]byte // sources by name that are not as Read gives them
	main    []byte
	state   *state
}

// Parse reads source that stands alone. The error says where it stops being PHP.
func Parse(src []byte) (*File, error) { return ParseWith(src, Options{}) }

// ParseWith reads source that may refer to its surroundings.
func ParseWith(src []byte, opts Options) (*File, error) {
	f := &File{opts: opts, main: src, changed: map[string][]byte{}}
	return f, f.read()
}

func (f *File) read() (err error) {
	f.state, err = follow(f.main, f.opts, f.changed)
	return err
}

func known(v value, ok bool) (string, bool) {
	if !ok || v.maybe || v.kind == unknown || v.kind == array {
		return "", false
	}
	return v.s, true
}

// Const returns the value of a constant as text. ok is false if it is not
// defined or cannot be known without running PHP.
func (f *File) Const(name string) (text string, ok bool) {
	v, found := f.state.consts[name]
	return known(v, found)
}

// Var returns the value of a variable, named without its dollar sign, or of an
// element below it.
func (f *File) Var(name string, path ...string) (text string, ok bool) {
	v, found := walk(f.state.vars[name], path)
	return known(v, found && f.state.vars[name].src != nil)
}

// Property returns the value that a class gives to one of its properties or
// constants.
func (f *File) Property(name string) (text string, ok bool) {
	v, found := f.state.props[name]
	return known(v, found)
}

// Returned gives an element of the array that the file returns.
func (f *File) Returned(path ...string) (text string, ok bool) {
	v, found := walk(f.state.result, path)
	return known(v, found)
}

func walk(v value, path []string) (value, bool) {
	for _, key := range path {
		if v.kind == unknown && v.why != "" {
			return v, true
		}
		next, ok := v.at(key)
		if !ok {
			return value{}, false
		}
		v = next
	}
	return v, true
}

// Computed reports whether a constant is defined by an expression that only
// PHP can evaluate.
func (f *File) Computed(name string) bool { return f.WhyConst(name) != "" }

// WhyConst says what the value of a constant needs; "" if it is known, or not
// there.
func (f *File) WhyConst(name string) string { return why(f.state.consts[name]) }

// WhyVar says the same of a variable or an element below it.
func (f *File) WhyVar(name string, path ...string) string {
	v, _ := walk(f.state.vars[name], path)
	return why(v)
}

// WhyProperty says the same of a property.
func (f *File) WhyProperty(name string) string { return why(f.state.props[name]) }

func why(v value) string {
	switch {
	case v.src == nil && v.why == "":
		return ""
	case v.maybe && v.kind != unknown:
		return "a condition that Hovix cannot decide"
	case v.kind == unknown:
		return v.why
	}
	return ""
}

// Environment lists the environment variables that the source asks for.
func (f *File) Environment() []string { return f.state.env }

// Included lists the files that the source includes, by the paths that it gives.
func (f *File) Included() []string { return f.state.included }

// SetConst gives a constant a text value, in place; a constant that is not
// there, or only under a condition, is defined right behind the opening tag.
func (f *File) SetConst(name, text string) error {
	if v, ok := f.state.consts[name]; ok && !v.maybe {
		return f.replace(v, quote(text))
	}
	return f.insert("define( " + quote(name) + ", " + quote(text) + " );\n")
}

// SetVar gives a variable, or an element below it, a text value: in place, or by
// a new element or statement.
func (f *File) SetVar(name, text string, path ...string) error {
	top, ok := f.state.vars[name]
	if v, found := walk(top, path); ok && found && v.src != nil && !v.maybe && (v.kind != unknown || len(path) == 0 || v.to > v.from) {
		return f.replace(v, quote(text))
	}
	statement := "$" + name
	for _, p := range path {
		statement += "[" + quote(p) + "]"
	}
	statement += " = " + quote(text) + ";\n"
	if ok { // behind what sets the rest of it
		return f.add(statement)
	}
	return f.insert(statement)
}

// SetProperty gives a property of a class a text value, in place.
func (f *File) SetProperty(name, text string) error {
	v, ok := f.state.props[name]
	if !ok {
		return fmt.Errorf("the class has no property $%s", name)
	}
	return f.replace(v, quote(text))
}

// SetReturned gives an element of the array that the file returns a text value,
// in place.
func (f *File) SetReturned(text string, path ...string) error {
	v, ok := walk(f.state.result, path)
	if !ok || v.src == nil {
		return fmt.Errorf("what the file returns has no element %s", strings.Join(path, "."))
	}
	return f.replace(v, quote(text))
}

// Values gives the texts of the values for which match returns true, as for
// Erase.
func (f *File) Values(match func(path []string) bool) (texts []string) {
	for _, p := range f.state.places {
		if p.v.kind == text && match(p.path) {
			texts = append(texts, p.v.s)
		}
	}
	return texts
}

// Erase empties every value for which match returns true, wherever it is set and
// whether that is executed or not. It is asked with "const", "var" or "property",
// the name, and the keys below it.
func (f *File) Erase(match func(path []string) bool) error {
	for range 1000 {
		at := slices.IndexFunc(f.state.places, func(p place) bool {
			return p.v.src != nil && p.v.kind != array && match(p.path) && string(p.v.src.bytes[p.v.from:p.v.to]) != "''"
		})
		if at < 0 {
			return nil
		}
		if err := f.replace(f.state.places[at].v, "''"); err != nil {
			return err
		}
	}
	return errors.New("there are too many values to be emptied")
}

// Bytes gives the source as it is now.
func (f *File) Bytes() []byte { return f.main }

// Changed gives the content of an included file that has been changed.
func (f *File) Changed(name string) ([]byte, bool) {
	b, ok := f.changed[name]
	return b, ok
}

// replace puts text into the place of a value.
func (f *File) replace(v value, text string) error {
	return f.edit(v.src, v.from, v.to, text)
}

func (f *File) edit(s *source, from, to int, text string) error {
	src := slices.Concat(s.bytes[:from], []byte(text), s.bytes[to:])
	g := &File{opts: f.opts, main: f.main, changed: f.changed}
	if s.main {
		g.main = src
	} else {
		g.changed[s.name] = src
	}
	if err := g.read(); err != nil {
		return fmt.Errorf("change a setting: %w", err)
	}
	*f = *g
	return nil
}

var errNoTag = errors.New("the file has no opening <?php")

func (f *File) insert(text string) error {
	src := f.state.main
	at := bytes.Index(src.bytes, []byte("<?php"))
	if at < 0 {
		return errNoTag
	}
	at += len("<?php")
	if n := bytes.IndexByte(src.bytes[at:], '\n'); n >= 0 && len(bytes.TrimSpace(src.bytes[at:at+n])) == 0 {
		return f.edit(src, at+n+1, at+n+1, text)
	}
	return f.edit(src, at, at, "\n"+text)
}

// add puts a statement at the end of the source, before what ends PHP there.
func (f *File) add(text string) error {
	src := f.state.main
	at := len(src.bytes)
	if n := len(src.tokens); n > 0 && src.tokens[n-1].text(src.bytes) == "?>" {
		at = src.tokens[n-1].from
	} else if at > 0 && src.bytes[at-1] != '\n' {
		text = "\n" + text
	}
	return f.edit(src, at, at, text)
}
