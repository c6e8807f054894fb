package phpconf

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
)

// source is one file of PHP.
type source struct {
	name   string
	bytes  []byte
	tokens []token
	main   bool
}

// state is what is known after some statements.
type state struct {
	steps    int   // that were followed
	err      error // it is more than settings are
	opts     Options
	changed  map[string][]byte
	main     *source
	consts   map[string]value
	vars     map[string]value
	props    map[string]value
	result   value
	env      []string
	places   []place
	included []string
	open     []string // files that are being followed
}

// follow goes through source as PHP would.
func follow(src []byte, opts Options, changed map[string][]byte) (*state, error) {
	st := &state{opts: opts, changed: changed, consts: map[string]value{}, vars: map[string]value{}, props: map[string]value{}}
	st.main = &source{name: opts.Name, bytes: src, main: true}
	var err error
	if st.main.tokens, err = tokens(src); err != nil {
		return nil, err
	}
	w := &walker{st: st, src: st.main}
	w.statements("")
	st.result = w.result
	return st, st.err
}

// ErrTooMuch says that settings ask for more than settings do.
var ErrTooMuch = errors.New("this is no file of settings that Hovix follows; say in hovix.toml what the site is")

// place is where something is given a value, whether that is executed or not.
type place struct {
	path []string // "const", "var" or "property", the name, keys
	v    value
}

// note remembers where a value stands, and all elements of an array.
func (st *state) note(path []string, v value) {
	st.places = append(st.places, place{path, v})
	for _, e := range v.list {
		st.note(append(slices.Clone(path), e.key), e.val)
	}
}

// walker goes through one source.
type walker struct {
	st     *state
	src    *source
	i      int
	dead   int // inside what is not executed
	maybe  int // inside what may be executed
	depth  int
	done   bool // it has returned
	result value
}

// maxSteps bounds how many statements and expressions are followed, in all files: those
// of settings have some thousands.
const maxSteps = 1 << 20

// maxValue bounds a text that is joined of others, in bytes.
const maxValue = 1 << 20

// maxElements bounds the elements of an array, with those of arrays in it.
const maxElements = 10_000

// maxSource bounds PHP that is followed, in bytes.
const maxSource = 2 << 20

// step counts what is followed, and ends it where it is more than any settings hold.
func (w *walker) step(n int) {
	if w.st.steps += n; w.st.steps > maxSteps {
		w.giveUp("its values are made in more steps than those of settings are")
	}
}

// deeper counts how deep what is followed stands in other things, until back is called.
func (w *walker) deeper() (back func()) {
	if w.depth++; w.depth > maxDepth {
		w.giveUp("brackets and the like are nested more than %d deep", maxDepth)
	}
	return func() { w.depth-- }
}

// giveUp ends all that is followed.
func (w *walker) giveUp(why string, args ...any) {
	if w.st.err == nil {
		w.st.err = fmt.Errorf(why+": %w", append(args, ErrTooMuch)...)
	}
	w.i = len(w.src.tokens)
}

// charge counts the steps that it takes to copy a value.
func (w *walker) charge(v value) value {
	w.step(len(v.s) >> 8)
	w.step(v.size >> 6)
	if v.size > maxElements {
		return unknownOf("an array that is larger than those of settings are")
	}
	return v
}

// maxDepth bounds how deep statements and expressions may stand in each other.
const maxDepth = 200

func (w *walker) peek(n int) token {
	if w.i+n < len(w.src.tokens) {
		return w.src.tokens[w.i+n]
	}
	return token{kind: tEnd, from: len(w.src.bytes), to: len(w.src.bytes)}
}

// is reports whether the next token is s; words in any letter case.
func (w *walker) is(s string) bool { return w.isAt(0, s) }

func (w *walker) isAt(n int, s string) bool {
	t := w.peek(n)
	return t.kind != tString && t.kind != tEnd && strings.EqualFold(t.text(w.src.bytes), s)
}

// take passes over the next token if it is s.
func (w *walker) take(s string) bool {
	if w.is(s) {
		w.i++
		return true
	}
	return false
}

func (w *walker) over() bool { return w.i >= len(w.src.tokens) }

