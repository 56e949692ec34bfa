// Package journaltest are the tests that every journal that keeps has to pass.
package journaltest

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/oklog/ulid/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// NewID is an id as calls have it.
func NewID(at time.Time) string {
	return strings.ToLower(ulid.MustNew(ulid.Timestamp(at), ulid.DefaultEntropy()).String())
}

// Record is a made-up call that passed, with a reply.
func Record(at time.Time, operation, endpoint, reply string) *exchange.Exchange {
	x := &exchange.Exchange{ID: NewID(at), Workspace: "/quay", Operation: operation, Endpoint: endpoint,
		Started: at.UTC().Truncate(time.Microsecond), Outcome: exchange.OutcomePassed, Result: "1 × berth",
		Stages: stages(), Settings: []exchange.Setting{}, Findings: []exchange.Finding{}, Moments: []exchange.Moment{}}
	body := "<Reply>" + reply + "</Reply>"
	head := "HTTP/1.1 200 OK\r\n\r\n"
	l := &exchange.Leg{Out: []byte("POST / HTTP/1.1\r\n\r\n<Ask/>"), RequestBody: []byte("<Ask/>"),
		In: exchange.NewBody([]byte(head + body)), ResponseBody: exchange.NewBody([]byte(body))}
	l.Request.Size, l.Response.Size = 19, int64(len(head))
	l.Response.Complete, l.Response.BodyWhole = true, true
	l.Response.BodySize, l.Response.Declared = int64(len(body)), -1
	x.Legs = []*exchange.Leg{l}
	return x
}

func stages() (out []exchange.StageRecord) {
	for _, s := range exchange.Stages {
		out = append(out, exchange.StageRecord{Stage: s, State: exchange.Passed})
	}
	return out
}

// Failed makes a call one that failed with a finding.
func Failed(x *exchange.Exchange, finding string) *exchange.Exchange {
	x.Outcome, x.StoppedAt = exchange.OutcomeStopped, exchange.Connect
	x.Findings = []exchange.Finding{{ID: finding, Stage: exchange.Connect, Severity: exchange.Stop, Title: finding,
		Evidence: []exchange.Evidence{}, Remedies: []exchange.Remedy{}}}
	return x
}

func ids(list []*exchange.Exchange) (out []string) {
	for _, x := range list {
		out = append(out, x.ID)
	}
	return out
}

