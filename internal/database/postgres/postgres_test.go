package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

func sql(t *testing.T, l database.Location, q string) string {
	t.Helper()
	return strings.TrimSpace(testenv.Client(t, l, []byte("SET client_min_messages=error; "+q+";")))
}

// TestSnapshotIsShared: what others write shows to neither of two readers.
func TestSnapshotIsShared(t *testing.T) {
	l := testenv.Postgres(t)
	sql(t, l, "CREATE TABLE a (x int); CREATE TABLE b (x int); INSERT INTO a VALUES (1),(2); INSERT INTO b VALUES (1)")
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	_, err = r.Tables(t.Context())
	require.NoError(t, err)
	sql(t, l, "INSERT INTO a VALUES (3); DELETE FROM b")
	f, err := r.(database.Forker).Fork(t.Context())
	require.NoError(t, err)
	defer f.Close()
	read := func(r database.Reader, table, without string) (text string) {
		require.NoError(t, r.Rows(t.Context(), table, without, 1000, func(c database.Chunk) error { text += string(c.SQL); return nil }))
		return text
	}
	assert.Equal(t, "COPY \"public\".\"b\" (\"x\") FROM stdin;\n1\n\\.\n", read(f, "b", ""))
	assert.Equal(t, "COPY \"public\".\"a\" (\"x\") FROM stdin;\n1\n\\.\n", read(r, "a", "x > 1"))
	_, _, err = r.Definition(t.Context(), "none")
	assert.ErrorContains(t, err, "there is no table none")
}

// stageOne stages a table with a row, an early type and a late view.
func stageOne(t *testing.T, l database.Location) database.Stage {
	t.Helper()
	s, err := NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 2})
	require.NoError(t, err)
	add := func(kind database.ObjectKind, name, stmt string, early bool) {
		require.NoError(t, s.AddObject(t.Context(), database.Object{Kind: kind, Name: name, SQL: stmt, Early: early}), stmt)
	}
	add(database.Type, "mood", "CREATE TYPE public.mood AS ENUM ('new')", true)
	add(database.Type, "span", `CREATE TYPE "public"."span" AS RANGE (subtype = integer, subtype_opclass = pg_catalog.int4_ops)`, true)
	def, err := sqltree.ParseTable([]byte(`CREATE TABLE "public"."a" ("m" public.mood, "s" public.span, "id" integer GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME public.a_seq START WITH 1) NOT NULL)`), sqltext.Postgres)
	require.NoError(t, err)
	require.NoError(t, s.Define(t.Context(), def))
	require.ErrorContains(t, s.Define(t.Context(), def), "defined twice")
	testenv.Stored(t, 1)(s.Fill("a", 1, 1, [][]byte{[]byte("COPY " + s.Target("a") + " (\"m\",\"s\",\"id\") FROM stdin;\nnew\t[1,5)\t7\n")})(t.Context()))
	require.NoError(t, s.Finish(t.Context(), "a", []string{"CREATE INDEX i ON public.a USING btree (m)"}))
	require.NoError(t, s.Positions(t.Context(), []byte(`SELECT pg_catalog.setval('"public"."a_seq"', 7, true)`)))
	add(database.View, "v", "CREATE VIEW public.v AS SELECT m FROM public.a", false)
	return s
}

const schemas = "SELECT string_agg(nspname, ' ' ORDER BY nspname) FROM pg_namespace WHERE nspname !~ '^pg_' AND nspname<>'information_schema'"

