package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// catalog is what the database holds, and what of it depends on what.
type catalog struct {
	nodes map[string]*node  // by class:oid
	owner map[string]string // of parts (defaults, checks, rules, row types): class:oid → node
	kinds map[string]string // of relations, by oid
}

// node is a table, or what an object is made from.
type node struct {
	key    string
	name   string // as JoinName gives it
	table  bool
	object database.Object
	more   []string // statements that complete the object
	needs  []string // keys of nodes
}

// graph reads the catalog once.
func (r *reader) graph(ctx context.Context) (*catalog, error) {
	if r.catalog != nil {
		return r.catalog, nil
	}
	c := &catalog{nodes: map[string]*node{}, owner: map[string]string{}, kinds: map[string]string{}}
	for _, step := range []func(context.Context, *catalog) error{r.relations, r.types, r.values, r.routines, r.parts, r.edges} {
		if err := step(ctx, c); err != nil {
			return nil, fmt.Errorf("read the catalog: %w", err)
		}
	}
	r.catalog = c
	return c, nil
}

func (c *catalog) add(class, oid, name string, table bool, kind database.ObjectKind) *node {
	n := &node{key: class + ":" + oid, name: name, table: table, object: database.Object{Kind: kind, Name: name}}
	c.nodes[n.key] = n
	return n
}

// relations reads tables, sequences and views, and which row types are theirs.
func (r *reader) relations(ctx context.Context, c *catalog) error {
	rows, err := ask(ctx, r.conn, `SELECT c.oid, n.nspname, c.relname, c.relkind, c.reltype,
			EXISTS (SELECT 1 FROM pg_catalog.pg_depend d WHERE d.classid='pg_catalog.pg_class'::pg_catalog.regclass AND d.objid=c.oid AND d.deptype='i')
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace
		WHERE c.relkind IN ('r','p','S','v','m') AND c.relpersistence<>'t' AND `+ownSchemas+` AND `+notOfExtension("pg_class", "c.oid"))
	if err != nil {
		return err
	}
	for _, row := range rows {
		oid, name, kind := row[0], sqltext.JoinName(row[1], row[2]), row[3]
		c.kinds[oid] = kind
		c.owner["pg_type:"+row[4]] = "pg_class:" + oid
		switch kind {
		case "S":
			if row[5] != "t" { // one of an identity column comes with its table
				n := c.add("pg_class", oid, name, false, database.Sequence)
				if n.object.SQL, err = r.sequence(ctx, oid, "CREATE SEQUENCE "+sqltext.QuoteRelation(name)); err != nil {
					return err
				}
			}
		case "v", "m":
			n := c.add("pg_class", oid, name, false, database.View)
			if n.object.SQL, err = r.view(ctx, oid, kind, name); err != nil {
				return err
			}
		default:
			c.add("pg_class", oid, name, true, "")
		}
	}
	return nil
}

// sequence appends the options of a sequence to a statement.
func (r *reader) sequence(ctx context.Context, oid, head string) (string, error) {
	rows, err := ask(ctx, r.conn, `SELECT pg_catalog.format_type(seqtypid,NULL), seqstart, seqincrement, seqmin, seqmax, seqcache, seqcycle FROM pg_catalog.pg_sequence WHERE seqrelid=?::pg_catalog.oid`, oid)
	if err != nil {
		return "", err
	}
	s := rows[0]
	if strings.HasPrefix(head, "CREATE") {
		head += " AS " + s[0]
	}
	head += fmt.Sprintf(" START WITH %s INCREMENT BY %s MINVALUE %s MAXVALUE %s CACHE %s", s[1], s[2], s[3], s[4], s[5])
	if s[6] == "t" {
		head += " CYCLE"
	}
	return head, nil
}

func (r *reader) view(ctx context.Context, oid, kind, name string) (string, error) {
	rows, err := ask(ctx, r.conn, `SELECT pg_catalog.pg_get_viewdef(oid), COALESCE(pg_catalog.array_to_string(reloptions,', '),'') FROM pg_catalog.pg_class WHERE oid=?::pg_catalog.oid`, oid)
	if err != nil {
		return "", fmt.Errorf("definition of the view %s: %w", name, err)
	}
	def, options := strings.TrimRight(rows[0][0], "; \n"), ""
	if rows[0][1] != "" {
		options = " WITH (" + rows[0][1] + ")"
	}
	if kind == "m" {
		return "CREATE MATERIALIZED VIEW " + sqltext.QuoteRelation(name) + options + " AS\n" + def + "\nWITH NO DATA", nil
	}
	return "CREATE VIEW " + sqltext.QuoteRelation(name) + options + " AS\n" + def, nil
}

