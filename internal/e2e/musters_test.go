package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A muster is run in the application: a tally as it goes, each case a row, the unexpected ones
// by cause and again alone, and each opens where it stopped.
func TestAMusterInTheApplication(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/berths?wsdl")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "BerthDesk11", "address=http://"+h.Plain+"/berths",
		"default=true").code)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "musters"), 0o700))
	file := filepath.Join(dir, "musters", "nightly.toml")
	write := func(least string) {
		require.NoError(t, os.WriteFile(file, []byte(`[[case]]
name = "small craft"
draft = "FindBerths/first"
values = { length = "12" }
expect = ["count(berth)>=1", "valid"]

[[case]]
name = "far too long"
draft = "FindBerths/first"
values = { length = "300" }
expect = ["count(berth)>=`+least+`"]
`), 0o600))
	}
	write("1")
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("FindBerths")
	s.keys("C")
	s.sees("musters", "nightly", "2 not run", "small craft", "count(berth)>=1 ; valid")
	s.keys("!")
	s.sees("1 as expected", "1 unexpected", "■ small craft", "× far too long", "median")
	s.keys("/")
	now := s.sees("show all", "far too long", "count(berth)>=1")
	assert.NotContains(t, now, "■ small craft")
	s.keys("Enter")
	s.sees("path", "FindBerths")
	s.keys("C")
	s.sees("show all")
	s.keys("/", "z")
	s.sees("1 ×", "far too long")
	s.keys("z")
	write("0")
	s.keys("n")
	s.sees("2 as expected", "fixed")
	r := orenda(t, env, "-w", dir, "muster", "run", "nightly")
	assert.Equal(t, 0, r.code, r.out+r.err)

	// What changes things asks once for the whole run.
	s.keys("b", "Home", "!")
	s.sees("FindBerths/first changes things at the service")
	s.keys("C", "!")
	s.sees("2 of 2 cases change things at the service. Send these too?")
	s.types("no")
	s.keys("Enter")
	s.sees("2 not run", "it changes things at the service")
}

// The same cases against the next version of a service, side by side: what answers otherwise
// is seen, and its two calls are compared.
func TestAMusterBesideAnotherEndpoint(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/callsigns?wsdl")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "CallSigns", "address=http://"+h.Plain+"/callsigns",
		"default=true").code)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "duplicate", "CallSigns", "next").code)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "next", "address=http://"+h.Plain+"/callsigns-next",
		"default=false").code)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "musters"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "musters", "signs.toml"), []byte(`[[case]]
name = "the alder"
draft = "LookUp/first"
values = { sign = "SKAL4", exact = "true" }

[[case]]
name = "too short"
draft = "LookUp/first"
values = { sign = "SK", exact = "false" }
expect = ["fault"]
`), 0o600))
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("LookUp")
	s.keys("C", "!")
	s.sees("2 as expected")
	s.keys("=")
	s.sees("hold the last answers against those of", "next")
	s.keys("Down", "Down", "Enter")
	s.sees("the last run beside next", "1 differs", "the same answer", "next answers 1 case otherwise")
	s.keys("Home", "@")
	s.sees("differences", "Alder", "ALDER")
}
