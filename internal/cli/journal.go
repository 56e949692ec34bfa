package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/journal"
	"orenda/internal/safe"
)

//revive:disable-next-line:function-length a command: its flags, and what it does with them
func (t *commandLine) journalCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "journal", Short: "Exchanges that were kept"}
	var q journal.Query
	list := &cobra.Command{Use: "list",
		Example: "  orenda journal list", Short: "Kept exchanges, newest first", Args: cobra.NoArgs}
	t.jsonFlag(list)
	list.Flags().IntVar(&q.Max, "most", 50, "how many at most")
	list.Flags().StringVar(&q.Operation, "operation", "", "of this operation only")
	list.Flags().StringVar(&q.Endpoint, "endpoint", "", "over this endpoint only")
	list.RunE = func(*cobra.Command, []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		if t.dir != "" {
			w, err := t.workspace()
			if err != nil {
				return err
			}
			q.Workspace = w.ID()
		}
		all, err := j.List(q)
		if err != nil {
			return unread{err}
		}
		return t.printKept(j, all)
	}
	show := &cobra.Command{
		Use:     "show EXCHANGE",
		Example: "  orenda journal show last",
		Short:   "One kept exchange: its path, or with --json all of it",
		Args:    cobra.ExactArgs(1),
	}
	t.jsonFlag(show)
	bytesToo := show.Flags().Bool("bytes", false, "the bytes that left and came, as they crossed")
	show.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		if t.asJSON {
			return t.printJSON(x.Report(true))
		}
		t.printPath(x)
		if *bytesToo {
			for _, l := range x.Legs {
				fmt.Fprintf(
					t.out,
					"%s\n\n%s\n",
					safe.Block(strings.ReplaceAll(string(l.Out), "\r\n", "\n")),
					safe.Block(strings.ReplaceAll(string(l.In.Bytes()), "\r\n", "\n")),
				)
			}
		}
		return nil
	}
	export := t.exportCommand()
	cmd.AddCommand(list, show, export, t.partsCommand())
	cmd.AddCommand(t.initCommand(), t.copyCommand())
	cmd.AddCommand(t.keepingCommands()...)
	return cmd
}

// printKept lists exchanges, or prints them as JSON. Of each id the part stands out, on a terminal, that is
// enough to name it.
func (t *commandLine) printKept(j journal.Journal, all []*exchange.Exchange) error {
	if t.asJSON {
		out := []exchange.Report{}
		for _, x := range all {
			out = append(out, x.Report(false))
		}
		return t.printJSON(out)
	}
	var table strings.Builder
	tw := tabwriter.NewWriter(&table, 0, 0, 2, ' ', 0)
	for _, x := range all {
		where := ""
		if x.Outcome == exchange.OutcomeStopped {
			where = x.StoppedAt.String()
		}
		fmt.Fprintf(tw, "%s\t%s\t%s\t%s\t%s\n", exchange.Age(x.Started, time.Now()), t.letters(x.Ticks()), where,
			safe.Line(cutTo(heading(x), 50)), safe.Line(cutTo(x.Result, 60)))
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	i := 0
	for line := range strings.Lines(table.String()) {
		if _, err := fmt.Fprintf(t.out, "%s  %s", t.markedID(all[i].ID, j.Tail(all[i].ID)), line); err != nil {
			return err
		}
		i++
	}
	return nil
}

// isTerminal tells whether what is written is shown to a person.
func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// markedID is an id whose end, of n characters, stands out on a terminal.
func (t *commandLine) markedID(id string, n int) string {
	if !isTerminal(t.out) || os.Getenv("NO_COLOR") != "" {
		return id
	}
	return id[:len(id)-n] + "\x1b[1m" + id[len(id)-n:] + "\x1b[0m"
}

func (t *commandLine) partsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "parts EXCHANGE",
		Example: "  orenda journal parts last",
		Short:   "The parts of a reply beside its envelope; with --out they are saved",
		Args:    cobra.ExactArgs(1),
	}
	dir := cmd.Flags().String("out", "", "folder to save them in, under safe names; nothing is overwritten")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		l := x.Leg()
		if l == nil || len(l.Parts) == 0 {
			fmt.Fprintln(t.err, "orenda: the reply has no parts")
			return status(exitNo)
		}
		if t.asJSON {
			if err := t.printJSON(l.Parts); err != nil {
				return err
			}
		}
		if *dir != "" {
			saved, err := handover.SaveParts(l, *dir)
			for _, name := range saved {
				fmt.Fprintln(t.aside(), safe.Line(filepath.Join(*dir, name)))
			}
			if err != nil {
				return unread{err}
			}
			return nil
		}
		if t.asJSON {
			return nil
		}
		tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
		for i, p := range l.Parts {
			what := handover.PartName(&p, i)
			if p.Root {
				what = "the envelope"
			}
			fmt.Fprintf(
				tw,
				"%d\t%s\t%s\t%d bytes\t%s\n",
				i+1,
				safe.Line(what),
				safe.Line(p.Type),
				p.End-p.Start,
				safe.Line(p.ID),
			)
		}
		return tw.Flush()
	}
	return cmd
}

func (t *commandLine) keptExchange(id string) (*exchange.Exchange, error) {
	j, err := t.journal()
	if err != nil {
		return nil, err
	}
	x, err := j.Get(id)
	if err != nil {
		return nil, unread{fmt.Errorf("%s: %w", id, err)}
	}
	return x, nil
}
