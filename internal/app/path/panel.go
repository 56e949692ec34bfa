package path

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

const labelWidth = 18

// row is a label with a value beside it, on as many lines as it takes.
func row(section, label, value, tail string, w int) []string {
	const sw = 7
	vw := w - sw - labelWidth - 1
	tw := 0
	if tail != "" {
		tw = min(ui.Width(tail)+2, vw/2)
	}
	lines := ui.Wrap(value, max(vw-tw, 8))
	var out []string
	for i, l := range lines {
		s, lab, t := "", "", ""
		if i == 0 {
			s, lab, t = section, label, tail
		}
		text := ui.Pad(ui.Strong(s), sw) + ui.Pad(ui.Soft(ui.Cut(lab, labelWidth)), labelWidth) + " " + ui.Pad(
			l,
			max(vw-tw, 8),
		)
		if t != "" {
			text += "  " + ui.Soft(ui.Cut(t, tw-2))
		}
		out = append(out, text)
	}
	return out
}

// panel is the stage that is looked at: set above seen, why, and the repair.
func (v *View) panel(x *exchange.Exchange, w, h int) []string {
	title := ui.Strong(strings.ToUpper(v.stage.String())) + ui.Soft("  "+v.stage.Question())
	out := []string{title, ""}
	top := v.setPart(x, w)
	before := v.memoryPart(x, w)
	repair := v.repairPart(x, w)
	why := v.fitting(x, w, h-len(out)-len(top)-len(before)-len(repair)-7)
	if len(out)+len(top)+len(why)+len(before)+len(repair)+7 > h {
		before = before[:min(len(before), 2)]
	}
	seen := v.seenPart(x, w)
	if v.ask != nil && len(out)+len(top)+len(seen)+len(why)+len(repair)+4 > h {
		// What is to be confirmed is shown whole, whatever gives way to it.
		top, seen, before, why = nil, nil, nil, why[:min(len(why), 1)]
	}
	// What was seen gives way where the room is short; why and repair do not.
	room := max(h-len(out)-len(top)-len(why)-len(before)-len(repair)-4-min(len(before), 1), 1)
	v.scroll = min(v.scroll, max(len(seen)-room, 0))
	if len(seen) > room {
		rest := len(seen) - v.scroll - room + 1
		seen = slices.Clone(seen[v.scroll:min(v.scroll+room, len(seen))])
		if rest > 1 {
			seen[len(seen)-1] = ui.Soft(fmt.Sprintf("       … %d lines more (PgDn)", rest))
		}
	}
	for _, part := range [][]string{top, seen, why, before, repair} {
		if len(part) > 0 {
			out = append(out, part...)
			out = append(out, "")
		}
	}
	return out
}

// tight is the panel for few lines: why and repair come first, the rest scrolls.
func (v *View) tight(x *exchange.Exchange, w, h int) []string {
	repair := v.repairPart(x, w)
	room := h - len(repair) - 3
	why := v.fitting(x, w, room)
	if v.set >= 0 || v.in.Active || v.ask != nil || len(why) == 0 {
		return v.panel(x, w, h)
	}
	out := []string{ui.Strong(strings.ToUpper(v.stage.String())) + ui.Soft("  "+v.stage.Question()), ""}
	// The repair stands at the bottom of the room, whatever scrolls above it.
	room = max(room, 3)
	var rest []string
	for _, part := range [][]string{why, v.seenPart(x, w), v.memoryPart(x, w), v.setPart(x, w)} {
		if len(part) > 0 {
			rest = append(append(rest, part...), "")
		}
	}
	v.scroll = min(v.scroll, max(len(rest)-room, 0))
	if len(rest) > room {
		more := len(rest) - v.scroll - room
		rest = slices.Clone(rest[v.scroll : v.scroll+room])
		if more > 0 {
			rest[room-1] = ui.Soft(fmt.Sprintf("       … %d lines more (PgDn)", more+1))
		}
	}
	return append(append(out, rest...), repair...)
}

