package site

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"html"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/rewrite"
	"hovix/internal/site/phpconf"
)

// wordpress is a single WordPress site.
type wordpress struct{}

const wpConfig = "wp-config.php"

// wpSecrets are the constants that only the site itself may know.
var wpSecrets = []string{"AUTH_KEY", "SECURE_AUTH_KEY", "LOGGED_IN_KEY", "NONCE_KEY", "AUTH_SALT", "SECURE_AUTH_SALT", "LOGGED_IN_SALT", "NONCE_SALT"}

func (wordpress) Name() string { return "wordpress" }

func (wordpress) Detect(root string) bool {
	for _, f := range []string{wpConfig, "wp-includes/version.php"} {
		if _, err := os.Stat(filepath.Join(root, f)); err != nil {
			return false
		}
	}
	return true
}

func (wordpress) Read(root string) (*Site, error) {
	file := filepath.Join(root, wpConfig)
	s := &Site{Prefix: "wp_", Uploads: []string{"wp-content/uploads"},
		Caches:   []string{"wp-content/cache", "wp-content/upgrade"},
		LeaveOut: []string{"wp-content/debug.log", "error_log"}}
	conf, err := phpSettings(s, root, wpConfig, "wp-settings.php", "wp-includes", "wp-admin", "wp-content")
	if err != nil {
		return nil, err
	}
	if p, ok := conf.Var("table_prefix"); ok {
		s.Prefix = p
	}
	s.Keep = []string{s.Prefix + "posts.guid"}
	if s.Database, err = wpDatabase(conf); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if v, ok := conf.Const("MULTISITE"); ok && (strings.EqualFold(v, "true") || v == "1") {
		s.network = true
	}
	for _, name := range []string{"WP_HOME", "WP_SITEURL"} {
		if v, ok := conf.Const(name); ok {
			if a, err := rewrite.ParseAddress(v); err == nil {
				s.addAddress(a)
			}
		}
	}
	if src, _, err := ReadOwn(root, "wp-includes/version.php"); err == nil {
		if v, err := phpconf.Parse(src); err == nil {
			s.Version, _ = v.Var("wp_version")
			s.schema, _ = v.Var("wp_db_version")
			if php, ok := v.Var("required_php_version"); ok {
				s.Requires = map[string]string{"php": php}
			}
		}
	}
	return s, nil
}

// addAddress takes the first as the site's address and others as further ones.
func (s *Site) addAddress(a rewrite.Address) {
	switch {
	case s.Address.IsZero():
		s.Address = a
	case s.Address != a:
		for _, o := range s.Others {
			if o == a {
				return
			}
		}
		s.Others = append(s.Others, a)
	}
}

func wpDatabase(conf *phpconf.File) (database.Location, error) {
	l := database.Location{Engine: database.MariaDB}
	for _, c := range []struct {
		name string
		to   *string
	}{{"DB_NAME", &l.Name}, {"DB_USER", &l.User}, {"DB_PASSWORD", &l.Password}, {"DB_HOST", &l.Host}} {
		v, ok := conf.Const(c.name)
		if why := conf.WhyConst(c.name); !ok && why != "" {
			return l, fmt.Errorf("%s needs %s; name the database with --database", c.name, why)
		}
		if !ok {
			return l, fmt.Errorf("%s is not defined", c.name)
		}
		*c.to = v
	}
	splitHost(&l)
	return l, nil
}

// splitHost takes apart what DB_HOST may hold: host, host:port, host:/socket.
func splitHost(l *database.Location) {
	host, rest, ok := strings.Cut(l.Host, ":")
	switch {
	case !ok:
	case strings.HasPrefix(rest, "/"):
		l.Host, l.Socket = host, rest
	case strings.Count(l.Host, ":") == 1:
		if p, err := strconv.Atoi(rest); err == nil {
			l.Host, l.Port = host, p
		}
	default: // an IPv6 number, perhaps in brackets with a port
		if h, p, err := net.SplitHostPort(l.Host); err == nil {
			l.Host = h
			l.Port, _ = strconv.Atoi(p)
		}
	}
}

