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
func (v *View) stay() { v.hold = true }

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

//revive:disable-next-line:cyclomatic one screen, or the keys of one
func (v *View) press(k tea.KeyPressMsg) tea.Cmd {
	x := v.s.Exchange()
	if v.ask != nil {
		switch {
		case ui.Is(k, "enter"):
			v.apply()
		case ui.Is(k, "esc", "q", "n"):
			v.ask, v.askOf = nil, nil
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
		if n := len(v.offers(x)); n > 0 {
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
			set := v.s.W.Settings(v.s.Chosen.Endpoint)
			value = set.Text(v.key)
		}
		v.in.Start(value)
		return
	}
	r := v.offers(x)
	if v.going() {
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
	o := r[min(v.remedy, len(r)-1)]
	if o.outdated != nil {
		v.s.Say("%v", o.outdated)
		return
	}
	v.ask, v.askOf = &o.Remedy, x
}

func (v *View) apply() {
	r, x := v.ask, v.askOf
	v.hold = false
	v.ask, v.askOf = nil, nil
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
		v.s.Say("the %s is not the endpoint's own: it comes from %s", val.Key.Label, val.Source)
		return nil
	}
	end := v.s.W.Endpoint(v.s.Chosen.Endpoint)
	profile := end.Profile
	if profile == "" {
		profile = workspace.Everywhere
	}
	return func() tea.Msg {
		return state.Ask{
			Prompt: "lift the " + val.Key.Label + " to the profile (" + workspace.Everywhere + " is your own, for " +
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
				v.s.Say("the %s is the profile's now: %s", val.Key.Label, name)
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
