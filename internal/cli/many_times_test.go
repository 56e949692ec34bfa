package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The same cases against the register and its next version: three small differences are found,
// and a sign that both answer alike is the same.
func TestTheNextVersionIsHeldAgainstTheOldOne(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	require.Zero(t, first(l.run("-w", ws, "endpoint", "duplicate", "CallSigns", "next")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "next", "address=http://"+l.h.Plain+"/callsigns-next")))
	l.muster(ws, "signs", "[[case]]\ndraft = \"LookUp/one\"\ntable = \"signs.csv\"\n", "signs.csv",
		"name,sign,exact,expect\nknown,SKAL4,true,\nhyphen,SKBR1-X,true,fault\nunknown,ZZZZ9,true,fault\nshort,SK,true,fault\n")
	var r struct {
		Same  bool
		Cases []struct {
			Name, A, B  string
			Same        bool
			Differences []struct{ Kind, Path string }
		}
	}
	l.json(1, &r, "-w", ws, "muster", "run", "signs", "--endpoint", "CallSigns", "--beside", "next")
	require.Len(t, r.Cases, 4)
	differs := map[string]bool{}
	for _, c := range r.Cases {
		differs[c.Name] = !c.Same
		assert.NotEmpty(t, c.A+c.B)
	}
	assert.Equal(t, map[string]bool{"known": true, "hyphen": true, "unknown": true, "short": false}, differs)
	assert.False(t, r.Same)
	code, out, _ := l.run("-w", ws, "muster", "run", "signs", "--endpoint", "CallSigns", "--beside", "CallSigns")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "0 answered otherwise")
	code, _, errOut := l.run("-w", ws, "muster", "run", "signs", "--beside", "nowhere")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "no endpoint nowhere")
}

// Run every so often, only what changed is told, and it ends once all is as expected.
func TestAMusterIsRunUntilTheServiceIsMended(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(ws, "wait", "[[case]]\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\nexpect = [\"entry/vessel=Alder\"]\n"+
		"[[case]]\ndraft = \"FindBerths/small\"\nendpoint = \"BerthDesk11\"\n")
	address := "address=http://" + l.h.Plain + "/nowhere"
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "CallSigns", address)))
	done := make(chan int, 1)
	var out, told slowBuffer
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	go func() {
		done <- Run(ctx, []string{"-w", ws, "muster", "run", "wait", "--every", "100ms", "--until", "asExpected"}, &out, &told)
	}()
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "1 unexpected") }, 10*time.Second,
		10*time.Millisecond, told.String())
	time.Sleep(300 * time.Millisecond) // rounds in which nothing changes say nothing
	assert.Equal(t, 1, strings.Count(out.String(), "UNEXPECTED"))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "CallSigns", "address=http://"+l.h.Plain+"/callsigns")))
	assert.Equal(t, 0, <-done, out.String()+told.String())
	assert.Contains(t, out.String(), "fixed")
	assert.Equal(t, 1, strings.Count(out.String(), "FindBerths"), "what did not change is told once")
	code, _, _ := l.run("-w", ws, "muster", "run", "wait", "--until", "asExpected")
	assert.Equal(t, 2, code)
}

func TestServicesThatAreNotSteadyOrLockOutAreFound(t *testing.T) {
	l := at(t)
	ask := func(path string, more ...string) []string {
		return append([]string{"sound", "LookUp", "sign", "sign=SKAL4", "exact=false", "--contract", l.callsigns(), "--port",
			"CallSigns", "--pause", "0s", "--address", "http://" + l.h.Plain + path}, more...)
	}
	var r struct {
		Calls             int
		Steady            bool
		Stopped, Sentence string
		Samples           []struct {
			Value, Says, Exchange string
			At                    int64
			Accepted              bool
		}
	}
	l.json(1, &r, ask("/callsigns-unsteady")...)
	assert.False(t, r.Steady)
	assert.Contains(t, r.Sentence, "not steady")
	l.json(1, &r, ask("/callsigns-locks")...)
	assert.Contains(t, r.Stopped, "no more tries")
	assert.Len(t, r.Samples, r.Calls)
	assert.Equal(t, int64(5), r.Samples[0].At)
	assert.True(t, r.Samples[0].Accepted)
}

