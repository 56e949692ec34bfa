package cli

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"orenda/internal/diagnose"
	"orenda/internal/near"
)

func (t *tool) explainCommand() *cobra.Command {
	var list, markdown bool
	cmd := &cobra.Command{Use: "explain FINDING", Short: "What a finding means, how it is recognised and what helps", Args: cobra.MaximumNArgs(1),
		Example: "  orenda explain tls.name-differs\n  orenda explain --list"}
	cmd.Flags().BoolVar(&list, "list", false, "all findings")
	cmd.Flags().BoolVar(&markdown, "markdown", false, "with --list: as a page in Markdown")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		all := diagnose.Catalogue()
		switch {
		case list && len(args) == 0 && markdown:
			fmt.Fprint(t.out, diagnose.Markdown())
			return nil
		case list && len(args) == 0 && t.asJSON:
			return t.printJSON(all)
		case list && len(args) == 0:
			tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
			for _, e := range all {
				fmt.Fprintf(tw, "%s\t%s\n", e.ID, e.Means)
			}
			return tw.Flush()
		case list || markdown || len(args) == 0:
			return fmt.Errorf("name one finding, or say --list")
		}
		e := diagnose.Explain(args[0])
		switch {
		case e == nil:
			return noFinding(args[0])
		case t.asJSON:
			return t.printJSON(e)
		}
		tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
		fmt.Fprintf(tw, "%s\t%s\n", e.ID, e.Means)
		for _, l := range e.Lines() {
			fmt.Fprintf(tw, "  %s\t%s\n", l[0], l[1])
		}
		return tw.Flush()
	}
	return cmd
}

// noFinding says that there is no finding of that name, and which is meant.
func noFinding(id string) error {
	var ids []string
	for _, e := range diagnose.Catalogue() {
		ids = append(ids, e.ID)
	}
	if n := near.Miss(id, ids); n != "" {
		return fmt.Errorf("there is no finding %s; perhaps %s is meant", id, n)
	}
	return fmt.Errorf("there is no finding %s; orenda explain --list tells all", id)
}
