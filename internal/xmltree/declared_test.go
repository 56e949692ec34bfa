package xmltree

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

// asWritten is the declaration of XML 1.0 §2.8 and §4.3.3, as an expression.
var asWritten = regexp.MustCompile(
	`^<\?xml[ \t\r\n][^>]*?encoding[ \t\r\n]*=[ \t\r\n]*("([A-Za-z][A-Za-z0-9._-]*)"|'([A-Za-z][A-Za-z0-9._-]*)')`,
)

func FuzzDeclaredEncoding(f *testing.F) {
	for _, s := range []string{`<?xml version="1.0" encoding="UTF-8"?>`,
		"\xEF\xBB\xBF<?xml\n encoding = 'iso-8859-1' ?>", `<?xml version="encoding" encoding="a"?>`,
		`<?xml encoding="1a"?>`, `<?xmlx encoding="a"?>`, `<?xml encoding="a'?>`,
		`<?xml encoding="a" encoding="b"?>`, `<?xml`, `<?xml encoding`, `<?xml encoding=`, `<?xml encoding="`,
		`<?xml?><a encoding="b"/>`, `<?xml encodingencoding="b"?>`, ``} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		want := ""
		src := b
		if len(src) >= 3 && string(src[:3]) == "\xEF\xBB\xBF" {
			src = src[3:]
		}
		if m := asWritten.FindSubmatch(src[:min(len(src), 256)]); m != nil {
			want = string(m[2]) + string(m[3])
		}
		assert.Equal(t, want, DeclaredEncoding(b), "%q", b)
	})
}
