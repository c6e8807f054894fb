package site

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/rewrite"
	"hovix/internal/site/phpconf"
)

// drupal is a Drupal site, of version 8 or later, whose program lies in the
// site's folder or, as Composer puts it, in web/ or docroot/ below.
type drupal struct{}

const drupalSettings = "sites/default/settings.php"

func (drupal) Name() string { return "drupal" }

// drupalRoot gives the folder of the program, relative to the site's: "", "web/"
// or "docroot/".
func drupalRoot(root string) (sub string, ok bool) {
	for _, sub := range []string{"", "web/", "docroot/"} {
		if exists(root, sub+"core/lib/Drupal.php") && exists(root, sub+drupalSettings) {
			return sub, true
		}
	}
	return "", false
}

func exists(root, rel string) bool {
	_, err := os.Stat(filepath.Join(root, filepath.FromSlash(rel)))
	return err == nil
}

func (drupal) Detect(root string) bool {
	_, ok := drupalRoot(root)
	return ok
}

// drupalTables hold what comes back by itself, or ends with a visit.
var drupalTables = []string{"cache_*", "cachetags", "sessions", "watchdog", "flood", "semaphore", "batch", "queue"}

func (drupal) Read(root string) (*Site, error) {
	sub, ok := drupalRoot(root)
	if !ok {
		return nil, fmt.Errorf("%s is not there", drupalSettings)
	}
	s := &Site{LeaveOut: []string{"error_log"}}
	conf, err := phpSettings(s, root, sub+drupalSettings, sub+"core", "vendor", sub+"modules")
	if err != nil {
		return nil, err
	}
	if s.Database, err = drupalDatabase(conf, filepath.Join(root, sub)); err != nil {
		return nil, fmt.Errorf("%s: %w", sub+drupalSettings, err)
	}
	s.Prefix, _ = conf.Var("databases", "default", "default", "prefix")
	files := "sites/default/files"
	if v, ok := conf.Var("settings", "file_public_path"); ok && filepath.IsLocal(v) {
		files = path.Clean(v)
	}
	s.Uploads = []string{sub + files}
	if v, ok := conf.Var("settings", "file_private_path"); ok && v != "" {
		if inside := relative(root, filepath.Join(root, sub, v)); !filepath.IsAbs(v) && filepath.IsLocal(inside) {
			s.Uploads = append(s.Uploads, inside)
		} else if inside := relative(root, v); filepath.IsAbs(v) && filepath.IsLocal(inside) {
			s.Uploads = append(s.Uploads, inside)
		} else {
			s.Notes = append(s.Notes, "Its private files lie in "+v+", outside of the site's folder, and are not carried.")
		}
	}
	for _, c := range []string{"css", "js", "php", "styles"} {
		s.Caches = append(s.Caches, sub+files+"/"+c)
	}
	for _, t := range drupalTables {
		s.Passing = append(s.Passing, s.Prefix+t)
	}
	if src, _, err := ReadOwn(root, sub+"core/lib/Drupal.php"); err == nil {
		if v, err := phpconf.Parse(src); err == nil {
			s.Version, _ = v.Property("VERSION")
		}
	}
	if base, ok := conf.Var("base_url"); ok {
		if a, err := rewrite.ParseAddress(base); err == nil {
			s.addAddress(a)
		}
	}
	s.unsaid = "Drupal does not record its own address; say it in a hovix.toml in the site's folder (kind = \"drupal\", address = \"https://…\"), so that it can be rewritten."
	return s, nil
}

// sqlite gives the absolute path of an SQLite database.
func (t *SettingsTarget) sqlite() string {
	if filepath.IsAbs(t.Database.Path) {
		return t.Database.Path
	}
	return filepath.ToSlash(filepath.Join(t.Root, t.Database.Path))
}

// drupalDatabase reads $databases['default']['default'].
func drupalDatabase(conf *phpconf.File, program string) (database.Location, error) {
	at := func(key string) (string, error) {
		v, ok := conf.Var("databases", "default", "default", key)
		if why := conf.WhyVar("databases", "default", "default", key); !ok && why != "" {
			return "", fmt.Errorf("$databases['default']['default']['%s'] needs %s; name the database with --database", key, why)
		}
		return v, nil
	}
	var l database.Location
	driver, err := at("driver")
	if err != nil {
		return l, err
	}
	switch driver {
	case "mysql":
		l.Engine = database.MariaDB
	case "pgsql":
		l.Engine = database.Postgres
	case "sqlite":
		l.Engine = database.SQLite
		l.Path, err = at("database")
		if !filepath.IsAbs(l.Path) {
			l.Path = filepath.Join(program, l.Path)
		}
		return l, err
	case "":
		return l, fmt.Errorf("$databases['default']['default'] is not set: the site is not installed")
	default:
		return l, fmt.Errorf("the database driver %q is not one that Hovix knows (mysql, pgsql, sqlite)", driver)
	}
	port := ""
	for key, to := range map[string]*string{"database": &l.Name, "username": &l.User, "password": &l.Password, "host": &l.Host, "port": &port, "unix_socket": &l.Socket} {
		if *to, err = at(key); err != nil {
			return l, err
		}
	}
	if port != "" {
		if l.Port, err = strconv.Atoi(port); err != nil {
			return l, fmt.Errorf("the port of the database is %q; a port is a number", port)
		}
	}
	socketHost(&l)
	return l, nil
}

