package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// workspace makes a workspace of descriptions of the harbour, with more text at
// the end of its file.
func workspace(t testing.TB, more string, descriptions ...string) (dir string, env []string) {
	t.Helper()
	dir, env = filepath.Join(t.TempDir(), "ws"), home(t)
	for _, d := range descriptions {
		r := orenda(t, env, "-w", dir, "add", d)
		require.Equal(t, 0, r.code, r.err)
	}
	src := settings(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "orenda.toml"), []byte(src+more), 0o600))
	return dir, env
}

// fill writes the draft of the yearly tide table.
func fill(t testing.TB, dir string) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "drafts/*/*/YearTable/*.xml"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.NoError(
		t,
		os.WriteFile(
			found[0],
			[]byte(
				`<YearTable xmlns="urn:skerry:tides"><station>Skerry Sound</station><year>2027</year><datum>chart datum</datum><heights><unit>metre</unit></heights></YearTable>`,
			),
			0o600,
		),
	)
}

func settings(t testing.TB, dir string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, "orenda.toml"))
	require.NoError(t, err)
	return string(b)
}

// Three errors in a row, each uncovered by the repair of the one before: no
// endpoint is named, the reply is too large, the buffer is not the receive limit.
func TestThreeErrorsInARow(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(
		t,
		"\n[profile.desk-program]\nreceive-limit = \"64 KiB\"\nstrict-buffer = true\n",
		"http://"+h.Plain+"/tides?wsdl",
	)
	fill(t, dir)
	r := orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "profile=desk-program")
	require.Equal(t, 0, r.code, r.err)
	call := func(want int, id string) {
		t.Helper()
		r := orenda(t, env, "-w", dir, "call", "YearTable", "--reply", "none")
		assert.Equal(t, want, r.code, r.err)
		assert.Contains(t, r.err, id)
	}
	call(12, "binding.endpoint-ambiguous")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "repair", "last").code)
	assert.Contains(t, settings(t, dir), "default = true")
	call(19, "receive.over-limit")
	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "receive-limit=4 MiB", "buffer-limit=64 KiB").code,
	)
	call(12, "binding.buffer-differs")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "repair", "last").code)
	call(0, "× tide")

	// With keys, on a workspace of its own.
	dir, env = workspace(
		t,
		"\n[profile.desk-program]\nreceive-limit = \"64 KiB\"\nbuffer-limit = \"32 KiB\"\nstrict-buffer = true\n",
		"http://"+h.Plain+"/tides?wsdl",
	)
	fill(t, dir)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "profile=desk-program").code)
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("none of 2 endpoints is the default: * makes TideTables it")
	s.keys("*")
	s.sees("TideTables *", "TideTables is the default now")
	s.keys("p", "g")
	s.sees("the buffer limit is not the receive limit", "attempt 1 · stopped at binding", "⏎ set the buffer limit")
	s.repaired()
	s.sees("the reply is larger than the receive limit", "attempt 2 · stopped at receive")
	s.repaired()
	s.sees("passed after", "× tide")
	assert.Contains(t, settings(t, dir), "default = true")
}

