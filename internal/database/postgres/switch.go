package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
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
		UNION ALL SELECT 'STATISTICS', x.stxname, '', x.oid FROM pg_catalog.pg_statistic_ext x JOIN pg_catalog.pg_namespace n ON n.oid=x.stxnamespace WHERE n.nspname=$1
		ORDER BY 1, 2, 3`, schema)
	if err != nil {
		return nil, fmt.Errorf("list what is in the schema %s: %w", schema, err)
	}
	for _, row := range rows {
		it := item{what: row[0], name: quote(row[1]), oid: row[3]}
		if it.what == "ROUTINE" {
			it.name += "(" + row[2] + ")"
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

// exchange is the switch under way: one transaction.
type exchange struct {
	s     *stage
	c     *pgconn.PgConn
	rep   *database.Replaced
	stamp string
	back  []string // statements that put the old state back
	away  []string // and, before them, the new one aside
	moved []string // oids of what was put aside
}

// Switch moves what is replaced into a schema in which it is kept, and what is
// staged into its place, in one transaction.
func (s *stage) Switch(ctx context.Context) (*database.Replaced, error) {
	x := &exchange{s: s, rep: &database.Replaced{Tables: map[string]string{}}, stamp: time.Now().UTC().Format("060102_150405") + "_" + s.id[:4]}
	err := s.with(ctx, func(c *pgconn.PgConn) error {
		x.c = c
		err := x.run(ctx)
		if err != nil {
			_ = execute(context.WithoutCancel(ctx), c, "ROLLBACK")
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("exchange the tables: %w", err)
	}
	s.done = true
	if len(x.back) > 0 {
		after := "_hovix_after_" + x.stamp
		x.rep.PutBack = append(append([]string{"BEGIN;", "CREATE SCHEMA " + after + ";"}, x.away...), append(x.back, "COMMIT;")...)
	}
	return x.rep, s.close()
}

func (x *exchange) run(ctx context.Context) error {
	if err := execute(ctx, x.c, "BEGIN; SET LOCAL lock_timeout='10s'; SET LOCAL synchronous_commit=on"); err != nil {
		return err
	}
	var schemas []string
	for schema := range x.s.schemas {
		schemas = append(schemas, schema)
	}
	slices.Sort(schemas)
	for i, schema := range schemas {
		if err := x.schema(ctx, schema, i); err != nil {
			return err
		}
	}
	if err := x.warnOfViews(ctx); err != nil {
		return err
	}
	return execute(ctx, x.c, "COMMIT")
}

// schema exchanges what is staged for one schema.
func (x *exchange) schema(ctx context.Context, schema string, n int) error {
	staged, err := itemsOf(ctx, x.c, x.s.schemas[schema])
	if err != nil {
		return err
	}
	live, err := itemsOf(ctx, x.c, schema)
	if err != nil {
		return err
	}
	kept := "_hovix_before_" + x.stamp
	if n > 0 {
		kept += fmt.Sprintf("_%d", n)
	}
	grants, err := x.putAside(ctx, schema, kept, staged, live)
	if err != nil {
		return err
	}
	if err := execute(ctx, x.c, "CREATE SCHEMA IF NOT EXISTS "+quote(schema)); err != nil {
		return err
	}
	for _, it := range staged {
		if err := execute(ctx, x.c, "ALTER "+it.what+" "+x.s.schemas[schema]+"."+it.name+" SET SCHEMA "+quote(schema)); err != nil {
			return fmt.Errorf("%s %s: %w", strings.ToLower(it.what), it.name, err)
		}
		if len(x.back) > 0 {
			name, err := x.nameNow(it, schema)
			if err != nil {
				return err
			}
			x.away = append(x.away, "ALTER "+it.what+" "+name+" SET SCHEMA _hovix_after_"+x.stamp+";")
		}
	}
	for _, g := range grants {
		x.try(ctx, g)
	}
	return execute(ctx, x.c, "DROP SCHEMA "+x.s.schemas[schema])
}

// nameNow gives the name of an item with arguments whose types have moved too.
func (x *exchange) nameNow(it item, schema string) (string, error) {
	args, err := sqltext.Requalify(it.name, func(s, _ string) (string, bool) { return schema, s == x.s.schemas[schema] })
	return quote(schema) + "." + args, err
}

// putAside moves what is replaced out of the way, and gives the statements that
// give the new tables the owners and rights that the old ones have.
func (x *exchange) putAside(ctx context.Context, schema, kept string, staged, live []item) (grants []string, err error) {
	made := false
	for _, it := range live {
		if !slices.ContainsFunc(staged, func(n item) bool { return n.key == it.key && (n.what == "STATISTICS") == (it.what == "STATISTICS") }) {
			continue
		}
		if !made {
			made = true
			if err := execute(ctx, x.c, "CREATE SCHEMA "+kept); err != nil {
				return nil, err
			}
		}
		if it.what != "ROUTINE" && it.what != "TYPE" && it.what != "STATISTICS" {
			rights, err := x.rights(ctx, it, schema)
			if err != nil {
				return nil, err
			}
			grants = append(grants, rights...)
		}
		if err := execute(ctx, x.c, "ALTER "+it.what+" "+quote(schema)+"."+it.name+" SET SCHEMA "+kept); err != nil {
			return nil, fmt.Errorf("put the old %s %s aside: %w", strings.ToLower(it.what), it.name, err)
		}
		x.moved = append(x.moved, it.oid)
		if it.what == "TABLE" {
			x.rep.Tables[sqltext.JoinName(schema, it.key)] = kept + "." + it.key
		}
		x.back = append(x.back, "ALTER "+it.what+" "+kept+"."+it.name+" SET SCHEMA "+quote(schema)+";")
	}
	if made {
		x.back = append(x.back, "DROP SCHEMA "+kept+";")
	}
	return grants, nil
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
		x.rep.Warnings = append(x.rep.Warnings, fmt.Sprintf("%s: %v", stmt, err))
	}
}

// warnOfViews names views that still show what was put aside.
func (x *exchange) warnOfViews(ctx context.Context) error {
	if len(x.moved) == 0 {
		return nil
	}
	rows, err := ask(ctx, x.c, `SELECT DISTINCT n.nspname || '.' || v.relname FROM pg_catalog.pg_depend d
		JOIN pg_catalog.pg_rewrite w ON d.classid='pg_catalog.pg_rewrite'::pg_catalog.regclass AND w.oid=d.objid JOIN pg_catalog.pg_class v ON v.oid=w.ev_class JOIN pg_catalog.pg_namespace n ON n.oid=v.relnamespace
		WHERE d.refclassid='pg_catalog.pg_class'::pg_catalog.regclass AND d.refobjid=ANY(?::pg_catalog.oid[]) AND n.nspname !~ '^_hovix_' ORDER BY 1`, "{"+strings.Join(x.moved, ",")+"}")
	if err != nil {
		return fmt.Errorf("look for views: %w", err)
	}
	for _, row := range rows {
		x.rep.Warnings = append(x.rep.Warnings, "the view "+row[0]+" is not in the archive, and still shows the tables that were replaced")
	}
	return nil
}
