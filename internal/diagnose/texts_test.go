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
	assert.True(
		t,
		string(page) == Markdown(),
		"docs/findings.md is old: orenda explain --list --markdown > docs/findings.md",
	)
}

// No hundredth part is told of replies that are fewer.
func TestSizesInWords(t *testing.T) {
	many := make([]int64, 200)
	for i := range many {
		many[i] = int64(1000 + i)
	}
	for want, sizes := range map[string][]int64{
		"no reply was kept":           nil,
		"375 bytes":                   {375, 375},
		"from 375 to 1 472 964 bytes": {1472964, 375},
		"half up to 1 099 bytes, 99 of 100 up to 1 197, the largest 1 199": many,
	} {
		assert.Equal(t, want, SizesOf(sizes).Words())
	}
	limit, why := SizesOf([]int64{781, 410}).Proposal()
	assert.EqualValues(t, 64<<10, limit)
	assert.Contains(t, why, "64 KiB is the least that is proposed")
	limit, why = SizesOf([]int64{1472964, 375}).Proposal()
	assert.EqualValues(t, 2<<20, limit)
	assert.Equal(
		t,
		"the kept replies (2): from 375 to 1 472 964 bytes; 2 MiB is the next power of two that leaves a ninth to "+
			"spare",
		why,
	)
}