func (v *View) setPart(x *exchange.Exchange, w int) []string {
	var out []string
	for i, s := range v.shown(x) {
		k := endpoint.KeyOf(s.Key)
		section := ""
		if i == 0 {
			section = "set"
		}
		value, tail := k.Spell(s.Value), s.Source
		if s.Template != "" {
			tail = "as " + s.Template + " · " + tail
		}
		if value == "" {
			value = "not set"
		}
		chosen := v.set == i
		if chosen && v.in.Active {
			line := ui.Pad(ui.Strong(section), 7) + ui.Pad(
				ui.Strong(ui.Cut(k.Label(), labelWidth)),
				labelWidth,
			) + ui.Accent("›") + v.in.View(max(w-28, 8))
			out = append(out, line)
			help := k.Doc
			if len(k.Of) > 0 {
				help += ": " + strings.Join(k.Of, ", ") + " (↑↓)"
			}
			if v.wrong != "" {
				help = v.wrong
			}
			for _, l := range ui.Wrap(help, w-27) {
				out = append(out, strings.Repeat(" ", 26)+ui.Soft(l))
			}
			continue
		}
		lines := row(section, k.Label(), value, tail, w)
		if chosen {
			lines[0] = ui.Pad(ui.Strong(section), 6) + ui.Accent("›") + strings.TrimPrefix(
				lines[0],
				ui.Pad(ui.Strong(section), 7),
			)
		}
		out = append(out, lines...)
	}
	if len(out) == 0 && v.s.Fetching == nil {
		return nil
	}
	return out
}

func (v *View) seenPart(x *exchange.Exchange, w int) []string {
	var out []string
	st := x.Stage(v.stage)
	section := func() string {
		if len(out) == 0 {
			return "seen"
		}
		return ""
	}
	for _, f := range st.Facts {
		if f.Name == "header" {
			for _, l := range strings.Split(safe.Block(f.Value), "\n") {
				text := ui.Cut(strings.TrimPrefix(l, "    "), w-8)
				if made := madeBy(x, l); made != "" && w > 60 {
					made = "  ← " + made
					text = ui.Pad(ui.Cut(text, w-8-ui.Width(made)), w-8-ui.Width(made)) + ui.Soft(made)
				}
				out = append(out, ui.Pad(ui.Strong(section()), 7)+text)
			}
			continue
		}
		out = append(out, row(section(), f.Name, f.Value, "", w)...)
	}
	if v.stage == exchange.Read && x.Outcome == exchange.OutcomePassed && x.Result != "" {
		out = append(out, row(section(), "answer", x.Result, "", w)...)
		out = append(out, ui.Pad("", 7+labelWidth+1)+ui.Strong("r")+ui.Soft(" reads it"))
	}
	if v.stage == exchange.Receive || v.stage == exchange.Send {
		if g := gauge(x, v.stage, w-8); g != "" {
			out = append(out, ui.Pad(ui.Strong(section()), 7)+g)
		}
	}
	if v.stage == exchange.Receive && !v.going() && !refused(x) {
		out = append(out, v.sizes(x, w, len(out) == 0)...)
	}
	if len(out) == 0 {
		text := map[exchange.State]string{exchange.Waiting: "not reached yet", exchange.Skipped: "not used: " + st.Note,
			exchange.Open: "under way", exchange.Cancelled: "halted here"}[st.State]
		if text == "" {
			text = st.Note
		}
		if text != "" {
			out = append(out, ui.Pad(ui.Strong("seen"), 7)+ui.Soft(ui.Cut(strings.TrimSuffix(text, ": "), w-8)))
		}
	}
	return out
}

// refused tells whether the status says that what came is no answer: its size says
// nothing then.
func refused(x *exchange.Exchange) bool {
	l := x.Leg()
	return l != nil && l.Response.Status >= 300
}

// makes says which setting makes a line of the security header.
//
//nolint:gochecknoglobals // a table: it is never written to
var makes = []struct{ line, key string }{
	{
		"<wsse:Security",
		"must-understand",
	}, {"<wsu:Expires", "timestamp"}, {"<wsse:Username>", "identity"}, {"<wsse:Password", "token"}, {"<wsse:Nonce",
		"token-nonce"},
	{"<wsse11:Salt", "sign-key"}, {"Assertion", "token-file"},
}

// madeBy is the setting that makes a line of the security header, with its value.
func madeBy(x *exchange.Exchange, line string) string {
	for _, m := range makes {
		if !strings.Contains(line, m.line) || strings.HasPrefix(strings.TrimSpace(line), "</") {
			continue
		}
		if v := x.Setting(m.key); v != "" {
			return endpoint.KeyOf(m.key).Label() + " " + v
		}
	}
	return ""
}

