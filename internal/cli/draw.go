package cli

import (
	"github.com/spf13/cobra"

	"orenda/internal/compare"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/user"
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
		t.drawOverheadCommand(), t.drawCompareCommand())
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
