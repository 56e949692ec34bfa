package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/journal"
	"orenda/internal/user"
)

func (t *commandLine) handoverCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "handover", Short: "Write down what a program needs to do what worked here"}
	cmd.AddCommand(t.handoverSettingsCommand(), t.handoverTicketCommand(), t.handoverReportCommand(),
		t.handoverCodeCommand(), t.handoverBatchCommand())
	return cmd
}

func (t *commandLine) handoverSettingsCommand() *cobra.Command {
	var out, end string
	cmd := &cobra.Command{
		Use:   "settings EXCHANGE|DRAFT",
		Short: "The sheet of everything that a working call needs, without any secret",
		Args:  cobra.ExactArgs(1),
		Long: "EXCHANGE is the id of a kept exchange, its beginning, or last; DRAFT a draft of the\nworkspace, " +
			"whose newest kept call that passed is taken. The sheet is Markdown.",
		Example: "  orenda handover settings YearTable --endpoint tides-tls --out sheet.md",
	}
	cmd.Flags().StringVar(&out, "out", "", "file to write; standard output otherwise")
	cmd.Flags().StringVar(&end, "endpoint", "", "with DRAFT: over this endpoint")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.workingCall(args[0], end)
		if err != nil {
			return err
		}
		j, err := t.journal()
		if err != nil {
			return err
		}
		sheet := handover.Settings(x, nil, j.ReplySizes(x.Operation, x))
		if w, err := t.workspace(); err == nil {
			if c, err := w.Contract(x.Contract); err == nil {
				sheet = handover.Settings(x, c, j.ReplySizes(x.Operation, x))
			}
		}
		return t.writeSheet(sheet, out)
	}
	return cmd
}

func (t *commandLine) handoverTicketCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:     "ticket EXCHANGE",
		Example: "  orenda handover ticket last --out ticket.md",
		Short:   "What the service's people need to look into a failed call, without any secret",
		Args:    cobra.ExactArgs(1),
		Long: "When it was and from where, what left and what came, why it failed and what\nchecks said. EXCHANGE " +
			"is the id of a kept exchange, its beginning, or last.",
	}
	cmd.Flags().StringVar(&out, "out", "", "file to write; standard output otherwise")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		return t.writeSheet(handover.Ticket(x), out)
	}
	return cmd
}

// writeSheet writes a sheet into a file, or prints it.
func (t *commandLine) writeSheet(sheet *handover.Sheet, out string) error {
	switch {
	case t.asJSON:
		return t.printJSON(sheet)
	case out == "":
		fmt.Fprint(t.out, sheet.Markdown())
		return nil
	}
	if err := user.WriteFile(out, []byte(sheet.Markdown())); err != nil {
		return unread{err}
	}
	return nil
}

// workingCall is the kept exchange of that id, or the newest call of a draft that
// passed.
func (t *commandLine) workingCall(name, end string) (*exchange.Exchange, error) {
	if x, err := t.keptExchange(name); err == nil && end == "" {
		return x, nil
	}
	w, err := t.workspace()
	if err != nil {
		return nil, fmt.Errorf("%s is no kept exchange, and %w", name, err)
	}
	ref, err := w.FindDraft(name)
	if err != nil {
		return nil, err
	}
	j, err := t.journal()
	if err != nil {
		return nil, err
	}
	all, err := j.List(journal.Query{Workspace: w.ID(), Operation: ref.Operation, Endpoint: end, Kind: "call"})
	if err != nil {
		return nil, unread{err}
	}
	for _, x := range all {
		if x.Outcome == exchange.OutcomePassed && x.Draft == ref.Name {
			return j.Get(x.ID)
		}
	}
	return nil, unread{errors.New("no kept call of " + ref.String() + " passed; send it first")}
}
