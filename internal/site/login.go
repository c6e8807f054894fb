package site

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hovix/internal/database"
	"hovix/internal/nearest"
	"hovix/internal/rewrite"
	"hovix/internal/site/keyfile"
)

// login is the table [login] of a site file: where a program keeps its database
// login, by the keys of its own settings file, or of the environment.
type login struct {
	File     string   `toml:"file"`   // relative to the site's folder; empty: the environment
	Engine   string   `toml:"engine"` // itself, not a key
	URL      string   `toml:"url"`
	Host     string   `toml:"host"`
	Port     string   `toml:"port"`
	Socket   string   `toml:"socket"`
	Name     string   `toml:"name"`
	User     string   `toml:"user"`
	Password string   `toml:"password"`
	Address  string   `toml:"address"`
	Secrets  []string `toml:"secrets"` // keys whose values may not leave the machine
}

// read takes database and address from the file that the table names.
func (g *login) read(s *Site, root string) error {
	get := func(key string) (string, error) {
		v, ok := os.LookupEnv(key)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set here", key)
		}
		return v, nil
	}
	if g.File != "" {
		k, err := s.ownKeys(root, cleanPattern(g.File))
		if err != nil {
			return err
		}
		get = func(key string) (string, error) {
			v, err := k.get(key)
			if err != nil {
				return "", fmt.Errorf("%s: %w", g.File, err)
			}
			return v, nil
		}
	}
	if err := g.database(s, root, get); err != nil {
		return err
	}
	if g.Address != "" && s.Address.IsZero() {
		v, err := get(g.Address)
		if err != nil {
			return err
		}
		if s.Address, err = rewrite.ParseAddress(v); err != nil {
			return fmt.Errorf("%s: %w", g.Address, err)
		}
	}
	return nil
}

func (g *login) database(s *Site, root string, get func(string) (string, error)) error {
	var l database.Location
	var err error
	if g.URL != "" {
		v, err := get(g.URL)
		if err != nil {
			return err
		}
		if l, err = locationOf(v, root); err != nil {
			return fmt.Errorf("%s: %w", g.URL, err)
		}
	}
	if g.Engine != "" {
		if l.Engine, err = database.EngineOf(g.Engine); err != nil {
			return err
		}
	}
	port := ""
	for _, c := range []struct {
		key string
		to  *string
	}{{g.Host, &l.Host}, {g.Port, &port}, {g.Socket, &l.Socket}, {g.Name, &l.Name}, {g.User, &l.User}, {g.Password, &l.Password}} {
		if c.key == "" {
			continue
		}
		if *c.to, err = get(c.key); err != nil {
			return err
		}
	}
	if port == "" {
		l.Host, port = withPort(l.Host)
	}
	if port != "" {
		if l.Port, err = strconv.Atoi(port); err != nil {
			return fmt.Errorf("%s is %q; a port is a number", g.Port, port)
		}
	}
	switch {
	case l.Engine == "":
		return errors.New(`[login] does not say which engine the database has; add engine = "mariadb", "postgres" or "sqlite", or name the key of a URL`)
	case l.Engine == database.SQLite && l.Path == "":
		l.Path = l.Name
		if !filepath.IsAbs(l.Path) {
			l.Path = filepath.Join(root, l.Path)
		}
	}
	socketHost(&l)
	s.Database = l
	return nil
}