// Run runs the tests. open opens the journal, an empty one for each test; again opens the same one
// a second time.
//
//revive:disable-next-line:function-length one test after the other
func Run(t *testing.T, open func(t *testing.T) (j journal.Keeper, again func() journal.Keeper)) {
	now := time.Now().Add(-time.Hour)
	add := func(t *testing.T, j journal.Journal, list ...*exchange.Exchange) {
		t.Helper()
		for _, x := range list {
			require.NoError(t, j.Add(x))
		}
	}
	t.Run("kept and found again", func(t *testing.T) {
		j, again := open(t)
		a := Record(now, "FindBerths", "berths", "north quay")
		b := Record(now.Add(time.Second), "YearTable", "tides", strings.Repeat("slack water ", 20000))
		c := Failed(Record(now.Add(2*time.Second), "YearTable", "tides", ""), "connect.refused")
		add(t, j, a, b, c)
		list, err := j.List(journal.Query{})
		require.NoError(t, err)
		assert.Equal(t, ids([]*exchange.Exchange{c, b, a}), ids(list))
		assert.Empty(t, list[0].Leg().In.Bytes(), "a list has no bytes")
		for _, q := range []struct {
			q    journal.Query
			want int
		}{{journal.Query{Operation: "YearTable"}, 2}, {journal.Query{Endpoint: "berths"}, 1},
			{journal.Query{Kind: "fetch"}, 0},
			{journal.Query{Workspace: "/other"}, 0}, {journal.Query{Kind: "call", Before: c.ID}, 2}} {
			n, err := j.Count(q.q)
			require.NoError(t, err)
			assert.Equal(t, q.want, n, "%+v", q.q)
		}
		for _, id := range []string{b.ID, b.ID[len(b.ID)-6:]} {
			x, err := again().Get(id)
			require.NoError(t, err)
			assert.Equal(t, b.Leg().ResponseBody.Bytes(), x.Leg().ResponseBody.Bytes())
			assert.Equal(t, b.Leg().In.Bytes(), x.Leg().In.Bytes())
			assert.Equal(t, b.Leg().RequestBody, x.Leg().RequestBody)
		}
		last, err := j.Get("last")
		require.NoError(t, err)
		assert.Equal(t, c.ID, last.ID)
		_, err = j.Get("zzzzzz")
		require.ErrorIs(t, err, journal.ErrNotFound)
		assert.Equal(t, b.ID, j.Passed("/quay", "YearTable", "tides").ID)
		assert.Nil(t, j.Passed("/quay", "YearTable", "berths"))
		assert.Len(t, j.ReplySizes("YearTable", b), 2)
		assert.LessOrEqual(t, j.Tail(b.ID), len(b.ID))
		mended := Record(now.Add(3*time.Second), "YearTable", "tides", "x")
		mended.Changes = []exchange.Change{{Where: "workspace", Key: "endpoint.tides.address"}}
		add(t, j, mended)
		assert.Equal(t, []string{mended.ID}, ids(j.Repaired("connect.refused")))
	})
	t.Run("an id is taken once", func(t *testing.T) {
		j, _ := open(t)
		x := Record(now, "FindBerths", "berths", "north")
		add(t, j, x, x)
		other := x.Clone()
		other.Result = "another"
		require.ErrorIs(t, j.Add(other), journal.ErrTaken)
		n, err := j.Count(journal.Query{})
		require.NoError(t, err)
		assert.Equal(t, 1, n)
	})
	t.Run("no secret is kept, and two can be told to be the same", func(t *testing.T) {
		j, _ := open(t)
		with := func(secret string) *exchange.Exchange {
			x := Record(now, "FindBerths", "berths", "north")
			l := x.Leg()
			at := int64(len(l.Out))
			l.Out = append(l.Out, []byte(secret)...)
			l.SecretSpans = []exchange.Span{{Offset: at, Length: int64(len(secret))}}
			x.Secrets = []string{secret}
			x.Result = "it said " + secret
			return x
		}
		a, b, c := with("slack water"), with("slack water"), with("noon  water")
		add(t, j, a, b, c)
		var hashes []string
		for _, x := range []*exchange.Exchange{a, b, c} {
			x.Findings = []exchange.Finding{{ID: "read.empty", Evidence: []exchange.Evidence{},
				Remedies: []exchange.Remedy{}}}
			require.NoError(t, j.Judge(x))
			kept, err := j.Get(x.ID)
			require.NoError(t, err)
			assert.NotContains(t, string(kept.Leg().Out), "water")
			assert.NotContains(t, kept.Result, "water")
			require.Len(t, kept.Leg().Cuts, 1)
			assert.Equal(t, "read.empty", kept.Findings[0].ID)
			hashes = append(hashes, kept.Leg().Cuts[0].Hash)
		}
		assert.Equal(t, hashes[0], hashes[1])
		assert.NotEqual(t, hashes[0], hashes[2], "also after they were judged again")
		found, err := j.Search(t.Context(), "slack", 10)
		require.NoError(t, err)
		assert.Empty(t, found)
	})
	t.Run("searched, marked and pruned", func(t *testing.T) {
		j, _ := open(t)
		old := now.AddDate(0, 0, -3)
		a := Record(old, "FindBerths", "berths", "north quay, deep draught")
		b := Record(old.Add(time.Second), "FindBerths", "berths", "south quay")
		c := Record(now, "FindBerths", "berths", "east quay")
		add(t, j, a, b, c)
		found, err := j.Search(t.Context(), "quay draug", 10)
		require.NoError(t, err)
		assert.Equal(t, []string{a.ID}, ids(found))
		holding(t, j, a, b, c)
		require.NoError(t, j.Mark(a.ID, journal.Mark{Pinned: true, Note: "the deep one"}))
		n, err := j.Prune(now.Add(-time.Hour), 0, true)
		require.NoError(t, err)
		assert.Equal(t, 1, n)
		n, err = j.Prune(now.Add(-time.Hour), 0, false)
		require.NoError(t, err)
		assert.Equal(t, 1, n)
		list, err := j.List(journal.Query{})
		require.NoError(t, err)
		assert.Equal(t, []string{c.ID, a.ID}, ids(list))
		marks, err := j.Marks()
		require.NoError(t, err)
		assert.Equal(t, map[string]journal.Mark{a.ID: {Pinned: true, Note: "the deep one"}}, marks)
		s, err := j.Size()
		require.NoError(t, err)
		assert.Equal(t, 2, s.Count)
		assert.Positive(t, s.Bytes)
	})
	t.Run("read on from a place while several keep", func(t *testing.T) {
		j, again := open(t)
		const each, writers = 60, 4
		start, err := j.Last()
		require.NoError(t, err)
		var wg sync.WaitGroup
		for w := range writers {
			o := again()
			wg.Go(func() {
				for i := range each {
					at := now.Add(time.Duration(i) * time.Millisecond)
					assert.NoError(t, o.Add(Record(at, "FindBerths", fmt.Sprint(w), "x")))
				}
			})
		}
		done := make(chan struct{})
		go func() { wg.Wait(); close(done) }()
		seen := map[string]int{}
		for ended := false; ; {
			some, last, err := j.After(start)
			require.NoError(t, err)
			for _, x := range some {
				seen[x.ID]++
			}
			if start = last; len(some) == 0 && ended {
				break
			}
			select {
			case <-done:
				ended = true
			default:
			}
		}
		assert.Len(t, seen, each*writers, "none is passed over")
		for id, n := range seen {
			assert.Equal(t, 1, n, id)
		}
		assert.Positive(t, j.Version())
	})

	t.Run("equal bodies are kept once", func(t *testing.T) {
		j, _ := open(t)
		equalBodies(t, j)
	})
}

