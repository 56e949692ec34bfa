package trust

import (
	"crypto/x509"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func issue(t *testing.T, w Wish) *Pair {
	t.Helper()
	p, err := Issue(w)
	require.NoError(t, err)
	return p
}

func reasons(v *Verdict) string {
	var out []string
	for _, f := range v.Faults {
		out = append(out, f.Reason.String())
	}
	return strings.Join(out, " ")
}

func TestVerdicts(t *testing.T) {
	now := time.Now()
	root := issue(t, Wish{Name: "Skerry root", Authority: true})
	mid := issue(t, Wish{Name: "Skerry quay authority", Authority: true, By: root})
	leaf := issue(t, Wish{Name: "tides", Hosts: []string{"tides.skerry.test", "127.0.0.1"}, By: mid})
	self := issue(t, Wish{Name: "tides", Hosts: []string{"tides.skerry.test"}})
	old := issue(
		t,
		Wish{
			Name:      "old",
			Hosts:     []string{"berths.skerry.test"},
			NotBefore: now.AddDate(-2, 0, 0),
			NotAfter:  now.AddDate(-1, 0, 0),
		},
	)
	old2 := issue(
		t,
		Wish{
			Name:      "old too",
			Hosts:     []string{"tides.skerry.test"},
			By:        root,
			NotBefore: now.AddDate(-2, 0, 0),
			NotAfter:  now.AddDate(-1, 0, 0),
		},
	)
	young := issue(t, Wish{Name: "young", Hosts: []string{"tides.skerry.test"}, NotBefore: now.AddDate(1, 0, 0)})
	certs := func(ps ...*Pair) (out []*x509.Certificate) {
		for _, p := range ps {
			out = append(out, p.Cert)
		}
		return out
	}
	for _, c := range []struct {
		name  string
		chain []*x509.Certificate
		p     Policy
		want  string
	}{
		{"trusted authority", certs(leaf, mid), Policy{Trusted: certs(root), Host: "tides.skerry.test"}, ""},
		{"by address", certs(leaf, mid), Policy{Trusted: certs(root), Host: "127.0.0.1"}, ""},
		{"trusted leaf", certs(self), Policy{Trusted: certs(self), Host: "tides.skerry.test"}, ""},
		{"self-signed", certs(self), Policy{System: true, Host: "tides.skerry.test"}, "self-signed"},
		{"unknown authority", certs(leaf, mid), Policy{Host: "tides.skerry.test"}, "authority-unknown"},
		{"middle not sent", certs(leaf), Policy{Trusted: certs(root), Host: "tides.skerry.test"}, "chain-incomplete"},
		{"all at once, in order", certs(old), Policy{Host: "tides.skerry.test"}, "self-signed expired name-differs"},
		{"trust waives the authority alone", certs(old), Policy{Trusted: certs(old), Host: "tides.skerry.test"},
			"expired name-differs"},
		{"exceptions", certs(old), Policy{Trusted: certs(old), Host: "tides.skerry.test",
			AcceptName: "berths.skerry.test", AcceptExpired: Grouped(Fingerprint(old.Cert))},
			""},
		{"older than its authority", certs(old2), Policy{Trusted: certs(root), Host: "tides.skerry.test"}, "expired"},
		{"not yet", certs(young), Policy{Trusted: certs(young), Host: "tides.skerry.test"}, "not-yet-valid"},
	} {
		c.p.Now = now
		assert.Equal(t, c.want, reasons(Judge(c.chain, c.p)), c.name)
	}
}

func TestReadTakesWhatPeopleHave(t *testing.T) {
	p := issue(t, Wish{Name: "tides\nrm -rf", Hosts: []string{"a.test"}})
	text := PEM(p.Cert)
	for name, b := range map[string][]byte{"pem": text, "der": p.Cert.Raw,
		"text around": append([]byte("Subject: x\r\n"), text...),
		"crlf":        []byte(strings.ReplaceAll(string(text), "\n", "\r\n"))} {
		got, err := Read(b)
		require.NoError(t, err, name)
		assert.True(t, got[0].Equal(p.Cert), name)
	}
	for in, want := range map[string]string{"": "neither as PEM nor as DER", "hello": "neither", "-----BEGIN PRIVATE " +
		"KEY-----\nAAAA\n-----END PRIVATE KEY-----\n": "but a private key",
		"-----BEGIN CERTIFICATE-----\nAAA": "damaged"} {
		_, err := Read([]byte(in))
		assert.ErrorContains(t, err, want, in)
	}
	if _, err := exec.LookPath("openssl"); err == nil {
		f := filepath.Join(t.TempDir(), "c.pem")
		require.NoError(t, os.WriteFile(f, text, 0o600))
		out, err := exec.Command("openssl", "x509", "-in", f, "-noout", "-fingerprint", "-sha256").Output()
		require.NoError(t, err)
		assert.Contains(t, string(out), strings.ReplaceAll(Grouped(Fingerprint(p.Cert)), " ", ":"))
	}
}

func TestFingerprintsCompareHoweverTheyAreWritten(t *testing.T) {
	assert.True(t, SameFingerprint("AB:CD", "abcd"))
	assert.True(t, SameFingerprint("sha256:ab cd", "AB:CD"))
	assert.False(t, SameFingerprint("AB:CD", "abce"))
}

func FuzzRead(f *testing.F) {
	p, err := Issue(Wish{Name: "x"})
	require.NoError(f, err)
	f.Add(p.Cert.Raw)
	f.Add(PEM(p.Cert))
	f.Fuzz(func(_ *testing.T, b []byte) {
		certs, _ := Read(b)
		for _, c := range certs {
			_, _ = Names(c), KeyWords(c)
			Judge(certs, Policy{Host: "x", Now: time.Now()})
		}
	})
}
