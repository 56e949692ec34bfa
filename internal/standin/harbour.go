// Package standin is the Skerry Harbour Trust: simulated services over real
// sockets on loopback, for the demo, for tests and for trying things out. Each
// can be told to misbehave in the ways of the catalogue of causes.
package standin

//revive:disable:line-length-limit an answer is one line

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"context"
	"crypto/tls"
	"embed"
	"errors"
	"fmt"
	"io"
	"log"
	"maps"
	"mime"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"orenda/internal/contract"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

//go:embed contracts
var contracts embed.FS

// The harbour's one user, for services that ask who calls.
const (
	User     = "pilot-desk"
	Password = "slack water at nine"
)

// Options steer a harbour.
type Options struct {
	Plain, TLS string        // listening addresses; "" a free port on 127.0.0.1
	Misbehave  string        // the id of a misbehaviour for every call; see Misbehaviours
	Slow       time.Duration // how long a slow answer waits
}

// Harbour is the running stand-in.
type Harbour struct {
	Plain, TLS string      // host:port
	Cert       *trust.Pair // of its TLS
	Desk       *Desk       // the manifest desk's key, and who vouches for its clerks

	opts     Options
	services map[string]*service // by path
	servers  []*http.Server
	wg       sync.WaitGroup
	mu       sync.Mutex
	orders   int
	turns    int                 // at the unsteady service
	tries    int                 // at the one that locks out
	invoices map[string]*invoice // by number
	papers   map[string][]byte   // by receipt
}

// service is one of the harbour's services.
type service struct {
	path, file string // path it is served at; its description
	contract   *contract.Contract
	port       *contract.Port
	secure     *wssec.Checker // over TLS or always: who calls
	always     bool           // the token is demanded on the plain port too
	desk       *Desk          // signatures are demanded, encryption is understood
	header     schema.QName   // a header block that is demanded; zero: none
	answer     func(h *Harbour, op string, body xmltree.Node) (string, *fault)
}

type fault struct {
	code   string // Client, Server, or a local name in the WSSE namespace
	reason string
	detail string
	secure bool
}

// Start opens the harbour.
func Start(opts Options) (*Harbour, error) {
	h := &Harbour{opts: opts, invoices: map[string]*invoice{}, papers: map[string][]byte{}}
	now := time.Now()
	var err error
	h.Cert, err = trust.Issue(
		trust.Wish{
			Name: "tides.skerry.test",
			Hosts: []string{
				"tides.skerry.test",
				"berths.skerry.test",
				"pilots.skerry.test",
				"dues.skerry.test",
				"localhost",
				"127.0.0.1",
			},
			NotBefore: now.Add(-24 * time.Hour),
			NotAfter:  now.AddDate(1, 0, 0),
		},
	)
	if err != nil {
		return nil, err
	}
	listen := func(addr string) (net.Listener, error) {
		if addr == "" {
			addr = "127.0.0.1:0"
		}
		if host, _, err := net.SplitHostPort(addr); err != nil || net.ParseIP(host) == nil ||
			!net.ParseIP(host).IsLoopback() {
			return nil, fmt.Errorf("the stand-ins listen on loopback only, not on %s", addr)
		}
		return net.Listen("tcp", addr)
	}
	plain, err := listen(opts.Plain)
	if err != nil {
		return nil, err
	}
	secure, err := listen(opts.TLS)
	if err != nil {
		plain.Close()
		return nil, err
	}
	h.Plain, h.TLS = plain.Addr().String(), secure.Addr().String()
	if h.Desk, err = newDesk(); err != nil {
		plain.Close()
		secure.Close()
		return nil, err
	}
	if err := h.load(); err != nil {
		plain.Close()
		secure.Close()
		return nil, err
	}
	conf := &tls.Config{Certificates: []tls.Certificate{h.Cert.TLS()}, NextProtos: []string{"http/1.1"}}
	for _, l := range []net.Listener{plain, tls.NewListener(secure, conf)} {
		s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
		h.servers = append(h.servers, s)
		h.wg.Add(1)
		go func() {
			defer h.wg.Done()
			_ = s.Serve(l)
		}()
	}
	return h, nil
}

// Close ends the harbour and waits for it.
func (h *Harbour) Close() {
	for _, s := range h.servers {
		_ = s.Close()
	}
	h.wg.Wait()
}

