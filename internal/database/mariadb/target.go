package mariadb

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/fsys"
)

// minPacket is the size of statements that a server has to take, in bytes: that of
// a chunk of rows with something to spare.
const minPacket = 1 << 20

// staging are the rights that staging and switching take.
var staging = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX"}

// objectRights are the rights that objects of a kind take.
var objectRights = map[database.ObjectKind]string{database.View: "CREATE VIEW", database.Trigger: "TRIGGER", database.Routine: "CREATE ROUTINE", database.Event: "EVENT"}

// CanTake looks at whether a new state of the database can be staged here, before
// anything is tried: the server can be written to and takes statements of the size
// of a chunk of rows, the user has the rights, collations are known, the disk has
// room.
func (r *reader) CanTake(ctx context.Context, need database.Need) []database.Check {
	rows, err := r.Strings(ctx, "SELECT @@global.read_only, @@max_allowed_packet, CURRENT_USER(), @@datadir")
	if err != nil {
		return []database.Check{database.Failure("server", fmt.Errorf("look at the server's settings: %w", err))}
	}
	checks := []database.Check{r.takesStatements(rows[0][1], need.Tables)}
	checks = append(checks, r.takesWrites(ctx, rows[0][0] == "1", rows[0][2], need.Kinds)...)
	if len(need.Collations) > 0 {
		if known, err := readCollations(ctx, r.conn); err == nil {
			checks = append(checks, database.Unknown(need.Collations, known.fitting))
		}
	}
	dir := ""
	if r.l.Socket != "" || slices.Contains([]string{"", "localhost", "127.0.0.1", "::1"}, r.l.Host) {
		dir = rows[0][3]
	}
	if dir == "" {
		return append(checks, database.Space("", r.room(ctx, need)))
	}
	return append(checks, r.space(ctx, dir, r.room(ctx, need))...)
}

// room adds up what the files of tables take.
func (r *reader) room(ctx context.Context, need database.Need) (room database.Room) {
	var sorted []int64
	text := int64(0)
	for _, t := range need.Tables {
		rows, keys := t.Sizes()
		if need.Sessions > 1 && t.Text > longRow*t.Rows {
			rows += rows * 3 / 20
		}
		room.Tables += fileOf(rows + keys)
		sorted = append(sorted, keys)
		text += max(0, t.Text)
	}
	room.Sorted(sorted, need.Sessions)
	if rows, err := r.Strings(ctx, "SELECT @@global.log_bin"); err == nil && rows[0][0] == "1" {
		room.Log = text
	}
	return room
}

// longRow is how many bytes rows have on average whose table gets larger by some 15 in a
// hundred, as was measured, where two sessions fill it.
const longRow = 1000

// fileOf gives the bytes of the file of an InnoDB table whose keys take so many. It has
// pages of its own. One of more than 64 grows by a megabyte or more at a time, and keeps
// some free: five on average, as was measured (see also the comments of
// fsp_try_extend_data_file and fsp_reserve_free_extents in its source).
func fileOf(pages int64) int64 {
	const page, extent, free = 16 << 10, 1 << 20, 5
	size := max(pages, page) + 3*page
	if size <= extent {
		return size
	}
	return (size + (free+1)*extent - 1) / extent * extent
}

// space looks at the disks of the server: that of its data in dir, and that on which it
// sorts keys, which may be another.
func (r *reader) space(ctx context.Context, dir string, room database.Room) []database.Check {
	rows, err := r.Strings(ctx, "SELECT COALESCE(NULLIF(@@innodb_tmpdir,''), @@tmpdir)")
	if err != nil {
		return []database.Check{database.Space(dir, room)}
	}
	const what = "room for sorting keys"
	tmp, _, _ := strings.Cut(rows[0][0], ":")
	data, dataOK := fsys.DiskOf(dir)
	sorting, ok := fsys.DiskOf(tmp)
	if !dataOK || !ok || data.Device == sorting.Device {
		return []database.Check{database.Space(dir, room)}
	}
	if need := room.Sorting; sorting.Free < need {
		return []database.Check{database.Failure(what, fmt.Errorf("the server sorts keys in %s, which takes about %s for a while, and has %s free there; make room there, or have an administrator set innodb_tmpdir", tmp, humanize.Bytes(uint64(need)), humanize.Bytes(uint64(sorting.Free))))}
	}
	room.Sorting = 0
	return []database.Check{database.Space(dir, room)}
}

