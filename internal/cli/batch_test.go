package cli

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A batch client is checked, calls for each row, is killed, and goes on where it stopped: no row is
// lost, and none is written twice.
func TestABatchClientGoesOnWhereItStopped(t *testing.T) {
	l := at(t)
	ws := l.handing()
	m := &made{dir: t.TempDir()}
	l.json(0, m, "-w", ws, "handover", "batch", "LookUp/worked", "--endpoint", "CallSigns", "--out", m.dir)
	assert.Contains(t, m.Files, "README.md")
	m.built(t)
	var calls atomic.Int64
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: l.h.Plain})
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		calls.Add(1)
		proxy.ServeHTTP(w, q)
	}))
	defer service.Close()
	address := "CALL_SIGNS_ADDRESS=" + service.URL + "/callsigns"
	file := func(name string) string { return filepath.Join(m.dir, name) }
	python := func(env string, args ...string) (int, string) {
		cmd := exec.Command("python3", append([]string{"batch.py"}, args...)...)
		cmd.Dir, cmd.Env = m.dir, append(os.Environ(), env)
		out, err := cmd.CombinedOutput()
		if err != nil {
			require.ErrorAs(t, err, new(*exec.ExitError), string(out))
		}
		return cmd.ProcessState.ExitCode(), string(out)
	}

	tests := exec.Command("python3", "-W", "error", "-m", "unittest")
	tests.Dir = m.dir
	out, err := tests.CombinedOutput()
	require.NoError(t, err, string(out))

	count := 600
	if os.Getenv("ORENDA_LANGUAGES") != "" {
		count = 10000
	}
	var rows strings.Builder
	rows.WriteString("sign,exact\n")
	for i := range count {
		rows.WriteString([]string{"SKAL4,true\n", "SKBR1,true\n", "ZZZ9,false\n"}[i%3])
	}
	require.NoError(t, os.WriteFile(file("rows.csv"), []byte(rows.String()), 0o600))
	run := []string{"look_up", "--input", "rows.csv", "--output", "results.csv", "--at-once", "8"}
	status, text := python(address, append(run, "--dry-run")...)
	assert.Zero(t, status, text)
	assert.Contains(t, text, fmt.Sprint(count))
	assert.Zero(t, calls.Load())

	cmd := exec.Command("python3", append([]string{"batch.py"}, run...)...)
	cmd.Dir, cmd.Env = m.dir, append(os.Environ(), address)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return calls.Load() > 60 }, 20*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
	_ = cmd.Wait()
	status, text = python(address, run...)
	assert.Equal(t, 2, status, "what is there is not written over: %s", text)
	status, text = python(address, append(run, "--resume")...)
	assert.Equal(t, 1, status, text)
	assert.LessOrEqual(t, calls.Load(), int64(count+20), "only what was under way is called again")
	results, err := os.ReadFile(file("results.csv"))
	require.NoError(t, err)
	refused, err := os.ReadFile(file("refused.csv"))
	require.NoError(t, err)
	assert.Equal(t, count-count/3+1, bytes.Count(results, []byte("\n")), "a line of names, and each row once")
	assert.Equal(t, count/3+1, bytes.Count(refused, []byte("\n")))
	assert.Contains(t, string(results), "Alder")
	assert.Contains(t, string(refused), "no vessel has the call sign ZZZ9")

	fresh := []string{"look_up", "--output", "o.jsonl", "--refused", "r.csv"}
	require.NoError(t, os.WriteFile(file("bad.csv"), []byte("sgn\nX\n"), 0o600))
	status, text = python(address, append(fresh, "--input", "bad.csv")...)
	assert.Equal(t, 3, status, text)
	assert.Contains(t, text, "sgn")
	status, _ = python(address, append(fresh, "--input", "nowhere.csv")...)
	assert.Equal(t, 3, status)
	status, text = python("CALL_SIGNS_ADDRESS=http://127.0.0.1:9/x", append(fresh, "--input", "rows.csv", "--resume")...)
	assert.Equal(t, 4, status, text)
	require.NoError(t, os.WriteFile(file("one.jsonl"), []byte(`{"sign": "SKAL4"}`+"\n"), 0o600))
	status, text = python(address, append(fresh, "--input", "one.jsonl", "--resume", "--debug")...)
	assert.Zero(t, status, text)
	assert.Contains(t, text, "<sign>SKAL4</sign>", "the envelopes are printed")
}

// Only the parts that are asked for are written.
func TestABatchClientInParts(t *testing.T) {
	l := at(t)
	ws := l.handing()
	m := &made{}
	l.json(0, m, "-w", ws, "handover", "batch", "ReserveBerth/worked", "--endpoint", "BerthDesk11", "--out", t.TempDir(), "--deliver",
		"client,program")
	assert.ElementsMatch(t, []string{"berth_desk11.py", "batch.py", "defaults.json"}, m.Files)
	dir := t.TempDir()
	write := func(more ...string) *made {
		m := &made{}
		l.json(0, m, append([]string{"-w", ws, "handover", "batch", "LookUp/worked", "--endpoint", "CallSigns", "--out", dir}, more...)...)
		return m
	}
	write()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "README.md"), []byte("ours"), 0o600))
	now := write("--deliver", "client,program")
	assert.ElementsMatch(t, []string{"test_batch.py", "Containerfile", "ci.sh", "recorded.xml"}, now.Removed)
	assert.Equal(t, []string{"README.md"}, now.Left, "what was edited stays")
	assert.NoFileExists(t, filepath.Join(dir, "test_batch.py"))
	assert.FileExists(t, filepath.Join(dir, "README.md"))
	other := &made{}
	l.json(0, other, "-w", ws, "handover", "code", "FindBerths/worked", "--endpoint", "BerthDesk11", "--in", "python", "--out", dir)
	assert.Empty(t, other.Removed, "another program beside it is not its own")
	assert.FileExists(t, filepath.Join(dir, "call_signs.py"))
	code, _, errOut := l.run("-w", ws, "handover", "batch", "LookUp/worked", "--endpoint", "CallSigns", "--out", t.TempDir(), "--deliver", "cake")
	assert.NotZero(t, code)
	assert.Contains(t, errOut, "container")
}

// All of it in one file: it runs as it stands, where nothing else lies.
func TestABatchClientInOneFile(t *testing.T) {
	l := at(t)
	ws := l.handing()
	m := &made{dir: t.TempDir()}
	l.json(0, m, "-w", ws, "handover", "batch", "LookUp/worked", "--endpoint", "CallSigns", "--out", filepath.Join(m.dir, "rows.py"))
	assert.Equal(t, []string{"rows.py"}, m.Files)
	m.built(t)
	require.NoError(t, os.WriteFile(filepath.Join(m.dir, "in.csv"), []byte("sign,exact\nSKAL4,true\nZZZ9,true\n"), 0o600))
	m.Run = append(m.Run, "--input", "in.csv", "--output", "out.csv")
	status, _, errOut := m.runs(t, "CALL_SIGNS_ADDRESS=http://"+l.h.Plain+"/callsigns")
	assert.Equal(t, 1, status, errOut)
	b, err := os.ReadFile(filepath.Join(m.dir, "out.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "Alder")
	code, _, errOut := l.run("-w", ws, "handover", "batch", "LookUp/worked", "--endpoint", "CallSigns", "--out",
		filepath.Join(m.dir, "x.py"), "--deliver", "tests")
	assert.NotZero(t, code)
	assert.Contains(t, errOut, "name a folder")
}
