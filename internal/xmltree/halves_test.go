package xmltree

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is read in halves is judged as what is read in one: the same error at the same place, or none.
func TestHalvesAreJudgedAsTheWhole(t *testing.T) {
	split := 0
	for seed := range uint64(600) {
		r := rand.New(rand.NewPCG(3, seed))
		one := func(of ...string) string { return of[r.IntN(len(of))] }
		var b strings.Builder
		b.WriteString(one("", "<?xml version='1.0'?>\n") + `<e:Envelope xmlns:e="urn:e"><e:Body><table xmlns="urn:s"` + one("", ` xmlns:x="urn:x"`) + ">")
		if r.IntN(3) == 0 {
			b.WriteString("<part>")
		}
		row := one("row", "x", "table", "longer-name")
		for i := range 8 + r.IntN(40) {
			fmt.Fprintf(&b, "%s<%s no=%q%s><c>%d</c>%s</%s>", one("", "\n  ", "\r\n", " words "), row, fmt.Sprint(i), one("", "", ` xmlns:q="urn:q"`), i,
				one("", "", "<c/>", "<"+row+">in</"+row+">", "<!-- <"+row+"> -->", "<![CDATA[<"+row+" >]]>", "<rows/>", "<?p <"+row+"?>"), row)
		}
		if strings.Contains(b.String(), "<part>") {
			b.WriteString("</part>")
		}
		b.WriteString("</table></e:Body></e:Envelope>" + one("", "\n", "<again/>"))
		text := []byte(b.String())
		for range r.IntN(3) { // and damage
			at := r.IntN(len(text))
			switch r.IntN(3) {
			case 0:
				text[at] = one("<", ">", "&", "x", "'")[0]
			case 1:
				text = append(text[:at:at], text[at+1:]...)
			default:
				text = text[:max(at, 10)]
			}
		}
		whole := newScanner(text, Limits{}).through()
		for _, first := range []int{60, 150, 400} {
			assert.Equal(t, fmt.Sprint(whole), fmt.Sprint(throughHalves(text, Limits{}, 0, first)), "%d %s", first, text)
		}
		s := newScanner(text, Limits{})
		if reached, _ := s.until(400); reached {
			if _, at := s.row(len(text)/2 + 200); at > 0 {
				split++
			}
		}
	}
	assert.Greater(t, split, 150, "most have a second half")
}
