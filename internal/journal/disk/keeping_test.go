package disk

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

var _ journal.Keeper = (*Journal)(nil)

func told(n int, text string) *exchange.Exchange {
	return &exchange.Exchange{
		ID: fmt.Sprintf("01TEST%020d", n), Started: time.Unix(int64(n)*3600, 0), Operation: "FindBerths",
		Outcome: exchange.OutcomePassed,
		Legs: []*exchange.Leg{{RequestBody: []byte("<a><vessel>" + text + "</vessel></a>"),
			ResponseBody: exchange.NewBody([]byte("<b>answer " + text + "</b>"))}},
	}
}

// Words of messages are found, also such as were kept after the first search; what is pruned
// is found no more, and what is pinned or noted stays.
func TestSearchedMarkedAndPruned(t *testing.T) {
	dir := t.TempDir()
	j, err := Open(dir)
	require.NoError(t, err)
	defer j.Close()
	for i, text := range []string{"Alder", "Birch", "Alder again", "Cedar"} {
		require.NoError(t, j.Add(told(i+1, text)))
	}
	found := func(words string) (ids []string) {
		list, err := j.Search(context.Background(), words, 10)
		require.NoError(t, err, words)
		for _, x := range list {
			ids = append(ids, x.ID[25:])
		}
		return ids
	}
	assert.Equal(t, []string{"3", "1"}, found("alder"))
	assert.Equal(t, []string{"3"}, found("alder again"))
	assert.Equal(t, []string{"2"}, found("bir"))
	assert.Empty(t, found("elm"))
	assert.Empty(t, found(`"`))
	assert.Empty(t, found(`alder" OR "cedar`), "what is typed is words, and no query")
	require.NoError(t, j.Add(told(5, "Elm")))
	assert.Equal(t, []string{"5"}, found("elm"))

	id := func(n int) string { return fmt.Sprintf("01TEST%020d", n) }
	require.NoError(t, j.Mark(id(1), journal.Mark{Pinned: true}))
	require.NoError(t, j.Mark(id(2), journal.Mark{Note: "the first with birch"}))
	s, err := j.Size()
	require.NoError(t, err)
	assert.Equal(t, 5, s.Count)
	assert.Positive(t, s.Bytes)
	n, err := j.Prune(time.Unix(100*3600, 0), 0, true)
	require.NoError(t, err)
	assert.Equal(t, 2, n, "two are marked, one is the newest")
	n, err = j.Prune(time.Unix(100*3600, 0), 0, false)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Equal(t, []string{"1"}, found("alder"))
	assert.Empty(t, found("cedar"))
	marks, err := j.Marks()
	require.NoError(t, err)
	assert.Equal(t, "the first with birch", marks[id(2)].Note)
	require.NoError(t, j.Mark(id(1), journal.Mark{}))
	n, err = j.Prune(time.Unix(100*3600, 0), 0, false)
	require.NoError(t, err)
	assert.Equal(t, 1, n)

	require.NoError(t, j.Add(told(6, "Fir")))
	assert.Equal(t, []string{"6"}, found("fir"))
	require.NoError(t, j.Close())
	j, err = Open(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"6"}, found("fir"))
}

// Long bytes that nobody holds any more are taken away with their exchange.
func TestPruningTakesFilesAlong(t *testing.T) {
	dir := t.TempDir()
	j, err := Open(dir)
	require.NoError(t, err)
	defer j.Close()
	x := told(1, "long")
	noise := make([]byte, 8<<20)
	for i, s := 0, uint32(1); i < len(noise); i++ {
		s = s*1664525 + 1013904223
		noise[i] = 'a' + byte(s>>24)%26
	}
	x.Legs[0].ResponseBody = exchange.NewBody(noise)
	require.NoError(t, j.Add(x))
	require.NoError(t, j.Add(told(2, "short")))
	files, err := filepath.Glob(filepath.Join(dir, "large", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	_, err = j.Prune(time.Now(), 0, false)
	require.NoError(t, err)
	files, err = filepath.Glob(filepath.Join(dir, "large", "*"))
	require.NoError(t, err)
	assert.Empty(t, files)
}
