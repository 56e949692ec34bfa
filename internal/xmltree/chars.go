package xmltree

import (
	"encoding/binary"
	"math/bits"
	"unicode/utf8"
)

// Classes of bytes, looked up in one table while scanning.
const (
	nameStart  = 1 << iota // may begin a name (ASCII)
	nameChar               // may stand in a name (ASCII)
	plainName              // the same without the colon
	space                  // XML 1.0 production S
	textStop               // ends the quick run through character data
	dquoteStop             // ends the quick run through "…"
	squoteStop             // ends the quick run through '…'
)

//nolint:gochecknoglobals // a table: it is never written to
var class = func() (t [256]uint8) {
	for c := 'a'; c <= 'z'; c++ {
		t[c] |= nameStart | nameChar
		t[c-32] |= nameStart | nameChar
	}
	for c := '0'; c <= '9'; c++ {
		t[c] |= nameChar
	}
	for _, c := range "_:" {
		t[c] |= nameStart | nameChar
	}
	for _, c := range "-." {
		t[c] |= nameChar
	}
	for c := range t {
		if t[c]&nameChar != 0 && c != ':' {
			t[c] |= plainName
		}
	}
	for _, c := range " \t\r\n" {
		t[c] |= space
	}
	for _, c := range "<&]\r" {
		t[c] |= textStop
	}
	for _, c := range "<&\"" {
		t[c] |= dquoteStop
	}
	for _, c := range "<&'" {
		t[c] |= squoteStop
	}
	return t
}()

// isNameStart is NameStartChar of XML 1.0 §2.3 beyond ASCII.
func isNameStart(r rune) bool {
	switch {
	case r < 0x80:
		return class[r]&nameStart != 0
	case r >= 0xC0 && r <= 0x2FF:
		return r != 0xD7 && r != 0xF7
	case r >= 0x370 && r <= 0x1FFF:
		return r != 0x37E
	case r >= 0x200C && r <= 0x200D, r >= 0x2070 && r <= 0x218F, r >= 0x2C00 && r <= 0x2FEF,
		r >= 0x3001 && r <= 0xD7FF, r >= 0xF900 && r <= 0xFDCF, r >= 0xFDF0 && r <= 0xFFFD,
		r >= 0x10000 && r <= 0xEFFFF:
		return true
	}
	return false
}

// isNameChar is NameChar of XML 1.0 §2.3.
func isNameChar(r rune) bool {
	if r < 0x80 {
		return class[r]&nameChar != 0
	}
	return r == 0xB7 || r >= 0x300 && r <= 0x36F || r >= 0x203F && r <= 0x2040 || isNameStart(r)
}

// isChar is Char of XML 1.0 §2.2.
func isChar(r rune) bool {
	return r == 9 || r == 10 || r == 13 || r >= 0x20 && r <= 0xD7FF || r >= 0xE000 && r <= 0xFFFD ||
		r >= 0x10000 && r <= 0x10FFFF
}

const (
	ones = 0x0101010101010101
	high = 0x8080808080808080
)

// untilStop is the offset of the first textStop from i on, or where it gave up:
// at the end, or not before quick. It looks at eight bytes at a time.
func untilStop(b []byte, i, quick int) int {
	for i+8 <= len(b) {
		w := binary.LittleEndian.Uint64(b[i:])
		// A byte of w^c*ones is 0 where w has c; the lowest bit found is exact.
		lt, amp, end, cr := w^'<'*ones, w^'&'*ones, w^']'*ones, w^'\r'*ones
		if found := ((lt-ones)&^lt | (amp-ones)&^amp | (end-ones)&^end | (cr-ones)&^cr) & high; found != 0 {
			return i + bits.TrailingZeros64(found)/8
		}
		if i += 8; i >= quick {
			return i
		}
	}
	for i < len(b) && class[b[i]]&textStop == 0 {
		i++
	}
	return i
}

// firstBadChar is the offset of the first byte that begins no Char (or is not
// UTF-8), or len(b). badUTF8 tells the two apart.
func firstBadChar(b []byte) (at int, badUTF8 bool) {
	// odd marks, from the lowest on, the bytes of w with the high bit or below 0x20.
	odd := func(w uint64) uint64 { return (w | (w - ones*0x20)) & high }
	for i := 0; i < len(b); {
		if i+32 <= len(b) { // many at a time
			p := b[i : i+32 : i+32]
			w, x := binary.LittleEndian.Uint64(p), binary.LittleEndian.Uint64(p[8:])
			y, z := binary.LittleEndian.Uint64(p[16:]), binary.LittleEndian.Uint64(p[24:])
			if odd(w)|odd(x)|odd(y)|odd(z) == 0 {
				i += 32
				continue
			}
		}
		for i+8 <= len(b) {
			if found := odd(binary.LittleEndian.Uint64(b[i:])); found != 0 {
				i += bits.TrailingZeros64(found) / 8
				break
			}
			i += 8
		}
		for ; i < len(b) && b[i] < 0x80; i++ {
			if b[i] >= 0x20 {
				if i+8 <= len(b) {
					break
				}
			} else if class[b[i]]&space == 0 {
				return i, false
			}
		}
		for i < len(b) && b[i] >= 0x80 {
			r, n := utf8.DecodeRune(b[i:])
			if r == utf8.RuneError && n <= 1 {
				return i, true
			}
			if r == 0xFFFE || r == 0xFFFF {
				return i, false
			}
			i += n
		}
	}
	return len(b), false
}
