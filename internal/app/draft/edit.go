package draft

import (
	"encoding/base64"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/message"
	"orenda/internal/schema"
)

// edit keeps the draft after an edit that went well.
func (v *View) edit(d *message.Draft, err error) {
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.SaveDraft()
}

func (v *View) paste(d *message.Draft, content string) {
	if text := strings.TrimSpace(content); strings.HasPrefix(text, "<") {
		d.Replace([]byte(text))
		v.edit(d, nil)
		v.s.Say("the draft is what was pasted; u takes it back")
	}
}

// moveRepeat moves a repeat, and the cursor with it.
func (v *View) moveRepeat(d *message.Draft, it message.Item, up bool) {
	by := 1
	if up {
		by = -1
	}
	err := d.Move(it, by)
	v.edit(d, err)
	if err != nil {
		return
	}
	for i := range v.count() {
		if _, o := v.at(i); o.Name == it.Name && o.Depth == it.Depth && o.Index == it.Index+by &&
			strings.HasPrefix(o.Path, parent(it.Path)) {
			v.cursor = i
		}
	}
}

func parent(path string) string {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i+1]
	}
	return ""
}

func (v *View) pickType(d *message.Draft, it message.Item) {
	types := d.Types(it)
	if len(types) == 0 {
		v.s.Say("%s has one type only", it.Name)
		return
	}
	p := &picking{at: max(slices.Index(types, d.TypeNow(it)), 0)}
	for _, q := range types {
		p.options = append(p.options, option{q.Local, d.Schemas.Type(q).Documentation()})
	}
	p.take = func(o option) error {
		return d.SetType(it, types[slices.IndexFunc(types, func(q schema.QName) bool { return q.Local == o.text })])
	}
	v.picked = p
}

// Copies implements ui.Copier.
func (v *View) Copies() (out []ui.Copy) {
	d, it, ok := v.item()
	if d == nil {
		return nil
	}
	if ok && it.Present && !it.Unfilled && it.Kind != message.Fork {
		if it.Kind == message.Leaf || it.Kind == message.Attr {
			out = append(out, ui.Text("the value", it.Value))
		}
		if part := d.Part(it); part != "" {
			out = append(out, ui.Text("the element as XML", part))
		}
		out = append(out, ui.Text("its path", it.Path))
	}
	return append(out, ui.Copy{What: "the whole message", Text: func() string { return string(d.Bytes()) }})
}

func (v *View) fill() {
	d, it, ok := v.item()
	if !ok {
		return
	}
	switch {
	case it.Kind == message.Fork:
		v.edit(d, d.Choose(it, (max(it.Chosen, 0)+1)%len(it.Branches)))
	case it.Kind == message.Branch && !it.Present:
		v.edit(d, d.Include(it))
	case it.Kind == message.Branch:
		v.move(1)
	case len(it.Enum) > 0:
		p := &picking{
			at:   max(slices.Index(it.Enum, it.Value), 0),
			take: func(o option) error { return d.SetValue(it, o.text) },
		}
		for _, e := range it.Enum {
			p.options = append(p.options, option{e, it.EnumDocs[e]})
		}
		v.picked = p
	default:
		value := it.Value
		if it.Unfilled {
			value = ""
		}
		v.wrong = ""
		v.in.Start(value)
	}
}

// updatePick goes through a list: arrows choose, letters narrow it.
func (v *View) updatePick(msg tea.Msg) {
	k, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return
	}
	p := v.picked
	switch {
	case ui.Is(k, "up"):
		p.at = max(p.at-1, 0)
	case ui.Is(k, "down"):
		p.at = min(p.at+1, len(p.options)-1)
	case ui.Is(k, "enter", "tab") && len(p.options) > 0:
		d, _, _ := v.item()
		v.picked = nil
		v.edit(d, p.take(p.options[p.at]))
		v.step(1)
	case ui.Is(k, "enter", "tab"):
		v.s.Say("%q is none of them", p.typed)
	case ui.Is(k, "esc") && p.typed != "":
		p.narrow("")
	case ui.Is(k, "esc"):
		v.picked = nil
	case ui.Is(k, "backspace") && p.typed != "":
		r := []rune(p.typed)
		p.narrow(string(r[:len(r)-1]))
	case k.Text != "":
		p.narrow(p.typed + k.Text)
	}
}

// narrow keeps the options that begin with what is typed, or else those that hold it.
func (p *picking) narrow(typed string) {
	if p.all == nil {
		p.all = p.options
	}
	p.typed, p.at, p.options = typed, 0, nil
	want := strings.ToLower(typed)
	for _, fits := range []func(s, part string) bool{strings.HasPrefix, strings.Contains} {
		for _, o := range p.all {
			if len(p.options) < len(p.all) && fits(strings.ToLower(o.text), want) {
				p.options = append(p.options, o)
			}
		}
		if len(p.options) > 0 {
			return
		}
	}
}

