// Package path is the heart of the application: the spine of eleven stages
// with their state, and beside it the stage that is looked at, set above seen,
// why it stopped, and the repair at hand.
package path

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// View is the path.
type View struct {
	s      *state.State
	stage  exchange.Stage
	of     string // id of the exchange that the cursor was put for
	set    int    // chosen setting, -1: the spine has the cursor
	remedy int
	ask    *exchange.Remedy // shown before it is made
	in     ui.Input
	key    string // setting that is being edited
	wrong  string // why the value that is typed will not do
	scroll int
	mean   bool     // the findings are explained as the catalogue does
	sums   struct { // what was told of an exchange's sizes
		of, operation string
		sizes         diagnose.Sizes
		programs      [][2]string
	}
}

// New makes the path view.
func New(s *state.State) *View { return &View{s: s, stage: exchange.Address, set: -1} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	switch {
	case v.in.Active:
		return []ui.Key{{Show: "⏎", Does: "keep"}, {Show: "esc", Does: "leave it"}, {Show: "empty", Does: "back to the weaker layer"}}
	case v.ask != nil:
		return []ui.Key{{Show: "⏎", Does: "make this change"}, {Show: "esc", Does: "not now"}}
	case v.s.Running() != nil:
		return []ui.Key{{Press: "h", Show: "h", Does: "halt"}, {Press: "up down", Show: "↑↓", Does: "stage"}, {Press: "s", Show: "s", Does: "strip"}, {Press: "?", Show: "?", Does: "help"}}
	}
	keys := []ui.Key{}
	x := v.s.Exchange()
	if v.set >= 0 {
		keys = append(keys, ui.Key{Press: "enter", Show: "⏎", Does: "change the setting"}, ui.Key{Press: "left", Show: "←", Does: "back to the stages"})
	} else if len(v.remedies(x)) > 0 {
		keys = append(keys, ui.Key{Press: "enter", Show: "⏎", Does: "repair"})
	}
	keys = append(keys, ui.Key{Press: "g", Show: "g", Does: "go: send"}, ui.Key{Press: "up down", Show: "↑↓", Does: "stage"}, ui.Key{Press: "right", Show: "→", Does: "settings"},
		ui.Key{Press: "s", Show: "s", Does: "strip"}, ui.Key{Press: "r", Show: "r", Does: "reply"}, ui.Key{Press: "d", Show: "d", Does: "draft"}, ui.Key{Press: "esc", Show: "esc", Does: "board"},
		ui.Key{Press: "tab", Show: "tab", Does: "next remedy", Minor: true}, ui.Key{Press: "[ ]", Show: "[ ]", Does: "earlier and later attempt", Minor: true},
		ui.Key{Press: "w", Show: "w", Does: "write a drawing of the path", Minor: true}, ui.Key{Press: "e", Show: "e", Does: "explain: what such a finding means, and what helps", Minor: true},
		ui.Key{Press: "f", Show: "f", Does: "find out what is behind it, by checks that carry nothing", Minor: true},
		ui.Key{Press: "G", Show: "G", Does: "go only as far as this stage", Minor: true}, ui.Key{Press: "A", Show: "A", Does: "set a warning aside, with the reason", Minor: true},
		ui.Key{Press: "< >", Show: "< >", Does: "lift the setting to the profile, or push it down to the endpoint", Minor: true}, ui.Key{Press: "pgup pgdown", Show: "PgUp PgDn", Does: "scroll what was seen", Minor: true})
	return keys
}

// settled puts the cursor on the cause when another exchange comes into sight.
func (v *View) settled(x *exchange.Exchange) {
	id := x.ID + string(x.Outcome)
	if v.of == id {
		return
	}
	v.of, v.set, v.remedy, v.scroll = id, -1, 0, 0
	switch {
	case len(x.Findings) > 0 && x.Findings[0].Severity != exchange.Note && x.Findings[0].Stage != exchange.None:
		v.stage = x.Findings[0].Stage
	case x.Outcome == exchange.OutcomePassed:
		v.stage = exchange.Read
	case x.Outcome == exchange.OutcomeUnderWay && v.s.Running() == nil:
		v.stage = exchange.Address
	}
}

