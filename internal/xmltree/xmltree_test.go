package xmltree

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func parse(t *testing.T, s string) *Document {
	t.Helper()
	d, err := Parse([]byte(s), Limits{})
	require.NoError(t, err)
	return d
}

func TestSpansAreTheBytesThatWereWritten(t *testing.T) {
	src := "<?xml version='1.0'?>\n<p:a  xmlns:p = 'urn:x' q=\"1 &lt; 2\"><!-- c --><b>t&amp;u</b>\n " +
		"<p:b/>tail<![CDATA[<x>]]></p:a>\n"
	d := parse(t, src)
	a := d.Root()
	assert.Equal(t, Name{"urn:x", "a", "p"}, a.Name())
	assert.Equal(t, strings.TrimSpace(src[len("<?xml version='1.0'?>\n"):]), string(a.Bytes()))
	v, ok := a.Attr("", "q")
	assert.True(t, ok)
	assert.Equal(t, "1 < 2", v)
	for at := range a.Attrs() {
		if at.Name.Local == "q" {
			assert.Equal(t, `q="1 &lt; 2"`, src[at.Span.Start:at.Span.End])
			assert.Equal(t, `1 &lt; 2`, src[at.Inner.Start:at.Inner.End])
		}
	}
	var kids []string
	for c := range a.Children() {
		kids = append(kids, string(c.Bytes()))
	}
	assert.Equal(t, []string{"<b>t&amp;u</b>", "<p:b/>"}, kids)
	assert.Equal(t, "t&u", a.FirstChild().Text())
	assert.Equal(t, "tail<x>", a.Text())
	assert.Equal(t, "a/b", a.FirstChild().Path())
	assert.Equal(t, "b", d.At(strings.Index(src, "t&amp;")).Name().Local)
}

func TestNamespacesFollowTheirScopes(t *testing.T) {
	d := parse(t, `<a xmlns="urn:1"><b xmlns="urn:2" xmlns:x="urn:3"><x:c y="1" x:y="2"/></b><b xmlns=""/><b/></a>`)
	var got []string
	for b := range d.Root().Children() {
		got = append(got, b.Name().String())
	}
	assert.Equal(t, []string{"{urn:2}b", "b", "{urn:1}b"}, got)
	c := d.Root().Find("urn:3", "c")
	q, ok := c.QName("x:thing")
	assert.True(t, ok)
	assert.Equal(t, "{urn:3}thing", q.String())
	_, ok = c.QName("nope:thing")
	assert.False(t, ok)
}

func TestBrokenDocumentsSayWhereAndWhy(t *testing.T) {
	for _, c := range []struct {
		src, want string
		code      Code
		line, col int
	}{
		{"", "no element", Empty, 1, 1},
		{"<a>", "within the element a", NotWellFormed, 1, 4},
		{"<a>\n  <b>\n</a>", "end tag a does not belong to the open element b (line 2)", NotWellFormed, 3, 1},
		{"<a></a><b/>", "second document element", NotWellFormed, 1, 8},
		{"<a>x &#0; y</a>", "&#0; names no character", NotWellFormed, 1, 6},
		{"<a>&#x2;</a>", "&#x2; names no character", NotWellFormed, 1, 4},
		{"<a>2 < 3</a>", "< must be written &lt; where it begins no tag", NotWellFormed, 1, 6},
		{"<a>x <3</a>", "< must be written &lt;", NotWellFormed, 1, 6},
		{"<a/>oops", "outside the document element", TextOutside, 1, 5},
		{"warning <a/>", "outside", TextOutside, 1, 1},
		{"just text", "outside", NotWellFormed, 1, 1},
		{"<!DOCTYPE a [<!ENTITY x 'y'>]><a>&x;</a>", "document type declaration", Doctype, 1, 1},
		{"<a>&x;</a>", "&x; is not known", NotWellFormed, 1, 4},
		{"<a>1 & 2</a>", "&amp;", NotWellFormed, 1, 6},
		{"<a b='1' b='2'/>", "b stands twice", NotWellFormed, 1, 10},
		{"<a xmlns:p='u' xmlns:q='u' p:b='1' q:b='2'/>", "q:b stands twice", NotWellFormed, 1, 36},
		{"<p:a/>", "prefix p is not bound", NotWellFormed, 1, 2},
		{"<a b=1/>", "quotes", NotWellFormed, 1, 6},
		{"<a b/>", "b has no value", NotWellFormed, 1, 5},
		{"<a b='<'/>", "&lt;", NotWellFormed, 1, 7},
		{"<a>]]></a>", "]]>", NotWellFormed, 1, 4},
		{"<a>\x01</a>", "U+0001", NotWellFormed, 1, 4},
		{"<a>\xff</a>", "0xFF is not UTF-8", BadEncoding, 1, 4},
		{"<a><!-- -- --></a>", "within a comment", NotWellFormed, 1, 9},
		{"<a>&#0;</a>", "&#0;", NotWellFormed, 1, 4},
		{" <?xml version='1.0'?><a/>", "very start", NotWellFormed, 1, 2},
		{"<?xml encoding='UTF-8' version='1.0'?><a/>", "not in order", NotWellFormed, 1, 1},
		{"<a>é<b></a>", "does not belong", NotWellFormed, 1, 8},
	} {
		_, err := Parse([]byte(c.src), Limits{})
		var se *SyntaxError
		if assert.ErrorAs(t, err, &se, c.src) {
			assert.Contains(t, se.Msg, c.want, c.src)
			assert.Equal(t, c.code, se.Code, c.src)
			assert.Equal(t, [2]int{c.line, c.col}, [2]int{se.Line, se.Column}, c.src)
		}
	}
}

