// Package xmltree reads XML without losing a byte of it.
//
// Evidence is bytes: every element, attribute and text knows the exact span
// that it has in what crossed the wire, prefixes and quirks included, also in
// a document that is broken further on. The scanner is zero-copy over a byte
// slice and checks well-formedness (XML 1.0, fifth edition) and namespaces
// (Namespaces in XML 1.0). Document type declarations are refused: no entity
// is ever expanded beyond the five predefined ones and character references.
//
// Offsets are bytes from the start of Document.Src, which is UTF-8. Where the
// document came in another encoding, SourceOffset leads back.
package xmltree

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Span is a half-open range of byte offsets, [Start, End).
type Span struct{ Start, End int } // first byte; byte after the last

// Len is the number of bytes in the span.
func (s Span) Len() int { return s.End - s.Start }

// Name is an expanded name with the prefix that it was written with.
type Name struct{ Space, Local, Prefix string } // namespace URI, "" none; local name; as written, "" none

// Qualified is the name as it stands in the document.
func (n Name) Qualified() string {
	if n.Prefix == "" {
		return n.Local
	}
	return n.Prefix + ":" + n.Local
}

// Is tells whether the expanded name is {space}local.
func (n Name) Is(space, local string) bool { return n.Local == local && n.Space == space }

// String is the name in Clark notation, {namespace}local.
func (n Name) String() string {
	if n.Space == "" {
		return n.Local
	}
	return "{" + n.Space + "}" + n.Local
}

// Namespaces that the two recommendations reserve.
const (
	XMLNamespace   = "http://www.w3.org/XML/1998/namespace"
	XMLNSNamespace = "http://www.w3.org/2000/xmlns/"
)

// Code says what kind of error a SyntaxError is, for those who decide on it.
type Code uint8

// The kinds of error that a reader of replies tells apart.
const (
	NotWellFormed Code = iota // any violation without a code of its own
	Empty                     // no element at all
	Doctype                   // a document type declaration; SOAP 1.1 §3, SOAP 1.2 §5 forbid it
	TextOutside               // text before or after the document element
	BadEncoding               // bytes that are not in the declared encoding
	DepthLimit                // deeper than Limits.Depth
	TextLimit                 // one text longer than Limits.Text
	RepeatLimit               // more children of one parent than Limits.Repeats
	NameLimit                 // more different names than Limits.Names
)

// SyntaxError is where and why reading stopped.
type SyntaxError struct {
	Code   Code     // what is wrong, as a type
	Offset int      // byte offset in Document.Src
	Line   int      // from 1
	Column int      // in characters, from 1
	Msg    string   // plain words, without the position
	Open   []string // qualified names of the elements that were open, outermost first
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Msg)
}

// Limits bound what is accepted; zero means no limit.
type Limits struct {
	Depth   int // nesting of elements
	Text    int // characters of one run of character data or one attribute value, decoded
	Repeats int // child elements of one parent
	Names   int // different names of elements and attributes

	// Done ends the making of a tree with ErrStopped once it is closed; nil: never.
	Done <-chan struct{}
}

// ErrStopped means that the reading was told to end (Limits.Done).
var ErrStopped = errors.New("the reading was told to end")

// stopped tells whether the reading was told to end.
func (l *Limits) stopped() bool {
	select {
	case <-l.Done:
		return true
	default:
		return false
	}
}

// Position is the line and column (in characters) of a byte offset, from 1.
func Position(src []byte, offset int) (line, column int) {
	offset = min(max(offset, 0), len(src))
	line = bytes.Count(src[:offset], []byte{'\n'}) + 1
	start := bytes.LastIndexByte(src[:offset], '\n') + 1
	return line, utf8.RuneCount(src[start:offset]) + 1
}

// EscapeText makes s fit for character data.
func EscapeText(s string) string { return textEscaper.Replace(s) }

// EscapeAttr makes s fit for an attribute value in double quotes.
func EscapeAttr(s string) string { return attrEscaper.Replace(s) }

// The characters that are escaped in text and in attributes, as Canonical XML 1.0 §2.3
// has them.
var (
	//nolint:gochecknoglobals // a table: it is never written to
	textEscaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "&#xD;")
	//nolint:gochecknoglobals // a table: it is never written to
	attrEscaper = strings.NewReplacer(
		"&",
		"&amp;",
		"<",
		"&lt;",
		`"`,
		"&quot;",
		"\t",
		"&#x9;",
		"\n",
		"&#xA;",
		"\r",
		"&#xD;",
	)
)

// Decoded is how many characters a run of text or an attribute's value has for who reads
// it: a reference is one, as is a line end of two bytes (XML 1.0 §2.11, §4.4).
func Decoded(raw []byte) (n int) {
	for len(raw) > 0 {
		i := bytes.IndexAny(raw, "&\r")
		if i < 0 {
			return n + utf8.RuneCount(raw)
		}
		n += utf8.RuneCount(raw[:i])
		switch {
		case raw[i] == '\r' && i+1 < len(raw) && raw[i+1] == '\n':
			raw = raw[i+1:] // the line feed counts
			continue
		case raw[i] == '&':
			if end := bytes.IndexByte(raw[i:min(i+64, len(raw))], ';'); end > 0 {
				n++
				raw = raw[i+end+1:]
				continue
			}
		}
		n++
		raw = raw[i+1:]
	}
	return n
}

// Measure is what a document takes of each limit, as far as it can be read.
func Measure(src []byte) (m Limits) {
	s := NewScanner(src, Limits{})
	var kids []int // of the open elements
	for {
		t, err := s.Next()
		if err != nil || t.Kind == EOF {
			m.Names = len(s.names)
			return m
		}
		switch t.Kind {
		case StartElement:
			if n := len(kids); n > 0 {
				kids[n-1]++
				m.Repeats = max(m.Repeats, kids[n-1])
			}
			kids = append(kids, 0)
			m.Depth = max(m.Depth, len(kids))
			for _, a := range t.Attrs {
				if int(a.End-a.Value) > m.Text {
					m.Text = max(m.Text, Decoded(src[a.Value:a.End]))
				}
			}
		case EndElement:
			kids = kids[:len(kids)-1]
		case Text:
			if t.Span.Len() > m.Text {
				m.Text = max(m.Text, Decoded(src[t.Span.Start:t.Span.End]))
			}
		case CData:
			m.Text = max(m.Text, utf8.RuneCount(src[t.Inner.Start:t.Inner.End]))
		}
	}
}
