package cli

import (
	"bufio"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hovix/internal/archive"
	"hovix/internal/cli/ui"
	"hovix/internal/manifest"
	"hovix/internal/pieces"
	"hovix/internal/site"
)

func (a *app) inspectCommand() *cobra.Command {
	var check, list bool
	var extract string
	var keys openFlags
	cmd := &cobra.Command{
		Use:   "inspect FILE",
		Short: "Say what is in an archive; prove it intact with --check",
		Long: `Say what the archive FILE holds: from which site and address, from when, its
parts and sizes. That takes a moment, for only the index is read. With --check
every byte is read and compared with its checksum.

With --extract the archive is written out, checked alike, as pieces that any tool
takes: files.tar with the site's folder, uploads.tar with what lies in its folders
of uploads, database.sql for the engine's own client. Settings are without their
secrets there too, unless the archive was packed with them.`,
		Example: "  hovix inspect museum.tar.zst\n  hovix inspect museum.tar.zst --check\n  hovix inspect museum.tar.zst --list\n  hovix inspect museum.tar.zst --extract pieces",
		Args:    args("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if extract != "" {
				return a.extract(cmd.Context(), args[0], extract, &keys)
			}
			return a.inspect(cmd.Context(), args[0], check, list, &keys)
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "read the whole archive and prove it intact")
	cmd.Flags().StringVar(&extract, "extract", "", "write the archive out to `FOLDER` as files.tar, uploads.tar and database.sql")
	keys.add(cmd)
	cmd.Flags().BoolVar(&list, "list", false, "list every entry: size, SHA-256, name")
	return cmd
}

// inspection is the JSON document of inspect.
type inspection struct {
	File     string             `json:"file"`
	Size     int64              `json:"size"`
	Sealed   bool               `json:"encrypted"`
	Entries  int64              `json:"entries"`
	Content  int64              `json:"content"`
	Checked  bool               `json:"checked"`
	Manifest *manifest.Manifest `json:"manifest"`
	Summary  *manifest.Summary  `json:"summary"`
}

func (a *app) inspect(ctx context.Context, path string, check, list bool, keys *openFlags) error {
	f, err := a.openToRead(path, keys)
	if err != nil {
		return err
	}
	defer f.Close()
	ar, err := archive.Open(f, f.size)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	d := inspection{File: path, Size: f.onDisk, Sealed: f.sealed, Entries: ar.Totals().Entries, Content: ar.Totals().Content}
	if d.Manifest, d.Summary, err = readAbout(ar); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	var took time.Duration
	if check {
		if took, err = a.check(ctx, f); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		d.Checked = true
	}
	a.findings(int64(len(d.Summary.Problems)))
	switch {
	case a.json && list:
		return a.listEntries(path, ar)
	case a.json:
		return a.document(d)
	case list:
		return ar.Entries(func(e archive.Entry) error {
			return ui.Fprintf(a.out, "%12d  %x  %s\n", e.Size, e.SHA256, printable(e.Name))
		})
	}
	a.printInspection(&d, took)
	return nil
}

// listEntries writes the list of entries as a listJSON, one at a time: there may be millions.
func (a *app) listEntries(path string, ar *archive.Archive) error {
	out := bufio.NewWriter(ui.JSON(a.out))
	name, err := json.Marshal(path)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "{\n  \"file\": %s,\n  \"entries\": [", name)
	between := "\n"
	err = ar.Entries(func(e archive.Entry) error {
		one := entryJSON{Name: e.Name, Size: e.Size}
		if e.Type == archive.TypeFile {
			one.SHA256 = hex.EncodeToString(e.SHA256[:])
		}
		b, err := json.Marshal(one)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(out, "%s    %s", between, b)
		between = ",\n"
		return err
	})
	if err != nil {
		return err
	}
	fmt.Fprint(out, "\n  ]\n}\n")
	a.documented = true
	return out.Flush()
}

// extract writes an archive out as pieces.
func (a *app) extract(ctx context.Context, path, dir string, keys *openFlags) error {
	f, err := a.openToRead(path, keys)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("make the folder for the pieces: %w", err)
	}
	bar, rep := a.reporter()
	written, origin, err := pieces.Extract(ctx, f, f.size, dir, rep)
	bar.Close()
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%w; choose a folder that holds none of the pieces", err)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if a.json {
		return a.document(extractedJSON{path, written})
	}
	p := ui.New(a.out)
	p.Title("Written out", path)
	var rows [][]string
	for _, w := range written {
		what := ui.Count(w.Entries, "entry", "entries")
		if strings.HasSuffix(w.Path, ".sql") {
			what = ui.Count(w.Entries, "table", "tables")
		}
		rows = append(rows, []string{w.Path, what, ui.Bytes(w.Bytes)})
	}
	p.Table(rows, 2)
	p.Line("")
	p.Good("Intact: every byte was compared with its checksum")
	p.Line("    %s", p.Dim("The settings in files.tar name the old database: set the login of the new one there."))
	next := "hovix pack --files " + shellWord(filepath.Join(dir, pieces.FilesTar))
	for _, w := range written {
		switch filepath.Base(w.Path) {
		case pieces.DatabaseSQL:
			next += " --dump " + shellWord(w.Path)
		case pieces.UploadsTar:
			next += " --uploads " + shellWord(w.Path)
		}
	}
	if origin != "" {
		next += " --origin " + shellWord(origin)
	}
	p.Next("tar -xf "+shellWord(filepath.Join(dir, pieces.FilesTar))+" -C /path/to/folder", next+" -o again.tar.zst")
	return nil
}

