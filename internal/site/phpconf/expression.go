package phpconf

import (
	"slices"
	"strconv"
	"strings"
)

// expression reads an expression and gives what it means and where it stands.
func (w *walker) expression() value { return w.words() }

// spanned gives a value the place of the tokens from start on.
func (w *walker) spanned(start int, v value) value {
	if end := min(w.i, len(w.src.tokens)); start < end {
		v.src, v.from, v.to = w.src, w.src.tokens[start].from, w.src.tokens[end-1].to
	}
	return v
}

// words reads a or b, a and b, which bind weaker than an assignment.
func (w *walker) words() value {
	start := w.i
	v := w.assignment()
	for w.is("or") || w.is("and") || w.is("xor") {
		or, both := w.is("or"), w.is("xor")
		w.i++
		v = w.spanned(start, w.shortcut(v, or, both, w.assignment))
	}
	return v
}

// shortcut evaluates the right side of a logical operator if the left side does
// not decide.
func (w *walker) shortcut(left value, or, both bool, right func() value) value {
	is, known := left.truth()
	var r value
	run := func() { r = right() }
	switch {
	case both:
		run()
		return unknownOf("a condition")
	case !known:
		w.perhaps(run)
		return unknownOf(left.why)
	case is == or:
		w.unexecuted(run)
		return boolOf(is)
	}
	run()
	rightIs, rightKnown := r.truth()
	if !rightKnown {
		return unknownOf(r.why)
	}
	return boolOf(rightIs)
}

// assignment reads $a['b'] = value and what binds stronger.
func (w *walker) assignment() value {
	w.step(1)
	defer w.deeper()()
	start := w.i
	if name, path, ok := w.target(); ok {
		return w.spanned(start, w.assign(name, path))
	}
	w.i = start
	return w.ternary()
}

// target reads what may stand left of an assignment, up to the sign.
func (w *walker) target() (name string, path []string, ok bool) {
	if w.peek(0).kind != tVar {
		return "", nil, false
	}
	name = w.peek(0).text(w.src.bytes)[1:]
	w.i++
	for {
		if w.is("->") && w.peek(1).kind == tWord && !w.isAt(2, "(") { // a property is named like an element
			path = append(path, w.peek(1).text(w.src.bytes))
			w.i += 2
			continue
		}
		if !w.take("[") {
			break
		}
		if w.take("]") {
			path = append(path, "")
			continue
		}
		back := w.trial()
		key := w.expression()
		back()
		text, known := key.asText()
		if !w.take("]") {
			return "", nil, false
		}
		if !known {
			text = "\x00unknown"
		}
		path = append(path, text)
	}
	return name, path, w.is("=") || w.is(".=") || w.is("??=")
}

func (w *walker) assign(name string, path []string) value {
	sign := w.peek(0).text(w.src.bytes)
	w.i++
	if sign == "=" && w.is("&") {
		w.i++
	}
	old, had := walk(w.st.vars[name], path)
	v := w.assignment()
	switch {
	case sign == "??=" && had && old.src != nil && old.kind != null && !old.missing:
		return old
	case sign == ".=":
		a, ok1 := old.asText()
		b, ok2 := v.asText()
		if !ok1 || !ok2 || len(a)+len(b) > maxValue {
			v = value{why: "a text that is put together", src: v.src, from: v.from, to: v.to}
		} else {
			v = value{kind: text, s: a + b, src: v.src, from: v.from, to: v.to}
		}
	}
	v = w.charge(v)
	w.st.note(append([]string{"var", name}, path...), v)
	if w.dead > 0 {
		return v
	}
	v.maybe = v.maybe || w.maybe > 0
	w.step(w.st.vars[name].size >> 6)
	w.st.vars[name] = put(w.st.vars[name], path, v)
	return v
}

// put gives the array v with an element set; an array of which an unknown
// element is set is unknown.
func put(v value, path []string, e value) value {
	if len(path) == 0 {
		return e
	}
	if v.kind == unknown && v.why != "" {
		return v
	}
	if path[0] == "\x00unknown" {
		return value{why: "a key that Hovix cannot tell", src: e.src, from: e.from, to: e.to}
	}
	inner, _ := v.at(path[0])
	if v.kind != array {
		v = value{kind: array, src: e.src, from: e.from, to: e.from}
	}
	v.set(path[0], put(inner, path[1:], e))
	return v
}

