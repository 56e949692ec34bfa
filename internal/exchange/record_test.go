package exchange

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStagesHaveTheirNumbersNamesAndQuestions(t *testing.T) {
	require.Len(t, Stages, 11)
	for i, s := range Stages {
		assert.EqualValues(t, i+1, s)
		assert.Equal(t, 11+i, s.ExitCode())
		assert.True(t, strings.HasSuffix(s.Question(), "?"))
		back, err := ParseStage(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, back)
	}
	_, err := ParseStage("reed")
	assert.ErrorContains(t, err, "address, binding")
	var st struct {
		Stage Stage
		State State
	}
	require.NoError(t, json.Unmarshal([]byte(`{"Stage":"tls","State":"stopped"}`), &st))
	assert.Equal(t, TLS, st.Stage)
	assert.Equal(t, Stopped, st.State)
	assert.Error(t, json.Unmarshal([]byte(`{"Stage":"x"}`), &st))
	assert.Error(t, json.Unmarshal([]byte(`{"State":"x"}`), &st))
	require.NoError(t, json.Unmarshal([]byte(`{"Stage":""}`), &st))
	assert.Equal(t, None, st.Stage)
}

func TestReachOfEveryEnding(t *testing.T) {
	states := func(s string) *Exchange {
		x := &Exchange{}
		for i, c := range s {
			x.Stages = append(
				x.Stages,
				StageRecord{
					Stage: Stages[i],
					State: map[rune]State{'p': Passed, 'w': Warned, 'x': Stopped, '-': Skipped, '.': Waiting, 'o': Open,
						'c': Cancelled}[c],
				},
			)
		}
		return x
	}
	for _, c := range []struct {
		stages  string
		outcome Outcome
		stopped Stage
		want    int
	}{
		{"ppppppppppp", OutcomePassed, None, 11},
		{"ppwpp-pppww", OutcomePassed, None, 11},
		{"ppppp-ppp--", OutcomePassed, None, 11},
		{"x..........", OutcomeStopped, Address, 0},
		{"-x.........", OutcomeStopped, Binding, 0},
		{"ppppp-pppx.", OutcomeStopped, Read, 9},
		{"pppppx.....", OutcomeStopped, TLS, 5},
		{"ppppp-ppo..", OutcomeUnderWay, None, 8},
		{"ppppppppc..", OutcomeCancelled, None, 8},
	} {
		x := states(c.stages)
		x.Outcome, x.StoppedAt = c.outcome, c.stopped
		assert.Equal(t, c.want, x.Reach(), "%s %s", c.stages, c.outcome)
	}
}

func TestFactsKeepTheirOrder(t *testing.T) {
	var f Facts
	for i := range 20 {
		f.Set(fmt.Sprintf("k%02d", 19-i), fmt.Sprint(i))
	}
	f.Set("k05", "changed \"quoted\" \n")
	b, err := json.Marshal(f)
	require.NoError(t, err)
	var back Facts
	require.NoError(t, json.Unmarshal(b, &back))
	assert.Equal(t, f.Get("k05"), back.Get("k05"))
	assert.Equal(t, "k19", back[0].Name)
	assert.Equal(t, "k00", back[19].Name)
	assert.Equal(t, "", back.Get("none"))
	assert.Error(t, json.Unmarshal([]byte(`{"a": 1}`), &back))
}

func TestManyHandsOnOneRecord(t *testing.T) {
	n := 0
	var mu sync.Mutex
	r := NewRecorder(&Exchange{}, func() { mu.Lock(); n++; mu.Unlock() })
	l := r.NewLeg("", Spill{})
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for range 200 {
				switch i % 4 {
				case 0:
					r.In(l, []byte("0123456789"))
				case 1:
					r.Fact(Read, "f", "v")
				case 2:
					r.Moment(Moment{Kind: Lookup})
				default:
					s := r.Snapshot()
					assert.Zero(t, len(s.Leg().In.Bytes())%10, "a snapshot holds whole pieces")
				}
			}
		}()
	}
	wg.Wait()
	x := r.Snapshot()
	assert.Len(t, x.Leg().In.Bytes(), 2*200*10)
	last := int64(-1)
	for _, m := range x.Moments {
		if m.Kind == BytesIn {
			assert.Greater(t, m.Offset, last)
			last = m.Offset
		}
	}
	assert.Positive(t, n)
}

func TestASnapshotDoesNotChangeAnyMore(t *testing.T) {
	x := &Exchange{}
	r := NewRecorder(x, nil)
	r.Begin(Address)
	l := r.NewLeg("", Spill{})
	r.In(l, []byte("one"))
	s := r.Snapshot()
	r.In(l, []byte("two"))
	r.Fact(Address, "later", "v")
	r.End(Address, Passed, "note")
	assert.Equal(t, "one", string(s.Leg().In.Bytes()))
	assert.Equal(t, Open, s.Stage(Address).State)
	assert.Empty(t, s.Stage(Address).Facts)
	assert.Equal(t, "note", x.Stage(Address).Note)
	assert.GreaterOrEqual(t, x.Stage(Address).DurationNs, int64(0))
}