// isBinary tells whether a field holds bytes, so that a file can be its value.
func isBinary(it message.Item) bool {
	t := it.Simple()
	return t != nil && (t.Primitive == "base64Binary" || t.Primitive == "hexBinary")
}

// maxFromFile is the largest file that becomes a value, in bytes.
const maxFromFile = 64 << 20

// fromFile asks for a file, and makes its bytes the value of a field.
func (v *View) fromFile(d *message.Draft, it message.Item) tea.Cmd {
	return state.AskFor("file for "+it.Name+" (tab completes)", "", func(name string) {
		if name == "" {
			return
		}
		info, err := os.Stat(name)
		if err == nil && (!info.Mode().IsRegular() || info.Size() > maxFromFile) {
			v.s.Say("%s is no file of at most 64 MiB", filepath.Base(name))
			return
		}
		b, err := os.ReadFile(name)
		if err != nil {
			v.s.Say("%v", err)
			return
		}
		text := base64.StdEncoding.EncodeToString(b)
		if it.Simple().Primitive == "hexBinary" {
			text = strings.ToUpper(hex.EncodeToString(b))
		}
		v.edit(d, d.SetValue(it, text))
		v.s.Say("%s holds %s, %d bytes", it.Name, filepath.Base(name), len(b))
	})
}

// step goes to the next field that holds a value, or to the one before.
func (v *View) step(by int) {
	for i := v.cursor + by; i >= 0 && i < v.count(); i += by {
		if _, it := v.at(i); it.Kind == message.Leaf || it.Kind == message.Attr {
			v.cursor = i
			return
		}
	}
}

func (v *View) updateInput(msg tea.Msg) tea.Cmd {
	d, it, _ := v.item()
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case ui.Is(k, "enter", "tab", "shift+tab"):
			v.in.Stop()
			v.edit(d, d.SetValue(it, v.in.Value()))
			if ui.Is(k, "shift+tab") {
				v.step(-1)
			} else {
				v.step(1)
			}
			return nil
		case ui.Is(k, "esc"):
			v.in.Stop()
			return nil
		}
	}
	cmd := v.in.Update(msg)
	v.wrong = it.Wrong(v.resolved(v.in.Value()))
	return cmd
}

// resolved is a value with the variables in it, where the draft has any.
func (v *View) resolved(value string) string {
	if !v.s.Variables() || !strings.Contains(value, "$") {
		return value
	}
	return v.s.Expand(value)
}

// Keep takes what is being typed into the draft: the program ends.
func (v *View) Keep() {
	switch {
	case v.s.Draft() == nil:
	case v.raw != nil:
		v.keepRaw()
	case v.in.Active:
		if d, it, ok := v.item(); ok && v.in.Value() != it.Value {
			v.edit(d, d.SetValue(it, v.in.Value()))
		}
	}
}

func (v *View) keepRaw() {
	if v.area.Value() != strings.ReplaceAll(string(v.raw.Bytes()), "\r\n", "\n") {
		v.raw.Replace([]byte(v.area.Value()))
		v.edit(v.raw, nil)
	}
}

func (v *View) startRaw(d *message.Draft) {
	v.raw = d
	v.area = textarea.New()
	v.area.CharLimit, v.area.MaxHeight = 0, 0
	v.area.ShowLineNumbers = true
	v.area.Prompt = ""
	v.area.SetValue(string(d.Bytes()))
	v.area.MoveToBegin()
	v.area.Focus()
}

func (v *View) updateRaw(msg tea.Msg) tea.Cmd {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch {
		case ui.Is(k, "esc", "ctrl+s"):
			v.keepRaw()
			if err := v.raw.Err(); err != nil {
				v.s.Say("kept, and not well-formed: %v", err)
			}
			if ui.Is(k, "esc") {
				v.raw = nil
			}
			return nil
		case ui.Is(k, "ctrl+z"):
			v.raw = nil
			return nil
		}
	}
	var cmd tea.Cmd
	v.area, cmd = v.area.Update(msg)
	return cmd
}

// edited is what the person's own editor brought back.
type edited struct {
	of   *message.Draft
	path string
	err  error
}

// editor hands the draft to the person's own editor as a file, and takes it back.
func (v *View) editor() tea.Cmd {
	d, _, _ := v.item()
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
	edit := v.s.Edit(path, func(err error) tea.Msg { return edited{d, path, err} })
	if edit == nil {
		os.RemoveAll(dir)
	}
	return edit
}

func (v *View) takeEdited(e edited) {
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
	e.of.Replace(b)
	v.edit(e.of, nil)
	if err := e.of.Err(); err != nil {
		v.s.Say("not well-formed: %v", err)
	}
}