// statements follows statements up to one of the words that end a block.
func (w *walker) statements(ends ...string) {
	for !w.over() && w.st.err == nil {
		if slices.ContainsFunc(ends, func(e string) bool { return e != "" && w.is(e) }) {
			return
		}
		before := w.i
		w.statement()
		if w.i == before {
			w.i++
		}
	}
}

// skip passes over tokens up to the end of a statement, which it passes too.
func (w *walker) skip() {
	for !w.over() {
		switch {
		case w.is(";"), w.is("?>"):
			w.i++
			return
		case w.is("}"):
			return
		case w.is("("), w.is("["), w.is("{"):
			w.group()
		default:
			w.i++
		}
	}
}

// group passes over what stands in brackets of any kind.
func (w *walker) group() {
	depth := 0
	for !w.over() {
		switch {
		case w.is("("), w.is("["), w.is("{"):
			depth++
		case w.is(")"), w.is("]"), w.is("}"):
			depth--
		}
		w.i++
		if depth <= 0 {
			return
		}
	}
}

func (w *walker) statement() {
	w.step(1)
	defer w.deeper()()
	t := w.peek(0)
	word := ""
	if t.kind == tWord {
		word = strings.ToLower(t.text(w.src.bytes))
	}
	switch {
	case w.take(";"), w.take("?>"):
	case w.is("#"): // of an attribute
		w.i++
		w.group()
	case w.take("{"):
		w.statements("}")
		w.take("}")
	case word == "if":
		w.i++
		w.choice()
	case word == "while", word == "for", word == "foreach", word == "switch":
		w.i++
		w.loop(word)
	case word == "function" && w.peek(1).kind == tWord, word == "function" && w.isAt(1, "&"):
		for !w.over() && !w.is("{") && !w.is(";") {
			w.i++
		}
		w.group()
	case slices.Contains([]string{"class", "interface", "trait", "enum", "abstract", "final", "readonly"}, word):
		w.class()
	case word == "try":
		w.i++
		w.statement()
		for w.is("catch") {
			w.i++
			w.group()
			w.unexecuted(w.statement)
		}
		if w.take("finally") {
			w.statement()
		}
	case word == "return":
		w.i++
		v := w.expression()
		w.skip()
		if w.dead == 0 && !w.done {
			v.maybe = v.maybe || w.maybe > 0
			w.result = v
			if w.maybe == 0 {
				w.done = true
				w.dead++ // for good
			}
		}
	case word == "namespace":
		w.i++
		if w.peek(0).kind == tWord {
			w.i++
		}
	case word == "case", word == "default" && w.isAt(1, ":"):
		if w.i++; word == "case" {
			w.expression()
		}
		w.take(":")
	case word == "const":
		w.constants()
	case slices.Contains([]string{"echo", "print", "global", "static", "unset", "throw", "exit", "die", "use", "declare", "goto", "break", "continue"}, word):
		w.skip()
	default:
		w.expression()
		w.skip()
	}
}

func (w *walker) unexecuted(f func()) {
	w.dead++
	f()
	w.dead--
}

func (w *walker) perhaps(f func()) {
	w.maybe++
	f()
	w.maybe--
}

// choice follows an if behind its word: what is decided is followed, the rest
// passed over; where nothing is decided all branches may be executed.
func (w *walker) choice() {
	taken, open := false, false // one branch is; one may be
	branch := func(is, known bool) {
		run := w.body
		switch {
		case taken || known && !is:
			w.unexecuted(run)
		case !known || open:
			open = true
			w.perhaps(run)
		default:
			taken = true
			run()
		}
	}
	if !w.take("(") {
		w.skip()
		return
	}
	condition := func() (bool, bool) {
		v := w.expression()
		for !w.over() && !w.is(")") && !w.is("{") && !w.is(";") {
			w.i++
			v = unknownOf("a condition")
		}
		w.take(")")
		return v.truth()
	}
	branch(condition())
	for {
		switch {
		case w.is("elseif"), w.is("else") && w.isAt(1, "if"):
			if !w.take("elseif") {
				w.i += 2
			}
			if !w.take("(") {
				w.skip()
				return
			}
			branch(condition())
		case w.take("else"):
			branch(true, true)
		case w.take("endif"):
			w.take(";")
			return
		default:
			return
		}
	}
}

