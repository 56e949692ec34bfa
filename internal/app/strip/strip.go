// Package strip shows the raw bytes of an exchange in the order in which they
// crossed the wire, out and in, with their times.
package strip

import (
	"bytes"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
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
	return []ui.Key{{Press: "up down", Show: "↑↓", Does: "scroll"}, {Press: "m", Show: "m", Does: "next evidence"}, {Press: "/", Show: "/", Does: "search"}, {Press: "n", Show: "n", Does: "next hit"},
		{Press: "x", Show: "x", Does: "show or mask secrets"}, {Press: "p", Show: "p", Does: "path"}, {Press: "?", Show: "?", Does: "help"},
		{Press: "home end", Show: "Home End", Does: "first and last line", Minor: true}, {Press: "left right", Show: "← →", Does: "long lines", Minor: true}}
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		end, cmd := v.in.Type(msg)
		if end == ui.Kept {
			v.find, v.hit = []byte(v.in.Value()), -1
			v.next()
		}
		return cmd
	}
	if d := ui.Rows(msg, v.height, len(v.ix.lines)); d != 0 {
		v.scroll(d)
	}
	if msg, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case ui.Is(msg, "space"):
			v.scroll(v.height)
		case ui.Is(msg, "end"):
			v.tail = true
		case ui.Is(msg, "left"):
			v.side = max(v.side-20, 0)
		case ui.Is(msg, "right"):
			v.side += 20
		case ui.Is(msg, "/"):
			v.in.Start(string(v.find))
		case ui.Is(msg, "n"):
			v.next()
		case ui.Is(msg, "m"):
			v.nextMark()
		case ui.Is(msg, "x"):
			v.s.Reveal = !v.s.Reveal
			v.ix = index{}
		case ui.Is(msg, "esc"):
			return func() tea.Msg { return state.Goto("path") }
		}
	}
	return nil
}

func (v *View) scroll(d int) {
	v.tail = false
	v.top = min(max(v.top+d, 0), max(len(v.ix.lines)-v.height, 0))
}

// next goes to the next line with what is searched for, from the top again
// after the last.
func (v *View) next() {
	if len(v.find) == 0 {
		v.s.Say("/ searches")
		return
	}
	x := v.s.Exchange()
	for i := range v.ix.lines {
		at := (v.hit + 1 + i) % len(v.ix.lines)
		if bytes.Contains(v.bytes(x, &v.ix.lines[at]), v.find) {
			v.hit = at
			v.show(at)
			return
		}
	}
	v.s.Say("%q is not in these bytes", v.find)
}

func (v *View) nextMark() {
	for i := range v.ix.lines {
		at := (max(v.hit, -1) + 1 + i) % len(v.ix.lines)
		if v.ix.lines[at].mark {
			v.hit = at
			v.show(at)
			return
		}
	}
	v.s.Say("no finding points at these bytes")
}

func (v *View) show(at int) {
	v.tail = false
	v.top = min(max(at-v.height/3, 0), max(len(v.ix.lines)-v.height, 0))
}

func (v *View) bytes(x *exchange.Exchange, l *line) []byte {
	if l.leg < 1 || int(l.leg) > len(x.Legs) {
		return nil
	}
	src := x.Legs[l.leg-1].Out
	if l.dir == exchange.In {
		src = x.Legs[l.leg-1].In
	}
	if l.to > int64(len(src)) {
		return nil
	}
	return src[l.from:l.to]
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	x := v.s.Exchange()
	v.ix.follow(x)
	var out, in int64
	for _, l := range x.Legs {
		out, in = out+int64(len(l.Out)), in+int64(len(l.In))
	}
	head := []string{"", "   " + ui.Strong(ui.Cut(x.Operation+" → "+x.Endpoint, w/2)) + ui.Soft(fmt.Sprintf("   %s B out · %s B in", diagnose.Bytes(out), diagnose.Bytes(in))), ""}
	v.height = h - len(head) - 1
	if v.tail {
		v.top = max(len(v.ix.lines)-v.height, 0)
		if x.Outcome != exchange.OutcomeUnderWay {
			v.top, v.tail = 0, false
			for i := range v.ix.lines { // what ended is looked at from its evidence on
				if v.ix.lines[i].mark {
					v.top = min(max(i-v.height/2, 0), max(len(v.ix.lines)-v.height, 0))
					break
				}
			}
		}
	}
	v.top = min(v.top, max(len(v.ix.lines)-v.height, 0))
	if len(v.ix.lines) == 0 {
		return ui.Block(append(head, "   "+ui.Soft("nothing has crossed the wire: g sends the call")), w, h)
	}
	rows := head
	for i := v.top; i < len(v.ix.lines) && i < v.top+v.height; i++ {
		rows = append(rows, v.line(x, i, w))
	}
	for len(rows) < h-1 {
		rows = append(rows, "")
	}
	foot := ui.Soft(fmt.Sprintf("   line %s of %s", diagnose.Bytes(int64(v.top+1)), diagnose.Bytes(int64(len(v.ix.lines)))))
	if v.in.Active {
		foot = "   " + ui.Accent("/ ") + v.in.View(w-8)
	}
	return ui.Block(append(rows, foot), w, h)
}

func (v *View) line(x *exchange.Exchange, i, w int) string {
	l := &v.ix.lines[i]
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
