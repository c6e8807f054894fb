package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// choiceValue is an option that takes one of a few words.
type choiceValue struct {
	to    *string
	words []string
}

// String gives the word.
func (c choiceValue) String() string {
	if c.to == nil {
		return ""
	}
	return *c.to
}

// Type names what is given.
func (c choiceValue) Type() string { return "word" }

// Set takes a word, if it is one of those.
func (c choiceValue) Set(s string) error {
	if !slices.Contains(c.words, s) {
		return fmt.Errorf("it is one of %s", strings.Join(c.words, ", "))
	}
	*c.to = s
	return nil
}

// addChoice adds an option that takes one of the words, and is the first of them unless it
// is given; shells complete it.
func addChoice(cmd *cobra.Command, to *string, name, usage string, words ...string) {
	*to = words[0]
	cmd.Flags().Var(choiceValue{to, words}, name, usage)
	complete(cmd, name, words...)
}

// complete lets shells complete the value of an option.
func complete(cmd *cobra.Command, name string, words ...string) {
	// The error says that there is no such option, or that it has completions already.
	if err := cmd.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)); err != nil {
		panic(err)
	}
}

// What is done with values that would grow beyond what their columns hold.
const (
	unfitStop = "stop"
	unfitKeep = "keep-old"
)
