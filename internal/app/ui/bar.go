package ui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
)

// Bar is where a list stands in its room. A view embeds it and sets it as it draws; the
// application draws it in the last column, and the mouse moves by it. The zero value is none.
type Bar struct {
	First, Height int // lines of the view that the list has
	Lines         int // that the whole list would need
	At, Count     int // the row that the keys move, among how many
}

// ScrollBar is the bar as it was drawn last.
func (b *Bar) ScrollBar() *Bar { return b }

// Shown tells whether the list is longer than its room.
func (b *Bar) Shown() bool { return b.Lines > b.Height && b.Height > 1 && b.Count > 1 }

// Thumb is the part of the room that is the thumb, from the first line of the room on.
func (b *Bar) Thumb() (from, to int) {
	size := max(b.Height*b.Height/b.Lines, 1)
	from = min(max(b.At, 0), b.Count-1) * (b.Height - size) / (b.Count - 1)
	return from, from + size
}

// Steps is how many rows the keys would go to the place of a line of the view.
func (b *Bar) Steps(line int) Steps {
	line = min(max(line-b.First, 0), b.Height-1)
	return Steps(line*(b.Count-1)/(b.Height-1) - b.At)
}

// Steps asks a view to go so many rows down, or up where it is below zero.
type Steps int

// The signs of a bar.
const (
	barTrack = "│"
	barThumb = "┃"
)

// Beside draws the bar to the right of a view of one cell less than the room.
func (b *Bar) Beside(view string) string {
	if !b.Shown() {
		return strings.ReplaceAll(view, "\n", " \n") + " "
	}
	lines := strings.Split(view, "\n")
	from, to := b.Thumb()
	for i := range lines {
		sign := " "
		switch at := i - b.First; {
		case at >= from && at < to:
			sign = Soft(barThumb)
		case at >= 0 && at < b.Height:
			sign = Faint(barTrack)
		}
		lines[i] += sign
	}
	return strings.Join(lines, "\n")
}

// Dragging is the mouse on a bar.
type Dragging struct{ on bool }

// Take is what a mouse message asks of the bar in a column: taken is whether it was for the bar.
func (d *Dragging) Take(msg tea.MouseMsg, bar *Bar, column int) (s Steps, taken bool) {
	at := msg.Mouse()
	switch msg.(type) {
	case tea.MouseClickMsg:
		d.on = at.Button == tea.MouseLeft && at.X == column && bar.Shown() &&
			at.Y >= bar.First && at.Y < bar.First+bar.Height
	case tea.MouseReleaseMsg:
		taken, d.on = d.on, false
		return 0, taken
	case tea.MouseWheelMsg:
		return 0, false
	}
	if !d.on || bar.Height < 2 || bar.Count < 2 { // it may fit now: what is at the cursor has lines of its own
		return 0, d.on
	}
	return bar.Steps(at.Y), true
}
