package site

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzSiteFile: a site file of any content is read or refused, and so is the site of it.
func FuzzSiteFile(f *testing.F) {
	for _, s := range []string{
		"address = \"http://a.example\"\n", "kind = \"plain\"\ndatabase = \"sqlite:../../x\"\n[login]\nfile = \"../x.json\"\n", "[[pages]]\ntable = \"a\"\naddress = \"{x}\"\nonly = \"a = 1\"\n",
		strings.Repeat("[", 50), "a." + strings.Repeat("b.", 50) + "c = 1", "uploads = [\"../up\", \"/etc\"]", "settings = [\"\"\"\na\"\"\"]", "x = {a = [{b = [{c = 1}]}]}", "database = \"mariadb://u:p@h:99999/x?socket=/x\"",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		root := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(root, SiteFile), content, 0o600))
		s, err := Open(root)
		if err != nil {
			return
		}
		require.NotNil(t, s)
		for _, list := range [][]string{s.Uploads, s.Settings, s.Caches} {
			for _, p := range list {
				require.True(t, filepath.IsLocal(p), "%q", p)
			}
		}
	})
}