func TestSecretsAreCutInEveryForm(t *testing.T) {
	const word = `pä"ss <w&rd>`
	x := &Exchange{Secrets: []string{word, "ab"}, Result: "he said " + word}
	r := NewRecorder(x, nil)
	l := r.NewLeg("", Spill{})
	esc := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(word)
	body := strings.Join(
		[]string{
			word,
			esc,
			base64.StdEncoding.EncodeToString([]byte(word)),
			base64.URLEncoding.EncodeToString([]byte(word)),
			"ab",
		},
		"|",
	)
	r.In(l, []byte("HTTP/1.1 200 OK\r\n\r\n"+body))
	l.ResponseBody = NewBody([]byte(body))
	l.Response = Head{Line: "HTTP/1.1 200 " + word, Fields: []Header{{Name: "X-Echo", Value: "you are " + word}}}
	r.Fact(Read, "fault reason", "no such "+word)
	x.Findings = []Finding{{Title: word, Evidence: []Evidence{{Excerpt: esc}}}}
	c := x.Redact([]byte("k"))
	kept, err := c.Marshal()
	require.NoError(t, err)
	assert.Equal(t, "you are "+word, l.Response.Fields[0].Value, "the record itself is not changed")
	all := string(kept) + fmt.Sprint(c.Leg().Response) + string(c.Leg().In.Bytes()) + string(
		c.Leg().ResponseBody.Bytes(),
	)
	assert.NotContains(t, all, "pä")
	assert.NotContains(t, all, "w&rd")
	assert.NotContains(t, all, base64.StdEncoding.EncodeToString([]byte(word)))
	assert.Contains(
		t,
		string(c.Leg().ResponseBody.Bytes()),
		"|ab",
		"what is too short to be told from other text is left",
	)
	assert.Len(t, c.Leg().In.Bytes(), int(l.In.Len()))
	assert.Nil(t, c.Secrets)
	assert.Equal(t, "he said ********", c.Result)
}

// A password that is one of Orenda's own words, or JSON's, is cut from what others
// said and leaves the record whole.
func TestASecretThatIsAnOrdinaryWord(t *testing.T) {
	for _, word := range []string{"true", "passed", "address", "stop", "title", "workspace", "\":{\""} {
		x := &Exchange{
			ID:       "1",
			Outcome:  OutcomePassed,
			Secrets:  []string{word},
			Result:   "is it " + word + "?",
			Settings: []Setting{{Key: "address", Stage: Address, Value: word}},
		}
		r := NewRecorder(x, nil)
		r.Fact(Address, "b", "one")
		r.Fact(Address, "a", "say "+word)
		x.Findings = []Finding{
			{
				ID:       "address.malformed",
				Severity: Stop,
				Title:    word,
				Remedies: []Remedy{
					NewRemedy("use "+word, Change{Where: "workspace", Key: "endpoint.a.address", To: []string{word}}),
				},
			},
		}
		before, err := x.Marshal()
		require.NoError(t, err)
		c := x.Redact(nil)
		assert.Equal(t, "is it ********?", c.Result)
		assert.Equal(t, OutcomePassed, c.Outcome)
		assert.Equal(t, Setting{Key: "address", Stage: Address, Value: "********"}, c.Settings[0])
		assert.Equal(t, Facts{{Name: "b", Value: "one"}, {Name: "a", Value: "say ********"}}, c.Stage(Address).Facts)
		f := c.Findings[0]
		assert.Equal(
			t,
			"address.malformed stop ******** use ********",
			fmt.Sprint(f.ID, " ", f.Severity, " ", f.Title, " ", f.Remedies[0].Title),
		)
		assert.Equal(
			t,
			Change{Where: "workspace", Key: "endpoint.a.address", To: []any{"********"}}.String(),
			f.Remedies[0].All()[0].String(),
		)
		after, err := x.Marshal()
		require.NoError(t, err)
		assert.Equal(t, string(before), string(after), "the record itself is not changed")
		kept, err := c.Marshal()
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(kept, new(Exchange)))
	}
}

func TestChangesAndRemediesInWords(t *testing.T) {
	for want, c := range map[string]Change{
		"a.b: not set → 2 MiB":              {Key: "a.b", To: "2 MiB"},
		"a.b: 1 → not set":                  {Key: "a.b", From: "1"},
		"a.b: x, y → true":                  {Key: "a.b", From: []string{"x", "y"}, To: true},
		"t: not set → one certificate more": {Key: "t", To: "# CN=x\n-----BEGIN CERTIFICATE-----\nAAAA"},
	} {
		assert.Equal(t, want, c.String())
	}
	one, two := Change{Key: "a"}, Change{Key: "b"}
	r := NewRemedy("both", one, two)
	assert.Equal(t, []Change{one, two}, r.All())
	assert.Equal(t, "a", r.Change.Key)
	r = NewRemedy("one", one)
	assert.Equal(t, []Change{one}, r.All())
	assert.Empty(t, r.Changes)
	r = NewRemedy("none")
	assert.Empty(t, r.All())
}

func TestAgesInAWord(t *testing.T) {
	now := time.Unix(1_000_000, 0)
	for d, want := range map[time.Duration]string{-time.Second: "0 s", 40 * time.Second: "40 s", 3 * time.Minute: "3 m",
		5 * time.Hour: "5 h", 47 * time.Hour: "47 h", 72 * time.Hour: "3 d"} {
		assert.Equal(t, want, Age(now.Add(-d), now))
	}
}

func TestReportsOfBytesThatAreNoText(t *testing.T) {
	x := &Exchange{}
	r := NewRecorder(x, nil)
	l := r.NewLeg("", Spill{})
	l.Request = Head{Line: "POST /x HTTP/1.1", Size: 4}
	r.Out(l, []byte("POST"), 4)
	l.Response = Head{Complete: true, Status: 200, Size: 100}
	r.In(l, []byte("short"))
	l.ResponseBody = NewBody([]byte{0xff, 0xfe})
	rep := x.Report(true)
	assert.Equal(t, "base64", rep.Response.Encoding)
	assert.Equal(t, "short", rep.Response.Head, "a head that was cut short is given as far as it came")
	assert.Empty(t, x.Report(false).Response.Body)
	assert.Nil(t, (&Exchange{}).Report(true).Request)
}
