package xmltree

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
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
	Name  NameID
	Start uint32 // of the name
	Value uint32 // first byte within the quotes
	End   uint32 // the closing quote
	Refs  bool   // the value holds references or white space to be normalised
}

// Token is what Next found. Attrs is a StartElement's, valid until the next call.
type Token struct {
	Kind  Kind
	Empty bool // StartElement written as <a/>
	Refs  bool // Text with references or carriage returns: not its own value yet
	Blank bool // Text of nothing but white space
	Name  NameID
	Span  Span // the whole token
	Inner Span // Text, CData, Comment, ProcInst: the content; ProcInst: from the target on
	Attrs []Attr
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

// newScanner leaves it to the caller to look at the characters.
func newScanner(src []byte, limits Limits) *Scanner {
	cache := 32
	if len(src) > 64<<10 {
		cache = 1024
	}
	return &Scanner{src: src, limit: len(src), limits: limits, nextCtx: 2, ctx: 1, cache: make([]cachedName, cache),
		names: make([]Name, 0, fewNames), after: make([]cachedName, 0, fewNames), open: make([]openElement, 0, fewNames)}
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
		if s.limits.Text > 0 && i-start > s.limits.Text {
			return nil, s.fail(TextLimit, start, "a text is %d bytes long; %d are accepted", i-start, s.limits.Text)
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
		return 0, s.fail(NotWellFormed, i, "the reference %s is not known: only the five predefined ones and character references are", s.src[i:i+n+1])
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

// name scans a qualified name and gives its end, and where its colon is.
func (s *Scanner) name(i int) (end, colon int, err error) {
	src, start := s.src[:s.limit], i
	colon = -1
	if i >= len(src) {
		return 0, 0, s.failEnd("a name")
	}
	if src[i] < 0x80 {
		if class[src[i]]&nameStart == 0 || src[i] == ':' {
			return 0, 0, s.fail(NotWellFormed, i, "a name cannot begin with %q", src[i])
		}
	} else if r, _ := utf8.DecodeRune(src[i:]); !isNameStart(r) {
		return 0, 0, s.fail(NotWellFormed, i, "a name cannot begin with %q", r)
	}
	for {
		for i < len(src) && class[src[i]]&plainName != 0 {
			i++
		}
		if i == len(src) {
			return 0, 0, s.failEnd("a tag")
		}
		c := src[i]
		if c >= 0x80 {
			r, n := utf8.DecodeRune(src[i:])
			if !isNameChar(r) {
				return 0, 0, s.fail(NotWellFormed, i, "the character %q cannot stand in a name", r)
			}
			i += n
			continue
		}
		if c != ':' {
			break
		}
		if colon >= 0 {
			return 0, 0, s.fail(NotWellFormed, i, "a qualified name has one colon at most")
		}
		colon = i
		i++
	}
	if colon == i-1 {
		return 0, 0, s.fail(NotWellFormed, start, "the name %s ends with a colon", src[start:i])
	}
	if colon >= 0 && class[src[colon+1]]&nameStart == 0 {
		if r, _ := utf8.DecodeRune(src[colon+1:]); r < 0x80 || !isNameStart(r) {
			return 0, 0, s.fail(NotWellFormed, colon+1, "a name cannot begin with %q", r)
		}
	}
	return i, colon, nil
}

// resolve interns the qualified name in src[start:end]. Names repeat, so a
// direct-mapped cache answers nearly always.
func (s *Scanner) resolve(start, end, colon int, attr bool) (NameID, error) {
	raw := s.src[start:end]
	// A name of up to eight bytes is one word, which is its own fingerprint.
	var word uint64
	if n := uint(end - start); n <= 8 && start+8 <= len(s.src) {
		word = binary.LittleEndian.Uint64(s.src[start:]) & (1<<(8*n) - 1)
		if n == 8 {
			word = binary.LittleEndian.Uint64(s.src[start:])
		}
	}
	h := word * 0x9E3779B97F4A7C15
	if word == 0 {
		h = hashName(raw)
	}
	ctx := s.ctx << 1
	if attr {
		ctx |= 1
		h = ^h
	}
	c := &s.cache[(h>>40)&uint64(len(s.cache)-1)]
	if c.ctx == ctx && c.word == word && (word != 0 || string(s.src[c.start:c.end]) == string(raw)) {
		return c.id, nil
	}
	n := Name{Local: string(raw)}
	if colon >= 0 {
		n.Prefix, n.Local = string(s.src[start:colon]), string(s.src[colon+1:end])
	}
	if n.Prefix == "xmlns" {
		return 0, s.fail(NotWellFormed, start, "the prefix xmlns cannot be used for names")
	}
	if !attr || n.Prefix != "" {
		uri, ok := s.Lookup(n.Prefix)
		if !ok {
			return 0, s.fail(NotWellFormed, start, "the prefix %s is not bound to a namespace", n.Prefix)
		}
		n.Space = uri
	}
	id := s.intern(n)
	if s.limits.Names > 0 && len(s.names) > s.limits.Names {
		return 0, s.fail(NameLimit, start, "it has more than the %d different names that are accepted", s.limits.Names)
	}
	*c = cachedName{word, ctx, uint32(start), uint32(end), id}
	return id, nil
}

// hashName mixes the first and the last eight bytes of a name and its length.
func hashName(raw []byte) uint64 {
	var a, b uint64
	if len(raw) >= 8 {
		a, b = binary.LittleEndian.Uint64(raw), binary.LittleEndian.Uint64(raw[len(raw)-8:])
	} else {
		for _, c := range raw {
			a = a<<8 | uint64(c)
		}
	}
	return (a^uint64(len(raw))<<56)*0x9E3779B97F4A7C15 ^ b*0xC2B2AE3D27D4EB4F
}

// fewNames are looked through one by one faster than a map is kept.
const fewNames = 16

func (s *Scanner) intern(n Name) NameID {
	if s.nameIDs == nil {
		if i := slices.Index(s.names, n); i >= 0 {
			return NameID(i)
		}
	} else if id, ok := s.nameIDs[n]; ok {
		return id
	}
	id := NameID(len(s.names))
	s.names = append(s.names, n)
	s.after = append(s.after, cachedName{})
	switch {
	case s.nameIDs != nil:
		s.nameIDs[n] = id
	case len(s.names) > fewNames:
		s.nameIDs = make(map[Name]NameID, 4*fewNames)
		for i, n := range s.names {
			s.nameIDs[n] = NameID(i)
		}
	}
	return id
}

func (s *Scanner) startTag(t *Token) (*Token, error) {
	start := s.pos
	if len(s.open) == 0 && s.seenRoot {
		return nil, s.fail(NotWellFormed, start, "a second document element begins here")
	}
	if s.limits.Depth > 0 && len(s.open) >= s.limits.Depth {
		return nil, s.fail(DepthLimit, start, "elements are nested deeper than the %d levels that are accepted", s.limits.Depth)
	}
	if n := len(s.open); n > 0 {
		s.open[n-1].children++
		if s.limits.Repeats > 0 && int(s.open[n-1].children) > s.limits.Repeats {
			return nil, s.fail(RepeatLimit, start, "one element has more than the %d children that are accepted", s.limits.Repeats)
		}
	}
	// Documents repeat themselves: the tag that followed the last one before
	// follows it again, more often than not, and need not be read letter by letter.
	var guess cachedName
	if int(s.last) < len(s.after) {
		guess = s.after[s.last]
	}
	nameEnd, colon, known := start+1+int(guess.end-guess.start), -1, false
	if guess.ctx == s.ctx && nameEnd < s.limit && string(s.src[start+1:nameEnd]) == string(s.src[guess.start:guess.end]) {
		c := s.src[nameEnd]
		known = c < 0x80 && class[c]&nameChar == 0
	}
	var err error
	if !known {
		if nameEnd, colon, err = s.name(start + 1); err != nil {
			return nil, err
		}
	}
	o := openElement{start: uint32(start + 1), end: uint32(nameEnd), bindings: uint32(len(s.bindings)), ctx: s.ctx}
	i := nameEnd
	t.Attrs = nil
	if s.src[i] == '>' {
		i++
	} else if i, err = s.attributes(i, t); err != nil {
		return nil, err
	}
	if known && s.ctx == o.ctx {
		o.id = guess.id
	} else {
		if known {
			colon = bytes.IndexByte(s.src[start+1:nameEnd], ':')
			if colon >= 0 {
				colon += start + 1
			}
		}
		if o.id, err = s.resolve(start+1, nameEnd, colon, false); err != nil {
			return nil, err
		}
		if s.ctx == o.ctx {
			s.after[s.last] = cachedName{ctx: s.ctx, start: o.start, end: o.end, id: o.id}
		}
	}
	s.last = o.id
	s.open = append(s.open, o)
	s.seenRoot = true
	s.pending = t.Empty
	s.pos = i
	t.Kind, t.Name, t.Span = StartElement, o.id, Span{start, i}
	return t, nil
}

// attributes scans from after the element's name to after the tag's end.
func (s *Scanner) attributes(i int, t *Token) (int, error) {
	src := s.src[:s.limit]
	s.attrs = s.attrs[:0]
	declared := false
	for {
		before := i
		for i < len(src) && class[src[i]]&space != 0 {
			i++
		}
		if i >= len(src) {
			return 0, s.failEnd("a tag")
		}
		switch src[i] {
		case '>':
			return i + 1, s.resolveAttrs(t, declared)
		case '/':
			if i+1 >= len(src) {
				return 0, s.failEnd("a tag")
			}
			if src[i+1] != '>' {
				return 0, s.fail(NotWellFormed, i+1, "/ must be followed by > in a tag")
			}
			t.Empty = true
			return i + 2, s.resolveAttrs(t, declared)
		}
		if before == i {
			return 0, s.fail(NotWellFormed, i, "white space or > must stand here in a tag, not %q", rune(src[i]))
		}
		a := Attr{Start: uint32(i)}
		end, colon, err := s.name(i)
		if err != nil {
			return 0, err
		}
		if i, err = s.value(end, &a); err != nil {
			return 0, err
		}
		name := src[a.Start:end]
		if isXMLNS(name) {
			if err := s.declare(name, a, &declared); err != nil {
				return 0, err
			}
			a.Name = s.intern(xmlnsName(name))
		} else {
			a.Name = NameID(end<<1) | NameID(b2i(colon >= 0)) // resolved when all declarations are known
		}
		s.attrs = append(s.attrs, a)
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func isXMLNS(name []byte) bool {
	return len(name) >= 5 && string(name[:5]) == "xmlns" && (len(name) == 5 || name[5] == ':')
}

func xmlnsName(name []byte) Name {
	if len(name) == 5 {
		return Name{Space: XMLNSNamespace, Local: "xmlns"}
	}
	return Name{Space: XMLNSNamespace, Local: string(name[6:]), Prefix: "xmlns"}
}

// value scans = and the quoted value, and gives the offset after it.
func (s *Scanner) value(i int, a *Attr) (int, error) {
	src := s.src[:s.limit]
	for i < len(src) && class[src[i]]&space != 0 {
		i++
	}
	if i >= len(src) {
		return 0, s.failEnd("a tag")
	}
	if src[i] != '=' {
		return 0, s.fail(NotWellFormed, i, "the attribute %s has no value", bytes.TrimSpace(src[a.Start:i]))
	}
	i++
	for i < len(src) && class[src[i]]&space != 0 {
		i++
	}
	if i >= len(src) {
		return 0, s.failEnd("a tag")
	}
	quote, stop := src[i], uint8(dquoteStop)
	switch quote {
	case '"':
	case '\'':
		stop = squoteStop
	default:
		return 0, s.fail(NotWellFormed, i, "an attribute's value must stand in quotes")
	}
	i++
	a.Value = uint32(i)
	for {
		for i < len(src) && class[src[i]]&stop == 0 {
			if src[i] < ' ' {
				a.Refs = true
			}
			i++
		}
		if i >= len(src) {
			return 0, s.failEnd("an attribute's value")
		}
		if src[i] == quote {
			break
		}
		if src[i] == '<' {
			return 0, s.fail(NotWellFormed, i, "< must be written &lt; in an attribute's value")
		}
		n, err := s.reference(i)
		if err != nil {
			return 0, err
		}
		a.Refs = true
		i += n
	}
	a.End = uint32(i)
	if s.limits.Text > 0 && i-int(a.Value) > s.limits.Text {
		return 0, s.fail(TextLimit, int(a.Value), "an attribute's value is %d bytes long; %d are accepted", i-int(a.Value), s.limits.Text)
	}
	return i + 1, nil
}

// declare takes a namespace declaration (Namespaces in XML §3).
func (s *Scanner) declare(name []byte, a Attr, declared *bool) error {
	b := binding{uri: attrValue(s.src[a.Value:a.End], a.Refs)}
	if len(name) > 5 {
		b.prefix = string(name[6:])
		if b.uri == "" {
			return s.fail(NotWellFormed, int(a.Start), "the prefix %s cannot be undeclared", b.prefix)
		}
	}
	switch {
	case b.prefix == "xmlns", b.uri == XMLNSNamespace, (b.prefix == "xml") != (b.uri == XMLNamespace):
		return s.fail(NotWellFormed, int(a.Start), "the prefixes xml and xmlns, and their namespaces, are reserved")
	}
	s.bindings = append(s.bindings, b)
	if !*declared {
		*declared = true
		s.ctx, s.nextCtx = s.nextCtx, s.nextCtx+1
	}
	return nil
}

// resolveAttrs gives each attribute its expanded name and refuses doubles.
func (s *Scanner) resolveAttrs(t *Token, declared bool) error {
	if len(s.attrs) == 0 {
		return nil
	}
	for i := range s.attrs {
		a := &s.attrs[i]
		raw := s.src[a.Start:a.Value]
		if declared && isXMLNS(bytes.TrimRight(raw, " \t\r\n=\"'")) {
			continue
		}
		end, colon := int(a.Name>>1), -1
		if a.Name&1 == 1 {
			colon = int(a.Start) + bytes.IndexByte(s.src[a.Start:end], ':')
		}
		id, err := s.resolve(int(a.Start), end, colon, true)
		if err != nil {
			return err
		}
		a.Name = id
	}
	if at := s.double(); at >= 0 {
		n := s.names[s.attrs[at].Name]
		return s.fail(NotWellFormed, int(s.attrs[at].Start), "the attribute %s stands twice in this tag", n.Qualified())
	}
	t.Attrs = s.attrs
	return nil
}

func (s *Scanner) double() int {
	if len(s.attrs) == 1 {
		return -1
	}
	if len(s.attrs) <= 8 {
		for i := 1; i < len(s.attrs); i++ {
			for j := 0; j < i; j++ {
				a, b := s.attrs[i].Name, s.attrs[j].Name
				if a == b || s.names[a].Local == s.names[b].Local && s.names[a].Space == s.names[b].Space {
					return i
				}
			}
		}
		return -1
	}
	seen := make(map[[2]string]bool, len(s.attrs))
	for i, a := range s.attrs {
		k := [2]string{s.names[a.Name].Space, s.names[a.Name].Local}
		if seen[k] {
			return i
		}
		seen[k] = true
	}
	return -1
}

func (s *Scanner) endTag(t *Token) (*Token, error) {
	start, src := s.pos, s.src[:s.limit]
	if len(s.open) == 0 {
		return nil, s.fail(NotWellFormed, start, "an end tag stands where no element is open")
	}
	o := s.open[len(s.open)-1]
	n := int(o.end - o.start)
	i := start + 2 + n
	if i < len(src) && string(src[start+2:i]) == string(src[o.start:o.end]) {
		if src[i] == '>' {
			t.Kind, t.Span = EndElement, Span{start, i + 1}
			s.pos = i + 1
			s.pop(t)
			return t, nil
		}
		for i < len(src) && class[src[i]]&space != 0 {
			i++
		}
		if i < len(src) && src[i] == '>' {
			t.Kind, t.Span = EndElement, Span{start, i + 1}
			s.pos = i + 1
			s.pop(t)
			return t, nil
		}
	}
	end, _, err := s.name(start + 2)
	if err != nil {
		return nil, err
	}
	if string(src[start+2:end]) != string(src[o.start:o.end]) {
		line, _ := Position(s.src, int(o.start))
		return nil, s.fail(NotWellFormed, start, "the end tag %s does not belong to the open element %s (line %d)", src[start+2:end], src[o.start:o.end], line)
	}
	return nil, s.fail(NotWellFormed, end, "> must stand here in an end tag")
}

func (s *Scanner) pop(t *Token) {
	o := &s.open[len(s.open)-1]
	t.Name = o.id
	s.bindings = s.bindings[:o.bindings]
	s.ctx = o.ctx
	s.open = s.open[:len(s.open)-1]
}

// skipBlank goes past white space up to a tag, where no carriage return is in it.
func (s *Scanner) skipBlank() {
	for i := s.pos; i < s.limit; i++ {
		if c := s.src[i]; c == '<' {
			s.pos = i
			return
		} else if c == '\r' || class[c]&space == 0 {
			return
		}
	}
}

// usual takes a whole leaf, start tag, plain text and end tag, where its start tag
// is the one that followed the last before and has no attributes; else it takes
// nothing. It may be called within an element that is open.
func (s *Scanner) usual(t *Token) bool {
	src, top, guess := s.src[:s.limit], &s.open[len(s.open)-1], &s.after[s.last]
	n := int(guess.end - guess.start)
	inner := s.pos + n + 2
	if guess.ctx != s.ctx || inner >= len(src) || src[s.pos] != '<' || src[inner-1] != '>' || string(src[s.pos+1:inner-1]) != string(src[guess.start:guess.end]) {
		return false
	}
	i := untilStop(src, inner, inner+64)
	name := i + 2
	end := name + n
	if end >= len(src) || src[end] != '>' || src[i] != '<' || src[i+1] != '/' || string(src[name:end]) != string(src[guess.start:guess.end]) {
		return false
	}
	if s.limits.Depth > 0 && len(s.open) >= s.limits.Depth || s.limits.Repeats > 0 && int(top.children) >= s.limits.Repeats || s.limits.Text > 0 && i-inner > s.limits.Text {
		return false
	}
	top.children++
	s.last = guess.id
	t.Name, t.Span, t.Inner = guess.id, Span{s.pos, end + 1}, Span{inner, i}
	s.pos = end + 1
	return true
}

// leaf may be called after a StartElement that is not Empty. Where plain text
// and the end tag follow it takes both, as most elements of most messages let
// it; else it takes nothing.
func (s *Scanner) leaf() bool {
	src, o := s.src[:s.limit], &s.open[len(s.open)-1]
	i := untilStop(src, s.pos, s.pos+64)
	name := i + 2
	end := name + int(o.end-o.start)
	if end >= len(src) || src[end] != '>' || src[i] != '<' || src[i+1] != '/' || string(src[name:end]) != string(src[o.start:o.end]) {
		return false
	}
	if s.limits.Text > 0 && i-s.pos > s.limits.Text {
		return false
	}
	s.pos = end + 1
	s.pop(&s.tok)
	return true
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
		if s.limits.Text > 0 && n > s.limits.Text {
			return nil, s.fail(TextLimit, start, "a text is %d bytes long; %d are accepted", n, s.limits.Text)
		}
		t.Kind, t.Inner, t.Span = CData, Span{start + 9, end}, Span{start, end + 3}
	case bytes.HasPrefix(rest, []byte("<!DOCTYPE")):
		return nil, s.fail(Doctype, start, "a document type declaration stands here; it is refused, and nothing in it is read")
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
			return nil, s.fail(NotWellFormed, start, "the XML declaration is not in order: version, then encoding, then standalone")
		}
	case strings.EqualFold(target, "xml"):
		return nil, s.fail(NotWellFormed, start, "an XML declaration may stand at the very start only")
	}
	s.pos = end + 2
	t.Kind, t.Inner, t.Span = ProcInst, Span{start + 2, end}, Span{start, end + 2}
	return t, nil
}
