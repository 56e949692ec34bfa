package schema

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/xmltree"
)

func node(t testing.TB, src string) xmltree.Node {
	t.Helper()
	d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
	require.NoError(t, err, src)
	return d.Root()
}

func load(t testing.TB, src string) *Set {
	t.Helper()
	s := New(nil)
	s.Add(node(t, src), "test.xsd")
	s.Resolve()
	require.Empty(t, s.Problems)
	return s
}

const harbour = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns="urn:skerry:x" targetNamespace="urn:skerry:x" elementFormDefault="qualified">
<xs:element name="order"><xs:complexType><xs:sequence>
  <xs:element name="vessel" type="Vessel"/>
  <xs:choice><xs:element name="berth" type="xs:positiveInteger"/><xs:element name="buoy" type="Colour" maxOccurs="2"/></xs:choice>
  <xs:element name="note" type="xs:string" minOccurs="0" nillable="true"/>
  <xs:element name="line" minOccurs="0" maxOccurs="unbounded"><xs:complexType><xs:simpleContent><xs:extension base="xs:decimal"><xs:attribute name="unit" type="Unit" use="required"/></xs:extension></xs:simpleContent></xs:complexType></xs:element>
  <xs:element ref="mark" minOccurs="0"/>
  <xs:any namespace="##other" processContents="lax" minOccurs="0"/>
</xs:sequence><xs:attribute name="ref" type="xs:ID"/><xs:attribute name="year" type="xs:gYear" default="2027"/></xs:complexType></xs:element>
<xs:complexType name="Vessel"><xs:all><xs:element name="name" type="Name"/><xs:element name="length" type="Length" minOccurs="0"/></xs:all></xs:complexType>
<xs:complexType name="Tug"><xs:complexContent><xs:restriction base="Vessel"><xs:all><xs:element name="name" type="Name"/></xs:all></xs:restriction></xs:complexContent></xs:complexType>
<xs:simpleType name="Name"><xs:restriction base="xs:string"><xs:minLength value="2"/><xs:maxLength value="12"/></xs:restriction></xs:simpleType>
<xs:simpleType name="Length"><xs:restriction base="xs:decimal"><xs:minExclusive value="0"/><xs:maxInclusive value="400"/><xs:fractionDigits value="2"/></xs:restriction></xs:simpleType>
<xs:simpleType name="Colour"><xs:restriction base="xs:token"><xs:enumeration value="red"/><xs:enumeration value="green"/></xs:restriction></xs:simpleType>
<xs:simpleType name="Unit"><xs:restriction base="xs:string"><xs:pattern value="[a-z-[aeiou]]{1,3}"/></xs:restriction></xs:simpleType>
<xs:element name="mark" type="xs:token" abstract="true"/><xs:element name="light" type="xs:token" substitutionGroup="mark"/>
</xs:schema>`

const xmlns = `xmlns="urn:skerry:x" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"`

