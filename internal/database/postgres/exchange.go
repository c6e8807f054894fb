package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/fault"
)

// item is something that can be moved from schema to schema.
type item struct {
	what string // TABLE, VIEW, ROUTINE …
	name string // quoted, with the arguments of a routine, without the schema
	key  string // by which it is the same in two schemas
	oid  string
}

// itemsOf lists what moves when a schema is moved: not what moves along with
// something else, such as the sequence of a column.
func itemsOf(ctx context.Context, c *pgconn.PgConn, schema string) (items []item, err error) {
	rows, err := ask(ctx, c, `
		SELECT CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END, c.relname, '', c.oid
			FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace WHERE n.nspname=$1 AND c.relkind IN ('r','p','v','m','S','f') AND `+notOfExtension("pg_class", "c.oid")+`
			AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend d WHERE d.classid='pg_catalog.pg_class'::pg_catalog.regclass AND d.objid=c.oid AND d.deptype IN ('a','i') AND d.refclassid='pg_catalog.pg_class'::pg_catalog.regclass AND c.relkind='S')
		UNION ALL SELECT 'TYPE', t.typname, '', t.oid
			FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid=t.typnamespace LEFT JOIN pg_catalog.pg_class c ON c.oid=t.typrelid
			WHERE n.nspname=$1 AND (t.typtype IN ('e','d') OR t.typtype='c' AND c.relkind='c') AND `+notOfExtension("pg_type", "t.oid")+`
		UNION ALL SELECT 'ROUTINE', p.proname, pg_catalog.pg_get_function_identity_arguments(p.oid), p.oid
			FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid=p.pronamespace WHERE n.nspname=$1 AND p.prokind IN ('f','p') AND `+notOfExtension("pg_proc", "p.oid")+`
			AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend d WHERE d.classid='pg_catalog.pg_proc'::pg_catalog.regclass AND d.objid=p.oid AND d.deptype='i')
		UNION ALL SELECT 'AGGREGATE', p.proname, pg_catalog.pg_get_function_identity_arguments(p.oid), p.oid
			FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid=p.pronamespace WHERE n.nspname=$1 AND p.prokind='a' AND `+notOfExtension("pg_proc", "p.oid")+`
		UNION ALL SELECT 'COLLATION', x.collname, '', x.oid FROM pg_catalog.pg_collation x JOIN pg_catalog.pg_namespace n ON n.oid=x.collnamespace WHERE n.nspname=$1 AND `+notOfExtension("pg_collation", "x.oid")+`
		UNION ALL SELECT 'TEXT SEARCH CONFIGURATION', x.cfgname, '', x.oid FROM pg_catalog.pg_ts_config x JOIN pg_catalog.pg_namespace n ON n.oid=x.cfgnamespace WHERE n.nspname=$1 AND `+notOfExtension("pg_ts_config", "x.oid")+`
		UNION ALL SELECT 'TEXT SEARCH DICTIONARY', x.dictname, '', x.oid FROM pg_catalog.pg_ts_dict x JOIN pg_catalog.pg_namespace n ON n.oid=x.dictnamespace WHERE n.nspname=$1 AND `+notOfExtension("pg_ts_dict", "x.oid")+`
		UNION ALL SELECT 'STATISTICS', x.stxname, '', x.oid FROM pg_catalog.pg_statistic_ext x JOIN pg_catalog.pg_namespace n ON n.oid=x.stxnamespace WHERE n.nspname=$1
		ORDER BY 1, 2, 3`, schema)
	if err != nil {
		return nil, fmt.Errorf("list what is in the schema %s: %w", schema, err)
	}
	for _, row := range rows {
		it := item{what: row[0], name: quote(row[1]), oid: row[3]}
		if it.what == "ROUTINE" || it.what == "AGGREGATE" {
			args := row[2]
			if args == "" && it.what == "AGGREGATE" {
				args = "*"
			}
			it.name += "(" + args + ")"
			// The types of the arguments may lie in the schema itself.
			same, err := sqltext.Requalify(row[2], func(s, _ string) (string, bool) { return "=", s == schema })
			if err != nil {
				return nil, err
			}
			it.key = "routine " + row[1] + "(" + same + ")"
		} else {
			it.key = row[1]
		}
		items = append(items, it)
	}
	return items, nil
}

