package cli

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

func (t *commandLine) addCommand() *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use: "add FILE|URL", Short: "Put a description into the workspace: endpoints, and a draft for each " +
			"operation", Args: cobra.ExactArgs(1),
		Long: "Keeps the description with every file it needs. Where the folder holds no\nworkspace, one is made.\n\n" +
			"A description that is kept already is refreshed; one of the same service from another\nplace gives " +
			"the kept contract an endpoint at its address.",
		Example: "  orenda add https://host/service?wsdl\n  orenda add tides.wsdl --only DayTable,YearTable",
	}
	var only []string
	var twice bool
	cmd.Flags().StringSliceVar(&only, "only", nil, "make drafts of these operations alone")
	cmd.Flags().BoolVar(&twice, "twice", false, "keep it beside the one that is there")
	cmd.Flags().StringVar(&name, "name", "", "name of the workspace, where one is made (default: the folder's)")
	set := t.settingFlags(cmd, "address", "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		h, err := t.home()
		if err != nil {
			return err
		}
		dir, err := filepath.Abs(orDot(t.dir))
		if err != nil {
			return err
		}
		w, err := workspace.Open(dir, h)
		fresh := errors.Is(err, workspace.ErrNone)
		if err != nil && !fresh {
			return unread{err}
		}
		f, err := t.contractFrom(cmd.Context(), args[0], set())
		if err != nil {
			return err
		}
		if fresh {
			if name == "" {
				name = filepath.Base(dir)
			}
			w = workspace.New(name, h)
		}
		if kept, samePlace := w.Kept(f.Contract); kept != "" && !twice {
			return t.addAgain(w, kept, samePlace, f)
		}
		kept, err := w.AddContract(f.Contract, f.Served, only...)
		if err == nil && fresh {
			err = w.SaveTo(dir)
		}
		if err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s: %d operations\n", safe.Line(kept), len(f.Contract.OperationNames()))
		for _, e := range w.Config().Endpoints {
			if e.Contract == kept {
				fmt.Fprintf(t.out, "  endpoint %s\n", safe.Line(e.Name))
			}
		}
		return nil
	}
	return cmd
}

// addAgain is a description that is kept already: it is refreshed, or its addresses
// become endpoints.
func (t *commandLine) addAgain(w *workspace.Workspace, name string, samePlace bool, f *call.Fetched) error {
	if !samePlace {
		made, err := w.AddPlaces(name, f.Contract)
		if err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s: the same service is kept already; --twice keeps it beside it\n", safe.Line(name))
		for _, e := range made {
			fmt.Fprintf(t.out, "  endpoint %s\n", safe.Line(e))
		}
		return nil
	}
	before, err := w.Contract(name)
	if err != nil {
		before = &contract.Contract{}
	}
	changes := contract.Changes(before, f.Contract)
	if err := w.TakeOver(name, f.Contract, f.Served); err != nil {
		return unread{err}
	}
	fmt.Fprintf(t.out, "%s: kept already, and refreshed; --twice keeps it beside it\n", safe.Line(name))
	t.printChanges(refreshed{Contract: name, Source: f.Contract.Source, Changes: changes, Taken: true})
	return nil
}

func orDot(dir string) string {
	if dir == "" {
		return "."
	}
	return dir
}
