package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/passage"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

func printPlan(p *ui.Printer, plan *restore.Plan) {
	m := plan.Manifest
	p.Title("Restore "+m.Name, plan.Address)
	p.Field("From", fmt.Sprintf("%s, packed %s", orNone(m.Address), m.Made.Local().Format("2 January 2006, 15:04")))
	p.Field("Brings", bringsLine(plan))
	folder := plan.Target
	if plan.Create {
		folder += " (will be made)"
	}
	p.Field("Folder", folder)
	if plan.Database != "" {
		p.Field("Database", plan.Database)
	}
	if d := plan.Manifest.Database; d != nil && plan.Database != "" && plan.Prefix != d.Prefix {
		p.Field("Prefix", plan.Prefix, p.Dim("in the archive "+cmp.Or(d.Prefix, "none")))
	}
	if len(plan.Maps) > 0 && rewrites(plan) {
		lines := slices.Clone(plan.Maps)
		if e := plan.Estimate; e != nil {
			lines = append(lines, p.Dim(estimateLine(e)))
		}
		p.Field("Rewrites", lines...)
	}
	if !plan.Overwrites() {
		p.Field("Replaces", "nothing")
	}
	if plan.Stay.Count > 0 {
		p.Field("Stay", fmt.Sprintf("%s (%s) of the target", ui.Count(plan.Stay.Count, "file", "files"), ui.Bytes(plan.Stay.Bytes)))
	}
	if f := plan.InFiles; f != nil && rewrites(plan) {
		about, n := "", f.Addresses
		if !f.Exact {
			about, n = "about ", roughly(n)
		}
		p.Warn("%s%s in text files stay as they are, such as in %s; --files PATTERNS rewrites them", about, ui.Count(n, "old address", "old addresses"), ui.Short(strings.Join(f.Examples, ", "), 90))
	}
	if u := plan.Unfit; u != nil {
		least := ""
		if !u.Exact {
			least = "at least "
		}
		p.Warn("%s%s would be longer than the column holds, and stop the restore; --unfit keep-old leaves them as they are", least, ui.Count(u.Values, "value", "values"))
		for _, e := range u.Examples {
			p.Line("      %s", p.Dim(e))
		}
	}
	for _, n := range plan.Notes {
		p.Warn("%s", n)
	}
	printChecks(p, plan.Checks)
	printReplaced(p, plan)
}

// rewrites reports whether anything is restored in which addresses are rewritten.
func rewrites(plan *restore.Plan) bool {
	return slices.Contains(plan.Parts, site.Database) || slices.Contains(plan.Parts, site.Settings)
}

// bringsLine says what of the archive is restored.
func bringsLine(plan *restore.Plan) string {
	m := plan.Manifest
	var parts []string
	for _, part := range plan.Parts {
		parts = append(parts, string(part))
	}
	line := strings.Join(parts, ", ")
	if len(parts) == 0 {
		line = "nothing"
	}
	files, tables := m.Files, 0
	if m.Database != nil {
		tables = len(m.Database.Tables)
	}
	if c := plan.Chosen; c != nil {
		files, tables = c.Files, c.Tables
	}
	var counts []string
	if tables > 0 {
		counts = append(counts, ui.Count(int64(tables), "table", "tables"))
	}
	if files.Count > 0 {
		counts = append(counts, ui.Count(files.Count, "file", "files")+" ("+ui.Bytes(files.Bytes)+")")
	}
	if len(counts) > 0 {
		line += ": " + strings.Join(counts, ", ")
	}
	if plan.Chosen != nil {
		line += ", as chosen"
	}
	return line
}

func estimateLine(e *restore.Estimate) string {
	if e.Exact {
		return "in " + ui.Count(e.Values, "value", "values") + " of the database"
	}
	return "in about " + ui.Count(roughly(e.Values), "value", "values") + " of the database, as some of its rows tell"
}

// roughly gives a number with two digits that mean something.
func roughly(n int64) int64 {
	step := int64(1)
	for n/step >= 100 {
		step *= 10
	}
	return (n + step/2) / step * step
}

// printChecks lists what was looked at, what stands in the way last.
func printChecks(p *ui.Printer, checks []database.Check) {
	if len(checks) == 0 {
		return
	}
	p.Section("Checked")
	for _, c := range checks {
		switch {
		case c.Err != nil:
			p.Bad("%s: %s", c.What, c.Failed)
		case c.Note:
			p.Warn("%s: %s", c.What, c.Found)
		default:
			p.Good("%s: %s", c.What, c.Found)
		}
	}
}

