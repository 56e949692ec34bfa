package cli

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/user"
	"orenda/internal/workspace"
)

// mustered is a run as --json prints it.
type mustered struct {
	Muster, ID string
	Counts     struct{ AsExpected, Unexpected, NotRun int }
	Cases      []struct {
		Name, Exchange, Outcome, Cause, Against string
		Why                                     []string
		TotalNs                                 int64
	}
}

// exploring is a workspace with drafts of two services, and what is expected of them.
func (l *line) exploring() string {
	ws := filepath.Join(l.t.TempDir(), "w")
	require.Zero(l.t, first(l.run("-w", ws, "add", l.berths())))
	require.Zero(l.t, first(l.run("-w", ws, "add", l.callsigns())))
	w, err := workspace.Open(ws, person(l.t))
	require.NoError(l.t, err)
	for _, d := range []struct{ op, name, body string }{
		{"FindBerths", "small", `<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`},
		{"LookUp", "one", `<c:LookUp xmlns:c="urn:skerry:callsigns"><sign>SKAL4</sign><exact>true</exact></c:LookUp>`},
	} {
		ref, err := w.FindDraft(d.op)
		require.NoError(l.t, err)
		ref.Name = d.name
		require.NoError(l.t, w.WriteDraft(ref, []byte(d.body)))
	}
	return ws
}

func (l *line) muster(ws, name, text string, tables ...string) {
	dir := filepath.Join(ws, "musters")
	require.NoError(l.t, os.MkdirAll(dir, 0o700))
	require.NoError(l.t, os.WriteFile(filepath.Join(dir, name+".toml"), []byte(text), 0o600))
	for i := 0; i+1 < len(tables); i += 2 {
		require.NoError(l.t, os.WriteFile(filepath.Join(dir, tables[i]), []byte(tables[i+1]), 0o600))
	}
}

// All of a muster runs as often as it is said, one round after the other.
func TestAMusterIsRepeated(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(ws, "twice", "[[case]]\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\ntable = \"s.csv\"\n",
		"s.csv", "name,sign\na,SKAL4\nb,SKAL4\n")
	var run mustered
	l.json(0, &run, "-w", ws, "muster", "run", "twice", "--repeat", "3")
	var names []string
	for _, c := range run.Cases {
		names = append(names, c.Name)
	}
	assert.Equal(t, []string{"a", "b", "a", "b", "a", "b"}, names)
}

