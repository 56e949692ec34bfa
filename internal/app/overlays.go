package app

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/ui"
)

func (m *model) overKey(k tea.KeyPressMsg) tea.Cmd {
	switch m.over {
	case helpPage:
		return m.helpKey(k)
	case heardPage:
		m.pageKey(k, ui.Is(k, "esc", "enter", "q"))
	case choosing:
		list := m.offered()
		return m.pickKey(k, len(list), func(i int) tea.Cmd { return m.picks.Take(list[i]) })
	case commandList:
		list := m.listed()
		return m.pickKey(k, len(list), func(i int) tea.Cmd { return list[i].do() })
	case asking:
		return m.askKey(k)
	}
	return nil
}

// pageKey turns the leaves of a page, or closes it, and tells whether the key did either.
func (m *model) pageKey(k tea.KeyPressMsg, closes bool) bool {
	switch {
	case ui.Is(k, "down"):
		m.scroll++
	case ui.Is(k, "up"):
		m.scroll = max(m.scroll-1, 0)
	case ui.Is(k, "pgdown"):
		m.scroll += m.h - 4
	case ui.Is(k, "pgup"):
		m.scroll = max(m.scroll-m.h+4, 0)
	case closes:
		m.close()
	default:
		return false
	}
	return true
}

// helpKey is a key on the help page, where letters search.
func (m *model) helpKey(k tea.KeyPressMsg) tea.Cmd {
	empty := m.in.Value() == ""
	if m.pageKey(k, ui.Is(k, "esc", "enter") || empty && ui.Is(k, "?", "q")) || empty && ui.Is(k, "/") {
		return nil
	}
	m.scroll = 0
	return m.in.Update(k)
}

// pickKey is a key in a list of n rows that letters narrow.
func (m *model) pickKey(k tea.KeyPressMsg, n int, take func(int) tea.Cmd) tea.Cmd {
	switch {
	case ui.Is(k, "esc"):
		m.close()
	case ui.Is(k, "up"):
		m.pick = max(m.pick-1, 0)
	case ui.Is(k, "down"):
		m.pick = min(m.pick+1, max(n-1, 0))
	case ui.Is(k, "enter"):
		m.close()
		if m.pick < n {
			return take(m.pick)
		}
	default:
		m.pick = 0
		return m.in.Update(k)
	}
	return nil
}

// askKey is a key in the line that asks.
func (m *model) askKey(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case ui.Is(k, "esc"):
		m.close()
	case ui.Is(k, "enter"):
		m.close()
		text := m.in.Value()
		if !m.hidden { // a secret may begin or end with a blank
			text = strings.TrimSpace(text)
		}
		if m.then != nil {
			return m.then(text)
		}
		m.answer(text)
	case ui.Is(k, "tab"):
		text := m.in.Value()
		return func() tea.Msg {
			whole, choices := ui.CompletePath(text)
			return completed{text, whole, choices}
		}
	default:
		return m.in.Update(k)
	}
	return nil
}

// completed is a path that was gone on with, as far as only one way led.
type completed struct {
	text, whole string
	choices     []string
}

func (m *model) close() {
	m.over = none
	m.in.Stop()
}
