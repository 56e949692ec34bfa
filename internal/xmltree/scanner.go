package xmltree

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"
)

// Kind is the kind of a token.
type Kind uint8

// The tokens of a document. An empty-element tag gives a StartElement with
// Empty set and then an EndElement of no length.
const (
	EOF Kind = iota
	StartElement
	EndElement
	Text
	CData
	Comment
	ProcInst
)

// NameID is an index into the scanner's table of names.
type NameID uint32

// Attr is an attribute of the current start tag.
type Attr struct {
	Name  NameID // its name
	Start uint32 // of the name
	Value uint32 // first byte within the quotes
	End   uint32 // the closing quote
	Refs  bool   // the value holds references or white space to be normalised
}

// Token is what Next found. Attrs is a StartElement's, valid until the next call.
type Token struct {
	Kind  Kind   // what it is
	Empty bool   // StartElement written as <a/>
	Refs  bool   // Text with references or carriage returns: not its own value yet
	Blank bool   // Text of nothing but white space
	Name  NameID // of the element
	Span  Span   // the whole token
	Inner Span   // Text, CData, Comment, ProcInst: the content; ProcInst: from the target on
	Attrs []Attr // of a start tag
}

// Scanner goes through a document token by token. It is total: on any input it
// ends with EOF or an error, and never reads a byte twice as markup.
type Scanner struct {
	src    []byte
	pos    int
	limit  int // where the first impossible character stands, else len(src)
	badUTF bool
	limits Limits

	tok      Token
	attrs    []Attr
	open     []openElement
	seenRoot bool
	pending  bool // an empty-element tag still owes its end
	err      *SyntaxError

	names    []Name
	nameIDs  map[Name]NameID // nil while names are few: then they are looked through
	cache    []cachedName    // a power of two
	after    []cachedName    // by NameID of a start tag: the start tag that followed it last
	last     NameID          // of the last start tag
	bindings []binding
	ctx      uint32 // identifies the namespace context that is in force
	nextCtx  uint32
}

type openElement struct {
	start, end uint32 // of the qualified name
	id         NameID
	bindings   uint32 // how many bindings to go back to
	ctx        uint32 // the context to go back to
	children   uint32
}

type binding struct{ prefix, uri string }

type cachedName struct {
	word       uint64 // a short name whole; 0 for a longer one
	ctx        uint32 // namespace context, and whether it is an attribute's
	start, end uint32
	id         NameID
}

// NewScanner scans src, which must be UTF-8 without a byte order mark.
func NewScanner(src []byte, limits Limits) *Scanner {
	s := newScanner(src, limits)
	s.limit, s.badUTF = firstBadChar(src)
	return s
}

// spare are scanners whose work is done: their room is used again.
//
//nolint:gochecknoglobals // a pool has no state that is seen
var spare = sync.Pool{New: func() any {
	return &Scanner{
		cache: make([]cachedName, usualCache),
		after: make([]cachedName, 0, fewNames),
		open:  make([]openElement, 0, fewNames),
	}
}}

// usualCache and greatCache are how many names are at hand, in texts up to 64 KB and above.
const (
	usualCache = 32
	greatCache = 1024
)

// done gives the scanner's room back; its names belong to the tree.
func (s *Scanner) done() {
	if len(s.cache) != usualCache || cap(s.after) > fewNames || cap(s.open) > fewNames {
		return
	}
	clear(s.cache)
	clear(s.after[:cap(s.after)])
	*s = Scanner{cache: s.cache, after: s.after[:0], open: s.open[:0]}
	spare.Put(s)
}

// newScanner leaves it to the caller to look at the characters.
func newScanner(src []byte, limits Limits) *Scanner {
	s, _ := spare.Get().(*Scanner)
	if len(src) > 64<<10 {
		s.cache = make([]cachedName, greatCache)
	}
	s.src, s.limit, s.limits, s.nextCtx, s.ctx = src, len(src), limits, 2, 1
	s.names = make([]Name, 0, fewNames)
	return s
}

// NameOf is the name that an id stands for.
func (s *Scanner) NameOf(id NameID) Name { return s.names[id] }

// Depth is the number of elements that are open.
func (s *Scanner) Depth() int { return len(s.open) }

// Lookup is the namespace that a prefix is bound to here.
func (s *Scanner) Lookup(prefix string) (string, bool) {
	if prefix == "xml" {
		return XMLNamespace, true
	}
	for i := len(s.bindings) - 1; i >= 0; i-- {
		if s.bindings[i].prefix == prefix {
			return s.bindings[i].uri, s.bindings[i].uri != "" || prefix == ""
		}
	}
	return "", prefix == ""
}

