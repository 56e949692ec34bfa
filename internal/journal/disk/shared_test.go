package disk

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/journal/journaltest"
)

// indexed reads words into the index before it searches, as the application does behind.
type indexed struct{ *Journal }

func (i indexed) Search(ctx context.Context, text string, most int) ([]*exchange.Exchange, error) {
	if _, err := i.Index(ctx); err != nil {
		return nil, err
	}
	return i.Journal.Search(ctx, text, most)
}

func TestItIsAJournal(t *testing.T) {
	journaltest.Run(t, func(t *testing.T) (journal.Keeper, func() journal.Keeper) {
		dir := t.TempDir()
		again := func() journal.Keeper {
			j, err := Open(dir)
			require.NoError(t, err)
			t.Cleanup(func() { _ = j.Close() })
			return indexed{j}
		}
		return again(), again
	})
}