// gauge draws bytes against what was announced and against the limit.
func gauge(x *exchange.Exchange, s exchange.Stage, w int) string {
	l := x.Leg()
	if l == nil || s != exchange.Receive || !l.Response.Complete || w < 20 || refused(x) {
		return ""
	}
	limit, err := endpoint.ParseSize(x.Setting("receive-limit"))
	if err != nil {
		return ""
	}
	if b, err := endpoint.ParseSize(x.Setting("buffer-limit")); err == nil && x.Setting("intake") == "whole" {
		limit = min(limit, b)
	}
	got := l.Response.BodySize
	scale := max(got, l.Response.Declared)
	if scale == 0 {
		return ""
	}
	width := min(w-4, 46)
	cells := func(n int64) int { return int(min(n*int64(width)/scale, int64(width))) }
	full := max(cells(got), 1)
	bar := strings.Repeat("█", full) + ui.Soft(strings.Repeat("░", width-full))
	tail := ""
	if limit < scale {
		tail = ui.Soft(fmt.Sprintf("  the limit falls at %s", endpoint.Bytes(limit)))
	}
	return "▕" + bar + "▏" + tail
}

// sizes draws the kept replies to the operation against the limits, and tells
// what the programs would say whose limits are kept as profiles.
func (v *View) sizes(x *exchange.Exchange, w int, first bool) []string {
	section := func() string {
		if first {
			first = false
			return "seen"
		}
		return ""
	}
	var out []string
	sums := v.sums(x)
	limit, err := endpoint.ParseSize(x.Setting("receive-limit"))
	if n := sums.sizes; n.Count > 1 && err == nil && w > 60 {
		scale := n.ScaleOf(limit)
		width := min(w-8-labelWidth-1, 60)
		bar := []rune(strings.Repeat(" ", width))
		most := slices.Max(n.Bins(scale, width))
		for i, c := range n.Bins(scale, width) {
			if c > 0 {
				bar[i] = []rune("▁▂▃▄▅▆▇█")[min(c*8/most, 7)]
			}
		}
		at := min(int(scale.At(limit)*float64(width)), width-1)
		line := string(bar[:at]) + ui.Accent("│") + string(bar[at+1:])
		out = append(out, ui.Pad(ui.Strong(section()), 7)+ui.Pad(ui.Soft("replies kept"), labelWidth)+" "+line)
		note := fmt.Sprintf("limit %s", endpoint.FormatSize(limit))
		if over := n.Over(limit); over > 0 {
			note += fmt.Sprintf(", refuses %d of %d", over, n.Count)
		} else {
			note += fmt.Sprintf(", holds all %d", n.Count)
		}
		pad := max(min(at-len(note)/2, width-len(note)), 0)
		out = append(out, strings.Repeat(" ", 7+labelWidth+1+pad)+ui.Soft(note))
		out = append(out, row("", "sizes", n.Words(), "", w)...)
	}
	for _, p := range sums.programs {
		out = append(out, row(section(), p[0], p[1], "", w)...)
	}
	return out
}

// sums is what is told of an exchange's sizes.
type sums struct {
	sizes    diagnose.Sizes
	programs [][2]string
}

// sums has the sizes of kept replies looked up, once for each exchange.
func (v *View) sums(x *exchange.Exchange) sums {
	j, w := v.s.J, v.s.W
	return state.Known(v.s, "sizes "+x.ID+" "+x.Operation, func(context.Context) sums {
		return sums{diagnose.SizesOf(j.ReplySizes(x.Operation, x)), programs(w, x)}
	})
}

// programs are the profiles that describe a program, with what each would say to
// the reply.
func programs(w *workspace.Workspace, x *exchange.Exchange) (out [][2]string) {
	l := x.Leg()
	if l == nil || !l.Response.Complete || x.Kind != "" {
		return nil
	}
	all := maps.Clone(w.Config().Profiles)
	if yours, err := w.Personal(); err == nil {
		maps.Copy(all, yours)
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		s := endpoint.Settings{Layers: []endpoint.Layer{{Source: "profile " + name, Values: all[name]}}}
		if !s.Get("receive-limit").IsSet() && !s.Get("buffer-limit").IsSet() && !s.Get("depth-limit").IsSet() &&
			!s.Get("text-limit").IsSet() {
			continue
		}
		said := "would take it"
		if r := diagnose.WouldRefuse(x, &s); len(r) > 0 {
			said = "would refuse it: " + r[0].Words
		}
		out = append(out, [2]string{name, said})
	}
	return out
}

