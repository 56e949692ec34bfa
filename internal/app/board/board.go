// Package board is the first screen: which call works where. Rows are drafts
// by operation, columns are endpoints, a cell is how that call last went.
package board

import (
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// View is the board.
type View struct {
	s    *state.State
	row  int
	col  int
	top  int
	left int
	in   ui.Input

	width int // as it was last shown
}

// New makes the board.
func New(s *state.State) *View {
	v := &View{s: s}
	v.follow()
	return v
}

// table is the board's content: each contract has its own endpoints as columns.
type table struct {
	rows []workspace.DraftRef
	cols map[string][]*workspace.Endpoint // by contract
}

func (v *View) read() table {
	t := table{rows: v.s.Rows(), cols: map[string][]*workspace.Endpoint{}}
	for _, e := range v.s.W.Endpoints {
		if !e.Off {
			t.cols[e.Contract] = append(t.cols[e.Contract], e)
		}
	}
	return t
}

// of are the columns of a row.
func (t table) of(row int) []*workspace.Endpoint { return t.cols[t.rows[row].Contract] }

// follow puts the cursor on the chosen cell.
func (v *View) follow() {
	t := v.read()
	for i, r := range t.rows {
		if r == v.s.Cell.Draft {
			v.row = i
		}
	}
	for i, e := range t.cols[v.s.Cell.Draft.Contract] {
		if e.Name == v.s.Cell.Endpoint {
			v.col = i
		}
	}
}

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.in.Active {
		return []ui.Key{{Show: "⏎", Does: "load it"}, {Show: "esc", Does: "not now"}}
	}
	if len(v.s.W.Contracts) == 0 {
		return []ui.Key{{Press: "enter", Show: "⏎", Does: "type or paste an address"}, {Press: "?", Show: "?", Does: "help"}, {Press: "q", Show: "q", Does: "quit"}}
	}
	return []ui.Key{
		{Press: "up down left right", Show: "↑↓←→", Does: "choose a call"},
		{Press: "enter", Show: "⏎", Does: "open its path"},
		{Press: "g", Show: "g", Does: "go: send it"},
		{Press: "d", Show: "d", Does: "fill in"},
		{Press: "a", Show: "a", Does: "add a description"},
		{Press: "?", Show: "?", Does: "help"},
		{Press: "D", Show: "D", Does: "duplicate the draft", Minor: true},
		{Press: "N", Show: "N", Does: "name the draft anew", Minor: true},
		{Press: "X", Show: "X", Does: "remove the draft (u brings it back)", Minor: true},
		{Show: "paste", Does: "an address, or an envelope to make a draft of", Minor: true},
		{Press: "*", Show: "*", Does: "make this endpoint the default", Minor: true},
	}
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		end, cmd := v.in.Type(msg)
		if end == ui.Kept {
			v.s.Fetch(v.in.Value())
		}
		return cmd
	}
	t := v.read()
	if d := ui.Rows(msg, 10, len(t.rows)); d != 0 {
		v.move(t, d, 0)
	}
	switch msg := msg.(type) {
	case tea.PasteMsg:
		if v.s.Paste(msg.Content) {
			v.follow()
			return nil
		}
		v.in.Start(strings.TrimSpace(msg.Content))
		return nil
	case tea.MouseClickMsg:
		return v.click(msg, t)
	case tea.KeyPressMsg:
		return v.key(msg, t)
	}
	return nil
}

func (v *View) key(k tea.KeyPressMsg, t table) tea.Cmd {
	if ui.Is(k, "a") || len(t.rows) == 0 && ui.Is(k, "enter") {
		v.in.Start("")
		return nil
	}
	if len(t.rows) == 0 {
		return nil
	}
	switch {
	case ui.Is(k, "left"):
		v.move(t, 0, -1)
	case ui.Is(k, "right", "l"):
		v.move(t, 0, 1)
	case ui.Is(k, "enter"):
		if v.s.Cell.Endpoint == "" {
			v.s.Say("no endpoint serves %s", v.s.Cell.Draft.Operation)
			return nil
		}
		if len(v.s.Attempts) == 0 && v.s.Running() == nil && len(v.s.Draft().Unfilled()) > 0 {
			return func() tea.Msg { return state.Goto("draft") }
		}
		return func() tea.Msg { return state.Goto("path") }
	case ui.Is(k, "D"):
		v.s.Duplicate()
		v.follow()
	case ui.Is(k, "N"):
		return func() tea.Msg {
			return state.Ask{Prompt: "name of the draft", Value: v.s.Cell.Draft.Name, Answer: func(name string) {
				v.s.Rename(name)
				v.follow()
			}}
		}
	case ui.Is(k, "X"):
		v.s.Remove()
		v.follow()
	case ui.Is(k, "u"):
		v.s.Restore()
		v.follow()
	case ui.Is(k, "*"):
		if err := v.s.W.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + v.s.Cell.Endpoint + ".default", To: true}); err != nil {
			v.s.Say("%v", err)
		} else {
			v.s.Say("%s is the default now", v.s.Cell.Endpoint)
		}
	}
	return nil
}

