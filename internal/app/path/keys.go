package path

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.in.Active {
		return v.edit(msg)
	}
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		if msg.Button == tea.MouseWheelUp {
			v.scroll = max(v.scroll-2, 0)
		} else {
			v.scroll += 2
		}
	case tea.KeyPressMsg:
		return ui.Press(v.Keys(), msg)
	}
	return nil
}

// Click goes to the stage that was clicked.
func (v *View) Click(m tea.MouseClickMsg) (tea.Cmd, bool) {
	if i := v.stageAt(m.Y); i > 0 && m.X < spineWidth {
		v.stage, v.set = exchange.Stage(i), -1
		v.s.Stage = v.stage
	}
	return nil, true
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
		if err := endpoint.KeyOf(v.key).Check(value); err != nil {
			v.wrong = err.Error()
		}
	}
	return cmd
}

// stay keeps the cursor where it is although another record of the same call comes
// into sight.
func (v *View) stay() { v.hold, v.holdAt = true, v.s.Chosen }

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

// move goes to the stage, or among settings to the setting, above or below.
func (v *View) move(k tea.KeyPressMsg) tea.Cmd {
	v.stay()
	if v.going() {
		v.moved = v.s.Running().ID
	}
	d := 1
	if ui.Is(k, "up", "k") {
		d = -1
	}
	if v.set >= 0 {
		v.set = min(max(v.set+d, 0), max(len(v.shown(v.s.Exchange()))-1, 0))
		return nil
	}
	v.stage = exchange.Stage(min(max(int(v.stage)+d, 1), len(exchange.Stages)))
	v.s.Stage = v.stage
	v.scroll = 0
	return nil
}

// intoSettings puts the cursor on the settings of the stage.
func (v *View) intoSettings() {
	if v.set >= 0 {
		return
	}
	x := v.s.Exchange()
	v.stay()
	if v.into = x.ID == ""; v.into { // what is set is being found out
		return
	}
	if len(v.shown(x)) == 0 {
		v.s.Say("nothing is set at %s", v.stage)
		return
	}
	v.set = 0
}

// goUntil sends the call as far as the chosen stage.
func (v *View) goUntil() tea.Cmd {
	if v.stage < exchange.Send {
		v.s.SendUntil(v.stage)
	} else if a := v.s.Careful(v.s.One(), func() { v.s.SendUntil(v.stage) }); a != nil {
		return func() tea.Msg { return *a }
	}
	return nil
}

// goAsItIs sends the message that was held back.
func (v *View) goAsItIs() tea.Cmd {
	if a := v.s.Careful(v.s.One(), v.s.SendAsItIs); a != nil {
		return func() tea.Msg { return *a }
	}
	return nil
}

func (v *View) nextOffer() {
	if n := len(v.offers(v.s.Exchange())); n > 0 {
		v.remedy = (v.remedy + 1) % n
	}
}

// attempt shows an earlier or a later attempt.
func (v *View) attempt(k tea.KeyPressMsg) tea.Cmd {
	v.s.Shown = min(v.s.Shown+1, len(v.s.Attempts))
	if ui.Is(k, "[") {
		v.s.Shown = max(v.s.Shown-2, 0)
	}
	return nil
}

func (v *View) scrollSeen(k tea.KeyPressMsg) tea.Cmd {
	if v.scroll += 5; ui.Is(k, "pgup") {
		v.scroll = max(v.scroll-10, 0)
	}
	return nil
}

// change begins to type the setting under the cursor.
func (v *View) change(x *exchange.Exchange) {
	list := v.shown(x)
	if v.set >= len(list) {
		return
	}
	v.key = list[v.set].Key
	value := list[v.set].Value
	if v.s.Fetching == nil {
		set := v.s.W.Settings(v.s.Chosen.Endpoint)
		value = set.Text(v.key)
	}
	v.in.Start(value)
}

// repair asks whether the chosen remedy is to be done, or for what it needs.
func (v *View) repair() tea.Cmd {
	x := v.s.Exchange()
	r := v.offers(x)
	o := r[min(v.remedy, len(r)-1)]
	if o.outdated != nil {
		v.s.Say("%v", o.outdated)
		return nil
	}
	if o.Needs != "" {
		return v.s.Identify(o.Needs, func(name string) tea.Cmd {
			r := o.For(name)
			v.ask, v.askOf = &r, x
			return nil
		})
	}
	v.ask, v.askOf = &o.Remedy, x
	return nil
}

