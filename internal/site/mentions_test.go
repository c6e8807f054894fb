package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOldMentions(t *testing.T) {
	src := &Source{Database: "museum_db", Host: "sql.old.example", Root: "/srv/museum"}
	for name, c := range map[string]struct {
		file, text string
		want       []string
	}{
		"a title of that name":     {"a.ini", "title = museum_db\n", nil},
		"a database":               {"a.ini", "database = museum_db\n", []string{"the database museum_db"}},
		"a comment":                {"a.ini", "; database = museum_db\n", nil},
		"a longer name":            {"a.ini", "database = museum_db2\n", nil},
		"an address of a database": {"a.yml", "url: mysql://u:p@sql.old.example/museum_db?x=1\n", []string{"the database museum_db", "the database server sql.old.example"}},
		"a program":                {"a.php", "<?php // 'museum_db'\n$db = new PDO('mysql:host=x;dbname=museum_db');", []string{"the database museum_db"}},
		"a folder":                 {"a.json", `{"path": "/srv/museum/x", "other": "/srv/museums"}`, []string{"the folder /srv/museum"}},
	} {
		assert.Equal(t, c.want, src.OldMentions(c.file, []byte(c.text)), name)
	}
}
