package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The story: the yearly tide table over TLS, from its first failure to its
// answer, each repair being the remedy that is offered where it stopped.
func TestTheStoryWithKeys(t *testing.T) {
	dir := t.TempDir()
	settings := func() string {
		b, err := os.ReadFile(filepath.Join(dir, "workspace", "orenda.toml"))
		require.NoError(t, err)
		return string(b)
	}
	s := open(t, 158, 47, nil, "demo", "--dir", dir)
	s.sees("Skerry Harbour Trust", "what works where", "YearTable", "tides-tls", "environment model")
	s.keys("Down", "Down", "Down", "Down", "Right", "Right")
	s.sees("tides-tls  https://${tideHost}/tides", "not sent yet")

	// 1. address
	s.keys("Enter")
	s.sees("YearTable · Skerry 2027 → tides-tls in model", "not sent yet", "ADDRESS")
	s.keys("g")
	s.sees(
		"attempt 1 · stopped at address",
		"the variable tideHost is not set in the environment model",
		"`tidehost` is, and names are case-sensitive",
		"set tideHost to the value of tidehost",
	)
	s.keys("Enter")
	s.sees("environment.model.tideHost: not set → 127.0.0.1:", "make this change")
	assert.NotContains(t, settings(), "tideHost =", "nothing is changed before it is confirmed")
	s.keys("Enter")
	s.sees("done: set tideHost", "g sends it again")
	assert.Contains(t, settings(), "tideHost = ")

	// 2. tls
	s.keys("g")
	now := s.sees(
		"attempt 2 · stopped at tls",
		"self-signed, and not trusted here",
		"CN=tides.skerry.test",
		"tides.skerry.test, berths.skerry.test",
		"SHA-256",
		" to 2027-",
		"trust this certificate for this endpoint",
	)
	fingerprint := regexp.MustCompile(`(?:[0-9A-F]{2}:){15}[0-9A-F]{2}`).FindString(now)
	require.NotEmpty(t, fingerprint)
	s.keys("Enter")
	s.sees("compare the fingerprint", fingerprint, "make this change")
	s.keys("Escape")
	s.sees("⏎ trust this certificate")
	assert.NotContains(t, settings(), "trust = ")
	s.keys("Enter")
	s.sees("make this change")
	s.keys("Enter")
	s.sees("done: trust this certificate")
	assert.Regexp(t, `trust = \['trust/tides\.skerry\.test-[0-9a-f]{8}\.pem'\]`, settings())

	// 3. read: no security header
	s.keys("g")
	s.sees(
		"attempt 3 · stopped at read",
		"found no security header",
		"does not mention it",
		"send a user name token as pilot-desk",
		"the cause is here",
	)
	s.keys("Enter")
	s.sees(
		"tides-tls.identity: not set → pilot-desk",
		"tides-tls.token: none → digest",
		"the identity pilot-desk will be used at https://127.0.0.1:",
	)
	s.keys("Enter")
	s.sees("done: send a user name token")
	assert.Contains(t, settings(), "token = 'digest'")

	// 4. receive: larger than the program's limit
	s.keys("g")
	s.sees(
		"attempt 4 · stopped at receive",
		"The reply is 1 472 964 bytes; the receive limit is 65 536; 2 MiB would hold it",
		"profile harbour-11",
		"Content-Length: 1472964",
	)
	s.keys("e")
	s.sees("receive.over-limit", "recognised by", "what helps       ", "⏎ raise")
	s.keys("e")
	s.keys("Enter")
	s.sees("profile.harbour-11.receive-limit: 65536 → 2 MiB", "profile.harbour-11.buffer-limit: 65536 → 2 MiB")
	s.keys("Enter")
	s.sees("done: raise receive and buffer limit")
	assert.Contains(t, settings(), "receive-limit = '2 MiB'\nbuffer-limit = '2 MiB'\nstrict-buffer = true")

	// 5. the answer
	s.keys("g")
	now = s.sees("attempt 5 · passed", "11285 × tide · station Skerry Sound")
	for _, want := range []string{
		"1  ×··· ··· ·· ··  the variable tideHost is not set", "2  ■■■■ ■×· ·· ··  the server's certificate is " +
			"self-signed", "3  ■■■■ ■■■ ■■ ×·  fault: no security header found",
		"4  ■■■■ ■■■ ■× ··  the reply is larger than the receive limit", "5  ■■■■ ■■■ ■■ ■■  11285 × tide",
		"after tideHost 127.0.0.1", "after trust one certificate more", "after identity pilot-desk · token " +
			"digest", "after receive-limit 2 MiB · buffer-limit 2 MiB"} {
		assert.Contains(t, now, want)
	}

	// The reply as fields and as exact bytes; the strip with the times.
	s.keys("r")
	s.sees("station", "Skerry Sound", "2027-01-01T00:00:00Z", "of it values")
	s.keys("Tab")
	s.sees("11 285 rows of tide", "level", "high water")
	s.keys("Right", "Enter", "Enter")
	s.sees("level ↓", "greatest 4.42")
	s.keys("Tab")
	s.sees(`"station": "Skerry Sound"`)
	s.keys("Tab")
	s.sees(`<?xml version="1.0" encoding="UTF-8"?>`, "<YearTableResponse")
	s.keys("s")
	s.sees("POST /tides HTTP/1.1", `SOAPAction: "urn:skerry:tides:YearTable"`, " ms  out")
	s.keys("/")
	s.types("HTTP/1.1 200")
	s.keys("Enter")
	now = s.sees(" ms  in   HTTP/1.1 200 OK", "handed over")
	assert.NotContains(t, now, "slack water")

	// The drawing, from its key.
	s.keys("w")
	s.sees("write the drawing to")
	s.keys("C-u")
	s.types(filepath.Join(dir, "story.svg"))
	s.keys("Enter")
	s.sees("written: ")
	svg, err := os.ReadFile(filepath.Join(dir, "story.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(svg), "YearTable · Skerry 2027 over tides-tls in model")

	// Traffic and Board show it; the path of an earlier attempt opens again.
	s.keys("t")
	s.sees("exchanges   5", "fault: no security header found")
	s.keys("b")
	s.sees("■■■■ ■■■ ■■ ■■›")
	s.keys("q")
	require.Eventually(
		t,
		func() bool { return strings.Contains(s.tmux("list-panes", "-F", "#{pane_dead}"), "1") },
		patience(),
		50*time.Millisecond,
	)

	// No secret is anywhere on disk but at its source.
	require.NoError(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		if info.Mode().IsRegular() && !strings.HasSuffix(p, ".secret") {
			b, _ := os.ReadFile(p)
			assert.NotContains(t, string(b), "slack water at nine", p)
		}
		return nil
	}))
}

