package soap

import (
	"bytes"
	"fmt"
	"slices"
	"unicode/utf16"

	"orenda/internal/xmltree"
)

// Charsets are the encodings in which a request can be sent.
//
//nolint:gochecknoglobals // a table: it is never written to
var Charsets = []string{"utf-8", "utf-16", "iso-8859-1"}

// Encode writes an envelope, which is UTF-8, in another encoding, and says so
// in its declaration (XML 1.0 §4.3.3). What the encoding has no character for
// becomes a character reference; UTF-16 begins with a byte order mark. places
// are offsets into the envelope, and come back as offsets into what was written.
func Encode(envelope []byte, charset string, places []int) (out []byte, moved []int, err error) {
	if charset == "utf-8" || charset == "" {
		return envelope, places, nil
	}
	if !slices.Contains(Charsets, charset) {
		return nil, nil, fmt.Errorf("%q is not an encoding that can be sent", charset)
	}
	body, shift := envelope, 0
	if bytes.HasPrefix(body, []byte("<?xml")) {
		if end := bytes.Index(body, []byte("?>")); end >= 0 {
			shift = end + 2
			body = body[shift:]
		}
	}
	var b bytes.Buffer
	b.Grow(2*len(body) + 64)
	write := func(r rune) {
		switch {
		case charset == "utf-16":
			for _, u := range utf16.AppendRune(nil, r) {
				b.Write([]byte{byte(u >> 8), byte(u)})
			}
		case r < 0x100:
			b.WriteByte(byte(r))
		default:
			fmt.Fprintf(&b, "&#%d;", r)
		}
	}
	if charset == "utf-16" {
		b.Write([]byte{0xFE, 0xFF})
	}
	for _, r := range `<?xml version="1.0" encoding="` + charset + `"?>` {
		write(r)
	}
	moved = make([]int, len(places))
	order := make([]int, len(places))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(x, y int) int { return places[x] - places[y] })
	next := 0
	for i, r := range string(body) {
		for next < len(order) && places[order[next]] <= shift+i {
			moved[order[next]] = b.Len()
			next++
		}
		write(r)
	}
	for ; next < len(order); next++ {
		moved[order[next]] = b.Len()
	}
	// What cannot be read back was not representable where it stood, in a name.
	if _, err := xmltree.ParseEncoded(b.Bytes(), "", xmltree.Limits{}); err != nil {
		if _, was := xmltree.Parse(envelope, xmltree.Limits{}); was == nil {
			return nil, nil, fmt.Errorf("the message cannot be written in %s: %w", charset, err)
		}
	}
	return b.Bytes(), moved, nil
}
