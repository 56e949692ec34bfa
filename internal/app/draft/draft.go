// Package draft is the message as an outline whose leaves are edited in place,
// with type, bounds and documentation at the cursor; raw XML and the person's
// own editor are one key away, and the two stay in step.
package draft

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
	"orenda/internal/message"
	"orenda/internal/schema"
)

// View is the draft.
type View struct {
	s      *state.State
	cursor int
	top    int
	height int
	in     ui.Input
	pick   int // of the allowed values, while one is picked; -1: none
	wrong  string
	raw    bool
	area   textarea.Model
	reply  bool
}

// New makes the draft view.
func New(s *state.State) *View { return &View{s: s, pick: -1, reply: true} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active || v.raw || v.pick >= 0 }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	switch {
	case v.raw:
		return []ui.Key{{Show: "ctrl+s", Does: "keep"}, {Show: "esc", Does: "back to the outline, kept as well"}, {Show: "ctrl+z", Does: "leave it as it was"}}
	case v.pick >= 0:
		return []ui.Key{{Show: "↑↓", Does: "pick"}, {Show: "⏎", Does: "take it"}, {Show: "esc", Does: "not now"}}
	case v.in.Active:
		return []ui.Key{{Show: "⏎", Does: "keep, and on to the next"}, {Show: "esc", Does: "leave it"}}
	}
	return []ui.Key{{Press: "up down", Show: "↑↓", Does: "field"}, {Press: "enter", Show: "⏎", Does: "fill in"}, {Press: "space", Show: "space", Does: "put in, leave out"},
		{Press: "left right", Show: "←→", Does: "other branch"}, {Press: "+ -", Show: "+ -", Does: "repeat"}, {Press: "g", Show: "g", Does: "go: send"}, {Press: "x", Show: "x", Does: "raw XML"},
		{Press: "E", Show: "E", Does: "your editor"}, {Press: "u", Show: "u", Does: "undo"}, {Press: "U", Show: "U", Does: "redo", Minor: true}, {Press: "0", Show: "0", Does: "nil or not", Minor: true},
		{Press: "e", Show: "e", Does: "expected reply beside it", Minor: true}, {Press: "p", Show: "p", Does: "path"}}
}

// Open puts the cursor on the first field that awaits a value.
func (v *View) Open() tea.Cmd {
	d := v.s.Draft()
	if d == nil {
		return nil
	}
	v.cursor, v.top = 0, 0
	for i, it := range d.Items() {
		if it.Unfilled {
			v.cursor = i
			break
		}
		if it.Kind == message.Leaf && v.cursor == 0 && i > 0 && d.Items()[0].Kind != message.Leaf {
			v.cursor = i
		}
	}
	if d.Err() != nil {
		v.startRaw(d)
	}
	return nil
}

// edited is what the person's own editor brought back.
type edited struct {
	path string
	err  error
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	d := v.s.Draft()
	if d == nil {
		return nil
	}
	if e, ok := msg.(edited); ok {
		v.takeEdited(d, e)
		return nil
	}
	switch {
	case v.raw:
		return v.updateRaw(d, msg)
	case v.pick >= 0:
		return v.updatePick(d, msg)
	case v.in.Active:
		return v.updateInput(d, msg)
	}
	v.move(d, ui.Rows(msg, v.height, len(d.Items())))
	switch msg := msg.(type) {
	case tea.PasteMsg:
		if text := strings.TrimSpace(msg.Content); strings.HasPrefix(text, "<") {
			d.Replace([]byte(text))
			v.s.SaveDraft()
			v.s.Say("the draft is what was pasted; u takes it back")
		}
	case tea.MouseClickMsg:
		if i := v.top + msg.Y - 3; i >= 0 && i < len(d.Items()) && msg.Y >= 3 {
			if i == v.cursor {
				v.fill(d)
			}
			v.cursor = i
		}
	case tea.KeyPressMsg:
		return v.key(d, msg)
	}
	return nil
}

func (v *View) move(d *message.Draft, by int) {
	v.cursor = min(max(v.cursor+by, 0), max(len(d.Items())-1, 0))
}

func (v *View) item(d *message.Draft) (message.Item, bool) {
	items := d.Items()
	if len(items) == 0 {
		return message.Item{}, false
	}
	v.cursor = min(v.cursor, len(items)-1)
	return items[v.cursor], true
}

