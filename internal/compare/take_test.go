package compare

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orenda/internal/exchange"
)

// What the first has can be given to the second where it is its own to set, and else it is
// said why not.
func TestWhatCanBeTakenOver(t *testing.T) {
	a, b := &Place{Value: "1"}, &Place{Value: "2"}
	for _, c := range []struct {
		d    Difference
		key  string
		no   string
		from any
	}{
		{Difference{Kind: Setting, Path: "address", A: &Place{Value: "x", Template: "http://${h}"}, B: b}, "endpoint.berths.address", "", "2"},
		{Difference{Kind: Setting, Path: "answer-time", A: nil, B: b}, "endpoint.berths.answer-time", "", "2"},
		{Difference{Kind: Setting, Path: "nothing", A: a}, "", "no setting", nil},
		{Difference{Kind: Value, Where: exchange.InRequestBody, Path: "Body/Find/vessel/name", A: a, B: b}, "value.vessel/name", "", "2"},
		{Difference{Kind: Missing, Where: exchange.InRequestBody, Path: "Body/Find/remark", A: a}, "value.remark", "", nil},
		{Difference{Kind: Added, Where: exchange.InRequestBody, Path: "Body/Find/remark", B: b}, "", "in the draft", nil},
		{Difference{Kind: Missing, Where: exchange.InRequestBody, Path: "Header/Security", A: a}, "", "settings of security", nil},
		{Difference{Kind: Namespace, Where: exchange.InRequestBody, Path: "Body/Find", A: a, B: b}, "namespace", "", "2"},
		{Difference{Kind: Value, Where: exchange.InResponseBody, Path: "Body/F/x", A: a, B: b}, "", "not yours", nil},
		{Difference{Kind: Reach, Where: InPath, Path: "reach", A: a, B: b}, "", "not yours", nil},
	} {
		got, err := c.d.Take("berths")
		if c.no != "" {
			assert.ErrorContains(t, err, c.no, c.d.Path)
			continue
		}
		assert.NoError(t, err)
		assert.Equal(t, c.key, got.Key)
		assert.Equal(t, c.from, got.From)
	}
	got, _ := (&Difference{Kind: Setting, Path: "address", A: &Place{Value: "x", Template: "http://${h}"}}).Take("berths")
	assert.Equal(t, "http://${h}", got.To, "a value is taken over as it is written")
}
