// Package e2e drives the built program as a person does: real keys in tmux,
// real sockets, real files.
package e2e

import (
	"strconv"

	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
)

// binary is the program under test; make test builds it.
func binary(t testing.TB) string {
	t.Helper()
	if b := os.Getenv("ORENDA"); b != "" {
		return b
	}
	b, err := filepath.Abs("../../bin/orenda")
	require.NoError(t, err)
	if _, err := os.Stat(b); err != nil {
		t.Skip("bin/orenda is not built: make test builds it")
	}
	return b
}

// patience is how long something may take to be seen. The race detector makes all
// slower, and the opening of a sealed secret, some twenty times so.
func patience() time.Duration {
	if raced() {
		return 2 * time.Minute
	}
	return 20 * time.Second
}

// screen is a program running in a terminal of its own.
type screen struct {
	t        *testing.T
	socket   string
	patience time.Duration // at least so long it is waited for what is to be seen
}

func open(t *testing.T, w, h int, env []string, args ...string) *screen {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed (make test installs it)")
	}
	s := &screen{t: t, socket: fmt.Sprintf("orenda-%d-%d", os.Getpid(), time.Now().UnixNano())}
	quoted := "exec env"
	for _, a := range slices.Concat(env, []string{"TERM=xterm-256color", binary(t)}, args) {
		quoted += " '" + strings.ReplaceAll(a, "'", `'\''`) + "'"
	}
	s.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h), quoted+"; sleep 1")
	s.tmux("set", "-g", "escape-time", "0", ";", "set", "-g", "status", "off", ";", "set", "-g", "remain-on-exit", "on")
	pid, err := strconv.Atoi(strings.TrimSpace(s.tmux("list-panes", "-F", "#{pane_pid}")))
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = exec.Command("tmux", "-L", s.socket, "kill-server").Run()
		for range patience() / (20 * time.Millisecond) { // it may have something to keep before it ends
			if _, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid)); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
		t.Errorf("the program goes on after its terminal is gone: process %d", pid)
	})
	return s
}

func (s *screen) tmux(args ...string) string {
	s.t.Helper()
	cmd := exec.Command("tmux", append([]string{"-L", s.socket}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "LANG=C.UTF-8")
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "tmux %v: %s", args, out)
	return string(out)
}

func (s *screen) text() string { return s.tmux("capture-pane", "-p") }

// sees waits until all of the texts stand on the screen.
func (s *screen) sees(texts ...string) string {
	s.t.Helper()
	deadline := time.Now().Add(max(patience(), s.patience))
	for {
		now := s.text()
		missing := ""
		for _, x := range texts {
			if !strings.Contains(now, x) {
				missing = x
			}
		}
		if missing == "" {
			return now
		}
		if time.Now().After(deadline) {
			s.t.Fatalf("never on the screen: %q\n%s", missing, now)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// keys sends keys by their tmux names.
func (s *screen) keys(keys ...string) {
	s.t.Helper()
	for _, k := range keys {
		s.tmux("send-keys", k)
		if k == "Escape" {
			time.Sleep(150 * time.Millisecond) // else the next key would be taken for a part of it
		}
	}
}

// types sends text as it is.
// repaired makes the change that the first remedy proposes, and sends again.
func (s *screen) repaired() {
	s.t.Helper()
	s.sees("repair ⏎")
	s.keys("Enter")
	s.sees("make this change")
	s.keys("Enter")
	s.sees("done: ")
	s.keys("g")
}

func (s *screen) types(text string) { s.tmux("send-keys", "-l", text) }

// result of a command line.
type result struct {
	code     int
	out, err string
}

func orenda(t testing.TB, env []string, args ...string) result {
	t.Helper()
	cmd := exec.Command(binary(t), args...)
	cmd.Env = append(os.Environ(), env...)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	code := cmd.ProcessState.ExitCode()
	if _, isExit := err.(*exec.ExitError); err != nil && !isExit {
		require.NoError(t, err)
	}
	return result{code, out.String(), errOut.String()}
}

func harbour(t testing.TB) *standin.Harbour {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	return h
}

// home is a person's folder of its own.
func home(t testing.TB) []string { return []string{"ORENDA_HOME=" + t.TempDir()} }

func decode(t testing.TB, text string) map[string]any {
	t.Helper()
	var m map[string]any
	require.NoError(t, json.Unmarshal([]byte(text), &m), text)
	return m
}
