package message

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/data"
	"orenda/internal/exchange"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// holding declares a message with one text, and the document that may stand in it.
const holding = `<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="id" type="xs:int"/><xs:element name="doc" type="xs:string"/></xs:sequence></xs:complexType></xs:element>
<xs:element name="list"><xs:complexType><xs:sequence><xs:element name="item" type="xs:int" maxOccurs="3"/><xs:element name="note" type="xs:string" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>`

func holdingDraft(t testing.TB, value string) *Draft {
	s := set(t, holding)
	return NewDraft(s, root(s), []byte(`<r xmlns="urn:s"><id>7</id><doc>`+value+`</doc></r>`))
}

// A value that is an XML document is edited as an outline, and written back in the form
// that it had.
func TestAnXMLDocumentInAValueIsEditedInPlace(t *testing.T) {
	for _, form := range []data.Form{data.Escaped, data.Section, data.Base64} {
		d := holdingDraft(t, form.Write(`<?xml version="1.0"?><list xmlns="urn:s"><item>1</item></list>`))
		require.Equal(t, "id doc doc/list doc/list/item doc/list/note", strings.Join(d.Paths(), " "), form)
		it, _ := d.Find("doc")
		assert.Equal(t, form, it.Holds)

		require.NoError(t, d.Set("doc/list/item[2]", "5"))
		require.NoError(t, d.Set("doc/list/note", "a < b & ]]>"))
		assert.ErrorContains(t, d.Set("doc/list/item[4]", "5"), "no field", form)
		inner, got := data.Embedded(d.Body().Find("urn:s", "doc"))
		require.Equal(t, form, got)
		assert.Equal(t, "a < b & ]]>", inner.Root().Find("urn:s", "note").Text())
		assert.Contains(t, string(inner.Src), `<?xml version="1.0"?>`, "what else stood there stays")
		assert.Empty(t, d.Validate(), form)

		valid := d.Bytes()
		require.NoError(t, d.Set("doc/list/item", "salt"))
		errs := d.Validate()
		require.Len(t, errs, 1, form)
		assert.Contains(t, errs[0].Message, "in the XML document in doc, at list/item", form)
		span := d.Body().Find("urn:s", "doc").Inner()
		assert.Equal(t, span, errs[0].Span)

		d.Replace(valid)
		note, _ := d.Find("doc/list/note")
		d.LeaveOut(note)
		note, _ = d.Find("doc/list/note")
		assert.False(t, note.Present)
		var paths []string
		for _, in := range d.Inputs() {
			paths = append(paths, in.Path)
		}
		assert.Equal(t, []string{"id", "doc/list/item", "doc/list/item[2]"}, paths)
	}
}

// A placeholder in such a document is to be filled in, and never sent.
func TestAPlaceholderWithinAValueIsNotSent(t *testing.T) {
	d := holdingDraft(t, data.Escaped.Write(`<list xmlns="urn:s"><item>1</item></list>`))
	note, _ := d.Find("doc/list/note")
	require.NoError(t, d.Include(note))
	item, _ := d.Find("doc/list/item")
	require.NoError(t, d.Repeat(item))
	require.Len(t, d.Unfilled(), 2)
	assert.Equal(t, "doc/list/item[2]", d.Unfilled()[0].Path)
	assert.NotContains(t, string(d.Outgoing()), Placeholder)
	assert.Contains(t, string(d.Bytes()), Placeholder)
}

// What nothing declares has rows as it stands.
func TestADocumentThatNothingDeclaresIsEditedAsItStands(t *testing.T) {
	d := holdingDraft(t, data.Escaped.Write(`<box k="1"><a>x</a><a>y</a><inner>&lt;c&gt;deep&lt;/c&gt;</inner></box>`))
	require.Equal(t, "id doc doc/box doc/box/@k doc/box/a doc/box/a[2] doc/box/inner doc/box/inner/c",
		strings.Join(d.Paths(), " "))
	require.NoError(t, d.Set("doc/box/@k", `"2"`))
	require.NoError(t, d.Set("doc/box/a[3]", "z"))
	require.NoError(t, d.Set("doc/box/inner/c", "deeper"))
	inner, _ := data.Embedded(d.Body().Find("urn:s", "doc"))
	assert.Equal(t, `<box k="&quot;2&quot;"><a>x</a><a>y</a><a>z</a><inner>&lt;c&gt;deeper&lt;/c&gt;</inner></box>`,
		string(inner.Src))
	all, _ := d.Find("doc/box")
	d.LeaveOut(all)
	assert.Len(t, d.Paths(), 9, "the last of it stays: else it were no document")
	require.NoError(t, d.Set("doc", "plain"))
	assert.Equal(t, "id doc", strings.Join(d.Paths(), " "))
}

// A document that carries its schema is held against it, as a data set is.
func TestADocumentIsHeldAgainstTheSchemaItCarries(t *testing.T) {
	const own = `<set><xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="set"><xs:complexType>
<xs:choice maxOccurs="unbounded"><xs:element name="row"><xs:complexType><xs:sequence><xs:element name="n" type="xs:int"/></xs:sequence></xs:complexType></xs:element></xs:choice></xs:complexType></xs:element></xs:schema>`
	for rows, faults := range map[string]int{
		"<row><n>1</n></row><row><n>2</n></row>": 0,
		"<row><n>one</n></row>":                  1,
		"<row><m>1</m></row>":                    1,
	} {
		d, err := xmltree.Parse([]byte("<r><v>"+data.Escaped.Write(own+rows+"</set>")+"</v></r>"), xmltree.Limits{})
		require.NoError(t, err)
		errs := ValidateWithin(nil, d.Root(), schema.Options{})
		assert.Len(t, errs, faults, rows)
	}
}

