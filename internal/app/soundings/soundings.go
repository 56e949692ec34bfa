// Package soundings draws the search for the edge of what a service accepts in a field: every
// value that was sent, in its order on the scale, and what the service said to it.
package soundings

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/marks"
	"orenda/internal/sounding"
)

// View is the view of soundings.
type View struct {
	ui.Bar

	s      *state.State
	cursor int
	top    int
	height int
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return false }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	one := v.s.Sound
	there, found := one != nil, one != nil && one.Result != nil && !one.Goes
	ofField := found && !sounding.Whole(one.Options.By)
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("!", "!", "run all of it", ui.Asks(v.start)).If(there && !one.Goes),
		ui.On("tab", "tab", "next way to sound", ui.Do(v.turn)).If(there && !one.Goes),
		ui.On("enter", "⏎", "open its path", ui.Asks(v.open)).If(there),
		ui.On("#", "#", "note what was found at the field", ui.Do(v.note)).If(ofField),
		ui.On("+", "+", "keep a case for each side in a muster", ui.Asks(v.cases)).If(ofField),
		ui.On("w", "w", "draw it (SVG, PDF)", ui.Asks(v.draw)).If(found),
		ui.On("esc", "esc", "board", ui.Asks(v.back)),
		ui.Shown("?", "?", "help"),
	}
}

// start begins to send; a draft that changes things is asked for.
func (v *View) start() tea.Cmd {
	one := v.s.Sound
	begin := func(asked bool) {
		if err := v.s.StartSounding(asked); err != nil {
			v.s.Say("%v", err)
		}
		v.cursor = 0
	}
	if !v.s.W.Config().DraftSettings[one.Of.Draft.ID()].Changes {
		begin(false)
		return nil
	}
	return state.AskFor(fmt.Sprintf("%s changes things at the service. Send it up to %d times? (yes or no)",
		one.Of.Draft, one.Options.Budget), "", func(answer string) {
		if a := strings.ToLower(answer); a == "y" || a == "yes" {
			begin(true)
		}
	})
}

// turn takes the next way to sound.
func (v *View) turn() {
	o := v.s.Sound.Options
	at := slices.Index(sounding.Ways, o.By)
	if err := v.s.PrepareSounding(o.Field, sounding.Ways[(at+1)%len(sounding.Ways)]); err != nil {
		v.s.Say("%v", err)
	}
}

// samples are the calls, by their place on the scale where there is one.
func (v *View) samples() []sounding.Sample {
	if v.s.Sound == nil || v.s.Sound.Result == nil {
		return nil
	}
	return v.s.Sound.Result.Ordered()
}

func (v *View) open() tea.Cmd {
	all := v.samples()
	if v.cursor >= len(all) {
		v.s.Say("nothing was sent yet; ! begins")
		return nil
	}
	if err := v.s.OpenKept(all[v.cursor].Exchange); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	return func() tea.Msg { return state.Goto("path") }
}

func (v *View) note() { v.s.KeepSounding() }

func (v *View) cases() tea.Cmd {
	return state.AskFor("put a case for each side into the muster", "edges", func(name string) {
		if err := v.s.EdgeCases(name); err != nil {
			v.s.Say("%v", err)
		}
	})
}

func (v *View) draw() tea.Cmd {
	one := *v.s.Sound
	return v.s.AskDrawing("sounding-"+strings.ReplaceAll(one.Options.Name(), " ", "-"), func() (state.Drawing, error) {
		return one.Result.Drawing(one.Of.Draft.String() + " → " + one.Of.Endpoint), nil
	})
}

