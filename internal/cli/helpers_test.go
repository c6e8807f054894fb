package cli

import (
	"log/slog"
	"regexp"
)

func discardLog() *slog.Logger { return slog.New(slog.DiscardHandler) }

func replaceAll(s, pattern, with string) string {
	return regexp.MustCompile(pattern).ReplaceAllString(s, with)
}
