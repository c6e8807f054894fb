package sqltree

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
)

const (
	maria = sqltext.MySQL
	pg    = sqltext.Postgres
	lite  = sqltext.SQLite
)

const fullTable = "CREATE TABLE `orders` (\n" +
	"  `id` bigint(20) UNSIGNED NOT NULL AUTO_INCREMENT,\n" +
	"  `code` varchar(20) NOT NULL DEFAULT 'a,b) KEY',\n" +
	"  `kind` enum('it\\'s', 'b(') DEFAULT NULL COMMENT 'with, comma',\n" +
	"  `total` decimal(10, 2) GENERATED ALWAYS AS (`a` * (1 + `b`)) STORED,\n" +
	"  PRIMARY KEY (`id`),\n" +
	"  UNIQUE KEY `code` (`code`),\n" +
	"  KEY `mixed` (`kind`, `code`(10)),\n" +
	"  FULLTEXT KEY `words` (`code`),\n" +
	"  CONSTRAINT `fk_1` FOREIGN KEY (`kind`) REFERENCES `kinds` (`id`) ON DELETE CASCADE,\n" +
	"  CONSTRAINT `positive` CHECK (`total` > 0)\n" +
	") ENGINE=InnoDB AUTO_INCREMENT=7 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci COMMENT='a (table)'"

func TestTable(t *testing.T) {
	c, err := ParseTable([]byte(fullTable), maria)
	require.NoError(t, err)
	assert.Equal(t, "orders", c.Name)
	assert.Equal(t, []string{"id", "code", "kind", "total"}, c.Columns())
	assert.Equal(t, "id", c.AutoColumn())
	assert.Equal(t, "innodb", c.Engine)
	assert.Equal(t, "utf8mb4", c.Charset)
	var shape []string
	for _, it := range c.Items {
		shape = append(shape, fmt.Sprintf("%d %s %s", it.Kind, it.Name, strings.Join(it.Columns, "+")))
	}
	assert.Equal(t, []string{"0 id ", "0 code ", "0 kind ", "0 total ", "1  id", "2 code code", "3 mixed kind+code", "3 words code", "4 fk_1 kind", "5 positive "}, shape)
	assert.Equal(t, fullTable, c.SQL(nil), "what is taken apart can be put together again")
	bare := c.Render("`x`", func(it Item) bool { return it.Kind == Column })
	assert.NotContains(t, bare, "KEY `code`")
	assert.Contains(t, bare, "AUTO_INCREMENT=7")
	assert.Equal(t, []Reference{{Relation, "", "kinds"}}, c.References())
}

