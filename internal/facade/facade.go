// Package facade gives SOAP operations as JSON over HTTP: each is POST /CONTRACT/OPERATION,
// described by an OpenAPI document, and every call through it is an exchange.
package facade

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/data"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/xmltree"
)

// Limits of what is taken.
const (
	maxRequest = 16 << 20 // bytes of JSON
	readTime   = 30 * time.Second
	squeezed   = 1 << 10 // from how many bytes on an answer is compressed
)

// Operation is an operation that is offered.
type Operation struct {
	Name      string                    // of the contract: the first part of the path
	Contract  *contract.Contract        // that has it
	Operation *contract.Operation       // itself
	Get       bool                      // it may be asked by GET as well: it only reads
	Plan      func() (call.Plan, error) // how it is called; its draft is made here
	Short     bool                      // it is offered as /OPERATION too
	Draft     *message.Draft            // whose values are the example; nil, or none it may show: they are made up
	Secret    exchange.SecretNames      // fields that an example does not show
}

func (o *Operation) path() string { return "/" + o.Name + "/" + o.Operation.Name }

func (o *Operation) id() string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '.' || r == ' ' {
			return '_'
		}
		return r
	}, o.Name+"_"+o.Operation.Name)
}

// Options say how a façade is run.
type Options struct {
	Listen string                   // "" a free port on 127.0.0.1
	Token  string                   // that callers must show; "" none. Beyond loopback one is demanded
	Keep   func(*exchange.Exchange) // told of each exchange, from several goroutines; may be nil
	// Origins are those whose pages may ask from a browser, scheme://host[:port]; none: no other
	// page may.
	Origins []string
}

// Facade is a listener that answers until it is closed.
type Facade struct {
	o      Options
	ops    []*Operation
	by     map[string]*Operation // by path
	l      net.Listener
	server *http.Server
	api    []byte
	pools  chan *wire.Pool

	mu    sync.Mutex // guards what follows
	saved Saved
}

// Saved is what callers of a façade were spared: bytes of bodies, both ways, and time.
type Saved struct {
	Calls   int           // that reached the service
	SOAP    int64         // bytes of the envelopes
	JSON    int64         // bytes of the JSON, as it crossed
	Service time.Duration // that the calls took
	Own     time.Duration // that making and reading the messages took besides
}

// String says it in a line.
func (s Saved) String() string {
	if s.Calls == 0 {
		return "nothing was called through here"
	}
	n := time.Duration(s.Calls)
	return fmt.Sprintf("%d calls: %s B of JSON in the place of %s B of SOAP; a call took %s, and %s here",
		s.Calls, endpoint.Bytes(s.JSON), endpoint.Bytes(s.SOAP), (s.Service / n).Round(10*time.Microsecond),
		(s.Own / n).Round(10*time.Microsecond))
}

// Saved is what was spared so far.
func (f *Facade) Saved() Saved {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.saved
}

