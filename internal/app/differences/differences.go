// Package differences shows in what two calls differ, in one column: the most telling first,
// each as a pair of lines under its place.
package differences

import (
	"cmp"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/compare"
	"orenda/internal/draw"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// View is the view of two calls.
type View struct {
	ui.Bar

	s      *state.State
	cursor int
	top    int
	height int
	aside  bool // what is set aside is shown too
	of     [2]string
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return false }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	d := v.at()
	both := v.s.Compared.B != nil
	fold := "unfold what is set aside"
	if v.aside {
		fold = "fold what is set aside"
	}
	return []ui.Key{
		ui.Shown("up down", "↑↓", "difference"),
		ui.On("enter", "⏎", "take it over from a", ui.Asks(v.take)).If(d != nil && v.takes(d) == nil),
		ui.On("z", "z", fold, ui.Do(func() { v.aside, v.cursor = !v.aside, 0 })).If(both),
		ui.On("tab", "tab", "a and b the other way round", ui.Do(v.turn)).If(both),
		ui.On("w", "w", "write a drawing of both", ui.Asks(v.drawing)).If(both),
		ui.On("esc", "esc", "path", state.To("path")),
		ui.Shown("?", "?", "help"),
	}
}

// list are the differences that are shown.
func (v *View) list() []compare.Difference {
	r := v.s.Compared.Report
	if r == nil {
		return nil
	}
	var out []compare.Difference
	for _, d := range r.Differences {
		if v.aside || !d.Aside {
			out = append(out, d)
		}
	}
	return out
}

// at is the difference under the cursor, nil where there is none.
func (v *View) at() *compare.Difference {
	list := v.list()
	if v.cursor >= len(list) {
		return nil
	}
	return &list[v.cursor]
}

// takes tells why a difference cannot be taken over.
func (v *View) takes(d *compare.Difference) error {
	if b := v.s.Compared.B; b == nil || b.Kind != "" {
		return fmt.Errorf("change it in the program")
	}
	_, err := workspace.Taken(d, v.s.Compared.B.Endpoint)
	return err
}

// take takes the difference over into the setting or the draft of b.
func (v *View) take() tea.Cmd {
	d := v.at()
	if err := v.s.TakeOverDifference(d); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	v.s.Say("taken over: %s; g sends it again", d.Path)
	return func() tea.Msg { return state.Goto("path") }
}

// turn puts the second call first.
func (v *View) turn() {
	c := &v.s.Compared
	v.s.Compare(c.B.ID, c.A.ID)
}

