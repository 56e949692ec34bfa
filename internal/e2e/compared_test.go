package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A call that stopped is compared with the last that passed, what differs is taken over, and
// it passes; two marked ones are compared from the traffic.
func TestComparedWithWhatWorks(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	set := func(address string) {
		require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables",
			"address=http://"+h.Plain+address, "default=true").code)
	}
	set("/tides")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "call", "YearTable", "--reply", "none").code)
	set("/tides/~read.fault-server")
	require.NotEqual(t, 0, orenda(t, env, "-w", dir, "call", "YearTable", "year=2028", "--reply", "none").code)

	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable", "2 kept")
	s.keys("p", "[", "]") // the last attempt
	s.sees("attempt 2 · stopped at read")
	s.keys("=")
	s.sees("compare", "a ■■■■ ■■■ ■■ ■■  YearTable → TideTables", "b ■■■■ ■■■ ■■ ×·", "stopped at read",
		"Body/YearTable/year   value", "2027", "2028", "⏎ take over what a has", "set aside")
	s.keys("z")
	s.sees("field, set aside")
	s.keys("z", "y")
	s.sees("copied: the difference")
	s.keys("Home", "Down")
	s.sees("▌ set           address", "/tides/~read.fault-server", "⏎ take over")
	out := filepath.Join(t.TempDir(), "differs.svg")
	s.keys("w")
	s.sees("write the drawing to")
	s.keys("C-u")
	s.types(out)
	s.keys("Enter")
	s.sees("written: ")
	b, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Contains(t, string(b), "Body/YearTable/year")
	s.keys("Enter")
	s.sees("taken over: address")
	assert.NotContains(t, settings(t, dir), "fault-server")
	s.keys("g")
	s.sees("attempt 3", "passed after")
	s.keys("u")
	s.sees("taken back")
	assert.Contains(t, settings(t, dir), "fault-server")

	s.keys("t", "Space", "Down", "Down", "Space")
	s.sees("▌+")
	s.keys("=")
	s.sees("the same but for what was set aside")
}
