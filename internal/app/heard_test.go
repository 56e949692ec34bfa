package app

import (
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"
)

// What another program said is pasted anywhere, or named as a file.
func TestAnErrorTextIsExplained(t *testing.T) {
	p := sit(t, 120, 30)
	trace := "call failed\n  at a.b\x1b[2J\nCaused by: Handshake: unable to find valid certification path\n"
	p.tell(tea.PasteMsg{Content: trace})
	p.sees("What the text speaks of", "tls.authority-unknown", "line 3", "to see it", "any other key")
	p.fits()
	p.keys("esc")
	p.sees("what works where")
	p.tell(tea.PasteMsg{Content: "slack water at nine"})
	require.NotContains(t, p.text(), "What the text speaks of")
	p.keys("esc")

	file := filepath.Join(t.TempDir(), "error.log")
	require.NoError(t, os.WriteFile(file, []byte("x\nHTTP/1.1 502 Bad Gateway"), 0o600))
	p.m.explainText()
	p.tell(tea.PasteMsg{Content: file})
	p.keys("enter")
	p.sees("receive.gateway", "line 2")
	p.keys("esc")
	p.m.explainText()
	p.tell(tea.PasteMsg{Content: "all is well"})
	p.keys("enter")
	p.sees("nothing in it speaks of a finding")
}
