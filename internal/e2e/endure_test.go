package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// endured is one line of the table: how often something was tried, how often the program
// did what it must not, how many exchanges or settings were lost, and the most memory.
type endured struct {
	name                  string
	tries, failures, lost int
	peak                  int64
	first                 string // of the failures
}

func (e *endured) failed(format string, args ...any) {
	if e.failures++; e.first == "" {
		e.first = fmt.Sprintf(format, args...)
	}
}

// endurance is how long it goes on: ORENDA_ENDURE, else a moment.
func endurance(t *testing.T) time.Duration {
	t.Helper()
	text := os.Getenv("ORENDA_ENDURE")
	if text == "" {
		return 0
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err)
	return d
}

// maxPeak is the most memory that a command may take, whatever a peer sends.
const maxPeak = 400 << 20

// Killed, starved and lied to, the program loses nothing that it said it kept, and takes
// no more memory than it may. ORENDA_ENDURE=10m goes on for ten minutes.
func TestEndurance(t *testing.T) {
	until := time.Now().Add(endurance(t))
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/berths?wsdl")
	kept := map[string]bool{} // that a command said were kept
	lines := []*endured{
		{name: "killed while sending and keeping"}, {name: "killed while saving"}, {name: "relay killed while serving"},
		{name: "hostile peers"}, {name: "read-only home"}, {name: "two programs at once"}, {name: "mutated input"},
		{name: "application killed"}, {name: "full disk"}, {name: "clock set back and forth"},
		{name: "mutated input, in one process"},
	}
	rounds := []func(e *endured){
		func(e *endured) { killedCall(t, r, e, h.Plain, env, kept) },
		func(e *endured) { killedSave(t, r, e, dir, env) },
		func(e *endured) { killedRelay(t, r, e, h.Plain, env) },
		func(e *endured) { hostilePeer(t, r, e, h.Plain, env) },
		func(e *endured) { readOnly(t, e, h.Plain) },
		func(e *endured) { twoAtOnce(t, e, h.Plain, env, kept) },
		func(e *endured) { mutated(t, r, e, env) },
		func(e *endured) { killedApplication(t, r, e, dir, env) },
		func(e *endured) { fullDisk(t, r, e, h.Plain) },
		func(e *endured) { clockSet(t, r, e, h.Plain, env, kept) },
		func(e *endured) { manyMutated(t, r, e) },
	}
	for first := true; first || time.Now().Before(until); first = false {
		for i, round := range rounds {
			for range 3 {
				round(lines[i])
			}
		}
	}
	all := keptIDs(t, env)
	for id := range kept {
		if !all[id] {
			lines[0].lost++
		}
	}
	table := fmt.Sprintf("\n%-34s %8s %9s %6s %9s\n", "", "tries", "failures", "lost", "peak")
	for _, e := range lines {
		table += fmt.Sprintf("%-34s %8d %9d %6d %6d MB\n", e.name, e.tries, e.failures, e.lost, e.peak>>20)
		assert.Zero(t, e.failures, "%s: %s", e.name, e.first)
		assert.Zero(t, e.lost, e.name)
		if !raced() {
			assert.Less(t, e.peak, int64(maxPeak), e.name)
		}
	}
	t.Log(table)
}

// keptIDs are the exchanges that the journal gives.
func keptIDs(t *testing.T, env []string) map[string]bool {
	t.Helper()
	r := orenda(t, env, "journal", "list", "--json", "--most", "1000000")
	require.Zero(t, r.code, r.err)
	var all []struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(r.out), &all))
	out := map[string]bool{}
	for _, x := range all {
		out[x.ID] = true
	}
	return out
}

func callArgs(plain string, more ...string) []string {
	return append([]string{"call", "FindBerths", "length=12", "--contract", "http://" + plain + "/berths?wsdl",
		"--port", "BerthDesk11"}, more...)
}

// killed starts a command and kills it after a while; ended is true where it had ended.
func killed(t *testing.T, env []string, after time.Duration, args ...string) (out string, ended bool) {
	t.Helper()
	cmd := exec.Command(binary(t), args...)
	cmd.Env = append(os.Environ(), env...)
	var b bytes.Buffer
	cmd.Stdout = &b
	require.NoError(t, cmd.Start())
	time.Sleep(after)
	_ = cmd.Process.Kill()
	ended = cmd.Wait() == nil // what it said is whole from here on
	return b.String(), ended
}

