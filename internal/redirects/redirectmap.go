package redirects

import (
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Row is one row of a redirect map.
type Row struct {
	From   string            `json:"from"`   // old path, as it stands in the map
	To     string            `json:"to"`     // new path or address; empty with status 410
	Status int               `json:"status"` // 301, 302, 307, 308 or 410; 0: 301
	Score  float64           `json:"score"`  // 0 to 1, how sure the pair is; -1: a person has set it
	Reason string            `json:"reason"`
	Visits int64             `json:"visits"`
	Line   int               `json:"line"` // in the file, from 1
	More   []string          `json:"more"` // the cells of further columns, in the order of Map.More
	Bad    string            `json:"bad"`  // what is wrong with its cells; such a row leads nowhere
	unread map[string]string // cells that cannot be read, as they stand, by column
}

// ByHand is the score of a row that a person has set.
const ByHand = -1

// Map is a redirect map: rows with the columns that people have added.
type Map struct {
	Rows   []Row
	More   []string // names of further columns
	Format Format
	order  []string // names of all columns as they stood; nil: those of Columns
}

// Columns are the columns of a redirect map in their order.
var Columns = []string{"from", "to", "status", "score", "reason", "visits"}

// columnNames are the words by which columns are known, as tools and people write them.
var columnNames = map[string][]string{
	"from":   {"from", "old", "old path", "old url", "old address", "source", "source url", "request", "redirect from", "url", "path", "address"},
	"to":     {"to", "new", "new path", "new url", "new address", "target", "target url", "destination", "redirect to", "location"},
	"status": {"status", "code", "status code", "http status", "type"},
	"score":  {"score", "sure", "confidence"},
	"reason": {"reason", "why", "note", "comment"},
	"visits": {"visits", "hits", "views", "pageviews", "sessions", "clicks"},
}

// plainName gives the name of a column in small letters, its words parted by spaces.
func plainName(name string) string {
	return strings.ToLower(strings.Join(strings.FieldsFunc(name, func(r rune) bool { return strings.ContainsRune(" \t_-\u00a0", r) }), " "))
}

// columnOf gives the column that a name in a header row means; "" if none.
func columnOf(name string) string {
	name = plainName(name)
	for column, names := range columnNames {
		if slices.Contains(names, name) {
			return column
		}
	}
	return ""
}

// ErrNoMap says that a table is no redirect map.
var ErrNoMap = errors.New("not a redirect map")

// ReadMap reads a redirect map as people and spreadsheets leave it: with or without a
// header row, its columns in any order, with further ones.
func ReadMap(r io.Reader) (*Map, error) {
	t, err := NewTableReader(r)
	if err != nil {
		return nil, err
	}
	m := &Map{}
	var at map[string]int // column → where it is
	var more []int
	for {
		cells, line, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if at == nil {
			var header bool
			if at, more, header = m.columns(cells); header {
				t.Header = true
				continue
			}
			if at == nil {
				return nil, fmt.Errorf("%w: line %d has neither names of columns nor two addresses; the columns are %s", ErrNoMap, line, strings.Join(Columns, ", "))
			}
		}
		row := readRow(cells, at)
		row.Line = line
		for _, i := range more {
			row.More = append(row.More, cell(cells, i))
		}
		m.Rows = append(m.Rows, row)
	}
	m.Format = t.Format
	return m, nil
}

// columns finds the columns in the first row: by its words, or, where it is an ordinary
// row, by the addresses in it.
func (m *Map) columns(first []string) (at map[string]int, more []int, header bool) {
	at = map[string]int{}
	for i, name := range first {
		column := columnOf(name)
		if _, twice := at[column]; column != "" && !twice {
			at[column] = i
		} else {
			more = append(more, i)
		}
	}
	_, from := at["from"]
	_, to := at["to"]
	if from && to {
		for _, i := range more {
			m.More = append(m.More, first[i])
		}
		for i, name := range first {
			m.order = append(m.order, name)
			if column := columnAt(at, i); column != "" {
				m.order[i] = column
			}
		}
		return at, more, true
	}
	at, more = map[string]int{}, nil
	for i, c := range first {
		switch {
		case !looksLikeAddress(c):
			more = append(more, i)
		case len(at) == 0:
			at["from"] = i
		case len(at) == 1:
			at["to"] = i
		default:
			more = append(more, i)
		}
	}
	if len(at) < 2 {
		return nil, nil, false
	}
	for n, i := range more {
		if _, has := at["status"]; !has {
			if code, err := strconv.Atoi(strings.TrimSpace(first[i])); err == nil && slices.Contains(Statuses, code) {
				at["status"] = i
				more = slices.Delete(slices.Clone(more), n, n+1)
				break
			}
		}
	}
	for n := range more {
		m.More = append(m.More, fmt.Sprintf("column %d", more[n]+1))
	}
	return at, more, false
}

func columnAt(at map[string]int, i int) string {
	for column, n := range at {
		if n == i {
			return column
		}
	}
	return ""
}

func looksLikeAddress(s string) bool {
	s = strings.TrimSpace(s)
	return strings.HasPrefix(s, "/") || strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")
}

// Statuses are those that a redirect may have.
var Statuses = []int{301, 302, 307, 308, 410}

func cell(cells []string, i int) string {
	if i < len(cells) {
		return cells[i]
	}
	return ""
}

// readRow reads a row. A cell that cannot be read is kept as it stands, and the row is
// bad: check tells of it.
func readRow(cells []string, at map[string]int) (r Row) {
	get := func(column string) string {
		if i, ok := at[column]; ok {
			return strings.TrimSpace(cell(cells, i))
		}
		return ""
	}
	bad := func(column, format string, args ...any) {
		if r.unread == nil {
			r.unread = map[string]string{}
		}
		r.unread[column] = get(column)
		r.Bad = fmt.Sprintf(format, args...)
	}
	var err error
	r.From, r.To, r.Reason = get("from"), get("to"), get("reason")
	if s := get("visits"); s != "" {
		if r.Visits, err = count(s); err != nil || r.Visits < 0 {
			bad("visits", "%q visits is no number", s)
		}
	}
	r.Score = ByHand
	if s := strings.ReplaceAll(get("score"), ",", "."); s != "" {
		if r.Score, err = strconv.ParseFloat(s, 64); err != nil || r.Score < 0 || r.Score > 1 {
			r.Score = ByHand
			bad("score", "the score %q is no number from 0 to 1", s)
		}
	}
	if s := get("status"); s != "" {
		if r.Status, err = strconv.Atoi(s); err != nil || !slices.Contains(Statuses, r.Status) {
			r.Status = 0
			bad("status", "the status %q is none of 301, 302, 307, 308 and 410", s)
		}
	}
	return r
}

// Write writes the map in its format, with the columns where they stood.
func (m *Map) Write(w io.Writer) error {
	f := m.Format
	if f.Comma == 0 {
		f = DefaultFormat
	}
	t, err := NewTableWriter(w, f)
	if err != nil {
		return err
	}
	order := m.order
	if order == nil {
		order = append(slices.Clone(Columns), m.More...)
	}
	for _, c := range Columns { // those that were not there
		if !slices.Contains(order, c) {
			order = append(order, c)
		}
	}
	if err := t.Write(order); err != nil {
		return err
	}
	for i := range m.Rows {
		if err := t.Write(m.Rows[i].cells(order, m.More)); err != nil {
			return err
		}
	}
	return t.Flush()
}

// cells gives the row in an order of columns.
func (r *Row) cells(order, more []string) (out []string) {
	for _, c := range order {
		v := ""
		switch c {
		case "from":
			v = r.From
		case "to":
			v = r.To
		case "status":
			v = strconv.Itoa(r.status())
		case "score":
			if r.Score != ByHand {
				v = strconv.FormatFloat(math.Round(r.Score*10000)/10000, 'f', -1, 64) // the last two digits are a check, see stamp
			}
		case "reason":
			v = r.Reason
		case "visits":
			v = strconv.FormatInt(r.Visits, 10)
		default:
			if i := slices.Index(more, c); i >= 0 {
				v = cell(r.More, i)
			}
		}
		if text, ok := r.unread[c]; ok {
			v = text
		}
		out = append(out, v)
	}
	return out
}

// ScoreText gives a score as people read it, with two digits.
func ScoreText(score float64) string { return fmt.Sprintf("%.2f", math.Floor(score*100)/100) }

func (r *Row) status() int {
	if r.Status == 0 {
		return 301
	}
	return r.Status
}
