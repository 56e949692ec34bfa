package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// arranged is a workspace with two environments and two contracts.
func arranged(t *testing.T) (*line, func(code int, args ...string) string, func() string) {
	t.Helper()
	l := at(t)
	dir := filepath.Join(l.dir, "ws")
	run := func(want int, args ...string) string {
		t.Helper()
		code, out, errOut := l.run(append([]string{"-w", dir}, args...)...)
		require.Equal(t, want, code, "%v\n%s%s", args, out, errOut)
		return out + errOut
	}
	run(0, "add", "http://"+l.h.Plain+"/berths?wsdl")
	run(0, "add", "http://"+l.h.Plain+"/tides?wsdl")
	return l, run, func() string {
		b, err := os.ReadFile(filepath.Join(dir, "orenda.toml"))
		require.NoError(t, err)
		return string(b)
	}
}

// Everything that keys arrange in the application is arranged by commands too,
// and each shows first what it would change.
func TestEndpointsAreArranged(t *testing.T) {
	l, run, file := arranged(t)
	dir := filepath.Join(l.dir, "ws")
	var rows []map[string]any
	l.json(0, &rows, "-w", dir, "endpoint", "list")
	require.Len(t, rows, 5)
	assert.Equal(
		t,
		map[string]any{
			"name":     "BerthDesk11",
			"contract": "berth-desk",
			"port":     "BerthDesk11",
			"default":  false,
			"off":      false,
			"template": "",
			"address":  "http://" + l.h.Plain + "/berths",
		},
		merged(rows[0], map[string]any{"template": ""}),
	)

	before := file()
	out := run(
		0,
		"endpoint",
		"set",
		"BerthDesk11",
		"answer-time=90s",
		"keep-alive=true",
		"header=X-Desk: 1",
		"header=X-Quay: 2",
		"--show",
	)
	assert.Contains(t, out, "endpoint.BerthDesk11.answer-time: 60s → 90s\n")
	assert.Contains(t, out, "endpoint.BerthDesk11.header: not set → X-Desk: 1, X-Quay: 2\n")
	assert.Equal(t, before, file(), "only shown")
	run(
		0,
		"endpoint",
		"set",
		"BerthDesk11",
		"answer-time=90s",
		"keep-alive=true",
		"header=X-Desk: 1",
		"header=X-Quay: 2",
	)
	assert.Contains(t, file(), "answer-time = '90s'")
	assert.Contains(t, file(), "keep-alive = true")
	assert.Contains(t, run(2, "endpoint", "set", "BerthDesk11", "answer-tme=9s"), "answer-time is meant, perhaps")
	assert.Contains(t, run(2, "endpoint", "set", "BerthDesk11", "answer-time=soon"), "soon")
	assert.Contains(t, run(2, "endpoint", "set", "BerthDesk", "answer-time=9s"), "BerthDesk")

	// One more for another environment, whole or not at all.
	assert.Contains(
		t,
		run(2, "endpoint", "duplicate", "BerthDesk11", "live", "adress=http://berths.skerry.test/"),
		"address is meant, perhaps",
	)
	assert.NotContains(t, file(), "endpoint.live")
	run(0, "endpoint", "duplicate", "BerthDesk11", "live", "address=http://berths.skerry.test/")
	assert.Contains(t, run(2, "endpoint", "duplicate", "BerthDesk11", "live"), "there is an endpoint live already")
	l.json(0, &rows, "-w", dir, "endpoint", "list")
	assert.Equal(t, "http://berths.skerry.test/", rows[len(rows)-1]["address"])

	// Settings of chosen stages to others, all in one action.
	var changes []map[string]any
	l.json(
		0,
		&changes,
		"-w",
		dir,
		"endpoint",
		"share",
		"BerthDesk11",
		"TideTables",
		"BerthDesk12",
		"--stage",
		"wait",
		"--show",
	)
	require.Len(t, changes, 2)
	assert.Equal(
		t,
		map[string]any{"where": "workspace", "key": "endpoint.TideTables.answer-time", "from": nil, "to": "90s"},
		changes[0],
	)
	run(0, "endpoint", "share", "BerthDesk11", "TideTables", "BerthDesk12")
	assert.Equal(t, 4, strings.Count(file(), "keep-alive = true"))
	assert.Contains(t, run(0, "endpoint", "share", "BerthDesk11", "TideTables"), "nothing is to be changed")
	assert.Contains(t, run(2, "endpoint", "share", "BerthDesk11", "TideTables", "--stage", "tlss"), "tlss")
	assert.Contains(
		t,
		run(3, "endpoint", "share", "x", "TideTables", "--of", filepath.Join(l.dir, "nowhere")),
		"nowhere",
	)

	// From a workspace beside it.
	other := filepath.Join(l.dir, "other")
	code, _, errOut := l.run("-w", other, "add", "http://"+l.h.Plain+"/pilots?wsdl")
	require.Zero(t, code, errOut)
	l.json(0, &changes, "-w", other, "endpoint", "share", "BerthDesk11", "PilotOrders", "--of", dir)
	assert.Len(t, changes, 3)

	run(0, "endpoint", "off", "live")
	l.json(0, &rows, "-w", dir, "endpoint", "list")
	assert.Equal(t, true, rows[len(rows)-1]["off"])
	run(0, "endpoint", "on", "live")
	run(0, "endpoint", "rename", "live", "open-sea")
	assert.NotContains(t, file(), "[endpoint.live]")
	run(0, "endpoint", "remove", "open-sea")
	run(2, "endpoint", "remove", "open-sea")
	run(0, "endpoint", "remove", "BerthDesk12")
	assert.Equal(t, "BerthDesk12\n", run(0, "endpoint", "ports", "berth-desk"))
	assert.Contains(t, run(2, "endpoint", "add", "more", "berth-desk", "BerthDesk13"), "has no port BerthDesk13")
	text := run(0, "endpoint", "list")
	assert.Contains(t, text, "TideTablesTLS")
}