func killedCall(t *testing.T, r *rand.Rand, e *endured, plain string, env []string, kept map[string]bool) {
	e.tries++
	out, ended := killed(t, env, time.Duration(r.IntN(60))*time.Millisecond, callArgs(plain, "--json")...)
	var x struct{ ID string }
	if json.Unmarshal([]byte(out), &x) == nil && x.ID != "" && ended {
		kept[x.ID] = true
	}
	if r := orenda(t, env, "journal", "list"); r.code != 0 || strings.Contains(r.err, "damaged") {
		e.failed("the journal after a kill: %d %s", r.code, r.err)
	}
}

func killedSave(t *testing.T, r *rand.Rand, e *endured, dir string, env []string) {
	e.tries++
	n := r.IntN(1000) + 1
	killed(t, env, time.Duration(r.IntN(30))*time.Millisecond, "-w", dir, "endpoint", "set", "BerthDesk11",
		fmt.Sprintf("answer-time=%ds", n), fmt.Sprintf("send-time=%ds", n))
	got := orenda(t, env, "-w", dir, "endpoint", "list")
	if got.code != 0 {
		e.failed("the settings after a kill: %s", got.err)
	}
	src := settings(t, dir)
	if strings.Contains(
		src,
		fmt.Sprintf("answer-time = '%ds'", n),
	) != strings.Contains(
		src,
		fmt.Sprintf("send-time = '%ds'", n),
	) {
		e.lost++
	}
}

func killedRelay(t *testing.T, r *rand.Rand, e *endured, plain string, env []string) {
	e.tries++
	cmd := exec.Command(binary(t), "relay", "--to", "http://"+plain+"/berths", "--json")
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	d := json.NewDecoder(out)
	var first struct{ Listening []string }
	require.NoError(t, d.Decode(&first))
	var told []string
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			var x struct{ ID string }
			if d.Decode(&x) != nil {
				return
			}
			told = append(told, x.ID)
		}
	}()
	end := time.Now().Add(time.Duration(r.IntN(150)) * time.Millisecond)
	tr := &http.Transport{}
	client := &http.Client{Transport: tr, Timeout: 5 * time.Second}
	for time.Now().Before(end) {
		resp, err := client.Post(first.Listening[0], "text/xml", strings.NewReader(
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths">`+
				`<length>12</length></FindBerths></s:Body></s:Envelope>`,
		))
		if err == nil {
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	}
	tr.CloseIdleConnections()
	_ = cmd.Process.Kill()
	<-done
	_ = cmd.Wait()
	all := keptIDs(t, env)
	for _, id := range told {
		if !all[id] {
			e.lost++
		}
	}
}