// documents are bodies of <order>, valid and broken, with the rule that breaks.
var documents = []struct{ body, rule string }{
	{`<vessel><name>Alder</name></vessel><berth>4</berth>`, ""},
	{
		`<vessel><length>12.50</length><name>Alder</name></vessel><buoy> red </buoy><buoy>green</buoy><note/><line unit="m">1</line><line unit="km">2.5</line>`,
		"",
	},
	{
		`<vessel><name>Alder</name></vessel><berth>4</berth><note xsi:nil="true"/><light>north</light><z xmlns="urn:z" q="1"/>`,
		"",
	},
	{`<vessel xsi:type="Tug"><name>Alder</name></vessel><berth>+4</berth>`, ""},
	{`<vessel xsi:type="Tug"><name>Alder</name><length>3</length></vessel><berth>4</berth>`, "cvc-complex-type.2.4"},
	{`<vessel><name>A</name></vessel><berth>4</berth>`, "cvc-minLength-valid"},
	{`<vessel><name>Alder</name></vessel><berth>0</berth>`, "cvc-minInclusive-valid"},
	{`<vessel><name>Alder</name></vessel>`, "cvc-complex-type.2.4"},
	{`<berth>4</berth>`, "cvc-complex-type.2.4"},
	{`<vessel><name>Alder</name></vessel><buoy>blue</buoy>`, "cvc-enumeration-valid"},
	{`<vessel><name>Alder</name></vessel><buoy>red</buoy><buoy>red</buoy><buoy>red</buoy>`, "cvc-complex-type.2.4"},
	{`<vessel><name>Alder</name><length>0</length></vessel><berth>4</berth>`, "cvc-minExclusive-valid"},
	{`<vessel><name>Alder</name><length>1.234</length></vessel><berth>4</berth>`, "cvc-fractionDigits-valid"},
	{`<vessel><name>Alder</name></vessel><berth>4</berth><line>1</line>`, "cvc-complex-type.4"},
	{`<vessel><name>Alder</name></vessel><berth>4</berth><line unit="oa">1</line>`, "cvc-pattern-valid"},
	{`<vessel><name>Alder</name></vessel><berth>4</berth><mark>x</mark>`, "cvc-complex-type.2.4"},
	{`<vessel><name>Alder</name></vessel><berth>4</berth>words`, "cvc-complex-type.2.3"},
	{`<vessel><name xsi:nil="true"/></vessel><berth>4</berth>`, "cvc-elt.3.1"},
	{`<vessel><name>Alder</name></vessel><berth>4</berth><note xsi:nil="true">x</note>`, "cvc-elt.3.2.1"},
	{`<vessel tonnage="3"><name>Alder</name></vessel><berth>4</berth>`, "cvc-complex-type.3.2.2"},
	{`<vessel xsi:type="Name"><name>Alder</name></vessel><berth>4</berth>`, "cvc-elt.4.3"},
	{`<vessel><name>Alder</name></vessel><berth>4</berth><berth>5</berth>`, "cvc-complex-type.2.4"},
	{`<vessel><name>Alder</name></vessel><vessel/><berth>4</berth>`, "cvc-complex-type.2.4"},
	{`<vessel><name xmlns="">Alder</name></vessel><berth>4</berth>`, "cvc-complex-type.2.4"},
}

func TestVerdictsAndRules(t *testing.T) {
	s := load(t, harbour)
	lint, _ := exec.LookPath("xmllint")
	dir := t.TempDir()
	xsd := filepath.Join(dir, "harbour.xsd")
	require.NoError(t, os.WriteFile(xsd, []byte(harbour), 0o600))
	for _, c := range documents {
		src := "<order " + xmlns + ">" + c.body + "</order>"
		errs := s.Validate(node(t, src), s.Element(QName{"urn:skerry:x", "order"}), Options{})
		if c.rule == "" {
			assert.Empty(t, errs, c.body)
		} else if assert.NotEmpty(t, errs, c.body) {
			var rules []string
			for _, e := range errs {
				rules = append(rules, e.Rule)
			}
			assert.Contains(t, rules, c.rule, c.body)
		}
		if lint != "" {
			f := filepath.Join(dir, "doc.xml")
			require.NoError(t, os.WriteFile(f, []byte(src), 0o600))
			out, err := exec.Command(lint, "--noout", "--nonet", "--schema", xsd, f).CombinedOutput()
			assert.Equal(t, c.rule == "", err == nil, "%s\nxmllint: %s", c.body, out)
		}
	}
}

