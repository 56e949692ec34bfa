package journal

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

func TestTheJournalInMemory(t *testing.T) {
	var j Journal = &Memory{}
	add := func(id, op, end, kind string, size, declared int64) {
		x := &exchange.Exchange{ID: id, Operation: op, Endpoint: end, Kind: kind, Workspace: "/w"}
		l := &exchange.Leg{In: exchange.NewBody([]byte("bytes"))}
		l.Response.Complete, l.Response.BodySize, l.Response.Declared = size > 0, size, declared
		x.Legs = append(x.Legs, l)
		if id == "a2" {
			x.Findings = []exchange.Finding{{ID: "receive.over-limit"}}
		}
		require.NoError(t, j.Add(x))
	}
	add("a0", "YearTable", "tides", "", 40, 1<<62)
	add("a1", "YearTable", "tides", "", 100, -1)
	add("a2", "YearTable", "tides-tls", "", 50, 900)
	add("b1", "DayTable", "tides", "", 10, 10)
	add("c1", "description", "description", "fetch", 10, 10)
	for _, c := range []struct {
		q    Query
		want []string
	}{
		{Query{}, []string{"c1", "b1", "a2", "a1", "a0"}},
		{Query{Operation: "YearTable"}, []string{"a2", "a1", "a0"}},
		{Query{Endpoint: "tides", Max: 1}, []string{"b1"}},
		{Query{Kind: "call"}, []string{"b1", "a2", "a1", "a0"}},
		{Query{Kind: "fetch"}, []string{"c1"}},
		{Query{Workspace: "/v"}, nil},
	} {
		list, err := j.List(c.q)
		require.NoError(t, err)
		var got []string
		for _, x := range list {
			got = append(got, x.ID)
			assert.Empty(t, x.Leg().In.Bytes(), "a list has no bytes")
		}
		assert.Equal(t, c.want, got, "%+v", c.q)
	}
	sizes := j.ReplySizes("YearTable", nil)
	assert.Len(t, sizes, 3)
	assert.EqualValues(
		t,
		900,
		slices.Max(sizes),
		"what was announced counts where a limit cut it off, and nowhere else",
	)
	of := j.ReplySizes("YearTable", &exchange.Exchange{Workspace: "/w", Endpoint: "tides"})
	assert.Len(t, of, 2, "of one service alone")
	assert.Empty(t, j.ReplySizes("YearTable", &exchange.Exchange{Workspace: "/v", Endpoint: "tides"}))
	x, err := j.Get("last")
	require.NoError(t, err)
	assert.Equal(t, "c1", x.ID)
	x, err = j.Get("a2")
	require.NoError(t, err)
	assert.Equal(t, "a2", x.ID)
	_, err = j.Get("zzzz")
	assert.ErrorIs(t, err, ErrNotFound)
	assert.EqualValues(t, 5, j.Version())
	assert.NoError(t, j.Close())
}

func TestAPartOfAnIDNamesOneOrSaysWhyNot(t *testing.T) {
	ids := []string{"01kb2qwertyaaaa1111", "01kb2qwertyaaaa2222", "01kb2qwerty1111bbbb"}
	for part, want := range map[string]string{"01kb2qwertyaaaa1111": ids[0], "2222": ids[1], "1111": ids[0],
		"bbbb":  ids[2],
		"a2222": ids[1]} {
		var holding []string
		for _, id := range ids {
			if strings.Contains(id, part) {
				holding = append(holding, id)
			}
		}
		got, err := Pick(part, holding)
		require.NoError(t, err, part)
		assert.Equal(t, want, got)
	}
	_, err := Pick("222", ids)
	assert.ErrorContains(t, err, "too short")
	_, err = Pick("qwerty", ids)
	var many *PartError
	require.ErrorAs(t, err, &many)
	assert.Len(t, many.Many, 3)
	_, err = Pick("zzzz", nil)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.Equal(t, 4, TailOf(ids[0], []string{ids[0]}))
	assert.Equal(t, 6, TailOf("xx1abcd", []string{"yy2abcd", "zy1abcd"}))
}