// The same story on the command line: call, repair, exit codes.
func TestTheStoryOnTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	s := open(t, 100, 30, nil, "demo", "--dir", dir) // the harbour of the demo
	s.sees("what works where")
	env := []string{"ORENDA_HOME=" + dir}
	ws := filepath.Join(dir, "workspace")
	for _, step := range []struct {
		code int
		says string
	}{{11, "address.variable-unset"}, {16, "tls.self-signed"}, {20, "read.fault-security-missing"}, {19,
		"receive.over-limit"}} {
		r := orenda(t, env, "-w", ws, "call", "YearTable", "--endpoint", "tides-tls")
		require.Equal(t, step.code, r.code, r.err)
		assert.Contains(t, r.err, step.says)
		assert.Empty(t, r.out, "only a reply goes to standard output")
		fix := []string{"-w", ws, "repair", "last"}
		if step.code == 19 {
			fix = append(fix, "--here")
		}
		r = orenda(t, env, fix...)
		require.Zero(t, r.code, r.err)
	}
	r := orenda(
		t,
		env,
		"-w",
		ws,
		"call",
		"YearTable",
		"--endpoint",
		"tides-tls",
		"--reply",
		"rows",
		"--expect",
		"station=Skerry Sound",
	)
	require.Zero(t, r.code, r.err)
	assert.Equal(t, 11286, strings.Count(r.out, "\n"))
	assert.True(t, strings.HasPrefix(r.out, "time,level,state,station\n2027-01-01T00:00:00Z,4.24,high water,Skerry Sound\n"))
	b, _ := os.ReadFile(filepath.Join(ws, "orenda.toml"))
	assert.Contains(t, string(b), "receive-limit = 65536", "with --here the profile stays as it was")
	assert.Contains(t, string(b), "receive-limit = '2 MiB'")

	r = orenda(t, env, "-w", ws, "journal", "list", "--json")
	require.Zero(t, r.code)
	assert.Equal(t, 5, strings.Count(r.out, `"operation": "YearTable"`))
	r = orenda(t, env, "journal", "show", "last", "--json")
	m := decode(t, r.out)
	assert.Equal(t, "passed", m["outcome"])
	assert.NotContains(t, r.out, "slack water")
	r = orenda(t, env, "draw", "path", "last", "--out", filepath.Join(dir, "p.pdf"))
	require.Zero(t, r.code, r.err)
	assert.FileExists(t, filepath.Join(dir, "p.pdf"))
}

func TestTheDemoWithoutAScreen(t *testing.T) {
	dir := t.TempDir()
	r := orenda(t, nil, "demo", "--headless", "--dir", dir)
	require.Zero(t, r.code, r.err)
	for _, want := range []string{"attempt 1  ×··· ··· ·· ··  stopped at address", "attempt 4  ■■■■ ■■■ ■× ··  " +
		"stopped at receive", "attempt 5  ■■■■ ■■■ ■■ ■■  passed"} {
		assert.Contains(t, r.out, want)
	}
	drawings, _ := filepath.Glob(filepath.Join(dir, "attempt-*.*"))
	assert.Len(t, drawings, 10)
}

