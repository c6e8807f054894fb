package mariadb

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// NotCarried lists what is not read: what the user may not see, and the history
// of tables that keep one.
func (r *reader) NotCarried(ctx context.Context) ([]string, error) {
	rows, err := r.Strings(ctx, `SELECT CONCAT('history of table ', TABLE_NAME) FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_TYPE='SYSTEM VERSIONED'
		UNION ALL SELECT CONCAT(LOWER(ROUTINE_TYPE), ' ', ROUTINE_NAME) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE NOT IN ('FUNCTION','PROCEDURE')
		UNION ALL SELECT CONCAT(LOWER(ROUTINE_TYPE), ' ', ROUTINE_NAME, ', whose text this user may not read') FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE IN ('FUNCTION','PROCEDURE') AND ROUTINE_DEFINITION IS NULL`)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, row := range rows {
		out = append(out, row[0])
	}
	views, err := r.Strings(ctx, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_TYPE='VIEW' AND "+notOurs+" ORDER BY TABLE_NAME")
	if err != nil {
		return nil, fmt.Errorf("list views: %w", err)
	}
	for _, v := range views {
		why, err := r.broken(ctx, database.View, v[0])
		if err != nil {
			return nil, err
		}
		if why != "" {
			out = append(out, "view "+v[0]+": it is broken here too: "+why)
		}
	}
	return out, nil
}

// notOurs is true of tables that belong to the site, not to an undo point.
const notOurs = `TABLE_NAME NOT LIKE '\_hovix\_%'`

// sequences lists the sequences, which MySQL does not have.
func (r *reader) sequences(ctx context.Context) (names []string, err error) {
	rows, err := r.Strings(ctx, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_TYPE='SEQUENCE' AND "+notOurs+" ORDER BY TABLE_NAME")
	if err != nil {
		return nil, fmt.Errorf("list sequences: %w", err)
	}
	for _, row := range rows {
		names = append(names, row[0])
	}
	return names, nil
}

// source says how objects of a kind are listed and shown.
type source struct {
	kind database.ObjectKind
	list string
	show string // SHOW CREATE …, before the name
	def  int    // which column holds the definition
	// and which the SQL mode, and the time zone; -1: none does. Charset and collation of the
	// session follow the definition.
	mode, zone int
}

// object reads what SHOW CREATE gives.
func (s *source) object(name string, row []string) database.Object {
	o := database.Object{Kind: s.kind, Name: name, SQL: row[s.def], Session: database.Session{Charset: row[s.def+1], Collation: row[s.def+2]}}
	if s.mode >= 0 {
		o.Mode = row[s.mode]
	}
	if s.zone >= 0 {
		o.Zone = row[s.zone]
	}
	return o
}

var sources = []source{
	{database.Routine, "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='FUNCTION' AND ROUTINE_DEFINITION IS NOT NULL ORDER BY ROUTINE_NAME", "SHOW CREATE FUNCTION ", 2, 1, -1},
	{database.Routine, "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='PROCEDURE' AND ROUTINE_DEFINITION IS NOT NULL ORDER BY ROUTINE_NAME", "SHOW CREATE PROCEDURE ", 2, 1, -1},
	{database.View, "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA=DATABASE() AND " + notOurs + " ORDER BY TABLE_NAME", "SHOW CREATE VIEW ", 1, -1, -1},
	{database.Trigger, "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER", "SHOW CREATE TRIGGER ", 2, 1, -1},
	{database.Event, "SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA=DATABASE() ORDER BY EVENT_NAME", "SHOW CREATE EVENT ", 3, 1, 2},
}

// Objects lists sequences, which tables may need, then routines, views, triggers
// and events.
func (r *reader) Objects(ctx context.Context) ([]database.Object, error) {
	var out []database.Object
	names, err := r.sequences(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		def, err := r.Strings(ctx, "SHOW CREATE SEQUENCE "+quote(name))
		if err != nil {
			return nil, fmt.Errorf("definition of the sequence %s: %w", name, err)
		}
		out = append(out, database.Object{Kind: database.Sequence, Name: name, SQL: def[0][1], Early: true})
	}
	for _, s := range sources {
		objects, err := r.objects(ctx, s)
		if err != nil {
			return nil, err
		}
		if s.kind == database.View {
			objects = database.ViewOrder(objects)
		}
		out = append(out, objects...)
	}
	return out, nil
}

// erViewInvalid says that a view refers to what is not there, or may not be used.
const erViewInvalid = 1356

// broken says what is wrong with a view that refers to what is not there, "" if nothing is:
// no server makes it again.
func (r *reader) broken(ctx context.Context, kind database.ObjectKind, name string) (string, error) {
	if kind != database.View {
		return "", nil
	}
	_, err := r.Strings(ctx, "SHOW COLUMNS FROM "+quote(name))
	var my *mysql.MySQLError
	if errors.As(err, &my) && my.Number == erViewInvalid {
		return my.Message, nil
	}
	return "", err
}

func (r *reader) objects(ctx context.Context, s source) (out []database.Object, err error) {
	names, err := r.Strings(ctx, s.list)
	if err != nil {
		return nil, fmt.Errorf("list objects of the kind %s: %w", s.kind, err)
	}
	for _, n := range names {
		def, err := r.Strings(ctx, s.show+quote(n[0]))
		if err != nil {
			return nil, fmt.Errorf("definition of %s %s: %w", s.kind, n[0], err)
		}
		if broken, err := r.broken(ctx, s.kind, n[0]); err != nil {
			return nil, err
		} else if broken != "" {
			continue
		}
		o := s.object(n[0], def[0])
		o.SQL = r.withoutDatabase(sqltext.WithoutDefiner(o.SQL))
		out = append(out, o)
	}
	return out, nil
}
