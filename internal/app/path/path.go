// Package path is the heart of the application: the spine of eleven stages
// with their state, and beside it the stage that is looked at, set above seen,
// why it stopped, and the repair at hand.
package path

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// View is the path.
type View struct {
	moved  string // the call under way in which the person moved the cursor
	s      *state.State
	stage  exchange.Stage
	of     string        // id of the exchange that the cursor was put for
	hold   bool          // the cursor stays where it is until something is sent
	holdAt state.CallKey // over this call
	into   bool          // the cursor goes into the settings as soon as they are known
	set    int           // chosen setting, -1: the spine has the cursor
	remedy int
	ask    *exchange.Remedy   // shown before it is made
	askOf  *exchange.Exchange // that it repairs
	in     ui.Input
	key    string // setting that is being edited
	wrong  string // why the value that is typed will not do
	scroll int
	mean   bool // the findings are explained as the catalogue does
}

// New makes the path view.
func New(s *state.State) *View { return &View{s: s, stage: exchange.Address, set: -1} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	switch {
	case v.in.Active:
		return []ui.Key{
			{Show: "⏎", Does: "keep"},
			{Show: "esc", Does: "leave it"},
			{Show: "empty", Does: "back to the weaker layer"},
		}
	case v.ask != nil:
		return []ui.Key{
			ui.On("enter", "⏎", "make this change", ui.Do(v.apply)),
			ui.On("esc q n", "esc", "not now", ui.Do(v.notNow)),
		}
	case v.going():
		return append([]ui.Key{
			ui.Shown("h", "h", "halt"),
			ui.On("up down k j", "↑↓", "stage", v.move),
			ui.Shown("s", "s", "strip"),
			ui.On("right l", "→", "settings", ui.Do(v.intoSettings)),
			ui.Shown("?", "?", "help"),
			ui.On("left", "", "", ui.Do(func() { v.set = -1 })),
			ui.On("esc", "esc", "board", state.To("board")).InHelp(),
		}, v.lesserKeys()...)
	}
	keys := []ui.Key{}
	x := v.s.Exchange()
	switch {
	case v.set >= 0:
		keys = append(keys,
			ui.On("enter", "⏎", "change the setting", ui.Do(func() { v.change(x) })),
			ui.On("left esc", "←", "back to the stages", ui.Do(func() { v.set = -1 })))
	case len(v.offers(x)) > 0:
		keys = append(keys, ui.On("enter", "⏎", "repair", ui.Asks(v.repair)))
	}
	keys = append(keys,
		ui.Shown("g", "g", "go: send"),
		ui.On("up down k j", "↑↓", "stage", v.move),
		ui.On("right l", "→", "settings", ui.Do(v.intoSettings)),
		ui.Shown("s", "s", "strip"),
		ui.Shown("r", "r", "reply"),
		ui.Shown("d", "d", "draft"))
	if diagnose.HeldBack(x) {
		keys = append(keys, ui.On("!", "!", "send it all the same", ui.Asks(v.goAsItIs)))
	}
	keys = append(keys,
		ui.On("esc", "esc", "board", state.To("board")),
		ui.Shown("?", "?", "help"))
	return append(keys, v.lesserKeys()...)
}

// lesserKeys are those that stand in the help page only.
func (v *View) lesserKeys() []ui.Key {
	x := v.s.Exchange()
	rows := []ui.Key{
		ui.On("tab", "tab", "next remedy", ui.Do(v.nextOffer)),
		ui.On("[ ]", "[ ]", "earlier and later attempt", v.attempt),
		ui.On("=", "=", "compare it with the last that passed", ui.Asks(v.compare)),
		ui.Shown("w", "w", "write a drawing of the path"),
		ui.On("e", "e", "explain: what such a finding means, and what helps", ui.Do(func() { v.mean = !v.mean })),
		ui.On("m", "m", "find out more, by checks that carry nothing", ui.Do(v.s.FindOut)),
		ui.On("G", "G", "go only as far as this stage", ui.Asks(v.goUntil)),
		ui.On("0", "0", "set a warning aside, with the reason", ui.Asks(func() tea.Cmd { return v.setAside(x) })),
		ui.On("<", "< >", "lift the setting to the profile, or push it down to the endpoint",
			ui.Asks(func() tea.Cmd { return v.lift(x) })),
		ui.On(">", "", "", ui.Do(func() { v.pushDown(x) })),
		ui.On("pgup pgdown", "PgUp PgDn", "scroll what was seen", v.scrollSeen),
		ui.On("enter", "", "", ui.Do(v.sayNoRepair)),
	}
	for i := range rows {
		rows[i] = rows[i].InHelp()
	}
	return rows
}

