package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// reader reads one snapshot: a transaction on one connection.
type reader struct {
	l        database.Location
	conn     *pgconn.PgConn
	info     database.Info
	snapshot string // its name, for others to read it
	rel      map[string]*relation
	catalog  *catalog // nil until it is needed
}

// relation is a table.
type relation struct {
	oid, kind string // kind: r ordinary, p partitioned
	columns   []string
}

// Open begins a consistent snapshot of the database at l.
func Open(ctx context.Context, l database.Location) (database.Reader, error) {
	return openReader(ctx, l, "")
}

func openReader(ctx context.Context, l database.Location, snapshot string) (*reader, error) {
	conn, err := connect(ctx, l)
	if err != nil {
		return nil, err
	}
	r := &reader{l: l, conn: conn, snapshot: snapshot, rel: map[string]*relation{}}
	if err := r.begin(ctx); err != nil {
		_ = r.Close()
		return nil, fmt.Errorf("begin a snapshot of %s: %w", l, err)
	}
	return r, nil
}

func (r *reader) begin(ctx context.Context) error {
	if err := execute(ctx, r.conn, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return err
	}
	if r.snapshot != "" {
		return execute(ctx, r.conn, "SET TRANSACTION SNAPSHOT "+quoteText(r.snapshot))
	}
	rows, err := ask(ctx, r.conn, "SELECT current_setting('server_version'), current_setting('server_encoding'), CASE WHEN pg_is_in_recovery() THEN '' ELSE pg_export_snapshot() END")
	if err != nil {
		return err
	}
	version, _, _ := strings.Cut(rows[0][0], " ")
	r.info = database.Info{Engine: database.Postgres, Product: "PostgreSQL", Version: version, Charset: rows[0][1]}
	r.snapshot = rows[0][2]
	return nil
}

// Fork opens another reader of the same snapshot.
func (r *reader) Fork(ctx context.Context) (database.Reader, error) {
	if r.snapshot == "" {
		return nil, fmt.Errorf("a server in recovery: %w", database.ErrNoFork)
	}
	f, err := openReader(ctx, r.l, r.snapshot)
	if codeOf(err) == tooManyClients {
		return nil, fmt.Errorf("%w: %w", err, database.ErrNoFork)
	}
	if err != nil {
		return nil, err
	}
	f.info, f.rel, f.catalog = r.info, r.rel, r.catalog
	return f, nil
}

func (r *reader) Info() database.Info { return r.info }

func (r *reader) Close() error { return closeConn(r.conn) }

// Strings runs a query with the tables of the schema public at hand.
func (r *reader) Strings(ctx context.Context, query string, args ...any) ([][]string, error) {
	if err := execute(ctx, r.conn, "SAVEPOINT hovix_query; SET LOCAL search_path="+quote(sqltext.DefaultSchema)); err != nil {
		return nil, err
	}
	rows, err := ask(ctx, r.conn, query, args...)
	return rows, errors.Join(err, execute(ctx, r.conn, "ROLLBACK TO SAVEPOINT hovix_query; RELEASE SAVEPOINT hovix_query"))
}

// ownSchemas is the condition for a schema n that people have made.
const ownSchemas = `n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND n.nspname !~ '^_hovix_'`

// notOfExtension is the condition for an object that no extension has made.
func notOfExtension(class, oid string) string {
	return "NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend e WHERE e.classid='pg_catalog." + class + "'::pg_catalog.regclass AND e.objid=" + oid + " AND e.deptype='e')"
}

func (r *reader) Tables(ctx context.Context) ([]database.Table, error) {
	rows, err := ask(ctx, r.conn, `SELECT n.nspname, c.relname, GREATEST(c.reltuples,0)::bigint, pg_catalog.pg_total_relation_size(c.oid), c.oid, c.relkind, pg_catalog.pg_indexes_size(c.oid)
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace
		WHERE c.relkind IN ('r','p') AND c.relpersistence<>'t' AND `+ownSchemas+` AND `+notOfExtension("pg_class", "c.oid")+` ORDER BY 1,2`)
	if err != nil {
		return nil, fmt.Errorf("list tables: %w", err)
	}
	var tables []database.Table
	for _, row := range rows {
		t := database.Table{Name: sqltext.JoinName(row[0], row[1])}
		_, _ = fmt.Sscan(row[2], &t.Rows)
		_, _ = fmt.Sscan(row[3], &t.Bytes)
		_, _ = fmt.Sscan(row[6], &t.Keys)
		tables = append(tables, t)
		r.rel[t.Name] = &relation{oid: row[4], kind: row[5]}
	}
	return r.inOrder(ctx, tables)
}