// remedies are those of the findings, the cause's first.
func (v *View) remedies(x *exchange.Exchange) []exchange.Remedy {
	var out []exchange.Remedy
	for _, f := range x.Findings {
		for _, r := range f.Remedies {
			if !slices.ContainsFunc(out, func(o exchange.Remedy) bool { return o.Title == r.Title }) {
				out = append(out, r)
			}
		}
	}
	return out
}

// shown are the settings of the stage that are worth a line.
func (v *View) shown(x *exchange.Exchange) []exchange.Setting {
	var out []exchange.Setting
	for _, s := range x.Settings {
		if k := endpoint.KeyOf(s.Key); k != nil && s.Stage == v.stage && (!k.Minor || s.Source != "default" || v.set >= 0) {
			out = append(out, s)
		}
	}
	return out
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		return v.edit(msg)
	}
	switch msg := msg.(type) {
	case tea.MouseClickMsg:
		if i := v.stageAt(msg.Y); i > 0 && msg.X < spineWidth {
			v.stage, v.set = exchange.Stage(i), -1
		}
	case tea.MouseWheelMsg:
		if msg.Button == tea.MouseWheelUp {
			v.scroll = max(v.scroll-2, 0)
		} else {
			v.scroll += 2
		}
	case tea.KeyPressMsg:
		return v.press(msg)
	}
	return nil
}

func (v *View) edit(msg tea.Msg) tea.Cmd {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case ui.Is(k, "enter"):
			if err := v.s.SetSetting(v.key, v.in.Value()); err != nil {
				v.wrong = err.Error()
				return nil
			}
			v.in.Stop()
			v.wrong = ""
			v.stay()
			return nil
		case ui.Is(k, "esc"):
			v.in.Stop()
			v.wrong = ""
			return nil
		case ui.Is(k, "up", "down"):
			if of := endpoint.KeyOf(v.key).Of; len(of) > 0 {
				v.in.SetValue(next(of, v.in.Value(), ui.Is(k, "down")))
				return nil
			}
		}
	}
	cmd := v.in.Update(msg)
	v.wrong = ""
	if value := strings.TrimSpace(v.in.Value()); value != "" {
		if k := endpoint.KeyOf(v.key); k.Kind != endpoint.List {
			if err := k.Check(value); err != nil {
				v.wrong = err.Error()
			}
		}
	}
	return cmd
}

// stay keeps the cursor where it is although another record comes into sight.
func (v *View) stay() {
	x := v.s.Exchange()
	v.of = x.ID + string(x.Outcome)
}

func next(of []string, now string, forward bool) string {
	at := -1
	for i, o := range of {
		if o == now {
			at = i
		}
	}
	if forward {
		return of[(at+1)%len(of)]
	}
	return of[(max(at, 0)+len(of)-1)%len(of)]
}

func (v *View) press(k tea.KeyPressMsg) tea.Cmd {
	x := v.s.Exchange()
	if v.ask != nil {
		switch {
		case ui.Is(k, "enter"):
			v.apply()
		case ui.Is(k, "esc", "q", "n"):
			v.ask = nil
		}
		return nil
	}
	switch {
	case ui.Is(k, "up", "k"):
		v.move(-1, x)
	case ui.Is(k, "down", "j"):
		v.move(1, x)
	case ui.Is(k, "right", "l"):
		if v.set < 0 {
			v.set = 0
			if len(v.shown(x)) == 0 {
				v.set = -1
				v.s.Say("nothing is set at %s", v.stage)
			}
		}
	case ui.Is(k, "left"):
		v.set = -1
	case ui.Is(k, "esc"):
		if v.set >= 0 {
			v.set = -1
			return nil
		}
		return func() tea.Msg { return state.Goto("board") }
	case ui.Is(k, "G"):
		if v.stage < exchange.Send {
			v.s.SendUntil(v.stage)
		} else if a := v.s.Careful(v.s.One(), func() { v.s.SendUntil(v.stage) }); a != nil {
			return func() tea.Msg { return *a }
		}
	case ui.Is(k, "e"):
		v.mean = !v.mean
	case ui.Is(k, "f"):
		v.s.FindOut()
	case ui.Is(k, "A"):
		return v.setAside(x)
	case ui.Is(k, "<"):
		return v.lift(x)
	case ui.Is(k, ">"):
		v.pushDown(x)
	case ui.Is(k, "tab"):
		if n := len(v.remedies(x)); n > 0 {
			v.remedy = (v.remedy + 1) % n
		}
	case ui.Is(k, "["):
		v.s.Shown = max(v.s.Shown-1, 0)
	case ui.Is(k, "]"):
		v.s.Shown = min(v.s.Shown+1, len(v.s.Attempts))
	case ui.Is(k, "pgdown"):
		v.scroll += 5
	case ui.Is(k, "pgup"):
		v.scroll = max(v.scroll-5, 0)
	case ui.Is(k, "enter"):
		v.enter(x)
	}
	return nil
}