func TestWhatWasReadableBeforeAnErrorIsKept(t *testing.T) {
	d, err := Parse([]byte("<a><b>one</b><c><d>two</x></a>"), Limits{})
	var se *SyntaxError
	require.ErrorAs(t, err, &se)
	assert.Equal(t, []string{"a", "c", "d"}, se.Open)
	assert.Equal(t, "one", d.Root().Child("", "b").Text())
	assert.Equal(t, "two", d.Root().Child("", "c").Child("", "d").Text())
}

func TestLimitsHoldWhileReading(t *testing.T) {
	for _, c := range []struct {
		src    string
		limits Limits
		code   Code
	}{
		{strings.Repeat("<a>", 200000), Limits{Depth: 256}, DepthLimit},
		{"<a>" + strings.Repeat("x", 200) + "</a>", Limits{Text: 100}, TextLimit},
		{"<a b='" + strings.Repeat("x", 200) + "'/>", Limits{Text: 100}, TextLimit},
		{"<a>" + strings.Repeat("<b/>", 20) + "</a>", Limits{Repeats: 10}, RepeatLimit},
	} {
		_, err := Parse([]byte(c.src), c.limits)
		var se *SyntaxError
		require.ErrorAs(t, err, &se)
		assert.Equal(t, c.code, se.Code)
	}
}

func TestEncodings(t *testing.T) {
	utf16 := func(s string) []byte {
		out := []byte{0xFF, 0xFE}
		for _, r := range s {
			out = append(out, byte(r), byte(r>>8))
		}
		return out
	}
	for name, src := range map[string][]byte{
		"UTF-8":      []byte("\xEF\xBB\xBF<a>é</a>"),
		"UTF-16LE":   utf16("<?xml version='1.0' encoding='UTF-16'?><a>é</a>"),
		"ISO-8859-1": []byte("<?xml version='1.0' encoding='ISO-8859-1'?><a>\xe9</a>"),
	} {
		d, err := Parse(src, Limits{})
		require.NoError(t, err, name)
		assert.Equal(t, "é", d.Root().Text(), name)
		assert.Equal(t, name, d.Encoding)
		end := d.SourceOffset(d.Root().Span().End)
		assert.Equal(t, len(src), end, name)
	}
	cut := utf16("<a>é</a>t")
	d, _ := Parse(cut[:len(cut)-1], Limits{})
	assert.Equal(t, len(cut)-1, d.SourceOffset(len(d.Src)), "never beyond what came")
	_, err := Parse([]byte("<?xml version='1.0' encoding='x-made-up'?><a/>"), Limits{})
	assert.ErrorContains(t, err, "x-made-up")
}

