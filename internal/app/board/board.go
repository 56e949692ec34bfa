// Package board is the first screen: which call works where. Rows are drafts
// by operation, columns are endpoints, a cell is how that call last went.
package board

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// View is the board.
type View struct {
	ui.Bar

	s    *state.State
	top  int
	left int
	in   ui.Input

	turned bool              // columns are environments, not endpoints
	over   map[string]string // by contract: the endpoint whose environments are the columns
	filter string            // words that a row must hold; @word for columns
	asks   asks
	offer  int             // which of the offers of a fetch is at the cursor
	away   bool            // the line of the empty page was left: keys are keys
	typed  []string        // places that were typed, the oldest first
	back   int             // how far one went back in them
	folded map[string]bool // contracts

	width int // as it was last shown
}

// asks is what a line is typed for.
type asks uint8

const (
	forSource asks = iota
	forFilter
)

// New makes the board.
func New(s *state.State) *View {
	return &View{s: s, over: map[string]string{}, folded: map[string]bool{}}
}

// table is the board's content: each contract has its own endpoints as columns,
// or the environments of one of them.
type table struct {
	rows []workspace.DraftRef
	cols map[string][]column // by contract
}

// column is an endpoint, in an environment.
type column struct {
	end *workspace.Endpoint
	env string
}

// read makes the table of what the filter lets through. Rows of a folded
// contract are left out but for the first, which stands for all.
func (v *View) read() table {
	t := table{cols: map[string][]column{}}
	var words, of []string
	for _, word := range strings.Fields(strings.ToLower(v.filter)) {
		if name, ok := strings.CutPrefix(word, "@"); ok {
			of = append(of, name)
		} else {
			words = append(words, word)
		}
	}
	holds := func(text string, words []string) bool {
		return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(strings.ToLower(text), w) })
	}
	shown := map[string]bool{}
	for _, r := range v.s.Rows() {
		if !holds(r.Contract+" "+r.Operation+" "+r.Name, words) || v.folded[r.Contract] && shown[r.Contract] {
			continue
		}
		shown[r.Contract] = true
		t.rows = append(t.rows, r)
	}
	for _, e := range v.s.W.Config().Endpoints {
		switch {
		case e.Off:
		case !v.turned:
			if holds(e.Name, of) {
				t.cols[e.Contract] = append(t.cols[e.Contract], column{e, v.s.Environment})
			}
		case v.over[e.Contract] == e.Name || v.over[e.Contract] == "" && t.cols[e.Contract] == nil:
			for _, env := range v.s.W.Config().Environments {
				if holds(env.Name, of) {
					t.cols[e.Contract] = append(t.cols[e.Contract], column{e, env.Name})
				}
			}
		}
	}
	return t
}

// of are the columns of a row.
func (t table) of(row int) []column { return t.cols[t.rows[row].Contract] }

// at is where the chosen cell stands: its row, -1 where the filter hides it, and its
// column, -1 where no endpoint of the row is chosen. What is chosen is one value, the
// state's: what is drawn as chosen, and what keys act on, are both made of it.
func (v *View) at(t table) (row, col int) {
	row, col = -1, -1
	for i, r := range t.rows {
		if r == v.s.Chosen.Draft || v.folded[r.Contract] && r.Contract == v.s.Chosen.Draft.Contract {
			row = i
		}
	}
	if row < 0 {
		return row, col
	}
	for i, c := range t.of(row) {
		if c.end.Name == v.s.Chosen.Endpoint && (!v.turned || c.env == v.s.Environment) {
			col = i
		}
	}
	return row, col
}

// chosen is the chosen cell with its column; false where it is not in sight, or none
// can be there.
func (v *View) chosen(t table) (state.Target, bool) {
	row, col := v.at(t)
	if row < 0 || col < 0 || !v.serves(t.rows[row], t.of(row)[col].end) {
		return state.Target{}, false
	}
	return target(t.rows[row], t.of(row)[col]), true
}

// turn lets the columns be the environments of the chosen endpoint, or the
// endpoints again.
func (v *View) turn() {
	if !v.turned && len(v.s.W.Config().Environments) == 0 {
		v.s.Say("the workspace has no environments to turn to")
		return
	}
	v.turned = !v.turned
	v.left = 0
	if v.turned && v.s.Chosen.Endpoint != "" {
		v.over[v.s.Chosen.Draft.Contract] = v.s.Chosen.Endpoint
	}
	v.move(v.read(), 0, 0)
}

