package standin

//revive:disable:line-length-limit an answer is one line

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Desk is the manifest desk's own key, which signs its replies and opens what is
// encrypted for it, and the authority that vouches for the clerks.
type Desk struct {
	Cert   *x509.Certificate // its certificate
	Key    *rsa.PrivateKey   // that belongs to it
	Clerks *trust.Pair       // who may file
	Gate   *Gate             // whose assertions are taken in a clerk's place
}

// newDesk makes the keys.
func newDesk() (*Desk, error) {
	key, cert, err := rsaPair("manifest desk", nil)
	if err != nil {
		return nil, err
	}
	clerks, err := trust.Issue(trust.Wish{Name: "Skerry clerks", Authority: true})
	if err != nil {
		return nil, err
	}
	gate, err := newGate()
	return &Desk{cert, key, clerks, gate}, err
}

// rsaPair is an RSA key with a certificate, signed by an authority or by itself.
func rsaPair(name string, by *trust.Pair) (*rsa.PrivateKey, *x509.Certificate, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 100))
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{
		SerialNumber:          serial,
		Subject:               pkix.Name{CommonName: name, Organization: []string{"Skerry Harbour Trust"}},
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().AddDate(1, 0, 0),
		KeyUsage:              x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
		BasicConstraintsValid: true,
		SubjectKeyId:          serial.Bytes(),
	}
	parent, signer := t, crypto.Signer(key)
	if by != nil {
		parent, signer = by.Cert, by.Key
	}
	der, err := x509.CreateCertificate(rand.Reader, t, parent, &key.PublicKey, signer)
	if err != nil {
		return nil, nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return key, cert, err
}

// Clerk is a key and a certificate for a clerk, in PEM.
func (d *Desk) Clerk(name string) (pem []byte, err error) {
	key, cert, err := rsaPair(name, d.Clerks)
	if err != nil {
		return nil, err
	}
	return (&trust.Material{Certs: []*x509.Certificate{cert}, Key: key}).Write(trust.PEMFile, "")
}

// open takes what is encrypted off a request, and checks who signed it: body and
// timestamp must be covered where they stand.
//
//revive:disable-next-line:cyclomatic one request, answered in one place
func (d *Desk) open(body []byte) (plain []byte, _ who, encrypted bool, no *fault) {
	refuse := func(code, why string) ([]byte, who, bool, *fault) {
		return body, who{}, false, &fault{code: code, reason: why, secure: true}
	}
	plain, parts, err := wssec.Decrypt(body, []wssec.DecryptionKey{{Key: d.Key, Cert: d.Cert}})
	if err != nil {
		return refuse("FailedCheck", "the message cannot be decrypted: "+err.Error())
	}
	doc, err := xmltree.Parse(plain, xmltree.Limits{Depth: 200})
	e := soap.Read(doc)
	if err != nil || e == nil {
		return plain, who{}, len(parts) > 0, nil // the service itself says what is wrong
	}
	if e.Header.IsZero() || e.Header.Child(wssec.WSSE, "Security").IsZero() {
		return refuse("InvalidSecurity", "no security header found")
	}
	if name, code, why := d.Gate.admits(e, time.Now()); name != "" {
		return plain, who{name: name}, len(parts) > 0, nil
	} else if why != "" {
		return refuse(code, why)
	}
	all := wssec.Verify(e, wssec.Keys{})
	if len(all) == 0 {
		return refuse("InvalidSecurity", "the message is not signed")
	}
	if !all[0].Holds() && len(parts) > 0 { // encrypted first, and signed as it came
		if d, err := xmltree.Parse(body, xmltree.Limits{Depth: 200}); err == nil {
			if sealed := soap.Read(d); sealed != nil {
				if as := wssec.Verify(sealed, wssec.Keys{}); len(as) > 0 && as[0].Holds() {
					all, e = as, sealed
				}
			}
		}
	}
	s := &all[0]
	if !s.Holds() {
		why := s.Why
		for _, r := range s.References {
			if r.Why != "" {
				why = r.Why
			}
		}
		return refuse("FailedCheck", "the signature does not hold: "+why)
	}
	if !s.Covers(e.Body) {
		return refuse("FailedCheck", "the body is not signed")
	}
	if ts := e.Header.Child(wssec.WSSE, "Security").Child(wssec.WSU, "Timestamp"); ts.IsZero() || !s.Covers(ts) {
		return refuse("InvalidSecurity", "a signed timestamp is due")
	}
	roots := x509.NewCertPool()
	roots.AddCert(d.Clerks.Cert)
	if _, err := s.Cert.Verify(x509.VerifyOptions{Roots: roots,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		return refuse("FailedAuthentication", "the signer is no clerk of this harbour")
	}
	return plain, who{s.Cert.Subject.CommonName, s.Cert}, len(parts) > 0, nil
}

// who is who files a manifest: by a certificate, or by an assertion.
type who struct {
	name string
	cert *x509.Certificate // nil: an assertion said so
}

// seal signs a reply, and encrypts it for the clerk where the request was.
func (d *Desk) seal(reply []byte, clerk *x509.Certificate, encrypt bool) []byte {
	h := wssec.Build(nil, &wssec.Timestamp{Created: time.Now(), Life: 5 * time.Minute})
	head := "<soap:Header>\n" + string(h.XML) + "\n  </soap:Header>\n  <soap:Body"
	out := []byte(strings.Replace(string(reply), "<soap:Body", head, 1))
	out, err := wssec.Sign(
		out,
		&wssec.Signing{
			Key:       d.Key,
			Cert:      d.Cert,
			Hash:      crypto.SHA256,
			Reference: wssec.Direct,
			Parts:     []string{"body", "timestamp"},
		},
	)
	if err != nil {
		return reply
	}
	if encrypt && clerk != nil {
		if sealed, err := wssec.Encrypt(out, &wssec.Encryption{To: clerk, Data: "aes256-gcm", Transport: "rsa-oaep",
			Reference: wssec.Thumbprint, Parts: []string{"body"}}); err == nil {
			return sealed
		}
	}
	return out
}

func (h *Harbour) manifest(body xmltree.Node, clerk string) string {
	tonnes := 0.0
	for l := range body.Named("urn:skerry:manifests", "line") {
		t, _ := strconv.ParseFloat(strings.TrimSpace(l.Child("urn:skerry:manifests", "tonnes").Text()), 64)
		tonnes += t
	}
	h.mu.Lock()
	h.orders++
	n := h.orders
	h.mu.Unlock()
	return fmt.Sprintf(
		"    <FileManifestResponse "+
			"xmlns=\"urn:skerry:manifests\"><receipt>M-%04d</receipt><tonnes>%g</tonnes><clerk>%s</clerk></FileManifestResponse>",
		n,
		tonnes,
		xmltree.EscapeText(clerk),
	)
}
