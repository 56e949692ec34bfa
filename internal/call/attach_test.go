package call_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"orenda/internal/related"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/standin"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

func papers(t *testing.T, h *standin.Harbour, operation, draft string, set ...string) call.Plan {
	f := fetch(t, "http://"+h.Plain+"/papers?wsdl")
	p := call.Plan{
		Contract:  f.Contract,
		Operation: operation,
		Endpoint:  "papers",
		Agent:     "test",
		Port:      f.Contract.Port("Papers"),
		ReadFile:  os.ReadFile,
	}
	p.SetDraft([]byte(draft))
	p.Settings.Set("soap", "1.1")
	p.Settings.Set("address", "http://"+h.Plain+"/papers")
	for i := 0; i+1 < len(set); i += 2 {
		p.Settings.Set(set[i], set[i+1])
	}
	return p
}

// A file is filed and fetched again in every packaging, and comes back the same,
// without any finding.
func TestFilesTravelInEveryPackaging(t *testing.T) {
	h := harbour(t)
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(7, 7))
	for _, size := range []int{1, 2000, 3 << 20} {
		content := make([]byte, size)
		for i := range content {
			content[i] = byte(r.Uint32())
		}
		file := filepath.Join(dir, "tide table.pdf")
		require.NoError(t, os.WriteFile(file, content, 0o600))
		for _, kind := range []string{"none", soap.MTOM, soap.Attachments} {
			draft := `<FilePaper xmlns="urn:skerry:papers"><vessel>Alder</vessel><kind>chart</kind><paper></paper></FilePaper>`
			if kind == soap.Attachments {
				draft = strings.Replace(draft, "<paper>", `<paper href="cid:paper">`, 1)
			}
			x := run(t, papers(t, h, "FilePaper", draft, "attachments", kind, "attach", "paper="+file))
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%s: %+v", kind, x.Findings)
			assert.Empty(t, ids(x), kind)
			l := x.Leg()
			sum := sha256.Sum256(content)
			assert.Contains(t, string(l.Readable()), hex.EncodeToString(sum[:]), "it came whole: %s", kind)
			inside := bytes.Contains(l.RequestBody, []byte(base64.StdEncoding.EncodeToString(content)))
			assert.Equal(t, kind == "none", inside, kind)
			assert.Equal(t, kind != "none", related.Is(l.Request.Get("Content-Type")))
			receipt := regexp.MustCompile(`P-\d+`).FindString(string(l.Readable()))

			x = run(
				t,
				papers(
					t,
					h,
					"FetchPaper",
					`<FetchPaper xmlns="urn:skerry:papers"><receipt>`+receipt+`</receipt></FetchPaper>`,
					"attachments",
					kind,
				),
			)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%s: %+v", kind, x.Findings)
			assert.Empty(t, ids(x), kind)
			l = x.Leg()
			if kind == "none" {
				assert.Nil(t, l.Parts)
				continue
			}
			require.Len(t, l.Parts, 2)
			out := filepath.Join(dir, "out")
			saved, err := handover.SaveParts(l, out)
			require.NoError(t, err)
			b, err := os.ReadFile(filepath.Join(out, saved[0]))
			require.NoError(t, err)
			assert.Equal(t, content, b)
		}
	}
}

// What is signed and travels as a part is signed with its value in it (XOP 1.0 §3.1),
// and secrets keep their places.
func TestSignedValuesTravelAsParts(t *testing.T) {
	h := harbour(t)
	pki := newPKI(t)
	dir := pki.dir
	clerk, err := h.Desk.Clerk("clerk")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/clerk.pem", clerk, 0o600))
	require.NoError(t, os.WriteFile(dir+"/word", []byte("slack water at noon"), 0o600))
	require.NoError(t, os.WriteFile(dir+"/a.bin", []byte(strings.Repeat("tide", 500)), 0o600))
	var kind string
	var got []byte
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind = r.Header.Get("Content-Type")
		got, _ = io.ReadAll(r.Body)
		w.WriteHeader(500)
	}))
	t.Cleanup(srv.Close)
	p := papers(
		t,
		h,
		"FilePaper",
		`<FilePaper xmlns="urn:skerry:papers"><vessel>Alder</vessel><kind>chart</kind><paper></paper></FilePaper>`,
		"attachments",
		"mtom",
		"attach",
		"paper="+dir+"/a.bin",
		"sign",
		"body",
		"timestamp",
		"5m",
		"client-cert",
		dir+"/clerk.pem",
		"token",
		"text",
		"identity",
		"desk",
		"address",
		srv.URL,
	)
	p.Identity = func(name string) (*identity.Identity, error) {
		return &identity.Identity{Name: name, User: "desk", Secret: "file:" + dir + "/word"}, nil
	}
	x := run(t, p)
	parts, err := related.Split(kind, got)
	require.NoError(t, err, "%+v", x.Findings)
	require.Len(t, parts, 2)
	envelope, _ := parts[0].Content(got)
	value, _ := parts[1].Content(got)
	assert.Contains(t, string(envelope), "slack water at noon")
	assert.NotContains(t, string(x.Redact(nil).Leg().Out), "slack water at noon")
	assert.NotContains(t, string(x.Redact(nil).Leg().RequestBody), "slack water at noon")
	for _, s := range x.Leg().SecretSpans {
		assert.Equal(t, "slack water at noon", string(x.Leg().Out[s.Offset:s.Offset+s.Length]))
	}
	include := regexp.MustCompile(`<xop:Include[^>]*/>`)
	require.Regexp(t, include, string(envelope))
	whole := include.ReplaceAllString(string(envelope), base64.StdEncoding.EncodeToString(value))
	d, err := xmltree.Parse([]byte(whole), xmltree.Limits{})
	require.NoError(t, err)
	all := wssec.Verify(soap.Read(d), wssec.Keys{})
	require.Len(t, all, 1)
	assert.True(t, all[0].Holds(), "%+v", all[0])
}

