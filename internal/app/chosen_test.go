package app

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/app/state"
)

// highlighted is the row that is drawn as chosen, and the name of the column.
func (p *person) highlighted() string {
	p.t.Helper()
	for _, l := range strings.Split(p.text(), "\n") {
		if strings.HasPrefix(l, " ▌ ") {
			return l
		}
	}
	p.t.Fatalf("no row is drawn as chosen:\n%s", p.text())
	return ""
}

// What is drawn as chosen is what keys act on, whatever was added, filtered, folded,
// renamed or removed before.
func TestTheChosenCellIsOne(t *testing.T) {
	p := sit(t, 158, 47)
	same := func(after string) {
		t.Helper()
		l := p.highlighted()
		assert.Contains(t, l, p.m.s.Chosen.Draft.Operation, after)
		assert.Contains(t, l, p.m.s.Chosen.Draft.Name, after)
		if p.m.s.Chosen.Endpoint != "" {
			assert.Contains(t, l, "‹", after)
		}
	}
	same("the start")
	p.keys("a")
	p.m.update(tea.PasteMsg{Content: "http://" + p.h.Plain + "/callsigns?wsdl"})
	p.keys("enter")
	p.wait()
	assert.Contains(t, strings.ToLower(p.m.s.Chosen.Draft.Contract), "sign", "what was added is chosen")
	same("a description was added")
	p.keys("D")
	same("a copy was made")
	copied := p.m.s.Chosen.Draft
	p.keys("X")
	assert.NotEqual(t, copied, p.m.s.Chosen.Draft)
	assert.NotContains(t, p.m.s.Rows(), copied, "the one that was drawn as chosen is gone")
	same("it was removed")
	p.keys("u")
	assert.Contains(t, p.m.s.Rows(), p.m.s.Chosen.Draft)
	same("it was brought back")
	p.keys("/", "tide", "enter")
	same("a filter hides it")
	assert.Contains(t, p.m.s.Chosen.Draft.Contract, "tide")
	p.keys("esc")
	same("the filter is gone")
	p.keys("z")
	assert.Contains(t, p.highlighted(), "and 1 more", "a folded contract stands for its drafts")
	p.keys("z", "x")
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk12"})
	same("chosen elsewhere")
	for _, k := range []string{"down", "right", "down", "left", "up", "end", "home"} {
		p.keys(k)
		same(k)
	}
}

// What a call sends while the person leaves is kept, as halted.
func TestLeavingKeepsWhatWasSent(t *testing.T) {
	p := sit(t, 120, 30)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	require.NoError(t, p.m.s.SetSetting("address", "http://"+p.h.Plain+"/berths/~wait.timed-out"))
	p.keys("g")
	require.Eventually(t, func() bool {
		x := p.m.s.Running()
		return x != nil && len(x.Legs) > 0 && len(x.Leg().Out) > 0
	}, 10*time.Second, time.Millisecond, "the request is on its way")
	cmd := p.m.update(tea.KeyPressMsg{Code: 'q', Text: "q"})
	require.NotNil(t, cmd)
	p.sees("halting 1 under way")
	assert.Equal(t, left{}, cmd(), "it waits until what was under way has ended")
	assert.Equal(t, tea.Quit(), p.m.update(left{})())
	x, err := p.m.s.J.Get("last")
	require.NoError(t, err)
	assert.Equal(t, "cancelled", string(x.Outcome))
	assert.NotEmpty(t, x.Leg().Out, "what left is there")
	assert.Equal(t, tea.Quit(), p.m.leave()(), "asked for once more, it ends at once")
}

// Keys that were pressed before the dry run came keep the cursor where they put it.
func TestTheCursorStaysWhereKeysPutIt(t *testing.T) {
	t.Chdir(t.TempDir())
	p := sit(t, 120, 40)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	var late []tea.Cmd // what is looked up comes after all keys
	for _, k := range []tea.KeyPressMsg{{Code: 'p', Text: "p"}, named["down"], named["up"], named["right"]} {
		_, cmd := p.m.Update(k)
		late = append(late, cmd)
	}
	require.Contains(t, ansi.Strip(p.m.frame), "where does it go?")
	for _, cmd := range late {
		if cmd != nil {
			p.looked(cmd())
		}
	}
	p.sees("where does it go?", "229 B", "›address")
}
