package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

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
			when := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC) // the same pages from the same source
			cmd.Root().DisableAutoGenTag = true
			return doc.GenManTree(cmd.Root(), &doc.GenManHeader{Title: "HOVIX", Section: "1", Source: "Hovix " + version, Manual: "Hovix", Date: &when}, args[0])
		},
	}
}
