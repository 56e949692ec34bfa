package message

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

func set(t testing.TB, xsd string) *schema.Set {
	t.Helper()
	d, err := xmltree.Parse([]byte(head+xsd+`</xs:schema>`), xmltree.Limits{})
	require.NoError(t, err)
	s := schema.New(nil)
	s.Add(d.Root(), "s.xsd")
	s.Resolve()
	require.Empty(t, s.Problems)
	return s
}

const head = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:s="urn:s" targetNamespace="urn:s" elementFormDefault="qualified">`

func root(s *schema.Set) *schema.Element { return s.Element(schema.QName{Space: "urn:s", Local: "r"}) }

// fillers are values for the placeholders, by the name that stands in them.
var fillers = map[string]string{
	"string":          "quay",
	"token":           "quay",
	"int":             "4",
	"positiveInteger": "4",
	"decimal":         "2.5",
	"boolean":         "true",
	"date":            "2027-03-01",
	"dateTime":        "2027-03-01T08:00:00Z",
	"gYear":           "2027",
	"Code":            "AB1",
	"Colour":          "red",
	"Ints":            "1 2",
	"anyURI":          "urn:x",
	"base64Binary":    "YQ==",
	"duration":        "P1D",
}

// shapes are the ways in which a message can be put together.
var shapes = map[string]string{
	"sequence":             `<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:date" minOccurs="0"/><xs:element name="c" type="xs:string" minOccurs="2" maxOccurs="4"/></xs:sequence></xs:complexType></xs:element>`,
	"all":                  `<xs:element name="r"><xs:complexType><xs:all><xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:boolean" minOccurs="0"/></xs:all></xs:complexType></xs:element>`,
	"choice of sequences":  `<xs:element name="r"><xs:complexType><xs:choice><xs:sequence><xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:int"/></xs:sequence><xs:element name="c" type="xs:dateTime"/></xs:choice></xs:complexType></xs:element>`,
	"optional choice":      `<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a" type="xs:int"/><xs:choice minOccurs="0" maxOccurs="3"><xs:element name="b" type="xs:int"/><xs:element name="c" type="xs:int"/></xs:choice></xs:sequence></xs:complexType></xs:element>`,
	"attributes":           `<xs:simpleType name="Colour"><xs:restriction base="xs:string"><xs:enumeration value="red"/><xs:enumeration value="green"/></xs:restriction></xs:simpleType><xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a"><xs:complexType><xs:simpleContent><xs:extension base="xs:decimal"><xs:attribute name="k" type="s:Colour" use="required"/><xs:attribute name="l" type="xs:string" fixed="z"/></xs:extension></xs:simpleContent></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element>`,
	"facets":               `<xs:simpleType name="Code"><xs:restriction base="xs:string"><xs:pattern value="[A-Z]{2}\d"/></xs:restriction></xs:simpleType><xs:simpleType name="Ints"><xs:list itemType="xs:int"/></xs:simpleType><xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a" type="s:Code"/><xs:element name="b" type="s:Ints"/><xs:element name="c" type="xs:int" default="7"/><xs:element name="d" type="xs:int" fixed="9" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>`,
	"recursion":            `<xs:complexType name="Tree"><xs:sequence><xs:element name="v" type="xs:int"/><xs:element name="kid" type="s:Tree" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType><xs:element name="r" type="s:Tree"/>`,
	"extension":            `<xs:complexType name="B"><xs:sequence><xs:element name="a" type="xs:int"/></xs:sequence></xs:complexType><xs:complexType name="D"><xs:complexContent><xs:extension base="s:B"><xs:sequence><xs:element name="b" type="xs:gYear"/></xs:sequence><xs:attribute name="k" type="xs:string"/></xs:extension></xs:complexContent></xs:complexType><xs:element name="r" type="s:D"/>`,
	"abstract types":       `<xs:complexType name="B" abstract="true"><xs:sequence><xs:element name="a" type="xs:int"/></xs:sequence></xs:complexType><xs:complexType name="D"><xs:complexContent><xs:extension base="s:B"><xs:sequence><xs:element name="b" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType><xs:element name="r"><xs:complexType><xs:sequence><xs:element name="x" type="s:B"/></xs:sequence></xs:complexType></xs:element>`,
	"substitution":         `<xs:element name="head" type="xs:string" abstract="true"/><xs:element name="one" substitutionGroup="s:head"/><xs:element name="r"><xs:complexType><xs:sequence><xs:element ref="s:head"/></xs:sequence></xs:complexType></xs:element>`,
	"unqualified children": `<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a" form="unqualified" type="xs:int"/><xs:element name="b" form="unqualified"><xs:complexType><xs:sequence><xs:element name="c" form="unqualified" type="xs:boolean"/></xs:sequence></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element>`,
	"groups":               `<xs:group name="g"><xs:sequence><xs:element name="a" type="xs:anyURI"/><xs:element name="b" type="xs:duration" minOccurs="0"/></xs:sequence></xs:group><xs:element name="r"><xs:complexType><xs:sequence><xs:group ref="s:g" maxOccurs="2"/><xs:element name="z" type="xs:base64Binary"/></xs:sequence></xs:complexType></xs:element>`,
	"empty":                `<xs:element name="r"><xs:complexType/></xs:element>`,
	"a value alone":        `<xs:element name="r" type="xs:positiveInteger"/>`,
}