func TestArrangingEndpointsWithKeys(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(
		t,
		"\n[environment.model]\nharbour = \""+h.Plain+"\"\n[environment.live]\nharbour = \"berths.skerry.test\"\n",
		"http://"+h.Plain+"/berths?wsdl",
		"http://"+h.Plain+"/tides?wsdl",
	)
	for _, set := range [][]string{{"BerthDesk11", "address=http://${harbour}/berths", "answer-time=7s",
		"header=X-Quay: 4"}, {"TideTables", "address=http://${harbour}/tides"}} {
		require.Equal(t, 0, orenda(t, env, append([]string{"-w", dir, "endpoint", "set"}, set...)...).code)
	}
	require.Equal(t, 0, orenda(t, env, "-w", dir, "environment", "use", "model").code)
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("what works where")
	s.keys("o")
	s.sees("endpoints", "http://"+h.Plain+"/berths")
	s.keys("Down", "Space", "Space", "Home", "P")
	s.sees(
		"All settings but the address of BerthDesk11 go to BerthDesk12, BerthDeskTLS",
		"endpoint.BerthDesk12.answer-time: not set → 7s",
		"endpoint.BerthDeskTLS.header",
	)
	assert.NotContains(t, settings(t, dir), "[endpoint.BerthDesk12]\nanswer-time")
	s.keys("Enter")
	s.sees("4 changes made")
	r := orenda(
		t,
		env,
		"-w",
		dir,
		"call",
		"FindBerths",
		"length=12",
		"--endpoint",
		"BerthDesk12",
		"--until",
		"security",
		"--json",
	)
	require.Equal(t, 0, r.code, r.err)
	assert.Equal(t, 3, strings.Count(settings(t, dir), "answer-time = '7s'"), settings(t, dir))
	s.keys("0")
	s.sees("BerthDesk11 is off")
	s.keys("0")
	s.sees("BerthDesk11 is on again")
	s.keys("R")
	s.sees("name of the endpoint")
	s.keys("End", "BSpace", "BSpace")
	s.types("main")
	s.keys("Enter")
	s.sees("BerthDesk11 is called BerthDeskmain")

	// What hangs on a variable, and a value that is unset.
	s.keys("V")
	s.sees(
		"environments",
		"harbour",
		"model *",
		"live",
		"where harbour stands, in live",
		"http://berths.skerry.test/tides",
	)
	s.keys("Enter")
	for range len("berths.skerry.test") {
		s.keys("BSpace")
	}
	s.keys("Enter")
	s.sees("1 values unset", "unset", "is not set in the environment live")

	// The board turned: environments are the columns, and calls go there.
	s.keys("b", "x")
	s.sees("what works in which environment", "model *", "live")
	s.keys("g")
	s.sees("‹■■×· ··· ·· ··›message")
	s.keys("Left")
	s.sees("environment live")
	s.keys("g")
	s.sees("‹×··· ··· ·· ··›address", "■■×· ··· ·· ·· message")
	s.keys("x")
	s.sees("what works where")

	// Several are sent together; what changes things asks first.
	s.keys("v", "Down", "Down", "!") // ReserveBerth
	s.sees("changes things at the service")
	s.keys("M", "Up", "Up", "M", "g")
	s.sees("Send all")
	s.types("no")
	s.keys("Enter")
	s.sees("nothing was sent")
	s.keys("g")
	s.types("yes")
	s.keys("Enter")
	s.sees("calls were sent")
	s.keys("/")
	s.types("reserve @TLS")
	s.keys("Enter")
	now := s.sees("with “reserve @TLS”", "BerthDeskTLS")
	assert.NotContains(t, now, "YearTable")
	assert.NotContains(t, now, "BerthDesk12")
	s.keys("Escape", "z")
	s.sees("and 2 more")
}

func TestSettingAWarningAside(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/pilots?wsdl")
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("OrderPilot")
	s.keys("p")
	s.sees("security: the contract demands a security token that is not set")
	s.keys("Down", "0")
	s.sees("may be ignored at")
	s.types("the model takes any")
	s.keys("Enter")
	s.sees("set aside: the model takes any")
	assert.Contains(t, settings(t, dir), "the model takes any")
	r := orenda(t, env, "-w", dir, "check", "--json")
	var all []map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.out), &all))
	found := false
	for _, f := range all {
		if f["id"] == "security.token-demanded" && f["setAside"] == "the model takes any" {
			found = true
			assert.Equal(t, "note", f["severity"])
		}
	}
	assert.True(t, found, r.out)

	// Only as far as a stage.
	s.keys("Down", "G")
	s.sees("attempt 1", "passed")
	r = orenda(t, env, "-w", dir, "journal", "show", "last", "--json")
	assert.NotContains(t, r.out, `"status": `, "nothing was sent")
}

