//go:build linux

package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

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
	require.NoError(t, cmd.Start())
	peak := watchPeak(cmd.Process.Pid)
	err := cmd.Wait()
	most := peak()
	if _, isExit := err.(*exec.ExitError); err != nil && !isExit {
		require.NoError(t, err)
	}
	return result{
		cmd.ProcessState.ExitCode(),
		count.String(),
		errOut.String(),
	}, most
}

// watchPeak looks at the most memory that was resident in a process, until the function
// that it gives is called. What the system tells once the process has ended counts the
// tests' own memory too, from before the program was begun.
func watchPeak(pid int) func() int64 {
	stop, most := make(chan struct{}), make(chan int64)
	go func() {
		var peak int64
		for {
			peak = max(peak, resident(pid))
			select {
			case <-stop:
				most <- peak
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}()
	return func() int64 {
		close(stop)
		return <-most
	}
}

// resident is the most memory that was resident in a process so far, in bytes; 0 where it
// is gone.
func resident(pid int) int64 {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/status")
	if err != nil {
		return 0
	}
	_, rest, ok := strings.Cut(string(b), "VmHWM:")
	if !ok {
		return 0
	}
	kb, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
	if err != nil {
		return 0
	}
	return kb << 10
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
				"--as-it-is",
			},
			more...)...)
}

const (
	mebi = 1 << 20
)

// raced tells whether the program is built with the race detector. It takes memory and
// time of its own, so that neither is measured then, and what is large is smaller.
func raced() bool { return os.Getenv("ORENDA_RACED") != "" }

// maxHeld is how much may be resident, whatever the reply.
func maxHeld() int64 {
	if raced() {
		return math.MaxInt64
	}
	return 150 * mebi
}

// largeReply is the size of a reply that does not fit into memory, in bytes.
func largeReply() int {
	if raced() {
		return 40 * mebi
	}
	return 190 * mebi
}

func TestAFlowingReplyStaysOutOfMemory(t *testing.T) {
	at, wsdl := tides(t, largeReply()), "http://"+harbour(t).Plain+"/tides?wsdl"
	held := func(path string, more ...string) result {
		t.Helper()
		r, most := flowing(t, wsdl, at, path, more...)
		if most >= maxHeld() { // pages of a mapped file are counted too, and go when the kernel likes
			t.Logf("%s: %d MB resident at most, measured again", path, most/mebi)
			r, most = flowing(t, wsdl, at, path, more...)
		}
		assert.Less(t, most, maxHeld(), path)
		t.Logf("%s: %d MB resident at most", path, most/mebi)
		return r
	}
	for _, path := range []string{"/declared", "/chunked", "/gzip"} {
		r := held(path, "--reply", "none")
		assert.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.err, "× tide", path)
	}
	r := held("/declared", "--reply", "exact")
	assert.Equal(t, 0, r.code)
	assert.True(t, strings.HasPrefix(r.out, "<?xml"))

	// All of it is held against the schema: the last row is wrong.
	r = held("/wrong", "--reply", "none", "--json")
	assert.Contains(t, r.out, "verify.invalid")
	assert.Regexp(t, `all of [^"]* bytes were checked`, r.out)
	assert.Contains(t, r.out, `\"deep\" is not a decimal number`)
	assert.Regexp(t, `"line": [0-9]{6,}`, r.out)

	// Its limits hold, and what is not well-formed is found at its place.
	r, _ = flowing(t, wsdl, at, "/chunked", "--receive-limit", "32 MiB", "--reply", "none")
	assert.Equal(t, 19, r.code, r.err)
	assert.Contains(t, r.err, "receive.over-limit")
	r, _ = flowing(t, wsdl, at, "/gzip", "--inflated-limit", "32 MiB", "--reply", "none")
	assert.Contains(t, r.err, "receive.inflated-over-limit")
	r, _ = flowing(t, wsdl, at, "/declared", "--repeat-limit", "100000", "--reply", "none")
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

// A reply that is on disk is scrolled and searched in the strip, in little memory.
func TestALargeReplyInTheStrip(t *testing.T) {
	h := harbour(t)
	at := tides(t, largeReply())
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	require.Equal(
		t,
		0,
		orenda(
			t,
			env,
			"-w",
			dir,
			"endpoint",
			"set",
			"TideTables",
			"address="+at+"/declared",
			"intake=flowing",
			"receive-limit=2 GB",
			"repeat-limit=100000000",
			"default=true",
		).code,
	)
	fill(t, dir)
	most := largeInTheStrip(t, dir, env)
	if most >= maxHeld() { // pages of a mapped file are counted too, and go when the kernel likes
		t.Logf("%d MB resident at most, measured again", most/mebi)
		most = largeInTheStrip(t, dir, env)
	}
	t.Logf("%d MB resident at most", most/mebi)
	assert.Positive(t, most)
	assert.Less(t, most, maxHeld())
}

// largeInTheStrip takes in the large reply and goes about in its bytes, and gives the most memory that was held.
func largeInTheStrip(t *testing.T, dir string, env []string) int64 {
	s := open(t, 158, 47, append(env, "TMPDIR="+os.TempDir()), "-w", dir)
	s.patience = time.Minute // all of it is judged, beside whatever else is tested
	s.sees("YearTable")
	s.keys("p", "g")
	s.sees("passed after", "× tide", "read flowing from disk", "10 read")
	s.keys("r")
	s.sees("kept on disk")
	s.keys("s")
	s.sees("B in", "<station>Skerry Sound</station>")
	s.keys("/")
	s.types("0.07")
	s.keys("Enter")
	s.sees("2027-12-31T23:59:00Z")
	s.keys("Home")
	s.sees("line 1 of")
	s.keys("End")
	s.sees("</soap:Envelope>", "closed")
	pid := strings.TrimSpace(s.tmux("list-panes", "-F", "#{pane_pid}"))
	n, err := strconv.Atoi(pid)
	require.NoError(t, err)
	return resident(n)
}

// tides serves the tide tables with a reply of at least size bytes, in the way
// that the path asks for: /declared, /chunked or /gzip.
func tides(t testing.TB, size int) (address string) {
	row := `    <tide><time>2027-03-01T06:12:00Z</time><level>3.42</level><state>high water</state></tide>` + "\n"
	head := `<?xml version="1.0" encoding="UTF-8"?>` + "\n" +
		`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body><YearTableResponse xmlns="urn:skerry:tides"><station>Skerry Sound</station>` + "\n"
	tail := "    <tide><time>2027-12-31T23:59:00Z</time><level>0.07</level><state>low " +
		"water</state></tide>\n</YearTableResponse></soap:Body></soap:Envelope>\n"
	rows := size / len(row)
	block := strings.Repeat(row, 1000)
	usual := tail
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		tail := usual
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		var to io.Writer = w
		switch r.URL.Path {
		case "/declared":
			w.Header().Set("Content-Length", fmt.Sprint(len(head)+len(tail)+rows/1000*len(block)))
		case "/wrong":
			tail = strings.Replace(tail, "0.07", "deep", 1)
		case "/gzip":
			w.Header().Set("Content-Encoding", "gzip")
			z, _ := gzip.NewWriterLevel(w, gzip.BestSpeed)
			defer z.Close()
			to = z
		}
		_, _ = io.WriteString(to, head)
		for range rows / 1000 {
			if _, err := io.WriteString(to, block); err != nil {
				return
			}
		}
		_, _ = io.WriteString(to, tail)
	}))
	t.Cleanup(s.Close)
	return s.URL
}