func (s *Scanner) fail(code Code, at int, format string, args ...any) error {
	e := &SyntaxError{Code: code, Offset: at, Msg: fmt.Sprintf(format, args...)}
	e.Line, e.Column = Position(s.src, at)
	for _, o := range s.open[:min(len(s.open), 64)] {
		e.Open = append(e.Open, string(s.src[o.start:o.end]))
	}
	s.err = e
	return e
}

// tooLong fails where a text has more characters than are accepted. Bytes are never fewer
// than characters, so that only long texts are counted.
func (s *Scanner) tooLong(what string, from, to int, count func([]byte) int) error {
	if s.limits.Text <= 0 || to-from <= s.limits.Text {
		return nil
	}
	n := count(s.src[from:to])
	if n <= s.limits.Text {
		return nil
	}
	written := ""
	if n != to-from {
		written = fmt.Sprintf(", written in %d bytes", to-from)
	}
	return s.fail(TextLimit, from, "%s has %d characters%s; %d are accepted", what, n, written, s.limits.Text)
}

// failEnd reports that the input ran out within something, or that a character
// that can stand in no document cut it short.
func (s *Scanner) failEnd(within string) error {
	if s.limit < len(s.src) {
		if s.badUTF {
			return s.fail(BadEncoding, s.limit, "the byte 0x%02X is not UTF-8 here", s.src[s.limit])
		}
		r, _ := utf8.DecodeRune(s.src[s.limit:])
		return s.fail(NotWellFormed, s.limit, "the character U+%04X can stand in no XML document", r)
	}
	return s.fail(NotWellFormed, s.limit, "the document ends within %s", within)
}

// Next finds the next token.
func (s *Scanner) Next() (*Token, error) {
	if s.err != nil {
		return nil, s.err
	}
	t := &s.tok
	t.Empty, t.Refs, t.Blank = false, false, false
	if s.pending {
		s.pending = false
		t.Kind, t.Span = EndElement, Span{s.pos, s.pos}
		s.pop(t)
		return t, nil
	}
	if s.pos >= s.limit {
		return s.end(t)
	}
	if s.src[s.pos] != '<' {
		return s.text(t)
	}
	if s.pos+1 >= s.limit {
		return nil, s.failEnd("a tag")
	}
	switch s.src[s.pos+1] {
	case '/':
		return s.endTag(t)
	case '!':
		return s.bang(t)
	case '?':
		return s.procInst(t)
	}
	return s.startTag(t)
}

func (s *Scanner) end(t *Token) (*Token, error) {
	switch {
	case s.limit < len(s.src):
		return nil, s.failEnd("")
	case len(s.open) > 0:
		o := s.open[len(s.open)-1]
		return nil, s.failEnd(fmt.Sprintf("the element %s", s.src[o.start:o.end]))
	case !s.seenRoot:
		return nil, s.fail(Empty, s.limit, "there is no element")
	}
	t.Kind, t.Span = EOF, Span{s.pos, s.pos}
	return t, nil
}

//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
func (s *Scanner) text(t *Token) (*Token, error) {
	start, i, src := s.pos, s.pos, s.src[:s.limit]
	for i < len(src) && class[src[i]]&space != 0 {
		if src[i] == '\r' {
			t.Refs = true
		}
		i++
	}
	t.Blank = i == len(src) || src[i] == '<'
	if !t.Blank {
		if len(s.open) == 0 {
			code := TextOutside
			if !s.seenRoot && bytes.IndexByte(src[i:], '<') < 0 {
				code = NotWellFormed
			}
			return nil, s.fail(code, i, "text stands outside the document element")
		}
		for quick := i + 64; ; i++ {
			i = untilStop(src, i, quick)
			if i >= quick && i < len(src) && class[src[i]]&textStop == 0 {
				// A long run: let the vector search find its end, then look at what it spans.
				n := bytes.IndexByte(src[i:], '<')
				if n < 0 {
					n = len(src) - i
				}
				if m := bytes.IndexByte(src[i:i+n], '&'); m >= 0 {
					n = m
				}
				if bytes.IndexByte(src[i:i+n], ']') >= 0 {
					if m := bytes.Index(src[max(start, i-2):min(i+n+2, len(src))], []byte("]]>")); m >= 0 {
						return nil, s.fail(NotWellFormed, max(start, i-2)+m, "]]> must not stand in character data")
					}
				}
				t.Refs = t.Refs || bytes.IndexByte(src[i:i+n], '\r') >= 0
				i += n
				quick = i + 64
			}
			if i >= len(src) || src[i] == '<' {
				break
			}
			switch src[i] {
			case '\r':
				t.Refs = true
				continue
			case ']':
				if bytes.HasPrefix(src[i:], []byte("]]>")) {
					return nil, s.fail(NotWellFormed, i, "]]> must not stand in character data")
				}
				continue
			}
			n, err := s.reference(i)
			if err != nil {
				return nil, err
			}
			t.Refs = true
			i += n - 1
		}
		if err := s.tooLong("a text", start, i, Decoded); err != nil {
			return nil, err
		}
	}
	s.pos = i
	t.Kind, t.Span = Text, Span{start, i}
	t.Inner = t.Span
	return t, nil
}

