package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/journal"
	"orenda/internal/journal/disk"
	"orenda/internal/journal/postgres"
	"orenda/internal/safe"
	"orenda/internal/spans"
	"orenda/internal/user"
)

// journalPlace is where exchanges are kept: as the flag says, else the environment, else the
// person's settings, else in the person's folder; with where its password is.
func (t *commandLine) journalPlace(h *user.Home) (place, passwordFrom string, err error) {
	set, err := h.Settings()
	if t.passwordFrom != "" {
		set.PasswordFrom = t.passwordFrom
	}
	for _, place := range []string{t.journalAt, os.Getenv("ORENDA_JOURNAL"), set.Journal} {
		if place != "" {
			return place, set.PasswordFrom, err
		}
	}
	return h.State, "", err
}

// openJournal opens the journal at a place: a folder, or postgres://….
func (t *commandLine) openJournal(h *user.Home, place, passwordFrom string) (journal.Keeper, error) {
	if !postgres.Is(place) {
		if strings.Contains(place, "://") {
			return nil, errors.New("a journal is a folder, or postgres://USER@HOST:PORT/DATABASE?space=NAME")
		}
		return disk.Open(place)
	}
	a, err := journalAddress(place, passwordFrom)
	if err != nil {
		return nil, err
	}
	return postgres.Open(a, h.State)
}

// traced is the journal with spans sent of what is kept, where the person's settings say where.
func (t *commandLine) traced(h *user.Home, j journal.Keeper) (journal.Journal, error) {
	set, err := h.Settings()
	if err != nil || set.OTLP == "" || t.noSpans {
		return j, err
	}
	s, err := spans.New(set.OTLP, Version)
	if err != nil {
		return j, err
	}
	return &journal.Telling{Keeper: j, Tell: s.Send, End: s.Close}, nil
}

func journalAddress(place, passwordFrom string) (*postgres.Address, error) {
	password := ""
	if passwordFrom != "" {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		var err error
		password, err = (&identity.Identity{Name: "the journal", Secret: passwordFrom}).Reveal(ctx)
		if err != nil {
			return nil, err
		}
	}
	return postgres.ParseAddress(place, password)
}

func (t *commandLine) initCommand() *cobra.Command {
	return &cobra.Command{
		Use: "init", Short: "Make a space in a journal in PostgreSQL, with a role that reads and one that writes",
		Long: "Makes the tables where they are not there, the space that the address names, and two roles,\n" +
			"orenda_SPACE_read and orenda_SPACE_write. It prints the statements; whoever is to be let in is\n" +
			"granted one of the roles. Where one could not be carried out, it is for who may.",
		Example: "  orenda journal init --journal 'postgres://keeper@db.skerry.test/orenda?space=quay'",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			h, err := t.home()
			if err != nil {
				return err
			}
			place, from, err := t.journalPlace(h)
			if err != nil {
				return unread{err}
			}
			if !postgres.Is(place) {
				return errors.New("--journal names no journal in PostgreSQL; one on disk needs no init")
			}
			a, err := journalAddress(place, from)
			if err != nil {
				return err
			}
			said, err := postgres.Init(cmd.Context(), a)
			for _, s := range said {
				fmt.Fprintf(t.out, "%s;\n", safe.Line(s))
			}
			if err != nil {
				return unread{err}
			}
			reads, writes := a.LetIn()
			fmt.Fprintf(t.aside(), "let people in with\n  %s;   or   %s;\n", reads, writes)
			return nil
		},
	}
}

// copyAtOnce is how many exchanges are copied at once.
const copyAtOnce = 50

func (t *commandLine) copyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "copy FROM TO", Short: "Copy all that is kept from one journal to another",
		Long: "A journal is a folder, or postgres://USER@HOST:PORT/DATABASE?space=NAME; “mine” is the one that is\n" +
			"used here. What is there already stays, so a copy that was stopped goes on when it is made again.",
		Example: "  orenda journal copy mine 'postgres://ines@db.skerry.test/orenda?space=quay'",
		Args:    cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := t.home()
			if err != nil {
				return err
			}
			mine, from, err := t.journalPlace(h)
			if err != nil {
				return unread{err}
			}
			var both [2]journal.Keeper
			for i, place := range args {
				if place == "mine" {
					place = mine
				}
				if i == 0 && !postgres.Is(place) {
					if _, err := os.Stat(place); err != nil {
						return unread{err}
					}
				}
				if both[i], err = t.openJournal(h, place, from); err != nil {
					return unread{err}
				}
				defer both[i].Close()
			}
			n, taken, err := copyAll(cmd.Context(), both[0], both[1])
			if taken > 0 {
				t.complain(fmt.Errorf("%d have an id there that another exchange has; those stay", taken))
			}
			if err != nil {
				return unread{err}
			}
			fmt.Fprintf(t.aside(), "%d exchanges are in both\n", n)
			return nil
		},
	}
}

// copyAll copies what is kept, in its order, with what was marked.
func copyAll(ctx context.Context, from, to journal.Keeper) (n, taken int, err error) {
	adder := journal.Adding(to)
	for place := int64(0); ; {
		some, last, err := from.After(place)
		if err != nil {
			return n, taken, err
		}
		for len(some) > 0 {
			now := some[:min(len(some), copyAtOnce)]
			some = some[len(now):]
			whole := make([]*exchange.Exchange, 0, len(now))
			for _, x := range now {
				full, err := from.Get(x.ID)
				if err != nil {
					return n, taken, err
				}
				whole = append(whole, full)
			}
			for _, err := range adder.AddAll(whole) {
				switch {
				case errors.Is(err, journal.ErrTaken):
					taken++
				case err != nil:
					return n, taken, err
				default:
					n++
				}
			}
			if ctx.Err() != nil {
				return n, taken, ctx.Err()
			}
		}
		if last == place {
			break
		}
		place = last
	}
	marks, err := from.Marks()
	for id, m := range marks {
		err = errors.Join(err, to.Mark(id, m))
	}
	return n, taken, err
}
