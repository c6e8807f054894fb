package sqltree

import (
	"strings"

	"hovix/internal/database/sqltext"
)

// set gives the words of a text.
func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// words are the key words that may stand in expressions, by dialect.
var words = map[sqltext.Dialect]map[string]bool{
	sqltext.MySQL: set(`and or xor not is null true false unknown in like rlike regexp between escape case when then else end div mod binary exists any all some row
		current_timestamp current_date current_time current_user localtime localtimestamp utc_date utc_time utc_timestamp sounds date time timestamp`),
	sqltext.Postgres: set(`and or not is null true false unknown in like ilike similar to between symmetric escape isnull notnull case when then else end any all some overlaps
		array row exists current_date current_time current_timestamp localtime localtimestamp current_user session_user user current_catalog current_schema current_role
		date time timestamp timestamptz interval`),
	sqltext.SQLite: set(`and or not is null true false in like glob regexp match between escape case when then else end isnull notnull exists current_timestamp current_date current_time`),
}

// callWords are key words that a parenthesis may follow without being calls.
var callWords = map[sqltext.Dialect]map[string]bool{
	sqltext.MySQL:    set(`and or xor not is in like rlike regexp between case when then else div mod binary exists any all some row distinct over as by using on from escape separator partition values`),
	sqltext.Postgres: set(`and or not is in like ilike between symmetric case when then else any all some overlaps array row exists to escape distinct over as by using on from filter group variadic for placing`),
	sqltext.SQLite:   set(`and or not is in like glob regexp match between escape case when then else exists over as by using on from distinct filter raise values`),
}

// orderWords may stand where rows are put in order.
var orderWords = set(`asc desc nulls first last using`)

// windowWords may stand in a window or a filter.
var windowWords = set(`partition by order asc desc nulls first last rows range groups unbounded preceding following current row exclude no others ties where using group`)

// groupWords may stand where rows are grouped.
var groupWords = set(`rollup cube grouping sets asc desc all distinct`)

// units are units of time.
var units = set(`microsecond second minute hour day week month quarter year second_microsecond minute_microsecond minute_second hour_microsecond hour_second hour_minute
	day_microsecond day_second day_minute day_hour year_month`)

// argumentWords are the key words that may stand between the arguments of a function.
func argumentWords(name string) map[string]bool {
	if special, ok := inside[name]; ok {
		return special
	}
	return aggregateWords
}

// aggregateWords may stand in a call of an aggregate.
var aggregateWords = set(`distinct all order by asc desc nulls first last separator limit offset variadic using respect ignore`)

// inside are the words in calls that have a form of their own.
var inside = map[string]map[string]bool{
	"extract":       set(`from century day decade dow doy epoch hour isodow isoyear julian microseconds millennium milliseconds minute month quarter second timezone timezone_hour timezone_minute week year microsecond second_microsecond minute_microsecond minute_second hour_microsecond hour_second hour_minute day_microsecond day_second day_minute day_hour year_month`),
	"trim":          set(`both leading trailing from`),
	"substring":     set(`from for similar escape`),
	"substr":        set(`from for`),
	"overlay":       set(`placing from for`),
	"position":      set(``),
	"normalize":     set(`nfc nfd nfkc nfkd`),
	"timestampdiff": units,
	"timestampadd":  units,
	"get_format":    set(`date time datetime timestamp`),
	"json_value":    set(`returning null error default on empty`),
	"weight_string": set(`as char binary level`),
	"raise":         set(`ignore rollback abort fail`),
	"char":          set(`using`),
	"date_add":      units, "date_sub": units, "adddate": units, "subdate": units,
}

// reserved are words that are no names in any of the dialects, unless in quotes.
var reserved = set(`select from where into create union group order having table join on using as limit grant intersect except primary foreign references constraint returning outfile dumpfile`)

// syntax are the functions of PostgreSQL that are part of its grammar.
var syntax = set(`coalesce nullif greatest least extract substring position overlay trim normalize grouping xmlconcat xmlelement xmlforest xmlpi xmlroot xmlexists
	current_time current_timestamp localtime localtimestamp`)
