// Package endpoints shows all endpoints with their addresses as written and as
// they resolve, and arranges them: settings are shared, never typed again.
package endpoints

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// View is the view of the endpoints.
type View struct {
	ui.Bar

	s       *state.State
	cursor  int
	top     int
	height  int
	chosen  map[string]bool // endpoints that are to be given settings
	preview ui.Preview
	from    string               // whose settings are in the preview
	coming  *workspace.Coming    // the endpoints of a contract that are in it instead; nil none are
	of      *workspace.Workspace // in which that is
	only    exchange.Stage       // of one stage; None: of all but the address
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s, chosen: map[string]bool{}} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.preview.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.preview.Active {
		if v.from == "" {
			return v.preview.Keys()
		}
		return append(v.preview.Keys(), ui.Shown("left right", "←→", "which stages"))
	}
	one := v.at() != nil
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("enter", "⏎", "its settings", ui.Asks(func() tea.Cmd { return v.settings(v.at()) })).If(one),
		ui.On("space", "space", "mark", ui.Do(v.mark)).If(one),
		ui.On("P", "P", "put its settings into the marked", ui.Do(func() { v.share(v.s.W, v.at()) })).If(one),
		ui.On("0", "0", "off or on", ui.Do(v.turn)).If(one),
		ui.On("*", "*", "default", ui.Do(v.setDefault)).If(one),
		ui.Shown("?", "?", "help"),
		ui.On("D", "D", "duplicate", ui.Asks(v.duplicate)).InHelp().If(one),
		ui.On("R", "R", "rename it", ui.Asks(v.nameAnew)).InHelp().If(one),
		ui.On("X", "X", "remove it", ui.Asks(v.remove)).InHelp().If(one),
		ui.On("a", "a", "add endpoints for all ports of the contract", ui.Do(v.addAll)).InHelp().If(one),
		ui.On("<", "<", "choose its profile", ui.Asks(v.profile)).InHelp().If(one),
		ui.On("f", "f", "fetch settings from another workspace", ui.Asks(v.fetch)).InHelp().If(one),
		ui.On("+", "+", "trace my program through here", ui.Asks(v.trace)).InHelp().If(one),
		ui.On("L", "L", "make variables of written-out addresses", ui.Do(v.lift)).InHelp().If(one),
		ui.On("esc", "esc", "board", state.To("board")).InHelp(),
	}
}

// Open implements the application's opener: the cursor stands on the endpoint
// that is chosen elsewhere.
func (v *View) Open() tea.Cmd {
	for i, e := range v.s.W.Config().Endpoints {
		if e.Name == v.s.Chosen.Endpoint {
			v.cursor = i
		}
	}
	v.s.Stale("survey")
	return nil
}

func (v *View) at() *workspace.Endpoint {
	if len(v.s.W.Config().Endpoints) == 0 {
		return nil
	}
	v.cursor = min(max(v.cursor, 0), len(v.s.W.Config().Endpoints)-1)
	return v.s.W.Config().Endpoints[v.cursor]
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if v.preview.Active {
		if k, ok := msg.(tea.KeyPressMsg); ok {
			v.confirm(k)
		}
		return nil
	}
	v.cursor += ui.Rows(msg, max(v.height, 1), len(v.s.W.Config().Endpoints))
	v.at()
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	e := v.at()
	if e == nil {
		return nil
	}
	address, err := v.s.W.Resolved(e.Name, v.s.Environment)
	if err != nil {
		set := v.s.W.Settings(e.Name)
		address = set.Text("address")
	}
	return []ui.Copy{ui.Text("its address", address), ui.Text("its name", e.Name)}
}

// mark marks the endpoint, or takes the mark back, and goes on to the next.
func (v *View) mark() {
	name := v.at().Name
	v.chosen[name] = !v.chosen[name]
	v.cursor++
	v.at()
}

// turn turns the endpoint off or on.
func (v *View) turn() {
	e, is := v.at(), "off"
	if e.Off {
		is = "on again"
	}
	v.did(v.set(e, "off", !e.Off), "%s is %s", e.Name, is)
}

func (v *View) setDefault() {
	e := v.at()
	v.did(v.set(e, "default", true), "%s is the default now", e.Name)
}