func TestAMusterIsRun(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(ws, "nightly", `
[[case]]
name = "small craft"
draft = "FindBerths/small"
endpoint = "BerthDesk11"
expect = ["count(berth)>=1", "valid", "within=20s"]

[[case]]
name = "too large"
draft = "FindBerths/small"
endpoint = "BerthDesk11"
values = { length = "300" }
expect = ["count(berth)=0"]

[[case]]
draft = "FindBerths/small"
endpoint = "BerthDesk12"
values = { length = { from = "small craft", field = "berth/length" } }
expect = ["berth[1]/length=18"]

[[case]]
draft = "LookUp/one"
endpoint = "CallSigns"
table = "signs.csv"
`, "signs.csv", "name,sign,expect,expect count(entry)\nthere,SKAL4,valid,1\nnot there,NOPE,fault,\n"+
		"wrongly expected,SKAL4,fault ; within=9s,\n")
	report := filepath.Join(l.dir, "r.xml")
	var run mustered
	l.json(
		1,
		&run,
		"-w",
		ws,
		"muster",
		"run",
		"nightly",
		"--report",
		report,
		"--report",
		filepath.Join(l.dir, "r.html"),
		"--report",
		filepath.Join(l.dir, "r.md"),
		"--report",
		filepath.Join(l.dir, "r.json"),
	)
	require.Len(t, run.Cases, 6, "%+v", run)
	outcomes := map[string]string{}
	for _, c := range run.Cases {
		outcomes[c.Name] = c.Outcome
		assert.NotNil(t, c.Why)
	}
	assert.Equal(t, map[string]string{
		"small craft": "asExpected", "too large": "asExpected", "FindBerths/small": "asExpected", "there": "asExpected",
		"not there": "asExpected", "wrongly expected": "unexpected",
	}, outcomes, "%+v", run)
	assert.Equal(t, "verify.unexpected", run.Cases[5].Cause)

	b, err := os.ReadFile(report)
	require.NoError(t, err)
	var junit struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Cases []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(b, &junit))
	assert.Equal(t, 6, junit.Tests)
	assert.Equal(t, 1, junit.Failures)
	require.NotNil(t, junit.Suites[0].Cases[5].Failure)
	page, err := os.ReadFile(filepath.Join(l.dir, "r.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "<svg")

	// Only what was unexpected, and what has changed since.
	l.json(1, &run, "-w", ws, "muster", "run", "nightly", "--only-failed")
	require.Len(t, run.Cases, 1, "the one alone: it uses no other's reply: %+v", run)
	l.muster(
		ws,
		"nightly",
		"[[case]]\nname = \"wrongly expected\"\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\nexpect = [\"valid\"]\n",
	)
	l.json(0, &run, "-w", ws, "muster", "run", "nightly")
	assert.Equal(t, "mended", run.Cases[0].Against)

	var list []map[string]any
	l.json(0, &list, "-w", ws, "muster", "list")
	assert.Len(t, list, 1)
	code, out, errOut := l.run("-w", ws, "muster", "add", "more", "FindBerths/small", "last")
	assert.Zero(t, code, errOut)
	assert.Contains(t, out, "2 cases")
	code, _, errOut = l.run(
		"-w",
		ws,
		"muster",
		"run",
		filepath.Join(ws, "musters", "more.toml"),
		"--endpoint",
		"BerthDesk11",
		"--stop-at",
		"1",
	)
	assert.NotEqual(t, 2, code, errOut)

	// What the person made is not lost: neither the muster to a case that cannot be read,
	// nor a table to another one of its name.
	table := filepath.Join(l.dir, "signs.csv")
	require.NoError(t, os.WriteFile(table, []byte("sign\nSKAL9\n"), 0o600))
	code, _, errOut = l.run("-w", ws, "muster", "add", "more", "LookUp/one", table)
	assert.NotZero(t, code)
	assert.Contains(t, errOut, "there is another table signs.csv")
	before, err := os.ReadFile(filepath.Join(ws, "musters", "more.toml"))
	require.NoError(t, err)
	table = filepath.Join(l.dir, "ragged.csv")
	require.NoError(t, os.WriteFile(table, []byte("sign\nSKAL9,1,2\n"), 0o600))
	code, _, errOut = l.run("-w", ws, "muster", "add", "more", "LookUp/one", table)
	assert.NotZero(t, code)
	assert.Contains(t, errOut, "3 cells")
	after, err := os.ReadFile(filepath.Join(ws, "musters", "more.toml"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
}

// An empty cell says nothing, and "" is an empty value: also far down, after blank lines.
func TestAnEmptyCell(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(
		ws,
		"cells",
		"[[case]]\ndraft = \"FindBerths/small\"\nendpoint = \"BerthDesk11\"\ntable = \"cells.csv\"\n",
		"cells.csv",
		"name,length,endpoint\n\nkept,,\n\nempty,\"\",\nother,12,BerthDesk12\n",
	)
	var run mustered
	l.json(1, &run, "-w", ws, "muster", "run", "cells")
	require.Len(t, run.Cases, 3)
	assert.Equal(t, "asExpected", run.Cases[0].Outcome, "%+v", run.Cases[0])
	assert.Equal(t, "notRun", run.Cases[1].Outcome, "an empty length breaks its schema: %+v", run.Cases[1])
	assert.Equal(t, "asExpected", run.Cases[2].Outcome)
}

func TestWhatIsNoMuster(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	for text, says := range map[string]string{
		"":                         "no [[case]]",
		"[[case]]\nname = \"a\"\n": "names no draft",
		"[[case]]\ndraft = \"x\"\ncolour = \"y\"\n":                                        "colour is not known",
		"[[case]]\ndraft = \"x\"\nexpect = [\"junk\"]\n":                                   "does not say what is expected",
		"[[case]]\ndraft = \"x\"\ntable = \"../../secret.csv\"\n":                          "beside its muster",
		"[[case]]\ndraft = \"x\"\nvalues = { a = { from = \"nobody\", field = \"b\" } }\n": "no case \"nobody\" before it",
	} {
		l.muster(ws, "bad", text)
		code, _, errOut := l.run("-w", ws, "muster", "run", "bad")
		assert.Equal(t, 3, code, text)
		assert.Contains(t, errOut, says, text)
	}
	code, _, errOut := l.run("-w", ws, "muster", "run", "nothing")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "there is no muster")
}

// Many cases run at once, in constant memory and in their order.
func TestManyCases(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	var b strings.Builder
	w := csv.NewWriter(&b)
	require.NoError(t, w.Write([]string{"name", "length", "expect"}))
	const all = 400
	for i := range all {
		require.NoError(t, w.Write([]string{fmt.Sprintf("case %d", i), fmt.Sprint(8 + i%50), "valid"}))
	}
	w.Flush()
	l.muster(
		ws,
		"many",
		"[[case]]\ndraft = \"FindBerths/small\"\nendpoint = \"BerthDesk11\"\ntable = \"many.csv\"\n",
		"many.csv",
		b.String(),
	)
	var run mustered
	l.json(0, &run, "-w", ws, "muster", "run", "many", "--at-once", "8")
	assert.Equal(t, all, run.Counts.AsExpected)
	for i, c := range run.Cases {
		assert.Equal(t, fmt.Sprintf("case %d", i), c.Name)
	}
}

// Ten thousand cases: halted in the middle, the run goes on where it stopped, and each is sent once.
func TestTenThousandCases(t *testing.T) {
	count := 10_000
	if os.Getenv("ORENDA_RACED") != "" {
		count = 2_000
	}
	l := at(t)
	ws := l.exploring()
	var rows strings.Builder
	rows.WriteString("name,sign,expect\n")
	for i := range count {
		fmt.Fprintf(&rows, "case %d,SKAL4,vessel=Alder\n", i)
	}
	l.muster(ws, "many", "[[case]]\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\ntable = \"many.csv\"\n", "many.csv", rows.String())
	run := func(ctx context.Context, args ...string) (code int, r mustered) {
		var out, errs bytes.Buffer
		code = Run(ctx, append([]string{"-w", ws, "-q", "muster", "run", "many", "--at-once", "16", "--json"}, args...), &out, &errs)
		require.NoError(t, json.Unmarshal(out.Bytes(), &r), "%s%s", out.String(), errs.String())
		return code, r
	}
	ctx, halt := context.WithCancel(t.Context())
	var came atomic.Int64
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if came.Add(1) == 300 {
			halt()
		}
		l.h.ServeHTTP(w, r)
	}))
	defer gate.Close()
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "CallSigns", "address="+gate.URL+"/callsigns")))
	code, begun := run(ctx)
	require.NotZero(t, code)
	require.Positive(t, begun.Counts.AsExpected)
	require.Positive(t, begun.Counts.NotRun)
	require.Len(t, begun.Cases, count)
	code, second := run(t.Context(), "--resume")
	require.Zero(t, code)
	assert.Len(t, second.Cases, count-begun.Counts.AsExpected, "only what was not run")
	assert.Equal(t, len(second.Cases), second.Counts.AsExpected)
	sent := map[string]int{}
	for _, c := range append(begun.Cases, second.Cases...) {
		if c.Outcome == "asExpected" {
			sent[c.Name]++
		}
	}
	assert.Len(t, sent, count)
	assert.LessOrEqual(t, came.Load(), int64(count+16), "only what was under way when it was halted is sent again")
	code, third := run(t.Context(), "--only-failed")
	require.Zero(t, code)
	assert.Empty(t, third.Cases)
}

