package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/fault"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// exchange completes what is staged, makes it durable, and has it exchanged for
// the live state.
func (r *run) exchange(ctx context.Context) error {
	if r.files != nil {
		if err := r.writeSettings(); err != nil {
			return err
		}
	}
	if r.db != nil {
		state, warnings, err := r.db.Seal(ctx)
		if err != nil {
			return err
		}
		r.sealed = true
		if state != nil {
			state.Absent = append(state.Absent, r.plan.absent...)
		}
		r.j.State = state
		r.res.Warnings = append(r.res.Warnings, warnings...)
	}
	if r.files != nil {
		if err := r.sealFiles(ctx); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return r.carryOut(context.WithoutCancel(ctx))
}

// sealFiles completes the new folder and makes it durable.
func (r *run) sealFiles(ctx context.Context) error {
	if err := r.goneAfter(ctx); err != nil {
		return err
	}
	if err := r.bring(ctx); err != nil {
		return err
	}
	mode := fs.FileMode(0o755)
	if st, err := os.Stat(r.plan.Target); err == nil {
		mode = st.Mode().Perm()
	}
	if err := r.files.seal(ctx, mode, r.plan); err != nil {
		return err
	}
	if err := r.files.dir.SyncAll(ctx); err != nil {
		return fmt.Errorf("write the staged files to the disk: %w", err)
	}
	return nil
}

// carryOut makes the switch. Nothing interrupts it: it is done in a moment, or
// taken back.
func (r *run) carryOut(ctx context.Context) error {
	start := time.Now()
	r.j.Step, r.j.Folder = switching, r.annex.TargetSerial()
	if r.files != nil {
		r.j.Folder, r.j.Shared = r.files.dir.SerialOf("."), r.plan.shared
	}
	if r.files != nil && r.annex.Inside {
		var err error
		if r.j.Moves, err = contentMoves(r.annex, r.j.Point); err != nil {
			r.j.Step = staging
			return err
		}
	}
	r.j.Record = r.point()
	fault.Point("sealed")
	if err := r.j.write(r.annex); err != nil {
		r.j.Step = staging // so that it is removed
		return err
	}
	fault.Point("switching")
	warnings, err := carryOut(ctx, r.annex, r.j, r.login, r.opts.Guard)
	r.res.Warnings = append(r.res.Warnings, warnings...)
	var not *notSwitchedError
	if errors.As(err, &not) {
		r.j.Step = staging
		return not.error
	}
	if err != nil {
		return &HalfwayError{"the switch", err}
	}
	r.res.Switch = time.Since(start)
	r.res.Files = r.files.amount()
	return nil
}

// point describes what will be kept.
func (r *run) point() *Point {
	p := r.plan
	point := &Point{ID: r.j.Point, Made: r.opts.Now, Database: r.j.Database, Shared: r.j.Shared, Other: Held{Name: r.m.Name, Address: p.Address, Files: r.files.amount(), Tables: len(r.res.Tables)}}
	point.Holds = Held{Files: p.Lose, Tables: len(p.Tables), NoFolder: p.Create}
	if s := p.live; s != nil {
		point.Holds.Name = s.Name
		if !s.Address.IsZero() {
			point.Holds.Address = s.Address.String()
		}
	}
	return point
}

// writeSettings puts the target's values into the archive's settings files.
func (r *run) writeSettings() error {
	t := site.SettingsTarget{Root: r.plan.Target, Database: r.settingsLogin(), Address: r.plan.address, Existing: r.plan.existing}
	if r.m.Database != nil {
		t.Prefix = r.m.Database.Prefix
		if r.plan.sel.part(site.Database) {
			t.Prefix = r.plan.Prefix
		}
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
	if old, err := rewrite.ParseAddress(r.m.Address); err == nil && !r.plan.address.IsZero() {
		if err := site.MoveSettings(r.kind, files, old, r.plan.address); err != nil {
			return fmt.Errorf("write the settings: %w", err)
		}
	}
	for _, rel := range names { // what is in its place already is no leftover
		files[rel] = r.way.File(rel, files[rel])
	}
	// A database's host may be one of the old addresses, and is what it was given for.
	if err := r.kind.Write(files, t.Again(files)); err != nil {
		return fmt.Errorf("write the settings: %w", err)
	}
	for _, rel := range names {
		if err := r.files.write(rel, r.settings[rel].entry, files[rel]); err != nil {
			return err
		}
		r.res.Settings = append(r.res.Settings, rel)
	}
	return r.checkSettings(files)
}

// finish does what needs the new site in place. Its failures are warnings: the
// site is there.
func (r *run) finish(ctx context.Context) {
	warn := func(err error) {
		if err != nil {
			r.res.Warnings = append(r.res.Warnings, err.Error())
		}
	}
	p := &Point{}
	if err := r.annex.Read(filepath.Join(r.j.Point, pointName), p); err == nil {
		p.ID = r.j.Point
		r.res.Point, r.res.Kept = p, r.annex.Shown(p.ID)
		r.res.Replaced, err = p.replaced(ctx, r.login)
		warn(err)
		p.measure(ctx, r.annex, []database.Location{r.login})
	} else if !errors.Is(err, fs.ErrNotExist) {
		warn(err)
	}
	dropped, err := trim(ctx, r.annex, r.j.Point, logins(r.plan.Target, r.opts.Database))
	warn(err)
	r.res.Dropped = dropped
	if r.db == nil {
		return
	}
	db, err := engines.Open(ctx, r.plan.location)
	if err != nil {
		warn(fmt.Errorf("read the new database: %w", err))
		return
	}
	defer db.Close()
	r.res.Accounts, err = r.kind.Accounts(ctx, r.plan.Prefix, db)
	warn(err)
}
