// Package draft is the message as an outline whose leaves are edited in place,
// with type, bounds and documentation at the cursor; raw XML and the person's
// own editor are one key away, and the two stay in step.
package draft

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/textarea"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/message"
	"orenda/internal/workspace"
)

// View is the draft. Its rows are those of the header blocks, where the
// contract declares any, and then those of the body.
type View struct {
	ui.Bar

	s      *state.State
	cursor int
	top    int
	height int
	in     ui.Input
	wrong  string // why what is being typed would not do
	find   ui.Input
	sought string
	picked *picking
	raw    *message.Draft // shown as XML: the body or the header blocks; nil: the outline
	area   textarea.Model
	beside beside
	other  workspace.DraftRef // compared with, while beside is differences

}

// beside is what stands to the right of the outline.
type beside uint8

const (
	reply beside = iota // the expected reply
	differences
	nothing
)

// picking is a choice among a few values.
type picking struct {
	options []option // those that fit what is typed
	all     []option // nil: nothing was typed
	typed   string
	at      int
	take    func(option) error
}

type option struct{ text, about string }

// New makes the draft view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool {
	return v.in.Active || v.find.Active || v.raw != nil || v.picked != nil
}

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	switch {
	case v.raw != nil:
		return []ui.Key{
			{Show: "ctrl+s", Does: "keep"},
			{Show: "esc", Does: "back to the outline, kept as well"},
			{Show: "ctrl+z", Does: "leave it as it was"},
		}
	case v.picked != nil:
		return []ui.Key{
			{Show: "↑↓", Does: "pick"}, {Show: "abc", Does: "narrow"}, {Show: "⏎", Does: "take it"},
			{Show: "esc", Does: "not now"},
		}
	case v.find.Active:
		return []ui.Key{{Show: "⏎", Does: "find the field"}, {Show: "esc", Does: "not now"}}
	case v.in.Active:
		return []ui.Key{{Show: "⏎", Does: "keep, and on to the next"}, {Show: "esc", Does: "leave it"}}
	}
	d, it, ok := v.item()
	keys := []ui.Key{
		ui.Shown("up down", "↑↓", "field"),
		ui.On("enter", "⏎", "fill in", ui.Do(v.fill)).If(ok),
		ui.On("space", "space", "put in, leave out", ui.Do(func() { v.put(d, it) })).If(ok),
		ui.On("left right", "←→", "other branch, or type", v.branch).If(ok),
		ui.On("+ -", "+ -", "repeat", v.repeat).If(ok),
		ui.Shown("g", "g", "go: send"),
		ui.On("/", "/", "find", ui.Do(func() { v.find.Start("") })),
		ui.On("x", "x", "raw XML", ui.Do(func() { v.startRaw(d) })),
		ui.Shown("u", "u", "take it back"),
		ui.Shown("?", "?", "help"),
		ui.Shown("p", "p", "path").InHelp(),
	}
	return append(keys, v.lesserKeys(d, it, ok)...)
}

// lesserKeys are those that stand in the help page only.
func (v *View) lesserKeys(d *message.Draft, it message.Item, ok bool) []ui.Key {
	rows := []ui.Key{
		ui.On("n", "n", "next field found", ui.Do(v.nextFound)),
		ui.On("shift+down shift+up", "⇧↑ ⇧↓", "move a repeat", func(k tea.KeyPressMsg) tea.Cmd {
			v.moveRepeat(d, it, ui.Is(k, "shift+up"))
			return nil
		}).If(ok),
		ui.On("0", "0", "nil or not", ui.Do(func() { v.edit(d, d.SetNil(it)) })).If(ok),
		ui.Shown("y", "y", "copy the value, or the part"),
		ui.On("P", "P", "put in what was copied", ui.Do(func() { v.putCopied(d, it) })).If(ok),
		ui.On("#", "#", "note what you learned of the field", ui.Asks(v.note)).If(ok),
		ui.On("@", "@", "the calls that showed what was learned, side by side", ui.Asks(v.learned)).If(
			ok && v.s.Notes()[workspace.FieldOf(it.Path)].Edges != nil).InHelp(),
		ui.On("F", "F", "its value from a file", ui.Asks(func() tea.Cmd { return v.fromFile(d, it) })).If(
			ok && isBinary(it)),
		ui.On("H", "H", "secret, or not", ui.Do(func() { v.s.ToggleSecret(it.Path) })).If(ok && d == v.s.Draft()),
		ui.On("$", "$", "variables in this draft, or not", ui.Do(v.s.ToggleVariables)),
		ui.On("~", "~", "sound what the service accepts here", ui.Asks(func() tea.Cmd { return v.sound(it) })).If(
			ok && it.Kind == message.Leaf && d == v.s.Draft()),
		ui.On("=", "=", "what differs from another draft", ui.Do(v.compare)),
		ui.On("tab", "tab", "expected reply beside it", ui.Do(func() {
			v.beside = map[beside]beside{reply: nothing, nothing: reply, differences: reply}[v.beside]
		})),
		ui.On("E", "E", "your editor", ui.Asks(v.editor)),
		ui.On("esc", "esc", "path", state.To("path")),
	}
	for i := range rows {
		rows[i] = rows[i].InHelp()
	}
	return rows
}

