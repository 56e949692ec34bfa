package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// isPattern tells whether a text names several drafts: FindBerths/*.
func isPattern(text string) bool { return strings.ContainsAny(text, "*?[") }

// matching are the drafts that a pattern names. It is held against OPERATION/NAME.
func matching(w *workspace.Workspace, pattern string) (out []workspace.DraftRef, err error) {
	if !strings.Contains(pattern, "/") {
		pattern += "/*"
	}
	for _, r := range w.Drafts() {
		fits, err := path.Match(pattern, r.String())
		if err != nil {
			return nil, fmt.Errorf("%q is no pattern: %w", pattern, err)
		}
		if fits {
			out = append(out, r)
		}
	}
	return out, nil
}

// sent is a call among many, as --json prints it.
type sent struct {
	Draft    string           `json:"draft"`
	Endpoint string           `json:"endpoint"`
	Outcome  string           `json:"outcome"` // passed, stopped, cancelled or notSent
	Why      string           `json:"why,omitempty"`
	Exchange *exchange.Report `json:"exchange,omitempty"`
}

// callMany sends all drafts that match, one after the other, goes on after a failure, and
// ends with a line of counts.
func (t *commandLine) callMany(ctx context.Context, f *callFlags, args []string) error {
	if f.contract != "" || f.repair || len(args) > 1 {
		return errors.New("several drafts at once take no --contract, no --repair and no FIELD=VALUE")
	}
	w, err := t.workspace()
	if err != nil {
		return err
	}
	refs, err := matching(w, args[0])
	if err != nil {
		return err
	}
	if len(refs) == 0 {
		return unread{fmt.Errorf("no draft matches %s", args[0])}
	}
	j := t.keeping()
	all := []sent{}
	counts := map[string]int{}
	var sessions call.Sessions
	for _, ref := range refs {
		if ctx.Err() != nil {
			break
		}
		p := &prepared{w: w, ref: ref, end: f.endpoint, f: f, extra: f.settings()}
		one, err := t.sendOne(ctx, p, &sessions, j)
		if err != nil {
			return err
		}
		counts[one.Outcome]++
		all = append(all, *one)
		if !t.asJSON {
			line := one.Outcome
			if one.Why != "" {
				line += ": " + one.Why
			}
			fmt.Fprintf(
				t.out,
				"%-40s %-16s %s\n",
				safe.Line(one.Draft),
				safe.Line(one.Endpoint),
				safe.Line(cutTo(line, 110)),
			)
		}
	}
	if t.asJSON {
		if err := t.printJSON(all); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(t.out, "%d passed, %d stopped, %d not sent\n", counts["passed"],
			counts["stopped"]+counts["cancelled"], counts["notSent"]+len(refs)-len(all))
	}
	switch {
	case ctx.Err() != nil:
		return status(exitCancelled)
	case counts["passed"] < len(refs):
		return status(exitNo)
	}
	return nil
}

func (t *commandLine) sendOne(
	ctx context.Context,
	p *prepared,
	sessions *call.Sessions,
	j journal.Journal,
) (*sent, error) {
	plan, err := p.plan(t)
	if err != nil {
		return nil, err
	}
	one := &sent{Draft: p.ref.String(), Endpoint: plan.Endpoint}
	if p.w.Config().DraftSettings[p.ref.ID()].Changes && !p.f.again {
		one.Outcome, one.Why = "notSent", "it changes things at the service; --again sends it"
		return one, nil
	}
	plan.Sessions, plan.Keep = sessions, func(x *exchange.Exchange) { _ = t.add(j, x) }
	x := call.New(plan, nil).Run(ctx)
	if err := t.add(j, x); err != nil {
		t.complain(fmt.Errorf("the exchange was not kept: %w", err))
	}
	x = p.f.shown(x)
	one.Outcome = string(x.Outcome)
	if diagnose.HeldBack(x) {
		one.Outcome = "notSent"
	}
	if x.Outcome != exchange.OutcomePassed {
		one.Why = "at " + x.StoppedAt.String()
		told := func(f exchange.Finding) bool { return f.Severity != exchange.Note }
		if i := slices.IndexFunc(x.Findings, told); i >= 0 {
			one.Why += ": " + x.Findings[i].Title + " (" + x.Findings[i].ID + ")"
		}
	}
	r := x.Report(false)
	one.Exchange = &r
	return one, nil
}
