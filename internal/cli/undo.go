package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/restore"
	"hovix/internal/site"
)

type undoFlags struct {
	redo, discard, plan, yes bool
	olderThan                string
	db                       databaseFlags
}

func (a *app) undoCommand() *cobra.Command {
	var f undoFlags
	cmd := &cobra.Command{
		Use:   "undo TARGET",
		Short: "Put back what the last restore replaced",
		Long: `Exchange the site in the folder TARGET for the one that the last restore replaced:
its files and its tables, in one short step. The site that is taken away is kept
in the same place, so that --redo brings it back. Run again, undo goes back one
restore further; three undo points of a target are kept.

--discard removes undo points for good, and frees their space in the folder and
in the database.`,
		Example: "  hovix undo /var/www/new\n  hovix undo /var/www/new --redo\n  hovix undo /var/www/new --discard --older-than 30d",
		Args:    args("TARGET"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.undo(cmd.Context(), args[0], &f)
		},
	}
	fl := cmd.Flags()
	fl.BoolVar(&f.redo, "redo", false, "take back the last undo")
	fl.BoolVar(&f.discard, "discard", false, "remove undo points for good instead")
	fl.StringVar(&f.olderThan, "older-than", "", "with --discard: only those older than this `AGE`, such as 30d or 12h")
	fl.BoolVarP(&f.yes, "yes", "y", false, "do it without asking")
	fl.BoolVar(&f.plan, "plan", false, "list the undo points and say what would be done, and do nothing")
	f.db.add(cmd, "log in to the database like this instead of as the target's settings say")
	return cmd
}

// parseAge reads an age such as 30d, 12h or 90m.
func parseAge(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.ParseFloat(days, 64); err == nil && n >= 0 {
			return time.Duration(n * 24 * float64(time.Hour)), nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		return 0, usage("--older-than %q is no age; write days or hours, such as 30d or 12h", s)
	}
	return d, nil
}

func (a *app) undo(ctx context.Context, target string, f *undoFlags) error {
	var known database.Location
	if s, err := site.Open(target); err == nil {
		known = s.Database
	}
	given, err := f.db.location(a, known)
	if err != nil {
		return err
	}
	switch {
	case f.discard && f.redo:
		return usage("--discard removes undo points, and --redo uses one; give one of the two")
	case f.olderThan != "" && !f.discard:
		return usage("--older-than says what --discard removes; give both")
	case f.discard:
		return a.discard(ctx, target, given, f)
	}
	var plan *restore.UndoPlan
	opts := restore.UndoOptions{Target: target, Redo: f.redo, Database: given, PlanOnly: f.plan, Guard: a.guard()}
	opts.Confirm = func(p *restore.UndoPlan) error {
		plan = p
		return a.confirmUndo(ctx, p, given, f)
	}
	res, err := restore.Undo(ctx, opts)
	switch {
	case errors.Is(err, restore.ErrPlanned):
		return nil
	case errors.Is(err, restore.ErrNoPoint):
		return advised{err, "Undo points are made by hovix restore and hovix rewrite, and lie beside the folder of the site."}
	case err != nil:
		return err
	}
	a.findings(int64(len(res.Warnings)))
	a.log.Info("undone", "target", res.Plan.Target, "redo", f.redo, "seconds", res.Switch.Seconds())
	if a.json {
		return a.document(res)
	}
	a.printUndone(res, plan)
	return nil
}

func (a *app) printUndone(res *restore.UndoResult, plan *restore.UndoPlan) {
	p := ui.New(a.out)
	target := shellWord(res.Plan.Target)
	if plan == nil { // an interrupted run was all there was
		title := "Nothing to put back"
		if res.Plan.Recovery.Finished {
			title = "Finished the undo"
		}
		p.Title(title, res.Plan.Target)
		p.Field("Earlier", res.Plan.Recovery.String())
		p.Next("hovix survey " + target)
		return
	}
	title := "Put back " + plan.Point.Holds.String()
	switch {
	case plan.Redo:
		title = "Brought again " + plan.Point.Holds.String()
	case plan.Point.Holds.IsNothing():
		title = "Took the site away again"
	}
	p.Title(title, res.Plan.Target)
	if rec := plan.Recovery; rec != nil {
		p.Field("Earlier", rec.String())
	}
	p.Field("Taken away", plan.Point.Other.String(), p.Dim("kept in "+res.Kept))
	p.Field("Switch", seconds(res.Switch))
	for _, w := range res.Warnings {
		p.Warn("%s", w)
	}
	next := []string{"hovix survey " + target, "hovix undo " + target + " --redo"}
	if plan.Redo {
		next[1] = "hovix undo " + target
	}
	p.Next(next...)
}