// joinHost writes what splitHost reads.
func joinHost(l database.Location) string {
	host := l.Host
	if host == "" {
		host = "localhost"
	}
	switch {
	case l.Socket != "":
		return "localhost:" + l.Socket // PHP uses a socket with this name only
	case l.Port != 0:
		return net.JoinHostPort(host, strconv.Itoa(l.Port))
	}
	return host
}

// Identifiers are those by which feed readers know an article.
func (wordpress) Identifiers() []string { return []string{"*posts.guid"} }

func (wordpress) Ask(ctx context.Context, s *Site, r database.Reader) error {
	rows, err := r.Strings(ctx, "SELECT option_name, option_value FROM "+sqltext.QuoteName(s.Prefix+"options", sqltext.MySQL)+
		" WHERE option_name IN ('home','siteurl','blogname','db_version')")
	if err != nil {
		return fmt.Errorf("the database has no options table under the prefix %q that the settings name: %w", s.Prefix, err)
	}
	options := map[string]string{}
	for _, row := range rows {
		options[row[0]] = row[1]
	}
	if n := options["blogname"]; n != "" {
		s.Name = html.UnescapeString(n) // it is stored as pages show it
	}
	s.compareSchema(options["db_version"])
	for _, o := range []string{"home", "siteurl"} {
		if a, err := rewrite.ParseAddress(options[o]); err == nil {
			s.addAddress(a)
		}
	}
	if s.network {
		return wordpress{}.askNetwork(ctx, s, r)
	}
	return nil
}

// compareSchema notes where the database is not as the code expects it.
func (s *Site) compareSchema(is string) {
	code, err1 := strconv.Atoi(s.schema)
	database, err2 := strconv.Atoi(is)
	switch {
	case err1 != nil || err2 != nil || code == database:
	case code > database:
		s.Notes = append(s.Notes, fmt.Sprintf("The code (%s) is newer than the database's tables (%d, it expects %d): it asks to update them at the next login of an administrator.", s.Version, database, code))
	default:
		s.Notes = append(s.Notes, fmt.Sprintf("The database's tables (%d) are newer than the code (%s, which knows %d): the code was replaced by an older one.", database, s.Version, code))
	}
}

// DropIns are files that take over a part of WordPress by their mere presence in
// wp-content: a cache of objects needs its service, and a cache of pages or
// another database layer often names the folder of its plugin.
func (wordpress) DropIns(files Files) (list []DropIn) {
	conf, err := files.php(wpConfig)
	if err != nil {
		return nil
	}
	constant := func(fallback string, names ...string) string {
		for _, n := range names {
			if v, ok := conf.Const(n); ok && v != "" {
				return v
			}
		}
		return fallback
	}
	redis := DropIn{File: "wp-content/object-cache.php", Mentions: "redis", Service: "Redis", Network: "tcp",
		Address: net.JoinHostPort(constant("127.0.0.1", "WP_REDIS_HOST"), constant("6379", "WP_REDIS_PORT"))}
	if path := constant("", "WP_REDIS_PATH"); path != "" || strings.HasPrefix(constant("", "WP_REDIS_HOST"), "/") {
		redis.Network, redis.Address = "unix", cmp.Or(path, constant("", "WP_REDIS_HOST"))
	}
	memcached := DropIn{File: "wp-content/object-cache.php", Mentions: "memcache", Service: "Memcached", Network: "tcp", Address: "127.0.0.1:11211"}
	if v, ok := conf.Var("memcached_servers", "default", "0"); ok {
		memcached.Address = v
	} else if v, ok := conf.Var("memcached_servers", "0"); ok {
		memcached.Address = v
	}
	return append(list, redis, memcached, DropIn{File: "wp-content/advanced-cache.php"}, DropIn{File: "wp-content/db.php"}, DropIn{File: "wp-content/object-cache.php"})
}

func (wordpress) Blank(files Files) error {
	var names []string
	for _, name := range append([]string{"DB_PASSWORD", "WP_REDIS_PASSWORD", "FTP_PASS", "SMTP_PASS*"}, wpSecrets...) {
		names = append(names, "const "+name)
	}
	return errors.Join(files.erase(wpConfig, names...), files.blankSiteFile())
}