// filled gives every placeholder a value.
func filled(src []byte) string {
	s := string(src)
	for name, v := range fillers {
		s = strings.ReplaceAll(s, "<?fill "+name+"?>", v)
	}
	return s
}

func TestSamplesOfEveryShapeAreValidOnceFilled(t *testing.T) {
	lint, _ := exec.LookPath("xmllint")
	dir := t.TempDir()
	for name, xsd := range shapes {
		s := set(t, xsd)
		f := filepath.Join(dir, "s.xsd")
		require.NoError(t, os.WriteFile(f, []byte(head+xsd+`</xs:schema>`), 0o600))
		for _, w := range []Want{{}, {All: true}, {All: true, Comments: true}} {
			src := filled(Sample(s, root(s), w))
			assert.NotContains(t, src, "<?fill", name)
			d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
			require.NoError(t, err, src)
			assert.Empty(t, s.Validate(d.Root(), root(s), schema.Options{}), "%s\n%s", name, src)
			if lint != "" {
				doc := filepath.Join(dir, "d.xml")
				require.NoError(t, os.WriteFile(doc, []byte(src), 0o600))
				out, err := exec.Command(lint, "--noout", "--nonet", "--schema", f, doc).CombinedOutput()
				assert.NoError(t, err, "%s\n%s\n%s", name, src, out)
			}
		}
	}
}

// Every field that an outline offers can be given a value, in any order, and
// the message stays readable.
// Ten children on each of twenty levels are 10^20 elements: a sample ends before, and
// what it leaves out can still be put in.
func TestASampleIsBoundedHoweverWideItsTypesAre(t *testing.T) {
	var xsd strings.Builder
	for level := range 20 {
		fmt.Fprintf(&xsd, `<xs:complexType name="T%d"><xs:sequence>`, level)
		for child := range 10 {
			of := "xs:string"
			if level < 19 {
				of = fmt.Sprintf("s:T%d", level+1)
			}
			fmt.Fprintf(&xsd, `<xs:element name="e%d" type="%s"/>`, child, of)
		}
		xsd.WriteString(`</xs:sequence></xs:complexType>`)
	}
	s := set(t, xsd.String()+`<xs:element name="r" type="s:T0"/>`)
	for _, want := range []Want{{}, {All: true, Comments: true}} {
		src := Sample(s, root(s), want)
		d, err := xmltree.Parse(src, xmltree.Limits{})
		require.NoError(t, err)
		assert.Less(t, d.Len(), 3*maxElements)
		draft := NewDraft(s, root(s), src)
		assert.Less(t, len(draft.Items()), 4*maxElements)
		assert.NotEmpty(t, draft.Validate())
	}
}

// What a draft was filled with is noted without its long values, which still differ.
func TestLongValuesAreNotedByTheirBeginning(t *testing.T) {
	s := set(t, `<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="a" type="xs:string"/></xs:sequence></xs:complexType></xs:element>`)
	noted := func(end string) string {
		long := strings.Repeat("slack water ", 10_000) + end
		in := NewDraft(s, root(s), []byte(`<r xmlns="urn:s"><a>`+long+`</a></r>`)).Inputs()
		require.Len(t, in, 1)
		return in[0].Value
	}
	assert.Less(t, len(noted("a")), maxInput+100)
	assert.Equal(t, noted("a"), noted("a"))
	assert.NotEqual(t, noted("a"), noted("b"))
}

