package call_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
)

// found is the finding of that id in a record.
func found(t *testing.T, x *exchange.Exchange, id string) *exchange.Finding {
	t.Helper()
	for i := range x.Findings {
		if x.Findings[i].ID == id {
			assert.NotEmpty(t, x.Findings[i].Evidence)
			return &x.Findings[i]
		}
	}
	require.Fail(t, "no "+id, "%v", ids(x))
	return nil
}

// withContract puts a changed description in the place of a plan's own.
func withContract(t *testing.T, p *call.Plan, change func(src string) string) {
	t.Helper()
	files := p.Contract.Files
	c, err := contract.Load(
		t.Context(),
		p.Contract.Source,
		[]byte(change(string(files[0].Bytes))),
		func(_ context.Context, at string) ([]byte, error) {
			for _, f := range files {
				if f.Location == at {
					return f.Bytes, nil
				}
			}
			return nil, errors.New("not there")
		},
	)
	require.NoError(t, err)
	p.Contract, p.Port = c, c.Port(p.Port.Name)
	p.SetDraft([]byte(find))
}

// The description's own address is one that is never reached from elsewhere; the
// host that served it is offered.
func TestTheContractsOwnAddress(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	withContract(t, &p, func(src string) string {
		return strings.ReplaceAll(src, "http://"+h.Plain, "http://quay-internal:8080")
	})
	p.Settings = endpoint.Settings{
		Layers: []endpoint.Layer{
			{Source: "contract", Values: map[string][]string{"soap": {"1.1"}, "address": {p.Port.Address}}},
		},
	}
	x := run(t, p)
	require.Equal(t, "address.from-contract", x.Findings[0].ID, "%v", ids(x))
	f := found(t, x, "address.from-contract")
	require.Len(t, f.Remedies, 1)
	assert.Contains(t, f.Remedies[0].Change.To, h.Plain)
	p.Settings.Set("address", f.Remedies[0].Change.To.(string))
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
}

func TestWhatAContractDemandsOfTheBinding(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	withContract(t, &p, func(src string) string {
		return strings.Replace(
			src,
			`<soap:binding`,
			`<wsaw:UsingAddressing xmlns:wsaw="http://www.w3.org/2006/05/addressing/wsdl" xmlns:w="http://schemas.xmlsoap.org/wsdl/" w:required="true"/><soap:binding`,
			1,
		)
	})
	for header, lacks := range map[string]string{
		"": "none were sent", `<a:To xmlns:a="http://www.w3.org/2005/08/addressing">x</a:To>`: "Action is not among those",
		`<a:Action xmlns:a="http://www.w3.org/2005/8/addressing">x</a:Action>`: "in the namespace http://www.w3.org/2005/8/addressing",
	} {
		w := &call.Imported{URL: "http://" + h.Plain + "/berths", Body: []byte(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/">` +
			`<s:Header>` + header + `</s:Header><s:Body><FindBerths xmlns="urn:skerry:berths"><length>40</length></FindBerths></s:Body></s:Envelope>`)}
		assert.Contains(t, found(t, call.Explain(t.Context(), p, w), "binding.addressing-demanded").Title, lacks)
	}
	f := found(t, run(t, p), "binding.addressing-demanded")
	p.Settings.Set("addressing", f.Remedies[0].Change.To.(string))
	assert.Empty(t, ids(run(t, p)))
}

// A policy of another port is none of this one's, and a protocol that is demanded is named.
func TestAPolicyIsOfItsPort(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	const policy = `<p:Policy xmlns:p="http://www.w3.org/ns/ws-policy" xmlns:sp="http://docs.oasis-open.org/ws-sx/ws-securitypolicy/200702">` +
		`<sp:UsernameToken/><sp:SecureConversationToken/></p:Policy>`
	at := func(binding string) func(string) string {
		return func(src string) string {
			from := strings.Index(src, `binding name="`+binding+`"`)
			require.Positive(t, from)
			from += strings.IndexByte(src[from:], '>') + 1
			return src[:from] + policy + src[from:]
		}
	}
	withContract(t, &p, at(p.Port.Binding.Local))
	x := run(t, p)
	found(t, x, "security.token-demanded")
	f := found(t, x, "binding.protocol-demanded")
	assert.Contains(t, f.Title, "WS-SecureConversation")
	assert.Contains(t, f.Why, "offers the same operation without it")

	p = berths(t, h, "/berths")
	for _, o := range p.Contract.Ports() {
		if o.Binding != p.Port.Binding {
			withContract(t, &p, at(o.Binding.Local))
			break
		}
	}
	require.NotEmpty(t, p.Contract.Demands)
	assert.Empty(t, ids(run(t, p)), "it is of another port")
}

