// Package environments shows variables by environments: which are unset, which
// are used nowhere, and what the endpoints become in each.
package environments

import (
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

// View is the view of the environments.
type View struct {
	ui.Bar

	s        *state.State
	row, col int
	top      int
	in       ui.Input
	preview  ui.Preview
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active || v.preview.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	switch {
	case v.preview.Active:
		return v.preview.Keys()
	case v.in.Active:
		return []ui.Key{
			{Show: "⏎", Does: "keep"},
			{Show: "esc", Does: "leave it"},
			{Show: "empty", Does: "unset"},
			{Show: "env:NAME", Does: "of the process environment"},
		}
	}
	vars, envs := v.read()
	row, col := v.row < len(vars), v.col < len(envs)
	return []ui.Key{
		ui.On("left right l", "↑↓←→", "choose a value", v.across),
		ui.On("enter", "⏎", "change it", ui.Do(func() { v.in.Start(vars[v.row].Values[envs[v.col].Name]) })).
			If(row && col),
		ui.Shown("v", "v", "next environment"),
		ui.On("a", "a", "add a variable",
			ui.Asks(func() tea.Cmd { return state.AskFor("name of the variable", "", v.add) })),
		ui.On("+", "+", "one more environment",
			ui.Asks(func() tea.Cmd { return state.AskFor("name of the environment", "", v.addEnvironment) })),
		ui.On("L", "L", "lift addresses", ui.Do(v.lift)),
		ui.Shown("?", "?", "help"),
		ui.On("R", "R", "rename the variable, wherever it stands", ui.Asks(v.rename)).InHelp().If(row),
		ui.On("", "", "rename the environment", ui.Asks(v.renameEnvironment)).InHelp().If(col),
		ui.On("*", "*", "make the environment the default", ui.Do(v.setDefault)).InHelp().If(col),
		ui.On("X", "X", "take the variable out of all environments", ui.Do(v.remove)).InHelp().If(row),
		ui.On("esc", "esc", "board", state.To("board")).InHelp(),
	}
}

func (v *View) read() ([]workspace.Variable, []workspace.Environment) {
	vars, envs := v.s.AllVariables(), v.s.W.Config().Environments
	v.row = min(max(v.row, 0), max(len(vars)-1, 0))
	v.col = min(max(v.col, 0), max(len(envs)-1, 0))
	return vars, envs
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	vars, envs := v.read()
	if v.preview.Active {
		if k, ok := msg.(tea.KeyPressMsg); ok && v.preview.Press(k) {
			v.did(v.s.W.Apply(v.preview.Changes...), "%d changes made", len(v.preview.Changes))
			if v.s.Environment == "" {
				v.s.UseEnvironment(v.s.W.Config().Environment)
			}
		}
		return nil
	}
	if v.in.Active {
		end, cmd := v.in.Type(msg)
		if end == ui.Kept && v.row < len(vars) && v.col < len(envs) {
			v.put(envs[v.col].Name, vars[v.row].Name, strings.TrimSpace(v.in.Value()))
		}
		return cmd
	}
	v.row += ui.Rows(msg, 10, len(vars))
	v.read()
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	vars, envs := v.read()
	if len(vars) == 0 {
		return nil
	}
	name := vars[v.row].Name
	out := []ui.Copy{}
	if len(envs) > 0 {
		values, _ := v.s.W.Variables(envs[v.col].Name)
		out = append(out, ui.Text("the value", values[name]))
	}
	return append(out, ui.Text("the variable's name", name), ui.Text("as it stands in settings", "${"+name+"}"))
}

// across goes to the environment to the left or right.
func (v *View) across(k tea.KeyPressMsg) tea.Cmd {
	if v.col++; ui.Is(k, "left") {
		v.col -= 2
	}
	v.read()
	return nil
}

func (v *View) rename() tea.Cmd {
	vars, _ := v.read()
	old := vars[v.row].Name
	return state.AskFor("name of the variable", old, func(name string) {
		v.did(v.s.W.RenameVariable(old, name), "%s is called %s, wherever it stood", old, name)
	})
}

func (v *View) renameEnvironment() tea.Cmd {
	_, envs := v.read()
	old := envs[v.col].Name
	return state.AskFor("name of the environment", old, func(name string) {
		err := v.s.W.Rename("environment", old, name)
		if err == nil && v.s.Environment == old {
			v.s.Environment = name
		}
		v.did(err, "%s is called %s", old, name)
	})
}

func (v *View) setDefault() {
	_, envs := v.read()
	name := envs[v.col].Name
	v.did(v.s.W.Apply(exchange.Change{Where: "workspace", Key: "default-environment", To: name}),
		"%s is the default", name)
}

func (v *View) remove() {
	vars, envs := v.read()
	name := vars[v.row].Name
	var changes []exchange.Change
	for _, e := range envs {
		if old, there := e.Variables[name]; there {
			changes = append(changes,
				exchange.Change{Where: "workspace", Key: "environment." + e.Name + "." + name, From: old})
		}
	}
	v.preview.Show("Take "+name+" out of all environments", changes)
}

func (v *View) lift() {
	changes, err := v.s.W.Lift()
	if err != nil || len(changes) == 0 {
		v.did(err, "no address is written out")
		return
	}
	v.preview.Show(
		"Scheme, host and port of written-out addresses become variables, with their values in every environment",
		changes,
	)
}

func (v *View) did(err error, format string, args ...any) {
	v.s.Changed()
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say(format, args...)
}

func (v *View) put(environment, name, value string) {
	c := exchange.Change{Where: "workspace", Key: "environment." + environment + "." + name}
	if value != "" {
		c.To = value
	}
	v.did(v.s.W.Apply(c), "%s in %s", name, environment)
}

func (v *View) add(name string) {
	_, envs := v.read()
	if name == "" || len(envs) == 0 {
		v.s.Say("add an environment first (E)")
		return
	}
	v.put(envs[v.col].Name, name, "…")
	for i, x := range v.s.AllVariables() {
		if x.Name == name {
			v.row = i
			v.in.Start("")
		}
	}
}

// addEnvironment makes an environment with the variables of the chosen one, so
// that what differs is all that is to be changed.
func (v *View) addEnvironment(name string) {
	if name = strings.TrimSpace(name); name == "" {
		return
	}
	_, envs := v.read()
	if slices.ContainsFunc(envs, func(e workspace.Environment) bool { return e.Name == name }) {
		v.s.Say("there is an environment %s already", name)
		return
	}
	changes := []exchange.Change{}
	if v.col < len(envs) {
		for _, key := range endpoint.Sorted(envs[v.col].Variables) {
			changes = append(
				changes,
				exchange.Change{
					Where: "workspace",
					Key:   "environment." + name + "." + key,
					To:    envs[v.col].Variables[key],
				},
			)
		}
	}
	if len(changes) == 0 {
		changes = append(
			changes,
			exchange.Change{Where: "workspace", Key: "environment." + name + ".host", To: "127.0.0.1"},
		)
	}
	v.did(v.s.W.Apply(changes...), "%s begins as a copy", name)
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	if v.preview.Active {
		return v.preview.View(w, h)
	}
	vars, envs := v.read()
	unset := 0
	for _, x := range vars {
		unset += len(envs) - len(x.Values)
	}
	title := ui.Strong("environments") + ui.Soft(fmt.Sprintf("   %d variables", len(vars)))
	if unset > 0 {
		title += ui.Soft(", ") + ui.Accent(fmt.Sprintf("%d values unset", unset))
	}
	out := []string{"", "   " + title, ""}
	if len(envs) == 0 {
		return ui.Block(
			append(
				out,
				"   "+ui.Soft("There is none yet. ")+ui.Strong("+")+ui.Soft(" adds one, ")+ui.Strong("L")+ui.Soft(
					" makes variables of the addresses that are written out.",
				),
			),
			w,
			h,
		)
	}
	name := max(min(w/5, 24), 12)
	used := max(min(w/3, 48), 10)
	width := max((w-name-used-8)/len(envs), 12)
	shown := max(min((w-name-6)/width, len(envs)), 1)
	first := min(max(v.col-shown+1, 0), len(envs)-shown)
	head := "   " + ui.Pad(ui.Soft("variable"), name)
	for _, e := range envs[first : first+shown] {
		label := e.Name
		if e.Name == v.s.W.Config().Environment {
			label += " *"
		}
		label = ui.Cut(label, width-2)
		if e.Name == v.s.Environment {
			label = ui.Strong(label)
		} else {
			label = ui.Soft(label)
		}
		head += "  " + ui.Pad(label, width-2)
	}
	out = append(out, head+"  "+ui.Soft("used by"), "")
	below := v.below(vars, envs, w, max(h/2-2, 5))
	room := max(h-len(out)-len(below)-1, 2)
	v.top = ui.Window(v.row, v.top, room, len(vars))
	v.Bar = ui.Bar{First: len(out), Height: room, Lines: len(vars), At: v.row, Count: len(vars)}
	for i := v.top; i < len(vars) && i < v.top+room; i++ {
		out = append(out, v.line(i, vars[i], envs[first:first+shown], first, name, width, used))
	}
	return ui.Block(append(append(out, ""), below...), w, h)
}

func (v *View) line(i int, x workspace.Variable, envs []workspace.Environment, first, name, width, used int) string {
	lead, label := "   ", ui.Fit(x.Name, name)
	if i == v.row {
		lead, label = ui.Accent(" ▌ "), ui.Strong(label)
	}
	line := lead + label
	for n, e := range envs {
		left, right := " ", " "
		here := i == v.row && first+n == v.col
		if here {
			left, right = ui.Accent("‹"), ui.Accent("›")
		}
		value, set := x.Values[e.Name]
		cell := ui.Cut(value, width-4)
		switch {
		case here && v.in.Active:
			cell = v.in.View(width - 3)
		case !set && len(x.UsedBy) > 0:
			cell = ui.Accent("unset")
		case !set:
			cell = ui.Soft("unset")
		}
		line += " " + left + ui.Pad(cell+right, width-2)
	}
	by := strings.Join(x.UsedBy, ", ")
	if by == "" {
		return line + "  " + ui.Soft("nothing")
	}
	return line + "  " + ui.Soft(ui.Cut(by, used))
}

// below are the addresses that the chosen variable stands in, as written and as
// they are in the environment under the cursor.
func (v *View) below(vars []workspace.Variable, envs []workspace.Environment, w, most int) []string {
	if len(vars) == 0 {
		return []string{"", "   " + ui.Soft("no variable is set; a adds one, L makes them of the addresses"), ""}
	}
	x, env := vars[v.row], envs[v.col].Name
	out := []string{"", "   " + ui.Soft("where ") + ui.Strong(x.Name) + ui.Soft(" stands, in ") + ui.Strong(env), ""}
	name := max(min(w/5, 24), 12)
	half := max((w-name-10)/2, 10)
	for _, e := range v.s.W.Config().Endpoints {
		set := v.s.W.Settings(e.Name)
		template := set.Text("address")
		if !slices.Contains(endpoint.Variables(template), x.Name) {
			continue
		}
		resolved, err := v.s.W.Resolved(e.Name, env)
		to := ui.Cut(resolved, half)
		if err != nil {
			to = ui.Accent(ui.Cut(err.Error(), half))
		}
		out = append(out, "   "+ui.Fit(e.Name, name)+"  "+ui.Soft(ui.Fit(template, half))+"  "+to)
		if len(out) == most {
			out = append(out, "   "+ui.Soft("… and more"))
			break
		}
	}
	if len(out) == 3 {
		what := "in no address"
		if len(x.UsedBy) == 0 {
			what = "nowhere: no setting and no draft holds ${" + x.Name + "}"
		}
		out = append(out, "   "+ui.Soft(what))
	}
	return append(out, "")
}
