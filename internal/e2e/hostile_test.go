package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What comes from outside is shown, never obeyed.
func TestEscapeSequencesAreShown(t *testing.T) {
	h := harbour(t)
	s := open(t, 120, 36, home(t), "http://"+h.Plain+"/berths?wsdl")
	s.sees("FindBerths")
	s.keys("Enter")
	s.sees("to fill in")
	s.keys("Enter")
	s.types("20")
	s.keys("Enter", "p", "Right")
	s.sees("›address")
	s.keys("Enter", "C-u")
	s.types("http://" + h.Plain + "/berths/~terminal")
	s.keys("Enter", "Left", "g")
	now := s.sees("stopped at read", "wreck ·txet· �31m end")
	assert.Contains(t, now, "attempts", "the screen was not cleared")
	s.keys("s")
	s.sees("HTTP/1.1 500 Wreck␛[2J␛]0;owned␇", "X-Mark: ␛[2J")
	assert.NotContains(t, s.tmux("display-message", "-p", "#{pane_title}"), "owned")
	r := orenda(
		t,
		home(t),
		"call",
		"FindBerths",
		"length=2",
		"--contract",
		"http://"+h.Plain+"/berths?wsdl",
		"--port",
		"BerthDesk11",
		"--address",
		"http://"+h.Plain+"/berths/~terminal",
		"--json",
	)
	assert.Equal(t, 20, r.code)
	for _, bad := range []string{"\x1b", "\u009b", "\u202e"} {
		assert.NotContains(t, r.out+r.err, bad)
	}
}

func TestSizesAndColours(t *testing.T) {
	dir := t.TempDir()
	s := open(t, 80, 24, []string{"NO_COLOR=1"}, "demo", "--dir", dir)
	s.sees("what works where", "FindBerths", "choose a call")
	s.keys("Enter", "g")
	s.sees("passed after")
	for _, k := range []string{"p", "s", "d", "r", "c", "t", "?", "x", ":", "Escape"} {
		s.keys(k)
		text := s.sees("")
		lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
		assert.LessOrEqual(t, len(lines), 24)
	}
	assert.NotContains(t, s.tmux("capture-pane", "-p", "-e"), "38;5;", "no colour where none is wanted")
	s.keys("b")
	for _, size := range [][2]string{{"40", "12"}, {"200", "60"}, {"19", "5"}, {"158", "47"}, {"80", "24"}} {
		s.tmux("resize-window", "-x", size[0], "-y", size[1])
		if size[0] == "19" {
			s.sees("too small")
		} else {
			s.sees("Skerry")
		}
	}
	s.sees("what works where")
}

func TestACallUnderWayNeverFreezesTheScreen(t *testing.T) {
	h := harbour(t)
	s := open(t, 120, 36, home(t), "http://"+h.Plain+"/berths?wsdl")
	s.sees("FindBerths")
	s.keys("p", "Up", "Up", "Right")
	s.sees("›address")
	s.keys("Enter", "C-u")
	s.types("http://" + h.Plain + "/berths/~wait.timed-out")
	s.keys("Enter", "Left", "g")
	s.sees("is not sent unless you", "send it all the same")
	s.keys("!")
	s.sees("under way", "wait", "halt")
	s.keys("b")
	s.sees("1 under way", "what works where")
	s.keys("p", "h")
	s.sees("halted after", "halted here")
}