func TestCheckLooksAtTheWholeWorkspace(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(
		t,
		"\n[environment.model]\nharbour = \""+h.Plain+"\"\nlantern = "+
			"\"green\"\n[environment.live]\n[endpoint.twin]\ncontract = \"tide-tables\"\nport = "+
			"\"TideTables\"\nrecieve-limit = \"1 KiB\"\n[endpoint.lost]\ncontract = \"tide-tables\"\nport = "+
			"\"TideTable\"\n",
		"http://"+h.Plain+"/tides?wsdl",
	)
	fill(t, dir)
	for _, c := range [][]string{{"TideTablesTLS", "address=https://${harbour}/tides", "total-time=20s",
		"answer-time=2m", "inflated-limit=1 MiB"}} {
		require.Equal(t, 0, orenda(t, env, append([]string{"-w", dir, "endpoint", "set"}, c...)...).code)
	}
	require.Equal(t, 0, orenda(t, env, "-w", dir, "environment", "use", "model").code)
	r := orenda(t, env, "-w", dir, "check", "--json")
	assert.Equal(t, 1, r.code, "a port that is gone would stop a call")
	for _, id := range []string{"binding.port-gone", "binding.endpoints-same", "binding.setting-unknown",
		"address.variable-unused", "address.unresolved-elsewhere", "binding.limits-contradict",
		"binding.time-limits-contradict"} {
		assert.Contains(t, r.out, `"`+id+`"`)
	}
	assert.Contains(t, r.out, "receive-limit is meant, perhaps")
	assert.Contains(t, r.out, "take the port TideTables")
	r = orenda(t, env, "-w", dir, "check")
	assert.Contains(t, r.err, "stops the call")
	assert.Contains(t, r.err, "may be ignored")

	// Limits against what was kept.
	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "call", "YearTable", "--endpoint", "TideTables", "--reply", "none").code,
	)
	r = orenda(t, env, "-w", dir, "limits", "last", "--receive-limit", "64 KiB", "--json")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, `"setting": "receive-limit"`)
	r = orenda(t, env, "-w", dir, "limits", "YearTable")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.out, "proposed: 2 MiB")
	svg := filepath.Join(t.TempDir(), "limits.svg")
	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "draw", "limits", "YearTable", "--endpoint", "TideTables", "--out", svg).code,
	)
	b, err := os.ReadFile(svg)
	require.NoError(t, err)
	assert.Contains(t, string(b), "would do")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "receive-limit=64 KiB").code)
	r = orenda(t, env, "-w", dir, "check", "YearTable", "--endpoint", "TideTables", "--json")
	assert.Contains(t, r.out, "binding.limit-too-small")
}

// All endpoints of a contract come from another workspace of the person's, with their variables; and a
// workspace is made like another one.
func TestEndpointsComeFromAnotherWorkspace(t *testing.T) {
	h := harbour(t)
	old, env := workspace(t, "\n[environment.winter]\ntideHost = \""+h.Plain+"\"\n", "http://"+h.Plain+"/tides?wsdl")
	set := func(dir string, values ...string) {
		r := orenda(t, env, append([]string{"-w", dir, "endpoint", "set", "TideTables"}, values...)...)
		require.Equal(t, 0, r.code, r.err)
	}
	set(old, "answer-time=41s", "address=http://${tideHost}/tides")
	dir := filepath.Join(t.TempDir(), "new")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "add", "http://"+h.Plain+"/tides?wsdl").code)

	r := orenda(t, env, "-w", dir, "endpoint", "take", "tide-tables", "--of", old, "--show")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "answer-time")
	assert.NotContains(t, settings(t, dir), "41s", "it was only shown")

	first := open(t, 158, 47, env, "-w", old) // it is one of the person's from now on
	first.sees("YearTable")
	first.keys("q")
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("o")
	s.sees("TideTablesTLS", "its settings")
	s.keys("f")
	s.sees("settings from the workspace")
	s.keys("Enter")
	s.sees("all endpoints of tide-tables")
	s.keys("Enter")
	s.sees("The endpoints of tide-tables come from", "answer-time", "tideHost")
	s.keys("Enter")
	s.sees("changes made")
	assert.Contains(t, settings(t, dir), "41s")
	assert.Contains(t, settings(t, dir), "tideHost")

	like := filepath.Join(t.TempDir(), "like")
	s.keys(":")
	s.types("new workspace like")
	s.sees("make a new workspace like this one")
	s.keys("Enter")
	s.sees("in the folder")
	s.keys("C-u")
	s.types(like)
	s.keys("Enter")
	s.sees("made: ")
	assert.Contains(t, settings(t, like), "41s")
	r = orenda(t, env, "-w", dir, "template", like)
	assert.Equal(t, 3, r.code, "it holds a workspace already")
}