// exchanger exchanges states of a database.
type exchanger struct {
	l    database.Location
	conn *pgconn.PgConn
}

// NewExchanger connects to the database at l to exchange its states. A statement
// that waits for another's lock gives up after ten seconds.
func NewExchanger(ctx context.Context, l database.Location) (database.Exchanger, error) {
	c, err := connect(ctx, l)
	if err != nil {
		return nil, err
	}
	return &exchanger{l, c}, nil
}

func (e *exchanger) Close() error { return closeConn(e.conn) }

// exchange is one exchange under way: a transaction.
type exchange struct {
	c        *pgconn.PgConn
	s, aside *database.State
	stamp    string
	grants   []string // statements that give the new tables the rights of the old
	moved    []string // oids of what was put aside
}

// Exchange moves what is replaced into a schema in which it is kept, and what
// stands aside into its place, in one transaction.
func (e *exchanger) Exchange(ctx context.Context, s *database.State, stamp string, record func(*database.State) error) error {
	x := &exchange{c: e.conn, s: s, stamp: stamp, aside: &database.State{Engine: database.Postgres, Tables: map[string]string{}, Schemas: map[string]string{}, Without: map[string][]string{}}}
	err := x.run(ctx, record)
	if err != nil {
		_ = execute(context.WithoutCancel(ctx), e.conn, "ROLLBACK")
		var pg *pgconn.PgError
		if errors.As(err, &pg) && (pg.Code == lockNotAvailable || pg.Code == deadlock) {
			return fmt.Errorf("exchange the tables: a table is %w", database.ErrBusy)
		}
		return fmt.Errorf("exchange the tables: %w", err)
	}
	return nil
}

func (x *exchange) run(ctx context.Context, record func(*database.State) error) error {
	if err := execute(ctx, x.c, "BEGIN; SET LOCAL lock_timeout='10s'; SET LOCAL synchronous_commit=on"); err != nil {
		return err
	}
	schemas := x.schemas()
	bound, err := x.boundTo(ctx, schemas)
	if err != nil {
		return err
	}
	for i, schema := range schemas {
		if err := x.schema(ctx, schema, i); err != nil {
			return err
		}
	}
	if err := x.rebind(ctx, bound); err != nil {
		return err
	}
	if err := record(x.aside); err != nil {
		return err
	}
	fault.Point("database")
	return execute(ctx, x.c, "COMMIT")
}

// schemas lists those in which something is to be exchanged.
func (x *exchange) schemas() (names []string) {
	for schema := range x.s.Schemas {
		names = append(names, schema)
	}
	for schema := range x.s.Without {
		if !slices.Contains(names, schema) {
			names = append(names, schema)
		}
	}
	slices.Sort(names)
	return names
}

// schema exchanges what stands aside for one schema.
func (x *exchange) schema(ctx context.Context, schema string, n int) error {
	var incoming []item
	var err error
	from := x.s.Schemas[schema]
	if from != "" {
		if incoming, err = itemsOf(ctx, x.c, from); err != nil {
			return err
		}
	}
	live, err := itemsOf(ctx, x.c, schema)
	if err != nil {
		return err
	}
	kept := "_hovix_before_" + x.stamp
	if n > 0 {
		kept += fmt.Sprintf("_%d", n)
	}
	if err := x.putAside(ctx, schema, kept, incoming, live); err != nil {
		return err
	}
	if from == "" {
		return nil
	}
	if err := execute(ctx, x.c, "CREATE SCHEMA IF NOT EXISTS "+quote(schema)); err != nil {
		return err
	}
	for _, it := range incoming {
		if err := execute(ctx, x.c, "ALTER "+it.what+" "+quote(from)+"."+it.name+" SET SCHEMA "+quote(schema)); err != nil {
			return fmt.Errorf("%s %s: %w", strings.ToLower(it.what), it.name, err)
		}
		if !slices.ContainsFunc(live, func(l item) bool { return l.id() == it.id() }) {
			x.aside.Without[schema] = append(x.aside.Without[schema], it.id())
		}
	}
	for _, g := range x.grants {
		x.try(ctx, g)
	}
	x.grants = nil
	return execute(ctx, x.c, "DROP SCHEMA "+quote(from))
}