// sayNoRepair says what to press where there is nothing to repair.
func (v *View) sayNoRepair() {
	switch {
	case v.going():
	case v.s.Fetching == nil && v.s.Shown == len(v.s.Attempts) && len(v.s.Pending()) > 0:
		v.s.Say("changed; g sends it again")
	default:
		v.s.Say("no repair is offered here; g sends, → changes settings")
	}
}

// notNow leaves the question.
func (v *View) notNow() { v.ask, v.askOf = nil, nil }

func (v *View) apply() {
	r, x := v.ask, v.askOf
	v.hold = false
	v.notNow()
	if err := v.s.Fits(x, r); err != nil { // another program changed it meanwhile
		v.s.Say("%v", err)
		return
	}
	if err := v.s.ApplyRemedy(r); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say("done: %s; g sends it again", r.Title)
}

// ignorable is the finding that would be set aside: the first of the stage that is
// no stop, else the first of all.
func (v *View) ignorable(x *exchange.Exchange) *exchange.Finding {
	var first *exchange.Finding
	for i := range x.Findings {
		f := &x.Findings[i]
		if f.Severity == exchange.Stop && f.ID != "message.invalid" || f.ID == "" {
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
	f := v.ignorable(x)
	if f == nil || v.s.Fetching != nil || v.s.Chosen.Endpoint == "" {
		v.s.Say("there is no warning here that could be set aside")
		return nil
	}
	id, end := f.ID, v.s.Chosen.Endpoint
	return func() tea.Msg {
		return state.Ask{
			Prompt: "why “" + ui.Cut(f.Title, 40) + "” may be ignored at " + end + " (empty: it counts)",
			Value:  f.SetAside,
			Answer: func(why string) {
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
			},
		}
	}
}

// chosen is the setting under the cursor, as the endpoint has it now.
func (v *View) chosen(x *exchange.Exchange) (endpoint.Value, bool) {
	list := v.shown(x)
	if v.set < 0 || v.set >= len(list) || v.s.Fetching != nil || v.s.Chosen.Endpoint == "" {
		v.s.Say("choose a setting first (→)")
		return endpoint.Value{}, false
	}
	set := v.s.W.Settings(v.s.Chosen.Endpoint)
	return set.Get(list[v.set].Key), true
}

// lift moves a value of the endpoint's own to its profile, or to the person's.
func (v *View) lift(x *exchange.Exchange) tea.Cmd {
	val, ok := v.chosen(x)
	if !ok {
		return nil
	}
	if val.Source != "endpoint" {
		v.s.Say("the %s is not the endpoint's own: it comes from %s", val.Key.Label(), val.Source)
		return nil
	}
	end := v.s.W.Endpoint(v.s.Chosen.Endpoint)
	profile := end.Profile
	if profile == "" {
		profile = workspace.Everywhere
	}
	return func() tea.Msg {
		return state.Ask{
			Prompt: "lift the " + val.Key.Label() + " to the profile (" + workspace.Everywhere + " is your own, for " +
				"all workspaces)",
			Value: profile,
			Answer: func(name string) {
				if name == "" {
					return
				}
				if err := v.s.Lift(val, name); err != nil {
					v.s.Say("%v", err)
					return
				}
				v.stay()
				v.s.Say("the %s is the profile's now: %s", val.Key.Label(), name)
			},
		}
	}
}

// pushDown makes a value that the endpoint shares its own.
func (v *View) pushDown(x *exchange.Exchange) {
	val, ok := v.chosen(x)
	if !ok {
		return
	}
	if val.Source == "endpoint" {
		v.s.Say("the %s is the endpoint's own already", val.Key.Label())
		return
	}
	if err := v.s.PushDown(val); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.stay()
	v.s.Say("the %s is the endpoint's own now", val.Key.Label())
}

// compare compares the call in sight with the last that passed.
func (v *View) compare() tea.Cmd {
	if !v.s.CompareInSight() {
		return nil
	}
	return func() tea.Msg { return state.Goto("compare") }
}
