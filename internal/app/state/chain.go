package state

import (
	"context"
	"crypto/x509"
	"time"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/revocation"
)

// fetchChainTime bounds a handshake that is made to see the chain.
const fetchChainTime = 30 * time.Second

// Chain is the newest handshake that an endpoint's calls showed, or a fetch of
// its chain; nil where there was none.
func (s *State) Chain(end string) *exchange.Exchange {
	newest := s.chains[end]
	for _, x := range s.traffic.kept {
		if x.Endpoint != end || x.Kind != "" {
			continue
		}
		if l := x.Leg(); l != nil && l.Conn.TLS != nil && len(l.Conn.TLS.Chain) > 0 &&
			(newest == nil || x.Started.After(newest.Started)) {
			return x
		}
	}
	return newest
}

// FetchChain shakes hands with an endpoint to see its chain, and sends nothing.
func (s *State) FetchChain(end string) { s.fetchChain(end, false) }

// AskStanding shakes hands with an endpoint, and asks whether the certificates of its chain were revoked.
func (s *State) AskStanding(end string) { s.fetchChain(end, true) }

// Standing is whether a certificate of an endpoint's chain was revoked, as far as it was asked; nil: it was not.
func (s *State) Standing(end string, c *x509.Certificate) *exchange.Standing {
	for i, one := range s.standings[end] {
		if one.Serial == c.SerialNumber.Text(16) && one.Subject == c.Subject.String() {
			return &s.standings[end][i]
		}
	}
	return nil
}

func (s *State) fetchChain(end string, asks bool) {
	w := s.W
	p := call.Plan{
		Workspace:   w.ID(),
		Agent:       call.Agent,
		Operation:   "trust",
		Endpoint:    end,
		Settings:    w.Settings(end),
		ReadFile:    w.ReadFile,
		Environment: s.Environment,
		History:     s.J,
	}
	p.Variables, _ = w.Variables(s.Environment)
	if asks {
		p.Settings.Set("revocation", "asked")
	}
	s.Say("shaking hands with %s …", end)
	s.run.Go(func(ctx context.Context) {
		ctx, cancel := context.WithTimeout(ctx, fetchChainTime)
		defer cancel()
		x := call.Chain(ctx, p)
		var standings []exchange.Standing
		if sent, more := Certificates(x); asks && len(sent) > 0 {
			standings = revocation.Of(ctx, append(sent, more...), x)
		}
		s.post(func() {
			s.chains[end] = x
			if asks {
				s.standings[end] = standings
			}
			if l := x.Leg(); l == nil || l.Conn.TLS == nil || len(l.Conn.TLS.Chain) == 0 {
				why := "it is not called over TLS"
				if c := x.Cause(); c != nil {
					why = c.Title
				}
				s.Say("%s showed no certificate: %s", end, why)
				return
			}
			if s.Say(""); asks {
				s.Say("%s", standingWords(standings))
			}
		})
	})
}

// standingWords says in a line what was found.
func standingWords(all []exchange.Standing) string {
	var revoked, unknown int
	for i := range all {
		switch all[i].State {
		case exchange.StandingRevoked:
			revoked++
		case exchange.StandingGood:
		default:
			unknown++
		}
	}
	switch {
	case revoked > 0:
		return count(revoked, "certificate") + " of the chain revoked"
	case len(all) == 0:
		return "no certificate of the chain can be revoked"
	case unknown > 0:
		return "of " + count(unknown, "certificate") + " it is not known whether it was revoked"
	}
	return "no certificate of the chain was revoked"
}

// Certificates are those of a handshake: as they were sent, and those that
// complete the chain.
func Certificates(x *exchange.Exchange) (sent, more []*x509.Certificate) {
	if x == nil || x.Leg() == nil || x.Leg().Conn.TLS == nil {
		return nil, nil
	}
	t := x.Leg().Conn.TLS
	for i, raw := range t.Chain {
		if c, err := x509.ParseCertificate(raw); err == nil && i < 20 {
			sent = append(sent, c)
		}
	}
	for i, raw := range t.Completed {
		if i < len(t.Chain) {
			continue
		}
		if c, err := x509.ParseCertificate(raw); err == nil {
			more = append(more, c)
		}
	}
	return sent, more
}