// set sets a value of an endpoint's table.
func (v *View) set(e *workspace.Endpoint, key string, to any) error {
	return v.s.W.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + e.Name + "." + key, To: to})
}

// addAll makes endpoints for all ports of the contract.
func (v *View) addAll() {
	made, err := v.s.W.AddEndpoints(v.at().Contract)
	v.did(err, "made: %s", orNone(strings.Join(made, ", ")))
}

func (v *View) duplicate() tea.Cmd {
	e := v.at()
	return state.AskFor("name of the copy of "+e.Name, e.Name+"-2", func(name string) {
		v.did(v.s.W.DuplicateEndpoint(e.Name, name), "%s is like %s", name, e.Name)
	})
}

func (v *View) nameAnew() tea.Cmd {
	e := v.at()
	return state.AskFor("name of the endpoint", e.Name, func(name string) { v.rename(e.Name, name) })
}

func (v *View) profile() tea.Cmd {
	e := v.at()
	return state.AskFor("profile of "+e.Name+" (empty: none)", e.Profile, func(name string) {
		v.did(v.set(e, "profile", name), "%s has the profile %s", e.Name, orNone(name))
	})
}

func (v *View) remove() tea.Cmd {
	e := v.at()
	return state.AskFor("remove "+e.Name+" with all its settings? (yes or no)", "", func(answer string) {
		if a := strings.ToLower(answer); a == "y" || a == "yes" {
			v.did(v.s.W.RemoveEndpoint(e.Name), "%s is gone; what was sent over it is kept", e.Name)
		}
	})
}

