package soap

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/xmltree"
)

func TestVersionsAndTheirMedia(t *testing.T) {
	for text, want := range map[string]Version{"1.1": V11, "1.2": V12} {
		v, err := ParseVersion(text)
		require.NoError(t, err)
		assert.Equal(t, want, v)
		assert.Equal(t, text, v.String())
		assert.Equal(t, v, VersionOf(v.Namespace()))
		assert.Equal(t, v, VersionOfMedia(v.MediaType()+"; charset=utf-8"))
	}
	_, err := ParseVersion("1.3")
	assert.Error(t, err)
	assert.Equal(t, "", Unset.String())
	assert.Equal(t, Unset, VersionOfMedia("text/html"))
	assert.Equal(t, Unset, VersionOfMedia(""))
	assert.Equal(t, V12, VersionOfMedia(`APPLICATION/SOAP+XML; action="a;b"`))
}

func TestAnActionCannotBreakOutOfItsQuotes(t *testing.T) {
	h := HTTPHeaders(V12, "utf-8", `a"; evil="b`, true)
	assert.Equal(t, `application/soap+xml; charset=utf-8; action="a\"; evil=\"b"`, h[0][1])
	assert.Len(t, HTTPHeaders(V11, "utf-8", "x", false), 1, "none is sent where none is wanted")
}

func TestEnvelopesWithWhatIsOdd(t *testing.T) {
	for name, c := range map[string]struct {
		src   string
		check func(*testing.T, *Envelope)
	}{
		"no body": {`<s:Envelope xmlns:s="` + NS11 + `"/>`, func(t *testing.T, e *Envelope) {
			assert.True(t,
				e.Body.IsZero())
			assert.True(t, e.Payload.IsZero())
		}},
		"an empty body": {`<s:Envelope xmlns:s="` + NS11 + `"><s:Body/></s:Envelope>`, func(t *testing.T,
			e *Envelope) {
			assert.False(t, e.Body.IsZero())
			assert.True(t, e.Payload.IsZero())
		}},
		"two in the body": {`<s:Envelope xmlns:s="` + NS11 + `"><s:Body><a/><b/></s:Body></s:Envelope>`,
			func(t *testing.T, e *Envelope) { assert.Equal(t, "a", e.Payload.Name().Local) }},
		"qualified fault children": {`<s:Envelope xmlns:s="` + NS11 +
			`"><s:Body><s:Fault><s:faultcode>s:Server</s:faultcode><s:faultstring>x</s:faultstring><s:faultactor> urn:a </s:faultactor></s:Fault></s:Body></s:Envelope>`, func(t *testing.T, e *Envelope) {
			assert.Equal(t, "Server", e.Fault.Code.Local)
			assert.Equal(t, "urn:a", e.Fault.Actor)
		}},
		"a code without a prefix": {`<s:Envelope xmlns:s="` + NS11 +
			`"><s:Body><s:Fault><faultcode>E-17</faultcode></s:Fault></s:Body></s:Envelope>`, func(t *testing.T,
			e *Envelope) {
			assert.Equal(t, "E-17", e.Fault.Code.Local)
			assert.Equal(t, "", e.Fault.Reason)
			assert.False(t, e.Fault.FromSender())
		}},
		"an empty fault": {`<s:Envelope xmlns:s="` + NS12 + `"><s:Body><s:Fault/></s:Body></s:Envelope>`,
			func(t *testing.T, e *Envelope) {
				require.NotNil(t, e.Fault)
				assert.True(t, e.Fault.Detail.IsZero())
			}},
		"deep subcodes": {`<s:Envelope xmlns:s="` + NS12 +
			`" xmlns:q="urn:q"><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>q:A</s:Value><s:Subcode><s:Value>q:B</s:Value></s:Subcode></s:Subcode></s:Code><s:Reason><s:Text xml:lang="de">eins</s:Text></s:Reason><s:Role>urn:r</s:Role><s:Detail><d/></s:Detail></s:Fault></s:Body></s:Envelope>`, func(t *testing.T, e *Envelope) {
			assert.True(t, e.Fault.HasCode("B"))
			assert.Len(t, e.Fault.Codes(), 3)
			assert.Equal(t, "eins", e.Fault.Reason)
			assert.Equal(t, "urn:r", e.Fault.Actor)
			assert.Equal(t, "d", e.Fault.Detail.FirstChild().Name().Local)
			assert.True(t, e.Fault.FromSender())
		}},
		"a fault of the other version is a payload": {`<s:Envelope xmlns:s="` + NS11 + `"><s:Body><f:Fault xmlns:f="` +
			NS12 + `"/></s:Body></s:Envelope>`, func(t *testing.T, e *Envelope) { assert.Nil(t, e.Fault) }},
	} {
		e := read(t, []byte(c.src))
		require.NotNil(t, e, name)
		c.check(t, e)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(
		`<s:Envelope xmlns:s="` + NS12 +
			`"><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value></s:Code></s:Fault></s:Body></s:Envelope>`,
	)
	f.Add(
		`<s:Envelope xmlns:s="` + NS11 +
			`"><s:Body><s:Fault><faultcode>x:y</faultcode></s:Fault></s:Body></s:Envelope>`,
	)
	f.Fuzz(func(t *testing.T, src string) {
		d, err := xmltree.Parse([]byte(src), xmltree.Limits{Depth: 100})
		if err != nil {
			return
		}
		if e := Read(d); e != nil && e.Fault != nil {
			for _, c := range e.Fault.Codes() {
				_ = strings.ToLower(c.Local)
			}
			if s := e.Fault.ReasonAt; s.End > len(d.Src) {
				t.Fatal("a reason beyond the document")
			}
		}
	})
}