// types reads enums, composite types, domains and ranges.
func (r *reader) types(ctx context.Context, c *catalog) error {
	rows, err := ask(ctx, r.conn, `SELECT t.oid, n.nspname, t.typname, t.typtype, t.typrelid, t.typarray
		FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid=t.typnamespace LEFT JOIN pg_catalog.pg_class c ON c.oid=t.typrelid
		WHERE (t.typtype IN ('e','d','r') OR t.typtype='c' AND c.relkind='c') AND `+ownSchemas+` AND `+notOfExtension("pg_type", "t.oid"))
	if err != nil {
		return err
	}
	for _, row := range rows {
		name := sqltext.JoinName(row[1], row[2])
		n := c.add("pg_type", row[0], name, false, database.Type)
		if row[4] != "0" {
			c.owner["pg_class:"+row[4]] = n.key
		}
		if n.object.SQL, err = typeDefinition(ctx, r.conn, row[0], row[3], sqltext.QuoteRelation(name)); err != nil {
			return fmt.Errorf("definition of the type %s: %w", name, err)
		}
	}
	rows, err = ask(ctx, r.conn, `SELECT oid, typelem FROM pg_catalog.pg_type WHERE typelem<>0 AND typtype='b' AND oid>=16384
		UNION ALL SELECT rngmultitypid, rngtypid FROM pg_catalog.pg_range WHERE rngtypid>=16384 AND rngmultitypid<>0`)
	if err != nil {
		return err
	}
	for _, row := range rows {
		element := "pg_type:" + row[1]
		if owner, ok := c.owner[element]; ok {
			element = owner
		}
		c.owner["pg_type:"+row[0]] = element
	}
	return nil
}

// typeDefinition gives the statement that makes a type.
func typeDefinition(ctx context.Context, conn *pgconn.PgConn, oid, kind, name string) (string, error) {
	query := map[string]string{
		"e": `SELECT 'CREATE TYPE @ AS ENUM (' || COALESCE(pg_catalog.string_agg(pg_catalog.quote_literal(enumlabel), ', ' ORDER BY enumsortorder),'') || ')' FROM pg_catalog.pg_enum WHERE enumtypid=?::pg_catalog.oid`,
		"c": `SELECT 'CREATE TYPE @ AS (' || COALESCE(pg_catalog.string_agg(pg_catalog.quote_ident(a.attname) || ' ' || pg_catalog.format_type(a.atttypid,a.atttypmod) || ` + collation("a.attcollation", "bt.typcollation") + `, ', ' ORDER BY a.attnum),'') || ')'
			FROM pg_catalog.pg_type t JOIN pg_catalog.pg_attribute a ON a.attrelid=t.typrelid AND a.attnum>0 AND NOT a.attisdropped JOIN pg_catalog.pg_type bt ON bt.oid=a.atttypid WHERE t.oid=?::pg_catalog.oid`,
		"d": `SELECT 'CREATE DOMAIN @ AS ' || pg_catalog.format_type(t.typbasetype,t.typtypmod) || ` + collation("t.typcollation", "bt.typcollation") + ` || COALESCE(' DEFAULT ' || t.typdefault,'') || CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END
			|| COALESCE((SELECT pg_catalog.string_agg(' CONSTRAINT ' || pg_catalog.quote_ident(conname) || ' ' || pg_catalog.pg_get_constraintdef(k.oid), '' ORDER BY conname) FROM pg_catalog.pg_constraint k WHERE k.contypid=t.oid AND k.contype='c'),'')
			FROM pg_catalog.pg_type t JOIN pg_catalog.pg_type bt ON bt.oid=t.typbasetype WHERE t.oid=?::pg_catalog.oid`,
		"r": `SELECT 'CREATE TYPE @ AS RANGE (subtype = ' || pg_catalog.format_type(g.rngsubtype,NULL) || ', subtype_opclass = ' || pg_catalog.quote_ident(on_.nspname) || '.' || pg_catalog.quote_ident(o.opcname)
			|| COALESCE((SELECT ', collation = ' || pg_catalog.quote_ident(cn.nspname) || '.' || pg_catalog.quote_ident(c.collname) FROM pg_catalog.pg_collation c JOIN pg_catalog.pg_namespace cn ON cn.oid=c.collnamespace WHERE c.oid=g.rngcollation),'')
			|| CASE WHEN g.rngsubdiff<>0 THEN ', subtype_diff = ' || g.rngsubdiff::pg_catalog.regproc ELSE '' END || ')'
			FROM pg_catalog.pg_range g JOIN pg_catalog.pg_opclass o ON o.oid=g.rngsubopc JOIN pg_catalog.pg_namespace on_ ON on_.oid=o.opcnamespace WHERE g.rngtypid=?::pg_catalog.oid`,
	}[kind]
	rows, err := ask(ctx, conn, query, oid)
	if err != nil {
		return "", err
	}
	if len(rows) == 0 {
		return "", fmt.Errorf("the server does not tell it")
	}
	return strings.Replace(rows[0][0], "@", name, 1), nil
}