// locationOf reads the URL of a program's own settings, which may hold a
// password, and schemes that name a driver too (postgresql+asyncpg).
func locationOf(v, root string) (database.Location, error) {
	u, err := url.Parse(v)
	if err != nil {
		return database.Location{}, errors.New("it cannot be read as a URL")
	}
	scheme, _, _ := strings.Cut(u.Scheme, "+")
	engine, err := database.EngineOf(scheme)
	if err != nil {
		return database.Location{}, err
	}
	l := database.Location{Engine: engine}
	if engine == database.SQLite {
		l.Path = cmp.Or(u.Opaque, u.Path)
		if strings.HasPrefix(v, u.Scheme+":///") && !strings.HasPrefix(v, u.Scheme+":////") { // three strokes: relative
			l.Path = strings.TrimPrefix(u.Path, "/")
		}
		if !filepath.IsAbs(l.Path) {
			l.Path = filepath.Join(root, l.Path)
		}
		return l, nil
	}
	l.Host, l.User, l.Name = u.Hostname(), u.User.Username(), strings.Trim(u.Path, "/")
	l.Password, _ = u.User.Password()
	if q := u.Query(); l.Host == "" {
		l.Host, l.Socket = q.Get("host"), cmp.Or(q.Get("socket"), q.Get("unix_socket"))
	}
	if p := u.Port(); p != "" {
		l.Port, _ = strconv.Atoi(p)
	}
	return l, nil
}

// urlFor gives the URL of a program's settings with the target's login.
func urlFor(old string, l database.Location) (string, error) {
	u, err := url.Parse(old)
	if err != nil {
		return "", errors.New("the URL of the database in the settings cannot be read")
	}
	if l.Engine == database.SQLite {
		if filepath.IsAbs(l.Path) {
			return u.Scheme + "://" + "/" + strings.TrimPrefix(filepath.ToSlash(l.Path), "/"), nil
		}
		return u.Scheme + ":///" + filepath.ToSlash(l.Path), nil
	}
	u.Host, u.Path, u.Opaque = l.Host, "/"+l.Name, ""
	if l.Port != 0 {
		u.Host += ":" + strconv.Itoa(l.Port)
	}
	u.User = url.User(l.User)
	if l.Password != "" {
		u.User = url.UserPassword(l.User, l.Password)
	}
	q := u.Query()
	q.Del("host")
	q.Del("socket")
	if l.Socket != "" {
		if l.Engine == database.Postgres {
			q.Set("host", l.Socket)
		} else {
			q.Set("socket", l.Socket)
		}
	}
	u.RawQuery = q.Encode()
	return u.String(), nil
}

// edit changes values of the program's settings file, if it is among the files.
func (g *login) edit(files Files, change func(key, old string) (string, bool, error), keys ...string) error {
	rel := cleanPattern(g.File)
	if _, ok := files[rel]; g.File == "" || !ok {
		return nil
	}
	k, err := files.keysOf(rel)
	if err != nil {
		return err
	}
	for _, key := range keys {
		if key == "" {
			continue
		}
		old, err := k.get(key)
		if errors.Is(err, keyfile.ErrNoKey) {
			continue
		}
		if err != nil {
			return fmt.Errorf("%s: %w", rel, err)
		}
		v, changed, err := change(key, old)
		if err == nil && changed {
			err = k.set(key, v)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", rel, err)
		}
	}
	files.keepKeys(rel, k)
	return nil
}

// blank empties the secrets, and takes the password out of a URL. It gives what they
// were.
func (g *login) blank(files Files) (secrets []string, err error) {
	err = g.edit(files, func(key, old string) (string, bool, error) {
		if key != g.URL {
			secrets = append(secrets, old)
			return "", old != "", nil
		}
		u, err := url.Parse(old)
		if err != nil {
			return "", true, nil // it could hold anything
		}
		password, has := u.User.Password()
		if !has {
			return "", false, nil
		}
		secrets = append(secrets, password)
		u.User = url.User(u.User.Username())
		return u.String(), true, nil
	}, append([]string{g.URL, g.Password}, g.Secrets...)...)
	return secrets, err
}

// forget removes secrets wherever they stand in the files.
func (files Files) forget(secrets []string) {
	for _, secret := range secrets {
		if len(secret) < minSecret {
			continue
		}
		for name, content := range files {
			for _, form := range []string{secret, url.QueryEscape(secret), url.PathEscape(secret)} {
				content = bytes.ReplaceAll(content, []byte(form), nil)
			}
			files[name] = content
		}
	}
}

