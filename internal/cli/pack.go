package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hovix/internal/archive"
	"hovix/internal/cli/ui"
	"hovix/internal/manifest"
	"hovix/internal/nearest"
	"hovix/internal/outfile"
	"hovix/internal/pack"
	"hovix/internal/pieces"
	"hovix/internal/seal"
	"hovix/internal/site"
)

type packFlags struct {
	out      string
	parts    []string
	compress string
	secrets  bool
	seal     sealFlags
	mapFlags
	yes     bool
	resume  bool
	only    []string
	without []string
	db      databaseFlags
	given   pieces.Given
	path    string // of SITE
}

func (a *app) packCommand() *cobra.Command {
	var f packFlags
	cmd := &cobra.Command{
		Use:   "pack [SITE] -o FILE",
		Short: "Package a site into one archive",
		Long: `Package the site in the folder SITE (database, uploads, code, settings) into one
archive. The database is read in one consistent snapshot; the site can stay in
use. Passwords and keys are taken out of the settings, unless --with-secrets
leaves them in; a restore puts in those of its target, or fresh ones. The archive is a tar
file with Zstandard compression, which tar opens as well.

Caches, logs, version control, archives lying around, and tables that fill by
themselves are left out, and named with their sizes. --without leaves out more,
--only packs a section of the site: some folders, some tables.

Addresses, folders and texts can be changed on the way into the archive, with
--map, --root and --text; they usually change on the way out, by hovix restore.

Where the live site is out of reach, --files, --dump and --uploads name pieces of
it instead: folders, or tar files (plain, gzip, zstd, bzip2) and zip files that
hold them, and an SQL dump (plain or compressed alike). The folder that the site
had on its server, which its texts may mention, is told by --origin.

--recipient encrypts the archive for the holder of a key, --passphrase under a
passphrase, in the form of age (age-encryption.org/v1), which the program age opens
as well.

With '-o -' the archive goes to standard output, for a pipe:

  hovix pack SITE -o - | ssh new.example hovix restore - FOLDER --url https://new.example --yes`,
		Example: "  hovix pack /var/www/museum -o museum.tar.zst\n" +
			"  hovix pack --files museum.tar.gz --dump museum.sql.gz -o museum.tar.zst",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.sources(args); err != nil {
				return err
			}
			return a.pack(cmd.Context(), &f)
		},
	}
	cmd.Flags().StringVarP(&f.out, "output", "o", "", "write the archive to `FILE`; '-' is standard output")
	cmd.Flags().Var(list(&f.parts), "parts", "pack only these parts: database, uploads, code, settings (`LIST`)")
	complete(cmd, "parts", "database", "uploads", "code", "settings")
	cmd.Flags().Var(list(&f.without), "without", "leave out: a path or pattern, table:PATTERN for rows, or spam, trash, revisions where the kind knows them (`WHAT`)")
	cmd.Flags().Var(list(&f.only), "only", "pack a section alone: a path or pattern, or table:PATTERN (`WHAT`)")
	cmd.Flags().StringVar(&f.given.Files, "files", "", "instead of SITE: the site's folder in a tar or zip file, or a copy of it (`PIECE`)")
	cmd.Flags().StringVar(&f.given.Dump, "dump", "", "pack the database of this SQL dump instead of a live one (`FILE`)")
	cmd.Flags().StringVar(&f.given.Uploads, "uploads", "", "take the uploads from this folder, tar or zip file instead (`PIECE`)")
	cmd.Flags().StringVar(&f.given.Origin, "origin", "", "the folder in which the site of these pieces lay on its server (`FOLDER`)")
	cmd.Flags().BoolVar(&f.secrets, "with-secrets", false, "leave passwords and keys in the packed settings")
	addChoice(cmd, &f.compress, "compress", "how hard to compress: fast, balanced or small (`LEVEL`)", "fast", "balanced", "small")
	cmd.Flags().BoolVar(&f.resume, "resume", false, "go on with what an interrupted pack has left beside FILE, and leave it should this one be interrupted")
	cmd.Flags().BoolVarP(&f.yes, "yes", "y", false, "overwrite FILE if it exists")
	f.seal.add(cmd)
	f.mapFlags.add(cmd)
	f.db.add(cmd, "pack this database instead of the one in the site's settings")
	return cmd
}

