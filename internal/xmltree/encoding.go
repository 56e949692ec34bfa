package xmltree

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/unicode"
)

// DeclaredEncoding is the name in the XML declaration, or "".
func DeclaredEncoding(b []byte) string {
	const open, word, space = "<?xml", "encoding", " \t\r\n"
	b = bytes.TrimPrefix(b, []byte("\xEF\xBB\xBF"))
	b = b[:min(len(b), 256)]
	if end := bytes.IndexByte(b, '>'); end >= 0 {
		b = b[:end]
	}
	if !bytes.HasPrefix(b, []byte(open)) || len(b) == len(open) || strings.IndexByte(space, b[len(open)]) < 0 {
		return ""
	}
	for at := bytes.Index(b, []byte(word)); at >= 0; at = bytes.Index(b, []byte(word)) {
		b = bytes.TrimLeft(b[at+len(word):], space)
		if len(b) == 0 || b[0] != '=' {
			continue
		}
		if b = bytes.TrimLeft(b[1:], space); len(b) == 0 || b[0] != '"' && b[0] != '\'' {
			continue
		}
		name, _, closed := bytes.Cut(b[1:], b[:1])
		if closed && isEncodingName(name) {
			return string(name)
		}
	}
	return ""
}

// isEncodingName tells whether a name is one of an encoding (XML 1.0 §4.3.3).
func isEncodingName(name []byte) bool {
	for i, c := range name {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (i == 0 || c != '.' && c != '_' && c != '-' && (c < '0' || c > '9')) {
			return false
		}
	}
	return len(name) > 0
}

// detect finds the encoding in the order that XML 1.0 §F and RFC 7303 §3 give:
// a byte order mark, then the transport's charset, then the declaration.
func detect(b []byte, transport string) (name string, dec encoding.Encoding, skip int, err error) {
	switch {
	case bytes.HasPrefix(b, []byte("\xEF\xBB\xBF")):
		return "UTF-8", nil, 3, nil
	case bytes.HasPrefix(b, []byte("\xFE\xFF")):
		return "UTF-16BE", unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM), 2, nil
	case bytes.HasPrefix(b, []byte("\xFF\xFE")):
		return "UTF-16LE", unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM), 2, nil
	case bytes.HasPrefix(b, []byte("\x00<\x00?")):
		return "UTF-16BE", unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM), 0, nil
	case bytes.HasPrefix(b, []byte("<\x00?\x00")):
		return "UTF-16LE", unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM), 0, nil
	}
	name = transport
	if len(name) >= 6 && strings.EqualFold(name[:6], "UTF-16") { // labelled, it may have no mark (RFC 2781 §3.3)
		switch { // XML begins with < or white space, of which one byte is zero
		case len(b) > 1 && b[0] == 0 && b[1] != 0:
			return "UTF-16BE", unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM), 0, nil
		case len(b) > 1 && b[0] != 0 && b[1] == 0:
			return "UTF-16LE", unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM), 0, nil
		}
	}
	if name == "" {
		name = DeclaredEncoding(b)
	}
	switch strings.ToUpper(name) {
	case "", "UTF-8", "UTF8", "US-ASCII", "ASCII", "UTF-16", "UTF-16LE", "UTF-16BE":
		// A UTF-16 label without any sign of UTF-16 in the bytes is a wrong label.
		return "UTF-8", nil, 0, nil
	case "ISO-8859-1", "LATIN1":
		return "ISO-8859-1", charmap.ISO8859_1, 0, nil
	}
	e, err := ianaindex.IANA.Encoding(name)
	if err != nil || e == nil {
		return name, nil, 0, fmt.Errorf("the encoding %q is not known here", name)
	}
	return name, e, 0, nil
}

// Known tells whether an encoding of that name can be read.
func Known(name string) bool {
	_, _, _, err := detect(nil, name)
	return err == nil
}

// decode gives the document in UTF-8, without its byte order mark.
func decode(b []byte, transport string) (out []byte, name string, dec encoding.Encoding, skip int, err error) {
	name, dec, skip, err = detect(b, transport)
	if err != nil || dec == nil {
		return b[skip:], name, nil, skip, err
	}
	out, err = dec.NewDecoder().Bytes(b[skip:])
	return out, name, dec, skip, err
}

// contradiction is the error of a document that names another encoding than its bytes show
// (XML 1.0 §4.3.3).
func contradiction(text []byte, found string) error {
	declared := DeclaredEncoding(text)
	switch d := strings.ToUpper(declared); {
	case d == "", d == strings.ToUpper(found), d == "UTF-16" && strings.HasPrefix(found, "UTF-16"),
		found == "UTF-8" && (d == "UTF8" || d == "ASCII" || d == "US-ASCII"), found == "ISO-8859-1" && d == "LATIN1":
		return nil
	}
	return fmt.Errorf("it declares the encoding %q, and its bytes are %s", declared, found)
}

// Recoding reads a document in UTF-8 that is in another encoding; it is nil for
// one that is in UTF-8 already, of which skip bytes are its byte order mark.
func Recoding(b []byte, transport string) (r io.Reader, skip int, err error) {
	_, dec, skip, err := detect(b, transport)
	if err != nil || dec == nil {
		return nil, skip, err
	}
	return dec.NewDecoder().Reader(bytes.NewReader(b[skip:])), skip, nil
}

// SourceOffset leads from an offset in Src back to the byte of the document
// as it came, before its encoding was resolved.
func (d *Document) SourceOffset(offset int) int {
	if d.dec == nil {
		return offset + d.skip
	}
	n := d.skip
	single := d.dec.NewEncoder()
	var buf [utf8.UTFMax]byte
	for _, r := range string(d.Src[:min(offset, len(d.Src))]) {
		b, err := single.Bytes(buf[:utf8.EncodeRune(buf[:], r)])
		if err != nil {
			n++
			continue
		}
		n += len(b)
	}
	return min(n, d.size) // what no encoding could have made counts as less than it is
}
