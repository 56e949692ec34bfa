package cli

import (
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// change makes changes to the workspace and prints them, or only prints them. What is
// printed was done.
func (t *commandLine) change(w *workspace.Workspace, show bool, changes []exchange.Change) error {
	if !show && len(changes) > 0 {
		if err := w.Apply(changes...); err != nil {
			return unread{err}
		}
	}
	if t.asJSON {
		if changes == nil {
			changes = []exchange.Change{}
		}
		return t.printJSON(changes)
	}
	for _, c := range changes {
		fmt.Fprintln(t.out, safe.Line(cutTo(c.String(), 150)))
	}
	if len(changes) == 0 {
		fmt.Fprintln(t.aside(), "nothing is to be changed")
	}
	return nil
}

func showFlag(cmd *cobra.Command) *bool {
	return cmd.Flags().Bool("show", false, "only show what would change")
}

// in runs something on the workspace.
func (t *commandLine) in(do func(w *workspace.Workspace) error) error {
	w, err := t.workspace()
	if err != nil {
		return err
	}
	return do(w)
}

//revive:disable-next-line:function-length a command: its flags, and what it does with them
func (t *commandLine) endpointCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "endpoint", Short: "Endpoints: list, make, set, share settings, rename, switch off"}
	list := &cobra.Command{Use: "list",
		Example: "  orenda endpoint list", Short: "All endpoints with their addresses", Args: cobra.NoArgs}
	t.jsonFlag(list)
	list.RunE = func(*cobra.Command, []string) error { return t.in(t.listEndpoints) }

	set := &cobra.Command{
		Use:   "set ENDPOINT KEY=VALUE...",
		Short: "Set values; an empty one takes the setting out",
		Args:  cobra.MinimumNArgs(2),
		Example: "  orenda endpoint set tides-tls answer-time=90s keep-alive=true\n  orenda endpoint set tides-tls " +
			"profile=harbour-11",
	}
	t.jsonFlag(set)
	show := showFlag(set)
	set.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			changes, err := assignments(w, args[0], args[1:])
			if err != nil {
				return err
			}
			if !*show {
				if changes, err = w.Typed(changes...); err != nil {
					return unread{err}
				}
			}
			return t.change(w, *show, changes)
		})
	}

	add := &cobra.Command{Use: "add NAME CONTRACT PORT",
		Example: "  orenda endpoint add berths-tls berth-desk BerthDeskTLS",
		Short:   "Make an endpoint for a port", Args: cobra.ExactArgs(3)}
	add.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error { return w.AddEndpoint(args[0], args[1], args[2]) })
	}
	ports := &cobra.Command{
		Use:     "ports CONTRACT",
		Example: "  orenda endpoint ports berth-desk",
		Short:   "Make endpoints for all ports of a contract that have none",
		Args:    cobra.ExactArgs(1),
	}
	ports.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			made, err := w.AddEndpoints(args[0])
			for _, name := range made {
				fmt.Fprintln(t.out, safe.Line(name))
			}
			return err
		})
	}
	duplicate := &cobra.Command{
		Use:     "duplicate ENDPOINT NEW [KEY=VALUE...]",
		Short:   "Make an endpoint with the settings of another, and some of its own",
		Args:    cobra.MinimumNArgs(2),
		Example: "  orenda endpoint duplicate tides-tls tides-live 'address=https://tides.skerry.test/tides'",
	}
	duplicate.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if _, err := assignments(w, args[0], args[2:]); err != nil {
				return err // before anything is made
			}
			if err := w.DuplicateEndpoint(args[0], args[1]); err != nil {
				return err
			}
			changes, err := assignments(w, args[1], args[2:])
			if err != nil {
				return err
			}
			if changes, err = w.Typed(changes...); err != nil {
				return err
			}
			return w.Apply(changes...)
		})
	}

	share := &cobra.Command{
		Use:   "share FROM TO...",
		Short: "Give endpoints the settings of another",
		Args:  cobra.MinimumNArgs(2),
		Long: "Gives the endpoints TO all settings of FROM save its address, or those of the\nstages that are " +
			"named. What FROM has not, they have no longer. --of takes FROM\nfrom another workspace, with what its " +
			"profile sets and the certificates it trusts.",
		Example: "  orenda endpoint share tides-tls berths-tls pilots --show\n  orenda endpoint share tides-tls " +
			"berths-tls --stage tls,security --of ../old",
	}
	t.jsonFlag(share)
	showShare := showFlag(share)
	stageNames := share.Flags().StringSlice("stage", nil, "only the settings of these stages")
	of := share.Flags().String("of", "", "folder of the workspace that FROM is in")
	share.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			from := w
			if *of != "" {
				home, err := t.home()
				if err != nil {
					return err
				}
				if from, err = workspace.Open(*of, home); err != nil {
					return unread{err}
				}
			}
			var stages []exchange.Stage
			for _, s := range *stageNames {
				stage, err := exchange.ParseStage(s)
				if err != nil {
					return err
				}
				stages = append(stages, stage)
			}
			changes, skipped, err := w.Share(from, args[0], args[1:], stages)
			if err != nil {
				return err
			}
			for _, s := range skipped {
				fmt.Fprintln(t.aside(), "not copied: "+safe.Line(s))
			}
			return t.change(w, *showShare, changes)
		})
	}

	take := t.takeCommand()
	rename := &cobra.Command{
		Use:     "rename ENDPOINT NEW",
		Example: "  orenda endpoint rename berths-11 berths",
		Short:   "Give an endpoint another name; what refers to it follows",
		Args:    cobra.ExactArgs(2),
	}
	rename.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error { return w.Rename("endpoint", args[0], args[1]) })
	}
	remove := &cobra.Command{Use: "remove ENDPOINT",
		Example: "  orenda endpoint remove berths-12", Short: "Take an endpoint away", Args: cobra.ExactArgs(1)}
	remove.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error { return w.RemoveEndpoint(args[0]) })
	}
	cmd.AddCommand(list, set, add, ports, duplicate, share, take, rename, remove)
	for _, off := range []bool{true, false} {
		name, short := "on", "Use an endpoint again that was switched off"
		if off {
			name, short = "off", "Leave an endpoint out without deleting it"
		}
		c := &cobra.Command{
			Use: name + " ENDPOINT", Short: short, Args: cobra.ExactArgs(1),
			Example: "  orenda endpoint " + name + " berths-12",
		}
		c.RunE = func(_ *cobra.Command, args []string) error {
			return t.in(func(w *workspace.Workspace) error {
				return w.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + args[0] + ".off", To: off})
			})
		}
		cmd.AddCommand(c)
	}
	return cmd
}

