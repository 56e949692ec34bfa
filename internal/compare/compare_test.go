package compare

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

const (
	soapNS = "http://schemas.xmlsoap.org/soap/envelope/"
	wsse   = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	wsu    = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
)

func env(head, body string) []byte {
	if head != "" {
		head = "<s:Header>" + head + "</s:Header>"
	}
	return []byte(`<s:Envelope xmlns:s="` + soapNS + `">` + head + `<s:Body>` + body + `</s:Body></s:Envelope>`)
}

func year(body string) string { return `<y:YearTable xmlns:y="urn:y">` + body + `</y:YearTable>` }

func token(inner string) string {
	return `<w:Security xmlns:w="` + wsse + `" xmlns:u="` + wsu + `"><w:UsernameToken>` + inner + `</w:UsernameToken></w:Security>`
}

func messages(a, b []byte) *Report { return Sides(&Side{Request: a}, &Side{Request: b}, false) }

func said(r *Report) string {
	var out []string
	for _, d := range r.Differences {
		side := func(p *Place) string {
			if p == nil {
				return "-"
			}
			return p.Value
		}
		out = append(out, fmt.Sprintf("%s %s: %s | %s", d.Kind, d.Path, side(d.A), side(d.B)))
	}
	return strings.Join(out, "\n")
}

func TestWhatDiffersInAMessage(t *testing.T) {
	for name, c := range map[string]struct {
		a, b  []byte
		want  string
		aside int
	}{
		"text between elements": {
			env("", year("one<a/>two")), env("", year("one<a/>three")), "value Body/YearTable/text(): onetwo | onethree", 0,
		},
		"where it stands": {env("", year("one<a/>")), env("", year("<a/>one")), "value Body/YearTable/text(): one | one", 0},
		"an instruction": {
			env("", year("<a><?fill it?></a>")), env("", year("<a/>")),
			"value Body/YearTable/a/processing-instruction(): <?fill it?> | ", 0,
		},
		"a comment": {env("", year("<a><!--1--></a>")), env("", year("<!--2--><a/>")), "", 2},
		"what is said of the whole": {
			[]byte(strings.Replace(string(env("", "")), "<s:Envelope", `<s:Envelope s:encodingStyle="urn:e"`, 1)), env("", ""),
			"missing Envelope/@encodingStyle: urn:e | -", 0,
		},
		"what stands behind the body": {
			[]byte(strings.Replace(string(env("", "")), "</s:Body>", `</s:Body><r/>`, 1)), env("", ""), "missing Envelope/r:  | -", 0,
		},
		"a name in another namespace": {
			env("", year(`<a xmlns:p="urn:1">p:x</a><b xmlns:p="urn:1" k="p:x"/>`)), env("", year(`<a xmlns:p="urn:2">p:x</a><b xmlns:p="urn:2" k="p:x"/>`)),
			"namespace Body/YearTable/a: {urn:1}x | {urn:2}x\nnamespace Body/YearTable/b/@k: {urn:1}x | {urn:2}x", 0,
		},
		"a name by another prefix": {
			env("", year(`<a xmlns:p="urn:1">p:x</a><b xmlns:p="urn:1" k="p:x"/>`)), env("", year(`<a xmlns:q="urn:1">q:x</a><b xmlns:q="urn:1" k="q:x"/>`)), "", 2,
		},
		"words are no name": {
			env("", year(`<a xmlns:p="urn:1">p: one</a>`)), env("", year(`<a xmlns:p="urn:2">p: one</a>`)), "", 0,
		},
		"no name at all": {env("", year("<a>12:30</a>")), env("", year("<a>12:31</a>")), "value Body/YearTable/a: 12:30 | 12:31", 0},
		"nothing":        {env("", year("<year>1</year>")), env("", year("<year>1</year>")), "", 0},
		"prefixes, white space and order of attributes": {
			env("", `<y:YearTable xmlns:y="urn:y" a="1" b="2"><y:year>1</y:year></y:YearTable>`),
			env("", "\n  "+`<YearTable b="2" a="1" xmlns="urn:y"><year>1</year></YearTable>`+"\n"), "", 2,
		},
		"a value":          {env("", year("<year>2027</year>")), env("", year("<year>20 27</year>")), "value Body/YearTable/year: 2027 | 20 27", 0},
		"white space":      {env("", year("<year>the</year>")), env("", year("<year>the </year>")), "value Body/YearTable/year: the | the ", 0},
		"empty and absent": {env("", year("<year/><no>1</no>")), env("", year("<no>1</no>")), "missing Body/YearTable/year:  | -", 0},
		"another namespace": {
			env("", `<Y xmlns="urn:y"><a>1</a><b>2</b></Y>`), env("", `<Y xmlns="urn:z"><a>1</a><b>3</b></Y>`),
			"namespace Body/Y: urn:y | urn:z\nvalue Body/Y/b: 2 | 3", 0,
		},
		"renamed":      {env("", year("<year>2027</year><no>1</no>")), env("", year("<Year>2027</Year><no>1</no>")), "renamed Body/YearTable/year: year | Year", 0},
		"moved":        {env("", year("<a>1</a><b>2</b><c>3</c>")), env("", year("<b>2</b><c>3</c><a>1</a>")), "moved Body/YearTable/a: 1 | 1", 0},
		"an attribute": {env("", year(`<a k="1"/>`)), env("", year(`<a/>`)), "missing Body/YearTable/a/@k: 1 | -", 0},
		"another type": {env("", year(`<a>1</a>`)), env("", year(`<a><b>1</b></a>`)), "type Body/YearTable/a: 1 | b 1", 0},
		"fresh values": {
			env(token(`<w:Username>d</w:Username><w:Nonce>abc</w:Nonce><u:Created>1</u:Created>`), year("")),
			env(token(`<w:Username>d</w:Username><w:Nonce>xyz</w:Nonce><u:Created>2</u:Created>`), year("")), "", 2,
		},
		"a nonce that is not there": {
			env(token(`<w:Username>d</w:Username><w:Nonce>abc</w:Nonce>`), year("")), env(token(`<w:Username>d</w:Username>`), year("")),
			"missing Header/Security/UsernameToken/Nonce: abc | -", 0,
		},
		"a header block": {env(token("<w:Username>d</w:Username>"), year("")), env("", year("")), "missing Header/Security: UsernameToken {Username d} | -", 0},
	} {
		r := messages(c.a, c.b)
		assert.Equal(t, c.want, said(r), name)
		assert.Equal(t, c.aside, r.SetAside, name)
		assert.Equal(t, c.want == "", r.Same, name)
		for _, d := range r.Differences {
			for _, side := range []struct {
				p   *Place
				src []byte
			}{{d.A, c.a}, {d.B, c.b}} {
				if side.p != nil {
					require.LessOrEqual(t, side.p.Offset+side.p.Length, int64(len(side.src)), name)
				}
			}
		}
	}
}

