package phpconf

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Settings of programs of one's own are named by keys: NAME is a constant, $name.key an
// element of a variable, or a property of the object in it, and name.key an element of the
// array that the file returns, or name a property or constant of a class.

// key finds what a key names; put gives it another text in place.
func (f *File) key(key string) (v value, found bool) {
	if name, ok := strings.CutPrefix(key, "$"); ok {
		parts := strings.Split(name, ".")
		top, ok := f.state.vars[parts[0]]
		if !ok {
			return value{}, false
		}
		return walk(top, parts[1:])
	}
	if v, ok := f.state.consts[key]; ok {
		return v, true
	}
	if v, ok := walk(f.state.result, strings.Split(key, ".")); ok && f.state.result.kind == array {
		return v, true
	}
	v, found = f.state.props[key]
	return v, found
}

// Key gives the value of a setting, named as above. why says what else it would need to
// be known, "" if it is known; found is false if there is no such setting.
func (f *File) Key(key string) (text, why string, found bool) {
	v, found := f.key(key)
	if !found || v.missing {
		return "", "", false
	}
	text, ok := known(v, true)
	switch {
	case ok && v.kind == null:
		return "", "", true
	case ok:
		return text, "", true
	case v.kind == array:
		return "", "one of its elements to be named", true
	case v.maybe:
		return "", "a condition that Hovix cannot decide", true
	case v.why == "":
		return "", "PHP itself", true
	}
	return "", v.why, true
}

// SetKey gives a setting that is there another text, in place. A number stays one where
// it can.
func (f *File) SetKey(key, text string) error {
	v, found := f.key(key)
	if !found || v.src == nil {
		return fmt.Errorf("there is no setting %s that could be changed", key)
	}
	literal := quote(text)
	if _, err := strconv.Atoi(text); err == nil && v.kind == number {
		literal = text
	}
	if err := f.replace(v, literal); err != nil {
		return err
	}
	if got, _, _ := f.Key(key); got != text {
		return fmt.Errorf("the value of %s cannot be changed: it would not be read as it was written", key)
	}
	return nil
}

// Keys lists what can be named, in the order of the names.
func (f *File) Keys() (keys []string) {
	for name := range f.state.consts {
		keys = append(keys, name)
	}
	for name, v := range f.state.vars {
		keys = append(keys, keysOf("$"+name, v)...)
	}
	for _, e := range f.state.result.list {
		keys = append(keys, keysOf(e.key, e.val)...)
	}
	for name := range f.state.props {
		keys = append(keys, name)
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

func keysOf(name string, v value) (keys []string) {
	if v.kind != array || len(v.list) == 0 {
		return []string{name}
	}
	for _, e := range v.list {
		keys = append(keys, keysOf(name+"."+e.key, e.val)...)
	}
	return keys
}

// WithoutComments gives PHP source with line breaks and spaces in the place of its
// comments. What is no PHP comes back as it is.
func WithoutComments(src []byte) []byte {
	all, err := tokens(src)
	if err != nil {
		return src
	}
	out := make([]byte, 0, len(src))
	at := 0
	blank := func(to int) {
		for ; at < to; at++ {
			if c := src[at]; c == '\n' || c == '\r' {
				out = append(out, c)
			} else {
				out = append(out, ' ')
			}
		}
	}
	for _, t := range all {
		blank(t.from)
		out = append(out, t.text(src)...)
		at = t.to
	}
	blank(len(src))
	return out
}
