package cli

import (
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAServiceIsSounded(t *testing.T) {
	l := at(t)
	args := []string{"sound", "LookUp", "sign", "sign=SKAL4", "exact=false", "--contract", l.callsigns(), "--port", "CallSigns", "--pause", "0s"}
	var r struct {
		Calls  int
		Steady bool
		Edges  []struct {
			Side, Accepted, Refused, Says string
			Exchanges                     []string
		}
		Characters []struct {
			Of    string
			Taken bool
		}
		Sentence string
	}
	l.json(0, &r, args...)
	require.NotEmpty(t, r.Edges)
	assert.Equal(t, "least", r.Edges[0].Side)
	assert.Equal(t, "4", r.Edges[0].Accepted)
	assert.Equal(t, "3", r.Edges[0].Refused)
	assert.Contains(t, r.Edges[0].Says, "at least four letters")
	assert.Contains(t, r.Sentence, "at least 4 characters")
	for _, id := range r.Edges[0].Exchanges {
		code, _, _ := l.run("journal", "show", id)
		assert.NotEqual(t, 3, code, "both sides were really sent, and are kept")
	}
	l.json(0, &r, append(args, "--by", "characters")...)
	assert.NotEmpty(t, r.Characters)
	code, _, errOut := l.run(append(args, "--budget", "3")...)
	assert.Equal(t, 1, code, errOut)
	code, _, _ = l.run("sound", "LookUp", "nothing", "--contract", l.callsigns(), "--port", "CallSigns")
	assert.Equal(t, 2, code)
}

func TestAnswersAndTimesAreSounded(t *testing.T) {
	l := at(t)
	var r struct {
		Answered []struct {
			Of      string
			Answers int
			Same    bool
		}
		Edges    []struct{ Side, Accepted, Refused string }
		Sentence string
	}
	l.json(0, &r, "sound", "LookUp", "sign", "sign=SKAL4-B", "exact=false", "--contract", l.callsigns(), "--port", "CallSigns",
		"--pause", "0s", "--by", "answers")
	require.NotEmpty(t, r.Answered)
	assert.Contains(t, r.Sentence, "the same call gives the same reply")
	assert.Contains(t, r.Sentence, "it may give the first match only")
	assert.Contains(t, r.Sentence, "a longer input is refused")

	code, _, errOut := l.run("sound", "LookUp", "--contract", l.callsigns(), "--port", "CallSigns")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "only --by time and --by sending take none")
	to, err := url.Parse("http://" + l.h.Plain)
	require.NoError(t, err)
	behind := httputil.NewSingleHostReverseProxy(to)
	behind.ErrorLog = log.New(io.Discard, "", 0) // most calls end before the answer comes
	late := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		select {
		case <-time.After(200 * time.Millisecond):
			behind.ServeHTTP(w, q)
		case <-q.Context().Done():
		}
	}))
	defer late.Close()
	l.json(0, &r, "sound", "LookUp", "sign=SKAL4", "exact=false", "--contract", l.callsigns(), "--port", "CallSigns",
		"--address", late.URL+"/callsigns", "--by", "time", "--pause", "0s")
	require.Len(t, r.Edges, 1)
	assert.Contains(t, r.Sentence, "at least 2") // some 200 ms and a step
	assert.Contains(t, r.Sentence, "wait.timed-out")
}

// In which ways a message may be sent is sounded as a whole: it is of no field, and can be drawn.
func TestWaysToSendAreSounded(t *testing.T) {
	l := at(t)
	at := []string{"sound", "FindBerths", "length=12", "--contract", l.berths(), "--port", "BerthDesk11", "--by", "sending", "--pause", "0s",
		"--address", "http://" + l.h.Plain + "/berths/~receive.length-required"}
	code, out, errs := l.run(at...)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "the message: taken: with its length, after leave to (Expect), compressed (gzip); refused: in chunks")
	_, said, _ := l.run(append(at, "--json")...)
	kept := l.file("sending.json", said)
	drawn := filepath.Join(l.dir, "sending.svg")
	code, _, errs = l.run("draw", "sounding", kept, "--out", drawn)
	require.Zero(t, code, errs)
	b, err := os.ReadFile(drawn)
	require.NoError(t, err)
	assert.Contains(t, string(b), "the message by sending")
}
