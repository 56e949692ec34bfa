package cli

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/journal"
)

// Secrets of every kind are planted wherever one can be; calls pass and fail; then
// nothing that was printed, kept, drawn or handed over holds any of them.
func TestNoSecretIsFoundAnywhere(t *testing.T) {
	l := at(t)
	home, ws := filepath.Join(l.dir, "home"), filepath.Join(l.dir, "ws")
	planted := map[string]string{ // where, and what
		"user name token": "plant-wsse-4711 & ebb",
		"http header":     "plant-header-4712",
		"cookie":          "plant-cookie-4713",
		"basic":           "plant-basic-4714:x",
		"log-in":          "plant-login-4715=&",
		"session":         "plant-session-4716",
		"opaque token":    "plant-token-4717",
		"assertion":       base64.StdEncoding.EncodeToString([]byte("plant-assertion-4718")),
		"proxy":           "plant-proxy-4719",
	}
	run := func(args ...string) (int, string) {
		code, out, errOut := l.run(append([]string{"-w", ws}, args...)...)
		return code, out + errOut
	}
	code, out := run("add", "http://"+l.h.Plain+"/berths?wsdl")
	require.Equal(t, 0, code, out)
	_, _ = run("endpoint", "set", "BerthDesk11", "address=http://"+l.h.Plain+"/berths")

	// A service that says again whatever it was sent.
	var heard bytes.Buffer
	var mu sync.Mutex
	echo := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		mu.Lock()
		fmt.Fprintf(&heard, "%s %s\n", b, r.Header)
		mu.Unlock()
		if r.URL.Path == "/open" {
			http.SetCookie(w, &http.Cookie{Name: "quay", Value: planted["session"]})
			return
		}
		for _, v := range r.Header {
			w.Header().Add("X-Said", strings.Join(v, "; "))
		}
		w.Header().Set("Content-Type", "text/xml")
		w.WriteHeader(500)
		fmt.Fprintf(
			w,
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Server</faultcode><faultstring><![CDATA[you said %s with %s]]></faultstring></s:Fault></s:Body></s:Envelope>`,
			b,
			r.Header,
		)
	}))
	t.Cleanup(echo.Close)

	apart := filepath.Join(l.dir, "apart") // where secrets belong
	require.NoError(t, os.MkdirAll(apart, 0o700))
	secretFile := func(name, content string) string {
		p := filepath.Join(apart, name)
		require.NoError(t, os.WriteFile(p, []byte(content), 0o600))
		return p
	}
	t.Setenv("PLANT_WSSE", planted["user name token"])
	t.Setenv("PLANT_BASIC", planted["basic"])
	t.Setenv("PLANT_LOGIN", planted["log-in"])
	require.NoError(t, os.MkdirAll(filepath.Join(home, "config"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, "config", "identities.toml"), []byte(fmt.Sprintf(`
[wsse]
user = "desk"
secret = "env:PLANT_WSSE"
[basic]
user = "desk"
secret = "env:PLANT_BASIC"
[login]
user = "desk"
secret = "env:PLANT_LOGIN"
[login.log-in]
address = "%s/open"
body = "word=${secret}"
`, echo.URL)), 0o600))
	pass := secretFile("pass.xml", `<pass xmlns="urn:quay">`+planted["opaque token"]+`</pass>`)
	assertion := secretFile(
		"assertion.xml",
		`<s:Assertion xmlns:s="urn:oasis:names:tc:SAML:2.0:assertion" ID="a-1"><ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignatureValue>`+planted["assertion"]+`</ds:SignatureValue></ds:Signature></s:Assertion>`,
	)

	var printed bytes.Buffer
	n := 0
	for _, to := range []string{echo.URL + "/", "http://" + l.h.Plain + "/berths", "http://127.0.0.1:1/"} {
		for _, flags := range [][]string{
			{"--token", "text", "--identity", "wsse"}, {"--token", "digest", "--identity", "wsse", "--timestamp", "5m"},
			{"--header", "Authorization: Bearer " + planted["http header"], "--header",
				"Cookie: a=" + planted["cookie"]},
			{"--http-auth", "basic", "--identity", "basic"}, {"--http-auth", "bearer", "--identity", "basic"},
			{"--http-auth",
				"asked", "--identity", "basic"}, {"--http-auth", "ntlm", "--identity", "basic"},
			{"--session", "login"}, {"--token-file", pass, "--token-file", assertion},
			{"--proxy", "http://desk:" + planted["proxy"] + "@127.0.0.1:1"},
		} {
			for _, how := range [][]string{{"--json"}, {"--reply", "exact"}, {"--checks"}} {
				args := append(
					append(
						[]string{"call", "FindBerths", "length=12", "--endpoint", "BerthDesk11", "--address", to},
						flags...),
					how...)
				for range 3 { // what is asked for leave first
					code, out := run(args...)
					printed.WriteString(out)
					if code != 14 && !strings.Contains(out, "connect.proxy-new") {
						break
					}
					_, out = run("repair", "last")
					printed.WriteString(out)
				}
				n++
			}
			for _, more := range [][]string{{"handover", "settings", "last"}, {"handover", "ticket", "last"},
				{"handover",
					"ticket", "last", "--json"}, {"explain", "last"}, {"journal", "show", "last", "--bytes"},
				{"journal",
					"show", "last", "--json"},
				{"journal", "export", "last", "--out", filepath.Join(l.dir, fmt.Sprintf("out-%d.json", n))}, {"draw",
					"path", "last", "--out", filepath.Join(l.dir, fmt.Sprintf("out-%d.svg", n))}} {
				_, out := run(more...)
				printed.WriteString(out)
			}
		}
	}
	_, out = run("journal", "list")
	printed.WriteString(out)

	forms := func(secret string) []string {
		return []string{
			secret,
			url.QueryEscape(secret),
			base64.StdEncoding.EncodeToString([]byte(secret)),
			strings.ReplaceAll(secret, "&", "&amp;"),
			base64.StdEncoding.EncodeToString([]byte("desk:" + secret)),
		}
	}
	for kind, secret := range planted {
		sent := slices.ContainsFunc(
			forms(secret),
			func(f string) bool { return bytes.Contains(heard.Bytes(), []byte(f)) },
		)
		assert.Equal(t, kind != "proxy", sent, "%s was really sent", kind)
	}
	look := func(where string, b []byte) {
		t.Helper()
		for kind, secret := range planted {
			for _, form := range forms(secret) {
				if i := bytes.Index(b, []byte(form)); i >= 0 {
					assert.Fail(
						t,
						"a secret was found",
						"%s in %s: …%s…",
						kind,
						where,
						b[max(i-120, 0):min(i+80, len(b))],
					)
				}
			}
		}
	}
	look("what was printed", printed.Bytes())
	files := 0
	require.NoError(t, filepath.WalkDir(l.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(path, apart) {
			return err
		}
		b, err := os.ReadFile(path)
		files++
		look(path, b)
		return err
	}))
	// Records are deflated in the journal: each is read.
	j, err := (&commandLine{dir: ws}).journal()
	require.NoError(t, err)
	all, err := j.List(journal.Query{Max: 5000})
	require.NoError(t, err)
	for _, x := range all {
		whole, err := j.Get(x.ID)
		require.NoError(t, err)
		b, err := whole.Marshal()
		require.NoError(t, err)
		look("the journal", b)
		for _, leg := range whole.Legs {
			for _, part := range [][]byte{leg.Out, leg.In.Bytes(), leg.RequestBody, leg.ResponseBody.Bytes()} {
				look("the bytes kept of "+x.ID, part)
			}
		}
	}
	assert.Greater(t, len(all), 50)
	assert.Greater(t, files, 30)
	t.Logf("%d calls, %d kept, %d files, %d bytes printed: no secret", n, len(all), files, printed.Len())
}
