package e2e

import (
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// echo answers with all that came, in a fault; compressed where the path says so.
func echo(t *testing.T) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		w.Header().Set("Set-Cookie", "berth=mooring-fifty-five; Path=/")
		text := strings.NewReplacer("&", "&amp;", "<", "&lt;").Replace(
			fmt.Sprintf("%s %s %s", r.RequestURI, strings.Join(r.Header["X-Api-Key"], " "), body))
		reply := `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body><soap:Fault>` +
			`<faultcode>soap:Server</faultcode><faultstring>` + text + `</faultstring></soap:Fault></soap:Body></soap:Envelope>`
		if !strings.Contains(r.URL.Path, "gzip") {
			w.WriteHeader(http.StatusInternalServerError)
			_, _ = io.WriteString(w, reply)
			return
		}
		w.Header().Set("Content-Encoding", "gzip")
		w.WriteHeader(http.StatusInternalServerError)
		z := gzip.NewWriter(w)
		_, _ = io.WriteString(z, reply)
		_ = z.Close()
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// Secrets of every kind are planted, the service echoes them, and every file and every
// output is looked through.
func TestNoSecretIsLeftAnywhere(t *testing.T) {
	h, at := harbour(t), echo(t)
	homeDir := t.TempDir()
	env := []string{"ORENDA_HOME=" + homeDir, "QUAY_ENTRY=door-of-the-quay-44", "DESK_SECRET=slack-water-secret"}
	dir := filepath.Join(t.TempDir(), "ws")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "add", "http://"+h.Plain+"/berths?wsdl").code)
	envelope := filepath.Join(t.TempDir(), "own.xml")
	require.NoError(t, os.WriteFile(envelope, []byte(
		`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><w:Security xmlns:w="http://docs.oasis-open.org/`+
			`wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>desk</w:Username>`+
			`<w:Password>own&amp;envelope-word</w:Password></w:UsernameToken></w:Security></s:Header><s:Body>`+
			`<FindBerths xmlns="urn:skerry:berths"><length>20</length></FindBerths></s:Body></s:Envelope>`,
	), 0o600))
	secrets := []string{"harbour-key-12", "parameter-key-31", "mooring-fifty-five", "own&amp;envelope-word",
		"own&envelope-word", "slack-water-secret", "password-in-address"}
	var said strings.Builder
	for _, path := range []string{"/plain", "/gzip"} {
		address := strings.Replace(at, "://", "://desk:password-in-address@", 1) + path + "?apikey=parameter-key-31"
		for _, more := range [][]string{
			{"--body", envelope},
			{"length=20", "--user", "desk", "--secret-from", "env:DESK_SECRET", "--token", "text"},
		} {
			args := append([]string{"-w", dir, "call", "FindBerths", "--endpoint", "BerthDesk11", "--address", address,
				"--header", "X-API-Key: harbour-key-12"}, more...)
			r := orenda(t, env, args...)
			said.WriteString(r.out + r.err)
			r = orenda(t, env, append(args, "--json")...)
			said.WriteString(r.out + r.err)
			require.Contains(t, r.out, `"outcome"`, r.err)
			for _, a := range [][]string{
				{"journal", "show", "last"}, {"journal", "show", "last", "--json"}, {"journal", "export", "last"},
				{"handover", "ticket", "last"}, {"handover", "settings", "last"},
			} {
				r = orenda(t, env, append([]string{"-w", dir}, a...)...)
				said.WriteString(r.out + r.err)
			}
			drawing := filepath.Join(t.TempDir(), "path.svg")
			orenda(t, env, "-w", dir, "draw", "path", "last", "--out", drawing)
			b, err := os.ReadFile(drawing)
			require.NoError(t, err)
			said.Write(b)
		}
	}
	for _, root := range []string{homeDir, dir} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			b, err := os.ReadFile(path)
			said.Write(b)
			return err
		}))
	}
	assert.Contains(t, said.String(), "BerthDesk11")
	for _, s := range secrets {
		if i := strings.Index(said.String(), s); i >= 0 {
			t.Errorf("%q is left: …%s…", s, said.String()[max(i-200, 0):min(i+60, said.Len())])
		}
	}
}

// What a person says is a secret is one, by its name wherever it stands, or by its place:
// in the request, in what comes back, in the address and in the heads.
func TestWhatAPersonCallsSecretIsLeftNowhere(t *testing.T) {
	h, at := harbour(t), echo(t)
	homeDir := t.TempDir()
	env := []string{"ORENDA_HOME=" + homeDir}
	dir := filepath.Join(t.TempDir(), "ws")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "add", "http://"+h.Plain+"/berths?wsdl").code)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "draft", "secret", "FindBerths/first", "./length").code)
	require.Equal(t, "./length\n", orenda(t, env, "-w", dir, "draft", "secret", "FindBerths/first").out)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "BerthDesk11", "secret=X-Quay, pier").code)
	var said strings.Builder
	args := []string{"-w", dir, "call", "FindBerths", "length=135.79", "--endpoint", "BerthDesk11",
		"--address", at + "/plain?pier=north-pier-seven", "--header", "X-Quay: quay-word-eleven", "--secret", "X-Quay",
		"--secret", "pier", "--secret", "./length"}
	for _, more := range [][]string{nil, {"--json"}} {
		r := orenda(t, env, append(slices.Clone(args), more...)...)
		said.WriteString(r.out + r.err)
	}
	for _, a := range [][]string{
		{"journal", "show", "last"}, {"journal", "show", "last", "--json"}, {"journal", "show", "last", "--bytes"},
		{"handover", "ticket", "last"}, {"explain", "last"},
	} {
		r := orenda(t, env, append([]string{"-w", dir}, a...)...)
		said.WriteString(r.out + r.err)
	}
	require.NoError(t, filepath.WalkDir(homeDir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		said.Write(b)
		return err
	}))
	assert.Contains(t, said.String(), "BerthDesk11")
	for _, s := range []string{"north-pier-seven", "quay-word-eleven", "135.79"} {
		if i := strings.Index(said.String(), s); i >= 0 {
			t.Errorf("%q is left: …%s…", s, said.String()[max(i-200, 0):min(i+60, said.Len())])
		}
	}
	r := orenda(t, env, "-w", dir, "draft", "secret", "FindBerths/first", "--none")
	assert.Equal(t, 0, r.code, r.err)
}