// detail is how much is told of the findings.
type detail uint8

const (
	whole detail = iota // nothing is cut
	lined               // a line for each piece of evidence, and each possibility
	brief               // no evidence, and not what to do elsewhere
)

// fitting tells as much of the findings as there is room for.
func (v *View) fitting(x *exchange.Exchange, w, room int) []string {
	for _, d := range []detail{whole, lined} {
		if out := v.whyPart(x, w, d); len(out) <= room {
			return out
		}
	}
	return v.whyPart(x, w, brief)
}

// whyPart tells the findings: the cause whole, what follows from it in a line.
//
//revive:disable-next-line:cyclomatic one screen, or the keys of one
func (v *View) whyPart(x *exchange.Exchange, w int, much detail) []string {
	var out []string
	shown := 0
	for i, f := range x.Findings {
		main := f.Stage == v.stage || i == 0
		if !main && shown > 0 {
			out = append(out, ui.Pad("", 7)+ui.Soft(ui.Cut(fmt.Sprintf("%s: %s", f.Stage, f.Title), w-8)))
			continue
		}
		section := ""
		if shown == 0 {
			section = "why"
		}
		shown++
		title := ui.Cut(f.Title, w-8)
		if f.Severity == exchange.Stop {
			title = ui.Accent(title)
		} else {
			title = ui.Strong(title)
		}
		if f.Certainty == exchange.Likely {
			title += ui.Soft("  likely")
		}
		if whose := diagnose.Whose(f.Side); whose != "" && f.Severity == exchange.Stop &&
			ui.Width(title)+ui.Width(whose)+4 < w-8 {
			title += ui.Soft("  " + whose)
		}
		if f.SetAside != "" {
			title = ui.Soft(ui.Cut(f.Title, w-8))
			out = append(
				out,
				ui.Pad(ui.Strong(section), 7)+title,
				ui.Pad("", 7)+ui.Soft("set aside: ")+ui.Cut(f.SetAside, w-20),
			)
			continue
		}
		out = append(out, ui.Pad(ui.Strong(section), 7)+title)
		for _, l := range ui.Wrap(f.Why, w-8) {
			out = append(out, ui.Pad("", 7)+l)
		}
		if v.mean {
			if e := diagnose.Explain(f.ID); e != nil {
				out = append(out, ui.Pad("", 7)+ui.Soft(f.ID))
				for _, l := range append([][2]string{{"means", e.Means}}, e.Lines()...) {
					out = append(out, row("", l[0], l[1], "", w)...)
				}
			}
			continue
		}
		if i > 0 || much == brief {
			out = append(out, possibilities(&f, w, brief)...)
			continue
		}
		for k, e := range f.Evidence {
			if k == 2 {
				break
			}
			excerpt := strings.Join(strings.Fields(e.Excerpt), " ")
			if much == lined {
				excerpt = ui.Cut(excerpt, w-8-labelWidth)
			}
			out = append(out, row("", where(e), excerpt, "", w)...)
		}
		out = append(out, possibilities(&f, w, much)...)
		if f.Program != "" {
			for _, l := range ui.Wrap("in your program: "+f.Program, w-8) {
				out = append(out, ui.Pad("", 7)+ui.Soft(l))
			}
		}
	}
	return out
}

// possibilities are what may be behind a finding; in brief only the likeliest.
func possibilities(f *exchange.Finding, w int, much detail) (out []string) {
	indent := ui.Pad("", 7)
	for i, p := range f.Hypotheses {
		if much == brief && i > 0 {
			break
		}
		lead := ui.Soft(ui.Pad(map[bool]string{true: "may be", false: "or"}[i == 0], 7))
		said := p.Answer
		if said == "" {
			said = "if " + p.Predicts
		}
		text, tail := p.Cause, " · "+said
		switch p.Verdict {
		case exchange.Confirmed:
			text = "likely: " + text
		case exchange.RuledOut:
			text = "unlikely: " + text
		}
		if much == whole && ui.Width(text+tail) > w-15 {
			lines := append(ui.Wrap(text, w-15), ui.Wrap(strings.TrimPrefix(tail, " · "), w-15)...)
			cause := len(ui.Wrap(text, w-15))
			for k, l := range lines {
				if k >= cause || p.Verdict == exchange.RuledOut {
					l = ui.Soft(l)
				} else if p.Verdict == exchange.Confirmed {
					l = ui.Strong(l)
				}
				out = append(out, indent+lead+l)
				lead = indent
			}
			continue
		}
		text = ui.Cut(text, w-15)
		if room := w - 15 - ui.Width(text); room > 12 {
			tail = ui.Soft(ui.Cut(tail, room))
		} else {
			tail = ""
		}
		switch p.Verdict {
		case exchange.Confirmed:
			text = ui.Strong(text)
		case exchange.RuledOut:
			text = ui.Soft(text)
		}
		out = append(out, indent+lead+text+tail)
	}
	if f.Unchecked() {
		out = append(out, indent+ui.Accent("m")+ui.Soft(" finds out which"))
	}
	return out
}