// A run that is halted while another program writes to the journal ends when all that came is kept.
func TestAHaltedRunIsKept(t *testing.T) {
	l := at(t)
	ws := l.exploring()
	l.muster(ws, "some", "[[case]]\ndraft = \"LookUp/one\"\nendpoint = \"CallSigns\"\ntable = \"some.csv\"\n",
		"some.csv", "name,sign,expect\n"+strings.Repeat("one,SKAL4,vessel=Alder\n", 50))
	require.Zero(t, first(l.run("-w", ws, "call", "LookUp/one", "--endpoint", "CallSigns"))) // makes the journal
	h, err := user.Find()
	require.NoError(t, err)
	db, err := sql.Open("sqlite", filepath.Join(h.State, "journal.db"))
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("PRAGMA busy_timeout = 10000") // the journal may be writing
	require.NoError(t, err)

	ctx, halt := context.WithCancel(t.Context())
	var came atomic.Int64
	freed := make(chan struct{})
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if came.Add(1) == 10 {
			_, err := db.Exec("BEGIN IMMEDIATE")
			assert.NoError(t, err)
			halt()
			time.AfterFunc(2*endsWithin, func() {
				defer close(freed)
				_, err := db.Exec("COMMIT")
				assert.NoError(t, err)
			})
		}
		l.h.ServeHTTP(w, r)
	}))
	defer gate.Close()
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "CallSigns", "address="+gate.URL+"/callsigns")))
	var out, errs bytes.Buffer
	code := Run(ctx, []string{"-w", ws, "-q", "muster", "run", "some", "--at-once", "2", "--json"}, &out, &errs)
	<-freed
	require.Equal(t, exitCancelled, code, errs.String())
	var run mustered
	require.NoError(t, json.Unmarshal(out.Bytes(), &run), errs.String())
	assert.Positive(t, run.Counts.AsExpected)
	assert.Len(t, run.Cases, 50)
	for _, c := range run.Cases {
		if c.Exchange != "" {
			assert.Zero(t, first(l.run("journal", "show", c.Exchange)), c.Name)
		}
	}
}