func TestEveryFieldOfEveryShapeCanBeSet(t *testing.T) {
	for name, xsd := range shapes {
		s := set(t, xsd)
		d := NewDraft(s, root(s), Sample(s, root(s), Want{}))
		for range 4 {
			items := d.Items()
			for i := len(items) - 1; i >= 0; i-- {
				it := items[i]
				if it.Depth > 6 {
					continue
				}
				switch it.Kind {
				case Leaf, Attr:
					require.NoError(t, d.Set(it.Path, "4"), "%s: %s\n%s", name, it.Path, d.Bytes())
				case Branch:
					if !it.Present {
						require.NoError(t, d.Include(it), "%s: %s", name, it.Path)
					}
				case Fork:
					if it.Chosen >= 0 {
						require.NoError(t, d.Choose(it, (it.Chosen+1)%len(it.Branches)), "%s: %s", name, it.Name)
					}
				}
				require.NoError(t, d.Err(), "%s\n%s", name, d.Bytes())
				if i < len(d.Items()) {
					items = d.Items()
				}
			}
		}
	}
}

func TestLeavingOutAndPuttingInComesBackToTheSame(t *testing.T) {
	s := set(t, shapes["sequence"])
	d := NewDraft(s, root(s), []byte(filled(Sample(s, root(s), Want{All: true}))))
	require.Empty(t, d.Validate())
	b, ok := d.Find("b")
	require.True(t, ok)
	d.LeaveOut(b)
	assert.Empty(t, d.Validate())
	require.NoError(t, d.Set("b", "2027-04-01"))
	assert.Empty(t, d.Validate(), "%s", d.Bytes())
	c, _ := d.Find("c[2]")
	require.NoError(t, d.Repeat(c))
	require.NoError(t, d.Set("c[3]", "x"))
	require.NoError(t, d.Set("c[4]", "y"))
	assert.Empty(t, d.Validate(), "%s", d.Bytes())
	c, _ = d.Find("c[4]")
	assert.ErrorContains(t, d.Repeat(c), "4 times at most")
	a, _ := d.Find("a")
	assert.Error(t, d.Repeat(a))
	assert.Error(t, d.SetNil(a))
	d.LeaveOut(a)
	assert.NotEmpty(t, d.Validate(), "also what is required may be left out, to see how the service answers")
}

func TestAttributesAreEdited(t *testing.T) {
	s := set(t, shapes["attributes"])
	d := NewDraft(s, root(s), []byte(`<r xmlns="urn:s"><a k='red'>1</a></r>`))
	require.NoError(t, d.Set("a/@k", `gr'een`))
	assert.Equal(
		t,
		`<r xmlns="urn:s"><a k='gr&apos;een'>1</a></r>`,
		string(d.Bytes()),
		"in the quotes that stood there",
	)
	it, _ := d.Find("a/@k")
	assert.NotEmpty(t, it.Errors)
	assert.Contains(t, it.Wrong("blue"), "is not one of red, green")
	require.NoError(t, d.Set("a/@l", "z"))
	require.NoError(t, d.Set("a/@k", "green"))
	assert.Empty(t, d.Validate(), "%s", d.Bytes())
	it, _ = d.Find("a/@l")
	d.LeaveOut(it)
	assert.Equal(t, `<r xmlns="urn:s"><a k='green'>1</a></r>`, string(d.Bytes()))
}

func TestEditsWithinAWholeEnvelope(t *testing.T) {
	s := set(t, shapes["sequence"])
	env := `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Header><h xmlns="urn:h"/></e:Header><e:Body><r xmlns="urn:s"><a>1</a><c>x</c><c>y</c></r></e:Body></e:Envelope>`
	d := NewDraft(s, root(s), []byte(env))
	require.NotNil(t, d.Envelope())
	require.NoError(t, d.Set("a", "2"))
	require.NoError(t, d.Set("b", "2027-01-01"))
	assert.Empty(t, d.Validate())
	assert.True(
		t,
		strings.HasPrefix(string(d.Bytes()), env[:strings.Index(env, "<a>")]),
		"what was not edited stays byte for byte",
	)
}

