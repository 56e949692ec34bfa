package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

func (t *commandLine) catalogue() (*workspace.Catalogue, error) {
	h, err := t.home()
	if err != nil {
		return nil, err
	}
	c, err := workspace.OpenCatalogue(h)
	if err != nil {
		return nil, unread{err}
	}
	return c, nil
}

// fromCatalogue is a description of the catalogue, as it was kept.
func (t *commandLine) fromCatalogue(name string) (*call.Fetched, error) {
	c, err := t.catalogue()
	if err != nil {
		return nil, err
	}
	k, con, err := c.Entry(name)
	if err != nil {
		return nil, unread{err}
	}
	return &call.Fetched{Contract: con, Served: k.Served}, nil
}

func (t *commandLine) catalogueCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "catalogue", Short: "Your own list of descriptions, shared by all workspaces",
		Long: "Each is kept with every file it needs. Wherever a command takes FILE|URL,\ncatalogue:NAME stands for " +
			"one of them.",
	}
	cmd.AddCommand(
		t.catalogueAddCommand(),
		t.catalogueListCommand(),
		t.catalogueSearchCommand(),
		t.catalogueRemoveCommand(),
	)
	return cmd
}

func (t *commandLine) catalogueAddCommand() *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use:     "add FILE|URL",
		Example: "  orenda catalogue add https://host/berths?wsdl",
		Short:   "Keep a description in the catalogue; one of the same source is replaced",
		Args:    cobra.ExactArgs(1),
	}
	cmd.Flags().StringVar(&name, "name", "", "name (default: the service's)")
	set := t.settingFlags(cmd, "address", "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := t.catalogue()
		if err != nil {
			return err
		}
		f, err := t.contractFrom(cmd.Context(), args[0], set())
		if err != nil {
			return err
		}
		kept, err := c.Add(f.Contract, f.Served, name)
		if err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s: %d operations\n", safe.Line(kept), len(f.Contract.OperationNames()))
		return nil
	}
	return cmd
}

type catalogued struct {
	Name          string   `json:"name"`
	Source        string   `json:"source"`
	Documentation string   `json:"documentation"`
	Operations    []string `json:"operations"`
}

func (t *commandLine) catalogueListCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "list",
		Example: "  orenda catalogue list", Short: "The descriptions and their operations", Args: cobra.NoArgs}
	t.jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		c, err := t.catalogue()
		if err != nil {
			return err
		}
		out := []catalogued{}
		for _, n := range c.Names() {
			k, con, err := c.Entry(n)
			if err != nil {
				return unread{err}
			}
			out = append(out, catalogued{n, k.Source, con.Documentation, con.OperationNames()})
			if !t.asJSON {
				fmt.Fprintf(
					t.out,
					"%-24s %s\n%24s %s\n",
					safe.Line(n),
					safe.Line(k.Source),
					"",
					safe.Line(strings.Join(con.OperationNames(), ", ")),
				)
			}
		}
		if t.asJSON {
			return t.printJSON(out)
		}
		return nil
	}
	return cmd
}

type found struct {
	Name      string   `json:"name"`
	Operation string   `json:"operation"`
	Signature string   `json:"signature"`
	Fields    []string `json:"fields"`
}

func (t *commandLine) catalogueSearchCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "search TEXT",
		Example: "  orenda catalogue search callSign",
		Short:   "Operations with the text in their name, documentation or fields",
		Args:    cobra.ExactArgs(1),
		Long:    "Exit status 1 where there is none.",
	}
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		c, err := t.catalogue()
		if err != nil {
			return err
		}
		out := []found{}
		for _, h := range c.Search(args[0]) {
			f := found{h.Name, h.Operation.Name, h.Operation.Signature(), h.Fields}
			if f.Fields == nil {
				f.Fields = []string{}
			}
			out = append(out, f)
			if !t.asJSON {
				fmt.Fprintf(t.out, "%-24s %s\n", safe.Line(h.Name), safe.Line(f.Signature))
				if len(h.Fields) > 0 {
					fmt.Fprintf(t.out, "%24s %s\n", "", safe.Line(strings.Join(h.Fields, ", ")))
				}
			}
		}
		if t.asJSON {
			if err := t.printJSON(out); err != nil {
				return err
			}
		}
		if len(out) == 0 {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) catalogueRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "remove NAME",
		Example: "  orenda catalogue remove berth-desk",
		Short:   "Take a description out of the catalogue",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			c, err := t.catalogue()
			if err != nil {
				return err
			}
			if err := c.Remove(args[0]); err != nil {
				return unread{err}
			}
			return nil
		},
	}
}