func (v *View) key(d *message.Draft, k tea.KeyPressMsg) tea.Cmd {
	it, ok := v.item(d)
	switch {
	case ui.Is(k, "x"):
		v.startRaw(d)
	case ui.Is(k, "E"):
		return v.editor(d)
	case ui.Is(k, "e"):
		v.reply = !v.reply
	case ui.Is(k, "u"):
		v.did(d.Undo(), "nothing is left to undo")
	case ui.Is(k, "U"):
		v.did(d.Redo(), "nothing is left to redo")
	case ui.Is(k, "esc"):
		return func() tea.Msg { return state.Goto("path") }
	case !ok:
	case ui.Is(k, "enter"):
		v.fill(d)
	case ui.Is(k, "space"):
		switch {
		case it.Kind == message.Fork:
			v.try(d.Choose(it, (max(it.Chosen, 0)+1)%len(it.Branches)))
		case it.Present:
			d.LeaveOut(it)
			v.try(nil)
		default:
			v.try(d.Include(it))
		}
	case ui.Is(k, "left", "right") && it.Kind == message.Fork:
		n := len(it.Branches)
		by := 1
		if ui.Is(k, "left") {
			by = n - 1
		}
		v.try(d.Choose(it, (max(it.Chosen, 0)+by)%n))
	case ui.Is(k, "+"):
		v.try(d.Repeat(it))
	case ui.Is(k, "-"):
		if it.Present && it.Most != 1 {
			d.LeaveOut(it)
			v.try(nil)
		} else {
			v.s.Say("%s does not repeat; space leaves it out", it.Name)
		}
	case ui.Is(k, "0"):
		v.try(d.SetNil(it))
	}
	return nil
}

func (v *View) did(ok bool, otherwise string) {
	if !ok {
		v.s.Say("%s", otherwise)
		return
	}
	v.s.SaveDraft()
}

// try keeps the draft after an edit that went well.
func (v *View) try(err error) {
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.SaveDraft()
}

func (v *View) fill(d *message.Draft) {
	it, ok := v.item(d)
	if !ok {
		return
	}
	switch {
	case it.Kind == message.Fork:
		v.try(d.Choose(it, (max(it.Chosen, 0)+1)%len(it.Branches)))
	case it.Kind == message.Branch && !it.Present:
		v.try(d.Include(it))
	case it.Kind == message.Branch:
		v.move(d, 1)
	case len(it.Enum) > 0:
		v.pick = max(slices.Index(it.Enum, it.Value), 0)
	default:
		value := it.Value
		if it.Unfilled {
			value = ""
		}
		v.wrong = ""
		v.in.Start(value)
	}
}

func (v *View) updatePick(d *message.Draft, msg tea.Msg) tea.Cmd {
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil
	}
	it, _ := v.item(d)
	switch {
	case ui.Is(k, "up", "k"):
		v.pick = max(v.pick-1, 0)
	case ui.Is(k, "down", "j"):
		v.pick = min(v.pick+1, len(it.Enum)-1)
	case ui.Is(k, "enter"):
		v.try(d.SetValue(it, it.Enum[v.pick]))
		v.pick = -1
		v.next(d)
	case ui.Is(k, "esc"):
		v.pick = -1
	}
	return nil
}

// next goes to the next field that awaits a value, else one down.
func (v *View) next(d *message.Draft) {
	items := d.Items()
	for i := v.cursor + 1; i < len(items); i++ {
		if items[i].Unfilled {
			v.cursor = i
			return
		}
	}
}

func (v *View) updateInput(d *message.Draft, msg tea.Msg) tea.Cmd {
	it, _ := v.item(d)
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case ui.Is(k, "enter", "tab"):
			v.in.Stop()
			v.try(d.SetValue(it, v.in.Value()))
			v.next(d)
			return nil
		case ui.Is(k, "esc"):
			v.in.Stop()
			return nil
		}
	}
	cmd := v.in.Update(msg)
	v.wrong = it.Wrong(v.in.Value())
	return cmd
}

// Keep takes what is being typed into the draft: the program ends.
func (v *View) Keep() {
	d := v.s.Draft()
	switch {
	case d == nil:
	case v.raw:
		v.keepRaw(d)
	case v.in.Active:
		if it, ok := v.item(d); ok && v.in.Value() != it.Value {
			v.try(d.SetValue(it, v.in.Value()))
		}
	}
}

