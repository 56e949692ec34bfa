package cli

import (
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

type contractRow struct {
	Name       string `json:"name"`
	Source     string `json:"source"`
	Operations int    `json:"operations"`
	Endpoints  int    `json:"endpoints"`
}

// contractCommand lists and removes the contracts of the workspace.
func (t *commandLine) contractCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "contract", Short: "The descriptions that the workspace keeps: list, remove, policy"}
	list := &cobra.Command{Use: "list",
		Example: "  orenda contract list", Short: "All contracts with their sources", Args: cobra.NoArgs}
	t.jsonFlag(list)
	list.RunE = func(*cobra.Command, []string) error { return t.in(t.listContracts) }
	remove := &cobra.Command{
		Use:   "remove CONTRACT",
		Short: "Take a contract away, with its endpoints and drafts (restore brings it back)",
		Args:  cobra.ExactArgs(1), Example: "  orenda contract remove berths\n  orenda restore berths",
	}
	remove.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if err := w.RemoveContract(args[0]); err != nil {
				return unread{err}
			}
			return nil
		})
	}
	policy := &cobra.Command{
		Use:   "policy CONTRACT FILE",
		Short: "Attach policies in a file to a contract: what they demand is told, and held against what is set",
		Long: `A file with a policy, which then applies to the whole contract, or with attachments
(wsp:PolicyAttachment) that say to which service, port, binding, operation or message they
apply (WS-Policy 1.5 Attachment). It is kept with the contract, also where that is refreshed.`,
		Args: cobra.ExactArgs(2), Example: "  orenda contract policy berths house-rules.xml",
	}
	policy.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			n, left, err := w.AttachPolicy(args[0], args[1])
			if err != nil {
				return unread{err}
			}
			fmt.Fprintf(t.out, "%s: demands added: %d\n", safe.Line(args[0]), n)
			for _, u := range left {
				t.complain(fmt.Errorf("%s: %s", u.What, u.Why))
			}
			return nil
		})
	}
	cmd.AddCommand(list, remove, policy)
	return cmd
}

func (t *commandLine) listContracts(w *workspace.Workspace) error {
	rows := []contractRow{}
	for _, k := range w.Config().Contracts {
		row := contractRow{Name: k.Name, Source: k.Source}
		if c, err := w.Contract(k.Name); err == nil {
			row.Operations = len(c.OperationNames())
		}
		for _, e := range w.Config().Endpoints {
			if e.Contract == k.Name {
				row.Endpoints++
			}
		}
		rows = append(rows, row)
	}
	if t.asJSON {
		return t.printJSON(rows)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	for _, r := range rows {
		fmt.Fprintf(tw, "%s\t%d operations\t%d endpoints\t%s\n", safe.Line(r.Name), r.Operations, r.Endpoints,
			safe.Line(r.Source))
	}
	return tw.Flush()
}

// restoreCommand brings back what was removed.
func (t *commandLine) restoreCommand() *cobra.Command {
	var list bool
	cmd := &cobra.Command{
		Use: "restore [NAME]", Short: "Bring back a draft, an endpoint or a contract that was removed",
		Args:    cobra.MaximumNArgs(1),
		Long:    "Without a name, what was removed last. --list shows what there is.",
		Example: "  orenda restore --list\n  orenda restore 'FindBerths/small craft'",
	}
	cmd.Flags().BoolVar(&list, "list", false, "what can be brought back, the newest first")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if list {
				return t.listRemoved(w)
			}
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			r, err := w.BringBack(name)
			if err != nil {
				return unread{err}
			}
			fmt.Fprintf(t.aside(), "back again: the %s %s\n", r.Kind, safe.Line(r.Name))
			return nil
		})
	}
	return cmd
}

func (t *commandLine) listRemoved(w *workspace.Workspace) error {
	all, err := w.AllRemoved()
	if err != nil {
		return unread{err}
	}
	if t.asJSON {
		type row struct {
			ID   string    `json:"id"`
			Kind string    `json:"kind"`
			Name string    `json:"name"`
			At   time.Time `json:"at"`
		}
		rows := []row{}
		for _, r := range all {
			rows = append(rows, row{r.ID, r.Kind, r.Name, r.At})
		}
		return t.printJSON(rows)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	for _, r := range all {
		fmt.Fprintf(tw, "%s\t%s\t%s\n", r.Kind, safe.Line(r.Name), exchange.Age(r.At, time.Now()))
	}
	return tw.Flush()
}
