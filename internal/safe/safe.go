// Package safe makes text from outside safe for where it is shown. Control
// characters, escape sequences and bidirectional marks are shown, never
// obeyed. Every sink has its function here, and nothing goes around them.
package safe

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// maxMarks is how many combining marks may stand on one character.
const maxMarks = 4

// isPlain tells whether a string needs nothing done: the common case.
func isPlain(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < ' ' || s[i] >= 0x7f {
			return false
		}
	}
	return true
}

// show is how a character that must not be obeyed is shown, or 0.
func show(r rune) rune {
	switch {
	case r < 0x20:
		return 0x2400 + r // ␀ … ␛ …
	case r == 0x7f:
		return '␡'
	case r >= 0x80 && r < 0xa0, r == utf8.RuneError:
		return '�'
	case r == 0x061c,
		r == 0xad, r == 0x34f, r == 0x115f, r == 0x1160, r == 0x17b4, r == 0x17b5, // invisible, whatever their names
		r >= 0x180b && r <= 0x180f,
		r == 0x3164, r == 0xffa0,
		r >= 0x200b && r <= 0x200f,
		r >= 0x2028 && r <= 0x202e,
		r >= 0x2060 && r <= 0x206f,
		r == 0xfeff,
		r >= 0xe0000 && r <= 0xe007f,
		r >= 0xfff9 && r <= 0xfffb:
		return '·'
	}
	return 0
}

// Line is text for one line of a terminal: line ends and tabs are shown too.
func Line(s string) string { return clean(s, false) }

// Block is text of several lines for a terminal: line ends stay, tabs become
// spaces.
func Block(s string) string { return clean(s, true) }

func clean(s string, block bool) string {
	if isPlain(s) {
		return s
	}
	var b strings.Builder
	b.Grow(len(s))
	marks := 0
	for _, r := range s {
		if block && r == '\n' {
			b.WriteRune(r)
			marks = 0
			continue
		}
		if r == '\t' && block {
			b.WriteString("    ")
			continue
		}
		if c := show(r); c != 0 {
			b.WriteRune(c)
			marks = 0
			continue
		}
		if unicode.Is(unicode.M, r) {
			if marks++; marks > maxMarks {
				continue
			}
		} else {
			marks = 0
		}
		b.WriteRune(r)
	}
	return b.String()
}

// JSON is v as indented JSON in which C1 controls and bidirectional marks are
// escaped as well, so that it may be printed to a terminal.
func JSON(v any) ([]byte, error) {
	var raw bytes.Buffer
	enc := json.NewEncoder(&raw)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	s := raw.String()
	var b strings.Builder
	b.Grow(len(s))
	for _, r := range s {
		if r != '\n' && r >= 0x7f && show(r) != 0 {
			if r > 0xffff {
				r -= 0x10000
				fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+(r>>10), 0xdc00+(r&0x3ff))
				continue
			}
			fmt.Fprintf(&b, `\u%04x`, r)
			continue
		}
		b.WriteRune(r)
	}
	return []byte(b.String()), nil
}

// XML is text for character data or an attribute of an XML or SVG document.
func XML(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(Line(s))
}

// Visible shows the white space of a value where it matters: at its ends, doubled, and
// what is no blank. An empty value is "".
func Visible(s string) string {
	if s == "" {
		return `""`
	}
	if strings.TrimSpace(s) == s && !strings.ContainsAny(s, "\t\r\n\u00a0") && !strings.Contains(s, "  ") {
		return s
	}
	r := []rune(s)
	for i, c := range r {
		switch c {
		case '\t':
			r[i] = '→'
		case '\n', '\r':
			r[i] = '↵'
		case '\u00a0':
			r[i] = '°'
		case ' ':
			if i == 0 || i == len(r)-1 || r[i-1] == '·' || r[i+1] == ' ' {
				r[i] = '·'
			}
		}
	}
	// From the end: what stands before a blank that was marked is marked too.
	for i := len(r) - 2; i >= 0 && r[i] == ' ' && r[i+1] == '·'; i-- {
		r[i] = '·'
	}
	return string(r)
}
