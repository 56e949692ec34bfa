package schema

import (
	"slices"
	"sync"
)

// startSet is what a particle can begin with. Names are numbers here, so that
// a child of a document is told with no look at its letters.
type startSet struct {
	ids   []int32
	elems []*Element    // the declaration that each stands for
	index map[int32]int // into elems, where there are many
	wild  []*Wildcard
	empty bool
}

// few is up to how many names are looked through one by one.
const few = 8

// element is the declaration that an element of that name stands for, or nil.
func (st *startSet) element(id int32) *Element {
	if st.index != nil {
		if i, ok := st.index[id]; ok {
			return st.elems[i]
		}
		return nil
	}
	for i, x := range st.ids {
		if x == id {
			return st.elems[i]
		}
	}
	return nil
}

func (st *startSet) add(id int32, e *Element) {
	if st.element(id) != nil {
		return
	}
	st.ids, st.elems = append(st.ids, id), append(st.elems, e)
	switch {
	case st.index != nil:
		st.index[id] = len(st.ids) - 1
	case len(st.ids) > few:
		st.index = make(map[int32]int, 2*few)
		for i, x := range st.ids {
			st.index[x] = i
		}
	}
}

func (st *startSet) labels() []string {
	var out []string
	for _, e := range st.elems {
		out = append(out, e.Name.Local)
	}
	slices.Sort(out)
	for _, w := range st.wild {
		if w.Any {
			out = append(out, "any element")
		} else {
			out = append(out, "an element of "+w.Namespace)
		}
	}
	return out
}

// compile prepares all content models for validation, once, and that of one
// more declaration, which may be no part of the set (the wrapper of rpc style).
// It is called under the set's lock: from then on models are only read.
func (s *Set) compile(decl *Element) {
	prepareShared()
	if s.ids == nil {
		s.ids = map[QName]int32{}
		for _, k := range s.order {
			switch k.kind {
			case "element":
				if e := s.Element(k.name); e != nil {
					s.compileType(e.TypeOf())
				}
			case "type":
				s.compileType(s.Type(k.name))
			}
		}
	}
	s.compileType(decl.TypeOf())
}

func (s *Set) compileType(t Type) {
	c, ok := t.(*Complex)
	if !ok || c.compiled {
		return
	}
	c.compiled = true
	for _, a := range c.Attrs {
		if a.Required {
			c.required++
		}
	}
	if c.Content != nil {
		s.start(c.Content)
		s.compileParticle(c.Content)
		c.counted = counted(c.Content, false, 0)
	}
}

func (s *Set) compileParticle(p *Particle) {
	if p.Element != nil {
		s.compileType(p.Element.TypeOf())
	}
	if p.Group != nil {
		for _, q := range p.Group.Particles {
			s.compileParticle(q)
		}
	}
}

// counted tells whether a repeated group holds anything that is repeated.
func counted(p *Particle, in bool, depth int) bool {
	many := p.Max < 0 || p.Max > 1
	if in && many || p.Group == nil || depth > 30 {
		return in && many
	}
	return slices.ContainsFunc(p.Group.Particles, func(q *Particle) bool { return counted(q, in || many, depth+1) })
}

// id is the number of a name.
func (s *Set) id(n QName) int32 {
	i, ok := s.ids[n]
	if !ok {
		i = int32(len(s.ids) + 1)
		s.ids[n] = i
	}
	return i
}

func (s *Set) start(p *Particle) *startSet {
	if p.starts != nil {
		return p.starts
	}
	st := &startSet{}
	p.starts = st
	switch {
	case p.Max == 0:
	case p.Element != nil:
		for _, e := range s.Substitutes(p.Element) {
			st.add(s.id(e.Name), e)
		}
	case p.Any != nil:
		st.wild = append(st.wild, p.Any)
	default:
		st.empty = p.Group.Compositor != Choice || len(p.Group.Particles) == 0
		for _, q := range p.Group.Particles {
			in := s.start(q)
			if p.Group.Compositor != Sequence || st.empty {
				for i, id := range in.ids {
					st.add(id, in.elems[i])
				}
				st.wild = append(st.wild, in.wild...)
			}
			if p.Group.Compositor == Choice {
				st.empty = st.empty || in.empty
			} else {
				st.empty = st.empty && in.empty
			}
		}
	}
	if p.Min == 0 || p.Max == 0 {
		st.empty = true
	}
	return st
}

//nolint:gochecknoglobals // what all sets share is prepared once
var sharedTypes sync.Once

// prepareShared prepares the types that all sets share; from then on they are only
// read.
func prepareShared() {
	sharedTypes.Do(func() {
		for _, t := range []Type{AnyType(), soapArray} {
			(&Set{}).compileType(t)
		}
	})
}
