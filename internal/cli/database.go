package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/site"
)

// databaseFlags name a database on the command line.
type databaseFlags struct{ url, passwordFile string }

func (d *databaseFlags) add(cmd *cobra.Command, what string) {
	cmd.Flags().StringVar(&d.url, "database", "", what+": mariadb://user@host:port/name[?socket=path], postgres://… alike, or sqlite:path (`URL`)")
	cmd.Flags().StringVar(&d.passwordFile, "database-password-file", "", "read the database password from `FILE`; the environment variable HOVIX_DATABASE_PASSWORD serves too")
}

// location reads the flags; zero if no database is named. known is what the
// site's settings say: its password serves for the same login.
func (d *databaseFlags) location(a *app, known database.Location) (database.Location, error) {
	if d.url == "" {
		return database.Location{}, nil
	}
	l, err := database.ParseURL(d.url)
	if err != nil {
		return l, usageError{err}
	}
	if l.Engine == database.SQLite {
		return l, nil
	}
	switch env := os.Getenv("HOVIX_DATABASE_PASSWORD"); {
	case d.passwordFile != "":
		b, err := os.ReadFile(d.passwordFile)
		if err != nil {
			return l, fmt.Errorf("read the database password: %w", err)
		}
		l.Password = strings.TrimRight(string(b), "\r\n")
	case env != "":
		l.Password = env
	case known.Same(l) && known.User == l.User:
		l.Password = known.Password
	case ui.IsTerminal(a.in):
		_ = ui.Fprintf(a.err, "Password of %s: ", l)
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.err)
		if err != nil {
			return l, fmt.Errorf("read the database password: %w", err)
		}
		l.Password = string(b)
	}
	return l, nil
}

// openSite opens the site, with its database replaced where the flags name one.
func (a *app) openSite(path string, d *databaseFlags) (*site.Site, error) {
	s, err := site.Open(path)
	if err != nil {
		return nil, err
	}
	l, err := d.location(a, s.Database)
	if err != nil {
		return nil, err
	}
	if !l.IsZero() {
		s.Database = l
	}
	return s, nil
}