// serves tells whether a cell can be.
func (v *View) serves(r workspace.DraftRef, e *workspace.Endpoint) bool {
	for _, x := range v.s.W.Serving(r.Contract, r.Operation) {
		if x == e {
			return true
		}
	}
	return false
}

// move moves the cursor; sideways only to cells that can be.
func (v *View) move(t table, dy, dx int) {
	if len(t.rows) == 0 {
		return
	}
	v.row = min(max(v.row+dy, 0), len(t.rows)-1)
	r, cols := t.rows[v.row], t.of(v.row)
	for c := v.col + dx; dx != 0 && c >= 0 && c < len(cols); c += dx {
		if v.serves(r, cols[c]) {
			v.col = c
			break
		}
	}
	if v.col >= len(cols) || !v.serves(r, cols[v.col]) {
		v.col = 0
		for c, e := range cols {
			if v.serves(r, e) {
				v.col = c
				break
			}
		}
	}
	end := ""
	if v.col < len(cols) && v.serves(r, cols[v.col]) {
		end = cols[v.col].Name
	}
	v.s.Choose(state.Cell{Draft: r, Endpoint: end})
}

const (
	labelWidth = 30
	cellWidth  = 24
)

// columns says how wide the labels are and how many cells fit beside them.
func (v *View) columns(w int) (label, n int) {
	label = min(labelWidth, max(w/3, 16))
	if w >= 140 {
		label += 8
	}
	n = max((w-label-2)/cellWidth, 1)
	v.left = ui.Window(v.col, v.left, n, 1<<20)
	return label, n
}

// shown are the columns of a contract that are in sight.
func (v *View) shown(cols []*workspace.Endpoint, n int) (first int, _ []*workspace.Endpoint) {
	first = max(min(v.left, len(cols)-n), 0)
	return first, cols[first:min(first+n, len(cols))]
}

// line is one row on the screen: a heading or a draft.
type line struct {
	head, op string
	row      int // -1: a heading
}

func lines(t table) []line {
	var out []line
	contract, op := "", ""
	for i, r := range t.rows {
		if r.Contract != contract {
			if len(out) > 0 {
				out = append(out, line{row: -1})
			}
			out = append(out, line{head: r.Contract, row: -1})
			contract, op = r.Contract, ""
		}
		l := line{row: i}
		if r.Operation != op {
			op, l.op = r.Operation, r.Operation
		}
		out = append(out, l)
	}
	return out
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	t := v.read()
	v.width = w
	if len(t.rows) == 0 {
		return v.welcome(w, h)
	}
	v.row = min(v.row, len(t.rows)-1)
	label, n := v.columns(w)
	out := []string{"", "   " + ui.Soft("what works where"), ""}
	all := lines(t)
	at := 0
	for i, l := range all {
		if l.row == v.row {
			at = i
		}
	}
	foot := 4
	room := max(h-len(out)-foot, 1)
	v.top = ui.Window(at, v.top, room, len(all))
	if at <= 2 {
		v.top = 0
	}
	for i := v.top; i < len(all) && i < v.top+room; i++ {
		l := all[i]
		if l.row < 0 {
			head := "   " + ui.Pad(ui.Soft(ui.Cut(l.head, label-2)), label-1)
			first, cols := v.shown(t.cols[l.head], n)
			for _, e := range cols {
				name := ui.Cut(e.Name, cellWidth-4)
				if e.Name == v.s.Cell.Endpoint {
					name = ui.Strong(name)
				} else {
					name = ui.Soft(name)
				}
				if e.Default {
					name += ui.Soft(" *")
				}
				head += " " + ui.Pad(name, cellWidth-1)
			}
			if l.head != "" && first+len(cols) < len(t.cols[l.head]) {
				head = ui.Pad(head, w-3) + ui.Soft("▸")
			}
			out = append(out, head)
			continue
		}
		r := t.rows[l.row]
		mark := "   "
		opw := max(label/2-2, 10)
		op, name := ui.Fit(l.op, opw), ui.Fit(r.Name, label-opw-2)
		if l.row == v.row {
			mark = ui.Accent(" ▌ ")
			op, name = ui.Strong(ui.Fit(r.Operation, opw)), ui.Strong(name)
		}
		text := mark + ui.Pad(op+" "+name, label-1)
		first, cols := v.shown(t.of(l.row), n)
		for c, e := range cols {
			text += v.cell(r, e, l.row == v.row && first+c == v.col)
		}
		out = append(out, text)
	}
	for len(out) < h-foot {
		out = append(out, "")
	}
	out = append(out, v.foot(w)...)
	if v.in.Active {
		out = append(out[:h-foot], "", "   "+ui.Strong("Address or path of a description")+ui.Soft("   its own page will do"), "   "+ui.Accent("› ")+v.in.View(w-8), "")
	}
	return ui.Block(out, w, h)
}