// Write sets the database login, and secrets: the target's own, so that logins
// there stay valid, or fresh ones.
func (wordpress) Write(files Files, t SettingsTarget) error {
	if err := files.writeSiteFile(t); err != nil {
		return err
	}
	return files.change(wpConfig, func(conf *phpconf.File) error { return wpWrite(conf, t) })
}

func wpWrite(conf *phpconf.File, t SettingsTarget) error {
	var set [][2]string
	if !t.Database.IsZero() {
		set = [][2]string{{"DB_NAME", t.Database.Name}, {"DB_USER", t.Database.User}, {"DB_PASSWORD", t.Database.Password}, {"DB_HOST", joinHost(t.Database)}}
	}
	for _, name := range wpSecrets {
		v := t.secret(conf, wpConfig, rand.Text()+rand.Text(), func(old *phpconf.File) (string, bool) { return old.Const(name) })
		set = append(set, [2]string{name, v})
	}
	if !t.Address.IsZero() { // of networks
		for _, kv := range [][2]string{{"DOMAIN_CURRENT_SITE", t.Address.Authority()}, {"PATH_CURRENT_SITE", t.Address.Path + "/"}} {
			if _, ok := conf.Const(kv[0]); ok {
				set = append(set, kv)
			}
		}
	}
	for _, kv := range set {
		if err := conf.SetConst(kv[0], kv[1]); err != nil {
			return err
		}
	}
	if t.Prefix != "" {
		if err := conf.SetVar("table_prefix", t.Prefix); err != nil {
			return err
		}
	}
	return nil
}

// Touches let the routing rules be made anew at the first visit, and forget what
// was kept for a while.
func (wordpress) Touches(prefix string, tables []string, maps []rewrite.Mapping) (touches []Touch) {
	for _, t := range []string{"blogs", "site"} {
		if len(maps) > 0 && slices.Contains(tables, prefix+"blogs") {
			touches = append(touches, Touch{prefix + t, wpMoveDomains(maps), "the sites of the network have their new addresses"})
		}
	}
	for _, p := range wpBlogs(prefix, tables) {
		touches = append(touches,
			Touch{p + "options", "DELETE FROM %s WHERE option_name='rewrite_rules'", "routing rules are made anew at the first visit"},
			Touch{p + "options", "DELETE FROM %s WHERE " + wpTemporary, "temporary records are forgotten"})
	}
	return touches
}

// Reprefix renames the roles and what users have by site: their names begin with the prefix.
func (wordpress) Reprefix(old, to string, tables []string) (touches []Touch) {
	q := func(s string) string { return string(sqltext.AppendMySQLString(nil, []byte(s), false)) }
	for _, p := range wpBlogs(old, tables) {
		n := to + strings.TrimPrefix(p, old)
		touches = append(touches, Touch{p + "options", "UPDATE %s SET option_name=" + q(n+"user_roles") + " WHERE option_name=" + q(p+"user_roles"), ""})
	}
	if slices.Contains(tables, old+"usermeta") {
		touches = append(touches, Touch{old + "usermeta", fmt.Sprintf("UPDATE %%s SET meta_key=CONCAT(%s,SUBSTRING(meta_key,%d)) WHERE LEFT(meta_key,%d)=%s", q(to), len(old)+1, len(old), q(old)), ""})
	}
	return touches
}

// wpMoveDomains gives the statement that moves the domains and paths of the
// sites of a network, all at once.
func wpMoveDomains(maps []rewrite.Mapping) string {
	q := func(s string) string { return string(sqltext.AppendMySQLString(nil, []byte(s), false)) }
	var rows []string
	for _, m := range maps {
		rows = append(rows, fmt.Sprintf("SELECT %s AS od, %s AS op, %s AS nd, %s AS np", q(m.Old.Authority()), q(m.Old.Path+"/"), q(m.New.Authority()), q(m.New.Path+"/")))
	}
	return "UPDATE %s t JOIN (" + strings.Join(rows, " UNION ALL ") + ") m ON CONVERT(t.domain USING utf8mb4)=CONVERT(m.od USING utf8mb4) AND CONVERT(t.path USING utf8mb4)=CONVERT(m.op USING utf8mb4) SET t.domain=m.nd, t.path=m.np"
}

