package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/fault"
)

// Numbers of server errors that mean that a definer is not allowed.
const (
	erNeedsRight  = 1227
	erNoSuchUser  = 1449
	erDefinerSelf = 1370
)

// exchanger exchanges states of a database.
type exchanger struct {
	db         *sql.DB
	collations collations // that the server knows, once somebody has asked
}

// NewExchanger connects to the database at l to exchange its states. A statement
// that waits for another's lock gives up after ten seconds.
func NewExchanger(ctx context.Context, l database.Location) (database.Exchanger, error) {
	vars := stageVars()
	vars["lock_wait_timeout"] = "10"
	db, err := connect(ctx, l, vars)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &exchanger{db: db}, nil
}

func (x *exchanger) Close() error { return x.db.Close() }

func (x *exchanger) exec(ctx context.Context, what, q string) error {
	if _, err := x.db.ExecContext(ctx, q); err != nil {
		return explainStatement(what, len(q), err)
	}
	return nil
}

func (x *exchanger) strings(ctx context.Context, what, q string) ([][]string, error) {
	rows, err := stringRows(x.db.QueryContext(ctx, q))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	return rows, nil
}

// types gives what stands in the database, as the server calls its kinds.
func (x *exchanger) types(ctx context.Context) (map[string]string, error) {
	rows, err := x.strings(ctx, "list the tables of the target", "SELECT TABLE_NAME, TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE()")
	types := map[string]string{}
	for _, row := range rows {
		types[row[0]] = row[1]
	}
	return types, err
}

