package journal

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orenda/internal/exchange"
)

// heap is a journal that only takes in.
type heap struct {
	Keeper
	ids []string
}

func (h *heap) Add(x *exchange.Exchange) error {
	h.ids = append(h.ids, x.ID)
	return nil
}

// Who is told of what is kept is told once, and it is kept.
func TestTellingKeepsAndTells(t *testing.T) {
	var told []string
	k := &heap{}
	j := &Telling{Keeper: k, Tell: func(x *exchange.Exchange) { told = append(told, x.ID) }}
	assert.NoError(t, j.Add(&exchange.Exchange{ID: "a"}))
	b := NewBehind(j, func(_ *exchange.Exchange, err error) { assert.NoError(t, err) })
	b.Add(&exchange.Exchange{ID: "b"})
	b.Close()
	assert.Equal(t, []string{"a", "b"}, told)
	assert.Equal(t, []string{"a", "b"}, k.ids)
}
