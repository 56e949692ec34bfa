package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orenda/internal/contract"
	"orenda/internal/data"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/safe"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// replyFlags say how a reply is printed.
type replyFlags struct {
	how    string   // fields, exact, raw, rows, json or none
	path   string   // of the rows
	table  string   // how rows are written to what is no terminal
	pick   []string // of JSON: the paths that are wanted
	schema *schema.Set
	decl   *schema.Element // of the reply, where it is known
}

func (f *replyFlags) add(fl *pflag.FlagSet, how string) {
	fl.StringVar(&f.how, "reply", how, "how to print the reply: fields, exact, rows, json or none")
	fl.StringVar(&f.path, "rows", "", "with --reply rows: which list, by its path (orenda reply tables lists them)")
	fl.StringVar(&f.table, "table", "csv", "with --reply rows, into a file or a pipe: csv, lines (JSON) or markdown")
	fl.StringSliceVar(&f.pick, "select", nil, "with --reply json: only these paths, such as a,b/c")
}

// settle checks how the reply is to be printed. Who names rows wants rows.
func (f *replyFlags) settle() error {
	switch {
	case f.how == "fields" && f.path != "":
		f.how = "rows"
	case f.how == "fields" && f.pick != nil:
		f.how = "json"
	}
	switch f.how {
	case "fields", "exact", "rows", "json", "none":
	default:
		return fmt.Errorf("--reply is fields, exact, rows, json or none, not %q", f.how)
	}
	switch f.table {
	case "csv", "lines", "markdown":
		return nil
	}
	return fmt.Errorf("--table is csv, lines or markdown, not %q", f.table)
}

// by has the reply laid out as an operation of a contract declares it.
func (f *replyFlags) by(c *contract.Contract, o *contract.Operation) {
	if c == nil {
		return
	}
	f.schema = c.Schemas
	if o != nil && o.Output != nil {
		f.decl = o.Output.Element
	}
}

// printReply prints the reply alone. Exact bytes go to a pipe or a file as they are;
// for a terminal they are made safe, unless how is "raw".
func (t *commandLine) printReply(x *exchange.Exchange, f *replyFlags) error {
	l := x.Leg()
	switch {
	case f.how == "none" || l == nil || l.ResponseBody.IsZero():
		return nil
	case f.how == "exact" || f.how == "raw":
		w := t.out
		if f.how == "exact" && isTerminal(w) { // a terminal obeys what a service writes
			w = &safe.Writer{To: w}
		}
		_, err := l.ResponseBody.WriteTo(w)
		return err
	}
	lines := bufio.NewWriterSize(t.out, 64<<10)
	if err := t.printValues(lines, x, l, f); err != nil {
		return err
	}
	return lines.Flush()
}

// largeReply is from how many bytes on memory is given back before a second tree is made.
const largeReply = 16 << 20

// payloadOf is the element that a reply is about; false where it is no XML.
func payloadOf(l *exchange.Leg) (n xmltree.Node, ok bool) {
	text := l.Readable()
	if len(text) > largeReply {
		runtime.GC() // the tree by which the call was judged is no longer needed
	}
	d, err := xmltree.Parse(text, xmltree.Limits{})
	if err != nil {
		return n, false
	}
	d, _ = data.Unfold(d)
	if e := soap.Read(d); e != nil && !e.Payload.IsZero() {
		return e.Payload, true
	}
	return d.Root(), true
}

// printValues prints what the reply says, where it could be read: the path has told
// why it is no answer otherwise.
func (t *commandLine) printValues(w io.Writer, x *exchange.Exchange, l *exchange.Leg, f *replyFlags) error {
	if st := x.Stage(exchange.Read).State; st != exchange.Passed && st != exchange.Warned {
		return nil
	}
	if l.Stored() {
		_, err := fmt.Fprintf(
			w,
			"%s\n(%d bytes, too many for fields; --reply exact writes them)\n",
			safe.Line(x.Result),
			int(l.ResponseBody.Len()),
		)
		return err
	}
	n, ok := payloadOf(l)
	if !ok {
		return nil
	}
	switch f.how {
	case "json":
		if isTerminal(t.out) {
			w = &safe.Writer{To: w}
		}
		_, err := w.Write(data.Slim(f.schema, f.decl, n, f.pick))
		return err
	case "rows":
		return t.printRows(w, data.Tables(f.schema, f.decl, n), f)
	}
	fmt.Fprintln(w, safe.Line(n.Name().Local))
	for f := range message.EachField(n) {
		line := strings.Repeat("  ", f.Depth+1) + f.Name
		for _, a := range f.Attrs {
			line += fmt.Sprintf(" @%s=%s", a.Name.Local, a.Value)
		}
		if f.Leaf {
			line += "  " + f.Value
		}
		if _, err := fmt.Fprintln(w, safe.Line(line)); err != nil {
			return err
		}
	}
	return nil
}