func (v *View) move(d int, x *exchange.Exchange) {
	if v.set >= 0 {
		v.set = min(max(v.set+d, 0), max(len(v.shown(x))-1, 0))
		return
	}
	v.stage = exchange.Stage(min(max(int(v.stage)+d, 1), len(exchange.Stages)))
	v.scroll = 0
}

func (v *View) enter(x *exchange.Exchange) {
	if v.set >= 0 {
		list := v.shown(x)
		if v.set >= len(list) {
			return
		}
		v.key = list[v.set].Key
		value := list[v.set].Value
		if v.s.Fetching == nil {
			set := v.s.W.Settings(v.s.Cell.Endpoint)
			value = set.Text(v.key)
		}
		v.in.Start(value)
		return
	}
	r := v.remedies(x)
	if now := v.s.Running(); now != nil && now.Outcome == exchange.OutcomeUnderWay { // what has ended is only being kept
		return
	}
	if v.s.Fetching == nil && v.s.Shown == len(v.s.Attempts) && len(v.s.Pending()) > 0 && len(r) == 0 {
		v.s.Say("changed; g sends it again")
		return
	}
	if len(r) == 0 {
		v.s.Say("no repair is offered here; g sends, → changes settings")
		return
	}
	v.ask = &r[min(v.remedy, len(r)-1)]
}

func (v *View) apply() {
	r := v.ask
	v.ask = nil
	if err := v.s.ApplyRemedy(r); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say("done: %s; g sends it again", r.Title)
}

// aside is the finding that would be set aside: the first of the stage that is
// no stop, else the first of all.
func (v *View) aside(x *exchange.Exchange) *exchange.Finding {
	var first *exchange.Finding
	for i := range x.Findings {
		f := &x.Findings[i]
		if f.Severity == exchange.Stop || f.ID == "" {
			continue
		}
		if f.Stage == v.stage {
			return f
		}
		if first == nil {
			first = f
		}
	}
	return first
}

func (v *View) setAside(x *exchange.Exchange) tea.Cmd {
	f := v.aside(x)
	if f == nil || v.s.Fetching != nil || v.s.Cell.Endpoint == "" {
		v.s.Say("there is no warning here that could be set aside")
		return nil
	}
	id, end := f.ID, v.s.Cell.Endpoint
	return func() tea.Msg {
		return state.Ask{Prompt: "why “" + ui.Cut(f.Title, 40) + "” may be ignored at " + end + " (empty: it counts)", Value: f.SetAside, Answer: func(why string) {
			if err := v.s.W.SetAside(end, id, why); err != nil {
				v.s.Say("%v", err)
				return
			}
			v.s.Changed()
			v.s.Shown = len(v.s.Attempts)
			v.stay()
			if why == "" {
				v.s.Say("%s counts again at %s", id, end)
				return
			}
			v.s.Say("%s is set aside at %s", id, end)
		}}
	}
}

// chosen is the setting under the cursor, as the endpoint has it now.
func (v *View) chosen(x *exchange.Exchange) (endpoint.Value, bool) {
	list := v.shown(x)
	if v.set < 0 || v.set >= len(list) || v.s.Fetching != nil || v.s.Cell.Endpoint == "" {
		v.s.Say("choose a setting first (→)")
		return endpoint.Value{}, false
	}
	set := v.s.W.Settings(v.s.Cell.Endpoint)
	return set.Get(list[v.set].Key), true
}

