// Package strip shows the raw bytes of an exchange in the order in which they
// crossed the wire, out and in, with their times.
package strip

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/crossed"
	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// View is the strip.
type View struct {
	ui.Bar

	s      *state.State
	ix     crossed.Lines
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
	v.ix = crossed.Lines{}
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

// Open implements the application's opener: what has ended is opened at the stage that the
// path looks at.
func (v *View) Open() tea.Cmd {
	x := v.s.Exchange()
	if x.Outcome == exchange.OutcomeUnderWay {
		return nil
	}
	v.ix.Follow(x)
	from, to := v.ix.Of(x, v.s.Stage)
	if to <= from {
		return nil
	}
	at := v.ix.Marked(from)
	if at < from || at >= to {
		at = from
	}
	v.tail, v.top = false, max(at-v.height/3, 0)
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
	if d := ui.Rows(msg, v.height, v.ix.Count()); d != 0 {
		v.scroll(d)
	}
	if f, ok := msg.(found); ok && f.of == v.s.Exchange().ID {
		if f.line < 0 {
			v.s.Say("%q is not in these bytes", v.find)
			return nil
		}
		v.s.Say("%q is at line %s", v.find, endpoint.Bytes(int64(f.line+1)))
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
	v.top = min(max(v.top+d, 0), max(v.ix.Count()-v.height, 0))
}

// next goes to the next line with what is searched for, from the top again
// after the last.
func (v *View) next() tea.Cmd {
	if len(v.find) == 0 {
		v.s.Say("/ searches")
		return nil
	}
	x := v.s.Exchange()
	search := v.ix.Search(x, v.find, v.hit)
	if n := v.ix.OnDisk(); n > 0 {
		v.s.Say("searching %s bytes …", endpoint.Bytes(n))
		return func() tea.Msg { return found{x.ID, search()} }
	}
	at := search()
	if at < 0 {
		v.s.Say("%q is not in these bytes", v.find)
		return nil
	}
	v.hit = at
	v.show(at)
	if nth, total := v.ix.Hits(x, v.find, at); total > 0 {
		v.s.Say("%q: %d of %d, at line %s", v.find, nth, total, endpoint.Bytes(int64(at+1)))
	}
	return nil
}

// found is where a search in the background ended; below zero nothing was found.
type found struct {
	of   string
	line int
}

func (v *View) nextMark() {
	if at := v.ix.Marked(max(v.hit, -1) + 1); at >= 0 {
		v.hit = at
		v.show(at)
		return
	}
	v.s.Say("no finding points at these bytes")
}

func (v *View) show(at int) {
	v.tail = false
	v.top = min(max(at-v.height/3, 0), max(v.ix.Count()-v.height, 0))
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	x := v.s.Exchange()
	v.ix.Follow(x)
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
		v.top = max(v.ix.Count()-v.height, 0)
		if x.Outcome != exchange.OutcomeUnderWay {
			v.top, v.tail = 0, false
			if i := v.ix.Marked(0); i >= 0 { // what ended is looked at from its evidence on
				v.top = min(max(i-v.height/2, 0), max(v.ix.Count()-v.height, 0))
			}
		}
	}
	v.top = min(v.top, max(v.ix.Count()-v.height, 0))
	if v.ix.Count() == 0 {
		return ui.Block(append(head, "   "+ui.Soft("nothing has crossed the wire: g sends the call")), w, h)
	}
	rows := head
	n := v.ix.Count()
	v.Bar = ui.Bar{First: len(head), Height: v.height, Lines: n, At: v.top, Count: n - v.height + 1}
	for i := v.top; i < v.ix.Count() && i < v.top+v.height; i++ {
		rows = append(rows, v.ix.Draw(x, i, crossed.Look{Width: w, Side: v.side, Reveal: v.s.Reveal, Hit: i == v.hit}))
	}
	for len(rows) < h-1 {
		rows = append(rows, "")
	}
	foot := ui.Soft(
		fmt.Sprintf("   line %s of %s", endpoint.Bytes(int64(v.top+1)), endpoint.Bytes(int64(v.ix.Count()))),
	)
	if v.in.Active {
		foot = "   " + ui.Accent("/ ") + v.in.View(w-8)
	}
	return ui.Block(append(rows, foot), w, h)
}
