package xmltree

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// seeds are documents that are broken in one place each by the test below.
var seeds = []string{
	`<?xml version="1.0" encoding="UTF-8"?><soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body><t:Day xmlns:t="urn:t" t:a='1' b="x &amp; y">é&#233;&lt;<![CDATA[<raw>]]><!-- note --><?pi data?></t:Day></soap:Body></soap:Envelope>`,
	`<a><b c="1" d='2'/><b>text</b>tail<e f="&quot;"> </e></a>`,
	`<a xmlns="urn:1" xmlns:p="urn:2"><p:b p:c="1" c="2"/><b xmlns="urn:3"/></a>`,
	"<a>\r\n\t<b/>\n</a>\n<!-- end -->\n<?end?>",
	`<ns:long-name.with_parts xmlns:ns="urn:x-y:z"><ns:longer-name-1>v</ns:longer-name-1></ns:long-name.with_parts>`,
}

var pieces = []string{
	"<",
	">",
	"/",
	"&",
	";",
	"\"",
	"'",
	"=",
	" ",
	"<!--",
	"-->",
	"]]>",
	"<![CDATA[",
	"<?",
	"?>",
	"&#x41;",
	"&#0;",
	"&lt",
	"xmlns",
	":",
	"p:",
	"\x01",
	"é",
	"\u00a0",
	"--",
	"<a",
	"</a>",
	"<b/>",
	"x='1'",
	"xml",
	"&nope;",
	"\ufffe",
	"]",
	"\n",
}

func broken(doc string, r *rand.Rand) []byte {
	b := []byte(doc)
	for range 1 + r.IntN(2) {
		at := r.IntN(len(b) + 1)
		switch r.IntN(4) {
		case 0: // something put in
			p := pieces[r.IntN(len(pieces))]
			b = append(b[:at:at], append([]byte(p), b[at:]...)...)
		case 1: // something cut out
			end := min(at+1+r.IntN(6), len(b))
			b = append(b[:at:at], b[end:]...)
		case 2: // something doubled
			end := min(at+1+r.IntN(12), len(b))
			b = append(b[:end:end], b[at:]...)
		default: // one character replaced
			if at < len(b) {
				b = append(b[:at:at], append([]byte(pieces[r.IntN(len(pieces))]), b[at+1:]...)...)
			}
		}
		if len(b) == 0 {
			return []byte("<a/>")
		}
	}
	return b
}

// TestVerdictsAgreeWithXmllint breaks documents in thousands of places and
// compares what we say of them with what libxml2 says.
func TestVerdictsAgreeWithXmllint(t *testing.T) {
	lint := tool(t, "xmllint")
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(11, 4))
	const batch, batches = 400, 10
	total, differ := 0, 0
	for range batches {
		docs := map[string][]byte{}
		args := []string{"--noout", "--nonet"}
		for i := range batch {
			src := broken(seeds[r.IntN(len(seeds))], r)
			if !utf8.Valid(src) || bytes.Contains(src, []byte("<!D")) {
				continue
			}
			f := filepath.Join(dir, fmt.Sprintf("%d.xml", i))
			require.NoError(t, os.WriteFile(f, src, 0o600))
			docs[f] = src
			args = append(args, f)
		}
		out, _ := exec.Command(lint, args...).CombinedOutput()
		for f, src := range docs {
			total++
			theirs := about(out, f) == nil
			_, err := Parse(src, Limits{})
			if ours := err == nil; ours != theirs {
				if differ++; differ < 20 {
					t.Errorf("xmllint says %v, we say %v\n%q\n%s", theirs, err, src, about(out, f))
				}
			}
		}
	}
	assert.Zero(t, differ, "of %d", total)
	t.Logf("%d documents, %d verdicts differ", total, differ)
}

// about is what xmllint complains of in a file. That a namespace's name is no
// proper URI is not for a parser to judge (Namespaces in XML §2.2), and does
// not change xmllint's exit status either.
func about(out []byte, f string) []byte {
	for _, l := range bytes.Split(out, []byte("\n")) {
		if bytes.HasPrefix(l, []byte(f+":")) && !bytes.Contains(l, []byte("is not a valid URI")) &&
			!bytes.Contains(l, []byte("is not absolute")) &&
			!bytes.Contains(l, []byte("parser warning")) {
			return l
		}
	}
	return nil
}
