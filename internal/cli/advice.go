package cli

import (
	"errors"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/sqlfile"
	"hovix/internal/database/sqltext"
	"hovix/internal/restore"
	"hovix/internal/seal"
)

// adviceFor says what to do about an error.
func adviceFor(err error) string {
	var adv advised
	var ce *database.ConnectError
	var unfit *sqlfile.UnfitError
	var staged *restore.StagedError
	var left *leftError
	var foreign *archive.ForeignError
	var halfway *restore.HalfwayError
	switch {
	case errors.As(err, &halfway):
		return "The site is partly exchanged. The next run of hovix at this target finishes it: hovix undo, or the same command."
	case errors.Is(err, restore.ErrUnfit):
		advice := "Nothing was changed. Make the columns wider on the old site and pack it anew, or leave these values as they are with --unfit keep-old"
		if errors.As(err, &staged) {
			advice += ", and --resume to go on with what is staged"
		}
		return advice + "."
	case errors.As(err, &left):
		return "The same command with --resume goes on with it."
	case errors.As(err, &staged):
		return "Nothing of the target was changed. The same command with --resume goes on; without it, or with hovix undo, what was staged is removed."
	case errors.As(err, &adv):
		return adv.advice
	case errors.As(err, &ce) && ce.Advice != "":
		return ce.Advice + " Nothing was changed."
	case errors.As(err, &unfit):
		return "Nothing was packed. A dump holds tables, their rows, and views, triggers and routines; docs/pieces.md says how to make one."
	case errors.Is(err, database.ErrReadOnly):
		return "Nothing was changed. The database user needs the right to change rows (UPDATE), and the file of an SQLite database must be writable."
	case errors.Is(err, database.ErrBusy):
		return "Nothing was changed. A statement or a transaction of another program has held it for longer than Hovix waits (a backup, a long report, a client left open): let it end, or end it, and run the same command again."
	case errors.Is(err, syscall.ENOSPC):
		return "The disk is full. Make room, or use a folder on another disk, and run the command again; nothing was changed."
	case errors.Is(err, restore.ErrDeclined):
		return ""
	case errors.Is(err, restore.ErrStoredCode):
		return "Nothing was changed. If you trust the archive, take it with --stored-code; else leave it out with --without stored-code."
	case errors.Is(err, restore.ErrOldSettings):
		return "Nothing was changed. Name the values in hovix.toml before packing (docs/site-file.md), so that a restore gives them the new ones; or agree to the settings as they are with --old-settings."
	case errors.Is(err, restore.ErrLinksOut):
		return "Nothing was changed. If you trust the archive, make them with --links-out; else leave them out by name with --without PATH."
	case errors.Is(err, seal.ErrNoKey):
		return "Nothing was changed. Give the private key with --identity FILE, or the passphrase with --passphrase-file or HOVIX_PASSPHRASE."
	case errors.Is(err, seal.ErrDamaged):
		return "Nothing was changed. Transfer the archive again, or pack the site anew."
	case errors.As(err, &foreign) && foreign.Files:
		return "Nothing was changed. If it holds the files of a site, an archive is made of it and of a dump of the database: hovix pack --files FILE --dump DUMP -o site.tar.zst."
	case errors.As(err, &foreign) && foreign.Dump:
		return "Nothing was changed. hovix rewrite changes the addresses in a dump; an archive is made of it and of the site's files: hovix pack --files FOLDER --dump FILE -o site.tar.zst."
	case errors.As(err, &foreign) && foreign.Custom:
		return "Nothing was changed. pg_restore --file=dump.sql FILE writes it as SQL text, of which and of the site's files hovix pack --files FOLDER --dump dump.sql makes an archive."
	case errors.Is(err, archive.ErrNotArchive):
		return "Nothing was changed. Check that this is the file that hovix pack wrote, and that it was downloaded as a file."
	case errors.Is(err, archive.ErrTruncated):
		return "Nothing was changed. The copy is incomplete: transfer the archive again and compare its size."
	case errors.Is(err, archive.ErrCorrupt):
		return "Nothing was changed. Transfer the archive again, or pack the site anew; hovix inspect --check proves a copy."
	case errors.Is(err, sqltext.ErrRefused):
		return "Nothing was changed. What a server is given is written by Hovix, which knows nothing of this kind, and an archive that is packed by this version holds none: pack the site anew, which names what cannot be carried, or leave it out with --without NAME."
	case errors.Is(err, archive.ErrRefused):
		return "Nothing was changed. Archives hold only files, folders, links, tables and their rows; this one was not made by Hovix, or was altered."
	}
	return ""
}

// flagNames lists the options of a command.
func flagNames(cmd *cobra.Command) (names []string) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	cmd.InheritedFlags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	return names
}