// Examples made after Exclusive XML Canonicalization 1.0 §2.2.
func TestExclusiveCanonicalForm(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{`<n0:local xmlns:n0="foo:bar" xmlns:n3="ftp://example.test"><n1:elem2 xmlns:n1="http://example.test" xml:lang="en"><n3:stuff/></n1:elem2></n0:local>`,
			`<n0:local xmlns:n0="foo:bar"><n1:elem2 xmlns:n1="http://example.test" xml:lang="en"><n3:stuff xmlns:n3="ftp://example.test"></n3:stuff></n1:elem2></n0:local>`},
		{"<?xml version='1.0'?><?t  d ?><a b='2' a=\"1\n&#10;\"  ><![CDATA[<&]]>\r\n<!--x--></a >\n<!--y-->",
			"<?t d ?>\n<a a=\"1 &#xA;\" b=\"2\">&lt;&amp;\n</a>"},
		{`<a xmlns="urn:a"><b xmlns=""><c xmlns="urn:a"/></b></a>`,
			`<a xmlns="urn:a"><b xmlns=""><c xmlns="urn:a"></c></b></a>`},
	} {
		got := string(Canonical(parse(t, c.in).Document(), false))
		assert.Equal(t, c.want, got)
	}
}

func tool(t testing.TB, name string) string {
	p, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not installed (make test installs it)", name)
	}
	return p
}

var corpus = []string{
	`<a/>`, `<a b="c"/>`, `<a>&lt;&#65;</a>`, `<a><![CDATA[x]]></a>`, `<?xml version="1.0"?><a/>`, `<a`, `<a></b>`,
	`<a>]]</a>`, `<a>]]]></a>`,
	`<a xmlns:b="urn:c"><b:d b:e="f"/></a>`, `<a:b/>`, `<a b="1" b="2"/>`, `<a>&nope;</a>`, `<!-- x --><a/><!-- y -->`,
	`<a/>x`, `<?p i?><a/>`, `<a b='"'/>`,
	"<a>\r\n</a>", `<1/>`, `<a.b-c_d/>`, `<a><?xml v?></a>`, `<a>` + strings.Repeat("x",
		300) + `&amp;` + strings.Repeat("y]]", 90) + `</a>`, "<é>ü</é>", "<a\n b\t=\r'1'\n/>",
	`<a>` + strings.Repeat(
		"x",
		100,
	) + `]]></a>`, `<a xmlns=""/>`, `<a xmlns:x=""/>`, `<a xml:space="preserve"> </a>`, `<a/><`, `<a b="&#x1F600;"/>`,
	`<a>--></a>`, `<a b=">"/>`,
}

func TestAgreesWithXmllint(t *testing.T) {
	lint := tool(t, "xmllint")
	dir := t.TempDir()
	for i, src := range corpus {
		f := filepath.Join(dir, fmt.Sprint(i, ".xml"))
		require.NoError(t, os.WriteFile(f, []byte(src), 0o600))
		out, lintErr := exec.Command(lint, "--noout", "--nonet", f).CombinedOutput()
		bad := lintErr != nil || bytes.Contains(out, []byte("namespace error"))
		d, err := Parse([]byte(src), Limits{})
		assert.Equal(t, bad, err != nil, "%s\nxmllint: %s\nours: %v", src, out, err)
		if err == nil {
			want, err := exec.Command(lint, "--exc-c14n", "--nonet", f).Output()
			require.NoError(t, err)
			assert.Equal(t, string(want), string(Canonical(d.Document(), true)), src)
		}
	}
}

// texts is what encoding/xml makes of a document: names and character data.
func texts(src []byte) (string, error) {
	var b strings.Builder
	dec := xml.NewDecoder(bytes.NewReader(src))
	for {
		t, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return b.String(), nil
		}
		if err != nil {
			return "", err
		}
		switch t := t.(type) {
		case xml.StartElement:
			fmt.Fprintf(&b, "<%s %s>", t.Name.Space, t.Name.Local)
		case xml.EndElement:
			b.WriteString("</>")
		case xml.CharData:
			b.Write(bytes.TrimSpace(t))
		}
	}
}

func ours(n Node, b *strings.Builder) {
	fmt.Fprintf(b, "<%s %s>", n.Name().Space, n.Name().Local)
	if n.first() == 0 {
		b.WriteString(strings.TrimSpace(n.Text()))
	}
	for c := range n.Nodes() {
		switch c.Kind() {
		case StartElement:
			ours(c, b)
		case Text, CData:
			b.WriteString(strings.TrimSpace(c.Text()))
		}
	}
	b.WriteString("</>")
}

