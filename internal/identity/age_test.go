package identity

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file that is sealed with a pass phrase opens once it was given, for the
// sitting; without anybody to ask, from the environment.
func TestSecretsInAgeFiles(t *testing.T) {
	r, err := age.NewScryptRecipient("slack water at noon")
	require.NoError(t, err)
	r.SetWorkFactor(10)
	var b bytes.Buffer
	w, err := age.Encrypt(&b, r)
	require.NoError(t, err)
	_, err = w.Write([]byte("the word\n"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	path := filepath.Join(t.TempDir(), "word.age")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	id := &Identity{Name: "desk", Secret: "age:" + path}
	ctx := context.Background()

	var locked *LockedError
	_, err = id.Reveal(ctx)
	require.ErrorAs(t, err, &locked)
	assert.False(t, locked.Given)
	phrases := &Phrases{}
	id.WithPhrases(phrases)
	phrases.Give(path, "high water")
	_, err = id.Reveal(ctx)
	require.ErrorAs(t, err, &locked)
	assert.True(t, locked.Given)
	phrases.Give(path, "slack water at noon")
	for range 2 {
		got, err := id.Reveal(ctx)
		require.NoError(t, err)
		assert.Equal(t, "the word", got)
	}
	phrases.byFile.Delete(path)
	t.Setenv(PassphraseVariable, "slack water at noon")
	got, err := id.Reveal(ctx)
	require.NoError(t, err)
	assert.Equal(t, "the word", got)

	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "")
	_, err = (&Identity{Name: "desk", Secret: "keyring:desk"}).Reveal(ctx)
	assert.ErrorContains(t, err, "this session has no keyring")
}