// relation gives what is known of a table.
func (r *reader) relation(ctx context.Context, table string) (*relation, error) {
	if r.rel[table] == nil {
		if _, err := r.Tables(ctx); err != nil {
			return nil, err
		}
	}
	rel := r.rel[table]
	if rel == nil {
		return nil, fmt.Errorf("there is no table %s", table)
	}
	if rel.columns == nil {
		rows, err := ask(ctx, r.conn, "SELECT attname FROM pg_catalog.pg_attribute WHERE attrelid=?::pg_catalog.oid AND attnum>0 AND NOT attisdropped AND attgenerated='' ORDER BY attnum", rel.oid)
		if err != nil {
			return nil, fmt.Errorf("columns of %s: %w", table, err)
		}
		rel.columns = []string{}
		for _, row := range rows {
			rel.columns = append(rel.columns, row[0])
		}
	}
	return rel, nil
}

func (r *reader) Rows(ctx context.Context, table, without string, size int, yield func(database.Chunk) error) error {
	rel, err := r.relation(ctx, table)
	if err != nil {
		return err
	}
	if rel.kind == "p" { // its rows are those of its partitions
		return nil
	}
	name := sqltext.QuoteRelation(table)
	what := name
	if len(rel.columns) > 0 {
		what += " ("
		for i, c := range rel.columns {
			if i > 0 {
				what += ","
			}
			what += quote(c)
		}
		what += ")"
	}
	w := database.NewCopyWriter("COPY "+what+" FROM stdin;\n", size, yield)
	query := "COPY " + what + " TO STDOUT"
	if without != "" {
		query = "COPY (SELECT " + strings.TrimSuffix(strings.TrimPrefix(what, name+" ("), ")") + " FROM ONLY " + name + database.Remaining(without) + ") TO STDOUT"
	}
	if _, err := r.conn.CopyTo(ctx, w, query); err != nil {
		if e := w.Err(); e != nil {
			return e
		}
		return fmt.Errorf("read %s: %w", table, plain(err))
	}
	return w.Close()
}

// Prologue sets what the text that follows counts on.
func (r *reader) Prologue() string { return Prologue() }

// Prologue is what a client is told before it loads text as Hovix writes it.
func Prologue() string { return settings() }

// Epilogue sets the positions of sequences.
func (r *reader) Epilogue(ctx context.Context) (string, error) {
	rows, err := ask(ctx, r.conn, `SELECT n.nspname, c.relname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace
		WHERE c.relkind='S' AND c.relpersistence<>'t' AND `+ownSchemas+` AND `+notOfExtension("pg_class", "c.oid")+` ORDER BY 1,2`)
	if err != nil {
		return "", fmt.Errorf("list sequences: %w", err)
	}
	var b strings.Builder
	for _, row := range rows {
		name := quote(row[0]) + "." + quote(row[1])
		at, err := ask(ctx, r.conn, "SELECT last_value, is_called FROM "+name)
		if err != nil {
			return "", fmt.Errorf("position of the sequence %s: %w", sqltext.JoinName(row[0], row[1]), err)
		}
		fmt.Fprintf(&b, "SELECT pg_catalog.setval(%s, %s, %t);\n", quoteText(name), at[0][0], at[0][1] == "t")
	}
	return b.String(), nil
}

// grants is a query that counts what of a kind others than its owner may use otherwise than
// by default.
func grants(kind, class, acl, owner, schema, code string) string {
	rights := func(list string) string {
		return "SELECT grantee, privilege_type FROM pg_catalog.aclexplode(" + list + ") WHERE grantee<>x." + owner
	}
	now, usual := rights("x."+acl), rights("pg_catalog.acldefault('"+code+"', x."+owner+")")
	return "SELECT 'grants on " + kind + " (' || count(*) || ')' FROM pg_catalog." + class + " x JOIN pg_catalog.pg_namespace n ON n.oid=x." + schema + " WHERE x." + acl + " IS NOT NULL AND " + ownSchemas + " AND " + notOfExtension(class, "x.oid") +
		" AND EXISTS ((" + now + " EXCEPT " + usual + ") UNION ALL (" + usual + " EXCEPT " + now + ")) HAVING count(*)>0"
}

