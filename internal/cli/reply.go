package cli

import (
	"bufio"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/safe"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// printReply prints the reply alone. Exact bytes go to a pipe or a file as they are;
// for a terminal they are made safe, unless how is "raw".
func printReply(w io.Writer, x *exchange.Exchange, how string) error {
	l := x.Leg()
	switch {
	case how == "none" || l == nil || l.ResponseBody.IsZero():
		return nil
	case how == "exact" || how == "raw":
		if how == "exact" && isTerminal(w) { // a terminal obeys what a service writes
			w = &safe.Writer{To: w}
		}
		_, err := l.ResponseBody.WriteTo(w)
		return err
	}
	lines := bufio.NewWriterSize(w, 64<<10)
	if err := printValues(lines, x, l, how); err != nil {
		return err
	}
	return lines.Flush()
}

// largeReply is from how many bytes on memory is given back before a second tree is made.
const largeReply = 16 << 20

// printValues prints what the reply says, where it could be read: the path has told
// why it is no answer otherwise.
func printValues(w io.Writer, x *exchange.Exchange, l *exchange.Leg, how string) error {
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
	text := l.Readable()
	if len(text) > largeReply {
		runtime.GC() // the tree by which the call was judged is no longer needed
	}
	d, err := xmltree.Parse(text, xmltree.Limits{})
	if err != nil {
		return nil
	}
	n := d.Root()
	if e := soap.Read(d); e != nil && !e.Payload.IsZero() {
		n = e.Payload
	}
	switch how {
	case "json":
		b, err := safe.JSON(slim(n))
		if err != nil {
			return err
		}
		_, err = w.Write(b)
		return err
	case "rows":
		return printRows(w, n)
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

// slim is an element as plain JSON values: repeats become lists.
func slim(n xmltree.Node) any {
	out := map[string]any{}
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace {
			out["@"+a.Name.Local] = a.Value
		}
	}
	kids := 0
	for c := range n.Children() {
		kids++
		name := c.Name().Local
		switch old := out[name].(type) {
		case nil:
			out[name] = slim(c)
		case []any:
			out[name] = append(old, slim(c))
		default:
			out[name] = []any{old, slim(c)}
		}
	}
	if kids == 0 {
		if len(out) == 0 {
			return n.Text()
		}
		out["value"] = n.Text()
	}
	return out
}

// printRows prints what repeats as tab-separated rows.
//
//revive:disable-next-line:cyclomatic a command: its flags, and what it does with them
func printRows(w io.Writer, n xmltree.Node) error {
	counts := map[string]int{}
	for c := range n.Children() {
		counts[c.Name().Local]++
	}
	most := ""
	for name, k := range counts {
		if k > counts[most] || k == counts[most] && name < most {
			most = name
		}
	}
	var columns []string
	for pass := range 2 {
		if pass == 1 {
			for i, col := range columns {
				if i > 0 {
					fmt.Fprint(w, "\t")
				}
				fmt.Fprint(w, safe.Line(col))
			}
			fmt.Fprintln(w)
		}
		for c := range n.Children() {
			if c.Name().Local != most {
				continue
			}
			cells := map[string]string{}
			for a := range c.Attrs() {
				cells["@"+a.Name.Local] = a.Value
			}
			fields, _ := message.Fields(c, 1000)
			for _, f := range fields {
				if f.Leaf {
					cells[f.Name] = f.Value
				}
				if f.Leaf && pass == 0 && !slices.Contains(columns, f.Name) {
					columns = append(columns, f.Name)
				}
			}
			if pass == 1 {
				row := make([]string, len(columns))
				for i, col := range columns {
					row[i] = safe.Line(cells[col])
				}
				if _, err := fmt.Fprintln(w, strings.Join(row, "\t")); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