// printRows prints what repeats: aligned on a terminal, else as CSV.
func (t *commandLine) printRows(w io.Writer, all []*data.Table, f *replyFlags) error {
	one, err := data.Pick(all, f.path)
	if err != nil {
		return err
	}
	if one == nil {
		t.complain(errors.New("nothing in the reply repeats; --reply fields shows it"))
		return nil
	}
	if f.path == "" && len(all) > 1 {
		var others []string
		for _, o := range all[1:] {
			others = append(others, fmt.Sprintf("%s (%d)", o.Path, o.Rows))
		}
		fmt.Fprintf(
			t.err,
			"rows of %s; others with --rows: %s\n",
			safe.Line(one.Path),
			safe.Line(strings.Join(others, ", ")),
		)
	}
	switch {
	case f.table == "lines":
		return one.Lines(w)
	case f.table == "markdown":
		return one.Markdown(w)
	case !isTerminal(t.out):
		return one.CSV(w)
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	var names []string
	for _, c := range one.Columns {
		names = append(names, safe.Line(c))
	}
	fmt.Fprintln(tw, strings.Join(names, "\t"))
	one.Each(func(_ xmltree.Node, cells []data.Cell) bool {
		texts := make([]string, len(cells))
		for i, c := range cells {
			texts[i] = cutTo(safe.Line(c.Text), 60)
		}
		_, err = fmt.Fprintln(tw, strings.Join(texts, "\t"))
		return err == nil
	})
	return tw.Flush()
}

// replyCommand is about replies that were kept.
func (t *commandLine) replyCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "reply", Short: "Replies as data: what repeats in them"}
	tables := &cobra.Command{
		Use:     "tables EXCHANGE",
		Short:   "List what repeats in a kept reply, with how many rows and which columns",
		Args:    cobra.ExactArgs(1),
		Example: "  orenda reply tables last\n  orenda reply tables last --json",
	}
	t.jsonFlag(tables)
	tables.RunE = func(_ *cobra.Command, args []string) error {
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
		all := data.Tables(f.schema, f.decl, n)
		if t.asJSON {
			if all == nil {
				all = []*data.Table{}
			}
			return t.printJSON(all)
		}
		tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
		for _, one := range all {
			fmt.Fprintf(tw, "%s\t%d\t%s\n", safe.Line(one.Path), one.Rows, safe.Line(strings.Join(one.Columns, ", ")))
		}
		return tw.Flush()
	}
	show := &cobra.Command{
		Use:   "show EXCHANGE",
		Short: "Print a kept reply: as fields, rows, JSON, or its exact bytes",
		Args:  cobra.ExactArgs(1),
		Example: "  orenda reply show last --reply rows --rows year/week\n" +
			"  orenda reply show last --reply json --select berth/code",
	}
	var f replyFlags
	f.add(show.Flags(), "fields")
	show.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		if err := f.settle(); err != nil {
			return err
		}
		f.by(t.contractOf(x))
		return t.printReply(x, &f)
	}
	cmd.AddCommand(tables, show)
	return cmd
}

// contractOf is the contract of a kept exchange, as far as the workspace has it.
func (t *commandLine) contractOf(x *exchange.Exchange) (*contract.Contract, *contract.Operation) {
	w, err := t.workspace()
	if err != nil || x.Contract == "" {
		return nil, nil
	}
	c, err := w.Contract(x.Contract)
	if err != nil {
		return nil, nil
	}
	for _, p := range c.PortsWith(x.Operation) {
		return c, p.Operation(x.Operation)
	}
	return c, nil
}
