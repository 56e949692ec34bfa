package capture

import (
	"bytes"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/http1"
)

// request is one that was split off a stream.
type request struct {
	line     http1.RequestLine
	head     *exchange.Head
	body     []byte
	from, to int
	whole    bool
}

// split takes requests and answers off a connection, and puts each answer to its request.
func (r *Read) split(c *tcp, out, in bytesOf, secure string) {
	if len(out.data) > 0 && !isRequest(out.data) {
		r.Unread["connections that begin with no request of HTTP/1.1"]++
		return
	}
	at := 0
	for from := 0; from < len(out.data); {
		q, ok := takeRequest(out.data, from)
		if !ok {
			r.Unread["requests that cannot be read"]++
			return
		}
		if q.head == nil || !q.whole && (out.lost || !out.ended && !in.ended) {
			r.Unread["requests that the capture does not hold whole"]++
			return
		}
		from = q.to
		begins := at
		end, whole := takeAnswer(in, at, q.line.Method)
		switch {
		case !whole && (in.lost || !in.ended && !out.ended):
			r.Unread["answers that the capture does not hold whole"]++
			return
		case !whole || from >= len(out.data): // what is behind it belongs to no other
			end = len(in.data)
		}
		r.add(c, q, whole, out, in, begins, end, secure)
		if !whole {
			return
		}
		at = end
	}
}

// howEnded tells how a connection ended whose answer is not whole: who gave up first, and how long after the last
// byte the program did.
func howEnded(out, in *bytesOf) (how call.Ending, waited time.Duration) {
	switch {
	case out.ended && (!in.ended || out.over.Before(in.over)):
		last := out.last()
		if in.last().After(last) {
			last = in.last()
		}
		return call.GivenUp, max(out.over.Sub(last), 0)
	case in.reset:
		return call.ResetByServer, 0
	}
	return call.ClosedByServer, 0
}

func (r *Read) add(c *tcp, q request, whole bool, out, in bytesOf, at, end int, secure string) {
	w := &call.Imported{Method: q.line.Method, Body: q.body, Reply: bytes.Clone(in.data[at:end])}
	if !whole {
		w.Ended, w.Waited = howEnded(&out, &in)
	}
	if !q.whole {
		w.Declared, w.Came = q.head.Declared, int64(len(q.body))
	}
	host := c.server.String()
	for _, f := range q.head.Fields {
		w.Header = append(w.Header, [2]string{f.Name, f.Value})
		if strings.EqualFold(f.Name, "Host") && f.Value != "" {
			host = f.Value
		}
	}
	u := url.URL{Scheme: "http", Host: host}
	if secure != "" {
		u.Scheme = "https"
	}
	if to, err := url.Parse(q.line.Target); err == nil {
		if to.Host != "" { // through a proxy
			u = *to
		} else {
			u.Path, u.RawPath, u.RawQuery = to.Path, to.RawPath, to.RawQuery
		}
	}
	if _, port, err := net.SplitHostPort(host); err != nil && port == "" && !defaultPort(u.Scheme, c.server.Port()) &&
		u.Host == host {
		u.Host = net.JoinHostPort(host, strconv.Itoa(int(c.server.Port()))) // it was left out
	}
	w.URL = u.String()
	x := Exchange{Imported: w, Began: when(out.pieces, q.from), Client: c.client, Server: c.server, TLS: secure}
	done := when(in.pieces, max(end-1, at))
	if at == end { // without an answer it took until one of them closed
		if done = in.over; w.Ended == call.GivenUp {
			done = out.over
		}
	}
	if !done.IsZero() && !x.Began.IsZero() {
		x.Took = max(done.Sub(x.Began), 0)
	}
	r.Exchanges = append(r.Exchanges, x)
}

func defaultPort(scheme string, port uint16) bool {
	return scheme == "http" && port == 80 || scheme == "https" && port == 443
}

func isRequest(b []byte) bool {
	line, _, _ := bytes.Cut(b[:min(len(b), 8192)], []byte("\n"))
	_, err := http1.ParseRequestLine(strings.TrimRight(string(line), "\r"))
	return err == nil
}

// takeRequest takes the request that begins at an offset.
func takeRequest(b []byte, from int) (q request, ok bool) {
	for from < len(b) && (b[from] == '\r' || b[from] == '\n') {
		from++
	}
	n := http1.HeadEnd(b[from:])
	if n == 0 {
		return request{from: from, to: len(b)}, from >= len(b) || isRequest(b[from:])
	}
	var err error
	if q.line, q.head, err = http1.Request(b[from : from+n]); err != nil {
		return q, false
	}
	q.from = from
	body, used, whole := takeBody(b[from+n:], q.head, false, false)
	q.body, q.to, q.whole = body, from+n+used, whole
	return q, true
}

// takeAnswer tells where the answer ends that begins at an offset: informational ones come before it
// (RFC 9110 §15.2).
func takeAnswer(in bytesOf, from int, method string) (end int, whole bool) {
	for end = from; ; {
		next, status, all := takeResponse(in, end, method)
		if end, whole = next, all; status < 100 || status > 199 || status == http.StatusSwitchingProtocols {
			return end, whole
		}
	}
}

// takeResponse tells where the answer that begins at an offset ends; status 0: there is none.
func takeResponse(in bytesOf, from int, method string) (end, status int, whole bool) {
	b := in.data[min(from, len(in.data)):]
	n := http1.HeadEnd(b)
	if n == 0 {
		return from, 0, false
	}
	h, err := http1.Response(b[:n])
	if err != nil {
		return from, 0, false
	}
	none := method == http.MethodHead || h.Status < 200 || h.Status == http.StatusNoContent ||
		h.Status == http.StatusNotModified
	_, used, whole := takeBody(b[n:], h, none, true)
	if h.Declared < 0 && !h.Chunked && !none { // to the end of the connection (RFC 9112 §6.3)
		whole = in.ended && !in.reset && !in.lost
	}
	return from + n + used, h.Status, whole
}

// takeBody takes a body off; used is how many bytes of the stream it takes.
func takeBody(b []byte, h *exchange.Head, none, toEnd bool) (body []byte, used int, whole bool) {
	switch {
	case none:
		return nil, 0, true
	case h.Chunked:
		var c http1.Chunks
		body = []byte{}
		for !c.Done() {
			p, err := c.Next(b[used:])
			if err != nil || p == (http1.Piece{}) && !c.Done() {
				return body, len(b), false
			}
			body = append(body, b[used+p.Skip:used+p.Skip+p.Data]...)
			used += p.Skip + p.Data
		}
		return body, used, true
	case h.Declared >= 0:
		n := int(min(h.Declared, int64(len(b))))
		return bytes.Clone(b[:n]), n, int64(n) == h.Declared
	case toEnd:
		return b, len(b), false
	}
	return nil, 0, true
}
