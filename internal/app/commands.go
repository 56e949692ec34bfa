package app

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/sahilm/fuzzy"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
)

// worded is a command of the list that is typed with what it is to act on.
type worded struct {
	word, about string
	do          func(with string) tea.Cmd
}

func (m *model) worded() []worded {
	said := func(err error) tea.Cmd {
		if err != nil {
			m.s.Say("%v", err)
		}
		return nil
	}
	return []worded{
		{"set", "SETTING VALUE: a setting of the chosen endpoint", func(with string) tea.Cmd {
			key, value, _ := strings.Cut(with, " ")
			if err := m.s.SetNamed(key, value); err != nil {
				return said(err)
			}
			m.s.Say("%s is set; g sends the call", key)
			return nil
		}},
		{"call", "WORDS: choose the call whose name has them", func(with string) tea.Cmd {
			if !m.s.ChooseNamed(with) {
				m.s.Say("no call has %q in its name", with)
			}
			return nil
		}},
		{"endpoint", "NAME: choose it for the call", func(with string) tea.Cmd {
			if m.s.W.Endpoint(with) == nil {
				m.s.Say("there is no endpoint %s", with)
				return nil
			}
			m.s.Choose(state.CallKey{Draft: m.s.Chosen.Draft, Endpoint: with})
			return nil
		}},
		{"environment", "NAME: use it", func(with string) tea.Cmd {
			if _, ok := m.s.W.Variables(with); !ok {
				m.s.Say("there is no environment %s", with)
				return nil
			}
			m.s.UseEnvironment(with)
			return nil
		}},
		{"policy", "FILE: attach its policies to the contract of the call", func(with string) tea.Cmd {
			name := m.s.Chosen.Draft.Contract
			n, left, err := m.s.W.AttachPolicy(name, with)
			switch {
			case err != nil:
				m.s.Say("%v", err)
			case len(left) > 0:
				m.s.Say("%s: demands added: %d; %s: %s", name, n, left[0].What, left[0].Why)
			default:
				m.s.Say("%s: demands added: %d; c shows them", name, n)
			}
			return nil
		}},
		{"add", "ADDRESS or FILE: a description", func(with string) tea.Cmd { m.s.Fetch(with); return nil }},
	}
}

// listed are the commands, keys and views that the list offers for what was typed.
func (m *model) listed() []command {
	text := m.in.Value()
	word, with, args := strings.Cut(strings.TrimLeft(text, " "), " ")
	var out []command
	for _, c := range m.worded() {
		if args && c.word == word {
			do := func() tea.Cmd { return c.do(strings.TrimSpace(with)) }
			out = append(out, command{c.word + " " + with, "", "⏎", do})
		}
	}
	var all []command
	for _, p := range m.places {
		all = append(all, command{p.name + ": " + p.about, "", p.key, func() tea.Cmd { return m.goTo(p.name) }})
	}
	for _, row := range m.view().Keys() {
		presses := strings.Fields(row.Press)
		if row.Do == nil || row.Does == "" || len(presses) > 1 || slices.Contains(presses, "esc") {
			continue
		}
		all = append(all, command{row.Does, "", row.Show, func() tea.Cmd { return row.Do(ui.PressOf(row.Press)) }})
	}
	all = append(all, m.commands()...)
	for _, c := range m.worded() {
		all = append(all, command{c.word + " " + c.about, "", "", func() tea.Cmd {
			m.open(commandList)
			m.in.Start("")
			m.in.SetValue(c.word + " ")
			return nil
		}})
	}
	if text == "" {
		return all
	}
	names := make([]string, len(all))
	for i, c := range all {
		names[i] = c.name
	}
	for _, hit := range fuzzy.Find(text, names) {
		out = append(out, all[hit.Index])
	}
	return out
}

func (m *model) list(w, h int) string {
	rows := []string{"", "   " + ui.Accent(": ") + m.in.View(min(w-10, 50)), ""}
	list := m.listed()
	if len(list) == 0 {
		rows = append(rows, "   "+ui.Soft("no command has these letters"))
	}
	top := ui.Window(m.pick, 0, max(h-len(rows), 1), len(list))
	for i, c := range list[top:] {
		lead, name := "   ", ui.Cut(c.name, min(w-12, 70))
		if top+i == m.pick {
			lead, name = ui.Accent(" ▌ "), ui.Strong(name)
		}
		rows = append(rows, lead+ui.Pad(name, min(w-12, 70))+ui.Soft(c.show))
	}
	return ui.Block(rows, w, h)
}
