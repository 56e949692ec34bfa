package call_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
	"orenda/internal/trust"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func harbour(t testing.TB) *standin.Harbour {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	return h
}

// fetch loads a description of the harbour.
func fetch(t testing.TB, address string, set ...string) *call.Fetched {
	t.Helper()
	p := call.Plan{Agent: "test", ReadFile: os.ReadFile}
	for i := 0; i+1 < len(set); i += 2 {
		p.Settings.Set(set[i], set[i+1])
	}
	f, err := call.Fetch(context.Background(), address, p, nil)
	require.NoError(t, err)
	return f
}

const find = `<FindBerths xmlns="urn:skerry:berths"><length>20</length></FindBerths>`

// berths is a plan for FindBerths at a path of the harbour.
func berths(t testing.TB, h *standin.Harbour, path string) call.Plan {
	f := fetch(t, "http://"+h.Plain+"/berths?wsdl")
	p := call.Plan{
		Contract:  f.Contract,
		Served:    f.Served,
		Operation: "FindBerths",
		Endpoint:  "berths",
		Agent:     "test",
		ReadFile:  os.ReadFile,
	}
	p.Port = f.Contract.Port("BerthDesk11")
	p.SetDraft([]byte(find))
	p.Settings.Layers = []endpoint.Layer{{Source: "contract", Values: map[string][]string{"soap": {"1.1"}}}}
	p.Settings.Set("address", "http://"+h.Plain+path)
	return p
}

func run(t testing.TB, p call.Plan) *exchange.Exchange {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	return call.New(p, nil).Run(ctx)
}

func ids(x *exchange.Exchange) []string {
	var out []string
	for _, f := range x.Findings {
		out = append(out, f.ID)
	}
	return out
}

func TestACallThatPassesHasNoStopAndNoWarning(t *testing.T) {
	h := harbour(t)
	x := run(t, berths(t, h, "/berths"))
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Empty(t, ids(x))
	assert.Equal(t, 11, x.Reach())
	assert.Equal(t, "4 × berth · code N02", x.Result)
	l := x.Leg()
	assert.Equal(
		t,
		string(l.Out),
		"POST /berths HTTP/1.1\r\nHost: "+h.Plain+"\r\nUser-Agent: test\r\nContent-Type: text/xml; "+
			"charset=utf-8\r\nSOAPAction: \"urn:skerry:berths:FindBerths\"\r\nContent-Length: "+fmt.Sprint(
			len(l.RequestBody),
		)+"\r\nConnection: close\r\n\r\n"+string(l.RequestBody),
	)
	assert.True(t, strings.HasPrefix(string(l.In.Bytes()), "HTTP/1.1 200 OK\r\n"))
	for _, s := range []exchange.Stage{exchange.Address, exchange.Connect, exchange.Send, exchange.Receive,
		exchange.Verify} {
		assert.Equal(t, exchange.Passed, x.Stage(s).State, s.String())
	}
}