// collation is an expression for COLLATE where a collation is not that of the type.
func collation(oid, ofType string) string {
	return `COALESCE((SELECT ' COLLATE ' || pg_catalog.quote_ident(xn.nspname) || '.' || pg_catalog.quote_ident(x.collname) FROM pg_catalog.pg_collation x JOIN pg_catalog.pg_namespace xn ON xn.oid=x.collnamespace WHERE x.oid=` + oid + ` AND ` + oid + `<>` + ofType + `),'')`
}

// values reads what computes or compares values: collations, text search, aggregates.
func (r *reader) values(ctx context.Context, c *catalog) error {
	icu := "x.colliculocale" // its name before PostgreSQL 17
	if columns, err := ask(ctx, r.conn, "SELECT 1 FROM pg_catalog.pg_attribute WHERE attrelid='pg_catalog.pg_collation'::pg_catalog.regclass AND attname='colllocale'"); err != nil {
		return err
	} else if len(columns) > 0 {
		icu = "x.colllocale"
	}
	for _, q := range valueQueries(icu) {
		rows, err := ask(ctx, r.conn, q[1])
		if err != nil {
			return err
		}
		for _, row := range rows {
			n := c.add(q[0], row[0], sqltext.JoinName(row[1], row[2]), false, database.Type)
			n.object.SQL = row[3]
			if q[0] != "pg_ts_config" {
				continue
			}
			if n.more, err = r.mappings(ctx, row[0], row[1], row[2]); err != nil {
				return err
			}
		}
	}
	return nil
}

