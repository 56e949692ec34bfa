package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/expect"
	"orenda/internal/message"
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
		Use:   "sound DRAFT|OPERATION FIELD [FIELD=VALUE…]",
		Short: "Find the edge of what a service accepts in a field, by sending",
		Long: `Sends the draft with other values of one field, halving the distance between what is
accepted and what is refused, until the edge is found; both sides are really sent, and
sent twice. What is accepted passes, or meets --accepted. It says before it begins how
often it may send, keeps a pause, and stops at the budget, where the service locks it
out, or gets slow. Drafts that change things are not sent without --again.

The exit code is 0 where an edge was found or there is none; 1 where the service is not
steady, or the budget was spent first. Where no call passes it is that of the call.`,
		Example: "  orenda sound LookUp/one sign --by length --endpoint CallSigns\n" +
			"  orenda sound LookUp sign sign=SKAL4 --by characters --contract http://host/signs?wsdl --port CallSigns",
		Args: cobra.MinimumNArgs(2),
	}
	var f soundFlags
	fl := cmd.Flags()
	fl.StringVar(&f.by, "by", "length", "length, value, count, date, size or characters")
	fl.StringVar(&f.from, "from", "", "the least that is tried")
	fl.StringVar(&f.to, "to", "", "the greatest that is tried")
	fl.IntVar(&f.budget, "budget", 40, "calls at most")
	fl.DurationVar(&f.pause, "pause", 100*time.Millisecond, "between two calls")
	fl.StringVar(&f.accepted, "accepted", "", "what an accepted answer is: an expectation (default: the call passes)")
	f.source(fl)
	fl.StringVar(&f.endpoint, "endpoint", "", "endpoint of the workspace")
	fl.BoolVar(&f.again, "again", false, "send a draft too that changes things at the service")
	t.jsonFlag(cmd)
	f.settings = settingFlags(cmd, "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return t.sound(cmd.Context(), &f, args) }
	return cmd
}

func (t *commandLine) sound(ctx context.Context, f *soundFlags, args []string) error {
	var accepted *expect.Expectation
	if f.accepted != "" {
		var err error
		if accepted, err = expect.Parse(f.accepted); err != nil {
			return err
		}
	}
	p, err := t.prepare(ctx, &f.callFlags, append([]string{args[0]}, args[2:]...))
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
	plan.Draft = filledWithExamples(plan.Draft)
	it, ok := plan.Draft.Find(args[1])
	if !ok {
		return fmt.Errorf("the message has no field %s; it has %s", args[1], strings.Join(plan.Draft.Paths(), ", "))
	}
	j := t.keeping()
	o := sounding.Options{
		Field: args[1], By: f.by, Base: it.Value, From: f.from, To: f.to, Budget: f.budget,
		Pause: f.pause, Schema: it.Type,
	}
	if !t.asJSON {
		fmt.Fprintf(t.aside(), "sends %s up to %d times over %s, with a pause of %s\n",
			safe.Line(p.ref.String()), f.budget,
			safe.Line(plan.Endpoint), f.pause)
	}
	var sessions call.Sessions
	r, err := sounding.Sound(ctx, o, func(ctx context.Context, v sounding.Variant) (sounding.Answer, error) {
		one := plan
		d, err := varied(plan.Draft, args[1], v)
		if err != nil {
			return sounding.Answer{}, err
		}
		one.Draft, one.Sessions, one.AsItIs = d, &sessions, true // what the schema forbids is tried too
		if accepted != nil {
			one.Settings.Set("expect", f.accepted)
		}
		x := call.New(one, nil).Run(ctx)
		if ctx.Err() != nil {
			return sounding.Answer{}, ctx.Err()
		}
		if err := j.Add(x); err != nil {
			t.complain(fmt.Errorf("the exchange was not kept: %w", err))
		}
		return answerOf(x), nil
	})
	if errors.Is(err, context.Canceled) {
		return status(exitCancelled)
	}
	if err != nil {
		return err
	}
	return t.tellSounding(r)
}

// filledWithExamples is a draft in which what was not filled in has example values.
func filledWithExamples(d *message.Draft) *message.Draft {
	out := message.NewDraft(d.Schemas, d.Decl, d.Bytes())
	e := &schema.Examples{Day: exampleDay}
	for _, it := range d.Unfilled() {
		if st := it.Simple(); st != nil {
			_ = out.Set(it.Path, e.Value(st, 0))
		}
	}
	return out
}

// varied is a draft with another value of one field.
func varied(d *message.Draft, path string, v sounding.Variant) (*message.Draft, error) {
	out := message.NewDraft(d.Schemas, d.Decl, d.Bytes())
	it, ok := out.Find(path)
	if !ok {
		return nil, fmt.Errorf("the message has no field %s", path)
	}
	switch {
	case v.Absent:
		out.LeaveOut(it)
		return out, nil
	case v.Nil:
		return out, out.SetNil(it)
	case v.Count > 0:
		span := it.Node.Span()
		one := string(out.Bytes()[span.Start:span.End])
		src := string(out.Bytes()[:span.Start]) + strings.Repeat(one, v.Count) + string(out.Bytes()[span.End:])
		return message.NewDraft(d.Schemas, d.Decl, []byte(src)), nil
	}
	return out, out.SetValue(it, v.Text)
}

func stops(f exchange.Finding) bool { return f.Severity == exchange.Stop }

// answerOf is what became of a call, as sounding needs it.
func answerOf(x *exchange.Exchange) sounding.Answer {
	a := sounding.Answer{
		Accepted: x.Outcome == exchange.OutcomePassed, Exchange: x.ID, Took: time.Duration(x.TotalNs),
		Code: exitCode(x),
	}
	status := 0
	if l := x.Leg(); l != nil {
		status = l.Response.Status
	}
	if reason := x.Stage(exchange.Read).Facts.Get("fault reason"); reason != "" {
		a.Says = reason
	} else if i := slices.IndexFunc(x.Findings, stops); i >= 0 {
		a.Says = x.Findings[i].Title
		if l := x.Leg(); l == nil || !l.Response.Complete {
			a.Says += " (" + x.Findings[i].ID + ")"
		}
	}
	a.Locked = sounding.LockedOut(status, a.Says)
	return a
}

func (t *commandLine) tellSounding(r *sounding.Result) error {
	if t.asJSON {
		if err := t.printJSON(r); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(t.out, "%s: %s\n", safe.Line(r.Field), safe.Line(r.Sentence))
		for _, e := range r.Edges {
			fmt.Fprintf(t.out, "  %-8s  accepted %s (%s)  refused %s (%s)\n", e.Side,
				safe.Line(e.Accepted), e.Exchanges[0],
				safe.Line(e.Refused), e.Exchanges[1])
		}
		for _, c := range r.Characters {
			fmt.Fprintf(t.out, "  %-18s  %-7s  %s\n", c.Of, map[bool]string{true: "taken", false: "refused"}[c.Taken],
				safe.Line(cutTo(c.Says, 90)))
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
	case r.Code != 0:
		return status(r.Code)
	case !r.Steady || r.Stopped != "":
		return status(exitNo)
	}
	return nil
}
