//go:build linux

package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Killed at any point of a save, the settings file is the old one or the new one.
func TestKilledWhileSaving(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "\n# a comment at the end\n", "http://"+h.Plain+"/tides?wsdl")
	file := filepath.Join(dir, "orenda.toml")
	var took time.Duration
	cut := 0
	for round := range 30 {
		before := settings(t, dir)
		cmd := exec.Command(
			binary(t),
			"-w",
			dir,
			"endpoint",
			"set",
			"TideTables",
			fmt.Sprintf("answer-time=%ds", round+1),
			fmt.Sprintf("connect-time=%ds", round+1),
		)
		cmd.Env = append(os.Environ(), env...)
		began := time.Now()
		require.NoError(t, cmd.Start())
		if round > 0 {
			time.Sleep(time.Duration(rand.Int64N(int64(took) + 1)))
			_ = cmd.Process.Kill()
		}
		if err := cmd.Wait(); err != nil {
			cut++
		}
		if round == 0 {
			took = time.Since(began)
		}
		after := settings(t, dir)
		whole := strings.Contains(after, fmt.Sprintf("answer-time = '%ds'", round+1)) &&
			strings.Contains(after, fmt.Sprintf("connect-time = '%ds'", round+1))
		assert.True(t, after == before || whole, "round %d:\n%s", round, after)
		assert.Contains(t, after, "# a comment at the end")
	}
	assert.Positive(t, cut, "none was killed before it ended")
	r := orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "answer-time=99s")
	assert.Equal(t, 0, r.code, r.err)
	assert.FileExists(t, file)
}

// A folder that cannot be written to, and a disk that is full: a clear message,
// and the old file as it was.
func TestWhereNothingCanBeWritten(t *testing.T) {
	h := harbour(t)
	full := t.TempDir()
	if err := syscall.Mount("tmpfs", full, "tmpfs", 0, "size=256k"); err == nil {
		t.Cleanup(func() { _ = syscall.Unmount(full, 0) })
		env := home(t)
		dir := filepath.Join(full, "ws")
		require.Equal(t, 0, orenda(t, env, "-w", dir, "add", "http://"+h.Plain+"/tides?wsdl").code)
		before := settings(t, dir)
		filler, err := os.Create(filepath.Join(full, "filler"))
		require.NoError(t, err)
		for {
			if _, err := filler.Write(make([]byte, 4096)); err != nil {
				break
			}
		}
		filler.Close()
		r := orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "answer-time=9s")
		assert.Equal(t, 3, r.code)
		assert.Contains(t, r.err, "no space left")
		assert.Equal(t, before, settings(t, dir))
	} else {
		t.Log("no small disk can be made here:", err)
	}

	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	before := settings(t, dir)
	// As root everything can be written: the program runs as somebody else.
	require.NoError(t, filepath.Walk(filepath.Dir(dir), func(p string, _ os.FileInfo, err error) error {
		if err == nil {
			err = os.Chmod(p, 0o755)
		}
		return err
	}))
	for p := filepath.Dir(filepath.Dir(dir)); p != "/" && p != os.TempDir(); p = filepath.Dir(p) {
		_ = os.Chmod(p, 0o755)
	}
	theirs := t.TempDir()
	require.NoError(t, os.Chmod(theirs, 0o777))
	copied := filepath.Join(theirs, "orenda")
	b, err := os.ReadFile(binary(t))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(copied, b, 0o755))
	_ = env
	cmd := exec.Command(copied, "-w", dir, "endpoint", "set", "TideTables", "answer-time=9s")
	cmd.Env = append(os.Environ(), "ORENDA_HOME="+filepath.Join(theirs, "home"))
	if os.Getuid() == 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		for p := filepath.Dir(theirs); p != "/" && p != os.TempDir(); p = filepath.Dir(p) {
			_ = os.Chmod(p, 0o755)
		}
	} else {
		require.NoError(t, os.Chmod(dir, 0o555))
		t.Cleanup(func() { _ = os.Chmod(dir, 0o755) })
	}
	out, err := cmd.CombinedOutput()
	require.Error(t, err, "%s", out)
	assert.Contains(t, string(out), "permission denied")
	assert.Equal(t, before, settings(t, dir))
}

// What another program writes while the application has the workspace open is
// taken in, and neither side loses anything.
func TestChangedOnDiskWhileOpen(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("d")
	s.sees("Skerry Sound")
	found, err := filepath.Glob(filepath.Join(dir, "drafts/*/*/YearTable/*.xml"))
	require.NoError(t, err)
	src, err := os.ReadFile(found[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(found[0], []byte(strings.Replace(string(src), "2027", "2031", 1)), 0o600))
	s.sees("was changed on disk, and is read again", "2031")

	// While a value is being typed, another one is changed.
	s.keys("Home", "Enter")
	require.NoError(t, os.WriteFile(found[0], []byte(strings.Replace(string(src), "2027", "2040", 1)), 0o600))
	s.keys("End")
	s.types(" East")
	s.keys("Enter")
	s.sees("put together with what was changed on disk", "Skerry Sound East", "2040")
	src, err = os.ReadFile(found[0])
	require.NoError(t, err)
	assert.Contains(t, string(src), "Skerry Sound East")
	assert.Contains(t, string(src), "2040")

	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "rename", "TideTables", "tides-main").code)
	s.keys("b")
	s.sees("tides-main")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "orenda.toml"), []byte("name = \n"), 0o600))
	s.sees("orenda.toml:1")
	s.sees("tides-main") // what was read stays
}

func TestVariablesThatLeadBackToThemselves(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(
		t,
		"\n[environment.model]\na = \"${b}\"\nb = \"x${c}\"\nc = \"${a}\"\nhost = \"${name}:${port}\"\nname = "+
			"\"127.0.0.1\"\nport = \""+strings.Split(h.Plain, ":")[1]+"\"\n",
		"http://"+h.Plain+"/tides?wsdl",
	)
	fill(t, dir)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "environment", "use", "model").code)
	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "address=http://${a}/tides", "default=true").code,
	)
	r := orenda(t, env, "-w", dir, "call", "YearTable")
	assert.Equal(t, 11, r.code)
	assert.Contains(t, r.err, "address.variable-cyclic")
	assert.Contains(t, r.err, "a is made of b is made of c is made of a")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "address=http://${host}/tides").code)
	assert.Equal(t, 0, orenda(t, env, "-w", dir, "call", "YearTable", "--reply", "none").code)
}
