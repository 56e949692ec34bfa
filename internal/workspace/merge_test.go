package workspace

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTwoChangesArePutTogether(t *testing.T) {
	base := "<a>\n<b>1</b>\n<c>2</c>\n</a>"
	for _, c := range []struct{ mine, theirs, want string }{
		{base, base, base},
		{"<a>\n<b>9</b>\n<c>2</c>\n</a>", base, "<a>\n<b>9</b>\n<c>2</c>\n</a>"},
		{base, "<a>\n<b>1</b>\n<c>8</c>\n</a>", "<a>\n<b>1</b>\n<c>8</c>\n</a>"},
		{"<a>\n<b>9</b>\n<c>2</c>\n</a>", "<a>\n<b>1</b>\n<c>8</c>\n</a>", "<a>\n<b>9</b>\n<c>8</c>\n</a>"},
		{"<a>\n<b>1</b>\n<c>8</c>\n</a>", "<a>\n<b>999</b>\n<c>2</c>\n</a>", "<a>\n<b>999</b>\n<c>8</c>\n</a>"},
		{"<a>\n<b>5</b>\n<c>2</c>\n</a>", "<a>\n<b>6</b>\n<c>2</c>\n</a>", ""},
		{"", base, ""},
	} {
		got, ok := merge([]byte(base), []byte(c.mine), []byte(c.theirs))
		if c.mine == "" {
			assert.Empty(t, got, "what was emptied here stays empty where nobody else changed it")
			continue
		}
		assert.Equal(t, c.want != "", ok, "%s | %s", c.mine, c.theirs)
		assert.Equal(t, c.want, string(got))
	}
}

func FuzzMerge(f *testing.F) {
	f.Add("abc", "abd", "xbc")
	f.Add("aaaa", "aaa", "aaaaa")
	f.Add("", "a", "b")
	f.Fuzz(func(t *testing.T, base, mine, theirs string) {
		got, ok := merge([]byte(base), []byte(mine), []byte(theirs))
		other, ok2 := merge([]byte(base), []byte(theirs), []byte(mine))
		assert.Equal(t, ok, ok2, "it does not matter who is who")
		if ok {
			assert.Equal(t, string(got), string(other))
			assert.Equal(
				t,
				len(mine)+len(theirs)-len(base),
				len(got)*b2i(mine != theirs)+(len(mine)+len(theirs)-len(base))*b2i(mine == theirs),
			)
		}
	})
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func TestNothingThatWasWrittenIsLost(t *testing.T) {
	w := fresh(t)
	r, err := w.FindDraft("YearTable")
	require.NoError(t, err)
	base := []byte("<YearTable><station>A</station><year>2027</year></YearTable>")
	require.NoError(t, w.WriteDraft(r, base))
	other, err := Open(w.Dir(), w.Home)
	require.NoError(t, err)
	require.NoError(t, other.WriteDraft(r, []byte("<YearTable><station>A</station><year>2028</year></YearTable>")))
	body, _, err := w.SaveDraft(
		r,
		base,
		[]byte("<YearTable><station>Skerry</station><year>2027</year></YearTable>"),
		nil,
		nil,
	)
	require.NoError(t, err)
	assert.Equal(t, "<YearTable><station>Skerry</station><year>2028</year></YearTable>", string(body))

	// In the same place both are kept.
	require.NoError(t, other.WriteDraft(r, []byte("<YearTable><station>Holm</station><year>2028</year></YearTable>")))
	_, _, err = w.SaveDraft(
		r,
		body,
		[]byte("<YearTable><station>Sound</station><year>2028</year></YearTable>"),
		nil,
		nil,
	)
	var conflict *ConflictError
	require.ErrorAs(t, err, &conflict)
	theirs, err := w.ReadDraft(r)
	require.NoError(t, err)
	mine, err := w.ReadDraft(conflict.Kept)
	require.NoError(t, err)
	assert.Contains(t, string(theirs), "Holm")
	assert.Contains(t, string(mine), "Sound")

	// A change of the settings file by another program is seen, and both hold.
	assert.False(t, w.Stale())
	require.NoError(t, other.Apply(change("endpoint.TideTables.answer-time", "9s")))
	assert.True(t, w.Stale())
	require.NoError(t, w.Apply(change("endpoint.TideTables.connect-time", "3s")))
	assert.Equal(t, []string{"9s"}, w.Endpoint("TideTables").Values["answer-time"])
	assert.False(t, w.Stale())
}