// count adds one call.
func (f *Facade) count(x *exchange.Exchange, json int64, took time.Duration) {
	l := x.Leg()
	if l == nil || l.ResponseBody.IsZero() {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.saved.Calls++
	f.saved.SOAP += int64(len(l.RequestBody)) + l.ResponseBody.Len()
	f.saved.JSON += json
	f.saved.Service += time.Duration(x.TotalNs)
	f.saved.Own += max(took-time.Duration(x.TotalNs), 0)
}

// counting counts the bytes of an answer's body.
type counting struct {
	http.ResponseWriter
	n int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.n += int64(n)
	return n, err
}

// Listen opens a façade.
func Listen(o Options, ops []*Operation) (*Facade, error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	host, _, err := net.SplitHostPort(o.Listen)
	if err != nil {
		return nil, fmt.Errorf("%s is no address to listen at: write HOST:PORT", o.Listen)
	}
	if o.Token == "" && !endpoint.IsLoopback(host) {
		return nil, fmt.Errorf("beyond loopback an access token is demanded: --token-from, or listen on 127.0.0.1")
	}
	for _, origin := range o.Origins {
		if u, err := url.Parse(origin); err != nil || u.Host == "" || u.Scheme+"://"+u.Host != origin {
			return nil, fmt.Errorf("%s is no origin: write scheme://host or scheme://host:port", origin)
		}
	}
	f := &Facade{o: o, ops: ops, by: map[string]*Operation{}, pools: make(chan *wire.Pool, 64)}
	for _, p := range ops {
		if p.Operation.Input == nil || p.Operation.Input.Element == nil {
			continue
		}
		f.by[p.path()] = p
		if p.Short {
			f.by["/"+p.Operation.Name] = p
		}
	}
	if len(f.by) == 0 {
		return nil, errors.New("no operation can be offered")
	}
	if f.api, err = f.OpenAPI(); err != nil {
		return nil, err
	}
	if f.l, err = net.Listen("tcp", o.Listen); err != nil {
		return nil, err
	}
	f.server = &http.Server{
		Handler: http.HandlerFunc(f.serve), ReadTimeout: readTime, ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
	}
	go func() { _ = f.server.Serve(f.l) }()
	return f, nil
}

// Of are the operations of the port that a plan calls, or those of them that are named and the one
// that it calls, as a façade offers them; how they are called is left out. shown gives the draft whose
// values are the example of an operation.
func Of(
	p *call.Plan, only []string, shown func(c *contract.Contract, name string, o *contract.Operation) *message.Draft,
) (out []*Operation) {
	for _, o := range p.Port.Operations {
		if len(only) == 0 || o.Name == p.Operation || slices.Contains(only, o.Name) {
			one := &Operation{
				Name: p.ContractName, Contract: p.Contract, Operation: o, Short: true,
				Draft: shown(p.Contract, p.ContractName, o), Secret: exchange.SecretNames(p.Settings.List("secret")),
			}
			out = append(out, one)
		}
	}
	return out
}

// Pages are the files that a façade of some operations serves besides them, by their path, with or
// without an access token.
func Pages(ops []*Operation, token bool) (map[string][]byte, error) {
	f := &Facade{ops: ops}
	if token {
		f.o.Token = "due"
	}
	api, err := f.OpenAPI()
	return map[string][]byte{
		"/openapi.json": api, "/": f.page(), "/page.js": []byte(pageScript), "/page.css": []byte(pageStyle),
	}, err
}

// Address is where it answers.
func (f *Facade) Address() string { return "http://" + f.l.Addr().String() }

// Close ends it: what is under way is waited for until ctx ends.
func (f *Facade) Close(ctx context.Context) {
	if f.server.Shutdown(ctx) != nil {
		_ = f.server.Close()
	}
	for {
		select {
		case p := <-f.pools:
			p.Close()
		default:
			return
		}
	}
}

// Problem is what went wrong (RFC 9457).
type Problem struct {
	Type     string `json:"type"`               // "about:blank"
	Title    string `json:"title"`              // one line for people
	Status   int    `json:"status"`             // of HTTP
	Detail   string `json:"detail,omitempty"`   // what was seen
	Finding  string `json:"finding,omitempty"`  // stable name of the cause
	Stage    string `json:"stage,omitempty"`    // of the path at which the call stopped
	Says     string `json:"says,omitempty"`     // the service's own words
	Exchange string `json:"exchange,omitempty"` // id of the exchange
}

func (f *Facade) refuse(w http.ResponseWriter, r *http.Request, p Problem) {
	p.Type = "about:blank"
	b, _ := json.Marshal(p)
	f.write(w, r, p.Status, "application/problem+json", append(b, '\n'))
}

// serve answers one request.
func (f *Facade) serve(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "default-src 'self'; script-src 'self'; style-src 'self'; frame-ancestors 'none'")
	switch {
	case !f.ours(r):
		f.refuse(w, r, Problem{Title: "this host is not served here", Status: http.StatusMisdirectedRequest})
		return
	case f.asksFirst(w, r):
		return
	case !f.allowed(r):
		h.Set("WWW-Authenticate", "Bearer")
		f.refuse(w, r, Problem{Title: "an access token is due", Status: http.StatusUnauthorized})
		return
	}
	switch r.URL.Path {
	case "/openapi.json":
		f.write(w, r, http.StatusOK, "application/json", f.api)
		return
	case "/":
		f.write(w, r, http.StatusOK, "text/html; charset=utf-8", f.page())
		return
	case "/page.js":
		f.write(w, r, http.StatusOK, "text/javascript; charset=utf-8", []byte(pageScript))
		return
	case "/page.css":
		f.write(w, r, http.StatusOK, "text/css; charset=utf-8", []byte(pageStyle))
		return
	}
	o := f.by[r.URL.Path]
	switch {
	case o == nil:
		f.refuse(w, r, Problem{Title: "there is no such operation", Status: http.StatusNotFound, Detail: r.URL.Path})
	case r.Method == http.MethodPost:
		f.post(w, r, o)
	case (r.Method == http.MethodGet || r.Method == http.MethodHead) && o.Get:
		f.get(w, r, o)
	default:
		h.Set("Allow", "POST")
		f.refuse(w, r, Problem{Title: "this operation takes POST", Status: http.StatusMethodNotAllowed})
	}
}

