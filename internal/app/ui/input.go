package ui

import (
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// Input is one line of text that is being typed.
type Input struct {
	model  textinput.Model
	Active bool // a line is being typed
	all    bool // what stands there is selected: the first letter takes its place
}

// Start begins with a value.
func (i *Input) Start(value string) {
	i.model = textinput.New()
	i.model.Prompt = ""
	i.model.SetVirtualCursor(true)
	i.model.SetValue(value)
	i.model.CursorEnd()
	i.model.Focus()
	i.Active, i.all = true, value != ""
}

// Hide shows marks in place of what is typed.
func (i *Input) Hide() {
	i.model.EchoMode = textinput.EchoPassword
	i.model.EchoCharacter = '•'
}

// Stop ends typing.
func (i *Input) Stop() { i.Active = false }

// Value is what stands there.
func (i *Input) Value() string { return i.model.Value() }

// SetValue replaces it.
func (i *Input) SetValue(s string) {
	i.all = false
	i.model.SetValue(s)
	i.model.CursorEnd()
}

// Update takes a key or a paste.
func (i *Input) Update(msg tea.Msg) tea.Cmd {
	switch k := msg.(type) {
	case tea.KeyPressMsg:
		gone := i.all && Is(k, "backspace", "delete")
		if gone || i.all && k.Text != "" {
			i.model.SetValue("")
		}
		if i.all = false; gone {
			return nil
		}
	case tea.PasteMsg:
		if i.all {
			i.model.SetValue("")
		}
		i.all = false
	}
	var cmd tea.Cmd
	i.model, cmd = i.model.Update(msg)
	return cmd
}

// Type takes a key or a paste and tells how typing ended: enter keeps what was
// typed, esc does not.
func (i *Input) Type(msg tea.Msg) (end End, cmd tea.Cmd) {
	if k, ok := msg.(tea.KeyPressMsg); ok && Is(k, "enter", "esc") {
		i.Stop()
		if Is(k, "enter") {
			return Kept, nil
		}
		return Dropped, nil
	}
	return Typing, i.Update(msg)
}

// End is how the typing of a line stands.
type End int

// The ends of typing.
const (
	Typing End = iota
	Kept
	Dropped
)

// View shows the line in w cells.
func (i *Input) View(w int) string {
	i.model.SetWidth(max(w-1, 1))
	if i.all && i.model.EchoMode == textinput.EchoNormal {
		return Pad(Selected(Cut(i.model.Value(), w)), w)
	}
	return Pad(i.model.View(), w)
}
