package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/site"
)

func (a *app) surveyCommand() *cobra.Command {
	var db databaseFlags
	cmd := &cobra.Command{
		Use:   "survey SITE",
		Short: "Say what a site is: its kind, address, database, parts and sizes",
		Long: `Look at the site in the folder SITE and say what it is: kind and version of its
software, public address, database with engine, version, tables and rows, the
size of each part, the largest things, and what a pack would leave out.
Nothing is changed.`,
		Example: "  hovix survey /var/www/museum",
		Args:    args("SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.openSite(args[0], &db)
			if err != nil {
				return err
			}
			v, err := s.Look(cmd.Context())
			if err != nil {
				return err
			}
			if v.DatabaseErr != nil {
				a.status = exitFailed
			} else {
				a.findings(int64(len(v.NotCarried)))
			}
			if a.json {
				return a.document(surveyDocument(v))
			}
			a.printSurvey(v, args[0])
			if v.DatabaseErr != nil {
				a.complain(v.DatabaseErr)
			}
			return nil
		},
	}
	db.add(cmd, "look at this database instead of the one in the site's settings")
	return cmd
}

func (a *app) printSurvey(v *site.Survey, path string) {
	p, s := ui.New(a.out), v.Site
	p.Title(s.Name, addressOf(s))
	p.Field("Kind", strings.TrimSpace(s.Kind+" "+s.Version))
	if v.PHP != "" {
		p.Field("PHP", v.PHP, p.Dim("on the command line; the web server may use another"))
	}
	p.Field("Folder", s.Root)
	if !s.Database.IsZero() {
		p.Field("Database", s.Database.String(), databaseLine(v))
	} else {
		p.Field("Database", "none")
	}
	if len(s.Others) > 0 {
		var lines []string
		for _, o := range s.Others {
			lines = append(lines, o.String())
		}
		p.Field("Answers at", lines...)
	}
	if len(v.Accounts) > 0 {
		p.Field("Accounts", accountLines(v.Accounts)...)
	}
	for _, n := range s.Notes {
		p.Field("Note", n)
	}
	p.Section("Parts")
	var rows [][]string
	for _, part := range site.Parts {
		n, ok := v.Parts[part]
		if !ok {
			continue
		}
		one, many := "file", "files"
		if part == site.Database {
			one, many = "table", "tables"
		}
		rows = append(rows, []string{string(part), ui.Count(n.Count, one, many), ui.Bytes(n.Bytes)})
	}
	p.Table(rows, 1, 2)
	printTables(p, v.Tables)
	printThings(p, "Largest", v.Largest)
	printLeftOut(p, v.LeftOut)
	for _, n := range v.NotCarried {
		p.Warn("%s", staysBehind(n))
	}
	if v.DatabaseErr == nil {
		p.Next("hovix pack " + shellWord(path) + " -o " + archiveName(s))
	}
}

func addressOf(s *site.Site) string {
	if s.Address.IsZero() {
		return ""
	}
	return s.Address.String()
}

func databaseLine(v *site.Survey) string {
	if v.DatabaseErr != nil {
		return "cannot be read: see below"
	}
	var rows int64
	for _, t := range v.Tables {
		rows += t.Rows
	}
	line := fmt.Sprintf("%s %s · %s · %s", v.Info.Product, v.Info.Version, ui.Count(int64(len(v.Tables)), "table", "tables"), ui.Count(rows, "row", "rows"))
	if v.Info.Engine == database.MariaDB {
		line = strings.Replace(line, " · "+ui.Count(rows, "row", "rows"), " · about "+ui.Count(rows, "row", "rows"), 1)
	}
	if v.Others > 0 {
		line += fmt.Sprintf(" (%s of others in the same database)", ui.Count(int64(v.Others), "table", "tables"))
	}
	return line
}

func accountLines(accounts []site.Account) (lines []string) {
	for i, acc := range accounts {
		if i == 8 {
			return append(lines, fmt.Sprintf("and %d more", len(accounts)-i))
		}
		line := acc.Login
		if acc.Email != "" {
			line += " <" + acc.Email + ">"
		}
		lines = append(lines, line)
	}
	return lines
}

// manyTables is how many tables are listed; more would drown the rest.
const manyTables = 24

func printTables(p *ui.Printer, tables []database.Table) {
	if len(tables) == 0 {
		return
	}
	p.Section("Tables")
	tables = slices.Clone(tables)
	slices.SortStableFunc(tables, func(a, b database.Table) int { return cmp.Compare(b.Bytes, a.Bytes) })
	var rows [][]string
	for i, t := range tables {
		if i == manyTables {
			rows = append(rows, []string{fmt.Sprintf("… and %d more", len(tables)-i)})
			break
		}
		rows = append(rows, []string{ui.Short(t.Name, 44), ui.Count(t.Rows, "row", "rows"), sizeOrNothing(t.Bytes)})
	}
	p.Table(rows, 1, 2)
}

