package call_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

// revoking is an authority of openssl with its database, its responder and its list.
type revoking struct {
	t         *testing.T
	dir       string
	responder string // address of the OCSP responder
	lists     *httptest.Server
}

func (r *revoking) openssl(args ...string) {
	r.t.Helper()
	cmd := exec.Command("openssl", args...)
	cmd.Dir = r.dir
	out, err := cmd.CombinedOutput()
	require.NoError(r.t, err, "%v: %s", args, out)
}

func newRevoking(t *testing.T) *revoking {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed (make test installs it)")
	}
	r := &revoking{t: t, dir: t.TempDir()}
	r.lists = httptest.NewServer(http.FileServer(http.Dir(r.dir)))
	t.Cleanup(r.lists.Close)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(r.dir, name), []byte(text), 0o600))
	}
	write("index.txt", "")
	write("serial", "1000\n")
	write("crlnumber", "01\n")
	write("ca.cnf", `[ca]
default_ca = quay
[quay]
dir = .
database = index.txt
new_certs_dir = .
serial = serial
crlnumber = crlnumber
certificate = root.pem
private_key = root.key
default_md = sha256
default_days = 30
default_crl_days = 7
policy = any
copy_extensions = copy
[any]
commonName = supplied
`)
	r.openssl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "root.key", "-out", "root.pem", "-days", "30",
		"-subj", "/CN=Skerry revoking root", "-addext", "keyUsage=keyCertSign,cRLSign,digitalSignature")
	// openssl's own listener would take connections from anywhere: it is asked a question at a time.
	var one sync.Mutex
	answers := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		one.Lock()
		defer one.Unlock()
		b, err := io.ReadAll(q.Body)
		if err == nil {
			err = os.WriteFile(filepath.Join(r.dir, "question.der"), b, 0o600)
		}
		if err != nil || q.Header.Get("Content-Type") != "application/ocsp-request" {
			http.Error(w, "no question", http.StatusBadRequest)
			return
		}
		cmd := exec.Command("openssl", "ocsp", "-index", "index.txt", "-rsigner", "root.pem", "-rkey", "root.key", "-CA",
			"root.pem", "-reqin", "question.der", "-respout", "answer.der", "-nmin", "60", "-noverify")
		cmd.Dir = r.dir
		if out, err := cmd.CombinedOutput(); err != nil {
			http.Error(w, string(out), http.StatusInternalServerError)
			return
		}
		http.ServeFile(w, q, filepath.Join(r.dir, "answer.der"))
	}))
	t.Cleanup(answers.Close)
	r.responder = strings.TrimPrefix(answers.URL, "http://")
	return r
}

// issue makes NAME.pem with NAME.key, that names a responder, a list, both or none.
func (r *revoking) issue(name, responder, list string) {
	ext := "subjectAltName=IP:127.0.0.1\n"
	if responder != "" {
		ext += "authorityInfoAccess=OCSP;URI:http://" + responder + "\n"
	}
	if list != "" {
		ext += "crlDistributionPoints=URI:" + list + "\n"
	}
	require.NoError(r.t, os.WriteFile(filepath.Join(r.dir, name+".ext"), []byte(ext), 0o600))
	r.openssl("req", "-newkey", "rsa:2048", "-nodes", "-keyout", name+".key", "-out", name+".csr", "-subj", "/CN="+name)
	r.openssl("ca", "-batch", "-config", "ca.cnf", "-in", name+".csr", "-out", name+".pem", "-extfile", name+".ext",
		"-notext")
}

func (r *revoking) serve(name string, more ...string) string {
	return daemon(r.t, "openssl", func(port string) []string {
		return append([]string{"s_server", "-accept", "127.0.0.1:" + port, "-cert", filepath.Join(r.dir, name+".pem"),
			"-key", filepath.Join(r.dir, name+".key"), "-www", "-quiet"}, more...)
	})
}

// Whether a certificate was revoked is asked of openssl's responder and list, and read from
// what its server staples; without being told to, nobody is asked.
func TestRevokedCertificates(t *testing.T) {
	r := newRevoking(t)
	list := r.lists.URL + "/list.crl"
	for _, name := range []string{"good", "bad"} {
		r.issue(name+"-asked", r.responder, "")
		r.issue(name+"-listed", "", list)
	}
	r.issue("nowhere", "", "")
	r.issue("away", "127.0.0.1:1", "")
	for _, name := range []string{"bad-asked", "bad-listed"} {
		r.openssl("ca", "-config", "ca.cnf", "-revoke", name+".pem", "-crl_reason", "keyCompromise")
	}
	r.openssl("ca", "-config", "ca.cnf", "-gencrl", "-out", "list.pem")
	r.openssl("crl", "-in", "list.pem", "-outform", "DER", "-out", "list.crl")
	for _, name := range []string{"good-asked", "bad-asked"} {
		r.openssl("ocsp", "-index", "index.txt", "-rsigner", "root.pem", "-rkey", "root.key", "-CA", "root.pem",
			"-issuer", "root.pem", "-cert", name+".pem", "-ndays", "1", "-respout", name+".der", "-noverify")
	}
	root := filepath.Join(r.dir, "root.pem")
	for _, c := range []struct {
		name, cert, how string
		server          []string
		want, says      string
	}{
		{"asked, good", "good-asked", "asked", nil, "", "not revoked, as http://" + r.responder + " says"},
		{"asked, revoked", "bad-asked", "asked", nil, "tls.revoked", "the key is compromised"},
		{"listed, good", "good-listed", "asked", nil, "", "not revoked, as the list at " + list},
		{"listed, revoked", "bad-listed", "asked", nil, "tls.revoked", "the key is compromised"},
		{"stapled, good", "good-asked", "stapled", []string{"-status_file", filepath.Join(r.dir, "good-asked.der")}, "",
			"not revoked, as the server's stapled answer says"},
		{"stapled, revoked", "bad-asked", "stapled", []string{"-status_file", filepath.Join(r.dir, "bad-asked.der")},
			"tls.revoked", "as the server's stapled answer says"},
		{"stapled for another", "good-asked", "stapled", []string{"-status_file", filepath.Join(r.dir, "bad-asked.der")},
			"tls.standing-unknown", "the answer is no good"},
		{"nothing stapled", "bad-asked", "stapled", nil, "tls.standing-unknown", "stapled no answer"},
		{"names nobody", "nowhere", "asked", nil, "tls.standing-unknown", "it names no responder and no list"},
		{"not reached", "away", "asked", nil, "tls.standing-unknown", "http://127.0.0.1:1 was not reached"},
		{"not asked", "bad-asked", "off", nil, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			address := r.serve(c.cert, c.server...)
			p := to(t, address, "trust", root, "revocation", c.how)
			p.Until = exchange.TLS
			x := run(t, p)
			said := ""
			for _, f := range x.Stage(exchange.TLS).Facts {
				said += fmt.Sprintln(f.Name, f.Value)
			}
			if c.want == "" {
				assert.NotContains(t, ids(x), "tls.revoked")
				assert.NotContains(t, ids(x), "tls.standing-unknown")
				assert.Contains(t, said, c.says)
				return
			}
			f := found(t, x, c.want)
			assert.Contains(t, f.Why, c.says)
			if c.want == "tls.revoked" {
				assert.Equal(t, exchange.TLS, x.StoppedAt, "nothing is sent to it")
				assert.Equal(t, "tls.revoked", x.Findings[0].ID)
			}
		})
	}
}
