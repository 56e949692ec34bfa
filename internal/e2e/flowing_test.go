//go:build linux

package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// measured runs the program and gives what it said, and the most memory that was
// resident, in bytes.
func measured(t testing.TB, env []string, args ...string) (result, int64) {
	cmd := exec.Command(binary(t), args...)
	cmd.Env = append(os.Environ(), env...)
	var errOut bytes.Buffer
	count := &counter{}
	cmd.Stdout, cmd.Stderr = count, &errOut
	err := cmd.Run()
	if _, isExit := err.(*exec.ExitError); err != nil && !isExit {
		require.NoError(t, err)
	}
	return result{
		cmd.ProcessState.ExitCode(),
		count.String(),
		errOut.String(),
	}, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
}

// counter keeps the beginning of what is written and counts all of it.
type counter struct {
	bytes.Buffer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	if c.n += int64(len(p)); c.Len() < 1000 {
		c.Buffer.Write(p)
	}
	return len(p), nil
}

func flowing(t testing.TB, contract, address, path string, more ...string) (result, int64) {
	return measured(
		t,
		append(home(t), "TMPDIR="+os.TempDir()),
		append(
			[]string{
				"call",
				"YearTable",
				"station=Skerry Sound",
				"year=2027",
				"--contract",
				contract,
				"--port",
				"TideTables",
				"--address",
				address + path,
				"--intake",
				"flowing",
				"--receive-limit",
				"2 GB",
				"--inflated-limit",
				"2 GB",
				"--repeat-limit",
				"100000000",
			},
			more...)...)
}

const (
	mebi    = 1 << 20
	maxHeld = 150 * mebi // resident, whatever the reply
)

func TestAFlowingReplyStaysOutOfMemory(t *testing.T) {
	const size = 190 * mebi
	at, wsdl := tides(t, size), "http://"+harbour(t).Plain+"/tides?wsdl"
	for _, path := range []string{"/declared", "/chunked", "/gzip"} {
		r, most := flowing(t, wsdl, at, path, "--reply", "none")
		assert.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.err, "× tide", path)
		assert.Less(t, most, int64(maxHeld), path)
		t.Logf("%s: %d MB resident at most", path, most/mebi)
	}
	r, most := flowing(t, wsdl, at, "/declared", "--reply", "exact")
	assert.Equal(t, 0, r.code)
	assert.True(t, strings.HasPrefix(r.out, "<?xml"))
	assert.Less(t, most, int64(maxHeld))

	// Its limits hold, and what is not well-formed is found at its place.
	r, _ = flowing(t, wsdl, at, "/chunked", "--receive-limit", "32 MiB", "--reply", "none")
	assert.Equal(t, 19, r.code, r.err)
	assert.Contains(t, r.err, "receive.over-limit")
	r, _ = flowing(t, wsdl, at, "/gzip", "--inflated-limit", "32 MiB", "--reply", "none")
	assert.Contains(t, r.err, "receive.inflated-over-limit")
	r, _ = flowing(t, wsdl, at, "/declared", "--repeat-limit", "1000000", "--reply", "none")
	assert.Contains(t, r.err, "read.repeats-over-limit")
}

// BenchmarkAReplyOfAGigabyte tells how much memory it takes.
func BenchmarkAReplyOfAGigabyte(b *testing.B) {
	at, wsdl := tides(b, 1<<30), "http://"+harbour(b).Plain+"/tides?wsdl"
	for b.Loop() {
		r, most := flowing(b, wsdl, at, "/declared", "--reply", "none")
		require.Equal(b, 0, r.code, r.err)
		b.ReportMetric(float64(most)/mebi, "MB-resident")
	}
}