// body follows the statement of a branch, or the statements behind a colon.
func (w *walker) body() {
	if !w.take(":") {
		w.statement()
		return
	}
	w.statements("elseif", "else", "endif")
}

func (w *walker) loop(word string) {
	if w.is("(") {
		w.group()
	}
	w.perhaps(func() {
		if w.take(":") {
			w.statements("end" + word)
			w.i++
			w.take(";")
			return
		}
		if word != "while" || !w.is(";") {
			w.statement()
		}
	})
}

// class reads the properties of a class that have values.
func (w *walker) class() {
	for !w.over() && !w.is("{") && !w.is(";") {
		w.i++
	}
	if !w.take("{") {
		return
	}
	for !w.over() && !w.take("}") {
		switch {
		case w.is("function"):
			for !w.over() && !w.is("{") && !w.is(";") {
				w.i++
			}
			w.group()
		case (w.peek(0).kind == tVar || w.peek(0).kind == tWord) && w.isAt(1, "="):
			name := strings.TrimPrefix(w.peek(0).text(w.src.bytes), "$")
			w.i += 2
			v := w.expression()
			w.st.note([]string{"property", name}, v)
			if w.dead == 0 {
				v.maybe = w.maybe > 0
				w.st.props[name] = v
			}
			w.skip()
		case w.is("{"), w.is("("), w.is("["):
			w.group()
		default:
			w.i++
		}
	}
}

// constants reads const A = 1, B = 2;
func (w *walker) constants() {
	w.i++
	for w.peek(0).kind == tWord && w.isAt(1, "=") {
		name := w.peek(0).text(w.src.bytes)
		w.i += 2
		w.define(name, w.expression())
		if !w.take(",") {
			break
		}
	}
	w.skip()
}

// define sets a constant unless it is set: PHP ignores a second definition.
func (w *walker) define(name string, v value) {
	w.st.note([]string{"const", name}, v)
	if old, ok := w.st.consts[name]; w.dead > 0 || ok && !old.maybe {
		return
	} else if ok {
		v.maybe = true
	}
	v.maybe = v.maybe || w.maybe > 0
	w.st.consts[name] = v
}

// include follows another file. Its variables are those of this one.
func (w *walker) include(path value, must bool) value {
	st := w.st
	name, ok := path.asText()
	switch {
	case !ok || name == "":
		return unknownOf("a file that is included by a name that Hovix cannot tell")
	case st.opts.Read == nil:
		return unknownOf("the included file " + name)
	}
	if !filepath.IsAbs(name) && w.src.name != "" {
		name = filepath.Join(filepath.Dir(w.src.name), name)
	}
	name = filepath.Clean(name)
	if w.dead > 0 || slices.Contains(st.open, name) || len(st.open) > 8 {
		return unknownOf("the included file " + name)
	}
	content, ok := st.changed[name]
	if !ok {
		var err error
		if content, err = st.opts.Read(name); err != nil {
			if must {
				return unknownOf(fmt.Sprintf("the included file %s, which cannot be read", name))
			}
			return boolOf(false)
		}
	}
	w.step(len(content) / 8)
	toks, err := tokens(content)
	if err != nil {
		return unknownOf("the included file " + name)
	}
	if !slices.Contains(st.included, name) {
		st.included = append(st.included, name)
	}
	st.open = append(st.open, name)
	defer func() { st.open = st.open[:len(st.open)-1] }()
	in := &walker{st: st, src: &source{name: name, bytes: content, tokens: toks}, maybe: w.maybe, depth: w.depth}
	in.statements("")
	if in.result.src == nil && in.result.why == "" {
		return value{kind: number, s: "1"}
	}
	return in.result
}

// trial keeps what is known, to be put back.
func (w *walker) trial() (back func()) {
	st := w.st
	w.step(1 + (len(st.consts)+len(st.vars)+len(st.props))>>4)
	consts, vars, props := maps.Clone(st.consts), maps.Clone(st.vars), maps.Clone(st.props)
	return func() { st.consts, st.vars, st.props = consts, vars, props }
}
