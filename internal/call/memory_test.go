package call_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/journal/disk"
)

// What has changed since a call last passed is told, the suspects first, and what
// repaired the same failure elsewhere is offered: from either journal.
func TestWhatIsRememberedOfCallsLikeIt(t *testing.T) {
	h := harbour(t)
	kept, err := disk.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { kept.Close() })
	for name, j := range map[string]journal.Journal{"memory": &journal.Memory{}, "disk": kept} {
		t.Run(name, func(t *testing.T) {
			send := func(end, limit, draft string, changes ...exchange.Change) *exchange.Exchange {
				p := berths(t, h, "/berths")
				p.Endpoint, p.History, p.Changes, p.Workspace = end, j, changes, "/w"
				if limit != "" {
					p.Settings.Set("receive-limit", limit)
				}
				p.Settings.Set("answer-time", "9s")
				if limit == "" {
					p.Settings.Set("answer-time", "8s")
				}
				p.SetDraft([]byte(draft))
				x := run(t, p)
				require.NoError(t, j.Add(x))
				return x
			}
			assert.Nil(t, send("berths", "128", find).Memory, "nothing is known yet")
			require.Equal(
				t,
				exchange.OutcomePassed,
				send(
					"berths",
					"",
					find,
					exchange.Change{Where: "workspace", Key: "endpoint.berths.receive-limit", From: "128", To: "4 MiB"},
				).Outcome,
			)

			x := send("berths", "256", `<FindBerths xmlns="urn:skerry:berths"><length>21</length></FindBerths>`)
			require.NotNil(t, x.Memory)
			p := x.Memory.Passed
			require.NotNil(t, p)
			require.Len(t, p.Differs, 3)
			assert.Equal(
				t,
				exchange.Differs{
					Key:     "receive-limit",
					Of:      "setting",
					Stage:   exchange.Receive,
					Was:     "16 MiB",
					Is:      "256",
					Suspect: true,
				},
				p.Differs[0],
				"what the cause is about comes first",
			)
			assert.Equal(t, "answer-time", p.Differs[1].Key)
			assert.Equal(t, exchange.Differs{Key: "length", Of: "field", Stage: exchange.Message, Was: "20", Is: "21"}, p.Differs[2])
			var back *exchange.Remedy
			for i, r := range x.Findings[0].Remedies {
				if r.Title[:8] == "take the" {
					back = &x.Findings[0].Remedies[i]
				}
			}
			require.NotNil(t, back, "%+v", x.Findings[0].Remedies)
			assert.Contains(t, fmt.Sprint(back.All()[0]), "receive-limit: 256 → 16 MiB")

			// Another endpoint that never passed fails in the same way.
			x = send("quay", "256", find)
			require.NotNil(t, x.Memory)
			assert.Nil(t, x.Memory.Passed)
			require.Len(t, x.Memory.Repaired, 1)
			assert.Equal(t, "berths", x.Memory.Repaired[0].Endpoint)
			last := x.Findings[0].Remedies[len(x.Findings[0].Remedies)-1]
			assert.Contains(t, last.Title, "do what repaired the same failure of FindBerths → berths")
			assert.Equal(t, "endpoint.quay.receive-limit", last.Change.Key)
			assert.Equal(t, "4 MiB", last.Change.To)
		})
	}
}