// printReplaced lists what gives way, and what stays.
func printReplaced(p *ui.Printer, plan *restore.Plan) {
	if plan.Overwrites() {
		p.Section("Replaces")
		if plan.Lose.Count > 0 {
			p.Warn("%s (%s) in %s", ui.Count(plan.Lose.Count, "file", "files"), ui.Bytes(plan.Lose.Bytes), plan.Target)
		}
		printGone(p, plan.Gone)
		for i, t := range plan.Tables {
			if i == manyTables {
				p.Warn("and %d more tables", len(plan.Tables)-i)
				break
			}
			p.Warn("table %s, %s", t.Name, ui.Count(t.Rows, "row", "rows"))
		}
		if len(plan.Accounts) > 0 {
			var names []string
			for _, a := range plan.Accounts {
				names = append(names, a.Login)
			}
			p.Warn("the accounts of administrators: %s", listOf(names, 6))
		}
		p.Line("    %s", p.Dim("What is replaced is kept as an undo point: hovix undo puts it back."))
	}
}

// printGone lists the files that only the target has.
func printGone(p *ui.Printer, g *restore.Gone) {
	if g == nil {
		return
	}
	p.Warn("%s (%s) only the target has, and will be in the undo point alone:", ui.Count(g.Count, "file", "files"), ui.Bytes(g.Bytes))
	var rows [][]string
	for _, it := range g.Items {
		rows = append(rows, []string{"  " + ui.Short(it.Name, 60), ui.Count(it.Count, "file", "files"), ui.Bytes(it.Bytes)})
	}
	if g.More.Count > 0 {
		rows = append(rows, []string{"  others", ui.Count(g.More.Count, "file", "files"), ui.Bytes(g.More.Bytes)})
	}
	p.Table(rows, 1, 2)
	p.Line("      %s", p.Dim("--keep PATH keeps what lies there; a folder is kept with all that is in it."))
}

func orNone(s string) string {
	if s == "" {
		return "a site without address"
	}
	return s
}

func printRestored(p *ui.Printer, res *restore.Result, changed *passwordJSON) {
	m := res.Plan.Manifest
	p.Title("Restored "+m.Name, res.Plan.Address)
	p.Field("Folder", res.Plan.Target)
	if res.Plan.Database != "" {
		p.Field("Database", res.Plan.Database)
	}
	p.Field("Brought", broughtLine(res))
	p.Field("Time", fmt.Sprintf("%s, of which %s to switch", seconds(res.Elapsed), seconds(res.Switch)))
	if len(res.Plan.Maps) > 0 && rewrites(res.Plan) {
		p.Field("Rewrote", append([]string{addressLine(&res.Tally)}, res.Plan.Maps...)...)
	}
	if len(res.Accounts) > 0 {
		p.Field("Log in as", accountLines(res.Accounts)...)
		p.Field("", p.Dim("Accounts came from the archive; those of the target are gone."))
	}
	switch {
	case changed == nil:
	case changed.Password != "":
		p.Field("Password", "of "+changed.Login+" is now "+p.Strong(changed.Password))
	default:
		p.Field("Password", "of "+changed.Login+" is the new one")
	}
	if len(res.Touched) > 0 {
		p.Field("Beside", res.Touched...)
	}
	printLeftovers(p, res)
	printNotes(p, append(slices.Clone(res.Plan.Notes), m.Notes...))
	for _, w := range res.Warnings {
		p.Warn("%s", w)
	}
	if g := res.Plan.Gone; g != nil {
		var names []string
		for _, it := range g.Items {
			names = append(names, it.Name)
		}
		p.Line("    %s (%s) only the target had, and are in the undo point: %s", ui.Count(g.Count, "file", "files"), ui.Bytes(g.Bytes), ui.Short(listOf(names, 5), 90))
	}
	for _, pr := range res.Summary.Problems {
		p.Warn("%s: %s", pr.What, pr.Why)
	}
	if res.Kept != "" {
		p.Section("Undo point")
		if res.Point.Bytes == 0 {
			p.Line("    Nothing was replaced; hovix undo takes the new site away again.")
		} else {
			p.Line("    What was replaced (%s) is kept in %s", ui.Bytes(res.Point.Bytes), res.Kept)
			p.Line("    %s", p.Dim("hovix undo puts it back, and hovix undo --discard removes it."))
		}
		if n := len(res.Dropped); n > 0 {
			p.Line("    %s", p.Dim(ui.Count(int64(n), "older undo point was", "older undo points were")+" removed: three are kept, and none of what was undone before."))
		}
		p.Next("hovix survey "+shellWord(res.Plan.Target), "hovix undo "+shellWord(res.Plan.Target))
		return
	}
	p.Next("hovix survey " + shellWord(res.Plan.Target))
}

func broughtLine(res *restore.Result) string {
	var parts []string
	if len(res.Tables) > 0 {
		parts = append(parts, ui.Count(int64(len(res.Tables)), "table", "tables")+" with "+ui.Count(res.Rows, "row", "rows"))
	}
	if res.Files.Count > 0 || len(parts) == 0 {
		parts = append(parts, ui.Count(res.Files.Count, "file", "files")+" ("+ui.Bytes(res.Files.Bytes)+")")
	}
	return strings.Join(parts, ", ")
}

