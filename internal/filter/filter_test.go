package filter

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

func TestWordsPickExchanges(t *testing.T) {
	now := time.Date(2026, 11, 27, 15, 0, 0, 0, time.UTC)
	l := &exchange.Leg{Out: []byte("POST SKAB")}
	l.Response.BodySize = 70_000
	x := &exchange.Exchange{
		ID: "01m8", Operation: "FindBerths", Endpoint: "berths-11", Contract: "berths", Started: now.Add(-30 * time.Minute),
		TotalNs: int64(
			1200 * time.Millisecond,
		), Outcome: exchange.OutcomeStopped, StoppedAt: exchange.Read, Kind: "relay",
		Findings: []exchange.Finding{{ID: "read.fault-client", Title: "the service refused the message"}},
		Legs:     []*exchange.Leg{l},
	}
	for words, fits := range map[string]bool{
		"": true, "fault": true, "fault in berths since 14:00 over 1 s": true, "in tides": false, "since 14:45": false, "since 40m": true,
		"since 16:00": true, "over 2s": false, "over 2 seconds": false, "over 0.5 kb": true, "over 64 KiB": true, "over 1MB": false, "at read": true, "at tls": false, "passed": false,
		"stopped": true, "from relay": true, "from call": false, "read.fault-client": true, "findberths refused": true, "skab": true,
		"nothing-of-it": false, "in FINDB": true, "since 2026-11-27": true,
	} {
		f, err := Parse(words, now)
		require.NoError(t, err, words)
		assert.Equal(t, fits, f.Fits(x, func(w string) bool { return w == "skab" }), words)
	}
	picked, err := mustParse(t, "skab", now).Pick(t.Context(), kept{x.ID: "skab"}, []*exchange.Exchange{x, {ID: "another"}})
	require.NoError(t, err)
	assert.Equal(t, []*exchange.Exchange{x}, picked)
	for _, words := range []string{"in", "at nowhere", "since noon", "over much", "over -1 s", "over 7", "fault over"} {
		_, err := Parse(words, now)
		assert.Error(t, err, words)
	}
}

func mustParse(t *testing.T, words string, now time.Time) *Filter {
	f, err := Parse(words, now)
	require.NoError(t, err)
	return f
}

// kept are words by id.
type kept map[string]string

func (k kept) Holding(_ context.Context, word string, among []*exchange.Exchange) (map[string]bool, error) {
	out := map[string]bool{}
	for _, x := range among {
		out[x.ID] = k[x.ID] == word
	}
	return out, nil
}
