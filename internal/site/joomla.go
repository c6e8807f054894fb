package site

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/rewrite"
	"hovix/internal/site/phpconf"
)

// joomla is a Joomla site, of version 4 or later.
type joomla struct{}

const joomlaSettings = "configuration.php"

func (joomla) Name() string { return "joomla" }

func (joomla) Detect(root string) bool {
	return exists(root, joomlaSettings) && exists(root, "libraries/src/Version.php") && exists(root, "administrator")
}

func (joomla) Read(root string) (*Site, error) {
	s := &Site{Uploads: []string{"images"}, Caches: []string{"cache", "administrator/cache", "tmp"}, LeaveOut: []string{"error_log"}}
	conf, err := phpSettings(s, root, joomlaSettings, "libraries", "administrator", "components", "plugins")
	if err != nil {
		return nil, err
	}
	if s.Database, err = joomlaDatabase(conf); err != nil {
		return nil, fmt.Errorf("%s: %w", joomlaSettings, err)
	}
	s.Prefix, _ = conf.Property("dbprefix")
	s.Name, _ = conf.Property("sitename")
	for property, list := range map[string]*[]string{"tmp_path": &s.Caches, "log_path": &s.Caches} {
		if v, ok := conf.Property(property); ok {
			if inside := relative(root, v); filepath.IsLocal(inside) && inside != "." {
				*list = append(*list, inside)
			}
		}
	}
	if live, ok := conf.Property("live_site"); ok && live != "" {
		if a, err := rewrite.ParseAddress(live); err == nil {
			s.addAddress(a)
		}
	}
	s.unsaid = "Joomla does not record its own address unless live_site is set; say it in a hovix.toml in its folder (kind = \"joomla\", address = \"https://…\"), so that it can be rewritten."
	s.Passing = []string{s.Prefix + "session"}
	if src, _, err := ReadOwn(root, "libraries/src/Version.php"); err == nil {
		if v, err := phpconf.Parse(src); err == nil {
			var parts []string
			for _, p := range []string{"MAJOR_VERSION", "MINOR_VERSION", "PATCH_VERSION"} {
				if n, ok := v.Property(p); ok {
					parts = append(parts, n)
				}
			}
			s.Version = strings.Join(parts, ".")
		}
	}
	return s, nil
}

func joomlaDatabase(conf *phpconf.File) (database.Location, error) {
	var l database.Location
	kind, _ := conf.Property("dbtype")
	switch kind {
	case "mysqli", "mysql":
		l.Engine = database.MariaDB
	case "pgsql", "postgresql":
		l.Engine = database.Postgres
	default:
		return l, fmt.Errorf("the database type %q is not one that Hovix knows (mysqli, mysql, pgsql)", kind)
	}
	for _, c := range []struct {
		name string
		to   *string
	}{{"db", &l.Name}, {"user", &l.User}, {"password", &l.Password}, {"host", &l.Host}} {
		v, ok := conf.Property(c.name)
		if why := conf.WhyProperty(c.name); !ok && why != "" {
			return l, fmt.Errorf("$%s needs %s; name the database with --database", c.name, why)
		}
		*c.to = v
	}
	splitHost(&l)
	socketHost(&l)
	return l, nil
}

func (joomla) Identifiers() []string { return nil }

func (joomla) Ask(ctx context.Context, s *Site, r database.Reader) error {
	_, err := r.Strings(ctx, "SELECT 1 FROM "+ident(r, s.Prefix+"extensions")+" WHERE 1=0")
	if err != nil {
		return fmt.Errorf("the database has no extensions table under the prefix %q that the settings name: %w", s.Prefix, err)
	}
	return nil
}

func (joomla) Blank(files Files) error {
	if err := files.erase(joomlaSettings, "property password", "property secret", "property smtppass", "property redis_server_auth", "property session_redis_server_auth", "property proxy_pass"); err != nil {
		return err
	}
	return files.blankSiteFile()
}

func (joomla) Write(files Files, t SettingsTarget) error {
	if err := files.writeSiteFile(t); err != nil {
		return err
	}
	return files.change(joomlaSettings, func(conf *phpconf.File) error { return joomlaWrite(conf, t) })
}

func joomlaWrite(conf *phpconf.File, t SettingsTarget) error {
	set := [][2]string{{"secret", t.secret(conf, joomlaSettings, rand.Text()[:16], func(old *phpconf.File) (string, bool) { return old.Property("secret") })}}
	if l := t.Database; !l.IsZero() {
		host := joinHost(l)
		if l.Engine == database.Postgres {
			host = l.Host
			switch {
			case l.Socket != "":
				host = l.Socket
			case l.Port != 0:
				host = net.JoinHostPort(host, strconv.Itoa(l.Port))
			}
		}
		set = append(set, [][2]string{{"host", host}, {"db", l.Name}, {"user", l.User}, {"password", l.Password}, {"dbprefix", t.Prefix}}...)
	}
	for _, kv := range set {
		if err := conf.SetProperty(kv[0], kv[1]); err != nil {
			return err
		}
	}
	return nil
}

func (joomla) Touches(string, []string, []rewrite.Mapping) []Touch { return nil }

func (joomla) Words() []string { return []string{"trash"} }

// Skips are articles in the trash, whose state is -2.
func (joomla) Skips(prefix string, tables []string) []Skip {
	if !slices.Contains(tables, prefix+"content") {
		return nil
	}
	return []Skip{{"trash", prefix + "content", "state=-2", "trash"}}
}

// Accounts are those of the group of super users, whose number is 8.
func (joomla) Accounts(ctx context.Context, prefix string, r database.Reader) ([]Account, error) {
	q := func(t string) string { return ident(r, prefix+t) }
	return accounts(ctx, r, "SELECT u.username, u.name, u.email FROM "+q("users")+" u JOIN "+q("user_usergroup_map")+" m ON m.user_id=u.id WHERE m.group_id=8 AND u.block=0 ORDER BY u.id")
}

func (joomla) Reprefix(string, string, []string) []Touch { return nil }
