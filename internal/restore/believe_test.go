package restore

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/annex"
	"hovix/internal/database"
)

// FuzzJournal: whatever is written in a journal or an undo point that is believed, its
// names stay in the annex, the site, and among what Hovix has put aside in a database, and
// its folders lie above the target.
func FuzzJournal(f *testing.F) {
	const target = "/srv/a/www"
	sound := journal{ID: "0123abcd", What: "restore", Step: switching, Parents: []string{"/srv/a", "/srv"}, Point: "00002-20240101-000000-0123abcd",
		Folder: 7, Shared: "data/a.sqlite", Database: "mariadb://u@h/x", Stamp: "240101_000000_abcd", State: &database.State{Tables: map[string]string{"a": "_hovix_0123_a"}},
		Notes: []database.Note{{Kind: database.Type, Name: "t"}}, Record: &Point{ID: "00002-20240101-000000-0123abcd"}}
	b, err := json.Marshal(sound)
	require.NoError(f, err)
	require.NoError(f, sound.check(annex.Of(target)))
	f.Add(b)
	for _, change := range [][2]string{
		{"00002-20240101-000000-0123abcd", "../../etc"}, {"/srv/a", "/etc"}, {"/srv/a", "/srv/a/../../etc"}, {"/srv/a", target}, {"data/a.sqlite", "../x"}, {"data/a.sqlite", "/x"},
		{"240101_000000_abcd", "x`; DROP TABLE a; --"}, {"_hovix_0123_a", "users"}, {"mariadb://u@h/x", "sqlite:/etc/x"}, {`"Type"`, `"table"`}, {"0123abcd", "0123ABCD"},
	} {
		f.Add([]byte(strings.ReplaceAll(string(b), change[0], change[1])))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		j := &journal{}
		if json.Unmarshal(content, j) != nil || j.check(annex.Of(target)) != nil {
			return
		}
		names := []string{j.Point, j.ID, j.Stamp}
		states := []*database.State{j.State, j.Aside, j.Back}
		if j.Record != nil {
			names, states = append(names, j.Record.ID), append(states, j.Record.State)
		}
		for _, n := range names {
			assert.True(t, filepath.IsLocal(n) && !strings.ContainsAny(n, "/\\ '\"`;"), "%q", n)
		}
		for _, dir := range j.Parents {
			assert.True(t, dir != target && strings.HasPrefix(target, strings.TrimSuffix(filepath.Clean(dir), "/")+"/"), "%q", dir)
		}
		assert.True(t, j.Shared == "" || filepath.IsLocal(j.Shared), "%q", j.Shared)
		for _, s := range states {
			if s == nil {
				continue
			}
			for name, as := range s.Tables {
				assert.True(t, as == name || strings.HasPrefix(as, "_hovix_"), "%q", as)
			}
			for _, as := range s.Schemas {
				assert.True(t, strings.HasPrefix(as, "_hovix_"), "%q", as)
			}
		}
	})
}
