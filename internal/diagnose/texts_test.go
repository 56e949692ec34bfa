package diagnose

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryFindingIsExplainedOnceAndThePageIsCurrent(t *testing.T) {
	seen := map[string]bool{}
	for _, e := range Catalogue() {
		assert.False(t, seen[e.ID], "%s twice", e.ID)
		seen[e.ID] = true
		assert.NotEmpty(t, e.Means, e.ID)
		assert.NotEmpty(t, e.Seen, e.ID)
		assert.NotEmpty(t, e.Helps, e.ID)
		assert.NotZero(t, e.Stage, e.ID)
		assert.NotEmpty(t, sideWords[e.Side], e.ID)
		assert.NotEmpty(t, severityWords[e.Severity], e.ID)
	}
	for id := range texts {
		assert.True(t, seen[id], "%s is explained and no rule finds it", id)
	}
	page, err := os.ReadFile("../../docs/findings.md")
	require.NoError(t, err)
	assert.True(t, string(page) == Markdown(), "docs/findings.md is old: orenda explain --list --markdown > docs/findings.md")
}
