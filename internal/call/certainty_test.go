package call_test

import (
	"bytes"
	"context"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/standin"
)

// blunt are findings that claim less: what is seen, and no particular reason.
var blunt = []string{
	"read.fault-client",
	"read.fault-server",
	"read.fault-security-invalid",
	"receive.not-soap",
	"receive.client-error",
	"receive.server-error",
	"read.not-envelope",
	"read.not-well-formed",
	"read.empty",
	"receive.truncated",
	"wait.closed",
	"receive.type-differs",
	"receive.status-differs",
	"read.fault-hidden",
}

// With evidence taken away a failure is called by its name, or by one that claims
// less, or by none: never by that of another cause.
func TestWithoutItsEvidenceNoOtherCauseIsNamed(t *testing.T) {
	h := harbour(t)
	head := func(reply []byte, change func(string) string) []byte {
		at := bytes.Index(reply, []byte("\r\n\r\n"))
		if at < 0 {
			return reply
		}
		return append([]byte(change(string(reply[:at]))), reply[at:]...)
	}
	field := func(name string) func(string) string {
		return func(h string) string { return regexp.MustCompile(`(?im)\r\n`+name+`:[^\r]*`).ReplaceAllString(h, "") }
	}
	reason := regexp.MustCompile(`(?s)(<faultstring[^>]*>|<[\w:]*Text[^>]*>).*?(</)`)
	code := regexp.MustCompile(`(?s)(<faultcode[^>]*>)[^<]*(</)`)
	taken := map[string]func(w *call.Imported, p *call.Plan){
		"nothing":      func(*call.Imported, *call.Plan) {},
		"the contract": func(_ *call.Imported, p *call.Plan) { p.Contract, p.Port = nil, nil },
		"the request":  func(w *call.Imported, _ *call.Plan) { w.Body, w.Header = nil, nil },
		"the reply's head": func(w *call.Imported, _ *call.Plan) {
			_, b, _ := bytes.Cut(w.Reply, []byte("\r\n\r\n"))
			w.Reply = call.ReplyOf("", nil, b)
		},
		"the media type":   func(w *call.Imported, _ *call.Plan) { w.Reply = head(w.Reply, field("Content-Type")) },
		"the offered ways": func(w *call.Imported, _ *call.Plan) { w.Reply = head(w.Reply, field("WWW-Authenticate")) },
		"the location":     func(w *call.Imported, _ *call.Plan) { w.Reply = head(w.Reply, field("Location")) },
		"the page": func(w *call.Imported, _ *call.Plan) {
			w.Reply = regexp.MustCompile(`(?s)<title>.*?</title>`).ReplaceAll(w.Reply, []byte("<title></title>"))
		},
		"the fault's words": func(w *call.Imported, _ *call.Plan) {
			w.Reply = call.ReplyOf(
				"HTTP/1.1 500 Internal Server Error",
				[][2]string{{"Content-Type", "text/xml"}},
				reason.ReplaceAll(after(w.Reply), []byte("$1$2")),
			)
		},
		"the fault's code": func(w *call.Imported, _ *call.Plan) {
			w.Reply = call.ReplyOf(
				"HTTP/1.1 500 Internal Server Error",
				[][2]string{{"Content-Type", "text/xml"}},
				code.ReplaceAll(after(w.Reply), []byte("${1}soap:Server$2")),
			)
		},
	}
	// What is as true of the same bytes, and is seen once the other is not.
	alsoTrue := map[string]string{
		"read.parts-broken":     "read.text-outside",
		"read.version-differs":  "verify.reply-differs",
		"read.depth-over-limit": "receive.bad-chunk", // it came in chunks, which a head that is made up does not say
	}
	n, named := 0, 0
	for _, m := range standin.Misbehaviours() {
		if !strings.HasPrefix(m.ID, "receive.") && !strings.HasPrefix(m.ID, "read.") &&
			!strings.HasPrefix(m.ID, "verify.") {
			continue
		}
		p := berths(t, h, "/berths/~"+m.ID)
		p.Settings.Set("receive-time", "300ms")
		if m.Shown[0] != "" {
			p.Settings.Set(m.Shown[0], m.Shown[1])
		}
		x := run(t, p)
		require.NotEmpty(t, x.Findings, m.ID)
		l := x.Leg()
		w := call.Imported{URL: "http://" + h.Plain + "/berths/~" + m.ID, Body: l.RequestBody, Reply: l.In.Bytes()}
		for _, f := range l.Request.Fields {
			w.Header = append(w.Header, [2]string{f.Name, f.Value})
		}
		for what, take := range taken {
			if strings.HasPrefix(what, "the fault's") &&
				(!strings.Contains(m.ID, "fault") || !bytes.Contains(l.In.Bytes(), []byte("Fault>"))) {
				continue
			}
			less, plan := w, call.Plan{Contract: p.Contract, Port: p.Port, Operation: p.Operation, Agent: "test"}
			take(&less, &plan)
			got := call.Explain(context.Background(), plan, &less)
			n++
			if len(got.Findings) == 0 || got.Findings[0].Severity == exchange.Note {
				assert.NotEqual(t, "nothing", what, "%s is not named any more", m.ID)
				continue
			}
			f := got.Findings[0]
			if f.ID == x.Findings[0].ID {
				named++
				continue
			}
			assert.True(
				t,
				slices.Contains(blunt, f.ID) || alsoTrue[m.ID] == f.ID,
				"%s without %s is called %s: %s",
				m.ID,
				what,
				f.ID,
				f.Why,
			)
		}
	}
	t.Logf("%d exchanges without some of their evidence, %d still called by their name, none by another", n, named)
}

func after(reply []byte) []byte {
	_, b, _ := bytes.Cut(reply, []byte("\r\n\r\n"))
	return b
}
