package app

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"orenda/internal/app/state"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/workspace"
)

// stuck is a journal on a disk that does not answer until it is let go.
type stuck struct {
	journal.Journal
	asked atomic.Int64
	open  chan struct{}
}

func (j *stuck) wait() {
	j.asked.Add(1)
	<-j.open
}

func (j *stuck) Get(id string) (*exchange.Exchange, error) { j.wait(); return j.Journal.Get(id) }
func (j *stuck) List(q journal.Query) ([]*exchange.Exchange, error) {
	j.wait()
	return j.Journal.List(q)
}
func (j *stuck) ReplySizes(op string, like *exchange.Exchange) []int64 {
	j.wait()
	return j.Journal.ReplySizes(op, like)
}
func (j *stuck) Version() int64 { j.wait(); return j.Journal.Version() }

// Whatever view is open, neither drawing nor a key waits for the journal, and View
// changes nothing.
func TestNothingThatIsDrawnOrTypedWaitsForADisk(t *testing.T) {
	p := sit(t, 158, 47)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	p.keys("g")
	p.wait()
	kept := p.m.s.J
	j := &stuck{Journal: kept, open: make(chan struct{})}
	defer close(j.open)
	m := newModel(Options{Home: p.m.o.Home, Workspace: p.m.o.Workspace, Journal: j, Version: "test"})
	done := make(chan struct{})
	go func() {
		defer close(done)
		run := func(msg tea.Msg) {
			_, cmd := m.Update(msg)
			before := m.frame
			for range 3 {
				assert.Equal(t, before, m.View().Content, "View only gives what was drawn")
			}
			if cmd != nil {
				go func() { _ = cmd() }() // as Bubble Tea runs it
			}
		}
		run(tea.WindowSizeMsg{Width: 158, Height: 47})
		for range 2 {
			for _, place := range m.places {
				run(tea.KeyPressMsg{Code: rune(place.key[0]), Text: place.key})
				for _, k := range []string{"down", "up", "right", "left", "tab", "pgdown", "esc"} {
					run(named[k])
				}
			}
			run(tick{})
			run(state.Wake{})
		}
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("something waits for the journal")
	}
}

// A repair of an earlier attempt, or of one that was repaired elsewhere meanwhile, is
// held against what is set now.
func TestARepairIsPlannedAgainstWhatIsSetNow(t *testing.T) {
	p := sit(t, 158, 47)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	require.NoError(t, p.m.s.SetSetting("address", "http://"+p.h.Plain+"/berths/~wait.timed-out"))
	require.NoError(t, p.m.s.SetSetting("answer-time", "1s"))
	p.keys("g")
	p.wait()
	p.keys("p")
	p.sees("raise the answer time to 4s", "⏎ repair")

	// The command line changes it meanwhile.
	other, err := workspace.Open(p.saved(), p.m.o.Home)
	require.NoError(t, err)
	change := exchange.Change{Where: "workspace", Key: "endpoint.BerthDesk11.answer-time", To: "30s"}
	require.NoError(t, other.Apply(change))
	require.NoError(t, p.m.s.W.Reload())
	p.sees("does not fit any more", "answer-time is 30s now, and was 1s")
	p.keys("enter", "enter")
	set := p.m.s.W.Settings("BerthDesk11")
	assert.Equal(t, "30s", set.Text("answer-time"), "nothing is written over what is set now")

	change.To = nil
	require.NoError(t, other.Apply(change))
	require.NoError(t, p.m.s.W.Reload())
	p.sees("answer-time is 60s now, and was 1s")
	p.keys("enter", "enter")
	set = p.m.s.W.Settings("BerthDesk11")
	assert.Equal(t, "default", set.Get("answer-time").Source)

	change.To = "4s"
	require.NoError(t, other.Apply(change))
	require.NoError(t, p.m.s.W.Reload())
	p.sees("answer-time is 4s already")

	// Between what is shown and the key that makes it, too.
	change.To = "1s"
	require.NoError(t, other.Apply(change))
	require.NoError(t, p.m.s.W.Reload())
	p.keys("enter")
	p.sees("make this change")
	change.To = "9s"
	require.NoError(t, other.Apply(change))
	require.NoError(t, p.m.s.W.Reload())
	p.keys("enter")
	set = p.m.s.W.Settings("BerthDesk11")
	assert.Equal(t, "9s", set.Text("answer-time"))
}

// saved puts the workspace into a folder.
func (p *person) saved() string {
	p.t.Helper()
	dir := p.t.TempDir() + "/ws"
	require.NoError(p.t, p.m.s.W.SaveTo(dir))
	return dir
}

// Everything that the application started has ended when it has.
func TestNothingRunsOnAfterTheEnd(t *testing.T) {
	p := sit(t, 120, 30)
	before := goleak.IgnoreCurrent()
	m := newModel(Options{Home: p.m.o.Home, Workspace: p.m.o.Workspace, Journal: &journal.Memory{}, Version: "test"})
	m.s.Choose(state.CallKey{Draft: m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(t, m.s.SetSetting("address", "http://"+p.h.Plain+"/berths/~wait.timed-out"))
	require.NoError(t, m.s.Draft().Set("length", "20"))
	m.s.SaveDraft()
	m.s.Send()
	m.s.Fetch("http://" + p.h.Plain + "/dues?wsdl")
	m.s.FetchChain("BerthDeskTLS")
	_, looks := m.Update(tea.WindowSizeMsg{Width: 120, Height: 30})
	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		if b, ok := looks().(tea.BatchMsg); ok {
			for _, c := range b {
				go func() { _ = c() }()
			}
		}
		cancel()
	}()
	<-ctx.Done()
	m.s.End()
	require.True(t, m.s.Wait(15*time.Second))
	goleak.VerifyNone(t, before, goleak.IgnoreTopFunction("orenda/internal/standin.(*Harbour).misbehave"))
}

// The last change of settings is taken back on the path, with what it was shown first.
func TestTheLastChangeIsTakenBackOnThePath(t *testing.T) {
	p := sit(t, 158, 47)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	p.keys("p", "u")
	p.sees("there is no change to take back")
	for _, v := range []string{"1s", "7s"} {
		require.NoError(t, p.m.s.SetSetting("answer-time", v))
		p.m.s.Settle(p.m.s.Chosen)
	}
	p.keys("u")
	p.sees("taken back: BerthDesk11.answer-time", "U does it again")
	set := p.m.s.W.Settings("BerthDesk11")
	assert.Equal(t, "1s", set.Text("answer-time"))
	p.keys("U")
	p.sees("done again")
	set = p.m.s.W.Settings("BerthDesk11")
	assert.Equal(t, "7s", set.Text("answer-time"))
}
