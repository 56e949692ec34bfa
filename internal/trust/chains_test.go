package trust

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made is a certificate with its key.
type made struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// certify makes a certificate; by is nil for one that signs itself.
func certify(t *testing.T, name string, by *made, change func(*x509.Certificate)) *made {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name, Organization: []string{"Skerry Harbour Trust"}},
		NotBefore: time.Now().AddDate(0, -1, 0), NotAfter: time.Now().AddDate(1, 0, 0), BasicConstraintsValid: true,
	}
	change(c)
	if by == nil {
		by = &made{c, key}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, by.cert, &key.PublicKey, by.key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &made{cert, key}
}

func authority(c *x509.Certificate) { c.IsCA, c.KeyUsage = true, x509.KeyUsageCertSign }

func forServer(c *x509.Certificate) {
	c.DNSNames, c.KeyUsage, c.ExtKeyUsage = []string{"localhost"}, x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
}

// TestChainsAreJudgedAsOpensslDoes: a chain that another program refuses is refused here, and is told for what it is.
func TestChainsAreJudgedAsOpensslDoes(t *testing.T) {
	root := certify(t, "Skerry Root", nil, authority)
	mid := certify(t, "Skerry Harbour Authority", root, authority)
	leaf := func(by *made, change func(*x509.Certificate)) *made {
		return certify(t, "berths", by, func(c *x509.Certificate) {
			forServer(c)
			if change != nil {
				change(c)
			}
		})
	}
	other := certify(t, "Foreign Root", nil, authority)
	twin := certify(t, "Skerry Root", nil, authority) // of the same name
	noCA := certify(t, "Skerry clerk", root, func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageDigitalSignature })
	short := certify(t, "Skerry last authority", root, func(c *x509.Certificate) { authority(c); c.MaxPathLenZero = true })
	below := certify(t, "Skerry one too many", short, authority)
	narrow := certify(t, "Skerry quay authority", root, func(c *x509.Certificate) {
		authority(c)
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true, []string{"quay.skerry.test"}
	})
	noSigns := certify(t, "Skerry idle authority", root, func(c *x509.Certificate) { authority(c); c.KeyUsage = x509.KeyUsageCRLSign })
	impostor := certify(t, "Skerry Harbour Authority", root, authority)
	odd := func(c *x509.Certificate) {
		c.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 55555, 1}, Critical: true, Value: []byte{5, 0}}}
	}
	oddMid := certify(t, "Skerry odd authority", root, func(c *x509.Certificate) { authority(c); odd(c) })
	for _, c := range []struct {
		name  string
		leaf  *made
		chain []*made
		want  string
	}{
		{"good", leaf(mid, nil), []*made{mid}, ""},
		{"with its root", leaf(mid, nil), []*made{mid, root}, ""},
		{"in another order", leaf(mid, nil), []*made{root, mid}, ""},
		{"twice", leaf(mid, nil), []*made{mid, mid}, ""},
		{"with a stranger", leaf(mid, nil), []*made{other, mid}, ""},
		{"straight from the root", leaf(root, nil), nil, ""},
		{"for anything", leaf(mid, func(c *x509.Certificate) { c.ExtKeyUsage = nil }), []*made{mid}, ""},
		{"nothing else sent", leaf(mid, nil), nil, "chain-incomplete"},
		{"the root in the place of its authority", leaf(mid, nil), []*made{root}, "chain-incomplete"},
		{"of a stranger", leaf(other, nil), []*made{other}, "authority-unknown"},
		{"of a twin of the root", leaf(twin, nil), nil, "authority-unknown"},
		{"signed by no authority", leaf(noCA, nil), []*made{noCA}, "chain-broken"},
		{"signed by one that may not sign", leaf(noSigns, nil), []*made{noSigns}, "chain-broken"},
		{"one authority too many", leaf(below, nil), []*made{below, short}, "chain-broken"},
		{"beyond the names of its authority", leaf(narrow, nil), []*made{narrow}, "chain-broken"},
		{"an authority of the same name", leaf(mid, nil), []*made{impostor}, "chain-broken"},
		{"an unknown critical extension", leaf(mid, odd), []*made{mid}, "chain-broken"},
		{"of its authority", leaf(oddMid, nil), []*made{oddMid}, "chain-broken"},
		{"for clients", leaf(mid, func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }),
			[]*made{mid}, "usage-differs"},
		{"for e-mail", leaf(mid, func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageEmailProtection} }),
			[]*made{mid}, "usage-differs"},
		{"only signs certificates", leaf(mid, func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageCertSign }), []*made{mid}, "usage-differs"},
	} {
		chain := []*x509.Certificate{c.leaf.cert}
		for _, m := range c.chain {
			chain = append(chain, m.cert)
		}
		v := Judge(chain, Policy{Trusted: []*x509.Certificate{root.cert}, Host: "localhost", Now: time.Now(), Usage: x509.ExtKeyUsageServerAuth})
		assert.Equal(t, c.want, reasons(v), "%s: %v", c.name, v.Faults)

		dir := t.TempDir()
		for name, certs := range map[string][]*x509.Certificate{"root": {root.cert}, "leaf": chain[:1], "sent": chain} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), PEM(certs...), 0o600))
		}
		verify := exec.Command("openssl", "verify", "-no_check_time", "-purpose", "sslserver", "-verify_hostname", "localhost",
			"-CAfile", "root", "-untrusted", "sent", "leaf")
		verify.Dir = dir
		said, err := verify.CombinedOutput()
		assert.Equal(t, c.want == "", err == nil, "%s: openssl says %s", c.name, said)
	}
}

