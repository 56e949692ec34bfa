package xmltree

import (
	"bytes"
)

//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
func (s *Scanner) startTag(t *Token) (*Token, error) {
	start := s.pos
	if len(s.open) == 0 && s.seenRoot {
		return nil, s.fail(NotWellFormed, start, "a second document element begins here")
	}
	if s.limits.Depth > 0 && len(s.open) >= s.limits.Depth {
		return nil, s.fail(
			DepthLimit,
			start,
			"elements are nested deeper than the %d levels that are accepted",
			s.limits.Depth,
		)
	}
	if n := len(s.open); n > 0 {
		s.open[n-1].children++
		if s.limits.Repeats > 0 && int(s.open[n-1].children) > s.limits.Repeats {
			return nil, s.fail(
				RepeatLimit,
				start,
				"one element has more than the %d children that are accepted",
				s.limits.Repeats,
			)
		}
	}
	// Documents repeat themselves: the tag that followed the last one before
	// follows it again, more often than not, and need not be read letter by letter.
	var guess cachedName
	if int(s.last) < len(s.after) {
		guess = s.after[s.last]
	}
	nameEnd, colon, known := start+1+int(guess.end-guess.start), -1, false
	if guess.ctx == s.ctx && nameEnd < s.limit &&
		string(s.src[start+1:nameEnd]) == string(s.src[guess.start:guess.end]) {
		c := s.src[nameEnd]
		known = c < 0x80 && class[c]&nameChar == 0
	}
	var err error
	if !known {
		if nameEnd, colon, err = s.name(start + 1); err != nil {
			return nil, s.noTag(start, err)
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
//
//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
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
	if err := s.tooLong("an attribute's value", int(a.Value), i, Decoded); err != nil {
		return 0, err
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
		return nil, s.fail(
			NotWellFormed,
			start,
			"the end tag %s does not belong to the open element %s (line %d)",
			src[start+2:end],
			src[o.start:o.end],
			line,
		)
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
	if guess.ctx != s.ctx || inner >= len(src) || src[s.pos] != '<' || src[inner-1] != '>' ||
		string(src[s.pos+1:inner-1]) != string(src[guess.start:guess.end]) {
		return false
	}
	i := untilStop(src, inner, inner+64)
	name := i + 2
	end := name + n
	if end >= len(src) || src[end] != '>' || src[i] != '<' || src[i+1] != '/' ||
		string(src[name:end]) != string(src[guess.start:guess.end]) {
		return false
	}
	if s.limits.Depth > 0 && len(s.open) >= s.limits.Depth ||
		s.limits.Repeats > 0 && int(top.children) >= s.limits.Repeats ||
		s.limits.Text > 0 && i-inner > s.limits.Text {
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
	if end >= len(src) || src[end] != '>' || src[i] != '<' || src[i+1] != '/' ||
		string(src[name:end]) != string(src[o.start:o.end]) {
		return false
	}
	if s.limits.Text > 0 && i-s.pos > s.limits.Text {
		return false
	}
	s.pos = end + 1
	s.pop(&s.tok)
	return true
}

// noTag says of a < after which no name stands that it may have been meant as text; of any other, what is wrong.
func (s *Scanner) noTag(at int, err error) error {
	if at+1 < s.limit {
		if c := s.src[at+1]; class[c]&space != 0 || c == '=' || c >= '0' && c <= '9' {
			return s.fail(NotWellFormed, at, "< must be written &lt; where it begins no tag")
		}
	}
	return err
}
