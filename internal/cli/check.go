package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/safe"
)

//revive:disable-next-line:cyclomatic a command: its flags, and what it does with them
func (t *commandLine) checkCommand() *cobra.Command {
	var f callFlags
	cmd := &cobra.Command{
		Use:     "check [DRAFT|OPERATION [FIELD=VALUE...]]",
		Example: "  orenda check\n  orenda check \"FindBerths/small craft\" length=12",
		Short:   "What is wrong before anything is sent",
		Long: "Goes through the first four stages of the path, which need no network: for one\ncall, or for every " +
			"draft over every endpoint that serves it. Exit status 1 where\nsomething would stop a call.",
	}
	f.add(t, cmd)
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		f.until = "security"
		var plans []*prepared
		if len(args) > 0 {
			p, err := t.prepare(cmd.Context(), &f, args)
			if err != nil {
				return err
			}
			plans = append(plans, p)
		} else {
			w, err := t.workspace()
			if err != nil {
				return err
			}
			for _, ref := range w.Drafts() {
				for _, e := range w.Serving(ref.Contract, ref.Operation) {
					if f.endpoint == "" || f.endpoint == e.Name {
						plans = append(plans, &prepared{w: w, ref: ref, end: e.Name, f: &f, extra: f.settings()})
					}
				}
			}
		}
		all := []exchange.Finding{}
		if len(args) == 0 && len(plans) > 0 || len(args) == 0 && f.endpoint == "" {
			w, err := t.workspace()
			if err != nil {
				return err
			}
			all = append(all, t.survey(w)...)
		}
		stops := slices.ContainsFunc(all, func(f exchange.Finding) bool { return f.Severity == exchange.Stop })
		for _, p := range plans {
			plan, err := p.plan(t)
			if err != nil {
				return err
			}
			x := call.New(plan, nil).Run(cmd.Context())
			for i, fi := range x.Findings {
				fi.About = heading(x)
				if !t.asJSON {
					if i == 0 {
						fmt.Fprintln(t.aside(), safe.Line(heading(x)))
					}
					t.printFinding(0, fi, false)
				}
				stops = stops || fi.Severity == exchange.Stop
				all = append(all, fi)
			}
		}
		if t.asJSON {
			if err := t.printJSON(all); err != nil {
				return err
			}
		} else if len(all) == 0 {
			fmt.Fprintf(t.out, "nothing is wrong with %d calls, as far as can be told without a network\n", len(plans))
		}
		if stops {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}