func target(r workspace.DraftRef, c column) state.Target {
	return state.Target{CallKey: state.CallKey{Draft: r, Endpoint: c.end.Name}, Environment: c.env}
}

// markRow marks all cells of the row that can be, or takes their marks back.
func (v *View) markRow(t table) {
	row, _ := v.at(t)
	if row < 0 {
		return
	}
	r := t.rows[row]
	var all []state.Target
	for _, c := range t.of(row) {
		if v.serves(r, c.end) {
			all = append(all, target(r, c))
		}
	}
	missing := slices.ContainsFunc(all, func(x state.Target) bool { return !v.s.Marked[x] })
	for _, x := range all {
		if v.s.Marked[x] != missing {
			v.s.Mark(x)
		}
	}
}

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active || v.Waits() }

// Waits tells whether the empty page waits for the place of a description: every letter is
// text then. A fetch that failed is looked into with keys.
func (v *View) Waits() bool { return v.empty() && !v.away && v.s.Fetching == nil }

// empty tells whether the workspace has no description yet: then what is typed is the
// place of one.
func (v *View) empty() bool { return len(v.s.W.Config().Contracts) == 0 }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.in.Active {
		if v.asks == forFilter {
			return []ui.Key{
				{Show: "⏎", Does: "show these"},
				{Show: "@name", Does: "columns"},
				{Show: "esc", Does: "show all"},
			}
		}
		return []ui.Key{
			{Show: "⏎", Does: "load it"}, {Show: "tab", Does: "complete"}, {Show: "↑", Does: "typed before"},
			{Show: "esc", Does: "not now"},
		}
	}
	if v.Waits() {
		return []ui.Key{
			{Show: "abc", Does: "type an address or a file"}, {Show: "↑", Does: "typed before"},
			{Show: "esc", Does: "other keys"}, {Show: "ctrl+c", Does: "leave"},
		}
	}
	if offers := v.offers(); v.empty() && len(offers) > 0 {
		return []ui.Key{
			ui.On("up", "↑↓", "choose", ui.Do(func() { v.offer = max(v.offer-1, 0) })),
			ui.On("down", "", "", ui.Do(func() { v.offer = min(v.offer+1, len(offers)-1) })),
			ui.On("enter", "⏎", "take it", ui.Do(func() { v.takeOffer(offers) })),
			ui.On("a", "a", "another address", ui.Do(func() { v.away = false; v.add() })),
			ui.Shown("p", "p", "path"),
			ui.Shown("?", "?", "help"),
			ui.Shown("q", "q", "quit"),
		}
	}
	if v.empty() {
		return []ui.Key{
			ui.On("enter a", "⏎", "type or paste an address", ui.Do(func() { v.away = false; v.add() })),
			ui.Shown("?", "?", "help"),
			ui.Shown("q", "q", "quit"),
		}
	}
	going := "go: send it"
	if n := len(v.s.Marked); n > 0 {
		going = fmt.Sprintf("go: send the %d marked", n)
	}
	axis := "environments as columns"
	if v.turned {
		axis = "endpoints as columns"
	}
	one := len(v.read().rows) > 0
	keys := []ui.Key{
		ui.On("left right l", "↑↓←→", "choose a call", v.across).If(one),
		ui.On("enter", "⏎", "open its path", ui.Asks(v.open)),
		ui.Shown("g", "g", going),
		ui.Shown("d", "d", "fill in"),
		ui.On("space", "space", "mark", ui.Do(v.mark)).If(one),
		ui.On("x", "x", axis, ui.Do(v.turn)).If(one),
		ui.On("/", "/", "filter", ui.Do(v.startFilter)),
		ui.On("a", "a", "add a description", ui.Do(v.add)),
		ui.Shown("?", "?", "help"),
	}
	switch {
	case v.filter != "":
		keys = append(keys, ui.On("esc", "esc", "show all", ui.Do(func() { v.filter = "" })).InHelp())
	case len(v.s.Marked) > 0:
		keys = append(keys, ui.On("esc", "esc", "take all marks off", ui.Do(func() { clear(v.s.Marked) })).InHelp())
	}
	return append(keys, v.lesserKeys(one)...)
}