// known lists the extensions of the database that a restore does not make.
func (r *reader) known(ctx context.Context) (names []string) {
	rows, err := ask(ctx, r.conn, "SELECT e.extname FROM pg_catalog.pg_extension e LEFT JOIN pg_catalog.pg_available_extension_versions v ON v.name=e.extname AND v.version=e.extversion WHERE e.extname<>'plpgsql' AND NOT COALESCE(v.trusted, false) ORDER BY 1")
	if err != nil {
		return nil // an old server, which has none that others may make
	}
	for _, row := range rows {
		if _, is := sqltree.ExtensionFunctions[row[0]]; !is {
			names = append(names, row[0])
		}
	}
	return names
}

// NotCarried lists what is not read: what only a server's administrator can
// make, and the rarest kinds of objects.
func (r *reader) NotCarried(ctx context.Context) ([]string, error) {
	own := func(kind, class, name, schema string) string {
		return "SELECT '" + kind + " ' || x." + name + " FROM pg_catalog." + class + " x JOIN pg_catalog.pg_namespace n ON n.oid=x." + schema + " WHERE " + ownSchemas + " AND " + notOfExtension(class, "x.oid")
	}
	queries := []string{
		own("aggregate", "pg_proc", "proname", "pronamespace") + " AND (x.prokind='w' OR x.prokind='a' AND (x.provariadic<>0 OR EXISTS (SELECT 1 FROM pg_catalog.pg_aggregate a WHERE a.aggfnoid=x.oid AND (a.aggkind<>'n' OR a.aggmtransfn<>0))))",
		own("routine in a language other than SQL and PL/pgSQL,", "pg_proc", "proname", "pronamespace") + ` AND x.prokind IN ('f','p') AND (SELECT lanname FROM pg_catalog.pg_language WHERE oid=x.prolang) NOT IN ('sql','plpgsql')
			AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend e WHERE e.classid='pg_catalog.pg_proc'::pg_catalog.regclass AND e.objid=x.oid AND e.deptype='i')`,
		own("operator", "pg_operator", "oprname", "oprnamespace"),
		own("text search template", "pg_ts_template", "tmplname", "tmplnamespace"), own("text search parser", "pg_ts_parser", "prsname", "prsnamespace"),
		own("foreign table", "pg_class", "relname", "relnamespace") + " AND x.relkind='f'",
		own("base type", "pg_type", "typname", "typnamespace") + " AND x.typtype='b' AND x.typelem=0",
		"SELECT 'row security policy ' || polname || ' of table ' || polrelid::pg_catalog.regclass FROM pg_catalog.pg_policy",
		"SELECT 'row level security of table ' || c.oid::pg_catalog.regclass FROM pg_catalog.pg_class c WHERE c.relrowsecurity AND EXISTS (SELECT 1 FROM pg_catalog.pg_policy p WHERE p.polrelid=c.oid)",
		"SELECT 'publication ' || pubname FROM pg_catalog.pg_publication", "SELECT 'foreign server ' || srvname FROM pg_catalog.pg_foreign_server",
		"SELECT 'cast from ' || pg_catalog.format_type(castsource,NULL) || ' to ' || pg_catalog.format_type(casttarget,NULL) FROM pg_catalog.pg_cast x WHERE x.oid>=16384 AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend d WHERE d.classid='pg_catalog.pg_cast'::pg_catalog.regclass AND d.objid=x.oid AND d.deptype='i') AND " + notOfExtension("pg_cast", "x.oid"),
		own("operator class", "pg_opclass", "opcname", "opcnamespace"), own("conversion", "pg_conversion", "conname", "connamespace"),
		"SELECT 'language ' || lanname FROM pg_catalog.pg_language x WHERE x.oid>=16384 AND " + notOfExtension("pg_language", "x.oid"),
		"SELECT 'default privileges' FROM pg_catalog.pg_default_acl HAVING count(*)>0",
		grants("tables", "pg_class", "relacl", "relowner", "relnamespace", "r"), grants("functions", "pg_proc", "proacl", "proowner", "pronamespace", "f"),
		grants("types", "pg_type", "typacl", "typowner", "typnamespace", "T"), "SELECT 'event trigger ' || evtname FROM pg_catalog.pg_event_trigger x WHERE " + notOfExtension("pg_event_trigger", "x.oid"),
		"SELECT count(*) || ' large objects' FROM pg_catalog.pg_largeobject_metadata HAVING count(*)>0",
	}
	for _, name := range r.known(ctx) {
		queries = append(queries, "SELECT 'extension '||"+quoteText(name)+"||': the server lets only its administrator make it, and it has to be there before a restore'")
	}
	rows, err := ask(ctx, r.conn, strings.Join(queries, " UNION ALL "))
	if err != nil {
		return nil, fmt.Errorf("look for what is not carried: %w", err)
	}
	var out []string
	for _, row := range rows {
		out = append(out, row[0])
	}
	return out, nil
}
