package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/muster"
	"orenda/internal/safe"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

func (t *commandLine) musterCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "muster", Short: "Many cases with what is expected of each: run, list, add"}
	cmd.AddCommand(t.musterRunCommand(), t.musterListCommand(), t.musterAddCommand())
	return cmd
}

// musterFlags are those of muster run.
type musterFlags struct {
	endpoint, env, rate       string
	atOnce, stopAt, repeat    int
	reports                   []string
	onlyFailed, resume, again bool

	every         time.Duration // between two rounds; 0: one round
	until, beside string
	changed       bool
}

func (t *commandLine) musterRunCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "run NAME|FILE",
		Short: "Run the cases of a muster, and tell which came back as expected",
		Long: `Runs musters/NAME.toml of the workspace, or a muster's file. Each case is an exchange in
the journal. The exit code is 0 where all came back as expected, 1 where one did not.
At most 64 cases run at once: this is no tool for loads.

--every runs it again and again, and tells only what changed since the round before, with
the terminal's bell, until it is halted or all is as expected. --beside sends the same cases
to another endpoint too, and tells in what the answers differ; then the exit code is 0 where
they are the same but for what any two calls differ in.`,
		Example: "  orenda muster run nightly --report report.xml\n  orenda muster run nightly --only-failed\n" +
			"  orenda muster run nightly --every 1m --until asExpected\n" +
			"  orenda muster run nightly --endpoint old --beside new",
		Args: cobra.ExactArgs(1),
	}
	var f musterFlags
	fl := cmd.Flags()
	fl.StringVar(&f.endpoint, "endpoint", "", "all cases over this endpoint")
	fl.StringVar(&f.env, "env", "", "environment of the workspace")
	fl.StringVar(&f.rate, "rate", "", "cases begun a second at most, such as 20/s")
	fl.IntVar(&f.atOnce, "at-once", 1, "cases at a time, 64 at most")
	fl.IntVar(&f.stopAt, "stop-at", 0, "begin no more after that many unexpected ones")
	fl.IntVar(&f.repeat, "repeat", 1, "run all of it that often")
	fl.StringArrayVar(&f.reports, "report", nil, "write a report: FILE.xml (JUnit), .json, .md or .html; repeatable")
	fl.BoolVar(&f.onlyFailed, "only-failed", false, "only what was unexpected in the last run")
	fl.BoolVar(&f.resume, "resume", false, "only what the last run did not come to")
	fl.BoolVar(&f.again, "again", false, "send drafts too that change things at the service")
	fl.DurationVar(&f.every, "every", 0, "run it again after that long, and tell what changed")
	fl.StringVar(&f.until, "until", "", "with --every: asExpected ends it once all is as expected")
	fl.StringVar(&f.beside, "beside", "", "hold the answers against those of this endpoint")
	fl.BoolVar(&f.changed, "changed", false, "tell too what was answered otherwise than in the last run")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return t.musterRun(cmd.Context(), &f, args[0]) }
	return cmd
}

func (t *commandLine) musterRun(ctx context.Context, f *musterFlags, name string) error {
	switch {
	case f.until != "" && (f.until != string(muster.AsExpected) || f.every == 0):
		return fmt.Errorf("--until is %s, and goes with --every", muster.AsExpected)
	case f.every < 0 || f.every > 0 && f.beside != "":
		return errors.New("--every is a time such as 1m, and does not go with --beside")
	}
	w, err := t.workspace()
	if err != nil {
		return err
	}
	if f.beside != "" {
		return t.musterBeside(ctx, f, w, name)
	}
	run, err := t.musterRound(ctx, f, w, name)
	if err != nil {
		return err
	}
	end := t.tellRun(ctx, f, run)
	for f.every > 0 && ctx.Err() == nil && (f.until == "" || run.Counts.AsExpected < run.Cases.Len()) {
		select {
		case <-time.After(f.every):
		case <-ctx.Done():
			return status(exitCancelled)
		}
		before := run
		if w, err = t.workspace(); err != nil { // somebody may have mended a setting
			return err
		}
		if run, err = t.musterRound(ctx, f, w, name); err != nil {
			return err
		}
		end = t.tellChanges(before, run)
	}
	if ctx.Err() != nil {
		return status(exitCancelled)
	}
	return end
}

// musterWaiting is how many exchanges of a run wait to be kept.
const musterWaiting = 128