func TestEachValueOfAListAndEachOptionalFieldIsTried(t *testing.T) {
	l := at(t)
	var r struct {
		Characters []struct {
			Of    string
			Taken bool
		}
	}
	l.json(0, &r, "sound", "YearTable", "datum", "station=Skerry Sound", "year=2027", "datum=chart datum",
		"remark=x", "--contract", "http://"+l.h.Plain+"/tides?wsdl", "--port", "TideTables", "--by", "enumeration", "--pause", "0s")
	assert.Greater(t, len(r.Characters), 1)
	l.json(0, &r, "sound", "YearTable", "datum", "station=Skerry Sound", "year=2027", "datum=chart datum",
		"remark=x", "--contract", "http://"+l.h.Plain+"/tides?wsdl", "--port", "TideTables", "--by", "optional", "--pause", "0s")
	require.NotEmpty(t, r.Characters)
	assert.Equal(t, "without remark", r.Characters[len(r.Characters)-1].Of)
}

func TestRunsSoundingsAndTrafficAreDrawn(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(ws, "nightly", "[[case]]\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\nexpect = [\"entry/vessel=Birch\"]\n"+
		"[[case]]\ndraft = \"FindBerths/small\"\nendpoint = \"BerthDesk11\"\n")
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	assert.Equal(t, 3, first(l.run("-w", ws, "draw", "muster", "nightly", "--out", file("none.svg"))), "it was not run yet")
	require.Equal(t, 1, first(l.run("-w", ws, "muster", "run", "nightly")))
	require.Zero(t, first(l.run("-w", ws, "draw", "muster", "nightly", "--out", file("muster.svg"))))
	require.Zero(t, first(l.run("-w", ws, "draw", "muster", "nightly", "--out", file("muster.pdf"))))
	require.Zero(t, first(l.run("-w", ws, "draw", "traffic", "--out", file("traffic.svg"))))
	require.Zero(t, first(l.run("-w", ws, "draw", "traffic", "in", "CallSigns", "--out", file("signs.svg"))))
	code, out, errOut := l.run("sound", "LookUp", "sign", "sign=SKAL4", "exact=false", "--contract", l.callsigns(), "--port",
		"CallSigns", "--pause", "0s", "--json")
	require.Zero(t, code, errOut)
	require.NoError(t, os.WriteFile(file("found.json"), []byte(out), 0o600))
	require.Zero(t, first(l.run("draw", "sounding", file("found.json"), "--out", file("sounding.svg"))))
	for name, want := range map[string][]string{
		"muster.svg":   {"nightly", "LookUp/one", "1 as expected, 1 unexpected", "the reply is not what was expected"},
		"traffic.svg":  {"2 exchanges", "1 × passed", "verify: "},
		"signs.svg":    {"1 exchanges"},
		"sounding.svg": {"sign by length", "at least 4 characters", "at least four letters"},
	} {
		b, err := os.ReadFile(file(name))
		require.NoError(t, err)
		for _, w := range want {
			assert.Contains(t, string(b), w, name)
		}
	}
	b, err := os.ReadFile(file("muster.pdf"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(b), "%PDF-"))
}

// What came back both times is expected; what changes from call to call is left out.
func TestWhatCameBackIsExpected(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	code, out, errOut := l.run("-w", ws, "draft", "expect", "LookUp/one", "--as-came", "--endpoint", "CallSigns")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "entry/vessel=Alder")
	assert.Contains(t, out, "entry/sign=SKAL4")
	code, out, _ = l.run("-w", ws, "draft", "expect", "FindBerths/small", "--as-came", "--endpoint", "BerthDesk11")
	require.Zero(t, code)
	assert.Contains(t, out, "count(berth)=")
	assert.Equal(t, 0, first(l.run("-w", ws, "call", "LookUp/one", "--endpoint", "CallSigns")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "CallSigns", "address=http://"+l.h.Plain+"/callsigns-next")))
	assert.Equal(t, 21, first(l.run("-w", ws, "call", "LookUp/one", "--endpoint", "CallSigns")), "ALDER is not what is expected")
	code, out, errOut = l.run("-w", ws, "draft", "expect", "LookUp/one", "--as", "last")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "entry/vessel=ALDER")
	assert.Equal(t, 0, first(l.run("-w", ws, "call", "LookUp/one", "--endpoint", "CallSigns")))
}

// A run tells what was answered otherwise than in the last one, though it was as expected.
func TestARunTellsWhatChangedSinceTheLast(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(ws, "signs", "[[case]]\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\n")
	require.Zero(t, first(l.run("-w", ws, "muster", "run", "signs")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "CallSigns", "address=http://"+l.h.Plain+"/callsigns-next")))
	code, out, errOut := l.run("-w", ws, "muster", "run", "signs", "--changed")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "answered otherwise than in the last run")
	assert.Contains(t, out, "ALDER")
	_, out, _ = l.run("-w", ws, "muster", "run", "signs", "--changed")
	assert.NotContains(t, out, "otherwise")
}