// write puts the target's login, address and secrets into the program's settings.
func (g *login) write(files Files, t SettingsTarget) error {
	l := t.Database
	set := map[string]string{}
	if !l.IsZero() {
		port := l.Port
		if port == 0 {
			port = l.Engine.DefaultPort()
		}
		host := cmp.Or(l.Host, "localhost")
		if l.Engine == database.Postgres && l.Socket != "" && g.Socket == "" {
			host = l.Socket
		}
		for key, v := range map[string]string{g.Host: host, g.Port: strconv.Itoa(port), g.Socket: l.Socket, g.Name: l.Name, g.User: l.User, g.Password: l.Password} {
			set[key] = v
		}
		if l.Engine == database.SQLite {
			set[g.Name] = filepath.ToSlash(l.Path)
		}
	}
	if !t.Address.IsZero() {
		set[g.Address] = t.Address.String()
	}
	delete(set, "")
	keys := []string{g.URL, g.Host, g.Port, g.Socket, g.Name, g.User, g.Password, g.Address}
	return g.edit(files, func(key, old string) (string, bool, error) {
		switch {
		case key == g.URL && !l.IsZero():
			v, err := urlFor(old, l)
			return v, true, err
		case slices.Contains(g.Secrets, key):
			if old != "" { // it was packed with its secrets
				return old, false, nil
			}
			return g.secret(key, t.Existing), true, nil
		}
		v, ok := set[key]
		if key == g.Host && g.Port == "" && l.Port != 0 && l.Port != l.Engine.DefaultPort() && !strings.Contains(v, "/") {
			v += ":" + strconv.Itoa(l.Port)
		}
		return v, ok && v != old, nil
	}, append(keys, g.Secrets...)...)
}

// secret gives the target's own secret, or a fresh one.
func (g *login) secret(key string, existing Files) string {
	rel := cleanPattern(g.File)
	if _, ok := existing[rel]; ok {
		if k, err := existing.keysOf(rel); err == nil {
			if v, err := k.get(key); err == nil && v != "" {
				return v
			}
		}
	}
	return rand.Text() + rand.Text()
}

// settingsEntry is an entry of the list settings of a site file: a path, or a table like
// [login] that names values of the file too.
type settingsEntry struct{ login }

// UnmarshalTOML takes either.
func (e *settingsEntry) UnmarshalTOML(v any) error {
	switch v := v.(type) {
	case string:
		e.File = v
		return nil
	case map[string]any:
		return e.take(v)
	}
	return fmt.Errorf("settings holds %v; write the path of a file, or a table [[settings]]", v)
}

func (e *settingsEntry) take(table map[string]any) error {
	texts := map[string]*string{"file": &e.File, "url": &e.URL, "host": &e.Host, "port": &e.Port, "socket": &e.Socket, "name": &e.Name, "user": &e.User, "password": &e.Password, "address": &e.Address}
	for key, v := range table {
		if key == "secrets" {
			list, ok := v.([]any)
			for _, s := range list {
				text, is := s.(string)
				ok = ok && is
				e.Secrets = append(e.Secrets, text)
			}
			if !ok {
				return errors.New("settings.secrets is no list of keys")
			}
			continue
		}
		to, known := texts[key]
		text, ok := v.(string)
		switch {
		case !known:
			err := fmt.Errorf("unknown key %q in [[settings]]", key)
			if n := nearest.Of(key, append(slices.Sorted(maps.Keys(texts)), "secrets")); n != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, n)
			}
			return err
		case !ok:
			return fmt.Errorf("settings.%s is no text", key)
		}
		*to = text
	}
	if e.File == "" {
		return errors.New("a table [[settings]] names no file")
	}
	return nil
}

// named reports whether values of the file are named.
func (e *settingsEntry) named() bool {
	return e.URL+e.Host+e.Port+e.Socket+e.Name+e.User+e.Password+e.Address != "" || len(e.Secrets) > 0
}
