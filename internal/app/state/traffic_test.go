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

// An attempt older than those in sight stays open while newer ones come in.
func TestAnOlderAttemptStaysOpen(t *testing.T) {
	s := &State{}
	for i := range maxAttempts + 2 {
		s.traffic.kept = append(s.traffic.kept, &exchange.Exchange{ID: string(rune('z' - i))})
	}
	oldest := s.traffic.kept[len(s.traffic.kept)-1]
	s.Attempts = s.attemptsOf(s.Chosen)
	s.show(oldest)
	s.traffic.kept = append([]*exchange.Exchange{{ID: "new"}}, s.traffic.kept...)
	s.attemptsAgain()
	assert.Equal(t, "new", s.Attempts[len(s.Attempts)-1].ID)
	assert.Same(t, oldest, s.Attempts[s.Shown])
}
