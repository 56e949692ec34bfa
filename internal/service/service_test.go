package service

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	tracev1 "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/spans"
	"orenda/internal/standin"
	"orenda/internal/user"
)

// running is a service over a file of relays, with what it logs.
type bench struct {
	t    *testing.T
	h    *standin.Harbour
	file string
	j    *journal.Memory
	s    *Service
	logs *logs
}

type logs struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *logs) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *logs) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func begin(t *testing.T, text string, sent *spans.Sender) *bench {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	dir := t.TempDir()
	b := &bench{t: t, h: h, file: filepath.Join(dir, "relays.toml"), j: &journal.Memory{}, logs: &logs{}}
	b.write(text)
	b.s, err = Start(t.Context(), Options{
		File: b.file, Home: &user.Home{Config: dir + "/config", State: dir + "/state"}, Journal: b.j, Spans: sent,
		Log: slog.New(slog.NewJSONHandler(b.logs, nil)),
		Describes: func(ctx context.Context, source string) (*contract.Contract, error) {
			f, err := call.Fetch(ctx, source, call.Plan{Agent: "test"}, nil)
			if err != nil {
				return nil, err
			}
			return f.Contract, nil
		},
	})
	require.NoError(t, err)
	t.Cleanup(func() { b.s.End(context.Background()) })
	return b
}

func (b *bench) write(text string) {
	require.NoError(b.t, os.WriteFile(b.file, []byte(strings.ReplaceAll(text, "HARBOUR", b.h.Plain)), 0o600))
}

func (b *bench) at(relay string) string { return b.s.Addresses()[relay][0] }

