// Package traffic lists every exchange that is kept, as it comes: one line each, the bytes of
// the one at the cursor below; or folded into causes.
package traffic

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/crossed"
	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// View is the traffic view.
type View struct {
	ui.Bar

	s       *state.State
	id      string // of the exchange under the cursor
	cursor  int    // its row, as it was drawn last
	top     int
	height  int
	wide    int // the longest name that was in sight
	in      ui.Input
	wrong   string   // what is wrong with the filter that is typed
	marked  []string // ids that are to be compared
	follows bool     // the cursor stays on the newest
	folded  bool     // into causes
	cause   int      // the row of the cause
}

// New makes the traffic view.
func New(s *state.State) *View { return &View{s: s, follows: true} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.in.Active {
		return []ui.Key{
			{Show: "⏎", Does: "only these"}, {Show: "tab", Does: "complete"}, {Show: "esc", Does: "not now"},
		}
	}
	fold, follow, others := "fold into causes", "follow the newest", "other folders too"
	if v.folded {
		fold = "unfold"
	}
	if v.follows {
		follow = "hold still"
	}
	if v.s.Elsewhere() {
		others = "this folder only"
	}
	one := v.chosen() != nil && !v.folded
	keys := []ui.Key{ui.Shown("up down", "↑↓", "choose")}
	if v.folded {
		keys = append(keys, ui.On("enter", "⏎", "open its calls", ui.Do(v.openCause)))
	} else {
		keys = append(keys, ui.On("enter", "⏎", "open its path", ui.Asks(v.open)).If(one),
			ui.On("space", "space", "mark", ui.Do(v.mark)).If(one),
			ui.On("=", "=", "compare the two marked", ui.Asks(v.compare)).If(len(v.marked) == 2))
	}
	back := ui.On("esc", "esc", "board", state.To("board"))
	if v.s.FilterWords() != "" {
		back = ui.On("esc", "esc", "show all", ui.Do(v.showAll))
	}
	return append(keys,
		ui.On("z", "z", fold, ui.Do(v.fold)),
		ui.On("/", "/", "filter", ui.Do(func() { v.in.Start(v.s.FilterWords()) })),
		ui.On("]", "]", follow, ui.Do(func() { v.follows = !v.follows })),
		ui.On("D", "D", "make a draft of it", ui.Asks(v.draft)).If(one),
		back,
		ui.Shown("?", "?", "help"),
		ui.On("+", "+", others, ui.Do(v.s.ShowElsewhere)).InHelp(),
	)
}

func (v *View) showAll() { _ = v.s.FilterTraffic("") } // no words are no mistake

// fold folds the list into causes, or shows it again.
func (v *View) fold() {
	v.folded, v.cause = !v.folded, 0
	if v.folded {
		v.s.Oldest()
	}
}

// openCause shows the exchanges of a cause.
func (v *View) openCause() {
	all := state.Causes(v.s.Traffic())
	if v.cause >= len(all) {
		return
	}
	words := all[v.cause].ID
	if words == "" {
		words = all[v.cause].Title
	}
	if before := v.s.FilterWords(); before != "" && !strings.Contains(before, words) {
		words = before + " " + words
	}
	if err := v.s.FilterTraffic(words); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.folded = false
}

// chosen is the exchange under the cursor, nil where the list is empty.
func (v *View) chosen() *exchange.Exchange {
	list := v.s.Traffic()
	if at := v.place(list); at < len(list) {
		return list[at]
	}
	return nil
}

// place is the row of the cursor: it stays on its exchange whatever comes.
func (v *View) place(list []*exchange.Exchange) int {
	if v.follows {
		return 0
	}
	if v.id != "" {
		for _, at := range []int{v.cursor, v.cursor + 1} { // most often it did not move far
			if at < len(list) && list[at].ID == v.id {
				return at
			}
		}
		if at := slices.IndexFunc(list, func(x *exchange.Exchange) bool { return x.ID == v.id }); at >= 0 {
			return at
		}
	}
	return min(v.cursor, max(len(list)-1, 0))
}

