package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// repairing is what --repair did so far, and what it may do.
type repairing struct {
	allowed []exchange.Cost
	done    []exchange.Change
	mended  map[string]bool // findings that were repaired, by id and title: one id may be of two variables
}

// newRepairing takes the costs that --allow names.
func newRepairing(allow []string) (*repairing, error) {
	r := &repairing{mended: map[string]bool{}}
	all := []exchange.Cost{exchange.CostTrust, exchange.CostSecrecy, exchange.CostLogIn, exchange.CostMessage,
		exchange.CostRepeats}
	for _, a := range allow {
		c := exchange.Cost(strings.TrimSpace(a))
		if !slices.Contains(all, c) {
			return nil, fmt.Errorf("--allow is trust, secrecy, log-in, message or repeats, not %q", a)
		}
		r.allowed = append(r.allowed, c)
	}
	return r, nil
}

// next is the remedy to do now: the first of the cause that costs nothing beyond what is
// allowed. Where there is none, why says why, "" where nothing is offered at all.
func (r *repairing) next(x *exchange.Exchange) (remedy *exchange.Remedy, why string) {
	for i := range x.Findings {
		f := &x.Findings[i]
		if len(f.Remedies) == 0 || f.Severity == exchange.Note {
			continue
		}
		if r.mended[f.ID+f.Title] {
			return nil, fmt.Sprintf("%s came again after it was repaired", f.ID)
		}
		for j := range f.Remedies {
			o := &f.Remedies[j]
			beyond := o.Costs.Beyond(r.allowed)
			switch {
			case o.Needs != "":
				why = cmp.Or(why, wanting(o))
			case r.undoes(o):
				why = cmp.Or(why, fmt.Sprintf("not done, as it takes back an earlier repair: %s", o.Title))
			case len(beyond) > 0:
				costs := beyond.Join(",")
				why = cmp.Or(why,
					fmt.Sprintf("not done, as it costs %s: %s; --allow %s does it", costs, o.Title, costs))
			default:
				r.mended[f.ID+f.Title] = true
				r.done = append(r.done, o.All()...)
				return o, ""
			}
		}
		return nil, why
	}
	return nil, ""
}

// wanting says how an identity is made that a remedy needs.
func wanting(r *exchange.Remedy) string {
	how := "orenda identity set NAME user=USER secret=env:VARIABLE"
	if r.Needs == exchange.NeedCertificate {
		how = "orenda identity set NAME certificate=FILE"
	}
	return fmt.Sprintf("%s: make an identity for it, and call again: %s", r.Title, how)
}

// undoes tells whether a remedy takes back a change that was made.
func (r *repairing) undoes(o *exchange.Remedy) bool {
	for _, c := range o.All() {
		for _, d := range r.done {
			if c.Key == d.Key && c.Where == d.Where && fmt.Sprint(c.To) == fmt.Sprint(d.From) {
				return true
			}
		}
	}
	return false
}

// repair makes the changes of a remedy. What was set for this call only gives
// way to it.
func (p *prepared) repair(r *exchange.Remedy) error {
	ref, op, err := applyRemedy(p.w, p.ref, r.All())
	if err != nil {
		return err
	}
	p.ref = ref
	for _, c := range r.All() {
		if c.Where == "draft" && c.Key == "endpoint" {
			p.end = fmt.Sprint(c.To)
		}
	}
	if op != "" && p.bad != nil {
		p.bad = nil
		for _, d := range p.w.Drafts() {
			if d.Operation == op {
				p.ref = d
			}
		}
	}
	for _, c := range r.All() {
		if _, key, ok := cutLast(c.Key); ok {
			delete(p.extra, key)
		}
	}
	return nil
}

func cutLast(key string) (before, after string, ok bool) {
	i := strings.LastIndexByte(key, '.')
	if i < 0 {
		return key, "", false
	}
	return key[:i], key[i+1:], true
}

