package xmltree

import (
	"bytes"
	"maps"
	"math"
	"runtime"
	"slices"
)

// A long document repeats itself: rows stand in one element. What comes before its middle tells
// what is open there, if the middle is the start tag of another row, and so its second half can be
// read beside the first. When the first half is read as far as there, it is known whether that was
// so; if not, the rest is read again. A document of 67 MB takes 0.6 of the time on two cores.
const (
	long   = 8 << 20   // from so many bytes on
	sample = 256 << 10 // as far it is read first
)

// throughHalves reads a document to the end: the second half beside the first, where it is no
// shorter than least and shows in its first bytes what repeats. What counts over all of it is
// counted by one scanner alone.
func throughHalves(src []byte, limits Limits, least, first int) error {
	s := newScanner(src, limits)
	defer s.done()
	if len(src) < least || limits.Repeats > 0 || limits.Names > 0 || runtime.GOMAXPROCS(0) == 1 {
		return s.through()
	}
	if reached, err := s.until(first); !reached {
		return err
	}
	level, at := s.row(len(src)/2 + first/2)
	if at < 0 {
		return s.through()
	}
	open := slices.Clone(s.open[:level+1])
	other := s.beginning(at, level)
	second := make(chan error, 1)
	go func() { second <- other.through() }()
	reached, err := s.until(at)
	rest := <-second
	switch {
	case !reached:
		return err
	case s.pos == at && slices.EqualFunc(s.open, open, func(a, b openElement) bool { return a.start == b.start }):
		return rest
	}
	return s.through()
}

// row is where another child of the element begins that has most children, from a place on, and
// how deep that element is; below 0 there is none.
func (s *Scanner) row(from int) (level, at int) {
	for i := range s.open {
		if s.open[i].children >= s.open[level].children {
			level = i
		}
	}
	const few = 4
	if s.open[level].children < few || s.pending {
		return 0, -1
	}
	var name []byte
	if level+1 < len(s.open) {
		name = s.src[s.open[level+1].start:s.open[level+1].end]
	} else if s.src[s.pos] == '<' {
		end, _, err := s.name(s.pos + 1)
		if err != nil {
			s.err = nil // it is met again where it stands
			return 0, -1
		}
		name = s.src[s.pos+1 : end]
	}
	tag := append([]byte{'<'}, name...)
	const within = 1 << 20
	for end := min(from+within, len(s.src)); from < end; {
		i := bytes.Index(s.src[from:end], tag)
		if i < 0 {
			return 0, -1
		}
		from += i
		behind := s.src[min(from+len(tag), len(s.src)-1)]
		if len(name) > 0 && from >= s.pos && behind < 0x80 && class[behind]&nameChar == 0 {
			return level, from
		}
		from++
	}
	return 0, -1
}

// beginning is another scanner, at a place where the elements down to a level are open.
func (s *Scanner) beginning(at, level int) *Scanner {
	o := newScanner(s.src, s.limits)
	bindings, ctx := len(s.bindings), s.ctx
	if level+1 < len(s.open) {
		bindings, ctx = int(s.open[level+1].bindings), s.open[level+1].ctx
	}
	o.open = append(o.open, s.open[:level+1]...)
	o.bindings = slices.Clone(s.bindings[:bindings])
	o.names, o.nameIDs = slices.Clone(s.names), maps.Clone(s.nameIDs)
	o.after = make([]cachedName, len(s.names))
	o.ctx, o.nextCtx, o.last = ctx, s.nextCtx, s.open[level].id
	o.pos, o.seenRoot = at, true
	return o
}

// through reads to the end.
func (s *Scanner) through() error {
	_, err := s.until(math.MaxInt)
	return err
}

// until reads as far as a place, or to the first token behind it; reached is false where the
// document ends before.
func (s *Scanner) until(stop int) (reached bool, err error) {
	usual := Token{Kind: StartElement}
	for n := 0; ; n++ {
		if n&0xffff == 0xffff && s.limits.stopped() {
			return false, ErrStopped
		}
		if len(s.open) > 0 && !s.pending {
			s.skipBlank()
			if s.pos >= stop {
				return true, nil
			}
			if s.usual(&usual) {
				continue
			}
		}
		t, err := s.Next()
		if err != nil || t.Kind == EOF {
			return false, err
		}
		if t.Kind == StartElement && !t.Empty {
			s.leaf()
		}
	}
}