func sizeOrNothing(n int64) string {
	if n == 0 {
		return ""
	}
	return ui.Bytes(n)
}

func printThings(p *ui.Printer, title string, things []site.Thing) {
	if len(things) == 0 {
		return
	}
	p.Section(title)
	var rows [][]string
	for _, t := range things {
		rows = append(rows, []string{ui.Short(t.Name, 60), ui.Bytes(t.Bytes)})
	}
	p.Table(rows, 1)
}

// manyLeftOut is how many things that were left out are named one by one.
const manyLeftOut = 20

func printLeftOut(p *ui.Printer, list []site.LeftOut) {
	if len(list) == 0 {
		return
	}
	// Rows first: there are few, and they are the least expected.
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b site.LeftOut) int { return cmp.Compare(b.Rows, a.Rows) })
	p.Section("Left out")
	var rows [][]string
	rest := site.LeftOut{}
	for i, l := range list {
		if i >= manyLeftOut && len(list) > manyLeftOut+1 {
			rest.Files, rest.Bytes = rest.Files+l.Files, rest.Bytes+l.Bytes
			continue
		}
		amount, size := ui.Count(l.Files, "file", "files"), ui.Bytes(l.Bytes)
		if l.Rows > 0 || strings.HasPrefix(l.What, "rows of ") {
			amount = ui.Count(l.Rows, "row", "rows")
			if l.Bytes == 0 {
				size = ""
			}
		}
		rows = append(rows, []string{ui.Short(l.What, 44), l.Reason, amount, size})
	}
	if n := len(list) - len(rows); n > 0 {
		rows = append(rows, []string{fmt.Sprintf("… and %d more", n), "", ui.Count(rest.Files, "file", "files"), ui.Bytes(rest.Bytes)})
	}
	p.Table(rows, 2, 3)
}

// surveyJSON is the JSON document of survey.
type surveyJSON struct {
	Kind       string                    `json:"kind"`
	Version    string                    `json:"version,omitempty"`
	PHP        string                    `json:"php,omitempty"` // of the command line
	Name       string                    `json:"name"`
	Folder     string                    `json:"folder"`
	Address    string                    `json:"address,omitempty"`
	Database   string                    `json:"database,omitempty"`
	Product    string                    `json:"databaseProduct,omitempty"`
	DBVersion  string                    `json:"databaseVersion,omitempty"`
	Error      string                    `json:"databaseError,omitempty"`
	Tables     []database.Table          `json:"tables,omitempty"`
	Parts      map[site.Part]site.Amount `json:"parts"`
	Largest    []site.Thing              `json:"largest,omitempty"`
	LeftOut    []site.LeftOut            `json:"leftOut,omitempty"`
	NotCarried []string                  `json:"notCarried,omitempty"`
	Accounts   []site.Account            `json:"accounts,omitempty"`
	Notes      []string                  `json:"notes,omitempty"`
}

func surveyDocument(v *site.Survey) surveyJSON {
	s := v.Site
	d := surveyJSON{Kind: s.Kind, Version: s.Version, PHP: v.PHP, Name: s.Name, Folder: s.Root, Address: addressOf(s), Product: v.Info.Product, DBVersion: v.Info.Version,
		Tables: v.Tables, Parts: v.Parts, Largest: v.Largest, LeftOut: v.LeftOut, NotCarried: v.NotCarried, Accounts: v.Accounts, Notes: s.Notes}
	if !s.Database.IsZero() {
		d.Database = s.Database.String()
	}
	if v.DatabaseErr != nil {
		d.Error = v.DatabaseErr.Error()
	}
	return d
}

// archiveName suggests a file name for the archive of a site.
func archiveName(s *site.Site) string {
	name := s.Name
	if !s.Address.IsZero() {
		name = s.Address.Host
	}
	name = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '.', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, name)
	return strings.Trim(name, "-.") + ".tar.zst"
}

// shellWord quotes a word for the shell if it needs that.
func shellWord(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_./:=@+,", r))
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// staysBehind says that something of a database is not packed, with the reason behind
// its colon if it has one.
func staysBehind(what string) string {
	what, why, ok := strings.Cut(what, ": ")
	if !ok {
		why = "Hovix does not carry it yet"
	}
	verb := " stays behind: "
	if strings.HasPrefix(what, "grants") || strings.HasSuffix(what, "privileges") || strings.HasSuffix(what, "objects") {
		verb = " stay behind: "
	}
	return what + verb + why
}
