package phpconf

import (
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

func (w *walker) variable(name string) value {
	switch name {
	case "_ENV", "_SERVER", "_GET", "_POST", "_COOKIE", "_REQUEST":
		if !w.take("[") {
			return unknownOf("the variable $" + name)
		}
		key := w.expression()
		w.take("]")
		k, ok := key.asText()
		if !ok || name != "_ENV" && name != "_SERVER" || name == "_SERVER" && ofRequest(k) {
			return unknownOf("$" + name + "['" + k + "'], which only a visit tells")
		}
		v := w.environment(k)
		return v
	}
	v, ok := w.st.vars[name]
	if !ok {
		return value{why: "the variable $" + name + ", which is not set", missing: true}
	}
	if v.maybe && v.kind != unknown {
		return unknownOf("a condition that Hovix cannot decide")
	}
	return v
}

// ofRequest reports whether an element of $_SERVER tells of a visit.
func ofRequest(key string) bool {
	for _, p := range []string{"HTTP", "REQUEST_", "SERVER_", "REMOTE_", "SCRIPT_", "PATH_", "PHP_", "QUERY_", "DOCUMENT_", "argv", "argc"} {
		if strings.HasPrefix(key, p) {
			return true
		}
	}
	return false
}

func (w *walker) environment(name string) value {
	if !slices.Contains(w.st.env, name) && w.dead == 0 {
		w.st.env = append(w.st.env, name)
	}
	if w.st.opts.Env == nil {
		return unknownOf("the environment variable " + name)
	}
	if v, ok := w.st.opts.Env(name); ok {
		return textOf(v)
	}
	return value{why: "the environment variable " + name + ", which is not set here", missing: true}
}

// word reads a constant or a call.
func (w *walker) word(s string) value {
	w.i++
	name := strings.ToLower(strings.TrimPrefix(s, `\`))
	switch name {
	case "true", "false":
		return boolOf(name == "true")
	case "null":
		return value{kind: null, s: "null"}
	case "__dir__", "__file__":
		if w.src.name == "" {
			return unknownOf("the folder of the file")
		}
		if name == "__dir__" {
			return textOf(filepath.ToSlash(filepath.Dir(w.src.name)))
		}
		return textOf(filepath.ToSlash(w.src.name))
	case "include", "include_once", "require", "require_once":
		return w.include(w.assignment(), strings.HasPrefix(name, "require"))
	case "new", "clone", "yield", "match", "fn", "function", "static":
		empty := name == "new" && strings.EqualFold(strings.TrimPrefix(w.peek(0).text(w.src.bytes), `\`), "stdClass")
		for !w.over() && !w.is(";") && !w.is(",") && !w.is(")") && !w.is("]") && !w.is("}") {
			if w.is("(") || w.is("[") || w.is("{") {
				w.group()
			} else {
				w.i++
			}
		}
		if empty { // its properties are set like elements
			return value{kind: array}
		}
		return unknownOf("an object or a function")
	case "die", "exit", "print", "echo":
		if w.is("(") {
			w.group()
		}
		return unknownOf("")
	}
	if w.take("(") {
		return w.call(name)
	}
	if v, ok := w.st.consts[strings.TrimPrefix(s, `\`)]; ok {
		if v.maybe && v.kind != unknown {
			return unknownOf("a condition that Hovix cannot decide")
		}
		return v
	}
	switch s {
	case "DIRECTORY_SEPARATOR":
		return textOf("/")
	case "PHP_EOL":
		return textOf("\n")
	}
	return unknownOf("the constant " + s)
}

// call reads the arguments of a function behind the parenthesis, and gives what
// it gives if that can be told.
func (w *walker) call(name string) value {
	if name == "array" {
		return w.elements(")")
	}
	if name == "isset" || name == "empty" {
		return w.isset(name == "isset")
	}
	list := w.elements(")").list
	arg := func(n int) (string, bool) {
		if n < len(list) {
			return list[n].val.asText()
		}
		return "", false
	}
	first, ok := arg(0)
	switch {
	case !ok:
	case name == "define" && len(list) > 1:
		w.define(first, list[1].val)
		return boolOf(true)
	case name == "defined":
		v, there := w.st.consts[first]
		if there && v.maybe {
			return unknownOf("a condition that Hovix cannot decide")
		}
		return boolOf(there)
	case name == "constant":
		if v, ok := w.st.consts[first]; ok && !v.maybe {
			return v
		}
	case name == "getenv":
		return w.environment(first)
	case name == "dirname":
		levels := 1
		if n, ok := arg(1); ok {
			levels, _ = strconv.Atoi(n)
		}
		for ; levels > 0 && levels < 100; levels-- {
			first = filepath.ToSlash(filepath.Dir(first))
		}
		return textOf(first)
	case name == "realpath":
		return textOf(first)
	case name == "trim":
		return textOf(strings.TrimSpace(first))
	case name == "strtolower":
		return textOf(strings.ToLower(first))
	case name == "intval":
		return cast("int", textOf(first))
	case (name == "file_exists" || name == "is_file" || name == "is_readable") && w.st.opts.Read != nil:
		content, err := w.st.opts.Read(filepath.Clean(first))
		w.step(100 + len(content)/8)
		return boolOf(err == nil)
	}
	return unknownOf("a call of " + name + "(), which Hovix does not make")
}

// isset reads isset(a, b) or empty(a).
func (w *walker) isset(want bool) value {
	all, decided := true, true
	for !w.over() && !w.take(")") {
		v := w.expression()
		switch {
		case v.missing:
			all = !want
		case v.kind == unknown:
			decided = false
		case want:
			all = all && v.kind != null
		default:
			is, _ := v.truth()
			all = !is
		}
		if !w.take(",") && !w.is(")") {
			w.i++
		}
	}
	if !decided {
		return unknownOf("a condition that Hovix cannot decide")
	}
	return boolOf(all)
}

// interpolate gives a text in which variables stand.
func (w *walker) interpolate(s string, quote byte) value {
	var b strings.Builder
	for i := 0; i < len(s); {
		at := nextVariable(s[i:])
		if at < 0 {
			b.WriteString(unescape(s[i:], quote))
			break
		}
		b.WriteString(unescape(s[i:i+at], quote))
		i += at
		braces := s[i] == '{'
		if braces {
			i++
		}
		n := nameLength([]byte(s[i+1:]))
		name := s[i+1 : i+1+n]
		i += 1 + n
		v := w.variable(name)
		for i < len(s) && s[i] == '[' {
			end := strings.IndexByte(s[i:], ']')
			if end < 0 {
				return unknownOf("a text that is put together")
			}
			e, found := v.at(strings.Trim(s[i+1:i+end], `'"`))
			if !found {
				return unknownOf("a text that is put together")
			}
			v, i = e, i+end+1
		}
		if braces {
			if i >= len(s) || s[i] != '}' {
				return unknownOf("a text that is put together")
			}
			i++
		} else if strings.HasPrefix(s[i:], "->") {
			return unknownOf("a text that is put together")
		}
		text, ok := v.asText()
		if !ok {
			return unknownOf("a text with $" + name + " in it")
		}
		if b.Len()+len(text) > maxValue {
			return unknownOf("a text that is longer than settings are")
		}
		b.WriteString(text)
	}
	return w.charge(textOf(b.String()))
}

// nextVariable finds $name or {$name} that is not escaped.
func nextVariable(s string) int {
	for i := 0; i+1 < len(s); i++ {
		switch {
		case s[i] == '\\':
			i++
		case s[i] == '$' && (s[i+1] == '_' || s[i+1]|0x20 >= 'a' && s[i+1]|0x20 <= 'z' || s[i+1] >= 0x80):
			return i
		case s[i] == '{' && s[i+1] == '$' && i+2 < len(s) && isName(s[i+2]) && !(s[i+2] >= '0' && s[i+2] <= '9'):
			return i
		}
	}
	return -1
}