// Broken and hostile input on the command line: a clear message, the exit
// status, nothing overwritten.
func TestBadInput(t *testing.T) {
	h := harbour(t)
	dir := t.TempDir()
	file := func(name, content string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(content), 0o600))
		return p
	}
	broken := filepath.Join(dir, "broken")
	require.NoError(t, os.Mkdir(broken, 0o700))
	settings := file("broken/orenda.toml", "name = \"x\"\n[endpoint.a\n")
	wsdl := "http://" + h.Plain + "/berths?wsdl"
	call := func(path string, more ...string) []string {
		return append(
			[]string{
				"call",
				"FindBerths",
				"length=20",
				"--contract",
				wsdl,
				"--port",
				"BerthDesk11",
				"--address",
				"http://" + h.Plain + path,
			},
			more...)
	}
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{3, "orenda.toml:2:", []string{"-w", broken, "call", "x"}},
		{3, "there is no orenda.toml in ", []string{"-w", dir, "check"}},
		{2, "there is no command and no file", []string{"nonsense"}},
		{2, "unknown flag", []string{"call", "x", "--nope"}},
		{3, "no such file", []string{"describe", filepath.Join(dir, "none.wsdl")}},
		{3, "HTML page", []string{"describe", file("page.wsdl", "<!DOCTYPE html><html></html>")}},
		{3, "no element", []string{"describe", file("empty.wsdl", "")}},
		{3, "document type declaration", []string{"describe", file("bomb.wsdl",
			`<!DOCTYPE a [<!ENTITY b "c">]><definitions>&b;</definitions>`)}},
		{0, "not used", []string{"describe", file("cycle.wsdl",
			`<definitions xmlns="http://schemas.xmlsoap.org/wsdl/"><import namespace="a" location="cycle.wsdl"/><import namespace="b" location="gone.wsdl"/></definitions>`)}},
		{19, "receive.not-found", []string{"describe", "http://" + h.Plain + "/nowhere"}},
		{16, "tls.self-signed", []string{"describe", "https://" + h.TLS + "/berths?wsdl"}},
		{12, "`findBerths` is not there; `FindBerths` is", []string{"call", "findBerths", "--contract", wsdl}},
		{12, "binding.endpoint-ambiguous", []string{"call", "FindBerths", "--contract", wsdl}},
		{2, "length is meant", []string{"call", "FindBerths", "lenght=3", "--contract", wsdl, "--port", "BerthDesk11"}},
		{19, "receive.not-http", call("/berths/~receive.not-http")},
		{20, "read.doctype-refused", call("/berths/~read.doctype-refused")},
		{20, "read.depth-over-limit", call("/berths/~read.depth-over-limit")},
		{19, "receive.head-too-large", call("/berths/~receive.head-too-large")},
		{19, "receive.over-limit", call("/berths", "--receive-limit", "100 B")},
		{18, "wait.timed-out", call("/berths/~wait.timed-out", "--answer-time", "200ms")},
		{14, "security.secret-unavailable", call("/berths", "--user", "a", "--secret-from", "env:SKERRY_NOT_SET")},
		{0, "tls", call("/berths", "--until", "tls")},
		{2, "there is no stage", call("/berths", "--until", "tsl")},
		{1, "differs", []string{"trust", "add", "a", "https://" + h.TLS + "/", "--fingerprint", "00"}},
		{1, ":1:5:", []string{"xml", "check", file("bad.xml", "<a><</a>")}},
	} {
		r := orenda(t, home(t), c.args...)
		assert.Equal(t, c.code, r.code, "%v\n%s%s", c.args, r.out, r.err)
		assert.Contains(t, r.out+r.err, c.says, "%v", c.args)
		assert.NotContains(t, r.err, "panic")
	}
	b, _ := os.ReadFile(settings)
	assert.Equal(t, "name = \"x\"\n[endpoint.a\n", string(b))
}

func TestRepairedUntilItPasses(t *testing.T) {
	h := harbour(t)
	env := append(home(t), "WORD=slack water at nine")
	r := orenda(
		t,
		env,
		"call",
		"DayTable",
		"station=Skerry Sound",
		"day=2027-03-01",
		"--contract",
		"http://"+h.Plain+"/tides?wsdl",
		"--port",
		"TideTablesTLS",
		"--user",
		"pilot-desk",
		"--secret-from",
		"env:WORD",
		"--token",
		"digest",
		"--receive-limit",
		"200",
		"--repair",
		"--allow",
		"trust",
	)
	assert.Zero(t, r.code, r.err)
	assert.Contains(t, r.err, "repair: trust this certificate")
	assert.Contains(t, r.err, "repair: raise the receive limit")
	assert.Contains(t, r.out, "station  Skerry Sound")
	assert.NotContains(t, r.out+r.err, "slack water")
}