func TestErrorsSayWhereAndWhatWasExpected(t *testing.T) {
	s := load(t, harbour)
	src := "<order " + xmlns + ">\n<vessel><name>Alder</name></vessel>\n<bouy>red</bouy><line unit='m'>x</line></order>"
	errs := s.Validate(node(t, src), s.Element(QName{"urn:skerry:x", "order"}), Options{})
	require.Len(t, errs, 2, "it goes on after an error")
	assert.Equal(t, "the element bouy cannot stand here; expected: berth, buoy", errs[0].Message)
	assert.Equal(t, []string{"berth", "buoy"}, errs[0].Expected)
	assert.Equal(t, [3]int{strings.Index(src, "<bouy"), 3, 1}, [3]int{errs[0].Offset, errs[0].Line, errs[0].Column})
	assert.Equal(t, "order/line", errs[1].Path)
	assert.Equal(t, "cvc-datatype-valid", errs[1].Rule)
}

// values are lexical forms by built-in type, right and wrong ones.
var values = []struct {
	typ       string
	good, bad []string
}{
	{"boolean", []string{"true", "0", " 1 "}, []string{"TRUE", "yes", ""}},
	{"decimal", []string{"1", "-1.50", "+.5", "3."}, []string{"1e3", "", ".", "INF"}},
	{"integer", []string{"-0", "+12"}, []string{"1.0", "12 3"}},
	{"byte", []string{"-128", "127"}, []string{"128", "-129"}},
	{"unsignedLong", []string{"18446744073709551615"}, []string{"18446744073709551616", "-1"}},
	{"double", []string{"INF", "-INF", "NaN", "1E-3", "1.e2"}, []string{"inf", "1e", "+-1"}},
	{
		"date",
		[]string{"2028-02-29", "2027-01-01Z", "-0005-02-29", "12027-03-04+14:00"},
		[]string{"2027-02-29", "2027-13-01", "27-01-01", "2027-01-01+14:01", "0000-01-01"},
	},
	{
		"dateTime",
		[]string{"2027-01-01T24:00:00", "2027-01-01T00:00:00.125-05:00"},
		[]string{"2027-01-01", "2027-01-01T24:00:01", "2027-01-01T00:60:00"},
	},
	{"time", []string{"23:59:59.999"}, []string{"24:00:00.1", "9:00:00"}},
	{"gMonthDay", []string{"--02-29"}, []string{"--02-30", "02-29"}},
	{"duration", []string{"P1Y", "-P1DT2.5S", "PT0S"}, []string{"P", "P1DT", "1Y", "P1S"}},
	{"hexBinary", []string{"", "0aFF"}, []string{"abc", "zz"}},
	{"base64Binary", []string{"", "YQ==", "YWJj", "Y W J j"}, []string{"YQ=", "Y", "?"}},
	{"NCName", []string{"a-b.c", "é"}, []string{"a:b", "1a", ""}},
	{"language", []string{"en-GB"}, []string{"englishlanguage"}},
	{"NMTOKENS", []string{"a 1 b"}, []string{"", "a,b"}},
	{"QName", []string{"xs:a", "a"}, []string{"a:b:c", ":a"}},
	{"anyURI", []string{"urn:a", "a b"}, nil},
}

func TestBuiltinTypes(t *testing.T) {
	for _, c := range values {
		for _, v := range c.good {
			assert.Nil(t, Builtin(c.typ).Check(v), "%s %q", c.typ, v)
		}
		for _, v := range c.bad {
			assert.NotNil(t, Builtin(c.typ).Check(v), "%s %q", c.typ, v)
		}
	}
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct{ pattern, yes, no string }{
		{`\i\c*`, "a-1", "1a"}, {`[\-+]?\d{1,3}(,\d{3})*`, "-1,234", "1,23"}, {`^a$`, "^a$", "a"}, {`a.c`, "abc",
			"a\nc"},
		{`[^a-c]+`, "xyz", "xbz"}, {`\p{Lu}\P{Lu}+`, "Éa", "aa"}, {`\p{IsGreek}+`, "λ", "l"}, {`(a|b){2}`, "ba", "a"},
		{`[a-z-[m-p]]`, "a", "n"}, {`\w+`, "a1", "a-"},
		{`[\w-]+`, "a-b", "a b"}, {`(a+)+b`, "aaab", strings.Repeat("a", 5000)},
	} {
		p, err := CompilePattern(c.pattern)
		require.NoError(t, err, c.pattern)
		assert.True(t, p.Match(c.yes), "%s %q", c.pattern, c.yes)
		assert.False(t, p.Match(c.no), "%s %q", c.pattern, c.no)
	}
	for _, bad := range []string{`(`, `a)`, `[b`, `\q`, `*`, `a{2,1}`, `\p{Nope}`, `[z-a]`} {
		_, err := CompilePattern(bad)
		assert.Error(t, err, bad)
	}
}

