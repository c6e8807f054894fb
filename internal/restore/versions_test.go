package restore

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

func TestCompareServer(t *testing.T) {
	for _, c := range []struct{ product, from, hereProduct, here, want string }{
		{"MariaDB", "10.11.6", "MariaDB", "10.11.2", ""},
		{"MariaDB", "10.11.6", "MariaDB", "10.3.39", "(MariaDB 10.3.39) is older"},
		{"MariaDB", "10.11.6", "MariaDB", "11.4.2", "(MariaDB 11.4.2) is newer"},
		{"MySQL", "8.0.36-0ubuntu0.22.04.1", "MariaDB", "10.11.6", "comes from MySQL 8.0.36-0ubuntu0.22.04.1 and goes to MariaDB 10.11.6"},
		{"PostgreSQL", "15.8", "PostgreSQL", "15.3", ""},
		{"PostgreSQL", "16beta1", "PostgreSQL", "15.3", "is older"},
		{"MariaDB", "of unknown version", "MariaDB", "10.3.39", ""},
	} {
		p := &Plan{Manifest: &manifest.Manifest{Database: &manifest.Database{Engine: database.MariaDB, Product: c.product, Version: c.from}}}
		p.compareServer(database.Info{Product: c.hereProduct, Version: c.here})
		if c.want == "" {
			assert.Empty(t, p.Notes)
			continue
		}
		require.Len(t, p.Notes, 1, c)
		assert.Contains(t, p.Notes[0], c.want)
	}
}

// TestCompareRuntime puts a stand-in for PHP on the path.
func TestCompareRuntime(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("PATH", dir)
	note := func(php, needs, was string) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "php"), []byte("#!/bin/sh\necho '"+php+"' | { read v; printf %s \"$v\"; }\n"), 0o755))
		p := &Plan{Manifest: &manifest.Manifest{Requires: map[string]string{"php": needs}, Runtime: map[string]string{"php": was}}}
		p.compareRuntime(context.Background())
		if len(p.Notes) == 0 {
			return ""
		}
		return p.Notes[0]
	}
	assert.Contains(t, note("not PHP", "7.4", ""), "no PHP was found on the command line here")
	assert.Contains(t, note("7.2.34", "7.4", "8.2.1"), "needs PHP 7.4 or newer, and the command line here has PHP 7.2.34")
	assert.Contains(t, note("7.4.33", "7.4", "8.2.1"), "extensions that need the newer one")
	assert.Contains(t, note("8.3.1", "", "7.4.33"), "extensions that are older than it")
	assert.Empty(t, note("8.2.7", "7.4", "8.2.20"))
	assert.Empty(t, note("8.2.7", "", ""))
}

// TestDropIns: a file whose service does not answer, or that names the old folder,
// is put out of use; one whose service answers stays.
func TestDropIns(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, open, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, shut, err := net.SplitHostPort(closed.Addr().String())
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	kind, err := site.KindOf("wordpress")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		file, content, port string
		off                 string
	}{
		"answers":          {"object-cache.php", "<?php $r = new Redis();", open, ""},
		"does not answer":  {"object-cache.php", "<?php $r = new Redis();", shut, "no Redis answers at 127.0.0.1:" + shut},
		"something else":   {"object-cache.php", "<?php // in files", shut, ""},
		"names its folder": {"advanced-cache.php", "<?php include '/srv/old/wp-content/plugins/x.php';", shut, "it names the old folder /srv/old"},
		"names none":       {"advanced-cache.php", "<?php include __DIR__ . '/plugins/x.php';", shut, ""},
	} {
		dir := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(dir, "wp-content"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-content", c.file), []byte(c.content), 0o644))
		folder, err := fsys.OpenHandle(dir)
		require.NoError(t, err)
		defer folder.Close()
		r := &run{kind: kind, m: &manifest.Manifest{Root: "/srv/old"}, plan: &Plan{Target: "/srv/new"}, res: &Result{}, files: &fileStage{dir: folder},
			settings: map[string]settingsFile{"wp-config.php": {archive.Entry{}, []byte("<?php define('WP_REDIS_HOST', '127.0.0.1'); define('WP_REDIS_PORT', " + c.port + ");")}}}
		require.NoError(t, r.dropIns(context.Background()))
		_, err = os.Stat(filepath.Join(dir, "wp-content", c.file))
		if c.off == "" {
			assert.NoError(t, err, name)
			assert.Empty(t, r.res.Touched, name)
			continue
		}
		assert.ErrorIs(t, err, os.ErrNotExist, name)
		require.Len(t, r.res.Touched, 1, name)
		assert.Contains(t, r.res.Touched[0], c.off)
	}
}
