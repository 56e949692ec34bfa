package call_test

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
	"orenda/internal/trust"
)

const manifest = `<FileManifest xmlns="urn:skerry:manifests"><callSign>SKAL4</callSign><line><goods>salt</goods><tonnes>10.5</tonnes></line><line><goods>nets</goods><tonnes>2</tonnes></line></FileManifest>`

// manifests is a plan to file a manifest as a clerk whose key is there, and the
// folder with the files.
func manifests(t *testing.T, h *standin.Harbour) (call.Plan, string) {
	f := fetch(t, "http://"+h.Plain+"/manifests?wsdl")
	dir := t.TempDir()
	clerk, err := h.Desk.Clerk("Ines Hallam")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "clerk.pem"), clerk, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "desk.pem"), trust.PEM(h.Desk.Cert), 0o600))
	p := call.Plan{
		Contract:  f.Contract,
		Served:    f.Served,
		Operation: "FileManifest",
		Endpoint:  "manifests",
		Agent:     "test",
		ReadFile:  os.ReadFile,
	}
	p.Port = f.Contract.Port("Manifests")
	p.SetDraft([]byte(manifest))
	p.Settings.Layers = []endpoint.Layer{{Source: "contract", Values: map[string][]string{"soap": {"1.1"}}}}
	p.Settings.Set("address", "http://"+h.Plain+"/manifests")
	p.Identity = func(name string) (*identity.Identity, error) {
		return &identity.Identity{Name: name, Certificate: filepath.Join(dir, "clerk.pem")}, nil
	}
	return p, dir
}

// From nothing to a signed and encrypted call, one repair after the other.
func TestSignedAndEncryptedCalls(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	step := func(id string) *exchange.Exchange {
		t.Helper()
		x := run(t, p)
		require.NotEmpty(t, x.Findings, x.Outcome)
		assert.Equal(t, id, x.Findings[0].ID, "%v %s", ids(x), x.Findings[0].Why)
		return x
	}
	x := step("security.token-demanded")
	assert.Equal(t, "send a timestamp, sign body and timestamp", x.Findings[0].Remedies[0].Title)
	p.Settings.Set("sign", "body,timestamp")
	certs, err := trust.Read(mustRead(t, filepath.Join(dir, "clerk.pem")))
	require.NoError(t, err)
	p.Identities = []diagnose.Identity{{Name: "ines", Certificate: certs[0]}}
	x = step("security.signing-key-missing")
	assert.Equal(t, "endpoint.manifests.sign-identity", x.Findings[0].Remedies[0].All()[0].Key)
	p.Settings.Set("sign-identity", "ines")
	x = step("security.part-missing")
	assert.Equal(t, "5m", x.Findings[0].Remedies[0].All()[0].To)
	p.Settings.Set("timestamp", "5m")
	x = step("verify.certificate-untrusted")
	assert.Contains(t, x.Findings[0].Remedies[0].Ask, trust.Grouped(trust.Fingerprint(h.Desk.Cert)))
	p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
	p.Settings.Set("reply-signature", "demand")
	x = run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Contains(t, x.Result, "12.5")
	assert.Contains(
		t,
		x.Stage(exchange.Verify).Facts.Get("signature"),
		"rsa-sha256 over body, timestamp by CN=manifest desk",
	)
	assert.Contains(t, string(x.Leg().RequestBody), "<ds:SignatureValue>")

	p.Settings.Set("encrypt", "body")
	p.Settings.Set("encrypt-to", filepath.Join(dir, "desk.pem"))
	x = run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.NotContains(t, string(x.Leg().RequestBody), "salt")
	assert.NotContains(t, string(x.Leg().ResponseBody.Bytes()), "receipt")
	assert.Contains(t, string(x.Leg().Readable()), "<receipt>M-")
	assert.Equal(t, "body · aes256-gcm", x.Stage(exchange.Read).Facts.Get("decrypted"))
	for _, c := range [][]string{{"signature", "sha512"}, {"signature", "pss-sha256"}, {"sign-key", "embedded"},
		{"sign-canonical",
			"inclusive"}, {"encrypt-data", "aes128-gcm"}, {"encrypt-key", "rsa-oaep-sha256"}, {"encrypt-reference",
			"issuer-serial"}} {
		q := p
		q.Settings.Layers = append([]endpoint.Layer(nil), p.Settings.Layers...)
		q.Settings.Set(c[0], c[1])
		x := run(t, q)
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%v %+v", c, x.Findings)
		assert.Empty(t, ids(x), "%v", c)
	}
	for _, c := range [][]string{{"signature", "sha1"}, {"encrypt-data", "aes256-cbc"}, {"encrypt-key", "rsa-1_5"}} {
		q := p
		q.Settings.Set(c[0], c[1])
		x := run(t, q)
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%v %+v", c, x.Findings)
		assert.Contains(t, ids(x), "security.signature-weak", "%v", c)
	}
	p.Settings.Set("sign-key", "thumbprint") // the desk keeps no list of its clerks
	x = run(t, p)
	assert.Equal(t, exchange.Read, x.StoppedAt)
}