func merged(m, with map[string]any) map[string]any {
	for k, v := range with {
		m[k] = v
	}
	return m
}

func TestEnvironmentsAreArranged(t *testing.T) {
	l, run, file := arranged(t)
	dir := filepath.Join(l.dir, "ws")
	type environments struct {
		Default      string
		Environments []string
		Variables    []struct {
			Name   string
			Values map[string]string
			UsedBy []string
		}
	}
	var all environments
	l.json(0, &all, "-w", dir, "environment", "list")
	assert.Equal(t, environments{Environments: []string{}, Variables: all.Variables}, all)
	run(0, "environment", "set", "model", "harbour=127.0.0.1", "spare=1")
	run(0, "environment", "set", "live", "harbour=berths.skerry.test")
	assert.Contains(t, run(2, "environment", "set", "live", "harbour"), "is not NAME=VALUE")
	assert.Contains(t, run(2, "environment", "use", "lve"), "there is no environment lve")
	run(0, "environment", "use", "model")

	// Addresses that are written out become variables, shown first.
	run(0, "endpoint", "set", "BerthDesk11", "address=http://"+l.h.Plain+"/berths")
	before := file()
	var changes []map[string]any
	l.json(0, &changes, "-w", dir, "environment", "lift", "--show")
	require.NotEmpty(t, changes)
	assert.Equal(t, before, file())
	run(0, "environment", "lift")
	var rows []map[string]any
	l.json(0, &rows, "-w", dir, "endpoint", "list")
	assert.Contains(t, rows[0]["template"], "${")
	assert.Equal(
		t,
		"http://"+l.h.Plain+"/berths",
		rows[0]["address"],
		"it is the same place in the environment that is chosen",
	)

	run(0, "endpoint", "set", "BerthDesk12", "address=http://${harbour}/berths12")
	run(0, "environment", "rename", "--variable", "harbour", "quay")
	assert.Contains(t, file(), "http://${quay}/berths12")
	run(0, "environment", "rename", "live", "open-sea")
	l.json(0, &all, "-w", dir, "environment", "list")
	assert.Equal(t, "model", all.Default)
	assert.Equal(t, []string{"model", "open-sea"}, all.Environments)
	for _, v := range all.Variables {
		switch v.Name {
		case "quay":
			assert.Equal(t, map[string]string{"model": "127.0.0.1", "open-sea": "berths.skerry.test"}, v.Values)
			assert.Equal(t, []string{"BerthDesk12"}, v.UsedBy)
		case "spare":
			assert.Empty(t, v.UsedBy)
		}
	}
	text := run(0, "environment", "list")
	assert.Regexp(t, `VARIABLE +model\* +open-sea +USED BY`, text)
	assert.Regexp(t, `spare +1 +\(unset\) +\(nothing\)`, text)
	run(0, "environment", "set", "model", "spare=")
	assert.NotContains(t, file(), "spare")
}