// move puts the cursor on a row.
func (v *View) move(list []*exchange.Exchange, to int) {
	v.cursor = min(max(to, 0), max(len(list)-1, 0))
	v.id = ""
	if v.cursor < len(list) {
		v.id = list[v.cursor].ID
	}
	const near = 50
	if v.cursor > len(list)-near {
		v.s.Older()
	}
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
	v.follows, v.id = false, x.ID
	if i := slices.Index(v.marked, x.ID); i >= 0 {
		v.marked = slices.Delete(v.marked, i, i+1)
		return
	}
	const two = 2
	if v.marked = append(v.marked, x.ID); len(v.marked) > two {
		v.marked = v.marked[1:]
	}
}

// compare compares the two that are marked: the one that passed is a, else the older one.
func (v *View) compare() tea.Cmd {
	a, b := v.marked[0], v.marked[1]
	if a > b { // ids sort by time
		a, b = b, a
	}
	passed := func(id string) bool {
		return slices.ContainsFunc(v.s.Traffic(), func(x *exchange.Exchange) bool {
			return x.ID == id && x.Outcome == exchange.OutcomePassed
		})
	}
	if passed(b) && !passed(a) {
		a, b = b, a
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

func text(x *exchange.Exchange) string {
	s := x.Operation
	if x.Draft != "" {
		s += " · " + x.Draft
	}
	if x.Kind != "" && x.Kind != "log-in" {
		s = x.Kind + ": " + s
	}
	if x.Kind == "log-in" || x.Endpoint == "" {
		return s
	}
	if s += " → " + x.Endpoint; x.From != nil {
		s += " (" + x.From.String() + ")"
	}
	return s
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		return v.typed(msg)
	}
	list := v.s.Traffic()
	if v.folded {
		n := len(state.Causes(list))
		v.cause = min(max(v.cause+ui.Rows(msg, v.height, n), 0), max(n-1, 0))
	} else if d := ui.Rows(msg, v.height, len(list)); d != 0 {
		at := v.place(list)
		v.follows = v.follows && d < 0
		v.move(list, at+d)
	}
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// Click goes to the exchange that was clicked.
func (v *View) Click(m tea.MouseClickMsg) (tea.Cmd, bool) {
	list := v.s.Traffic()
	at := v.top + m.Y - headLines
	if v.folded || m.Y < headLines || at >= min(len(list), v.top+v.height) {
		return nil, !v.folded
	}
	v.follows = false
	v.move(list, at)
	return nil, true
}

// headLines is how many lines stand above the list.
const headLines = 3

// typed takes what is typed into the filter.
func (v *View) typed(msg tea.Msg) tea.Cmd {
	if k, ok := msg.(tea.KeyPressMsg); ok && ui.Is(k, "tab") {
		v.complete()
		return nil
	}
	end, cmd := v.in.Type(msg)
	switch end {
	case ui.Kept:
		words := strings.TrimSpace(v.in.Value())
		if err := v.s.FilterTraffic(words); err != nil {
			v.wrong = err.Error()
			v.in.Start(words)
			return nil
		}
		v.wrong, v.cursor, v.id = "", 0, ""
	case ui.Dropped:
		v.wrong = ""
	}
	return cmd
}

// complete goes on with the last word: words of filters, operations, endpoints, findings.
func (v *View) complete() {
	value := v.in.Value()
	at := strings.LastIndexByte(value, ' ') + 1
	begun := strings.ToLower(value[at:])
	words := []string{"in ", "at ", "since ", "over ", "from relay", "from call", "passed", "stopped", "fault"}
	for _, x := range v.s.Traffic() {
		words = append(words, x.Operation, x.Endpoint)
		if c := x.Cause(); c != nil {
			words = append(words, c.ID)
		}
	}
	var fit []string
	for _, w := range words {
		if strings.HasPrefix(strings.ToLower(w), begun) && !slices.Contains(fit, w) && w != "" {
			fit = append(fit, w)
		}
	}
	switch {
	case len(fit) == 1:
		v.in.SetValue(value[:at] + fit[0])
	case len(fit) > 1:
		const some = 8
		v.s.Say("%s", strings.Join(fit[:min(len(fit), some)], "  "))
	}
}

// title says how many there are, and which filter is on.
func (v *View) title(list []*exchange.Exchange, w int) string {
	out := ui.Strong("exchanges") + ui.Soft("   "+endpoint.Bytes(int64(v.s.Kept))+" kept")
	if v.s.Elsewhere() {
		out += ui.Soft(" in all folders")
	}
	switch words := v.s.FilterWords(); {
	case v.in.Active:
		out += "   " + ui.Accent("/ ") + v.in.View(min(w-50, 60))
		if v.wrong != "" {
			out += "  " + ui.Accent(ui.Cut(v.wrong, w-60))
		}
	case words != "":
		looked, done := v.s.Filtered()
		state := ""
		if !done {
			state = fmt.Sprintf(", looked through %s so far", endpoint.Bytes(int64(looked)))
		}
		out += "   " + ui.Accent("only: ") + ui.Strong(ui.Cut(words, 40)) +
			ui.Soft(fmt.Sprintf("   %s of them%s", endpoint.Bytes(int64(len(list))), state))
	}
	if v.follows && !v.folded {
		out += ui.Soft("   follows the newest")
	}
	return out
}

// leastBelow is the height from which on the bytes of the one at the cursor stand below.
const leastBelow = 30

// View implements ui.View.
func (v *View) View(w, h int) string {
	list := v.s.Traffic()
	rows := []string{"", "   " + v.title(list, w), ""}
	if len(list) == 0 {
		text := "nothing was sent yet"
		if v.s.FilterWords() != "" {
			text = "nothing that is kept fits; esc shows all"
			if _, done := v.s.Filtered(); !done {
				text = "nothing fits so far"
			}
		}
		return ui.Block(append(rows, "   "+ui.Soft(text)), w, h)
	}
	if v.folded {
		return ui.Block(append(rows, v.causes(list, w, h-len(rows))...), w, h)
	}
	at := v.place(list)
	if v.id == "" || v.follows {
		v.id = list[at].ID
	}
	v.cursor = at
	var below []string
	if h >= leastBelow {
		below = v.below(list[at], w, h/3)
	}
	v.height = h - len(rows) - len(below)
	v.top = ui.Window(at, v.top, v.height, len(list))
	v.Bar = ui.Bar{First: len(rows), Height: v.height, Lines: len(list), At: at, Count: len(list)}
	inSight := list[v.top:min(len(list), v.top+v.height)]
	for _, x := range inSight {
		v.wide = max(v.wide, ui.Width(text(x))+1) // it never shrinks again: columns do not jump
	}
	name := max(min(v.wide, w/3, 40), 18)
	for i, x := range inSight {
		rows = append(rows, v.row(x, v.top+i == at, name, w))
	}
	for len(rows)+len(below) < h {
		rows = append(rows, "")
	}
	return ui.Block(append(rows, below...), w, h)
}

// row is an exchange in a line.
func (v *View) row(x *exchange.Exchange, here bool, name, w int) string {
	lead, label := "  ", ui.Fit(text(x), name)
	if here {
		lead, label = ui.Accent(" ▌"), ui.Strong(label)
	}
	sign := " "
	if slices.Contains(v.marked, x.ID) {
		sign = ui.Accent("+")
	}
	at := clock(x)
	if time.Since(x.Started) > 20*time.Hour {
		at = x.Started.Local().Format("02 Jan ")
	}
	if v.s.Elsewhere() {
		from := ""
		if x.Workspace != v.s.W.ID() {
			from = "other"
		}
		at += " " + ui.Pad(from, 5)
	}
	where, size, before := "", "", 62
	if v.s.Elsewhere() {
		before += 6
	}
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
	return lead + sign + ui.Soft(at+"  ") + label + " " + ui.Reach(x) + " " + ui.Fit(where, 9) +
		ui.Soft(fmt.Sprintf("%8s %12s  ", exchange.Took(x.TotalNs), size)) + ui.Cut(x.Result, max(w-name-before, 0))
}

// below are the bytes of the exchange at the cursor, from what proves its cause on.
func (v *View) below(x *exchange.Exchange, w, h int) []string {
	rule := func(text string) string {
		return "   " + ui.Strong("bytes") + " " + ui.Soft(strings.Repeat("─", max(w-ui.Width(text)-13, 0))+" "+text)
	}
	full := v.s.Whole(x)
	if full == nil {
		return []string{"", rule("being read")}
	}
	lines := crossed.Excerpt(full)
	n := lines.Count()
	if n == 0 {
		return []string{"", rule("nothing crossed")}
	}
	room := h - 2
	top := 0
	if at := lines.Marked(0); at >= 0 {
		top = min(max(at-room/2, 0), max(n-room, 0))
	}
	l := full.Leg()
	out := []string{"", rule(fmt.Sprintf("%s B out, %s B in", endpoint.Bytes(int64(len(l.Out))),
		endpoint.Bytes(max(l.In.Len(), l.Whole))))}
	for i := top; i < min(top+room, n); i++ {
		out = append(out, lines.Draw(full, i, crossed.Look{Width: w}))
	}
	return out
}

// causes is the list folded: each cause once, with how many, since when, and where.
func (v *View) causes(list []*exchange.Exchange, w, h int) []string {
	all := state.Causes(list)
	v.cause = min(v.cause, max(len(all)-1, 0))
	first, last := list[len(list)-1].Started, list[0].Started
	const rowsEach = 3
	top := ui.Window(v.cause, 0, max(h/rowsEach, 1), len(all))
	var out []string
	for i := top; i < len(all) && len(out)+rowsEach <= h; i++ {
		c := &all[i]
		lead, title := "   ", ui.Cut(c.Title, w-50)
		if i == v.cause {
			lead, title = ui.Accent(" ▌ "), ui.Strong(title)
		}
		stage := ""
		if c.ID != "" {
			stage = c.Stage.String()
		}
		newest, oldest := c.Exchanges[0], c.Exchanges[len(c.Exchanges)-1]
		where := strings.Join(c.Operations, ", ") + " → " + strings.Join(c.Endpoints, ", ")
		out = append(out,
			lead+ui.Pad(fmt.Sprintf("%s ×", endpoint.Bytes(int64(len(c.Exchanges)))), 9)+
				ui.Soft(ui.Pad(stage, 10))+title,
			"            "+ui.Soft(clock(oldest)+" to "+clock(newest)+"  ")+inTime(c.Exchanges, first, last)+
				ui.Soft("  "+ui.Cut(where, w-70)))
		if c.Remedy != "" && i == v.cause {
			out = append(out, "            "+ui.Soft("repair ")+ui.Cut(c.Remedy, w-22))
		} else {
			out = append(out, "")
		}
	}
	return out
}

func clock(x *exchange.Exchange) string { return x.Started.Local().Format("15:04:05") }

// inTime is when exchanges were, as a row of ticks from the first to the last of the list.
func inTime(list []*exchange.Exchange, from, to time.Time) string {
	const cells = 24
	counts, most := [cells]int{}, 1
	span := max(to.Sub(from), 1)
	for _, x := range list {
		i := min(max(int(float64(x.Started.Sub(from))/float64(span)*cells), 0), cells-1)
		counts[i]++
		most = max(most, counts[i])
	}
	marks := []rune("▁▃▅▇")
	var b strings.Builder
	for _, n := range counts {
		if n == 0 {
			b.WriteRune('·')
			continue
		}
		b.WriteRune(marks[min(n*len(marks)/(most+1), len(marks)-1)])
	}
	return b.String()
}
