package workspace

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Calls under way read a workspace while it is changed. The race detector sees
// whoever writes to what is read here.
func TestAWorkspaceIsReadWhileItIsChanged(t *testing.T) {
	w := fresh(t)
	require.NoError(
		t,
		w.Apply(
			change("profile.harbour-11.receive-limit", "65536"),
			change("endpoint.TideTables.profile", "harbour-11"),
			change("environment.model.host", "127.0.0.1"),
			change("default-environment", "model"),
		),
	)
	r, err := w.FindDraft("YearTable")
	require.NoError(t, err)
	before := w.Config()
	stop := make(chan struct{})
	var all sync.WaitGroup
	for range 3 {
		all.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				p, err := w.Plan(r, "TideTables", "")
				if !assert.NoError(t, err) {
					return
				}
				assert.NotEmpty(t, p.Shares("harbour-11"))
				assert.NotEmpty(t, p.Known())
				_ = w.Settings("TideTables")
				_ = w.ContractNamed(r.Contract)
				_ = w.Drafts()
				_ = w.Stale()
				_, _ = w.ReadFile("trust/none.pem")
			}
		})
	}
	for i := range 60 {
		assert.NoError(
			t,
			w.Apply(
				change("endpoint.TideTables.answer-time", fmt.Sprintf("%ds", i+1)),
				change("environment.model.host", fmt.Sprint("h", i)),
			),
		)
		assert.NoError(t, w.Reload())
	}
	close(stop)
	all.Wait()
	require.NoError(t, w.Apply(change("endpoint.TideTables.profile", nil)))
	assert.Equal(t, []string{"TideTables"}, before.Using("harbour-11"), "what was read once stays as it was")
	assert.Empty(t, w.Config().Using("harbour-11"))
}