// applyRemedy makes changes to the workspace, the user's configuration and the
// draft. operation is set where another operation is to be called.
func applyRemedy(
	w *workspace.Workspace,
	ref workspace.DraftRef,
	changes []exchange.Change,
) (_ workspace.DraftRef, operation string, err error) {
	var settings []exchange.Change
	for _, c := range changes {
		if c.Where != "draft" {
			settings = append(settings, c)
			continue
		}
		if c.Key == "endpoint" {
			continue // it is named where the call is made, and kept nowhere
		}
		if c.Key == "operation" {
			operation = fmt.Sprint(c.To)
			if _, rerr := w.ReadDraft(ref); rerr != nil {
				continue // there is no draft to move: the name alone was wrong
			}
		}
		if ref, err = w.ChangeDraft(ref, c); err != nil {
			return ref, operation, err
		}
	}
	if len(settings) == 0 {
		return ref, operation, nil
	}
	return ref, operation, w.Apply(settings...)
}

//revive:disable-next-line:cyclomatic a command: its flags, and what it does with them
func (t *commandLine) repairCommand() *cobra.Command {
	var n int
	var here bool
	cmd := &cobra.Command{
		Use:     "repair EXCHANGE",
		Example: "  orenda repair last --remedy 2", Short: "Make the change that a remedy of a kept exchange proposes",
		Args: cobra.ExactArgs(1),
		Long: "EXCHANGE is the id that call prints, its beginning, or last. The change is\nwritten into the " +
			"workspace that the exchange belongs to.",
	}
	cmd.Flags().IntVar(&n, "remedy", 1, "which remedy, counted as call shows them")
	cmd.Flags().BoolVar(&here, "here", false, "for this endpoint only, where a profile holds the value")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		x, err := j.Get(args[0])
		if err != nil {
			return unread{fmt.Errorf("%s: %w", args[0], err)}
		}
		var all []exchange.Remedy
		for _, f := range x.Findings {
			all = append(all, f.Remedies...)
		}
		if len(all) == 0 {
			fmt.Fprintln(t.err, "orenda: no finding of this exchange has a remedy")
			return status(exitNo)
		}
		if n < 1 || n > len(all) {
			return fmt.Errorf("there are %d remedies, and no number %d", len(all), n)
		}
		if t.dir == "" && x.Workspace != "" {
			t.dir = x.Workspace
		}
		w, err := t.workspace()
		if err != nil {
			return err
		}
		r := all[n-1]
		if r.Needs != "" {
			return errors.New(wanting(&r))
		}
		if err := w.Fits(x, &r); err != nil {
			fmt.Fprintf(t.err, "orenda: %s\n", safe.Line(err.Error()))
			if old, ok := errors.AsType[*workspace.OutdatedError](err); ok && old.Done {
				return nil
			}
			return status(exitNo)
		}
		changes := slices.Clone(r.All())
		for i, c := range changes {
			if parts := strings.SplitN(c.Key, ".", 3); here && len(parts) == 3 && parts[0] == "profile" {
				changes[i].Key = "endpoint." + x.Endpoint + "." + parts[2]
			}
		}
		ref := workspace.DraftRef{Contract: x.Contract, Operation: x.Operation, Name: x.Draft}
		for _, d := range w.Drafts() {
			if d.Contract == x.Contract && d.Operation == x.Operation && d.Name == x.Draft {
				ref = d
			}
		}
		if _, _, err := applyRemedy(w, ref, changes); err != nil {
			return unread{err}
		}
		fmt.Fprintln(t.out, safe.Line(r.Title))
		for _, c := range changes {
			if c.Where == "draft" && c.Key == "endpoint" {
				fmt.Fprintf(
					t.out,
					"  nothing is kept of that: name it with --endpoint %s\n",
					safe.Line(fmt.Sprint(c.To)),
				)
				continue
			}
			fmt.Fprintln(t.out, "  "+safe.Line(cutTo(c.String(), 110)))
		}
		return nil
	}
	return cmd
}