func (h *Harbour) load() error {
	h.services = map[string]*service{}
	checker := func(types ...wssec.PasswordType) *wssec.Checker {
		return &wssec.Checker{
			Types:    types,
			Window:   5 * time.Minute,
			Password: func(u string) (string, bool) { return Password, u == User },
		}
	}
	pilots := checker(wssec.Digest)
	pilots.Timestamp = true
	for _, s := range []*service{
		{path: "/berths", file: "berths.wsdl", answer: berths},
		{path: "/berths12", file: "berths.wsdl", answer: berths},
		{path: "/tides", file: "tides.wsdl", answer: tides, secure: checker(wssec.Digest, wssec.Text)},
		{path: "/callsigns", file: "callsigns.wsdl", answer: callSigns},
		{path: "/callsigns-next", file: "callsigns.wsdl", answer: nextCallSigns},
		{path: "/callsigns-unsteady", file: "callsigns.wsdl", answer: unsteadyCallSigns},
		{path: "/callsigns-locks", file: "callsigns.wsdl", answer: lockedCallSigns},
		{path: "/dues", file: "dues.wsdl", answer: dues, header: clerk},
		{path: "/manifests", file: "manifests.wsdl", desk: h.Desk},
		{path: "/papers", file: "papers.wsdl", answer: papers},
		{path: "/pilots", file: "pilots.wsdl", answer: pilotOrders, secure: pilots, always: true},
	} {
		src, err := contracts.ReadFile("contracts/" + s.file)
		if err != nil {
			return err
		}
		s.contract, err = contract.Load(
			context.Background(),
			"contracts/"+s.file,
			src,
			func(_ context.Context, loc string) ([]byte, error) { return contracts.ReadFile(loc) },
		)
		if err != nil {
			return err
		}
		s.port = s.contract.Ports()[0]
		if s.path == "/berths12" {
			s.port = s.contract.Port("BerthDesk12")
		}
		h.services[s.path] = s
	}
	return nil
}

// Row is one line of the table of addresses.
type Row struct {
	Service string `json:"service"`        // its name
	Port    string `json:"port"`           // name of the port
	SOAP    string `json:"soap"`           // 1.1 or 1.2
	Address string `json:"address"`        // where it is called
	WSDL    string `json:"wsdl"`           // where its description is
	Asks    string `json:"asks,omitempty"` // what security it wants
}

// Table lists all ports with their addresses.
func (h *Harbour) Table() []Row {
	plain, secure := "http://"+h.Plain, "https://"+h.TLS
	return []Row{
		{"Berth desk", "BerthDesk11", "1.1", plain + "/berths", plain + "/berths?wsdl", ""},
		{"Berth desk", "BerthDesk12", "1.2", plain + "/berths12", plain + "/berths?wsdl", ""},
		{"Berth desk", "BerthDeskTLS", "1.1", secure + "/berths", secure + "/berths?wsdl", ""},
		{"Tide tables", "TideTables", "1.1", plain + "/tides", plain + "/tides?wsdl", ""},
		{"Tide tables", "TideTablesTLS", "1.1", secure + "/tides", secure + "/tides?wsdl", "user name token"},
		{"Call signs", "CallSigns", "1.1", plain + "/callsigns", plain + "/callsigns?wsdl", ""},
		{"Harbour dues", "HarbourDues", "1.1", plain + "/dues", plain + "/dues?wsdl", "header block Clerk"},
		{
			"Manifests",
			"Manifests",
			"1.1",
			plain + "/manifests",
			plain + "/manifests?wsdl",
			"a signature over body and timestamp",
		},
		{"Harbour gate", "", "1.1", plain + gatePath, "", "user name token; it gives an assertion"},
		{"Ship's papers", "Papers", "1.1", plain + "/papers", plain + "/papers?wsdl", ""},
		{
			"Pilot orders",
			"PilotOrders",
			"1.2",
			plain + "/pilots",
			plain + "/pilots?wsdl",
			"user name token, digest; timestamp",
		},
	}
}

