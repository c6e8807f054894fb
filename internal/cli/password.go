package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/site"
)

// passwordJSON is the JSON document of password.
type passwordJSON struct {
	Login    string `json:"login"`
	Password string `json:"password,omitempty"` // the new one, if it was made up
}

func (a *app) passwordCommand() *cobra.Command {
	var db databaseFlags
	cmd := &cobra.Command{
		Use:   "password SITE LOGIN",
		Short: "Give an account of a site a new password",
		Long: `Give the account LOGIN of the site in the folder SITE a new password, hashed as the
site's software does. It is asked for in a terminal, taken from HOVIX_NEW_PASSWORD, or
made up and shown. Accounts come with an archive, and their passwords are often not
known to who restores it; hovix restore --new-password LOGIN does the same there.`,
		Example: "  hovix password /var/www/museum keeper",
		Args:    args("SITE", "LOGIN"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.openSite(args[0], &db)
			if err != nil {
				return err
			}
			doc, password, err := a.newPassword(args[1])
			if err != nil {
				return err
			}
			if err := setPassword(cmd.Context(), s, args[1], password); err != nil {
				return err
			}
			if a.json {
				return a.document(doc)
			}
			p := ui.New(a.out)
			p.Title("New password for "+doc.Login, addressOf(s))
			if doc.Password != "" {
				p.Field("Password", doc.Password)
			}
			p.Line("")
			return nil
		},
	}
	db.add(cmd, "change it in this database instead of the one in the site's settings")
	return cmd
}

// newPassword asks for the new password of an account, or makes one up, which the document
// names then.
func (a *app) newPassword(login string) (doc passwordJSON, password string, err error) {
	doc.Login = login
	if password = os.Getenv("HOVIX_NEW_PASSWORD"); password != "" {
		return doc, password, nil
	}
	if ui.IsTerminal(a.in) && !a.json {
		_ = ui.Fprintf(a.err, "New password for %s (empty: one is made up): ", login)
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.err)
		if err != nil {
			return doc, "", fmt.Errorf("read the new password: %w", err)
		}
		if len(b) > 0 {
			return doc, string(b), nil
		}
	}
	doc.Password = site.NewPassword()
	return doc, doc.Password, nil
}

// setPassword gives an account of a site a new password.
func setPassword(ctx context.Context, s *site.Site, login, password string) (err error) {
	if s.Database.IsZero() {
		return site.ErrNoAccounts
	}
	ed, err := engines.Edit(ctx, s.Database)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, ed.Close()) }()
	return s.SetPassword(ctx, ed, login, password)
}

// restoredPassword gives an account of a site that was just restored a new password.
func restoredPassword(ctx context.Context, target string, given database.Location, login, password string) error {
	s, err := site.Open(target)
	if err != nil {
		return err
	}
	if !given.IsZero() {
		s.Database = given
	}
	return setPassword(ctx, s, login, password)
}
