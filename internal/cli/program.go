package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/facade"
	"orenda/internal/handover/code"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// programFlags are those of handover code.
type programFlags struct {
	in, as, out, endpoint, env string
	only, deliver              []string
	show                       bool
}

func (t *commandLine) handoverCodeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "code EXCHANGE|DRAFT",
		Short: "A program that makes this very call, in one of seven languages",
		Long: `Writes a client with a function for each operation of the port, with the standard
library of the language alone, and an example that, run as it stands, makes the call with
the draft's values and prints the typed reply. Secrets are no part of it: it takes them
from the environment when it runs.

With --as facade it is a program that gives the operations as JSON over HTTP, as orenda
facade does, for those who run it without Orenda (in Go).

Written again, what was edited keeps its edits. Where both changed the same lines nothing
is written over: the new text stands beside, as FILE.new, and the exit code is 1.`,
		Example: "  orenda handover code 'FindBerths/small' --in python --out client\n" +
			"  orenda handover code last --in go --out client --only FindBerths,ReserveBerth\n" +
			"  orenda handover code 'FindBerths/small' --in go --as facade --out facade",
		Args: cobra.ExactArgs(1),
	}
	var f programFlags
	fl := cmd.Flags()
	fl.StringVar(&f.in, "in", "", "language: "+strings.Join(code.Names(), ", "))
	fl.StringVar(&f.as, "as", "client", "client, or facade")
	fl.StringVar(&f.out, "out", "", "folder to write into")
	fl.StringVar(&f.endpoint, "endpoint", "", "with DRAFT: over this endpoint")
	fl.StringVar(&f.env, "env", "", "environment of the workspace")
	fl.StringSliceVar(&f.only, "only", nil, "only these operations, and the one that is called")
	fl.BoolVar(&f.show, "show", false, "print what would change, and write nothing")
	_ = cmd.MarkFlagRequired("in")
	_ = cmd.MarkFlagRequired("out")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error { return t.handoverCode(&f, args[0]) }
	return cmd
}

func (t *commandLine) handoverCode(f *programFlags, of string) error {
	if !slices.Contains(code.Names(), f.in) {
		return fmt.Errorf("--in %s: the languages are %s", f.in, strings.Join(code.Names(), ", "))
	}
	if f.as != "client" && (f.as != "facade" || f.in != "go") {
		return fmt.Errorf("--as %s: it is client, or with --in go facade", f.as)
	}
	w, err := t.workspace()
	if err != nil {
		return err
	}
	p, sent, err := t.handed(w, f, of)
	if err != nil {
		return err
	}
	if f.as == "facade" {
		pages, err := facade.Pages(facade.Of(p, f.only, w.Shown), false)
		if err != nil {
			return err
		}
		return t.keptProgram(f, func() (*code.Kept, []string, error) {
			return w.WriteFacade(f.out, p, f.only, f.show, pages)
		})
	}
	return t.keptProgram(f, func() (*code.Kept, []string, error) {
		return w.WriteProgram(f.in, f.out, p, sent, f.only, f.show)
	})
}

// keptProgram writes a program, and tells of it.
func (t *commandLine) keptProgram(f *programFlags, write func() (*code.Kept, []string, error)) error {
	kept, missing, err := write()
	if err != nil {
		return unread{err}
	}
	made := kept.Program
	switch {
	case f.show:
		fmt.Fprint(t.out, safe.Block(kept.Diff))
	case t.asJSON:
		err = t.printJSON(map[string]any{
			"files": kept.Files, "build": made.Build, "run": made.Run, "address": made.Address,
			"conflicts": kept.Conflicts, "removed": kept.Removed, "left": kept.Left,
			"missing": append([]string{}, missing...),
		})
	default:
		t.tellProgram(f.out, kept, missing)
	}
	if err == nil && len(kept.Conflicts) > 0 {
		err = status(exitNo)
	}
	return err
}