// memoryPart tells what is remembered of calls like one that failed.
func (v *View) memoryPart(x *exchange.Exchange, w int) (out []string) {
	if c := x.Cause(); c == nil || c.Stage != v.stage || v.going() {
		return nil
	}
	for i, l := range diagnose.MemoryLines(x.Memory, time.Now()) {
		if i == maxMemory {
			break
		}
		section := ""
		if i == 0 {
			section = "before"
		}
		out = append(out, row(section, l[0], l[1], "", w)...)
	}
	return out
}

// maxMemory is how many lines of what is remembered are shown.
const maxMemory = 6

func where(e exchange.Evidence) string {
	if e.In == exchange.InSettings || e.In == exchange.InCertificate {
		return string(e.In)
	}
	return fmt.Sprintf("%s:%d", strings.Replace(string(e.In), "response", "reply", 1), e.Line)
}

// repairPart offers the remedies, or shows the change of the one that is
// chosen before it is made.
func (v *View) repairPart(x *exchange.Exchange, w int) []string {
	if v.going() {
		return nil
	}
	if v.ask != nil {
		out := []string{ui.Pad(ui.Accent("repair"), 7) + ui.Strong(ui.Cut(v.ask.Title, w-8))}
		for _, c := range v.ask.All() {
			for i, l := range ui.Wrap(c.String(), w-12) {
				lead := "    "
				if i == 0 {
					lead = "  ▸ "
				}
				out = append(out, ui.Pad("", 7)+lead+l)
			}
		}
		if v.ask.Ask != "" {
			for _, l := range ui.Wrap(v.ask.Ask, w-8) {
				out = append(out, ui.Pad("", 7)+ui.Strong(l))
			}
		}
		return append(out, ui.Pad("", 7)+ui.Accent("⏎ make this change")+ui.Soft("   esc not now"))
	}
	if v.s.Shown == len(v.s.Attempts) && len(v.s.Pending()) > 0 {
		out := []string{}
		for i, c := range v.s.Pending() {
			section := ""
			if i == 0 {
				section = "done"
			}
			out = append(out, ui.Pad(ui.Strong(section), 7)+ui.Cut(c.String(), w-8))
		}
		out = append(out, ui.Pad("", 7)+ui.Accent("g")+" sends it again")
		return append(out, v.offersPart(x, w)...)
	}
	return v.offersPart(x, w)
}

func (v *View) offersPart(x *exchange.Exchange, w int) []string {
	var out []string
	for i, r := range v.offers(x) {
		if i == 4 {
			out = append(out, ui.Pad("", 7)+ui.Soft("and more: tab"))
			break
		}
		section, lead := "", "  "
		if i == 0 {
			section = "repair"
		}
		costs, below := "", ""
		if len(r.Costs) > 0 {
			costs = ui.Soft("   costs " + r.Costs.Join(", "))
		}
		text := ui.Cut(r.Title, w-10)
		if ui.Width(text)+ui.Width(costs) > w-10 {
			costs, below = "", costs
		}
		switch {
		case r.outdated != nil:
			text = ui.Soft(ui.Cut(r.Title+" · does not fit any more", w-10))
		case i == v.remedy:
			lead = ui.Accent("⏎ ")
			text = ui.Strong(text)
		}
		out = append(out, ui.Pad(ui.Strong(section), 7)+lead+text+costs)
		if below != "" {
			out = append(out, ui.Pad("", 6)+below)
		}
		if r.outdated != nil {
			for _, l := range ui.Wrap(r.outdated.Error(), w-10) {
				out = append(out, ui.Pad("", 9)+ui.Soft(l))
			}
		}
	}
	return out
}