func (v *View) drawing() tea.Cmd {
	c := v.s.Compared
	return v.s.AskDrawing("compare-"+c.A.ID+"-"+c.B.ID, func() (state.Drawing, error) {
		return draw.Compare(c.A, c.B, c.Report), nil
	})
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	d := v.at()
	if d == nil {
		return nil
	}
	a, b := d.A.Said(), d.B.Said()
	return []ui.Copy{
		ui.Text("the difference", string(d.Where)+"  "+d.Path+"\n  a  "+a+"\n  b  "+b+"\n"),
		ui.Text("what a has", a), ui.Text("what b has", b), ui.Text("its path", d.Path),
		ui.Text("the command", "orenda compare "+v.s.Compared.A.ID+" "+v.s.Compared.B.ID),
	}
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	list := v.list()
	v.cursor = min(max(v.cursor+ui.Rows(msg, max(v.height/4, 1), len(list)), 0), max(len(list)-1, 0))
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// name is a call in the heading.
func name(x *exchange.Exchange) string {
	where := ""
	if x.Kind == "relay" {
		where = " through a relay"
	} else if x.Endpoint != "" {
		where = " → " + x.Endpoint
	}
	end := "passed"
	switch x.Outcome {
	case exchange.OutcomeStopped:
		end = "stopped at " + x.StoppedAt.String()
	case exchange.OutcomeCancelled:
		end = "halted"
	}
	return x.Operation + where + "  " + x.Started.Local().Format("15:04:05") + "  " + end
}

// places are the parts of a call in words.
//
//nolint:gochecknoglobals // a table: it is never written to
var places = map[exchange.Part]string{
	exchange.InSettings: "set", compare.InPath: "the path", exchange.InRequestHead: "request head",
	exchange.InRequestBody: "request", exchange.InResponseHead: "answer's head", exchange.InResponseBody: "answer",
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	c := v.s.Compared
	if ids := [2]string{idOf(c.A), idOf(c.B)}; ids != v.of {
		v.of, v.cursor, v.top = ids, 0, 0
	}
	soft := func(text string) string { return "   " + ui.Soft(text) }
	switch {
	case !c.Begun():
		return ui.Block([]string{"", "   " + ui.Strong("compare"), "",
			soft("= on a path compares it with the last call that passed;"),
			soft("in the traffic, space marks two, and = compares them")}, w, h)
	case c.Err != nil:
		return ui.Block([]string{"", "   " + ui.Strong("compare"), "",
			"   " + ui.Accent(ui.Cut(c.Err.Error(), w-6))}, w, h)
	case c.Report == nil:
		return ui.Block([]string{"", "   " + ui.Strong("compare"), "", soft("both are being read …")}, w, h)
	}
	list := v.list()
	head := []string{"",
		"   " + ui.Soft("a ") + ui.Reach(c.A) + "  " + ui.Strong(ui.Cut(name(c.A), w-26)),
		"   " + ui.Soft("b ") + ui.Reach(c.B) + "  " + ui.Strong(ui.Cut(name(c.B), w-26)),
		soft(c.Report.Count()), ""}
	if len(list) == 0 {
		return ui.Block(append(head, "   "+ui.Good("the same")+" but for what was set aside"), w, h)
	}
	v.height = h - len(head)
	var rows []string
	var begins []int
	for i := range list {
		begins = append(begins, len(rows))
		rows = append(rows, v.pair(&list[i], i == v.cursor, w)...)
	}
	begins = append(begins, len(rows))
	from, to := begins[v.cursor], begins[v.cursor+1]
	v.top = min(max(v.top, to-v.height), from)
	v.top = max(min(v.top, len(rows)-v.height), 0)
	v.Bar = ui.Bar{First: len(head), Height: v.height, Lines: len(rows), At: v.cursor, Count: len(list)}
	return ui.Block(append(head, rows[v.top:min(v.top+v.height, len(rows))]...), w, h)
}

// pair is a difference: its place, and under it what either side has.
func (v *View) pair(d *compare.Difference, here bool, w int) []string {
	lead, path := "   ", ui.Cut(cmp.Or(d.Path, "its text"), w/2)
	if here {
		lead, path = ui.Accent(" ▌ "), ui.Strong(path)
	}
	head := lead + ui.Soft(ui.Pad(places[d.Where], 14)) + path
	if kind := string(d.Kind); kind != d.Path {
		head += ui.Soft("   " + kind)
	}
	if d.Aside {
		head += ui.Soft(", set aside")
	}
	if here && v.takes(d) == nil {
		head += "   " + ui.Accent("⏎") + ui.Soft(" take over what a has")
	}
	value := func(label string, p *compare.Place) string {
		text := p.Said()
		if k := endpoint.KeyOf(d.Path); d.Kind == compare.Setting && k != nil && p != nil {
			text = k.Spell(p.Value)
		}
		text = ui.Cut(text, w-22)
		if p == nil {
			text = ui.Soft(text)
		}
		return "     " + ui.Soft(ui.Pad(label, 12)) + text
	}
	out := []string{head, value("a", d.A), value("b", d.B)}
	if d.Why != "" {
		for _, l := range ui.Wrap(d.Why, w-22) {
			out = append(out, strings.Repeat(" ", 17)+ui.Soft(l))
		}
	}
	if d.Aside {
		for i := range out[1:] {
			out[i+1] = ui.Soft(out[i+1])
		}
	}
	return append(out, "")
}

func idOf(x *exchange.Exchange) string {
	if x == nil {
		return ""
	}
	return x.ID
}

// Open implements the application's opener: where nothing is compared yet, the call in sight is.
func (v *View) Open() tea.Cmd {
	if !v.s.Compared.Begun() {
		v.s.CompareInSight()
	}
	return nil
}
