package muster

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"fmt"
	"html"
	"io"
	"iter"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/safe"
)

// Report writes a run in the way that a file's ending says: .xml for JUnit, .json, .md or
// .html.
func (r *Run) Report(file string) (func(w io.Writer) error, error) {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".xml":
		return r.junit, nil
	case ".json":
		return r.WriteJSON, nil
	case ".md":
		return r.markdown, nil
	case ".html":
		return r.html, nil
	}
	return nil, fmt.Errorf("%s: a report ends with .xml, .json, .md or .html", file)
}

// WriteJSON writes the run case by case: a long one is never held as a whole besides.
func (r *Run) WriteJSON(w io.Writer) error {
	head := *r
	head.Cases = Results{}
	b, err := safe.JSON(&head)
	if err != nil {
		return err
	}
	before, after, _ := bytes.Cut(b, []byte(`"cases": []`))
	out := bufio.NewWriter(w)
	out.Write(before)
	out.WriteString(`"cases": `)
	if err := EachResult(out, r.Cases.All(), "    "); err != nil {
		return err
	}
	out.Write(after)
	return out.Flush()
}

// EachResult writes results as a JSON array, one after the other; indent stands before each.
func EachResult(w io.Writer, all iter.Seq[Result], indent string) error {
	between := "[\n"
	for one := range all {
		b, err := safe.JSON(&one)
		if err != nil {
			return err
		}
		b = bytes.ReplaceAll(bytes.TrimSpace(b), []byte("\n"), []byte("\n"+indent))
		if _, err := fmt.Fprintf(w, "%s%s%s", between, indent, b); err != nil {
			return err
		}
		between = ",\n"
	}
	end := "\n" + strings.TrimPrefix(indent, "  ") + "]"
	if between[0] == '[' { // there was none
		end = "[]"
	}
	_, err := io.WriteString(w, end)
	return err
}

// The elements of a JUnit report, as continuous integration reads them.
type (
	testcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Time    string   `xml:"time,attr"`
		Skipped *problem `xml:"skipped,omitempty"`
		Failure *problem `xml:"failure,omitempty"`
	}
	problem struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr,omitempty"`
		Text    string `xml:",chardata"`
	}
)

func seconds(ns int64) string { return fmt.Sprintf("%.3f", float64(ns)/1e9) }

