// Package musters runs many cases with what is expected of each: a live tally, a row for each
// case, and what was unexpected grouped by its cause.
package musters

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/marks"
	"orenda/internal/muster"
)

// View is the view of musters.
type View struct {
	ui.Bar

	s      *state.State
	names  []string
	at     int // the muster
	cursor int // the case
	top    int
	height int
	failed bool // only the unexpected ones are shown
	folded bool // into causes
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return false }

// Open implements the application's opener.
func (v *View) Open() tea.Cmd {
	v.names = v.s.W.Musters()
	v.at = min(v.at, max(len(v.names)-1, 0))
	return nil
}

// run is the muster in sight, nil where there is none.
func (v *View) run() (*state.Running, error) {
	if v.at >= len(v.names) {
		return nil, nil
	}
	return v.s.Muster(v.names[v.at])
}

// cases are those that are shown.
func (v *View) cases(r *state.Running) []muster.Case {
	if r == nil {
		return nil
	}
	if !v.failed {
		return r.Cases
	}
	return slices.DeleteFunc(slices.Clone(r.Cases), func(c muster.Case) bool {
		return r.Done[c.Name].Outcome != muster.Unexpected
	})
}

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	r, _ := v.run()
	one := r != nil
	only, fold := "show only the unexpected", "fold the unexpected into causes"
	if v.failed {
		only = "show all"
	}
	if v.folded {
		fold = "unfold"
	}
	keys := []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("enter", "⏎", "open its path", ui.Asks(v.open)).If(one),
	}
	if one && r.Pairs != nil {
		keys = append(keys, ui.On("@", "@", "its two calls, side by side", ui.Asks(v.sides)))
	}
	return append(keys,
		ui.On("!", "!", "run all cases", ui.Asks(v.start)).If(one),
		ui.On("n", "n", "run only the unexpected", ui.Do(v.again)).If(one),
		ui.On("=", "=", "compare with another endpoint", ui.Asks(v.beside)).If(one),
		ui.On("/", "/", only, ui.Do(func() { v.failed, v.cursor = !v.failed, 0 })).If(one),
		ui.On("z", "z", fold, ui.Do(func() { v.folded = !v.folded })).If(one),
		ui.On("w", "w", "draw the run (SVG, PDF)", ui.Asks(v.draw)).If(one).InHelp(),
		ui.On("[ ]", "[ ]", "earlier and next muster", v.turn).If(len(v.names) > 1),
		ui.On("esc", "esc", "board", ui.Asks(v.back)),
		ui.Shown("?", "?", "help"),
	)
}

// back halts what runs, or goes to the board.
func (v *View) back() tea.Cmd {
	if r, _ := v.run(); r != nil && r.Goes {
		v.s.HaltMuster(r.Name)
		v.s.Say("halting; what was sent is kept")
		return nil
	}
	return func() tea.Msg { return state.Goto("board") }
}

// start runs the muster.
func (v *View) start() tea.Cmd {
	r, _ := v.run()
	return v.careful(r, func(again bool) error { return v.s.RunMuster(r.Name, false, again) })
}

// careful runs the muster. Where cases change things at the service, it asks once for all.
func (v *View) careful(r *state.Running, run func(again bool) error) tea.Cmd {
	careful := 0
	for _, c := range r.Cases {
		if ref, err := v.s.W.FindDraft(c.Draft); err == nil && v.s.W.Config().DraftSettings[ref.ID()].Changes {
			careful++
		}
	}
	prompt := fmt.Sprintf("%d of %d cases change things at the service. Send these too? (yes or no)",
		careful, len(r.Cases))
	begin := func(again bool) {
		if err := run(again); err != nil {
			v.s.Say("%v", err)
		}
	}
	if careful == 0 {
		begin(false)
		return nil
	}
	return state.AskFor(prompt, "", func(s string) {
		s = strings.ToLower(strings.TrimSpace(s))
		begin(s == "y" || s == "yes")
	})
}

// beside sends the cases to another place too, and shows in what the answers differ.
func (v *View) beside() tea.Cmd {
	r, _ := v.run()
	places := v.s.MusterPlaces()
	pick := state.Pick{Prompt: "hold the last answers against those of"}
	for _, p := range places {
		option := p.String()
		if p.Endpoint == "" {
			option = "the environment " + option
		}
		pick.Options = append(pick.Options, option)
	}
	pick.Take = func(i int) tea.Cmd {
		return v.careful(r, func(again bool) error { return v.s.RunBeside(r.Name, places[i], again) })
	}
	return func() tea.Msg { return pick }
}

