package diagnose

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/exchange"
)

// costOf are the costs of a change of a setting, whatever its value.
//
//nolint:gochecknoglobals // a table: it is never written to
var costOf = map[string]exchange.Cost{
	"trust": exchange.CostTrust, "pin": exchange.CostTrust, "accept-name": exchange.CostTrust,
	"accept-expired": exchange.CostTrust, "system-trust": exchange.CostTrust, "reply-trust": exchange.CostTrust,
	"tls-min": exchange.CostTrust, "ciphers": exchange.CostTrust, "signature": exchange.CostTrust,
	"encrypt-data": exchange.CostTrust, "encrypt-key": exchange.CostTrust, "reply-signature": exchange.CostTrust,
	"proxy": exchange.CostTrust, "redirects": exchange.CostTrust,

	"identity": exchange.CostLogIn, "client-identity": exchange.CostLogIn, "sign-identity": exchange.CostLogIn,
	"proxy-identity": exchange.CostLogIn, "session": exchange.CostLogIn, "client-cert": exchange.CostLogIn,
	"client-key": exchange.CostLogIn, "token-file": exchange.CostLogIn, "secret": exchange.CostLogIn,

	"attach": exchange.CostMessage, "validate": exchange.CostMessage,
}

// Price says of each remedy of an exchange what it costs.
func Price(x *exchange.Exchange) {
	for i := range x.Findings {
		remedies := slices.Clone(x.Findings[i].Remedies)
		for j := range remedies {
			remedies[j].Costs = costs(x, &remedies[j])
		}
		slices.SortStableFunc(remedies, func(a, b exchange.Remedy) int { // what wants typing comes last
			return cmp.Compare(min(len(a.Needs), 1), min(len(b.Needs), 1))
		})
		if len(remedies) > 0 {
			x.Findings[i].Remedies = remedies
		}
	}
}

func costs(x *exchange.Exchange, r *exchange.Remedy) (out exchange.Costs) {
	add := func(c exchange.Cost) {
		if c != "" && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	for _, ch := range r.All() {
		name := ch.Key[strings.LastIndexByte(ch.Key, '.')+1:]
		from, to := fmt.Sprint(ch.From), fmt.Sprint(ch.To)
		switch {
		case strings.HasPrefix(ch.Key, "allow."):
			add(exchange.CostSecrecy)
		case ch.Where == "draft" && ch.Key != "endpoint" && ch.Key != "operation":
			add(exchange.CostMessage)
		case name == "address":
			for _, c := range moves(x, from, to) {
				add(c)
			}
		case name == "token" && to == "text", name == "http-auth" && to == "basic":
			add(exchange.CostSecrecy)
		case name == "token" && to != "none", name == "http-auth" && to != "none":
			add(exchange.CostLogIn)
		case name == "proxy" && to == "none", name == "redirects" && to == "stop":
		default:
			add(costOf[name])
		}
	}
	return out
}

// moves are the costs of another address: another host is trusted, and http shows what
// https hides.
func moves(x *exchange.Exchange, from, to string) (out exchange.Costs) {
	if s := x.Stage(exchange.Address); s != nil {
		if resolved := s.Facts.Get("resolved"); resolved != "" {
			from = resolved
		}
	}
	a, errA := url.Parse(from)
	b, errB := url.Parse(to)
	switch {
	case strings.Contains(to, "${"): // a variable is set elsewhere
		return nil
	case errA != nil || errB != nil || !strings.EqualFold(a.Hostname(), b.Hostname()):
		out = append(out, exchange.CostTrust)
	}
	if errA == nil && errB == nil && a.Scheme == "https" && b.Scheme == "http" {
		out = append(out, exchange.CostSecrecy)
	}
	return out
}
