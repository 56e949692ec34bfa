package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/contract"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

type refreshed struct {
	Contract string            `json:"contract"`
	Source   string            `json:"source"`
	Changes  []contract.Change `json:"changes"`
	Taken    bool              `json:"taken"`
}

func (t *commandLine) refreshCommand() *cobra.Command {
	var take bool
	cmd := &cobra.Command{
		Use:     "refresh [CONTRACT]",
		Example: "  orenda refresh berth-desk", Short: "Fetch a description again and show what changed for a client",
		Args: cobra.MaximumNArgs(1),
		Long: "Compares the kept snapshot with what the source serves now: operations, fields,\ntypes, demands; what " +
			"breaks a client first. With --take the newer one is kept.\nExit status 1 where something changed and " +
			"was not taken.",
	}
	cmd.Flags().BoolVar(&take, "take", false, "keep the newer one")
	t.jsonFlag(cmd)
	set := t.settingFlags(cmd, "address", "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		if len(args) == 0 {
			if len(w.Config().Contracts) != 1 {
				var names []string
				for _, c := range w.Config().Contracts {
					names = append(names, c.Name)
				}
				return errors.New("name one of " + strings.Join(names, ", "))
			}
			args = []string{w.Config().Contracts[0].Name}
		}
		before, err := w.Contract(args[0])
		if _, damaged := errors.AsType[*workspace.SnapshotError](err); damaged {
			t.complain(err)
			before = &contract.Contract{} // all of it is new
		} else if err != nil {
			return unread{err}
		}
		k := w.ContractNamed(args[0])
		f, err := t.contractFrom(cmd.Context(), k.Source, set())
		if err != nil {
			return err
		}
		f.Contract = w.WithPolicies(k.Name, f.Contract)
		r := refreshed{Contract: k.Name, Source: k.Source, Changes: contract.Changes(before, f.Contract)}
		if r.Changes == nil {
			r.Changes = []contract.Change{}
		}
		if take && len(r.Changes) > 0 {
			if err := w.TakeOver(k.Name, f.Contract, f.Served); err != nil {
				return unread{err}
			}
			r.Taken = true
		}
		if t.asJSON {
			if err := t.printJSON(r); err != nil {
				return err
			}
		} else {
			t.printChanges(r)
		}
		if len(r.Changes) > 0 && !r.Taken {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) printChanges(r refreshed) {
	if len(r.Changes) == 0 {
		fmt.Fprintf(t.out, "%s: nothing changed for a client\n", safe.Line(r.Contract))
		return
	}
	for _, c := range r.Changes {
		kind := "        "
		if c.Breaking {
			kind = "breaking"
		}
		fmt.Fprintf(t.out, "%s  %s\n", kind, safe.Line(c.String()))
	}
	if r.Taken {
		fmt.Fprintln(t.out, "taken over; endpoints and drafts stay as they are")
	}
}