func TestWhatADraftLeavesOpen(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Expand = true
	p.Variables = map[string]string{"Length": "12"}
	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berths"><length>${length}</length></FindBerths>`))
	x := run(t, p)
	f := found(t, x, "message.variable-unset")
	assert.Equal(t, exchange.Message, x.StoppedAt)
	assert.Contains(t, f.Title+f.Why, "Length")

	d := fetch(t, "http://"+h.Plain+"/dues?wsdl")
	p = call.Plan{
		Contract:  d.Contract,
		Operation: "Pay",
		Endpoint:  "dues",
		Agent:     "test",
		Port:      d.Contract.Port("HarbourDues"),
	}
	p.SetDraft(
		[]byte(`<Pay xmlns="urn:skerry:dues"><invoice>D-1000</invoice><amount>1.00</amount><cash>true</cash></Pay>`),
	)
	p.SetHeader(nil)
	p.Settings.Set("soap", "1.1")
	p.Settings.Set("address", "http://"+h.Plain+"/dues")
	x = run(t, p)
	f = found(t, x, "message.header-left-out")
	assert.Equal(t, "message.header-left-out", ids(x)[0], "%v: the answer names the block: it leads", ids(x))
	assert.Equal(t, exchange.ByName, f.By)
	assert.Contains(t, f.Why, "The answer names it")

	for header, says := range map[string]string{
		"": "and the program leaves it out",
		`<e:Header><Clerk xmlns="urn:skerry:due"/></e:Header>`:  "Clerk was sent as {urn:skerry:due}Clerk, and is declared as {urn:skerry:dues}Clerk",
		`<e:Header><Clerk xmlns="urn:skerry:dues"/></e:Header>`: "",
	} {
		w, err := call.ImportedFrom([]byte("POST /dues HTTP/1.1\r\nHost: quay.example\r\nContent-Type: text/xml\r\nSOAPAction: \"urn:skerry:dues/Pay\"\r\n\r\n"+
			`<e:Envelope xmlns:e="`+soap.NS11+`">`+header+`<e:Body><Pay xmlns="urn:skerry:dues"><invoice>D-1000</invoice><amount>1.00</amount>`+
			`<cash>true</cash></Pay></e:Body></e:Envelope>`), nil)
		require.NoError(t, err)
		x := call.Explain(t.Context(), call.Plan{Contract: d.Contract, Port: p.Port, Operation: "Pay"}, w)
		if says == "" {
			assert.NotContains(t, ids(x), "message.header-left-out")
			continue
		}
		assert.Contains(t, found(t, x, "message.header-left-out").Why, says)
	}
}

func TestAnEmptyValueIsOnlyNoted(t *testing.T) {
	h := harbour(t)
	p := papers(
		t,
		h,
		"FilePaper",
		`<FilePaper xmlns="urn:skerry:papers"><vessel></vessel><kind>chart</kind><paper>AAAA</paper></FilePaper>`,
	)
	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Equal(t, exchange.Note, found(t, x, "message.empty-value").Severity)
}

func TestASealedSecretWantsItsPassPhrase(t *testing.T) {
	h := harbour(t)
	file := filepath.Join(t.TempDir(), "desk.age")
	r, err := age.NewScryptRecipient("ebb and flood")
	require.NoError(t, err)
	r.SetWorkFactor(10)
	var b bytes.Buffer
	w, err := age.Encrypt(&b, r)
	require.NoError(t, err)
	_, _ = io.WriteString(w, "slack water")
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	p := berths(t, h, "/berths")
	p.Settings.Set("token", "digest")
	p.Settings.Set("identity", "desk")
	p.Identity = func(name string) (*identity.Identity, error) {
		return &identity.Identity{Name: name, User: "desk", Secret: "age:" + file}, nil
	}
	x := run(t, p)
	assert.Equal(t, exchange.Security, x.StoppedAt)
	found(t, x, "security.secret-locked")
}

func TestAWorkspaceMayNotWriteKeysUnasked(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	file := filepath.Join(t.TempDir(), "keys.log")
	p.Settings.Layers = append(
		p.Settings.Layers,
		endpoint.Layer{Source: "endpoint", Values: map[string][]string{"key-log": {file}}},
	)
	p.Settings.Set("address", "https://"+h.TLS+"/berths")
	p.KeyLogOK = func(string) bool { return false }
	x := run(t, p)
	assert.Equal(t, "security.key-log-new", x.Cause().ID)
	assert.NotEmpty(t, x.Cause().Remedies)
	assert.NoFileExists(t, file)
}