func (v *View) keepRaw(d *message.Draft) {
	if v.area.Value() != strings.ReplaceAll(string(d.Bytes()), "\r\n", "\n") {
		d.Replace([]byte(v.area.Value()))
		v.s.SaveDraft()
	}
}

func (v *View) startRaw(d *message.Draft) {
	v.raw = true
	v.area = textarea.New()
	v.area.CharLimit, v.area.MaxHeight = 0, 0
	v.area.ShowLineNumbers = true
	v.area.Prompt = ""
	v.area.SetValue(string(d.Bytes()))
	v.area.MoveToBegin()
	v.area.Focus()
}

func (v *View) updateRaw(d *message.Draft, msg tea.Msg) tea.Cmd {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case ui.Is(k, "esc", "ctrl+s"):
			v.keepRaw(d)
			if ui.Is(k, "esc") {
				v.raw = false
			}
			if err := d.Err(); err != nil {
				v.s.Say("kept, and not well-formed: %v", err)
			}
			return nil
		case ui.Is(k, "ctrl+z"):
			v.raw = false
			return nil
		}
	}
	var cmd tea.Cmd
	v.area, cmd = v.area.Update(msg)
	return cmd
}

// editor hands the draft to $VISUAL or $EDITOR as a file, and takes it back.
func (v *View) editor(d *message.Draft) tea.Cmd {
	name := os.Getenv("VISUAL")
	if name == "" {
		name = os.Getenv("EDITOR")
	}
	if name == "" {
		v.s.Say("$EDITOR is not set")
		return nil
	}
	dir, err := os.MkdirTemp("", "orenda-")
	if err != nil {
		v.s.Say("%v", err)
		return nil
	}
	path := filepath.Join(dir, "draft.xml")
	if err := os.WriteFile(path, d.Bytes(), 0o600); err != nil {
		v.s.Say("%v", err)
		return nil
	}
	cmd := exec.Command("sh", "-c", name+` "$1"`, "sh", path)
	return tea.ExecProcess(cmd, func(err error) tea.Msg { return edited{path, err} })
}

func (v *View) takeEdited(d *message.Draft, e edited) {
	defer os.RemoveAll(filepath.Dir(e.path))
	if e.err != nil {
		v.s.Say("the editor failed: %v", e.err)
		return
	}
	b, err := os.ReadFile(e.path)
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	d.Replace(b)
	v.s.SaveDraft()
	if err := d.Err(); err != nil {
		v.s.Say("not well-formed: %v", err)
	}
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	d := v.s.Draft()
	if d == nil {
		return ui.Block([]string{"", "   " + ui.Soft("choose a call on the board first")}, w, h)
	}
	c := v.s.Cell
	verdict := ui.Good("valid")
	switch errs := d.Validate(); {
	case d.Err() != nil:
		verdict = ui.Accent("not well-formed")
	case len(d.Unfilled()) > 0:
		verdict = ui.Accent(fmt.Sprintf("%d to fill in", len(d.Unfilled())))
	case len(errs) > 0:
		verdict = ui.Accent(fmt.Sprintf("%d faults", len(errs)))
	}
	rows := []string{"", "   " + ui.Strong(ui.Cut(c.Draft.Operation+" · "+c.Draft.Name, w/2)) + ui.Soft(fmt.Sprintf("   %s B · ", diagnose.Bytes(int64(len(d.Bytes()))))) + verdict, ""}
	if v.raw {
		v.area.SetWidth(w - 4)
		v.area.SetHeight(max(h-len(rows)-1, 3))
		for _, l := range strings.Split(v.area.View(), "\n") {
			rows = append(rows, "   "+l)
		}
		return ui.Block(rows, w, h)
	}
	right := []string(nil)
	left := w
	if v.reply && w >= 120 {
		left = w*3/5 + 4
		right = v.expected(w - left - 2)
	}
	foot := v.foot(d, w)
	v.height = max(h-len(rows)-len(foot), 1)
	items := d.Items()
	v.cursor = min(v.cursor, max(len(items)-1, 0))
	v.top = ui.Window(v.cursor, v.top, v.height, len(items))
	var body []string
	for i := v.top; i < len(items) && i < v.top+v.height; i++ {
		body = append(body, v.row(items[i], i == v.cursor, left))
		if i == v.cursor && v.pick >= 0 {
			for k, e := range items[i].Enum {
				mark, text := "  ", e
				if k == v.pick {
					mark, text = ui.Accent("› "), ui.Strong(e)
				}
				if doc := items[i].EnumDocs[e]; doc != "" {
					text += ui.Soft("  " + ui.Cut(doc, left/2))
				}
				body = append(body, strings.Repeat(" ", 32)+mark+text)
			}
		}
	}
	if len(items) == 0 {
		text := "the message has no fields"
		if d.Err() != nil {
			text = "the outline is back when the XML is well-formed: x edits it, u undoes"
		}
		body = append(body, "   "+ui.Soft(text))
	}
	for i := range v.height {
		l, r := "", ""
		if i < len(body) {
			l = body[i]
		}
		if i < len(right) {
			r = right[i]
		}
		rows = append(rows, ui.Pad(l, left)+r)
	}
	return ui.Block(append(rows, foot...), w, h)
}