// sortedKeys gives the names of tables in an order that is always the same.
func sortedKeys(m map[string]string) (names []string) {
	for name := range m {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// Exchange renames all tables in one statement, which the server does wholly or
// not at all. Views that are replaced are renamed with them.
func (x *exchanger) Exchange(ctx context.Context, s *database.State, stamp string, record func(*database.State) error) error {
	types, err := x.types(ctx)
	if err != nil {
		return err
	}
	if err := x.Check(ctx, s); err != nil {
		return err
	}
	aside := &database.State{Engine: database.MariaDB, Tables: map[string]string{}, Views: map[string]string{}}
	var renames []string
	isAside := func(name string) bool { return aside.Tables[name] != "" || aside.Views[name] != "" }
	putAside := func(name string) {
		if types[name] == "" || isAside(name) {
			return
		}
		kept := fmt.Sprintf("_hovix_before_%s_%d_%s", stamp, len(aside.Tables)+len(aside.Views), name)
		kept = strings.ToValidUTF8(kept[:min(len(kept), 60)], "")
		if types[name] == "VIEW" {
			aside.Views[name] = kept
		} else {
			aside.Tables[name] = kept
		}
		renames = append(renames, quote(name)+" TO "+quote(kept))
	}
	for _, name := range s.Absent {
		putAside(name)
	}
	for _, name := range sortedKeys(s.Tables) {
		if s.Tables[name] == name { // it stands there already
			aside.Absent = append(aside.Absent, name)
			continue
		}
		putAside(name)
		if !isAside(name) {
			aside.Absent = append(aside.Absent, name)
		}
		renames = append(renames, quote(s.Tables[name])+" TO "+quote(name))
	}
	for _, o := range s.Objects {
		if o.Kind == database.View {
			putAside(o.Name)
			if !isAside(o.Name) {
				aside.Absent = append(aside.Absent, o.Name)
			}
		}
	}
	if err := x.capture(ctx, s, aside); err != nil {
		return err
	}
	if err := record(aside); err != nil {
		return err
	}
	fault.Point("database")
	if len(renames) == 0 {
		return nil
	}
	return x.exec(ctx, "exchange the tables", "RENAME TABLE "+strings.Join(renames, ", "))
}

// capture reads the definitions of what is bound to names and is to give way.
func (x *exchanger) capture(ctx context.Context, s, aside *database.State) error {
	if err := x.captureKeys(ctx, s, aside); err != nil {
		return err
	}
	var incoming []string
	for _, o := range s.Objects {
		switch o.Kind {
		case database.Trigger:
			incoming = append(incoming, o.Name)
		case database.Routine, database.Procedure, database.Event:
			if err := x.captureObject(ctx, aside, o.Kind, o.Name); err != nil {
				return err
			}
		}
	}
	if err := x.captureViews(ctx, aside); err != nil {
		return err
	}
	rows, err := x.strings(ctx, "list triggers", "SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER")
	if err != nil {
		return err
	}
	live := map[string]bool{}
	for _, row := range rows {
		live[row[0]] = true
		if aside.Tables[row[1]] != "" || slices.Contains(incoming, row[0]) {
			if err := x.captureObject(ctx, aside, database.Trigger, row[0]); err != nil {
				return err
			}
		}
	}
	for _, name := range incoming {
		if !live[name] {
			aside.Objects = append(aside.Objects, database.Attached{Kind: database.Trigger, Name: name})
		}
	}
	return nil
}

// captureViews notes the texts of views that give way, in the order in which they can be
// made. One that could not be made from its text stays under its other name.
func (x *exchanger) captureViews(ctx context.Context, aside *database.State) error {
	var views []database.Object
	for _, name := range sortedKeys(aside.Views) {
		rows, err := x.strings(ctx, "read the view "+name, "SHOW CREATE VIEW "+quote(name))
		var my *mysql.MySQLError
		if err != nil && !errors.As(err, &my) {
			return err
		}
		var v database.Object
		if len(rows) > 0 {
			v = sourceOf(database.View).object(name, rows[0])
		}
		if _, _, err := rebuilt(database.Attached{Kind: database.View, Name: name, SQL: v.SQL}); err != nil {
			aside.Tables[name] = aside.Views[name]
			delete(aside.Views, name)
			continue
		}
		views = append(views, v)
	}
	for _, v := range database.ViewOrder(views) {
		aside.Objects = append(aside.Objects, database.Attached{Kind: database.View, Name: v.Name, SQL: v.SQL, Session: v.Session})
	}
	return nil
}

// captureObject notes a live object, or that there is none.
func (x *exchanger) captureObject(ctx context.Context, aside *database.State, kind database.ObjectKind, name string) error {
	o := database.Attached{Kind: kind, Name: name}
	src := sourceOf(kind)
	rows, err := x.strings(ctx, "read "+word(kind)+" "+name, "SHOW CREATE "+word(kind)+" "+quote(name))
	var my *mysql.MySQLError
	switch {
	case errors.As(err, &my): // there is none
	case err != nil:
		return err
	case rows[0][src.def] == "":
		return fmt.Errorf("the target has the %s %s, whose text this user may not read, so that it could not be put back; drop it first, or restore as the user who made it", kind, name)
	default:
		made := src.object(name, rows[0])
		o.SQL, o.Session = made.SQL, made.Session
	}
	aside.Objects = append(aside.Objects, o)
	return nil
}

// sourceOf says how an object of a kind is shown.
func sourceOf(kind database.ObjectKind) *source {
	if kind == database.Procedure {
		kind = database.Routine
	}
	return &sources[slices.IndexFunc(sources, func(s source) bool { return s.kind == kind })]
}

// word is what SQL calls a kind.
func word(kind database.ObjectKind) string {
	if kind == database.Routine {
		return "FUNCTION"
	}
	return strings.ToUpper(string(kind))
}

// captureKeys notes the foreign keys of the tables that give way. Those of other
// tables that point to them are to point to the new ones, and back again.
func (x *exchanger) captureKeys(ctx context.Context, s, aside *database.State) error {
	rows, err := x.strings(ctx, "list foreign keys", "SELECT TABLE_NAME, CONSTRAINT_NAME, REFERENCED_TABLE_NAME, DELETE_RULE, UPDATE_RULE FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA=DATABASE() ORDER BY TABLE_NAME, CONSTRAINT_NAME")
	if err != nil {
		return err
	}
	for _, row := range rows {
		mine, parents := aside.Tables[row[0]] != "", aside.Tables[row[2]] != ""
		if !mine && !parents || strings.HasPrefix(row[0], "_hovix_") {
			continue
		}
		text, err := x.foreignKey(ctx, row)
		if err != nil {
			return err
		}
		key := database.Attached{Kind: database.ForeignKey, Name: row[1], Table: row[0], SQL: text}
		aside.Objects = append(aside.Objects, key)
		if !mine && !slices.Contains(s.Objects, key) {
			s.Objects = append([]database.Attached{key}, s.Objects...)
		}
	}
	return nil
}

// foreignKey writes the definition of a live foreign key, of which row holds table, name,
// what it points to and the rules.
func (x *exchanger) foreignKey(ctx context.Context, row []string) (string, error) {
	q := func(s string) string { return string(sqltext.AppendMySQLString(nil, []byte(s), false)) }
	columns, err := x.strings(ctx, "read the foreign key "+row[1], "SELECT COLUMN_NAME, REFERENCED_COLUMN_NAME FROM information_schema.KEY_COLUMN_USAGE WHERE CONSTRAINT_SCHEMA=DATABASE() AND TABLE_NAME="+q(row[0])+" AND CONSTRAINT_NAME="+q(row[1])+" ORDER BY ORDINAL_POSITION")
	if err != nil {
		return "", err
	}
	var own, other []string
	for _, c := range columns {
		own, other = append(own, quote(c[0])), append(other, quote(c[1]))
	}
	text := "CONSTRAINT " + quote(row[1]) + " FOREIGN KEY (" + strings.Join(own, ", ") + ") REFERENCES " + quote(row[2]) + " (" + strings.Join(other, ", ") + ")"
	for i, what := range []string{" ON DELETE ", " ON UPDATE "} {
		if rule := row[3+i]; rule != "RESTRICT" {
			text += what + rule
		}
	}
	return text, nil
}

// Exchanged looks for a table under the name that it leaves in the step.
func (x *exchanger) Exchanged(ctx context.Context, s, aside *database.State) (bool, error) {
	types, err := x.types(ctx)
	if err != nil {
		return false, err
	}
	for name, as := range s.Tables {
		if as != name {
			return types[as] == "", nil
		}
	}
	if aside == nil {
		return false, nil
	}
	for _, names := range []map[string]string{aside.Tables, aside.Views} {
		for _, as := range names {
			return types[as] != "", nil
		}
	}
	return true, nil
}

// Complete makes foreign keys, routines, views, triggers and events, which need
// the final names.
func (x *exchanger) Complete(ctx context.Context, s, aside *database.State) (warnings []string, err error) {
	try := func(f func() error) {
		var my *mysql.MySQLError
		switch e := f(); {
		case err != nil, e == nil:
		case errors.As(e, &my):
			warnings = append(warnings, e.Error())
		default: // the server is gone: that is to be done once more
			err = e
		}
	}
	for _, name := range sortedKeys(aside.Views) {
		try(func() error {
			return x.exec(ctx, "put the view "+name+" aside", "DROP VIEW IF EXISTS "+quote(aside.Views[name]))
		})
	}
	for _, o := range aside.Objects {
		if o.Kind == database.ForeignKey {
			at := o.Table
			if kept := aside.Tables[o.Table]; kept != "" {
				at = kept
			}
			try(func() error { return x.dropKey(ctx, at, o.Name) })
		} else if o.Kind == database.Trigger {
			try(func() error { return x.drop(ctx, o) })
		}
	}
	for _, o := range s.Objects {
		try(func() error { return x.attach(ctx, o) })
	}
	return warnings, err
}

func (x *exchanger) hasKey(ctx context.Context, table, name string) (bool, error) {
	q := func(s string) string { return string(sqltext.AppendMySQLString(nil, []byte(s), false)) }
	rows, err := x.strings(ctx, "look for the foreign key "+name, "SELECT 1 FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA=DATABASE() AND TABLE_NAME="+q(table)+" AND CONSTRAINT_NAME="+q(name))
	return len(rows) > 0, err
}

func (x *exchanger) dropKey(ctx context.Context, table, name string) error {
	has, err := x.hasKey(ctx, table, name)
	if err != nil || !has {
		return err
	}
	return x.exec(ctx, "free the name "+name, "ALTER TABLE "+quote(table)+" DROP FOREIGN KEY "+quote(name))
}

func (x *exchanger) drop(ctx context.Context, o database.Attached) error {
	return x.exec(ctx, "replace "+string(o.Kind)+" "+o.Name, "DROP "+word(o.Kind)+" IF EXISTS "+quote(o.Name))
}

// attach makes one thing, in place of what has its name.
func (x *exchanger) attach(ctx context.Context, o database.Attached) error {
	switch o.Kind {
	case database.Position:
		at, err := sqltree.Parse([]byte(o.SQL), sqltext.MySQL)
		if err != nil || at.Shape != sqltree.ShapePosition {
			return errors.Join(err, fmt.Errorf("%w: %.60q", sqltext.ErrRefused, o.SQL))
		}
		return x.exec(ctx, "set the position of a sequence", at.SQL(nil))
	case database.ForeignKey:
		key, err := sqltree.ParseItem(o.SQL, sqltext.MySQL)
		if err != nil || key.Kind != sqltree.ForeignKey {
			return errors.Join(err, fmt.Errorf("%w: %.60q", sqltext.ErrRefused, o.SQL))
		}
		has, err := x.hasKey(ctx, o.Table, o.Name)
		if err != nil || has {
			return err
		}
		return x.exec(ctx, "make the foreign keys of "+o.Table, "ALTER TABLE "+quote(o.Table)+" ADD "+key.Text)
	}
	if err := x.drop(ctx, o); err != nil || o.SQL == "" {
		return err
	}
	what := fmt.Sprintf("make %s %s", o.Kind, o.Name)
	bare, defined, err := rebuilt(o)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	err = x.inSession(ctx, what, o.Session, defined)
	var my *mysql.MySQLError
	if bare != defined && errors.As(err, &my) && (my.Number == erNeedsRight || my.Number == erNoSuchUser || my.Number == erDefinerSelf) {
		return x.inSession(ctx, what, o.Session, bare)
	}
	return err
}

// inSession runs a statement in a session like that in which what it makes was made.
func (x *exchanger) inSession(ctx context.Context, what string, s database.Session, stmt string) (err error) {
	if s == (database.Session{}) {
		return x.exec(ctx, what, stmt)
	}
	defer func() {
		err = errors.Join(err, x.exec(ctx, what, "SET NAMES utf8mb4, SESSION sql_mode='"+sqlMode+"', SESSION time_zone='+00:00'"))
	}()
	q := func(s string) string { return string(sqltext.AppendMySQLString(nil, []byte(s), false)) }
	set := func(variable, value string) error {
		return x.exec(ctx, what, "SET SESSION "+variable+"="+q(value))
	}
	if err := set("sql_mode", s.Mode); err != nil {
		if err := set("sql_mode", withoutOldModes(s.Mode)); err != nil {
			return err
		}
	}
	if s.Charset != "" && !strings.HasPrefix(s.Charset, "utf8") && !isASCII(stmt) {
		// What cannot be written in it is sent in UTF-8, and means the same.
		if text, ok := inCharset(s.Charset, stmt); ok {
			stmt = text
		} else {
			s.Charset = ""
		}
	}
	if s.Charset != "" {
		if err := set("character_set_client", s.Charset); err != nil && !isServers(err) {
			return err
		}
	}
	if s.Collation != "" {
		if x.collations == nil {
			if x.collations, err = readCollations(ctx, x.db); err != nil {
				return err
			}
		}
		if err := set("collation_connection", x.collations.fitting(s.Collation)); err != nil && !isServers(err) {
			return err
		}
	}
	var zone error
	if s.Zone != "" {
		if err := set("time_zone", s.Zone); err != nil {
			if zone = fmt.Errorf("the time zone %s is not known to this server, so that what was to run by it runs by UTC (%s): %w", s.Zone, what, err); !isServers(err) {
				return err
			}
		}
	}
	return errors.Join(x.exec(ctx, what, stmt), zone)
}

func isASCII(s string) bool { return strings.IndexFunc(s, func(r rune) bool { return r >= 0x80 }) < 0 }

// isServers reports whether an error is one that the server gave: the connection is there.
func isServers(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my)
}

// withoutOldModes drops modes that not every server knows, and that change
// nothing of what a routine does.
func withoutOldModes(mode string) string {
	modes := slices.DeleteFunc(strings.Split(mode, ","), func(m string) bool {
		return slices.Contains([]string{"NO_AUTO_CREATE_USER", "ORACLE", "MSSQL", "POSTGRESQL", "DB2", "MAXDB", "MYSQL323", "MYSQL40", "NO_KEY_OPTIONS", "NO_TABLE_OPTIONS", "NO_FIELD_OPTIONS", "TIME_TRUNCATE_FRACTIONAL", "SIMULTANEOUS_ASSIGNMENT", "EMPTY_STRING_IS_NULL", "TIME_ROUND_FRACTIONAL"}, m)
	})
	return strings.Join(modes, ",")
}

// Check looks for the tables of a kept state.
func (x *exchanger) Check(ctx context.Context, s *database.State) error {
	types, err := x.types(ctx)
	if err != nil {
		return err
	}
	for _, name := range sortedKeys(s.Tables) {
		if types[s.Tables[name]] == "" {
			return fmt.Errorf("the table %s is gone, which was kept as %s", name, s.Tables[name])
		}
	}
	return nil
}

// Size adds up what the server says of the tables.
func (x *exchanger) Size(ctx context.Context, s *database.State) (n int64, err error) {
	rows, err := x.strings(ctx, "look at the tables that are kept", "SELECT TABLE_NAME, COALESCE(DATA_LENGTH+INDEX_LENGTH,0) FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE()")
	if err != nil {
		return 0, err
	}
	kept := map[string]bool{}
	for _, as := range s.Tables {
		kept[as] = true
	}
	for _, row := range rows {
		if kept[row[0]] {
			var b int64
			_, _ = fmt.Sscan(row[1], &b)
			n += b
		}
	}
	return n, nil
}

// Drop removes the tables of a state.
func (x *exchanger) Drop(ctx context.Context, s *database.State) error {
	var names []string
	for _, name := range sortedKeys(s.Tables) {
		if as := s.Tables[name]; as != name {
			names = append(names, as)
		}
	}
	return x.dropAll(ctx, names)
}

func (x *exchanger) dropAll(ctx context.Context, names []string) error {
	types, err := x.types(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		what := types[name]
		switch what {
		case "":
			continue
		case "VIEW", "SEQUENCE":
		default:
			what = "TABLE"
		}
		err = errors.Join(err, x.exec(ctx, "remove "+name, "DROP "+what+" IF EXISTS "+quote(name)))
	}
	return err
}

// Sweep removes the staged tables of an id.
func (x *exchanger) Sweep(ctx context.Context, id string, notes []database.Note) error {
	if err := endEarlier(ctx, x.db, id); err != nil {
		return err
	}
	types, err := x.types(ctx)
	if err != nil {
		return err
	}
	var names []string
	for name := range types {
		if strings.HasPrefix(name, "_hovix_"+id+"_") {
			names = append(names, name)
		}
	}
	err = x.dropAll(ctx, names)
	for _, n := range slices.Backward(notes) {
		err = errors.Join(err, x.exec(ctx, "remove what was staged", dropNoted(n)))
	}
	return err
}

// dropNoted removes what a stage has made outside of itself: a sequence is all that can
// be.
func dropNoted(n database.Note) string { return "DROP SEQUENCE IF EXISTS " + quote(n.Name) }

// ByHand gives statements that drop what is live in place of a state and put
// that back.
func (x *exchanger) ByHand(ctx context.Context, s *database.State) (out []string, err error) {
	types, err := x.types(ctx)
	if err != nil || s.IsEmpty() && len(s.Absent) == 0 {
		return nil, err
	}
	out = append(out, "SET foreign_key_checks=0;")
	names := sortedKeys(s.Tables)
	for _, name := range append(slices.Clone(s.Absent), names...) {
		switch what := types[name]; what {
		case "":
		case "VIEW", "SEQUENCE":
			out = append(out, "DROP "+what+" "+quote(name)+";")
		default:
			out = append(out, "DROP TABLE "+quote(name)+";")
		}
	}
	for _, name := range names {
		out = append(out, fmt.Sprintf("RENAME TABLE %s TO %s;", quote(s.Tables[name]), quote(name)))
	}
	for _, o := range s.Objects {
		switch o.Kind {
		case database.ForeignKey:
			if s.Tables[o.Table] == "" {
				out = append(out, "ALTER TABLE "+quote(o.Table)+" DROP FOREIGN KEY "+quote(o.Name)+";")
			}
			out = append(out, "ALTER TABLE "+quote(o.Table)+" ADD "+o.SQL+";")
		case database.Position:
			out = append(out, o.SQL+";")
		default:
			out = append(out, "DROP "+word(o.Kind)+" IF EXISTS "+quote(o.Name)+";")
			if o.SQL != "" {
				out = append(out, o.SQL+";")
			}
		}
	}
	return out, nil
}