func FuzzParse(f *testing.F) {
	for _, s := range corpus {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		d, err := Parse(src, Limits{Depth: 200})
		for i := 1; i < d.Len(); i++ { // spans are inside the source and inside their parents
			n := d.NodeAt(i)
			s, in := n.Span(), n.Inner()
			if s.Start > in.Start || in.Start > in.End || in.End > s.End || s.End > len(d.Src) {
				t.Fatalf("node %d: %v %v in %d bytes", i, s, in, len(d.Src))
			}
		}
		if err != nil {
			return
		}
		once := Canonical(d.Document(), true)
		again, err := Parse(once, Limits{})
		if err != nil {
			t.Fatalf("canonical form of %q is %q: %v", src, once, err)
		}
		if twice := Canonical(again.Document(), true); !bytes.Equal(once, twice) {
			t.Fatalf("canonical form is not stable: %q, then %q", once, twice)
		}
		if want, err := texts(d.Src); err == nil && d.Encoding == "UTF-8" && !bytes.Contains(src, []byte("xmlns")) {
			var b strings.Builder
			ours(d.Root(), &b)
			if squash(want) != squash(b.String()) {
				t.Fatalf("encoding/xml reads %q, we read %q", want, b.String())
			}
		}
	})
}

func squash(s string) string { return strings.Join(strings.Fields(s), "") }

// A bad character deep in a large document is found at its place, as in a small one.
func TestBadCharactersInLargeDocuments(t *testing.T) {
	big := bigEnvelope(3 << 20)
	_, err := Parse(big, Limits{})
	require.NoError(t, err)
	at := bytes.LastIndex(big, []byte("high water")) + 3
	for _, bad := range [][]byte{{0x01}, {0xff}} {
		src := append(append(append([]byte(nil), big[:at]...), bad...), big[at:]...)
		d, err := Parse(src, Limits{})
		var se *SyntaxError
		require.ErrorAs(t, err, &se)
		assert.Equal(t, at, se.Offset)
		assert.Equal(t, "Envelope", d.Root().Name().Local)
	}
	// An error of the markup before it comes first.
	src := bytes.Replace(big, []byte("</t:kind>"), []byte("</t:knid>"), 1)
	src[at] = 0x01
	_, err = Parse(src, Limits{})
	assert.ErrorContains(t, err, "t:knid")
}

// What is foreseen of a tag never hides that an attribute stands twice, or that
// a prefix means something else.
func TestWhatIsForeseenIsStillChecked(t *testing.T) {
	for src, want := range map[string]string{
		`<r><x a="1" b="2"/><y b="1" a="2"/><x a="1" b="2" a="3"/></r>`:                           "the attribute a stands twice",
		`<r xmlns:p="urn:p" xmlns:q="urn:p"><x p:a="1" q:b="2"/><x p:a="1" q:b="2" q:a="3"/></r>`: "the attribute q:a stands twice",
		`<r xmlns:p="urn:p"><x p:a="1"/><x p:a="1"/></r><x p:a="1"/>`:                             "a second document element",
	} {
		_, err := Parse([]byte(src), Limits{})
		assert.ErrorContains(t, err, want, src)
	}
	d, err := Parse(
		[]byte(
			`<r xmlns:p="urn:one"><x p:a="1" b="2"/><x p:a="3" b="4"/><x xmlns:p="urn:two" p:a="5" b="6"/><x p:ab="7"/><x  p:a = "8" b="9"/></r>`,
		),
		Limits{},
	)
	require.NoError(t, err)
	var got []string
	for x := range d.Root().Children() {
		for a := range x.Attrs() {
			got = append(got, a.Name.String()+"="+a.Value)
		}
	}
	assert.Equal(
		t,
		[]string{
			"{urn:one}a=1",
			"b=2",
			"{urn:one}a=3",
			"b=4",
			"{http://www.w3.org/2000/xmlns/}p=urn:two",
			"{urn:two}a=5",
			"b=6",
			"{urn:one}ab=7",
			"{urn:one}a=8",
			"b=9",
		},
		got,
	)
}

func bigEnvelope(size int) []byte {
	var b bytes.Buffer
	b.WriteString(
		`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body><t:YearTableResponse xmlns:t="urn:skerry:tides">`,
	)
	for i := 0; b.Len() < size; i++ {
		fmt.Fprintf(
			&b,
			"\n  <t:tide no=\"%d\"><t:time>2027-01-%02dT%02d:%02d:00Z</t:time><t:height "+
				"unit=\"metre\">%d.%02d</t:height><t:kind>high water</t:kind></t:tide>",
			i,
			i%28+1,
			i%24,
			i%60,
			i%7,
			i%100,
		)
	}
	b.WriteString("</t:YearTableResponse></soap:Body></soap:Envelope>")
	return b.Bytes()
}

