package site

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/rewrite"
	"hovix/internal/site/phpconf"
)

// mediawiki is a MediaWiki site.
type mediawiki struct{}

const mediawikiSettings = "LocalSettings.php"

func (mediawiki) Name() string { return "mediawiki" }

func (mediawiki) Detect(root string) bool {
	return exists(root, mediawikiSettings) && exists(root, "includes/Defines.php")
}

// mediawikiTables hold what comes back by itself.
var mediawikiTables = []string{"objectcache", "l10n_cache", "querycache", "querycachetwo", "querycache_info", "uploadstash"}

func (mediawiki) Read(root string) (*Site, error) {
	s := &Site{Uploads: []string{"images"}, Caches: []string{"cache", "images/thumb", "images/temp"}, LeaveOut: []string{"error_log"}}
	conf, err := phpSettings(s, root, mediawikiSettings, "extensions", "skins", "includes", "vendor", "languages")
	if err != nil {
		return nil, err
	}
	if s.Database, err = mediawikiDatabase(conf, root); err != nil {
		return nil, fmt.Errorf("%s: %w", mediawikiSettings, err)
	}
	s.Prefix, _ = conf.Var("wgDBprefix")
	s.Name, _ = conf.Var("wgSitename")
	for _, t := range mediawikiTables {
		s.Passing = append(s.Passing, s.Prefix+t)
	}
	server, _ := conf.Var("wgServer")
	script, ok := conf.Var("wgScriptPath")
	if !ok {
		script = "/wiki" // what the software itself takes
	}
	if a, err := rewrite.ParseAddress(server + script); err == nil && server != "" {
		s.addAddress(a)
		if canonical, ok := conf.Var("wgCanonicalServer"); ok {
			if a, err := rewrite.ParseAddress(canonical + script); err == nil {
				s.addAddress(a)
			}
		}
	}
	s.unsaid = "The settings give no address ($wgServer); say it in a hovix.toml in the site's folder (kind = \"mediawiki\", address = \"https://…\")."
	if dir, ok := conf.Var("wgUploadDirectory"); ok {
		if inside := relative(root, dir); filepath.IsLocal(inside) && inside != "images" {
			s.Uploads = append(s.Uploads, inside)
		}
	}
	if src, _, err := ReadOwn(root, "includes/Defines.php"); err == nil {
		if v, err := phpconf.Parse(src); err == nil {
			s.Version, _ = v.Const("MW_VERSION")
		}
	}
	return s, nil
}

func mediawikiDatabase(conf *phpconf.File, root string) (database.Location, error) {
	var l database.Location
	at := func(name string) (string, error) {
		v, ok := conf.Var(name)
		if why := conf.WhyVar(name); !ok && why != "" {
			return "", fmt.Errorf("$%s needs %s; name the database with --database", name, why)
		}
		return v, nil
	}
	kind, err := at("wgDBtype")
	if err != nil {
		return l, err
	}
	if l.Name, err = at("wgDBname"); err != nil {
		return l, err
	}
	switch kind {
	case "mysql":
		l.Engine = database.MariaDB
	case "postgres":
		l.Engine = database.Postgres
	case "sqlite":
		dir, err := at("wgSQLiteDataDir")
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(root, dir)
		}
		return database.Location{Engine: database.SQLite, Path: filepath.Join(dir, l.Name+".sqlite")}, err
	default:
		return l, fmt.Errorf("the database type %q is not one that Hovix knows (mysql, postgres, sqlite)", kind)
	}
	for name, to := range map[string]*string{"wgDBuser": &l.User, "wgDBpassword": &l.Password, "wgDBserver": &l.Host} {
		if *to, err = at(name); err != nil {
			return l, err
		}
	}
	splitHost(&l)
	socketHost(&l)
	if port, _ := conf.Var("wgDBport"); port != "" && l.Port == 0 {
		l.Port, _ = strconv.Atoi(port)
	}
	return l, nil
}

func (mediawiki) Identifiers() []string { return nil }

func (mediawiki) Ask(ctx context.Context, s *Site, r database.Reader) error {
	if _, err := r.Strings(ctx, "SELECT 1 FROM "+ident(r, s.Prefix+"page")+" WHERE 1=0"); err != nil {
		return fmt.Errorf("the database has no page table under the prefix %q that the settings name: %w", s.Prefix, err)
	}
	rows, err := r.Strings(ctx, "SELECT COUNT(*) FROM "+ident(r, s.Prefix+"text")+" WHERE old_flags LIKE '%gzip%'")
	if err == nil && len(rows) > 0 && rows[0][0] != "0" {
		s.Notes = append(s.Notes, rows[0][0]+" revisions are stored compressed; addresses in them are not rewritten.")
	}
	return nil
}