// confirmUndo shows what is kept and what would be exchanged, and asks once.
func (a *app) confirmUndo(ctx context.Context, plan *restore.UndoPlan, given database.Location, f *undoFlags) error {
	list, err := restore.Points(ctx, plan.Target, given)
	if err != nil {
		return err
	}
	if f.plan && a.json {
		return a.document(undoPlanJSON{plan, list})
	}
	if f.yes && !f.plan {
		return nil
	}
	p := ui.New(a.err)
	if f.plan {
		p = ui.New(a.out)
	}
	title := "Put back " + plan.Point.Holds.String()
	if plan.Point.Holds.IsNothing() {
		title = "Take the site away again"
	}
	p.Title(title, plan.Target)
	if rec := plan.Recovery; rec != nil {
		p.Field("Earlier", rec.String())
	}
	p.Field("In place of", plan.Point.Other.String())
	if s, err := site.Open(plan.Target); err == nil && !s.Address.IsZero() && s.Address.String() != plan.Point.Other.Address {
		p.Field("Address now", s.Address.String(), p.Dim("as its settings say"))
	}
	printPoints(p, list, plan.Point.ID)
	if f.plan {
		p.Next(a.withoutPlan())
		return nil
	}
	p.Line("")
	if !ui.IsTerminal(a.in) {
		return advised{fmt.Errorf("the site in %s would be exchanged; %w", plan.Target, restore.ErrDeclined), "Run the same command with --yes to exchange it, or with --plan to see what is kept."}
	}
	return a.ask(a.in, "Exchange them? The site that is there now is kept.")
}

// printPoints lists what is kept for a target, newest first.
func printPoints(p *ui.Printer, list []*restore.Point, chosen string) {
	p.Section("Kept")
	var rows [][]string
	for i := len(list) - 1; i >= 0; i-- {
		pt := list[i]
		what := "before the restore"
		if pt.InPlace != nil {
			what = "before the rewriting"
		}
		if pt.Undone {
			what = "undone; --redo brings it again"
		}
		mark := "  "
		if pt.ID == chosen {
			mark = p.Mark() + " "
		}
		rows = append(rows, []string{mark + pt.Made.Local().Format("2 Jan 2006, 15:04"), what, pt.Holds.String(), ui.Bytes(pt.Bytes)})
	}
	p.Table(rows)
}

// discard removes undo points after asking.
func (a *app) discard(ctx context.Context, target string, given database.Location, f *undoFlags) error {
	var age time.Duration
	var err error
	if f.olderThan != "" {
		if age, err = parseAge(f.olderThan); err != nil {
			return err
		}
	}
	list, err := restore.Points(ctx, target, given)
	if err != nil {
		return err
	}
	limit := time.Now().Add(-age)
	keep := func(p *restore.Point) bool { return f.olderThan != "" && p.Made.After(limit) }
	var gone []*restore.Point
	var size int64
	for _, p := range list {
		if !keep(p) {
			gone = append(gone, p)
			size += p.Bytes
		}
	}
	p := ui.New(a.out)
	if len(gone) == 0 || f.plan {
		if a.json {
			return a.document(discardedJSON{gone, size})
		}
		p.Title("Undo points to remove: "+strconv.Itoa(len(gone)), target)
		if len(list) > 0 {
			printPoints(p, list, "")
		}
		if len(gone) > 0 {
			p.Next(a.withoutPlan())
		} else {
			p.Line("")
		}
		return nil
	}
	if !f.yes {
		e := ui.New(a.err)
		e.Title("Remove "+ui.Count(int64(len(gone)), "undo point", "undo points"), target)
		printPoints(e, gone, "")
		e.Line("")
		if !ui.IsTerminal(a.in) {
			return advised{fmt.Errorf("%s (%s) would be removed for good; %w", ui.Count(int64(len(gone)), "undo point", "undo points"), ui.Bytes(size), restore.ErrDeclined), "Run the same command with --yes to remove them."}
		}
		if err := a.ask(a.in, "Remove them for good?"); err != nil {
			return err
		}
	}
	if _, err := restore.Discard(ctx, target, given, keep); err != nil {
		return err
	}
	if a.json {
		return a.document(discardedJSON{gone, size})
	}
	p.Title("Removed "+ui.Count(int64(len(gone)), "undo point", "undo points"), target)
	p.Field("Freed", ui.Bytes(size))
	p.Line("")
	return nil
}