// Who the person is can be set where there is no screen; a secret itself is refused
// and not repeated.
func TestIdentitiesAreArranged(t *testing.T) {
	l, run, _ := arranged(t)
	dir := filepath.Join(l.dir, "ws")
	run(0, "identity", "set", "pilot-desk", "user=pd", "secret=env:WORD", "note=north quay", "certificate=clerk.pem")
	run(
		0,
		"identity",
		"set",
		"pilot-desk",
		"note=",
		"log-in.address=https://desk.skerry.test/in",
		"log-in.body=file:in.xml",
	)
	run(0, "endpoint", "set", "BerthDesk11", "identity=pilot-desk")
	assert.Contains(
		t,
		run(0, "identity", "allow", "pilot-desk", "https://desk.skerry.test/berths"),
		"pilot-desk may go to https://desk.skerry.test:443",
	)

	here, err := os.Getwd()
	require.NoError(t, err)
	var rows []map[string]any
	l.json(0, &rows, "-w", dir, "identity", "list")
	require.Len(t, rows, 1)
	assert.Equal(
		t,
		map[string]any{
			"name":        "pilot-desk",
			"user":        "pd",
			"secret":      "env:WORD",
			"certificate": filepath.Join(here, "clerk.pem"),
			"log-in":      "https://desk.skerry.test/in",
			"uses":        []any{"BerthDesk11"},
			"may-go-to":   []any{"https://desk.skerry.test:443"},
		},
		rows[0],
	)
	assert.Regexp(
		t,
		`pilot-desk +pd +env:WORD, certificate .*clerk.pem, log-in .* +BerthDesk11 +https://desk.skerry.test:443`,
		run(0, "identity", "list"),
	)

	for _, wrong := range []string{"secret=Hunter-2", "secret=env:", "Hunter-2"} {
		out := run(2, "identity", "set", "pilot-desk", "user=other", wrong)
		assert.NotContains(t, out, "Hunter-2", "a secret is not shown back")
	}
	assert.Contains(t, run(2, "identity", "set", "pilot-desk", "secert=env:X"), "secret is meant")
	assert.Contains(t, run(2, "identity", "allow", "pilot-desk", "desk.skerry.test"), "no address")
	assert.Contains(t, run(2, "identity", "remove", "pilot-dsek"), "pilot-desk")
	assert.Contains(t, run(0, "identity", "list"), " pd ", "nothing of a refused change was kept")
	run(0, "identity", "disallow", "pilot-desk")
	assert.NotContains(t, run(0, "identity", "list"), "https://desk.skerry.test:443")
	run(0, "identity", "remove", "pilot-desk")
	l.json(0, &rows, "-w", t.TempDir(), "identity", "list")
	assert.Empty(t, rows)
}

func TestAWarningIsSetAsideByItsName(t *testing.T) {
	_, run, file := arranged(t)
	run(0, "endpoint", "set", "BerthDesk11", "receive-limit=1 MiB", "buffer-limit=64 KiB")
	assert.Contains(
		t,
		run(2, "aside", "BerthDesk11", "binding.buffer-difers", "it is known"),
		"perhaps binding.buffer-differs is meant",
	)
	assert.Contains(
		t,
		run(2, "aside", "BerthDesk", "binding.buffer-differs", "it is known"),
		"there is no endpoint BerthDesk",
	)
	run(0, "aside", "BerthDesk11", "binding.buffer-differs", "it is known")
	assert.Contains(t, file(), "it is known")
	run(0, "aside", "BerthDesk11", "binding.buffer-differs")
	assert.NotContains(t, file(), "it is known")
}

