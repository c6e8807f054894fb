package pack

import (
	"fmt"
	"strings"

	"hovix/internal/database"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// readme says how to restore the archive by hand.
func readme(m *manifest.Manifest) []byte {
	var b strings.Builder
	p := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	p("%s", m.Name)
	p("%s\n", strings.Repeat("=", len([]rune(m.Name))))
	p("This archive holds a website of kind %q%s, packed on %s.", m.Kind, at(m.Address), m.Made.Format("2 January 2006 at 15:04 UTC"))
	p("Hovix restores it with one command:\n")
	p("    hovix restore ARCHIVE FOLDER --url NEW-ADDRESS\n")
	p("Hovix is one program file that needs nothing else. The one that packed this archive")
	p("(%s) can be copied from the old host; hovix version says which it is.\n", m.By)
	p("Without Hovix, with tools that every server has:\n")
	p("1. Unpack:       mkdir site && tar --zstd -xf ARCHIVE -C site && cd site")
	p("2. Files:        copy what is in files/ into the new site's folder.")
	if m.Has(site.Settings) {
		p("3. Settings:     copy what is in settings/ there too.%s", secretsLine(m))
	}
	if m.Database != nil {
		switch m.Database.Engine {
		case database.MariaDB:
			p("4. Database:     cat database/*.sql | mariadb --user=USER --password NAME")
		case database.Postgres:
			p("4. Database:     cat database/*.sql | psql --username=USER NAME")
		case database.SQLite:
			p("4. Database:     cat database/*.sql | sqlite3 NEW-FILE")
			if m.Database.Path != "" {
				p("                 The site expects the file at %s", m.Database.Path)
			}
		}
	}
	if m.Address != "" {
		p("5. Address:      the content still says %s. Hovix changes it in", m.Address)
		p("                 the new site: hovix rewrite FOLDER --map %s=NEW-ADDRESS", m.Address)
		p("                 By hand: where NEW is exactly as long as OLD,")
		p("                     sed -i 's#OLD#NEW#g' database/*.sql settings/*")
		p("                 before step 4 does it. Where it is not, values in PHP's serialized format")
		p("                 (s:27:\"http://old.example/picture\";) need their lengths changed too, or the")
		p("                 software loses them.")
	}
	p("\nThe layout:\n")
	p("    hovix/manifest.json   what the archive says of itself")
	p("    hovix/summary.json    what was packed, and what could not be")
	if m.Database != nil {
		p("    database/             one definition for each table, its rows in pieces, then views and triggers")
	}
	p("    files/                the site's folder")
	if m.Has(site.Settings) {
		p("    settings/             its settings, %s secrets", map[bool]string{true: "with their", false: "without"}[m.Secrets])
	}
	return []byte(b.String())
}

func secretsLine(m *manifest.Manifest) string {
	if m.Secrets {
		return " They hold passwords\n                 and keys: set the database login of the new host."
	}
	return " Passwords and keys were taken\n                 out; put in those of the new host."
}

func at(address string) string {
	if address == "" {
		return ""
	}
	return " at " + address
}
