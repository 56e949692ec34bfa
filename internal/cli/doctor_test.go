package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheDoctorSaysWhatIsWrong(t *testing.T) {
	l := at(t)
	t.Setenv("HTTPS_PROXY", "")
	var all []sign
	l.json(0, &all, "doctor")
	of := map[string]sign{}
	for _, s := range all {
		of[s.What] = s
	}
	for _, what := range []string{"orenda", "terminal", "clipboard", "key ring", "proxy", "trust store", "configuration", "state",
		"journal"} {
		assert.True(t, of[what].OK, what)
		assert.NotEmpty(t, of[what].Says, what)
	}
	code, out, _ := l.run("--version")
	assert.Zero(t, code)
	assert.Contains(t, out, "go1.")

	file := filepath.Join(l.dir, "a file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	t.Setenv("ORENDA_HOME", file)
	code, out, _ = l.run("doctor")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "! configuration")
	assert.Contains(t, out, "set ORENDA_HOME")
}