// lesserKeys are those that stand in the help page only. one is false where no
// draft is in sight.
func (v *View) lesserKeys(one bool) []ui.Key {
	rows := []ui.Key{
		ui.On("D", "D", "duplicate the draft", ui.Do(v.s.Duplicate)),
		ui.On("R", "R", "rename the draft", ui.Asks(v.rename)),
		ui.On("X", "X", "remove the draft", ui.Do(v.s.Remove)),
		ui.Shown("", "paste", "an address, or an envelope to make a draft of"),
		ui.On("*", "*", "make this endpoint the default", ui.Do(v.setDefault)),
		ui.On("M", "M", "mark the whole row, or not", ui.Do(func() { v.markRow(v.read()) })),
		ui.On("z", "z", "fold the contract, or unfold it", ui.Do(v.fold)),
		ui.On("!", "!", "the draft changes things at the service, or not", ui.Do(v.s.ToggleChanges)),
	}
	for i := range rows {
		rows[i] = rows[i].InHelp().If(one)
	}
	return rows
}

// Copies implements ui.Copier.
func (v *View) Copies() (out []ui.Copy) {
	c := v.s.Chosen
	if line := v.s.CallLine(); line != "" {
		out = append(out, ui.Text("the orenda call line", line))
	}
	if address, err := v.s.W.Resolved(c.Endpoint, v.s.Environment); err == nil {
		out = append(out, ui.Text("the address", address))
	}
	if con, err := v.s.W.Contract(c.Draft.Contract); err == nil {
		if o := state.Operation(con, c.Draft.Operation); o != nil {
			out = append(out, ui.Text("the signature", o.Signature()))
		}
	}
	return out
}

// offers are the repairs of a fetch that failed which cost nothing: the descriptions that
// a page leads to, another path.
func (v *View) offers() (out []exchange.Remedy) {
	x := v.s.Fetching
	if x == nil || len(x.Findings) == 0 {
		return nil
	}
	for _, r := range x.Findings[0].Remedies {
		if len(r.Costs) == 0 && r.Ask == "" {
			out = append(out, r)
		}
	}
	return out
}

// takeOffer repairs the fetch, and does it again.
func (v *View) takeOffer(offers []exchange.Remedy) {
	r := offers[min(v.offer, len(offers)-1)]
	v.offer = 0
	if err := v.s.ApplyRemedy(&r); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.FetchAgain()
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if k, ok := msg.(tea.KeyPressMsg); ok && !v.in.Active && v.Waits() {
		if ui.Is(k, "esc") {
			v.away = true
			return nil
		}
		v.add()
	}
	switch msg := msg.(type) {
	case ui.Completed:
		if v.in.Active && v.in.Value() == msg.Text {
			v.in.SetValue(msg.Whole)
			said := strings.Join(msg.Choices, "  ")
			if said == "" && msg.Whole == msg.Text && call.HostOf(msg.Text) != "" {
				said = call.HostOf(msg.Text) + " offers nothing that begins so"
			}
			v.s.Say("%s", said)
		}
		return nil
	case tea.KeyPressMsg:
		if v.in.Active && v.asks == forSource && v.help(msg) {
			return v.complete(msg)
		}
	}
	if v.in.Active {
		return v.updateLine(msg)
	}
	t := v.read()
	if d := ui.Rows(msg, 10, len(t.rows)); d != 0 {
		v.move(t, d, 0)
	}
	switch msg := msg.(type) {
	case tea.PasteMsg:
		if v.s.Paste(msg.Content) {
			return nil
		}
		v.in.Start(strings.TrimSpace(msg.Content))
		return nil
	case tea.KeyPressMsg:
		return ui.Press(v.Keys(), msg)
	}
	return nil
}

// updateLine takes what is typed into the line.
func (v *View) updateLine(msg tea.Msg) tea.Cmd {
	end, cmd := v.in.Type(msg)
	switch {
	case v.asks == forFilter && end != ui.Typing:
		v.filter = ""
		if end == ui.Kept {
			v.filter = v.in.Value()
		}
		v.top = 0
		v.move(v.read(), 0, 0)
	case end == ui.Kept:
		v.typed = append(v.typed, v.in.Value())
		v.s.Fetch(v.in.Value())
	case end == ui.Dropped:
		v.away = true
	}
	return cmd
}

// add asks for the address of a description.
func (v *View) add() {
	v.asks, v.back = forSource, len(v.typed)
	last := ""
	if n := len(v.typed); n > 0 && v.empty() { // what was typed is not lost where it led nowhere
		last = v.typed[n-1]
	}
	v.in.Start(last)
}

// help tells whether a key helps with what is typed.
func (v *View) help(k tea.KeyPressMsg) bool { return ui.Is(k, "tab", "up", "down") }

