package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"hovix/internal/rewrite"
)

// mapFlags say what is rewritten besides what a command rewrites by itself.
type mapFlags struct {
	maps, roots, texts []string
	wholeWords         bool
	compressed         bool
}

func (f *mapFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringArrayVar(&f.maps, "map", nil, "rewrite this address, `OLD=NEW` (may be given again)")
	fl.StringArrayVar(&f.roots, "root", nil, "rewrite this folder of the server, `OLD=NEW` (may be given again)")
	fl.StringArrayVar(&f.texts, "text", nil, "rewrite this text as it stands, `OLD=NEW` (may be given again)")
	fl.BoolVar(&f.wholeWords, "whole-words", false, "rewrite texts only where no letter or digit stands beside them")
	fl.BoolVar(&f.compressed, "compressed", false, "rewrite what is inside of gzip and zlib values too, and compress them again")
}

// none reports whether nothing is asked for.
func (f *mapFlags) none() bool { return len(f.maps)+len(f.roots)+len(f.texts) == 0 }

// into adds what is asked for to r. The error is one of usage.
func (f *mapFlags) into(r *rewrite.Options) error {
	r.WholeWords, r.Compressed = f.wholeWords, f.compressed
	err := errors.Join(
		pairs("map", f.maps, func(old, to string) error {
			m, err := mapping(old, to)
			r.Mappings = append(r.Mappings, m)
			return err
		}),
		pairs("root", f.roots, func(old, to string) error {
			r.Roots = append(r.Roots, rewrite.RootMapping{Old: old, New: to})
			return nil
		}),
		pairs("text", f.texts, func(old, to string) error {
			r.Texts = append(r.Texts, rewrite.TextMapping{Old: old, New: to})
			return nil
		}))
	if err == nil && !f.none() {
		_, err = rewrite.New(*r)
	}
	if err != nil {
		return usageError{err}
	}
	return nil
}

// pairs reads OLD=NEW options.
func pairs(option string, given []string, add func(old, to string) error) error {
	for _, s := range given {
		old, to, ok := strings.Cut(s, "=")
		if !ok || old == "" {
			return usage("--%s takes what to look for and what takes its place, OLD=NEW, not %q", option, s)
		}
		if err := add(old, to); err != nil {
			return usage("--%s: %w", option, err)
		}
	}
	return nil
}

// mapping reads two addresses.
func mapping(old, to string) (m rewrite.Mapping, err error) {
	var errOld, errNew error
	m.Old, errOld = rewrite.ParseAddress(old)
	m.New, errNew = rewrite.ParseAddress(to)
	return m, errors.Join(errOld, errNew)
}