// ours tells whether a request is meant for this listener: on loopback, a page whose name
// was made to lead here has another host.
func (f *Facade) ours(r *http.Request) bool {
	own, _, _ := net.SplitHostPort(f.l.Addr().String())
	if !endpoint.IsLoopback(own) {
		return true
	}
	host := r.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	return endpoint.IsLoopback(host)
}

// asksFirst lets pages of the origins that are named ask, and answers a browser that asks whether
// they may (the CORS protocol of the Fetch standard, §3.2).
func (f *Facade) asksFirst(w http.ResponseWriter, r *http.Request) (answered bool) {
	origin := r.Header.Get("Origin")
	if !slices.Contains(f.o.Origins, origin) {
		return false
	}
	h := w.Header()
	h.Set("Access-Control-Allow-Origin", origin)
	h.Set("Access-Control-Expose-Headers", "ETag, X-Exchange")
	if r.Method != http.MethodOptions || r.Header.Get("Access-Control-Request-Method") == "" {
		return false
	}
	h.Set("Access-Control-Allow-Methods", "POST, GET")
	h.Set("Access-Control-Allow-Headers", "Content-Type, Authorization, If-None-Match")
	h.Set("Access-Control-Max-Age", "600")
	h.Set("Vary", vary)
	w.WriteHeader(http.StatusNoContent)
	return true
}

// vary are the fields of a request by which an answer differs.
const vary = "Accept-Encoding, Authorization, Origin"

func (f *Facade) allowed(r *http.Request) bool {
	if f.o.Token == "" {
		return true
	}
	shown, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return is && subtle.ConstantTimeCompare([]byte(shown), []byte(f.o.Token)) == 1
}

func (f *Facade) post(w http.ResponseWriter, r *http.Request, o *Operation) {
	// A page from elsewhere can send plain forms without asking; it cannot send this.
	if media, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || media != "application/json" {
		f.refuse(w, r, Problem{Title: "the body is to be application/json", Status: http.StatusUnsupportedMediaType})
		return
	}
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxRequest))
	if err != nil {
		f.refuse(
			w,
			r,
			Problem{Title: "the body is too large, or was cut off", Status: http.StatusRequestEntityTooLarge},
		)
		return
	}
	f.call(w, r, o, b)
}

// get makes the JSON of an operation from the query.
func (f *Facade) get(w http.ResponseWriter, r *http.Request, o *Operation) {
	values := map[string]any{}
	query := r.URL.Query()
	for name, all := range query {
		if name != "fields" && len(all) > 0 {
			values[name] = all[0]
		}
	}
	b, err := json.Marshal(values)
	if err != nil {
		f.refuse(w, r, Problem{Title: "the query cannot be read", Status: http.StatusBadRequest})
		return
	}
	f.call(w, r, o, b)
}

// call makes the message, sends it, and answers with the reply as JSON.
func (f *Facade) call(w http.ResponseWriter, r *http.Request, o *Operation, src []byte) {
	begun, c := time.Now(), &counting{ResponseWriter: w}
	if x := f.called(c, r, o, src); x != nil {
		f.count(x, int64(len(src))+c.n, time.Since(begun))
	}
}

