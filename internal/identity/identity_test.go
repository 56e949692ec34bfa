package identity

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsComeFromTheirSources(t *testing.T) {
	t.Setenv("SKERRY_WORD", "low tide")
	f := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(f, []byte("high tide\r\n"), 0o600))
	for src, want := range map[string]string{"env:SKERRY_WORD": "low tide", "file:" + f: "high tide", "command:echo " +
		"slack; true": "slack"} {
		got, err := (&Identity{Name: "desk", Secret: src}).Reveal(context.Background())
		require.NoError(t, err, src)
		assert.Equal(t, want, got)
	}
	for src, why := range map[string]string{"env:SKERRY_NOT": "not set", "file:/nowhere/x": "no such file",
		"command:exit 3": "exit status 3", "plainpassword": "must be env", "x:y": "must be env"} {
		_, err := (&Identity{Name: "desk", Secret: src}).Reveal(context.Background())
		var u *UnavailableError
		require.ErrorAs(t, err, &u)
		assert.ErrorContains(t, err, why)
	}
}