// valueQueries gives the catalogs of such things, each with a query of number, schema, name
// and definition.
func valueQueries(icu string) [][2]string {
	name := func(schema, name string) string {
		return "pg_catalog.quote_ident(" + schema + ") || '.' || pg_catalog.quote_ident(" + name + ")"
	}
	function := func(oid string) string {
		return "(SELECT " + name("fn.nspname", "f.proname") + " FROM pg_catalog.pg_proc f JOIN pg_catalog.pg_namespace fn ON fn.oid=f.pronamespace WHERE f.oid=" + oid + ")"
	}
	of := func(class string) string { return " WHERE " + ownSchemas + " AND " + notOfExtension(class, "x.oid") }
	return [][2]string{
		{"pg_collation", `SELECT x.oid, n.nspname, x.collname, 'CREATE COLLATION ' || ` + name("n.nspname", "x.collname") + ` || CASE x.collprovider WHEN 'c' THEN ' (provider = libc, lc_collate = ' || pg_catalog.quote_literal(x.collcollate) || ', lc_ctype = ' || pg_catalog.quote_literal(x.collctype)
			ELSE ' (provider = ' || CASE x.collprovider WHEN 'i' THEN 'icu' ELSE 'builtin' END || ', locale = ' || pg_catalog.quote_literal(` + icu + `) END || CASE WHEN x.collisdeterministic THEN '' ELSE ', deterministic = false' END || ')'
			FROM pg_catalog.pg_collation x JOIN pg_catalog.pg_namespace n ON n.oid=x.collnamespace` + of("pg_collation")},
		{"pg_ts_dict", `SELECT x.oid, n.nspname, x.dictname, 'CREATE TEXT SEARCH DICTIONARY ' || ` + name("n.nspname", "x.dictname") + ` || ' (TEMPLATE = ' || ` + name("tn.nspname", "t.tmplname") + ` || COALESCE(', ' || x.dictinitoption, '') || ')'
			FROM pg_catalog.pg_ts_dict x JOIN pg_catalog.pg_namespace n ON n.oid=x.dictnamespace JOIN pg_catalog.pg_ts_template t ON t.oid=x.dicttemplate JOIN pg_catalog.pg_namespace tn ON tn.oid=t.tmplnamespace` + of("pg_ts_dict")},
		{"pg_ts_config", `SELECT x.oid, n.nspname, x.cfgname, 'CREATE TEXT SEARCH CONFIGURATION ' || ` + name("n.nspname", "x.cfgname") + ` || ' (PARSER = ' || ` + name("pn.nspname", "p.prsname") + ` || ')'
			FROM pg_catalog.pg_ts_config x JOIN pg_catalog.pg_namespace n ON n.oid=x.cfgnamespace JOIN pg_catalog.pg_ts_parser p ON p.oid=x.cfgparser JOIN pg_catalog.pg_namespace pn ON pn.oid=p.prsnamespace` + of("pg_ts_config")},
		{"pg_proc", `SELECT x.oid, n.nspname, x.proname, 'CREATE AGGREGATE ' || ` + name("n.nspname", "x.proname") + ` || '(' || CASE WHEN x.pronargs=0 THEN '*' ELSE pg_catalog.pg_get_function_identity_arguments(x.oid) END || ') (SFUNC = ' || ` + function("a.aggtransfn") + ` || ', STYPE = ' || pg_catalog.format_type(a.aggtranstype, NULL)
			|| CASE WHEN a.aggfinalfn=0 THEN '' ELSE ', FINALFUNC = ' || ` + function("a.aggfinalfn") + ` END || CASE WHEN a.aggfinalextra THEN ', FINALFUNC_EXTRA' ELSE '' END || CASE WHEN a.aggcombinefn=0 THEN '' ELSE ', COMBINEFUNC = ' || ` + function("a.aggcombinefn") + ` END
			|| COALESCE(', INITCOND = ' || pg_catalog.quote_literal(a.agginitval), '') || CASE x.proparallel WHEN 's' THEN ', PARALLEL = SAFE' WHEN 'r' THEN ', PARALLEL = RESTRICTED' ELSE '' END || ')'
			FROM pg_catalog.pg_proc x JOIN pg_catalog.pg_aggregate a ON a.aggfnoid=x.oid JOIN pg_catalog.pg_namespace n ON n.oid=x.pronamespace` + of("pg_proc") + ` AND x.prokind='a' AND a.aggkind='n' AND a.aggmtransfn=0 AND x.provariadic=0`},
	}
}

// mappings gives the statements that say which dictionaries a configuration of text search
// asks for which words.
func (r *reader) mappings(ctx context.Context, oid, schema, name string) (out []string, err error) {
	rows, err := ask(ctx, r.conn, `SELECT t.alias, pg_catalog.string_agg(pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(d.dictname), ', ' ORDER BY m.mapseqno)
		FROM pg_catalog.pg_ts_config_map m JOIN pg_catalog.pg_ts_config c ON c.oid=m.mapcfg JOIN LATERAL pg_catalog.ts_token_type(c.cfgparser) t ON t.tokid=m.maptokentype
		JOIN pg_catalog.pg_ts_dict d ON d.oid=m.mapdict JOIN pg_catalog.pg_namespace n ON n.oid=d.dictnamespace WHERE m.mapcfg=?::pg_catalog.oid GROUP BY t.tokid, t.alias ORDER BY t.tokid`, oid)
	for _, row := range rows {
		out = append(out, "ALTER TEXT SEARCH CONFIGURATION "+quote(schema)+"."+quote(name)+" ADD MAPPING FOR "+quote(row[0])+" WITH "+row[1])
	}
	return out, err
}