// TestDatesOfWhatLeadsToTrust: of what is sent, only what is needed has to be in its dates, and of two ways to what is
// trusted the one that holds now is taken.
func TestDatesOfWhatLeadsToTrust(t *testing.T) {
	root, old := certify(t, "Skerry Root", nil, authority), certify(t, "Skerry Old Root", nil, authority)
	ended := func(c *x509.Certificate) { authority(c); c.NotAfter = time.Now().AddDate(0, 0, -1) }
	mid := certify(t, "Skerry Harbour Authority", root, authority)
	again := func(by *made, change func(*x509.Certificate)) *made { // the same authority, vouched for by another
		c := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: mid.cert.Subject, NotBefore: mid.cert.NotBefore,
			NotAfter: mid.cert.NotAfter, BasicConstraintsValid: true}
		change(c)
		der, err := x509.CreateCertificate(rand.Reader, c, by.cert, &mid.key.PublicKey, by.key)
		require.NoError(t, err)
		cert, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return &made{cert, mid.key}
	}
	cross := again(old, ended)
	leaf := certify(t, "berths", mid, forServer)
	judge := func(trusted *made, chain ...*made) string {
		var certs []*x509.Certificate
		for _, m := range chain {
			certs = append(certs, m.cert)
		}
		return reasons(Judge(certs, Policy{Trusted: []*x509.Certificate{trusted.cert, old.cert}, Host: "localhost", Now: time.Now()}))
	}
	assert.Empty(t, judge(root, leaf, cross, mid), "the other way holds")
	assert.Equal(t, "expired", judge(old, leaf, cross), "there is no other way")
	assert.Empty(t, judge(leaf, leaf, cross), "what is trusted itself needs nobody")
	v := Judge([]*x509.Certificate{leaf.cert, cross.cert}, Policy{Trusted: []*x509.Certificate{old.cert}, Host: "localhost", Now: time.Now()})
	require.Len(t, v.Faults, 1)
	assert.Equal(t, 1, v.Faults[0].Index)
}

// TestAnAddressThatStandsAsAName may be accepted by the person.
func TestAnAddressThatStandsAsAName(t *testing.T) {
	c := certify(t, "berths", nil, func(c *x509.Certificate) { forServer(c); c.DNSNames = []string{"127.0.0.1"} })
	p := Policy{Trusted: []*x509.Certificate{c.cert}, Host: "127.0.0.1", Now: time.Now()}
	assert.Equal(t, "name-differs", reasons(Judge([]*x509.Certificate{c.cert}, p)))
	p.AcceptName = "127.0.0.1"
	assert.Empty(t, reasons(Judge([]*x509.Certificate{c.cert}, p)))
}

// TestASignatureThatIsTooWeak is all that is said of a chain which leads to what is trusted but for that; openssl signs.
func TestASignatureThatIsTooWeak(t *testing.T) {
	dir := t.TempDir()
	sh := func(script string) {
		c := exec.Command("sh", "-ec", script)
		c.Dir = dir
		said, err := c.CombinedOutput()
		require.NoError(t, err, "%s", said)
	}
	sh(`openssl req -x509 -newkey rsa:2048 -nodes -keyout r.key -out root -subj "/CN=Skerry Root" -days 30
		printf 'basicConstraints=critical,CA:TRUE' >ca.ext; printf 'subjectAltName=DNS:localhost' >leaf.ext
		openssl req -newkey rsa:2048 -nodes -keyout m.key -out m.csr -subj "/CN=Skerry Harbour Authority"
		openssl req -newkey rsa:2048 -nodes -keyout l.key -out l.csr -subj "/CN=berths"
		for how in sha1 sha256; do
			openssl x509 -req -in m.csr -CA root -CAkey r.key -CAcreateserial -extfile ca.ext -$how -out mid-$how -days 30
			openssl x509 -req -in l.csr -CA mid-$how -CAkey m.key -CAcreateserial -extfile leaf.ext -$how -out leaf-$how -days 30
		done`)
	one := func(name string) *x509.Certificate {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		certs, err := Read(b)
		require.NoError(t, err)
		return certs[0]
	}
	root, other := one("root"), certify(t, "Foreign Root", nil, authority).cert
	for _, c := range []struct {
		leaf, mid string
		trusted   *x509.Certificate
		want      string
	}{
		{"leaf-sha256", "mid-sha256", root, ""},
		{"leaf-sha1", "mid-sha256", root, "key-weak"},
		{"leaf-sha256", "mid-sha1", root, "key-weak"},
		{"leaf-sha1", "mid-sha1", root, "key-weak key-weak"},
		{"leaf-sha1", "mid-sha256", other, "authority-unknown key-weak"},
	} {
		v := Judge([]*x509.Certificate{one(c.leaf), one(c.mid)}, Policy{Trusted: []*x509.Certificate{c.trusted}, Host: "localhost", Now: time.Now()})
		assert.Equal(t, c.want, reasons(v), "%s of %s: %v", c.leaf, c.mid, v.Faults)
		assert.Equal(t, c.want == "", v.By != "")
	}
	v := Judge([]*x509.Certificate{one("leaf-sha256")}, Policy{Trusted: []*x509.Certificate{root}, Intermediates: []*x509.Certificate{one("mid-sha1")},
		Host: "localhost", Now: time.Now()})
	assert.NotEmpty(t, v.Faults, "what is set here to complete a chain is held to the same")
}
