package site

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/site/phpconf"
)

// maxInclude bounds a file that settings include, in bytes: larger ones are
// programs.
const maxInclude = 256 << 10

// errProgram says that an included file is part of the software.
var errProgram = errors.New("it is a program")

// phpSettings reads PHP settings in a site's folder with the settings files
// that they include. Files below the folders of programs are not followed. It
// adds the files that were read to the site's settings, and notes what lies
// elsewhere.
func phpSettings(s *Site, root, rel string, programs ...string) (*phpconf.File, error) {
	name := filepath.Join(root, filepath.FromSlash(rel))
	src, _, err := ReadOwn(root, rel)
	if err != nil {
		return nil, err
	}
	read := func(p string) ([]byte, error) {
		inside := relative(root, p)
		for _, skip := range programs {
			if inside == skip || strings.HasPrefix(inside, skip+"/") {
				return nil, errProgram
			}
		}
		b, err := readInclude(root, p)
		if err == nil && len(b) > maxInclude {
			err = errProgram
		}
		return b, err
	}
	conf, err := phpconf.ParseWith(src, phpconf.Options{Name: name, Read: read, Env: os.LookupEnv})
	if err != nil {
		return nil, fmt.Errorf("%s, %w", name, err)
	}
	s.Settings = append(s.Settings, rel)
	for _, p := range conf.Included() {
		inside := relative(root, p)
		switch {
		case !filepath.IsLocal(inside):
			s.Notes = append(s.Notes, "The settings include "+p+", which lies outside of the site's folder and is not carried.")
		case !slices.Contains(s.Settings, inside):
			s.Settings = append(s.Settings, inside)
		}
	}
	if env := conf.Environment(); len(env) > 0 {
		s.Notes = append(s.Notes, "The settings read environment variables, which Hovix takes from its own environment: "+strings.Join(env, ", ")+".")
	}
	return conf, nil
}

// php reads one of the files, with the others at hand for it to include.
func (files Files) php(rel string) (*phpconf.File, error) {
	conf, err := phpconf.ParseWith(files[rel], phpconf.Options{Name: "/" + rel, Read: func(p string) ([]byte, error) {
		if content, ok := files[strings.TrimPrefix(p, "/")]; ok {
			return content, nil
		}
		return nil, fs.ErrNotExist
	}})
	if err != nil {
		return nil, fmt.Errorf("%s, %w", rel, err)
	}
	return conf, nil
}

// keep takes over what was changed in conf.
func (files Files) keep(rel string, conf *phpconf.File) {
	files[rel] = conf.Bytes()
	for _, p := range conf.Included() {
		if content, ok := conf.Changed(p); ok {
			files[strings.TrimPrefix(p, "/")] = content
		}
	}
}

// change lets f change one of the files, if it is among them.
func (files Files) change(rel string, f func(*phpconf.File) error) error {
	if _, ok := files[rel]; !ok {
		return nil
	}
	conf, err := files.php(rel)
	if err != nil {
		return err
	}
	if err := f(conf); err != nil {
		return fmt.Errorf("%s: %w", rel, err)
	}
	files.keep(rel, conf)
	return nil
}

// erase empties the secrets of PHP settings: what is set under the given names
// ("const DB_PASSWORD", "var databases * password", with stars for any key), and
// then the same texts wherever else they stand in the files, as in comments.
func (files Files) erase(rel string, names ...string) error {
	var secrets []string
	match := func(p []string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return matchPath(strings.Fields(n), p) })
	}
	err := files.change(rel, func(conf *phpconf.File) error {
		for _, v := range conf.Values(match) {
			if len(v) >= minSecret {
				secrets = append(secrets, v)
			}
		}
		return conf.Erase(match)
	})
	if err != nil {
		return err
	}
	for name, content := range files {
		for _, secret := range secrets {
			content = bytes.ReplaceAll(content, []byte(secret), nil)
		}
		files[name] = content
	}
	return nil
}

// secret gives the secret that the archive's settings hold, if they were packed
// with their secrets; else the one that the target's own hold, so that logins
// there stay valid; else a fresh one. A broken file has none to take over.
func (t *SettingsTarget) secret(conf *phpconf.File, rel, fresh string, get func(*phpconf.File) (string, bool)) string {
	if v, ok := get(conf); ok && v != "" {
		return v
	}
	if _, ok := t.Existing[rel]; !ok {
		return fresh
	}
	if old, err := t.Existing.php(rel); err == nil {
		if v, ok := get(old); ok && v != "" {
			return v
		}
	}
	return fresh
}

// minSecret is how long a secret must be to be looked for elsewhere: a shorter
// one may be part of anything.
const minSecret = 8

func matchPath(pattern, p []string) bool {
	if len(pattern) != len(p) {
		return false
	}
	for i := range p {
		if ok, _ := path.Match(pattern[i], p[i]); !ok && pattern[i] != p[i] {
			return false
		}
	}
	return true
}
