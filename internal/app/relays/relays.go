// Package relays lets calls of other programs pass through here: where they are to call, what
// came, and how the relay answers by itself.
package relays

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// View is the view of relays.
type View struct {
	s      *state.State
	cursor int
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return false }

// at is the relay under the cursor, nil where there is none.
func (v *View) at() *state.Relay {
	if v.cursor >= len(v.s.Relays) {
		return nil
	}
	return v.s.Relays[v.cursor]
}

// kept is the relay under the cursor that the workspace keeps and that does not run; nil where
// it runs, or where there is none.
func (v *View) kept() *workspace.Route {
	all, _ := v.s.Routes()
	if i := v.cursor - len(v.s.Relays); i >= 0 && i < len(all) {
		return all[i]
	}
	return nil
}

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	one := v.at() != nil
	if v.kept() != nil {
		return []ui.Key{
			ui.Shown("up down", "↑↓", "choose"),
			ui.On("enter", "⏎", "open: let it listen", ui.Asks(v.start)),
			ui.On("a", "a", "add a relay", ui.Asks(v.add)),
			ui.On("X", "X", "remove it from the workspace", ui.Do(v.drop)),
			ui.On("esc", "esc", "board", state.To("board")),
			ui.Shown("?", "?", "help"),
		}
	}
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("a", "a", "add a relay", ui.Asks(v.add)),
		ui.On("enter", "⏎", "open what came", ui.Asks(v.came)).If(one),
		ui.On("*", "*", "answer by itself, or change what passes", ui.Asks(v.answers)).If(one),
		ui.On("+", "+", "keep it with the workspace", ui.Asks(v.keep)).If(one),
		ui.On("X", "X", "remove it", ui.Do(v.stop)).If(one),
		ui.Shown("y", "y", "copy its address"),
		ui.On("esc", "esc", "board", state.To("board")),
		ui.Shown("?", "?", "help"),
	}
}

// add asks what the relay leads to, and starts it.
func (v *View) add() tea.Cmd {
	first := v.s.Chosen.Endpoint
	return state.AskFor("where to: an endpoint, or the address of the service", first, func(to string) {
		if to = strings.TrimSpace(to); to == "" {
			return
		}
		if err := v.s.StartRelay(to, true); err != nil {
			v.s.Say("%v", err)
			return
		}
		v.cursor = len(v.s.Relays) - 1
		v.s.Say("it listens; put the address into your program")
	})
}

// came shows what came through relays in the traffic.
func (v *View) came() tea.Cmd {
	words := "from relay"
	if name := v.at().To; v.s.W.Endpoint(name) != nil {
		words += " in " + name
	}
	if err := v.s.FilterTraffic(words); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	return func() tea.Msg { return state.Goto("traffic") }
}

// answers lets the person choose how the relay answers.
func (v *View) answers() tea.Cmd {
	r := v.at()
	kinds := []workspace.Answering{{}, {Example: true}, {Fault: true}, {Page: true}}
	options := []string{
		"pass everything on to the service", "answer with an example reply of the contract", "answer with a fault",
		"answer with a gateway's page, 502", "answer as the last call that passed was answered",
		"answer, or pass on, only after a while", "give each request a header field",
		"answer a GET with the contract", "give each request the endpoint's security, at another address",
	}
	pick := state.Pick{Prompt: "how the relay answers", Options: options}
	pick.Take = func(i int) tea.Cmd {
		switch {
		case i < len(kinds):
			if i > 0 {
				now := r.Answering
				kinds[i].After, kinds[i].Add, kinds[i].Describe = now.After, now.Add, now.Describe
				kinds[i].Secure = now.Secure
			}
			r.AnswerBy(kinds[i])
		case i == len(kinds):
			if err := v.s.AnswerAsLast(r); err != nil {
				v.s.Say("%v", err)
			}
		case i == len(kinds)+2:
			return v.addField(r)
		case i == len(kinds)+4:
			if err := v.s.SecureRelay(r); err != nil {
				v.s.Say("%v", err)
				return nil
			}
			v.cursor = len(v.s.Relays) - 1
			v.s.Say("it has a new address that nobody guesses; put it into your program")
		case i == len(kinds)+3:
			a := r.Answering
			a.Describe = true
			r.AnswerBy(a)
		default:
			return state.AskFor("after how long (2s, 500ms)", "2s", func(text string) {
				d, err := endpoint.ParseDuration(text)
				const most = 10 * time.Minute
				if err != nil || d < 0 || d > most {
					v.s.Say("%q is no time up to 10 minutes", text)
					return
				}
				a := r.Answering
				a.After = d
				r.AnswerBy(a)
			})
		}
		return nil
	}
	return func() tea.Msg { return pick }
}

// addField asks for a header field that each request gets.
func (v *View) addField(r *state.Relay) tea.Cmd {
	return state.AskFor("header field, in the place of one of its name (Name: value)", "", func(text string) {
		f, err := workspace.Field(text)
		if err != nil {
			v.s.Say("%v", err)
			return
		}
		if exchange.SecretName(f[0]) { // whoever knew the address would call as the person
			v.s.Say("%s holds a secret: orenda relay --add gives it, behind an address that nobody guesses", f[0])
			return
		}
		a := r.Answering
		a.Add = append(slices.Clone(a.Add), f)
		r.AnswerBy(a)
	})
}

