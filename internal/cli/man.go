package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// manDate is the date of the manual pages: the same pages come from the same source.
const manDate = "29 November 2026"

// manCommand writes the manual pages; packagers call it.
func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "man FOLDER",
		Short:  "Write the manual pages into a folder",
		Hidden: true,
		Args:   args("FOLDER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fmt.Errorf("write the manual pages: %w", err)
			}
			return writeManual(cmd.Root(), args[0])
		},
	}
}

// writeManual writes the page of a command, and those of its commands.
func writeManual(cmd *cobra.Command, dir string) error {
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-") + ".1"
	if err := os.WriteFile(filepath.Join(dir, name), []byte(manualPage(cmd)), 0o644); err != nil {
		return fmt.Errorf("write the manual page %s: %w", name, err)
	}
	for _, c := range cmd.Commands() {
		if !c.IsAvailableCommand() {
			continue
		}
		if err := writeManual(c, dir); err != nil {
			return err
		}
	}
	return nil
}

// manualPage gives a page in the macros of man(7).
func manualPage(cmd *cobra.Command) string {
	cmd.InitDefaultHelpFlag()
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
	p(`.TH "%s" "1" "%s" "Hovix %s" "Hovix"`, strings.ToUpper(name), manDate, version)
	p(".SH NAME\n%s \\- %s", roff(name), roff(cmd.Short))
	p(".SH SYNOPSIS\n.B %s", roff(cmd.UseLine()))
	p(".SH DESCRIPTION")
	long := cmd.Long
	if long == "" {
		long = cmd.Short + "."
	}
	for _, paragraph := range strings.Split(long, "\n\n") {
		if strings.HasPrefix(paragraph, " ") {
			p(".PP\n.nf\n%s\n.fi", roff(paragraph))
		} else {
			p(".PP\n%s", roff(paragraph))
		}
	}
	manualOptions(p, "OPTIONS", cmd.NonInheritedFlags())
	manualOptions(p, "OPTIONS OF ALL COMMANDS", cmd.InheritedFlags())
	if cmd.Example != "" {
		p(".SH EXAMPLES\n.nf\n%s\n.fi", roff(cmd.Example))
	}
	p(".SH EXIT STATUS\n0: all is well. 1: it failed. 2: the command line is wrong. 3: done, but a person should look at something.")
	var others []string
	if cmd.HasParent() {
		others = append(others, manualName(cmd.Parent()))
	}
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			others = append(others, manualName(c))
		}
	}
	p(".SH SEE ALSO\n%s", strings.Join(others, ", "))
	return b.String()
}

func manualName(cmd *cobra.Command) string {
	return `\fB` + roff(strings.ReplaceAll(cmd.CommandPath(), " ", "-")) + `\fR(1)`
}

// manualOptions lists options with what they take.
func manualOptions(p func(string, ...any), title string, flags *pflag.FlagSet) {
	if !flags.HasAvailableFlags() {
		return
	}
	p(".SH %s", title)
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		value, usage := optionUsage(f)
		head := ""
		if f.Shorthand != "" {
			head = `\fB\-` + f.Shorthand + `\fR, `
		}
		head += `\fB` + roff("--"+f.Name) + `\fR`
		if value != "" {
			head += ` \fI` + roff(value) + `\fR`
		}
		p(".TP\n%s\n%s", head, roff(usage))
	})
}

// repeated is the name of a value that the usage of an option ends with, in parentheses.
var repeated = regexp.MustCompile(" \\(`([A-Z]+)`(?:, ([^)]*))?\\)")

// optionUsage gives what an option takes, and what it does, in words that do not name the
// value twice.
func optionUsage(f *pflag.Flag) (value, usage string) {
	value, _ = pflag.UnquoteUsage(f)
	usage = repeated.ReplaceAllStringFunc(f.Usage, func(m string) string {
		if more := repeated.FindStringSubmatch(m)[2]; more != "" {
			return " (" + more + ")"
		}
		return ""
	})
	usage = strings.ReplaceAll(usage, "`", "")
	if d := f.DefValue; d != "" && d != "false" && d != "[]" && d != "0" && d != "0s" {
		usage += " (otherwise " + d + ")"
	}
	return value, usage
}

// roff escapes text for a manual page.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "…", "...", "’", "'").Replace(s)
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}

// helpWidth is how wide help texts are, in columns.
const helpWidth = 100

// optionsHelp lists options for the help text, in helpWidth columns.
func optionsHelp(flags *pflag.FlagSet) string {
	var heads, usages []string
	width := 0
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		value, usage := optionUsage(f)
		head := "      --" + f.Name
		if f.Shorthand != "" {
			head = "  -" + f.Shorthand + ", --" + f.Name
		}
		if value != "" {
			head += " " + value
		}
		heads, usages = append(heads, head), append(usages, usage)
		width = max(width, len(head))
	})
	var b strings.Builder
	for i := range heads {
		indent := strings.Repeat(" ", width+3)
		line := heads[i] + strings.Repeat(" ", width+3-len(heads[i]))
		for j, word := range strings.Fields(usages[i]) {
			if j > 0 && len([]rune(line))+1+len([]rune(word)) > helpWidth {
				b.WriteString(line + "\n")
				line = indent + word
				continue
			}
			if j > 0 {
				line += " "
			}
			line += word
		}
		b.WriteString(line + "\n")
	}
	return b.String()
}
