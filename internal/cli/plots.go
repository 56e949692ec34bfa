package cli

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/data"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/xmltree"
)

// drawColumnCommand draws a column of what repeats in a reply.
func (t *commandLine) drawColumnCommand() *cobra.Command {
	var path string
	cmd := &cobra.Command{
		Use: "column EXCHANGE COLUMN", Short: "A column of what repeats in a kept reply, as a line",
		Args: cobra.ExactArgs(2), Example: "  orenda draw column last height --rows tide --out heights.svg",
	}
	cmd.Flags().StringVar(&path, "rows", "", "which table, by its path; else the one with most rows")
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		table, err := t.tableOf(x, path)
		if err != nil {
			return err
		}
		i := slices.Index(table.Columns, args[1])
		if i < 0 {
			return fmt.Errorf("%s has no column %s; it has %s", table.Path, args[1], strings.Join(table.Columns, ", "))
		}
		var values []float64
		var known []bool
		numbers := false
		table.Each(func(_ xmltree.Node, cells []data.Cell) bool {
			v, err := strconv.ParseFloat(strings.TrimSpace(cells[i].Text), 64)
			values, known = append(values, v), append(known, err == nil)
			numbers = numbers || err == nil
			return true
		})
		if !numbers {
			return fmt.Errorf("%s holds no numbers", args[1])
		}
		return keepDrawing(draw.Column(x.Operation+", "+table.Path, args[1], values, known), *out)
	}
	return cmd
}

// tableOf is a table of a kept reply, by its path.
func (t *commandLine) tableOf(x *exchange.Exchange, path string) (*data.Table, error) {
	l := x.Leg()
	if l == nil || l.ResponseBody.IsZero() {
		return nil, unread{errors.New("no reply came")}
	}
	n, ok := payloadOf(l)
	if !ok {
		return nil, unread{errors.New("the reply is no XML")}
	}
	var f replyFlags
	f.by(t.contractOf(x))
	return data.Pick(data.Tables(f.schema, f.decl, n), path)
}

// drawLatencyCommand draws what each stage took over the kept calls of an operation.
func (t *commandLine) drawLatencyCommand() *cobra.Command {
	var endpoint string
	cmd := &cobra.Command{
		Use:   "latency OPERATION",
		Short: "What each stage took over the kept calls of an operation: median, 95 of 100, worst",
		Args:  cobra.ExactArgs(1), Example: "  orenda draw latency YearTable --out latency.pdf",
	}
	cmd.Flags().StringVar(&endpoint, "endpoint", "", "over this endpoint alone")
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		const most = 10000
		all, err := j.List(journal.Query{Operation: args[0], Endpoint: endpoint, Kind: "call", Max: most})
		if err != nil {
			return unread{err}
		}
		times := stageTimes(all)
		if len(times) == 0 {
			return unread{fmt.Errorf("no call of %s is kept", args[0])}
		}
		return keepDrawing(draw.Latency(fmt.Sprintf("%s, %d kept calls", args[0], len(all)), times), *out)
	}
	return cmd
}

// stageTimes are what the stages that took time took.
func stageTimes(all []*exchange.Exchange) (out []draw.StageTimes) {
	for _, s := range exchange.Stages {
		var took []time.Duration
		for _, x := range all {
			if st := x.Stage(s); st != nil && st.DurationNs > 0 && st.State != exchange.Skipped {
				took = append(took, time.Duration(st.DurationNs))
			}
		}
		if len(took) == 0 {
			continue
		}
		slices.Sort(took)
		at := func(share int) time.Duration { return took[(len(took)-1)*share/100] }
		out = append(out, draw.StageTimes{Stage: s.String(), Median: at(50), Most: at(95), Worst: took[len(took)-1]})
	}
	return out
}

// drawOverheadCommand draws what the forms of a reply take.
func (t *commandLine) drawOverheadCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "overhead EXCHANGE",
		Short: "What a kept reply takes as XML and as JSON, plain and compressed, and how much of it is values",
		Args:  cobra.ExactArgs(1), Example: "  orenda draw overhead last --out overhead.svg",
	}
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		l := x.Leg()
		if l == nil || l.ResponseBody.IsZero() {
			return unread{errors.New("no reply came")}
		}
		n, ok := payloadOf(l)
		if !ok {
			return unread{errors.New("the reply is no XML")}
		}
		var f replyFlags
		f.by(t.contractOf(x))
		var slim bytes.Buffer
		for line := range bytes.Lines(data.JSON(f.schema, f.decl, n)) {
			slim.Write(bytes.TrimSpace(line))
		}
		body := l.Readable()
		return keepDrawing(draw.Overhead("The reply to "+x.Operation+": its forms", []draw.Weight{
			{Label: "XML", Bytes: int64(len(body))},
			{Label: "XML, gzip", Bytes: zipped(body)},
			{Label: "JSON", Bytes: int64(slim.Len())},
			{Label: "JSON, gzip", Bytes: zipped(slim.Bytes())},
			{Label: "values alone", Bytes: valuesIn(n)},
		}), *out)
	}
	return cmd
}

func zipped(b []byte) int64 {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, _ = z.Write(b)
	_ = z.Close()
	return int64(out.Len())
}

// valuesIn is how many bytes the values below an element take.
func valuesIn(n xmltree.Node) (sum int64) {
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace {
			sum += int64(len(a.Value))
		}
	}
	if n.FirstChild().IsZero() {
		return sum + int64(len(strings.TrimSpace(n.Text())))
	}
	for c := range n.Children() {
		sum += valuesIn(c)
	}
	return sum
}
