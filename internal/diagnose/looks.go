package diagnose

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"regexp"
	"strings"
	"unicode/utf8"

	"orenda/internal/contract"
)

// likeness is what a message looks like that is no XML.
type likeness struct {
	what   string // as in: it is …
	advice string // what the program that sent it has to do
	kind   likeKind
}

// likeKind tells what may be right otherwise from what is something else.
type likeKind uint8

const (
	otherKind   likeKind = iota
	packedKind           // compressed
	writtenKind          // XML that is written in another way
	typedKind            // known by its media type alone
)

// short is what it is, without what is to be said of that.
func (l likeness) short() string {
	if end := strings.IndexAny(l.what, ":,"); end > 0 {
		return l.what[:end]
	}
	return l.what
}

// magics are the first bytes of what is no text.
//
//nolint:gochecknoglobals // a table: it is never written to
var magics = []struct {
	begins string
	is     likeness
}{
	{"\x1f\x8b", likeness{"compressed (gzip), and the head does not say so",
		"send Content-Encoding: gzip with it, or send it as it is", packedKind}},
	{"\x28\xb5\x2f\xfd", likeness{"compressed (zstd), and the head does not say so",
		"send it as it is; few services take that", packedKind}},
	{"PK\x03\x04", likeness{"a ZIP file", "send the envelope itself", otherKind}},
	{"%PDF-", likeness{"a PDF file", "send the envelope, with the file as an attachment", otherKind}},
	{"\xe0\x00\x00\x01", likeness{"binary XML (Fast Infoset, ITU-T X.891)", asText, otherKind}},
}

// inBinary is what is called so of which no more is known.
const inBinary = "binary data"

const asText = "switch the binary encoding off: send XML as text"

//nolint:gochecknoglobals // what never changes is compiled once
var formField = regexp.MustCompile(`^[\w.%+-]+=`)

// looksLike tells what a message is that cannot be read as XML, where that can be told from its bytes and its
// media type; nothing where it looks like XML with a fault in it.
func looksLike(media string, b []byte) likeness {
	t := bytes.TrimSpace(bytes.TrimPrefix(b, []byte("\ufeff")))
	for _, m := range magics {
		if bytes.HasPrefix(t, []byte(m.begins)) {
			return m.is
		}
	}
	media = strings.ToLower(media)
	switch {
	case len(t) == 0:
		return likeness{"empty", "send the envelope in the request's body", otherKind}
	case strings.Contains(media, "msbin"), strings.Contains(media, "fastinfoset"):
		return likeness{"binary XML, as its media type says", asText, otherKind}
	case contract.LooksLikeHTML(t):
		return likeness{"an HTML page", "send the envelope", otherKind}
	case t[0] == '<', wide(t), bytes.HasPrefix(t, []byte("\ufeff")):
		return likeness{}
	case t[0] == '"':
		var in string
		if json.Unmarshal(t, &in) == nil && strings.HasPrefix(strings.TrimSpace(in), "<") {
			return likeness{"a JSON string that holds the XML", "send the XML itself, not as a value of JSON",
				writtenKind}
		}
	case t[0] == '{' || t[0] == '[':
		if json.Valid(t) || strings.Contains(media, "json") {
			return likeness{"JSON", "send the envelope as XML; a SOAP service takes no JSON", otherKind}
		}
	case bytes.HasPrefix(t, []byte("&lt;")):
		return likeness{"XML that was escaped: it begins with &lt;",
			"send the XML as it is, and escape only values in it", writtenKind}
	case len(t) > 3 && bytes.EqualFold(t[:3], []byte("%3C")):
		return likeness{"XML that was percent-encoded: it begins with %3C",
			"send the XML as it is, not as a value of a form", writtenKind}
	}
	return looksLikeText(media, t)
}

// looksLikeText tells forms, Base64, binary data and plain text apart.
func looksLikeText(media string, t []byte) likeness {
	switch head := t[:min(len(t), 4096)]; {
	case bytes.ContainsAny(head, "\x00\x01\x02\x03\x04\x05\x06\x07\x08") || !utf8.Valid(whole(head)):
		return likeness{inBinary, "send the envelope as XML text", otherKind}
	case inBase64(t):
		return likeness{"XML in Base64", "send the XML as it is", writtenKind}
	case strings.Contains(media, "x-www-form-urlencoded") && !bytes.Contains(t, []byte("<")), formField.Match(t):
		return likeness{"a form", "send the envelope itself, not as a field of a form", otherKind}
	case bytes.Contains(t, []byte("<")): // a text stands before the XML: its place is told
		return likeness{}
	}
	return likeness{"plain text", "send the envelope", otherKind}
}

// whole is a text without a last character that was cut.
func whole(b []byte) []byte {
	for i := 1; i <= 3 && i <= len(b); i++ {
		if utf8.RuneStart(b[len(b)-i]) {
			if !utf8.FullRune(b[len(b)-i:]) {
				return b[:len(b)-i]
			}
			break
		}
	}
	return b
}

// wide tells whether text is in UTF-16 or UTF-32.
func wide(b []byte) bool {
	return bytes.HasPrefix(b, []byte("\xff\xfe")) || bytes.HasPrefix(b, []byte("\xfe\xff")) ||
		bytes.HasPrefix(b, []byte("\x00<")) || bytes.HasPrefix(b, []byte("<\x00"))
}

// inBase64 tells whether a text is XML in Base64 (RFC 4648).
func inBase64(t []byte) bool {
	head := bytes.Join(bytes.Fields(t[:min(len(t), 256)]), nil)
	head = head[:len(head)/4*4]
	out, err := base64.StdEncoding.DecodeString(string(head))
	return err == nil && bytes.HasPrefix(bytes.TrimSpace(bytes.TrimPrefix(out, []byte("\ufeff"))), []byte("<"))
}