// socketHost takes a folder in the place of PostgreSQL's host as that of a socket.
func socketHost(l *database.Location) {
	if l.Engine == database.Postgres && strings.HasPrefix(l.Host, "/") {
		l.Host, l.Socket = "", l.Host
	}
}

func (drupal) Identifiers() []string { return nil }

var serializedName = regexp.MustCompile(`s:4:"name";s:\d+:"([^"]*)"`)

func (drupal) Ask(ctx context.Context, s *Site, r database.Reader) error {
	rows, err := r.Strings(ctx, "SELECT data FROM "+ident(r, s.Prefix+"config")+" WHERE name='system.site'")
	if err != nil {
		return fmt.Errorf("the database has no config table under the prefix %q that the settings name: %w", s.Prefix, err)
	}
	if len(rows) > 0 {
		data := rows[0][0]
		if r.Info().Engine == database.Postgres { // as bytea prints
			data = decodeHex(data)
		}
		if m := serializedName.FindStringSubmatch(data); m != nil {
			s.Name = m[1]
		}
	}
	return nil
}

// ident quotes a name for the reader's engine.
func ident(r database.Reader, name string) string {
	return sqltext.QuoteName(name, r.Info().Engine.Dialect())
}

func (drupal) Blank(files Files) error {
	for rel := range files {
		if !strings.HasSuffix(rel, drupalSettings) {
			continue
		}
		err := files.erase(rel, "var databases * * password", "var databases * * * password", "var settings hash_salt", "var databases password")
		if err != nil {
			return err
		}
	}
	return files.blankSiteFile()
}

func (drupal) Write(files Files, t SettingsTarget) error {
	if err := files.writeSiteFile(t); err != nil {
		return err
	}
	for rel := range files {
		if !strings.HasSuffix(rel, drupalSettings) {
			continue
		}
		return files.change(rel, func(conf *phpconf.File) error { return drupalWrite(conf, rel, t) })
	}
	return nil
}

func drupalWrite(conf *phpconf.File, rel string, t SettingsTarget) error {
	salt := t.secret(conf, rel, rand.Text()+rand.Text(), func(old *phpconf.File) (string, bool) { return old.Var("settings", "hash_salt") })
	if err := conf.SetVar("settings", salt, "hash_salt"); err != nil {
		return err
	}
	l := t.Database
	if l.IsZero() {
		return nil
	}
	set := map[string]string{"database": l.Name, "username": l.User, "password": l.Password, "host": l.Host, "prefix": t.Prefix}
	if l.Engine == database.SQLite {
		set = map[string]string{"database": t.sqlite(), "prefix": t.Prefix}
	}
	if l.Host == "" && l.Engine != database.SQLite {
		set["host"] = "localhost"
	}
	if l.Port != 0 {
		set["port"] = strconv.Itoa(l.Port)
	} else if v, ok := conf.Var("databases", "default", "default", "port"); ok && v != "" {
		set["port"] = strconv.Itoa(l.Engine.DefaultPort())
	}
	switch _, has := conf.Var("databases", "default", "default", "unix_socket"); {
	case l.Socket != "" && l.Engine == database.Postgres:
		set["host"] = l.Socket // a folder in the place of a host
	case l.Socket != "" || has:
		set["unix_socket"] = l.Socket
	}
	for _, key := range []string{"database", "username", "password", "host", "port", "unix_socket", "prefix"} {
		v, ok := set[key]
		if !ok {
			continue
		}
		if err := conf.SetVar("databases", v, "default", "default", key); err != nil {
			return err
		}
	}
	return nil
}

// Move gives patterns of trusted hosts, which are regular expressions, the new host: the site
// answers nobody else.
func (drupal) Move(files Files, from, to rewrite.Address) error {
	for rel, content := range files {
		if !strings.HasSuffix(rel, drupalSettings) {
			continue
		}
		old, host := regexp.QuoteMeta(strings.TrimPrefix(from.Host, "www.")), regexp.QuoteMeta(strings.TrimPrefix(to.Host, "www."))
		pattern := regexp.MustCompile(`(\^(?:www\\\.|\(?[^'"]*\)\??)?)` + regexp.QuoteMeta(old) + `(\$)`)
		files[rel] = pattern.ReplaceAllFunc(content, func(m []byte) []byte {
			return bytes.Replace(m, []byte(old), []byte(host), 1)
		})
	}
	return nil
}

func (drupal) Touches(string, []string, []rewrite.Mapping) []Touch { return nil }

func (drupal) Words() []string { return nil }

func (drupal) Skips(string, []string) []Skip { return nil }

func (drupal) Accounts(ctx context.Context, prefix string, r database.Reader) ([]Account, error) {
	q := func(t string) string { return ident(r, prefix+t) }
	return accounts(ctx, r, "SELECT u.name, u.name, u.mail FROM "+q("users_field_data")+" u WHERE u.status=1 AND (u.uid=1 OR EXISTS (SELECT 1 FROM "+q("user__roles")+" x WHERE x.entity_id=u.uid AND x.roles_target_id='administrator')) ORDER BY u.uid")
}

// accounts runs a query of login, name and e-mail address.
func accounts(ctx context.Context, r database.Reader, query string, args ...any) (out []Account, err error) {
	rows, err := r.Strings(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("list the administrators: %w", err)
	}
	for _, row := range rows {
		out = append(out, Account{row[0], row[1], row[2]})
	}
	return out, nil
}

func (drupal) Reprefix(string, string, []string) []Touch { return nil }