// tellChanges tells what is otherwise than in the round before, with the terminal's bell.
func (t *commandLine) tellChanges(before, run *muster.Run) error {
	was := map[string]muster.Result{}
	for r := range before.Cases.All() {
		was[r.Name] = r
	}
	changed := &muster.Run{Muster: run.Muster, ID: run.ID, Started: run.Started, TookNs: run.TookNs}
	for r := range run.Cases.All() {
		if b, ok := was[r.Name]; !ok || b.Outcome != r.Outcome || !slices.Equal(b.Why, r.Why) {
			changed.Cases.Add(r)
		}
	}
	if changed.Cases.Len() > 0 {
		changed.Sum()
		if isTerminal(t.err) {
			fmt.Fprint(t.err, "\a")
		}
		if !t.asJSON {
			fmt.Fprintf(t.out, "\n%s\n", run.Started.Local().Format("15:04:05"))
		}
		if err := t.printRun(changed); err != nil {
			return err
		}
	}
	if run.Counts.Unexpected > 0 || run.Counts.NotRun > 0 {
		return status(exitNo)
	}
	return nil
}

// musterRound runs a muster once, and keeps and reports its outcomes.
func (t *commandLine) musterRound(
	ctx context.Context, f *musterFlags, w *workspace.Workspace, name string,
) (*muster.Run, error) {
	m, err := w.Muster(name)
	if err != nil {
		return nil, unread{err}
	}
	h, err := t.home()
	if err != nil {
		return nil, err
	}
	o, kept, err := t.musterOptions(w, f)
	if err != nil {
		return nil, err
	}
	m.Cases.Repeat(f.repeat)
	var writers []func(io.Writer) error
	file := w.RunFile(h, m.Name)
	o.Last = workspace.LastRun(file)
	o.Wants = f.wants()
	run := m.Go(ctx, o)
	kept()
	run.Slower = run.SlowerThan(o.Last)
	if f.changed {
		if run.Changed, err = t.changedSince(run, o.Last); err != nil {
			return nil, unread{err}
		}
	}
	for _, report := range f.reports {
		write, err := run.Report(report)
		if err != nil {
			return nil, err
		}
		writers = append(writers, write)
	}
	if err := workspace.KeepRun(file, run, o.Last); err != nil {
		t.complain(fmt.Errorf("the outcomes were not kept: %w", err))
	}
	run.Asked()
	for i, file := range f.reports {
		if err := user.WriteFileFrom(file, writers[i]); err != nil {
			return nil, unread{err}
		}
	}
	return run, nil
}

// musterBeside sends the cases to two endpoints, and tells in what the answers differ.
func (t *commandLine) musterBeside(ctx context.Context, f *musterFlags, w *workspace.Workspace, name string) error {
	var runs [2]*muster.Run
	for i, endpoint := range []string{f.endpoint, f.beside} {
		if endpoint != "" && w.Endpoint(endpoint) == nil {
			return fmt.Errorf("the workspace has no endpoint %s", endpoint)
		}
		m, err := w.Muster(name)
		if err != nil {
			return unread{err}
		}
		one := *f
		one.endpoint = endpoint
		o, kept, err := t.musterOptions(w, &one)
		if err != nil {
			return err
		}
		runs[i] = m.Go(ctx, o)
		kept()
		if ctx.Err() != nil {
			return status(exitCancelled)
		}
	}
	j, err := t.journal()
	if err != nil {
		return err
	}
	pairs, err := muster.Beside(runs[0], runs[1], j.Get)
	if err != nil {
		return unread{err}
	}
	same := true
	for _, p := range pairs {
		same = same && p.Same
	}
	if t.asJSON {
		err = t.printJSON(map[string]any{"muster": name, "beside": f.beside, "same": same, "cases": pairs})
	} else {
		t.tellPairs(pairs)
	}
	if err == nil && !same {
		err = status(exitNo)
	}
	return err
}

func (t *commandLine) tellPairs(pairs []muster.Pair) {
	const most = 5
	differ := 0
	for _, p := range pairs {
		switch {
		case p.Same:
			fmt.Fprintf(t.out, "same     %s\n", safe.Line(p.Name))
			continue
		case p.Why != "":
			fmt.Fprintf(t.out, "unknown  %s  %s\n", safe.Line(p.Name), p.Why)
		default:
			fmt.Fprintf(t.out, "DIFFERS  %s  (orenda compare %s %s)\n", safe.Line(p.Name), p.A, p.B)
		}
		differ++
		for _, d := range p.Differences[:min(len(p.Differences), most)] {
			fmt.Fprintf(t.out, "           %-9s %s: %s → %s\n", d.Kind, safe.Line(cutTo(d.Path, 60)),
				safe.Line(cutTo(d.A.Said(), 40)), safe.Line(cutTo(d.B.Said(), 40)))
		}
		if left := len(p.Differences) - most; left > 0 {
			fmt.Fprintf(t.out, "           and %d more\n", left)
		}
	}
	fmt.Fprintf(t.out, "\n%d cases, %d answered otherwise\n", len(pairs), differ)
}

