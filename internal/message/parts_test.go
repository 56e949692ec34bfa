package message

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

const landing = `
<xs:complexType name="Cargo" abstract="true"><xs:sequence><xs:element name="goods" type="xs:string"/></xs:sequence><xs:attribute name="hazard" type="xs:boolean"/></xs:complexType>
<xs:complexType name="Bulk"><xs:complexContent><xs:extension base="s:Cargo"><xs:sequence><xs:element name="tonnes" type="xs:decimal"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:complexType name="Boxes"><xs:complexContent><xs:extension base="s:Cargo"><xs:sequence><xs:element name="count" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="cargo" type="s:Cargo" minOccurs="0" maxOccurs="3"/><xs:element name="note" type="xs:string" minOccurs="0" nillable="true"/></xs:sequence></xs:complexType></xs:element>`

func land(t *testing.T, src string) *Draft {
	s := set(t, landing)
	d := NewDraft(s, root(s), []byte(src))
	require.NoError(t, d.Err())
	return d
}

func at(t *testing.T, d *Draft, path string) Item {
	t.Helper()
	it, ok := d.Find(path)
	require.True(t, ok, "%s among %v", path, d.Paths())
	return it
}

func TestRepeatsAreMoved(t *testing.T) {
	d := land(
		t,
		`<r xmlns="urn:s" xmlns:x="http://www.w3.org/2001/XMLSchema-instance" xmlns:s="urn:s"><cargo x:type="s:Bulk"><goods>salt</goods><tonnes>1</tonnes></cargo> <!-- kept --> <cargo x:type="s:Boxes"><goods>nets</goods><count>2</count></cargo></r>`,
	)
	require.NoError(t, d.Move(at(t, d, "cargo[2]"), -1))
	assert.Equal(
		t,
		`<r xmlns="urn:s" xmlns:x="http://www.w3.org/2001/XMLSchema-instance" xmlns:s="urn:s"><cargo x:type="s:Boxes"><goods>nets</goods><count>2</count></cargo> <!-- kept --> <cargo x:type="s:Bulk"><goods>salt</goods><tonnes>1</tonnes></cargo></r>`,
		string(d.Bytes()),
	)
	assert.ErrorContains(t, d.Move(at(t, d, "cargo"), -1), "is the first already")
	assert.ErrorContains(t, d.Move(at(t, d, "note"), 1), "does not repeat")
}

func TestADerivedTypeIsChosenAndCommonValuesStay(t *testing.T) {
	d := land(t, `<r xmlns="urn:s"/>`)
	require.NoError(t, d.Include(at(t, d, "cargo")))
	it := at(t, d, "cargo")
	assert.Equal(
		t,
		[]schema.QName{{Space: "urn:s", Local: "Bulk"}, {Space: "urn:s", Local: "Boxes"}},
		d.Types(it),
		"the abstract type itself cannot be chosen",
	)
	assert.Equal(t, "Bulk", d.TypeNow(it).Local)
	require.NoError(t, d.Set("cargo/goods", "salt & nets"))
	require.NoError(t, d.Set("cargo/@hazard", "true"))
	require.NoError(t, d.SetType(at(t, d, "cargo"), schema.QName{Space: "urn:s", Local: "Boxes"}))
	assert.Equal(t, "Boxes", d.TypeNow(at(t, d, "cargo")).Local)
	assert.Equal(t, "salt & nets", at(t, d, "cargo/goods").Value)
	assert.Equal(t, "true", at(t, d, "cargo/@hazard").Value)
	require.NoError(t, d.Set("cargo/count", "4"))
	assert.Empty(t, d.Validate(), string(d.Bytes()))
	assert.Nil(t, d.Types(at(t, d, "cargo/goods")))
	assert.Error(t, d.SetType(at(t, d, "cargo"), schema.QName{Local: "other"}))
}

func TestPartsAreCopiedFromOneDraftToAnother(t *testing.T) {
	a := land(
		t,
		`<p:r xmlns:p="urn:s" xmlns:x="http://www.w3.org/2001/XMLSchema-instance"><p:cargo x:type="p:Bulk"><p:goods>salt</p:goods><p:tonnes>1</p:tonnes></p:cargo></p:r>`,
	)
	b := land(t, `<r xmlns="urn:s"><note>old</note></r>`)
	part := a.Part(at(t, a, "cargo"))
	require.NoError(t, b.PutPart(at(t, b, "cargo"), part))
	assert.Equal(t, "salt", at(t, b, "cargo/goods").Value, string(b.Bytes()))
	assert.Empty(t, b.Validate(), string(b.Bytes()))
	// An element with a value gives its value to a field of another name.
	require.NoError(t, b.PutPart(at(t, b, "note"), a.Part(at(t, a, "cargo/goods"))))
	assert.Equal(t, "salt", at(t, b, "note").Value)
	assert.ErrorContains(t, b.PutPart(at(t, b, "note"), part), "does not fit")
	require.NoError(t, b.PutPart(at(t, b, "note"), "a < b"))
	assert.Equal(t, "a < b", at(t, b, "note").Value)

	// A part stands alone wherever it goes.
	p, err := xmltree.Parse([]byte(part), xmltree.Limits{})
	require.NoError(t, err, part)
	assert.Equal(t, "urn:s", p.Root().Name().Space)
	v, _ := p.Root().Attr(schema.XSI, "type")
	q, ok := p.Root().QName(v)
	assert.True(t, ok)
	assert.Equal(t, "urn:s", q.Space)
}

