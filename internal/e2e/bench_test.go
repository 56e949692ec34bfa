package e2e

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/journal/disk"
)

// terminal runs the program on a pseudo-terminal and keeps what it writes.
type terminal struct {
	cmd *exec.Cmd
	tty *os.File
	mu  sync.Mutex
	got bytes.Buffer
}

func start(b *testing.B, env []string, args ...string) *terminal {
	cmd := exec.Command(binary(b), args...)
	cmd.Env = append(append(os.Environ(), "TERM=xterm-256color"), env...)
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 47, Cols: 158})
	require.NoError(b, err)
	t := &terminal{cmd: cmd, tty: tty}
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := tty.Read(buf)
			t.mu.Lock()
			t.got.Write(buf[:n])
			t.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return t
}

// wait waits until a text was written, and forgets what came before.
func (t *terminal) wait(b *testing.B, text string) {
	deadline := time.Now().Add(60 * time.Second)
	for time.Now().Before(deadline) {
		t.mu.Lock()
		ok := bytes.Contains(t.got.Bytes(), []byte(text))
		if ok {
			t.got.Reset()
		}
		t.mu.Unlock()
		if ok {
			return
		}
		time.Sleep(200 * time.Microsecond)
	}
	b.Fatalf("never written: %q", text)
}

func (t *terminal) close() {
	_ = t.cmd.Process.Kill()
	_ = t.cmd.Wait()
	t.tty.Close()
}

// BenchmarkFirstFrame is from process start to the first full frame on the
// demo workspace.
func BenchmarkFirstFrame(b *testing.B) {
	dir := b.TempDir()
	r := orenda(b, nil, "demo", "--headless", "--dir", dir)
	require.Zero(b, r.code, r.err)
	for b.Loop() {
		t := start(b, []string{"ORENDA_HOME=" + dir}, "-w", filepath.Join(dir, "workspace"))
		t.wait(b, "add a description") // the bottom line, which is written last
		b.StopTimer()
		t.close()
		b.StartTimer()
	}
}

// BenchmarkKeyWithLargeReply is from a key to the redrawn frame with a reply of
// 50 MB open.
func BenchmarkKeyWithLargeReply(b *testing.B) {
	var body bytes.Buffer
	body.WriteString(
		`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body><FindBerthsResponse xmlns="urn:skerry:berths">`,
	)
	for i := 0; body.Len() < 50<<20; i++ {
		fmt.Fprintf(
			&body,
			"\n<berth free=\"true\"><code>N%02d</code><length>%d</length><depth>3.2</depth><quay>quay "+
				"%d</quay></berth>",
			i%100,
			i%399+1,
			i,
		)
	}
	body.WriteString("</FindBerthsResponse></soap:Body></soap:Envelope>")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		_, _ = w.Write(body.Bytes())
	})}
	go func() { _ = srv.Serve(l) }()
	defer srv.Close()
	dir := b.TempDir()
	require.Zero(b, orenda(b, nil, "demo", "--headless", "--dir", dir).code)
	ws := filepath.Join(dir, "workspace")
	settings, err := os.ReadFile(filepath.Join(ws, "orenda.toml"))
	require.NoError(b, err)
	settings = bytes.Replace(
		settings,
		[]byte("address = \"http://${berthHost}/berths\""),
		[]byte("receive-limit = \"100 MiB\"\naddress = \"http://"+l.Addr().String()+"/\""),
		1,
	)
	require.NoError(b, os.WriteFile(filepath.Join(ws, "orenda.toml"), settings, 0o600))
	t := start(b, []string{"ORENDA_HOME=" + dir}, "-w", ws)
	defer t.close()
	t.wait(b, "add a description")
	_, _ = t.tty.WriteString("pg")
	t.wait(b, "passed after")
	_, _ = t.tty.WriteString("r")
	t.wait(b, "quay 3")
	for i := 0; b.Loop(); i++ {
		key, want := "\x1b[F", "quay 4" // End
		if i%2 == 1 {
			key, want = "\x1b[H", "quay 3" // Home
		}
		_, _ = t.tty.WriteString(key)
		t.wait(b, want)
	}
}

// BenchmarkEditToFinding is from the key that keeps a changed setting, written
// into the workspace file, to the frame with the finding that it makes.
func BenchmarkEditToFinding(b *testing.B) {
	dir := b.TempDir()
	require.Zero(b, orenda(b, nil, "demo", "--headless", "--dir", dir).code)
	t := start(b, []string{"ORENDA_HOME=" + dir}, "-w", filepath.Join(dir, "workspace"))
	defer t.close()
	t.wait(b, "add a description")
	_, _ = t.tty.WriteString("p")
	t.wait(b, "stage")
	_, _ = t.tty.WriteString("kkkkkkkkkkkl")
	t.wait(b, "change the setting")
	set := func(value string) {
		_, _ = t.tty.WriteString("\r")
		t.wait(b, "weaker layer")
		_, _ = t.tty.WriteString("\x15" + value)
		time.Sleep(100 * time.Millisecond)
	}
	for b.Loop() {
		b.StopTimer()
		set("ftp://quay.skerry.test/")
		b.StartTimer()
		_, _ = t.tty.WriteString("\r")
		t.wait(b, "SOAP calls go over")
		b.StopTimer()
		set("http://quay.skerry.test/")
		_, _ = t.tty.WriteString("\r")
		time.Sleep(200 * time.Millisecond)
		b.StartTimer()
	}
}