const find = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>` +
	`<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths></s:Body></s:Envelope>`

func post(t *testing.T, c *http.Client, address, body string, fields ...string) int {
	t.Helper()
	q, err := http.NewRequest(http.MethodPost, address, strings.NewReader(body))
	require.NoError(t, err)
	q.Header.Set("Content-Type", "text/xml; charset=utf-8")
	q.Header.Set("SOAPAction", `"urn:skerry:berths:FindBerths"`)
	for i := 0; i+1 < len(fields); i += 2 {
		q.Header.Set(fields[i], fields[i+1])
	}
	r, err := c.Do(q)
	require.NoError(t, err)
	_, _ = io.Copy(io.Discard, r.Body)
	r.Body.Close()
	return r.StatusCode
}

func free(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

const desk = "[relay.desk]\nto = \"http://HARBOUR/berths\"\ncontract = \"http://HARBOUR/berths?wsdl\"\n"

func TestRelaysAreReadAgainWithoutDroppingAConnection(t *testing.T) {
	b := begin(t, desk, nil)
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 1}}
	defer c.CloseIdleConnections()
	address := b.at("desk")
	require.Equal(t, 200, post(t, c, address, find))
	b.write(desk + "add = [\"X-Quay: north\"]\n[relay.tides]\nto = \"http://HARBOUR/tides\"\n")
	require.NoError(t, b.s.Reload(t.Context()))
	assert.Equal(t, address, b.at("desk"), "it listens where it did")
	require.Equal(t, 200, post(t, c, address, find), "over the connection that was open")
	require.Eventually(t, func() bool { n, _ := b.j.Count(journal.Query{}); return n == 2 }, 5*time.Second, 5*time.Millisecond)
	last, err := b.j.Get("last")
	require.NoError(t, err)
	assert.Contains(t, string(last.Leg().Out), "X-Quay: north")
	assert.Equal(t, "desk", last.From.Relay)
	assert.Contains(t, b.at("tides"), "/tides")

	for _, bad := range []string{"[relay.desk]\n", "", "[relay.desk]\nto = \"http://HARBOUR/\"\nlisten = \"0.0.0.0:0\"\n",
		"[relay.desk]\nto = \"http://HARBOUR/\"\nallow = [\"quay\"]\n"} {
		b.write(bad)
		require.Error(t, b.s.Reload(t.Context()), bad)
		require.Equal(t, 200, post(t, c, address, find), "it goes on as it was")
	}
	b.write("[relay.tides]\nto = \"http://HARBOUR/tides\"\n")
	require.NoError(t, b.s.Reload(t.Context()))
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", strings.TrimSuffix(strings.TrimPrefix(address, "http://"), "/berths"))
		if err == nil {
			conn.Close()
		}
		return err != nil
	}, 5*time.Second, 10*time.Millisecond, "it listens no more")
	assert.Contains(t, b.logs.String(), `"msg":"relay ends"`)
}

func TestACallUnderWayEndsBeforeTheService(t *testing.T) {
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(400 * time.Millisecond)
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprint(w, find)
	}))
	defer slow.Close()
	b := begin(t, "[relay.slow]\nto = \""+slow.URL+"/\"\n", nil)
	status := make(chan int, 1)
	go func() { status <- post(t, http.DefaultClient, b.at("slow"), find) }()
	time.Sleep(100 * time.Millisecond)
	b.s.End(context.Background())
	assert.Equal(t, 200, <-status)
	n, err := b.j.Count(journal.Query{})
	require.NoError(t, err)
	assert.Equal(t, 1, n, "and is kept")
}

func TestMetricsAndProbes(t *testing.T) {
	at := free(t)
	b := begin(t, "metrics = \""+at+"\"\n"+desk, nil)
	for range 3 {
		require.Equal(t, 200, post(t, http.DefaultClient, b.at("desk"), find))
	}
	post(t, http.DefaultClient, b.at("desk"), strings.ReplaceAll(find, "FindBerths", "Hoist"))
	get := func(path string) (int, string) {
		r, err := http.Get("http://" + at + path)
		require.NoError(t, err)
		defer r.Body.Close()
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, string(body)
	}
	for _, probe := range []string{"/livez", "/readyz"} {
		status, _ := get(probe)
		assert.Equal(t, 200, status)
	}
	require.Eventually(t, func() bool { n, _ := b.j.Count(journal.Query{}); return n == 4 }, 5*time.Second, 5*time.Millisecond)
	_, text := get("/metrics")
	parser := expfmt.NewTextParser(model.UTF8Validation)
	all, err := parser.TextToMetricFamilies(strings.NewReader(text))
	require.NoError(t, err)
	calls := map[string]float64{}
	for _, m := range all["orenda_calls_total"].Metric {
		key := ""
		for _, l := range m.Label {
			key += l.GetName() + "=" + l.GetValue() + " "
		}
		calls[strings.TrimSpace(key)] = m.Counter.GetValue()
	}
	assert.Equal(t, 3.0, calls["finding= operation=FindBerths outcome=passed relay=desk"], "%v", calls)
	assert.Len(t, calls, 2)
	for key := range calls {
		assert.NotContains(t, key, "Hoist", "what no contract names makes no series")
	}
	stages := map[string]uint64{}
	for _, m := range all["orenda_stage_seconds"].Metric {
		stages[m.Label[1].GetValue()] = m.Histogram.GetSampleCount()
	}
	assert.EqualValues(t, 4, stages["wait"], "%v", stages)
	assert.EqualValues(t, 4, all["orenda_journal_lag_seconds"].Metric[0].Histogram.GetSampleCount())
	b.s.End(context.Background())
	_, err = http.Get("http://" + at + "/livez")
	require.Error(t, err)
}

// collected are the spans that a collector was sent, decoded by the protocol's own types.
type collected struct {
	mu    sync.Mutex
	spans []*tracev1.Span
}

func (c *collected) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	var q collector.ExportTraceServiceRequest
	if err := proto.Unmarshal(body, &q); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, rs := range q.ResourceSpans {
		for _, ss := range rs.ScopeSpans {
			c.spans = append(c.spans, ss.Spans...)
		}
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
}

func TestACallIsASpanInTheTraceOfItsProgram(t *testing.T) {
	var got collected
	srv := httptest.NewServer(&got)
	defer srv.Close()
	sent, err := spans.New(srv.URL, "test")
	require.NoError(t, err)
	b := begin(t, desk+"[relay.nowhere]\nto = \"http://127.0.0.1:1/\"\n", sent)
	const trace, parent = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
	require.Equal(t, 200, post(t, http.DefaultClient, b.at("desk"), find, "traceparent", "00-"+trace+"-"+parent+"-01",
		"Authorization", "Bearer slack-water"))
	require.Equal(t, 502, post(t, http.DefaultClient, b.at("nowhere"), find))
	b.s.End(context.Background())
	last, err := b.j.List(journal.Query{})
	require.NoError(t, err)
	require.Len(t, last, 2)
	got.mu.Lock()
	defer got.mu.Unlock()
	byName := map[string][]*tracev1.Span{}
	for _, s := range got.spans {
		byName[s.Name] = append(byName[s.Name], s)
	}
	var one, failed *tracev1.Span
	for _, s := range byName["FindBerths"] {
		if hex.EncodeToString(s.TraceId) == trace {
			one = s
		} else {
			failed = s
		}
	}
	require.NotNil(t, one, "%v", got.spans)
	require.NotNil(t, failed)
	assert.Equal(t, parent, hex.EncodeToString(one.ParentSpanId))
	x, err := b.j.Get(last[1].ID)
	require.NoError(t, err)
	assert.Contains(t, strings.ToLower(string(x.Leg().Out)), "traceparent: 00-"+trace+"-"+hex.EncodeToString(one.SpanId)+"-01",
		"the service is told of the span of this call")
	said := fmt.Sprint(one.Attributes)
	for _, want := range []string{"rpc.system", "soap", "rpc.method", "http.response.status_code", "server.address", "orenda.relay"} {
		assert.Contains(t, said, want)
	}
	waits := 0
	for _, s := range byName["wait"] {
		if bytes.Equal(s.ParentSpanId, one.SpanId) {
			waits++
		}
	}
	assert.Equal(t, 1, waits, "a child for each stage that took time")
	require.NotEmpty(t, failed.Events)
	assert.Contains(t, fmt.Sprint(failed.Events[0].Attributes), "connect.refused")
	assert.Equal(t, tracev1.Status_STATUS_CODE_ERROR, failed.Status.Code)
	assert.NotContains(t, fmt.Sprint(got.spans), "slack-water")
}

// A collector that is away costs no call anything.
func TestSpansThatNobodyTakesAreDroppedAndCounted(t *testing.T) {
	sent, err := spans.New("http://127.0.0.1:1", "test")
	require.NoError(t, err)
	for range 3000 {
		sent.Send(&exchange.Exchange{ID: "x", Operation: "FindBerths", Started: time.Now(), TotalNs: 1,
			Stages: []exchange.StageRecord{{Stage: exchange.Wait, DurationNs: 5}}})
	}
	sent.Close()
	assert.Positive(t, sent.Dropped())
}