// TestWrittenAnew gives statements as servers and people write them, and what is made of
// them.
func TestWrittenAnew(t *testing.T) {
	for _, c := range []struct {
		d        sqltext.Dialect
		in, want string
	}{
		{maria, "create view v as select a.b as c, count(distinct x) from t a where a.d like 'x%' -- note\n group by 1 with rollup",
			"CREATE VIEW `v` AS SELECT `a`.`b` AS `c`, count(DISTINCT `x`) FROM `t` `a` WHERE `a`.`d` LIKE 'x%' GROUP BY 1 WITH ROLLUP"},
		{maria, "CREATE ALGORITHM=MERGE DEFINER=`a b`@`%` SQL SECURITY INVOKER VIEW `v` AS (select 1) union (select 2 order by 1 limit 1)",
			"CREATE ALGORITHM= MERGE SQL SECURITY INVOKER VIEW `v` AS (SELECT 1) UNION (SELECT 2 ORDER BY 1 LIMIT 1)"},
		{maria, "CREATE VIEW v AS SELECT date_add(a, interval 1 day) + interval - 2 hour, cast(b as char(3) charset latin1), _latin1'x' collate latin1_bin, x'00', 0xff, match (a) against ('x' in boolean mode) FROM (t left join u on(t.a = left(u.b,2)))",
			"CREATE VIEW `v` AS SELECT date_add(`a`, INTERVAL 1 DAY) + INTERVAL - 2 HOUR, CAST(`b` AS char(3) CHARSET latin1), _latin1'x' COLLATE latin1_bin, x'00', 0xff, MATCH (`a`) AGAINST ('x' IN BOOLEAN MODE) FROM (`t` LEFT JOIN `u` ON (`t`.`a` = left(`u`.`b`, 2)))"},
		{maria, "CREATE VIEW v AS WITH x AS (SELECT 1 a) SELECT group_concat(a order by a desc separator ';'), row_number() over (partition by a order by a rows between unbounded preceding and current row), extract(year from a), trim(both ' ' from a) FROM x FOR SYSTEM_TIME ALL",
			"CREATE VIEW `v` AS WITH `x` AS (SELECT 1 `a`) SELECT group_concat(`a` ORDER BY `a` DESC SEPARATOR ';'), row_number() OVER (PARTITION BY `a` ORDER BY `a` ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW), extract(YEAR FROM `a`), trim(BOTH ' ' FROM `a`) FROM `x` FOR SYSTEM_TIME ALL"},
		{maria, "/*!50001 CREATE */ /*!50013 DEFINER=`r`@`h` */ /*!50001 VIEW `v` AS select 1*/", "CREATE VIEW `v` AS SELECT 1"},
		{maria, "CREATE SEQUENCE `s` start with 5 minvalue 1 maxvalue 9 increment by 3 nocache cycle ENGINE=InnoDB", "CREATE SEQUENCE `s` START WITH 5 MINVALUE 1 MAXVALUE 9 INCREMENT BY 3 NOCACHE CYCLE ENGINE=InnoDB"},
		{maria, "DO SETVAL(`s`, -7, 0)", "DO SETVAL(`s`, -7, 0)"},
		{maria, "CREATE DEFINER=root@localhost TRIGGER `t` /* x */ BEFORE INSERT ON `a` FOR EACH ROW begin /* kept */ set new.b=';'; end", "CREATE TRIGGER `t` BEFORE INSERT ON `a` FOR EACH ROW begin /* kept */ set new.b=';'; end"},
		{maria, `CREATE PROCEDURE "odd ""name"(IN a TEXT) SELECT "a" || a`, "CREATE PROCEDURE `odd \"name` (IN a TEXT) SELECT \"a\" || a"},
		{pg, `CREATE VIEW v AS SELECT a.public, lower(x), E'it\'s' || 'a'
			'b', "Q"::character varying(3)[], CASE WHEN x ~~ 'a' THEN 1 ELSE NULL::integer END FROM public.t a WHERE ((x IS DISTINCT FROM 'y') AND (z = ANY (ARRAY[1, 2])))`,
			`CREATE VIEW "public"."v" AS SELECT "a"."public", pg_catalog."lower"("x"), 'it''s' || 'ab', "Q":: CHARACTER VARYING(3)[], CASE WHEN "x" ~~ 'a' THEN 1 ELSE NULL:: INTEGER END FROM "public"."t" "a" WHERE (("x" IS DISTINCT FROM 'y') AND ("z" = ANY (ARRAY[1, 2])))`},
		{pg, `CREATE MATERIALIZED VIEW s.v WITH (fillfactor=70) AS SELECT EXTRACT(year FROM d) AS y, count(*) FILTER (WHERE (a > 1)) OVER (PARTITION BY b), string_agg(c, ','::text ORDER BY c DESC) FROM ONLY s.t, LATERAL ( SELECT 1) x(n), generate_series(1, 3) WITH ORDINALITY g(a, b) GROUP BY GROUPING SETS ((a), ()) WITH NO DATA`,
			`CREATE MATERIALIZED VIEW "s"."v" WITH (fillfactor = '70') AS SELECT extract(YEAR FROM "d") AS "y", pg_catalog."count"(*) FILTER (WHERE ("a" > 1)) OVER (PARTITION BY "b"), pg_catalog."string_agg"("c", ',':: pg_catalog."text" ORDER BY "c" DESC) FROM ONLY "s"."t", LATERAL (SELECT 1) "x" ("n"), pg_catalog."generate_series"(1, 3) WITH ORDINALITY "g" ("a", "b") GROUP BY GROUPING SETS (("a"), ()) WITH NO DATA`},
		{pg, `CREATE UNIQUE INDEX i ON ONLY shop.t USING gin (lower(a) COLLATE "C" gin_trgm_ops DESC NULLS LAST, (((j ->> 'a'::text)))) INCLUDE (b) WITH (fastupdate=off) WHERE (a IS NOT NULL)`,
			`CREATE UNIQUE INDEX "i" ON ONLY "shop"."t" USING "gin" (pg_catalog."lower"("a") COLLATE pg_catalog."C" pg_catalog."gin_trgm_ops" DESC NULLS LAST, ((("j" ->> 'a':: pg_catalog."text")))) INCLUDE ("b") WITH (fastupdate = 'off') WHERE ("a" IS NOT NULL)`},
		{pg, `SELECT pg_catalog.setval('"Odd Schema"."it''s"', -9223372036854775808, false)`, `SELECT pg_catalog.setval('"Odd Schema"."it''s"', -9223372036854775808, FALSE)`},
		{pg, "CREATE OR REPLACE FUNCTION f(a integer, OUT double precision, b text DEFAULT 'x') RETURNS SETOF s.t LANGUAGE plpgsql STABLE SET search_path TO 'public' AS $x$ BEGIN; $x$",
			`CREATE FUNCTION "public"."f"("a" INTEGER, OUT DOUBLE PRECISION, "b" pg_catalog."text" DEFAULT ('x')) RETURNS SETOF "s"."t" LANGUAGE plpgsql STABLE SET search_path TO 'public' AS ' BEGIN; '`},
		{pg, "CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT public.t.a FROM public.t; END", `CREATE FUNCTION "public"."f"() RETURNS INT LANGUAGE sql BEGIN ATOMIC select "public"."t".a from "public"."t"; end`},
		{pg, "COMMENT ON COLUMN s.t.\"c\"\"d\" IS 'x;'", `COMMENT ON COLUMN "s"."t"."c""d" IS 'x;'`},
		{pg, "ALTER TABLE ONLY a ATTACH PARTITION b FOR VALUES FROM ('2024-01-01', MINVALUE) TO ('2025-01-01', MAXVALUE)", `ALTER TABLE ONLY "public"."a" ATTACH PARTITION "public"."b" FOR VALUES FROM ('2024-01-01', MINVALUE) TO ('2025-01-01', MAXVALUE)`},
		{lite, "CREATE INDEX 'it''s' ON t (a COLLATE nocase DESC, substr(b,1)) WHERE c IN u", `CREATE INDEX "it's" ON "t" ("a" COLLATE "nocase" DESC, substr("b", 1)) WHERE "c" IN "u"`},
		{lite, "CREATE VIEW main.v(x) AS SELECT a [b c], json_extract(j,'$.a') ->> 1 FROM t INDEXED BY i /* c */ WHERE x'00' GLOB '*' OR x NOT NULL", `CREATE VIEW "v" ("x") AS SELECT "a" "b c", json_extract("j", '$.a') ->> 1 FROM "t" INDEXED BY "i" WHERE x'00' GLOB '*' OR "x" NOT NULL`},
	} {
		one, err := Parse([]byte(c.in), c.d)
		if !assert.NoError(t, err, c.in) {
			continue
		}
		out := one.SQL(nil)
		assert.Equal(t, strings.ReplaceAll(c.want, ":: ", "::"), out)
		if again, err := Parse([]byte(out), c.d); assert.NoError(t, err, out) {
			assert.Equal(t, out, again.SQL(nil), "what was written is read as the same")
		}
	}
}