// Every misbehaviour of the stand-ins leads to the finding that it is named after.
func TestMisbehavioursAreFound(t *testing.T) {
	h := harbour(t)
	// Where the call is seen to stop, if not at the finding's own stage.
	seen := map[string]exchange.Stage{
		"read.fault-security-missing": exchange.Read, "read.fault-security-refused": exchange.Read,
		"read.fault-security-expired": exchange.Read,
		"read.fault-security-invalid": exchange.Read, "read.fault-action": exchange.Read,
		"read.fault-operation": exchange.Read,
	}
	evidence := map[string]string{ // words that the first evidence must show
		"receive.not-found": "404", "receive.gateway": "502", "read.text-outside": "Warning: tide gauge",
		"read.doctype-refused": "DOCTYPE", "read.fault-declared": "BerthTaken",
		"receive.redirected": "Location: /berths", "receive.unauthorized": "401", "read.not-envelope": "<status",
		"receive.not-soap": "<!DOCTYPE html>", "read.fault-hidden": "register offline",
		"read.fault-security-missing": "no security header found", "verify.invalid": "maybe",
		"read.not-well-formed": "</soap:Body>",
	}
	remedied := map[string]bool{
		"wait.timed-out":              true,
		"receive.stalled":             true,
		"receive.media-type-refused":  true,
		"receive.redirected":          true,
		"read.version-differs":        true,
		"read.depth-over-limit":       true,
		"read.fault-version":          true,
		"read.fault-security-missing": true,
		"receive.not-found":           true,
	}
	for _, m := range standin.Misbehaviours() {
		if !strings.Contains(m.ID, ".") {
			continue
		}
		t.Run(m.ID, func(t *testing.T) {
			p := berths(t, h, "/berths/~"+m.ID)
			p.Identities = []diagnose.Identity{{Name: "desk", User: "desk"}}
			p.Settings.Set("answer-time", "300ms")
			if m.Shown[0] != "" {
				p.Settings.Set(m.Shown[0], m.Shown[1])
			}
			if m.ID == "read.fault-declared" {
				p.Operation = "ReserveBerth"
				p.SetDraft(
					[]byte(
						`<ReserveBerth xmlns="urn:skerry:berths"><berth>N02</berth><vessel><name>Alder</name><callSign>AL1D</callSign></vessel><nights>2</nights><cash>true</cash></ReserveBerth>`,
					),
				)
			}
			p.Settings.Set("receive-time", "300ms")
			x := run(t, p)
			require.NotEmpty(t, x.Findings, x.Outcome)
			f := x.Findings[0]
			assert.Equal(t, m.ID, f.ID, "%v", ids(x))
			stage := f.Stage
			if s, ok := seen[m.ID]; ok {
				stage = s
			}
			if f.Severity == exchange.Stop {
				assert.Equal(t, stage, x.StoppedAt)
				assert.Equal(t, exchange.OutcomeStopped, x.Outcome)
				assert.Equal(t, exchange.Stopped, x.Stage(stage).State)
			} else {
				assert.Equal(t, exchange.OutcomePassed, x.Outcome)
				state := exchange.Warned
				if f.Severity == exchange.Note { // what is only told leaves the stage as it is
					state = exchange.Passed
				}
				assert.Equal(t, state, x.Stage(stage).State)
			}
			stops := 0
			for _, f := range x.Findings {
				if f.Severity == exchange.Stop {
					stops++
				}
			}
			assert.LessOrEqual(t, stops, 1, "one failure, one cause")
			require.NotEmpty(t, f.Evidence)
			e := f.Evidence[0]
			assert.Positive(t, e.Length)
			assert.Contains(t, e.Excerpt, evidence[m.ID])
			if e.In == exchange.InResponseBody {
				body := x.Leg().ResponseBody.Bytes()
				assert.LessOrEqual(t, e.Offset+e.Length, int64(len(body))+1)
			}
			assert.NotEmpty(t, f.Title)
			assert.NotEmpty(t, f.Why)
			assert.NotEmpty(t, f.Program)
			if remedied[m.ID] {
				assert.NotEmpty(t, f.Remedies)
			}
		})
	}
}