func (v *View) lift() {
	changes, err := v.s.W.Lift()
	if err != nil || len(changes) == 0 {
		v.did(err, "no address is written out")
		return
	}
	v.from = ""
	v.preview.Show(
		"Scheme, host and port of written-out addresses become variables, with their values in every environment",
		changes,
	)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// did tells how a change went.
func (v *View) did(err error, format string, args ...any) {
	v.s.Stale("survey")
	v.s.Changed()
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say(format, args...)
}

func (v *View) rename(from, to string) {
	err := v.s.W.Rename("endpoint", from, to)
	if err == nil && v.s.Chosen.Endpoint == from {
		v.s.Choose(state.CallKey{Draft: v.s.Chosen.Draft, Endpoint: to})
	}
	v.did(err, "%s is called %s", from, to)
}

// settings opens the path of a call over the endpoint, where its settings are.
func (v *View) settings(e *workspace.Endpoint) tea.Cmd {
	for _, r := range v.s.Rows() {
		if r.Contract == e.Contract && slices.Contains(v.s.W.Serving(r.Contract, r.Operation), e) {
			if c := (state.CallKey{Draft: r, Endpoint: e.Name}); c.Endpoint != v.s.Chosen.Endpoint {
				v.s.Choose(c)
			}
			return func() tea.Msg { return state.Goto("path") }
		}
	}
	v.s.Say("no draft can be sent over %s", e.Name)
	return nil
}

// fetch asks for another workspace of the person's, and for an endpoint of it, and shows what
// changes where the marked endpoints, or the one at the cursor, are given its settings.
func (v *View) fetch() tea.Cmd {
	var dirs []string
	for _, d := range v.s.Home.Workspaces() {
		if d != v.s.W.Dir() {
			dirs = append(dirs, d)
		}
	}
	if len(dirs) == 0 {
		v.s.Say("no other workspace was opened here yet; orenda -w FOLDER opens one")
		return nil
	}
	return func() tea.Msg {
		return state.Pick{Prompt: "settings from the workspace", Options: dirs, Take: func(i int) tea.Cmd {
			w, err := workspace.Open(dirs[i], v.s.Home)
			if err != nil {
				v.s.Say("%v", err)
				return nil
			}
			return v.fetchOf(w)
		}}
	}
}

func (v *View) fetchOf(w *workspace.Workspace) tea.Cmd {
	var options []string
	var takes []func()
	for _, c := range w.Config().Contracts {
		if v.s.W.ContractNamed(c.Name) != nil {
			options = append(options, "all endpoints of "+c.Name)
			takes = append(takes, func() { v.take(w, c.Name) })
		}
	}
	for _, e := range w.Config().Endpoints {
		options = append(options, e.Name)
		takes = append(takes, func() { v.share(w, e) })
	}
	return func() tea.Msg {
		return state.Pick{Prompt: "settings of", Options: options, Take: func(i int) tea.Cmd {
			takes[i]()
			return nil
		}}
	}
}

// take shows what changes where all endpoints of a contract come from another workspace.
func (v *View) take(of *workspace.Workspace, contract string) {
	coming, err := v.s.W.Coming(of, contract)
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.from, v.of, v.coming = "", of, coming
	notes := coming.Left
	if len(coming.Changes) == 0 {
		notes = append(notes, "they are the same already")
	}
	v.preview.Show("The endpoints of "+contract+" come from "+of.Config().Name, coming.Changes, notes...)
}

// share shows what changes where the marked endpoints are given the settings of e, which may be of
// another workspace: then the one at the cursor counts as marked where none is.
func (v *View) share(of *workspace.Workspace, e *workspace.Endpoint) {
	var to []string
	for _, o := range v.s.W.Config().Endpoints {
		if v.chosen[o.Name] && (of != v.s.W || o != e) {
			to = append(to, o.Name)
		}
	}
	if len(to) == 0 && of != v.s.W {
		to = []string{v.at().Name}
	}
	if len(to) == 0 {
		v.s.Say("mark the endpoints that are to have the settings of %s (space), then P on it", e.Name)
		return
	}
	var stages []exchange.Stage
	which := "All settings but the address"
	if v.only != exchange.None {
		stages = []exchange.Stage{v.only}
		which = "The settings of " + v.only.String()
	}
	changes, skipped, err := v.s.W.Share(of, e.Name, to, stages)
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.from, v.of, v.coming = e.Name, of, nil
	if len(changes) == 0 {
		skipped = append(skipped, "they are the same already")
	}
	v.preview.Show(fmt.Sprintf("%s of %s go to %s", which, e.Name, strings.Join(to, ", ")), changes, skipped...)
}

func (v *View) confirm(k tea.KeyPressMsg) {
	if v.from != "" && ui.Is(k, "left", "right") {
		n := len(exchange.Stages) + 1
		d := 1
		if ui.Is(k, "left") {
			d = n - 1
		}
		v.only = exchange.Stage((int(v.only) + d) % n)
		v.share(v.of, v.of.Endpoint(v.from))
		return
	}
	agreed, coming := v.preview.Press(k), v.coming
	if !v.preview.Active {
		v.coming = nil
	}
	if !agreed {
		return
	}
	bring := func() error { return v.s.W.Apply(v.preview.Changes...) }
	if coming != nil {
		bring = func() error { return v.s.W.Bring(coming) }
	}
	if err := bring(); err != nil {
		v.did(err, "")
		return
	}
	v.did(nil, "%d changes made", len(v.preview.Changes))
	clear(v.chosen)
	v.only = exchange.None
}

// findings are what is wrong with endpoints as such, by their names.
func (v *View) findings() map[string][]exchange.Finding {
	w := v.s.W
	return state.Known(v.s, "survey "+v.s.Environment, func(context.Context) map[string][]exchange.Finding {
		out := map[string][]exchange.Finding{}
		for _, f := range w.Survey().Run() {
			out[f.About] = append(out[f.About], f)
		}
		return out
	})
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	if v.preview.Active {
		return v.preview.View(w, h)
	}
	e := v.at()
	title := ui.Strong("endpoints") + ui.Soft(fmt.Sprintf("   %d", len(v.s.W.Config().Endpoints)))
	if v.s.Environment != "" {
		title += ui.Soft("   as they are in ") + v.s.Environment
	}
	out := []string{"", "   " + title, ""}
	if e == nil {
		return ui.Block(append(out, "   "+ui.Soft("there are none; a description that is loaded brings its own")), w, h)
	}
	detail := v.detail(e, w)
	name := max(min(w/6, 26), 14)
	port := max(min(w/7, 22), 10)
	address := max(w-name-port-22, 16)
	v.height = max(h-len(out)-len(detail)-2, 3)
	var rows []string
	at, contract := 0, ""
	for i, x := range v.s.W.Config().Endpoints {
		if x.Contract != contract {
			if len(rows) > 0 {
				rows = append(rows, "")
			}
			contract = x.Contract
			rows = append(rows, "   "+ui.Soft(ui.Cut(contract, w-6)))
		}
		if i == v.cursor {
			at = len(rows)
		}
		rows = append(rows, v.line(i, x, name, port, address))
	}
	v.top = ui.Window(at, v.top, v.height, len(rows))
	if at <= 1 {
		v.top = 0
	}
	ends := len(v.s.W.Config().Endpoints)
	v.Bar = ui.Bar{First: len(out), Height: v.height, Lines: len(rows), At: v.cursor, Count: ends}
	out = append(out, rows[v.top:min(v.top+v.height, len(rows))]...)
	return ui.Block(append(append(out, ""), detail...), w, h)
}

func (v *View) line(i int, e *workspace.Endpoint, name, port, address int) string {
	lead := "   "
	if v.chosen[e.Name] {
		lead = ui.Accent(" + ")
	}
	label := e.Name
	if e.Default {
		label += " *"
	}
	text := ui.Fit(label, name)
	where := v.address(e)
	where = ui.Pad(where, address)
	switch {
	case i == v.cursor:
		lead = ui.Accent(" ▌ ")
		if v.chosen[e.Name] {
			lead = ui.Accent("+▌ ")
		}
		text = ui.Strong(text)
	case e.Off:
		text = ui.Soft(text)
	}
	tail := ""
	switch {
	case e.Off:
		tail = ui.Soft("off")
	case len(v.findings()[e.Name]) > 0:
		tail = ui.Accent("▲")
		if i == v.cursor {
			tail += ui.Soft(" see below")
		}
	}
	return lead + text + " " + ui.Soft(ui.Fit(e.Port, port)) + " " + where + " " + tail
}

// address is where an endpoint leads, or why it leads nowhere.
func (v *View) address(e *workspace.Endpoint) string {
	resolved, err := v.s.W.Resolved(e.Name, v.s.Environment)
	if err == nil {
		_, err = endpoint.ParseAddress(resolved)
	}
	if err != nil {
		set := v.s.W.Settings(e.Name)
		return ui.Cut(set.Text("address"), 60) + "  " + ui.Accent(ui.Cut(err.Error(), 60))
	}
	if e.Off {
		return ui.Soft(ui.Cut(resolved, 90))
	}
	return ui.Cut(resolved, 90)
}

// detail is the chosen endpoint: its template, the values that are set and
// where each stands, and what is wrong.
func (v *View) detail(e *workspace.Endpoint, w int) []string {
	out := []string{""}
	row := func(section, label, value, tail string) {
		vw := max(w-44, 20)
		out = append(
			out,
			"   "+ui.Pad(ui.Strong(section), 7)+ui.Pad(ui.Soft(ui.Cut(label, 18)), 19)+ui.Pad(
				ui.Cut(value, vw-ui.Width(tail)-2),
				vw-ui.Width(tail),
			)+ui.Soft(tail),
		)
	}
	set := v.s.W.Settings(e.Name)
	section := "set"
	for i := range endpoint.Keys {
		k := &endpoint.Keys[i]
		val := set.Of(k)
		if !val.IsSet() || k.Name == "soap" && val.Source == "contract" {
			continue
		}
		row(section, k.Label(), k.Spell(val.Text), val.Source)
		section = ""
		if len(out) > 9 {
			out = append(out, "   "+ui.Pad("", 26)+ui.Soft("… ⏎ shows all"))
			break
		}
	}
	for _, f := range v.findings()[e.Name] {
		out = append(out, "   "+ui.Pad(ui.Strong("why"), 7)+ui.Accent(ui.Cut(f.Title, w-14)))
		for _, l := range ui.Wrap(f.Why, w-14) {
			out = append(out, "   "+ui.Pad("", 7)+l)
		}
	}
	return append(out, "")
}

// trace starts a relay to the endpoint, and shows where the program is to call.
func (v *View) trace() tea.Cmd {
	if err := v.s.StartRelay(v.at().Name, true); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	return func() tea.Msg { return state.Goto("relays") }
}
