package service

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/journal/postgres"
	"orenda/internal/journal/postgres/pgserver"
	"orenda/internal/relay"
)

// Relays that record, judge and keep exchanges of 1 KB each way in one PostgreSQL, all on this machine; none is
// lost.
func BenchmarkTwoRelays(b *testing.B) { benchmarkRelays(b, 2) }
func BenchmarkTenRelays(b *testing.B) { benchmarkRelays(b, 10) }

func benchmarkRelays(b *testing.B, relays int) {
	reply := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths">` +
		strings.Repeat(`<berth free="true"><code>N07</code><length>40.00</length></berth>`, 13) + `</FindBerthsResponse></s:Body></s:Envelope>`
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		_, _ = io.WriteString(w, reply)
	}))
	defer srv.Close()
	to, err := url.Parse(srv.URL + "/berths")
	require.NoError(b, err)
	pg := pgserver.Start(b)
	var kept atomic.Int64
	at := make([]string, relays)
	var ends []func()
	var one *postgres.Journal
	for i := range at {
		a, err := postgres.ParseAddress(pg.Journal("quay"), "")
		require.NoError(b, err)
		j, err := postgres.Open(a, b.TempDir())
		require.NoError(b, err)
		behind := journal.NewBehind(j, func(_ *exchange.Exchange, err error) {
			if err != nil {
				b.Error(err)
			}
			kept.Add(1)
		})
		r, err := relay.Listen(relay.Options{To: to, Keep: behind.Add,
			Plan: func(*call.Imported) call.Plan {
				return call.Plan{Agent: call.Agent, Endpoint: "relay", Operation: "FindBerths"}
			}})
		require.NoError(b, err)
		at[i], one = r.Address(), j
		ends = append(ends, func() { r.Close(); behind.Close() })
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	defer client.CloseIdleConnections()
	ask := []byte(strings.Replace(strings.ReplaceAll(reply, "FindBerthsResponse", "FindBerths"), "N07", "N08", 1))
	var n atomic.Int64
	b.SetParallelism(8)
	b.ResetTimer()
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			r, err := client.Post(at[int(n.Add(1))%len(at)], "text/xml; charset=utf-8", bytes.NewReader(ask))
			if err != nil {
				b.Error(err)
				return
			}
			_, _ = io.Copy(io.Discard, r.Body)
			r.Body.Close()
		}
	})
	for _, end := range ends {
		end()
	}
	b.StopTimer()
	require.EqualValues(b, b.N, kept.Load())
	count, err := one.Count(journal.Query{})
	require.NoError(b, err)
	require.Equal(b, b.N, count, "nothing is lost")
	size, err := one.Size()
	require.NoError(b, err)
	b.ReportMetric(float64(size.Bytes)/float64(count), "B/exchange")
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "exchanges/s")
}
