package xmltree

import (
	"encoding/binary"
	"slices"
	"unicode/utf8"
)

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
