package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orenda/internal/exchange"
)

func TestWhatRemediesCost(t *testing.T) {
	for _, c := range []struct {
		where, key string
		from, to   any
		want       exchange.Costs
	}{
		{"workspace", "endpoint.a.receive-limit", "64 KiB", "2 MiB", nil},
		{"workspace", "profile.p.soap", "1.1", "1.2", nil},
		{"workspace", "endpoint.a.action", "", "urn:skerry:berths:FindBerths", nil},
		{"workspace", "endpoint.a.address", "http://berths.skerry.test/x", "http://berths.skerry.test/berths", nil},
		{"workspace", "endpoint.a.address", "http://berths.skerry.test/x", "http://tides.skerry.test/x", exchange.Costs{"trust"}},
		{"workspace", "endpoint.a.address", "https://berths.skerry.test/x", "http://berths.skerry.test/x", exchange.Costs{"secrecy"}},
		{"workspace", "endpoint.a.trust", "", "-----BEGIN", exchange.Costs{"trust"}},
		{"workspace", "endpoint.a.accept-name", "", "tides.skerry.test", exchange.Costs{"trust"}},
		{"workspace", "endpoint.a.tls-min", "1.2", "1.0", exchange.Costs{"trust"}},
		{"user", "allow.pilot-desk", nil, "https://berths.skerry.test:443", exchange.Costs{"secrecy"}},
		{"workspace", "endpoint.a.token", "digest", "text", exchange.Costs{"secrecy"}},
		{"workspace", "endpoint.a.identity", "", "pilot-desk", exchange.Costs{"log-in"}},
		{"draft", "header", nil, "urn:skerry:dues Receipt", exchange.Costs{"message"}},
		{"draft", "endpoint", "a", "b", nil},
		{"workspace", "environment.model.berthHost", "", "berths", nil},
	} {
		r := exchange.NewRemedy("do it", exchange.Change{Where: c.where, Key: c.key, From: c.from, To: c.to})
		x := &exchange.Exchange{Findings: []exchange.Finding{{Remedies: []exchange.Remedy{r}}}}
		Price(x)
		assert.Equal(t, c.want, x.Findings[0].Remedies[0].Costs, "%s %v", c.key, c.to)
	}
}
