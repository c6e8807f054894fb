package sqltree

import (
	"strings"

	"hovix/internal/database/sqltext"
)

// typeName takes over the type of a column or cast.
func (p *parser) typeName() {
	switch p.d {
	case sqltext.Postgres:
		p.postgresType()
	case sqltext.MySQL:
		p.mysqlType()
	default:
		p.sqliteType()
	}
}

// standardTypes are the types of PostgreSQL whose names are key words, with their
// further words (its manual, Data Types). Longer names come first.
var standardTypes = []string{"double precision", "character varying", "char varying", "bit varying", "national character varying", "national char varying", "national character", "national char",
	"character", "char", "varchar", "bit", "numeric", "decimal", "dec", "float", "real", "integer", "int", "smallint", "bigint", "boolean", "timestamp", "time", "interval", "nchar"}

// catalogTypes are the other types that PostgreSQL has by itself.
var catalogTypes = set(`bool box bpchar bytea cid cidr circle date datemultirange daterange float4 float8 inet int2 int2vector int4 int4multirange int4range int8 int8multirange int8range
	json jsonb jsonpath line lseg macaddr macaddr8 money name nummultirange numrange oid oidvector path pg_lsn pg_snapshot point polygon record refcursor regclass regcollation regconfig
	regdictionary regnamespace regoper regoperator regproc regprocedure regrole regtype text tid timestamptz timetz tsmultirange tsquery tsrange tstzmultirange tstzrange tsvector
	txid_snapshot uuid varbit xid xid8 xml "char" anyelement anyarray anynonarray anyenum anyrange anymultirange anycompatible anycompatiblearray anycompatiblerange void trigger`)

func (p *parser) postgresType() {
	t := p.peek(0)
	switch {
	case t.Kind == sqltext.Word && string(p.peek(1).Text) != "." && p.standardType():
	default:
		schema, name := p.qualified()
		switch {
		case schema == "pg_catalog", schema == "" && catalogTypes[name], schema == "" && t.Kind == sqltext.Name && name == "char":
			p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
		case schema == "information_schema":
			p.emit("information_schema." + sqltext.QuoteName(name, p.d))
		default:
			if schema == "" {
				schema = sqltext.DefaultSchema
			}
			if hidden(schema, p.d) {
				refuse("the type %s.%s", schema, name)
			}
			p.refer(Reference{TypeName, schema, name})
		}
		p.modifiers()
	}
	for p.is("[") || p.is("array") {
		if p.keep("ARRAY") && !p.is("[") {
			continue
		}
		p.want("[")
		if p.peek(0).Kind == sqltext.Number {
			p.number()
		}
		p.want("]")
	}
}

// standardType takes over a type whose name is made of key words.
func (p *parser) standardType() bool {
	for _, name := range standardTypes {
		if !p.keepOne(strings.ToUpper(name)) {
			continue
		}
		if name == "interval" {
			p.keepOne("YEAR TO MONTH", "DAY TO HOUR", "DAY TO MINUTE", "DAY TO SECOND", "HOUR TO MINUTE", "HOUR TO SECOND", "MINUTE TO SECOND", "YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND")
		}
		p.modifiers()
		if name == "time" || name == "timestamp" {
			p.keepOne("WITH TIME ZONE", "WITHOUT TIME ZONE")
		}
		return true
	}
	return false
}

// modifiers takes over the numbers, or words of PostGIS, in parentheses behind a type.
func (p *parser) modifiers() {
	if !p.is("(") {
		return
	}
	p.pass("(")
	p.glue("(")
	for {
		if t := p.peek(0); (t.Kind == sqltext.Word || t.Kind == sqltext.Name) && p.d == sqltext.Postgres {
			p.ident()
		} else {
			p.number()
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// mysqlTypes are the types of MariaDB and MySQL (MariaDB's reference, Data Types).
var mysqlTypes = set(`tinyint smallint mediumint int integer bigint int1 int2 int3 int4 int8 middleint decimal dec numeric fixed number float double real float4 float8 bit bool boolean
	char nchar character varchar varchar2 nvarchar varcharacter tinytext text mediumtext longtext clob long binary varbinary tinyblob blob mediumblob longblob raw enum set json
	date time datetime timestamp year geometry point linestring polygon multipoint multilinestring multipolygon geometrycollection geomcollection uuid inet4 inet6 signed unsigned vector serial`)

func (p *parser) mysqlType() {
	p.keepOne("NATIONAL")
	t := p.peek(0)
	w := strings.ToLower(string(t.Text))
	if t.Kind != sqltext.Word || !mysqlTypes[w] {
		p.unexpected("a type")
	}
	p.i++
	p.emit(w)
	p.keepOne("PRECISION", "VARYING", "VARCHARACTER", "VARCHAR", "VARBINARY")
	if w == "enum" || w == "set" {
		p.pass("(")
		p.glue("(")
		for p.text(); p.keep(","); p.text() {
		}
		p.want(")")
	} else {
		p.modifiers()
	}
	for {
		switch {
		case p.keepOne("UNSIGNED", "SIGNED", "ZEROFILL", "INTEGER", "INT", "BINARY", "ASCII", "UNICODE", "BYTE", "ARRAY", "COMPRESSED"):
		case p.keep("CHARACTER", "SET"), p.keep("CHARSET"):
			p.bareName("a charset")
		case p.is("ref_system_id", "="):
			p.want("REF_SYSTEM_ID", "=")
			p.number()
		default:
			return
		}
	}
}

// sqliteType takes over the words that SQLite takes for a type: any.
func (p *parser) sqliteType() {
	for {
		t := p.peek(0)
		switch {
		case t.Kind == sqltext.Name:
			p.ident()
		case t.Kind == sqltext.Word && plainWord(string(t.Text)) && !sqliteConstraints[strings.ToLower(string(t.Text))]:
			p.i++
			p.emit(string(t.Text))
		default:
			p.sqliteModifiers()
			return
		}
	}
}

// sqliteModifiers takes over the numbers behind a type.
func (p *parser) sqliteModifiers() {
	if !p.is("(") {
		return
	}
	p.pass("(")
	p.glue("(")
	for {
		switch t := p.peek(0); {
		case t.Kind == sqltext.Word && plainWord(string(t.Text)): // VARCHAR(MAX)
			p.i++
			p.emit(string(t.Text))
		case p.keep("-"), p.keep("+"):
			p.literal()
		case !p.literal():
			p.unexpected("a number")
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// sqliteConstraints are the words with which a constraint of a column begins.
var sqliteConstraints = set(`constraint primary not null unique check default collate references generated as on deferrable initially foreign`)