func (f *packFlags) options() (pack.Options, error) {
	opts := pack.Options{By: "hovix " + version, Secrets: f.secrets, Resumable: f.resume}
	switch f.compress {
	case "fast":
	case "balanced":
		opts.Level = archive.LevelBalanced
	case "small":
		opts.Level = archive.LevelSmall
	default:
		return opts, usage("--compress is fast, balanced or small, not %q", f.compress)
	}
	if err := f.into(&opts.Rewrite); err != nil {
		return opts, err
	}
	var names []string
	for _, p := range site.Parts {
		names = append(names, string(p))
	}
next:
	for _, given := range f.parts {
		for _, p := range site.Parts {
			if given == string(p) {
				opts.Parts = append(opts.Parts, p)
				continue next
			}
		}
		if n := nearest.Of(given, names); n != "" {
			return opts, usage("a site has no part %q; did you mean %s?", given, n)
		}
		return opts, usage("a site has no part %q; the parts are %s", given, strings.Join(names, ", "))
	}
	return opts, nil
}

// sources checks that there is one site to pack. SITE itself may be a piece.
func (f *packFlags) sources(args []string) error {
	inPieces := f.given.Dump != "" || f.given.Uploads != "" || f.given.Origin != ""
	switch {
	case len(args) == 0 && f.given.Files == "" && inPieces:
		return usage("a dump and uploads alone are no site: name its files too, with --files")
	case len(args) == 0 && f.given.Files == "":
		return usage("SITE is missing: name the folder of the site, or its pieces with --files and --dump")
	case len(args) > 0 && f.given.Files != "":
		return usage("SITE and --files both say where the files are; keep one of them")
	case f.given.Dump != "" && f.db.url != "":
		return usage("--dump and --database both say where the database is; keep one of them")
	case f.given.Files == "":
		f.path = args[0]
		if inPieces {
			f.given.Files = args[0]
		}
	}
	return nil
}

// open opens the site, whole or in pieces. What end is given removes what was
// unpacked.
func (a *app) open(ctx context.Context, f *packFlags, opts *pack.Options) (s *site.Site, end func(error) error, err error) {
	if f.given.Files == "" {
		s, err = a.openSite(f.path, &f.db)
		return s, func(err error) error { return err }, err
	}
	near := os.TempDir()
	if f.out != "-" && isFolder(filepath.Dir(f.out)) {
		near = filepath.Dir(f.out)
	}
	bar, rep := a.reporter()
	defer bar.Close()
	o, err := pieces.Open(ctx, f.given, near, rep)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range o.Skipped {
		o.Site.Notes = append(o.Site.Notes, "Passed over in the pieces: "+printable(name)+" is neither a file nor a folder nor a link, or leads out of them.")
	}
	opts.Database = o.Database
	if f.given.Dump == "" && f.db.url != "" {
		if o.Site.Database, err = f.db.location(a, o.Site.Database); err != nil {
			return nil, nil, errors.Join(err, o.Close())
		}
	}
	return o.Site, func(err error) error { return errors.Join(err, o.Close()) }, nil
}

func (a *app) pack(ctx context.Context, f *packFlags) (err error) {
	if f.out == "" {
		return usage("say where the archive goes: -o FILE, or -o - for standard output")
	}
	opts, err := f.options()
	if err != nil {
		return err
	}
	if f.resume && (f.out == "-" || f.seal.given()) {
		return usage("--resume goes on with a file; it works neither with standard output nor with an encrypted archive")
	}
	keys, err := f.seal.keys(a)
	if err != nil {
		return err
	}
	s, end, err := a.open(ctx, f, &opts)
	if err != nil {
		return err
	}
	defer func() { err = end(err) }()
	if err := s.Choose(f.only, f.without); err != nil {
		return usageError{err}
	}
	out, err := a.createArchive(ctx, f, s)
	if err != nil {
		return err
	}
	if opts.Earlier, err = out.goOn(ctx, s, opts); err != nil {
		return out.end(err)
	}
	bar, rep := a.reporter()
	opts.Progress = rep
	res, err := packTo(ctx, out, keys, s, opts)
	bar.Close()
	if err = out.end(err); err != nil {
		return err
	}
	return a.packed(f, res)
}

