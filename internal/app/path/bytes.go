package path

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/app/crossed"
	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// leastBytes is the fewest lines in which the bytes of a stage are worth showing.
const leastBytes = 5

// bytesPart are the stage's own bytes, as they crossed, in h lines; live while they cross.
func (v *View) bytesPart(x *exchange.Exchange, w, h int) []string {
	if h < leastBytes {
		return nil
	}
	if v.stage == exchange.Wait {
		return v.waitPart(x, w)
	}
	if l := x.Leg(); l != nil && v.stage >= exchange.Read && l.Response.Coding != "" {
		return decoded(x, l, v.stage, w, h)
	}
	lines := crossed.Excerpt(x)
	from, to := lines.Of(x, v.stage)
	if to <= from {
		return nil
	}
	title := " bytes of " + v.stage.String() + " "
	if v.stage == exchange.Connect || v.stage == exchange.TLS {
		title = " what happened at " + v.stage.String() + " "
	}
	room := h - 2
	top := from
	switch at := lines.Marked(from); {
	case x.Outcome == exchange.OutcomeUnderWay: // its end is what comes now
		top = max(to-room, from)
	case at >= from && at < to:
		top = min(max(at-room/3, from), max(to-room, from))
	}
	out := []string{ruled(title, v.amount(x, from, to), w)}
	for i := top; i < min(top+room, to); i++ {
		out = append(out, lines.Draw(x, i, crossed.Look{Width: w, Reveal: v.s.Reveal}))
	}
	if to-top > room && x.Outcome != exchange.OutcomeUnderWay {
		out[len(out)-1] = ui.Soft(fmt.Sprintf("%13s… ", "")) + ui.Strong("s") + ui.Soft(" shows all of it")
	}
	return append(out, "")
}

// decoded is the body as it was read, of an answer that crossed compressed: from what proves
// the cause on.
func decoded(x *exchange.Exchange, l *exchange.Leg, stage exchange.Stage, w, h int) []string {
	const enough = 64 << 10
	begin, mark := int64(0), int64(-1)
	for _, f := range x.Findings {
		for _, e := range f.Evidence {
			if e.In == exchange.InResponseBody && mark < 0 {
				mark = e.Offset
				begin = max(mark-enough/4, 0)
			}
		}
	}
	body := l.ResponseBody.Range(begin, begin+enough)
	if len(body) == 0 {
		return nil
	}
	remark := fmt.Sprintf("%s B, decoded (%s)", endpoint.Bytes(l.ResponseBody.Len()), l.Response.Coding)
	out := []string{ruled(" body at "+stage.String()+" ", remark, w)}
	lines := strings.SplitAfter(string(body), "\n")
	at, first := begin, 0
	marked := -1
	for i, text := range lines {
		if mark >= at && mark < at+int64(len(text)) {
			marked, first = i, max(i-h/3, 0)
		}
		at += int64(len(text))
	}
	for i := first; i < len(lines) && len(out) < h-1; i++ {
		text, tail := ui.Cut(strings.TrimRight(lines[i], "\r\n"), w-32), ""
		if i == marked {
			text, tail = ui.Strong(text), ui.Accent(" ◂ evidence")
		}
		out = append(out, strings.Repeat(" ", 18)+text+tail)
	}
	return append(out, "")
}

// ruled is a line with a title at its left and a remark at its right.
func ruled(title, remark string, w int) string {
	rule := max(w-ui.Width(title)-ui.Width(remark)-7, 0)
	return "   " + ui.Strong(strings.TrimSpace(title)) + " " + ui.Soft(strings.Repeat("─", rule)+" "+remark)
}

// amount is how much crossed in a stage, in words.
func (v *View) amount(x *exchange.Exchange, from, to int) string {
	l := x.Leg()
	pieces := func(kind exchange.MomentKind) (n int) {
		for _, m := range x.Moments {
			if m.Kind == kind && m.Leg == len(x.Legs) {
				n++
			}
		}
		return n
	}
	switch v.stage {
	case exchange.Send, exchange.Message, exchange.Security:
		return endpoint.Bytes(int64(len(l.Out))) + " B out"
	case exchange.Receive, exchange.Read, exchange.Verify:
		n := pieces(exchange.BytesIn)
		word := "pieces"
		if n == 1 {
			word = "piece"
		}
		return fmt.Sprintf("%s B in, %d %s", endpoint.Bytes(max(l.In.Len(), l.Whole)), n, word)
	}
	return fmt.Sprintf("%d moments", to-from)
}

// usual is how long the kept calls of an operation over an endpoint took: median and worst.
type usual struct {
	count       int
	wait, whole [2]time.Duration
}

func (v *View) usual(x *exchange.Exchange) usual {
	j, q := v.s.J, journal.Query{Operation: x.Operation, Endpoint: x.Endpoint, Max: 50}
	return state.Known(v.s, "usual "+q.Operation+" "+q.Endpoint, func(context.Context) (u usual) {
		list, _ := j.List(q)
		var waits, wholes []time.Duration
		for _, k := range list {
			if k.Outcome == exchange.OutcomePassed {
				waits = append(waits, time.Duration(k.Stage(exchange.Wait).DurationNs))
				wholes = append(wholes, time.Duration(k.TotalNs))
			}
		}
		if u.count = len(waits); u.count > 0 {
			slices.Sort(waits)
			slices.Sort(wholes)
			u.wait = [2]time.Duration{waits[len(waits)/2], waits[len(waits)-1]}
			u.whole = [2]time.Duration{wholes[len(wholes)/2], wholes[len(wholes)-1]}
		}
		return u
	})
}

// waitPart is the clock of what is waited for, and what was usual.
func (v *View) waitPart(x *exchange.Exchange, w int) []string {
	st := x.Stage(exchange.Wait)
	u := v.usual(x)
	if st.State == exchange.Waiting && u.count == 0 {
		return nil
	}
	out := []string{ruled(" waiting ", "nothing crosses", w)}
	switch st.State {
	case exchange.Open:
		out = append(out, "   "+ui.Pad("now", 16)+ui.Accent(exchange.Took(int64(v.since(x, st)))))
	case exchange.Waiting:
	default:
		out = append(out, "   "+ui.Soft(ui.Pad("this time", 16))+exchange.Took(st.DurationNs))
	}
	if u.count > 0 {
		out = append(out, "   "+ui.Soft(ui.Pad("usual", 16))+fmt.Sprintf("%s, at worst %s, of %d kept that passed",
			exchange.Took(int64(u.wait[0])), exchange.Took(int64(u.wait[1])), u.count))
	}
	if limit := x.Setting("answer-time"); limit != "" {
		out = append(out, "   "+ui.Soft(ui.Pad("answer time", 16))+limit)
	}
	return append(out, "")
}

// since is how long a stage that is open has been so.
func (v *View) since(x *exchange.Exchange, st *exchange.StageRecord) time.Duration {
	return time.Since(x.Started) - time.Duration(st.StartedNs)
}

// longWait is how long a call is under way before it says more of itself.
const longWait = time.Second

// clock tells of a call under way: how long, what is usual, and how to end it.
func (v *View) clock(x *exchange.Exchange) string {
	text := fmt.Sprintf("attempt %d · under way", len(v.s.Attempts)+1)
	took := time.Since(x.Started)
	if took < longWait {
		return text
	}
	text += " for " + exchange.Took(int64(took.Round(longWait/10)))
	if u := v.usual(x); u.count > 0 {
		text += ", usual " + exchange.Took(int64(u.whole[0]))
	}
	return text + " · h halts"
}