func TestEncodedSamplesSayTheirTypes(t *testing.T) {
	s := set(
		t,
		shapes["sequence"]+`<xs:simpleType name="Code"><xs:restriction base="xs:string"/></xs:simpleType><xs:element name="q"><xs:complexType><xs:sequence><xs:element name="k" type="s:Code" form="unqualified"/></xs:sequence></xs:complexType></xs:element>`,
	)
	src := string(Sample(s, root(s), Want{Encoded: true}))
	assert.Contains(t, src, `env:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"`)
	assert.Contains(t, src, `<a xsi:type="xs:int">`)
	src = string(Sample(s, s.Element(schema.QName{Space: "urn:s", Local: "q"}), Want{Encoded: true}))
	assert.Contains(t, src, `<k xmlns:t="urn:s" xsi:type="t:Code">`)
	d, err := xmltree.Parse([]byte(strings.ReplaceAll(src, "<?fill Code?>", "x")), xmltree.Limits{})
	require.NoError(t, err)
	assert.Empty(t, s.Validate(d.Root(), s.Element(schema.QName{Space: "urn:s", Local: "q"}), schema.Options{}))
}

func TestBoundsInOneLine(t *testing.T) {
	for facets, want := range map[string]string{
		`<xs:restriction base="xs:string"><xs:length value="3"/></xs:restriction>`:                                                               "string ‹3 characters›",
		`<xs:restriction base="xs:string"><xs:minLength value="2"/></xs:restriction>`:                                                            "string ‹at least 2 characters›",
		`<xs:restriction base="xs:string"><xs:maxLength value="9"/></xs:restriction>`:                                                            "string ‹up to 9 characters›",
		`<xs:restriction base="xs:decimal"><xs:minInclusive value="1"/><xs:maxExclusive value="5"/><xs:totalDigits value="4"/></xs:restriction>`: "decimal ‹1–under 5, 4 digits›",
		`<xs:restriction base="xs:int"><xs:maxInclusive value="5"/></xs:restriction>`:                                                            "int ‹up to 5›",
		`<xs:restriction base="xs:int"><xs:minExclusive value="5"/></xs:restriction>`:                                                            "int ‹from over 5›",
		`<xs:restriction base="xs:token"><xs:enumeration value="a"/></xs:restriction>`:                                                           "token ‹one of 1›",
		`<xs:list itemType="xs:int"/>`: "list of int",
	} {
		s := set(t, `<xs:element name="r"><xs:simpleType>`+facets+`</xs:simpleType></xs:element>`)
		assert.Equal(t, want, schema.Bounds(schema.SimpleOf(root(s).TypeOf())), facets)
	}
}

// An outline of thousands of fields is made and edited within a moment.
func BenchmarkEditInALargeMessage(b *testing.B) {
	var xsd strings.Builder
	xsd.WriteString(`<xs:element name="r"><xs:complexType><xs:sequence>`)
	for i := range 5000 {
		fmt.Fprintf(&xsd, `<xs:element name="f%d" type="xs:int" minOccurs="0"/>`, i)
	}
	xsd.WriteString(`</xs:sequence></xs:complexType></xs:element>`)
	s := set(b, xsd.String())
	d := NewDraft(s, root(s), Sample(s, root(s), Want{All: true}))
	for i := 0; b.Loop(); i++ {
		if err := d.Set(fmt.Sprintf("f%d", i%5000), "4"); err != nil {
			b.Fatal(err)
		}
	}
}

// A draft that was made for a literal port keeps its values, and says their types, on
// an encoded one: whatever its shape, with what is repeated and left out.
func TestADraftIsEncodedWithItsValues(t *testing.T) {
	for name, xsd := range shapes {
		if name == "substitution" || name == "abstract types" {
			continue // SOAP encoding names types, and neither is one
		}
		s := set(t, xsd)
		d := NewDraft(s, root(s), []byte(filled(Sample(s, root(s), Want{All: true}))))
		out, err := d.Encoded()
		require.NoError(t, err, "%s\n%s", name, d.Bytes())
		want := map[string]string{}
		for _, in := range d.Inputs() {
			want[in.Path] = in.Value
		}
		got := map[string]string{}
		for _, in := range out.Inputs() {
			got[in.Path] = in.Value
		}
		for path, v := range want {
			assert.Equal(t, v, got[path], "%s: %s\n%s", name, path, out.Bytes())
		}
		assert.True(t, out.IsEncoded(), name)
		again, err := out.Encoded()
		assert.NoError(t, err)
		assert.Same(t, out, again)
	}
}