// id names an item within a schema, in whichever schema it stands.
func (it item) id() string {
	switch it.what {
	case "STATISTICS", "COLLATION", "TEXT SEARCH CONFIGURATION", "TEXT SEARCH DICTIONARY":
		return strings.ToLower(it.what) + " " + it.key
	}
	return it.key
}

// isRelation tells what has rows and rights, by its kind.
var isRelation = map[string]bool{"TABLE": true, "VIEW": true, "MATERIALIZED VIEW": true, "SEQUENCE": true, "FOREIGN TABLE": true}

// putAside moves what is replaced out of the way.
func (x *exchange) putAside(ctx context.Context, schema, kept string, incoming, live []item) error {
	for _, it := range live {
		replaced := slices.ContainsFunc(incoming, func(n item) bool { return n.id() == it.id() })
		if !replaced && !slices.Contains(x.s.Without[schema], it.id()) {
			continue
		}
		if x.aside.Schemas[schema] == "" {
			x.aside.Schemas[schema] = kept
			if err := execute(ctx, x.c, "CREATE SCHEMA "+kept); err != nil {
				return err
			}
		}
		if replaced && x.s.Inherit && isRelation[it.what] {
			rights, err := x.rights(ctx, it, schema)
			if err != nil {
				return err
			}
			x.grants = append(x.grants, rights...)
		}
		if err := execute(ctx, x.c, "ALTER "+it.what+" "+quote(schema)+"."+it.name+" SET SCHEMA "+kept); err != nil {
			return fmt.Errorf("put the old %s %s aside: %w", strings.ToLower(it.what), it.name, err)
		}
		x.moved = append(x.moved, it.oid)
		if it.what == "TABLE" {
			x.aside.Tables[sqltext.JoinName(schema, it.key)] = kept + "." + it.key
		}
	}
	return nil
}

// rights reads owner and grants of a relation.
func (x *exchange) rights(ctx context.Context, it item, schema string) (out []string, err error) {
	name := quote(schema) + "." + it.name
	what := "TABLE"
	if it.what == "SEQUENCE" {
		what = it.what
	}
	rows, err := ask(ctx, x.c, `SELECT pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(c.relowner)), c.relowner=(SELECT oid FROM pg_catalog.pg_roles WHERE rolname=current_user),
			COALESCE(a.privilege_type,''), CASE WHEN a.grantee=0 THEN 'PUBLIC' ELSE pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(a.grantee)) END, COALESCE(a.is_grantable,false)
		FROM pg_catalog.pg_class c LEFT JOIN LATERAL pg_catalog.aclexplode(c.relacl) a ON a.grantee<>c.relowner WHERE c.oid=?::pg_catalog.oid`, it.oid)
	if err != nil {
		return nil, fmt.Errorf("rights of %s: %w", name, err)
	}
	for i, row := range rows {
		if i == 0 && row[1] != "t" {
			out = append(out, "ALTER "+it.what+" "+name+" OWNER TO "+row[0])
		}
		if row[2] == "" {
			continue
		}
		g := "GRANT " + row[2] + " ON " + what + " " + name + " TO " + row[3]
		if row[4] == "t" {
			g += " WITH GRANT OPTION"
		}
		out = append([]string{g}, out...) // by who owns it still
	}
	return out, nil
}

