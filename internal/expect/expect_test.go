package expect

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

const reply = `<Hits xmlns="urn:h" desk="north"><berth free="true"><code>007</code><length>18.50</length><day>2027-03-01</day></berth>` +
	`<berth><code>N02</code><length>24</length><day>2027-03-02</day></berth><fault>none</fault></Hits>`

func answer(t testing.TB) *Answer {
	t.Helper()
	s := schema.New(nil)
	d, err := xmltree.Parse([]byte(`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:h" elementFormDefault="qualified">`+
		`<xs:element name="Hits"><xs:complexType><xs:sequence><xs:element name="berth" maxOccurs="unbounded"><xs:complexType><xs:sequence>`+
		`<xs:element name="code" type="xs:string"/><xs:element name="length" type="xs:decimal"/><xs:element name="day" type="xs:date"/></xs:sequence>`+
		`<xs:attribute name="free" type="xs:boolean"/></xs:complexType></xs:element><xs:element name="fault" type="xs:string"/></xs:sequence>`+
		`<xs:attribute name="desk" type="xs:string"/></xs:complexType></xs:element></xs:schema>`), xmltree.Limits{})
	require.NoError(t, err)
	s.Add(d.Root(), "s")
	s.Resolve()
	r, err := xmltree.Parse([]byte(reply), xmltree.Limits{})
	require.NoError(t, err)
	return &Answer{
		Payload: r.Root(), Set: s, Decl: s.Element(schema.QName{Space: "urn:h", Local: "Hits"}), Total: 1500 * time.Millisecond, Size: 2048,
	}
}

func TestWhatIsExpectedOfAReply(t *testing.T) {
	a := answer(t)
	for text, met := range map[string]bool{
		"berth/length=18.5": true, "berth/length=24.0": true, "length=25": false, "berth[2]/length=18.5": false,
		"code=7": false, "code=007": true, "berth/@free=1": true, "@desk=north": true, "@desk=south": false,
		"length=18±0.5": true, "length=18 +- 0.4": false, "code~N\\d+": true, "code~N": false, "berth[1]/code~.*": true,
		"code*=02": true, "code*=n02": false, "length<25": true, "length<=24": true, "length<24": false, "length>18": true,
		"day>=2027-03-01": true, "day<2027-03-02": false, "code<5": false,
		"count(berth)=2": true, "count(berth)>2": false, "count(berth/code)<=2": true, "count(nothing)=0": true,
		"berth?": true, "nothing?": false, "!nothing": true, "!berth": false, "./fault=none": true, "./fault?": true,
		"valid": true, "within=2s": true, "within=1s": false, "size<=2KiB": true, "size>2 KiB": false,
		"fault": false, "fault=Client": false, "finding=tls.expired": false,
	} {
		e, err := Parse(text)
		require.NoError(t, err, text)
		r := e.Check(a)
		assert.Equal(t, met, r.Met, "%s: %+v", text, r)
		if !r.Met && r.Found {
			assert.NotEmpty(t, r.Received, text)
		}
	}
}

func TestWhatIsExpectedOfARefusal(t *testing.T) {
	a := &Answer{
		Fault: &soap.Fault{
			Code: xmltree.Name{Local: "Client"}, Subcodes: []xmltree.Name{{Local: "NoSuchSign"}},
			Reason: "no vessel has the call sign SKAB",
		},
		Finding: "read.fault-client",
	}
	for text, met := range map[string]bool{
		"fault": true, "fault=Client": true, "fault=soap:Client": true, "fault=Client.NoSuchSign": true, "fault=NoSuchSign": true,
		"fault=Server": false, "fault*=call SIGN": true, "fault*=berth": false, "finding=read.fault-client": true, "code=N02": false, "valid": false,
	} {
		e, err := Parse(text)
		require.NoError(t, err)
		assert.Equal(t, met, e.Check(a).Met, text)
	}
}

func TestWhatIsNoExpectation(t *testing.T) {
	for _, text := range []string{"", " ", "junk", "=5", "!", "?", "count(a)", "count(a)=x", "count(a)~1", "within=soon", "within=-1s", "size<=big", "code~[", "a*"} {
		_, err := Parse(text)
		assert.Error(t, err, text)
	}
}

func FuzzExpectations(f *testing.F) {
	for _, s := range []string{"a=1", "count(a)>=1", "a~b", "!a", "a?", "fault=x", "size<=1KiB", "a=1±2", "a[9]/@b<=2027-01-01"} {
		f.Add(s)
	}
	a := answer(f)
	f.Fuzz(func(_ *testing.T, s string) {
		if e, err := Parse(s); err == nil {
			e.Check(a)
		}
	})
}