// sound prepares the search for the edge of what the service accepts in a field.
func (v *View) sound(it message.Item) tea.Cmd {
	if err := v.s.PrepareSounding(it.Path, ""); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	return func() tea.Msg { return state.Goto("sounding") }
}

// learned holds the two calls against each other that showed what was learned of the field.
func (v *View) learned() tea.Cmd {
	if !v.s.CompareLearned(v.path(v.cursor)) {
		return nil
	}
	return func() tea.Msg { return state.Goto("compare") }
}

// parts are the header blocks, which may be nil, and the body.
func (v *View) parts() (header, body *message.Draft) { return v.s.Header(), v.s.Draft() }

// count is the number of rows.
func (v *View) count() int {
	h, d := v.parts()
	if d == nil {
		return 0
	}
	if h == nil {
		return len(d.Items())
	}
	return len(h.Items()) + len(d.Items())
}

// at is a row and the part that it belongs to.
func (v *View) at(i int) (*message.Draft, message.Item) {
	h, d := v.parts()
	if h != nil {
		if i < len(h.Items()) {
			return h, h.Items()[i]
		}
		i -= len(h.Items())
	}
	return d, d.Items()[i]
}

// headers is the number of rows above those of the body.
func (v *View) headers() int {
	if h, _ := v.parts(); h != nil {
		return len(h.Items())
	}
	return 0
}

func (v *View) item() (*message.Draft, message.Item, bool) {
	if v.count() == 0 {
		return v.s.Draft(), message.Item{}, false
	}
	v.cursor = min(v.cursor, v.count()-1)
	d, it := v.at(v.cursor)
	return d, it, true
}

// path names a row for notes and searches: header blocks apart from the body.
func (v *View) path(i int) string {
	_, it := v.at(i)
	if i < v.headers() {
		return "header:" + it.Path
	}
	return it.Path
}

// Open puts the cursor on the first field that awaits a value.
func (v *View) Open() tea.Cmd {
	d := v.s.Draft()
	if d == nil {
		return nil
	}
	v.cursor, v.top, v.picked = v.headers(), 0, nil
	if v.beside == differences {
		v.beside = reply
	}
	if d.Err() != nil {
		v.startRaw(d)
		return nil
	}
	for i := range v.count() {
		if _, it := v.at(i); it.Unfilled {
			v.cursor = i
			return nil
		}
	}
	for i := v.headers(); i < v.count(); i++ {
		if _, it := v.at(i); it.Kind == message.Leaf {
			v.cursor = i
			return nil
		}
	}
	return nil
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	d := v.s.Draft()
	if d == nil {
		return nil
	}
	if e, ok := msg.(edited); ok {
		v.takeEdited(e)
		return nil
	}
	switch {
	case v.raw != nil:
		return v.updateRaw(msg)
	case v.picked != nil:
		v.updatePick(msg)
		return nil
	case v.find.Active:
		end, cmd := v.find.Type(msg)
		if end == ui.Kept {
			if t := v.find.Value(); t != "" {
				v.sought = t
			}
			v.nextFound()
		}
		return cmd
	case v.in.Active:
		return v.updateInput(msg)
	}
	v.move(ui.Rows(msg, v.height, v.count()))
	switch msg := msg.(type) {
	case tea.PasteMsg:
		v.paste(d, msg.Content)
	case tea.KeyPressMsg:
		return ui.Press(v.Keys(), msg)
	}
	return nil
}