// hostile are peers that never do what is due.
//
//nolint:gochecknoglobals // a table: it is never written to
var hostile = map[string]func(c net.Conn){
	"endless head": func(c net.Conn) { endless(c, "HTTP/1.1 200 OK\r\n", "X-A: aaaaaaaaaaaaaaaa\r\n") },
	"endless 100":  func(c net.Conn) { endless(c, "", "HTTP/1.1 100 Continue\r\n\r\n") },
	"tiny chunks":  func(c net.Conn) { endless(c, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", "1\r\na\r\n") },
	"endless trailers": func(c net.Conn) {
		endless(c, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n", "X-A: aaaaaaaaaaaaaaaa\r\n")
	},
	"large text": func(c net.Conn) {
		endless(c, "HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\n\r\n<a>", strings.Repeat("slack water ", 1000))
	},
	"deep": func(c net.Conn) {
		endless(c, "HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\n\r\n", strings.Repeat("<a>", 4000))
	},
	"announced and never sent": func(c net.Conn) {
		_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 9223372036854775807\r\n\r\n<a>")
		time.Sleep(5 * time.Second)
	},
	"noise": func(c net.Conn) { endless(c, "\x00\xff\x16\x03", "\x00\xff\x16\x03\x01") },
}

func endless(c net.Conn, first, again string) {
	_ = c.SetDeadline(time.Now().Add(5 * time.Second))
	_, _ = io.WriteString(c, first)
	block := strings.Repeat(again, 1+4096/len(again))
	for {
		if _, err := io.WriteString(c, block); err != nil {
			return
		}
	}
}

func hostilePeer(t *testing.T, r *rand.Rand, e *endured, plain string, env []string) {
	names := make([]string, 0, len(hostile))
	for n := range hostile {
		names = append(names, n)
	}
	name := names[r.IntN(len(names))]
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		_, _ = c.Read(make([]byte, 64<<10))
		hostile[name](c)
	}()
	e.tries++
	began := time.Now()
	intake := []string{"whole", "flowing"}[r.IntN(2)]
	got, peak := measured(t, env, callArgs(plain, "--address", "http://"+l.Addr().String()+"/", "--total-time", "1s",
		"--intake", intake)...)
	l.Close()
	<-done
	e.peak = max(e.peak, peak)
	if got.code < 11 || got.code > 21 {
		e.failed("%s, %s: exit code %d\n%s", name, intake, got.code, got.err)
	}
	if took := time.Since(began); took > 15*time.Second {
		e.failed("%s took %s", name, took)
	}
}

func readOnly(t *testing.T, e *endured, plain string) {
	e.tries++
	dir := filepath.Join(t.TempDir(), "home")
	require.NoError(t, os.WriteFile(dir, []byte("a file where a folder is due"), 0o600)) // root may write to any folder
	got := orenda(t, []string{"ORENDA_HOME=" + dir}, callArgs(plain, "--reply", "none")...)
	if got.code != 0 || !strings.Contains(got.err, "not kept") {
		e.failed("where nothing can be kept: %d %s", got.code, got.err)
	}
}

func twoAtOnce(t *testing.T, e *endured, plain string, env []string, kept map[string]bool) {
	e.tries++
	var cmds []*exec.Cmd
	var outs []*bytes.Buffer
	for range 3 {
		cmd := exec.Command(binary(t), callArgs(plain, "--json")...)
		cmd.Env = append(os.Environ(), env...)
		b := &bytes.Buffer{}
		cmd.Stdout = b
		require.NoError(t, cmd.Start())
		cmds, outs = append(cmds, cmd), append(outs, b)
	}
	for i, cmd := range cmds {
		var x struct{ ID string }
		if err := cmd.Wait(); err != nil || json.Unmarshal(outs[i].Bytes(), &x) != nil {
			e.failed("one of three at once: %v", err)
			continue
		}
		kept[x.ID] = true
	}
}

// mutated gives changed files to what reads files: whatever they hold, it is said, and
// nothing breaks.
func mutated(t *testing.T, r *rand.Rand, e *endured, env []string) {
	b := mutation(r)
	file := filepath.Join(t.TempDir(), "input")
	require.NoError(t, os.WriteFile(file, b, 0o600))
	commands := [][]string{
		{
			"xml",
			"check",
			file,
		}, {"explain", "--response", file}, {"explain", "--request", file}, {"explain", "--har", file},
		{"describe", file}, {"compare", file, file}, {"explain", "--text", file},
	}
	e.tries++
	got, peak := measured(t, env, commands[r.IntN(len(commands))]...)
	e.peak = max(e.peak, peak)
	if got.code == 70 || got.code < 0 || strings.Contains(got.err, "goroutine ") {
		e.failed("%q: %d %s", b, got.code, got.err)
	}
}

// mutation is one of the seeds, changed at some places.
func mutation(r *rand.Rand) []byte {
	seeds := []string{
		`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><a b="c">d &amp; e</a></s:Body></s:Envelope>`,
		"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n<a/>\n\r\n0\r\n\r\n",
		`{"log":{"version":"1.2","entries":[{"request":{"method":"POST","url":"http://x/","postData":{"text":"<a/>"}},"response":{"status":200,"content":{"text":"<b/>"}}}]}}`,
		`<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" targetNamespace="urn:d"><service name="S"/></definitions>`,
	}
	b := []byte(seeds[r.IntN(len(seeds))])
	for range 1 + r.IntN(6) {
		switch at := r.IntN(len(b)); r.IntN(4) {
		case 0:
			b[at] = byte(r.IntN(256))
		case 1:
			b = append(b[:at], b[min(at+r.IntN(20), len(b)):]...)
		case 2:
			b = append(
				b[:at:at],
				append([]byte(strings.Repeat(string(b[at:min(at+9, len(b))]), 1+r.IntN(40))), b[at:]...)...)
		default:
			b = append(b, b[:at]...)
		}
		if len(b) == 0 {
			b = []byte("<")
		}
	}
	return b
}
