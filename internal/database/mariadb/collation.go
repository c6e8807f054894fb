package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// collations are those that a server knows.
type collations map[string]bool

// querier is a connection or a pool of them.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

func readCollations(ctx context.Context, db querier) (collations, error) {
	known := collations{"filename": true} // which no list has
	rows, err := stringRows(db.QueryContext(ctx, "SELECT COLLATION_NAME FROM information_schema.COLLATIONS"))
	if err != nil {
		return nil, fmt.Errorf("list the collations of the target: %w", err)
	}
	// MariaDB has some under a name for every charset, which stands elsewhere.
	full, err := stringRows(db.QueryContext(ctx, "SELECT FULL_COLLATION_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY"))
	if err == nil { // an older server has no such column, and no such names
		rows = append(rows, full...)
	}
	for _, row := range rows {
		known[strings.ToLower(row[0])] = true
	}
	return known, nil
}

// fitting gives a collation itself if it is known, else the nearest one.
func (c collations) fitting(name string) string {
	if c[strings.ToLower(name)] {
		return name
	}
	return c.best(name)
}

// best gives the nearest collation that is known: of the same charset, with the
// same care for letter case and accents.
func (c collations) best(name string) string {
	name = strings.ToLower(name)
	charset, rest, _ := strings.Cut(name, "_")
	if charset == "utf8" || charset == "utf8mb3" { // two names of one charset
		for _, other := range []string{"utf8", "utf8mb3"} {
			if c[other+"_"+rest] {
				return other + "_" + rest
			}
		}
	}
	exact := strings.HasSuffix(rest, "bin") || strings.HasSuffix(rest, "_cs")
	accents := strings.Contains(rest, "_as_")
	var wanted []string
	if language, ok := strings.CutSuffix(rest, "_0900_ai_ci"); ok && language != "0900" {
		wanted = append(wanted, languages[language])
	}
	switch {
	case strings.HasSuffix(rest, "bin"):
	case exact:
		wanted = append(wanted, "uca1400_as_cs", "0900_as_cs")
	case accents:
		wanted = append(wanted, "uca1400_as_ci", "0900_as_ci")
	default:
		wanted = append(wanted, "uca1400_ai_ci", "0900_ai_ci")
	}
	wanted = append(wanted, strings.ReplaceAll(rest, "nopad_", ""), strings.ReplaceAll(rest, "_nopad", ""))
	if exact {
		wanted = append(wanted, "bin")
	} else {
		wanted = append(wanted, "unicode_520_ci", "unicode_ci", "general_ci")
	}
	for _, w := range wanted {
		if w != "" && c[charset+"_"+w] {
			return charset + "_" + w
		}
	}
	return ""
}

// languages are the rules of languages by the names that MySQL 8 gives them.
var languages = map[string]string{"de_pb": "german2_ci", "cs": "czech_ci", "da": "danish_ci", "es": "spanish_ci", "et": "estonian_ci", "hr": "croatian_ci", "hu": "hungarian_ci", "is": "icelandic_ci",
	"lt": "lithuanian_ci", "lv": "latvian_ci", "pl": "polish_ci", "ro": "romanian_ci", "sk": "slovak_ci", "sl": "slovenian_ci", "sv": "swedish_ci", "tr": "turkish_ci", "vi": "vietnamese_ci", "eo": "esperanto_ci", "la": "roman_ci"}

// fit gives a statement in which each collation that the server does not know
// is the nearest that it knows, and notes which.
func (s *stage) fit(ctx context.Context, what, stmt string) (string, error) {
	if !strings.Contains(strings.ToLower(stmt), "collate") {
		return stmt, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		known, err := readCollations(ctx, s.db)
		if err != nil {
			return "", err
		}
		s.known = known
	}
	var b strings.Builder
	l := sqltext.NewLexer([]byte(stmt), sqltext.MySQL)
	copied, next := 0, false
	for {
		t, err := l.Skip()
		if err != nil {
			return "", err
		}
		switch {
		case t.Kind == sqltext.End:
			return b.String() + stmt[copied:], nil
		case t.Is("COLLATE"):
			next = true
		case next && t.Kind == sqltext.Word:
			next = false
			name := string(t.Text)
			if t.Is("DEFAULT") {
				continue
			}
			other := s.known.fitting(name)
			switch other {
			case name:
				continue
			case "":
				return "", fmt.Errorf("%s: the server knows neither the collation %s nor one like it; restore to a newer server", what, name)
			}
			b.WriteString(stmt[copied:t.At] + other)
			copied = t.At + len(name)
			if w := fmt.Sprintf("the server does not know the collation %s; it is %s now, which may sort and compare a little differently", name, other); !slices.Contains(s.warnings, w) {
				s.warnings = append(s.warnings, w)
			}
		}
	}
}

// Collations lists those of the tables and their columns.
func (r *reader) Collations(ctx context.Context) (names []string, err error) {
	rows, err := r.Strings(ctx, "SELECT DISTINCT COLLATION_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA=DATABASE() AND COLLATION_NAME IS NOT NULL AND "+notOurs+
		" UNION SELECT TABLE_COLLATION FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_COLLATION IS NOT NULL AND "+notOurs)
	if err != nil {
		return nil, fmt.Errorf("list the collations in use: %w", err)
	}
	for _, row := range rows {
		names = append(names, row[0])
	}
	return names, nil
}
