package handover

import (
	"fmt"
	"strings"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/safe"
)

// maxTicket is how much of a message stands in a ticket, in bytes.
const maxTicket = 16 << 10

//nolint:gochecknoglobals // a table: it is never written to
var sides = map[exchange.Side]string{
	exchange.Yours:   "ours",
	exchange.Theirs:  "yours, as it looks from here",
	exchange.Between: "between us: a proxy, a gateway or the network",
	exchange.Unknown: "not known yet",
}

// Ticket is what the service's people need to look into a failed call: when it
// was, from where, what left and what came, and what that means. Secrets are cut
// out.
//
//revive:disable-next-line:function-length one sheet, from top to bottom
//revive:disable-next-line:cyclomatic one sheet, from top to bottom
func Ticket(x *exchange.Exchange) *Sheet {
	x = x.Redact(nil)
	s := &Sheet{Title: x.Operation + " fails", Passed: x.Outcome == exchange.OutcomePassed}
	if s.Passed {
		s.Title = x.Operation + " passes"
	}
	s.Said = fmt.Sprintf("The call %s.", x.Ending())
	what := Section{Title: "What happened"}
	what.add(
		"when",
		"%s, for %s",
		x.Started.UTC().Format("2006-01-02 15:04:05.000 UTC"),
		time.Duration(x.TotalNs).Round(time.Millisecond),
	)
	what.add("called", "%s", x.Stage(exchange.Address).Facts.Get("resolved"))
	what.add("operation", "%s", x.Operation)
	what.add("action", "%s", x.Stage(exchange.Binding).Facts.Get("action sent"))
	l := x.Leg()
	if l != nil {
		what.add("from", "%s", l.Conn.Local)
		what.add("to", "%s", l.Conn.Remote)
		what.add("proxy", "%s", l.Conn.Proxy)
		if t := l.Conn.TLS; t != nil {
			what.add("TLS", "%s %s, asked for %s", t.Version, t.Cipher, t.ServerName)
		}
		what.add("sent", "%s bytes", endpoint.Bytes(l.Request.Size+l.Request.BodySize))
		if l.Response.Complete {
			what.add("answered", "%s, %s bytes of body", l.Response.Line, endpoint.Bytes(l.Response.BodySize))
		}
		for _, name := range []string{"Date", "Server", "Via", "X-Request-ID", "X-Correlation-ID", "Request-Id",
			"Traceparent"} {
			what.add(name, "%s", l.Response.Get(name))
		}
	}
	s.Sections = append(s.Sections, what)
	for i, f := range x.Findings {
		if f.Severity == exchange.Note || i > 3 {
			continue
		}
		p := Section{Title: map[bool]string{true: "Why", false: "Also seen"}[i == 0]}
		p.add("finding", "%s (%s)", f.Title, f.ID)
		p.add("because", "%s", f.Why)
		if f.Certainty == exchange.Likely {
			p.add("certainty", "likely, not proved")
		}
		p.add("whose", "%s", sides[f.Side])
		for _, e := range f.Evidence {
			if e.In != exchange.InSettings && e.In != exchange.InDraft {
				p.add(fmt.Sprintf("%s, byte %d", e.In, e.Offset), "%s", e.Excerpt)
			}
		}
		for _, c := range f.Hypotheses {
			if c.Answer != "" {
				p.add("checked", "%s: %s", c.Cause, c.Answer)
			}
		}
		s.Sections = append(s.Sections, p)
	}
	var times Section
	times.Title = "Times"
	for _, st := range x.Stages {
		if st.DurationNs > 0 && st.Stage >= exchange.Connect {
			times.add(st.Stage.String(), "%s at %s", exchange.Took(st.DurationNs), "+"+exchange.Took(st.StartedNs))
		}
	}
	s.Sections = append(s.Sections, times)
	if l == nil {
		return s
	}
	for _, m := range []struct {
		title string
		head  []byte
		body  []byte
	}{{"Request, as it was sent", l.Out[:min(int64(len(l.Out)), l.Request.Size)], l.RequestBody}, {"Reply, as it " +
		"came", l.AnswerHead(), l.ResponseBody.Bytes()}} {
		if len(m.head)+len(m.body) == 0 {
			continue
		}
		text := strings.ReplaceAll(string(m.head), "\r\n", "\n")
		if len(m.body) > maxTicket {
			text += safe.Block(string(m.body[:maxTicket])) + fmt.Sprintf(
				"\n… %s bytes more",
				endpoint.Bytes(int64(len(m.body)-maxTicket)),
			)
		} else {
			text += string(m.body)
		}
		s.Sections = append(s.Sections, Section{Title: m.title, Text: text})
	}
	return s
}
