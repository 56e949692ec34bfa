package exchange

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/hex"
	"io"
	"iter"
	"slices"
	"strings"
	"unicode/utf16"
)

// In are the places of secrets in bytes that are no document that can be read: broken XML, JSON, a form, a
// page. What has the name of a secret is one, however it is written: <password>x<, "password": "x",
// password=x&, &lt;password&gt;x. Of what is compressed, escaped with percent signs, in Base64 or UTF-16, or no
// text, all is one where there is one in it.
func (s SecretNames) In(b []byte) []Span { return s.in(b, true) }

// InAnswer is In for what a service says: a value counts only within a tag or quotes there, as its words speak of
// passwords and tokens without giving any: "password: at least 8 characters".
func (s SecretNames) InAnswer(b []byte) []Span { return s.in(b, false) }

func (s SecretNames) in(b []byte, bare bool) []Span {
	all := []Span{{Length: int64(len(b))}}
	if text := plainOf(b); text != nil {
		if len(s.inText(text, bare)) > 0 {
			return all
		}
		return nil
	}
	if binaryData(b) && s.Within(b) {
		return all
	}
	return s.inText(b, bare)
}

// Within tells whether the name of a secret stands anywhere in bytes.
func (s SecretNames) Within(b []byte) bool {
	low := bytes.ToLower(b)
	has := func(name string) bool { return bytes.Contains(low, []byte(name)) }
	return slices.ContainsFunc(secretEnds, has) || slices.ContainsFunc(s, func(own string) bool {
		return has(strings.ToLower(strings.TrimPrefix(own[strings.LastIndexByte(own, '/')+1:], "@")))
	})
}

// maxPlain is how much of what is compressed is looked at, in bytes.
const maxPlain = 16 << 20

// plainOf is the text in bytes that are written in another form; nil where they are not.
func plainOf(b []byte) []byte {
	t := bytes.TrimSpace(b)
	switch {
	case bytes.HasPrefix(t, []byte("\x1f\x8b")):
		if z, err := gzip.NewReader(bytes.NewReader(t)); err == nil {
			out, _ := io.ReadAll(io.LimitReader(z, maxPlain)) // as far as it goes
			return append(out, ' ')
		}
	case len(t) >= 4 && bytes.Count(t[:min(len(t), 64)], []byte{0})*3 > min(len(t), 64):
		odd := t[0] == 0 || t[0] == 0xfe
		units := make([]uint16, len(t)/2)
		for i := range units {
			lo, hi := t[2*i], t[2*i+1]
			if odd {
				lo, hi = hi, lo
			}
			units[i] = uint16(hi)<<8 | uint16(lo)
		}
		return []byte(string(utf16.Decode(units)))
	case bytes.Contains(t, []byte("%3C")), bytes.Contains(t, []byte("%3c")), bytes.Contains(t, []byte("\\u003")):
		return unescaped(t)
	case len(t) >= 16 && bytes.IndexFunc(t, notBase64) < 0:
		joined := bytes.Join(bytes.Fields(t), nil)
		if out, err := base64.StdEncoding.DecodeString(string(joined)); err == nil {
			return append(out, ' ')
		}
	}
	return nil
}

// unescaped is a text with its percent escapes (RFC 3986 §2.1) and those of JSON resolved, as far as they are any.
func unescaped(t []byte) []byte {
	out := make([]byte, 0, len(t))
	for i := 0; i < len(t); i++ {
		n := 0
		switch {
		case t[i] == '%' && i+2 < len(t):
			n = 2
		case bytes.HasPrefix(t[i:], []byte("\\u00")) && i+5 < len(t):
			n = 5
		}
		if c, err := hex.DecodeString(string(t[i+max(n-1, 0) : i+n+1])); n > 0 && err == nil {
			out = append(out, c[0])
			i += n
			continue
		}
		out = append(out, t[i])
	}
	return out
}