// called gives the exchange, nil where none was made.
func (f *Facade) called(w http.ResponseWriter, r *http.Request, o *Operation, src []byte) *exchange.Exchange {
	body, err := data.XML(o.Contract.Schemas, o.Operation.Input.Element, src)
	if err != nil {
		f.refuse(
			w,
			r,
			Problem{Title: "the JSON does not fit the operation", Status: http.StatusBadRequest, Detail: err.Error()},
		)
		return nil
	}
	plan, err := o.Plan()
	if err != nil {
		f.refuse(
			w,
			r,
			Problem{Title: "the operation cannot be called", Status: http.StatusBadGateway, Detail: err.Error()},
		)
		return nil
	}
	plan.Draft = message.NewDraft(o.Contract.Schemas, o.Operation.Input.Element, body)
	select {
	case plan.Pool = <-f.pools:
	default:
		plan.Pool = &wire.Pool{}
	}
	x := call.New(plan, nil).Run(r.Context())
	select {
	case f.pools <- plan.Pool:
	default:
		plan.Pool.Close()
	}
	if f.o.Keep != nil {
		f.o.Keep(x)
	}
	w.Header().Set("X-Exchange", x.ID)
	if x.Outcome != exchange.OutcomePassed {
		f.refuse(w, r, problemOf(x))
		return x
	}
	f.answer(w, r, o, x)
	return x
}

func (f *Facade) answer(w http.ResponseWriter, r *http.Request, o *Operation, x *exchange.Exchange) {
	l := x.Leg()
	if o.Operation.Output == nil || l == nil || l.ResponseBody.IsZero() {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	d, err := xmltree.Parse(l.Readable(), xmltree.Limits{})
	if err != nil {
		f.refuse(w, r, Problem{Title: "the reply cannot be read", Status: http.StatusBadGateway, Exchange: x.ID})
		return
	}
	n := d.Root()
	if e := soap.Read(d); e != nil && !e.Payload.IsZero() {
		n = e.Payload
	}
	var pick []string
	if fields := r.URL.Query().Get("fields"); fields != "" {
		pick = strings.Split(fields, ",")
	}
	var compact bytes.Buffer
	if json.Compact(&compact, data.Slim(o.Contract.Schemas, o.Operation.Output.Element, n, pick)) != nil {
		title := "the reply cannot be given as JSON"
		f.refuse(w, r, Problem{Title: title, Status: http.StatusBadGateway, Exchange: x.ID})
		return
	}
	compact.WriteByte('\n')
	f.write(w, r, http.StatusOK, "application/json", compact.Bytes())
}

// problemOf is what a call that did not pass is to its caller.
func problemOf(x *exchange.Exchange) Problem {
	p := Problem{
		Title:    "the call did not pass",
		Status:   http.StatusBadGateway,
		Stage:    x.StoppedAt.String(),
		Exchange: x.ID,
	}
	if c := x.Cause(); c != nil {
		p.Title, p.Detail, p.Finding = c.Title, c.Why, c.ID
	}
	p.Says = x.Stage(exchange.Read).Facts.Get("fault reason")
	switch {
	case x.Outcome == exchange.OutcomeCancelled:
		p.Title, p.Status = "the call was halted", http.StatusServiceUnavailable
	case strings.HasPrefix(p.Finding, "read.fault-security-missing"), p.Finding == "receive.unauthorized":
		p.Status = http.StatusUnauthorized
	case strings.HasPrefix(p.Finding, "read.fault-security"),
		strings.HasPrefix(p.Finding, "security."),
		p.Finding == "receive.forbidden":
		p.Status = http.StatusForbidden
	case strings.HasPrefix(p.Finding, "message."):
		p.Status = http.StatusBadRequest
	case strings.HasSuffix(p.Finding, ".timed-out"), strings.HasSuffix(p.Finding, ".stalled"):
		p.Status = http.StatusGatewayTimeout
	}
	return p
}

// write answers: with an ETag, and compressed where that is taken.
func (f *Facade) write(w http.ResponseWriter, r *http.Request, status int, kind string, b []byte) {
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("Vary", vary)
	if status == http.StatusOK {
		sum := sha256.Sum256(b)
		tag := `"` + hex.EncodeToString(sum[:12]) + `"`
		h.Set("ETag", tag)
		h.Set("Cache-Control", "no-cache")
		if known := r.Header.Get("If-None-Match"); known != "" &&
			slices.ContainsFunc(strings.Split(known, ","), func(s string) bool {
				return strings.TrimPrefix(strings.TrimSpace(s), "W/") == tag
			}) {
			w.WriteHeader(http.StatusNotModified)
			return
		}
	} else {
		h.Set("Cache-Control", "no-store")
	}
	if len(b) >= squeezed && strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		var packed bytes.Buffer
		z, _ := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
		_, _ = z.Write(b)
		_ = z.Close()
		h.Set("Content-Encoding", "gzip")
		b = packed.Bytes()
	}
	h.Set("Content-Length", fmt.Sprint(len(b)))
	w.WriteHeader(status)
	if r.Method != http.MethodHead {
		_, _ = w.Write(b)
	}
}