// TestStage shows what others see before the switch, and that nothing stays
// after a stage is given up, at whatever point.
func TestStage(t *testing.T) {
	l := testenv.Postgres(t)
	sql(t, l, "CREATE TABLE a (old int); INSERT INTO a VALUES (5); CREATE TYPE mood AS ENUM ('old')")
	for _, ready := range []bool{false, true} {
		s := stageOne(t, l)
		if ready {
			require.NoError(t, s.Ready(t.Context()))
		}
		assert.Equal(t, "5", sql(t, l, "SELECT old FROM a"), "the live table is as it was")
		require.NoError(t, s.Discard(t.Context()))
		assert.Equal(t, "public", sql(t, l, schemas))
		assert.Empty(t, sql(t, l, "SELECT typname FROM pg_type WHERE typname='span'"), "what was made in place is gone too")
	}
	s := stageOne(t, l)
	require.NoError(t, s.Ready(t.Context()))
	state, _, err := s.Seal(t.Context())
	require.NoError(t, err)
	ex, err := NewExchanger(t.Context(), l)
	require.NoError(t, err)
	defer ex.Close()
	kept, warnings := testenv.Exchange(t, ex, state, "one")
	assert.Empty(t, warnings)
	assert.Equal(t, "new|[1,5)|7", sql(t, l, "SELECT * FROM a"))
	assert.Equal(t, "new", sql(t, l, "SELECT * FROM v"))
	assert.Equal(t, "8", sql(t, l, "SELECT nextval('a_seq')"))
	assert.Contains(t, kept.Tables["a"], "_hovix_before_")
	newer, _ := testenv.Exchange(t, ex, kept, "two")
	assert.Equal(t, "5", sql(t, l, "SELECT old FROM a"))
	assert.Empty(t, sql(t, l, "SELECT viewname FROM pg_views WHERE schemaname='public'"), "the old state has no view")
	kept, _ = testenv.Exchange(t, ex, newer, "three")
	assert.Equal(t, "new", sql(t, l, "SELECT * FROM v"))
	require.NoError(t, ex.Check(t.Context(), kept))
	byHand, err := ex.ByHand(t.Context(), kept)
	require.NoError(t, err)
	testenv.Client(t, l, []byte(strings.Join(byHand, "\n")))
	assert.ErrorContains(t, ex.Check(t.Context(), kept), "is gone")
	assert.Equal(t, "5", sql(t, l, "SELECT old FROM a"))
	assert.Equal(t, "old", sql(t, l, "SELECT unnest(enum_range(NULL::mood))"))
	require.NoError(t, s.Discard(t.Context()), "after the switch there is nothing to discard")
}

// TestSwitchIsWholeOrNot: a switch that fails changes nothing.
func TestSwitchIsWholeOrNot(t *testing.T) {
	l := testenv.Postgres(t)
	sql(t, l, "CREATE TABLE other (x int); CREATE INDEX i ON other (x); CREATE TABLE a (old int)")
	s := stageOne(t, l)
	require.NoError(t, s.Ready(t.Context()))
	state, _, err := s.Seal(t.Context())
	require.NoError(t, err)
	ex, err := NewExchanger(t.Context(), l)
	require.NoError(t, err)
	defer ex.Close()
	err = ex.Exchange(t.Context(), state, "x", func(*database.State) error { return nil })
	require.ErrorContains(t, err, `"i"`, "another table has an index of this name")
	assert.Empty(t, sql(t, l, "SELECT old FROM a"))
	require.NoError(t, ex.Sweep(t.Context(), "abcd", []database.Note{{Kind: database.Type, Name: "span"}}))
	assert.Equal(t, "public", sql(t, l, schemas))
}

func TestRangeTypesMustAgree(t *testing.T) {
	l := testenv.Postgres(t)
	sql(t, l, "CREATE TYPE span AS RANGE (subtype = text)")
	s, err := NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 1})
	require.NoError(t, err)
	err = s.AddObject(t.Context(), database.Object{Kind: database.Type, Name: "span", SQL: `CREATE TYPE "public"."span" AS RANGE (subtype = integer, subtype_opclass = pg_catalog.int4_ops)`, Early: true})
	assert.ErrorContains(t, err, "the database has another type of this name")
	require.NoError(t, s.Discard(t.Context()))
	assert.Equal(t, "text", sql(t, l, "SELECT rngsubtype::regtype FROM pg_range WHERE rngtypid='span'::regtype"), "it is as it was")
}

func TestEndpoints(t *testing.T) {
	for _, c := range []struct {
		l    database.Location
		host string
		port int
	}{
		{database.Location{Host: "h"}, "h", 5432}, {database.Location{Host: "h", Port: 5433}, "h", 5433}, {database.Location{Socket: "/run/x"}, "/run/x", 5432},
		{database.Location{Socket: "/run/x/.s.PGSQL.5433"}, "/run/x", 5433}, {database.Location{Host: "localhost"}, "localhost", 5432},
	} {
		host, port := endpoint(c.l)
		assert.Equal(t, c.host, host)
		assert.Equal(t, c.port, port)
	}
}