// routines reads functions and procedures in languages of the database itself.
func (r *reader) routines(ctx context.Context, c *catalog) error {
	rows, err := ask(ctx, r.conn, `SELECT p.oid, n.nspname, p.proname, pg_catalog.pg_get_functiondef(p.oid)
		FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid=p.pronamespace JOIN pg_catalog.pg_language l ON l.oid=p.prolang
		WHERE p.prokind IN ('f','p') AND l.lanname IN ('sql','plpgsql') AND `+ownSchemas+` AND `+notOfExtension("pg_proc", "p.oid"))
	if err != nil {
		return err
	}
	for _, row := range rows {
		n := c.add("pg_proc", row[0], sqltext.JoinName(row[1], row[2]), false, database.Routine)
		n.object.SQL = strings.TrimRight(row[3], "; \n")
	}
	return nil
}

// parts reads what belongs to nodes and may depend on others for them.
func (r *reader) parts(ctx context.Context, c *catalog) error {
	rows, err := ask(ctx, r.conn, `SELECT 'pg_attrdef:' || oid, 'pg_class:' || adrelid FROM pg_catalog.pg_attrdef
		UNION ALL SELECT 'pg_constraint:' || oid, CASE WHEN contypid<>0 THEN 'pg_type:' || contypid ELSE 'pg_class:' || conrelid END FROM pg_catalog.pg_constraint WHERE contype='c'
		UNION ALL SELECT 'pg_rewrite:' || oid, 'pg_class:' || ev_class FROM pg_catalog.pg_rewrite WHERE rulename='_RETURN'`)
	if err != nil {
		return err
	}
	for _, row := range rows {
		c.owner[row[0]] = row[1]
	}
	return nil
}

// edges reads what depends on what. That a sequence belongs to a column is said by
// a statement of its own.
func (r *reader) edges(ctx context.Context, c *catalog) error {
	rows, err := ask(ctx, r.conn, `SELECT classid::pg_catalog.regclass::text || ':' || objid, refclassid::pg_catalog.regclass::text || ':' || refobjid
		FROM pg_catalog.pg_depend WHERE deptype IN ('n','a','i') AND objid>=16384 AND refobjid>=16384`)
	if err != nil {
		return err
	}
	for _, row := range rows {
		from, to := c.resolve(row[0]), c.resolve(row[1])
		if from == nil || to == nil || from == to {
			continue
		}
		if from.object.Kind == database.Sequence {
			continue
		}
		from.needs = append(from.needs, to.key)
	}
	return nil
}

func (c *catalog) resolve(key string) *node {
	for range 3 {
		if n := c.nodes[key]; n != nil {
			return n
		}
		key = c.owner[key]
	}
	return nil
}

// sorted gives all nodes in the order of their names, tables first.
func (c *catalog) sorted() []*node {
	var all []*node
	for _, n := range c.nodes {
		all = append(all, n)
	}
	rank := map[database.ObjectKind]int{"": 0, database.Type: 1, database.Sequence: 2, database.Routine: 3, database.View: 4}
	slices.SortFunc(all, func(a, b *node) int {
		if d := rank[a.object.Kind] - rank[b.object.Kind]; d != 0 {
			return d
		}
		return strings.Compare(a.name+"\x00"+a.object.SQL, b.name+"\x00"+b.object.SQL)
	})
	return all
}

// arrange puts what is needed before what needs it. Early are the objects that
// no table is needed for; tables come in their order, and late what is left.
func (c *catalog) arrange() (early []*node, tables []string, late []*node) {
	done := map[string]bool{}
	after := map[string]bool{} // needs a table, or something that does
	var visit func(n *node)
	visit = func(n *node) {
		if done[n.key] {
			return
		}
		done[n.key] = true
		slices.Sort(n.needs)
		for _, k := range n.needs {
			m := c.nodes[k]
			visit(m)
			if m.table || after[k] {
				after[n.key] = true
			}
		}
		switch {
		case n.table:
			tables = append(tables, n.name)
		case after[n.key], n.object.Kind == database.View:
			late = append(late, n)
		default:
			early = append(early, n)
		}
	}
	for _, n := range c.sorted() {
		visit(n)
	}
	return early, tables, late
}

// inOrder puts tables that inherit from another, or have its row type in a
// column, behind that.
func (r *reader) inOrder(ctx context.Context, tables []database.Table) ([]database.Table, error) {
	c, err := r.graph(ctx)
	if err != nil {
		return nil, err
	}
	_, order, _ := c.arrange()
	place := map[string]int{}
	for i, name := range order {
		place[name] = i
	}
	slices.SortStableFunc(tables, func(a, b database.Table) int { return place[a.Name] - place[b.Name] })
	return tables, nil
}
