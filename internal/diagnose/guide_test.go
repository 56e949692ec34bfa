package diagnose

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each text of the guide is heard as the finding that stands beside it, and leads there.
func TestTheGuideLeadsToTheFindings(t *testing.T) {
	guide, err := os.ReadFile("../../docs/guide.md")
	require.NoError(t, err)
	findings, err := os.ReadFile("../../docs/findings.md")
	require.NoError(t, err)
	quoted := regexp.MustCompile("`([^`]+)`")
	rows := 0
	for _, line := range strings.Split(string(guide), "\n") {
		cells := strings.Split(line, " | ")
		if len(cells) != 3 || !strings.HasPrefix(line, "| `") {
			continue
		}
		rows++
		id := quoted.FindStringSubmatch(cells[2])[1]
		assert.Contains(t, string(findings), "### "+id+"\n")
		assert.Contains(t, cells[2], "(findings.md#"+strings.ReplaceAll(id, ".", "")+")")
		for _, m := range quoted.FindAllStringSubmatch(cells[0], -1) {
			heard := InText(m[1])
			if assert.NotEmpty(t, heard, m[1]) {
				assert.Equal(t, id, heard[0].ID, m[1])
			}
		}
	}
	assert.GreaterOrEqual(t, rows, 30)
}
