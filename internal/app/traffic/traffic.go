// Package traffic lists every exchange as it happens, one line each with its
// reach.
package traffic

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// View is the traffic view.
type View struct {
	s      *state.State
	cursor int
	top    int
	height int
	in     ui.Input
	filter string
	marked []string // ids that are to be compared
}

// New makes the traffic view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.in.Active {
		return []ui.Key{{Show: "⏎", Does: "filter"}, {Show: "esc", Does: "all of it"}}
	}
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("enter", "⏎", "open its path", ui.Asks(v.open)),
		ui.On("space", "space", "mark", ui.Do(v.mark)),
		ui.On("=", "=", "compare the two marked", ui.Asks(v.compare)).If(len(v.marked) == 2),
		ui.On("D", "D", "make a draft of it", ui.Asks(v.draft)),
		ui.On("/", "/", "filter", ui.Do(func() { v.in.Start(v.filter) })),
		ui.On("esc", "esc", "board", state.To("board")),
		ui.Shown("?", "?", "help"),
	}
}

// chosen is the exchange under the cursor, nil where the list is empty.
func (v *View) chosen() *exchange.Exchange {
	list := v.list()
	if v.cursor >= len(list) {
		return nil
	}
	return list[v.cursor]
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	x := v.chosen()
	if x == nil {
		return nil
	}
	out := []ui.Copy{ui.Text("its id", x.ID), ui.Text("its line", text(x)+"  "+x.Ending()+"  "+x.Result)}
	if c := x.Cause(); c != nil {
		out = append(out, ui.Text("its cause", c.Title+" ("+c.ID+")"))
	}
	return out
}

func (v *View) open() tea.Cmd {
	x := v.chosen()
	if x == nil {
		return nil
	}
	v.s.Open(x)
	return func() tea.Msg { return state.Goto("path") }
}

// mark marks the exchange for comparing, or not; of three the first gives way.
func (v *View) mark() {
	x := v.chosen()
	if x == nil {
		return
	}
	if i := slices.Index(v.marked, x.ID); i >= 0 {
		v.marked = slices.Delete(v.marked, i, i+1)
		return
	}
	const two = 2
	if v.marked = append(v.marked, x.ID); len(v.marked) > two {
		v.marked = v.marked[1:]
	}
}

// compare compares the two that are marked: the older one is a, or the one that passed.
func (v *View) compare() tea.Cmd {
	a, b := v.marked[0], v.marked[1]
	if a > b { // ids sort by time
		a, b = b, a
	}
	for _, x := range v.s.Traffic() {
		if x.ID == b && x.Outcome == exchange.OutcomePassed {
			for _, y := range v.s.Traffic() {
				if y.ID == a && y.Outcome != exchange.OutcomePassed {
					a, b = b, a
				}
			}
			break
		}
	}
	v.s.Compare(a, b)
	return func() tea.Msg { return state.Goto("compare") }
}

func (v *View) draft() tea.Cmd {
	if x := v.chosen(); x == nil || !v.s.DraftOf(x) {
		return nil
	}
	return func() tea.Msg { return state.Goto("draft") }
}

func (v *View) list() []*exchange.Exchange {
	all := v.s.Traffic()
	if v.filter == "" {
		return all
	}
	var out []*exchange.Exchange
	f := strings.ToLower(v.filter)
	for _, x := range all {
		if strings.Contains(strings.ToLower(text(x)+" "+x.Result), f) {
			out = append(out, x)
		}
	}
	return out
}

func text(x *exchange.Exchange) string {
	s := x.Operation
	if x.Draft != "" {
		s += " · " + x.Draft
	}
	switch x.Kind {
	case "relay":
		s = "relay: " + s
	case "log-in":
		return s
	}
	return s + " → " + x.Endpoint
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		end, cmd := v.in.Type(msg)
		switch end {
		case ui.Kept:
			v.filter, v.cursor = v.in.Value(), 0
		case ui.Dropped:
			v.filter, v.cursor = "", 0
		}
		return cmd
	}
	list := v.list()
	v.cursor = min(max(v.cursor+ui.Rows(msg, v.height, len(list)), 0), max(len(list)-1, 0))
	if msg, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), msg)
	}
	return nil
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	list := v.list()
	v.cursor = min(v.cursor, max(len(list)-1, 0))
	title := ui.Strong("exchanges") + ui.Soft(fmt.Sprintf("   %d", len(list)))
	if v.in.Active {
		title += "   " + ui.Accent("/ ") + v.in.View(min(w-40, 40))
	} else if v.filter != "" {
		title += ui.Soft("   with “" + ui.Cut(v.filter, 30) + "”")
	}
	rows := []string{"", "   " + title, ""}
	v.height = h - len(rows) - 1
	v.top = ui.Window(v.cursor, v.top, v.height, len(list))
	name := max(min(w/3, 46), 20)
	for i := v.top; i < len(list) && i < v.top+v.height; i++ {
		x := list[i]
		lead, sign := "  ", " "
		label := ui.Fit(text(x), name)
		if i == v.cursor {
			lead, label = ui.Accent(" ▌"), ui.Strong(label)
		}
		if slices.Contains(v.marked, x.ID) {
			sign = ui.Accent("+")
		}
		lead += sign
		where, size := "", ""
		switch x.Outcome {
		case exchange.OutcomeStopped:
			where = x.StoppedAt.String()
		case exchange.OutcomeUnderWay:
			where = "under way"
		case exchange.OutcomeCancelled:
			where = "halted"
		}
		if n := journal.ReplySize(x); n > 0 {
			size = endpoint.Bytes(n) + " B"
		}
		rows = append(
			rows,
			lead+ui.Soft(ui.Pad(exchange.Age(x.Started, time.Now()), 6))+label+"  "+ui.Reach(x)+"  "+ui.Fit(
				where,
				10,
			)+ui.Soft(fmt.Sprintf("%8s %12s  ", exchange.Took(x.TotalNs), size))+ui.Cut(x.Result, max(w-name-67, 0)),
		)
	}
	if len(list) == 0 {
		rows = append(rows, "   "+ui.Soft("nothing was sent yet"))
	}
	return ui.Block(rows, w, h)
}
