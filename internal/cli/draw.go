package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/compare"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/filter"
	"orenda/internal/journal"
	"orenda/internal/muster"
	"orenda/internal/sounding"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// keepDrawing writes a drawing into a file, .svg or .pdf.
func keepDrawing(d interface {
	Write(name string) ([]byte, error)
}, path string) error {
	b, err := d.Write(path)
	if err != nil {
		return err
	}
	if err := user.WriteFile(path, b); err != nil {
		return unread{err}
	}
	return nil
}

func (t *commandLine) drawCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "draw", Short: "Drawings of exchanges, as SVG or PDF"}
	path := &cobra.Command{
		Use:     "path EXCHANGE",
		Short:   "The path of an exchange: stages, times, where it stopped and why",
		Args:    cobra.ExactArgs(1),
		Example: "  orenda draw path last --out stopped.svg",
	}
	out := path.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = path.MarkFlagRequired("out")
	path.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		return keepDrawing(draw.Path(x), *out)
	}
	cmd.AddCommand(path, t.drawLimitsCommand(), t.drawChainCommand(), t.drawColumnCommand(), t.drawLatencyCommand(),
		t.drawOverheadCommand(), t.drawCompareCommand(), t.drawTrafficCommand(), t.drawMusterCommand(),
		t.drawSoundingCommand())
	return cmd
}

func (t *commandLine) drawCompareCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "compare A B",
		Short:   "The paths of two exchanges above each other, and in what they differ",
		Args:    cobra.ExactArgs(2),
		Example: "  orenda draw compare 7k2m last --out differs.svg",
	}
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		var both [2]*exchange.Exchange
		for i, a := range args {
			x, err := t.keptExchange(a)
			if err != nil {
				return err
			}
			both[i] = x
		}
		r := compare.Sides(compare.Exchange(both[0]), compare.Exchange(both[1]), true)
		return keepDrawing(draw.Compare(both[0], both[1], r), *out)
	}
	return cmd
}

// maxDrawnTraffic is how many exchanges a drawing of traffic looks at.
const maxDrawnTraffic = 100000

func (t *commandLine) drawTrafficCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "traffic [FILTER…]", Short: "What is kept, by cause and in time",
		Long: "Draws the exchanges of this workspace, those alone that fit a filter as of watch.",
		Example: "  orenda draw traffic --out traffic.svg\n" +
			"  orenda draw traffic fault in berths since 14:00 --out faults.pdf",
	}
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		q := journal.Query{Max: maxDrawnTraffic}
		title := "traffic"
		if w, err := t.workspace(); err == nil {
			q.Workspace, title = w.ID(), "traffic of "+w.Config().Name
		}
		fits, err := filter.Parse(strings.Join(args, " "), time.Now())
		if err != nil {
			return err
		}
		all, err := j.List(q)
		if err != nil {
			return unread{err}
		}
		if all, err = fits.Pick(cmd.Context(), j, all); err != nil {
			return unread{err}
		}
		if len(args) > 0 {
			title += ": " + strings.Join(args, " ")
		}
		return keepDrawing(draw.Traffic(title, all), *out)
	}
	return cmd
}

func (t *commandLine) drawMusterCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "muster NAME", Short: "The last run of a muster: outcomes, and what each case took",
		Args: cobra.ExactArgs(1), Example: "  orenda draw muster nightly --out nightly.svg",
	}
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		m, err := w.Muster(args[0])
		if err != nil {
			return unread{err}
		}
		h, err := t.home()
		if err != nil {
			return err
		}
		run := &muster.Run{Muster: m.Name}
		last := workspace.LastRun(w.RunFile(h, m.Name))
		for _, c := range m.Cases.All() {
			if r, ok := last.Get(c.Name); ok {
				run.Cases.Add(r)
			}
		}
		if run.Cases.Len() == 0 {
			return unread{fmt.Errorf("%s was not run yet", m.Name)}
		}
		run.Sum()
		return keepDrawing(run.Drawing(), *out)
	}
	return cmd
}

func (t *commandLine) drawSoundingCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "sounding FILE", Short: "A sounding, as orenda sound --json printed it; - reads standard input",
		Args:    cobra.ExactArgs(1),
		Example: "  orenda sound LookUp/one sign --json > sign.json\n  orenda draw sounding sign.json --out sign.svg",
	}
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) (err error) {
		var b []byte
		if args[0] == "-" {
			b, err = io.ReadAll(io.LimitReader(os.Stdin, maxText))
		} else {
			b, err = os.ReadFile(args[0])
		}
		if err != nil {
			return unread{err}
		}
		var r sounding.Result
		if err := json.Unmarshal(b, &r); err != nil || r.By == "" {
			return unread{errors.Join(fmt.Errorf("%s holds no sounding", args[0]), err)}
		}
		return keepDrawing(r.Drawing("sounding"), *out)
	}
	return cmd
}
