package cli

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

// What a repair would cost is told, and is not done unless it is allowed.
func TestRepairsDoNoHarm(t *testing.T) {
	l := at(t)
	args := []string{"call", "FindBerths", "length=20", "--contract", l.berths(), "--port", "BerthDesk11",
		"--address", "https://" + l.h.TLS + "/berths"}
	code, _, errs := l.run(append(args, "--repair")...)
	assert.Equal(t, 16, code, errs)
	assert.Contains(t, errs, "not done, as it costs trust: trust this certificate")
	assert.Contains(t, errs, "--allow trust does it")
	assert.NotContains(t, errs, "repair: ")
	code, _, errs = l.run(append(args, "--repair", "--allow", "trust")...)
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "repair: trust this certificate")
	code, _, errs = l.run(append(args, "--repair", "--allow", "everything")...)
	assert.NotEqual(t, 0, code)
	assert.Contains(t, errs, "--allow is trust, secrecy, log-in, message or repeats")

	_, out, _ := l.run(append(args, "--json")...)
	var x struct {
		Findings []struct {
			Remedies []struct {
				Title string
				Costs *[]string
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &x))
	require.NotEmpty(t, x.Findings[0].Remedies)
	for _, r := range x.Findings[0].Remedies {
		require.NotNil(t, r.Costs, r.Title)
	}
	assert.Equal(t, []string{"trust"}, *x.Findings[0].Remedies[0].Costs)
}

// A finding that comes again after its repair ends it, and no own change is undone.
func TestRepairsGoInNoCircle(t *testing.T) {
	r, err := newRepairing(nil)
	require.NoError(t, err)
	use := func(id, from, to string) *exchange.Exchange {
		return &exchange.Exchange{Findings: []exchange.Finding{{ID: id, Severity: exchange.Stop, Remedies: []exchange.Remedy{
			exchange.NewRemedy("use "+to, exchange.Change{Where: "workspace", Key: "endpoint.a.soap", From: from, To: to}),
		}}}}
	}
	next, why := r.next(use("read.fault-version", "1.1", "1.2"))
	require.NotNil(t, next, why)
	next, why = r.next(use("read.version-differs", "1.2", "1.1"))
	assert.Nil(t, next)
	assert.Contains(t, why, "takes back an earlier repair")
	next, why = r.next(use("read.fault-version", "1.2", "1.3"))
	assert.Nil(t, next)
	assert.Contains(t, why, "came again after it was repaired")

	// One id may be of two variables: the second is no return of the first.
	unset := func(name string) *exchange.Exchange {
		x := use("address.variable-unset", "", "berths")
		x.Findings[0].Title = "the variable " + name + " is not set"
		x.Findings[0].Remedies[0].Change.Key = "environment.model." + name
		return x
	}
	for _, name := range []string{"host", "port"} {
		next, why = r.next(unset(name))
		assert.NotNil(t, next, why)
	}
	next, why = r.next(unset("host"))
	assert.Nil(t, next)
	assert.Contains(t, why, "came again")
}