// A secret within such a value is found.
func TestSecretsWithinValuesAreFound(t *testing.T) {
	const inner = `<in><user>u</user><password>Gull &amp; 7</password></in>`
	for value, form := range map[string]data.Form{
		data.Escaped.Write(inner): data.Escaped, data.Section.Write(inner): data.Section, data.Base64.Write(inner): data.Base64,
		"\n\t" + data.Base64.Write(inner): data.Base64, data.Base64.Write("\n" + inner): data.Base64,
		data.Base64.Write("\ufeff" + inner): data.Base64, "<!-- in --> " + data.Section.Write(inner): data.Section,
		" \n" + data.Escaped.Write(" "+inner): data.Escaped, "&#60;" + inner[1:2] + data.Escaped.Write(inner[2:]): data.Escaped,
	} {
		src := "<r><v>" + value + "</v></r>"
		d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
		require.NoError(t, err)
		got := SecretsIn(d, d.Root(), nil)
		require.Len(t, got, 1, form)
		masked := src[:got[0].Span.Start] + "*" + src[got[0].Span.End:]
		assert.NotContains(t, masked, "Gull", form)
		assert.NotContains(t, masked, base64.StdEncoding.EncodeToString([]byte("Gull")), form)
		assert.Equal(t, "Gull & 7", got[0].Meant, form)
		assert.Len(t, SecretsIn(d, d.Root(), exchange.SecretNames{"v/in/user"}), 2, form)
	}
}

// A secret is found in an attribute as well, by its name or its path.
func TestSecretsInAttributes(t *testing.T) {
	const src = `<a xmlns:p="urn:p"><b password="Gull" p:pin="1">x</b><c><d sign="k">1</d><d sign="m"/></c></a>`
	d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
	require.NoError(t, err)
	var got []string
	for _, s := range SecretsIn(d, d.Root(), exchange.SecretNames{"c/d/@sign"}) {
		assert.Equal(t, s.Written, src[s.Span.Start:s.Span.End])
		got = append(got, s.Meant)
	}
	assert.Equal(t, []string{"Gull", "k", "m"}, got)
}

// Of a long message that another program wrote the first values are told, and of all that follows
// whether it is the same, but for secrets.
func TestWhatALongMessageWasFilledWith(t *testing.T) {
	s := set(t, `<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="row" maxOccurs="unbounded"><xs:complexType>
		<xs:sequence><xs:element name="code" type="xs:string"/><xs:element name="password" type="xs:string" minOccurs="0"/></xs:sequence>
		<xs:attribute name="k" type="xs:int"/></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element>`)
	inputs := func(n int, last string) []exchange.Input {
		rows := strings.Repeat(`<row k="1"><code>N07</code></row>`, n)
		d := NewDraft(s, root(s), []byte(`<r xmlns="urn:s">`+rows+`<row>`+last+`</row></r>`))
		require.NoError(t, d.Err())
		return d.FirstInputs(nil)
	}
	one := inputs(300, "<code>a</code><password>Gull</password>")
	require.Greater(t, len(one), mostFirst/2)
	assert.Less(t, len(one), 2*mostFirst)
	assert.Equal(t, exchange.Input{Path: "row/@k", Value: "1"}, one[0])
	assert.Equal(t, exchange.Input{Path: "row[2]/code", Value: "N07"}, one[3])
	assert.Equal(t, "what follows", one[len(one)-1].Path)
	assert.Equal(t, one, inputs(300, "<code>a</code><password>Tern</password>"))
	assert.NotEqual(t, one, inputs(300, "<code>b</code><password>Gull</password>"))
	assert.NotEqual(t, one, inputs(301, "<code>a</code><password>Gull</password>"))
	assert.Len(t, inputs(30, "<code>a</code><password>Gull</password>"), 62, "a short one is told whole")
}

// What a draft may hold is seen in one look, wherever it stands and however it is written.
func TestWhatADraftMayHold(t *testing.T) {
	for src, holds := range map[string]bool{
		`<a><code>?</code></a>`:                 true,
		`<a><code> ? </code><b/></a>`:           true,
		`<a><code>&#63;</code></a>`:             true,
		`<a><code><![CDATA[?]]></code></a>`:     true,
		`<a><code k="?">1</code></a>`:           true,
		`<a><code k="&#63;">1</code></a>`:       true,
		`<a>&lt;b>&lt;c>?&lt;/c>&lt;/b></a>`:    true,
		`<a><code>N0?</code><b k="2">3</b></a>`: false,
		`<a>Pier <b/> ?</a>`:                    false,
	} {
		d := NewDraft(nil, nil, []byte(src))
		assert.Equal(t, holds, d.MayHold("?"), src)
	}
}

func FuzzWithin(f *testing.F) {
	f.Add("<list xmlns='urn:s'><item>1</item></list>", "doc/list/item[2]", "x")
	f.Add("<box k='1'><a/></box>", "doc/box/a[2]", "<b/>")
	f.Fuzz(func(t *testing.T, value, path, with string) {
		d := holdingDraft(t, xmltree.EscapeText(value))
		if d.Err() != nil {
			return
		}
		_ = d.Set(path, with)
		_ = d.Validate()
		_ = d.Outgoing()
	})
}