// TestNamesOfOthers: what is referred to gets the name that it has meanwhile, and nothing
// else does.
func TestNamesOfOthers(t *testing.T) {
	known := map[string]bool{"t": true, "T x": true, "seq": true, "mood": true, "v": true, "slug": true, "i": true}
	staged := func(r Reference) Reference {
		if r.Schema == "public" && known[r.Name] {
			r.Schema = "st"
		}
		return r
	}
	for in, want := range map[string]string{
		`CREATE VIEW v AS SELECT a.public FROM public.t a`:                                     `CREATE VIEW "st"."v" AS SELECT "a"."public" FROM "st"."t" "a"`,
		`CREATE VIEW v AS SELECT public.t, public.slug('public.t'), 'a'::public.mood[] FROM t`: `CREATE VIEW "st"."v" AS SELECT "public"."t", "st"."slug"('public.t'), 'a'::"st"."mood"[] FROM "st"."t"`,
		`CREATE VIEW v AS SELECT nextval('public."T x"'::regclass), 'public.seq'::text FROM t`: `CREATE VIEW "st"."v" AS SELECT pg_catalog."nextval"('"st"."T x"'::pg_catalog.regclass), 'public.seq'::pg_catalog."text" FROM "st"."t"`,
		`CREATE INDEX i ON t (a)`:                 `CREATE INDEX "i" ON "st"."t" ("a")`,
		`COMMENT ON INDEX public.i IS 'public.t'`: `COMMENT ON INDEX "st"."i" IS 'public.t'`,
		`CREATE VIEW v AS WITH t AS (SELECT * FROM t) SELECT * FROM t, (WITH seq AS (SELECT 1) SELECT * FROM seq) x, seq`: `CREATE VIEW "st"."v" AS WITH "t" AS (SELECT * FROM "st"."t") SELECT * FROM "t", (WITH "seq" AS (SELECT 1) SELECT * FROM "seq") "x", "st"."seq"`,
		`ALTER SEQUENCE seq OWNED BY public.t.public`: `ALTER SEQUENCE "st"."seq" OWNED BY "st"."t"."public"`,
	} {
		one, err := Parse([]byte(in), pg)
		require.NoError(t, err, in)
		assert.Equal(t, want, one.SQL(staged))
	}
	def, err := ParseTable([]byte(`CREATE UNLOGGED TABLE t (id bigint GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME public.seq START WITH 1) NOT NULL, m mood DEFAULT 'a'::mood, n numeric(3,2) GENERATED ALWAYS AS ((id * 2)) STORED) INHERITS (other) PARTITION BY RANGE (id) WITH (fillfactor=70)`), pg)
	require.NoError(t, err)
	assert.Equal(t, []string{"seq"}, def.Sequences())
	assert.True(t, def.Partitioned)
	assert.Equal(t, `CREATE UNLOGGED TABLE "st"."t" (
  "id" BIGINT GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME "st"."seq" START WITH 1) NOT NULL,
  "m" "st"."mood" DEFAULT ('a'::"st"."mood"),
  "n" NUMERIC(3, 2) GENERATED ALWAYS AS (("id" * 2)) STORED
) INHERITS ("public"."other") PARTITION BY RANGE ("id") WITH (fillfactor = '70')`, def.SQL(staged))
}