func (mediawiki) Blank(files Files) error {
	if err := files.erase(mediawikiSettings, "var wgDBpassword", "var wgDBadminpassword", "var wgSecretKey", "var wgUpgradeKey", "var wgSMTP password"); err != nil {
		return err
	}
	return files.blankSiteFile()
}

func (mediawiki) Write(files Files, t SettingsTarget) error {
	if err := files.writeSiteFile(t); err != nil {
		return err
	}
	return files.change(mediawikiSettings, func(conf *phpconf.File) error { return mediawikiWrite(conf, t) })
}

func mediawikiWrite(conf *phpconf.File, t SettingsTarget) error {
	set := [][2]string{{"wgSecretKey", rand.Text() + rand.Text() + rand.Text()}, {"wgUpgradeKey", rand.Text()[:16]}}
	for i := range set {
		set[i][1] = t.secret(conf, mediawikiSettings, set[i][1], func(old *phpconf.File) (string, bool) { return old.Var(set[i][0]) })
	}
	if !t.Address.IsZero() {
		set = append(set, mediawikiAddress(conf, t.Address)...)
	}
	switch l := t.Database; l.Engine {
	case "":
	case database.SQLite:
		set = append(set, [2]string{"wgDBname", strings.TrimSuffix(filepath.Base(l.Path), ".sqlite")}, [2]string{"wgSQLiteDataDir", filepath.ToSlash(filepath.Dir(t.sqlite()))})
	default:
		host := joinHost(l)
		if l.Engine == database.Postgres {
			host = l.Host
			if l.Socket != "" {
				host = l.Socket
			}
			if _, ok := conf.Var("wgDBport"); ok || l.Port != 0 {
				port := l.Port
				if port == 0 {
					port = l.Engine.DefaultPort()
				}
				set = append(set, [2]string{"wgDBport", strconv.Itoa(port)})
			}
		}
		set = append(set, [][2]string{{"wgDBserver", host}, {"wgDBname", l.Name}, {"wgDBuser", l.User}, {"wgDBpassword", l.Password}, {"wgDBprefix", t.Prefix}}...)
	}
	for _, kv := range set {
		if err := conf.SetVar(kv[0], kv[1]); err != nil {
			return err
		}
	}
	return nil
}

// Move gives the settings that make up the address.
func (mediawiki) Move(files Files, _, to rewrite.Address) error {
	return files.change(mediawikiSettings, func(conf *phpconf.File) error {
		for _, kv := range mediawikiAddress(conf, to) {
			if err := conf.SetVar(kv[0], kv[1]); err != nil {
				return err
			}
		}
		return nil
	})
}

// mediawikiAddress gives the settings that make up an address; paths of articles
// stay below the base path.
func mediawikiAddress(conf *phpconf.File, a rewrite.Address) (set [][2]string) {
	old, _ := conf.Var("wgScriptPath")
	server := a
	server.Path = ""
	set = append(set, [2]string{"wgServer", server.String()}, [2]string{"wgScriptPath", a.Path})
	for _, name := range []string{"wgArticlePath", "wgResourceBasePath", "wgUploadPath", "wgStylePath"} {
		if v, ok := conf.Var(name); ok && strings.HasPrefix(v, old+"/") {
			set = append(set, [2]string{name, a.Path + strings.TrimPrefix(v, old)})
		}
	}
	if _, ok := conf.Var("wgCanonicalServer"); ok {
		set = append(set, [2]string{"wgCanonicalServer", server.String()})
	}
	return set
}

func (mediawiki) Touches(string, []string, []rewrite.Mapping) []Touch { return nil }

func (mediawiki) Words() []string { return nil }

func (mediawiki) Skips(string, []string) []Skip { return nil }

// Accounts are those of the group sysop. PostgreSQL has them in another table.
func (mediawiki) Accounts(ctx context.Context, prefix string, r database.Reader) ([]Account, error) {
	users := "user"
	if r.Info().Engine == database.Postgres {
		users = "mwuser"
	}
	q := func(t string) string { return ident(r, prefix+t) }
	return accounts(ctx, r, "SELECT u.user_name, u.user_real_name, u.user_email FROM "+q(users)+" u JOIN "+q("user_groups")+" g ON g.ug_user=u.user_id WHERE g.ug_group='sysop' ORDER BY u.user_id")
}

// decodeHex reads what bytea prints as, \x6162; anything else stays.
func decodeHex(s string) string {
	if digits, ok := strings.CutPrefix(s, `\x`); ok {
		if b, err := hex.DecodeString(digits); err == nil {
			return string(b)
		}
	}
	return s
}

func (mediawiki) Reprefix(string, string, []string) []Touch { return nil }
