package app

import (
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
	"github.com/atotto/clipboard"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/safe"
)

// copies are what can be copied here: what the view has at its cursor first, then what
// stands for the call.
func (m *model) copies() (out []ui.Copy) {
	if c, ok := m.view().(ui.Copier); ok {
		out = c.Copies()
	}
	if line := m.s.CallLine(); line != "" {
		out = append(out, ui.Text("the orenda call line", line))
	}
	if x := m.s.Exchange(); x.ID != "" {
		out = append(out, ui.Text("the exchange's id", x.ID))
	}
	return out
}

// copyFirst copies what stands at the cursor.
func (m *model) copyFirst() tea.Cmd {
	all := m.copies()
	if len(all) == 0 {
		m.s.Say("there is nothing to copy here")
		return nil
	}
	return m.copy(all[0])
}

// copyOne asks which of the things here is copied.
func (m *model) copyOne() tea.Cmd {
	all := m.copies()
	if len(all) == 0 {
		m.s.Say("there is nothing to copy here")
		return nil
	}
	pick := state.Pick{Prompt: "copy", Take: func(i int) tea.Cmd { return m.copy(all[i]) }}
	for _, c := range all {
		pick.Options = append(pick.Options, c.What)
	}
	return func() tea.Msg { return pick }
}

// maxShown is how much of what was copied is told, in characters.
const maxShown = 60

// copy puts a text on the clipboard: the terminal's (OSC 52), and the system's where there
// is one.
func (m *model) copy(c ui.Copy) tea.Cmd {
	text := c.Text()
	if text == "" {
		m.s.Say("%s is empty", c.What)
		return nil
	}
	m.s.Copied = text
	if n := utf8.RuneCountInString(text); n > maxShown || strings.Contains(text, "\n") {
		m.s.Say("copied: %s, %s characters", c.What, endpoint.Bytes(int64(n)))
	} else {
		m.s.Say("copied: %s", safe.Line(text))
	}
	return tea.Batch(tea.SetClipboard(text), func() tea.Msg {
		_ = clipboard.WriteAll(text) // where there is none, the terminal's is all there is
		return nil
	})
}