func TestIncludesImportsAndRedefinitions(t *testing.T) {
	files := map[string]string{
		"main.xsd":  `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:m="urn:m" xmlns:o="urn:o" targetNamespace="urn:m"><xs:redefine schemaLocation="base.xsd"><xs:simpleType name="Code"><xs:restriction base="m:Code"><xs:maxLength value="3"/></xs:restriction></xs:simpleType></xs:redefine><xs:import namespace="urn:o" schemaLocation="other.xsd"/><xs:import namespace="urn:gone" schemaLocation="gone.xsd"/><xs:element name="a" type="m:Code"/><xs:element name="b" type="o:T"/><xs:element name="c" type="m:Missing"/></xs:schema>`,
		"base.xsd":  `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:simpleType name="Code"><xs:restriction base="xs:string"><xs:minLength value="2"/></xs:restriction></xs:simpleType><xs:element name="k" type="Code"/></xs:schema>`,
		"other.xsd": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:o"><xs:import namespace="urn:m" schemaLocation="main.xsd"/><xs:complexType name="T"><xs:sequence><xs:element name="x" type="xs:int"/></xs:sequence></xs:complexType></xs:schema>`,
	}
	s := New(func(location, _ string) ([]byte, string, error) {
		if f, ok := files[location]; ok {
			return []byte(f), location, nil
		}
		return nil, "", fmt.Errorf("it is not there")
	})
	s.Add(node(t, files["main.xsd"]), "main.xsd")
	s.Resolve()
	var what []string
	for _, p := range s.Problems {
		what = append(what, p.String())
	}
	assert.ElementsMatch(
		t,
		[]string{"gone.xsd: it is not there", "{urn:m}Missing: this type is referred to and not defined anywhere"},
		what,
	)
	code := s.Element(QName{"urn:m", "a"}).Type.(*Simple)
	assert.Nil(t, code.Check("abc"))
	assert.NotNil(t, code.Check("abcd"), "the redefinition holds")
	assert.NotNil(t, code.Check("a"), "and so does what it restricts")
	assert.Same(t, code, s.Element(QName{"urn:m", "k"}).Type, "a chameleon include sees the redefined type")
	assert.Len(
		t,
		s.Validate(node(t, `<b xmlns="urn:m"><x xmlns="">no</x></b>`), s.Element(QName{"urn:m", "b"}), Options{}),
		1,
	)
}