func (v *View) row(it message.Item, chosen bool, w int) string {
	lead := "   "
	if chosen {
		lead = ui.Accent(" ▌ ")
	}
	name := strings.Repeat("  ", it.Depth) + it.Name
	label := max(min(w/4, 30), 18)
	text := ui.Fit(name, label)
	tw := max(min(w*2/5, 46), 0)
	vw := w - label - tw - 8
	typ := it.Type
	if !it.Required && it.Kind != message.Fork {
		typ += ", optional"
	}
	if it.Most == schema.Unbounded {
		typ += ", any number"
	} else if it.Most > 1 {
		typ += fmt.Sprintf(", up to %d", it.Most)
	}
	value := ui.Cut(it.Value, vw)
	switch {
	case it.Kind == message.Fork:
		var parts []string
		for i, b := range it.Branches {
			if i == it.Chosen {
				b = ui.Strong(ui.Cut(b, 30))
			} else {
				b = ui.Soft(ui.Cut(b, 30))
			}
			parts = append(parts, b)
		}
		return lead + strings.Repeat("  ", it.Depth) + strings.Join(parts, " ◇ ") + "   " + ui.Soft(typ)
	case chosen && v.in.Active:
		value = ui.Accent("›") + v.in.View(max(vw-1, 6))
	case it.Nil:
		value = ui.Soft("nil")
	case it.Unfilled:
		value = ui.Accent("┄ to fill in")
	case !it.Present:
		value = ui.Soft("┄ left out")
		text = ui.Soft(text)
	case it.Kind == message.Branch:
		value = ""
	}
	if len(it.Errors) > 0 && !it.Unfilled {
		value = ui.Accent("! ") + value
	}
	if chosen {
		text = ui.Strong(text)
	}
	return lead + text + "  " + ui.Pad(value, vw) + " " + ui.Soft(ui.Cut(typ, tw))
}

// foot is what is known of the field at the cursor.
func (v *View) foot(d *message.Draft, w int) []string {
	out := []string{""}
	it, ok := v.item(d)
	switch {
	case d.Err() != nil:
		out = append(out, "   "+ui.Accent(ui.Cut(d.Err().Error(), w-6)))
	case !ok:
	case v.in.Active && v.wrong != "":
		out = append(out, "   "+ui.Accent(ui.Cut(v.wrong, w-6)))
	case len(it.Errors) > 0 && !v.in.Active:
		out = append(out, "   "+ui.Accent(ui.Cut(it.Errors[0], w-6)))
	default:
		out = append(out, "   "+ui.Cut(it.Doc, w-6))
	}
	if ok {
		out = append(out, "   "+ui.Soft(ui.Cut(it.Path+"  "+it.Type, w-6)))
	}
	for len(out) < 3 {
		out = append(out, "")
	}
	return out
}

// expected is the outline of the reply that the contract promises.
func (v *View) expected(w int) []string {
	c, err := v.s.W.Contract(v.s.Cell.Draft.Contract)
	if err != nil {
		return nil
	}
	o := state.Operation(c, v.s.Cell.Draft.Operation)
	if o == nil || o.Output == nil || o.Output.Element == nil {
		return []string{ui.Soft("no reply is due")}
	}
	d := message.NewDraft(c.Schemas, o.Output.Element, message.Sample(c.Schemas, o.Output.Element, message.Want{All: true}))
	out := []string{ui.Strong("expected reply") + ui.Soft("   "+ui.Cut(o.Output.Element.Name.Local, w-20))}
	for _, it := range d.Items() {
		out = append(out, strings.Repeat("  ", it.Depth)+ui.Fit(it.Name, 18)+ui.Soft(ui.Cut(it.Type, max(w-20-2*it.Depth, 0))))
	}
	return out
}
