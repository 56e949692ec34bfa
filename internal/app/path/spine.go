package path

import (
	"cmp"
	"fmt"
	"strings"

	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/marks"
	"orenda/internal/safe"
)

func (v *View) heading(x *exchange.Exchange, w int) string {
	if x.Kind == "relay" || x.Kind == "log-in" {
		what := map[string]string{"relay": "relay: " + x.Operation, "log-in": x.Operation}[x.Kind]
		return "   " + ui.Strong(ui.Cut(what+" → "+x.Stage(exchange.Address).Facts.Get("resolved"), w*2/3)) + ui.Soft(
			"   "+x.Ending(),
		)
	}
	if x.Kind == "fetch" {
		return "   " + ui.Strong(ui.Cut("fetching "+x.Stage(exchange.Address).Facts.Get("resolved"), w/2)) + ui.Soft(
			"   "+x.Ending(),
		)
	}
	c := v.s.Chosen
	name := fmt.Sprintf("%s · %s → %s", c.Draft.Operation, c.Draft.Name, cmp.Or(c.Endpoint, "no endpoint"))
	if v.s.Environment != "" {
		name += " in " + v.s.Environment
	}
	tail := ui.Soft("not sent yet")
	switch {
	case v.going():
		tail = ui.Accent(v.clock(x))
	case v.s.Running() != nil:
		tail = fmt.Sprintf("attempt %d · %s", len(v.s.Attempts)+1, x.Ending())
	case v.s.Shown < len(v.s.Attempts):
		tail = fmt.Sprintf("attempt %d · %s", v.s.Shown+1, x.Ending())
	case len(v.s.Attempts) > 0:
		tail = ui.Soft(fmt.Sprintf("attempt %d is ready to go", len(v.s.Attempts)+1))
	}
	left := "   " + ui.Strong(ui.Cut(name, max(w-ui.Width(tail)-8, 10)))
	return left + strings.Repeat(" ", max(w-ui.Width(left)-ui.Width(tail)-3, 1)) + tail
}

func mark(x *exchange.Exchange, s exchange.Stage) string {
	switch x.Stage(s).State {
	case exchange.Passed:
		return marks.Passed
	case exchange.Warned:
		return ui.Accent(marks.Passed)
	case exchange.Open:
		return ui.Accent(marks.UnderWay)
	case exchange.Stopped:
		return ui.Accent(marks.Stopped)
	case exchange.Skipped:
		return ui.Soft(marks.NotUsed)
	}
	return ui.Soft(marks.NotReached)
}

//revive:disable-next-line:cyclomatic one screen, or the keys of one
func (v *View) spine(x *exchange.Exchange, w int) []string {
	var out []string
	cause := exchange.None
	if c := x.Cause(); c != nil {
		cause = c.Stage
	}
	for i, s := range exchange.Stages {
		if i == 4 || i == 7 || i == 9 {
			out = append(out, "")
		}
		st := x.Stage(s)
		note := st.Note
		switch {
		case st.State == exchange.Stopped && note == "":
			note = "stopped here"
		case st.State == exchange.Open && note == "":
			note = v.live(x, s)
		case st.State == exchange.Cancelled:
			note = "halted here"
		}
		if cause == s && x.StoppedAt != s && x.StoppedAt != exchange.None {
			note = "the cause is here"
		}
		took := ""
		if st.State == exchange.Passed || st.State == exchange.Warned || st.State == exchange.Stopped {
			took = exchange.Took(st.DurationNs)
		}
		room := w - 19 - ui.Width(took)
		cursor := "  "
		name := ui.Fit(s.String(), 9)
		text := ui.Fit(note, room)
		switch {
		case s == v.stage && v.set < 0:
			cursor = ui.Accent(" ▌")
			name = ui.Strong(name)
		case s == v.stage:
			cursor = ui.Soft(" ▌")
			name = ui.Strong(name)
		case st.State == exchange.Waiting || st.State == exchange.Skipped:
			name = ui.Soft(name)
		}
		if st.State == exchange.Stopped || cause == s {
			text = ui.Accent(text)
		} else if s != v.stage {
			text = ui.Soft(text)
		}
		out = append(
			out,
			fmt.Sprintf(
				"%s %s %s %s %s %s",
				cursor,
				mark(x, s),
				ui.Soft(fmt.Sprintf("%2d", i+1)),
				name,
				text,
				ui.Soft(took),
			),
		)
	}
	return out
}

// live is what is seen of a stage while it is open.
func (v *View) live(x *exchange.Exchange, s exchange.Stage) string {
	l := x.Leg()
	switch {
	case s == exchange.Receive && l != nil:
		if l.Response.Declared > 0 {
			return fmt.Sprintf("%s of %s B", endpoint.Bytes(l.Response.BodySize), endpoint.Bytes(l.Response.Declared))
		}
		return endpoint.Bytes(l.Response.BodySize) + " B so far"
	case s == exchange.Send && l != nil:
		return endpoint.Bytes(int64(len(l.Out))) + " B so far"
	}
	return "…"
}

// attempts keeps the last attempts in sight: their reach, what was changed
// before each, and their key result.
func (v *View) attempts(w, h int) []string {
	if h < 2 || len(v.s.Attempts) == 0 && v.s.Running() == nil {
		return nil
	}
	out := []string{"   " + ui.Soft("attempts")}
	type one struct {
		n int
		x *exchange.Exchange
	}
	var all []one
	for i, x := range v.s.Attempts {
		all = append(all, one{i + 1, x})
	}
	if x := v.s.Running(); x != nil {
		all = append(all, one{len(all) + 1, x})
	}
	var lines []string
	result := max((w-26)*3/5, 20)
	for i, a := range all {
		text := a.x.Result
		if a.x.Outcome == exchange.OutcomeUnderWay {
			text = "under way"
		}
		var prev *exchange.Exchange
		if i > 0 {
			prev = all[i-1].x
		}
		n, said := ui.Soft(fmt.Sprintf("%3d", a.n)), ui.Fit(text, result)
		if a.n == v.s.Shown+1 && !v.going() {
			n, said = ui.Accent("›")+ui.Strong(fmt.Sprintf("%2d", a.n)), ui.Strong(said)
		}
		before := ""
		if d := difference(prev, a.x); d != "" {
			before = ui.Soft(ui.Cut("after "+d, w-result-28))
		}
		lines = append(lines, fmt.Sprintf(" %s  %s  %s  %s", n, ui.Reach(a.x), said, before))
	}
	if n := len(lines); n > h-1 {
		from := min(n-(h-1), max(v.s.Shown-1, 0)) // the one in sight is among them
		lines = lines[from : from+h-1]
	}
	return append(append(out, lines...), "")
}

// difference is what tells an attempt from the one before: changed settings,
// or changed input values.
func difference(prev, x *exchange.Exchange) string {
	var parts []string
	for _, c := range x.Changes {
		if c.Where == "user" {
			continue
		}
		_, key, _ := strings.Cut(c.Key, ".")
		_, key, _ = strings.Cut(key, ".")
		_, to, _ := strings.Cut(c.String(), "→ ")
		parts = append(parts, key+" "+to)
	}
	if prev != nil && len(prev.Inputs) > 0 {
		old := map[string]string{}
		for _, in := range prev.Inputs {
			old[in.Path] = in.Value
		}
		for _, in := range x.Inputs {
			if old[in.Path] != in.Value {
				parts = append(parts, in.Path+" "+safe.Visible(in.Value))
			}
		}
	}
	return strings.Join(parts, " · ")
}