// ternary reads a ? b : c, a ?: c and a ?? b.
func (w *walker) ternary() value {
	start := w.i
	v := w.coalesce()
	for w.is("?") {
		w.i++
		is, known := v.truth()
		var yes, no value
		if w.take(":") {
			yes = v
		} else {
			run := func() { yes = w.assignment() }
			w.either(run, is, known)
			if !w.take(":") {
				return w.spanned(start, unknownOf("an expression that Hovix does not read"))
			}
		}
		w.either(func() { no = w.assignment() }, !is, known)
		switch {
		case !known:
			v = unknownOf(v.why)
		case is:
			v = yes
		default:
			v = no
		}
		v = w.spanned(start, v)
	}
	return v
}

// either follows one of two sides.
func (w *walker) either(run func(), is, known bool) {
	switch {
	case !known:
		w.perhaps(run)
	case is:
		run()
	default:
		w.unexecuted(run)
	}
}

func (w *walker) coalesce() value {
	start := w.i
	v := w.binary(0)
	if w.take("??") {
		var other value
		missing := v.kind == null || v.missing
		w.either(func() { other = w.assignment() }, missing, v.missing || v.kind != unknown)
		if missing {
			v = other
		}
		return w.spanned(start, v)
	}
	return v
}

// levels are the operators between two values, weakest first.
var levels = [][]string{{"||"}, {"&&"}, {"|"}, {"^"}, {"&"}, {"===", "!==", "==", "!=", "<>", "<=>"}, {"<", ">", "<=", ">="}, {"."}, {"<<", ">>"}, {"+", "-"}, {"*", "/", "%", "**"}}

func (w *walker) binary(level int) value {
	if level == len(levels) {
		return w.unary()
	}
	start := w.i
	v := w.binary(level + 1)
	for {
		at := slices.IndexFunc(levels[level], w.is)
		if at < 0 || w.peek(0).kind != tOther {
			return v
		}
		op := levels[level][at]
		w.i++
		next := func() value { return w.binary(level + 1) }
		if op == "||" || op == "&&" {
			v = w.spanned(start, w.shortcut(v, op == "||", false, next))
			continue
		}
		v = w.spanned(start, w.charge(combine(op, v, next())))
	}
}

// combine gives the value of an operator between two known values.
func combine(op string, a, b value) value {
	if a.kind == unknown || b.kind == unknown {
		return unknownOf(a.why + strings.TrimPrefix(b.why, a.why))
	}
	x, ok1 := a.asText()
	y, ok2 := b.asText()
	if !ok1 || !ok2 {
		return unknownOf("a calculation")
	}
	switch op {
	case ".":
		if len(x)+len(y) > maxValue {
			return unknownOf("a text that is longer than settings are")
		}
		return textOf(x + y)
	case "===", "!==":
		return boolOf((a.kind == b.kind && a.s == b.s) == (op == "==="))
	case "==", "!=", "<>":
		return boolOf((x == y) == (op == "=="))
	}
	return unknownOf("a calculation")
}

var casts = []string{"string", "int", "integer", "bool", "boolean", "array", "object", "float", "double"}

func (w *walker) unary() value {
	defer w.deeper()()
	start := w.i
	switch {
	case w.take("!"):
		v := w.unary()
		is, known := v.truth()
		if !known {
			return w.spanned(start, unknownOf(v.why))
		}
		return w.spanned(start, boolOf(!is))
	case w.take("@"), w.take("&"):
		return w.spanned(start, w.unary())
	case w.take("-"):
		v := w.unary()
		if v.kind == number {
			v.s = "-" + v.s
			return w.spanned(start, v)
		}
		return w.spanned(start, unknownOf("a calculation"))
	case w.is("(") && w.peek(1).kind == tWord && w.isAt(2, ")") && slices.Contains(casts, strings.ToLower(w.peek(1).text(w.src.bytes))):
		to := strings.ToLower(w.peek(1).text(w.src.bytes))
		w.i += 3
		return w.spanned(start, cast(to, w.unary()))
	}
	return w.postfix(start)
}

