package schema

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/xmltree"
)

// flowed validates a text as it flows, in pieces of so many bytes.
func flowed(t testing.TB, set *Set, text string, piece int) (errs []Error, without []string) {
	t.Helper()
	src := []byte(text)
	s := xmltree.NewScanner(src, xmltree.Limits{})
	var f *Flow
	for {
		tok, err := s.Next()
		if err != nil { // require.NoError takes longer than the scanner
			t.Fatal(err)
		}
		switch tok.Kind {
		case xmltree.StartElement:
			if f == nil {
				f = set.NewFlow(src, s, set.Element(NameOf(s.NameOf(tok.Name))), Options{})
				f.piece = piece
				f.Top()
			}
			f.Start(tok)
		case xmltree.EndElement:
			f.End(tok)
		case xmltree.EOF:
			return f.Done()
		}
	}
}

// What is judged as it flows is judged as the whole is: the same errors at the same places.
func TestWhatFlowsIsJudgedAsTheWhole(t *testing.T) {
	const xsd = `<xs:complexType name="Row"><xs:sequence><xs:element name="day" type="xs:date"/><xs:element name="level" type="xs:decimal"/><xs:element name="note" type="xs:string" minOccurs="0"/></xs:sequence><xs:attribute name="no" type="xs:int" use="required"/></xs:complexType>
<xs:complexType name="More"><xs:complexContent><xs:extension base="s:Row"><xs:sequence><xs:element name="by" type="xs:token"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:element name="r"><xs:complexType><xs:sequence><xs:element name="station" type="xs:string"/><xs:element name="part" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:choice maxOccurs="unbounded"><xs:element name="row" type="s:Row"/><xs:element name="gap"><xs:complexType/></xs:element></xs:choice><xs:any namespace="##other" processContents="lax" minOccurs="0"/></xs:sequence><xs:attribute name="of" type="xs:int"/></xs:complexType></xs:element><xs:element name="end" type="xs:int"/></xs:sequence></xs:complexType></xs:element>`
	set := setOf(t, family{xsd: xsd})
	found := 0
	for seed := range uint64(120) {
		r := rand.New(rand.NewPCG(5, seed))
		odd := func(usual string, others ...string) string {
			if r.IntN(120) == 0 {
				return one(r, others...)
			}
			return usual
		}
		var b strings.Builder
		b.WriteString(named("<r>") + odd("<station>North</station>", "", "<stations/>"))
		for range 1 + r.IntN(3) {
			b.WriteString("\n<part of=\"" + odd("1", "x") + "\"" + odd("", ` other="1"`) + ">")
			for i := range 1 + r.IntN(40) {
				b.WriteString(odd(" ", " words ") + odd("", "<gap/>", "<gap>x</gap>", "<unknown/>", `<row xmlns="urn:wrong"/>`))
				fmt.Fprintf(&b, `<row no="%d"%s><day>2027-01-%02d</day><level>%s</level>%s</row>`, i,
					odd("", ` xsi:type="More"`, ` xsi:type="Nope"`, ` xsi:nil="true"`), 1+i%28, odd("1.5", "deep", ""), odd("", "<note/>", "<note>a</note><note/>", "<by>x</by>"))
			}
			b.WriteString(odd("", `<z xmlns="urn:z" xsi:type="xs:int">x</z>`, `<z xmlns="urn:z"/><z xmlns="urn:z"/>`) + "</part>")
		}
		b.WriteString(odd("<end>1</end>", "", "<end>x</end>", "<end/>") + odd("", " tail ") + "</r>")
		n := node(t, b.String())
		whole := set.Validate(n, set.Element(NameOf(n.Name())), Options{})
		for _, piece := range []int{40, 300, 2000, 1 << 20} {
			errs, without := flowed(t, set, b.String(), piece)
			assert.Empty(t, without)
			// A model that is broken is followed in another way: its first error is the same.
			if slices.ContainsFunc(whole, func(e Error) bool { return e.Rule == "cvc-complex-type.2.4" }) {
				require.NotEmpty(t, errs, "%d %v\n%s", piece, whole, b.String())
				continue
			}
			if assert.Len(t, errs, len(whole), "%d: %v\n%v\n%s", piece, whole, errs, b.String()) {
				for i := range errs {
					found++
					w := whole[i]
					assert.Equal(t, []any{w.Rule, w.Offset, w.Line, w.Column, w.Message, w.Span}, []any{errs[i].Rule, errs[i].Offset, errs[i].Line,
						errs[i].Column, errs[i].Message, errs[i].Span}, "%d\n%s", piece, b.String())
					assert.Equal(t, lastStep(w.Path), lastStep(errs[i].Path))
				}
			}
		}
	}
	assert.Greater(t, found, 200)
}

func lastStep(path string) string {
	last := path[strings.LastIndexByte(path, '/')+1:]
	name, _, _ := strings.Cut(last, "[")
	return name
}

// The made schemas and documents of each feature are judged in pieces as they are in one.
func TestMadeDocumentsAreJudgedAsTheyFlow(t *testing.T) {
	total := 0
	for _, k := range kinds {
		for seed := range uint64(8) {
			xsd, docs := k.made(rand.New(rand.NewPCG(31, seed)))
			set := setOf(t, family{xsd: xsd})
			for _, d := range docs {
				if _, err := xmltree.Parse([]byte(named(d)), xmltree.Limits{}); err != nil {
					continue
				}
				total++
				whole := told(t, set, d)
				errs, without := flowed(t, set, named(d), 1)
				if k.name == "identity" || len(without) > 0 { // it says what it has left
					assert.LessOrEqual(t, len(errs), max(len(whole), 1), d)
					continue
				}
				assert.Equal(t, len(whole) == 0, len(errs) == 0, "%s %s\n%v\n%v\n%s", k.name, d, whole, errs, xsd)
			}
		}
	}
	t.Logf("%d documents", total)
}

// A fault of ours in a piece is met by who waits, and not by the whole program.
func TestAFaultInAPieceIsHandedOn(t *testing.T) {
	set := setOf(t, family{xsd: `<xs:element name="r" type="xs:int"/>`})
	f := set.NewFlow(nil, nil, set.Element(QName{"urn:s", "r"}), Options{})
	f.pieces <- func() { panic("a fault") }
	assert.PanicsWithValue(t, "a fault", func() { f.Done() })
}

// BenchmarkFlow is BenchmarkValidate without a tree.
func BenchmarkFlow(b *testing.B) {
	xsd, doc := table(60 << 20)
	set := load(b, xsd)
	b.SetBytes(int64(len(doc)))
	for b.Loop() {
		if errs, _ := flowed(b, set, doc, piece); len(errs) > 0 {
			b.Fatal(errs[0])
		}
	}
}
