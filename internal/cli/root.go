// Package cli is the command line of Hovix: one file for each command, which
// reads flags, calls the core and reports what came of it. Nothing of the work
// itself is done here.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/nearest"
	"hovix/internal/progress"
	"hovix/internal/readdress"
	"hovix/internal/restore"
)

// version is set by the linker when a release is built.
var version = "0.1.0"

// Exit statuses.
const (
	exitDone     = 0 // all is well
	exitFailed   = 1
	exitUsage    = 2 // the command line is wrong
	exitFindings = 3 // done, but a person should look at something
)

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	json     bool
	logFile  string
	log      *slog.Logger
	close    []func() error
	status   int
	args     []string        // as they were given
	ended    <-chan struct{} // closed by a signal
	begun    atomic.Bool     // the command may have begun what it must end in order
}

// usageError is an error of the command line.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usage(format string, a ...any) error { return usageError{fmt.Errorf(format, a...)} }

// advised is an error with what to do about it.
type advised struct {
	error
	advice string
}

func (e advised) Unwrap() error { return e.error }

// Main runs the command line and returns the exit status.
func Main(args []string) int {
	signals := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // as nohup has it; else a lost terminal ends a run as cleanly as Ctrl-C
		signals = append(signals, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), signals...)
	defer stop()
	a := &app{in: os.Stdin, out: os.Stdout, err: os.Stderr, log: slog.New(slog.DiscardHandler)}
	go a.watch(ctx, stop)
	return a.run(ctx, args)
}

// grace is how long a command may take to end that was interrupted and has nothing to
// put in order.
const grace = 700 * time.Millisecond

// watch ends an interrupted command that hangs in a read which nothing can cut short, such
// as that of a pipe, or in a long computation, unless it has begun what it must end.
func (a *app) watch(ctx context.Context, again func()) {
	<-ctx.Done()
	again() // a second signal ends the process as it would end others
	time.Sleep(grace)
	if !a.begun.Load() {
		fmt.Fprintln(os.Stderr, "hovix: interrupted; nothing was changed")
		os.Exit(exitFailed)
	}
}

func (a *app) run(ctx context.Context, args []string) int {
	root := a.root()
	a.args, a.ended = args, ctx.Done()
	root.SetArgs(args)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := root.ExecuteContext(ctx)
	defer func() {
		for _, c := range a.close {
			_ = c() // the log is whole already: its lines are written one by one
		}
	}()
	if err == nil {
		return a.status
	}
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		text := "hovix: interrupted; nothing was changed"
		var staged *restore.StagedError
		var left *leftError
		var unremoved *restore.UnremovedError
		switch {
		case errors.As(err, &staged), errors.As(err, &left):
			text += ", and what was done is left for --resume"
		case errors.As(err, &unremoved):
			text += ". What was staged is not removed in full yet; the next run at this target does that"
		}
		fmt.Fprintln(a.err, text)
		return exitFailed
	}
	a.log.Error("failed", "error", err.Error())
	a.complain(err)
	var u usageError
	if errors.As(err, &u) || errors.Is(err, readdress.ErrUnmatched) || strings.HasPrefix(err.Error(), "unknown command") {
		return exitUsage
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "hovix",
		Short: "Move a whole website to another host, folder or address",
		Long: `Hovix packs a website (database, uploads, code, settings) into one archive,
restores it on another host, in another folder and database, at another
address, and rewrites every embedded address on the way, in serialized
values too.

The archive is a tar file with Zstandard compression: tar opens it, and the
database's own client loads the SQL in it.`,
		Version:           version,
		SilenceErrors:     true,
		SilenceUsage:      true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.begun.Store(!onlyLooks(cmd))
			return a.openLog(cmd)
		},
	}
	root.SetVersionTemplate("hovix {{.Version}}" + revision() + "\n")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "write one JSON document instead of text for people")
	root.PersistentFlags().StringVar(&a.logFile, "log", "", "append structured log lines to `FILE`")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error { return flagError(cmd, err) })
	root.AddCommand(a.surveyCommand(), a.packCommand(), a.inspectCommand(), a.restoreCommand(), a.undoCommand(), a.rewriteCommand(), a.redirectsCommand(), a.demoCommand(), a.manCommand(), a.goOnCommand())
	return root
}

// onlyLooks reports whether a command changes nothing, so that it can be ended at any
// moment.
func onlyLooks(cmd *cobra.Command) bool {
	for _, name := range []string{"plan", "extract"} {
		if f := cmd.Flags().Lookup(name); f != nil && f.Changed {
			return name == "plan"
		}
	}
	return slices.Contains([]string{"survey", "inspect", "check"}, cmd.Name())
}

// withoutPlan gives the command line that does what --plan has shown.
func (a *app) withoutPlan() string {
	line := "hovix"
	for _, arg := range a.args {
		if arg != "--plan" {
			line += " " + shellWord(arg)
		}
	}
	return line
}

// revision tells from which commit the program was built, if the build knew.
func revision() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 12 {
				return " (" + s.Value[:12] + ")"
			}
		}
	}
	return ""
}

// flagError suggests the nearest flag for a misspelt one.
func flagError(cmd *cobra.Command, err error) error {
	if name, ok := strings.CutPrefix(err.Error(), "unknown flag: --"); ok {
		if n := nearest.Of(name, flagNames(cmd)); n != "" {
			return usage("there is no option --%s; did you mean --%s?", name, n)
		}
		return usage("there is no option --%s; see hovix %s --help", name, cmd.Name())
	}
	return usageError{err}
}

// args demands exactly the named arguments.
func args(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, given []string) error {
		if len(given) < len(names) {
			return usage("%s is missing; the command is: %s", names[len(given)], cmd.UseLine())
		}
		if len(given) > len(names) {
			return usage("%q is one argument too many; the command is: %s", given[len(names)], cmd.UseLine())
		}
		return nil
	}
}

func (a *app) openLog(cmd *cobra.Command) error {
	if a.logFile == "" {
		return nil
	}
	f, err := os.OpenFile(a.logFile, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("open the log: %w", err)
	}
	a.close = append(a.close, f.Close)
	a.log = slog.New(slog.NewJSONHandler(ui.JSON(f), nil)).With("command", cmd.Name())
	a.log.Info("begin", "version", version, "arguments", cmd.Flags().Args())
	return nil
}

// complain writes an error: what and why, then what to do.
func (a *app) complain(err error) {
	text := strings.ReplaceAll(strings.TrimSpace(err.Error()), "\n", "; ")
	if !strings.HasSuffix(text, ".") && !strings.HasSuffix(text, "?") {
		text += "."
	}
	_ = ui.Fprintf(a.err, "hovix: %s\n", text)
	if advice := adviceFor(err); advice != "" {
		_ = ui.Fprintf(a.err, "       %s\n", advice)
	}
}

// document writes v as the one JSON document of the command.
func (a *app) document(v any) error {
	e := json.NewEncoder(ui.JSON(a.out))
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// reporter shows progress on standard error and logs phases.
func (a *app) reporter() (*ui.Progress, progress.Reporter) {
	p := ui.NewProgress(a.err)
	return p, &loggingReporter{p, a.log}
}

type loggingReporter struct {
	*ui.Progress
	log *slog.Logger
}

func (l *loggingReporter) Phase(name string, total int64) {
	l.log.Info("phase", "name", name, "bytes", total)
	l.Progress.Phase(name, total)
}

// findings sets the exit status for a result that a person should look at.
func (a *app) findings(n int64) {
	if n > 0 {
		a.status = exitFindings
	}
}
