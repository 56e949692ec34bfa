package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/expect"
	"orenda/internal/safe"
	"orenda/internal/schema"
	"orenda/internal/sounding"
)

// soundFlags are those of sound, besides those of a call.
type soundFlags struct {
	callFlags
	by, from, to, accepted string
	budget                 int
	pause                  time.Duration
}

func (t *commandLine) soundCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "sound DRAFT|OPERATION [FIELD] [FIELD=VALUE…]",
		Short: "Find the edge of what a service accepts in a field, by sending",
		Long: `Sends the draft with other values of one field, halving the distance between what is
accepted and what is refused, until the edge is found; both sides are really sent, and
sent twice. What is accepted passes, or meets --accepted. --by time looks for the least time
in which the service answers, and --by sending in which ways it may be sent: in chunks, with a
trailer, after leave to (Expect), compressed; both take no FIELD. --by answers asks whether a longer input
gives fewer answers, whether the order of words matters, and whether the same call gives the
same reply. It says before it begins how
often it may send, keeps a pause, and stops at the budget, where the service locks it
out, or gets slow. Drafts that change things are not sent without --again.

The exit code is 0 where an edge was found or there is none; 1 where the service is not
steady, or the budget was spent first. Where no call passes it is that of the call.`,
		Example: "  orenda sound LookUp/one sign --by length --endpoint CallSigns\n" +
			"  orenda sound LookUp sign sign=SKAL4 --by characters --contract http://host/signs?wsdl --port CallSigns",
		Args: cobra.MinimumNArgs(1),
	}
	var f soundFlags
	fl := cmd.Flags()
	fl.StringVar(&f.by, "by", "length", strings.Join(sounding.Ways, ", "))
	fl.StringVar(&f.from, "from", "", "the least that is tried")
	fl.StringVar(&f.to, "to", "", "the greatest that is tried")
	fl.IntVar(&f.budget, "budget", 40, "calls at most")
	fl.DurationVar(&f.pause, "pause", 100*time.Millisecond, "between two calls")
	fl.StringVar(&f.accepted, "accepted", "", "what an accepted answer is: an expectation (default: the call passes)")
	f.source(fl)
	fl.StringVar(&f.endpoint, "endpoint", "", "endpoint of the workspace")
	fl.BoolVar(&f.again, "again", false, "send a draft too that changes things at the service")
	t.jsonFlag(cmd)
	f.settings = t.settingFlags(cmd, "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return t.sound(cmd.Context(), &f, args) }
	return cmd
}

func (t *commandLine) sound(ctx context.Context, f *soundFlags, args []string) error {
	if f.accepted != "" {
		if _, err := expect.Parse(f.accepted); err != nil {
			return err
		}
	}
	field, values := "", args[1:]
	if len(values) > 0 && !strings.Contains(values[0], "=") {
		field, values = values[0], values[1:]
	}
	if field == "" && !sounding.Whole(f.by) {
		return errors.New("name the field that is sounded; only --by time and --by sending take none")
	}
	p, err := t.prepare(ctx, &f.callFlags, append([]string{args[0]}, values...))
	if err != nil {
		return err
	}
	plan, err := p.plan(t)
	if err != nil {
		return err
	}
	if plan.NoEndpoint != nil || plan.Draft == nil {
		x := call.New(plan, nil).Run(ctx)
		t.printPath(x)
		return exitOf(x)
	}
	if p.w.Config().DraftSettings[p.ref.ID()].Changes && !f.again {
		return fmt.Errorf("%s changes things at the service: --again sends it", p.ref)
	}
	if left := plan.Header.Demanded(); len(left) > 0 {
		return fmt.Errorf("the header block %s is not filled in", left[0].Path)
	}
	plan.Draft = plan.Draft.WithExamples(schema.ExampleDay())
	o, err := sounding.OptionsFor(plan.Draft, field, f.by)
	if err != nil {
		return err
	}
	j := t.keeping()
	o.From, o.To, o.Budget, o.Pause, o.Limit = f.from, f.to, f.budget, f.pause, sounding.LimitOf(&plan)
	if !t.asJSON {
		fmt.Fprintf(t.aside(), "sends %s up to %d times over %s, with a pause of %s\n",
			safe.Line(p.ref.String()), f.budget,
			safe.Line(plan.Endpoint), f.pause)
	}
	r, err := sounding.Sound(ctx, o, sounding.Over(plan, field, f.accepted, func(x *exchange.Exchange) {
		t.keepCall(p.w, j, x)
	}))
	if errors.Is(err, context.Canceled) {
		return status(exitCancelled)
	}
	if err != nil {
		return err
	}
	return t.tellSounding(r)
}

func (t *commandLine) tellSounding(r *sounding.Result) error {
	if t.asJSON {
		if err := t.printJSON(r); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(t.out, "%s: %s\n", safe.Line(r.Name()), safe.Line(r.Sentence))
		for _, e := range r.Edges {
			fmt.Fprintf(t.out, "  %-8s  accepted %s (%s)  refused %s (%s)\n", e.Side,
				safe.Line(e.Accepted), e.Exchanges[0],
				safe.Line(e.Refused), e.Exchanges[1])
		}
		for _, c := range r.Characters {
			word := map[bool]string{true: "taken", false: "refused"}[c.Taken]
			fmt.Fprintf(t.out, "  %-25s  %-7s  %s\n", safe.Line(c.Of), word,
				safe.Line(cutTo(c.Says, 90)))
		}
		for _, a := range r.Answered {
			what := "1 answer"
			if a.Answers != 1 {
				what = fmt.Sprintf("%d answers", a.Answers)
			}
			if a.Says != "" {
				what = "refused: " + cutTo(a.Says, 70)
			}
			fmt.Fprintf(t.out, "  %-28s  %-24s  %s (%s)\n", a.Of, safe.Line(cutTo(a.Sent, 24)), safe.Line(what),
				a.Exchange)
		}
		fmt.Fprintf(t.out, "  %d calls; kinds of answers:\n", r.Calls)
		for _, k := range r.Kinds {
			says := k.Says
			if says == "" {
				says = "(a reply)"
			}
			fmt.Fprintf(t.out, "  %4d  %s\n", k.Count, safe.Line(cutTo(says, 100)))
		}
	}
	switch {
	case r.Failed != nil:
		return exitOf(r.Failed)
	case !r.Steady || r.Stopped != "":
		return status(exitNo)
	}
	return nil
}