func (v *View) cell(r workspace.DraftRef, e *workspace.Endpoint, chosen bool) string {
	if !v.serves(r, e) {
		return strings.Repeat(" ", cellWidth)
	}
	x := v.s.Latest(state.Cell{Draft: r, Endpoint: e.Name})
	left, right := " ", " "
	if chosen {
		left, right = ui.Accent("‹"), ui.Accent("›")
	}
	tail := ""
	if x != nil {
		switch x.Outcome {
		case exchange.OutcomePassed:
			tail = ui.Soft(exchange.Age(x.Started, time.Now()))
		case exchange.OutcomeStopped:
			tail = x.StoppedAt.String()
		case exchange.OutcomeCancelled:
			tail = ui.Soft("halted")
		}
	}
	return ui.Pad(left+ui.Reach(x)+right+tail, cellWidth)
}

// foot says in words what the chosen cell is, and how it went.
func (v *View) foot(w int) []string {
	c := v.s.Cell
	sig := c.Draft.Operation
	if con, err := v.s.W.Contract(c.Draft.Contract); err == nil {
		if o := state.Operation(con, c.Draft.Operation); o != nil {
			sig = o.Signature()
		}
	}
	how := "not sent yet"
	if c.Endpoint == "" {
		how = "no endpoint serves it"
	} else if x := v.s.Latest(c); x != nil {
		how = x.Result
		if x.Outcome == exchange.OutcomeUnderWay {
			how = "under way"
		}
	}
	set := v.s.W.Settings(c.Endpoint)
	return []string{"", "   " + ui.Cut(sig, w-4), "   " + ui.Soft(ui.Cut(c.Endpoint+"  "+set.Text("address"), max(w/2-4, 10))) + "  " + ui.Cut(how, max(w/2-6, 10)), ""}
}

func (v *View) welcome(w, h int) string {
	out := []string{"", "", "   " + ui.Strong("Which service do you want to call?"), "",
		"   Give the address of its description, or of its own page, or a file:"}
	if v.in.Active {
		out = append(out, "", "   "+ui.Accent("› ")+v.in.View(w-8))
	} else {
		out = append(out, "", "   "+ui.Accent("›")+ui.Soft(" press ⏎ and type, or paste it here"))
	}
	if x := v.s.Fetching; x != nil && len(x.Findings) > 0 {
		f := x.Findings[0]
		out = append(out, "", "   "+ui.Reach(x)+"  "+ui.Strong(ui.Cut(f.Title, w-22)))
		for _, l := range ui.Wrap(f.Why, w-8) {
			out = append(out, "   "+l)
		}
		out = append(out, "", "   "+ui.Strong("p")+ui.Soft(" shows its path, as of any call"))
	}
	return ui.Block(out, w, h)
}

func (v *View) click(m tea.MouseClickMsg, t table) tea.Cmd {
	all := lines(t)
	i := v.top + m.Y - 3
	if i < 0 || i >= len(all) || all[i].row < 0 {
		return nil
	}
	label, n := v.columns(v.width)
	v.row = all[i].row
	first, cols := v.shown(t.of(v.row), n)
	if c := (m.X - label - 2) / cellWidth; m.X > label+2 && c < len(cols) && v.serves(t.rows[v.row], cols[c]) {
		v.col = first + c
	}
	before := v.s.Cell
	v.move(t, 0, 0)
	if v.s.Cell == before {
		return func() tea.Msg { return state.Goto("path") }
	}
	return nil
}
