package sqltext

import "strings"

// Alterations reads ALTER TABLE: the table's name (PostgreSQL: as JoinName gives
// it) and what is done to it, one thing each.
func Alterations(stmt []byte, d Dialect) (table string, actions []string, err error) {
	l := NewLexer(stmt, d)
	t, err := l.Skip()
	for err == nil && (t.Is("ALTER") || t.Is("TABLE") || t.Is("ONLY") || t.Is("IF") || t.Is("EXISTS") || t.Is("IGNORE")) {
		t, err = l.Skip()
	}
	if err != nil {
		return "", nil, err
	}
	if table, t, err = tableOf(l, t); err != nil {
		return "", nil, err
	}
	depth, from := 0, t.At
	for ; t.Kind != End; t, err = l.Skip() {
		if err != nil {
			return "", nil, err
		}
		switch string(t.Text) {
		case "(":
			depth++
		case ")":
			depth--
		case ",":
			if depth == 0 {
				actions = append(actions, strings.TrimSpace(string(stmt[from:t.At])))
				from = l.pos
			}
		}
	}
	return table, append(actions, strings.TrimSpace(strings.TrimRight(string(stmt[from:]), "; \t\r\n"))), nil
}
