// Package strip shows the raw bytes of an exchange in the order in which they
// crossed the wire, out and in, with their times.
package strip

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// View is the strip.
type View struct {
	s      *state.State
	ix     index
	top    int
	height int
	tail   bool // follows what comes
	in     ui.Input
	find   []byte
	hit    int
	side   int // cells scrolled to the right
}

// New makes the strip view.
func New(s *state.State) *View { return &View{s: s, tail: true, hit: -1} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.in.Active {
		return []ui.Key{{Show: "⏎", Does: "search"}, {Show: "esc", Does: "not now"}}
	}
	return []ui.Key{
		ui.Shown("up down", "↑↓", "scroll"),
		ui.On("]", "]", "next evidence", ui.Do(v.nextMark)),
		ui.On("/", "/", "search", ui.Do(func() { v.in.Start(string(v.find)) })),
		ui.On("n", "n", "next hit", ui.Asks(v.next)),
		ui.On("H", "H", "show or mask secrets", ui.Do(v.reveal)),
		ui.Shown("p", "p", "path"),
		ui.Shown("?", "?", "help"),
		ui.On("end", "Home End", "first and last line", ui.Do(v.end)).InHelp(),
		ui.On("left right", "← →", "long lines", v.sideways).InHelp(),
		ui.On("esc", "esc", "path", state.To("path")).InHelp(),
	}
}

// Copies implements ui.Copier: the messages as they crossed, masked unless secrets are shown.
func (v *View) Copies() (out []ui.Copy) {
	x := v.s.Exchange()
	if !v.s.Reveal {
		x = x.Redact(nil)
	}
	l := x.Leg()
	if l == nil {
		return nil
	}
	if b := l.ResponseBody; !b.IsZero() {
		out = append(out, ui.Copy{What: "the answer's body", Text: func() string { return string(b.Bytes()) }})
	}
	if b := l.RequestBody; len(b) > 0 {
		out = append(out, ui.Copy{What: "the request's body", Text: func() string { return string(b) }})
	}
	head := func(what, line string, fields []exchange.Header) {
		if line != "" {
			text := line + "\n"
			for _, f := range fields {
				text += f.Name + ": " + f.Value + "\n"
			}
			out = append(out, ui.Text(what, text))
		}
	}
	head("the answer's head", l.Response.Line, l.Response.Fields)
	head("the request's head", l.Request.Line, l.Request.Fields)
	return out
}

// reveal shows secrets, or masks them.
func (v *View) reveal() {
	v.s.Reveal = !v.s.Reveal
	v.ix = index{}
}

// end follows what comes: what has ended is not followed.
func (v *View) end() { v.tail = v.s.Exchange().Outcome == exchange.OutcomeUnderWay }

// sideways moves along lines that are wider than the screen.
func (v *View) sideways(k tea.KeyPressMsg) tea.Cmd {
	v.side += 20
	if ui.Is(k, "left") {
		v.side = max(v.side-40, 0)
	}
	return nil
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		end, cmd := v.in.Type(msg)
		if end == ui.Kept {
			v.find, v.hit = []byte(v.in.Value()), -1
			return v.next()
		}
		return cmd
	}
	if d := ui.Rows(msg, v.height, v.ix.count()); d != 0 {
		v.scroll(d)
	}
	if f, ok := msg.(found); ok && f.of == v.ix.id {
		if f.line < 0 {
			v.s.Say("%q is not in these bytes", v.find)
			return nil
		}
		v.s.Say("")
		v.hit = f.line
		v.show(f.line)
	}
	if msg, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), msg)
	}
	return nil
}

func (v *View) scroll(d int) {
	v.tail = false
	v.top = min(max(v.top+d, 0), max(v.ix.count()-v.height, 0))
}

// next goes to the next line with what is searched for, from the top again
// after the last.
func (v *View) next() tea.Cmd {
	if len(v.find) == 0 {
		v.s.Say("/ searches")
		return nil
	}
	x := v.s.Exchange()
	if r := v.ix.run; r.count() > 0 {
		return v.nextOnDisk(x)
	}
	for i := range v.ix.lines {
		at := (v.hit + 1 + i) % len(v.ix.lines)
		if bytes.Contains(v.bytes(x, &v.ix.lines[at]), v.find) {
			v.hit = at
			v.show(at)
			return nil
		}
	}
	v.s.Say("%q is not in these bytes", v.find)
	return nil
}

// found is where a search in the background ended; below zero nothing was found.
type found struct {
	of   string
	line int
}

// nextOnDisk searches what is on disk apart from the program's loop: from the
// line after the last hit to the end, then from the beginning.
func (v *View) nextOnDisk(x *exchange.Exchange) tea.Cmd {
	ix, find, hit := v.ix, bytes.Clone(v.find), v.hit
	r, l := *ix.run, x.Legs[ix.run.leg-1]
	v.s.Say("searching %s bytes …", endpoint.Bytes(r.end))
	explicit := func(from, to int) int {
		for i := max(from, 0); i < min(to, len(ix.lines)); i++ {
			if bytes.Contains(v.bytes(x, &ix.lines[i]), find) {
				return i
			}
		}
		return -1
	}
	begin := r.starts[0].off
	look := func(all []byte) int {
		for pass := range 2 {
			from := hit + 1
			if pass == 1 {
				from = 0
			}
			if i := explicit(from, r.after); i >= 0 {
				return i
			}
			off := begin
			if from > r.after && from-r.after < r.count() {
				off = r.line(all, from-r.after).from
			}
			if from <= r.after+r.count() {
				if n := bytes.Index(all[off:r.end], find); n >= 0 {
					return r.after + r.of(all, off+int64(n))
				}
			}
			if i := explicit(max(r.after, from-r.count()), len(ix.lines)); i >= 0 {
				return i + r.count()
			}
		}
		return -1
	}
	return func() tea.Msg {
		at := -1
		_ = l.In.Use(func(all []byte) error {
			at = look(all)
			return nil
		})
		return found{x.ID, at}
	}
}

