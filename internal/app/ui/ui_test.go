package ui

import (
	"math"
	"strconv"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

func TestRowsMoveAsEveryListDoes(t *testing.T) {
	key := func(k rune) tea.Msg { return tea.KeyPressMsg{Code: k} }
	for _, c := range []struct {
		name        string
		msg         tea.Msg
		page, count int
		want        int
	}{
		{"one up", key(tea.KeyUp), 10, 50, -1},
		{"one up by letter", tea.KeyPressMsg{Code: 'k', Text: "k"}, 10, 50, -1},
		{"one down", key(tea.KeyDown), 10, 50, 1},
		{"one down by letter", tea.KeyPressMsg{Code: 'j', Text: "j"}, 10, 50, 1},
		{"a page up", key(tea.KeyPgUp), 10, 50, -10},
		{"a page down", key(tea.KeyPgDown), 10, 50, 10},
		{"the first", key(tea.KeyHome), 10, 50, -50},
		{"the last", key(tea.KeyEnd), 10, 50, 50},
		{"the wheel in a long list", tea.MouseWheelMsg{Button: tea.MouseWheelDown}, 10, 50, 3},
		{"the wheel in a short list", tea.MouseWheelMsg{Button: tea.MouseWheelUp}, 10, 5, -1},
		{"the wheel sideways", tea.MouseWheelMsg{Button: tea.MouseWheelLeft}, 10, 50, 0},
		{"another key", tea.KeyPressMsg{Code: 'g', Text: "g"}, 10, 50, 0},
		{"a click", tea.MouseClickMsg{Button: tea.MouseLeft}, 10, 50, 0},
	} {
		assert.Equal(t, c.want, Rows(c.msg, c.page, c.count), c.name)
	}
}

func TestTheCursorStaysInSight(t *testing.T) {
	for count := range 30 {
		for height := 1; height < 12; height++ {
			top := 0
			for _, cursor := range []int{0, count / 2, count - 1, count / 3, 0} {
				cursor = max(cursor, 0)
				top = Window(cursor, top, height, count)
				assert.GreaterOrEqual(t, top, 0)
				if count > 0 {
					assert.True(
						t,
						cursor >= top && cursor < top+height,
						"cursor %d, top %d, height %d",
						cursor,
						top,
						height,
					)
				}
				assert.LessOrEqual(t, top, max(count-height, 0), "nothing is empty below while rows are hidden above")
			}
		}
	}
}

func TestTextIsCutByCells(t *testing.T) {
	assert.Equal(t, "quay", Cut("quay", 4))
	assert.Equal(t, "qua…", Cut("quayside", 4))
	assert.Equal(t, "", Cut("quay", 0))
	assert.Equal(t, "潮…", Cut("潮位表", 4), "a wide rune is never halved")
	assert.Equal(t, "a␊b", Cut("a\nb", 9), "a line stays one line")
	assert.NotContains(t, Cut("a\x1b[31mred", 20), "\x1b")
	for w := range 12 {
		for _, s := range []string{"", "quay", "潮位表", "e\u0301tale", Strong("bold quay")} {
			assert.Equal(t, w, Width(Pad(s, w)), "%q in %d", s, w)
		}
	}
	assert.Equal(t, "ab  \n    ", Block([]string{"ab"}, 4, 2))
	assert.Equal(t, "abc…", Block([]string{"abcdef", "never"}, 4, 1))
	assert.Nil(t, Wrap("no room at all", 3))
	for _, l := range Wrap("The certificate of the harbour names another host than the address does.", 20) {
		assert.LessOrEqual(t, Width(l), 20)
	}
}

func TestReachIsCountedWithoutColour(t *testing.T) {
	assert.Equal(t, "···· ··· ·· ··", ansi.Strip(Reach(nil)))
	x := &exchange.Exchange{}
	for i, stage := range exchange.Stages {
		assert.Equal(t, i, strings.Count(ansi.Strip(Reach(x)), "■"), "before %s", stage)
		assert.Equal(t, ReachWidth, Width(Reach(x)))
		x.Stage(stage).State = exchange.Passed
	}
	assert.Equal(t, "■■■■ ■■■ ■■ ■■", ansi.Strip(Reach(x)))
	x = &exchange.Exchange{Outcome: exchange.OutcomeUnderWay}
	x.Stage(exchange.Stages[0]).State = exchange.Passed
	assert.Equal(t, "■►·· ··· ·· ··", ansi.Strip(Reach(x)))
}

func TestTheBottomLineShowsWholeKeysOnly(t *testing.T) {
	keys := []Key{
		{Show: "g", Does: "go: send it"},
		{Show: "D", Does: "duplicate", Minor: true},
		{Show: "?", Does: "help"},
	}
	assert.Equal(t, "g go: send it   ? help", ansi.Strip(Help(keys, 80)))
	assert.Equal(t, "g go: send it", ansi.Strip(Help(keys, 20)))
	assert.Equal(t, "", Help(keys, 4))
}

func TestTyping(t *testing.T) {
	var in Input
	in.Start("")
	type step struct {
		msg  tea.Msg
		end  End
		text string
	}
	for _, s := range []step{
		{tea.KeyPressMsg{Code: 'N', Text: "N"}, Typing, "N"},
		{tea.PasteMsg{Content: "04"}, Typing, "N04"},
		{tea.KeyPressMsg{Code: tea.KeyBackspace}, Typing, "N0"},
		{tea.KeyPressMsg{Code: tea.KeyEnter}, Kept, "N0"},
	} {
		end, _ := in.Type(s.msg)
		assert.Equal(t, s.end, end)
		assert.Equal(t, s.text, in.Value())
		assert.Equal(t, s.end == Typing, in.Active)
	}
	in.Start("kept as it was")
	end, _ := in.Type(tea.KeyPressMsg{Code: tea.KeyEscape})
	assert.Equal(t, Dropped, end)
	assert.False(t, in.Active)
}

// A click on a hint of the bottom line is its key.
func TestAHintIsPressedWithTheMouse(t *testing.T) {
	keys := []Key{On("enter", "⏎", "open", nil), On("q", "q", "hidden", nil).InHelp(), Shown("g", "g", "go: send"),
		On("left right", "←→", "column", nil), {Show: "esc", Does: "back"}, Shown("x", "x", "too far")}
	line := ansi.Strip(Help(keys, 46))
	assert.Equal(t, "⏎ open   g go: send   ←→ column   esc back", line)
	at := func(text string) string {
		x := Width(line[:strings.Index(line, text)])
		k, ok := HintAt(keys, 46, x)
		if !ok {
			return ""
		}
		return k.String()
	}
	for text, want := range map[string]string{"⏎": "enter", "open": "enter", "go:": "g", "column": "left", "back": "esc"} {
		assert.Equal(t, want, at(text), text)
	}
	_, ok := HintAt(keys, 46, Width("⏎ open "))
	assert.False(t, ok, "between two hints")
	_, ok = HintAt(keys, 46, 44)
	assert.False(t, ok, "what does not fit cannot be pressed")
}

// Colours are told from their ground: at least 4.5 to 1, also where it is not wholly black or white.
func TestColoursAreLegibleOnBothGrounds(t *testing.T) {
	grey := func(v float64) float64 { return linear(v / 255) }
	for _, c := range []struct {
		number string
		ground float64
	}{
		{softDark, grey(0x1e)}, {accentDark, grey(0x1e)}, {goodDark, grey(0x1e)},
		{softLight, grey(0xf4)}, {accentLight, grey(0xf4)}, {goodLight, grey(0xf4)},
	} {
		hi, lo := max(luminance(t, c.number), c.ground), min(luminance(t, c.number), c.ground)
		assert.GreaterOrEqual(t, (hi+0.05)/(lo+0.05), 4.5, c.number)
	}
}

func linear(v float64) float64 {
	if v <= 0.04045 {
		return v / 12.92
	}
	return math.Pow((v+0.055)/1.055, 2.4)
}

// luminance of a colour of the 256, by the cube of 6 and the greys above it.
func luminance(t *testing.T, number string) float64 {
	n, err := strconv.Atoi(number)
	require.NoError(t, err)
	if n >= 232 {
		return linear(float64(8+10*(n-232)) / 255)
	}
	part := func(i int) float64 {
		if i == 0 {
			return 0
		}
		return linear(float64(55+40*i) / 255)
	}
	n -= 16
	return 0.2126*part(n/36) + 0.7152*part(n/6%6) + 0.0722*part(n%6)
}
