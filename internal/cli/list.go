package cli

import "strings"

// listValue is an option that takes several values: given again, or with commas between
// them. Commas in braces belong to a pattern, and so do those behind a backslash.
type listValue struct{ to *[]string }

// list makes to the value of an option.
func list(to *[]string) listValue { return listValue{to} }

// String gives the values as they may be given.
func (l listValue) String() string {
	if l.to == nil {
		return ""
	}
	return strings.Join(*l.to, ",")
}

// Type names what is given.
func (l listValue) Type() string { return "list" }

// Set adds values.
func (l listValue) Set(s string) error {
	*l.to = append(*l.to, splitList(s)...)
	return nil
}

func splitList(s string) (out []string) {
	depth, word := 0, []byte{}
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '\\' && i+1 < len(s) && s[i+1] == ',':
			i++
			word = append(word, ',')
		case c == ',' && depth == 0:
			out, word = append(out, string(word)), nil
		default:
			if c == '{' {
				depth++
			} else if c == '}' && depth > 0 {
				depth--
			}
			word = append(word, c)
		}
	}
	return append(out, string(word))
}