func TestTwoDraftsShowWhatDiffers(t *testing.T) {
	x := ` xmlns:x="http://www.w3.org/2001/XMLSchema-instance" xmlns:s="urn:s"`
	a := land(
		t,
		`<r xmlns="urn:s"`+x+`><cargo x:type="s:Bulk"><goods>salt</goods><tonnes>1</tonnes></cargo><note>same</note></r>`,
	)
	b := land(
		t,
		`<p:r xmlns:p="urn:s"`+x+`><p:cargo hazard="true" x:type="s:Bulk"><p:goods>nets</p:goods><p:tonnes>1</p:tonnes></p:cargo><p:note>same</p:note></p:r>`,
	)
	assert.Equal(
		t,
		[]Difference{{"cargo/goods", "salt", "nets", true, true}, {"cargo/@hazard", "", "true", false, true}},
		Differences(a, b),
	)
	assert.Empty(t, Differences(a, a))
	c := land(t, `<r xmlns="urn:s"`+x+`><note x:nil="true"/></r>`)
	assert.Contains(t, Differences(a, c), Difference{"note", "same", "nil", true, true})
}

func TestTheRichestContractIsFilledIn(t *testing.T) {
	src, err := os.ReadFile("../standin/contracts/dues.wsdl")
	require.NoError(t, err)
	doc, err := xmltree.Parse(src, xmltree.Limits{})
	require.NoError(t, err)
	s := schema.New(nil)
	s.Add(doc.Root().Find(schema.XSD, "schema"), "dues")
	s.Resolve()
	decl := s.Element(schema.QName{Space: "urn:skerry:dues", Local: "Assess"})
	for _, all := range []bool{false, true} {
		d := NewDraft(s, decl, Sample(s, decl, Want{All: all}))
		for path, v := range map[string]string{"vessel/name": "Alder", "vessel/callSign": "SKAL4",
			"vessel/grossTonnage": "1200", "nights": "3", "cargo[2]/goods": "nets", "cargo[2]/tonnes": "4",
			"cargo/goods": "salt", "cargo/tonnes": "1.5", "rebate": "training", "remark": "none"} {
			require.NoError(t, d.Set(path, v), path)
		}
		assert.Empty(t, d.Validate(), string(d.Bytes()))
		assert.Empty(t, d.Unfilled())
		require.NoError(t, d.SetType(at(t, d, "cargo[2]"), schema.QName{Space: "urn:skerry:dues", Local: "Containers"}))
		require.NoError(t, d.Set("cargo[2]/count", "2"))
		require.NoError(t, d.Set("cargo[2]/length", "20 ft"))
		require.NoError(t, d.SetNil(at(t, d, "remark")))
		assert.Empty(t, d.Validate(), string(d.Bytes()))
	}
}

func TestArraysOfSOAPEncodingKeepCount(t *testing.T) {
	s := set(t, `<xs:import namespace="http://schemas.xmlsoap.org/soap/encoding/"/>
<xs:complexType name="Entry"><xs:sequence><xs:element name="sign" type="xs:string"/><xs:element name="since" xmlns:e="http://schemas.xmlsoap.org/soap/encoding/" type="e:int"/></xs:sequence></xs:complexType>
<xs:complexType name="Entries"><xs:complexContent><xs:restriction xmlns:e="http://schemas.xmlsoap.org/soap/encoding/" base="e:Array"><xs:attribute ref="e:arrayType" xmlns:w="http://schemas.xmlsoap.org/wsdl/" w:arrayType="s:Entry[]"/></xs:restriction></xs:complexContent></xs:complexType>
<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="fleet" type="s:Entries"/></xs:sequence></xs:complexType></xs:element>`)
	d := NewDraft(s, root(s), Sample(s, root(s), Want{Encoded: true}))
	require.NoError(t, d.Err())
	assert.Contains(t, string(d.Bytes()), `enc:arrayType="at:Entry[0]"`)
	require.NoError(t, d.Set("fleet/item/sign", "SKAL4"))
	assert.Contains(t, string(d.Bytes()), `enc:arrayType="at:Entry[1]"`)
	require.NoError(t, d.Set("fleet/item[3]/since", "2011"))
	assert.Contains(t, string(d.Bytes()), `enc:arrayType="at:Entry[3]"`)
	assert.Contains(t, string(d.Bytes()), `xsi:type="xs:int"`, "what is put in says its type as the rest does")
	d.LeaveOut(at(t, d, "fleet/item[2]"))
	assert.Contains(t, string(d.Bytes()), `enc:arrayType="at:Entry[2]"`)
	assert.Equal(t, "2011", at(t, d, "fleet/item[2]/since").Value)
}

func TestWhatIsLeftOpenIsFilledInAsXML(t *testing.T) {
	s := set(
		t,
		`<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a" type="xs:int"/><xs:any processContents="lax" minOccurs="0" maxOccurs="2"/></xs:sequence></xs:complexType></xs:element>`,
	)
	d := NewDraft(s, root(s), []byte("<r xmlns=\"urn:s\">\n  <a>1</a>\n</r>"))
	item := at(t, d, "any")
	assert.False(t, item.Present)
	assert.ErrorContains(t, d.SetValue(item, "no xml"), "an element is due here")
	require.NoError(t, d.SetValue(item, `<x:tug xmlns:x="urn:x">Bramble</x:tug>`))
	assert.Equal(
		t,
		"<r xmlns=\"urn:s\">\n  <a>1</a>\n  <x:tug xmlns:x=\"urn:x\">Bramble</x:tug>\n</r>",
		string(d.Bytes()),
	)
	assert.Empty(t, d.Validate())
	require.NoError(t, d.SetValue(at(t, d, "tug"), `<y xmlns="urn:y"/>`))
	assert.Contains(t, string(d.Bytes()), `<y xmlns="urn:y"/>`)
}
