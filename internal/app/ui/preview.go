package ui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/exchange"
)

// Preview shows changes before they are made.
type Preview struct {
	Title   string            // what the changes do
	Changes []exchange.Change // that would be made
	Notes   []string          // what will not happen, and why

	Active bool // it is shown
	top    int
}

// Show begins to show changes.
func (p *Preview) Show(title string, changes []exchange.Change, notes ...string) {
	*p = Preview{Title: title, Changes: changes, Notes: notes, Active: true}
}

// Keys are the keys while changes are shown.
func (p *Preview) Keys() []Key {
	return []Key{
		Shown("enter", "⏎", "make these changes"),
		Shown("up down", "↑↓", "scroll"),
		Shown("esc", "esc", "not now"),
	}
}

// Press takes a key; agreed is true where the changes are to be made.
func (p *Preview) Press(k tea.KeyPressMsg) (agreed bool) {
	switch {
	case Is(k, "enter"):
		p.Active = false
		return true
	case Is(k, "esc", "q", "n"):
		p.Active = false
	case Is(k, "down", "j"):
		p.top = min(p.top+1, max(len(p.Changes)-1, 0))
	case Is(k, "up", "k"):
		p.top = max(p.top-1, 0)
	}
	return false
}

// View shows the changes in a block of w cells and h lines.
func (p *Preview) View(w, h int) string {
	out := []string{"", "   " + Strong(Cut(p.Title, w-6)), ""}
	room := max(h-len(out)-len(p.Notes)-3, 1)
	rest := 0
	for i, c := range p.Changes[min(p.top, len(p.Changes)):] {
		if i == room {
			rest = len(p.Changes) - p.top - room
			break
		}
		out = append(out, "     "+Accent("▸ ")+Cut(c.String(), w-10))
	}
	if rest > 0 {
		out = append(out, "       "+Soft(fmt.Sprintf("… %d more", rest)))
	}
	for _, n := range p.Notes {
		out = append(out, "     "+Cut(n, w-8))
	}
	return Block(append(out, "", "   "+Accent("⏎ make these changes")+Soft("   esc not now")), w, h)
}
