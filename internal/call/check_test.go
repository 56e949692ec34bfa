package call_test

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// checked sends a call that fails, and finds out what is behind it.
func checked(t *testing.T, p call.Plan, want string) *exchange.Finding {
	t.Helper()
	before := run(t, p)
	require.NotNil(t, before.Cause(), "it passed")
	require.Equal(t, want, before.Cause().ID)
	require.True(t, before.Cause().Unchecked())
	remedies := len(before.Cause().Remedies)
	x := call.Check(context.Background(), p, before)
	assert.Len(t, before.Cause().Remedies, remedies, "what is kept elsewhere is not changed")
	assert.Empty(t, before.Cause().Hypotheses[0].Answer)
	assert.False(t, x.Cause().Unchecked(), "%+v", x.Cause().Hypotheses)
	return x.Cause()
}

// likely is the possibility that the checks put first.
func likely(t *testing.T, f *exchange.Finding) exchange.Hypothesis {
	t.Helper()
	require.Equal(t, exchange.Confirmed, f.Hypotheses[0].Verdict, "%+v", f.Hypotheses)
	return f.Hypotheses[0]
}

func silent(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func TestAnotherPortAnswers(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "http://"+silent(t)+"/berths")
	f := checked(t, p, "connect.refused")
	assert.Equal(t, "other-port", likely(t, f).ID)
	assert.Contains(t, f.Remedies[0].Change.To, h.Plain, "the contract knows the port")
	p.Settings.Set("address", f.Remedies[0].Change.To.(string))
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome, "the remedy repairs it")

	lonely := p
	lonely.Contract, lonely.Port = nil, nil
	lonely.SetDraft([]byte(find))
	lonely.Settings.Set("address", "http://"+strings.Replace(silent(t), "127.0.0.1", "127.0.0.2", 1)+"/berths")
	assert.Equal(t, "host-silent", likely(t, checked(t, lonely, "connect.refused")).ID)
}

func TestTheOtherProtocolAnswers(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "https://"+h.Plain+"/berths")
	f := checked(t, p, "tls.not-tls")
	assert.Equal(t, "plain-port", likely(t, f).ID)

	// A server of TLS that says nothing to plain HTTP: its silence is told apart.
	pki := newPKI(t)
	pki.issue("good", trust.Wish{Name: "tides", Hosts: []string{"127.0.0.1"}, By: pki.root})
	p = berths(t, h, "/berths")
	p.Settings.Set("address", "http://"+pki.sserver("good")+"/berths")
	p.Settings.Set("answer-time", "1s")
	x := run(t, p)
	require.NotNil(t, x.Cause())
	if x.Cause().ID == "wait.closed" {
		f = checked(t, p, "wait.closed")
		assert.Equal(t, "tls-port", likely(t, f).ID)
		assert.True(t, strings.HasPrefix(f.Remedies[0].Change.To.(string), "https://"))
	}
}

// A host with several certificates: openssl's server shows the second one to those
// who ask for its name.
func TestAnotherNameShowsAnotherCertificate(t *testing.T) {
	p := newPKI(t)
	p.issue("front", trust.Wish{Name: "front", Hosts: []string{"front.skerry.test"}})
	p.issue("tides", trust.Wish{Name: "tides", Hosts: []string{"tides.skerry.test"}, By: p.root})
	at := p.sserver(
		"front",
		"-servername",
		"tides.skerry.test",
		"-cert2",
		p.file("tides.pem"),
		"-key2",
		p.file("tides.key"),
	)
	plan := to(t, at, "trust", p.file("root.pem"))
	plan.Known = func() []string { return []string{"https://tides.skerry.test/tides"} }
	f := checked(t, plan, "tls.self-signed")
	l := likely(t, f)
	assert.Equal(t, "other-name", l.ID)
	assert.Contains(t, l.Answer, "tides.skerry.test")
	require.Equal(t, "endpoint.berths.server-name", f.Remedies[0].Change.Key)
	plan.Settings.Set("server-name", f.Remedies[0].Change.To.(string))
	assert.Greater(t, int(run(t, plan).Reach()), int(exchange.TLS)-1, "it gets further")

	// That a host has several is seen without asking for it, where the name is wrong.
	p.issue("third", trust.Wish{Name: "third", Hosts: []string{"third.skerry.test"}, By: p.root})
	at = p.sserver(
		"front",
		"-servername",
		"quay.skerry.test",
		"-cert2",
		p.file("third.pem"),
		"-key2",
		p.file("third.key"),
	)
	x := run(t, to(t, at, "trust", p.file("root.pem"), "server-name", "quay.skerry.test"))
	require.Equal(t, "tls.name-differs", x.Cause().ID)
	assert.Contains(t, x.Cause().Why, "asked for no name, it shows one for front.skerry.test")

	// One certificate for all names.
	p.issue("good", trust.Wish{Name: "good", Hosts: []string{"elsewhere.skerry.test"}, By: p.root})
	plan = to(t, p.sserver("good"), "trust", p.file("root.pem"))
	f = checked(t, plan, "tls.name-differs")
	assert.Contains(
		t,
		likely(t, f).ID+f.Hypotheses[0].Answer,
		"elsewhere.skerry.test",
		"asked for the name that it is for, it is trusted",
	)
}