func TestTheStoryOfTheYearTable(t *testing.T) {
	h := harbour(t)
	dir := t.TempDir()
	cert := dir + "/tides.pem"
	require.NoError(t, os.WriteFile(cert, trust.PEM(h.Cert.Cert), 0o600))
	secret := dir + "/secret"
	require.NoError(t, os.WriteFile(secret, []byte(standin.Password), 0o600))
	f := fetch(t, "http://"+h.Plain+"/tides?wsdl")
	values := map[string][]string{"address": {"https://${tideHost}/tides"}, "soap": {"1.1"}}
	p := call.Plan{
		Contract:    f.Contract,
		Served:      f.Served,
		Operation:   "YearTable",
		Endpoint:    "tides-tls",
		Port:        f.Contract.Port("TideTablesTLS"),
		Environment: "model",
		Variables: map[string]string{
			"tidehost": h.TLS,
		},
		ReadFile:   os.ReadFile,
		Identities: []diagnose.Identity{{Name: "pilot-desk", User: standin.User}},
		Identity: func(name string) (*identity.Identity, error) {
			return &identity.Identity{Name: name, User: standin.User, Secret: "file:" + secret}, nil
		},
	}
	p.SetDraft(
		[]byte(
			`<YearTable xmlns="urn:skerry:tides"><station>Skerry Sound</station><year>2027</year><datum>chart datum</datum><heights><unit>metre</unit></heights></YearTable>`,
		),
	)
	p.Settings.Layers = []endpoint.Layer{
		{
			Source: "profile harbour-11",
			Values: map[string][]string{
				"receive-limit": {"65536"},
				"buffer-limit":  {"65536"},
				"strict-buffer": {"true"},
			},
		},
		{Source: "endpoint", Values: values},
	}
	stops := func(id string, at exchange.Stage, reach int) *exchange.Finding {
		t.Helper()
		x := run(t, p)
		require.Equal(t, exchange.OutcomeStopped, x.Outcome)
		require.Equal(t, id, x.Findings[0].ID)
		assert.Equal(t, at, x.StoppedAt)
		assert.Equal(t, reach, x.Reach())
		return &x.Findings[0]
	}
	f1 := stops("address.variable-unset", exchange.Address, 0)
	assert.Contains(t, f1.Why, "`tidehost` is")
	assert.Equal(t, "environment.model.tideHost", f1.Remedies[0].Change.Key)
	assert.Equal(t, h.TLS, f1.Remedies[0].Change.To)
	p.Variables["tideHost"] = h.TLS

	f2 := stops("tls.self-signed", exchange.TLS, 5)
	assert.Contains(t, f2.Remedies[0].Ask, trust.Grouped(trust.Fingerprint(h.Cert.Cert)))
	values["trust"] = []string{cert}

	f3 := stops("read.fault-security-missing", exchange.Read, 9)
	assert.Equal(t, exchange.Security, f3.Stage, "its cause is set at security")
	assert.Contains(t, f3.Why, "The contract does not mention it")
	var keys []string
	for _, c := range f3.Remedies[0].All() {
		keys = append(keys, c.Where+" "+c.Key)
	}
	assert.Equal(
		t,
		[]string{
			"workspace endpoint.tides-tls.identity",
			"workspace endpoint.tides-tls.token",
			"user allow.pilot-desk",
		},
		keys,
	)
	values["identity"], values["token"] = []string{"pilot-desk"}, []string{"digest"}

	f4 := stops("receive.over-limit", exchange.Receive, 8)
	assert.Contains(t, f4.Evidence[0].Excerpt, "Content-Length:")
	all := f4.Remedies[0].All()
	require.Len(t, all, 2)
	assert.Equal(t, "profile.harbour-11.receive-limit", all[0].Key)
	assert.Equal(t, "endpoint.tides-tls.buffer-limit", f4.Remedies[1].All()[1].Key)
	p.Settings.Set("receive-limit", fmt.Sprint(all[0].To))
	p.Settings.Set("buffer-limit", fmt.Sprint(all[1].To))

	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Contains(t, x.Result, "× tide · station Skerry Sound")
	require.Len(t, x.Leg().SecretSpans, 1)
	sp := x.Leg().SecretSpans[0]
	assert.Regexp(
		t,
		`^[A-Za-z0-9+/]{27}=$`,
		string(x.Leg().Out[sp.Offset:sp.Offset+sp.Length]),
		"the digest is known as a secret",
	)
	assert.NotContains(
		t,
		x.Stage(exchange.Security).Facts.Get("header"),
		string(x.Leg().Out[sp.Offset:sp.Offset+sp.Length]),
	)
}

