package workspace

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// A kept description that is damaged is fetched again, and what the person made
// of it stays: their endpoints are no more than they were, their drafts as they
// wrote them.
func TestADamagedDescriptionIsTakenAnew(t *testing.T) {
	for name, damage := range map[string]func(t *testing.T, dir string){
		"a document that it imports": func(t *testing.T, dir string) { spoil(t, dir, "01-*") },
		"the description itself":     func(t *testing.T, dir string) { spoil(t, dir, "00-*") },
		"its index":                  func(t *testing.T, dir string) { spoil(t, dir, "sources.toml") },
		"all of it":                  func(t *testing.T, dir string) { require.NoError(t, os.RemoveAll(dir)) },
	} {
		t.Run(name, func(t *testing.T) {
			w := fresh(t)
			mine := []byte("<YearTable>mine</YearTable>")
			ref := DraftRef{"tide-tables", "Tides", "YearTable", "first"}
			for _, r := range w.Drafts() {
				if r.Operation == "YearTable" {
					ref = r
				}
			}
			require.NoError(t, w.WriteDraft(ref, mine))
			damage(t, filepath.Join(w.Dir(), "contracts/tide-tables"))
			w, err := Open(w.Dir(), w.Home)
			require.NoError(t, err)

			p, err := w.Plan(ref, "", "")
			if err == nil {
				var op *endpoint.OperationError
				require.ErrorAs(t, p.NoEndpoint, &op)
				require.Len(t, op.Unread, 1)
				assert.Contains(t, op.Unread[0], "tides-abstract.wsdl: line 1")
			} else {
				var damaged *SnapshotError
				require.True(t, errors.As(err, &damaged), "%v", err)
				assert.Contains(t, err.Error(), "tide-tables")
				assert.Contains(t, err.Error(), "contracts/tide-tables/")
			}

			for _, f := range w.Survey().Run() {
				assert.NotContains(t, f.Title, "has no port", "that is not known")
				assert.Empty(t, f.Remedies, f.Title)
			}

			require.NoError(t, w.TakeOver("tide-tables", load(t, "tides.wsdl"), ""))
			w, err = Open(w.Dir(), w.Home)
			require.NoError(t, err)
			assert.Len(t, w.Config().Endpoints, 5)
			got, err := w.ReadDraft(ref)
			require.NoError(t, err)
			assert.Equal(t, string(mine), string(got))
			p, err = w.Plan(ref, "TideTables", "")
			require.NoError(t, err)
			assert.NoError(t, p.NoEndpoint)
		})
	}
}

func spoil(t *testing.T, dir, pattern string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, pattern))
	require.NoError(t, err)
	require.Len(t, files, 1)
	require.NoError(t, os.WriteFile(files[0], []byte("<<<<<<< HEAD\n"), 0o600))
}

// A draft that is moved to the operation that it is for goes beside the drafts
// that are there, never over one.
func TestADraftIsMovedOverNoOther(t *testing.T) {
	w := fresh(t)
	wrong, there := DraftRef{
		"berth-desk",
		"BerthDesk",
		"FindBerths",
		"first",
	}, DraftRef{
		"berth-desk",
		"BerthDesk",
		"LogSighting",
		"first",
	}
	require.NoError(t, w.WriteDraft(wrong, []byte("<LogSighting>moved</LogSighting>")))
	require.NoError(t, w.WriteDraft(there, []byte("<LogSighting>mine</LogSighting>")))
	to, err := w.ChangeDraft(wrong, exchange.Change{Where: "draft", Key: "operation", To: "LogSighting"})
	require.NoError(t, err)
	assert.Equal(t, DraftRef{"berth-desk", "BerthDesk", "LogSighting", "first 2"}, to)
	for ref, want := range map[DraftRef]string{there: "mine", to: "moved"} {
		b, err := w.ReadDraft(ref)
		require.NoError(t, err)
		assert.Contains(t, string(b), want)
	}
	_, err = w.ReadDraft(wrong)
	assert.Error(t, err)
}