// wants says which cases are run, by their last result; nil: all.
func (f *musterFlags) wants() func(last *muster.Result) bool {
	switch {
	case f.onlyFailed:
		return func(last *muster.Result) bool { return last != nil && last.Outcome == muster.Unexpected }
	case f.resume:
		return func(last *muster.Result) bool { return last == nil || last.Outcome == muster.NotRun }
	}
	return nil
}

// options are those that the flags alone settle.
func (f *musterFlags) options() (muster.Options, error) {
	o := muster.Options{AtOnce: f.atOnce, StopAt: f.stopAt, Now: time.Now}
	if f.atOnce < 1 || f.atOnce > muster.MaxAtOnce {
		return o, fmt.Errorf("--at-once is 1 to %d", muster.MaxAtOnce)
	}
	if f.repeat < 1 {
		return o, errors.New("--repeat is 1 or more")
	}
	if f.rate != "" {
		rate, err := strconv.ParseFloat(strings.TrimSuffix(f.rate, "/s"), 64)
		if err != nil || rate <= 0 {
			return o, fmt.Errorf("--rate is written as 20/s, and not as %q", f.rate)
		}
		o.Rate = rate
	}
	for _, file := range f.reports {
		if _, err := (&muster.Run{}).Report(file); err != nil {
			return o, err
		}
	}
	return o, nil
}

// changedSince are the cases that were answered otherwise than in the last run.
func (t *commandLine) changedSince(run *muster.Run, last *muster.Last) (out []muster.Pair, err error) {
	j, err := t.journal()
	if err != nil {
		return nil, err
	}
	pairs, err := muster.Beside(run.Before(last), run, j.Get)
	for _, p := range pairs {
		if !p.Same && p.Why == "" {
			out = append(out, p)
		}
	}
	return out, err
}

// musterOptions are the options of a run. kept waits until all its exchanges are kept.
func (t *commandLine) musterOptions(w *workspace.Workspace, f *musterFlags) (o muster.Options, kept func(), err error) {
	if o, err = f.options(); err != nil {
		return o, nil, err
	}
	t.lingers.Add(1) // what has come when it is halted is kept and told
	j := t.keeping()
	behind := journal.NewBehind(journal.Adding(j), func(_ *exchange.Exchange, err error) {
		if err != nil {
			t.complain(fmt.Errorf("the exchange was not kept: %w", err))
		}
	})
	behind.Most(musterWaiting)
	o.Keep = func(x *exchange.Exchange) {
		behind.Add(x)
		t.contradict(w, x)
	}
	w.MusterOptions(&o, j, f.endpoint, f.env, f.again)
	if !t.asJSON && !t.quiet && isTerminal(t.err) {
		began := time.Now()
		o.Told = func(done, all int, _ *muster.Result) {
			left := time.Duration(float64(time.Since(began)) / float64(done) * float64(all-done)).Round(time.Second)
			fmt.Fprintf(t.err, "\r\x1b[K%d of %d, %s left", done, all, left)
			if done == all {
				fmt.Fprint(t.err, "\r\x1b[K")
			}
		}
	}
	return o, behind.Close, nil
}

// printRun prints a run, as a list or as JSON.
func (t *commandLine) printRun(run *muster.Run) error {
	if t.asJSON {
		return run.WriteJSON(t.out)
	}
	for r := range run.Cases.All() {
		word := map[muster.Outcome]string{
			muster.AsExpected: "as expected", muster.Unexpected: "UNEXPECTED", muster.NotRun: "not run",
		}[r.Outcome]
		note := ""
		if r.Against != "" {
			note = map[string]string{"newlyFailed": "newly", "mended": "fixed"}[r.Against]
		}
		fmt.Fprintf(t.out, "%-11s  %-7s %9s  %s\n", word, note, exchange.Took(r.TotalNs), safe.Line(r.Name))
		for _, why := range r.Why {
			fmt.Fprintf(t.out, "             %s\n", safe.Line(cutTo(why, 140)))
		}
	}
	causes, of := run.ByCause()
	for _, c := range causes {
		fmt.Fprintf(t.out, "\n%d by %s", len(of[c]), safe.Line(c))
	}
	fmt.Fprintf(t.out, "\n%s\n", run.Summary())
	for _, s := range run.Slower {
		fmt.Fprintf(t.out, "slower than in the last run: %s over %s, median %s and now %s (by chance %.2g)\n",
			safe.Line(s.Operation), safe.Line(s.Endpoint), exchange.Took(s.BeforeNs), exchange.Took(s.NowNs), s.Chance)
	}
	if len(run.Changed) > 0 {
		fmt.Fprintln(t.out, "\nanswered otherwise than in the last run")
		t.tellPairs(run.Changed)
	}
	return nil
}