// ServeHTTP answers descriptions and calls. A path that ends in /~ID misbehaves
// in that way.
//
//revive:disable-next-line:function-length one request, answered in one place
//revive:disable-next-line:cyclomatic one request, answered in one place
func (h *Harbour) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	path, bad, _ := strings.Cut(r.URL.Path, "/~")
	if bad == "" {
		bad = h.opts.Misbehave
	}
	if bad == "receive.expectation-refused" && r.Header.Get("Expect") != "" {
		w.WriteHeader(http.StatusExpectationFailed) // before the body is read, so that no leave is given
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<20))
	if err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			http.Error(w, "too large", http.StatusRequestEntityTooLarge)
		}
		return
	}
	if strings.EqualFold(r.Header.Get("Content-Encoding"), "gzip") && bad != "receive.coding-refused" {
		if body, err = inflated(body); err != nil {
			http.Error(w, "that is no gzip", http.StatusBadRequest)
			return
		}
	}
	if bad == "receive.coding-refused" && r.Header.Get("Content-Encoding") == "" ||
		bad == "receive.length-required" && r.ContentLength >= 0 {
		bad = "" // it takes the rest
	}
	if bad == "read.fault-addressing" && bytes.Contains(body, []byte("http://www.w3.org/2005/08/addressing")) {
		bad = "" // now they are there
	}
	if m := misbehaviours[bad]; m.do != nil && (r.Method == http.MethodPost || m.everywhere) {
		m.do(h, w, r, h.services[path])
		return
	}
	if path == gatePath && r.Method == http.MethodPost {
		reply, status := h.Desk.Gate.answer(body, time.Now())
		w.Header().Set("Content-Type", soap.V11.MediaType()+"; charset=utf-8")
		w.WriteHeader(status)
		_, _ = w.Write(reply)
		return
	}
	s := h.services[path]
	if s == nil {
		if name := strings.TrimPrefix(r.URL.Path, "/"); r.Method == http.MethodGet && !strings.Contains(name, "/") {
			if src, err := contracts.ReadFile("contracts/" + name); err == nil {
				h.describe(w, src)
				return
			}
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.URL.Path == "/" {
			h.index(w)
			return
		}
		w.WriteHeader(http.StatusNotFound)
		fmt.Fprintf(
			w,
			"<!DOCTYPE html><html><head><title>No such quay</title></head><body><p>The harbour has no service at "+
				"this path.</p></body></html>",
		)
		return
	}
	if r.Method == http.MethodGet {
		if strings.EqualFold(r.URL.RawQuery, "wsdl") {
			src, _ := contracts.ReadFile("contracts/" + s.file)
			h.describe(w, src)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(
			w,
			"<!DOCTYPE html><html><head><title>%s</title></head><body><p>This is a service. Its description is at <a "+
				"href=\"%s?wsdl\">%s?wsdl</a>.</p></body></html>",
			s.port.Service.Name,
			path,
			path,
		)
		return
	}
	if h.opts.Slow > 0 {
		time.Sleep(h.opts.Slow)
	}
	envelope, parts, packing, refused := unpack(r.Header.Get("Content-Type"), body)
	reply, status := []byte(nil), 0
	if refused != nil {
		reply, status = faultEnvelope(s.port.Version, refused), statusOf(s.port.Version, refused)
	} else {
		reply, status = h.call(s, r, envelope, parts)
	}
	w.Header().Set("Content-Type", s.port.Version.MediaType()+"; charset=utf-8")
	if packing != "" && reply != nil && refused == nil {
		var kind string
		kind, reply = h.pack(packing, s.port.Version, reply)
		w.Header().Set("Content-Type", kind)
	}
	if to := replyTo(body, status >= http.StatusBadRequest); to != "" && reply != nil {
		kind, late := w.Header().Get("Content-Type"), bad
		reply = relating(reply, body)
		w.Header().Del("Content-Type")
		if late == "wait.answer-early" {
			h.answerLater(to, s.port.Version.MediaType(), reply)
		}
		w.WriteHeader(http.StatusAccepted)
		if late == "wait.answer-missing" || late == "wait.answer-early" || kind == "" {
			return
		}
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		go func() {
			time.Sleep(20 * time.Millisecond)
			h.answerLater(to, s.port.Version.MediaType(), reply)
		}()
		return
	}
	if reply == nil {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	reply = compressed(w, r, reply)
	w.Header().Set("Content-Length", fmt.Sprint(len(reply)))
	w.WriteHeader(status)
	_, _ = w.Write(reply)
}

// inflated is a request as it was before it was compressed.
func inflated(body []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(z, 64<<20))
}

// gzips are compressors that nobody uses now.
//
//nolint:gochecknoglobals // a pool
var gzips = sync.Pool{New: func() any { return gzip.NewWriter(nil) }}

// compressed is a reply in a coding that the caller takes (RFC 9110 §8.4).
func compressed(w http.ResponseWriter, r *http.Request, reply []byte) []byte {
	accept := r.Header.Get("Accept-Encoding")
	var b bytes.Buffer
	var c io.WriteCloser
	switch {
	case strings.Contains(accept, "gzip"):
		z, _ := gzips.Get().(*gzip.Writer)
		defer gzips.Put(z)
		z.Reset(&b)
		c = z
		w.Header().Set("Content-Encoding", "gzip")
	case strings.Contains(accept, "deflate"):
		c = zlib.NewWriter(&b)
		w.Header().Set("Content-Encoding", "deflate")
	default:
		return reply
	}
	_, _ = c.Write(reply)
	_ = c.Close()
	return b.Bytes()
}

// replyAddressing are the addressing headers of the reply, or the fault, to a message that has them
// (WS-Addressing 1.0 Core §3.4, SOAP Binding §6).
func replyAddressing(e *soap.Envelope, fault bool) [][]byte {
	for _, ns := range soap.AddressingNS {
		id := e.Header.Child(ns, "MessageID")
		if id.IsZero() {
			continue
		}
		action := strings.TrimSpace(e.Header.Child(ns, "Action").Text()) + "Response"
		if fault {
			action = ns + "/fault"
		}
		const block = `    <wsa:%s xmlns:wsa="%s">%s</wsa:%[1]s>`
		return [][]byte{
			fmt.Appendf(nil, block, "Action", ns, xmltree.EscapeText(action)),
			fmt.Appendf(nil, block, "RelatesTo", ns, xmltree.EscapeText(id.Text())),
		}
	}
	return nil
}

// index is the page that lists the services with their descriptions.
func (h *Harbour) index(w io.Writer) {
	fmt.Fprint(w, "<!DOCTYPE html><html><head><title>Skerry Harbour Trust</title></head><body><ul>")
	for _, path := range slices.Sorted(maps.Keys(h.services)) {
		fmt.Fprintf(w, "<li><a href=%q>%s</a></li>", path+"?wsdl", h.services[path].port.Service.Name)
	}
	fmt.Fprint(w, "</ul></body></html>")
}

// describe serves a description with the addresses at which it really is.
func (h *Harbour) describe(w http.ResponseWriter, src []byte) {
	for _, name := range []string{"berths", "tides", "pilots", "callsigns", "dues", "manifests", "papers"} {
		src = bytes.ReplaceAll(src, []byte("http://"+name+".skerry.test"), []byte("http://"+h.Plain))
		src = bytes.ReplaceAll(src, []byte("https://"+name+".skerry.test"), []byte("https://"+h.TLS))
	}
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	_, _ = w.Write(src)
}

// call answers one envelope, as a service of its contract would.
//
//revive:disable-next-line:cyclomatic one request, answered in one place
func (h *Harbour) call(s *service, r *http.Request, body []byte, parts []soap.Attached) (reply []byte, status int) {
	v := s.port.Version
	refuse := func(f *fault) ([]byte, int) { return faultEnvelope(v, f), statusOf(v, f) }
	if media := soap.VersionOfMedia(r.Header.Get("Content-Type")); media != v {
		return refuseMedia(v, r.Header.Get("Content-Type"))
	}
	var clerk who
	sealed := false
	if s.desk != nil {
		var no *fault
		if body, clerk, sealed, no = s.desk.open(body); no != nil {
			return refuse(no)
		}
	}
	_, params, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	charset := params["charset"]
	if !xmltree.Known(charset) || strings.EqualFold(charset, "utf-8") { // a lenient service: the message says it better
		charset = ""
	}
	d, err := xmltree.ParseEncoded(body, charset, xmltree.Limits{Depth: 200})
	if err != nil {
		return refuse(&fault{code: "Client", reason: "the request cannot be read: " + err.Error()})
	}
	e := soap.Read(d)
	if e == nil || e.Version != v {
		return refuse(&fault{code: "VersionMismatch", reason: "an envelope of SOAP " + v.String() + " is due"})
	}
	if s.secure != nil && (s.always || r.TLS != nil) {
		if _, no := s.secure.Check(e); no != nil {
			return refuse(&fault{code: no.Code, reason: no.Why, secure: true})
		}
	}
	if s.header != (schema.QName{}) && e.Header.Child(s.header.Space, s.header.Local).IsZero() {
		return refuse(&fault{code: "Client", reason: "the header block " + s.header.Local + " is due"})
	}
	if e.Payload.IsZero() {
		return refuse(&fault{code: "Client", reason: "the body is empty"})
	}
	op := s.port.ByBody(schema.NameOf(e.Payload.Name()))
	if op == nil {
		return refuse(&fault{code: "Client", reason: "no such operation: " + e.Payload.Name().Local})
	}
	if v == soap.V11 {
		if a := strings.Trim(r.Header.Get("SOAPAction"), `"`); a != op.Action {
			return refuse(
				&fault{code: "Client", reason: fmt.Sprintf("the SOAPAction %q is not that of %s", a, op.Name)},
			)
		}
	}
	if errs := s.contract.Schemas.Validate(e.Payload, op.Input.Element, schema.Options{Max: 1}); len(errs) > 0 {
		return refuse(&fault{code: "Client", reason: "the message breaks its schema: " + errs[0].Message})
	}
	if s.desk != nil {
		reply, _ = soap.Build(v, nil, []byte(h.manifest(e.Payload, clerk.name)))
		return s.desk.seal(reply, clerk.cert, sealed), http.StatusOK
	}
	out, f := s.answer(h, op.Name, inlined(e.Payload, parts))
	if f != nil {
		return refuse(f)
	}
	if op.OneWay() {
		return nil, http.StatusAccepted
	}
	reply, _ = soap.Build(v, replyAddressing(e, false), []byte(out))
	return reply, http.StatusOK
}

// refuseMedia refuses a media type in the way of many servers.
func refuseMedia(v soap.Version, got string) ([]byte, int) {
	return faultEnvelope(
		v,
		&fault{code: "Client", reason: fmt.Sprintf("the media type %q is not taken here", got)},
	), http.StatusUnsupportedMediaType
}

func statusOf(v soap.Version, f *fault) int {
	if v == soap.V12 && f.code != "Server" {
		return http.StatusBadRequest // SOAP 1.2 part 2 §7.5.2.2
	}
	return http.StatusInternalServerError
}

func faultEnvelope(v soap.Version, f *fault) []byte {
	code, sub := "soap:"+f.code, ""
	if f.secure {
		code, sub = "wsse:"+f.code, ""
	}
	detail := ""
	if v == soap.V12 {
		code = map[string]string{"Client": "soap:Sender", "Server": "soap:Receiver"}[f.code]
		if code == "" {
			code = "soap:" + f.code
		}
		if f.secure {
			code, sub = "soap:Sender", "<soap:Subcode><soap:Value>wsse:"+f.code+"</soap:Value></soap:Subcode>"
		}
		if f.detail != "" {
			detail = "<soap:Detail>" + f.detail + "</soap:Detail>"
		}
		out, _ := soap.Build(
			v,
			nil,
			[]byte(
				`    <soap:Fault xmlns:wsse="`+wssec.WSSE+`"><soap:Code><soap:Value>`+code+`</soap:Value>`+sub+`</soap:Code><soap:Reason><soap:Text xml:lang="en">`+
					xmltree.EscapeText(f.reason)+`</soap:Text></soap:Reason>`+detail+`</soap:Fault>`,
			),
		)
		return out
	}
	if f.detail != "" {
		detail = "<detail>" + f.detail + "</detail>"
	}
	out, _ := soap.Build(
		v,
		nil,
		[]byte(
			`    <soap:Fault xmlns:wsse="`+wssec.WSSE+`"><faultcode>`+code+`</faultcode><faultstring>`+xmltree.EscapeText(
				f.reason,
			)+`</faultstring>`+detail+`</soap:Fault>`,
		),
	)
	return out
}

// WriteContracts puts the harbour's descriptions into a folder, for those who
// want them as files.
func WriteContracts(dir string) error {
	entries, err := contracts.ReadDir("contracts")
	if err != nil {
		return err
	}
	for _, e := range entries {
		b, err := contracts.ReadFile("contracts/" + e.Name())
		if err != nil {
			return err
		}
		if err := os.WriteFile(dir+"/"+e.Name(), b, 0o600); err != nil {
			return err
		}
	}
	return nil
}