// assignments are the changes that KEY=VALUE arguments ask for.
func assignments(w *workspace.Workspace, name string, args []string) ([]exchange.Change, error) {
	if w.Endpoint(name) == nil {
		var names []string
		for _, e := range w.Config().Endpoints {
			names = append(names, e.Name)
		}
		return nil, &endpoint.MissingError{Name: name, Near: near.Miss(name, names), Others: names}
	}
	var out []exchange.Change
	s := w.Settings(name)
	for _, a := range args {
		key, value, ok := strings.Cut(a, "=")
		if !ok {
			return nil, fmt.Errorf("%q is not KEY=VALUE", a)
		}
		c := exchange.Change{Where: "workspace", Key: "endpoint." + name + "." + key, To: value}
		if k := endpoint.KeyOf(key); k != nil {
			v := s.Of(k)
			if v.Text != "" {
				c.From = v.Text
			}
			if value != "" && !strings.Contains(value, "${") {
				if err := k.Check(value); err != nil {
					return nil, err
				}
			}
			if k.Kind == endpoint.List && value != "" {
				c.To = []string{value}
				if i := slices.IndexFunc(out, func(o exchange.Change) bool { return o.Key == c.Key }); i >= 0 {
					out[i].To = append(out[i].To.([]string), value)
					continue
				}
			}
		} else if !slices.Contains([]string{"profile", "port", "contract", "default", "off"}, key) {
			hint := ""
			if m := near.Miss(key, endpoint.Names()); m != "" {
				hint = "; " + m + " is meant, perhaps"
			}
			return nil, fmt.Errorf("there is no setting %s%s", key, hint)
		} else if (key == "default" || key == "off") && !slices.Contains([]string{"true", "false", ""}, value) {
			return nil, fmt.Errorf("%s is true or false, not %s", key, value)
		}
		out = append(out, c)
	}
	return out, nil
}

