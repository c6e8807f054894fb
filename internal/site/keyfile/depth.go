package keyfile

import "errors"

// maxDepth bounds how deep lists and tables of settings may nest.
const maxDepth = 100

// ErrDeep says that settings nest deeper than any do.
var ErrDeep = errors.New("brackets are nested more than 100 deep, which no settings are")

// CheckDepth insists that brackets outside of quotes do not nest too deep for a reader
// that follows them by calling itself. The content may be TOML or YAML.
func CheckDepth(content []byte) error {
	depth := 0
	quote := byte(0)
	for i := 0; i < len(content); i++ {
		c := content[i]
		switch {
		case c == '\n': // texts of one line end with it; longer ones hold few brackets
			quote = 0
		case quote != 0:
			if c == '\\' && quote == '"' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '[' || c == '{':
			if depth++; depth > maxDepth {
				return ErrDeep
			}
		case (c == ']' || c == '}') && depth > 0:
			depth--
		}
	}
	return nil
}
