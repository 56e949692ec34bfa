package xmltree

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A declaration that names another encoding than the bytes are in is an error that says so
// (XML 1.0 §4.3.3), unless the transport says which it is (RFC 7303 §3).
func TestADeclaredEncodingThatContradictsTheBytes(t *testing.T) {
	const mark = "\xEF\xBB\xBF"
	wide := func(s string) string {
		out := "\xFF\xFE"
		for _, r := range s {
			out += string([]byte{byte(r), 0})
		}
		return out
	}
	decl := func(name string) string { return `<?xml version="1.0" encoding="` + name + `"?><a/>` }
	for doc, wrong := range map[string]bool{
		decl("UTF-16"): true, decl("utf-16le"): true, decl("UTF-8"): false, decl("ISO-8859-1"): false, decl("us-ascii"): false,
		mark + decl("ISO-8859-1"): true, mark + decl("utf-8"): false, mark + "<a/>": false,
		wide(decl("utf-8")): true, wide(decl("UTF-16")): false, wide(decl("UTF-16LE")): false, wide(decl("UTF-16BE")): true,
		wide("<a/>"): false,
	} {
		_, err := ParseAlone([]byte(doc), Limits{})
		if wrong {
			assert.ErrorContains(t, err, "it declares the encoding", doc)
		} else {
			assert.NoError(t, err, doc)
		}
	}
	for _, charset := range []string{"", "utf-8"} { // a text that was decoded, or a transport that says otherwise
		_, err := ParseEncoded([]byte(decl("UTF-16")), charset, Limits{})
		assert.NoError(t, err)
	}
}
