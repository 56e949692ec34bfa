package cli

import (
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Drawings of a reply's numbers, of its forms and of times are SVG that can be read, or
// PDF.
func TestPlotsAreDrawn(t *testing.T) {
	l := at(t)
	for range 3 {
		code, _, errOut := l.run("call", "FindBerths", "length=12", "--contract", l.berths(), "--port", "BerthDesk11",
			"--reply", "none")
		require.Zero(t, code, errOut)
	}
	for name, args := range map[string][]string{
		"column": {"column", "last", "length"}, "latency": {"latency", "FindBerths"}, "overhead": {"overhead", "last"},
	} {
		for _, ending := range []string{".svg", ".pdf"} {
			file := filepath.Join(l.dir, name+ending)
			code, _, errOut := l.run(append(append([]string{"draw"}, args...), "--out", file)...)
			require.Zero(t, code, errOut)
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			if ending == ".pdf" {
				assert.True(t, strings.HasPrefix(string(b), "%PDF-"), name)
				continue
			}
			d := xml.NewDecoder(strings.NewReader(string(b)))
			for err == nil {
				_, err = d.Token()
			}
			assert.ErrorIs(t, err, io.EOF, name)
			assert.Contains(t, string(b), map[string]string{
				"column": "length", "latency": "median", "overhead": "values alone",
			}[name])
		}
	}
	code, _, errOut := l.run("draw", "column", "last", "quay", "--out", filepath.Join(l.dir, "x.svg"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "quay holds no numbers")
	code, _, errOut = l.run("draw", "column", "last", "none", "--out", filepath.Join(l.dir, "x.svg"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "it has")
	code, _, errOut = l.run("draw", "latency", "FindBerths", "--out", filepath.Join(l.dir, "x.png"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, ".svg or .pdf")
}
