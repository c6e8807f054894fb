// Package manifest is what a Hovix archive says of itself: the first entry,
// written before anything is packed, and the summary, written when all is
// known. Both are JSON. docs/archive-format.md explains each field.
package manifest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/site"
)

// Names of entries and the prefixes of their groups.
const (
	Name        = "hovix/manifest.json"
	SummaryName = "hovix/summary.json"
	Readme      = "RESTORE.txt"
	DatabaseDir = "database/"
	FilesDir    = "files/"
	SettingsDir = "settings/"
	// EarlyName is the entry with what tables need: types, sequences, routines.
	EarlyName = DatabaseDir + "1-early.sql"
	// MaxSize bounds what a reader takes as a manifest or summary, in bytes.
	MaxSize = 16 << 20
	// Format is the version of the layout of entries.
	Format = 1
)

// Manifest is the first entry.
type Manifest struct {
	Format   int               `json:"format"`
	Made     time.Time         `json:"made"`
	By       string            `json:"by"` // "hovix 0.1.0"
	Kind     string            `json:"kind"`
	Name     string            `json:"name"`
	Address  string            `json:"address,omitempty"`
	Others   []string          `json:"others,omitempty"` // further addresses of the same site
	Root     string            `json:"root"`             // its folder on the source
	Version  string            `json:"version,omitempty"`
	Requires map[string]string `json:"requires,omitempty"`
	Runtime  map[string]string `json:"runtime,omitempty"` // what ran on its machine: "php" → "8.2.7"
	Parts    []site.Part       `json:"parts"`
	Database *Database         `json:"database,omitempty"`
	Uploads  []string          `json:"uploads,omitempty"`
	Caches   []string          `json:"caches,omitempty"`
	Settings []string          `json:"settings,omitempty"`
	Keep     []string          `json:"keep,omitempty"`   // columns whose addresses must not change
	Moved    []string          `json:"moved,omitempty"`  // columns that the kind gives their new values itself
	Files    site.Amount       `json:"files"`            // as counted before packing
	Blocks   int64             `json:"blocks,omitempty"` // of 4096 bytes, that they take of a disk
	Folders  int64             `json:"folders,omitempty"`
	Sparse   []SparseFile      `json:"sparse,omitempty"` // files with holes
	LeftOut  []site.LeftOut    `json:"leftOut,omitempty"`
	Notes    []string          `json:"notes,omitempty"`
	Section  bool              `json:"section,omitempty"` // it holds a section of the site
	Secrets  bool              `json:"secrets,omitempty"` // its settings hold their passwords and keys
	Order    string            `json:"order,omitempty"`   // of what and how it was packed, for a pack to know its own beginning again
	// LinksOut are the first of the symbolic links that lead out of the site's folder,
	// as name → target, and their number.
	LinksOut []string `json:"linksOut,omitempty"`
	Links    int64    `json:"linksOutCount,omitempty"`
}

// SparseFile is a file that takes less of a disk than its size, for it has holes. They are
// zeros in the archive, and holes again where it is restored.
type SparseFile struct {
	Name  string `json:"name"`  // below the site's folder
	Bytes int64  `json:"bytes"` // that it took
}

// MaxSparse is how many files with holes a manifest names.
const MaxSparse = 10_000

// ChunkSize is about how much SQL text goes into one entry, in bytes: one
// statement, well below the packet size of any server in use. Several entries
// share a frame of the archive and are hashed side by side.
const ChunkSize = 512 << 10

// Block is the size of the blocks in which a manifest counts what files take of a disk, in
// bytes.
const Block = 4096

// Database is what the manifest says of the database.
type Database struct {
	Engine     database.Engine       `json:"engine"`
	Product    string                `json:"product"`
	Version    string                `json:"version"`
	Charset    string                `json:"charset,omitempty"`
	Prefix     string                `json:"prefix,omitempty"`
	Path       string                `json:"path,omitempty"` // of an SQLite file, relative to the site's folder
	Name       string                `json:"name,omitempty"` // on its server, and
	Host       string                `json:"host,omitempty"` // that server, so that settings which still name them are found
	Tables     []database.Table      `json:"tables"`
	Objects    []database.ObjectKind `json:"objects,omitempty"` // kinds of what it holds besides tables
	NotCarried []string              `json:"notCarried,omitempty"`
	Collations []string              `json:"collations,omitempty"` // that its tables use
	Stored     []StoredCode          `json:"storedCode,omitempty"` // what it runs by itself
	Extensions []string              `json:"extensions,omitempty"` // of PostgreSQL, that it needs
}

// StoredCode is a trigger, routine, event or rule.
type StoredCode struct {
	Kind database.ObjectKind `json:"kind"`
	Name string              `json:"name"`
}

// Summary is the last entry.
type Summary struct {
	Tables   []TableSummary `json:"tables,omitempty"`
	Rows     int64          `json:"rows"`
	Files    site.Amount    `json:"files"`
	Settings int64          `json:"settings"`
	Problems []Problem      `json:"problems,omitempty"`
}

// TableSummary tells how many rows of a table were packed.
type TableSummary struct {
	Name  string `json:"name"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"` // of SQL text
}

// Problem is something that could not be packed as it was.
type Problem struct {
	What string `json:"what"`
	Why  string `json:"why"`
}

// Parse reads a manifest. An unknown format gives an error wrapping
// archive.ErrNotArchive.
func Parse(content []byte) (*Manifest, error) {
	m := &Manifest{}
	if err := json.Unmarshal(content, m); err != nil {
		return nil, fmt.Errorf("%w: its manifest cannot be read: %w", archive.ErrNotArchive, err)
	}
	if m.Format != Format {
		return nil, fmt.Errorf("%w that this Hovix can read: its layout is version %d, this Hovix knows version %d; use a newer Hovix", archive.ErrNotArchive, m.Format, Format)
	}
	return m, m.check()
}

// check insists that paths in a manifest lead nowhere but into the site.
func (m *Manifest) check() error {
	paths := slices.Concat(m.Settings, m.Uploads, m.Caches)
	if m.Database != nil && m.Database.Path != "" {
		paths = append(paths, m.Database.Path)
	}
	for _, p := range paths {
		if err := archive.CheckName(strings.TrimSuffix(p, "/")); err != nil {
			return fmt.Errorf("its manifest: %w", err)
		}
	}
	return nil
}

// Encode gives v as indented JSON with a final line break.
func Encode(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// ErrNoSummary says that an archive has no summary, so that it was not written
// to its end by a Hovix.
var ErrNoSummary = errors.New("the archive has no summary")

// Has reports whether the archive holds the part.
func (m *Manifest) Has(p site.Part) bool {
	for _, q := range m.Parts {
		if p == q {
			return true
		}
	}
	return false
}

// Below gives what follows root in an absolute path in it, with the slash before
// it; ok is false for any other path.
func Below(root, path string) (rest string, ok bool) {
	if rest, ok = strings.CutPrefix(path, root); ok && root != "" && (rest == "" || rest[0] == '/') {
		return rest, true
	}
	return "", false
}
