package restore

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
)

// filesNeed is what files take of a disk.
type filesNeed struct {
	bytes  int64 // of whole blocks
	inodes int64 // of files, folders and links
}

// space checks that the files will fit.
func (p *Plan) space(a *archive.Archive) (string, bool, error) {
	dir := p.parent
	for {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		dir = filepath.Dir(dir)
	}
	disk, ok := fsys.DiskOf(dir)
	if !ok {
		return "", false, nil
	}
	need, err := p.filesNeed(a, disk)
	if err != nil {
		return "", false, err
	}
	if d := p.Manifest.Database; d != nil && d.Engine == database.SQLite {
		for _, t := range p.needs {
			rows, keys := t.Sizes()
			need.bytes += rows + keys
		}
	}
	need.bytes = max(0, need.bytes-p.staged.bytes)
	need.inodes = max(0, need.inodes-p.staged.inodes)
	if disk.Free < need.bytes {
		return "", false, fmt.Errorf("the new site needs %s beside the target, and the disk of %s has %s free; make room, or choose a folder on another disk", humanize.Bytes(uint64(need.bytes)), dir, humanize.Bytes(uint64(disk.Free)))
	}
	if disk.Inodes >= 0 && disk.Inodes < need.inodes {
		return "", false, fmt.Errorf("the new site has %s files and folders, and the disk of %s can hold %s more, however small (its inodes); remove what is not needed there, or choose a folder on another disk", humanize.Comma(need.inodes), dir, humanize.Comma(disk.Inodes))
	}
	return fmt.Sprintf("%s needed, %s free", humanize.Bytes(uint64(need.bytes)), humanize.Bytes(uint64(disk.Free))), false, nil
}

// filesNeed adds up what the files that are restored take of a disk.
func (p *Plan) filesNeed(a *archive.Archive, disk fsys.Disk) (need filesNeed, err error) {
	if !p.sel.folder() {
		return need, nil
	}
	if a == nil { // it is read as it comes: its manifest has to do
		m := p.Manifest
		need.inodes = m.Files.Count + m.Folders
		need.bytes = max(m.Blocks*manifest.Block, m.Files.Bytes) + m.Folders*disk.Block + need.inodes*disk.PerInode
		return need, nil
	}
	sparse := map[string]int64{}
	for _, f := range p.Manifest.Sparse {
		sparse[f.Name] = max(0, f.Bytes)
	}
	names := map[string]int64{} // bytes of the names in each folder
	err = a.Entries(func(e archive.Entry) error {
		rel, ok := strings.CutPrefix(e.Name, manifest.FilesDir)
		if !ok || rel == "" || !p.brings(strings.TrimSuffix(rel, "/")) {
			return nil
		}
		need.inodes++
		dir, name := path.Split(strings.TrimSuffix(rel, "/"))
		names[dir] += nameSize(name)
		switch e.Type {
		case archive.TypeFile:
			size := e.Size
			if bytes, ok := sparse[rel]; ok {
				size = min(size, bytes)
			}
			need.bytes += disk.Whole(size)
		case archive.TypeDir:
			names[strings.TrimSuffix(rel, "/")+"/"] += 0
		default:
			need.bytes += disk.PerInode
		}
		return nil
	})
	for _, size := range names {
		need.bytes += disk.Whole(max(1, size))
	}
	return need, err
}

// nameSize gives the bytes that a name takes in a folder: with a number and lengths, in
// blocks that are three quarters full (ext4's directories, which others do not exceed).
func nameSize(name string) int64 {
	const head = 8
	return int64(head+len(name)+3) / 4 * 4 * 4 / 3
}

// tableNeeds tells of the tables that are restored: their rows and the size of these are
// known where the archive can be read at any place.
func (p *Plan) tableNeeds(a *archive.Archive) error {
	d := p.Manifest.Database
	if d == nil {
		return nil
	}
	tables := map[string]*database.TableNeed{}
	for _, t := range d.Tables {
		if p.sel.table(t.Name) && t.Refused == "" {
			tables[t.Name] = &database.TableNeed{Name: t.Name, Bytes: t.Bytes, Keys: t.Keys, Counted: t.Rows, Rows: -1, Text: -1}
		}
	}
	if a != nil {
		summary, err := summaryOf(a)
		if err != nil {
			return err
		}
		for _, t := range summary.Tables {
			if n := tables[t.Name]; n != nil {
				n.Rows, n.Text = t.Rows, t.Bytes
			}
		}
		if err := p.largestRows(a, tables); err != nil {
			return err
		}
	}
	for _, t := range d.Tables {
		if n := tables[t.Name]; n != nil {
			p.needs = append(p.needs, *n)
		}
	}
	return nil
}

// largestRows finds the largest statement of each table: the last of a chunk, which ends
// with the row that fills it.
func (p *Plan) largestRows(a *archive.Archive, tables map[string]*database.TableNeed) error {
	all := p.Manifest.Database.Tables
	return a.Entries(func(e archive.Entry) error {
		m := entryName.FindStringSubmatch(e.Name)
		if m == nil || !strings.HasPrefix(m[2], "1-rows-") || e.Size <= manifest.ChunkSize {
			return nil
		}
		i, err := strconv.Atoi(m[1][1:6])
		if err != nil || i < 1 || i > len(all) {
			return nil // it is refused when it is restored
		}
		if n := tables[all[i-1].Name]; n != nil {
			n.Largest = max(n.Largest, e.Size-manifest.ChunkSize)
		}
		return nil
	})
}

// summaryOf reads what stands at an archive's end.
func summaryOf(a *archive.Archive) (*manifest.Summary, error) {
	content, err := a.ReadFile(manifest.SummaryName, manifest.MaxSize)
	if errors.Is(err, archive.ErrNoEntry) {
		return &manifest.Summary{}, nil // whoever reads all of it finds that
	}
	if err != nil {
		return nil, err
	}
	return parseSummary(content)
}

func parseSummary(content []byte) (*manifest.Summary, error) {
	s := &manifest.Summary{}
	if err := decodeJSON(content, s); err != nil {
		return nil, fmt.Errorf("%w: its summary cannot be read: %w", archive.ErrCorrupt, err)
	}
	return s, nil
}
