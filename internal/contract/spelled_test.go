package contract

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatPeoplePasteIsUnderstood(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	file := filepath.Join(dir, "my berths.wsdl")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for text, want := range map[string]string{
		" http://berths.skerry.example/x?wsdl ": "http://berths.skerry.example/x?wsdl",
		"<http://berths.skerry.example/x>":      "http://berths.skerry.example/x",
		`"` + file + `"`:                        file,
		"'" + file + "'":                        file,
		"~/my berths.wsdl":                      file,
		"file://" + dir + "/my%20berths.wsdl":   file,
		dir + `/my\ berths.wsdl`:                file,
		"localhost:8080/berths?wsdl":            "http://localhost:8080/berths?wsdl",
		"berths.skerry.example:81":              "http://berths.skerry.example:81",
		"127.0.0.1/berths":                      "http://127.0.0.1/berths",
		"berths.skerry.example/x?WSDL":          "http://berths.skerry.example/x?WSDL",
		"berths.wsdl":                           "berths.wsdl",
		"papers/berths.wsdl":                    "papers/berths.wsdl",
		"":                                      "",
	} {
		assert.Equal(t, want, Spelled(text), text)
	}
}

func TestADescriptionIsLookedForBesideAService(t *testing.T) {
	got := Candidates(
		[]byte("This service is described at http://berths.skerry.example/about.wsdl.\nhttp://evil.example/x?wsdl"),
		"http://berths.skerry.example/berths",
	)
	assert.Equal(t, "http://berths.skerry.example/about.wsdl", got[0])
	assert.Contains(t, got, "http://berths.skerry.example/berths?wsdl")
	for _, g := range got {
		assert.NotContains(t, g, "evil")
	}
}
