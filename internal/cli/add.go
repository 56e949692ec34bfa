package cli

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"orenda/internal/safe"
	"orenda/internal/workspace"
)

func (t *commandLine) addCommand() *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use: "add FILE|URL", Short: "Put a description into the workspace: endpoints, and a draft for each " +
			"operation", Args: cobra.ExactArgs(1),
		Long: "Keeps the description with every file it needs. Where the folder holds no\nworkspace, one is made.",
	}
	cmd.Flags().StringVar(&name, "name", "", "name of the workspace, where one is made (default: the folder's)")
	set := settingFlags(cmd, "address", "expect")
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
		kept, err := w.AddContract(f.Contract, f.Served)
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

func orDot(dir string) string {
	if dir == "" {
		return "."
	}
	return dir
}
