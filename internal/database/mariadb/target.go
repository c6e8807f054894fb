package mariadb

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// minPacket is the size of statements that a server has to take, in bytes: that of
// a chunk of rows with something to spare.
const minPacket = 1 << 20

// staging are the rights that staging and switching take.
var staging = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX"}

// objectRights are the rights that objects of a kind take.
var objectRights = map[database.ObjectKind]string{database.View: "CREATE VIEW", database.Trigger: "TRIGGER", database.Routine: "CREATE ROUTINE", database.Event: "EVENT"}

// CanTake checks that a new state of the database can be staged here, before
// anything is tried: the server can be written to and takes statements of the size
// of a chunk of rows, and the user has the rights. The error is a
// *database.ConnectError.
func (r *reader) CanTake(ctx context.Context, kinds []database.ObjectKind) error {
	fail := func(what, advice string) error {
		return &database.ConnectError{Location: r.l, What: "stage a new state in the database", Why: errors.New(what), Advice: advice}
	}
	rows, err := r.Strings(ctx, "SELECT @@global.read_only, @@max_allowed_packet, CURRENT_USER()")
	if err != nil {
		return fmt.Errorf("look at the server's settings: %w", err)
	}
	if n, err := strconv.ParseInt(rows[0][1], 10, 64); err == nil && n < minPacket {
		return fail(fmt.Sprintf("the server takes statements of %d kB at most", n>>10), fmt.Sprintf("An administrator of the server can raise max_allowed_packet to %d or more.", 16<<20))
	}
	grants, err := r.Strings(ctx, "SHOW GRANTS")
	if err != nil {
		return nil // the attempt will tell
	}
	global, own, certain := rightsOf(grants, r.l.Name)
	if rows[0][0] == "1" && !slices.ContainsFunc(global, func(g string) bool { return g == "SUPER" || g == "READ_ONLY ADMIN" || g == allRights }) && certain {
		return fail("the server is read-only", "It may be a copy of another server: name the one that can be written to.")
	}
	if !certain || slices.Contains(own, allRights) {
		return nil
	}
	need := slices.Clone(staging)
	for _, k := range kinds {
		if right := objectRights[k]; right != "" && !slices.Contains(need, right) {
			need = append(need, right)
		}
	}
	missing := slices.DeleteFunc(need, func(n string) bool { return slices.Contains(own, n) })
	if len(missing) == 0 {
		return nil
	}
	list := strings.Join(missing, ", ")
	user, host, _ := strings.Cut(rows[0][2], "@")
	return fail("the user lacks the rights "+list, fmt.Sprintf("An administrator of the server can give them with: GRANT %s ON %s.* TO %s@%s", list, quote(r.l.Name), quote(user), quote(host)))
}

// allRights stands for any right.
const allRights = "ALL PRIVILEGES"

// rightsOf reads what SHOW GRANTS gives: the rights on everything, and those on the
// database, the former among them. certain is false where roles may give more.
func rightsOf(grants [][]string, name string) (global, own []string, certain bool) {
	certain = true
	for _, row := range grants {
		rest, ok := strings.CutPrefix(row[0], "GRANT ")
		list, on, isRights := strings.Cut(rest, " ON ")
		if !ok || !isRights {
			certain = false // a role
			continue
		}
		rights := strings.Split(list, ", ")
		scope, _, _ := strings.Cut(strings.TrimPrefix(on, "TABLE "), " TO ")
		pattern, isDatabase := strings.CutSuffix(scope, ".*")
		switch {
		case scope == "*.*":
			global = append(global, rights...)
			own = append(own, rights...)
		case isDatabase && matchesDatabase(pattern, name):
			own = append(own, rights...)
		}
	}
	return global, own, certain
}

// matchesDatabase reports whether a quoted pattern of a grant, in which % stands for
// any text, _ for any character and \_ for itself, is for the database.
func matchesDatabase(quoted, name string) bool {
	b, err := sqltext.Unquote(nil, sqltext.Token{Kind: sqltext.Name, Text: []byte(quoted)}, sqltext.MySQL)
	if err != nil {
		return false
	}
	var glob strings.Builder
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case c == '\\' && i+1 < len(b):
			i++
			glob.WriteByte('\\')
			glob.WriteByte(b[i])
		case c == '%':
			glob.WriteByte('*')
		case c == '_':
			glob.WriteByte('?')
		case strings.ContainsRune("*?[", rune(c)):
			glob.WriteByte('\\')
			glob.WriteByte(c)
		default:
			glob.WriteByte(c)
		}
	}
	ok, err := path.Match(glob.String(), name)
	return ok && err == nil
}
