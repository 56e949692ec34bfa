package app

import (
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/exchange"
	"orenda/internal/facade"
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
		options := append(code.Names(), "go, the operations as JSON for an app (a façade)")
		return state.Pick{
			Prompt: "a program that calls " + m.s.Chosen.Draft.Operation + ", in", Options: options,
			Take: func(i int) tea.Cmd {
				language, _, _ := strings.Cut(options[i], ",")
				facade := i == len(options)-1
				name := m.s.Chosen.Draft.Operation + "-" + language
				if facade {
					name = m.s.Chosen.Draft.Contract + "-facade"
				}
				cwd, _ := os.Getwd()
				return state.AskFor("write the program into the folder", filepath.Join(cwd, safe.FileName(name)),
					func(dir string) { m.writeProgram(language, dir, facade) })
			},
		}
	}
}

func (m *model) writeProgram(language, dir string, asFacade bool) {
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
	write := func() (*code.Kept, []string, error) {
		return m.s.W.WriteProgram(language, dir, &p, sent, nil, false)
	}
	if asFacade {
		write = func() (*code.Kept, []string, error) {
			pages, err := facade.Pages(facade.Of(&p, nil, m.s.W.Shown), false)
			if err != nil {
				return nil, nil, err
			}
			return m.s.W.WriteFacade(dir, &p, nil, false, pages)
		}
	}
	kept, missing, err := write()
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
