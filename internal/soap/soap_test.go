package soap

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/xmltree"
)

func read(t *testing.T, src []byte) *Envelope {
	t.Helper()
	d, err := xmltree.Parse(src, xmltree.Limits{})
	require.NoError(t, err)
	return Read(d)
}

func TestWhatIsBuiltIsRead(t *testing.T) {
	for _, v := range []Version{V11, V12} {
		src, at := Build(v, [][]byte{[]byte(`<h xmlns="urn:h"/>`)}, []byte(`<b xmlns="urn:b">x</b>`))
		e := read(t, src)
		require.NotNil(t, e)
		assert.Equal(t, v, e.Version)
		assert.Equal(t, at, e.Payload.Span().Start)
		assert.True(t, e.Header.FirstChild().Is("urn:h", "h"))
		assert.Nil(t, e.Fault)
	}
}

func TestActionIsQuotedAsTheVersionAsks(t *testing.T) {
	assert.Equal(
		t,
		[][2]string{{"Content-Type", "text/xml; charset=utf-8"}, {"SOAPAction", `"urn:a"`}},
		HTTPHeaders(V11, "utf-8", "urn:a", true),
	)
	assert.Equal(
		t,
		[][2]string{{"Content-Type", "text/xml; charset=utf-8"}, {"SOAPAction", `""`}},
		HTTPHeaders(V11, "utf-8", "", true),
	)
	assert.Equal(
		t,
		[][2]string{{"Content-Type", `application/soap+xml; charset=utf-8; action="urn:a"`}},
		HTTPHeaders(V12, "utf-8", "urn:a", true),
	)
	assert.Equal(
		t,
		[][2]string{{"Content-Type", "application/soap+xml; charset=utf-8"}},
		HTTPHeaders(V12, "utf-8", "", true),
	)
}

func TestFaultsOfBothVersions(t *testing.T) {
	e := read(
		t,
		[]byte(
			`<s:Envelope xmlns:s="`+NS11+`"><s:Body><s:Fault><faultcode>s:Client.Quota</faultcode><faultstring> too many </faultstring><detail><x/></detail></s:Fault></s:Body></s:Envelope>`,
		),
	)
	require.NotNil(t, e.Fault)
	assert.Equal(t, "Client", e.Fault.Code.Local)
	assert.True(t, e.Fault.HasCode("Quota"))
	assert.True(t, e.Fault.FromSender())
	assert.Equal(t, "too many", e.Fault.Reason)
	assert.Equal(t, "x", e.Fault.Detail.FirstChild().Name().Local)

	e = read(
		t,
		[]byte(
			`<s:Envelope xmlns:s="`+NS12+`" xmlns:w="urn:w"><s:Body><s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>w:Busy</s:Value></s:Subcode></s:Code>
	<s:Reason><s:Text xml:lang="de">voll</s:Text><s:Text xml:lang="en">full</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`,
		),
	)
	require.NotNil(t, e.Fault)
	assert.Equal(t, "{urn:w}Busy", e.Fault.Subcodes[0].String())
	assert.Equal(t, "full", e.Fault.Reason)
	assert.False(t, e.Fault.FromSender())
}

func TestOtherDocumentsAreNoEnvelope(t *testing.T) {
	assert.Nil(t, read(t, []byte(`<html/>`)))
	assert.Nil(t, read(t, []byte(`<Envelope xmlns="urn:other"/>`)))
}
