package disk

import (
	"bytes"
	"compress/flate"
	"database/sql"
	"fmt"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

func TestManyAreKeptAtOnce(t *testing.T) {
	j := open(t, t.TempDir())
	var all []*exchange.Exchange
	for i := range 50 {
		all = append(all, record(i, bytes.Repeat([]byte{byte(i)}, 100_000*(i%2)+10)))
	}
	again := *all[3]
	other := *all[4]
	other.Operation = "DayTable"
	errs := j.AddAll(append(slices.Clone(all), &again, &other))
	assert.Equal(t, []error{nil, journal.ErrTaken}, errs[50:], "the same again is kept; another of its id is not")
	assert.Equal(t, make([]error, 50), errs[:50])
	n, err := j.Count(journal.Query{})
	require.NoError(t, err)
	assert.Equal(t, 50, n)
	got, err := j.Get(all[7].ID)
	require.NoError(t, err)
	assert.Equal(t, int64(100_010), got.Legs[0].In.Len())
	list, err := j.List(journal.Query{Max: 2})
	require.NoError(t, err)
	assert.Equal(t, []string{all[49].ID, all[48].ID}, []string{list[0].ID, list[1].ID}, "in the order in which they came")
}

// What an older version kept is read.
func TestDeflatedRecordsAreRead(t *testing.T) {
	j := open(t, t.TempDir())
	kept := record(1, []byte("high water"))
	require.NoError(t, j.Add(kept))
	require.NoError(t, j.with(func(db *sql.DB) error {
		var head, body []byte
		require.NoError(t, db.QueryRow(`SELECT head, body FROM exchange`).Scan(&head, &body))
		body, err := j.press.Unpress(body)
		require.NoError(t, err)
		whole := exchange.Whole(head, body)
		var old bytes.Buffer
		w, err := flate.NewWriter(&old, flate.BestSpeed)
		require.NoError(t, err)
		_, err = w.Write(whole)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		_, err = db.Exec(`UPDATE exchange SET body = ?`, old.Bytes())
		return err
	}))
	x, err := j.Get(kept.ID)
	require.NoError(t, err)
	assert.Equal(t, "high water", string(x.Legs[0].In.Bytes()))
	assert.NoError(t, j.Add(kept), "and is the same as what is kept now")
}

// What is kept behind is told in its order, and is there once it was told; closing keeps the rest.
func TestKeepingBehindLosesNothing(t *testing.T) {
	j := open(t, t.TempDir())
	var told []string
	b := journal.NewBehind(j, func(x *exchange.Exchange, err error) {
		assert.NoError(t, err)
		if len(told)%100 == 0 {
			_, err = j.Get(x.ID)
			assert.NoError(t, err)
		}
		told = append(told, x.ID)
	})
	var wg sync.WaitGroup
	for w := range 4 {
		wg.Go(func() {
			for i := range 300 {
				x := record(1000*w+i, bytes.Repeat([]byte("ebb "), 2500))
				x.ID = fmt.Sprintf("2701-%d-%04d", w, i)
				b.Add(x)
			}
		})
	}
	wg.Wait()
	b.Close()
	assert.Len(t, told, 1200)
	for w := range 4 {
		var mine []string
		for _, id := range told {
			if id[5] == byte('0'+w) {
				mine = append(mine, id)
			}
		}
		assert.True(t, slices.IsSorted(mine))
	}
	n, err := j.Count(journal.Query{})
	require.NoError(t, err)
	assert.Equal(t, 1200, n)
}
