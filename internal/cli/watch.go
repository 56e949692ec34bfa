package cli

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/exchange"
	"orenda/internal/filter"
	"orenda/internal/safe"
)

// watchEach is how often the journal is looked at for what came.
const watchEach = 100 * time.Millisecond

func (t *commandLine) watchCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "watch [FILTER]",
		Short: "Print exchanges as they are kept, from now on",
		Long: `Prints each exchange that any Orenda of this person keeps, as it is kept, until
interrupted. A filter is said in words, all of which must fit: an operation, an endpoint
or a finding; passed or stopped; fault; in berths; at tls; since 14:00; over 1 s; over
64 KiB; from relay. Any other word is looked for in what is
shown, then at the beginning of words in heads and bodies (the first 64 KiB of each).`,
		Example: "  orenda watch\n  orenda watch fault in berths over 1 s --bytes\n  orenda watch from relay --json",
	}
	bytesToo := cmd.Flags().Bool("bytes", false, "the bytes that left and came, too")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		f, err := filter.Parse(strings.Join(args, " "), time.Now())
		if err != nil {
			return err
		}
		j, err := t.journal()
		if err != nil {
			return err
		}
		place, err := j.Last()
		if err != nil {
			return unread{err}
		}
		t.lingers.Add(1)
		tick := time.NewTicker(watchEach)
		defer tick.Stop()
		for {
			all, last, err := j.After(place)
			if err != nil {
				return unread{err}
			}
			place = last
			fit, err := f.Pick(cmd.Context(), j, all)
			if err != nil {
				return unread{err}
			}
			for _, x := range fit {
				if *bytesToo {
					if w, err := j.Get(x.ID); err == nil {
						x = w
					}
				}
				if err := t.tellWatched(x, *bytesToo); err != nil {
					return nil // nobody reads it any more
				}
			}
			if len(all) > 0 {
				continue
			}
			select {
			case <-cmd.Context().Done():
				return nil
			case <-tick.C:
			}
		}
	}
	return cmd
}

func (t *commandLine) tellWatched(x *exchange.Exchange, bytesToo bool) error {
	if t.asJSON {
		b, err := json.Marshal(x.Report(bytesToo))
		if err == nil {
			_, err = fmt.Fprintf(t.out, "%s\n", b)
		}
		return err
	}
	kind := x.Kind
	if kind == "" {
		kind = "call"
	}
	if _, err := fmt.Fprintf(t.out, "%s  %-6s ", x.Started.Local().Format("15:04:05.000"), kind); err != nil {
		return err
	}
	t.tellRelayed(x)
	if bytesToo {
		for _, l := range x.Legs {
			fmt.Fprintf(t.out, "%s\n%s\n\n", safe.Block(strings.ReplaceAll(string(l.Out), "\r\n", "\n")),
				safe.Block(strings.ReplaceAll(string(l.In.Bytes()), "\r\n", "\n")))
		}
	}
	return nil
}
