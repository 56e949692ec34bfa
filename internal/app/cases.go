package app

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/workspace"
)

// addCases asks for a muster, and puts the calls that are marked on the board into it, or the one
// in sight with the values that it was sent with.
func (m *model) addCases() tea.Cmd {
	var cases []workspace.AddedCase
	for _, t := range m.s.MarkedTargets() {
		cases = append(cases, workspace.AddedCase{Draft: t.Draft.String(), Endpoint: t.Endpoint})
	}
	if x := m.s.Exchange(); len(cases) == 0 && m.s.Shown < len(m.s.Attempts) && x.Outcome != "" {
		cases = append(cases, workspace.CaseOf(x))
	}
	if c := m.s.Chosen; len(cases) == 0 && c.Draft.Operation != "" {
		cases = append(cases, workspace.AddedCase{Draft: c.Draft.String(), Endpoint: c.Endpoint})
	}
	if len(cases) == 0 {
		m.s.Say("choose a call first")
		return nil
	}
	usual := "cases"
	if all := m.s.W.Musters(); len(all) > 0 {
		usual = all[0]
	}
	return state.AskFor(fmt.Sprintf("put %s into the muster", plural(len(cases), "case")), usual, func(name string) {
		if err := m.s.AddCases(strings.TrimSpace(name), cases); err != nil {
			m.s.Say("%v", err)
			return
		}
		clear(m.s.Marked)
	})
}

func plural(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// expectAsCame has the draft in sight expect what the newest calls of it with the same values
// brought back.
func (m *model) expectAsCame() tea.Cmd {
	n, of, err := m.s.ExpectAsCame()
	if err != nil {
		m.s.Say("%v", err)
		return nil
	}
	says := fmt.Sprintf("%s now, of %s", plural(n, "expectation"), plural(of, "reply"))
	if of == 1 {
		says += "; send it once more and do this again: what changes is left out then"
	}
	m.s.Say("%s; u takes it back", strings.ReplaceAll(says, "replys", "replies"))
	return nil
}
