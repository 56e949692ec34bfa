package contracts

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/workspace"
)

// shelf is the person's catalogue: descriptions that all workspaces share.
type shelf struct {
	open   bool
	c      *workspace.Catalogue
	hits   []workspace.Hit
	in     ui.Input
	text   string
	cursor int
	top    int
	height int
}

// show opens the catalogue.
func (v *View) show() {
	c, err := workspace.OpenCatalogue(v.s.Home)
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.shelf = shelf{open: true, c: c}
	v.shelf.search("")
}

func (l *shelf) search(text string) {
	l.text, l.hits, l.cursor, l.top = text, l.c.Search(text), 0, 0
}

// keep puts a description of the workspace into the catalogue.
func (v *View) keep(e entry) {
	c, err := workspace.OpenCatalogue(v.s.Home)
	if err == nil {
		var name string
		if name, err = c.Add(e.c, v.s.W.ContractNamed(e.contract).Served, ""); err == nil {
			v.s.Say("in your catalogue: %s; K lists it", name)
			return
		}
	}
	v.s.Say("%v", err)
}

// shelfKeys are the keys while the catalogue is shown.
func (v *View) shelfKeys() []ui.Key {
	l := &v.shelf
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("enter", "⏎", "into this workspace, and fill in", ui.Asks(v.takeHit)).If(l.cursor < len(l.hits)),
		ui.On("X", "X", "remove the description", ui.Do(v.dropHit)).If(l.cursor < len(l.hits)),
		ui.On("/", "/", "search operations and fields", ui.Do(func() { l.in.Start(l.text) })),
		ui.On("esc", "esc", "back", ui.Do(func() { l.open = false })),
	}
}

// takeHit takes the description under the cursor into the workspace.
func (v *View) takeHit() tea.Cmd {
	h := v.shelf.hits[v.shelf.cursor]
	if !v.s.FromCatalogue(v.shelf.c, h.Name, h.Operation.Name) {
		return nil
	}
	v.shelf.open = false
	return func() tea.Msg { return state.Goto("draft") }
}

// dropHit takes the description under the cursor out of the catalogue.
func (v *View) dropHit() {
	l := &v.shelf
	name := l.hits[l.cursor].Name
	if err := l.c.Remove(name); err != nil {
		v.s.Say("%v", err)
		return
	}
	l.search(l.text)
	v.s.Say("%s is not in your catalogue any more", name)
}

// updateShelf types the line that is searched for, and moves the cursor. done is
// true where the message was taken.
func (v *View) updateShelf(msg tea.Msg) (done bool, cmd tea.Cmd) {
	l := &v.shelf
	if l.in.Active {
		end, cmd := l.in.Type(msg)
		switch end {
		case ui.Kept:
			l.search(l.in.Value())
		case ui.Dropped:
			l.search("")
		}
		return true, cmd
	}
	l.cursor = min(max(l.cursor+ui.Rows(msg, l.height, len(l.hits)), 0), max(len(l.hits)-1, 0))
	return false, nil
}

func (v *View) viewShelf(w, h int) string {
	l := &v.shelf
	title := ui.Strong("your catalogue") + ui.Soft(
		fmt.Sprintf("   %d descriptions · %d operations", len(l.c.Names()), len(l.hits)),
	)
	if l.in.Active {
		title += "   " + ui.Accent("/ ") + l.in.View(min(w-50, 30))
	} else if l.text != "" {
		title += ui.Soft("   with “" + ui.Cut(l.text, 30) + "”")
	}
	rows := []string{"", "   " + title, ""}
	l.height = max(h-len(rows), 1)
	var list []string
	at, last := 0, ""
	for i, hit := range l.hits {
		if hit.Name != last {
			if last != "" {
				list = append(list, "")
			}
			last = hit.Name
			about := ""
			if k, con, err := l.c.Entry(hit.Name); err == nil {
				if about = con.Documentation; about == "" {
					about = k.Source
				}
			}
			list = append(list, "   "+ui.Strong(ui.Cut(hit.Name, 30))+ui.Soft("   "+ui.Cut(about, w-38)))
		}
		if i != l.cursor {
			list = append(list, "     "+ui.Cut(hit.Operation.Signature(), w-8))
			continue
		}
		at = len(list)
		for k, s := range ui.Wrap(hit.Operation.Signature(), w-10) {
			lead := ui.Accent("   ▌ ")
			if k > 0 {
				lead = "       "
			}
			list = append(list, lead+ui.Strong(s))
		}
		if hit.Operation.Documentation != "" {
			list = append(list, "       "+ui.Soft(ui.Cut(hit.Operation.Documentation, w-10)))
		}
		if len(hit.Fields) > 0 {
			list = append(list, "       "+ui.Soft("fields ")+ui.Cut(strings.Join(hit.Fields, ", "), w-18))
		}
	}
	switch {
	case len(l.c.Names()) == 0:
		list = append(list, "   "+ui.Soft("nothing is in it yet: + keeps a description of this workspace in it"))
	case len(l.hits) == 0:
		list = append(list, "   "+ui.Soft("no operation has that in its name, its documentation or its fields"))
	}
	l.top = ui.Window(min(at+3, max(len(list)-1, 0)), l.top, l.height, len(list))
	l.top = min(l.top, max(at-1, 0))
	return ui.Block(append(rows, list[l.top:min(len(list), l.top+l.height)]...), w, h)
}