// sides compares the two calls of the case at the cursor.
func (v *View) sides() tea.Cmd {
	r, _ := v.run()
	list := v.cases(r)
	if v.cursor >= len(list) {
		return nil
	}
	p := r.Pairs[list[v.cursor].Name]
	if p.A == "" || p.B == "" {
		v.s.Say("it was not sent to both")
		return nil
	}
	v.s.Compare(p.A, p.B)
	return func() tea.Msg { return state.Goto("compare") }
}

// draw draws the outcomes of the muster, and what each case took.
func (v *View) draw() tea.Cmd {
	r, _ := v.run()
	run := &muster.Run{Muster: r.Name}
	if r.Run != nil {
		run.TookNs = r.Run.TookNs
	}
	for _, c := range r.Cases {
		if one, ok := r.Done[c.Name]; ok {
			run.Cases.Add(one)
		}
	}
	run.Sum()
	return v.s.AskDrawing("muster-"+r.Name, func() (state.Drawing, error) { return run.Drawing(), nil })
}

// again runs what was unexpected once more.
func (v *View) again() {
	r, _ := v.run()
	if err := v.s.RunMuster(r.Name, true, false); err != nil {
		v.s.Say("%v", err)
	}
}

// open opens the exchange of the case.
func (v *View) open() tea.Cmd {
	r, _ := v.run()
	list := v.cases(r)
	if v.cursor >= len(list) {
		return nil
	}
	id := r.Done[list[v.cursor].Name].Exchange
	if id == "" {
		v.s.Say("this case was not sent yet; ! runs them")
		return nil
	}
	if err := v.s.OpenKept(id); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	return func() tea.Msg { return state.Goto("path") }
}

func (v *View) turn(k tea.KeyPressMsg) tea.Cmd {
	by := 1
	if ui.Is(k, "[") {
		by = len(v.names) - 1
	}
	v.at, v.cursor = (v.at+by)%len(v.names), 0
	return nil
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	r, _ := v.run()
	list := v.cases(r)
	if v.cursor >= len(list) {
		return nil
	}
	one := r.Done[list[v.cursor].Name]
	return []ui.Copy{
		ui.Text("the case", list[v.cursor].Name),
		ui.Text("why it was unexpected", strings.Join(one.Why, "\n")),
		ui.Text("the command", "orenda muster run "+r.Name),
	}
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	r, _ := v.run()
	n := len(v.cases(r))
	v.cursor = min(max(v.cursor+ui.Rows(msg, v.height, n), 0), max(n-1, 0))
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	head := []string{"", "   " + ui.Strong("musters"), ""}
	r, err := v.run()
	switch {
	case err != nil:
		return ui.Block(append(head, "   "+ui.Accent(ui.Cut(err.Error(), w-6))), w, h)
	case r == nil:
		return ui.Block(append(head,
			"   "+ui.Soft("there is none yet: a muster is a file of cases, with what each must come back with;"),
			"   "+ui.Strong("orenda muster add nightly 'FindBerths/*' last")+ui.Soft(" makes one")), w, h)
	}
	head[1] += "   " + ui.Strong(ui.Cut(r.Name, 30)) + ui.Soft(fmt.Sprintf("   %d of %d", v.at+1, len(v.names)))
	if r.Other != nil {
		head[1] += ui.Soft("   the last run beside ") + ui.Strong(ui.Cut(r.Beside.String(), 40))
	}
	head = append(head, v.tally(r, w)...)
	if v.folded {
		return ui.Block(append(head, causes(r, w)...), w, h)
	}
	list := v.cases(r)
	v.cursor = min(v.cursor, max(len(list)-1, 0))
	foot := v.foot(r, list, w)
	v.height = max(h-len(head)-len(foot), 1)
	v.top = ui.Window(v.cursor, v.top, v.height, len(list))
	rows := head
	v.Bar = ui.Bar{First: len(head), Height: v.height, Lines: len(list), At: v.cursor, Count: len(list)}
	for i := v.top; i < len(list) && i < v.top+v.height; i++ {
		rows = append(rows, row(r, &list[i], i == v.cursor, w))
	}
	if len(list) == 0 {
		rows = append(rows, "   "+ui.Soft("none was unexpected"))
	}
	for len(rows)+len(foot) < h {
		rows = append(rows, "")
	}
	return ui.Block(append(rows, foot...), w, h)
}

