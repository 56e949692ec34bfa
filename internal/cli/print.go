package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/marks"
	"orenda/internal/safe"
)

// heading is a call in one line.
func heading(x *exchange.Exchange) string {
	s := x.Operation
	if x.Draft != "" {
		s += " · " + x.Draft
	}
	if x.Endpoint != "" {
		s += " → " + x.Endpoint
	}
	if x.Environment != "" {
		s += " in " + x.Environment
	}
	return s
}

// letters is a text with its signs in ASCII, where a terminal is written to that knows no
// others.
func (t *commandLine) letters(s string) string {
	if (isTerminal(t.out) || isTerminal(t.err)) && marks.WantsPlain() {
		return marks.Plain(s)
	}
	return s
}

// mark is the sign of a stage.
func (t *commandLine) mark(s exchange.State) string { return t.letters(markOf(s)) }

func markOf(s exchange.State) string {
	switch s {
	case exchange.Passed, exchange.Warned:
		return marks.Passed
	case exchange.Stopped, exchange.Cancelled:
		return marks.Stopped
	case exchange.Open:
		return marks.UnderWay
	case exchange.Skipped:
		return marks.NotUsed
	}
	return marks.NotReached
}

// printPath prints the path on standard error.
func (t *commandLine) printPath(x *exchange.Exchange) {
	w := t.err
	if t.quiet {
		if x.Outcome != exchange.OutcomePassed {
			fmt.Fprintf(w, "%s   %s   %s   %s\n", safe.Line(heading(x)), x.Ending(), x.ID, safe.Line(x.Result))
		}
		return
	}
	fmt.Fprintf(w, "%s   %s   %s\n\n", safe.Line(heading(x)), x.Ending(), x.ID)
	for _, s := range exchange.Stages {
		st := x.Stage(s)
		mark := t.mark(st.State)
		tail := ""
		switch st.State {
		case exchange.Stopped:
			tail = "  ← stopped here"
		case exchange.Warned:
			tail = "  ← see below"
		case exchange.Cancelled:
			tail = "  ← cancelled here"
		}
		fmt.Fprintf(
			w,
			"  %s %2d  %-9s  %-9s %s%s\n",
			mark,
			s,
			s,
			exchange.Took(st.DurationNs),
			safe.Line(st.Note),
			tail,
		)
	}
	if t.verbose {
		t.printSet(x)
	}
	if x.Result != "" && x.Outcome == exchange.OutcomePassed {
		fmt.Fprintf(w, "\n  %s\n", safe.Line(x.Result))
	}
	for i, f := range x.Findings {
		led := slices.ContainsFunc(x.Findings, func(o exchange.Finding) bool { return i == 0 && o.Because == f.ID })
		t.printFinding(i, f, led)
		if i == 0 {
			for k, l := range diagnose.MemoryLines(x.Memory, time.Now()) {
				fmt.Fprintf(
					w,
					"       %s%-22s %s\n",
					map[bool]string{true: "\n       "}[k == 0],
					safe.Line(cutTo(l[0], 22)),
					safe.Line(cutTo(l[1], 110)),
				)
			}
		}
	}
	fmt.Fprintln(w)
}