// The second story: a description never seen before, its operations, the first
// field, a value, the answer; then another value, and the answer follows it.
func TestADescriptionNeverSeenBefore(t *testing.T) {
	h := harbour(t)
	s := open(t, 120, 36, home(t), "  http://"+h.Plain+"/berths ")
	s.sees("FindBerths", "ReserveBerth", "BerthDesk11", "BerthDesk12", "berth-desk: 3 operations")
	s.keys("Enter")
	s.sees("length", "┄ to fill in", "decimal ‹over 0–400, 2 decimals›", "Length of the vessel over all")
	s.keys("Enter")
	s.types("long")
	s.sees("\"long\" is not a decimal number")
	s.keys("C-u")
	s.types("60")
	s.keys("Enter")
	s.sees("valid")
	s.keys("g")
	s.sees("passed after", "2 × berth · code E03")
	s.keys("r")
	s.sees("E07", "East mole")
	s.keys("d")
	s.sees("length", "60")
	s.keys("Enter")
	s.keys("C-u")
	s.types("110")
	s.keys("Enter", "g")
	s.sees("attempt 2 · passed", "code E07", "after length 110")
	s.keys("S")
	s.sees("save the workspace into the folder")
	dir := filepath.Join(t.TempDir(), "kept")
	s.keys("C-u")
	s.types(dir)
	s.keys("Enter")
	s.sees("saved: ")
	assert.FileExists(t, filepath.Join(dir, "orenda.toml"))
	assert.FileExists(t, filepath.Join(dir, "drafts", "berth-desk", "BerthDesk", "FindBerths", "first.xml"))
}

func TestTypingAnAddressIntoAnEmptyFolder(t *testing.T) {
	h := harbour(t)
	dir := t.TempDir()
	s := open(t, 80, 24, append([]string{"-C", dir}, home(t)...))
	s.sees("Which service do you want to call?", "type it, or paste it here")
	s.keys("Enter")
	s.types("http://" + h.Plain + "/nowhere")
	s.keys("Enter")
	s.sees("there is nothing at this path", "Tried", "besides:")
	s.keys("p")
	s.sees("fetching http://", "stopped at receive", "404")
	s.keys("b", "a")
	s.types("http://" + h.Plain + "/tides?wsdl")
	s.keys("Enter")
	s.sees("YearTable", "DayTable", "TideTables")
}

// Leaving without saving loses nothing, nor does a terminal that goes away.
func TestWhatWasNotSavedIsKept(t *testing.T) {
	h := harbour(t)
	for name, end := range map[string]func(s *screen){
		"leaving": func(s *screen) { s.keys("q") },
		"hanging up": func(s *screen) { // in the middle of typing
			s.keys("Home", "Enter", "C-u")
			s.types("74.25")
			s.sees("74.25")
			s.tmux("kill-session")
		},
		"hanging up in the raw message": func(s *screen) {
			s.keys("x", "C-Home")
			s.types("<!-- 74.25 -->")
			s.sees("<!-- 74.25 -->")
			s.tmux("kill-session")
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, 150, 36, []string{"ORENDA_HOME=" + dir}, "http://"+h.Plain+"/berths?wsdl")
			s.sees("FindBerths", "in memory until saved")
			s.keys("d", "Enter")
			s.types("61.5")
			s.keys("Enter")
			s.sees("valid")
			end(s)
			var kept []string
			require.Eventually(t, func() bool {
				kept, _ = filepath.Glob(
					filepath.Join(
						dir,
						"state",
						"unsaved",
						"*",
						"drafts",
						"berth-desk",
						"BerthDesk",
						"FindBerths",
						"first.xml",
					),
				)
				return len(kept) == 1
			}, patience(), 50*time.Millisecond)
			b, err := os.ReadFile(kept[0])
			require.NoError(t, err)
			want := "74.25"
			if name == "leaving" {
				want = "61.5"
			}
			assert.Contains(t, string(b), want)
			if name == "leaving" {
				s.sees(filepath.Join(dir, "state", "unsaved"))
			}
		})
	}
}

// The person's own editor is handed the draft, and what it saves is the draft.
func TestADraftInTheEditor(t *testing.T) {
	h := harbour(t)
	s := open(t, 120, 36, append([]string{"VISUAL=sed -i s/20.5/77/"}, home(t)...), "http://"+h.Plain+"/berths?wsdl")
	s.sees("FindBerths")
	s.keys("d", "Enter")
	s.types("20.5")
	s.keys("Enter")
	s.sees("20.5", "valid")
	s.keys("E")
	s.sees("77")
	assert.NotContains(t, s.text(), "20.5")
	s.keys("u")
	s.sees("20.5")
}
