package call_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/wire"
)

// How a healthy server may send one and the same reply.
var manners = []struct {
	name string
	send func(w http.ResponseWriter, contentType string, body []byte)
}{
	{"declared", func(w http.ResponseWriter, ct string, body []byte) {
		w.Header().Set("Content-Type", ct)
		w.Header().Set("Content-Length", fmt.Sprint(len(body)))
		_, _ = w.Write(body)
	}},
	{"chunked", func(w http.ResponseWriter, ct string, body []byte) {
		w.Header().Set("Content-Type", ct)
		for len(body) > 0 {
			n := min(len(body), 700)
			_, _ = w.Write(body[:n])
			w.(http.Flusher).Flush()
			body = body[n:]
		}
	}},
	{"compressed", func(w http.ResponseWriter, ct string, body []byte) {
		w.Header().Set("Content-Type", ct)
		w.Header().Set("Content-Encoding", "gzip")
		z := gzip.NewWriter(w)
		_, _ = z.Write(body)
		z.Close()
	}},
	{"quoted charset", func(w http.ResponseWriter, ct string, body []byte) {
		media, _, _ := strings.Cut(ct, ";")
		w.Header().Set("Content-Type", media+`; charset="UTF-8"`)
		_, _ = w.Write(body)
	}},
	{"byte order mark", func(w http.ResponseWriter, ct string, body []byte) {
		w.Header().Set("Content-Type", ct)
		_, _ = w.Write([]byte("\xEF\xBB\xBF"))
		_, _ = w.Write(body)
	}},
	{"latin 1", func(w http.ResponseWriter, ct string, body []byte) {
		media, _, _ := strings.Cut(ct, ";")
		w.Header().Set("Content-Type", media+"; charset=ISO-8859-1")
		_, _ = w.Write(
			bytes.ReplaceAll(bytes.ReplaceAll(body, []byte("UTF-8"), []byte("ISO-8859-1")), []byte("é"), []byte{0xe9}),
		)
	}},
	{"utf-16", func(w http.ResponseWriter, ct string, body []byte) {
		media, _, _ := strings.Cut(ct, ";")
		w.Header().Set("Content-Type", media)
		out := []byte{0xff, 0xfe}
		for _, r := range strings.ReplaceAll(string(body), "UTF-8", "UTF-16") {
			out = append(out, byte(r), byte(r>>8))
		}
		_, _ = w.Write(out)
	}},
}

