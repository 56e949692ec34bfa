package data

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

const harbourSchema = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:h="urn:h" targetNamespace="urn:h" elementFormDefault="qualified">
<xs:complexType name="Vessel"><xs:sequence><xs:element name="name" type="xs:string"/><xs:element name="length" type="xs:decimal"/><xs:element name="flag" type="xs:string" minOccurs="0" nillable="true"/></xs:sequence><xs:attribute name="sign" type="xs:string"/></xs:complexType>
<xs:complexType name="Tug"><xs:complexContent><xs:extension base="h:Vessel"><xs:sequence><xs:element name="pull" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:simpleType name="Depths"><xs:list itemType="xs:decimal"/></xs:simpleType>
<xs:simpleType name="Mark"><xs:union memberTypes="xs:int xs:boolean xs:string"/></xs:simpleType>
<xs:complexType name="Measure"><xs:simpleContent><xs:extension base="xs:double"><xs:attribute name="unit" type="xs:string"/></xs:extension></xs:simpleContent></xs:complexType>
<xs:complexType name="Part"><xs:sequence><xs:element name="weight" type="xs:decimal"/><xs:element name="part" type="h:Part" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:attribute name="id" type="xs:int" use="required"/></xs:complexType>
<xs:complexType name="Note" mixed="true"><xs:sequence><xs:element name="b" type="xs:string" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType>
<xs:element name="Report"><xs:complexType><xs:sequence>
<xs:element name="day" type="xs:date"/>
<xs:element name="open" type="xs:boolean" minOccurs="0"/>
<xs:element name="count" type="xs:integer" minOccurs="0"/>
<xs:element name="depths" type="h:Depths" minOccurs="0"/>
<xs:element name="mark" type="h:Mark" minOccurs="0" maxOccurs="3"/>
<xs:element name="draught" type="h:Measure" minOccurs="0"/>
<xs:element name="year" minOccurs="0" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="week" maxOccurs="53"><xs:complexType><xs:sequence><xs:element name="no" type="xs:int"/><xs:element name="vessel" type="h:Vessel" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element></xs:sequence><xs:attribute name="n" type="xs:gYear"/></xs:complexType></xs:element>
<xs:element name="part" type="h:Part" minOccurs="0" maxOccurs="unbounded"/>
<xs:choice><xs:element name="wind" type="xs:int" maxOccurs="2"/><xs:element name="calm" type="xs:string"/></xs:choice>
<xs:element name="note" type="h:Note" minOccurs="0"/>
</xs:sequence><xs:attribute name="desk" type="xs:string"/></xs:complexType></xs:element>
<xs:element name="Nothing"><xs:complexType><xs:sequence/></xs:complexType></xs:element>
<xs:element name="Hits"><xs:complexType><xs:sequence><xs:element name="berth" type="xs:string" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element>
</xs:schema>`

func harbour(t testing.TB) *schema.Set {
	t.Helper()
	d, err := xmltree.Parse([]byte(harbourSchema), xmltree.Limits{})
	require.NoError(t, err)
	s := schema.New(nil)
	s.Add(d.Root(), "h.xsd")
	s.Resolve()
	require.Empty(t, s.Problems)
	return s
}

func root(t testing.TB, src string) xmltree.Node {
	t.Helper()
	d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
	require.NoError(t, err)
	return d.Root()
}

// compact is JSON without white space, its numbers as they are written.
func compact(t testing.TB, b []byte) string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, json.Compact(&out, b), "%s", b)
	return out.String()
}

func TestJSONIsLaidOutByTheSchema(t *testing.T) {
	set := harbour(t)
	for src, want := range map[string]string{
		`<Nothing xmlns="urn:h"/>`:                                       `{}`,
		`<Hits xmlns="urn:h"/>`:                                          `{"berth":[]}`,
		`<Hits xmlns="urn:h"><berth>N02</berth></Hits>`:                  `{"berth":["N02"]}`,
		`<Report xmlns="urn:h"><day>2027-03-01</day><calm/></Report>`:    `{"day":"2027-03-01","mark":[],"year":[],"part":[],"calm":""}`,
		`<Report xmlns="urn:h" desk="7"><day/><wind>+04</wind></Report>`: `{"@desk":"7","day":"","mark":[],"year":[],"part":[],"wind":[4]}`,
		`<Report xmlns="urn:h"><day>d</day><open>1</open><count>+0012345678901234567890</count><depths>1.50 .5 -0.0</depths>` +
			`<mark>7</mark><mark>true</mark><mark>x</mark><draught unit="m">INF</draught><calm>no &lt;wind&gt;</calm></Report>`: `{"day":"d","open":true,` +
			`"count":12345678901234567890,"depths":[1.50,0.5,-0.0],"mark":[7,true,"x"],"draught":{"@unit":"m","#text":"INF"},"year":[],"part":[],"calm":"no <wind>"}`,
		`<Report xmlns="urn:h"><day>d</day><draught>1.0E3</draught><calm/><note>see <b>x</b> &amp; y</note></Report>`: `{"day":"d","mark":[],` +
			`"draught":1.0E3,"year":[],"part":[],"calm":"","note":"see <b>x</b> &amp; y"}`,
		`<r:Report xmlns:r="urn:h" xmlns:x="http://www.w3.org/2001/XMLSchema-instance"><r:day>d</r:day><r:year n="2027"><r:week><r:no>1</r:no>` +
			`<r:vessel sign="S" x:type="r:Tug"><r:name>a</r:name><r:length>042.0</r:length><r:flag x:nil="true"/><r:pull>90</r:pull></r:vessel>` +
			`</r:week></r:year><r:calm/></r:Report>`: `{"day":"d","mark":[],"year":[{"@n":"2027","week":[{"no":1,"vessel":[{"@sign":"S","name":"a",` +
			`"length":42.0,"flag":null,"pull":90}]}]}],"part":[],"calm":""}`,
	} {
		n := root(t, src)
		got := JSON(set, set.Element(schema.NameOf(n.Name())), n)
		assert.Equal(t, want, compact(t, got), src)
	}
}

func TestJSONWithoutASchemaIsWhatWasSeen(t *testing.T) {
	for src, want := range map[string]string{
		`<r/>`:                            `{}`,
		`<r><a>1</a><b>x</b><a>2</a></r>`: `{"a":["1","2"],"b":"x"}`,
		`<r k="v"><a/></r>`:               `{"@k":"v","a":""}`,
		`<r><a k="v">t</a></r>`:           `{"a":{"@k":"v","#text":"t"}}`,
		`<r>t<a/>u</r>`:                   `"t<a/>u"`,
		`<r xmlns:p="urn:p"><a>1</a><p:a>2</p:a></r>`: `{"a":"1","p:a":"2"}`,
	} {
		assert.Equal(t, want, compact(t, JSON(nil, nil, root(t, src))), src)
	}
}

func TestOnlyWhatIsSelected(t *testing.T) {
	set := harbour(t)
	n := root(t, `<Report xmlns="urn:h" desk="7"><day>d</day><part id="1"><weight>2</weight><part id="2"><weight>3</weight></part></part><calm/></Report>`)
	assert.Equal(t, `{"day":"d","part":[{"weight":2}]}`, compact(t, Slim(set, nil, n, []string{"day", "part/weight"})))
	assert.Equal(t, `{"@desk":"7","part":[{"@id":1,"weight":2,"part":[{"@id":2,"weight":3,"part":[]}]}]}`,
		compact(t, Slim(set, nil, n, []string{"@desk", "part"})))
}

func TestNumbersKeepTheirDigits(t *testing.T) {
	for in, want := range map[string]string{
		"1": "1", "+1": "1", "007": "7", "-0": "-0", "1.50": "1.50", ".5": "0.5", "-.5": "-0.5", "5.": "5", "1e9": "1e9",
		"00": "0", "1.0E-3": "1.0E-3", "+1.e+05": "1e+05",
	} {
		got, ok := Number(in)
		assert.True(t, ok, in)
		assert.Equal(t, want, got, in)
		assert.True(t, json.Valid([]byte(got)), in)
	}
	for _, in := range []string{"", "-", ".", "INF", "NaN", "1e", "1e+-5", "0x1", "1 2", "--1", "e5"} {
		_, ok := Number(in)
		assert.False(t, ok, in)
	}
}

func csvOf(t testing.TB, one *Table) (out [][]string) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, one.CSV(&b))
	out, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	return out
}

func TestRowsAreOneForEachThatRepeats(t *testing.T) {
	set := harbour(t)
	n := root(t, `<Report xmlns="urn:h" desk="north"><day>d</day>`+
		`<year n="2027"><week><no>1</no><vessel sign="=SUM(A1)"><name>a</name><length>-42</length></vessel><vessel><name>b</name><length>7</length><flag/></vessel></week><week><no>2</no></week></year>`+
		`<year n="2028"><week><no>1</no></week></year>`+
		`<part id="1"><weight>2</weight><part id="2"><weight>3</weight></part></part><calm/></Report>`)
	all := Tables(set, nil, n)
	var paths []string
	for _, one := range all {
		paths = append(paths, fmt.Sprintf("%s %d", one.Path, one.Rows))
	}
	assert.ElementsMatch(t, []string{"year/week 3", "year 2", "year/week/vessel 2", "part 1", "part/part 1", "mark 0", "part/part/part 0"}, paths)
	assert.Equal(t, "year/week 3", paths[0], "the one with most rows first")

	pick := func(path string) [][]string {
		one, err := Pick(all, path)
		require.NoError(t, err)
		return csvOf(t, one)
	}
	assert.Equal(t, [][]string{
		{"no", "vessel", "@desk", "day", "calm", "year/@n"},
		{"1", "2", "north", "d", "", "2027"}, {"2", "0", "north", "d", "", "2027"}, {"1", "0", "north", "d", "", "2028"},
	}, pick("year/week"))
	assert.Equal(t, [][]string{
		{"@sign", "name", "length", "flag", "@desk", "day", "calm", "year/@n", "year/week/no"},
		{"'=SUM(A1)", "a", "-42", "", "north", "d", "", "2027", "1"},
		{"", "b", "7", "", "north", "d", "", "2027", "1"},
	}, pick("year/week/vessel"))
	assert.Equal(t, [][]string{
		{"@id", "weight", "part", "@desk", "day", "calm", "part/@id", "part/weight"},
		{"2", "3", "0", "north", "d", "", "1", "2"},
	}, pick("part/part"), "an item's weight is its own, and not that of a part within it")
	_, err := Pick(all, "day")
	assert.ErrorContains(t, err, "year/week")
}

func TestTablesAreWrittenInOtherWays(t *testing.T) {
	one := Tables(nil, nil, root(t, `<r><a><b>1.50</b><c>x|y</c></a><a><c>z</c></a></r>`))[0]
	var lines, md bytes.Buffer
	require.NoError(t, one.Lines(&lines))
	assert.Equal(t, "{\"b\": 1.50, \"c\": \"x|y\"}\n{\"c\": \"z\"}\n", lines.String())
	require.NoError(t, one.Markdown(&md))
	assert.Equal(t, "| b | c |\n| --- | --- |\n| 1.50 | x\\|y |\n|  | z |\n", md.String())
}

// elem is a tree as encoding/xml reads it: the other judge.
type elem struct {
	name  string
	attrs map[string]string
	text  string
	kids  []*elem
}

func read(t testing.TB, src string) *elem {
	t.Helper()
	d := xml.NewDecoder(strings.NewReader(src))
	var stack []*elem
	for {
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		switch tok := tok.(type) {
		case xml.StartElement:
			e := &elem{name: tok.Name.Local, attrs: map[string]string{}}
			for _, a := range tok.Attr {
				e.attrs[a.Name.Local] = a.Value
			}
			if len(stack) > 0 {
				top := stack[len(stack)-1]
				top.kids = append(top.kids, e)
			}
			stack = append(stack, e)
		case xml.EndElement:
			if len(stack) == 1 {
				return stack[0]
			}
			stack = stack[:len(stack)-1]
		case xml.CharData:
			if len(stack) > 0 {
				stack[len(stack)-1].text += string(tok)
			}
		}
	}
	return nil
}

// made is a random message: lists in lists, attributes, absent and empty fields.
func made(r *rand.Rand, depth int) string {
	var b strings.Builder
	for _, name := range []string{"a", "b", "c"} {
		for range r.IntN(4) {
			attr := ""
			if r.IntN(3) == 0 {
				attr = fmt.Sprintf(` k="%d"`, r.IntN(100))
			}
			inner := fmt.Sprint(r.IntN(1000))
			if depth > 0 && r.IntN(2) == 0 {
				inner = made(r, depth-1)
			}
			fmt.Fprintf(&b, "<%s%s>%s</%s>", name, attr, inner, name)
		}
	}
	return b.String()
}

// lookup follows a path of single children below an element; false where one is missing
// or not alone.
func lookup(e *elem, path string) (string, bool) {
	for part := range strings.SplitSeq(path, "/") {
		if attr, is := strings.CutPrefix(part, "@"); is {
			v, ok := e.attrs[attr]
			return v, ok
		}
		var found []*elem
		for _, k := range e.kids {
			if k.name == part {
				found = append(found, k)
			}
		}
		if len(found) != 1 {
			return fmt.Sprint(len(found)), len(found) > 0
		}
		e = found[0]
	}
	return e.text, true
}

// count is how many elements stand at a path below an element whose other parts are alone.
func count(e *elem, path string) string {
	before, last := "", path
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		before, last = path[:i], path[i+1:]
	}
	if before != "" {
		for part := range strings.SplitSeq(before, "/") {
			e = e.kids[slices.IndexFunc(e.kids, func(k *elem) bool { return k.name == part })]
		}
	}
	n := 0
	for _, k := range e.kids {
		if k.name == last {
			n++
		}
	}
	return fmt.Sprint(n)
}

// Each cell is what stands at its path in the tree, read by another parser; and no row is
// missing.
func TestEachCellIsWhatStandsAtItsPath(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		src := "<r>" + made(r, 3) + "</r>"
		tree, n := read(t, src), root(t, src)
		for _, one := range Tables(nil, nil, n) {
			// The rows in the order of the document, by the other reading.
			var rows []*elem
			var chains [][]*elem
			var walk func(e *elem, left []string, chain []*elem)
			walk = func(e *elem, left []string, chain []*elem) {
				if len(left) == 0 {
					rows, chains = append(rows, e), append(chains, chain)
					return
				}
				for _, k := range e.kids {
					if k.name == left[0] {
						walk(k, left[1:], append(slices.Clone(chain), e))
					}
				}
			}
			walk(tree, strings.Split(one.Path, "/"), nil)
			i := 0
			one.Each(func(_ xmltree.Node, cells []Cell) bool {
				for c, col := range one.row {
					if col.above || !cells[c].There || col.path == one.self() && len(rows[i].kids) == 0 {
						continue
					}
					want, ok := lookup(rows[i], col.path)
					if cells[c].Counted {
						want, ok = count(rows[i], col.path), true
					}
					if assert.True(t, ok, "%s\n%s %s", src, one.Path, col.path) {
						assert.Equal(t, want, cells[c].Text, "%s\n%s %s", src, one.Path, col.path)
					}
				}
				i++
				return true
			})
			assert.Len(t, rows, i, "%s\n%s", src, one.Path)
			assert.Equal(t, one.Rows, i)
		}
	}
}

func BenchmarkLargeReply(b *testing.B) {
	row := `<berth free="true"><code>N02</code><quay>North quay</quay><length>42.5</length></berth>`
	src := "<r>" + strings.Repeat(row, 50<<20/len(row)) + "</r>"
	n := root(b, src)
	b.Run("json", func(b *testing.B) {
		for b.Loop() {
			JSON(nil, nil, n)
		}
	})
	b.Run("rows", func(b *testing.B) {
		for b.Loop() {
			_ = Tables(nil, nil, n)[0].CSV(io.Discard)
		}
	})
}

// JSON that was made of a message makes the same message again.
func TestJSONMakesTheMessageAgain(t *testing.T) {
	set := harbour(t)
	for _, src := range []string{
		`<Report xmlns="urn:h" desk="7"><day>2027-03-01</day><open>true</open><count>12</count><depths>1.50 2</depths><mark>7</mark>` +
			`<draught unit="m">1.5</draught><year n="2027"><week><no>1</no><vessel sign="S"><name>a &lt; b</name><length>42.0</length>` +
			`<flag xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/></vessel></week></year>` +
			`<part id="1"><weight>2</weight><part id="2"><weight>3</weight></part></part><wind>4</wind><wind>5</wind><note>see <b>x</b></note></Report>`,
		`<Hits xmlns="urn:h"/>`,
	} {
		n := root(t, src)
		decl := set.Element(schema.NameOf(n.Name()))
		first := JSON(set, decl, n)
		made, err := XML(set, decl, first)
		require.NoError(t, err, "%s", first)
		again := root(t, string(made))
		assert.Empty(t, set.Validate(again, decl, schema.Options{}), "%s", made)
		assert.Equal(t, string(first), string(JSON(set, decl, again)))
	}
	decl := set.Element(schema.QName{Space: "urn:h", Local: "Report"})
	for src, says := range map[string]string{
		`{`: "no JSON", `{} {}`: "more follows", `{"colour": 1}`: "colour: the schema has no such field", `{"day": {}}`: "day",
		`{"day": ["a"]}`: "day", `{"year": [{"week": [{"no": {"x": 1}}]}]}`: "year[0]/week[0]/no", `5`: "an object is due",
		`{"note": "<b>"}`: "no XML",
	} {
		_, err := XML(set, decl, []byte(src))
		assert.ErrorContains(t, err, says, src)
	}
}

func FuzzFromJSON(f *testing.F) {
	set := harbour(f)
	decl := set.Element(schema.QName{Space: "urn:h", Local: "Report"})
	f.Add([]byte(`{"day": "d", "year": [{"week": [{"no": 1}]}], "calm": ""}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if made, err := XML(set, decl, b); err == nil {
			_, perr := xmltree.Parse(made, xmltree.Limits{})
			if perr != nil && !bytes.ContainsFunc(b, func(r rune) bool { return r < 0x20 || r > 0x7e || r == '\\' }) {
				t.Fatalf("%s\n%v", made, perr)
			}
		}
	})
}
