package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slow answers every call with the same fault, after a while, and counts them.
func slow(t *testing.T) (address string, calls *atomic.Int64) {
	t.Helper()
	calls = &atomic.Int64{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			calls.Add(1)
		}
		_, _ = io.Copy(io.Discard, r.Body)
		time.Sleep(time.Duration(rand.IntN(1500)) * time.Millisecond)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = io.WriteString(w, `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body>`+
			`<soap:Fault><faultcode>soap:Server</faultcode><faultstring>the desk is shut</faultstring></soap:Fault>`+
			`</soap:Body></soap:Envelope>`)
	}))
	t.Cleanup(s.Close)
	return s.URL, calls
}

// Whatever keys come, in every view and at every size down to 20×5, and whenever the
// program is left: it does not end by itself, no race is found (make race and make
// endure build it with the detector), and each call that a server saw is kept.
// ORENDA_KEYS says how long, as "10m". No editor is started: giving the terminal back
// is a race within Bubble Tea 2.1.1 where the window's size changes meanwhile.
func TestRandomKeys(t *testing.T) {
	limit, err := time.ParseDuration(os.Getenv("ORENDA_KEYS"))
	if err != nil {
		t.Skip("ORENDA_KEYS says how long; make endure sets it")
	}
	h, log := harbour(t), filepath.Join(t.TempDir(), "race")
	at, calls := slow(t)
	env := append(home(t), "GORACE=halt_on_error=1 log_path="+log, "EDITOR=", "VISUAL=")
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	rounds, pressed := 0, 0
	for end := time.Now().Add(limit); time.Now().Before(end) && !t.Failed(); rounds++ {
		pressed += randomRound(t, r, env, h.Plain, at)
	}
	kept, lost := keptCalls(t, env), calls.Load()
	t.Logf("%d rounds, %d keys, %d calls seen by the server, %d kept", rounds, pressed, calls.Load(), kept)
	assert.GreaterOrEqual(t, int64(kept), lost, "calls that the server saw and that are not kept")
	assert.Positive(t, kept)
	assert.Positive(t, lost, "calls that the server saw")
	if found, _ := filepath.Glob(log + ".*"); assert.Empty(t, found, "races") {
		return
	}
	found, _ := filepath.Glob(log + ".*")
	b, _ := os.ReadFile(found[0])
	t.Log(string(b[:min(len(b), 6000)]))
}

// keptCalls counts the exchanges in the journal that were sent.
func keptCalls(t *testing.T, env []string) int {
	t.Helper()
	r := orenda(t, env, "journal", "list", "--most", "100000", "--json")
	require.Equal(t, 0, r.code, r.err)
	var list []struct{ Kind string }
	require.NoError(t, json.Unmarshal([]byte(r.out), &list), "%.300s", r.out)
	n := 0
	for _, x := range list {
		if x.Kind == "" {
			n++
		}
	}
	return n
}

// randomRound opens a new workspace, presses keys for a while and leaves, mostly
// while a call is under way. It returns how many keys were pressed.
func randomRound(t *testing.T, r *rand.Rand, env []string, plain, at string) (pressed int) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), fmt.Sprint("ws", r.Uint64()))
	added := orenda(t, env, "-w", dir, "add", "http://"+plain+"/berths?wsdl")
	require.Equal(t, 0, added.code, added.err)
	for _, s := range []string{"address=" + at, "total-time=20s"} {
		set := orenda(t, env, "-w", dir, "endpoint", "set", "BerthDesk11", s)
		require.Equal(t, 0, set.code, set.err)
	}
	filled, err := filepath.Glob(filepath.Join(dir, "drafts/*/*/FindBerths/first.xml"))
	require.NoError(t, err)
	require.Len(t, filled, 1)
	require.NoError(t, os.WriteFile(filled[0], []byte(
		`<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`), 0o600)) // else nothing is sent
	work := t.TempDir() // files that keys write stay here
	t.Chdir(work)
	s := open(t, 120, 40, env, "-w", dir)
	s.sees("what works where")
	named := strings.Fields("Up Down Left Right Enter Escape Tab Space PPage NPage Home End BSpace g g g h")
	plainKeys := strings.Split("abcdefhijklmnoprstuvwxyzABCDEFGHIJKLMNOPRSTUVWXYZ0123456789/?:+-*!=$<>[]", "")
	views := strings.Split("bpsdrctTioV", "")
	var last []string
	press := func(k string) {
		last = append(last, k)
		pressed++
		s.tmux("send-keys", k)
		if k == "Escape" {
			time.Sleep(120 * time.Millisecond)
		}
	}
	for end := time.Now().Add(12 * time.Second); time.Now().Before(end); {
		switch n := r.IntN(12); {
		case n < 3:
			press("Escape")
			press("Escape")
			press(views[r.IntN(len(views))])
		case n < 8:
			press(named[r.IntN(len(named))])
		case n == 11:
			s.tmux("resize-window", "-x", fmt.Sprint(20+r.IntN(140)), "-y", fmt.Sprint(5+r.IntN(45)))
		default:
			press(plainKeys[r.IntN(len(plainKeys))])
		}
		if dead := strings.TrimSpace(s.tmux("list-panes", "-F", "#{pane_dead}")); dead == "1" {
			t.Errorf("it ended by itself after %s\n%s", strings.Join(last[max(len(last)-20, 0):], " "), s.text())
			return pressed
		}
	}
	for _, k := range []string{"Escape", "Escape", "Escape", "b", "g", "q"} {
		press(k)
	}
	for range 1500 { // it waits for what is under way, up to its own limit
		how := strings.Fields(s.tmux("list-panes", "-F", "#{pane_dead} #{pane_dead_status}#{pane_dead_signal}"))
		if how[0] == "1" && len(how) == 2 { // tmux knows how a moment later
			assert.Equal(t, "0", how[1], "%s", s.text())
			return pressed
		}
		time.Sleep(20 * time.Millisecond)
	}
	press("C-c") // the last keys may have been taken as text
	return pressed
}
