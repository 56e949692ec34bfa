// Package ui holds what the views share: the few styles, fitting text into
// cells, the reach as ticks, and key maps from which help is made.
package ui

import (
	"iter"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"orenda/internal/exchange"
	"orenda/internal/marks"
	"orenda/internal/safe"
)

// Most of a screen is text in two weights; one accent shows where to look, and nothing
// depends on colour. These are for a dark ground; OnLight gives those for a light one.
var (
	//nolint:gochecknoglobals // a table: it is never written to
	strong = lipgloss.NewStyle().Bold(true)
	//nolint:gochecknoglobals // a table: it is never written to
	soft = lipgloss.NewStyle().Foreground(lipgloss.Color(softDark))
	//nolint:gochecknoglobals // a table: it is never written to
	accent = lipgloss.NewStyle().Foreground(lipgloss.Color(accentDark)).Bold(true)
	//nolint:gochecknoglobals // a table: it is never written to
	good = lipgloss.NewStyle().Foreground(lipgloss.Color(goodDark))
	//nolint:gochecknoglobals // a table: it is never written to
	faint = lipgloss.NewStyle().Foreground(lipgloss.Color(faintDark))
	//nolint:gochecknoglobals // a table: it is never written to
	selected = lipgloss.NewStyle().Reverse(true)
)

// The colours, by their numbers among 256: each has a contrast of at least 4.5 to 1 on its
// ground, also where that is not wholly black or white (WCAG 2.1, 1.4.3).
const (
	softDark, softLight     = "245", "240"
	accentDark, accentLight = "172", "94"
	goodDark, goodLight     = "73", "23"

	faintDark, faintLight = "239", "250" // a line that only guides the eye
)

// OnLight is a frame with the colours for a light ground. A frame holds no control sequences
// but those of the styles: text from outside was made safe.
func OnLight(frame string) string {
	return strings.NewReplacer(
		"\x1b[38;5;"+softDark+"m", "\x1b[38;5;"+softLight+"m",
		"\x1b[1;38;5;"+accentDark+"m", "\x1b[1;38;5;"+accentLight+"m",
		"\x1b[38;5;"+faintDark+"m", "\x1b[38;5;"+faintLight+"m",
		"\x1b[38;5;"+goodDark+"m", "\x1b[38;5;"+goodLight+"m",
	).Replace(frame)
}

// Strong is the heavier weight.
func Strong(s string) string { return render(strong, s) }

// Soft is the lighter weight.
func Soft(s string) string { return render(soft, s) }

// Accent shows where to look.
func Accent(s string) string { return render(accent, s) }

// Faint is for lines that only guide the eye.
func Faint(s string) string { return render(faint, s) }

// Selected is text that the next letter takes the place of.
func Selected(s string) string { return render(selected, s) }

// Good is for what passed, quietly.
func Good(s string) string { return render(good, s) }

func render(st lipgloss.Style, s string) string {
	if s == "" {
		return ""
	}
	return st.Render(s)
}

// Width is the number of cells of a text that may hold styles.
func Width(s string) int { return ansi.StringWidth(s) }

// Cut makes a text from outside safe and no wider than w cells.
func Cut(s string, w int) string {
	if w <= 0 {
		return ""
	}
	return ansi.Truncate(safe.Line(s), w, "…")
}

// Fit is Cut, filled up with spaces to exactly w cells.
func Fit(s string, w int) string { return Pad(Cut(s, w), w) }

// Pad fills a styled text up to w cells, or cuts it there.
func Pad(s string, w int) string {
	w = max(w, 0)
	n := ansi.StringWidth(s)
	if n > w {
		s = ansi.Truncate(s, w, "…")
		n = ansi.StringWidth(s) // a wide rune at the edge leaves a cell free
	}
	return s + strings.Repeat(" ", w-n)
}

