package user

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
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
	id.WithPhrases(nil)
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

// What the person wrote by hand into the file outlives a change made here.
func TestAHandWrittenFileOfIdentitiesKeepsItsComments(t *testing.T) {
	h := home(t)
	file := filepath.Join(h.Config, "identities.toml")
	require.NoError(t, os.MkdirAll(h.Config, 0o700))
	const written = `# the harbour's desks, asked for by Ines

[pilot-desk]
user = "pd"            # as on the badge
secret = "env:WORD"
room = "north quay, 2" # not Orenda's

[pilot-desk.log-in]
address = "https://desk.skerry.test/in" # until spring
body = "file:in.xml"

[mate]
user = "m"
secret = "file:/x"
`
	require.NoError(t, os.WriteFile(file, []byte(written), 0o600))
	id, err := h.Identity("pilot-desk")
	require.NoError(t, err)
	id.User = "pilot"
	id.LogIn.Gives = "assertion"
	require.NoError(t, h.SaveIdentity(*id))
	b, _ := os.ReadFile(file)
	want := strings.Replace(written, `"pd"  `, `'pilot'  `, 1)
	want = strings.Replace(want, "body = \"file:in.xml\"\n", "body = \"file:in.xml\"\ngives = 'assertion'\n", 1)
	assert.Equal(t, want, string(b))

	require.NoError(t, h.RemoveIdentity("mate"))
	b, _ = os.ReadFile(file)
	assert.Equal(t, strings.TrimRight(strings.Split(want, "[mate]")[0], "\n"), strings.TrimRight(string(b), "\n"))
	id.LogIn, id.Secret = nil, ""
	require.NoError(t, h.SaveIdentity(*id))
	after, err := h.Identity("pilot-desk")
	require.NoError(t, err)
	assert.Equal(t, *id, *after)
}

// Two of Orenda at once, each with its own view of the file, lose nothing.
func TestTwoOnOnePersonLoseNoIdentity(t *testing.T) {
	a := home(t)
	b := &Home{Config: a.Config, State: a.State}
	var wg sync.WaitGroup
	for i, h := range []*Home{a, b} {
		wg.Go(func() {
			for n := range 20 {
				assert.NoError(t, h.SaveIdentity(identity.Identity{Name: fmt.Sprintf("desk-%d-%d", i, n), User: "x"}))
			}
		})
	}
	wg.Wait()
	all, err := a.Identities()
	require.NoError(t, err)
	assert.Len(t, all, 40)
}

func TestApprovalsAreBoundToWorkspaceIdentityAndPlace(t *testing.T) {
	h := home(t)
	assert.False(t, h.Allowed("/w", "desk", "https://h:443"))
	require.NoError(t, h.Allow("/w", "desk", "https://h:443"))
	require.NoError(t, h.Allow("/w", "desk", "https://h:443"))
	assert.True(t, h.Allowed("/w", "desk", "https://h:443"))
	for _, other := range [][3]string{{"/v", "desk", "https://h:443"}, {"/w", "mate", "https://h:443"}, {"/w",
		"desk", "http://h:443"}, {"/w", "desk", "https://h:444"}} {
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

// A file that cannot be read is named with the place, and stays as it is.
func TestABrokenApprovalsFileIsNamedAndKept(t *testing.T) {
	h := &Home{Config: t.TempDir(), State: t.TempDir()}
	require.NoError(t, h.Allow("/w", "pilot-desk", "https://quay.skerry.test:443"))
	path := filepath.Join(h.Config, "approvals.toml")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	broken := append(b, "<<<<<<< HEAD\n"...)
	require.NoError(t, os.WriteFile(path, broken, 0o600))
	assert.False(t, h.Allowed("/w", "pilot-desk", "https://quay.skerry.test:443"))
	assert.ErrorContains(t, h.Allow("/w", "pilot-desk", "https://quay.skerry.test:444"), path+":3:1: ")
	assert.ErrorContains(t, h.Disallow("/w", "pilot-desk"), path+":3:1: ")
	got, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, broken, got)
}

// A file that is there is never written over, and a new one is private.
func TestANewFileIsWrittenOverNoOther(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keys", "quay.key.pem")
	require.NoError(t, WriteNew(path, []byte("the first key")))
	assert.ErrorIs(t, WriteNew(path, []byte("another")), ErrThere)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "the first key", string(b))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, os.Symlink(path, path+".link"))
	assert.ErrorIs(t, WriteNew(path+".link", []byte("another")), ErrThere, "nor through a link")
}