func notBase64(r rune) bool {
	return (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '+' && r != '/' && r != '=' &&
		r != '\r' && r != '\n' && r != ' '
}

// binaryData tells whether bytes are no text: they hold characters that none has.
func binaryData(b []byte) bool {
	return bytes.ContainsFunc(b[:min(len(b), 64<<10)], func(r rune) bool {
		return r < ' ' && r != '\t' && r != '\n' && r != '\r' && r != '\f'
	})
}

// tokens are the names in a text.
func tokens(b []byte) iter.Seq[Span] {
	return func(yield func(Span) bool) {
		for i := 0; i < len(b); i++ {
			from := i
			for i < len(b) && named(b[i]) {
				i++
			}
			if i > from && !yield(Span{Offset: int64(from), Length: int64(i - from)}) {
				return
			}
		}
	}
}

func named(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80 ||
		c == '_' || c == '-' || c == '.'
}

// inText are the values in a text that have the name of a secret.
func (s SecretNames) inText(b []byte, bare bool) (out []Span) {
	past := int64(0)
	for name := range tokens(b) {
		if name.Offset < past || !s.MayBe(string(b[name.Offset:name.Offset+name.Length])) {
			continue
		}
		from, to := valueOf(b, int(name.Offset), int(name.Offset+name.Length), bare)
		for from < to && (b[from] == ' ' || b[from] == '\n' || b[from] == '\r' || b[from] == '\t') {
			from++
		}
		if from < to {
			out = append(out, Span{Offset: int64(from), Length: int64(to - from)})
			past = int64(to)
		}
	}
	return out
}

// tags are the ways in which a start tag is written: what opens it, what ends it, and where its value ends.
//
//nolint:gochecknoglobals // a table: it is never written to
var tags = []struct{ opens, ends, until string }{
	{"<", ">", "<"}, {"&lt;", "&gt;", "&lt;"}, {"&amp;lt;", "&amp;gt;", "&amp;lt;"},
}

// valueOf is the value that a name in a text has: that of an element, an attribute, a member of JSON or a field
// of a form. Nothing where it is none of them.
func valueOf(b []byte, from, to int, bare bool) (begin, end int) {
	before := b[max(0, from-64):from]
	for _, t := range tags {
		i := bytes.LastIndex(before, []byte(t.opens))
		if i < 0 || !prefix(before[i+len(t.opens):]) {
			continue
		}
		tag := b[to:min(to+4096, len(b))]
		at, ends := bytes.Index(tag, []byte(t.ends)), t.ends
		if i := bytes.IndexByte(tag, '>'); i >= 0 && (at < 0 || i < at) { // a bracket that closes need not be escaped
			at, ends = i, ">"
		}
		if at < 0 || at > 0 && b[to+at-1] == '/' {
			return 0, 0
		}
		begin = to + at + len(ends)
		until := t.until
		if cdata := []byte("<![CDATA["); bytes.HasPrefix(b[begin:], cdata) {
			begin, until = begin+len(cdata), "]]>"
		}
		return begin, begin + upTo(b[begin:], until)
	}
	return assigned(b, to, bare)
}

// prefix tells whether what stands between an opening bracket and a name is a prefix, or nothing.
func prefix(b []byte) bool {
	for _, c := range bytes.TrimSuffix(b, []byte(":")) {
		if !named(c) {
			return false
		}
	}
	return true
}

// upTo is where a text begins in bytes, or their length.
func upTo(b []byte, until string) int {
	if i := bytes.Index(b, []byte(until)); i >= 0 {
		return i
	}
	return len(b)
}

// assigned is a value behind = or :, with quotes or, where bare ones count, without.
func assigned(b []byte, at int, bare bool) (begin, end int) {
	skip := func(set string) {
		for at < len(b) && strings.IndexByte(set, b[at]) >= 0 {
			at++
		}
	}
	skip(`\"'`)
	skip(" \t\r\n")
	if at >= len(b) || b[at] != '=' && b[at] != ':' {
		return 0, 0
	}
	form := b[at] == '='
	at++
	skip(" \t\r\n")
	escaped := at < len(b) && b[at] == '\\'
	if escaped {
		at++
	}
	if at < len(b) && (b[at] == '"' || b[at] == '\'') {
		quote := b[at]
		at++
		for end = at; end < len(b); end++ {
			if b[end] == '\\' && (escaped || end+1 == len(b)) || b[end] == quote {
				break
			}
			if b[end] == '\\' {
				end++
			}
		}
		return at, min(end, len(b))
	}
	if !bare {
		return 0, 0
	}
	stops := "\r\n&<>\"'{}[],"
	if form {
		stops += "; \t"
	}
	if end = bytes.IndexAny(b[at:], stops); end < 0 {
		end = len(b) - at
	}
	return at, at + end
}