func (t *commandLine) listEndpoints(w *workspace.Workspace) error {
	type row struct {
		Name     string `json:"name"`
		Contract string `json:"contract"`
		Port     string `json:"port"`
		Profile  string `json:"profile,omitempty"`
		Default  bool   `json:"default"`
		Off      bool   `json:"off"`
		Template string `json:"template"`
		Address  string `json:"address"`
		Why      string `json:"why,omitempty"` // why it does not resolve
	}
	rows := []row{}
	for _, e := range w.Config().Endpoints {
		s := w.Settings(e.Name)
		r := row{e.Name, e.Contract, e.Port, e.Profile, e.Default, e.Off, s.Text("address"), "", ""}
		var err error
		if r.Address, err = w.Resolved(e.Name, w.Config().Environment); err != nil {
			r.Why = err.Error()
		}
		rows = append(rows, r)
	}
	if t.asJSON {
		return t.printJSON(rows)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	for _, r := range rows {
		mark := " "
		if r.Default {
			mark = "*"
		}
		state, address := "", r.Address
		if r.Off {
			state = "off"
		}
		if r.Why != "" {
			address = r.Template + "  (" + r.Why + ")"
		}
		fmt.Fprintf(
			tw,
			"%s%s\t%s\t%s\t%s\t%s\n",
			safe.Line(r.Name),
			mark,
			safe.Line(r.Contract+" "+r.Port),
			safe.Line(r.Profile),
			state,
			safe.Line(address),
		)
	}
	return tw.Flush()
}

func (t *commandLine) environmentCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "environment", Short: "Environments: variables and their values"}
	list := &cobra.Command{Use: "list",
		Example: "  orenda environment list", Short: "A table of variables by environments", Args: cobra.NoArgs}
	t.jsonFlag(list)
	list.RunE = func(*cobra.Command, []string) error { return t.in(t.listEnvironments) }

	set := &cobra.Command{
		Use:     "set ENVIRONMENT NAME=VALUE...",
		Example: "  orenda environment set live tideHost=tides.skerry.example",
		Short:   "Set variables; an empty value takes one out",
		Args:    cobra.MinimumNArgs(2),
		Long: "Sets variables of an environment, and makes it where there is none of that name.\nA value env:NAME " +
			"is read from the process environment, once you allowed that.",
	}
	set.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			var changes []exchange.Change
			for _, a := range args[1:] {
				name, value, ok := strings.Cut(a, "=")
				if !ok {
					return fmt.Errorf("%q is not NAME=VALUE", a)
				}
				c := exchange.Change{Where: "workspace", Key: "environment." + args[0] + "." + name}
				if value != "" {
					c.To = value
				}
				changes = append(changes, c)
			}
			return w.Apply(changes...)
		})
	}
	use := &cobra.Command{Use: "use ENVIRONMENT",
		Example: "  orenda environment use live", Short: "Make an environment the default", Args: cobra.ExactArgs(1)}
	use.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if _, ok := w.Variables(args[0]); !ok {
				return fmt.Errorf("there is no environment %s", args[0])
			}
			return w.Apply(exchange.Change{Where: "workspace", Key: "default-environment", To: args[0]})
		})
	}
	rename := &cobra.Command{
		Use:     "rename ENVIRONMENT NEW",
		Example: "  orenda environment rename model test",
		Short:   "Give an environment another name",
		Args:    cobra.ExactArgs(2),
	}
	variable := rename.Flags().Bool("variable", false, "the names are those of a variable; settings and drafts follow")
	rename.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if *variable {
				return w.RenameVariable(args[0], args[1])
			}
			return w.Rename("environment", args[0], args[1])
		})
	}
	lift := &cobra.Command{
		Use:     "lift",
		Example: "  orenda environment lift",
		Short:   "Make variables of scheme, host and port of all addresses that are written out",
		Args:    cobra.NoArgs,
	}
	t.jsonFlag(lift)
	show := showFlag(lift)
	lift.RunE = func(*cobra.Command, []string) error {
		return t.in(func(w *workspace.Workspace) error {
			changes, err := w.Lift()
			if err != nil {
				return err
			}
			return t.change(w, *show, changes)
		})
	}
	cmd.AddCommand(list, set, use, rename, lift)
	return cmd
}

func (t *commandLine) listEnvironments(w *workspace.Workspace) error {
	all := w.AllVariables()
	if t.asJSON {
		type variable struct {
			Name   string            `json:"name"`
			Values map[string]string `json:"values"`
			UsedBy []string          `json:"usedBy"`
		}
		out := struct {
			Default      string     `json:"default"`
			Environments []string   `json:"environments"`
			Variables    []variable `json:"variables"`
		}{Default: w.Config().Environment, Environments: []string{}, Variables: []variable{}}
		for _, e := range w.Config().Environments {
			out.Environments = append(out.Environments, e.Name)
		}
		for _, v := range all {
			out.Variables = append(out.Variables, variable{v.Name, v.Values, append([]string{}, v.UsedBy...)})
		}
		return t.printJSON(out)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	fmt.Fprint(tw, "VARIABLE")
	for _, e := range w.Config().Environments {
		mark := ""
		if e.Name == w.Config().Environment {
			mark = "*"
		}
		fmt.Fprint(tw, "\t"+safe.Line(e.Name)+mark)
	}
	fmt.Fprintln(tw, "\tUSED BY")
	for _, v := range all {
		fmt.Fprint(tw, safe.Line(v.Name))
		for _, e := range w.Config().Environments {
			value, ok := v.Values[e.Name]
			if !ok {
				value = "(unset)"
			}
			fmt.Fprint(tw, "\t"+safe.Line(value))
		}
		used := strings.Join(v.UsedBy, ", ")
		if used == "" {
			used = "(nothing)"
		}
		fmt.Fprintln(tw, "\t"+safe.Line(used))
	}
	return tw.Flush()
}

func (t *commandLine) asideCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "aside ENDPOINT FINDING [REASON]",
		Short: "Set a warning aside for an endpoint, with the reason",
		Args:  cobra.RangeArgs(2, 3),
		Long: "Keeps in the workspace that a warning or note is known at an endpoint and why it\nmay be ignored; " +
			"it is shown with the reason from then on. Without a reason it\ncounts again. What stops a call cannot " +
			"be set aside.",
		Example: "  orenda aside tides-tls security.clear-text 'the test network is closed'\n  orenda aside " +
			"tides-tls security.clear-text",
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if w.Endpoint(args[0]) == nil {
				return fmt.Errorf("there is no endpoint %s", args[0])
			}
			if diagnose.Explain(args[1]) == nil {
				return noFinding(args[1])
			}
			why := ""
			if len(args) == 3 {
				why = args[2]
			}
			return w.SetAside(args[0], args[1], why)
		})
	}
	return cmd
}