// printFinding tells of one finding; leads is whether another one follows from it.
func (t *commandLine) printFinding(i int, f exchange.Finding, leads bool) {
	w := t.err
	likely := ""
	if f.Certainty == exchange.Likely {
		likely = ", likely"
	}
	means := map[exchange.Severity]string{exchange.Stop: ", stops the call", exchange.Warn: ", may be ignored",
		exchange.Note: ", a note"}[f.Severity]
	if leads && f.Severity != exchange.Stop {
		means = ", the cause"
	}
	whose := ""
	if said := diagnose.Whose(f.Side); said != "" && (leads || f.Severity == exchange.Stop) {
		whose = ", " + said
	}
	fmt.Fprintf(
		w,
		"\n  %s  %s (%s%s%s%s)\n",
		map[bool]string{true: "why", false: "   "}[i == 0],
		safe.Line(f.Title),
		f.ID,
		means,
		likely,
		whose,
	)
	for _, l := range wrap(safe.Line(f.Why), 88) {
		fmt.Fprintf(w, "       %s\n", l)
	}
	for _, e := range f.Evidence {
		at := string(e.In)
		if e.In != exchange.InSettings && e.In != exchange.InCertificate {
			at += fmt.Sprintf(", line %d", e.Line)
		}
		fmt.Fprintf(w, "       %-22s %s\n", at, safe.Line(cutTo(e.Excerpt, 110)))
	}
	if f.SetAside != "" {
		fmt.Fprintf(w, "       set aside: %s\n", safe.Line(f.SetAside))
	}
	if f.Because != "" {
		fmt.Fprintf(w, "       follows from %s\n", f.Because)
	}
	t.printPossibilities(&f)
	if f.Program != "" {
		for k, l := range wrap("in your program: "+safe.Line(f.Program), 88) {
			fmt.Fprintf(w, "       %s%s\n", strings.Repeat("  ", min(k, 1)), l)
		}
	}
	for n, r := range f.Remedies {
		fmt.Fprintf(w, "       remedy %d  %s\n", n+1, safe.Line(r.Title))
		for _, c := range r.All() {
			fmt.Fprintf(w, "                 %s\n", safe.Line(cutTo(c.String(), 110)))
		}
		if r.Ask != "" {
			for _, l := range wrap(safe.Line(r.Ask), 80) {
				fmt.Fprintf(w, "                 %s\n", l)
			}
		}
	}
}

// printSet prints what was set, with where each value comes from, and the heads that crossed.
func (t *commandLine) printSet(x *exchange.Exchange) {
	fmt.Fprintln(t.err)
	for _, s := range x.Settings {
		if k := endpoint.KeyOf(s.Key); k != nil && s.Value != "" {
			fmt.Fprintf(t.err, "  %-18s %-40s %s\n", s.Key, safe.Line(cutTo(k.Spell(s.Value), 40)), safe.Line(s.Source))
		}
	}
	l := x.Leg()
	if l == nil {
		return
	}
	for i, h := range []*exchange.Head{&l.Request, &l.Response} {
		if h.Line == "" {
			continue
		}
		fmt.Fprintf(t.err, "\n  %-4s %s\n", []string{"out", "in"}[i], safe.Line(h.Line))
		for _, f := range h.Fields {
			fmt.Fprintf(t.err, "       %s: %s\n", safe.Line(f.Name), safe.Line(f.Value))
		}
	}
}

func cutTo(s string, most int) string { return cutEnd(strings.Join(strings.Fields(s), " "), most) }

// cutEnd is a text of so many characters at most.
func cutEnd(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// wrap breaks text at spaces.
func wrap(s string, width int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(s) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > width {
			out = append(out, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(out, line)
}

// printPossibilities prints what may be behind a finding.
func (t *commandLine) printPossibilities(f *exchange.Finding) {
	for i, p := range f.Hypotheses {
		verdict := map[exchange.Verdict]string{exchange.Confirmed: "; likely",
			exchange.RuledOut: "; unlikely"}[p.Verdict]
		fmt.Fprintf(
			t.err,
			"       %-7s  %s%s\n",
			map[bool]string{true: "may be", false: "or"}[i == 0],
			safe.Line(p.Cause),
			verdict,
		)
		said := "if " + p.Predicts
		if p.Answer != "" {
			said = p.Answer
		}
		for _, l := range wrap(safe.Line(said), 78) {
			fmt.Fprintf(t.err, "       %-7s    %s\n", "", l)
		}
	}
	if diagnose.Holds(*f) {
		fmt.Fprintf(t.err, "       call with --as-it-is to send it all the same\n")
	}
	if f.Unchecked() {
		fmt.Fprintf(t.err, "       %-7s  call again with --checks to find out\n", "")
	}
}