// lift moves a value of the endpoint's own to its profile, or to the person's.
func (v *View) lift(x *exchange.Exchange) tea.Cmd {
	val, ok := v.chosen(x)
	if !ok {
		return nil
	}
	if val.Source != "endpoint" {
		v.s.Say("the %s is not the endpoint's own: it comes from %s", val.Key.Label, val.Source)
		return nil
	}
	end := v.s.W.Endpoint(v.s.Cell.Endpoint)
	profile := end.Profile
	if profile == "" {
		profile = workspace.Everywhere
	}
	return func() tea.Msg {
		return state.Ask{Prompt: "lift the " + val.Key.Label + " to the profile (" + workspace.Everywhere + " is your own, for all workspaces)", Value: profile, Answer: func(name string) {
			if name == "" {
				return
			}
			if err := v.s.Lift(val, name); err != nil {
				v.s.Say("%v", err)
				return
			}
			v.stay()
			v.s.Say("the %s is the profile's now: %s", val.Key.Label, name)
		}}
	}
}

// pushDown makes a value that the endpoint shares its own.
func (v *View) pushDown(x *exchange.Exchange) {
	val, ok := v.chosen(x)
	if !ok {
		return
	}
	if val.Source == "endpoint" {
		v.s.Say("the %s is the endpoint's own already", val.Key.Label)
		return
	}
	if err := v.s.PushDown(val); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.stay()
	v.s.Say("the %s is the endpoint's own now", val.Key.Label)
}

