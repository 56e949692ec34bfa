package state

import (
	"context"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/journal"
	"orenda/internal/standin"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// harbour is a state on a workspace in memory that knows the berth desk and
// the tide tables of a running harbour.
func harbour(t testing.TB) (*State, *standin.Harbour) {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	dir := t.TempDir()
	home := &user.Home{Config: dir + "/config", State: dir + "/state"}
	require.NoError(t, os.MkdirAll(home.Config, 0o700))
	require.NoError(t, os.WriteFile(home.Config+"/word", []byte(standin.Password), 0o600))
	require.NoError(
		t,
		home.SaveIdentity(identity.Identity{Name: "desk", User: standin.User, Secret: "file:" + home.Config + "/word"}),
	)
	w := workspace.New("harbour", home)
	for _, p := range []string{"berths", "tides"} {
		f, err := call.Fetch(context.Background(), "http://"+h.Plain+"/"+p+"?wsdl", call.Plan{Agent: "test"}, nil)
		require.NoError(t, err)
		_, err = w.AddContract(f.Contract, f.Served)
		require.NoError(t, err)
	}
	return New(w, &journal.Memory{}, home), h
}

func choose(t testing.TB, s *State, op, end string) {
	t.Helper()
	for _, r := range s.Rows() {
		if r.Operation == op {
			s.Choose(CallKey{r, end})
			return
		}
	}
	t.Fatalf("no draft of %s", op)
}

// settle takes what comes in until nothing is under way.
func settle(t testing.TB, s *State) {
	t.Helper()
	deadline := time.Now().Add(15 * time.Second)
	for s.UnderWay() > 0 {
		require.True(t, time.Now().Before(deadline), "it never ended")
		time.Sleep(2 * time.Millisecond)
		s.Take()
	}
}

// looked is what the views show once everything was looked up.
func looked(s *State) *exchange.Exchange {
	var take func(msg tea.Msg)
	take = func(msg tea.Msg) {
		switch msg := msg.(type) {
		case tea.BatchMsg:
			for _, c := range msg {
				take(c())
			}
		case Looked:
			s.TakeLook(msg)
		}
	}
	for range 10 {
		s.Exchange()
		cmd := s.Looks()
		if cmd == nil {
			break
		}
		take(cmd())
	}
	return s.Exchange()
}

func TestSendingAndAttempts(t *testing.T) {
	s, _ := harbour(t)
	choose(t, s, "FindBerths", "BerthDesk11")
	require.NoError(t, s.Draft().Set("length", "20"))
	s.SaveDraft()
	for i := 1; i <= 3; i++ {
		s.Send()
		assert.Equal(t, 1, s.UnderWay())
		settle(t, s)
		assert.Len(t, s.Attempts, i)
		assert.Equal(t, i-1, s.Shown)
	}
	x := looked(s)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Equal(t, 3, s.Kept)
	assert.Same(t, s.Latest(s.Chosen, ""), s.Attempts[2])
	assert.Len(t, s.Traffic(), 3)
	s.Open(s.Traffic()[2])
	assert.Equal(t, 0, s.Shown, "an earlier attempt opens in its place")
}

func TestACallUnderWayIsNotSentTwice(t *testing.T) {
	s, h := harbour(t)
	choose(t, s, "FindBerths", "BerthDesk11")
	require.NoError(t, s.SetSetting("address", "http://"+h.Plain+"/berths/~wait.timed-out"))
	require.NoError(t, s.SetSetting("answer-time", "1s"))
	require.NoError(t, s.Draft().Set("length", "20"))
	s.SaveDraft()
	s.Send()
	s.Send()
	assert.Equal(t, 1, s.UnderWay())
	assert.Equal(t, underWay, s.Message)
	settle(t, s)
	assert.Empty(t, s.Message, "it is under way no longer")
	assert.Len(t, s.Attempts, 1)
}

// slow is a journal on a disk that takes its time.
type slow struct {
	journal.Journal
	open chan struct{}
}

func (j slow) Add(x *exchange.Exchange) error {
	<-j.open
	return j.Journal.Add(x)
}

// What has ended on the screen may be sent again, also while it is being kept.
func TestTheNextCallGoesAsSoonAsTheLastIsKept(t *testing.T) {
	s, _ := harbour(t)
	choose(t, s, "FindBerths", "BerthDesk11")
	require.NoError(t, s.Draft().Set("length", "20"))
	s.SaveDraft()
	disk := slow{s.J, make(chan struct{})}
	s.J = disk
	s.Send()
	require.Eventually(
		t,
		func() bool { return s.Running().Outcome == exchange.OutcomePassed },
		5*time.Second,
		time.Millisecond,
	)
	s.Send()
	assert.Empty(t, s.Message)
	assert.Equal(t, 1, s.UnderWay())
	close(disk.open)
	settle(t, s)
	assert.Len(t, s.Attempts, 2)
	assert.Zero(t, s.UnderWay())

	// So may it as another identity.
	disk.open = make(chan struct{})
	s.J = disk
	s.Send()
	require.Eventually(
		t,
		func() bool { return s.Running().Outcome == exchange.OutcomePassed },
		5*time.Second,
		time.Millisecond,
	)
	s.SendAs("desk")
	assert.Empty(t, s.Message)
	close(disk.open)
	settle(t, s)
	require.Len(t, s.Attempts, 4)
	assert.Equal(t, "desk, for this call only", s.Attempts[3].Changes[0].To)
}

func TestBeforeTheFirstCallThePathShowsWhatIsSet(t *testing.T) {
	s, _ := harbour(t)
	choose(t, s, "FindBerths", "BerthDesk11")
	x := looked(s)
	assert.Equal(t, exchange.OutcomeUnderWay, x.Outcome, "nothing was sent: it has no outcome")
	assert.Equal(t, "message.placeholder-left", x.Findings[0].ID)
	assert.Equal(t, exchange.Waiting, x.Stage(exchange.Connect).State)
	assert.Same(t, x, s.Check(), "it is told once")
	require.NoError(t, s.SetSetting("address", "ftp://x/"))
	assert.Equal(t, "address.scheme-unsupported", looked(s).Findings[0].ID, "the check runs as settings change")
	require.Error(t, s.SetSetting("receive-limit", "lots"))
	require.NoError(t, s.SetSetting("receive-limit", "2 MB"))
	assert.Equal(t, "2 MB", s.W.Endpoint("BerthDesk11").Values["receive-limit"][0])
	require.NoError(t, s.SetSetting("receive-limit", ""))
	assert.NotContains(t, s.W.Endpoint("BerthDesk11").Values, "receive-limit", "empty leads back to the weaker layer")
}

func TestACheckReadsNoSecret(t *testing.T) {
	s, _ := harbour(t)
	dir := t.TempDir()
	require.NoError(
		t,
		s.Home.SaveIdentity(identity.Identity{Name: "spy", User: "spy", Secret: "command:touch " + dir + "/ran"}),
	)
	choose(t, s, "DayTable", "TideTables")
	require.NoError(t, s.W.Apply(exchange.Change{Where: "user", Key: "allow.spy", To: s.placeOf(t)}))
	require.NoError(t, s.SetSetting("identity", "spy"))
	require.NoError(t, s.SetSetting("token", "digest"))
	s.Exchange()
	assert.NoFileExists(t, dir+"/ran")
}

func (s *State) placeOf(t *testing.T) string {
	a := looked(s).Stage(exchange.Address).Facts.Get("resolved")
	require.NotEmpty(t, a)
	return a[:len(a)-len("/tides")]
}

func TestRemediesAreRememberedAsTheChangeBeforeTheNextAttempt(t *testing.T) {
	s, _ := harbour(t)
	choose(t, s, "DayTable", "TideTablesTLS")
	require.NoError(t, s.Draft().Set("station", "Skerry"))
	require.NoError(t, s.Draft().Set("day", "2027-03-01"))
	s.SaveDraft()
	for _, want := range []string{"tls.self-signed", "read.fault-security-missing"} {
		s.Send()
		settle(t, s)
		x := looked(s)
		require.Equal(t, want, x.Findings[0].ID)
		require.NoError(t, s.ApplyRemedy(&x.Findings[0].Remedies[0]))
		assert.NotEmpty(t, s.Pending())
		assert.Equal(t, len(s.Attempts), s.Shown, "the next call is in sight")
	}
	s.Send()
	settle(t, s)
	x := looked(s)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Empty(t, s.Pending())
	assert.Len(t, x.Changes, 3)
	all := string(x.Leg().Out)
	assert.NotContains(t, all, standin.Password)
	s.Reveal = true
	assert.NotEqual(t, all, string(looked(s).Leg().Out), "the clear bytes are there, behind a key")
}

func TestHaltEndsACallAtOnce(t *testing.T) {
	s, h := harbour(t)
	choose(t, s, "FindBerths", "BerthDesk11")
	require.NoError(t, s.SetSetting("address", "http://"+h.Plain+"/berths/~wait.timed-out"))
	s.Send()
	settle(t, s)
	require.Len(t, s.Attempts, 1)
	assert.Equal(t, exchange.Message, s.Attempts[0].StoppedAt, "an unfilled draft is not sent unasked")
	s.SendAsItIs()
	require.Eventually(
		t,
		func() bool { return s.Running().Stage(exchange.Wait).State == exchange.Open },
		5*time.Second,
		time.Millisecond,
	)
	s.Halt()
	settle(t, s)
	assert.Equal(t, exchange.OutcomeCancelled, looked(s).Outcome)
	s.Halt()
	assert.Contains(t, s.Message, "nothing is under way")
}

func TestEnvironments(t *testing.T) {
	s, _ := harbour(t)
	s.NextEnvironment()
	assert.Contains(t, s.Message, "no environment")
	for _, e := range []string{"model", "production"} {
		require.NoError(t, s.W.Apply(exchange.Change{Where: "workspace", Key: "environment." + e + ".host", To: "x"}))
	}
	s.NextEnvironment()
	assert.Equal(t, "model", s.Environment)
	s.NextEnvironment()
	assert.Equal(t, "production", s.Environment)
	s.NextEnvironment()
	assert.Equal(t, "model", s.Environment)
}

func TestFetchingAddsAContractOrSaysWhyNot(t *testing.T) {
	s, h := harbour(t)
	s.Fetch("http://" + h.Plain + "/pilots")
	settle(t, s)
	assert.NotNil(t, s.W.ContractNamed("pilot-orders"))
	assert.Equal(t, "OrderPilot", s.Chosen.Draft.Operation, "the cursor stands on what is new")
	s.Fetch("http://" + h.Plain + "/nowhere")
	settle(t, s)
	require.NotNil(t, s.Fetching)
	assert.Equal(t, "receive.not-found", s.Fetching.Findings[0].ID)
	s.Fetch("/no/such/file.wsdl")
	settle(t, s)
	assert.Contains(t, s.Message, "no such file")
	s.Fetch("  ")
	assert.Zero(t, s.UnderWay())
}

func TestManyWakeUpsAreOne(t *testing.T) {
	s, _ := harbour(t)
	for range 1000 {
		s.notify()
	}
	n := 0
	for {
		select {
		case <-s.hurry:
			n++
			continue
		default:
		}
		break
	}
	assert.Equal(t, 1, n)
}

// A draft that is brought back goes beside one that took its name meanwhile.
func TestADraftComesBackOverNoOther(t *testing.T) {
	s, _ := harbour(t)
	choose(t, s, "FindBerths", "BerthDesk11")
	gone := s.Chosen.Draft
	s.Duplicate()
	kept := s.Chosen.Draft
	require.NoError(t, s.W.WriteDraft(gone, []byte("<FindBerths>gone</FindBerths>")))
	require.NoError(t, s.W.WriteDraft(kept, []byte("<FindBerths>kept</FindBerths>")))
	s.Choose(CallKey{gone, "BerthDesk11"})
	s.Remove()
	s.Choose(CallKey{kept, "BerthDesk11"})
	s.Rename(gone.Name)
	s.Restore()
	assert.Equal(t, gone.Name+" 2", s.Chosen.Draft.Name)
	for ref, want := range map[workspace.DraftRef]string{gone: "kept", s.Chosen.Draft: "gone"} {
		b, err := s.W.ReadDraft(ref)
		require.NoError(t, err)
		assert.Contains(t, string(b), want)
	}
}

// What is begun while the application ends is either waited for, or never begins.
func TestNothingBeginsAfterTheEnd(t *testing.T) {
	r := newRunner()
	var begun sync.WaitGroup
	var goes atomic.Int64
	for range 50 {
		begun.Go(func() {
			r.Go(func(ctx context.Context) {
				goes.Add(1)
				<-ctx.Done()
				goes.Add(-1)
			})
		})
	}
	r.End()
	assert.True(t, r.Wait(10*time.Second))
	assert.Zero(t, goes.Load())
	begun.Wait()
	assert.Zero(t, goes.Load())
}
