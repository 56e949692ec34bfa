package muster

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

func read(t *testing.T, toml string, tables map[string]string) *Muster {
	t.Helper()
	m, err := Read("m", []byte(toml), func(name string) ([]byte, error) {
		if b, is := tables[name]; is {
			return []byte(b), nil
		}
		return nil, errors.New("there is none")
	})
	require.NoError(t, err)
	return m
}

// A row is the same case whenever it is asked for, whatever stands around it.
func TestRowsAreCases(t *testing.T) {
	m := read(t, `
[[case]]
name = "first"
draft = "LookUp/one"
[[case]]
draft = "LookUp/none"
table = "empty.csv"
[[case]]
draft = "LookUp/one"
expect = ["valid"]
table = "signs.csv"
[case.values]
exact = "true"
[[case]]
draft = "LookUp/one"
table = "signs.jsonl"
[[case]]
draft = "LookUp/one"
[[case]]
draft = "LookUp/one"
`, map[string]string{
		"empty.csv": "name,sign\n",
		"signs.csv": "\xef\xbb\xbfname;sign;expect vessel;note\r\n\r\nplain;SKAL4;Alder;\r\n\"quo;ted\";\"a \"\"b\"\"\nc\";\"\";x\r\n" +
			"plain;SKAL5;;\r\n;SKAL6;;y",
		"signs.jsonl": "{\"name\":\"line\",\"sign\":\"S1\",\"expect\":[\"vessel=A\",\"depth?\"],\"n\":1.50,\"gone\":null}\n\n{\"sign\":\"S2\"}",
	})
	want := []Case{
		{Name: "first", Draft: "LookUp/one"},
		{Name: "plain", Values: []Value{{Path: "exact", Text: "true"}, {Path: "sign", Text: "SKAL4"}},
			Expect: []string{"valid", "vessel=Alder"}},
		{Name: "quo;ted", Values: []Value{{Path: "exact", Text: "true"}, {Path: "sign", Text: "a \"b\"\nc"}, {Path: "note", Text: "x"}},
			Expect: []string{"valid", "vessel="}},
		{Name: "plain #2", Values: []Value{{Path: "exact", Text: "true"}, {Path: "sign", Text: "SKAL5"}}, Expect: []string{"valid"}},
		{Name: "LookUp/one · signs 4",
			Values: []Value{{Path: "exact", Text: "true"}, {Path: "sign", Text: "SKAL6"}, {Path: "note", Text: "y"}},
			Expect: []string{"valid"}},
		{Name: "line", Values: []Value{{Path: "n", Text: "1.50"}, {Path: "sign", Text: "S1"}}, Expect: []string{"vessel=A", "depth?"}},
		{Name: "LookUp/one · signs 2", Values: []Value{{Path: "sign", Text: "S2"}}},
		{Name: "LookUp/one"},
		{Name: "LookUp/one #2"},
	}
	require.Equal(t, len(want), m.Cases.Len())
	for i, c := range m.Cases.All() {
		want[i].Draft = "LookUp/one"
		assert.Equal(t, want[i].Name, c.Name)
		assert.ElementsMatch(t, want[i].Values, c.Values, c.Name)
		assert.ElementsMatch(t, want[i].Expect, c.Expect, c.Name)
		assert.Equal(t, want[i].Draft, c.Draft)
	}
	m.Cases.Repeat(3)
	assert.Equal(t, 3*len(want), m.Cases.Len())
	assert.Equal(t, m.Cases.At(2), m.Cases.At(2+2*len(want)))
}

// What a result says stays, in brief or whole, and through the file of the last run.
func TestResultsSayWhatTheySaid(t *testing.T) {
	id := exchange.NewID(time.Now())
	all := []Result{
		{Name: "a", Exchange: id, Outcome: AsExpected, Why: []string{}, TotalNs: 12, Operation: "LookUp", Endpoint: "E"},
		{Name: "b", Outcome: NotRun, Why: []string{"not asked for"}, LeftOut: true},
		{Name: "c", Exchange: id, Outcome: Unexpected, Why: []string{"x", "y"}, Cause: "read.fault-client", Against: "newlyFailed"},
		{Name: "d", Exchange: id, Outcome: AsExpected, Why: []string{}, Against: "mended"},
		{Name: "e", Exchange: "short", Outcome: NotRun, Why: []string{}},
		{Name: "f", Exchange: id, Outcome: NotRun, Why: []string{"it was held back"}},
	}
	r := Results{name: func(i int) string { return all[i].Name }, all: make([]brief, len(all))}
	for i := len(all) - 1; i >= 0; i-- {
		r.put(i, all[i])
	}
	for i := range all {
		assert.Equal(t, all[i], r.At(i))
	}
	b, err := json.Marshal(r)
	require.NoError(t, err)
	last, err := ReadLast(bytes.NewReader(b))
	require.NoError(t, err)
	for _, one := range all {
		one.LeftOut = false // it is not written
		got, known := last.Get(one.Name)
		assert.True(t, known)
		assert.Equal(t, one, got)
	}
	_, known := last.Get("g")
	assert.False(t, known)
	r.drop(func(r *Result) bool { return r.LeftOut || r.Name == "a" })
	require.Equal(t, 4, r.Len())
	assert.Equal(t, []Result{all[2], all[3], all[4], all[5]}, []Result{r.At(0), r.At(1), r.At(2), r.At(3)})
	var none Results
	b, err = json.Marshal(none)
	require.NoError(t, err)
	assert.Equal(t, "[]", string(b))
	for _, damaged := range []string{"", "{", "[{", `[{"name":1}]`} {
		_, err := ReadLast(strings.NewReader(damaged))
		assert.Error(t, err, damaged)
	}
}

// A hundred thousand rows and what came of them take few bytes each.
func TestLongRunsAreHeldInBrief(t *testing.T) {
	const many = 100_000
	var rows strings.Builder
	rows.WriteString("name,sign\n")
	for i := range many {
		fmt.Fprintf(&rows, "case %d,SKAL%d\n", i, i)
	}
	size := rows.Len()
	used := func() int64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := used()
	m := read(t, "[[case]]\ndraft = \"LookUp/one\"\ntable = \"t.csv\"\n", map[string]string{"t.csv": rows.String()})
	r := Results{name: func(i int) string { return m.Cases.At(i).Name }, all: make([]brief, many)}
	for i := range many {
		r.put(i, Result{Exchange: exchange.NewID(time.Now()), Outcome: AsExpected, TotalNs: int64(i), Operation: "LookUp"})
	}
	each := (used() - before - int64(size)) / many
	assert.Less(t, each, int64(100), "bytes for a case and its result")
	assert.Equal(t, "case 99999", r.At(many-1).Name)
	assert.Equal(t, "case 5", m.Cases.At(5).Name)
}