// putCursor puts the cursor on the cause when another exchange comes into sight.
func (v *View) putCursor(x *exchange.Exchange) {
	id := x.ID + string(x.Outcome)
	v.goAlong(x)
	if v.of == id || x.ID == "" { // it is being found out
		return
	}
	before := x.Outcome == exchange.OutcomeUnderWay && v.s.Running() == nil // nothing was sent yet
	if v.hold && v.holdAt == v.s.Chosen && before {
		v.of = id
		if v.into {
			v.intoSettings()
		}
		return
	}
	v.into, v.s.Stage = false, exchange.None
	v.of, v.set, v.remedy, v.scroll, v.hold = id, -1, 0, 0, false
	switch {
	case len(x.Findings) > 0 && x.Findings[0].Severity != exchange.Note && x.Findings[0].Stage != exchange.None:
		v.stage = x.Findings[0].Stage
	case x.Outcome == exchange.OutcomePassed:
		v.stage = exchange.Read
	case before:
		v.stage = exchange.Address
	}
}

// goAlong puts the cursor on the stage that is under way, unless the person moved it.
func (v *View) goAlong(x *exchange.Exchange) {
	if !v.going() || v.moved == x.ID {
		return
	}
	for _, s := range exchange.Stages {
		if x.Stage(s).State == exchange.Open {
			v.stage, v.set = s, -1
		}
	}
}

// going tells whether the call is still on its way. One that has ended may yet be
// on its way into the journal: it is shown, and repaired, as what it is.
func (v *View) going() bool {
	x := v.s.Running()
	return x != nil && x.Outcome == exchange.OutcomeUnderWay
}

// offer is a remedy, and why it does not fit what is set now, if it does not.
type offer struct {
	exchange.Remedy
	outdated error
}

// offers are the remedies of the findings, the cause's first.
func (v *View) offers(x *exchange.Exchange) []offer {
	var out []offer
	for _, f := range x.Findings {
		for _, r := range f.Remedies {
			if !slices.ContainsFunc(out, func(o offer) bool { return o.Title == r.Title }) {
				out = append(out, offer{r, v.s.Fits(x, &r)})
			}
		}
	}
	return out
}

// shown are the settings of the stage that are worth a line.
func (v *View) shown(x *exchange.Exchange) []exchange.Setting {
	var out []exchange.Setting
	for _, s := range x.Settings {
		if k := endpoint.KeyOf(s.Key); k != nil && s.Stage == v.stage &&
			(!k.Minor || s.Source != "default" || v.set >= 0) {
			out = append(out, s)
		}
	}
	return out
}

const (
	spineWidth  = 58
	maxAttempts = 9 // lines that the attempts take at most: the stage has the room
)

// stageAt is the number of the stage on a line of the screen, or 0.
func (v *View) stageAt(y int) int {
	for i := range exchange.Stages {
		if y == lineOf(i) {
			return i + 1
		}
	}
	return 0
}

// lineOf is the line of the i-th stage: the path goes in four groups.
func lineOf(i int) int {
	y := 3 + i
	for _, g := range []int{4, 7, 9} {
		if i >= g {
			y++
		}
	}
	return y
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	x := v.s.Exchange()
	v.putCursor(x)
	head := []string{"", v.heading(x, w), ""}
	if w < 100 {
		return v.narrow(x, head, w, h)
	}
	left := spineWidth
	if w < 130 {
		left = 46
	}
	spine := v.spine(x, left-2)
	att := v.attempts(w-2, min(max(h-len(head)-len(spine)-3, 3), maxAttempts))
	room := h - len(head) - len(att)
	right := v.panel(x, w-left-3, room-1)
	upper := max(len(spine), len(right)) + 1
	lower := v.bytesPart(x, w-2, room-upper)
	if len(lower) > 0 {
		att, room = append(lower, att...), min(upper, room)
		for len(head)+room+len(att) < h {
			att = slices.Insert(att, len(lower)-1, "")
		}
	}
	out := head
	for i := range room {
		l, r := "", ""
		if i < len(spine) {
			l = spine[i]
		}
		if i < len(right) {
			r = right[i]
		}
		out = append(out, ui.Pad(l, left)+r)
	}
	return ui.Block(append(out, att...), w, h)
}

// narrow is the view for 80 columns: the spine as one line of ticks with the
// stage that is looked at below.
func (v *View) narrow(x *exchange.Exchange, head []string, w, h int) string {
	out := head[:2]
	line := "   "
	for i, s := range exchange.Stages {
		if i == 4 || i == 7 || i == 9 {
			line += " "
		}
		m := mark(x, s)
		if s == v.stage {
			m = ui.Accent("‹") + m + ui.Strong(" "+s.String()) + ui.Accent("›")
		}
		line += m
	}
	out = append(out, line, "")
	att := v.attempts(w-2, 5)
	room := h - len(out) - len(att)
	panel := v.tight(x, w-4, room)
	for i := range room {
		if i < len(panel) {
			out = append(out, "  "+panel[i])
		} else {
			out = append(out, "")
		}
	}
	out = append(out, att...)
	return ui.Block(out, w, h)
}