// keep keeps the relay with the workspace.
func (v *View) keep() tea.Cmd {
	r := v.at()
	return state.AskFor("name of the relay in "+workspace.RelaysFile, cmp.Or(r.Name, r.To), func(name string) {
		if err := v.s.KeepRelay(r, name); err != nil {
			v.s.Say("%v", err)
			return
		}
		v.s.Say("the workspace keeps it as %s; orenda relay %s starts it too", name, name)
	})
}

// start starts a relay that the workspace keeps; what nobody let it do is asked for.
func (v *View) start() tea.Cmd {
	r := v.kept()
	begin := func() {
		if err := v.s.StartRoute(r); err != nil {
			v.s.Say("%v", err)
			return
		}
		v.cursor = len(v.s.Relays) - 1
		v.s.Say("it listens; put the address into your program")
	}
	if v.s.W.RouteApproved(r) {
		begin()
		return nil
	}
	return state.AskFor("the file "+workspace.RelaysFile+" has it lead to "+r.Leads()+": let it? (yes or no)", "",
		func(answer string) {
			if a := strings.ToLower(answer); a != "y" && a != "yes" {
				return
			}
			if err := v.s.W.ApproveRoute(r); err != nil {
				v.s.Say("%v", err)
				return
			}
			begin()
		})
}

func (v *View) drop() {
	name := v.kept().Name
	if err := v.s.W.DropRoute(name); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Stale("relays")
	v.s.Say("the relay %s is no longer in the workspace; u takes it back", name)
}

func (v *View) stop() {
	to := v.at().To
	v.s.StopRelay(v.cursor)
	v.cursor = max(v.cursor-1, 0)
	v.s.Say("the relay to %s is stopped", to)
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	r := v.at()
	if r == nil {
		return nil
	}
	var out []ui.Copy
	for i, a := range r.Addresses {
		what := "the address to put into the program"
		if i > 0 {
			what = "the address over TLS"
		}
		out = append(out, ui.Text(what, a))
	}
	if r.Authority != "" {
		out = append(out, ui.Text("the file that the program has to trust", r.Authority))
	}
	return out
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	kept, _ := v.s.Routes()
	n := len(v.s.Relays) + len(kept)
	v.cursor = min(max(v.cursor+ui.Rows(msg, 10, n), 0), max(n-1, 0))
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	out := []string{"", "   " + ui.Strong("relays"), ""}
	kept, err := v.s.Routes()
	if err != nil {
		out = append(out, "   "+ui.Accent(ui.Cut(err.Error(), w-6)), "")
	}
	if len(v.s.Relays)+len(kept) == 0 {
		out[1] += ui.Soft("   none runs")
		return ui.Block(append(out,
			"   "+ui.Strong("a")+ui.Soft(" starts one: your program calls it in the place of the service,"),
			"   "+ui.Soft("and each of its calls is passed on, kept and explained.")), w, h)
	}
	out[1] += ui.Soft("   they run until you leave, or X")
	for i, r := range v.s.Relays {
		lead, name := "   ", ui.Fit(cmp.Or(r.Name, r.To), 24)
		if i == v.cursor {
			lead, name = ui.Accent(" ▌ "), ui.Strong(name)
		}
		count := fmt.Sprintf("%s calls", endpoint.Bytes(int64(r.Count)))
		if r.Failed > 0 {
			count += fmt.Sprintf(", %s did not pass", endpoint.Bytes(int64(r.Failed)))
		}
		out = append(out, lead+name+" "+ui.Soft("→ ")+ui.Fit(r.Target, max(w-74, 10))+" "+count)
		label := func(text string) string { return "     " + ui.Soft(ui.Pad(text, 16)) }
		for n, a := range r.Addresses {
			text := label("your program")
			if n > 0 {
				text = label("or over TLS")
			}
			out = append(out, text+ui.Strong(ui.Cut(a, w-24)))
		}
		if r.Authority != "" {
			out = append(out, label("it has to trust")+ui.Cut(r.Authority, w-24))
		}
		says := r.Answering.String()
		if !r.Answering.Plain() {
			out = append(out, label("now it")+ui.Accent(ui.Cut(says, w-24)))
		}
		if r.TurnedAway > 0 {
			why := fmt.Sprintf("%s ×, at last: %s", endpoint.Bytes(int64(r.TurnedAway)), safe.Line(r.Why))
			out = append(out, label("turned away")+ui.Strong(ui.Cut(why, w-24)))
		}
		if r.Last == nil {
			out = append(out, label("waits")+"for the first call", "")
			continue
		}
		out = append(out, label("the last")+ui.Reach(r.Last)+"  "+
			ui.Cut(r.Last.Operation+"  "+r.Last.Result, w-42))
		if c := r.Last.Cause(); c != nil {
			out = append(out, label("")+ui.Accent(ui.Cut(c.Title, w-24)))
		}
		out = append(out, "")
	}
	for i, r := range kept {
		lead, name := "   ", ui.Fit(r.Name, 24)
		if i+len(v.s.Relays) == v.cursor {
			lead, name = ui.Accent(" ▌ "), ui.Strong(name)
		}
		out = append(out, lead+name+" "+ui.Soft("→ ")+ui.Fit(r.Leads(), max(w-74, 10))+" "+
			ui.Soft("kept; it does not listen"))
	}
	return ui.Block(out, w, h)
}
