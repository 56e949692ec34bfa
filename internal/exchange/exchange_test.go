package exchange

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sample is a call that stopped at read, with a secret in its header and body.
func sample() *Exchange {
	x := &Exchange{
		ID:        "1",
		Operation: "YearTable",
		Outcome:   OutcomeStopped,
		StoppedAt: Read,
		Secrets:   []string{"slack & water"},
	}
	r := NewRecorder(x, nil)
	for _, s := range Stages[:9] {
		r.Begin(s)
		r.End(s, Passed, "")
	}
	r.End(TLS, Skipped, "")
	r.Begin(Read)
	r.End(Read, Stopped, "")
	l := r.NewLeg("", Spill{})
	body := "<p>slack &amp; water</p>"
	head := "POST / HTTP/1.1\r\nAuthorization: Basic c2xhY2s=\r\n\r\n"
	l.Request = Head{
		Line:     "POST / HTTP/1.1",
		Size:     int64(len(head)),
		BodySize: int64(len(body)),
		Fields:   []Header{{"Authorization", "Basic c2xhY2s=", Span{17, 29}}},
	}
	l.SecretSpans = []Span{{int64(len(head)) + 3, 17}, {32, 14}}
	r.Out(l, []byte(head+body), len(head+body))
	l.RequestBody = []byte(body)
	r.In(
		l,
		[]byte(
			"HTTP/1.1 500 x\r\n\r\nyou said slack & water, or "+base64.StdEncoding.EncodeToString(
				[]byte("slack & water"),
			),
		),
	)
	r.Fact(Read, "fault reason", "bad password slack & water")
	return x
}

func TestReachIsCounted(t *testing.T) {
	x := sample()
	assert.Equal(t, 9, x.Reach(), "a stage that is not used is passed over")
	assert.Equal(t, 20, x.StoppedAt.ExitCode())
}

func TestNoSecretIsKept(t *testing.T) {
	x := sample()
	c := x.Redact([]byte("key"))
	b, err := c.Marshal()
	require.NoError(t, err)
	for _, l := range c.Legs {
		b = append(b, l.Out...)
		b = append(b, l.In.Bytes()...)
		b = append(b, l.RequestBody...)
	}
	for _, bad := range []string{"slack", "c2xhY2s"} {
		assert.NotContains(t, string(b), bad)
	}
	require.Len(t, c.Leg().Cuts, 2)
	assert.Equal(
		t,
		c.Leg().Cuts[0].Hash,
		x.Redact([]byte("key")).Leg().Cuts[0].Hash,
		"the same secret can be told to be the same",
	)
	assert.Len(t, c.Leg().Out, len(x.Leg().Out), "the length stays")
	assert.Contains(t, string(x.Leg().Out), "slack", "the record in memory is not touched")
}

func TestReportHasTheDocumentedShape(t *testing.T) {
	b, err := json.Marshal(sample().Report(true))
	require.NoError(t, err)
	var m map[string]any
	require.NoError(t, json.Unmarshal(b, &m))
	assert.Equal(t, "read", m["stoppedAt"])
	stages := m["stages"].([]any)
	require.Len(t, stages, 11)
	assert.Equal(t, "skipped", stages[10].(map[string]any)["state"])
	assert.Equal(t, map[string]any{"fault reason": "bad password slack & water"}, stages[9].(map[string]any)["facts"])
	assert.Equal(t, "POST", m["request"].(map[string]any)["method"])
	assert.True(t, strings.HasPrefix(m["request"].(map[string]any)["head"].(string), "POST / HTTP/1.1\r\n"))
}

func TestRecordsComeBackFromJSON(t *testing.T) {
	x := sample()
	b, err := x.Marshal()
	require.NoError(t, err)
	var y Exchange
	require.NoError(t, json.Unmarshal(b, &y))
	again, err := y.Marshal()
	require.NoError(t, err)
	assert.JSONEq(t, string(b), string(again))
}

func TestIDsSortByTime(t *testing.T) {
	a, b := NewID(time.UnixMilli(1_000)), NewID(time.UnixMilli(1_001))
	assert.Less(t, a, b)
	seen := map[string]bool{}
	now := time.Now()
	for range 100_000 { // many of one moment
		id := NewID(now)
		require.False(t, seen[id])
		require.Len(t, id, 26)
		seen[id] = true
	}
}

func TestTimesAreShort(t *testing.T) {
	for ns, want := range map[int64]string{0: "", -4: "", 1_240_000: "1.2 ms", 12_900_000: "12 ms",
		9_999_000_000: "9999 ms", 12_340_000_000: "12.3s"} {
		assert.Equal(t, want, Took(ns))
	}
	x := &Exchange{TotalNs: 12_900_000}
	for outcome, want := range map[Outcome]string{OutcomeUnderWay: "under way", OutcomePassed: "passed after 12 ms",
		OutcomeCancelled: "halted after 12 ms", OutcomeStopped: "stopped at tls after 12 ms"} {
		x.Outcome, x.StoppedAt = outcome, TLS
		assert.Equal(t, want, x.Ending())
	}
}

// A record that an earlier version packed is read.
func TestARecordOfAnEarlierVersion(t *testing.T) {
	record := `{"id":"a","operation":"FindBerths","moments":[{"at":7}],"legs":[{"apart":[{"name":"out","tail":true,"length":3}]}]}`
	old := append(binary.AppendUvarint([]byte("\x00orenda1"), uint64(len(record))), record+"abc"...)
	var x Exchange
	require.NoError(t, x.Unpack(old))
	assert.Equal(t, "abc", string(x.Legs[0].Out))
	require.Len(t, x.Moments, 1)
	head, body, err := x.Clone().Pack()
	require.NoError(t, err)
	assert.NotContains(t, string(head), `"moments":[`)
	var again Exchange
	whole := Whole(head, body)
	require.NoError(t, again.Unpack(whole))
	assert.Equal(t, "abc", string(again.Legs[0].Out))
	assert.Equal(t, x.Moments, again.Moments)
	assert.Empty(t, again.Legs[0].Apart)
	before := append([]byte("\x00orenda2"), whole[len("\x00orenda3"):]...)
	assert.Equal(t, before, Whole(head, before), "it was whole by itself")
	again = Exchange{}
	require.NoError(t, again.Unpack(before))
	assert.Equal(t, "abc", string(again.Legs[0].Out))
	for cut := range len(whole) {
		_ = new(Exchange).Unpack(whole[:cut]) // it ends too early, and is no panic
	}
}
