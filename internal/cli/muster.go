package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"orenda/internal/exchange"
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
}

func (t *commandLine) musterRunCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "run NAME|FILE",
		Short: "Run the cases of a muster, and tell which came back as expected",
		Long: `Runs musters/NAME.toml of the workspace, or a muster's file. Each case is an exchange in
the journal. The exit code is 0 where all came back as expected, 1 where one did not.
At most 64 cases run at once: this is no tool for loads.`,
		Example: "  orenda muster run nightly --report report.xml\n  orenda muster run nightly --only-failed",
		Args:    cobra.ExactArgs(1),
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
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return t.musterRun(cmd.Context(), &f, args[0]) }
	return cmd
}

func (t *commandLine) musterRun(ctx context.Context, f *musterFlags, name string) error {
	w, err := t.workspace()
	if err != nil {
		return err
	}
	m, err := w.Muster(name)
	if err != nil {
		return unread{err}
	}
	h, err := t.home()
	if err != nil {
		return err
	}
	o, err := t.musterOptions(w, f)
	if err != nil {
		return err
	}
	for range f.repeat - 1 {
		m.Cases = append(m.Cases, m.Cases[:len(m.Cases):len(m.Cases)]...)
	}
	var writers []func(io.Writer) error
	kept := w.RunFile(h, m.Name)
	o.Last = workspace.LastRun(kept)
	o.Wants = f.wants()
	run := m.Go(ctx, o)
	for _, file := range f.reports {
		write, err := run.Report(file)
		if err != nil {
			return err
		}
		writers = append(writers, write)
	}
	if err := workspace.KeepRun(kept, run, o.Last); err != nil {
		t.complain(fmt.Errorf("the outcomes were not kept: %w", err))
	}
	run = asked(run)
	for i, file := range f.reports {
		if err := user.WriteFileFrom(file, writers[i]); err != nil {
			return unread{err}
		}
	}
	return t.tellRun(ctx, f, run)
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

// asked is the run without the cases that nobody asked for.
func asked(run *muster.Run) *muster.Run {
	run.Cases = slices.DeleteFunc(run.Cases, func(r muster.Result) bool {
		if r.LeftOut {
			run.Counts.NotRun--
		}
		return r.LeftOut
	})
	return run
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

func (t *commandLine) musterOptions(w *workspace.Workspace, f *musterFlags) (muster.Options, error) {
	o, err := f.options()
	if err != nil {
		return o, err
	}
	j := t.keeping()
	o.Keep = func(x *exchange.Exchange) {
		if err := j.Add(x); err != nil {
			t.complain(fmt.Errorf("the exchange was not kept: %w", err))
		}
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
	return o, nil
}

func (t *commandLine) tellRun(ctx context.Context, f *musterFlags, run *muster.Run) error {
	if t.asJSON {
		if err := t.printJSON(run); err != nil {
			return err
		}
	} else {
		for _, r := range run.Cases {
			word := map[muster.Outcome]string{
				muster.AsExpected: "as expected", muster.Unexpected: "UNEXPECTED", muster.NotRun: "not run",
			}[r.Outcome]
			note := ""
			if r.Against != "" {
				note = map[string]string{"newlyFailed": "newly", "mended": "mended"}[r.Against]
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
				l.Cases = len(m.Cases)
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
		var b strings.Builder
		draft := ""
		for _, a := range args[1:] {
			text, named, err := t.caseOf(w, a, draft, args[0])
			if err != nil {
				return err
			}
			b.WriteString(text)
			draft = named
		}
		dir := filepath.Join(w.Dir(), muster.Folder)
		file := filepath.Join(dir, safe.FileName(args[0])+".toml")
		old, err := os.ReadFile(file)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return unread{err}
		}
		if len(old) > 0 && old[len(old)-1] != '\n' {
			old = append(old, '\n')
		}
		src := append(old, b.String()...)
		m, err := workspace.MusterOf(file, src) // what cannot be read is not written
		if err != nil {
			return unread{err}
		}
		if err := user.WriteFile(file, src); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s: %d cases\n", safe.Line(m.Name), len(m.Cases))
		return nil
	}
	return cmd
}

// addedCase is a case as muster add writes it.
type addedCase struct {
	Name     string            `toml:"name,omitempty"`
	Draft    string            `toml:"draft"`
	Endpoint string            `toml:"endpoint,omitempty"`
	Table    string            `toml:"table,omitempty"`
	Values   map[string]string `toml:"values,omitempty,inline"`
}

// caseOf writes the cases of one argument; draft is the one before it.
func (t *commandLine) caseOf(w *workspace.Workspace, arg, draft, name string) (text, named string, err error) {
	write := func(all ...addedCase) (string, error) {
		b, err := toml.Marshal(map[string][]addedCase{"case": all})
		return "\n" + string(b), err
	}
	if ext := strings.ToLower(filepath.Ext(arg)); ext == ".csv" || ext == ".jsonl" || ext == ".tsv" {
		b, err := os.ReadFile(arg)
		if err != nil {
			return "", "", unread{err}
		}
		if draft == "" {
			return "", "", fmt.Errorf("%s: name the draft before its table", arg)
		}
		beside := safe.FileName(strings.TrimSuffix(filepath.Base(arg), ext)) + ext
		at := filepath.Join(w.Dir(), muster.Folder, beside)
		if there, err := os.ReadFile(at); err == nil && !bytes.Equal(there, b) {
			return "", "", fmt.Errorf(
				"there is another table %s beside the musters already; give this one another name",
				beside,
			)
		}
		if err := user.WriteFile(at, b); err != nil {
			return "", "", unread{err}
		}
		text, err := write(addedCase{Draft: draft, Table: beside})
		return text, draft, err
	}
	if isPattern(arg) {
		refs, err := matching(w, arg)
		if err != nil || len(refs) == 0 {
			return "", "", errors.Join(err, fmt.Errorf("no draft matches %s", arg))
		}
		var all []addedCase
		for _, r := range refs {
			all = append(all, addedCase{Draft: r.String()})
		}
		text, err := write(all...)
		return text, all[len(all)-1].Draft, err
	}
	if ref, err := w.FindDraft(arg); err == nil {
		text, err := write(addedCase{Draft: ref.String()})
		return text, ref.String(), err
	}
	x, err := t.keptExchange(arg)
	if err != nil {
		return "", "", fmt.Errorf("%s is no draft, no table and no exchange of %s", arg, name)
	}
	c := addedCase{
		Name:     x.Operation + " " + x.ID[max(len(x.ID)-4, 0):],
		Draft:    x.Operation + "/" + x.Draft,
		Endpoint: x.Endpoint,
	}
	for _, in := range x.Inputs {
		if !strings.HasPrefix(in.Path, "header") && !strings.Contains(in.Value, string(exchange.Masked)) {
			if c.Values == nil {
				c.Values = map[string]string{}
			}
			c.Values[in.Path] = in.Value
		}
	}
	if _, err := w.FindDraft(c.Draft); err != nil {
		return "", "", err
	}
	text, err = write(c)
	return text, c.Draft, err
}