func rows(n int, change func(i int) string) string {
	var b strings.Builder
	for i := range n {
		if s := change(i); s != "" {
			b.WriteString(s)
			continue
		}
		fmt.Fprintf(&b, `<berth><code>N%05d</code><length>%d</length></berth>`, i, i%70)
	}
	return year(b.String())
}

func TestOneRowIsOneDifference(t *testing.T) {
	same := func(int) string { return "" }
	a := env("", rows(10_000, same))
	for name, c := range map[string]struct {
		b    string
		want string
	}{
		"inserted": {rows(10_000, func(i int) string {
			if i == 5000 {
				return `<berth><code>NEW</code><length>1</length></berth><berth><code>N05000</code><length>30</length></berth>`
			}
			return ""
		}), "added Body/YearTable/berth: - | code NEW, length 1"},
		"taken out": {rows(9_999, same), "missing Body/YearTable/berth: code N09999, length 59 | -"},
		"a value in one": {rows(10_000, func(i int) string {
			if i == 7 {
				return `<berth><code>N00007</code><length>99</length></berth>`
			}
			return ""
		}), "value Body/YearTable/berth[8]/length: 7 | 99"},
	} {
		assert.Equal(t, c.want, said(messages(a, env("", c.b))), name)
	}
}

// Whatever two lists hold, what is common is common, in order, and a list has all in
// common with itself.
func TestWhatListsHaveInCommon(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 3))
		list := func() (out []uint64) {
			for range r.IntN(30) {
				out = append(out, r.Uint64N(6))
			}
			return out
		}
		a, b := list(), list()
		pairs := common(a, b)
		i, j := -1, -1
		for _, p := range pairs {
			require.Greater(t, p[0], i)
			require.Greater(t, p[1], j)
			i, j = p[0], p[1]
			require.Equal(t, a[i], b[j])
		}
		assert.Len(t, common(a, a), len(a))
		assert.Len(t, pairs, longest(a, b), "%v %v", a, b)
	}
}

// longest is the length of a longest common subsequence, by the table.
func longest(a, b []uint64) int {
	t := make([][]int, len(a)+1)
	for i := range t {
		t[i] = make([]int, len(b)+1)
	}
	for i := range a {
		for j := range b {
			if t[i+1][j+1] = max(t[i][j+1], t[i+1][j]); a[i] == b[j] {
				t[i+1][j+1] = t[i][j] + 1
			}
		}
	}
	return t[len(a)][len(b)]
}

