package app

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/user"
)

// barred is a view with a list that may be longer than its room.
type barred interface{ ScrollBar() *ui.Bar }

// bar is that of the view in sight.
func (m *model) bar() *ui.Bar {
	if b, ok := m.view().(barred); ok && m.over == none {
		return b.ScrollBar()
	}
	return &ui.Bar{}
}

// inRoom draws a view, and beside it the bar of its list.
func (m *model) inRoom(v ui.View) string {
	bar := m.bar()
	*bar = ui.Bar{}
	return bar.Beside(v.View(m.w-1, m.h-2))
}

// drags moves the list by its bar.
func (m *model) drags(msg tea.MouseMsg) (tea.Cmd, bool) {
	bar := *m.bar()
	bar.First++ // the line on top
	steps, taken := m.drag.Take(msg, &bar, m.w-1)
	if steps == 0 {
		return nil, taken
	}
	return m.view().Update(steps), true
}

// clicker is a view that knows what stands at each place of it.
type clicker interface {
	// Click is a click on it; false: it goes to the row, as in any list.
	Click(m tea.MouseClickMsg) (tea.Cmd, bool)
}

// click is the mouse: a hint at the bottom is its key, a row is where the cursor goes.
func (m *model) click(msg tea.MouseClickMsg) tea.Cmd {
	if k, ok := ui.HintAt(m.hints(), m.hintsWidth(), msg.X-1); ok && msg.Y == m.h-1 && m.over != asking {
		return m.key(k)
	}
	if m.over == asking || m.over == none && m.view().Typing() {
		return nil
	}
	if c, ok := m.view().(clicker); ok && m.over == none {
		in := msg
		in.Y--
		if cmd, taken := c.Click(in); taken {
			return cmd
		}
	}
	return m.walk(msg.Y)
}

// cursorSign stands before the row that the keys act on, in every list.
const cursorSign = "▌"

// walk goes to the row of a list that was clicked, as the arrow keys would. Each step is drawn,
// for only the drawing tells which row stands where.
func (m *model) walk(y int) tea.Cmd {
	var cmds []tea.Cmd
	for range 2 * m.h {
		rows := cursorRows(m.draw())
		name := "down"
		switch {
		case len(rows) == 0 || y >= rows[0] && y <= rows[len(rows)-1]:
			return tea.Batch(cmds...)
		case y < rows[0]:
			name = "up"
		}
		cmds = append(cmds, m.key(ui.PressOf(name)))
		after := cursorRows(m.draw())
		if len(after) == 0 || after[0] == rows[0] || (y < rows[0]) != (y <= after[len(after)-1]) {
			return tea.Batch(cmds...) // no way on, or past it
		}
	}
	return tea.Batch(cmds...)
}

func cursorRows(frame string) (out []int) {
	for i, line := range strings.Split(frame, "\n") {
		if strings.HasPrefix(strings.TrimLeft(ansi.Strip(line), " "), cursorSign) {
			out = append(out, i)
		}
	}
	return out
}

// chooseGround asks which ground the terminal has, and keeps it for the person.
func (m *model) chooseGround() tea.Cmd {
	says := []string{"as the terminal says (dark where it says nothing)", "dark", "light"}
	return func() tea.Msg {
		return state.Pick{Prompt: "ground of the terminal", Options: says, Take: func(i int) tea.Cmd {
			m.ground = user.Grounds[i]
			m.light = m.ground == "light"
			if err := m.s.Home.SetGround(m.ground); err != nil {
				m.s.Say("%v", err)
				return nil
			}
			m.s.Say("ground: %s; kept in %s", says[i], m.s.Home.SettingsFile())
			if m.ground == "ask" {
				return tea.RequestBackgroundColor
			}
			return nil
		}}
	}
}