// Block is exactly h lines of exactly w cells.
func Block(lines []string, w, h int) string {
	out := make([]string, h)
	for i := range out {
		if i < len(lines) {
			out[i] = Pad(lines[i], w)
		} else {
			out[i] = strings.Repeat(" ", w)
		}
	}
	return strings.Join(out, "\n")
}

// Wrap breaks a text from outside into lines of w cells.
func Wrap(s string, w int) []string {
	if w <= 4 {
		return nil
	}
	return strings.Split(ansi.Wrap(safe.Line(s), w, " "), "\n")
}

// Window gives the first row to show so that the cursor stays in sight.
func Window(cursor, top, height, count int) int {
	top = min(top, cursor)
	if cursor >= top+height {
		top = cursor - height + 1
	}
	return max(0, min(top, count-height))
}

// Reach draws how far an exchange got: eleven ticks in four groups. It can be
// counted, and reads without colour.
func Reach(x *exchange.Exchange) string {
	ticks := x.Ticks()
	if x == nil {
		return Soft(ticks)
	}
	if x.Outcome == exchange.OutcomePassed {
		return Good(ticks)
	}
	at := strings.LastIndex(ticks, marks.Passed)
	if at >= 0 {
		at += len(marks.Passed)
	}
	full, rest := ticks[:max(at, 0)], ticks[max(at, 0):]
	if stop, after, ok := strings.Cut(rest, marks.Stopped); ok {
		return full + stop + Accent(marks.Stopped) + Soft(after)
	}
	return full + Soft(rest)
}

// Marks explains the signs of a path.
func Marks() string { return Soft(marks.Key) }

// ReachWidth is the number of cells of a reach.
const ReachWidth = 14

// Key is a row of a view's keys: the handler, the bottom line and the help are all
// made of it. A row without Do is shown only: a key of the whole application, one
// that moves the cursor, or one of the line that is being typed.
type Key struct {
	Press string // as tea.KeyPressMsg.String gives it; several separated by spaces
	Show  string // as it is shown
	Does  string // in a word or two; "" it is not shown
	Minor bool   // in the help page, not in the bottom line

	Do func(k tea.KeyPressMsg) tea.Cmd // what it does; nil it is shown only
}

// On is a row that does something.
func On(press, show, does string, do func(tea.KeyPressMsg) tea.Cmd) Key {
	return Key{Press: press, Show: show, Does: does, Do: do}
}

// Shown is a row that is shown only.
func Shown(press, show, does string) Key { return Key{Press: press, Show: show, Does: does} }

// InHelp is the row in the help page, not in the bottom line.
func (k Key) InHelp() Key {
	k.Minor = true
	return k
}

// If is the row where it can be done, else one that does nothing.
func (k Key) If(can bool) Key {
	if !can {
		k.Do = Do(func() {})
	}
	return k
}

// Do makes what a row does of a function that needs no key and asks for nothing.
func Do(do func()) func(tea.KeyPressMsg) tea.Cmd {
	return func(tea.KeyPressMsg) tea.Cmd {
		do()
		return nil
	}
}

// Asks makes what a row does of a function that needs no key.
func Asks(do func() tea.Cmd) func(tea.KeyPressMsg) tea.Cmd {
	return func(tea.KeyPressMsg) tea.Cmd { return do() }
}

// Press does what the first row with that key does.
func Press(keys []Key, k tea.KeyPressMsg) tea.Cmd {
	for _, row := range keys {
		if row.Do != nil && Is(k, strings.Fields(row.Press)...) {
			return row.Do(k)
		}
	}
	return nil
}

