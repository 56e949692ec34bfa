package app

import (
	"io"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
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
		return func() tea.Msg { return ui.Complete(text, nil) }
	default:
		return m.in.Update(k)
	}
	return nil
}

func (m *model) close() {
	m.over = none
	m.in.Stop()
}

// offered are the options that fit what is typed, by their numbers.
func (m *model) offered() (out []int) {
	want := strings.ToLower(m.in.Value())
	for i, o := range m.picks.Options {
		if strings.Contains(strings.ToLower(o), want) {
			out = append(out, i)
		}
	}
	return out
}

// offer shows what is chosen from.
func (m *model) offer(w, h int) string {
	prompt := ui.Strong(ui.Cut(m.picks.Prompt, w/2)) + ui.Accent(" › ")
	rows := []string{"", "   " + prompt + m.in.View(min(w-20, 50)), ""}
	list := m.offered()
	top := ui.Window(m.pick, 0, max(h-4, 1), len(list))
	for at, i := range list[top:] {
		lead, text := "     ", ui.Cut(m.picks.Options[i], w-8)
		if top+at == m.pick {
			lead, text = ui.Accent("   ▌ "), ui.Strong(text)
		}
		rows = append(rows, lead+text)
	}
	if len(list) == 0 {
		rows = append(rows, "     "+ui.Soft("nothing here has these letters"))
	}
	return ui.Block(rows, w, h)
}

// isErrorText tells a text that a program wrote from an address and from XML,
// which views take themselves.
func isErrorText(text string) bool {
	t := strings.TrimSpace(text)
	return !strings.HasPrefix(t, "<") && !(strings.HasPrefix(t, "http") && !strings.ContainsAny(t, " \n"))
}

// hear shows what an error text speaks of, if it does of anything.
func (m *model) hear(text string) bool {
	heard := diagnose.InText(text)
	if len(heard) == 0 {
		return false
	}
	m.heard = heard
	m.open(heardPage)
	return true
}

// maxErrorText is how much of a file with an error text is read, in bytes.
const maxErrorText = 16 << 20

func (m *model) explainText() tea.Cmd {
	return m.ask("error text, or the name of a file with it", "", func(text string) {
		if f, err := os.Open(text); err == nil {
			b, err := io.ReadAll(io.LimitReader(f, maxErrorText))
			f.Close()
			if err != nil {
				m.s.Say("%v", err)
				return
			}
			text = string(b)
		}
		if text != "" && !m.hear(text) {
			m.s.Say("nothing in it speaks of a finding that is known")
		}
	})
}

// heardView is what an error text speaks of, the likeliest first.
func (m *model) heardView(w, h int) string {
	rows := []string{
		"",
		"   " + ui.Strong("What the text speaks of") + ui.Soft(
			"  the likeliest first; a text is what a program says, not what crossed",
		),
		"",
	}
	for i, f := range m.heard {
		title := ui.Strong(ui.Cut(f.Means, w-8))
		if i == 0 {
			title = ui.Accent(ui.Cut(f.Means, w-8))
		}
		rows = append(rows, "   "+title, "   "+ui.Soft(f.ID))
		for _, l := range f.Lines() {
			for k, text := range ui.Wrap(l[1], w-22) {
				label := ""
				if k == 0 {
					label = l[0]
				}
				rows = append(rows, "     "+ui.Pad(ui.Soft(label), 14)+text)
			}
		}
		rows = append(rows, "")
	}
	m.scroll = min(m.scroll, max(len(rows)-h, 0))
	return ui.Block(rows[m.scroll:], w, h)
}

// help is the page of all keys; what is typed narrows it.
func (m *model) help(w, h int) string {
	want := strings.ToLower(strings.TrimSpace(m.in.Value()))
	rows := []string{"", "   " + ui.Strong("Every call travels one path of eleven stages.") +
		ui.Soft("   Orenda "+m.o.Version),
		"   What was " + ui.Strong("set") + " stands above what was " + ui.Strong(
			"seen",
		) + ", at the stage where it takes effect.",
		"   " + ui.Marks(), ""}
	if want != "" {
		rows = []string{"", "   " + ui.Accent("/ ") + m.in.View(40), ""}
	}
	found := 0
	head := ""
	row := func(key, text, rest string) {
		if want != "" && !strings.Contains(strings.ToLower(text), want) {
			return
		}
		found++
		if head != "" {
			rows = append(rows, "   "+ui.Strong(head))
			head = ""
		}
		rows = append(rows, "     "+ui.Pad(key, 10)+rest)
	}
	head = "in the " + m.places[m.at].name
	for _, k := range m.view().Keys() {
		if k.Press != "?" && k.Does != "" { // the one is for anywhere, the other shown nowhere
			row(ui.Strong(k.Show), k.Show+" "+k.Does, k.Does)
		}
	}
	rows = append(rows, "")
	head = "views"
	for _, p := range m.places {
		row(ui.Strong(p.key), p.key+" "+p.name+" "+p.about, ui.Pad(p.name, 14)+ui.Soft(p.about))
	}
	rows = append(rows, "")
	head = "anywhere"
	for _, c := range m.commands() {
		key := ui.Strong(c.show)
		if c.show == "" { // it is found in the list of commands
			key = ui.Soft(":")
		}
		row(key, c.show+" "+c.name, c.name)
	}
	if found == 0 {
		rows = append(rows, "   "+ui.Soft("no key does anything with these letters; esc goes back"))
	}
	m.scroll = min(m.scroll, max(len(rows)-h, 0))
	return ui.Block(rows[m.scroll:], w, h)
}