// What a limit would have said is told without calling again, and drawn.
func TestLimitsOfKeptReplies(t *testing.T) {
	l, run, _ := arranged(t)
	dir := filepath.Join(l.dir, "ws")
	run(0, "call", "FindBerths", "length=20", "--endpoint", "BerthDesk11", "--reply", "none")
	var sizes struct {
		Operation string
		Replies   int
		Largest   int64
		P99       int64
		Proposed  int64
		Why       string
		Refused   []struct {
			Setting       string
			Limit, Actual int64
			Why           string
		}
	}
	l.json(0, &sizes, "-w", dir, "limits", "FindBerths")
	assert.Equal(t, "FindBerths", sizes.Operation)
	assert.Equal(t, 1, sizes.Replies)
	assert.Equal(t, sizes.Largest, sizes.P99)
	assert.GreaterOrEqual(t, sizes.Proposed, sizes.Largest)
	l.json(1, &sizes, "-w", dir, "limits", "last", "--receive-limit", "100", "--depth-limit", "2")
	require.NotEmpty(t, sizes.Refused)
	assert.Equal(t, "receive-limit", sizes.Refused[0].Setting)
	assert.Equal(t, int64(100), sizes.Refused[0].Limit)
	assert.Contains(t, run(1, "limits", "last", "--depth-limit", "2"), "would refuse")
	assert.Contains(t, run(0, "limits", "last", "--endpoint", "BerthDesk11"), "would take")
	assert.Contains(t, run(0, "limits", "FindBerths", "--endpoint", "BerthDesk11"), "would refuse 0 of them")
	run(2, "limits", "FindBerths", "--endpoint", "nowhere")
	run(2, "limits", "FindBerths", "--profile", "nowhere")
	for name, begins := range map[string]string{"l.svg": "<svg", "l.pdf": "%PDF-"} {
		path := filepath.Join(l.dir, name)
		run(0, "draw", "limits", "FindBerths", "--endpoint", "BerthDesk11", "--out", path)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Contains(t, string(b[:min(len(b), 200)]), begins)
	}
}

// What a program would say that trusts one bundle of certificates and no other.
func TestAChainIsJudgedAsAProgramWouldThatTrustsABundle(t *testing.T) {
	l := at(t)
	whole, other := filepath.Join(l.dir, "harbour.pem"), filepath.Join(l.dir, "other")
	code, _, errOut := l.run("trust", "fetch", "https://"+l.h.TLS+"/", "--out", whole)
	require.Zero(t, code, errOut)
	code, _, errOut = l.run("trust", "authority", other)
	require.Zero(t, code, errOut)
	strange, err := filepath.Glob(filepath.Join(other, "*.pem"))
	require.NoError(t, err)
	require.NotEmpty(t, strange)
	var v struct {
		Trusted bool
		By      string
		Faults  []string
	}
	l.json(0, &v, "trust", "show", "https://"+l.h.TLS+"/", "--bundle", whole)
	assert.True(t, v.Trusted)
	code, out, _ := l.run("trust", "show", "https://"+l.h.TLS+"/", "--bundle", whole)
	assert.Zero(t, code)
	assert.Contains(t, out, "would take it")
	for _, f := range strange {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		if !strings.Contains(string(b), "CERTIFICATE") {
			continue
		}
		l.json(1, &v, "trust", "show", "https://"+l.h.TLS+"/", "--bundle", f)
		assert.Equal(t, []string{"tls.self-signed"}, v.Faults)
	}
	code, _, errOut = l.run("trust", "show", "https://"+l.h.TLS+"/", "--bundle", filepath.Join(l.dir, "none.pem"))
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "none.pem")
}

// A private key is never written over: its certificate may have been issued.
func TestKeysAreWrittenOverNoOthers(t *testing.T) {
	l := at(t)
	out, dir := filepath.Join(l.dir, "quay"), filepath.Join(l.dir, "authority")
	for _, args := range [][]string{{"trust", "request", "quay.skerry.test", "--out", out}, {"trust", "authority", dir},
		{"trust",
			"convert", out + ".key.pem", filepath.Join(l.dir, "key.pem")}} {
		code, _, errOut := l.run(args...)
		require.Equal(t, 0, code, errOut)
	}
	before := map[string]string{}
	for _, f := range []string{out + ".key.pem", dir + "/authority.key.pem", dir + "/client.pem", l.dir + "/key.pem"} {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		before[f] = string(b)
	}
	require.NoError(t, os.Remove(dir+"/server.key.pem"))
	for _, args := range [][]string{{"trust", "request", "quay.skerry.test", "--out", out}, {"trust", "authority", dir},
		{"trust",
			"convert", out + ".key.pem", filepath.Join(l.dir, "key.pem")}} {
		code, _, errOut := l.run(args...)
		assert.Equal(t, exitUnread, code, "%v", args)
		assert.Contains(t, errOut, "is there already", "%v", args)
	}
	for f, was := range before {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.Equal(t, was, string(b), f)
	}
	assert.NoFileExists(t, dir+"/server.key.pem", "all of them, or none")
}