func TestWhatStopsAtHome(t *testing.T) {
	h := harbour(t)
	for _, c := range []struct {
		id     string
		change func(*call.Plan)
		code   int
	}{
		{"address.malformed", func(p *call.Plan) { p.Settings.Set("address", "http://a b/") }, 11},
		{"address.scheme-unsupported", func(p *call.Plan) { p.Settings.Set("address", "ftp://x/") }, 11},
		{"address.environment-unknown", func(p *call.Plan) {
			p.EnvError = &endpoint.EnvironmentError{Name: "modell", Near: "model", Others: []string{"model"}}
		}, 11},
		{"binding.endpoint-ambiguous", func(p *call.Plan) {
			p.NoEndpoint = &endpoint.AmbiguousError{Operation: "FindBerths",
				Endpoints: []endpoint.Alternative{{Name: "a", Differs: "SOAP 1.1"}, {Name: "b", Differs: "SOAP 1.2"}}}
		}, 12},
		{"binding.operation-unknown", func(p *call.Plan) {
			p.NoEndpoint = &endpoint.OperationError{Name: "findBerths",
				Near: "FindBerths"}
		}, 12},
		{"binding.limit-invalid", func(p *call.Plan) { p.Settings.Set("receive-limit", "0") }, 12},
		{"binding.time-limit-invalid", func(p *call.Plan) { p.Settings.Set("total-time", "soon") }, 12},
		{"binding.buffer-differs", func(p *call.Plan) {
			p.Settings.Set("strict-buffer", "true")
			p.Settings.Set("buffer-limit", "1 MiB")
		}, 12},
		{"message.not-well-formed", func(p *call.Plan) { p.SetDraft([]byte("<FindBerths><length></FindBerths>")) }, 13},
		{"message.too-large", func(p *call.Plan) { p.Settings.Set("send-limit", "100") }, 13},
		{"security.password-type-unknown", func(p *call.Plan) { p.Settings.Set("token", "hunter2") }, 14},
		{"tls.self-signed", func(p *call.Plan) { p.Settings.Set("address", "https://"+h.TLS+"/berths") }, 16},
		{"tls.not-tls", func(p *call.Plan) { p.Settings.Set("address", "https://"+h.Plain+"/berths") }, 16},
		{"send.plain-to-tls", func(p *call.Plan) { p.Settings.Set("address", "http://"+h.TLS+"/berths") }, 19},
	} {
		p := berths(t, h, "/berths")
		c.change(&p)
		x := run(t, p)
		require.NotEmpty(t, x.Findings, c.id)
		assert.Equal(t, c.id, x.Findings[0].ID)
		assert.Equal(t, c.code, x.StoppedAt.ExitCode(), c.id)
		require.NotEmpty(t, x.Findings[0].Evidence, c.id)
		for _, s := range x.Settings {
			assert.NotContains(t, s.Value, "hunter2", "a password in the wrong place is not repeated")
		}
		assert.NotContains(t, fmt.Sprintf("%+v", x.Findings), "hunter2")
	}
}

func TestWarningsGoOnAndExplainWhatFollows(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berths"><length>long</length></FindBerths>`))
	x := run(t, p)
	assert.Equal(t, []string{"message.invalid"}, ids(x))
	assert.Equal(t, exchange.Message, x.StoppedAt, "it is not sent unasked")
	assert.Nil(t, x.Leg())
	p.SetAside = map[string]string{"message.invalid": "the service takes words"}
	assert.Equal(t, exchange.Read, run(t, p).StoppedAt)
	p.SetAside, p.AsItIs = nil, true
	x = run(t, p)
	assert.Equal(t, []string{"message.invalid", "read.fault-client"}, ids(x))
	assert.Equal(t, "message.invalid", x.Findings[1].Because)
	assert.Equal(t, exchange.Read, x.StoppedAt)

	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berths"><length><?fill Metres?></length></FindBerths>`))
	p.AsItIs = false
	x = run(t, p)
	assert.Equal(t, []string{"message.placeholder-left"}, ids(x))
	assert.Equal(t, exchange.Message, x.StoppedAt)
	assert.Contains(t, x.Findings[0].Why, "The message is not sent unless you say so")
	p.Until = exchange.TLS
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome, "whether it is reachable carries no message")
	p.Until, p.AsItIs = exchange.None, true
	x = run(t, p)
	assert.Equal(t, "message.placeholder-left", x.Findings[0].ID)
	assert.NotContains(t, string(x.Leg().Out), "<?fill")

	// What other programs leave in the place of a value is likely one, and is sent.
	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berths"><length>?</length></FindBerths>`))
	assert.Contains(t, ids(run(t, p)), "message.placeholder-left")

	p.SetDraft([]byte(find))
	p.Settings.Set("action", "urn:other")
	x = run(t, p)
	assert.Equal(t, []string{"binding.action-differs", "read.fault-action"}, ids(x))
}