func (t *commandLine) handoverBatchCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "batch EXCHANGE|DRAFT",
		Short: "A program in Python that calls for each row of a table",
		Long: `Writes a program that reads rows (CSV, JSON lines, standard input), calls for each, so many
at once, writes results and refusals as rows, and goes on where it stopped. A call is made
again only where nothing was sent, or where no draft of its operation is marked as one that
changes things. What was edited keeps its edits, as with handover code.

--out is a folder, or a name that ends with .py: then all of it is that one file.`,
		Example: "  orenda handover batch FindBerths/small --out batch\n" +
			"  orenda handover batch last --out rows.py\n" +
			"  orenda handover batch last --out batch --only FindBerths --deliver client,program",
		Args: cobra.ExactArgs(1),
	}
	f := programFlags{in: "python"}
	fl := cmd.Flags()
	fl.StringVar(&f.out, "out", "", "folder to write into, or FILE.py")
	fl.StringVar(&f.endpoint, "endpoint", "", "with DRAFT: over this endpoint")
	fl.StringVar(&f.env, "env", "", "environment of the workspace")
	fl.StringSliceVar(&f.only, "only", nil, "only these operations, and the one that is called")
	fl.StringSliceVar(&f.deliver, "deliver", nil, "only these parts: "+strings.Join(code.Deliveries, ", "))
	fl.BoolVar(&f.show, "show", false, "print what would change, and write nothing")
	_ = cmd.MarkFlagRequired("out")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		p, sent, err := t.handed(w, &f, args[0])
		if err != nil {
			return err
		}
		return t.keptProgram(&f, func() (*code.Kept, []string, error) {
			return w.WriteBatch(f.out, p, sent, f.only, f.deliver, f.show)
		})
	}
	return cmd
}

// handed is the call that is handed over: of a kept exchange with the message that it sent, of a
// draft with that of the draft.
func (t *commandLine) handed(w *workspace.Workspace, f *programFlags, of string) (
	p *call.Plan, sent *exchange.Exchange, err error,
) {
	name, end, env := of, f.endpoint, f.env
	if x, xerr := t.keptExchange(of); xerr == nil {
		sent, name = x, x.Operation+"/"+x.Draft
		if end == "" {
			end = x.Endpoint
		}
		if env == "" {
			env = x.Environment
		}
	}
	ref, err := w.FindDraft(name)
	if err != nil {
		return nil, nil, err
	}
	plan, err := w.Plan(ref, end, env)
	switch {
	case err != nil:
		return nil, nil, err
	case plan.NoEndpoint != nil:
		return nil, nil, plan.NoEndpoint
	case plan.EnvError != nil:
		return nil, nil, plan.EnvError
	}
	return &plan, sent, nil
}

func (t *commandLine) tellProgram(dir string, kept *code.Kept, missing []string) {
	made := kept.Program
	for _, name := range kept.Files {
		fmt.Fprintf(t.out, "%s/%s\n", safe.Line(dir), safe.Line(name))
	}
	for _, name := range kept.Removed {
		fmt.Fprintf(t.out, "removed: %s\n", safe.Line(name))
	}
	for _, name := range kept.Left {
		fmt.Fprintf(t.out, "not generated any more, and left, for it was edited: %s\n", safe.Line(name))
	}
	for _, name := range kept.Conflicts {
		fmt.Fprintf(t.out, "KEPT AS IT IS: %s; the new text is %s.new\n", safe.Line(name), safe.Line(name))
	}
	fmt.Fprintf(t.out, "\nin %s:\n", safe.Line(dir))
	for _, c := range append(made.Build, made.Run) {
		fmt.Fprintf(t.out, "  %s\n", strings.Join(c, " "))
	}
	fmt.Fprintf(t.out, "%s changes the address", made.Address)
	if made.Secret != "" {
		fmt.Fprintf(t.out, "; %s is the secret", made.Secret)
	}
	fmt.Fprintln(t.out)
	for _, m := range missing {
		fmt.Fprintf(t.out, "the program does not do what the call did: %s\n", safe.Line(m))
	}
}