// back halts what runs, or goes to the board.
func (v *View) back() tea.Cmd {
	if v.s.Sound != nil && v.s.Sound.Goes {
		v.s.HaltSounding()
		v.s.Say("halting; what was sent is kept")
		return nil
	}
	return func() tea.Msg { return state.Goto("board") }
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	one := v.s.Sound
	if one == nil {
		return nil
	}
	field := one.Options.Field + " "
	if sounding.Whole(one.Options.By) {
		field = ""
	}
	out := []ui.Copy{ui.Text("the command", fmt.Sprintf("orenda sound '%s' %s--by %s --endpoint %s",
		one.Of.Draft, field, one.Options.By, one.Of.Endpoint))}
	if one.Result != nil && one.Result.Sentence != "" {
		out = append([]ui.Copy{ui.Text("what was found", one.Result.Name()+": "+one.Result.Sentence)}, out...)
	}
	return out
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	n := len(v.samples())
	v.cursor = min(max(v.cursor+ui.Rows(msg, v.height, n), 0), max(n-1, 0))
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	head := []string{"", "   " + ui.Strong("sounding"), ""}
	one := v.s.Sound
	if one == nil {
		return ui.Block(append(head,
			"   "+ui.Soft("nothing is sounded yet. In a draft, ")+ui.Strong("~")+
				ui.Soft(" at a field looks for the edge of what the service accepts there,"),
			"   "+ui.Soft("by sending it with other values.")), w, h)
	}
	head[1] += "   " + ui.Strong(ui.Cut(one.Options.Name(), 40)) + ui.Soft("   by "+one.Options.By+"   "+
		ui.Cut(one.Of.Draft.String()+" → "+one.Of.Endpoint, max(w-70, 10)))
	head = append(head, v.says(one, w)...)
	if r := one.Result; r != nil {
		head = append(head, scale(r, w)...)
	}
	all := v.samples()
	v.cursor = min(v.cursor, max(len(all)-1, 0))
	v.height = max(h-len(head), 1)
	v.top = ui.Window(v.cursor, v.top, v.height, len(all))
	v.Bar = ui.Bar{First: len(head), Height: v.height, Lines: len(all), At: v.cursor, Count: len(all)}
	for i := v.top; i < min(v.top+v.height, len(all)); i++ {
		head = append(head, row(all[i], i == v.cursor, w))
	}
	return ui.Block(head, w, h)
}

// says is what will be done, is being done, or was found.
func (v *View) says(one *state.Sounding, w int) (out []string) {
	o := one.Options
	how := "with other values of " + o.Field
	switch o.By {
	case "time":
		how = "with less and less time to answer"
	case "sending":
		how = "in other ways: in chunks, compressed, …"
	}
	text := fmt.Sprintf("It sends this draft up to %d times %s, %s between two calls, "+
		"and stops where the service locks out, or gets slow. ! begins; tab sounds another way.",
		o.Budget, how, o.Pause)
	switch {
	case one.Goes && one.Result != nil:
		text = fmt.Sprintf("%d of at most %d calls were sent · esc halts", one.Result.Calls, o.Budget)
	case one.Goes:
		text = "the first call is under way · esc halts"
	case one.Err != nil:
		text = one.Err.Error()
	case one.Result != nil:
		text = one.Result.Sentence
	}
	found := !one.Goes && one.Result != nil
	lines := strings.NewReplacer("; at most", "\nat most", "; the ", "\nthe ", "; refused:", "\nrefused:")
	for part := range strings.SplitSeq(lines.Replace(text), "\n") {
		for _, l := range ui.Wrap(part, min(w-6, 140)) {
			if found {
				l = ui.Strong(l)
			}
			out = append(out, "   "+l)
		}
		found = found && strings.HasPrefix(part, "at ")
	}
	return append(out, "")
}

// scale is all that was sent, in its order, as signs: what is taken stands together.
func scale(r *sounding.Result, w int) []string {
	var signs strings.Builder
	accepted, all := 0, r.Ordered()
	for _, s := range all[:min(len(all), max((w-8)/2, 1))] {
		if s.Accepted {
			accepted++
			signs.WriteString(ui.Good(marks.Passed) + " ")
		} else {
			signs.WriteString(ui.Accent(marks.Stopped) + " ")
		}
	}
	count := fmt.Sprintf("%d accepted, %d refused, in %d kinds of answers", accepted, len(all)-accepted, len(r.Kinds))
	return []string{"   " + signs.String(), "   " + ui.Soft(count), ""}
}

// row is one call in a line.
func row(s sounding.Sample, here bool, w int) string {
	lead, value := "   ", ui.Fit(s.Value, 28)
	if here {
		lead, value = ui.Accent(" ▌ "), ui.Strong(value)
	}
	sign, says := ui.Good(marks.Passed), ui.Soft("accepted")
	if !s.Accepted {
		sign, says = ui.Accent(marks.Stopped), ui.Cut(s.Says, max(w-38, 0))
	}
	return lead + sign + " " + value + " " + says
}
