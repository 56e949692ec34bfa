//go:build unix

package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A description that is a local file may be a stranger's: what it points to is read
// only where it is a schema or a description, and nothing else gets into the workspace.
func TestALocalDescriptionPullsNoFiles(t *testing.T) {
	l := at(t)
	require.NoError(t, os.MkdirAll(filepath.Join(l.dir, "in"), 0o700))
	token := l.file("token", "slack-water-secret")
	marked := l.file("marked.xml", "<secret>slack-water-secret</secret>")
	l.file("shared.xsd", `<x:schema xmlns:x="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:skerry:types"/>`)
	pipe := filepath.Join(l.dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for i, to := range []string{"/etc/passwd", "file://" + token, "../token", "../marked.xml", marked, "/dev/zero", pipe,
		"../shared.xsd"} {
		source := l.file(fmt.Sprintf("in/%d.wsdl", i), fmt.Sprintf(tinyDescription, to))
		ws := filepath.Join(l.dir, fmt.Sprint("ws", i))
		code, out, errs := l.run("-w", ws, "add", source)
		require.Equal(t, 0, code, "%s: %s%s", to, out, errs)
		var kept []string
		require.NoError(t, filepath.WalkDir(ws, func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				b, err := os.ReadFile(path)
				require.NoError(t, err)
				assert.NotContains(t, string(b), "root:", to)
				assert.NotContains(t, string(b), "slack-water-secret", to)
				kept = append(kept, filepath.Base(path))
			}
			return err
		}))
		assert.Equal(t, strings.HasSuffix(to, ".xsd"), strings.Contains(strings.Join(kept, " "), ".xsd"), "%s: %v", to, kept)
		if !strings.HasSuffix(to, ".xsd") {
			code, out, errs = l.run("describe", source)
			assert.Equal(t, 0, code, errs)
			assert.Contains(t, out+errs, "is not read: it is ", "what was left out is told: %s", to)
		}
	}
}