//nolint:gochecknoglobals // a table: it is never written to
var named = map[string]rune{"enter": tea.KeyEnter, "tab": tea.KeyTab, "space": tea.KeySpace, "end": tea.KeyEnd,
	"esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight,
	"pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown}

// PressOf is the message of a key by its name, as rows have it.
func PressOf(name string) tea.KeyPressMsg {
	if name == "" {
		return tea.KeyPressMsg{}
	}
	if mod, rest, ok := strings.Cut(name, "+"); ok && rest != "" {
		k := PressOf(rest)
		k.Mod, k.Text = map[string]tea.KeyMod{"ctrl": tea.ModCtrl, "shift": tea.ModShift}[mod], ""
		return k
	}
	if code, ok := named[name]; ok {
		k := tea.KeyPressMsg{Code: code}
		if code == tea.KeySpace {
			k.Text = " "
		}
		return k
	}
	r := []rune(name)
	return tea.KeyPressMsg{Code: r[0], Text: name}
}

// Has tells whether a row takes a key.
func Has(keys []Key, k tea.KeyPressMsg) bool {
	for _, row := range keys {
		if row.Do != nil && Is(k, strings.Fields(row.Press)...) {
			return true
		}
	}
	return false
}

// Is tells whether a key message is one of the presses.
func Is(msg tea.KeyPressMsg, presses ...string) bool {
	s := msg.String()
	for _, p := range presses {
		if s == p {
			return true
		}
	}
	return false
}

// Rows tells how many rows down (below zero: up) a key or the wheel asks to go,
// among count rows of which page are in sight: 0 if it asks for something else.
// Who calls it keeps the cursor within the rows.
func Rows(msg tea.Msg, page, count int) int {
	switch msg := msg.(type) {
	case Steps:
		return int(msg)
	case tea.MouseWheelMsg:
		notch := 1
		if count > page {
			notch = 3
		}
		switch msg.Button {
		case tea.MouseWheelUp:
			return -notch
		case tea.MouseWheelDown:
			return notch
		}
	case tea.KeyPressMsg:
		switch {
		case Is(msg, "up", "k"):
			return -1
		case Is(msg, "down", "j"):
			return 1
		case Is(msg, "pgup"):
			return -page
		case Is(msg, "pgdown"):
			return page
		case Is(msg, "home"):
			return -count
		case Is(msg, "end"):
			return count
		}
	}
	return 0
}

// Help is the bottom line made of a key map, as much as fits.
func Help(keys []Key, w int) string {
	out := ""
	for k := range hinted(keys, w) {
		if out != "" {
			out += strings.Repeat(" ", hintGap)
		}
		out += Strong(k.Show) + " " + Soft(k.Does)
	}
	return out
}

const hintGap = 3

// hinted are the keys that fit into the bottom line, with the cell that each begins at.
func hinted(keys []Key, w int) iter.Seq2[Key, int] {
	return func(yield func(Key, int) bool) {
		at := 0
		for _, k := range keys {
			if k.Minor || k.Does == "" {
				continue
			}
			wide := Width(k.Show) + 1 + Width(k.Does)
			if at+wide > w || !yield(k, at) {
				return
			}
			at += wide + hintGap
		}
	}
}

// HintAt is the key press that the bottom line shows at a cell, for the mouse.
func HintAt(keys []Key, w, x int) (tea.KeyPressMsg, bool) {
	for k, at := range hinted(keys, w) {
		if x < at || x >= at+Width(k.Show)+1+Width(k.Does) {
			continue
		}
		name := strings.TrimSpace(k.Press)
		if name == "" { // a row that is shown only
			name = map[string]string{"⏎": "enter", "esc": "esc", "tab": "tab", "ctrl+s": "ctrl+s"}[k.Show]
		}
		if first, _, several := strings.Cut(name, " "); several {
			name = first
		}
		return PressOf(name), name != ""
	}
	return tea.KeyPressMsg{}, false
}

// View is one view of the application.
type View interface {
	Update(msg tea.Msg) tea.Cmd
	View(w, h int) string
	Keys() []Key
	Typing() bool // keys are text now
}

// Chooser is a view in which a call can be chosen without it being in sight: Chooses takes what is at
// the cursor.
type Chooser interface{ Chooses() }