const (
	spineWidth   = 58
	mostAttempts = 9 // lines that the attempts take at most: the stage has the room
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
	v.settled(x)
	head := []string{"", v.heading(x, w), ""}
	if w < 100 {
		return v.narrow(x, head, w, h)
	}
	left := spineWidth
	if w < 130 {
		left = 46
	}
	spine := v.spine(x, left-2)
	att := v.attempts(w-2, min(max(h-len(head)-len(spine)-3, 3), mostAttempts))
	room := h - len(head) - len(att)
	right := v.panel(x, w-left-3, room-1)
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
	panel := v.panel(x, w-4, room)
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

func (v *View) heading(x *exchange.Exchange, w int) string {
	if x.Kind == "relay" || x.Kind == "log-in" {
		what := map[string]string{"relay": "relay: " + x.Operation, "log-in": x.Operation}[x.Kind]
		return "   " + ui.Strong(ui.Cut(what+" → "+x.Stage(exchange.Address).Facts.Get("resolved"), w*2/3)) + ui.Soft("   "+x.Ending())
	}
	if x.Kind == "fetch" {
		return "   " + ui.Strong(ui.Cut("fetching "+x.Stage(exchange.Address).Facts.Get("resolved"), w/2)) + ui.Soft("   "+x.Ending())
	}
	c := v.s.Cell
	name := fmt.Sprintf("%s · %s → %s", c.Draft.Operation, c.Draft.Name, cmp.Or(c.Endpoint, "no endpoint"))
	if v.s.Environment != "" {
		name += " in " + v.s.Environment
	}
	tail := ui.Soft("not sent yet")
	switch {
	case v.s.Running() != nil:
		tail = ui.Accent(fmt.Sprintf("attempt %d · under way", len(v.s.Attempts)+1))
	case v.s.Shown < len(v.s.Attempts):
		tail = fmt.Sprintf("attempt %d · %s", v.s.Shown+1, x.Ending())
	case len(v.s.Attempts) > 0:
		tail = ui.Soft(fmt.Sprintf("attempt %d is ready to go", len(v.s.Attempts)+1))
	}
	left := "   " + ui.Strong(ui.Cut(name, max(w-ui.Width(tail)-8, 10)))
	return left + strings.Repeat(" ", max(w-ui.Width(left)-ui.Width(tail)-3, 1)) + tail
}

func mark(x *exchange.Exchange, s exchange.Stage) string {
	switch x.Stage(s).State {
	case exchange.Passed:
		return "▮"
	case exchange.Warned:
		return ui.Accent("▮")
	case exchange.Open:
		return ui.Accent("▹")
	case exchange.Stopped:
		return ui.Accent("▯")
	case exchange.Skipped:
		return ui.Soft("╌")
	}
	return ui.Soft("▯")
}

func (v *View) spine(x *exchange.Exchange, w int) []string {
	var out []string
	cause := exchange.None
	if c := x.Cause(); c != nil {
		cause = c.Stage
	}
	for i, s := range exchange.Stages {
		if i == 4 || i == 7 || i == 9 {
			out = append(out, "")
		}
		st := x.Stage(s)
		note := st.Note
		switch {
		case st.State == exchange.Stopped && note == "":
			note = "stopped here"
		case st.State == exchange.Open && note == "":
			note = v.live(x, s)
		case st.State == exchange.Cancelled:
			note = "halted here"
		}
		if cause == s && x.StoppedAt != s && x.StoppedAt != exchange.None {
			note = "the cause is here"
		}
		took := ""
		if st.State == exchange.Passed || st.State == exchange.Warned || st.State == exchange.Stopped {
			took = exchange.Took(st.DurationNs)
		}
		room := w - 19 - ui.Width(took)
		cursor := "  "
		name := ui.Fit(s.String(), 9)
		text := ui.Fit(note, room)
		switch {
		case s == v.stage && v.set < 0:
			cursor = ui.Accent(" ▌")
			name = ui.Strong(name)
		case s == v.stage:
			cursor = ui.Soft(" ▌")
			name = ui.Strong(name)
		case st.State == exchange.Waiting || st.State == exchange.Skipped:
			name = ui.Soft(name)
		}
		if st.State == exchange.Stopped || cause == s {
			text = ui.Accent(text)
		} else if s != v.stage {
			text = ui.Soft(text)
		}
		out = append(out, fmt.Sprintf("%s %s %s %s %s %s", cursor, mark(x, s), ui.Soft(fmt.Sprintf("%2d", i+1)), name, text, ui.Soft(took)))
	}
	return out
}

// live is what is seen of a stage while it is open.
func (v *View) live(x *exchange.Exchange, s exchange.Stage) string {
	l := x.Leg()
	switch {
	case s == exchange.Receive && l != nil:
		if l.Response.Declared > 0 {
			return fmt.Sprintf("%s of %s B", diagnose.Bytes(l.Response.BodySize), diagnose.Bytes(l.Response.Declared))
		}
		return diagnose.Bytes(l.Response.BodySize) + " B so far"
	case s == exchange.Send && l != nil:
		return diagnose.Bytes(int64(len(l.Out))) + " B so far"
	}
	return "…"
}

// attempts keeps the last attempts in sight: their reach, what was changed
// before each, and their key result.
func (v *View) attempts(w, h int) []string {
	if h < 2 || len(v.s.Attempts) == 0 && v.s.Running() == nil {
		return nil
	}
	out := []string{"   " + ui.Soft("attempts")}
	type one struct {
		n int
		x *exchange.Exchange
	}
	var all []one
	for i, x := range v.s.Attempts {
		all = append(all, one{i + 1, x})
	}
	if x := v.s.Running(); x != nil {
		all = append(all, one{len(all) + 1, x})
	}
	var lines []string
	result := max((w-26)*3/5, 20)
	for i, a := range all {
		text := a.x.Result
		if a.x.Outcome == exchange.OutcomeUnderWay {
			text = "under way"
		}
		var prev *exchange.Exchange
		if i > 0 {
			prev = all[i-1].x
		}
		n, said := ui.Soft(fmt.Sprintf("%3d", a.n)), ui.Fit(text, result)
		if a.n == v.s.Shown+1 && v.s.Running() == nil {
			n, said = ui.Accent("›")+ui.Strong(fmt.Sprintf("%2d", a.n)), ui.Strong(said)
		}
		before := ""
		if d := difference(prev, a.x); d != "" {
			before = ui.Soft(ui.Cut("after "+d, w-result-28))
		}
		lines = append(lines, fmt.Sprintf(" %s  %s  %s  %s", n, ui.Reach(a.x), said, before))
	}
	if n := len(lines); n > h-1 {
		from := min(n-(h-1), max(v.s.Shown-1, 0)) // the one in sight is among them
		lines = lines[from : from+h-1]
	}
	return append(append(out, lines...), "")
}

// difference is what tells an attempt from the one before: changed settings,
// or changed input values.
func difference(prev, x *exchange.Exchange) string {
	var parts []string
	for _, c := range x.Changes {
		if c.Where == "user" {
			continue
		}
		_, key, _ := strings.Cut(c.Key, ".")
		_, key, _ = strings.Cut(key, ".")
		_, to, _ := strings.Cut(c.String(), "→ ")
		parts = append(parts, key+" "+to)
	}
	if prev != nil && len(prev.Inputs) > 0 {
		old := map[string]string{}
		for _, in := range prev.Inputs {
			old[in.Path] = in.Value
		}
		for _, in := range x.Inputs {
			if old[in.Path] != in.Value {
				parts = append(parts, in.Path+" "+in.Value)
			}
		}
	}
	return strings.Join(parts, " · ")
}
