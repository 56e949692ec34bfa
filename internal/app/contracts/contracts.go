// Package contracts shows what a service offers: operations as one-line
// signatures with their documentation, what is demanded, and the source text.
package contracts

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/contract"
	"orenda/internal/message"
	"orenda/internal/workspace"
	"orenda/internal/xmltree"
)

// View is the contract view.
type View struct {
	ui.Bar

	s      *state.State
	cursor int
	top    int
	source bool
	file   int
	line   int
	height int
	shelf  shelf
}

// New makes the contract view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.shelf.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	all := v.entries()
	here := len(all) > 0 && all[min(v.cursor, len(all)-1)].o != nil
	switch {
	case v.shelf.open:
		return v.shelfKeys()
	case v.s.Newer != nil:
		return []ui.Key{
			ui.Shown("up down", "↑↓", "scroll"),
			ui.On("enter", "⏎", "take the newer one over", ui.Do(v.s.TakeOver)),
			ui.On("esc", "esc", "keep the old one", ui.Do(v.keepOld)),
		}
	case v.source:
		return []ui.Key{
			ui.Shown("up down", "↑↓", "scroll"),
			ui.On("tab", "tab", "next document", ui.Do(func() { v.nextFile(all) })).If(len(all) > 0),
			ui.On("x", "x", "operations", ui.Do(func() { v.toggle(all) })),
			ui.Shown("?", "?", "help"),
			ui.On("esc", "esc", "operations", ui.Do(func() { v.source = false })).InHelp(),
		}
	}
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("enter", "⏎", "fill in its message", ui.Asks(func() tea.Cmd { return v.open(all) })).If(here),
		ui.On("x", "x", "source text", ui.Do(func() { v.toggle(all) })).If(here),
		ui.On("f", "f", "fetch again: what changed?", ui.Do(func() { v.again(all) })).If(len(all) > 0),
		ui.On("space", "space", "a draft of it, or none", ui.Do(func() {
			v.s.ToggleDrafts(all[v.cursor].contract, all[v.cursor].o.Name)
		})).If(here),
		ui.On("X", "X", "remove the contract", ui.Do(func() {
			v.s.RemoveContract(all[v.cursor].contract)
		})).InHelp().If(len(all) > 0),
		ui.On("K", "K", "your catalogue", ui.Do(v.show)),
		ui.On("+", "+", "keep it in the catalogue", ui.Do(func() { v.keep(all[v.cursor]) })).InHelp().If(here),
		ui.On("#", "#", "note what you learned", ui.Asks(func() tea.Cmd { return v.note(all[v.cursor]) })).If(here),
		ui.On("esc", "esc", "board", state.To("board")),
		ui.Shown("?", "?", "help"),
	}
}

// Copies implements ui.Copier.
func (v *View) Copies() (out []ui.Copy) {
	all := v.entries()
	if len(all) == 0 {
		return nil
	}
	e := all[min(v.cursor, len(all)-1)]
	if e.o == nil {
		return nil
	}
	out = append(out, ui.Text("the signature", e.o.Signature()), ui.Text("the operation's name", e.o.Name))
	if e.o.Input != nil && e.o.Input.Element != nil {
		d := e.o.Input.Element
		out = append(out, ui.Text("its namespace", d.Name.Space),
			ui.Copy{What: "a template of its message", Text: func() string {
				return string(message.Sample(e.c.Schemas, d, message.Want{}))
			}})
	}
	return append(out, ui.Text("its action", e.o.Action))
}

// keepOld leaves the description as it is, although there is a newer one.
func (v *View) keepOld() {
	v.s.Newer = nil
	v.s.Say("the old one stays")
}

// nextFile goes to the next document of the description's source.
func (v *View) nextFile(all []entry) {
	v.file = (v.file + 1) % max(len(all[v.cursor].c.Files), 1)
	v.line = 0
}

// again fetches the description again.
func (v *View) again(all []entry) {
	v.line = 0
	v.s.Again(all[v.cursor].contract)
}

