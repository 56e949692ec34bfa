package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"orenda/internal/safe"
)

func (t *commandLine) manualCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "manual DIR", Short: "Write the manual pages of all commands into a folder",
		Long: "The pages are made of what --help shows: orenda.1, orenda-call.1 and so on.\nRead one with man -l " +
			"DIR/orenda.1.",
		Example: "  orenda manual ~/.local/share/man/man1", Args: cobra.ExactArgs(1),
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if err := os.MkdirAll(args[0], 0o755); err != nil { //nolint:gosec // pages are for everybody
			return unread{err}
		}
		root := cmd.Root()
		root.DisableAutoGenTag = true // the same pages from the same program
		head := &doc.GenManHeader{Title: "ORENDA", Section: "1", Source: Version}
		if err := doc.GenManTree(root, head, args[0]); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.aside(), "the manual pages are in %s\n", safe.Line(args[0]))
		return nil
	}
	return cmd
}
