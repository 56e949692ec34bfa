package handover

import (
	"fmt"
	"strings"

	"orenda/internal/compare"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/safe"
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
		fmt.Fprintf(&b, "\n## %d. %s\n\n%s, %s, exchange `%s`\n", i+1, line(x.Operation+" → "+x.Endpoint),
			x.Started.UTC().Format("2006-01-02 15:04:05 UTC"), x.Ending(), x.ID)
		if c.Note != "" {
			fmt.Fprintf(&b, "\n> %s\n", line(c.Note))
		}
		add("the path of the call", draw.Path(x))
		for _, f := range x.Findings {
			if f.Severity == exchange.Note {
				continue
			}
			fmt.Fprintf(&b, "\n**%s** (`%s`, %s)\n\n%s\n", line(f.Title), f.ID, whose(f.Side), line(f.Why))
			for _, e := range f.Evidence {
				fmt.Fprintf(&b, "\n- %s, line %d: `%s`", e.In, e.Line, strings.ReplaceAll(line(e.Excerpt), "`", "'"))
			}
			b.WriteString("\n")
			break // what follows from the cause does not help
		}
		if i > 0 {
			d := compare.Sides(compare.Exchange(masked[0]), compare.Exchange(x), true)
			fmt.Fprintf(&b, "\nIn what it differs from the first: %d differences, %d set aside.\n",
				len(d.Differences)-d.SetAside, d.SetAside)
			add("in what it differs from the first", draw.Compare(masked[0], x, d))
		}
		if l := x.Leg(); l != nil {
			message(&b, "What was sent", l.Request.Line, l.RequestBody)
			message(&b, "What came", l.Response.Line, l.Readable())
		}
	}
	r.Markdown = b.String()
	return r
}

func whose(s exchange.Side) string {
	if s == exchange.Yours {
		return "the client's to mend"
	}
	return "the service's to mend"
}

// longMessage is how much of a message stands in a report, in bytes.
const longMessage = 8 << 10

func message(b *strings.Builder, what, head string, body []byte) {
	if head == "" && len(body) == 0 {
		return
	}
	cut := ""
	if len(body) > longMessage {
		cut = fmt.Sprintf("\n… %d bytes more", len(body)-longMessage)
		body = body[:longMessage]
	}
	text := safe.Block(strings.ReplaceAll(string(body), "\r\n", "\n"))
	text = strings.ReplaceAll(strings.TrimRight(text, "\n"), "```", "'''")
	fmt.Fprintf(b, "\n%s: `%s`\n\n```xml\n%s%s\n```\n", what, line(head), text, cut)
}

// PDF is the drawings of the report, each a page.
func (r *Report) PDF() ([]byte, error) {
	var pages []*draw.Drawing
	for _, name := range r.Order {
		pages = append(pages, r.Drawings[name])
	}
	return draw.Pages(pages)
}
