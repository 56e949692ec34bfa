package expect

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

func replied(t *testing.T, body string) *soap.Envelope {
	t.Helper()
	d, err := xmltree.Parse([]byte(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>`+body+`</e:Body></e:Envelope>`),
		xmltree.Limits{})
	require.NoError(t, err)
	return soap.Read(d)
}

func TestWhatIsTheSameEachTimeIsExpected(t *testing.T) {
	a := replied(t, `<r k="1"><id>17</id><size>4</size><v><n>Alder</n></v><b>1</b><b>2</b><long>a
b</long><empty/></r>`)
	b := replied(t, `<r k="1"><id>18</id><size>4</size><v><n>Alder</n></v><b>3</b><b>4</b><long>a
b</long><empty/></r>`)
	got := AsCame([]*soap.Envelope{a, b})
	assert.Equal(t, []string{"@k=1", "./size=4", "v/n=Alder", "count(b)=2"}, got)
	for _, e := range got {
		_, err := Parse(e)
		assert.NoError(t, err, e)
	}
	fault := replied(t, `<e:Fault><faultcode>e:Client</faultcode><faultstring>no such sign</faultstring></e:Fault>`)
	other := replied(t, `<e:Fault><faultcode>e:Client</faultcode><faultstring>no such sign at 12:01</faultstring></e:Fault>`)
	assert.Equal(t, []string{"fault=Client", "fault*=no such sign"}, AsCame([]*soap.Envelope{fault}))
	assert.Equal(t, []string{"fault=Client"}, AsCame([]*soap.Envelope{fault, other}))
	assert.Empty(t, AsCame([]*soap.Envelope{fault, a}))
	assert.Empty(t, AsCame(nil))
}
