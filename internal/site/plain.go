package site

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"hovix/internal/database"
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

func (plain) Blank(rel string, content []byte) ([]byte, error) {
	return blankSiteFile(rel, content)
}

// blankSiteFile empties the password in a site file. Other files it gives back.
func blankSiteFile(rel string, content []byte) ([]byte, error) {
	if rel != SiteFile {
		return content, nil
	}
	f, err := parseSiteFile(rel, content)
	if err != nil {
		return nil, err
	}
	if f.DatabasePassword != "" {
		content = setTOML(content, "database-password", "")
	}
	return content, nil
}

func (plain) Write(rel string, content []byte, t SettingsTarget) ([]byte, error) {
	return writeSiteFile(rel, content, t)
}

// writeSiteFile puts the target's database and address into a site file.
func writeSiteFile(rel string, content []byte, t SettingsTarget) ([]byte, error) {
	if rel != SiteFile {
		return content, nil
	}
	f, err := parseSiteFile(rel, content)
	if err != nil {
		return nil, err
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
	if _, err := parseSiteFile(rel, content); err != nil {
		return nil, fmt.Errorf("change the site file: %w", err)
	}
	return content, nil
}

func (plain) Accounts(context.Context, string, database.Reader) ([]Account, error) { return nil, nil }