// printable shows a name on one line, whatever bytes it has.
func printable(name string) string {
	if strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\ufffd' }) {
		return fmt.Sprintf("%q", name)
	}
	return name
}

func readAbout(ar *archive.Archive) (*manifest.Manifest, *manifest.Summary, error) {
	b, err := ar.ReadFile(manifest.Name, manifest.MaxSize)
	if errors.Is(err, archive.ErrNoEntry) {
		return nil, nil, fmt.Errorf("%w: it has no manifest", archive.ErrNotArchive)
	}
	if err != nil {
		return nil, nil, err
	}
	m, err := manifest.Parse(b)
	if err != nil {
		return nil, nil, err
	}
	if b, err = ar.ReadFile(manifest.SummaryName, manifest.MaxSize); err != nil {
		return nil, nil, err
	}
	s := &manifest.Summary{}
	if err := json.Unmarshal(b, s); err != nil {
		return nil, nil, fmt.Errorf("%w: summary: %w", archive.ErrCorrupt, err)
	}
	return m, s, nil
}

// check reads everything and compares it with the index.
func (a *app) check(ctx context.Context, f *archiveFile) (time.Duration, error) {
	bar, rep := a.reporter()
	defer bar.Close()
	rep.Phase("Checking", f.size)
	start := time.Now()
	_, err := archive.Scan(ctx, f.stream(), archive.ScanOptions{Progress: rep.Add}, func(context.Context, archive.Piece) error { return nil })
	return time.Since(start), err
}

func (a *app) printInspection(d *inspection, took time.Duration) {
	p, m := ui.New(a.out), d.Manifest
	p.Title(m.Name, m.Address)
	encrypted := ""
	if d.Sealed {
		encrypted = ", encrypted"
	}
	p.Field("Archive", fmt.Sprintf("%s, %s (%s unpacked)%s", d.File, ui.Bytes(d.Size), ui.Bytes(d.Content), encrypted))
	p.Field("Packed", m.Made.Local().Format("2 January 2006, 15:04 MST")+" by "+m.By)
	p.Field("Kind", strings.TrimSpace(m.Kind+" "+m.Version))
	if m.Root != "" {
		p.Field("Came from", m.Root)
	}
	if m.Database != nil {
		p.Field("Database", fmt.Sprintf("%s %s · %s · %s", m.Database.Product, m.Database.Version, ui.Count(int64(len(m.Database.Tables)), "table", "tables"), ui.Count(d.Summary.Rows, "row", "rows")))
	}
	if m.Has(site.Uploads) || m.Has(site.Code) {
		p.Field("Files", ui.Count(d.Summary.Files.Count, "file", "files")+", "+ui.Bytes(d.Summary.Files.Bytes))
	}
	if m.Has(site.Settings) {
		p.Field("Settings", strings.Join(m.Settings, ", ")+" ("+secretsWord(m)+")")
	}
	if len(d.Summary.Tables) > 0 {
		p.Section("Tables")
		var rows [][]string
		for i, t := range d.Summary.Tables {
			if i == manyTables {
				rows = append(rows, []string{fmt.Sprintf("… and %d more", len(d.Summary.Tables)-i)})
				break
			}
			rows = append(rows, []string{ui.Short(t.Name, 44), ui.Count(t.Rows, "row", "rows"), ui.Bytes(t.Bytes)})
		}
		p.Table(rows, 1, 2)
	}
	printLeftOut(p, m.LeftOut)
	for _, pr := range d.Summary.Problems {
		p.Warn("%s: %s", pr.What, pr.Why)
	}
	p.Line("")
	if d.Checked {
		p.Good("Intact: %s and %s read and compared with their checksums in %s", ui.Count(d.Entries, "entry", "entries"), ui.Bytes(d.Size), seconds(took))
	} else {
		p.Line("  %s", p.Dim("The index is intact; --check reads everything."))
	}
	p.Next("hovix restore " + shellWord(d.File) + " /path/to/new/folder --url https://new.example")
}
