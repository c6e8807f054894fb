package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// What is staged may refer to what is staged with it, to what the server has by itself
// and is harmless, and to extensions; to nothing that is live, nor to other schemas.

// parse reads a statement that comes from elsewhere. Stored code is let through only
// where it was agreed to.
func (s *stage) parse(o database.Object) (*sqltree.Statement, error) {
	one, err := sqltree.Parse([]byte(o.SQL), sqltext.Postgres)
	if err != nil {
		return nil, fmt.Errorf("make %s %s: %w", o.Kind, o.Name, err)
	}
	if one.IsCode() && !s.opts.StoredCode {
		return nil, fmt.Errorf("%w: make %s %s: nobody agreed to code for the database", sqltext.ErrRefused, o.Kind, o.Name)
	}
	return one, nil
}

// rename gives the name under which something is staged.
func (s *stage) rename(r sqltree.Reference) sqltree.Reference {
	s.mu.Lock()
	defer s.mu.Unlock()
	if staged := s.schemas[r.Schema]; staged != "" && s.names[sqltext.JoinName(r.Schema, r.Name)] {
		r.Schema = staged
	}
	return r
}

// check insists that everything is staged, or harmless, that something refers to.
func (s *stage) check(ctx context.Context, what string, refs []sqltree.Reference) error {
	for _, r := range refs {
		s.mu.Lock()
		staged := s.names[r.Joined()] || s.outside[r.Joined()]
		s.mu.Unlock()
		if staged || r.Kind == sqltree.Mention {
			continue
		}
		ok := false
		if r.Kind != sqltree.Relation {
			var err error
			if ok, err = s.ofExtension(ctx, r); err != nil {
				return fmt.Errorf("%s: %w", what, err)
			}
		}
		if !ok {
			return fmt.Errorf("%w: %s: it refers to %s, which the archive does not bring and which is not known to be harmless", sqltext.ErrRefused, what, r.Joined())
		}
	}
	return nil
}

// members are queries for the extensions that what a name means belongs to, and whether
// it is sure to compute a value and nothing else. A name may mean several things; null
// stands for one of no extension.
var members = map[sqltree.ReferenceKind]string{
	sqltree.Function: `SELECT e.extname, p.provolatile='i' FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid=p.pronamespace LEFT JOIN pg_catalog.pg_depend d ON d.classid='pg_catalog.pg_proc'::pg_catalog.regclass AND d.objid=p.oid AND d.deptype='e'
		LEFT JOIN pg_catalog.pg_extension e ON e.oid=d.refobjid WHERE n.nspname=$1 AND p.proname=$2`,
	sqltree.TypeName: `SELECT e.extname, true FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid=t.typnamespace LEFT JOIN pg_catalog.pg_depend d ON d.classid='pg_catalog.pg_type'::pg_catalog.regclass AND d.objid=t.oid AND d.deptype='e'
		LEFT JOIN pg_catalog.pg_extension e ON e.oid=d.refobjid WHERE n.nspname=$1 AND t.typname=$2`,
	sqltree.Operator: `SELECT e.extname, true FROM pg_catalog.pg_operator o JOIN pg_catalog.pg_namespace n ON n.oid=o.oprnamespace LEFT JOIN pg_catalog.pg_depend d ON d.classid='pg_catalog.pg_operator'::pg_catalog.regclass AND d.objid=o.oid AND d.deptype='e'
		LEFT JOIN pg_catalog.pg_extension e ON e.oid=d.refobjid WHERE n.nspname=$1 AND o.oprname=$2
		UNION ALL SELECT e.extname, true FROM pg_catalog.pg_opclass o JOIN pg_catalog.pg_namespace n ON n.oid=o.opcnamespace LEFT JOIN pg_catalog.pg_depend d ON d.classid='pg_catalog.pg_opclass'::pg_catalog.regclass AND d.objid=o.oid AND d.deptype='e'
		LEFT JOIN pg_catalog.pg_extension e ON e.oid=d.refobjid WHERE n.nspname=$1 AND o.opcname=$2`,
}

// ofExtension reports whether all that a name may mean belongs to extensions, and, if it
// is called, is harmless: on the list, or of an extension that nobody has looked at here
// but declared to give the same for the same always.
func (s *stage) ofExtension(ctx context.Context, r sqltree.Reference) (ok bool, err error) {
	s.mu.Lock()
	ok, known := s.harmless[r]
	s.mu.Unlock()
	if known {
		return ok, nil
	}
	err = s.with(ctx, func(c *pgconn.PgConn) (err error) {
		ok, err = harmless(ctx, c, r)
		return err
	})
	if err == nil {
		s.mu.Lock()
		s.harmless[r] = ok
		s.mu.Unlock()
	}
	return ok, err
}

// harmless asks for ofExtension.
func harmless(ctx context.Context, c *pgconn.PgConn, r sqltree.Reference) (ok bool, err error) {
	query, known := members[r.Kind]
	if !known {
		return false, nil
	}
	rows, err := ask(ctx, c, query, r.Schema, r.Name)
	ok = len(rows) > 0
	for _, row := range rows {
		list, looked := sqltree.ExtensionFunctions[row[0]]
		ok = ok && row[0] != "" && (r.Kind != sqltree.Function || list[r.Name] || !looked && row[1] == "t")
	}
	return ok, err
}

// Harmless asks the database that is read.
func (r *reader) Harmless(ctx context.Context, ref sqltree.Reference) (bool, error) {
	return harmless(ctx, r.conn, ref)
}

// trusted reports whether an extension may be made: one that is known here, or that the
// server lets any owner of a database make.
func (s *stage) trusted(ctx context.Context, name string) (ok bool, err error) {
	if _, known := sqltree.ExtensionFunctions[name]; known {
		return true, nil
	}
	err = s.with(ctx, func(c *pgconn.PgConn) error {
		rows, err := ask(ctx, c, "SELECT 1 FROM pg_catalog.pg_available_extension_versions WHERE name=$1 AND trusted", name)
		ok = len(rows) > 0
		return err
	})
	return ok, err
}

// single runs one statement that was written from a tree. The server takes a second one
// for an error, for the extended protocol knows one at a time only.
func single(ctx context.Context, c *pgconn.PgConn, stmt string) error {
	return plain(c.ExecParams(ctx, stmt, nil, nil, nil, nil).Read().Err)
}