func (t *commandLine) tellRun(ctx context.Context, f *musterFlags, run *muster.Run) error {
	if err := t.printRun(run); err != nil {
		return err
	}
	switch {
	case ctx.Err() != nil:
		return status(exitCancelled)
	case run.Counts.Unexpected > 0 || run.Counts.NotRun > 0:
		return status(exitNo)
	}
	return nil
}

func (t *commandLine) musterListCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "list",
		Example: "  orenda muster list", Short: "The musters of the workspace", Args: cobra.NoArgs}
	t.jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		type listed struct {
			Name  string `json:"name"`
			Cases int    `json:"cases"`
			Error string `json:"error,omitempty"`
		}
		out := []listed{}
		for _, name := range w.Musters() {
			l := listed{Name: name}
			if m, err := w.Muster(l.Name); err != nil {
				l.Error = err.Error()
			} else {
				l.Cases = m.Cases.Len()
			}
			out = append(out, l)
			if !t.asJSON {
				fmt.Fprintf(t.out, "%-24s %5d cases  %s\n", safe.Line(l.Name), l.Cases, safe.Line(l.Error))
			}
		}
		if t.asJSON {
			return t.printJSON(out)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) musterAddCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "add NAME DRAFT|EXCHANGE|FILE.csv …",
		Short: "Add cases to a muster: drafts, kept exchanges with their values, or a table for a draft",
		Long: `Adds a case for each draft (OPERATION/NAME, or a pattern) and for each kept exchange,
with the values that it was sent with. A table is added to the draft that stands before it.`,
		Example: "  orenda muster add nightly 'FindBerths/*' last\n  orenda muster add nightly LookUp/first signs.csv",
		Args:    cobra.MinimumNArgs(2),
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		var all []workspace.AddedCase
		draft := ""
		for _, a := range args[1:] {
			cases, err := t.caseOf(w, a, draft, args[0])
			if err != nil {
				return err
			}
			all = append(all, cases...)
			draft = cases[len(cases)-1].Draft
		}
		m, err := w.AddCases(args[0], all...)
		if err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s: %d cases\n", safe.Line(m.Name), m.Cases.Len())
		return nil
	}
	return cmd
}

// caseOf are the cases of one argument, one at least; draft is the one before it.
func (t *commandLine) caseOf(w *workspace.Workspace, arg, draft, name string) (out []workspace.AddedCase, err error) {
	if ext := strings.ToLower(filepath.Ext(arg)); ext == ".csv" || ext == ".jsonl" || ext == ".tsv" {
		b, err := os.ReadFile(arg)
		if err != nil {
			return nil, unread{err}
		}
		if draft == "" {
			return nil, fmt.Errorf("%s: name the draft before its table", arg)
		}
		beside := safe.FileName(strings.TrimSuffix(filepath.Base(arg), ext)) + ext
		at := filepath.Join(w.Dir(), muster.Folder, beside)
		if there, err := os.ReadFile(at); err == nil && !bytes.Equal(there, b) {
			return nil, fmt.Errorf(
				"there is another table %s beside the musters already; give this one another name",
				beside,
			)
		}
		if err := user.WriteFile(at, b); err != nil {
			return nil, unread{err}
		}
		return []workspace.AddedCase{{Draft: draft, Table: beside}}, nil
	}
	if isPattern(arg) {
		refs, err := matching(w, arg)
		if err != nil || len(refs) == 0 {
			return nil, errors.Join(err, fmt.Errorf("no draft matches %s", arg))
		}
		for _, r := range refs {
			out = append(out, workspace.AddedCase{Draft: r.String()})
		}
		return out, nil
	}
	if ref, err := w.FindDraft(arg); err == nil {
		return []workspace.AddedCase{{Draft: ref.String()}}, nil
	}
	x, err := t.keptExchange(arg)
	if err != nil {
		return nil, fmt.Errorf("%s is no draft, no table and no exchange of %s", arg, name)
	}
	c := workspace.CaseOf(x)
	if _, err := w.FindDraft(c.Draft); err != nil {
		return nil, err
	}
	return []workspace.AddedCase{c}, nil
}
