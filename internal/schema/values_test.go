package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Fixed values, enumerations and identity constraints compare values of their type, and not
// the texts that they are written as (part 2 §2.2).
func TestValuesAreComparedAsWhatTheyAre(t *testing.T) {
	xsd := `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:s="urn:s" targetNamespace="urn:s" elementFormDefault="qualified">
<xs:element name="r"><xs:complexType><xs:sequence>
 <xs:element name="f" type="xs:int" fixed="3" minOccurs="0"/>
 <xs:element name="t" type="xs:dateTime" fixed="2027-01-01T00:00:00Z" minOccurs="0"/>
 <xs:element name="h" type="xs:hexBinary" fixed="0aFF" minOccurs="0"/>
 <xs:element name="e" minOccurs="0"><xs:simpleType><xs:restriction base="xs:decimal"><xs:enumeration value="1.50"/></xs:restriction></xs:simpleType></xs:element>
 <xs:element name="l" minOccurs="0"><xs:simpleType><xs:restriction><xs:simpleType><xs:list itemType="xs:int"/></xs:simpleType><xs:enumeration value="1 2"/></xs:restriction></xs:simpleType></xs:element>
 <xs:element name="u" minOccurs="0"><xs:simpleType><xs:restriction><xs:simpleType><xs:union memberTypes="xs:int xs:string"/></xs:simpleType><xs:enumeration value="7"/></xs:restriction></xs:simpleType></xs:element>
 <xs:element name="k" type="xs:double" minOccurs="0" maxOccurs="9"/>
</xs:sequence><xs:attribute name="a" type="xs:boolean" fixed="true"/></xs:complexType>
<xs:unique name="n"><xs:selector xpath="s:k"/><xs:field xpath="."/></xs:unique></xs:element></xs:schema>`
	set := New(nil)
	set.Add(node(t, xsd), "values.xsd")
	set.Resolve()
	require.Empty(t, set.Problems)
	for doc, valid := range map[string]bool{
		`<f>03</f>`: true, `<f> +3 </f>`: true, `<f>4</f>`: false,
		`<t>2027-01-01T01:00:00+01:00</t>`: true, `<t>2027-01-01T01:00:00Z</t>`: false,
		`<h>0AfF</h>`: true, `<h>0aFE</h>`: false,
		`<e>1.5</e>`: true, `<e>01.500</e>`: true, `<e>1.51</e>`: false,
		`<l> 01  2 </l>`: true, `<l>1 3</l>`: false, `<l>12</l>`: false,
		`<u>07</u>`: true, `<u>8</u>`: false, `<u>seven</u>`: false,
		`<k>1</k><k>2</k>`: true, `<k>1.0</k><k>1</k>`: false, `<k>NaN</k><k>NaN</k>`: false, `<k>NaN</k><k>INF</k>`: true,
	} {
		n := node(t, `<r xmlns="urn:s">`+doc+`</r>`)
		errs := set.Validate(n, set.Element(NameOf(n.Name())), Options{})
		assert.Equal(t, valid, len(errs) == 0, "%s: %v", doc, errs)
	}
	for value, valid := range map[string]bool{"1": true, " true ": true, "0": false} {
		n := node(t, `<r xmlns="urn:s" a="`+value+`"/>`)
		errs := set.Validate(n, set.Element(NameOf(n.Name())), Options{})
		assert.Equal(t, valid, len(errs) == 0, "%s: %v", value, errs)
	}
}

// A schema that begins with a document type declaration, as those of the W3C do, is read, also
// where another imports it; what is external is not asked for.
func TestASchemaWithADocumentTypeDeclaration(t *testing.T) {
	signed := `<?xml version="1.0"?>
<!DOCTYPE schema PUBLIC "-//W3C//DTD XMLSchema 200102//EN" "http://www.w3.org/2001/XMLSchema.dtd" [
  <!ATTLIST schema xmlns:g CDATA #FIXED "urn:skerry:sig#">
  <!ENTITY sig 'urn:skerry:sig#'>
  <!ENTITY % p ''>
]>
<schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="&sig;" elementFormDefault="qualified">
<simpleType name="Binary"><restriction base="base64Binary"/></simpleType><element name="Value" type="g:Binary"/></schema>`
	asked := []string{}
	set := New(func(location, _ string) ([]byte, string, error) {
		asked = append(asked, location)
		return []byte(signed), location, nil
	})
	set.Add(node(t, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:s="urn:skerry:sig#" targetNamespace="urn:t">`+
		`<xs:import namespace="urn:skerry:sig#" schemaLocation="sig.xsd"/><xs:element name="r"><xs:complexType><xs:sequence>`+
		`<xs:element ref="s:Value"/></xs:sequence></xs:complexType></xs:element></xs:schema>`), "a.xsd")
	set.Resolve()
	require.Empty(t, set.Problems)
	assert.Equal(t, []string{"sig.xsd"}, asked)
	for value, valid := range map[string]bool{"QUJD": true, "*": false} {
		n := node(t, `<t:r xmlns:t="urn:t"><Value xmlns="urn:skerry:sig#">`+value+`</Value></t:r>`)
		errs := set.Validate(n, set.Element(NameOf(n.Name())), Options{})
		assert.Equal(t, valid, len(errs) == 0, "%s: %v", value, errs)
	}
}