func mustRead(t *testing.T, name string) []byte {
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return b
}

// What is wrong with a reply's protection is told apart.
func TestRepliesWhoseSignaturesAreNotInOrder(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	for k, v := range map[string]string{"sign": "body,timestamp", "sign-identity": "ines", "timestamp": "5m",
		"reply-trust": filepath.Join(dir, "desk.pem")} {
		p.Settings.Set(k, v)
	}
	good := run(t, p)
	require.Equal(t, exchange.OutcomePassed, good.Outcome)
	reply := string(good.Leg().ResponseBody.Bytes())
	p.Settings.Set("encrypt", "body")
	p.Settings.Set("encrypt-to", filepath.Join(dir, "desk.pem"))
	sealed := string(run(t, p).Leg().ResponseBody.Bytes())
	p.Settings.Set("encrypt", "")
	for want, body := range map[string]string{
		"verify.signature-broken": strings.Replace(reply, "12.5", "99.5", 1),
		"verify.unsigned":         `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FileManifestResponse xmlns="urn:skerry:manifests"><receipt>M-1</receipt><tonnes>1</tonnes><clerk>x</clerk></FileManifestResponse></s:Body></s:Envelope>`,
		"read.encrypted":          sealed,
	} {
		at := canned(t, body)
		q := p
		q.Settings.Set("address", at)
		q.Settings.Set("reply-signature", "demand")
		if want == "read.encrypted" {
			other, err := h.Desk.Clerk("Tomas Vane")
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "other.pem"), other, 0o600))
			q.Identity = func(name string) (*identity.Identity, error) {
				return &identity.Identity{Name: name, Certificate: filepath.Join(dir, "other.pem")}, nil
			}
		}
		x := run(t, q)
		require.NotEmpty(t, x.Findings, want)
		assert.Equal(t, want, x.Findings[0].ID, "%v %s", ids(x), x.Findings[0].Why)
		assert.NotEmpty(t, x.Findings[0].Evidence)
	}
	// A signed part that was moved, with another body in its place.
	body := reply[strings.Index(reply, "<soap:Body"):strings.Index(reply, "</soap:Envelope>")]
	wrapped := strings.Replace(
		reply,
		body,
		`<soap:Body><FileManifestResponse xmlns="urn:skerry:manifests"><receipt>M-9</receipt><tonnes>1</tonnes><clerk>x</clerk></FileManifestResponse></soap:Body>`,
		1,
	)
	wrapped = strings.Replace(wrapped, "<soap:Header>", "<soap:Header><w:hold xmlns:w=\"urn:w\">"+body+"</w:hold>", 1)
	q := p
	q.Settings.Set("address", canned(t, wrapped))
	q.Settings.Set("reply-signature", "demand")
	x := run(t, q)
	assert.Equal(t, "verify.unsigned", x.Findings[0].ID, "%v", ids(x))
	assert.Contains(t, x.Findings[0].Why, "no signature covers the body where it stands")
}

// canned is a server that always gives the same reply.
func canned(t *testing.T, body string) string {
	return server(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		_, _ = io.WriteString(w, body)
	})
}

// Where the contract says what the service found missing, the cause says so, and gives that advice.
func TestWhatIsMissingIsWhatTheContractDemands(t *testing.T) {
	h := harbour(t)
	f := fetch(t, "http://"+h.Plain+"/manifests?wsdl")
	port := f.Contract.Port("Manifests")
	w, err := call.ImportedFrom(
		[]byte("POST /manifests HTTP/1.1\r\nHost: "+h.Plain+"\r\nContent-Type: text/xml\r\nSOAPAction: \"\"\r\n\r\n"+
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FileManifest xmlns="urn:skerry:manifests">`+
			`<callSign>SKAL4</callSign></FileManifest></s:Body></s:Envelope>`),
		[]byte("HTTP/1.1 500 Internal Server Error\r\nContent-Type: text/xml\r\n\r\n"+
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode>`+
			`<faultstring>no security header found</faultstring></s:Fault></s:Body></s:Envelope>`))
	require.NoError(t, err)
	x := call.Explain(t.Context(), call.Plan{Agent: "test", Contract: f.Contract, Port: port, Operation: "FileManifest"}, w)
	i := slices.IndexFunc(x.Findings, func(f exchange.Finding) bool { return f.ID == "read.fault-security-missing" })
	require.GreaterOrEqual(t, i, 0, ids(x))
	assert.Contains(t, x.Findings[i].Why, "The contract demands one.")
	assert.NotContains(t, x.Findings[i].Why, "does not mention it")
	assert.Contains(t, x.Findings[i].Program, "X.509")
	assert.NotContains(t, x.Findings[i].Program, "user name token")
}
