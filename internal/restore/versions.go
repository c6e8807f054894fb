package restore

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/site"
)

// series gives the numbers of a version that tell one series from another:
// 10.11 of 10.11.6, 15 of PostgreSQL's 15.8. ok is false for anything else.
func series(product, version string) (numbers [2]int, ok bool) {
	parts := strings.SplitN(version, ".", 3)
	for i := range min(2, len(parts)) {
		digits := strings.IndexFunc(parts[i]+" ", func(r rune) bool { return r < '0' || r > '9' })
		n, err := strconv.Atoi(parts[i][:digits])
		if err != nil {
			return numbers, false
		}
		numbers[i] = n
	}
	if product == "PostgreSQL" {
		numbers[1] = 0
	}
	return numbers, true
}

// compare compares two versions by their series; 0 too where either is unknown.
func compare(product, a, b string) int {
	x, ok1 := series(product, a)
	y, ok2 := series(product, b)
	if !ok1 || !ok2 {
		return 0
	}
	return cmp.Or(cmp.Compare(x[0], y[0]), cmp.Compare(x[1], y[1]))
}

// compareServer notes what another server means than the one at the source.
func (p *Plan) compareServer(here database.Info) {
	d := p.Manifest.Database
	from, to := d.Product+" "+d.Version, here.Product+" "+here.Version
	switch order := compare(d.Product, d.Version, here.Version); {
	case d.Engine == database.SQLite:
	case d.Product != here.Product:
		p.Notes = append(p.Notes, fmt.Sprintf("The database comes from %s and goes to %s: collations that it lacks get the nearest one, which the result names.", from, to))
	case order > 0:
		p.Notes = append(p.Notes, fmt.Sprintf("The database server here (%s) is older than the one at the source (%s): what it does not know stops the restore before anything is replaced.", to, from))
	case order < 0:
		p.Notes = append(p.Notes, fmt.Sprintf("The database server here (%s) is newer than the one at the source (%s).", to, from))
	}
}

// compareRuntime notes what another version of PHP means than the one at the
// source, as far as both are known.
func (p *Plan) compareRuntime(ctx context.Context) {
	m := p.Manifest
	needs, was := m.Requires["php"], m.Runtime["php"]
	if needs == "" && was == "" {
		return
	}
	here := site.Runtime(ctx)["php"]
	switch {
	case here == "" && needs != "":
		p.Notes = append(p.Notes, fmt.Sprintf("The site needs PHP %s or newer; no PHP was found on the command line here to compare it with.", needs))
	case here == "":
	case needs != "" && compare("PHP", needs, here) > 0:
		p.Notes = append(p.Notes, fmt.Sprintf("The site needs PHP %s or newer, and the command line here has PHP %s: unless its web server has another one, it will not run.", needs, here))
	case was != "" && compare("PHP", was, here) > 0:
		p.Notes = append(p.Notes, fmt.Sprintf("The site ran with PHP %s, and the command line here has PHP %s: extensions that need the newer one will not run.", was, here))
	case was != "" && compare("PHP", was, here) < 0:
		p.Notes = append(p.Notes, fmt.Sprintf("The site ran with PHP %s, and the command line here has PHP %s: extensions that are older than it may stop with errors; the log of the web server names them.", was, here))
	}
}