func TestNamesOfKeys(t *testing.T) {
	for stmt, want := range map[string]string{`ALTER TABLE "s"."t" ADD CONSTRAINT "k" PRIMARY KEY (a)`: "s.k s.t", "CREATE UNIQUE INDEX i ON ONLY shop.t USING btree (a)": "shop.i shop.t", "CREATE INDEX i ON t (a)": "i t", "COMMENT ON INDEX i IS 'x'": " i", "ALTER TABLE t ATTACH PARTITION x DEFAULT": " t"} {
		one, err := Parse([]byte(stmt), pg)
		require.NoError(t, err)
		assert.Equal(t, want, one.Name+" "+one.Table, stmt)
	}
}

func TestAlter(t *testing.T) {
	def, err := ParseTable([]byte("CREATE TABLE `a b` (`x` int NOT NULL, `y` text) ENGINE=InnoDB"), maria)
	require.NoError(t, err)
	for _, a := range []string{"ADD PRIMARY KEY (`x`,`y`)", "ADD KEY `k` (`y`)", "AUTO_INCREMENT=5", "MODIFY `x` int(10) NOT NULL AUTO_INCREMENT", "MODIFY COLUMN `y` text COMMENT 'c'", "ADD CONSTRAINT `c` CHECK (`x` > 0)"} {
		require.NoError(t, def.Alter(a), a)
	}
	assert.Equal(t, "CREATE TABLE `t` (\n  `x` int(10) NOT NULL AUTO_INCREMENT,\n  `y` text COMMENT 'c',\n  PRIMARY KEY (`x`, `y`),\n  KEY `k` (`y`),\n  CONSTRAINT `c` CHECK (`x` > 0)\n) ENGINE=InnoDB AUTO_INCREMENT=5",
		def.Render("`t`", func(Item) bool { return true }))
	for _, a := range []string{"ADD COLUMN `z` int", "DROP COLUMN `x`", "MODIFY `z` int", "RENAME TO b", "ADD KEY (`x`), DROP COLUMN `y`", ""} {
		assert.ErrorIs(t, def.Alter(a), sqltext.ErrRefused, a)
	}
	def, err = ParseTable([]byte(`CREATE TABLE shop."T.x" (id integer NOT NULL)`), pg)
	require.NoError(t, err)
	require.NoError(t, def.Alter("ALTER COLUMN id SET DEFAULT nextval('shop.s'::regclass)"))
	assert.Equal(t, `"id" INTEGER NOT NULL DEFAULT (pg_catalog."nextval"('"shop"."s"'::pg_catalog.regclass))`, def.Items[0].Text)
}