// bodied is a call of 20 KB each way that crossed in pieces, as a call records it; head tells it from others.
func bodied(at time.Time, head string, body []byte) *exchange.Exchange {
	x := &exchange.Exchange{ID: NewID(at), Workspace: "/quay", Operation: "FindBerths", Endpoint: "berths",
		Started: at.UTC().Truncate(time.Microsecond), Outcome: exchange.OutcomePassed}
	r := exchange.NewRecorder(x, nil)
	l := r.NewLeg("", exchange.Spill{})
	out := append([]byte("POST / HTTP/1.1\r\nX-Head: "+head+"\r\n\r\n"), body...)
	r.Out(l, out, len(out))
	r.Update(func(*exchange.Exchange) { l.RequestBody = out[len(out)-len(body):] })
	in := append([]byte("HTTP/1.1 200 OK\r\nX-Head: "+head+"\r\n\r\n"), body...)
	_ = r.In(l, in[:1000])
	_ = r.In(l, in[1000:])
	_ = r.Delivered(l, int64(len(in)-len(body)), int64(len(in)))
	return r.Snapshot()
}

// equalBodies holds that equal bodies are kept once, also where their heads differ, and come back as they were.
func equalBodies(t *testing.T, j journal.Keeper) {
	var body, other []byte
	random := rand.New(rand.NewPCG(1, 2))
	for len(body) < 20<<10 { // one long word: what words take besides is not the question
		body = fmt.Appendf(body, "%016x", random.Uint64())
		other = fmt.Appendf(other, "%016x", random.Uint64())
	}
	before, err := j.Size()
	require.NoError(t, err)
	const many = 200
	at := time.Now().Add(-time.Hour)
	var all []*exchange.Exchange
	for i := range many {
		all = append(all, bodied(at.Add(time.Duration(i)*time.Second), fmt.Sprint("quay ", i), body))
	}
	all = append(all, bodied(at.Add(time.Hour/2), "other", other))
	for _, err := range journal.Adding(j).AddAll(all) {
		require.NoError(t, err)
	}
	after, err := j.Size()
	require.NoError(t, err)
	assert.Less(t, (after.Bytes-before.Bytes)/many, int64(6<<10), "bytes for each, of 40 KB")
	for _, i := range []int{0, many / 2, many - 1, many} {
		got, err := j.Get(all[i].ID)
		require.NoError(t, err)
		w, g := all[i].Leg(), got.Leg()
		assert.Equal(t, string(w.Out), string(g.Out))
		assert.Equal(t, string(w.RequestBody), string(g.RequestBody))
		assert.Equal(t, string(w.In.Bytes()), string(g.In.Bytes()))
		assert.Equal(t, string(w.ResponseBody.Bytes()), string(g.ResponseBody.Bytes()))
		assert.Empty(t, g.Apart)
		require.NoError(t, j.Add(got), "what was read again is the same exchange")
		require.NoError(t, j.Judge(got))
		again, err := j.Get(all[i].ID)
		require.NoError(t, err)
		assert.Equal(t, string(w.Out), string(again.Leg().Out), "judged again, it is the same")
	}
	if f, may := j.(interface{ Forget(ids ...string) error }); may {
		for _, x := range all[:many] {
			require.NoError(t, f.Forget(x.ID))
		}
	}
	left, err := j.Get(all[many].ID)
	require.NoError(t, err)
	assert.Equal(t, string(other), string(left.Leg().RequestBody))
}

// holding holds what a journal says of words against what the exchanges say themselves.
func holding(t *testing.T, j journal.Journal, all ...*exchange.Exchange) {
	t.Helper()
	for _, text := range []string{
		"quay", "north quay", "uay", "deep draug", "NORTH", "draught quay", "north-quay", "nor", "quay,",
		"</", "", "'", `"quay"`, "no such",
		"findberths", all[0].ID, all[0].ID[:12], "quay'; --",
	} {
		got, err := j.Holding(t.Context(), text, all)
		require.NoError(t, err, text)
		want := map[string]bool{}
		for _, x := range all {
			if journal.Holds(x, text) {
				want[x.ID] = true
			}
		}
		assert.Equal(t, want, got, text)
	}
	got, err := j.Holding(t.Context(), "quay", all[1:2])
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{all[1].ID: true}, got, "only of those that were asked for")
}
