package crossed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

func large(size int) *exchange.Exchange {
	all := "HTTP/1.1 200 OK\r\n\r\n" + strings.Repeat("<tide><level>3.4</level></tide>\n", size/32)
	var pieces []string
	for i := 0; i < len(all); i += 16 << 10 {
		pieces = append(pieces, all[i:min(i+16<<10, len(all))])
	}
	x := crossed(pieces...)
	x.Legs[0].Response.Size = 19
	return x
}

// An excerpt has the beginning and what a finding speaks of, and tells how much is left out; it
// is as small for a large exchange as for a small one.
func TestAnExcerptIsSmall(t *testing.T) {
	x := large(4 << 20)
	x.Outcome = exchange.OutcomePassed
	at := int64(2 << 20)
	x.Findings = []exchange.Finding{{Evidence: []exchange.Evidence{
		{In: exchange.InResponseBody, Leg: 1, Offset: at, Length: 5},
	}}}
	ix := Excerpt(x)
	assert.Less(t, ix.Count(), 2000)
	all := texts(ix, x)
	assert.Contains(t, all, "HTTP/1.1 200 OK")
	assert.Contains(t, all, "POST / HTTP/1.1")
	mark := ix.Marked(0)
	require.Positive(t, mark)
	assert.Equal(t, "<tide><level>3.4</level></tide> ◂", all[mark])
	gap := -1
	for i, l := range all {
		if strings.HasPrefix(l, "· … ") {
			gap = i
		}
	}
	assert.Positive(t, gap)
	assert.Less(t, gap, mark)

	// Of a small one nothing is left out.
	small := crossed("HTTP/1.1 200 OK\r\n\r\n", "<a>\n", "</a>")
	var whole Lines
	whole.Follow(small)
	assert.Equal(t, texts(&whole, small), texts(Excerpt(small), small))
}

// Lines are marked anew when findings come later.
func TestMarksFollowFindings(t *testing.T) {
	x := crossed("HTTP/1.1 200 OK\r\nX: 1\r\n\r\n", "<b>\n</b>")
	x.Legs[0].Response.Size = 25
	var ix Lines
	ix.Follow(x)
	assert.Equal(t, -1, ix.Marked(0))
	x.Findings = []exchange.Finding{{Evidence: []exchange.Evidence{{In: exchange.InResponseHead, Leg: 1, Offset: 17, Length: 4}}}}
	ix.Follow(x)
	assert.Equal(t, "X: 1 ◂", texts(&ix, x)[ix.Marked(0)])
	x.Findings = nil
	ix.Follow(x)
	assert.Equal(t, -1, ix.Marked(0))
}

// What a key costs where a reply of 50 MB is in sight: the path draws an excerpt, the strip goes
// on where it left off.
func BenchmarkInSight(b *testing.B) {
	x := large(50 << 20)
	b.Run("excerpt", func(b *testing.B) {
		for b.Loop() {
			Excerpt(x).Of(x, exchange.Receive)
		}
	})
	b.Run("strip", func(b *testing.B) {
		var ix Lines
		ix.Follow(x)
		for b.Loop() {
			ix.Follow(x)
			ix.Marked(0)
		}
	})
}
