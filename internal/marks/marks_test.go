package marks

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

// In ASCII nothing of a screen is wider than it was, and no two signs of a stage look alike.
func TestPlainIsAsWide(t *testing.T) {
	seen := map[string]bool{}
	for _, sign := range []string{Passed, Stopped, UnderWay, NotReached, NotUsed} {
		p := Plain(sign)
		assert.Len(t, p, 1)
		assert.False(t, seen[p], "%q stands twice", p)
		seen[p] = true
	}
	row := "‹■■×· ··· ·· ··›message … ⏎ ⇧↑ │ “x”"
	p := Plain(row)
	assert.Equal(t, utf8.RuneCountInString(row), len(p), p)
	assert.False(t, strings.ContainsFunc(p, func(r rune) bool { return r > 126 }), p)
}

func TestWhichTerminalsWantThem(t *testing.T) {
	for _, c := range []struct {
		term, lang, set string
		want            bool
	}{
		{"xterm-256color", "C.UTF-8", "", false},
		{"xterm-256color", "en_GB.utf8", "", false},
		{"xterm-256color", "en_GB.ISO-8859-1", "", true},
		{"xterm-256color", "", "", false}, // many containers set none, and show UTF-8
		{"vt220", "C.UTF-8", "", true},
		{"xterm", "C.UTF-8", "1", true},
	} {
		t.Setenv("TERM", c.term)
		t.Setenv("LC_ALL", c.lang)
		t.Setenv("LC_CTYPE", "")
		t.Setenv("LANG", "")
		t.Setenv("ORENDA_ASCII", c.set)
		assert.Equal(t, c.want, WantsPlain(), "%+v", c)
	}
}
