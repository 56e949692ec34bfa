package workspace

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orenda/internal/compare"
	"orenda/internal/exchange"
)

// What the first has can be given to the second where it is its own to set, and else it is
// said why not.
func TestWhatCanBeTakenOver(t *testing.T) {
	a, b := &compare.Place{Value: "1"}, &compare.Place{Value: "2"}
	for _, c := range []struct {
		d    compare.Difference
		key  string
		no   string
		from any
	}{
		{compare.Difference{Kind: compare.Setting, Path: "address", A: &compare.Place{Value: "x", Template: "http://${h}"}, B: b}, "endpoint.berths.address", "", "2"},
		{compare.Difference{Kind: compare.Setting, Path: "answer-time", A: nil, B: b}, "endpoint.berths.answer-time", "", "2"},
		{compare.Difference{Kind: compare.Setting, Path: "nothing", A: a}, "", "no setting", nil},
		{compare.Difference{Kind: compare.Value, Where: exchange.InRequestBody, Path: "Body/Find/vessel/name", A: a, B: b}, "value.vessel/name", "", "2"},
		{compare.Difference{Kind: compare.Missing, Where: exchange.InRequestBody, Path: "Body/Find/remark", A: a}, "value.remark", "", nil},
		{compare.Difference{Kind: compare.Added, Where: exchange.InRequestBody, Path: "Body/Find/remark", B: b}, "", "in the draft", nil},
		{compare.Difference{Kind: compare.Missing, Where: exchange.InRequestBody, Path: "Header/Security", A: a}, "", "settings of security", nil},
		{compare.Difference{Kind: compare.Namespace, Where: exchange.InRequestBody, Path: "Body/Find", A: a, B: b}, "namespace", "", "2"},
		{compare.Difference{Kind: compare.Value, Where: exchange.InResponseBody, Path: "Body/F/x", A: a, B: b}, "", "not yours", nil},
		{compare.Difference{Kind: compare.Reach, Where: compare.InPath, Path: "reach", A: a, B: b}, "", "not yours", nil},
	} {
		got, err := Taken(&c.d, "berths")
		if c.no != "" {
			assert.ErrorContains(t, err, c.no, c.d.Path)
			continue
		}
		assert.NoError(t, err)
		assert.Equal(t, c.key, got.Key)
		assert.Equal(t, c.from, got.From)
	}
	got, _ := Taken(&compare.Difference{Kind: compare.Setting, Path: "address", A: &compare.Place{Value: "x", Template: "http://${h}"}}, "berths")
	assert.Equal(t, "http://${h}", got.To, "a value is taken over as it is written")
}
