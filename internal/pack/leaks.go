package pack

import (
	"bytes"
	"context"
	"path"
	"slices"
	"strings"

	"hovix/internal/fsys"
	"hovix/internal/site"
)

// maxConfig bounds a file that is looked into as one of a program's own settings, in bytes.
const maxConfig = 128 << 10

// minLeak is how long a password must be to be looked for: a shorter one is part of
// anything.
const minLeak = 6

// configTypes end the names of files in which programs have their settings.
var configTypes = []string{".php", ".inc", ".env", ".ini", ".conf", ".cfg", ".yml", ".yaml", ".json", ".toml", ".properties", ".xml", ".py", ".rb", ".js", ".ts", ".pl"}

// leaks names files of the code that hold the password of the database: they are packed as
// they are, and a restore does not know that they are settings.
func (p *packer) leaks(ctx context.Context) error {
	password := p.s.Database.Password
	if len(password) < minLeak || p.opts.Secrets || !p.wants(site.Code) {
		return nil
	}
	return p.s.Walk(ctx, func(f site.File) error {
		name := path.Base(f.Rel)
		if f.Part != site.Code || !f.Info.Mode().IsRegular() || f.Info.Size() > maxConfig || strings.Contains(f.Rel, "node_modules/") ||
			!slices.Contains(configTypes, path.Ext(name)) && !strings.HasPrefix(name, ".env") {
			return nil
		}
		in, err := f.Open()
		if err != nil {
			return nil // it is told when it is packed
		}
		content, err := fsys.ReadUpTo(in, maxConfig)
		_ = in.Close()
		if err == nil && bytes.Contains(content, []byte(password)) {
			p.problem(f.Rel, "it holds the password of the database and is no settings file to Hovix: the password is in the archive, and a restored copy would go on with the old database. Name it in "+site.SiteFile+", as [login] or [[settings]]")
		}
		return nil
	}, nil)
}