func TestWhatDiffersBetweenCalls(t *testing.T) {
	call := func(limit, action, date string, status int, body string) *Side {
		return &Side{
			Settings: []exchange.Setting{{Key: "receive-limit", Value: limit, Source: "endpoint"}},
			Reach:    11 - status/500, Outcome: map[bool]exchange.Outcome{true: exchange.OutcomePassed, false: exchange.OutcomeStopped}[status == 200],
			RequestHead:  &exchange.Head{Fields: []exchange.Header{{Name: "SOAPAction", Value: action}, {Name: "Host", Value: date}}},
			Request:      env("", year(body)),
			ResponseHead: &exchange.Head{Status: status, Fields: []exchange.Header{{Name: "Date", Value: date}}},
		}
	}
	r := Sides(call("1", "a", "x", 200, "<a>1</a>"), call("1", "a", "y", 200, "<a>1</a>"), false)
	assert.True(t, r.Same)
	assert.Equal(t, 2, r.SetAside)
	r = Sides(call("1", "a", "x", 200, "<a>1</a><b/>"), call("2", "b", "y", 500, "<a>2</a>"), false)
	assert.False(t, r.Same)
	assert.Equal(t, "missing Body/YearTable/b:  | -\nvalue Body/YearTable/a: 1 | 2\nfield SOAPAction: a | b\nsetting receive-limit: 1 | 2\n"+
		"reach reach: passed | verify\nstatus status: 200 | 500", said(r))
	assert.Equal(t, "the one that passes has a b", r.Differences[0].Why)
	all := Sides(call("1", "a", "x", 200, ""), call("1", "a", "y", 200, ""), true)
	assert.Len(t, all.Differences, 2)
	assert.True(t, all.Differences[0].Aside)
}

func BenchmarkCompare20MB(b *testing.B) {
	n := 20 << 20 / 60
	x := env("", rows(n, func(int) string { return "" }))
	y := env("", rows(n, func(i int) string {
		if i%1000 == 7 {
			return `<berth><code>changed</code><length>1</length></berth>`
		}
		return ""
	}))
	b.SetBytes(int64(len(x)))
	for b.Loop() {
		messages(x, y)
	}
}

// What is known of one side alone is no difference; where nothing is known of both, they are not the same.
func TestWhatIsNotKnownIsNotTheSame(t *testing.T) {
	one, other := env("", year("<a>1</a>")), env("", year("<a>2</a>"))
	head := &exchange.Head{Status: 202}
	for name, c := range map[string]struct {
		a, b    Side
		want    string
		nothing bool
	}{
		"a request and a reply":  {Side{Request: one}, Side{Response: other}, "value Body/YearTable/a: 1 | 2", false},
		"the same, as either":    {Side{Request: one}, Side{ResponseHead: head, Response: one}, "", false},
		"a message and none":     {Side{Request: one}, Side{}, "", true},
		"a message and a head":   {Side{Request: one}, Side{ResponseHead: head}, "", true},
		"no reply and an answer": {Side{Request: one}, Side{Request: one, ResponseHead: head, Response: other}, "", false},
		"an empty answer":        {Side{ResponseHead: head}, Side{ResponseHead: head, Response: one}, "added body: - | " + string(one[:80]), false},
		"the other one empty":    {Side{ResponseHead: head, Response: one}, Side{ResponseHead: head}, "missing body: " + string(one[:80]) + " | -", false},
		"one that was cut":       {Side{Response: one}, Side{Response: one[:90]}, "missing : " + string(one[90:]) + " | -", false},
		"the other one cut":      {Side{Response: one[:90]}, Side{Response: one}, "added : - | " + string(one[90:]), false},
		"two empty ones":         {Side{ResponseHead: head}, Side{ResponseHead: head}, "", false},
	} {
		r := Sides(&c.a, &c.b, false)
		assert.Equal(t, c.want, said(r), name)
		assert.Equal(t, c.nothing, r.Nothing, name)
		assert.Equal(t, c.want == "" && !c.nothing, r.Same, name)
	}
}

// A call that stopped first of all reached nothing, and that is a difference.
func TestWhatReachedNothingDiffers(t *testing.T) {
	all := Sides(&Side{Reach: 11, Outcome: exchange.OutcomePassed}, &Side{Outcome: exchange.OutcomeStopped}, false).Differences
	require.Len(t, all, 1)
	assert.Equal(t, "reach: passed → address", all[0].String())
	assert.Empty(t, Sides(&Side{Reach: 11, Outcome: exchange.OutcomePassed}, &Side{}, false).Differences, "of a file nothing is known")
}
