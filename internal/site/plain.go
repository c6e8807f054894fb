package site

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"hovix/internal/database"
	"hovix/internal/rewrite"
)

// plain is any site that its site file describes.
type plain struct{}

func (plain) Name() string { return "plain" }

func (plain) Detect(root string) bool {
	_, err := os.Stat(filepath.Join(root, SiteFile))
	return err == nil
}

// Read gives an empty description: Open fills it from the site file.
func (plain) Read(root string) (*Site, error) { return &Site{Name: filepath.Base(root)}, nil }

func (plain) Identifiers() []string { return nil }

func (plain) Ask(context.Context, *Site, database.Reader) error { return nil }

func (plain) Blank(files Files) error { return files.blankSiteFile() }

// blankSiteFile empties the password in a site file, if there is one.
func (files Files) blankSiteFile() error {
	content, ok := files[SiteFile]
	if !ok {
		return nil
	}
	f, err := parseSiteFile(SiteFile, content)
	if err != nil {
		return err
	}
	secrets := []string{f.DatabasePassword}
	if f.DatabasePassword != "" {
		files[SiteFile] = setTOML(content, "database-password", "")
	}
	for _, g := range f.logins() {
		found, err := g.blank(files)
		if err != nil {
			return err
		}
		secrets = append(secrets, found...)
	}
	files.forget(secrets)
	return nil
}

func (plain) Write(files Files, t SettingsTarget) error { return files.writeSiteFile(t) }

func (plain) Touches(string, []string, []rewrite.Mapping) []Touch { return nil }

func (plain) Words() []string { return nil }

func (plain) Skips(string, []string) []Skip { return nil }

// writeSiteFile puts the target's database and address into a site file, if
// there is one.
func (files Files) writeSiteFile(t SettingsTarget) error {
	content, ok := files[SiteFile]
	if !ok {
		return nil
	}
	f, err := parseSiteFile(SiteFile, content)
	if err != nil {
		return err
	}
	if !t.Address.IsZero() && f.Address != "" {
		content = setTOML(content, "address", t.Address.String())
	}
	if !t.Database.IsZero() && f.Database != "" {
		content = setTOML(content, "database", t.Database.String())
		if t.Database.Password != "" || f.DatabasePassword != "" {
			content = setTOML(content, "database-password", t.Database.Password)
		}
	}
	if _, err := parseSiteFile(SiteFile, content); err != nil {
		return fmt.Errorf("change the site file: %w", err)
	}
	files[SiteFile] = content
	for _, g := range f.logins() {
		if err := g.write(files, t); err != nil {
			return err
		}
	}
	return nil
}

// logins are the tables that name values of settings files.
func (f *siteFile) logins() (all []*login) {
	if f.Login != nil {
		all = append(all, f.Login)
	}
	for i := range f.Settings {
		if f.Settings[i].named() {
			all = append(all, &f.Settings[i].login)
		}
	}
	return all
}

func (plain) Accounts(context.Context, string, database.Reader) ([]Account, error) { return nil, nil }

func (plain) Reprefix(string, string, []string) []Touch { return nil }