// Examples leave nothing to be filled in, and are valid, for every shape and type; the
// same seed gives the same message.
func TestExamplesOfEveryShapeAreValid(t *testing.T) {
	types := `<xs:element name="r"><xs:complexType><xs:sequence>`
	for i, of := range []string{
		`<xs:restriction base="xs:string"><xs:pattern value="[A-Z]{2}\d{3}-[a-f]+"/></xs:restriction>`,
		`<xs:restriction base="xs:string"><xs:pattern value="(N|S)\d\d|E1"/><xs:length value="3"/></xs:restriction>`,
		`<xs:restriction base="xs:string"><xs:minLength value="12"/><xs:maxLength value="14"/></xs:restriction>`,
		`<xs:restriction base="xs:string"><xs:length value="1"/></xs:restriction>`,
		`<xs:restriction base="xs:decimal"><xs:totalDigits value="4"/><xs:fractionDigits value="2"/><xs:minExclusive value="0.01"/><xs:maxInclusive value="0.05"/></xs:restriction>`,
		`<xs:restriction base="xs:int"><xs:minInclusive value="500"/><xs:maxExclusive value="501"/></xs:restriction>`,
		`<xs:restriction base="xs:negativeInteger"><xs:minInclusive value="-3"/></xs:restriction>`,
		`<xs:restriction base="xs:date"><xs:minInclusive value="2030-01-01"/></xs:restriction>`,
		`<xs:restriction base="xs:dateTime"><xs:maxInclusive value="2000-01-01T00:00:00Z"/></xs:restriction>`,
		`<xs:restriction base="xs:base64Binary"><xs:length value="10"/></xs:restriction>`,
		`<xs:restriction base="xs:hexBinary"><xs:minLength value="20"/></xs:restriction>`,
		`<xs:union memberTypes="xs:int xs:boolean"/>`, `<xs:list itemType="xs:double"/>`,
	} {
		types += fmt.Sprintf(`<xs:element name="e%d"><xs:simpleType>%s</xs:simpleType></xs:element>`, i, of)
	}
	for _, b := range []string{
		"string", "normalizedString", "token", "language", "Name", "NCName", "NMTOKEN", "NMTOKENS", "ID", "IDREF", "anyURI", "boolean",
		"decimal", "integer", "nonPositiveInteger", "negativeInteger", "long", "int", "short", "byte", "nonNegativeInteger", "unsignedLong",
		"unsignedInt", "unsignedShort", "unsignedByte", "positiveInteger", "float", "double", "dateTime", "date", "time", "gYear",
		"gYearMonth", "gMonth", "gDay", "gMonthDay", "duration", "base64Binary", "hexBinary", "anySimpleType",
	} {
		types += fmt.Sprintf(`<xs:element name="b-%s" type="xs:%s"/>`, b, b)
	}
	all := map[string]string{"every type": types + `</xs:sequence><xs:attribute name="k" type="xs:int" use="required"/></xs:complexType></xs:element>`}
	for name, xsd := range shapes {
		all[name] = xsd
	}
	for name, xsd := range all {
		s := set(t, xsd)
		for _, want := range []Want{{}, {All: true}} {
			for seed := range 3 {
				want.Example = &schema.Examples{Day: time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC), Seed: seed}
				src := Sample(s, root(s), want)
				d := NewDraft(s, root(s), src)
				require.NoError(t, d.Err(), name)
				assert.Empty(t, d.Unfilled(), name)
				assert.Empty(t, d.Validate(), "%s\n%s", name, src)
				want.Example = &schema.Examples{Day: time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC), Seed: seed}
				assert.Equal(t, string(src), string(Sample(s, root(s), want)), name)
			}
		}
	}
}
