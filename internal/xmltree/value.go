package xmltree

import (
	"bytes"
	"strings"
	"unsafe"

	"orenda/internal/pattern"
)

// xmlDecl is production XMLDecl of XML 1.0 §2.8.
var xmlDecl = pattern.New(`^<\?xml[ \t\r\n]+version[ \t\r\n]*=[ \t\r\n]*("1\.[0-9]+"|'1\.[0-9]+')` +
	`([ \t\r\n]+encoding[ \t\r\n]*=[ \t\r\n]*("[A-Za-z][A-Za-z0-9._-]*"|'[A-Za-z][A-Za-z0-9._-]*'))?` +
	`([ \t\r\n]+standalone[ \t\r\n]*=[ \t\r\n]*("yes"|"no"|'yes'|'no'))?[ \t\r\n]*\?>$`)

func isXMLDecl(b []byte) bool {
	switch string(b) {
	case `<?xml version="1.0" encoding="UTF-8"?>`, `<?xml version="1.0" encoding="utf-8"?>`, `<?xml version="1.0"?>`:
		return true // nearly all are one of these
	}
	return xmlDecl.Match(b)
}

// textValue is character data with its references resolved and its line ends
// normalised (XML 1.0 §2.11).
func textValue(b []byte, refs bool) string {
	if !refs {
		return string(b)
	}
	return expand(b, false)
}

// share is a string over bytes of a document, which are never changed. Values
// that outlive their document are copied instead (textValue).
func share(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// attrValue is an attribute's value after normalisation (XML 1.0 §3.3.3, CDATA).
func attrValue(b []byte, refs bool) string {
	if !refs {
		return share(b)
	}
	return expand(b, true)
}

func expand(b []byte, attr bool) string {
	var out strings.Builder
	out.Grow(len(b))
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case c == '&':
			n := bytes.IndexByte(b[i:], ';')
			if n < 0 {
				out.WriteByte(c)
				continue
			}
			r, _ := decodeRef(b[i+1 : i+n])
			out.WriteRune(r)
			i += n
		case c == '\r':
			if i+1 < len(b) && b[i+1] == '\n' {
				i++
			}
			if attr {
				out.WriteByte(' ')
			} else {
				out.WriteByte('\n')
			}
		case attr && (c == '\n' || c == '\t'):
			out.WriteByte(' ')
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}