// askNetwork adds the addresses of the sites of a network.
func (wordpress) askNetwork(ctx context.Context, s *Site, r database.Reader) error {
	rows, err := r.Strings(ctx, "SELECT domain, path, blog_id FROM "+ident(r, s.Prefix+"blogs")+" ORDER BY blog_id")
	if err != nil {
		return fmt.Errorf("the settings say that it is a network of sites, but the list of them cannot be read: %w", err)
	}
	for _, row := range rows {
		if a, err := rewrite.ParseAddress(cmp.Or(s.Address.Scheme, "http") + "://" + row[0] + row[1]); err == nil {
			s.addAddress(a)
		}
		if row[2] != "1" {
			s.Keep = append(s.Keep, s.Prefix+row[2]+"_posts.guid")
		}
	}
	s.Moved = []string{s.Prefix + "blogs.domain", s.Prefix + "site.domain"}
	s.Notes = append(s.Notes, fmt.Sprintf("It is a network of %d sites, which is carried as one whole.", len(rows)))
	return nil
}

// wpTemporary is the condition of options that are kept for a while only.
const wpTemporary = `option_name LIKE '!_transient!_%' ESCAPE '!' OR option_name LIKE '!_site!_transient!_%' ESCAPE '!'`

// wpBlogs gives the prefixes of the tables of all sites of a network, which of a
// single site is one.
func wpBlogs(prefix string, tables []string) (prefixes []string) {
	for _, t := range tables {
		rest, ok := strings.CutPrefix(t, prefix)
		if number, isOptions := strings.CutSuffix(rest, "options"); ok && isOptions && strings.Trim(number, "0123456789_") == "" {
			prefixes = append(prefixes, prefix+number)
		}
	}
	return prefixes
}

func (wordpress) Words() []string { return []string{"spam", "trash", "revisions"} }

func (wordpress) Skips(prefix string, tables []string) (skips []Skip) {
	add := func(name, table, where, why string) {
		if slices.Contains(tables, table) {
			skips = append(skips, Skip{name, table, where, why})
		}
	}
	for _, p := range wpBlogs(prefix, tables) {
		of := func(column, table, key, where string) string {
			return column + " IN (SELECT " + key + " FROM " + sqltext.QuoteName(p+table, sqltext.MySQL) + " WHERE " + where + ")"
		}
		add("", p+"options", wpTemporary, "temporary records")
		const trashed = "post_status='trash'"
		for _, c := range [][2]string{{"spam", "comment_approved='spam'"}, {"trash", "(comment_approved IN ('trash','post-trashed') OR " + of("comment_post_ID", "posts", "ID", trashed) + ")"}} {
			add(c[0], p+"comments", c[1], c[0])
			add(c[0], p+"commentmeta", of("comment_id", "comments", "comment_ID", c[1]), c[0])
		}
		for _, c := range [][2]string{{"trash", "(" + trashed + " OR post_type='revision' AND " + of("post_parent", "posts", "ID", trashed) + ")"}, {"revisions", "post_type='revision'"}} {
			add(c[0], p+"posts", c[1], c[0])
			add(c[0], p+"postmeta", of("post_id", "posts", "ID", c[1]), c[0])
			add(c[0], p+"term_relationships", of("object_id", "posts", "ID", c[1]), c[0])
		}
	}
	return skips
}

func (wordpress) Accounts(ctx context.Context, prefix string, r database.Reader) ([]Account, error) {
	q := func(t string) string { return ident(r, prefix+t) }
	return accounts(ctx, r, "SELECT u.user_login, u.display_name, u.user_email FROM "+q("users")+" u JOIN "+q("usermeta")+
		" m ON m.user_id=u.ID WHERE m.meta_key=? AND m.meta_value LIKE '%\"administrator\"%' ORDER BY u.ID", prefix+"capabilities")
}
