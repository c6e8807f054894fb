package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// Definition gives the statement that creates the table with its columns and
// checks, and those that make its keys.
func (r *reader) Definition(ctx context.Context, table string) (string, []string, error) {
	rel, err := r.relation(ctx, table)
	if err != nil {
		return "", nil, err
	}
	items, err := r.items(ctx, rel.oid)
	if err != nil {
		return "", nil, fmt.Errorf("definition of %s: %w", table, err)
	}
	rows, err := ask(ctx, r.conn, `SELECT c.relpersistence='u', CASE WHEN c.relispartition THEN '' ELSE COALESCE((SELECT ' INHERITS (' || pg_catalog.string_agg(`+relationName("i.inhparent")+`, ', ' ORDER BY i.inhseqno) || ')' FROM pg_catalog.pg_inherits i WHERE i.inhrelid=c.oid),'') END
			|| COALESCE(' PARTITION BY ' || pg_catalog.pg_get_partkeydef(c.oid),'') || COALESCE(' WITH (' || pg_catalog.array_to_string(c.reloptions,', ') || ')','')
		FROM pg_catalog.pg_class c WHERE c.oid=?::pg_catalog.oid`, rel.oid)
	if err != nil {
		return "", nil, fmt.Errorf("definition of %s: %w", table, err)
	}
	verb := "CREATE TABLE "
	if rows[0][0] == "t" {
		verb = "CREATE UNLOGGED TABLE "
	}
	create := verb + sqltext.QuoteRelation(table) + " (\n" + strings.Join(items, ",\n") + "\n)" + rows[0][1]
	if rel.kind == "p" { // keys are made when partitions have theirs
		return create, nil, nil
	}
	keys, err := r.keys(ctx, rel.oid, table)
	return create, keys, err
}

// items gives the columns and checks of a table.
func (r *reader) items(ctx context.Context, oid string) (items []string, err error) {
	rows, err := ask(ctx, r.conn, `SELECT pg_catalog.quote_ident(a.attname), pg_catalog.format_type(a.atttypid,a.atttypmod) || `+collation("a.attcollation", "t.typcollation")+`,
			COALESCE(pg_catalog.pg_get_expr(d.adbin,d.adrelid),''), a.attgenerated, a.attidentity, a.attnotnull,
			COALESCE((SELECT s.objid::text FROM pg_catalog.pg_depend s WHERE s.classid='pg_catalog.pg_class'::pg_catalog.regclass AND s.refclassid='pg_catalog.pg_class'::pg_catalog.regclass AND s.refobjid=a.attrelid AND s.refobjsubid=a.attnum AND s.deptype='i'),'')
		FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_type t ON t.oid=a.atttypid LEFT JOIN pg_catalog.pg_attrdef d ON d.adrelid=a.attrelid AND d.adnum=a.attnum JOIN pg_catalog.pg_class c ON c.oid=a.attrelid
		WHERE a.attrelid=?::pg_catalog.oid AND a.attnum>0 AND NOT a.attisdropped AND (a.attislocal OR c.relispartition) ORDER BY a.attnum`, oid)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		item := "  " + quoted(row[0]) + " " + row[1]
		switch {
		case row[3] == "s":
			item += " GENERATED ALWAYS AS (" + row[2] + ") STORED"
		case row[3] == "v":
			item += " GENERATED ALWAYS AS (" + row[2] + ")"
		case row[4] != "":
			identity, err := r.identity(ctx, row[4], row[6])
			if err != nil {
				return nil, err
			}
			item += identity
		case row[2] != "":
			item += " DEFAULT " + row[2]
		}
		if row[5] == "t" {
			item += " NOT NULL"
		}
		items = append(items, item)
	}
	rows, err = ask(ctx, r.conn, `SELECT pg_catalog.quote_ident(conname), pg_catalog.pg_get_constraintdef(oid) FROM pg_catalog.pg_constraint
		WHERE conrelid=?::pg_catalog.oid AND contype='c' AND convalidated AND (conislocal OR (SELECT relispartition FROM pg_catalog.pg_class WHERE oid=conrelid)) ORDER BY conname`, oid)
	for _, row := range rows {
		items = append(items, "  CONSTRAINT "+quoted(row[0])+" "+row[1])
	}
	return items, err
}

// quoted puts a name that the server found clear into quotes nevertheless.
func quoted(name string) string {
	if strings.HasPrefix(name, `"`) {
		return name
	}
	return `"` + name + `"`
}