func (v *View) move(by int) { v.cursor = min(max(v.cursor+by, 0), max(v.count()-1, 0)) }

// Click goes to the row that was clicked.
func (v *View) Click(m tea.MouseClickMsg) (tea.Cmd, bool) {
	v.click(m.Y)
	return nil, true
}

func (v *View) click(y int) {
	i := v.top + y - 3
	if h := v.headers(); h > 0 && i >= h {
		i-- // the line between the two parts
	}
	if y < 3 || i < 0 || i >= v.count() {
		return
	}
	if i == v.cursor {
		v.fill()
	}
	v.cursor = i
}

// put puts a part in, or leaves it out; of a fork it takes the next branch.
func (v *View) put(d *message.Draft, it message.Item) {
	switch {
	case it.Kind == message.Fork:
		v.edit(d, d.Choose(it, (max(it.Chosen, 0)+1)%len(it.Branches)))
	case it.Present:
		d.LeaveOut(it)
		v.edit(d, nil)
	default:
		v.edit(d, d.Include(it))
	}
}

// branch takes the branch of a fork to the left or right.
func (v *View) branch(k tea.KeyPressMsg) tea.Cmd {
	d, it, _ := v.item()
	if it.Kind != message.Fork {
		v.pickType(d, it)
		return nil
	}
	n, by := len(it.Branches), 1
	if ui.Is(k, "left") {
		by = n - 1
	}
	v.edit(d, d.Choose(it, (max(it.Chosen, 0)+by)%n))
	return nil
}

// repeat adds a repeat, or takes one away.
func (v *View) repeat(k tea.KeyPressMsg) tea.Cmd {
	d, it, _ := v.item()
	switch {
	case ui.Is(k, "+"):
		v.edit(d, d.Repeat(it))
	case it.Present && it.Max != 1:
		d.LeaveOut(it)
		v.edit(d, nil)
	default:
		v.s.Say("%s does not repeat; space leaves it out", it.Name)
	}
	return nil
}

func (v *View) putCopied(d *message.Draft, it message.Item) {
	if v.s.Copied == "" {
		v.s.Say("nothing was copied; y copies here and in the reply")
		return
	}
	v.edit(d, d.PutPart(it, v.s.Copied))
}

// nextFound goes to the next field whose path has what is sought.
func (v *View) nextFound() {
	want := strings.ToLower(strings.TrimSpace(v.sought))
	if want == "" {
		return
	}
	n := v.count()
	for i := range n {
		at := (v.cursor + 1 + i) % n
		_, it := v.at(at)
		if strings.Contains(strings.ToLower(it.Name), want) || strings.Contains(strings.ToLower(it.Value), want) ||
			strings.ContainsAny(want, "/[") && strings.Contains(strings.ToLower(it.Path), want) {
			v.cursor = at
			return
		}
	}
	v.s.Say("no field here has %q", v.sought)
}

// compare shows what differs from the next of the other drafts.
func (v *View) compare() {
	all := v.s.Others()
	if len(all) == 0 {
		v.s.Say("there is no other draft of %s; D on the board makes a copy", v.s.Chosen.Draft.Operation)
		return
	}
	at := -1
	if v.beside == differences {
		for i, r := range all {
			if r == v.other {
				at = i
			}
		}
		if at == len(all)-1 {
			v.beside = reply
			return
		}
	}
	v.beside, v.other = differences, all[at+1]
}

// note asks for what was learned of the field at the cursor.
func (v *View) note() tea.Cmd {
	field := workspace.FieldOf(v.path(v.cursor))
	ref := v.s.Chosen.Draft
	old := v.s.Notes()[field].Text
	return func() tea.Msg {
		return state.Ask{
			Prompt: "learned of " + field,
			Value:  old,
			Answer: func(text string) { v.s.Note(ref.Contract, ref.Operation, field, text) },
		}
	}
}