func TestAttachmentsThatWillNotDo(t *testing.T) {
	h := harbour(t)
	draft := `<FilePaper xmlns="urn:skerry:papers"><vessel>Alder</vessel><kind>chart</kind><paper/></FilePaper>`
	for attach, want := range map[string]string{"paper=/nowhere/a.pdf": "message.attachment-missing",
		"paper":                 "binding.value-invalid",
		"no/such=" + os.Args[0]: "binding.value-invalid"} {
		x := run(t, papers(t, h, "FilePaper", draft, "attachments", "mtom", "attach", attach))
		require.NotNil(t, x.Cause(), attach)
		assert.Equal(t, want, x.Cause().ID, attach)
		assert.NotEmpty(t, x.Cause().Evidence)
	}
	big := filepath.Join(t.TempDir(), "big")
	require.NoError(t, os.WriteFile(big, make([]byte, 70000), 0o600))
	for _, kind := range []string{"none", "mtom", "swa"} {
		x := run(
			t,
			papers(t, h, "FilePaper", draft, "attachments", kind, "attach", "paper="+big, "send-limit", "65536"),
		)
		require.NotNil(t, x.Cause(), kind)
		assert.Equal(t, "message.too-large", x.Cause().ID, kind)
	}

	// A contract that demands MTOM says so, and the remedy sets it.
	src := bytes.Replace(
		fetch(t, "http://"+h.Plain+"/papers?wsdl").Contract.Files[0].Bytes,
		[]byte(` wsp:Optional="true"`),
		nil,
		1,
	)
	c, err := contract.Load(t.Context(), "papers.wsdl", src, nil)
	require.NoError(t, err)
	p := papers(t, h, "FetchPaper", `<FetchPaper xmlns="urn:skerry:papers"><receipt>P-9</receipt></FetchPaper>`)
	p.Contract, p.Port = c, c.Port("Papers")
	x := run(t, p)
	assert.Contains(t, ids(x), "binding.attachments-demanded")
	p.Settings.Set("attachments", "mtom")
	assert.NotContains(t, ids(run(t, p)), "binding.attachments-demanded")
}

// What a message in parts says of its sender is read from its part, also when it is judged again.
func TestASenderIsReadFromAPart(t *testing.T) {
	const envelope = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/` +
		`oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>ines</w:Username><w:Password Type="urn:odd">word</w:Password>` +
		`</w:UsernameToken></w:Security></s:Header><s:Body><FileManifest xmlns="urn:skerry:papers"/></s:Body></s:Envelope>`
	request := "POST /papers HTTP/1.1\r\nHost: 127.0.0.1\r\nSOAPAction: \"\"\r\nContent-Type: multipart/related; boundary=quay; type=\"text/xml\"\r\n\r\n" +
		"--quay\r\nContent-Type: text/xml\r\n\r\n" + envelope + "\r\n--quay\r\nContent-ID: <plan>\r\n\r\n\xff\xfe\x80\r\n--quay--\r\n"
	reply := "HTTP/1.1 500 Internal Server Error\r\nContent-Type: text/xml\r\n\r\n" +
		`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode xmlns:w="http://docs.oasis-open.org/wss/2004/01/` +
		`oasis-200401-wss-wssecurity-secext-1.0.xsd">w:FailedAuthentication</faultcode><faultstring>not known</faultstring></s:Fault></s:Body></s:Envelope>`
	w, err := call.ImportedFrom([]byte(request), []byte(reply))
	require.NoError(t, err)
	x := call.Explain(t.Context(), call.Plan{Agent: "test"}, w)
	for _, f := range x.Findings {
		assert.NotContains(t, f.Why, "No token", f.ID)
		assert.NotContains(t, f.Why, "none was sent", f.ID)
	}
	i := slices.IndexFunc(x.Findings, func(f exchange.Finding) bool { return f.ID == "security.password-type-differs" })
	require.GreaterOrEqual(t, i, 0, ids(x))
	e := x.Findings[i].Evidence[0]
	assert.True(t, strings.HasPrefix(string(x.Leg().RequestBody[e.Offset:]), `<w:Password Type="urn:odd">`))
	assert.Equal(t, "user name, text", x.Stage(exchange.Security).Note)

	archive := `{"log":{"version":"1.2","entries":[{"request":{"method":"POST","url":"http://127.0.0.1/papers","headers":[{"name":"Content-Type",` +
		`"value":"multipart/related; boundary=quay"}],"postData":{"text":"--quay\r\nContent-Type: text/xml\r\n\r\n<a/>\r\n--quay--\r\n"}},` +
		`"response":{"status":200,"statusText":"OK","headers":[],"content":{"size":0,"text":""}}}]}}`
	all, err := call.FromHAR([]byte(archive))
	require.NoError(t, err)
	require.Len(t, all, 1, "an entry in parts is not left out")
	assert.Equal(t, "<a/>", string(all[0].Readable()))
}
