package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Files outside the workspace: what the person types is read, from wherever they stand;
// what only stands in a workspace's file is asked for once.
func TestAFileOutsideTheWorkspaceIsAskedForOnce(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "w")
	run := func(want int, args ...string) string {
		t.Helper()
		code, out, errOut := l.run(append([]string{"-w", dir}, args...)...)
		require.Equal(t, want, code, "%v %s", args, errOut)
		return out + errOut
	}
	run(0, "add", l.berths())
	draft := l.file("one.xml", `<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`)
	run(0, "draft", "import", draft, "--name", "one")
	plan, token := l.file("plan.pdf", "%PDF"), l.file("token.xml", "<t xmlns='urn:skerry:tokens'/>")

	_, list, _ := l.run("-w", dir, "endpoint", "list")
	end := firstWord(list)
	run(0, "endpoint", "set", end, "default=true", "attachments=swa", "token-file="+token)
	run(0, "draft", "attach", "FindBerths/one", "plan="+plan)
	run(0, "call", "FindBerths/one")

	// The same files, in a workspace that came from elsewhere.
	other := filepath.Join(l.dir, "theirs")
	require.NoError(t, os.CopyFS(other, os.DirFS(dir)))
	dir = other
	said := run(13, "call", "FindBerths/one")
	assert.Contains(t, said, "message.file-new")
	assert.NotContains(t, said, "escapes")
	said = run(0, "call", "FindBerths/one", "--repair", "--allow", "secrecy") // one file after the other
	assert.Contains(t, said, "security.file-new")
	assert.Contains(t, said, token)
	run(0, "call", "FindBerths/one")

	// A link that leads out is no way round.
	require.NoError(t, os.Symlink(l.file("other.xml", "<t xmlns='urn:skerry:tokens'/>"), filepath.Join(dir, "link.xml")))
	settings, err := os.ReadFile(filepath.Join(dir, "orenda.toml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "orenda.toml"),
		[]byte(replaced(t, string(settings), token, "link.xml")), 0o600))
	assert.Contains(t, run(14, "call", "FindBerths/one"), "security.file-new")

	// A path that is typed is meant from where the person stands.
	t.Chdir(l.dir)
	run(0, "endpoint", "set", end, "token-file=token.xml")
	run(0, "call", "FindBerths/one")
}

func firstWord(s string) string { return strings.Fields(s)[0] }

func replaced(t *testing.T, s, old, with string) string {
	t.Helper()
	require.Contains(t, s, old)
	return strings.ReplaceAll(s, old, with)
}