const pageStyle = `body{font:16px/1.5 system-ui,sans-serif;max-width:52rem;margin:2rem auto;padding:0 1rem;
color:#222;background:#fff}
h2{margin-top:2rem;border-bottom:1px solid #767676}
textarea{box-sizing:border-box;width:100%;min-height:9rem;font:14px/1.4 monospace}
pre{background:#f4f4f0;padding:.6rem;overflow:auto}pre:empty{display:none}button{font:inherit;padding:.3rem 1rem}
label{display:block;font-weight:600}
`

const pageScript = `// Lays JSON out, without reading its numbers: their digits stay.
function laid(text) {
  var depth = 0, quoted = false, out = "";
  for (var i = 0; i < text.length; i++) {
    var c = text[i];
    if (quoted) {
      out += c;
      if (c === "\\") { out += text[++i]; } else if (c === '"') { quoted = false; }
    } else if (c === '"') {
      quoted = true; out += c;
    } else if (c === "{" || c === "[") {
      out += c + "\n" + "  ".repeat(++depth);
    } else if (c === "}" || c === "]") {
      out += "\n" + "  ".repeat(--depth) + c;
    } else if (c === ",") {
      out += c + "\n" + "  ".repeat(depth);
    } else {
      out += c === ":" ? ": " : c.trim();
    }
  }
  return out;
}

document.querySelectorAll("form").forEach(function (form) {
  form.addEventListener("submit", function (event) {
    event.preventDefault();
    var out = form.querySelector("pre");
    out.textContent = "…";
    fetch(form.getAttribute("action"), {
      method: "POST", headers: { "Content-Type": "application/json" }, body: form.querySelector("textarea").value
    }).then(function (answer) {
      return answer.text().then(function (text) { out.textContent = answer.status + "\n" + laid(text); });
    }, function (error) { out.textContent = String(error); });
  });
});
`

// page is a plain form for each operation.
func (f *Facade) page() []byte {
	var b strings.Builder
	esc := html.EscapeString
	fmt.Fprintf(&b, `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>%s</title>
<link rel="stylesheet" href="/page.css"></head><body><h1>%s</h1>
<p>Each operation takes JSON. The whole is described in <a href="/openapi.json">openapi.json</a>.</p>
`, esc(f.title()), esc(f.title()))
	for i, o := range f.ops {
		if o.Operation.Input == nil || o.Operation.Input.Element == nil {
			continue
		}
		fmt.Fprintf(&b, `<h2 id="o%d">%s</h2><p>%s</p><form action="%s" method="post" aria-labelledby="o%d">`+
			`<label for="b%d">JSON</label><textarea id="b%d" spellcheck="false">%s</textarea>`+
			"<p><button>Send</button></p><pre role=\"status\" aria-live=\"polite\"></pre></form>\n",
			i, esc(o.Operation.Name), esc(o.Operation.Documentation), esc(o.path()), i, i, i, esc(string(o.example())))
	}
	b.WriteString(`<script src="/page.js"></script></body></html>` + "\n")
	return []byte(b.String())
}

// example is JSON that the operation takes: the draft's values, or made up ones where there is none, or
// where it holds a secret.
func (o *Operation) example() []byte {
	set, e := o.Contract.Schemas, o.Operation.Input.Element
	if d := o.Draft; d != nil && d.Err() == nil && len(d.Secrets(o.Secret)) == 0 {
		filled := d.WithExamples(schema.ExampleDay())
		if body := filled.Body(); !body.IsZero() && filled.Err() == nil {
			return data.JSON(set, e, body)
		}
	}
	src := message.Sample(set, e, message.Want{All: true, Example: &schema.Examples{Day: schema.ExampleDay()}})
	d, err := xmltree.Parse(src, xmltree.Limits{})
	if err != nil {
		return nil
	}
	return data.JSON(set, e, d.Root())
}