// try runs a statement whose failure is no more than a warning.
func (x *exchange) try(ctx context.Context, stmt string) {
	if err := execute(ctx, x.c, "SAVEPOINT hovix_try; "+stmt+"; RELEASE SAVEPOINT hovix_try"); err != nil {
		_ = execute(ctx, x.c, "ROLLBACK TO SAVEPOINT hovix_try")
		x.aside.Notes = append(x.aside.Notes, fmt.Sprintf("%s: %v", stmt, err))
	}
}

// schemasNow lists the schemas of the database.
func (e *exchanger) schemasNow(ctx context.Context) ([]string, error) {
	rows, err := ask(ctx, e.conn, "SELECT nspname FROM pg_catalog.pg_namespace")
	if err != nil {
		return nil, fmt.Errorf("list the schemas: %w", err)
	}
	var names []string
	for _, row := range rows {
		names = append(names, row[0])
	}
	return names, nil
}

// Exchanged looks for the schemas that the transaction drops or makes.
func (e *exchanger) Exchanged(ctx context.Context, s, aside *database.State) (bool, error) {
	names, err := e.schemasNow(ctx)
	if err != nil {
		return false, err
	}
	for _, from := range s.Schemas {
		return !slices.Contains(names, from), nil
	}
	if aside == nil {
		return false, nil
	}
	for _, kept := range aside.Schemas {
		return slices.Contains(names, kept), nil
	}
	return true, nil
}

// Complete has nothing left to do, but tells what could not be done in full.
func (e *exchanger) Complete(_ context.Context, _, aside *database.State) ([]string, error) {
	return aside.Notes, nil
}

// Check looks for the schemas of a kept state and the tables in them.
func (e *exchanger) Check(ctx context.Context, s *database.State) error {
	names, err := e.schemasNow(ctx)
	if err != nil {
		return err
	}
	for schema, kept := range s.Schemas {
		if !slices.Contains(names, kept) {
			return fmt.Errorf("the schema %s is gone, in which what belongs into %s was kept", kept, schema)
		}
	}
	there := map[string]bool{}
	rows, err := ask(ctx, e.conn, "SELECT schemaname || '.' || tablename FROM pg_catalog.pg_tables")
	if err != nil {
		return fmt.Errorf("list the tables that are kept: %w", err)
	}
	for _, row := range rows {
		there[row[0]] = true
	}
	for name, as := range s.Tables {
		if !there[as] {
			return fmt.Errorf("the table %s is gone, which was kept as %s", name, as)
		}
	}
	return nil
}

// Size adds up what the relations take.
func (e *exchanger) Size(ctx context.Context, s *database.State) (n int64, err error) {
	for _, kept := range s.Schemas {
		rows, err := ask(ctx, e.conn, "SELECT COALESCE(sum(pg_catalog.pg_total_relation_size(c.oid)),0)::bigint FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace WHERE n.nspname=? AND c.relkind IN ('r','m')", kept)
		if err != nil {
			return 0, fmt.Errorf("look at the tables that are kept: %w", err)
		}
		var b int64
		_, _ = fmt.Sscan(rows[0][0], &b)
		n += b
	}
	return n, nil
}

// Drop removes the schemas of a state, unless something elsewhere needs them.
func (e *exchanger) Drop(ctx context.Context, s *database.State) error {
	var kept []string
	for _, name := range s.Schemas {
		kept = append(kept, name)
	}
	slices.Sort(kept)
	for _, name := range kept {
		if users, err := e.usersOf(ctx, kept, name); err != nil {
			return err
		} else if len(users) > 0 {
			return fmt.Errorf("%s still shows tables that were replaced and are kept; drop it or make it anew first", strings.Join(users, ", "))
		}
	}
	return e.dropSchemas(ctx, kept)
}

