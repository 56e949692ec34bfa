package user

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/endpoint"
	"orenda/internal/identity"
)

func home(t *testing.T) *Home {
	dir := t.TempDir()
	return &Home{Config: filepath.Join(dir, "config"), State: filepath.Join(dir, "state")}
}

func TestWhereThingsAre(t *testing.T) {
	t.Setenv("ORENDA_HOME", "/quay")
	h, err := Find()
	require.NoError(t, err)
	assert.Equal(t, "/quay/config", h.Config)
	t.Setenv("ORENDA_HOME", "")
	t.Setenv("HOME", "/person")
	t.Setenv("XDG_CONFIG_HOME", "/etc/person")
	t.Setenv("XDG_STATE_HOME", "relative is ignored")
	h, err = Find()
	require.NoError(t, err)
	assert.Equal(t, [2]string{"/etc/person/orenda", "/person/.local/state/orenda"}, [2]string{h.Config, h.State})
}

func TestIdentitiesAreKeptAndMissesNamed(t *testing.T) {
	h := home(t)
	none, err := h.Identities()
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, h.SaveIdentity(identity.Identity{Name: "pilot-desk", User: "pd", Secret: "env:WORD"}))
	require.NoError(t, h.SaveIdentity(identity.Identity{Name: "mate", User: "m", Secret: "file:/x"}))
	id, err := h.Identity("pilot-desk")
	require.NoError(t, err)
	assert.Equal(t, identity.Identity{Name: "pilot-desk", User: "pd", Secret: "env:WORD"}, *id)
	_, err = h.Identity("pilot-dsek")
	var miss *endpoint.IdentityError
	require.ErrorAs(t, err, &miss)
	assert.Equal(t, "pilot-desk", miss.Near)
	info, err := os.Stat(filepath.Join(h.Config, "identities.toml"))
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)
	require.NoError(t, os.WriteFile(filepath.Join(h.Config, "identities.toml"), []byte("[broken"), 0o600))
	_, err = h.Identity("mate")
	assert.ErrorContains(t, err, "identities.toml")
	assert.Error(t, h.SaveIdentity(identity.Identity{Name: "x"}), "a broken file is not overwritten")
}

func TestApprovalsAreBoundToWorkspaceIdentityAndPlace(t *testing.T) {
	h := home(t)
	assert.False(t, h.Allowed("/w", "desk", "https://h:443"))
	require.NoError(t, h.Allow("/w", "desk", "https://h:443"))
	require.NoError(t, h.Allow("/w", "desk", "https://h:443"))
	assert.True(t, h.Allowed("/w", "desk", "https://h:443"))
	for _, other := range [][3]string{{"/v", "desk", "https://h:443"}, {"/w", "mate", "https://h:443"}, {"/w", "desk", "http://h:443"}, {"/w", "desk", "https://h:444"}} {
		assert.False(t, h.Allowed(other[0], other[1], other[2]), "%v", other)
	}
}

func TestFilesAreWrittenWholeAndPrivate(t *testing.T) {
	p := filepath.Join(t.TempDir(), "a", "b")
	require.NoError(t, WriteFile(p, []byte("one")))
	require.NoError(t, WriteFile(p, []byte("two")))
	b, _ := os.ReadFile(p)
	assert.Equal(t, "two", string(b))
	left, _ := os.ReadDir(filepath.Dir(p))
	assert.Len(t, left, 1, "no temporary file is left behind")
	assert.Error(t, WriteFile(filepath.Join(p, "c"), nil))
}

func TestALockIsHeldAgainstOthers(t *testing.T) {
	h := home(t)
	count := filepath.Join(t.TempDir(), "count") // read and written without any other care
	require.NoError(t, os.WriteFile(count, nil, 0o600))
	var wg sync.WaitGroup
	for range 8 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			unlock, err := h.Lock("/w")
			if !assert.NoError(t, err) {
				return
			}
			b, err := os.ReadFile(count)
			assert.NoError(t, err)
			assert.NoError(t, os.WriteFile(count, append(b, 'x'), 0o600))
			unlock()
		}()
	}
	wg.Wait()
	b, err := os.ReadFile(count)
	require.NoError(t, err)
	assert.Equal(t, "xxxxxxxx", string(b))
}