func (r *Run) junit(w io.Writer) error {
	attr := func(name, value string) xml.Attr { return xml.Attr{Name: xml.Name{Local: name}, Value: value} }
	start := func(name string, attrs ...xml.Attr) xml.StartElement {
		return xml.StartElement{Name: xml.Name{Local: name}, Attr: attrs}
	}
	count := []xml.Attr{attr("tests", strconv.Itoa(r.Cases.Len())), attr("failures", strconv.Itoa(r.Counts.Unexpected))}
	suites := start("testsuites", append(count[:2:2], attr("time", seconds(r.TookNs)))...)
	suite := start("testsuite", append([]xml.Attr{attr("name", safe.XML(r.Muster))}, append(count[:2:2],
		attr("errors", "0"), attr("skipped", strconv.Itoa(r.Counts.NotRun)), attr("time", seconds(r.TookNs)),
		attr("timestamp", r.Started.UTC().Format("2006-01-02T15:04:05")))...)...)
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	for _, open := range []xml.StartElement{suites, suite} {
		if err := e.EncodeToken(open); err != nil {
			return err
		}
	}
	for c := range r.Cases.All() {
		if err := e.EncodeElement(r.testcase(&c), start("testcase")); err != nil {
			return err
		}
	}
	for _, open := range []xml.StartElement{suite, suites} {
		if err := e.EncodeToken(open.End()); err != nil {
			return err
		}
	}
	if err := e.Close(); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// testcase is a result as an element of a JUnit report.
func (r *Run) testcase(c *Result) testcase {
	class := c.Operation
	if class == "" {
		class = r.Muster
	}
	t := testcase{Name: safe.XML(c.Name), Class: safe.XML(class), Time: seconds(c.TotalNs)}
	m := &problem{Text: safe.XML(strings.Join(c.Why, "\n")), Type: c.Cause}
	if len(c.Why) > 0 {
		m.Message = safe.XML(c.Why[0])
	}
	switch c.Outcome {
	case Unexpected:
		m.Text += "\nexchange " + c.Exchange
		t.Failure = m
	case NotRun:
		t.Skipped = &problem{Message: m.Message}
	}
	return t
}

// Summary is the run in a line.
func (r *Run) Summary() string {
	t := func(ns int64) string { return time.Duration(ns).Round(10 * time.Microsecond).String() }
	line := fmt.Sprintf(
		"%d as expected, %d unexpected, %d not run",
		r.Counts.AsExpected,
		r.Counts.Unexpected,
		r.Counts.NotRun,
	)
	if r.Times.Worst > 0 {
		line += fmt.Sprintf(" · median %s, 95th %s, 99th %s, worst %s · %.0f a second",
			t(r.Times.Median), t(r.Times.P95), t(r.Times.P99), t(r.Times.Worst), r.Times.PerSecond)
	}
	return line
}

func (r *Run) markdown(w io.Writer) error {
	cell := func(s string) string { return strings.NewReplacer("|", `\|`, "\n", " ").Replace(safe.Line(s)) }
	fmt.Fprintf(w, "# %s\n\n%s · %s\n", cell(r.Muster), r.Started.UTC().Format(time.RFC3339), r.Summary())
	causes, of := r.ByCause()
	for _, cause := range causes {
		fmt.Fprintf(w, "\n## %s (%d)\n\n", cell(cause), len(of[cause]))
		for _, c := range of[cause] {
			fmt.Fprintf(w, "- %s: %s (exchange %s)\n", cell(c.Name), cell(strings.Join(c.Why, " ")), c.Exchange)
		}
	}
	fmt.Fprint(w, "\n| case | outcome | time |\n| --- | --- | --- |\n")
	for c := range r.Cases.All() {
		if _, err := fmt.Fprintf(w, "| %s | %s | %s s |\n", cell(c.Name), c.Outcome, seconds(c.TotalNs)); err != nil {
			return err
		}
	}
	return nil
}

// html is one page that needs nothing else: the tally as a bar, what failed by cause, and
// all cases.
func (r *Run) html(w io.Writer) error {
	esc := func(s string) string { return html.EscapeString(safe.Line(s)) }
	fmt.Fprintf(w, `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>%s</title><style>
body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;color:#222}
table{border-collapse:collapse;width:100%%}td,th{text-align:left;padding:.2rem .6rem;border-bottom:1px solid #ddd}
.unexpected{font-weight:600}.notRun{color:#666}</style></head><body>
<h1>%s</h1><p>%s · %s</p>
`, esc(r.Muster), esc(r.Muster), r.Started.UTC().Format(time.RFC3339), esc(r.Summary()))
	r.bar(w)
	causes, of := r.ByCause()
	for _, cause := range causes {
		fmt.Fprintf(w, "<h2>%s (%d)</h2><ul>\n", esc(cause), len(of[cause]))
		for _, c := range of[cause] {
			fmt.Fprintf(
				w,
				"<li><b>%s</b>: %s <small>exchange %s</small></li>\n",
				esc(c.Name),
				esc(strings.Join(c.Why, " ")),
				esc(c.Exchange),
			)
		}
		fmt.Fprint(w, "</ul>\n")
	}
	fmt.Fprint(w, "<table><tr><th>case</th><th>outcome</th><th>time</th></tr>\n")
	for c := range r.Cases.All() {
		if _, err := fmt.Fprintf(w, "<tr class=\"%s\"><td>%s</td><td>%s</td><td>%s s</td></tr>\n",
			c.Outcome, esc(c.Name), c.Outcome, seconds(c.TotalNs)); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, "</table></body></html>\n")
	return err
}

// bar draws the tally: filled as expected, hatched unexpected, open not run.
func (r *Run) bar(w io.Writer) {
	const width = 800.0
	all := float64(max(r.Cases.Len(), 1))
	at := 0.0
	fmt.Fprintf(
		w,
		`<svg viewBox="0 0 %.0f 24" width="100%%" role="img" aria-label="%s"><defs>`+
			`<pattern id="h" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">`+
			`<rect width="3" height="6" fill="#222"/></pattern></defs>`,
		width,
		html.EscapeString(r.Summary()),
	)
	for _, part := range []struct {
		n    int
		fill string
	}{{r.Counts.AsExpected, "#7a8f7a"}, {r.Counts.Unexpected, "url(#h)"}, {r.Counts.NotRun, "none"}} {
		wide := width * float64(part.n) / all
		fmt.Fprintf(w, `<rect x="%.1f" y="2" width="%.1f" height="20" fill="%s" stroke="#222"/>`, at, wide, part.fill)
		at += wide
	}
	fmt.Fprint(w, "</svg>\n")
}

// Drawing draws the run: its outcomes, and what each case took.
func (r *Run) Drawing() *draw.Drawing {
	var all []draw.Tried
	for c := range r.Cases.All() {
		one := draw.Tried{Name: c.Name, Sent: c.Exchange != "", Passed: c.Outcome == AsExpected, TookNs: c.TotalNs}
		if len(c.Why) > 0 {
			one.Says = c.Why[0]
		}
		all = append(all, one)
	}
	t := r.Times
	return draw.Muster(r.Muster, fmt.Sprintf("%d as expected, %d unexpected, %d not run   ·   median %s, 95th %s, "+
		"99th %s, worst %s, %.0f a second", r.Counts.AsExpected, r.Counts.Unexpected, r.Counts.NotRun,
		exchange.Took(t.Median), exchange.Took(t.P95), exchange.Took(t.P99), exchange.Took(t.Worst), t.PerSecond), all)
}