func TestWhatTheDraftItselfHolds(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	const security = `<w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>desk</w:Username><w:Password>low tide</w:Password></w:UsernameToken></w:Security>`
	envelope := func(header, body string) []byte {
		return []byte(
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header>` + header +
				`</s:Header><s:Body>` + body + `</s:Body></s:Envelope>`,
		)
	}

	// A password in the draft is told of, and is in no finding.
	p.SetDraft(envelope(security, find))
	x := run(t, p)
	require.NotEmpty(t, x.Findings)
	assert.Contains(t, ids(x), "message.security-in-draft")
	assert.NotContains(t, fmt.Sprintf("%+v", x.Findings), "low tide")
	assert.Contains(t, string(x.Leg().Out), security, "what was pasted is sent as it is")

	// Two security headers: the remedy is to set no token.
	secret := t.TempDir() + "/secret"
	require.NoError(t, os.WriteFile(secret, []byte(standin.Password), 0o600))
	p.Settings.Set("token", "text")
	p.Settings.Set("identity", "desk")
	p.Settings.Set("plain-password", "true")
	p.Identity = func(name string) (*identity.Identity, error) {
		return &identity.Identity{Name: name, User: standin.User, Secret: "file:" + secret}, nil
	}
	x = run(t, p)
	require.NotEmpty(t, x.Findings)
	f := x.Findings[0]
	assert.Equal(t, "message.security-in-draft", f.ID)
	assert.Contains(t, f.Title, "a token is set as well")
	require.NotEmpty(t, f.Remedies)
	assert.Equal(t, "none", f.Remedies[0].Change.To)

	// The body of another operation: calling that one is the remedy.
	p = berths(t, h, "/berths")
	p.SetDraft(envelope("", `<ReserveBerth xmlns="urn:skerry:berths"/>`))
	x = run(t, p)
	require.NotEmpty(t, x.Findings)
	f = x.Findings[0]
	assert.Equal(t, "message.body-differs", f.ID)
	require.Len(t, f.Remedies, 1)
	assert.Equal(t, "ReserveBerth", f.Remedies[0].Change.To)

	// Another namespace: one finding, and not one for each element below.
	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berth"><length>20</length></FindBerths>`))
	x = run(t, p)
	require.NotEmpty(t, x.Findings)
	f = x.Findings[0]
	assert.Equal(t, "message.namespace-differs", f.ID)
	assert.NotContains(t, ids(x), "message.invalid")
	assert.Equal(t, "urn:skerry:berths", f.Remedies[0].Change.To)
}

func TestBufferLimitAlone(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("buffer-limit", "300")
	x := run(t, p)
	assert.Equal(t, []string{"binding.buffer-differs", "receive.over-buffer"}, ids(x))
	p.Settings.Set("intake", "flowing")
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
}