func (r *reader) identity(ctx context.Context, kind, sequence string) (string, error) {
	rows, err := ask(ctx, r.conn, "SELECT n.nspname, c.relname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace WHERE c.oid=?::pg_catalog.oid", sequence)
	if err != nil {
		return "", err
	}
	options, err := r.sequence(ctx, sequence, "SEQUENCE NAME "+quote(rows[0][0])+"."+quote(rows[0][1]))
	how := "ALWAYS"
	if kind == "d" {
		how = "BY DEFAULT"
	}
	return " GENERATED " + how + " AS IDENTITY (" + options + ")", err
}

// keys gives the statements that make a relation's own keys, in the order in
// which they were made.
func (r *reader) keys(ctx context.Context, oid, name string) (keys []string, err error) {
	rows, err := ask(ctx, r.conn, `SELECT COALESCE(k.conname,''), COALESCE(pg_catalog.pg_get_constraintdef(k.oid),''), pg_catalog.pg_get_indexdef(i.indexrelid)
		FROM pg_catalog.pg_index i LEFT JOIN pg_catalog.pg_constraint k ON k.conindid=i.indexrelid AND k.conrelid=i.indrelid AND k.contype IN ('p','u','x')
		WHERE i.indrelid=?::pg_catalog.oid AND i.indisvalid ORDER BY k.contype IS DISTINCT FROM 'p', i.indexrelid`, oid)
	if err != nil {
		return nil, fmt.Errorf("keys of %s: %w", name, err)
	}
	for _, row := range rows {
		if row[0] != "" {
			keys = append(keys, "ALTER TABLE "+sqltext.QuoteRelation(name)+" ADD CONSTRAINT "+quote(row[0])+" "+row[1])
		} else {
			keys = append(keys, strings.Replace(row[2], " ON ONLY ", " ON ", 1))
		}
	}
	return keys, nil
}