// refuse is a Check that what was found stands in the way of staging.
func (r *reader) refuse(check, what, advice string) database.Check {
	return database.Failure(check, &database.ConnectError{Location: r.l, What: "stage a new state in the database", Why: errors.New(what), Advice: advice})
}

func (r *reader) takesStatements(packet string, tables []database.TableNeed) database.Check {
	const what = "statement size"
	n, err := strconv.ParseInt(packet, 10, 64)
	if err == nil && n < minPacket {
		return r.refuse(what, fmt.Sprintf("the server takes statements of %d kB at most", n>>10), fmt.Sprintf("An administrator of the server can raise max_allowed_packet to %d or more.", 16<<20))
	}
	var large []string
	most := int64(0)
	for _, t := range tables {
		if err == nil && t.Largest > n {
			large = append(large, t.Name)
			most = max(most, t.Largest)
		}
	}
	if large != nil {
		return r.refuse(what, fmt.Sprintf("the server takes statements of %s at most, and a row of %s needs one of %s", humanize.Bytes(uint64(n)), strings.Join(large, ", "), humanize.Bytes(uint64(most))),
			fmt.Sprintf("An administrator of the server can raise max_allowed_packet to %d or more; or leave the table out with --without table:%s", (most+most/50)>>20<<20+2<<20, large[0]))
	}
	return database.Check{What: what, Found: "up to " + humanize.Bytes(uint64(n))}
}

func (r *reader) takesWrites(ctx context.Context, readOnly bool, who string, kinds []database.ObjectKind) []database.Check {
	const what = "rights"
	grants, err := r.Strings(ctx, "SHOW GRANTS")
	if err != nil {
		return []database.Check{{What: what, Found: "the server does not tell; the attempt will", Note: true}}
	}
	global, own, certain := rightsOf(grants, r.l.Name)
	if readOnly && !slices.ContainsFunc(global, func(g string) bool { return g == "SUPER" || g == "READ_ONLY ADMIN" || g == allRights }) && certain {
		return []database.Check{r.refuse("server", "the server is read-only", "It may be a copy of another server: name the one that can be written to.")}
	}
	if !certain {
		return []database.Check{{What: what, Found: "some come by roles; the attempt will tell", Note: true}}
	}
	if mighty := mightier(global); mighty != "" {
		return []database.Check{{What: what, Found: "all, and more than a restore needs: " + mighty + " on the whole server", Note: true}}
	}
	if slices.Contains(own, allRights) {
		return []database.Check{{What: what, Found: "all on the database"}}
	}
	need := slices.Clone(staging)
	for _, k := range kinds {
		if right := objectRights[k]; right != "" && !slices.Contains(need, right) {
			need = append(need, right)
		}
	}
	missing := slices.DeleteFunc(slices.Clone(need), func(n string) bool { return slices.Contains(own, n) })
	if len(missing) == 0 {
		return []database.Check{{What: what, Found: "the user has " + strings.Join(need, ", ")}}
	}
	list := strings.Join(missing, ", ")
	user, host, _ := strings.Cut(who, "@")
	return []database.Check{r.refuse(what, "the user lacks the rights "+list, fmt.Sprintf("An administrator of the server can give them with: GRANT %s ON %s.* TO %s@%s", list, quote(r.l.Name), quote(user), quote(host)))}
}

// mightier names rights on everything with which a user reaches beyond one database.
func mightier(global []string) string {
	var list []string
	for _, g := range global {
		if slices.Contains([]string{allRights, "SUPER", "FILE", "CREATE USER", "SHUTDOWN"}, g) {
			list = append(list, g)
		}
	}
	return strings.Join(list, ", ")
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