func TestConnecting(t *testing.T) {
	h := harbour(t)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := free.Addr().String()
	free.Close()
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "http://"+nobody+"/")
	x := run(t, p)
	assert.Equal(t, "connect.refused", x.Findings[0].ID)
	assert.Contains(t, x.Findings[0].Why, nobody)

	// A name server that knows no name, and one that never answers.
	for _, silent := range []bool{false, true} {
		dns, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		done := make(chan struct{})
		go func() {
			defer close(done)
			b := make([]byte, 512)
			for {
				n, from, err := dns.ReadFrom(b)
				if err != nil {
					return
				}
				if !silent {
					b[2], b[3] = 0x81, 0x83 // NXDOMAIN
					_, _ = dns.WriteTo(b[:n], from)
				}
			}
		}()
		p.Settings.Set("address", "http://tides.skerry.test/")
		p.Settings.Set("connect-time", "400ms")
		p.Resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "udp", dns.LocalAddr().String())
		}}
		x = run(t, p)
		want := map[bool]string{false: "connect.name-unknown", true: "connect.timed-out"}[silent]
		assert.Equal(t, want, x.Findings[0].ID)
		dns.Close()
		<-done
	}
	p.Resolver = nil
	p.Settings.Set("address", "http://255.255.255.255/")
	x = run(t, p)
	assert.Equal(t, "connect.unreachable", x.Findings[0].ID)
}

func TestCertificatesOutOfDateAndForOthers(t *testing.T) {
	old, err := trust.Issue(
		trust.Wish{
			Name:      "old quay",
			Hosts:     []string{"quay.skerry.test"},
			NotBefore: time.Now().AddDate(-2, 0, 0),
			NotAfter:  time.Now().AddDate(-1, 0, 0),
		},
	)
	require.NoError(t, err)
	l := tlsServer(t, old)
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "https://"+l+"/")
	x := run(t, p)
	assert.Equal(t, []string{"tls.self-signed", "tls.expired", "tls.name-differs"}, ids(x), "all that apply, in order")
	for _, f := range x.Findings {
		assert.Equal(t, exchange.InCertificate, f.Evidence[0].In)
		require.NotEmpty(t, f.Remedies)
		assert.NotEmpty(t, f.Remedies[0].Ask)
	}
	file := t.TempDir() + "/old.pem"
	require.NoError(t, os.WriteFile(file, []byte(fmt.Sprint(x.Findings[0].Remedies[0].Change.To)), 0o600))
	p.Settings.Set("trust", file)
	assert.Equal(t, []string{"tls.expired", "tls.name-differs"}, ids(run(t, p)))
	p.Settings.Set("accept-expired", fmt.Sprint(x.Findings[1].Remedies[0].Change.To))
	assert.Equal(t, []string{"tls.name-differs"}, ids(run(t, p)))
	p.Settings.Set("accept-name", fmt.Sprint(x.Findings[2].Remedies[0].Change.To))
	x = run(t, p)
	assert.Greater(t, x.Reach(), 6)
}

func tlsServer(t *testing.T, pair *trust.Pair) string {
	return secureServer(t, pair, func(w http.ResponseWriter, r *http.Request) { _, _ = io.Copy(w, r.Body) })
}

func TestFetchingFindsTheDescription(t *testing.T) {
	h := harbour(t)
	f := fetch(t, "  http://"+h.Plain+"/berths \n")
	assert.Len(t, f.Contract.OperationNames(), 3, "from the service's own page")
	assert.Equal(t, h.Plain, f.Served)
	assert.NotEmpty(t, f.Tried)

	for source, want := range map[string]string{
		"http://" + h.Plain + "/nowhere":                  "receive.not-found",
		"https://" + h.TLS + "/berths?wsdl":               "tls.self-signed",
		"http://" + h.Plain + "/berths/~receive.not-http": "receive.not-http",
		"http://" + h.Plain + "/berths.xsd":               "read.not-description",
	} {
		f, err := call.Fetch(context.Background(), source, call.Plan{Agent: "test"}, nil)
		require.ErrorIs(t, err, call.ErrStopped, source)
		x := f.Exchanges[len(f.Exchanges)-1]
		require.NotEmpty(t, x.Findings, source)
		assert.Equal(t, want, x.Findings[0].ID, source)
	}
}