func TestHostileSchemasEnd(t *testing.T) {
	for _, body := range []string{
		`<xs:complexType name="A"><xs:complexContent><xs:extension base="A"><xs:sequence/></xs:extension></xs:complexContent></xs:complexType>`,
		`<xs:simpleType name="A"><xs:restriction base="A"/></xs:simpleType>`,
		`<xs:group name="A"><xs:sequence><xs:group ref="A"/></xs:sequence></xs:group><xs:complexType name="B"><xs:group ref="A"/></xs:complexType>`,
		`<xs:attributeGroup name="A"><xs:attributeGroup ref="A"/></xs:attributeGroup><xs:complexType name="B"><xs:attributeGroup ref="A"/></xs:complexType>`,
		`<xs:element name="A" substitutionGroup="B"/><xs:element name="B" substitutionGroup="A"/>`,
		`<xs:simpleType name="A"><xs:union memberTypes="A"/></xs:simpleType><xs:element name="e" type="A"/>`,
		`<xs:simpleType name="A"><xs:list itemType="A"/></xs:simpleType><xs:element name="e" type="A"/>`,
		`<xs:element name="e"><xs:complexType><xs:sequence minOccurs="1000000000" maxOccurs="1000000000"><xs:element name="a" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>`,
		`<xs:element name="e" type="xs:int" minOccurs="-3"/>`,
	} {
		s := New(nil)
		s.Add(node(t, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">`+body+`</xs:schema>`), "x.xsd")
		s.Resolve()
		if e := s.Element(QName{"", "e"}); e != nil {
			s.Validate(node(t, `<e>x</e>`), e, Options{})
			s.Validate(node(t, `<e><a/></e>`), e, Options{})
		}
	}
}

func FuzzPattern(f *testing.F) {
	for _, p := range []string{`\i\c*`, `[a-z-[aeiou]]`, `(a|b){2,}`, `\p{IsGreek}`, `[^\]]`} {
		f.Add(p, "abc")
	}
	f.Fuzz(func(_ *testing.T, pattern, value string) {
		if p, err := CompilePattern(pattern); err == nil {
			p.Match(value)
		}
	})
}

func FuzzValidate(f *testing.F) {
	f.Add(harbour, `<order xmlns="urn:skerry:x"><vessel><name>Alder</name></vessel><berth>4</berth></order>`)
	f.Fuzz(func(_ *testing.T, xsd, doc string) {
		x, err := xmltree.Parse([]byte(xsd), xmltree.Limits{Depth: 100})
		if err != nil {
			return
		}
		d, err := xmltree.Parse([]byte(doc), xmltree.Limits{Depth: 100})
		if err != nil {
			return
		}
		s := New(nil)
		s.Add(x.Root(), "x.xsd")
		s.Resolve()
		for _, q := range s.Elements() {
			s.Validate(d.Root(), s.Element(q), Options{})
		}
	})
}

// What is looked at by several processors comes to the same as what one looks at.
func TestManyChildrenAreSharedOut(t *testing.T) {
	s := load(
		t,
		`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="log"><xs:complexType><xs:sequence><xs:element name="row" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="v" type="xs:int"/></xs:sequence><xs:attribute name="id" type="xs:ID"/><xs:attribute name="of" type="xs:IDREF"/></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element></xs:schema>`,
	)
	var b strings.Builder
	b.WriteString("<log>")
	for i := range 3 * worthSharing {
		switch {
		case i == 10:
			b.WriteString(`<row id="a"><v>ten</v></row>`)
		case i == 3*worthSharing-5:
			b.WriteString(`<row id="a"><v>1</v></row>`)
		case i == 2*worthSharing:
			b.WriteString(`<row of="nobody"><v>1</v></row>`)
		case i == worthSharing:
			b.WriteString(`<row of="r7"><w/></row>`)
		default:
			fmt.Fprintf(&b, `<row id="r%d"><v>%d</v></row>`, i, i)
		}
	}
	b.WriteString("</log>")
	d, err := xmltree.Parse([]byte(b.String()), xmltree.Limits{})
	require.NoError(t, err)
	var rules []string
	for _, e := range s.Validate(d.Root(), s.Element(QName{Local: "log"}), Options{}) {
		rules = append(rules, e.Rule)
	}
	assert.Equal(t, []string{"cvc-datatype-valid", "cvc-complex-type.2.4", "cvc-id", "cvc-id"}, rules)
	assert.Len(t, s.Validate(d.Root(), s.Element(QName{Local: "log"}), Options{Max: 2}), 2)
}

// Several calls over one contract are checked at the same time.
func TestValidatingAtTheSameTime(t *testing.T) {
	xsd, doc := table(20 << 10)
	s := load(t, xsd)
	d, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
	require.NoError(t, err)
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			assert.Empty(t, s.Validate(d.Root(), s.Element(NameOf(d.Root().Name())), Options{}))
		})
	}
	wait.Wait()
}
