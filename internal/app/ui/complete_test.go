package ui

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPathsAreCompleted(t *testing.T) {
	dir := t.TempDir()
	for _, f := range []string{"berths.wsdl", "berths.xsd", "tides.wsdl", ".hidden"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), nil, 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "papers"), 0o700))
	for text, want := range map[string]string{"/t": "/tides.wsdl", "/b": "/berths.", "/p": "/papers/", "/x": "/x", "/.h": "/.hidden"} {
		whole, _ := CompletePath(dir + text)
		assert.Equal(t, dir+want, whole)
	}
	_, choices := CompletePath(dir + "/be")
	assert.Equal(t, []string{"berths.wsdl", "berths.xsd"}, choices)
	t.Chdir(dir)
	whole, _ := CompletePath("ti")
	assert.Equal(t, "tides.wsdl", whole)
	t.Setenv("HOME", dir)
	whole, _ = CompletePath("~/ti")
	assert.Equal(t, "~/tides.wsdl", whole)
	whole, choices = CompletePath("no such folder/x")
	assert.Equal(t, "no such folder/x", whole)
	assert.Empty(t, choices)
}