func TestAnotherVersionIsSpoken(t *testing.T) {
	p := newPKI(t)
	p.issue("good", trust.Wish{Name: "tides", Hosts: []string{"127.0.0.1"}, By: p.root})
	plan := to(t, p.sserver("good", "-tls1_1", "-cipher", "ALL:@SECLEVEL=0"), "trust", p.file("root.pem"))
	f := checked(t, plan, "tls.version-refused")
	assert.Equal(t, "other-version", likely(t, f).ID)
	assert.Contains(t, f.Hypotheses[0].Answer, "1.1")
}

// The description of the service tells whether it is there, where, and whether it
// is the one that is known.
func TestTheDescriptionTells(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/quays")
	f := checked(t, p, "receive.not-found")
	assert.Equal(t, "other-path", likely(t, f).ID)
	for _, r := range f.Remedies {
		assert.Equal(t, "http://"+h.Plain+"/quays", r.Change.From, r.Title)
	}
	p.Settings.Set("address", f.Remedies[0].Change.To.(string))
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)

	// A server whose description has changed: the operation has another name now.
	src := string(p.Contract.Files[0].Bytes)
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		for _, f := range p.Contract.Files[1:] {
			if r.Method == http.MethodGet && strings.HasSuffix(f.Location, filepath.Base(r.URL.Path)) {
				_, _ = w.Write(f.Bytes)
				return
			}
		}
		if r.Method == http.MethodGet {
			_, _ = w.Write([]byte(strings.ReplaceAll(src, `name="FindBerths"`, `name="SeekBerths"`)))
			return
		}
		w.WriteHeader(500)
		_, _ = w.Write(
			[]byte(
				`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode>e:Client</faultcode><faultstring>the endpoint has no operation for FindBerths</faultstring></e:Fault></e:Body></e:Envelope>`,
			),
		)
	})
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	old := *p.Contract
	old.Source = "berths.wsdl" // from a file: the service is asked
	p.Contract = &old
	p.SetDraft([]byte(find))
	p.Settings.Set("address", srv.URL+"/berths")
	x := run(t, p)
	f = checked(t, p, x.Cause().ID)
	l := likely(t, f)
	assert.Equal(t, "contract-changed", l.ID)
	assert.Contains(t, l.Answer, "FindBerths")

	// Nobody there: neither for the message nor for the description.
	srv.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(502) })
	f = checked(t, p, "receive.gateway")
	assert.Equal(t, "service-down", likely(t, f).ID)
}

// nameServer answers queries over UDP.
func nameServer(t *testing.T, answer func(query []byte) []byte) (address string) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	t.Cleanup(func() { conn.Close(); <-done })
	go func() {
		defer close(done)
		buf := make([]byte, 1500)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			_, _ = conn.WriteTo(answer(buf[:n]), from)
		}
	}()
	return conn.LocalAddr().String()
}

// lookups is a resolver that asks a name server of the test's own.
func lookups(t *testing.T, answer func(query []byte) []byte) *net.Resolver {
	server := nameServer(t, answer)
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", server)
	}}
}

// A name server of one's own is asked in the place of the machine's.
func TestANameServerOfOnesOwn(t *testing.T) {
	h := harbour(t)
	_, port, err := net.SplitHostPort(h.Plain)
	require.NoError(t, err)
	server := nameServer(t, func(query []byte) []byte {
		var m dnsmessage.Message
		if m.Unpack(query) != nil || len(m.Questions) == 0 {
			return nil
		}
		m.Response, m.Additionals = true, nil
		if q := m.Questions[0]; q.Type == dnsmessage.TypeA && q.Name.String() == "quay.skerry.test." {
			m.Answers = []dnsmessage.Resource{{
				Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 60},
				Body:   &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}},
			}}
		}
		b, _ := m.Pack() // what cannot be packed is no answer
		return b
	})
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "http://quay.skerry.test:"+port+"/berths")
	p.Settings.Set("resolver", server)
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%v", ids(x))
	assert.Equal(t, []string{"127.0.0.1"}, x.Leg().Conn.Resolved)
	p.Settings.Set("address", "http://pier.skerry.test:"+port+"/berths")
	found(t, run(t, p), "connect.name-unknown")
	p.Settings.Set("resolver", "quay")
	assert.Contains(t, found(t, run(t, p), "binding.value-invalid").Why, "name server")
}

func TestWhatALookupTells(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "http://quay.skerry.test/berths")
	p.Resolver = lookups(t, func(q []byte) []byte { // NXDOMAIN (RFC 1035 §4.1.1)
		r := append([]byte{}, q...)
		r[2], r[3] = 0x81, 0x83
		return r
	})
	assert.Equal(t, "misspelt", likely(t, checked(t, p, "connect.name-unknown")).ID)

	p.Resolver = &net.Resolver{
		PreferGo: true,
		Dial:     func(context.Context, string, string) (net.Conn, error) { return nil, errors.New("no network") },
	}
	x := run(t, p)
	require.NotNil(t, x.Cause())
	assert.Equal(t, "no-lookup", likely(t, checked(t, p, x.Cause().ID)).ID)
}
