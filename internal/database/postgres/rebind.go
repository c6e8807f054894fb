package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// bound is a view, or a foreign key, of something that stays. PostgreSQL binds it to
// tables, not to their names, so that it would go on with those that are put aside.
type bound struct {
	oid   string
	table string // that it needs, by its oid
	name  string // for people
	bind  string // the statement that binds it to the names once more
}

// boundTo lists what is bound to tables and views of the schemas, with definitions
// by their names as they are before anything moves.
func (x *exchange) boundTo(ctx context.Context, schemas []string) (list []bound, err error) {
	rows, err := ask(ctx, x.c, `
		SELECT DISTINCT v.oid, d.refobjid, 'the view ' || n.nspname || '.' || v.relname,
			CASE WHEN v.relkind='v' THEN 'CREATE OR REPLACE VIEW ' || pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(v.relname)
				|| COALESCE(' WITH (' || pg_catalog.array_to_string(v.reloptions, ', ') || ')', '') || ' AS ' || pg_catalog.pg_get_viewdef(v.oid) ELSE '' END
		FROM pg_catalog.pg_depend d JOIN pg_catalog.pg_rewrite w ON d.classid='pg_catalog.pg_rewrite'::pg_catalog.regclass AND w.oid=d.objid JOIN pg_catalog.pg_class v ON v.oid=w.ev_class AND v.relkind IN ('v','m')
			JOIN pg_catalog.pg_namespace n ON n.oid=v.relnamespace JOIN pg_catalog.pg_class t ON d.refclassid='pg_catalog.pg_class'::pg_catalog.regclass AND t.oid=d.refobjid AND t.oid<>v.oid JOIN pg_catalog.pg_namespace tn ON tn.oid=t.relnamespace
		WHERE tn.nspname=ANY($1) AND n.nspname !~ '^_hovix_'
		UNION ALL SELECT k.oid, k.confrelid, 'the foreign key ' || k.conname || ' of ' || k.conrelid::pg_catalog.regclass::text,
			'ALTER TABLE ' || k.conrelid::pg_catalog.regclass::text || ' DROP CONSTRAINT ' || pg_catalog.quote_ident(k.conname) || ', ADD CONSTRAINT ' || pg_catalog.quote_ident(k.conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid)
		FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class t ON t.oid=k.confrelid JOIN pg_catalog.pg_namespace tn ON tn.oid=t.relnamespace JOIN pg_catalog.pg_class o ON o.oid=k.conrelid JOIN pg_catalog.pg_namespace n ON n.oid=o.relnamespace
		WHERE k.contype='f' AND k.conparentid=0 AND tn.nspname=ANY($1) AND n.nspname !~ '^_hovix_'`, "{"+strings.Join(quoteAll(schemas), ",")+"}")
	if err != nil {
		return nil, fmt.Errorf("look for views and keys of what is replaced: %w", err)
	}
	for _, row := range rows {
		list = append(list, bound{row[0], row[1], row[2], strings.TrimRight(row[3], "; \n")})
	}
	return list, nil
}

// quoteAll quotes the elements of an array.
func quoteAll(list []string) (out []string) {
	for _, s := range list {
		out = append(out, `"`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s)+`"`)
	}
	return out
}

// rebind binds what stays to the tables that have the names now. What does not fit
// them stays bound to the old ones, and is noted.
func (x *exchange) rebind(ctx context.Context, list []bound) error {
	if len(x.moved) == 0 {
		return nil
	}
	for _, b := range list {
		if !slices.Contains(x.moved, b.table) {
			continue
		}
		rows, err := ask(ctx, x.c, `SELECT 1 FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace WHERE n.nspname ~ '^_hovix_' AND c.oid IN ($1::pg_catalog.oid, (SELECT conrelid FROM pg_catalog.pg_constraint WHERE oid=$1::pg_catalog.oid))`, b.oid)
		if err != nil {
			return fmt.Errorf("look at %s: %w", b.name, err)
		}
		if len(rows) > 0 { // it was put aside itself
			continue
		}
		if b.bind != "" && execute(ctx, x.c, "SAVEPOINT hovix_bind; "+b.bind+"; RELEASE SAVEPOINT hovix_bind") == nil {
			continue
		}
		if b.bind != "" {
			if err := execute(ctx, x.c, "ROLLBACK TO SAVEPOINT hovix_bind"); err != nil {
				return err
			}
		}
		x.aside.Notes = append(x.aside.Notes, b.name+" is not in the archive, and does not fit its tables: it still goes by those that were replaced")
	}
	return nil
}