func cast(to string, v value) value {
	switch {
	case v.kind == unknown:
	case to == "string":
		if s, ok := v.asText(); ok {
			return textOf(s)
		}
	case to == "int" || to == "integer":
		if s, ok := v.asText(); ok {
			if n, err := strconv.Atoi(strings.TrimSpace(s)); err == nil {
				return value{kind: number, s: strconv.Itoa(n)}
			}
		}
	case strings.HasPrefix(to, "bool"):
		if is, ok := v.truth(); ok {
			return boolOf(is)
		}
	case to == "array" && v.kind == array:
		return v
	}
	return unknownOf("a calculation")
}

// postfix reads a value with what stands behind it: [key], ->name, (…).
func (w *walker) postfix(start int) value {
	v := w.primary()
	for {
		switch {
		case w.take("["):
			key := w.expression()
			if !w.take("]") {
				return w.spanned(start, unknownOf("an expression that Hovix does not read"))
			}
			k, ok := key.asText()
			switch e, found := v.at(k); {
			case v.kind == unknown:
			case !ok || v.kind != array:
				v = unknownOf("a key that Hovix cannot tell")
			case found:
				v = e
			default:
				v = value{why: "an element " + quote(k) + ", which is not there", missing: true}
			}
		case w.is("->"), w.is("?->"), w.is("::"):
			name := w.peek(1)
			w.i += 2
			if e, found := v.at(name.text(w.src.bytes)); found && v.kind == array && name.kind == tWord && !w.is("(") {
				v = e
				continue
			}
			if w.is("(") {
				w.group()
			}
			v = unknownOf("a call that Hovix does not make")
		case w.is("("):
			w.group()
			v = unknownOf("a call that Hovix does not make")
		case w.is("++"), w.is("--"):
			w.i++
			v = unknownOf("a calculation")
		default:
			return w.spanned(start, v)
		}
	}
}

func (w *walker) primary() value {
	t := w.peek(0)
	s := t.text(w.src.bytes)
	switch t.kind {
	case tEnd:
		return unknownOf("")
	case tString:
		w.i++
		switch s[0] {
		case '\'':
			return textOf(unescapeSingle(s[1 : len(s)-1]))
		case '"':
			return w.interpolate(s[1:len(s)-1], '"')
		}
		return unknownOf("a command that Hovix does not run")
	case tHeredoc:
		w.i++
		body, raw := heredocText([]byte(s))
		if raw {
			return textOf(body)
		}
		return w.interpolate(body, 0)
	case tNumber:
		w.i++
		return value{kind: number, s: s}
	case tVar:
		w.i++
		return w.variable(s[1:])
	case tWord:
		return w.word(s)
	}
	switch s {
	case "(":
		w.i++
		v := w.expression()
		for !w.over() && !w.is(")") && !w.is(";") && !w.is("}") {
			w.i++
			v = unknownOf("an expression that Hovix does not read")
		}
		w.take(")")
		return v
	case "[":
		w.i++
		return w.elements("]")
	case ";", ")", "]", "}", ",", "?>":
		return unknownOf("")
	}
	w.i++
	return unknownOf("an expression that Hovix does not read")
}

// elements reads the elements of an array behind its opening bracket.
func (w *walker) elements(end string) value {
	v := value{kind: array}
	for !w.over() && !w.take(end) {
		before := w.i
		if w.take("...") {
			w.expression()
			v = unknownOf("an array that is put together")
		} else {
			e := w.expression()
			key := ""
			if w.take("=>") {
				k, ok := e.asText()
				e = w.expression()
				if !ok {
					v = unknownOf("a key that Hovix cannot tell")
				}
				key = k
				if key == "" {
					key = "\x00empty"
				}
			}
			if v.kind == array {
				v.set(key, e)
				v = w.charge(v)
			}
		}
		if !w.take(",") && !w.is(end) || w.i == before {
			if w.is(";") || w.is("?>") { // it has no end
				return v
			}
			w.i++
		}
	}
	return v
}
