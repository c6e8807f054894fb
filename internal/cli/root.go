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
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/manifest"
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
	// documented says that the JSON document was written.
	documented bool
	begun      atomic.Bool // the command may have begun what it must end in order
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
	a.json = slices.Contains(args, "--json") // also of a line that cannot be read
	root.SetArgs(args)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := root.ExecuteContext(restore.WithNotices(ctx, a.notice))
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
		a.failed(errors.New(strings.TrimPrefix(text, "hovix: ")), exitFailed)
		return exitFailed
	}
	a.log.Error("failed", "error", err.Error())
	status := exitFailed
	var u usageError
	if errors.As(err, &u) || errors.Is(err, readdress.ErrUnmatched) || strings.HasPrefix(err.Error(), "unknown command") {
		status = exitUsage
	}
	a.complain(err)
	a.failed(err, status)
	return status
}

// failed writes an error as the one JSON document of a command that has written none.
func (a *app) failed(err error, status int) {
	if a.json && !a.documented && !a.streams() {
		_ = a.document(failureJSON{err.Error(), adviceFor(err), status}) // nobody is left to tell
	}
}

// streams reports whether standard output is for something else than a document.
func (a *app) streams() bool {
	for i, arg := range a.args {
		if arg == "-o-" || arg == "--output=-" || arg == "-" && i > 0 && (a.args[i-1] == "-o" || a.args[i-1] == "--output") {
			return true
		}
	}
	return false
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
	root.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return unknownCommand(cmd, args[0])
		}
		return cmd.Help()
	}
	root.Args = cobra.ArbitraryArgs
	root.SetHelpCommand(helpCommand())
	cobra.AddTemplateFunc("optionsHelp", optionsHelp)
	root.SetUsageTemplate(strings.NewReplacer("{{.LocalFlags.FlagUsages", "{{optionsHelp .LocalFlags", "{{.InheritedFlags.FlagUsages", "{{optionsHelp .InheritedFlags").Replace(root.UsageTemplate()))
	root.AddCommand(a.versionCommand(), a.passwordCommand())
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
	return slices.Contains([]string{"survey", "inspect", "check", "version", "help", "hovix"}, cmd.Name())
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
		return usage("there is no option --%s; see %s --help", name, cmd.CommandPath())
	}
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag needs an argument: "); ok {
		name = name[strings.LastIndex(name, " ")+1:]
		if len(name) == 1 { // 'o' in -o
			name = "-" + name
		}
		return usage("the option %s needs a value; see %s --help", name, cmd.CommandPath())
	}
	if name, ok := strings.CutPrefix(text, "unknown shorthand flag: "); ok {
		letter, _, _ := strings.Cut(strings.TrimPrefix(name, "'"), "'")
		return usage("there is no option -%s; see %s --help", letter, cmd.CommandPath())
	}
	if m := invalidValue.FindStringSubmatch(text); m != nil {
		why := m[3]
		if strings.HasPrefix(why, "strconv.ParseBool") {
			why = "it is true or false"
		} else if strings.HasPrefix(why, "strconv.") {
			why = "it is a number"
		}
		return usage("%s takes no %q: %s", m[2], m[1], why)
	}
	return usageError{err}
}

// invalidValue is what pflag says of a value that an option does not take.
var invalidValue = regexp.MustCompile(`^invalid argument "(.*)" for "(?:-\w, )?(--[\w-]+)" flag: (.*)$`)

// unknownCommand says that there is no such command, with the nearest.
func unknownCommand(cmd *cobra.Command, name string) error {
	var names []string
	for _, c := range cmd.Root().Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	if n := nearest.Of(name, names); n != "" {
		return usage("there is no command %s; did you mean hovix %s?", name, n)
	}
	return usage("there is no command %s; the commands are %s", name, strings.Join(names, ", "))
}

// helpCommand shows the help of a command.
func helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Say what a command does, with its options",
		RunE: func(cmd *cobra.Command, args []string) error {
			of, rest, err := cmd.Root().Find(args)
			if err != nil || len(rest) > 0 || of == nil {
				return unknownCommand(cmd, strings.Join(args, " "))
			}
			of.InitDefaultHelpFlag()
			return of.Help()
		},
	}
}

// versionCommand says which Hovix this is.
func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is",
		Args:  args(),
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.document(versionJSON{version, strings.Trim(revision(), " ()"), runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH, manifest.Format})
			}
			return ui.Fprintf(a.out, "hovix %s%s, built with %s for %s/%s\n", version, revision(), runtime.Version(), runtime.GOOS, runtime.GOARCH)
		},
	}
}

// versionJSON is the JSON document of version.
type versionJSON struct {
	Version  string `json:"version"`
	Revision string `json:"revision,omitempty"` // of the source, where the build knew it
	Go       string `json:"go"`
	Platform string `json:"platform"`
	Format   int    `json:"format"` // of archives
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
	a.documented = true
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