// reference checks the reference at i and gives its length (XML 1.0 §4.1).
func (s *Scanner) reference(i int) (int, error) {
	n := bytes.IndexByte(s.src[i:min(i+64, s.limit)], ';')
	if n < 0 {
		return 0, s.fail(NotWellFormed, i, "& must be written &amp; where it begins no reference")
	}
	if _, ok := decodeRef(s.src[i+1 : i+n]); !ok {
		if n > 1 && s.src[i+1] == '#' {
			return 0, s.fail(NotWellFormed, i, "the reference %s names no character that a document may have",
				s.src[i:i+n+1])
		}
		return 0, s.fail(
			NotWellFormed,
			i,
			"the reference %s is not known: only the five predefined ones and character references are",
			s.src[i:i+n+1],
		)
	}
	return n + 1, nil
}

// decodeRef is the character that a reference (without & and ;) stands for.
func decodeRef(b []byte) (rune, bool) {
	switch string(b) {
	case "amp":
		return '&', true
	case "lt":
		return '<', true
	case "gt":
		return '>', true
	case "quot":
		return '"', true
	case "apos":
		return '\'', true
	}
	if len(b) < 2 || b[0] != '#' {
		return 0, false
	}
	digits, base := string(b[1:]), 10
	if digits[0] == 'x' {
		digits, base = digits[1:], 16
	}
	if strings.HasPrefix(digits, "+") || strings.HasPrefix(digits, "-") {
		return 0, false
	}
	n, err := strconv.ParseUint(digits, base, 32)
	return rune(n), err == nil && n <= utf8.MaxRune && isChar(rune(n))
}

func (s *Scanner) bang(t *Token) (*Token, error) {
	start, src := s.pos, s.src[:s.limit]
	rest := src[start:]
	switch {
	case bytes.HasPrefix(rest, []byte("<!--")):
		n := bytes.Index(rest[4:], []byte("--"))
		if n < 0 || 4+n+2 >= len(rest) {
			return nil, s.failEnd("a comment")
		}
		end := start + 4 + n
		if src[end+2] != '>' {
			return nil, s.fail(NotWellFormed, end, "-- must not stand within a comment")
		}
		t.Kind, t.Inner, t.Span = Comment, Span{start + 4, end}, Span{start, end + 3}
	case bytes.HasPrefix(rest, []byte("<![CDATA[")):
		if len(s.open) == 0 {
			return nil, s.fail(NotWellFormed, start, "a CDATA section stands outside the document element")
		}
		n := bytes.Index(rest[9:], []byte("]]>"))
		if n < 0 {
			return nil, s.failEnd("a CDATA section")
		}
		end := start + 9 + n
		if err := s.tooLong("a text", start+9, end, utf8.RuneCount); err != nil {
			return nil, err
		}
		t.Kind, t.Inner, t.Span = CData, Span{start + 9, end}, Span{start, end + 3}
	case bytes.HasPrefix(rest, []byte("<!DOCTYPE")):
		return nil, s.fail(
			Doctype,
			start,
			"a document type declaration stands here; it is refused, and nothing in it is read",
		)
	default:
		return nil, s.fail(NotWellFormed, start, "<! begins neither a comment nor a CDATA section here")
	}
	s.pos = t.Span.End
	return t, nil
}

func (s *Scanner) procInst(t *Token) (*Token, error) {
	start, src := s.pos, s.src[:s.limit]
	n := bytes.Index(src[start:], []byte("?>"))
	if n < 0 {
		return nil, s.failEnd("a processing instruction")
	}
	end := start + n
	nameEnd, colon, err := s.name(start + 2)
	if err != nil {
		return nil, err
	}
	target := string(src[start+2 : nameEnd])
	switch {
	case colon >= 0:
		return nil, s.fail(NotWellFormed, colon, "a processing instruction's target has no colon")
	case nameEnd < end && class[src[nameEnd]]&space == 0:
		return nil, s.fail(NotWellFormed, nameEnd, "white space must stand after the target %s", target)
	case target == "xml" && start == 0:
		if !isXMLDecl(src[start : end+2]) {
			return nil, s.fail(
				NotWellFormed,
				start,
				"the XML declaration is not in order: version, then encoding, then standalone",
			)
		}
	case strings.EqualFold(target, "xml"):
		return nil, s.fail(NotWellFormed, start, "an XML declaration may stand at the very start only")
	}
	s.pos = end + 2
	t.Kind, t.Inner, t.Span = ProcInst, Span{start + 2, end}, Span{start, end + 2}
	return t, nil
}