// TestBounds: what is nested, long or wide beyond reason is refused, and soon.
func TestBounds(t *testing.T) {
	for name, text := range map[string]string{
		"parentheses": "CREATE VIEW v AS SELECT " + strings.Repeat("(", 1_000_000),
		"queries":     "CREATE VIEW v AS " + strings.Repeat("SELECT (", 300_000),
		"calls":       "CREATE VIEW v AS SELECT " + strings.Repeat("lower(", 300_000),
		"casts":       "CREATE VIEW v AS SELECT " + strings.Repeat("cast(", 300_000),
		"joins":       "CREATE VIEW v AS SELECT 1 FROM " + strings.Repeat("(", 300_000),
		"comments":    "CREATE VIEW v AS " + strings.Repeat("/*!", 300_000),
		"comments 2":  "CREATE VIEW v AS " + strings.Repeat("/*", 300_000),
		"length":      "CREATE TABLE t (a int DEFAULT '" + strings.Repeat("x", maxText) + "')",
	} {
		for _, d := range []sqltext.Dialect{maria, pg, lite} {
			_, err := Parse([]byte(text), d)
			_, err2 := ParseTable([]byte(text), d)
			assert.True(t, err != nil || name == "length", "%s", name)
			assert.Error(t, err2, name)
		}
	}
	for _, d := range []sqltext.Dialect{maria, pg, lite} {
		// What takes the square of its length is not done with this within the time of a test.
		s, err := Parse([]byte("CREATE VIEW v AS SELECT 1 "+strings.Repeat("<", maxTokens-100)), d)
		require.NoError(t, err)
		assert.Equal(t, maxTokens-100, strings.Count(s.SQL(nil), "<"))
		_, err = Parse([]byte("CREATE VIEW v AS SELECT 1 "+strings.Repeat("<", maxTokens)), d)
		assert.ErrorContains(t, err, "words and signs")
	}
	var wide strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&wide, "c%d int, ", i)
	}
	def, err := ParseTable([]byte("CREATE TABLE t ("+wide.String()+"z int)"), lite)
	require.NoError(t, err)
	assert.Len(t, def.Columns(), 100_001)
}
