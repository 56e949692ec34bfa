package muster

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"html"
	"io"
	"path/filepath"
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
		return func(w io.Writer) error {
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(r)
		}, nil
	case ".md":
		return r.markdown, nil
	case ".html":
		return r.html, nil
	}
	return nil, fmt.Errorf("%s: a report ends with .xml, .json, .md or .html", file)
}

// The elements of a JUnit report, as continuous integration reads them.
type (
	suites struct {
		XMLName  xml.Name `xml:"testsuites"`
		Tests    int      `xml:"tests,attr"`
		Failures int      `xml:"failures,attr"`
		Time     string   `xml:"time,attr"`
		Suites   []suite  `xml:"testsuite"`
	}
	suite struct {
		Name      string     `xml:"name,attr"`
		Tests     int        `xml:"tests,attr"`
		Failures  int        `xml:"failures,attr"`
		Errors    int        `xml:"errors,attr"`
		Skipped   int        `xml:"skipped,attr"`
		Time      string     `xml:"time,attr"`
		Timestamp string     `xml:"timestamp,attr"`
		Cases     []testcase `xml:"testcase"`
	}
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
	s := suite{
		Name: safe.XML(r.Muster), Tests: len(r.Cases), Failures: r.Counts.Unexpected, Skipped: r.Counts.NotRun,
		Time: seconds(r.TookNs), Timestamp: r.Started.UTC().Format("2006-01-02T15:04:05"),
	}
	for _, c := range r.Cases {
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
		s.Cases = append(s.Cases, t)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(suites{Tests: s.Tests, Failures: s.Failures, Time: s.Time, Suites: []suite{s}}); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
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
	for _, c := range r.Cases {
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
	for _, c := range r.Cases {
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
	all := float64(max(len(r.Cases), 1))
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
	for _, c := range r.Cases {
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