// TestHealthyExchangesRaiseNoAlarm sends thousands of varied, healthy calls:
// versions, ways of sending, sizes, encodings, spellings of the envelope.
func TestHealthyExchangesRaiseNoAlarm(t *testing.T) {
	h := harbour(t)
	f := fetch(t, "http://"+h.Plain+"/berths?wsdl")
	version, manner, body := soap.V11, 0, ""
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		manners[manner].send(w, version.MediaType()+"; charset=utf-8", []byte(body))
	})}
	done := make(chan struct{})
	go func() { defer close(done); _ = srv.Serve(l) }()
	defer func() { srv.Close(); <-done }()
	pool := &wire.Pool{}
	defer pool.Close()
	r := rand.New(rand.NewPCG(3, 9))
	prefixes := []string{"soap", "s", "SOAP-ENV", ""}
	n := 0
	for version = soap.V11; version <= soap.V12; version++ {
		port := map[soap.Version]string{soap.V11: "BerthDesk11", soap.V12: "BerthDesk12"}[version]
		p := call.Plan{
			Contract:  f.Contract,
			Served:    f.Served,
			Operation: "FindBerths",
			Endpoint:  "berths",
			Agent:     "test",
			Port:      f.Contract.Port(port),
			Pool:      pool,
		}
		p.SetDraft([]byte(find))
		p.Settings.Layers = []endpoint.Layer{
			{Source: "contract", Values: map[string][]string{"soap": {version.String()}}},
			{Source: "endpoint", Values: map[string][]string{"address": {"http://" + l.Addr().String() + "/"}}},
		}
		for manner = range manners {
			for range 150 {
				n++
				pre := prefixes[r.IntN(len(prefixes))]
				open, decl := pre+":", "xmlns:"+pre
				if pre == "" {
					open, decl = "", "xmlns"
				}
				var b strings.Builder
				b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>`)
				if r.IntN(2) == 0 {
					b.WriteString("\n<!-- quay é -->\n")
				}
				fmt.Fprintf(&b, "<%sEnvelope %s='%s'>", open, decl, version.Namespace())
				if r.IntN(3) == 0 {
					fmt.Fprintf(&b, "<%sHeader><x:note xmlns:x='urn:note'>é</x:note></%sHeader>", open, open)
				}
				fmt.Fprintf(&b, "<%sBody>\n<q:FindBerthsResponse xmlns:q='urn:skerry:berths'>", open)
				for range r.IntN(60) {
					fmt.Fprintf(
						&b,
						"<q:berth free='%t'>\t<q:code>N%02d</q:code><q:length> %d.5 "+
							"</q:length><q:depth>3</q:depth><q:quay>é &amp; <![CDATA[<quay>]]></q:quay></q:berth>",
						r.IntN(2) == 0,
						r.IntN(100),
						r.IntN(300)+1,
					)
				}
				fmt.Fprintf(&b, "</q:FindBerthsResponse></%sBody></%sEnvelope>\n", open, open)
				body = b.String()
				x := run(t, p)
				if !assert.Empty(t, ids(x), "%s, SOAP %s: %s", manners[manner].name, version, body) {
					return
				}
				require.Equal(t, exchange.OutcomePassed, x.Outcome)
			}
		}
	}
	t.Logf("%d healthy exchanges, no finding", n)
}

func TestTheHarbourItselfRaisesNoAlarm(t *testing.T) {
	h := harbour(t)
	dir := t.TempDir()
	cert, word := dir+"/c.pem", dir+"/word"
	require.NoError(t, os.WriteFile(cert, trust.PEM(h.Cert.Cert), 0o600))
	require.NoError(t, os.WriteFile(word, []byte(standin.Password+"\n"), 0o600))
	for _, c := range []struct{ wsdl, port, op, draft, token, stamp string }{
		{"berths", "BerthDesk11", "FindBerths", find, "none", ""},
		{"berths", "BerthDesk12", "FindBerths", find, "none", ""},
		{"berths", "BerthDeskTLS", "FindBerths", find, "none", ""},
		{"berths", "BerthDesk12", "LogSighting",
			`<LogSighting xmlns="urn:skerry:berths"><vessel><name>Alder</name><callSign>SKAL4</callSign></vessel><at>2027-03-01T06:00:00Z</at></LogSighting>`, "none", ""},
		{"tides", "TideTables", "DayTable",
			`<DayTable xmlns="urn:skerry:tides"><station>Sound</station><day>2027-03-01</day></DayTable>`, "none", ""},
		{"tides", "TideTablesTLS", "DayTable",
			`<DayTable xmlns="urn:skerry:tides"><station>Sound</station><day>2027-03-01</day></DayTable>`, "text", ""},
		{"tides", "TideTablesTLS", "DayTable",
			`<DayTable xmlns="urn:skerry:tides"><station>Sound</station><day>2027-03-01</day></DayTable>`, "digest",
			"5m"},
		{"pilots", "PilotOrders", "OrderPilot",
			`<OrderPilot xmlns="urn:skerry:pilots"><callSign>SKAL4</callSign><boarding>outer ground</boarding><at>2027-03-01T08:00:00Z</at></OrderPilot>`, "digest", "1m"},
	} {
		f := fetch(t, "http://"+h.Plain+"/"+c.wsdl+"?wsdl")
		port := f.Contract.Port(c.port)
		p := call.Plan{
			Contract:  f.Contract,
			Served:    f.Served,
			Operation: c.op,
			Endpoint:  "e",
			Agent:     "test",
			Port:      port,
			ReadFile:  os.ReadFile,
			Identity: func(name string) (*identity.Identity, error) {
				return &identity.Identity{Name: name, User: standin.User, Secret: "file:" + word}, nil
			},
		}
		p.SetDraft([]byte(c.draft))
		p.Settings.Layers = []endpoint.Layer{
			{Source: "contract", Values: map[string][]string{"soap": {port.Version.String()}}},
			{
				Source: "endpoint",
				Values: map[string][]string{
					"address":  {port.Address},
					"trust":    {cert},
					"token":    {c.token},
					"identity": {"desk"},
				},
			},
		}
		if c.stamp != "" {
			p.Settings.Layers[1].Values["timestamp"] = []string{c.stamp}
		}
		for range 20 {
			x := run(t, p)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%s %s: %v", c.port, c.op, x.Findings)
			assert.Empty(t, ids(x), "%s %s", c.port, c.op)
		}
	}
}
