package site

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"hovix/internal/database"
	"hovix/internal/database/engines"
)

// Survey is what a look at a whole site found.
type Survey struct {
	Site        *Site
	Info        database.Info
	Tables      []database.Table
	Others      int // tables in the same database that do not bear the site's prefix
	NotCarried  []string
	Parts       map[Part]Amount
	PHP         string  // version of PHP on the command line, where software needs it
	Largest     []Thing // the largest files and tables
	LeftOut     []LeftOut
	DatabaseErr error // why the database could not be read
	Accounts    []Account
}

// Amount is a number of things and their size.
type Amount struct {
	Count int64 `json:"count"` // files, or tables
	Bytes int64 `json:"bytes"`
}

// Thing is a file or table with its size.
type Thing struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// howMany things a survey names as the largest.
const howMany = 5

// Look surveys the site. A database that cannot be read does not end it: the
// error is part of the survey.
func (s *Site) Look(ctx context.Context) (*Survey, error) {
	v := &Survey{Site: s, Parts: map[Part]Amount{}}
	if s.Requires["php"] != "" {
		v.PHP = Runtime(ctx)["php"]
	}
	err := s.Walk(ctx, func(f File) error {
		if f.Info.IsDir() {
			return nil
		}
		a := v.Parts[f.Part]
		v.Parts[f.Part] = Amount{a.Count + 1, a.Bytes + f.Info.Size()}
		v.Largest = KeepLargest(v.Largest, Thing{f.Rel, f.Info.Size()})
		return nil
	}, func(l LeftOut) { v.LeftOut = append(v.LeftOut, l) })
	if err != nil {
		return nil, fmt.Errorf("look through %s: %w", s.Root, err)
	}
	if !s.Database.IsZero() {
		v.DatabaseErr = v.database(ctx)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return v, nil
}

func (v *Survey) database(ctx context.Context) error {
	r, err := engines.Open(ctx, v.Site.Database)
	if err != nil {
		return err
	}
	defer r.Close()
	v.Info = r.Info()
	all, err := r.Tables(ctx)
	if err != nil {
		return err
	}
	v.Tables = v.Site.Own(all)
	v.Others = len(all) - len(v.Tables)
	if v.LeftOut, err = v.Site.RowsLeftOut(ctx, r, v.Tables, v.LeftOut); err != nil {
		return err
	}
	a := Amount{Count: int64(len(v.Tables))}
	for _, t := range v.Tables {
		a.Bytes += t.Bytes
		v.Largest = KeepLargest(v.Largest, Thing{"table " + t.Name, t.Bytes})
	}
	v.Parts[Database] = a
	if v.NotCarried, err = r.NotCarried(ctx); err != nil {
		return err
	}
	if err := v.Site.Ask(ctx, r); err != nil {
		return err
	}
	v.Accounts, err = v.Site.Accounts(ctx, r)
	return err
}

// KeepLargest puts t into a list of the largest things, largest first, if it is
// among the few that the list keeps, and returns the list.
func KeepLargest(list []Thing, t Thing) []Thing {
	i, _ := slices.BinarySearchFunc(list, t, func(a, b Thing) int { return int(min(1, max(-1, b.Bytes-a.Bytes))) })
	if i >= howMany {
		return list
	}
	list = slices.Insert(list, i, t)
	return list[:min(len(list), howMany)]
}

// ResolveSQLite gives the path of an SQLite database relative to the site's
// folder, and whether it lies in it.
func (s *Site) ResolveSQLite() (rel string, inside bool) {
	if s.Database.Engine != database.SQLite {
		return "", false
	}
	rel = relative(s.Root, s.Database.Path)
	return rel, filepath.IsLocal(rel)
}