// usersOf lists views elsewhere that show what is in a schema.
func (e *exchanger) usersOf(ctx context.Context, kept []string, schema string) (users []string, err error) {
	rows, err := ask(ctx, e.conn, `SELECT DISTINCT n.nspname, v.relname FROM pg_catalog.pg_depend d
		JOIN pg_catalog.pg_rewrite w ON d.classid='pg_catalog.pg_rewrite'::pg_catalog.regclass AND w.oid=d.objid JOIN pg_catalog.pg_class v ON v.oid=w.ev_class JOIN pg_catalog.pg_namespace n ON n.oid=v.relnamespace
		JOIN pg_catalog.pg_class t ON d.refclassid='pg_catalog.pg_class'::pg_catalog.regclass AND t.oid=d.refobjid JOIN pg_catalog.pg_namespace tn ON tn.oid=t.relnamespace
		WHERE tn.nspname=? ORDER BY 1, 2`, schema)
	if err != nil {
		return nil, fmt.Errorf("look for views: %w", err)
	}
	for _, row := range rows {
		if !slices.Contains(kept, row[0]) {
			users = append(users, "the view "+row[0]+"."+row[1])
		}
	}
	return users, nil
}

func (e *exchanger) dropSchemas(ctx context.Context, names []string) (err error) {
	for _, name := range names {
		if e := execute(ctx, e.conn, "DROP SCHEMA IF EXISTS "+quote(name)+" CASCADE"); e != nil {
			err = fmt.Errorf("remove the schema %s: %w", name, e)
		}
	}
	return err
}

// Sweep removes the schemas in which an id was staged.
func (e *exchanger) Sweep(ctx context.Context, id string, notes []database.Note) error {
	if err := endEarlier(ctx, e.conn, id); err != nil {
		return err
	}
	all, err := e.schemasNow(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, name := range all {
		if strings.HasPrefix(name, "_hovix_"+id+"_") {
			names = append(names, name)
		}
	}
	err = e.dropSchemas(ctx, names)
	for _, n := range slices.Backward(notes) {
		if x := execute(ctx, e.conn, dropNoted(n)); x != nil {
			err = errors.Join(err, fmt.Errorf("remove what was staged: %w", x))
		}
	}
	return err
}

// ByHand gives a transaction that puts a state back, and what is live meanwhile
// into a schema whose name begins with _hovix_after_.
func (e *exchanger) ByHand(ctx context.Context, s *database.State) ([]string, error) {
	x := &exchange{s: s}
	var away, back []string
	after := ""
	for _, schema := range x.schemas() {
		var incoming []item
		var err error
		from := s.Schemas[schema]
		if after == "" {
			after = "_hovix_after_" + strings.TrimPrefix(from, "_hovix_before_")
		}
		if from != "" {
			if incoming, err = itemsOf(ctx, e.conn, from); err != nil {
				return nil, err
			}
		}
		live, err := itemsOf(ctx, e.conn, schema)
		if err != nil {
			return nil, err
		}
		for _, it := range live {
			if slices.ContainsFunc(incoming, func(n item) bool { return n.id() == it.id() }) || slices.Contains(s.Without[schema], it.id()) {
				away = append(away, "ALTER "+it.what+" "+quote(schema)+"."+it.name+" SET SCHEMA "+after+";")
			}
		}
		for _, it := range incoming {
			name, err := sqltext.Requalify(it.name, func(s, _ string) (string, bool) { return schema, s == from })
			if err != nil {
				return nil, err
			}
			back = append(back, "ALTER "+it.what+" "+quote(from)+"."+name+" SET SCHEMA "+quote(schema)+";")
		}
		if from != "" {
			back = append(back, "DROP SCHEMA "+quote(from)+";")
		}
	}
	if len(away)+len(back) == 0 {
		return nil, nil
	}
	return append(append([]string{"BEGIN;", "CREATE SCHEMA " + after + ";"}, away...), append(back, "COMMIT;")...), nil
}
