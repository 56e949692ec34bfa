package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/app/state"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/standin"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// at points the first berth call at a path of the harbour.
func (p *person) at(path string, settings ...string) {
	p.t.Helper()
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(p.t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	settings = append(settings, "address", "http://"+p.h.Plain+path)
	for i := 0; i+1 < len(settings); i += 2 {
		require.NoError(p.t, p.m.s.SetSetting(settings[i], settings[i+1]))
	}
}

// Whatever goes wrong outside, the path says what, where, and what to do, and
// every view still fits, on a large screen and on the smallest.
func TestEveryCauseIsReadOnThePath(t *testing.T) {
	p := sit(t, 158, 47)
	for _, m := range standin.Misbehaviours() {
		if !strings.Contains(m.ID, ".") || m.ID == "read.fault-declared" { // FindBerths declares no fault
			continue
		}
		t.Run(m.ID, func(t *testing.T) {
			p.t = t
			set := []string{"answer-time", "300ms", "receive-time", "300ms", "reply-to", "", "transfer", "length",
				"request-coding", "none"}
			if m.Shown[0] != "" {
				set = append(set, m.Shown[0], m.Shown[1])
			}
			p.at("/berths/~"+m.ID, set...)
			p.keys("g", "p")
			p.wait()
			x := p.m.s.Exchange()
			require.NotEmpty(t, x.Findings)
			f := x.Findings[0]
			require.Equal(t, m.ID, f.ID)
			if f.Severity == exchange.Note { // it leads nowhere: it stands at its own stage
				require.Equal(t, exchange.OutcomePassed, x.Outcome)
				return
			}
			p.size(158, 47)
			p.sees(f.Title, strings.ToUpper(x.Findings[0].Stage.String()), "attempts")
			if len(f.Remedies) > 0 {
				p.sees(f.Remedies[0].Title)
			}
			p.fits()
			p.size(80, 24)
			first, _, _ := strings.Cut(f.Title, ",")
			p.sees(string([]rune(first)[:min(len([]rune(first)), 40)]))
			for _, place := range []string{"p", "s", "r", "t", "b"} {
				p.keys(place)
				p.fits()
				assert.NotContains(t, p.text(), "\x1b", "nothing from outside is obeyed")
			}
		})
	}
}

// settles waits until what is seen holds.
func (p *person) settles(holds func() bool) {
	p.t.Helper()
	deadline := time.Now().Add(10 * time.Second)
	for !holds() {
		require.True(p.t, time.Now().Before(deadline), p.text())
		time.Sleep(5 * time.Millisecond)
		p.m.s.Take()
		for _, done := range p.late {
			select {
			case msg := <-done:
				p.take(msg)
			default:
			}
		}
	}
}

func TestACallIsWatchedAndHalted(t *testing.T) {
	p := sit(t, 158, 47)
	p.at("/berths/~receive.stalled", "receive-time", "20s")
	p.keys("p", "g")
	p.settles(func() bool { return strings.Contains(p.text(), "B so far") || strings.Contains(p.text(), " of ") })
	p.sees("1 under way", "under way")
	p.fits()
	p.keys("g")
	assert.Equal(t, 1, p.m.s.UnderWay(), "a cell has one call at a time")
	p.keys("h")
	p.wait()
	assert.Equal(t, exchange.OutcomeCancelled, p.m.s.Exchange().Outcome)
	p.sees("halted after")
	p.keys("b")
	p.fits()
}

func TestTheGaugeShowsWhereTheLimitFalls(t *testing.T) {
	p := sit(t, 158, 47)
	for _, r := range p.m.s.Rows() {
		if r.Operation == "YearTable" {
			p.m.s.Choose(state.CallKey{Draft: r, Endpoint: "TideTables"})
		}
	}
	for field, value := range map[string]string{"station": "Skerry Sound", "year": "2027", "datum": "chart datum",
		"heights/unit": "metre"} {
		require.NoError(t, p.m.s.Draft().Set(field, value), field)
	}
	p.m.s.SaveDraft()
	require.NoError(t, p.m.s.SetSetting("receive-limit", "700 KiB"))
	p.keys("p", "g")
	p.wait()
	p.sees("larger than the receive limit")
	require.NoError(t, p.m.s.SetSetting("receive-limit", "2 MiB"))
	p.keys("g")
	p.wait()
	require.Equal(t, exchange.OutcomePassed, p.m.s.Exchange().Outcome, p.text())
	for range 20 {
		if strings.Contains(p.text(), "▕█") {
			break
		}
		p.keys("up")
	}
	p.sees("RECEIVE", "▕█")
	p.keys("r")
	p.wait()
	p.settles(func() bool { return strings.Contains(p.text(), "Skerry Sound") })
	p.keys("/", "slack", "enter")
	p.fits()
	p.keys("y")
	p.sees("copied: ")
	p.keys("tab", "tab", "tab", "y")
	p.sees("copied: ")
}

func TestDrawingsAreWrittenFromTheKey(t *testing.T) {
	p := sit(t, 120, 40)
	p.keys("w")
	p.sees("send the call first")
	p.at("/berths")
	p.keys("g")
	p.wait()
	dir := t.TempDir()
	for name, says := range map[string]string{"path.svg": "written: ", "path.pdf": "written: ",
		"path.gif":            ".svg or .pdf",
		"none/there/path.svg": "written: "} {
		p.keys("w")
		p.sees("write the drawing to")
		p.keys("ctrl+u", filepath.Join(dir, name), "enter")
		p.sees(says)
	}
	for _, name := range []string{"path.svg", "path.pdf"} {
		assert.FileExists(t, filepath.Join(dir, name))
	}
	assert.NoFileExists(t, filepath.Join(dir, "path.gif"))
	p.keys("w", "esc")
	p.fits()
}

func TestAWorkspaceInMemoryIsSavedFromTheKey(t *testing.T) {
	p := sit(t, 120, 40)
	p.sees("harbour (in memory)")
	dir := filepath.Join(t.TempDir(), "kept")
	p.keys("S", "ctrl+u", dir, "enter")
	p.sees("saved: ")
	assert.NotContains(t, p.text(), "(in memory)")
	assert.FileExists(t, filepath.Join(dir, workspace.File))
	p.keys(":")
	assert.NotContains(t, p.text(), "save the workspace into a folder", "once is enough")
	p.keys("esc")
	p.at("/berths", "answer-time", "3s")
	b, err := os.ReadFile(filepath.Join(dir, workspace.File))
	require.NoError(t, err)
	assert.Contains(t, string(b), "answer-time = '3s'", "from now on every change is on disk")
}

func TestWithoutAnyDescription(t *testing.T) {
	home := &user.Home{Config: t.TempDir(), State: t.TempDir()}
	p := &person{
		t: t,
		m: newModel(
			Options{
				Home:      home,
				Workspace: workspace.New("new workspace", home),
				Journal:   &journal.Memory{},
				Version:   "test",
			},
		),
	}
	p.size(80, 24)
	p.sees("Which service do you want to call?", "type it, or paste it here")
	p.keys("http", "up", "esc") // letters are letters from the first key
	for _, size := range [][2]int{{80, 24}, {158, 47}, {20, 6}} {
		p.size(size[0], size[1])
		for _, place := range p.m.places {
			p.keys(place.key)
			p.fits()
			p.keys("g", "down", "w", "h", "esc")
			p.fits()
		}
	}
	p.size(80, 24)
	p.keys("b", "enter", "/nowhere/at/all.wsdl", "enter")
	p.wait()
	p.sees("/nowhere/at/all.wsdl")
	p.fits()
	p.tell(tea.PasteMsg{Content: "<Envelope/>"})
	p.fits()
}
