package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"orenda/internal/safe"
	"orenda/internal/workspace"
)

func (t *commandLine) takeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "take CONTRACT --of DIR",
		Short: "Take all endpoints of a contract from another workspace",
		Long: `Makes or changes the endpoints of CONTRACT as they are in the workspace in DIR: addresses, settings,
what their profiles set, the certificates that they trust, and the values of the variables that
they use. It says what is new, what differs, and what cannot come: files of keys, and approvals.
A variable that has another value here keeps it.`,
		Example: "  orenda endpoint take tide-tables --of ../old --show",
		Args:    cobra.ExactArgs(1),
	}
	of := cmd.Flags().String("of", "", "folder of the workspace that they come from")
	show := showFlag(cmd)
	_ = cmd.MarkFlagRequired("of")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			from, err := workspace.Open(*of, w.Home)
			if err != nil {
				return unread{err}
			}
			coming, err := w.Coming(from, args[0])
			if err != nil {
				return err
			}
			for _, l := range coming.Left {
				fmt.Fprintln(t.aside(), "does not come: "+safe.Line(l))
			}
			if !*show {
				if err := w.Bring(coming); err != nil {
					return unread{err}
				}
			}
			return t.change(w, true, coming.Changes)
		})
	}
	return cmd
}

func (t *commandLine) templateCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "template DIR",
		Short: "Make a new workspace like this one",
		Long: `Makes a workspace in DIR with the endpoints, environments, profiles, contracts, drafts, musters and
notes of this one. Kept exchanges and approvals stay with this one; what has to be given or
allowed anew is said.`,
		Example: "  orenda template ../winter",
		Args:    cobra.ExactArgs(1),
	}
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			made, left, err := w.MakeLike(args[0])
			if err != nil {
				return unread{err}
			}
			if t.asJSON {
				return t.printJSON(map[string]any{"folder": made.Dir(), "left": append([]string{}, left...)})
			}
			fmt.Fprintln(t.out, safe.Line(made.Dir()))
			for _, l := range left {
				fmt.Fprintln(t.aside(), "does not come: "+safe.Line(l))
			}
			return nil
		})
	}
	return cmd
}
