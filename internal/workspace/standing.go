package workspace

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
)

// Answering is what a relay does besides passing on: it answers by itself, while the service is
// away or to see how a program takes an answer, or changes what passes. The zero value does
// nothing: all is passed on as it came.
type Answering struct {
	Add      [][2]string        // fields that each request gets, in the place of those of the same name
	Secure   bool               // each request gets the endpoint's security; set as the relay begins
	Answers  bool               // answers that come later come through it; set as the relay begins
	Describe bool               // a GET gets the contract, with the relay as the service's address
	Kept     *exchange.Exchange // its answer is given, to calls of its operation; nil: of none
	Example  bool               // an example reply of the contract is given
	Fault    bool               // a fault is given
	Page     bool               // the page of a gateway is given, with 502
	After    time.Duration      // after which an answer is given, or a call passed on
}

// String says it in words.
func (a *Answering) String() string {
	out := "passes on"
	switch {
	case a.Kept != nil:
		out = "answers as " + a.Kept.ID + " was answered"
	case a.Example:
		out = "answers with an example"
	case a.Fault:
		out = "answers with a fault"
	case a.Page:
		out = "answers with a gateway's page, 502"
	}
	if a.After > 0 {
		out += " after " + a.After.String()
	}
	for _, f := range a.Add {
		out += ", with " + f[0] + ": " + f[1]
		if exchange.SecretName(f[0]) {
			out = strings.TrimSuffix(out, f[1]) + strings.Repeat(string(exchange.Masked), 8)
		}
	}
	if a.Secure {
		out += ", with the endpoint's security"
	}
	if a.Answers {
		out += ", and has answers that come later come through here"
	}
	if a.Describe {
		out += ", serves the contract"
	}
	return out
}

// Plain tells whether all is passed on, as it came.
func (a *Answering) Plain() bool { return a.String() == (&Answering{}).String() }

// Change changes a request on its way.
func (a *Answering) Change(w *call.Imported) {
	for _, add := range a.Add {
		w.Header = slices.DeleteFunc(w.Header, func(f [2]string) bool { return strings.EqualFold(f[0], add[0]) })
	}
	w.Header = append(w.Header, a.Add...)
}

// Field is a header field as a person writes it: "Name: value".
func Field(text string) (f [2]string, err error) {
	name, value, ok := strings.Cut(text, ":")
	f = [2]string{strings.TrimSpace(name), strings.TrimSpace(value)}
	if !ok || f[0] == "" || strings.ContainsAny(text, "\r\n") || strings.ContainsAny(f[0], " \t") {
		return f, fmt.Errorf("%q is no header field; it is \"Name: value\"", text)
	}
	return f, nil
}

// response is a whole HTTP response.
func response(status, contentType string, body []byte) []byte {
	head := fmt.Sprintf("HTTP/1.1 %s\r\nContent-Type: %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n",
		status, contentType, len(body))
	return append([]byte(head), body...)
}

// Answer is the response to a call of another program; ok is false where it is passed on.
func (t *Traced) Answer(a *Answering, w *call.Imported) (out []byte, ok bool) {
	if a.Describe && w.Method == http.MethodGet {
		return t.describe(w)
	}
	p := t.Plan(w)
	e := w.Envelope()
	if e == nil {
		return nil, false
	}
	mime := e.Version.MediaType() + "; charset=utf-8"
	switch {
	case a.Kept != nil:
		l := a.Kept.Leg()
		if l == nil || !l.Response.Complete || a.Kept.Operation != p.Operation {
			return nil, false
		}
		_, status, _ := cutStatus(l.Response.Line)
		return response(status, l.Response.Get("Content-Type"), l.ResponseBody.Bytes()), true
	case a.Example:
		if p.Port == nil {
			return nil, false
		}
		o := p.Port.Operation(p.Operation)
		if o == nil || o.Output == nil || o.Output.Element == nil {
			return nil, false
		}
		body := message.Sample(p.Contract.Schemas, o.Output.Element, message.Want{Encoded: o.Use == "encoded",
			Example: &schema.Examples{Day: time.Now()}})
		envelope, _ := soap.Build(e.Version, nil, body)
		return response("200 OK", mime, envelope), true
	case a.Fault:
		fault := soap.MakeFault(e.Version, "a fault of the relay, on purpose")
		return response("500 Internal Server Error", mime, fault), true
	case a.Page:
		page := "<html><head><title>502 Bad Gateway</title></head><body>a page of the relay, on purpose</body></html>"
		return response("502 Bad Gateway", "text/html; charset=utf-8", []byte(page)), true
	}
	return nil, false
}

// cutStatus parts a status line into its protocol and its code with the reason.
func cutStatus(line string) (proto, status string, ok bool) {
	for i := range len(line) {
		if line[i] == ' ' {
			return line[:i], line[i+1:], true
		}
	}
	return line, "200 OK", false
}