// complete goes on with a path, or brings back what was typed before.
func (v *View) complete(k tea.KeyPressMsg) tea.Cmd {
	if ui.Is(k, "tab") {
		text := v.in.Value()
		known, host := v.s.Offering(text)
		if host == "" {
			return func() tea.Msg { return ui.Complete(text, known()) }
		}
		v.s.Say("asking %s what it offers …", host)
		return func() tea.Msg {
			done := ui.Complete(contract.Spelled(text), known())
			done.Text = text
			return done
		}
	}
	by := 1
	if ui.Is(k, "up") {
		by = -1
	}
	v.back = min(max(v.back+by, 0), len(v.typed))
	v.in.SetValue("")
	if v.back < len(v.typed) {
		v.in.SetValue(v.typed[v.back])
	}
	return nil
}

func (v *View) startFilter() {
	v.asks = forFilter
	v.in.Start(v.filter)
}

// across chooses the call to the left or right.
func (v *View) across(k tea.KeyPressMsg) tea.Cmd {
	d := 1
	if ui.Is(k, "left") {
		d = -1
	}
	v.move(v.read(), 0, d)
	return nil
}

// open goes to the call's path, or to its draft where values are missing.
func (v *View) open() tea.Cmd {
	switch {
	case len(v.s.Rows()) == 0:
		v.add()
		return nil
	case len(v.read().rows) == 0:
		return nil
	}
	to := "path"
	if len(v.s.Attempts) == 0 && v.s.Running() == nil && len(v.s.Draft().Unfilled()) > 0 {
		to = "draft"
	}
	return func() tea.Msg { return state.Goto(to) }
}

func (v *View) mark() {
	if x, ok := v.chosen(v.read()); ok {
		v.s.Mark(x)
	}
}

func (v *View) rename() tea.Cmd {
	return func() tea.Msg {
		return state.Ask{
			Prompt: "name of the draft",
			Value:  v.s.Chosen.Draft.Name,
			Answer: func(name string) { v.s.Rename(name) },
		}
	}
}

func (v *View) fold() {
	name := v.s.Chosen.Draft.Contract
	v.folded[name] = !v.folded[name]
}

func (v *View) setDefault() {
	name := v.s.Chosen.Endpoint
	err := v.s.W.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + name + ".default", To: true})
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say("%s is the default now", name)
}

// serves tells whether a cell can be.
func (v *View) serves(r workspace.DraftRef, e *workspace.Endpoint) bool {
	for _, x := range v.s.W.Serving(r.Contract, r.Operation) {
		if x.Name == e.Name {
			return true
		}
	}
	return false
}

// move chooses another cell; sideways only one that can be. Where the chosen one is
// not in sight, the first row that is gets chosen.
func (v *View) move(t table, dy, dx int) {
	if len(t.rows) == 0 {
		return
	}
	row, col := v.at(t)
	if row < 0 {
		dy = 0
	}
	col = max(col, 0)
	row = min(max(row+dy, 0), len(t.rows)-1)
	r, cols := t.rows[row], t.of(row)
	for c := col + dx; dx != 0 && c >= 0 && c < len(cols); c += dx {
		if v.serves(r, cols[c].end) {
			col = c
			break
		}
	}
	if col >= len(cols) || !v.serves(r, cols[col].end) {
		col = max(slices.IndexFunc(cols, func(c column) bool { return v.serves(r, c.end) }), 0)
	}
	end := ""
	if col < len(cols) && v.serves(r, cols[col].end) {
		end = cols[col].end.Name
		if v.turned {
			v.s.UseEnvironment(cols[col].env)
		}
	}
	v.s.Choose(state.CallKey{Draft: r, Endpoint: end})
}

const (
	labelWidth = 30
	cellWidth  = 24
)

// columns says how wide the labels are and how many cells fit beside them.
func (v *View) columns(w, col int) (label, n int) {
	label = min(labelWidth, max(w/3, 16))
	if w >= 140 {
		label += 8
	}
	n = max((w-label-2)/cellWidth, 1)
	v.left = ui.Window(max(col, 0), v.left, n, 1<<20)
	return label, n
}

// shown are the columns of a contract that are in sight.
func (v *View) shown(cols []column, n int) (first int, _ []column) {
	first = max(min(v.left, len(cols)-n), 0)
	return first, cols[first:min(first+n, len(cols))]
}

// line is one row on the screen: a heading or a draft.
type line struct {
	head, op string
	row      int // -1: a heading
	more     int // of a folded contract: the drafts that are not shown
}

