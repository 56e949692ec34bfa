package state

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orenda/internal/exchange"
)

// The head of a call may be read of the journal before the one who sent it is told: the call
// itself, with its bytes, then takes the place of its head.
func TestABodyTakesThePlaceOfItsHead(t *testing.T) {
	var tr traffic
	tr.kept = []*exchange.Exchange{{ID: "b"}, {ID: "a"}}
	full := &exchange.Exchange{ID: "a", Moments: []exchange.Moment{{At: 1}}}
	tr.fill(full)
	assert.Same(t, full, tr.kept[1])
	tr.fill(&exchange.Exchange{ID: "b"})
	assert.Nil(t, tr.kept[0].Moments)
}
