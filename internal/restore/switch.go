package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hovix/internal/database/engines"
	"hovix/internal/site"
)

// exchange writes the settings into the stage and switches files and tables.
// Files go first: to change two names back undoes them, should the tables fail.
func (r *run) exchange(ctx context.Context) error {
	if err := r.writeSettings(); err != nil {
		return err
	}
	mode := fs.FileMode(0o755)
	if st, err := os.Stat(r.plan.Target); err == nil {
		mode = st.Mode().Perm()
	}
	start := time.Now()
	inFolder := r.db != nil && r.plan.inside != ""
	if inFolder { // the database file is switched with its folder
		if _, err := r.db.Switch(ctx); err != nil {
			return err
		}
	}
	if err := r.files.seal(mode); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// From here on nothing is interrupted: it is done in a moment, or undone.
	ctx = context.WithoutCancel(ctx)
	undo, err := r.switchFiles()
	if err != nil {
		return err
	}
	if r.db != nil && !inFolder {
		rep, err := r.db.Switch(ctx)
		if err != nil {
			return errors.Join(err, undo())
		}
		r.res.Replaced = rep
		r.res.Warnings = append(r.res.Warnings, rep.Warnings...)
	}
	r.files.done = true
	r.res.Switch = time.Since(start)
	r.res.Files = site.Amount{Count: r.files.count, Bytes: r.files.bytes}
	return nil
}

// switchFiles puts the staged folder in the place of the target. undo puts the
// old one back.
func (r *run) switchFiles() (undo func() error, err error) {
	p, s := r.plan, r.files
	if p.Create {
		if err := os.Rename(s.dir, p.Target); err != nil {
			return nil, fmt.Errorf("put the new site in place: %w", err)
		}
		return func() error { return os.Rename(p.Target, s.dir) }, syncDir(p.parent)
	}
	holder := r.holder()
	if err := os.Mkdir(holder, 0o700); err != nil {
		return nil, fmt.Errorf("make a place for what is replaced: %w", err)
	}
	old := filepath.Join(holder, "files")
	if err := swap(s.dir, p.Target, old); err != nil {
		return nil, errors.Join(fmt.Errorf("exchange the folders: %w", err), os.Remove(holder))
	}
	r.res.Kept = holder
	if p.Lose.Count == 0 {
		// An empty folder is not worth keeping.
		if os.Remove(old) == nil && os.Remove(holder) == nil {
			r.res.Kept = ""
		}
	}
	undo = func() error {
		if r.res.Kept == "" {
			return os.Rename(p.Target, s.dir)
		}
		return errors.Join(os.Rename(p.Target, s.dir), os.Rename(old, p.Target), os.Remove(holder))
	}
	return undo, syncDir(p.parent)
}

// holder is the folder that keeps what this restore replaces.
func (r *run) holder() string {
	return filepath.Join(r.plan.parent, "."+filepath.Base(r.plan.Target)+".hovix-before-"+r.opts.Now.UTC().Format("20060102-150405")+"-"+r.files.id)
}

func syncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return nil // not every system lets a folder be opened
	}
	defer f.Close()
	_ = f.Sync()
	return nil
}

// writeSettings puts the target's values into the archive's settings files.
func (r *run) writeSettings() error {
	t := site.SettingsTarget{Root: r.plan.Target, Database: r.plan.location, Address: r.plan.address, Existing: r.plan.existing}
	if r.m.Database != nil {
		t.Prefix = r.m.Database.Prefix
		if r.plan.inside != "" {
			t.Database.Path = filepath.ToSlash(r.plan.inside)
		}
	}
	var names []string
	for rel := range r.settings {
		names = append(names, rel)
	}
	slices.Sort(names)
	files := site.Files{}
	for _, rel := range names {
		files[rel] = r.settings[rel].content
	}
	if err := r.kind.Write(files, t); err != nil {
		return fmt.Errorf("write the settings: %w", err)
	}
	for _, rel := range names { // what is in its place already is no leftover
		files[rel] = r.way.File(rel, files[rel])
		if err := r.files.write(rel, r.settings[rel].entry, files[rel]); err != nil {
			return err
		}
		r.res.Settings = append(r.res.Settings, rel)
	}
	return nil
}

// finish does what needs the new site in place. Its failures are warnings: the
// site is there.
func (r *run) finish(ctx context.Context) {
	warn := func(err error) {
		if err != nil {
			r.res.Warnings = append(r.res.Warnings, err.Error())
		}
	}
	if r.res.Replaced != nil && (len(r.res.Replaced.PutBack) > 0) && r.res.Kept == "" {
		r.res.Kept = r.holder()
		warn(os.Mkdir(r.res.Kept, 0o700))
	}
	if r.res.Kept != "" {
		warn(os.WriteFile(filepath.Join(r.res.Kept, "PUT-BACK.txt"), r.putBack(), 0o600))
	}
	if r.db == nil {
		return
	}
	db, err := engines.Open(ctx, r.plan.location)
	if err != nil {
		warn(fmt.Errorf("read the new database: %w", err))
		return
	}
	defer db.Close()
	r.res.Accounts, err = r.kind.Accounts(ctx, r.m.Database.Prefix, db)
	warn(err)
}

// putBack says how to undo the restore by hand.
func (r *run) putBack() []byte {
	var b strings.Builder
	p := r.plan
	fmt.Fprintf(&b, "What a restore replaced on %s\n\n", r.opts.Now.UTC().Format("2 January 2006 at 15:04:05 UTC"))
	if _, err := os.Stat(filepath.Join(r.res.Kept, "files")); err == nil {
		fmt.Fprintf(&b, "The old folder %s is in files/ beside this text. To put it back:\n\n", p.Target)
		fmt.Fprintf(&b, "    mv %s %s\n    mv %s %s\n\n", shellQuote(p.Target), shellQuote(p.Target+".new"), shellQuote(filepath.Join(r.res.Kept, "files")), shellQuote(p.Target))
	}
	if rep := r.res.Replaced; rep != nil && len(rep.PutBack) > 0 {
		fmt.Fprintf(&b, "The old state of %s is kept beside the new. To put it back, run there:\n\n", p.Database)
		for _, s := range rep.PutBack {
			fmt.Fprintf(&b, "    %s\n", s)
		}
		b.WriteString("\n")
	}
	b.WriteString("If the new site is as it should be, this folder")
	if rep := r.res.Replaced; rep != nil && len(rep.Tables) > 0 {
		b.WriteString(" and the tables whose names begin with _hovix_before_")
	}
	b.WriteString(" can be removed.\n")
	return []byte(b.String())
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