// A page that lists several services offers their descriptions, and guesses none.
func TestAPageOfSeveralDescriptionsOffersThem(t *testing.T) {
	h := harbour(t)
	f, err := call.Fetch(context.Background(), "http://"+h.Plain+"/", call.Plan{Agent: "test"}, nil)
	require.ErrorIs(t, err, call.ErrStopped)
	require.Len(t, f.Exchanges, 1, "nothing else is tried")
	cause := f.Exchanges[0].Findings[0]
	assert.Equal(t, "read.not-description", cause.ID)
	require.Greater(t, len(cause.Remedies), 3)
	c := cause.Remedies[0].All()[0]
	assert.Equal(t, "endpoint.description.address", c.Key)
	assert.Contains(t, c.To, "?wsdl")
	assert.Empty(t, cause.Remedies[0].Costs)
	assert.NotEmpty(t, fetch(t, c.To.(string)).Contract.Ports())
}

func TestExpectations(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("expect", "berth[1]/code=N02", "quay=North quay")
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
	p.Settings.Set("expect", "berth[1]/code=N01", "quai=x")
	x := run(t, p)
	assert.Equal(t, "verify.unexpected", x.Findings[0].ID)
	assert.Equal(t, 21, x.StoppedAt.ExitCode())
	assert.Contains(t, x.Findings[0].Why, `expected "N01", received "N02"`)
	assert.Contains(t, x.Findings[0].Why, "quay is meant")
}

func TestUntilGoesNoFurther(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	for _, until := range []exchange.Stage{exchange.Address, exchange.Security, exchange.Connect, exchange.Receive,
		exchange.Read} {
		p.Until = until
		x := run(t, p)
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, until)
		assert.Equal(t, exchange.Passed, x.Stage(until).State, until)
		for s := until + 1; s <= exchange.Verify; s++ {
			if until != exchange.Connect || s != exchange.TLS {
				assert.NotEqual(t, exchange.Passed, x.Stage(s).State, "%s after %s", s, until)
			}
		}
	}
}

// A call is cancelled while it is in each of the stages that can take time.
func TestCancelInEveryStage(t *testing.T) {
	h := harbour(t)
	full, err := net.Listen("tcp", "127.0.0.1:0") // accepts and says nothing
	require.NoError(t, err)
	defer full.Close()
	big := []byte(
		`<FindBerths xmlns="urn:skerry:berths"><length>` + strings.Repeat(" ", 12<<20) + `20</length></FindBerths>`,
	)
	for stage, change := range map[exchange.Stage]func(*call.Plan){
		exchange.TLS: func(p *call.Plan) { p.Settings.Set("address", "https://"+full.Addr().String()+"/") },
		exchange.Send: func(p *call.Plan) {
			p.Settings.Set("address",
				"http://"+full.Addr().String()+"/")
			p.SetDraft(big)
		},
		exchange.Wait: func(p *call.Plan) { p.Settings.Set("address", "http://"+h.Plain+"/berths/~wait.timed-out") },
		exchange.Receive: func(p *call.Plan) {
			p.Settings.Set("address",
				"http://"+h.Plain+"/berths/~receive.stalled")
		},
		exchange.Connect: func(p *call.Plan) {
			p.Settings.Set("address", "http://slow.skerry.test/")
			p.Resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
				<-ctx.Done()
				return nil, ctx.Err()
			}}
		},
		exchange.Security: func(p *call.Plan) {
			p.Settings.Set("token", "digest")
			p.Settings.Set("identity", "sleeper")
			p.Identity = func(string) (*identity.Identity, error) {
				return &identity.Identity{Secret: "command:sleep " +
					"60"}, nil
			}
		},
	} {
		t.Run(stage.String(), func(t *testing.T) {
			p := berths(t, h, "/berths")
			change(&p)
			p.Settings.Set("validate", "false")
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			c := call.New(p, nil)
			done := make(chan *exchange.Exchange, 1)
			go func() { done <- c.Run(ctx) }()
			require.Eventually(
				t,
				func() bool { return c.Snapshot().Stage(stage).State == exchange.Open },
				10*time.Second,
				time.Millisecond,
			)
			cancel()
			select {
			case x := <-done:
				if stage == exchange.Security {
					assert.NotEqual(t, exchange.OutcomePassed, x.Outcome)
					return
				}
				assert.Equal(t, exchange.OutcomeCancelled, x.Outcome)
				assert.Equal(t, exchange.Cancelled, x.Stage(stage).State)
				assert.Empty(t, x.Findings)
			case <-time.After(10 * time.Second):
				t.Fatal("it did not end")
			}
		})
	}
}