// packTo packs a site to out, encrypted if there are keys.
func packTo(ctx context.Context, out io.Writer, keys *seal.Keys, s *site.Site, opts pack.Options) (*pack.Result, error) {
	if keys == nil {
		return pack.Run(ctx, s, out, opts)
	}
	counted := &countingWriter{w: out}
	sealed, err := keys.Writer(counted)
	if err != nil {
		return nil, err
	}
	res, err := pack.Run(ctx, s, sealed, opts)
	if err != nil {
		return nil, err
	}
	if err := sealed.Close(); err != nil {
		return nil, fmt.Errorf("write archive: %w", err)
	}
	res.Totals.Compressed = counted.n
	return res, nil
}

// countingWriter counts what is written.
type countingWriter struct {
	w io.Writer
	n int64
}

func (c *countingWriter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// packed tells what was packed.
func (a *app) packed(f *packFlags, res *pack.Result) error {
	a.findings(int64(res.Findings()))
	a.log.Info("packed", "bytes", res.Totals.Compressed, "entries", res.Totals.Entries, "rows", res.Summary.Rows, "problems", len(res.Summary.Problems), "seconds", res.Elapsed.Seconds())
	to := a.out
	if f.out == "-" {
		to = a.err
	}
	if a.json {
		if f.out == "-" {
			return nil // standard output holds the archive
		}
		return a.document(res)
	}
	printPacked(ui.New(to), res, f.out, f.seal.given())
	return nil
}

// output is what a command writes: a file, or standard output, where file is nil.
type output struct {
	io.Writer
	file   *outfile.File
	resume bool // what is written is left after an error
}

// stdout is standard output, which may be a pipe.
func (a *app) stdout() *output { return &output{Writer: patientWriter{a.out, a.ended}} }

// goOn looks for what an interrupted pack has left in the file, and cuts off what
// follows it.
func (o *output) goOn(ctx context.Context, s *site.Site, opts pack.Options) (*pack.Earlier, error) {
	if !o.resume {
		return nil, nil
	}
	e, err := pack.Recover(ctx, s, o.file.File, opts)
	if err == nil {
		err = o.file.Truncate(e.Size())
	}
	if err == nil {
		_, err = o.file.Seek(0, io.SeekEnd)
	}
	return e, err
}

func (a *app) createArchive(ctx context.Context, f *packFlags, s *site.Site) (*output, error) {
	if f.out == "-" {
		if ui.IsTerminal(a.out) {
			return nil, usage("standard output is a terminal; redirect it, or name a file with -o FILE")
		}
		return a.stdout(), nil
	}
	if insideOf(s.Root, f.out) {
		return nil, fmt.Errorf("the archive %s would lie inside the site that is packed, where visitors could fetch it; choose a place outside of %s", f.out, s.Root)
	}
	return a.createFile(ctx, f.out, outfile.Options{Replace: f.yes, Resume: f.resume}, "archive", archiveName(s))
}

// createFile begins the file that a command writes. what names it in errors, and
// example is how it could be called.
func (a *app) createFile(ctx context.Context, path string, opts outfile.Options, what, example string) (*output, error) {
	f, err := outfile.Create(ctx, path, opts)
	switch {
	case err == nil && f.Whole():
		return &output{f, f, opts.Resume}, nil
	case err == nil:
		return &output{patientWriter{f, a.ended}, f, false}, nil
	case errors.Is(err, outfile.ErrFolder):
		return nil, fmt.Errorf("%s is a folder; name a file in it, such as %s", path, filepath.Join(path, example))
	case errors.Is(err, outfile.ErrExists):
		is := "exists already"
		if st, err := os.Stat(path); err == nil && st.Mode().IsRegular() {
			is += fmt.Sprintf(" (%s, %s)", ui.Bytes(st.Size()), st.ModTime().Format("2 January 2006"))
		}
		return nil, fmt.Errorf("%s %s; choose another name, or overwrite it with --yes", path, is)
	case errors.Is(err, outfile.ErrBusy):
		return nil, fmt.Errorf("another run of Hovix is writing the %s %s", what, path)
	case errors.Is(err, outfile.ErrNoFolder):
		if near := nearest.Path(filepath.Dir(path)); near != "" {
			return nil, fmt.Errorf("there is no folder %s; did you mean %s?", filepath.Dir(path), near)
		}
		return nil, fmt.Errorf("there is no folder %s", filepath.Dir(path))
	}
	return nil, fmt.Errorf("create the %s: %w", what, err)
}

// end gives a whole file its name and removes one that failed, or leaves it.
func (o *output) end(err error) error {
	if o.file == nil {
		return err
	}
	left, err := o.file.End(err)
	if left {
		return errors.Join(err, &leftError{})
	}
	return err
}

// leftError says that what was written is left.
type leftError struct{}

func (*leftError) Error() string { return "what was written is left beside it" }

func printPacked(p *ui.Printer, res *pack.Result, out string, encrypted bool) {
	m := res.Manifest
	p.Title("Packed "+m.Name, m.Address)
	var rows [][]string
	if m.Database != nil {
		var size int64
		for _, t := range res.Summary.Tables {
			size += t.Bytes
		}
		rows = append(rows, []string{"Database", ui.Count(int64(len(res.Summary.Tables)), "table", "tables") + ", " + ui.Count(res.Summary.Rows, "row", "rows"), ui.Bytes(size)})
	}
	if m.Has(site.Uploads) || m.Has(site.Code) {
		rows = append(rows, []string{"Files", ui.Count(res.Summary.Files.Count, "file", "files"), ui.Bytes(res.Summary.Files.Bytes)})
	}
	if m.Has(site.Settings) {
		rows = append(rows, []string{"Settings", ui.Count(res.Summary.Settings, "file", "files") + ", " + secretsWord(m), ""})
	}
	name := filepath.Base(out)
	if out == "-" {
		name = "standard output"
	}
	if encrypted {
		name += ", encrypted"
	}
	rows = append(rows, []string{p.Strong("Archive"), p.Strong(name), p.Strong(ui.Bytes(res.Totals.Compressed))})
	p.Table(rows, 2)
	p.Line("    %s", p.Dim(fmt.Sprintf("in %s, largest: %s", seconds(res.Elapsed), largestLine(res.Largest))))
	if res.Resumed {
		line := ui.Count(res.Earlier.Count, "file", "files") + " (" + ui.Bytes(res.Earlier.Bytes) + ") were in it from an interrupted pack"
		if m.Database != nil {
			line += ", and the database, as it was on " + m.Made.Local().Format("2 January 2006 at 15:04")
		}
		p.Line("    %s", p.Dim(line))
	}
	printLeftOut(p, m.LeftOut)
	if m.Secrets && m.Has(site.Settings) {
		p.Line("    %s", p.Dim("It holds the site's passwords and keys: keep it as safe as the site itself."))
	}
	if res.Columns != nil {
		p.Line("")
		p.Field("Rewrote", addressLine(&res.Tally))
		if _, left := formsAndLeftovers(&res.Tally); len(left) > 0 {
			printColumns(p, &res.Tally, res.Columns, "rewrite --bare-hosts")
		}
	}
	printNotes(p, m.Notes)
	if len(res.Summary.Problems) > 0 {
		p.Section("To look at")
		for _, pr := range res.Summary.Problems {
			p.Warn("%s: %s", pr.What, pr.Why)
		}
	}
	if m.Database != nil {
		for _, n := range m.Database.NotCarried {
			p.Warn("%s", staysBehind(n))
		}
	}
	if out != "-" {
		p.Next("hovix inspect "+shellWord(out)+" --check", "hovix restore "+shellWord(out)+" /path/to/new/folder --url https://new.example")
	}
}

// printNotes tells what is unusual, if anything is.
func printNotes(p *ui.Printer, notes []string) {
	if len(notes) == 0 {
		return
	}
	p.Section("Worth knowing")
	for _, n := range notes {
		p.Line("    %s", n)
	}
}

// secretsWord says whether settings hold their secrets.
func secretsWord(m *manifest.Manifest) string {
	if m.Secrets {
		return "with their secrets"
	}
	return "without secrets"
}

func largestLine(things []site.Thing) string {
	var parts []string
	for i, t := range things {
		if i == 3 {
			break
		}
		parts = append(parts, ui.Short(t.Name, 30)+" ("+ui.Bytes(t.Bytes)+")")
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}
