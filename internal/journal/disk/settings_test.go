package disk

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// set is an exchange with settings, of which the address ends in a number.
func set(n, address int) *exchange.Exchange {
	x := record(n, []byte("high water"))
	for i := range 50 {
		x.Settings = append(x.Settings, exchange.Setting{Key: fmt.Sprintf("key-%d", i), Value: "usual", Source: "default"})
	}
	x.Settings = append(x.Settings, exchange.Setting{Key: "address", Stage: exchange.Address,
		Value: fmt.Sprintf("http://127.0.0.1/%d", address), Source: "endpoint"})
	return x
}

func lists(t *testing.T, db *sql.DB) (uses []int) {
	t.Helper()
	require.NoError(t, scan(db, func(n int) error { uses = append(uses, n); return nil },
		`SELECT uses FROM settings ORDER BY uses`))
	return uses
}

// Equal settings are kept once, are there wherever an exchange is read, and go with the last that has them.
func TestEqualSettingsAreKeptOnce(t *testing.T) {
	dir := t.TempDir()
	j := open(t, dir)
	var all []*exchange.Exchange
	for i := range 6 {
		all = append(all, set(i, i%2))
	}
	assert.Equal(t, make([]error, 6), j.AddAll(all))
	assert.Equal(t, []error{nil, journal.ErrTaken}, j.AddAll([]*exchange.Exchange{all[3], set(3, 0)}),
		"the same again; and another of its id")
	assert.Equal(t, []int{3, 3}, lists(t, j.db))
	require.NoError(t, j.Close())

	j = open(t, dir) // whose lists are not known yet
	for i := range 6 {
		x, err := j.Get(record(i, nil).ID)
		require.NoError(t, err)
		assert.Equal(t, set(i, i%2).Settings, x.Settings)
	}
	list, err := j.List(journal.Query{})
	require.NoError(t, err)
	after, last, err := j.After(2)
	require.NoError(t, err)
	assert.EqualValues(t, 6, last)
	for _, x := range append(append(list, after...), j.Passed("/w", "YearTable", "tides")) {
		assert.Len(t, x.Settings, 51)
	}

	require.NoError(t, j.Judge(set(1, 1)))
	assert.Equal(t, []int{3, 3}, lists(t, j.db), "who is judged again counts once")
	require.NoError(t, j.Forget(record(0, nil).ID, record(2, nil).ID))
	assert.Equal(t, []int{1, 3}, lists(t, j.db))
	require.NoError(t, j.Forget(record(4, nil).ID))
	assert.Equal(t, []int{3}, lists(t, j.db))
}

// What an older version kept has its settings in its head: they are read, and it is the same as what is kept now.
func TestSettingsOfOlderRecordsAreRead(t *testing.T) {
	j := open(t, t.TempDir())
	x := set(1, 1)
	require.NoError(t, j.Add(x))
	text, err := json.Marshal(set(1, 1).Settings)
	require.NoError(t, err)
	_, err = j.db.Exec(`UPDATE exchange SET settings = NULL,
		head = CAST(json_set(CAST(head AS TEXT), '$.settings', json(?)) AS BLOB)`, string(text))
	require.NoError(t, err)
	assert.Empty(t, lists(t, j.db))
	list, err := j.List(journal.Query{})
	require.NoError(t, err)
	assert.Equal(t, set(1, 1).Settings, list[0].Settings)
	assert.NoError(t, j.Add(x))
	other := *x
	other.Settings = set(1, 2).Settings
	assert.ErrorIs(t, j.Add(&other), journal.ErrTaken)
	require.NoError(t, j.Judge(set(1, 1)))
	assert.Equal(t, []int{1}, lists(t, j.db))
}

// Settings are there in a journal that was salvaged, and an exchange whose settings are lost is read without them.
func TestSettingsAreSalvaged(t *testing.T) {
	dir := t.TempDir()
	j := open(t, dir)
	for i := range 4 {
		require.NoError(t, j.Add(set(i, i/3)))
	}
	require.NoError(t, j.Close())
	db, err := connect(filepath.Join(t.TempDir(), "new.db"))
	require.NoError(t, err)
	defer db.Close()
	assert.Equal(t, 4, salvage(filepath.Join(dir, "journal.db"), db))
	assert.Equal(t, []int{1, 3}, lists(t, db))

	j = open(t, dir)
	_, err = j.db.Exec(`DELETE FROM settings`)
	require.NoError(t, err)
	_, err = j.Prune(time.Unix(2, 0), 0, false)
	require.NoError(t, err)
	list, err := j.List(journal.Query{})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Empty(t, list[0].Settings)
}