func TestACertificateThatEndsSoonIsTold(t *testing.T) {
	pair, err := trust.Issue(
		trust.Wish{
			Name:      "quay",
			Hosts:     []string{"127.0.0.1"},
			NotBefore: time.Now().AddDate(0, -11, 0),
			NotAfter:  time.Now().AddDate(0, 0, 9),
		},
	)
	require.NoError(t, err)
	at := secureServer(t, pair, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprint(
			w,
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`,
		)
	})
	file := filepath.Join(t.TempDir(), "quay.pem")
	require.NoError(t, os.WriteFile(file, trust.PEM(pair.Cert), 0o600))
	x := run(t, to(t, at, "trust", file))
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, exchange.Note, found(t, x, "tls.expires-soon").Severity)
}

func TestALargeReplyThatCannotBeKept(t *testing.T) {
	h := harbour(t)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		for range 20 {
			_, _ = io.WriteString(w, strings.Repeat("<!-- slack water -->\n", 50000))
		}
	}))
	t.Cleanup(srv.Close)
	p := berths(t, h, "/berths")
	p.Settings.Set("address", srv.URL)
	p.Settings.Set("intake", "flowing")
	p.Settings.Set("receive-limit", "64 MiB")
	t.Setenv("TMPDIR", filepath.Join(t.TempDir(), "nowhere"))
	x := run(t, p)
	assert.Equal(t, "receive.not-kept", x.Cause().ID, "%v", ids(x))
	found(t, x, "receive.not-kept")
}

// A reply that is signed with SHA-1 and whose timestamp is over.
func TestAReplyThatIsWeakAndStale(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	p.Settings.Set("sign", "body,timestamp")
	p.Settings.Set("sign-identity", "ines")
	p.Settings.Set("timestamp", "5m")
	p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
	made := time.Now().Add(-2 * time.Hour)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		stamp := wssec.Build(nil, &wssec.Timestamp{Created: made, Life: time.Minute})
		reply := `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Header>` + string(
			stamp.XML,
		) + `</soap:Header><soap:Body><FileManifestResponse xmlns="urn:skerry:manifests"><receipt>M-1</receipt><tonnes>1</tonnes><clerk>x</clerk></FileManifestResponse></soap:Body></soap:Envelope>`
		out, err := wssec.Sign(
			[]byte(reply),
			&wssec.Signing{
				Key:       h.Desk.Key,
				Cert:      h.Desk.Cert,
				Hash:      crypto.SHA1,
				Reference: wssec.Direct,
				Parts:     []string{"body", "timestamp"},
			},
		)
		assert.NoError(t, err)
		w.Header().Set("Content-Type", "text/xml")
		_, _ = w.Write(out)
	}))
	t.Cleanup(srv.Close)
	p.Settings.Set("address", srv.URL)
	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, exchange.Warn, found(t, x, "verify.stale").Severity)
	assert.Equal(t, exchange.Note, found(t, x, "verify.signature-weak").Severity)
	made = time.Now()
	assert.NotContains(t, ids(run(t, p)), "verify.stale")
}

// A reply whose signer is trusted and whose certificate has ended is taken, and told.
func TestAReplySignedWithAnOldCertificate(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	tmpl := &x509.Certificate{
		SerialNumber: big.NewInt(7),
		Subject:      pkix.Name{CommonName: "old desk"},
		NotBefore:    time.Now().AddDate(-2, 0, 0),
		NotAfter:     time.Now().AddDate(-1, 0, 0),
	}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	file := filepath.Join(dir, "old.pem")
	require.NoError(t, os.WriteFile(file, trust.PEM(cert), 0o600))
	at, _ := listening(t, func([]byte) string {
		stamp := wssec.Build(nil, &wssec.Timestamp{Created: time.Now(), Life: time.Minute})
		out, err := wssec.Sign(
			[]byte(
				`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Header>`+string(
					stamp.XML,
				)+`</soap:Header><soap:Body><FileManifestResponse xmlns="urn:skerry:manifests"><receipt>M-1</receipt><tonnes>1</tonnes><clerk>x</clerk></FileManifestResponse></soap:Body></soap:Envelope>`,
			),
			&wssec.Signing{Key: key, Cert: cert, Hash: crypto.SHA256, Reference: wssec.Direct, Parts: []string{"body"}},
		)
		assert.NoError(t, err)
		return string(out)
	})
	for k, v := range map[string]string{"sign": "body,timestamp", "sign-identity": "ines", "timestamp": "5m",
		"reply-trust": file, "address": at} {
		p.Settings.Set(k, v)
	}
	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, exchange.Warn, found(t, x, "verify.certificate-expired").Severity)
}

// The algorithms that a policy names are set up with the rest, and told where others are
// set.
func TestTheAlgorithmsOfThePolicy(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	src := strings.Replace(
		string(p.Contract.Files[0].Bytes),
		"<sp:IncludeTimestamp/>",
		"<sp:IncludeTimestamp/><sp:EncryptBeforeSigning/><sp:AlgorithmSuite><wsp:Policy><sp:Basic256Rsa15/></wsp:Policy></sp:AlgorithmSuite>",
		1,
	)
	c, err := contract.Load(t.Context(), "manifests.wsdl", []byte(src), nil)
	require.NoError(t, err)
	assert.Equal(
		t,
		map[string]string{
			"signature":     "sha1",
			"encrypt-data":  "aes256-cbc",
			"encrypt-key":   "rsa-1_5",
			"protect-order": "encrypt-sign",
		},
		c.DemandsOf(nil, nil).Algorithms(),
	)
	p.Contract, p.Port = c, c.Port("Manifests")
	p.SetDraft([]byte(manifest))
	f := found(t, run(t, p), "security.token-demanded")
	var set []string
	for _, ch := range f.Remedies[0].All() {
		set = append(set, ch.String())
	}
	assert.Contains(t, strings.Join(set, "\n"), "endpoint.manifests.signature: sha256 → sha1")
	assert.NotContains(t, strings.Join(set, "\n"), "encrypt", "nothing is encrypted")
	for k, v := range map[string]string{"sign": "body,timestamp", "sign-identity": "ines", "timestamp": "5m",
		"reply-trust": filepath.Join(dir, "desk.pem"), "encrypt": "body", "encrypt-to": filepath.Join(dir,
			"desk.pem")} {
		p.Settings.Set(k, v)
	}
	x := run(t, p)
	f = found(t, x, "security.algorithms-differ")
	assert.Len(t, f.Remedies[0].All(), 4)
	for _, ch := range f.Remedies[0].All() {
		p.Settings.Set(ch.Key[strings.LastIndexByte(ch.Key, '.')+1:], ch.To.(string))
	}
	x = run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.NotContains(t, ids(x), "security.algorithms-differ")
	for suite, want := range map[string]string{"Basic128Sha256": "aes128-cbc rsa-oaep sha256",
		"Basic192Sha256Rsa15": "aes192-cbc rsa-1_5 sha256",
		"TripleDes":           "  "} {
		c, err := contract.Load(
			t.Context(),
			"manifests.wsdl",
			[]byte(strings.Replace(src, "Basic256Rsa15", suite, 1)),
			nil,
		)
		require.NoError(t, err)
		got := c.DemandsOf(nil, nil).Algorithms()
		assert.Equal(t, want, got["encrypt-data"]+" "+got["encrypt-key"]+" "+got["signature"])
	}
}

// A reply that was encrypted first and signed then is read in that order.
func TestAReplyThatWasEncryptedBeforeItWasSigned(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	clerk, err := trust.Read(mustRead(t, filepath.Join(dir, "clerk.pem")))
	require.NoError(t, err)
	change := func(s string) string { return s }
	at, _ := listening(t, func([]byte) string {
		stamp := wssec.Build(nil, &wssec.Timestamp{Created: time.Now(), Life: time.Minute})
		sealed, err := wssec.Encrypt(
			[]byte(
				`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Header>`+string(
					stamp.XML,
				)+`</soap:Header><soap:Body><FileManifestResponse xmlns="urn:skerry:manifests"><receipt>M-1</receipt><tonnes>1</tonnes><clerk>x</clerk></FileManifestResponse></soap:Body></soap:Envelope>`,
			),
			&wssec.Encryption{
				To:        clerk[0],
				Data:      "aes256-gcm",
				Transport: "rsa-oaep",
				Reference: wssec.Thumbprint,
				Parts:     []string{"body"},
			},
		)
		assert.NoError(t, err)
		out, err := wssec.Sign(
			sealed,
			&wssec.Signing{
				Key:       h.Desk.Key,
				Cert:      h.Desk.Cert,
				Hash:      crypto.SHA256,
				Reference: wssec.Direct,
				Parts:     []string{"body", "timestamp"},
			},
		)
		assert.NoError(t, err)
		return change(string(out))
	})
	for k, v := range map[string]string{"sign": "body,timestamp", "sign-identity": "ines", "timestamp": "5m",
		"reply-trust": filepath.Join(dir, "desk.pem"), "reply-signature": "demand", "address": at} {
		p.Settings.Set(k, v)
	}
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Contains(t, x.Result, "M-1")
	change = func(s string) string { return strings.Replace(s, "<wsu:Created>2", "<wsu:Created>1", 1) }
	assert.Equal(t, "verify.signature-broken", run(t, p).Cause().ID)
}
