package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What another program said is pasted anywhere, or named as a file.
func TestAnErrorTextIsExplained(t *testing.T) {
	p := sit(t, 120, 30)
	trace := "call failed\n  at a.b\x1b[2J\nCaused by: Handshake: unable to find valid certification path\n"
	p.tell(tea.PasteMsg{Content: trace})
	p.sees("What the text speaks of", "tls.authority-unknown", "line 3", "to see it", "esc back")
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

// One key finds out what is behind a failure; what differs from when the call last
// passed stands beside it, and takes it back.
func TestFindingOutWhatIsBehind(t *testing.T) {
	p := sit(t, 150, 45)
	p.at("/berths")
	p.keys("p", "g")
	p.wait()
	p.sees("passed after")
	require.NoError(t, p.m.s.SetSetting("address", "http://127.0.0.1:1/berths"))
	p.keys("g")
	p.wait()
	p.sees("nobody listens at 127.0.0.1:1", "may be", "m finds out which", "last passed", "take the address back")
	p.fits()
	p.keys("m")
	p.settles(func() bool { return strings.Contains(p.text(), "likely: the service listens on another port") })
	p.sees("unlikely: nothing runs on that host", "call it on port")
	p.fits()
	p.keys("m")
	p.sees("nothing here that a check could tell")
	kept, err := p.m.s.J.Get("last")
	require.NoError(t, err)
	require.False(t, kept.Findings[0].Unchecked(), "the answers are kept")
}

// A proxy file says which proxy it would choose for the endpoint, and that is set where it is wanted.
func TestAProxyFileIsRead(t *testing.T) {
	p := sit(t, 158, 47)
	p.at("/berths")
	file := t.TempDir() + "/house.pac"
	require.NoError(t, os.WriteFile(file, []byte(`function FindProxyForURL(u, h) { return "PROXY near.skerry.test:3128"; }`), 0o600))
	p.keys(":", "proxy file", "enter")
	p.sees("proxy file (PAC)")
	p.keys(file, "enter")
	p.sees("line 1 chooses http://near.skerry.test:3128", "set proxy to http://near.skerry.test:3128")
	p.keys("enter")
	assert.Equal(t, []string{"http://near.skerry.test:3128"}, p.m.s.W.Endpoint(p.m.s.Chosen.Endpoint).Values["proxy"])
}
