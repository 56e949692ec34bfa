package handover

import (
	"fmt"
	"strings"

	"orenda/internal/compare"
	"orenda/internal/draw"
	"orenda/internal/exchange"
)

// Chosen is an exchange of a report, with what was noted on it.
type Chosen struct {
	*exchange.Exchange
	Note string // the person's; "" none
}

// Report is chosen exchanges for the service's people: each with its path, its cause and the
// evidence, and where there are several, in what each differs from the first. Nothing in it is
// a secret.
type Report struct {
	Markdown string                   // the page
	Drawings map[string]*draw.Drawing // by the name that the page links
	Order    []string                 // their names, in order
}

// NewReport makes a report. base is the beginning of the names of its drawings.
func NewReport(list []Chosen, base string) *Report {
	r := &Report{Drawings: map[string]*draw.Drawing{}}
	var b strings.Builder
	b.WriteString("# Calls, and why they failed\n")
	add := func(what string, d *draw.Drawing) {
		name := fmt.Sprintf("%s-%d.svg", base, len(r.Order)+1)
		r.Drawings[name] = d
		r.Order = append(r.Order, name)
		fmt.Fprintf(&b, "\n![%s](%s)\n", what, name)
	}
	masked := make([]*exchange.Exchange, len(list))
	for i, c := range list {
		x := c.Redact(nil)
		masked[i] = x
		fmt.Fprintf(&b, "\n## %d. %s\n\n%s, exchange `%s`\n", i+1, text(x.Operation+" → "+x.Endpoint), x.Ending(), x.ID)
		if c.Note != "" {
			fmt.Fprintf(&b, "\n> %s\n", text(c.Note))
		}
		add("the path of the call", draw.Path(x))
		if i > 0 {
			d := compare.Sides(compare.Exchange(masked[0]), compare.Exchange(x), true)
			fmt.Fprintf(&b, "\nIn what it differs from the first: %d differences, %d set aside.\n",
				len(d.Differences)-d.SetAside, d.SetAside)
			add("in what it differs from the first", draw.Compare(masked[0], x, d))
		}
		Ticket(x).sections(&b, "###")
	}
	r.Markdown = b.String()
	return r
}

// PDF is the drawings of the report, each a page.
func (r *Report) PDF() ([]byte, error) {
	var pages []*draw.Drawing
	for _, name := range r.Order {
		pages = append(pages, r.Drawings[name])
	}
	return draw.Pages(pages)
}