func TestTheWholeCallHasALimit(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths/~wait.timed-out")
	p.Settings.Set("connect-time", "300ms")
	p.Settings.Set("total-time", "500ms")
	x := run(t, p)
	assert.Equal(t, "wait.timed-out", x.Findings[0].ID)
	assert.Contains(t, x.Findings[0].Why, "the whole call")
}

func TestASlowBodyIsSeenArriving(t *testing.T) {
	h := harbour(t)
	c := call.New(berths(t, h, "/berths/~slow"), nil)
	done := make(chan *exchange.Exchange, 1)
	go func() { done <- c.Run(context.Background()) }()
	sizes := map[int]bool{}
	for {
		select {
		case x := <-done:
			assert.Greater(t, len(sizes), 2, "the body was seen growing")
			assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%v", ids(x))
			assert.Greater(t, len(x.Leg().ChunkEnds), 3)
			return
		case <-time.After(5 * time.Millisecond):
			if l := c.Snapshot().Leg(); l != nil {
				sizes[int(l.ResponseBody.Len())] = true
			}
		}
	}
}

func TestPastedEnvelopesAreSentAsTheyAre(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	env := `<S:Envelope xmlns:S='http://schemas.xmlsoap.org/soap/envelope/'  ><!-- mine --><S:Body >` + find +
		`</S:Body></S:Envelope>`
	p.SetDraft([]byte(env))
	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, env, string(x.Leg().RequestBody))
	p.Settings.Set("timestamp", "5m")
	x = run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Contains(t, string(x.Leg().RequestBody), "<!-- mine --><S:Header>\n")
	assert.Contains(t, string(x.Leg().RequestBody), `soap:mustUnderstand="1"`)
}

func TestHTTPAuthentication(t *testing.T) {
	const word = "öpen sesame"
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, ok := r.BasicAuth()
		if !ok && r.Header.Get("Authorization") != "Bearer "+word || ok && (user != "bérth" || password != word) {
			w.Header().Set("WWW-Authenticate", `Basic realm="quay", Bearer`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(
			w,
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`,
		)
	})}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() { defer close(done); _ = srv.Serve(l) }()
	defer func() { srv.Close(); <-done }()
	h := harbour(t)
	p := berths(t, h, "/")
	p.Settings.Set("address", "http://"+l.Addr().String()+"/")
	p.Identities = []diagnose.Identity{{Name: "desk", User: "bérth"}}
	t.Setenv("WORD", word)
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: "bérth", Secret: "env:WORD"}, nil
	}
	x := run(t, p)
	assert.Equal(t, "receive.unauthorized", x.Findings[0].ID)
	require.Len(t, x.Findings[0].Remedies, 4)
	assert.Equal(t, exchange.NeedUser, x.Findings[0].Remedies[2].Needs, "what wants typing comes last")
	for _, r := range x.Findings[0].Remedies[:2] {
		for _, c := range r.All() {
			if c.Where == "workspace" {
				p.Settings.Set(strings.TrimPrefix(c.Key, "endpoint.berths."), fmt.Sprint(c.To))
			}
		}
		x = run(t, p)
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%s: %+v", r.Title, x.Findings)
		masked := x.Redact(nil)
		assert.NotContains(t, string(masked.Leg().Out)+fmt.Sprint(masked.Leg().Request.Fields), word)
		assert.NotContains(t, string(masked.Leg().Out), "Basic Yu")
		assert.NotContains(t, string(masked.Leg().Out), "w7ZwZW4")
	}
	t.Setenv("WORD", "wrong word")
	x = run(t, p)
	assert.Contains(t, x.Findings[0].Why, "user or password is probably wrong")
}