// entry is an operation of one of the workspace's contracts; or a contract that
// has none, as it could not be read.
type entry struct {
	contract string
	c        *contract.Contract
	o        *contract.Operation // nil where there is none
	why      string              // there is none
}

func (v *View) entries() []entry {
	var out []entry
	for _, k := range v.s.W.Config().Contracts {
		c, err := v.s.W.Contract(k.Name)
		if err != nil {
			out = append(out, entry{contract: k.Name, c: &contract.Contract{}, why: err.Error()})
			continue
		}
		names := c.OperationNames()
		for _, name := range names {
			out = append(out, entry{contract: k.Name, c: c, o: state.Operation(c, name)})
		}
		if len(names) == 0 {
			why := "it has no operation"
			if missing := c.NotRead(); len(missing) > 0 {
				why = "no operation of it could be read: " + strings.Join(missing, "; ")
			}
			out = append(out, entry{contract: k.Name, c: c, why: why})
		}
	}
	return out
}

// Open puts the cursor on the chosen call's operation.
func (v *View) Open() tea.Cmd {
	for i, e := range v.entries() {
		if e.contract == v.s.Chosen.Draft.Contract && e.o != nil && e.o.Name == v.s.Chosen.Draft.Operation {
			v.cursor = i
		}
	}
	return nil
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	all := v.entries()
	switch {
	case v.shelf.open:
		if done, cmd := v.updateShelf(msg); done {
			return cmd
		}
	case v.s.Newer != nil:
		v.line = max(v.line+ui.Rows(msg, v.height, 1<<20), 0)
	case v.source:
		v.line = max(v.line+ui.Rows(msg, v.height, 1<<30), 0) // drawing keeps it within the file
	case len(all) > 0:
		v.cursor = min(max(v.cursor+ui.Rows(msg, v.height, len(all)), 0), len(all)-1)
	}
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// changes is what a newer description changes for a client.
func (v *View) changes(w, h int) string {
	n := v.s.Newer
	breaking := 0
	for _, c := range n.Changes {
		if c.Breaking {
			breaking++
		}
	}
	rows := []string{
		"",
		"   " + ui.Strong(ui.Cut(n.Name, 30)) + ui.Soft(
			fmt.Sprintf("   what changed for a client: %d, of which %d may break it", len(n.Changes), breaking),
		),
		"",
	}
	v.height = h - len(rows)
	v.line = min(v.line, max(len(n.Changes)-v.height, 0))
	where := min(w/3, 44)
	for _, c := range n.Changes[v.line:] {
		lead, what := "     ", ui.Fit(c.What, 22)
		if c.Breaking {
			lead, what = ui.Accent("   ! "), ui.Strong(what)
		}
		text := c.After
		switch {
		case c.Before != "" && c.After != "":
			text = c.Before + " → " + c.After
		case c.Before != "":
			text = "it was " + c.Before
		}
		rows = append(rows, lead+what+"  "+ui.Fit(c.Where, where)+"  "+ui.Soft(ui.Cut(text, max(w-where-32, 0))))
	}
	return ui.Block(rows, w, h)
}

// note asks for what was learned of the operation at the cursor.
func (v *View) note(e entry) tea.Cmd {
	notes := v.s.NotesOf(e.contract, e.o.Name)
	return func() tea.Msg {
		return state.Ask{
			Prompt: "learned of " + e.o.Name,
			Value:  notes[""].Text,
			Answer: func(text string) { v.s.Note(e.contract, e.o.Name, "", text) },
		}
	}
}

func (v *View) open(all []entry) tea.Cmd {
	if v.source || len(all) == 0 || !v.choose(all) {
		return nil
	}
	return func() tea.Msg { return state.Goto("draft") }
}

// Chooses implements ui.Chooser: the operation at the cursor is what is handed over.
func (v *View) Chooses() {
	if all := v.entries(); !v.source && v.cursor < len(all) && all[v.cursor].o != nil {
		v.choose(all)
	}
}

// choose takes a draft of the operation at the cursor into sight; one is made where there is none.
func (v *View) choose(all []entry) bool {
	e := all[v.cursor]
	if !slices.ContainsFunc(v.s.Rows(), func(r workspace.DraftRef) bool {
		return r.Contract == e.contract && r.Operation == e.o.Name
	}) {
		v.s.ToggleDrafts(e.contract, e.o.Name)
	}
	for _, r := range v.s.Rows() {
		if r.Contract != e.contract || r.Operation != e.o.Name {
			continue
		}
		end := v.s.Chosen.Endpoint
		serving := v.s.W.Serving(r.Contract, r.Operation)
		if !slices.ContainsFunc(serving, func(x *workspace.Endpoint) bool { return x.Name == end }) {
			end = ""
			if len(serving) > 0 {
				end = serving[0].Name
			}
		}
		v.s.Choose(state.CallKey{Draft: r, Endpoint: end})
		return true
	}
	return false
}

// heading are the lines above the operations of a contract: its name, and what could not be
// read of it.
func heading(e entry, w int) []func() string {
	text := "   " + ui.Strong(ui.Cut(e.contract, 30)) + ui.Soft("   "+ui.Cut(e.c.Documentation, w-38))
	rows := []func() string{func() string { return text }}
	if e.o == nil {
		return rows // its own line says why
	}
	return append(rows, unread(e.c, w)...)
}

// unread are lines about what of a description could not be read as a whole: documents that
// are missing, ports without their binding.
func unread(c *contract.Contract, w int) (rows []func() string) {
	for _, u := range c.Unread {
		if u.OfWhole() {
			text := ui.Accent("! ") + ui.Cut(u.What+": "+u.Why, w-10)
			rows = append(rows, func() string { return "     " + text })
		}
	}
	return rows
}

// toggle shows the source at the operation's own lines.
func (v *View) toggle(all []entry) {
	v.source = !v.source
	if !v.source || len(all) == 0 {
		return
	}
	e := all[v.cursor]
	for i, f := range e.c.Files {
		if f.Location == e.o.At.Source {
			v.file = i
			line, _ := xmltree.Position(f.Bytes, e.o.At.Offset)
			v.line = max(line-4, 0)
		}
	}
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	if v.shelf.open {
		return v.viewShelf(w, h)
	}
	all := v.entries()
	if len(all) == 0 {
		return ui.Block(
			[]string{
				"",
				"   " + ui.Soft(
					"the workspace has no description yet: b, then a, adds one; K takes one from your catalogue",
				),
			},
			w,
			h,
		)
	}
	v.cursor = min(v.cursor, len(all)-1)
	if v.s.Newer != nil {
		return v.changes(w, h)
	}
	if v.source = v.source && all[v.cursor].o != nil; v.source {
		return v.text(all[v.cursor], w, h)
	}
	// Signatures are written for the rows in sight only: there may be thousands.
	var rows []func() string
	line := func(s string) func() string { return func() string { return s } }
	at, last := 0, ""
	drafted := v.drafted()
	for i, e := range all {
		if e.contract != last {
			if last != "" {
				rows = append(rows, line(""))
			}
			last = e.contract
			rows = append(rows, heading(e, w)...)
		}
		if e.o == nil {
			lead := "     "
			if i == v.cursor {
				at, lead = len(rows), ui.Accent("   ▌ ")
			}
			for _, l := range ui.Wrap(e.why, w-10) {
				rows = append(rows, line(lead+ui.Accent(l)))
				lead = "     "
			}
			rows = append(rows, line("     "+ui.Soft("f fetches it again; endpoints and drafts stay as they are")))
			continue
		}
		if i != v.cursor {
			rows = append(rows, func() string {
				if !drafted[e.contract+"/"+e.o.Name] {
					return ui.Soft("   ┄ " + ui.Cut(e.o.Signature(), w-8))
				}
				return "     " + ui.Cut(e.o.Signature(), w-8)
			})
			continue
		}
		at = len(rows)
		lead := ui.Accent("   ▌ ")
		for _, l := range ui.Wrap(e.o.Signature(), w-10) {
			rows = append(rows, line(lead+ui.Strong(l)))
			lead = "       "
		}
		for _, l := range v.detail(e, w) {
			rows = append(rows, line(l))
		}
	}
	v.height = h - 2
	v.top = ui.Window(min(at+8, len(rows)-1), v.top, v.height, len(rows))
	v.top = min(v.top, max(at-1, 0))
	out := []string{""}
	v.Bar = ui.Bar{First: len(out), Height: v.height, Lines: len(rows), At: v.cursor, Count: len(all)}
	for _, r := range rows[v.top:min(len(rows), v.top+v.height)] {
		out = append(out, r())
	}
	return ui.Block(out, w, h)
}

// drafted are the operations that have drafts, as CONTRACT/OPERATION.
func (v *View) drafted() map[string]bool {
	out := map[string]bool{}
	for _, r := range v.s.Rows() {
		out[r.Contract+"/"+r.Operation] = true
	}
	return out
}

func (v *View) detail(e entry, w int) []string {
	var out []string
	add := func(label, text string) {
		for i, l := range ui.Wrap(text, w-26) {
			if i > 0 {
				label = ""
			}
			out = append(out, "       "+ui.Pad(ui.Soft(label), 12)+l)
		}
	}
	if !slices.ContainsFunc(v.s.Rows(), func(r workspace.DraftRef) bool {
		return r.Contract == e.contract && r.Operation == e.o.Name
	}) {
		add("drafts", "none; space makes one")
	}
	if e.o.Documentation != "" {
		add("about", e.o.Documentation)
	}
	notes := v.s.NotesOf(e.contract, e.o.Name)
	for _, field := range slices.Sorted(maps.Keys(notes)) {
		text := notes[field].String()
		if field != "" {
			text = field + ": " + text
		}
		add("learned", text)
	}
	if e.o.HasAction {
		add("action", e.o.Action)
	}
	var ports []string
	for _, p := range e.c.PortsWith(e.o.Name) {
		ports = append(ports, fmt.Sprintf("%s (SOAP %s, %s)", p.Name, p.Version, p.Style))
	}
	add("ports", strings.Join(ports, ", "))
	if e.o.OneWay() {
		add("reply", "none is due: one-way")
	}
	for _, f := range e.o.Faults {
		add("fault", f.Name+"("+f.Fields()+")")
	}
	for _, h := range e.o.Headers {
		add("header", h.Name.Local+"("+(&contract.Message{Element: h}).Fields()+")")
	}
	for _, f := range e.o.HeaderFaults {
		add("header fault", f.Name+"("+f.Fields()+")")
	}
	for _, d := range e.c.Demands {
		add("demands", d.Text)
	}
	for _, u := range e.c.Unread {
		if !u.OfWhole() {
			add("not used", u.What+": "+u.Why)
		}
	}
	return append(out, "")
}

func (v *View) text(e entry, w, h int) string {
	v.file = min(v.file, len(e.c.Files)-1)
	f := e.c.Files[v.file]
	lines := bytes.Split(f.Bytes, []byte("\n"))
	v.height = h - 3
	v.line = min(v.line, max(len(lines)-v.height, 0))
	rows := []string{
		"",
		"   " + ui.Strong(ui.Cut(f.Location, w-30)) + ui.Soft(
			fmt.Sprintf("   document %d of %d", v.file+1, len(e.c.Files)),
		),
		"",
	}
	mark := -1
	if e.o.At.Source == f.Location {
		mark, _ = xmltree.Position(f.Bytes, e.o.At.Offset)
	}
	for i := v.line; i < len(lines) && i < v.line+v.height; i++ {
		text := ui.Cut(strings.ReplaceAll(strings.TrimRight(string(lines[i]), "\r"), "\t", "  "), w-10)
		lead := "   "
		if i+1 == mark {
			lead, text = ui.Accent(" ▌ "), ui.Strong(text)
		}
		rows = append(rows, lead+ui.Soft(fmt.Sprintf("%5d  ", i+1))+text)
	}
	return ui.Block(rows, w, h)
}