func BenchmarkParse(b *testing.B) {
	src := bigEnvelope(60 << 20)
	b.SetBytes(int64(len(src)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Parse(src, Limits{}); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkScan(b *testing.B) {
	src := bigEnvelope(60 << 20)
	b.SetBytes(int64(len(src)))
	for b.Loop() {
		s := NewScanner(src, Limits{})
		for {
			t, err := s.Next()
			if err != nil {
				b.Fatal(err)
			}
			if t.Kind == EOF {
				break
			}
		}
	}
}

// BenchmarkXmllint is the yardstick: a streaming parse of the same document.
func BenchmarkXmllint(b *testing.B) {
	lint := tool(b, "xmllint")
	src := bigEnvelope(60 << 20)
	f := filepath.Join(b.TempDir(), "big.xml")
	require.NoError(b, os.WriteFile(f, src, 0o600))
	b.SetBytes(int64(len(src)))
	for b.Loop() {
		require.NoError(b, exec.Command(lint, "--stream", "--noout", f).Run())
	}
}

// A leaf that is taken in one go is counted, measured and named as any other.
func TestAUsualLeafIsHeldToTheLimits(t *testing.T) {
	leaves := `<r><x>1</x><x>22</x><x>333</x></r>`
	for limits, want := range map[Limits]Code{{Repeats: 2}: RepeatLimit, {Text: 2}: TextLimit, {Depth: 1}: DepthLimit} {
		_, err := Parse([]byte(leaves), limits)
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax)
		assert.Equal(t, want, syntax.Code)
	}
	_, err := Parse([]byte(leaves), Limits{Repeats: 3, Text: 3, Depth: 2})
	require.NoError(t, err)

	d, err := Parse(
		[]byte(
			`<r><x>1</x><x>2</x><xy>3</xy><x>4</x ><x>&lt;</x><x k="6">6</x><x/><x>8<y>9</y></x><x xmlns="urn:b">10</x><x>11</x><x>a]b</x></r>`,
		),
		Limits{},
	)
	require.NoError(t, err)
	var got []string
	for x := range d.Root().Children() {
		got = append(got, x.Name().String()+" "+x.Text())
	}
	assert.Equal(
		t,
		[]string{"x 1", "x 2", "xy 3", "x 4", "x <", "x 6", "x ", "x 8", "{urn:b}x 10", "x 11", "x a]b"},
		got,
	)

	for _, bad := range []string{`<r><x>1</x><x>2</y></r>`, `<r><x>1</x><x>2</x`, `<r><x>1</x><x>]]></x></r>`,
		`<r><x>1</x><x>2</r>`, `<r><x>1</x><x`} {
		_, err := Parse([]byte(bad), Limits{})
		assert.Error(t, err, bad)
	}
}

// A locator says of many places what each alone says, in whatever order they come.
func TestALocatorSaysWhatEachPlaceAloneSays(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	var b strings.Builder
	b.WriteString("<a>")
	for i := range 400 {
		switch r.IntN(4) {
		case 0:
			b.WriteString("<b>é\n<c/><c/></b>")
		case 1:
			fmt.Fprintf(&b, "<d n='%d'/>", i)
		case 2:
			b.WriteString("\n\n<x:b xmlns:x='urn:x'/>")
		default:
			b.WriteString("<b/>")
		}
	}
	b.WriteString("</a>")
	src := b.String()
	d := parse(t, src)
	nodes := []Node{d.Root()}
	for n := range d.Root().Children() {
		nodes = append(nodes, n)
		nodes = slices.AppendSeq(nodes, n.Children())
	}
	var l Locator
	for i := range 3000 {
		n := nodes[i%len(nodes)]
		if i > 1000 {
			n = nodes[r.IntN(len(nodes))]
		}
		at := n.Span().Start
		line, column := l.Position(d.Src, at)
		wantLine, wantColumn := Position(d.Src, at)
		require.Equal(t, [2]int{wantLine, wantColumn}, [2]int{line, column})
		require.Equal(t, n.Path(), l.Path(n))
	}
	d = parse(t, "<a>"+strings.Repeat("<b/><c/>", 30000)+"</a>")
	nodes = slices.Collect(d.Root().Children())
	l = Locator{}
	for i := range 400 { // among many, from the end, and anywhere
		n := nodes[len(nodes)-1-i%3]
		if i > 20 {
			n = nodes[r.IntN(len(nodes))]
		}
		require.Equal(t, n.Path(), l.Path(n))
	}
	limits := Limits{Done: closed()}
	many := "<a>" + strings.Repeat("<b/>", 200000) + "</a>"
	_, err := Parse([]byte(many), limits)
	require.ErrorIs(t, err, ErrStopped)
}

func closed() <-chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}

// The limit of a text is counted in characters as a reader has them.
func TestATextIsAsLongAsItsReaderHasIt(t *testing.T) {
	for raw, want := range map[string]int{
		"": 0, "slack": 5, "a&amp;b": 3, "&#x1F600;": 1, "é": 1, "a\r\nb": 3, "a\rb": 3, "&#13;\n": 2, "a&b": 3,
	} {
		assert.Equal(t, want, Decoded([]byte(raw)), raw)
	}
	escaped := strings.Repeat("&lt;", 100)
	for _, src := range []string{
		"<a>" + escaped + "</a>", "<a b='" + escaped + "'/>", "<a><![CDATA[" + strings.Repeat("é", 100) + "]]></a>",
	} {
		_, err := Parse([]byte(src), Limits{Text: 100})
		require.NoError(t, err, src)
		_, err = Parse([]byte(src), Limits{Text: 99})
		var e *SyntaxError
		require.ErrorAs(t, err, &e)
		assert.Equal(t, TextLimit, e.Code)
		assert.Contains(t, e.Msg, "has 100 characters, written in")
	}
	m := Measure([]byte("<a x='12345'><b/><b>12</b><c><d><![CDATA[123]]></d></c></a>"))
	assert.Equal(t, Limits{Depth: 3, Text: 5, Repeats: 3, Names: 5}, m)
}

// What is only checked is judged as what is parsed: the same error at the same place, or none.
func FuzzCheck(f *testing.F) {
	for _, s := range corpus {
		f.Add([]byte(s))
	}
	f.Add([]byte("<a><b>1</b><b>2</b><c x='1' x='2'/></a>"))
	f.Add([]byte("<a><b>1</b>\n<b>2</c></a>"))
	f.Add([]byte("<a xmlns:p='u'>" + strings.Repeat("<p:r x='1'><c>1</c> <d/></p:r>\r\n", 12) + "</a>"))
	f.Add([]byte("<a>" + strings.Repeat("<r><r>1</r></r><!-- <r> --><![CDATA[<r>]]>", 9) + "</a>"))
	f.Fuzz(func(t *testing.T, src []byte) {
		limits := Limits{Depth: 200}
		_, parsed := ParseAlone(src, limits)
		checked := CheckAlone(src, limits)
		if fmt.Sprint(parsed) != fmt.Sprint(checked) {
			t.Fatalf("%q: parsed %v, checked %v", src, parsed, checked)
		}
		whole, halves := newScanner(src, limits).through(), throughHalves(src, limits, 0, len(src)/8)
		if fmt.Sprint(whole) != fmt.Sprint(halves) {
			t.Fatalf("%q: in one %v, in halves %v", src, whole, halves)
		}
	})
}

// What is not there is asked like any other node, and answers that there is nothing.
func TestANodeThatIsNotThere(t *testing.T) {
	var none Node
	assert.Equal(t, Span{}, none.Span())
	assert.Equal(t, Span{}, none.Inner())
	assert.Zero(t, none.Begin())
	assert.Zero(t, none.NameID())
	assert.Zero(t, none.Kind())
	assert.Empty(t, none.Bytes())
	assert.Empty(t, none.Text())
	assert.Empty(t, none.Peek())
	assert.Empty(t, none.Name())
	assert.Empty(t, none.Path())
	assert.True(t, none.Parent().IsZero())
	assert.True(t, none.Next().IsZero())
	assert.True(t, none.FirstChild().IsZero())
	assert.True(t, none.Find("", "a").IsZero())
	assert.False(t, none.Is("", ""))
	for range none.Nodes() {
		assert.Fail(t, "nothing has no child")
	}
	for range none.Attrs() {
		assert.Fail(t, "nothing has no attribute")
	}
	_, ok := none.Attr("", "a")
	assert.False(t, ok)
	_, ok = none.Lookup("p")
	assert.False(t, ok)
}
