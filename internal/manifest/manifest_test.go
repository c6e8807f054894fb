package manifest

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
)

// FuzzParse: whatever a manifest says, its paths lead into the site, and what is written
// of it is read again as the same.
func FuzzParse(f *testing.F) {
	sound, err := Encode(&Manifest{Format: Format, Kind: "plain", Settings: []string{"hovix.toml"}, Uploads: []string{"up/"}, Database: &Database{Engine: database.SQLite, Path: "data/a.sqlite"}})
	require.NoError(f, err)
	f.Add(sound)
	for _, s := range []string{
		`{"format":1,"settings":["../../etc/passwd"]}`, `{"format":1,"database":{"path":"/var/lib/other.sqlite"}}`, `{"format":1,"uploads":["a/../../b"]}`,
		`{"format":1,"caches":["C:\\x","a\u0000b"]}`, `{"format":2}`, `{"format":1,"root":"\u001b]0;x\u0007"}`, `[[[[[[[[[[[[`, `{"format":1,"FORMAT":1,"Settings":["."]}`,
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		m, err := Parse(content)
		if err != nil {
			return
		}
		for _, list := range [][]string{m.Settings, m.Uploads, m.Caches} {
			for _, p := range list {
				assert.True(t, filepath.IsLocal(p), "%q", p)
			}
		}
		if m.Database != nil && m.Database.Path != "" {
			assert.True(t, filepath.IsLocal(m.Database.Path), "%q", m.Database.Path)
		}
		text, err := Encode(m)
		require.NoError(t, err)
		again, err := Parse(text)
		require.NoError(t, err, "%s", text)
		twice, err := Encode(again)
		require.NoError(t, err)
		assert.Equal(t, string(text), string(twice))
	})
}
