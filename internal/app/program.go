package app

import (
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/exchange"
	"orenda/internal/handover/code"
	"orenda/internal/safe"
)

// handOverProgram asks for a language and a folder, and writes a program that makes the call in
// sight.
func (m *model) handOverProgram() tea.Cmd {
	if c, ok := m.view().(ui.Chooser); ok {
		c.Chooses()
	}
	if m.s.Chosen.Draft.Operation == "" {
		m.s.Say("choose a call first")
		return nil
	}
	return func() tea.Msg {
		return state.Pick{
			Prompt: "a program that makes this call, in", Options: code.Names(),
			Take: func(i int) tea.Cmd {
				language := code.Names()[i]
				cwd, _ := os.Getwd()
				usual := filepath.Join(cwd, safe.FileName(m.s.Chosen.Draft.Operation+"-"+language))
				return state.AskFor("write the program into the folder", usual, func(dir string) {
					m.writeProgram(language, dir)
				})
			},
		}
	}
}

func (m *model) writeProgram(language, dir string) {
	p, err := m.s.Plan()
	if err == nil && p.NoEndpoint != nil {
		err = p.NoEndpoint
	}
	if err != nil {
		m.s.Say("%v", err)
		return
	}
	var sent *exchange.Exchange
	if m.s.Shown < len(m.s.Attempts) {
		sent = m.s.Exchange()
	}
	kept, missing, err := m.s.W.WriteProgram(language, dir, &p, sent, nil, false)
	switch {
	case err != nil:
		m.s.Say("%v", err)
	case len(kept.Conflicts) > 0:
		m.s.Say("edited there, and kept: %s; the new text is beside, .new", strings.Join(kept.Conflicts, ", "))
	case len(missing) > 0:
		m.s.Say("written: %s; but %s", dir, missing[0])
	default:
		m.s.Say("written: %s, %d files", dir, len(kept.Files))
	}
}