func (v *View) lines(t table) []line {
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
		if v.folded[r.Contract] {
			for _, o := range v.s.Rows() {
				if o.Contract == r.Contract {
					l.more++
				}
			}
		}
		if r.Operation != op {
			op, l.op = r.Operation, r.Operation
		}
		out = append(out, l)
	}
	return out
}

// View implements ui.View.
//
//revive:disable-next-line:function-length one screen, or the keys of one
//revive:disable-next-line:cyclomatic one screen, or the keys of one
func (v *View) View(w, h int) string {
	t := v.read()
	v.width = w
	if len(v.s.Rows()) == 0 {
		return v.welcome(w, h)
	}
	if len(t.rows) == 0 {
		out := []string{"", "   " + v.title(w), "", "   " + ui.Soft("no draft is called that; esc shows all")}
		return ui.Block(out, w, h)
	}
	row, col := v.at(t)
	label, n := v.columns(w, col)
	out := []string{"", "   " + v.title(w), ""}
	all := v.lines(t)
	at := 0
	for i, l := range all {
		if row >= 0 && l.row == row {
			at = i
		}
	}
	foot := 4
	room := max(h-len(out)-foot, 1)
	v.top = ui.Window(at, v.top, room, len(all))
	if at <= 2 {
		v.top = 0
	}
	v.Bar = ui.Bar{First: len(out), Height: room, Lines: len(all), At: row, Count: len(t.rows)}
	for i := v.top; i < len(all) && i < v.top+room; i++ {
		l := all[i]
		if l.row < 0 {
			head := "   " + ui.Pad(ui.Soft(ui.Cut(l.head, label-2)), label-1)
			first, cols := v.shown(t.cols[l.head], n)
			for _, c := range cols {
				name, here, star := c.end.Name, c.end.Name == v.s.Chosen.Endpoint, c.end.Default
				if v.turned {
					name, here, star = c.env, here && c.env == v.s.Environment, c.env == v.s.W.Config().Environment
				}
				name = ui.Cut(name, cellWidth-4)
				if here {
					name = ui.Strong(name)
				} else {
					name = ui.Soft(name)
				}
				if star {
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
		draft := r.Name
		if l.more > 1 {
			draft = fmt.Sprintf("and %d more", l.more-1)
		}
		if v.s.W.Config().DraftSettings[r.ID()].Changes {
			draft = "! " + draft
		}
		op, name := ui.Fit(l.op, opw), ui.Fit(draft, label-opw-2)
		if l.row == row {
			mark = ui.Accent(" ▌ ")
			op, name = ui.Strong(ui.Fit(r.Operation, opw)), ui.Strong(name)
		}
		text := mark + ui.Pad(op+" "+name, label-1)
		first, cols := v.shown(t.of(l.row), n)
		for i, c := range cols {
			text += v.cell(r, c, l.row == row && first+i == col)
		}
		out = append(out, text)
	}
	out = append(out, v.below(t, w, h-foot-len(out))...)
	for len(out) < h-foot {
		out = append(out, "")
	}
	out = append(out, v.foot(w)...)
	if v.in.Active && v.asks == forSource {
		out = append(
			out[:h-foot],
			"",
			"   "+ui.Strong("Address or path of a description")+ui.Soft("   its own page will do"),
			"   "+ui.Accent("› ")+v.in.View(w-8),
			"",
		)
	}
	return ui.Block(out, w, h)
}

// title is the line above the table: what is shown, and the filter.
func (v *View) title(w int) string {
	out := ui.Soft("what works where")
	if v.turned {
		out = ui.Soft("what works in which environment")
		if e := v.s.Chosen.Endpoint; e != "" {
			out += ui.Soft(", over ") + ui.Strong(ui.Cut(e, 30))
		}
	}
	if done, total := v.s.Progress(); total > 0 {
		out += "   " + ui.Accent(fmt.Sprintf("%d of %d sent", done, total))
	}
	if v.in.Active && v.asks == forFilter {
		return out + "   " + ui.Accent("/ ") + v.in.View(min(w-50, 40))
	}
	if v.filter != "" {
		out += ui.Soft("   with “" + ui.Cut(v.filter, 40) + "”")
	}
	return out
}

func (v *View) cell(r workspace.DraftRef, c column, chosen bool) string {
	if !v.serves(r, c.end) {
		return strings.Repeat(" ", cellWidth)
	}
	x := v.s.Latest(target(r, c).CallKey, c.env)
	left, right := " ", " "
	if v.s.Marked[target(r, c)] {
		left, right = ui.Accent("+"), ui.Accent("+")
	}
	if chosen {
		left = ui.Accent("‹")
		if right == " " {
			right = ui.Accent("›")
		}
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
	c := v.s.Chosen
	sig := c.Draft.Operation
	con, err := v.s.W.Contract(c.Draft.Contract)
	if err == nil {
		if o := state.Operation(con, c.Draft.Operation); o != nil {
			sig = o.Signature()
		}
	}
	how := "not sent yet"
	if v.s.Environment != "" {
		how += " in " + v.s.Environment
	}
	if _, err := v.s.W.ChooseEndpoint(c.Draft, ""); err != nil {
		if amb, ok := errors.AsType[*endpoint.AmbiguousError](err); ok {
			how += fmt.Sprintf(" · none of %d endpoints is the default: * makes %s it", len(amb.Endpoints), c.Endpoint)
		}
	}
	if c.Endpoint == "" {
		how = "no endpoint serves it"
		if err != nil || len(con.NotRead()) > 0 {
			how = "the kept description of " + c.Draft.Contract + " is not whole: c, then f, fetches it again"
		}
	} else if x := v.s.Latest(c, v.s.Environment); x != nil {
		how = x.Result
		if x.Outcome == exchange.OutcomeUnderWay {
			how = "under way"
		}
	}
	set := v.s.W.Settings(c.Endpoint)
	address := set.Text("address")
	if resolved, err := v.s.W.Resolved(c.Endpoint, v.s.Environment); err == nil {
		address = resolved
	}
	where := ui.Cut(strings.TrimSpace(c.Endpoint+"  "+address), max(w/2-4, 10))
	if where != "" {
		where = ui.Soft(where) + "  "
	}
	return []string{"", "   " + ui.Cut(sig, w-4), "   " + where + ui.Cut(how, max(w-4-ui.Width(where), 10)), ""}
}

func (v *View) welcome(w, h int) string {
	out := []string{"", "", "   " + ui.Strong("Which service do you want to call?"), "",
		"   Give the address of its description, or of its own page, or a file:"}
	if v.in.Active {
		out = append(out, "", "   "+ui.Accent("› ")+v.in.View(w-8))
	} else {
		text := ui.Soft(" type it, or paste it here")
		if n := len(v.typed); n > 0 && !v.Waits() {
			text = " " + ui.Cut(v.typed[n-1], w-30) + ui.Soft("   ⏎ changes it")
		}
		out = append(out, "", "   "+ui.Accent("›")+text)
	}
	if x := v.s.Fetching; x != nil && len(x.Findings) > 0 {
		f := x.Findings[0]
		out = append(out, "", "   "+ui.Reach(x)+"  "+ui.Strong(ui.Cut(f.Title, w-22)))
		for _, l := range ui.Wrap(f.Why, w-8) {
			out = append(out, "   "+l)
		}
		if offers := v.offers(); len(offers) > 0 {
			out = append(out, "")
			for i, r := range offers {
				lead, text := "     ", ui.Cut(r.Title, w-8)
				if i == min(v.offer, len(offers)-1) && !v.in.Active {
					lead, text = ui.Accent("   ▌ "), ui.Strong(text)
				}
				out = append(out, lead+text)
			}
		}
		out = append(out, "", "   "+ui.Strong("p")+ui.Soft(" shows its path, as of any call"))
	}
	return ui.Block(out, w, h)
}

// Click goes to the call that was clicked; a second click opens its path.
func (v *View) Click(m tea.MouseClickMsg) (tea.Cmd, bool) {
	t := v.read()
	all := v.lines(t)
	i := v.top + m.Y - 3
	if i < 0 || i >= len(all) || all[i].row < 0 {
		return nil, true
	}
	row, col := v.at(t)
	label, n := v.columns(v.width, col)
	before := v.s.Chosen
	cell := state.CallKey{Draft: t.rows[all[i].row]}
	if all[i].row == row {
		cell.Endpoint = before.Endpoint
	}
	_, cols := v.shown(t.of(all[i].row), n)
	if c := (m.X - label - 2) / cellWidth; m.X > label+2 && c < len(cols) && v.serves(cell.Draft, cols[c].end) {
		cell.Endpoint = cols[c].end.Name
		if v.turned {
			v.s.UseEnvironment(cols[c].env)
		}
	}
	v.s.Choose(cell)
	v.move(t, 0, 0)
	if v.s.Chosen == before {
		return state.To("path")(tea.KeyPressMsg{}), true
	}
	return nil, true
}