// BenchmarkKeysUnderLoad is the time from a key to its view while another process keeps 2,000
// exchanges of 1 KB a second, each of them counted: for ORENDA_LOAD, else ten seconds.
func BenchmarkKeysUnderLoad(b *testing.B) {
	long := 10 * time.Second
	if s := os.Getenv("ORENDA_LOAD"); s != "" {
		d, err := time.ParseDuration(s)
		require.NoError(b, err)
		long = d
	}
	dir := b.TempDir()
	require.Zero(b, orenda(b, nil, "demo", "--headless", "--dir", dir).code)
	ws := filepath.Join(dir, "workspace")
	t := start(b, []string{"ORENDA_HOME=" + dir}, "-w", ws)
	defer t.close()
	t.wait(b, "add a description")
	j, err := disk.Open(filepath.Join(dir, "state"))
	require.NoError(b, err)
	defer j.Close()
	before, err := j.Count(journal.Query{})
	require.NoError(b, err)
	var kept atomic.Int64
	behind := journal.NewBehind(j, func(_ *exchange.Exchange, err error) {
		if err == nil {
			kept.Add(1)
		}
	})
	const each, batch = 10 * time.Millisecond, 20
	body := bytes.Repeat([]byte("ebb and flow "), 80)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(each)
		defer tick.Stop()
		for i := range int(long / each) {
			<-tick.C
			for k := range batch {
				x := kept1KB(i*batch+k, ws, body)
				behind.Add(x)
			}
		}
	}()
	var took []time.Duration
	under := true
	for n := 0; under; n++ {
		select {
		case <-done:
			under = false
		case <-time.After(50 * time.Millisecond):
		}
		key, want := "t", "exchanges"
		if n%2 == 1 {
			key, want = "b", "what works where"
		}
		at := time.Now()
		_, _ = t.tty.WriteString(key)
		t.wait(b, want)
		took = append(took, time.Since(at))
	}
	behind.Close()
	n, err := j.Count(journal.Query{})
	require.NoError(b, err)
	sent := int(long/each) * batch
	require.Equal(b, sent, n-before)
	require.EqualValues(b, sent, kept.Load())
	slices.Sort(took)
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(float64(took[len(took)/2])/1e6, "median-ms")
	b.ReportMetric(float64(took[len(took)*99/100])/1e6, "p99-ms")
	b.ReportMetric(float64(took[len(took)-1])/1e6, "worst-ms")
	b.ReportMetric(float64(sent), "kept")
}

func kept1KB(i int, ws string, body []byte) *exchange.Exchange {
	x := kept(i, ws, "YearTable", "", "", time.Now())
	x.ID = exchange.NewID(x.Started)
	x.Legs = []*exchange.Leg{{RequestBody: body[:512], Out: body[:512]}}
	return x
}

// BenchmarkManyCases is a muster of ORENDA_CASES cases, else 10,000, each a call of 1 KB that is
// checked, kept and expected: how many a second, and the most memory that the program held.
func BenchmarkManyCases(b *testing.B) {
	n := 10_000
	if s := os.Getenv("ORENDA_CASES"); s != "" {
		_, err := fmt.Sscan(s, &n)
		require.NoError(b, err)
	}
	h := harbour(b)
	dir, env := workspace(b, "", "http://"+h.Plain+"/callsigns?wsdl")
	require.Zero(b, orenda(b, env, "-w", dir, "endpoint", "set", "CallSigns", "address=http://"+h.Plain+"/callsigns",
		"default=true").code)
	require.NoError(b, os.MkdirAll(filepath.Join(dir, "musters"), 0o700))
	var rows bytes.Buffer
	rows.WriteString("name,sign,exact,expect\n")
	for i := range n {
		fmt.Fprintf(&rows, "case %d,SKAL4,true,vessel=Alder\n", i)
	}
	require.NoError(b, os.WriteFile(filepath.Join(dir, "musters", "many.csv"), rows.Bytes(), 0o600))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "musters", "many.toml"),
		[]byte("[[case]]\ndraft = \"LookUp/first\"\ntable = \"many.csv\"\n"), 0o600))
	cmd := exec.Command(binary(b), "-w", dir, "-q", "muster", "run", "many", "--at-once", "16",
		"--report", filepath.Join(dir, "report.json"))
	cmd.Env = append(os.Environ(), env...)
	began := time.Now()
	out, err := cmd.CombinedOutput()
	took := time.Since(began)
	require.NoError(b, err, "%s", out[max(len(out)-2000, 0):])
	usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	require.True(b, ok)
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(float64(n)/took.Seconds(), "cases/s")
	b.ReportMetric(float64(usage.Maxrss)/1024, "MB")
}

// BenchmarkXMLCheck is `xml check` of an envelope of 67 MB, as a whole process.
func BenchmarkXMLCheck(b *testing.B) {
	file := envelope(b, 67)
	for b.Loop() {
		require.Zero(b, orenda(b, nil, "xml", "check", file).code)
	}
}

// BenchmarkXmllintStream is the yardstick: the same file.
func BenchmarkXmllintStream(b *testing.B) {
	lint, err := exec.LookPath("xmllint")
	if err != nil {
		b.Skip("xmllint is not installed")
	}
	file := envelope(b, 67)
	for b.Loop() {
		require.NoError(b, exec.Command(lint, "--stream", "--noout", file).Run())
	}
}
