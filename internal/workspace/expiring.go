package workspace

import (
	"crypto/x509"
	"os"
	"slices"

	"orenda/internal/trust"
)

// Expiry is a certificate that the workspace depends on.
type Expiry struct {
	What   string            // "trusted", "intermediate", "client certificate"
	Cert   *x509.Certificate // the certificate
	UsedBy []string          // endpoints, or an identity
}

// Expiring are all certificates that endpoints trust or send, the one that ends
// soonest first. What is sealed is passed over.
func (w *Workspace) Expiring() []Expiry {
	var out []Expiry
	add := func(what, by string, certs []*x509.Certificate) {
		for _, c := range certs {
			i := slices.IndexFunc(out, func(e Expiry) bool { return e.What == what && e.Cert.Equal(c) })
			if i < 0 {
				i = len(out)
				out = append(out, Expiry{What: what, Cert: c})
			}
			if !slices.Contains(out[i].UsedBy, by) {
				out[i].UsedBy = append(out[i].UsedBy, by)
			}
		}
	}
	read := func(name string) []*x509.Certificate {
		b, err := w.ReadFile(name)
		if err != nil {
			return nil
		}
		certs, _ := trust.Read(b)
		return certs
	}
	for _, e := range w.Config().Endpoints {
		s := w.Settings(e.Name)
		for _, f := range s.List("trust") {
			add("trusted", e.Name, read(f))
		}
		for _, f := range s.List("intermediates") {
			add("intermediate", e.Name, read(f))
		}
		if f := s.Text("client-cert"); f != "" {
			if certs := read(f); len(certs) > 0 {
				add("client certificate", e.Name, certs[:1])
			}
		}
	}
	if w.Home != nil {
		if all, err := w.Home.Identities(); err == nil {
			for _, id := range all {
				if b, err := os.ReadFile(id.Certificate); id.Certificate != "" && err == nil {
					if certs, err := trust.Read(b); err == nil {
						add("client certificate", "identity "+id.Name, certs[:1])
					}
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b Expiry) int { return a.Cert.NotAfter.Compare(b.Cert.NotAfter) })
	return out
}