func (v *View) nextMark() {
	if at := v.marked(max(v.hit, -1) + 1); at >= 0 {
		v.hit = at
		v.show(at)
		return
	}
	v.s.Say("no finding points at these bytes")
}

// marked is the first marked line from one on, from the top again after the
// last; -1 where there is none.
func (v *View) marked(from int) int {
	var all []int
	n := v.ix.run.count()
	for i := range v.ix.lines {
		if v.ix.lines[i].mark {
			if n > 0 && i >= v.ix.run.after {
				i += n
			}
			all = append(all, i)
		}
	}
	if n > 0 {
		for j := range v.ix.run.marked {
			all = append(all, v.ix.run.after+j)
		}
	}
	slices.Sort(all)
	for _, i := range all {
		if i >= from {
			return i
		}
	}
	if len(all) > 0 {
		return all[0]
	}
	return -1
}

func (v *View) show(at int) {
	v.tail = false
	v.top = min(max(at-v.height/3, 0), max(v.ix.count()-v.height, 0))
}

func (v *View) bytes(x *exchange.Exchange, l *line) []byte {
	if l.leg < 1 || int(l.leg) > len(x.Legs) {
		return nil
	}
	if l.dir == exchange.In {
		return x.Legs[l.leg-1].In.Range(l.from, l.to)
	}
	if src := x.Legs[l.leg-1].Out; l.to <= int64(len(src)) {
		return src[l.from:l.to]
	}
	return nil
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	x := v.s.Exchange()
	v.ix.follow(x)
	var out, in int64
	for _, l := range x.Legs {
		out, in = out+int64(len(l.Out)), in+max(l.In.Len(), l.Whole)
	}
	head := []string{
		"",
		"   " + ui.Strong(ui.Cut(x.Operation+" → "+x.Endpoint, w/2)) + ui.Soft(
			fmt.Sprintf("   %s B out · %s B in", endpoint.Bytes(out), endpoint.Bytes(in)),
		),
		"",
	}
	v.height = h - len(head) - 1
	if v.tail {
		v.top = max(v.ix.count()-v.height, 0)
		if x.Outcome != exchange.OutcomeUnderWay {
			v.top, v.tail = 0, false
			if i := v.marked(0); i >= 0 { // what ended is looked at from its evidence on
				v.top = min(max(i-v.height/2, 0), max(v.ix.count()-v.height, 0))
			}
		}
	}
	v.top = min(v.top, max(v.ix.count()-v.height, 0))
	if v.ix.count() == 0 {
		return ui.Block(append(head, "   "+ui.Soft("nothing has crossed the wire: g sends the call")), w, h)
	}
	rows := head
	for i := v.top; i < v.ix.count() && i < v.top+v.height; i++ {
		rows = append(rows, v.line(x, i, w))
	}
	for len(rows) < h-1 {
		rows = append(rows, "")
	}
	foot := ui.Soft(
		fmt.Sprintf("   line %s of %s", endpoint.Bytes(int64(v.top+1)), endpoint.Bytes(int64(v.ix.count()))),
	)
	if v.in.Active {
		foot = "   " + ui.Accent("/ ") + v.in.View(w-8)
	}
	return ui.Block(append(rows, foot), w, h)
}

func (v *View) line(x *exchange.Exchange, i, w int) string {
	one := v.ix.at(x, i)
	l := &one
	at := ""
	if l.at >= 0 {
		at = fmt.Sprintf("%.1f ms", float64(l.at)/1e6)
	}
	lead := fmt.Sprintf("%11s  ", at)
	if l.note != "" {
		text := ui.Soft("·  " + ui.Cut(l.note, w-24))
		if l.stop {
			text = ui.Accent("◂  " + ui.Cut(l.note, w-24))
		}
		return ui.Soft(lead) + text
	}
	dir := "out"
	if l.dir == exchange.In {
		dir = "in "
	}
	if l.at < 0 {
		dir = "   "
	}
	b := v.masked(x, l)
	text := strings.TrimRight(string(b), "\r\n")
	if v.side > 0 {
		r := []rune(text)
		text = string(r[min(v.side, len(r)):])
	}
	room := w - 20
	tail := ""
	if l.mark {
		tail = ui.Accent(" ◂ evidence")
		room -= 11
	}
	cut := ui.Cut(text, room)
	if l.mark || i == v.hit {
		cut = ui.Strong(cut)
	} else if l.dir == exchange.Out {
		cut = ui.Soft(cut)
	}
	return ui.Soft(lead+dir+"  ") + cut + tail
}

// masked are the bytes of a line with the secrets in them hidden.
func (v *View) masked(x *exchange.Exchange, l *line) []byte {
	b := v.bytes(x, l)
	if v.s.Reveal || l.dir != exchange.Out {
		return b
	}
	for _, s := range x.Legs[l.leg-1].SecretSpans {
		if s.Offset < l.to && s.Offset+s.Length > l.from {
			b = bytes.Clone(b)
			for k := max(s.Offset, l.from); k < min(s.Offset+s.Length, l.to); k++ {
				b[k-l.from] = exchange.Masked
			}
		}
	}
	return b
}