// Objects lists everything that is not a table, in an order in which it can be
// made; what is early is made before the tables.
func (r *reader) Objects(ctx context.Context) ([]database.Object, error) {
	c, err := r.graph(ctx)
	if err != nil {
		return nil, err
	}
	out, err := r.surroundings(ctx)
	if err != nil {
		return nil, err
	}
	early, tables, late := c.arrange()
	for _, n := range early {
		n.object.Early = true
		out = append(out, n.all()...)
	}
	for _, n := range late {
		out = append(out, n.all()...)
	}
	for _, t := range slices.Backward(tables) { // parts of parts first
		rel, err := r.relation(ctx, t)
		if err != nil {
			return nil, err
		}
		if rel.kind != "p" {
			continue
		}
		// A partitioned table takes over the keys of the same kind that its
		// partitions have, so that these keep their names.
		if err := r.statements(ctx, &out, partitions, rel.oid); err != nil {
			return nil, err
		}
		keys, err := r.keys(ctx, rel.oid, t)
		if err != nil {
			return nil, err
		}
		for _, k := range keys {
			out = append(out, database.Object{Kind: database.Other, Name: t, SQL: k})
		}
	}
	for _, q := range completions {
		if err := r.statements(ctx, &out, q); err != nil {
			return nil, err
		}
	}
	for _, n := range late { // keys of materialized views
		oid := strings.TrimPrefix(n.key, "pg_class:")
		if n.object.Kind != database.View || c.kinds[oid] != "m" {
			continue
		}
		keys, err := r.keys(ctx, oid, n.name)
		if err != nil {
			return nil, err
		}
		for _, k := range keys {
			out = append(out, database.Object{Kind: database.Other, Name: n.name, SQL: k})
		}
		if err := r.statements(ctx, &out, populated, oid); err != nil {
			return nil, err
		}
	}
	for _, q := range []string{triggers, rules, switches, comments} {
		if err := r.statements(ctx, &out, q); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// all gives the object with what completes it.
func (n *node) all() []database.Object {
	list := []database.Object{n.object}
	for _, stmt := range n.more {
		list = append(list, database.Object{Kind: database.Other, Name: n.name, SQL: stmt, Early: n.object.Early})
	}
	return list
}

// surroundings gives the schemas and extensions that the rest counts on.
func (r *reader) surroundings(ctx context.Context) (out []database.Object, err error) {
	for _, q := range []string{
		`SELECT 'statement', nspname, 'CREATE SCHEMA IF NOT EXISTS ' || pg_catalog.quote_ident(nspname) FROM pg_catalog.pg_namespace n WHERE nspname<>'public' AND ` + ownSchemas + ` AND ` + notOfExtension("pg_namespace", "n.oid") + ` ORDER BY 2`,
		`SELECT 'statement', extname, 'CREATE EXTENSION IF NOT EXISTS ' || pg_catalog.quote_ident(extname) || CASE WHEN nspname='pg_catalog' THEN '' ELSE ' WITH SCHEMA ' || pg_catalog.quote_ident(nspname) END FROM pg_catalog.pg_extension e JOIN pg_catalog.pg_namespace n ON n.oid=e.extnamespace WHERE extname<>'plpgsql' ORDER BY e.oid`,
	} {
		if err := r.statements(ctx, &out, q); err != nil {
			return nil, err
		}
	}
	for i := range out {
		out[i].Early = true
	}
	return out, nil
}

// statements runs a query of kind, name and statement.
func (r *reader) statements(ctx context.Context, out *[]database.Object, query string, args ...any) error {
	rows, err := ask(ctx, r.conn, query, args...)
	if err != nil {
		return fmt.Errorf("read the catalog: %w", err)
	}
	for _, row := range rows {
		*out = append(*out, database.Object{Kind: database.ObjectKind(row[0]), Name: row[1], SQL: strings.TrimRight(row[2], "; \n")})
	}
	return nil
}

// relationName is an expression for the quoted name of a relation by its oid.
func relationName(oid string) string {
	return `(SELECT pg_catalog.quote_ident(rn.nspname) || '.' || pg_catalog.quote_ident(rc.relname) FROM pg_catalog.pg_class rc JOIN pg_catalog.pg_namespace rn ON rn.oid=rc.relnamespace WHERE rc.oid=` + oid + `)`
}

// ofTables is a condition for what belongs to a relation of one of our schemas.
func ofTables(oid string) string {
	return `EXISTS (SELECT 1 FROM pg_catalog.pg_class oc JOIN pg_catalog.pg_namespace n ON n.oid=oc.relnamespace WHERE oc.oid=` + oid + ` AND oc.relpersistence<>'t' AND ` + ownSchemas + ` AND ` + notOfExtension("pg_class", "oc.oid") + `)`
}

var (
	partitions = `SELECT 'statement', c.relname, 'ALTER TABLE ONLY ' || ` + relationName("i.inhparent") + ` || ' ATTACH PARTITION ' || ` + relationName("c.oid") + ` || ' ' || pg_catalog.pg_get_expr(c.relpartbound,c.oid)
		FROM pg_catalog.pg_inherits i JOIN pg_catalog.pg_class c ON c.oid=i.inhrelid WHERE i.inhparent=?::pg_catalog.oid ORDER BY c.relname`
	populated = `SELECT 'statement', relname, 'REFRESH MATERIALIZED VIEW ' || ` + relationName("c.oid") + ` FROM pg_catalog.pg_class c WHERE oid=?::pg_catalog.oid AND relispopulated`
	triggers  = `SELECT 'trigger', tgname, pg_catalog.pg_get_triggerdef(t.oid) FROM pg_catalog.pg_trigger t WHERE NOT tgisinternal AND tgparentid=0 AND ` + ofTables("tgrelid") + ` ORDER BY tgrelid, tgname`
	rules     = `SELECT 'trigger', rulename, pg_catalog.pg_get_ruledef(w.oid) FROM pg_catalog.pg_rewrite w WHERE rulename<>'_RETURN' AND ` + ofTables("ev_class") + ` ORDER BY ev_class, rulename`
	switches  = `SELECT 'statement', tgname, 'ALTER TABLE ' || ` + relationName("tgrelid") + ` || CASE tgenabled WHEN 'D' THEN ' DISABLE' WHEN 'R' THEN ' ENABLE REPLICA' ELSE ' ENABLE ALWAYS' END || ' TRIGGER ' || pg_catalog.quote_ident(tgname) FROM pg_catalog.pg_trigger t WHERE NOT tgisinternal AND tgparentid=0 AND tgenabled<>'O' AND ` + ofTables("tgrelid") + ` ORDER BY tgrelid, tgname`
	comments  = `SELECT 'statement', i.identity, 'COMMENT ON ' || CASE WHEN i.type LIKE '%column' OR i.type LIKE '%attribute' THEN 'COLUMN' WHEN i.type LIKE '%constraint' THEN 'CONSTRAINT' WHEN i.type='composite type' THEN 'TYPE' ELSE pg_catalog.upper(i.type) END || ' '
			|| CASE WHEN i.type='domain constraint' THEN pg_catalog.replace(i.identity, ' on ', ' on domain ') ELSE i.identity END || ' IS ' || pg_catalog.quote_literal(d.description)
		FROM pg_catalog.pg_description d, pg_catalog.pg_identify_object(d.classoid,d.objoid,d.objsubid) i
		WHERE d.objoid>=16384 AND d.classoid IN ('pg_catalog.pg_class'::pg_catalog.regclass,'pg_catalog.pg_type'::pg_catalog.regclass,'pg_catalog.pg_proc'::pg_catalog.regclass,'pg_catalog.pg_constraint'::pg_catalog.regclass,'pg_catalog.pg_trigger'::pg_catalog.regclass,'pg_catalog.pg_rewrite'::pg_catalog.regclass,'pg_catalog.pg_statistic_ext'::pg_catalog.regclass)
			AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend e WHERE e.classid=d.classoid AND e.objid=d.objoid AND e.deptype='e')
			AND i.schema IS DISTINCT FROM 'pg_toast' AND (i.schema IS NULL OR i.schema !~ '^_hovix_') ORDER BY i.type, i.identity`
)

// completions say, when tables, keys and views are there, what holds between them.
var completions = []string{
	`SELECT 'statement', c.relname, 'ALTER SEQUENCE ' || ` + relationName("c.oid") + ` || ' OWNED BY ' || ` + relationName("d.refobjid") + ` || '.' || pg_catalog.quote_ident(a.attname)
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_depend d ON d.classid='pg_catalog.pg_class'::pg_catalog.regclass AND d.objid=c.oid AND d.deptype='a' AND d.refclassid='pg_catalog.pg_class'::pg_catalog.regclass
		JOIN pg_catalog.pg_attribute a ON a.attrelid=d.refobjid AND a.attnum=d.refobjsubid WHERE c.relkind='S' AND ` + ofTables("c.oid") + ` ORDER BY 2`,
	`SELECT 'statement', conname, 'ALTER TABLE ' || ` + relationName("k.conrelid") + ` || ' ADD CONSTRAINT ' || pg_catalog.quote_ident(conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid)
		FROM pg_catalog.pg_constraint k WHERE (contype='f' AND conparentid=0 OR contype='c' AND conrelid<>0 AND NOT convalidated) AND ` + ofTables("conrelid") + ` ORDER BY conrelid, conname`,
	`SELECT 'statement', c.relname, 'ALTER TABLE ' || ` + relationName("c.oid") + ` || v.what FROM pg_catalog.pg_class c, (VALUES (' ENABLE ROW LEVEL SECURITY', false), (' FORCE ROW LEVEL SECURITY', true)) v(what, force)
		WHERE c.relrowsecurity AND (NOT v.force OR c.relforcerowsecurity) AND c.relkind IN ('r','p') AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_policy p WHERE p.polrelid=c.oid) AND ` + ofTables("c.oid") + ` ORDER BY c.relname, v.force`,
	`SELECT 'statement', c.relname, 'ALTER TABLE ' || ` + relationName("c.oid") + ` || CASE c.relreplident WHEN 'f' THEN ' REPLICA IDENTITY FULL' WHEN 'n' THEN ' REPLICA IDENTITY NOTHING' ELSE ' REPLICA IDENTITY USING INDEX ' || pg_catalog.quote_ident(ic.relname) END
		FROM pg_catalog.pg_class c LEFT JOIN pg_catalog.pg_index i ON i.indrelid=c.oid AND i.indisreplident LEFT JOIN pg_catalog.pg_class ic ON ic.oid=i.indexrelid WHERE c.relkind IN ('r','p') AND (c.relreplident IN ('f','n') OR c.relreplident='i' AND ic.oid IS NOT NULL) AND ` + ofTables("c.oid") + ` ORDER BY 2`,
	`SELECT 'statement', c.relname, 'ALTER TABLE ' || ` + relationName("c.oid") + ` || ' CLUSTER ON ' || pg_catalog.quote_ident(ic.relname) FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid=i.indrelid JOIN pg_catalog.pg_class ic ON ic.oid=i.indexrelid WHERE i.indisclustered AND c.relkind='r' AND ` + ofTables("c.oid") + ` ORDER BY 2`,
	`SELECT 'statement', a.attname, 'ALTER TABLE ' || ` + relationName("c.oid") + ` || ' ALTER COLUMN ' || pg_catalog.quote_ident(a.attname) || ' SET STORAGE ' || CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END
		FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid=a.attrelid JOIN pg_catalog.pg_type t ON t.oid=a.atttypid WHERE a.attnum>0 AND NOT a.attisdropped AND c.relkind IN ('r','p') AND a.attstorage<>t.typstorage AND ` + ofTables("c.oid") + ` ORDER BY c.oid, a.attnum`,
	`SELECT 'statement', a.attname, 'ALTER TABLE ' || ` + relationName("c.oid") + ` || ' ALTER COLUMN ' || pg_catalog.quote_ident(a.attname) || ' SET STATISTICS ' || a.attstattarget
		FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid=a.attrelid WHERE a.attnum>0 AND NOT a.attisdropped AND c.relkind IN ('r','p') AND a.attstattarget>=0 AND ` + ofTables("c.oid") + ` ORDER BY c.oid, a.attnum`,
	`SELECT 'statement', x.stxname, pg_catalog.pg_get_statisticsobjdef(x.oid) FROM pg_catalog.pg_statistic_ext x WHERE ` + ofTables("x.stxrelid") + ` ORDER BY x.oid`,
}