// addressLine counts what was rewritten, by form.
func addressLine(t *rewrite.Tally) string {
	n := t.Occurrences()
	if n == 0 {
		return "no mention of the old address was found"
	}
	var forms []string
	for f, c := range t.Forms {
		if c > 0 {
			forms = append(forms, ui.Count(c, rewrite.Form(f).String(), rewrite.Form(f).String()))
		}
	}
	return fmt.Sprintf("%s in %s: %s", ui.Count(n, "mention", "mentions"), ui.Count(t.Changed, "value", "values"), strings.Join(forms, ", "))
}

// printLeftovers lists mentions of old addresses that stand as they were.
func printLeftovers(p *ui.Printer, res *restore.Result) {
	if (len(res.Plan.Maps) == 0 || !rewrites(res.Plan)) && res.Tally.Values == 0 {
		return
	}
	printColumns(p, &res.Tally, res.Columns, "restore --bare-hosts")
}

// printColumns lists the leftovers of columns that passed.
func printColumns(p *ui.Printer, tally *rewrite.Tally, columns []passage.Column, advice string) {
	l := leftovers{tally: tally, advice: advice}
	for i := range columns {
		c := &columns[i]
		name := c.Table + "." + c.Column
		if c.Table == passage.FilesTable || c.Table == passage.SettingsTable {
			name = c.Column
		}
		l.columns = append(l.columns, leftoverColumn{name, &c.Tally, c.Sample})
	}
	l.print(p)
}

// leftovers are mentions of old addresses that stand as they were.
type leftovers struct {
	tally   *rewrite.Tally
	columns []leftoverColumn
	advice  string // the command that rewrites bare hosts
	chosen  bool   // only some columns were looked at
}

type leftoverColumn struct {
	name   string
	tally  *rewrite.Tally
	sample []rewrite.Leftover
}

func (l *leftovers) print(p *ui.Printer) {
	var rows [][]string
	for r, n := range l.tally.Leftovers {
		if n == 0 {
			continue
		}
		where := []string{}
		for _, c := range l.columns {
			if c.tally.Leftovers[r] > 0 {
				where = append(where, c.name)
			}
		}
		mark := "  "
		if rewrite.Reason(r).Finding() {
			mark = p.Mark() + " "
		}
		rows = append(rows, []string{mark + ui.Count(n, rewrite.Reason(r).String(), plural(rewrite.Reason(r))), p.Dim(listOf(where, 3))})
	}
	if len(rows) == 0 {
		p.Line("")
		if l.chosen {
			p.Good("No old address is left over in the columns that were chosen")
		} else {
			p.Good("No old address is left over")
		}
		return
	}
	p.Section("Left as they are")
	p.Table(rows)
	if l.tally.Findings() == 0 {
		p.Line("    %s", p.Dim("These are as they should be."))
		return
	}
	if l.tally.Leftovers[rewrite.BareHost] > 0 {
		p.Line("    %s", p.Dim("A bare host name stands in prose, not as an address; "+l.advice+" rewrites it too:"))
	}
	if l.tally.Leftovers[rewrite.Compressed] > 0 {
		p.Line("    %s", p.Dim("Compressed values hold an old address; --compressed rewrites them too."))
	}
	if l.tally.Leftovers[rewrite.InFile] > 0 {
		p.Line("    %s", p.Dim("Text files hold the old address; --files rewrites those that it names, such as --files '*.js,*.json'."))
	}
	shown := 0
	for _, c := range l.columns {
		for _, s := range c.sample {
			if shown++; shown > maxShown {
				continue
			}
			line := fmt.Sprintf("%s: “%s”", c.name, s.Excerpt)
			if s.Detail != "" {
				line += " (" + s.Detail + ")"
			}
			p.Line("      %s", p.Dim(line))
		}
	}
	if shown > maxShown {
		p.Line("      %s", p.Dim(fmt.Sprintf("and %d more", shown-maxShown)))
	}
}

// maxShown is how many leftovers are shown with what is around them.
const maxShown = 15

func plural(r rewrite.Reason) string {
	switch r {
	case rewrite.OtherPort, rewrite.OtherPath, rewrite.OtherScheme, rewrite.TooDeep:
		return "mentions, " + r.String()
	case rewrite.Email:
		return "e-mail addresses"
	case rewrite.Binary:
		return "values or files of binary data"
	case rewrite.InFile:
		return "addresses in text files"
	}
	return r.String() + "s"
}

func listOf(words []string, n int) string {
	slices.Sort(words)
	if len(words) > n {
		return strings.Join(words[:n], ", ") + fmt.Sprintf(" and %d more", len(words)-n)
	}
	return strings.Join(words, ", ")
}