// tally counts outcomes, with a bar that reads without colour.
func (v *View) tally(r *state.Running, w int) []string {
	counts := map[muster.Outcome]int{}
	for _, c := range r.Cases {
		counts[cmp.Or(r.Done[c.Name].Outcome, muster.NotRun)]++
	}
	out := fmt.Sprintf("%s as expected", endpoint.Bytes(int64(counts[muster.AsExpected])))
	text := "   " + ui.Good(out)
	if n := counts[muster.Unexpected]; n > 0 {
		text += "   " + ui.Accent(fmt.Sprintf("%s unexpected", endpoint.Bytes(int64(n))))
	}
	if n := counts[muster.NotRun]; n > 0 {
		text += "   " + ui.Soft(fmt.Sprintf("%s not run", endpoint.Bytes(int64(n))))
	}
	if r.Goes {
		text += "   " + ui.Accent(fmt.Sprintf("%d of %d have ended · esc halts", r.Ended, r.All))
	} else if r.Run != nil {
		t := r.Run.Times
		text += ui.Soft(fmt.Sprintf("   median %s, 95th %s, worst %s", exchange.Took(t.Median), exchange.Took(t.P95),
			exchange.Took(t.Worst)))
	}
	width, all := min(w-6, 72), max(len(r.Cases), 1)
	cells := func(o muster.Outcome) int { return counts[o] * width / all }
	bar := "   " + ui.Good(strings.Repeat(marks.Passed, cells(muster.AsExpected))) +
		ui.Accent(strings.Repeat(marks.Stopped, cells(muster.Unexpected))) +
		ui.Soft(strings.Repeat(marks.NotReached, cells(muster.NotRun)))
	return []string{text, bar, ""}
}

// row is a case in a line.
func row(run *state.Running, c *muster.Case, here bool, w int) string {
	r := run.Done[c.Name]
	name := max(w/3, 20)
	lead, label := "   ", ui.Fit(c.Name, name)
	if here {
		lead, label = ui.Accent(" ▌ "), ui.Strong(label)
	}
	if run.Other != nil {
		return lead + sign(r.Outcome) + " " + sign(run.Other[c.Name].Outcome) + " " + label + " " +
			against(run, c.Name, w-name-10)
	}
	note := map[string]string{"newlyFailed": "newly", "mended": "fixed"}[r.Against]
	why := ""
	if len(r.Why) > 0 {
		why = r.Why[0]
	}
	return lead + sign(r.Outcome) + " " + label + " " +
		ui.Soft(fmt.Sprintf("%8s  %-7s", exchange.Took(r.TotalNs), note)) + ui.Cut(why, max(w-name-26, 0))
}

// sign is an outcome as a mark.
func sign(o muster.Outcome) string {
	switch o {
	case muster.AsExpected:
		return ui.Good(marks.Passed)
	case muster.Unexpected:
		return ui.Accent(marks.Stopped)
	}
	return ui.Soft(marks.NotReached)
}

// against is in what the two answers to a case differ.
func against(run *state.Running, name string, w int) string {
	p, ok := run.Pairs[name]
	switch {
	case !ok:
		return ""
	case p.Same:
		return ui.Soft("the same answer")
	case p.Why != "":
		return ui.Soft(ui.Cut(p.Why, w))
	}
	many := "differ"
	if len(p.Differences) == 1 {
		many = "differs"
	}
	return ui.Accent(fmt.Sprintf("%d %-7s", len(p.Differences), many)) + "  " + ui.Cut(p.Differences[0].String(), w-12)
}

// foot is the case at the cursor, whole.
func (v *View) foot(r *state.Running, list []muster.Case, w int) []string {
	if v.cursor >= len(list) {
		return nil
	}
	c := list[v.cursor]
	out := []string{"", "   " + ui.Soft(ui.Cut(c.Draft+" → "+cmp.Or(c.Endpoint, "the default endpoint")+
		"   expects "+cmp.Or(strings.Join(c.Expect, " ; "), "what the draft expects"), w-6))}
	for _, why := range r.Done[c.Name].Why {
		for _, l := range ui.Wrap(why, w-8) {
			out = append(out, "     "+ui.Accent(l))
		}
	}
	const most = 8
	return out[:min(len(out), most)]
}

// causes are the unexpected cases, folded.
func causes(r *state.Running, w int) []string {
	run := &muster.Run{}
	for _, c := range r.Cases {
		if one, ok := r.Done[c.Name]; ok {
			run.Cases.Add(one)
		}
	}
	names, of := run.ByCause()
	if len(names) == 0 {
		return []string{"   " + ui.Soft("none was unexpected")}
	}
	var out []string
	for _, n := range names {
		var cases []string
		for _, c := range of[n] {
			cases = append(cases, c.Name)
		}
		cause := ui.Cut(cmp.Or(n, "no cause of its own"), w-14)
		out = append(out, "   "+ui.Pad(fmt.Sprintf("%d ×", len(of[n])), 8)+ui.Strong(cause),
			"           "+ui.Soft(ui.Cut(strings.Join(cases, ", "), w-14)), "")
	}
	return out
}
