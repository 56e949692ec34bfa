package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The demo tells a story that waits for the person; esc on the board leaves it.
func TestTheDemoTellsAStory(t *testing.T) {
	s := open(t, 158, 47, nil, "demo", "--dir", filepath.Join(t.TempDir(), "demo"))
	s.sees("▸ the first of three calls: go with ↓ and → to YearTable below tides-tls, and press ⏎")
	s.keys("Down", "Down", "Down", "Down", "Left", "Right")
	s.sees("the first of three calls: go with")
	s.keys("Enter")
	s.sees("press g: the call is sent")
	s.keys("g")
	s.sees("× marks where it stopped", "tideHost is not set")
	s.keys("Enter", "Enter")
	s.sees("g tries again")
	s.keys("g")
	s.sees("it came five stages further", "self-signed")
	s.keys("b")
	s.sees("the second of three calls: go to FindBerths")
	s.keys("Home", "Right", "Right")
	s.sees("‹")
	s.keys("Enter")
	s.sees("g sends it")
	s.keys("g")
	s.sees("T shows it, with its fingerprint")
	s.keys("T")
	s.sees("p leads back to the path", "SHA-256")
	s.keys("p")
	s.sees("⏎ repairs it: compare the fingerprint")
	s.keys("Enter", "Enter")
	s.sees("g, and the call passes")
	s.keys("g")
	s.sees("r shows the answer", "passed after")
	s.keys("r")
	s.sees("East mole")
	s.keys("b")
	s.sees("the third of three calls: go to ReserveBerth")
	s.keys("Home", "Down", "Down", "Left", "Left", "Enter")
	s.sees("g sends it")
	s.keys("g")
	s.sees("the service says no", "held already")
	s.keys("s")
	s.sees("that is all there is to it", "◂")
	s.keys("b", "Escape")
	s.sees("the story is left")
	s.keys("Down")
	assert.NotContains(t, s.sees("what works where"), "of three calls")
}

// Each view says once what it is for; esc ends that for ever, and does what it does besides.
func TestEachViewSaysWhatItIsFor(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("each row is a message, each column an endpoint")
	s.keys("p")
	s.sees("a call goes through eleven stages", "esc: told enough")
	s.keys("Escape")
	s.sees("what works where", "each row is a message")
	s.keys("p")
	assert.NotContains(t, s.sees("MESSAGE"), "a call goes through eleven stages")
	s.keys("t")
	s.sees("every call that was kept")
	b, err := os.ReadFile(filepath.Join(strings.TrimPrefix(env[0], "ORENDA_HOME="), "state", "told"))
	require.NoError(t, err)
	assert.Equal(t, "path\n", string(b))
	again := open(t, 158, 47, env, "-w", dir)
	again.sees("each row is a message")
	again.keys("p")
	assert.NotContains(t, again.sees("MESSAGE"), "a call goes through eleven stages")
}

// The path shows the bytes of its stage, also while they cross, and says of a long call how
// long it has been under way and how it is ended.
func TestThePathShowsTheBytesOfItsStage(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "address=http://"+h.Plain+
		"/tides/~receive.stalled", "default=true").code)
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("p", "g")
	s.sees("▌ ► ", "receive", "bytes of receive", "HTTP/1.1 200 OK", "under way for", "h halts")
	s.keys("Up") // the person's cursor stays
	s.sees("waiting ─", "this time", "answer time")
	s.keys("h")
	s.sees("halted after")
	s.keys("Down")
	s.sees("bytes of receive", "closed here: the call was halted")
	s.keys("Up", "Up")
	s.sees("bytes of send", "POST /tides/~receive.stalled HTTP/1.1", "handed over")
	s.keys("Up", "Up")
	s.sees("what happened at connect", "connected to 127.0.0.1")
	s.keys("Down", "Down", "s")
	s.sees("POST /tides/~receive.stalled HTTP/1.1", "B out")
}

// At 80×24 the reason and its repair come first.
func TestTheReasonComesFirstWhereRoomIsShort(t *testing.T) {
	s := open(t, 80, 24, nil, "demo", "--dir", filepath.Join(t.TempDir(), "demo"))
	s.sees("what works where")
	s.keys("Down", "Down", "Down", "Down", "Left", "Right", "Enter", "g")
	s.sees("the variable tideHost is not set", "in your program:", "⏎ set tideHost to the value of tidehost")
	s.keys("PageDown", "PageDown")
	s.sees("template", "⏎ set tideHost to the value of tidehost")
}
