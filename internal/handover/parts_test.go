package handover

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"orenda/internal/related"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

// Whatever a part is called, its file lies in the folder, and nothing that is
// there is overwritten.
func TestPartsAreSavedInsideTheFolderOnly(t *testing.T) {
	dir := t.TempDir()
	out := filepath.Join(dir, "parts")
	require.NoError(t, os.Mkdir(out, 0o700))
	outside := filepath.Join(dir, "outside")
	require.NoError(t, os.WriteFile(outside, []byte("mine"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(out, "link.txt")))
	l := &exchange.Leg{ResponseBody: exchange.NewBody([]byte("xxENVELOPE"))}
	names := []string{
		"../outside",
		"/etc/passwd",
		`..\..\quay`,
		"link.txt",
		"",
		"a/b/../../../c",
		"\x1b[2J\n",
		strings.Repeat("n", 400),
		"..",
		"chart.pdf",
		"chart.pdf",
		"CON",
	}
	for _, n := range names {
		l.Parts = append(l.Parts, related.Part{Name: n, Type: "text/plain", Start: 0, End: 2})
	}
	l.Parts = append(l.Parts, related.Part{Root: true, Start: 2, End: 10})
	saved, err := SaveParts(l, out)
	require.NoError(t, err)
	require.Len(t, saved, len(names))
	seen := map[string]bool{}
	for _, s := range saved {
		assert.Equal(t, s, filepath.Base(s))
		assert.False(t, seen[s], s)
		seen[s] = true
		b, err := os.ReadFile(filepath.Join(out, s))
		require.NoError(t, err)
		assert.Equal(t, "xx", string(b))
		assert.NotContains(t, s, "\x1b")
	}
	b, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(b), "a link out of the folder is not followed")
	all, _ := os.ReadDir(dir)
	assert.Len(t, all, 2)

	l.Parts = []related.Part{{Start: 4, End: 99}}
	_, err = SaveParts(l, out)
	assert.ErrorContains(t, err, "not kept")
}
