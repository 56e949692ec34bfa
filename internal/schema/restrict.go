package schema

import (
	"fmt"
	"slices"
)

// What a type derived by restriction allows, its base must allow too (part 1 §3.4.6
// derivation-ok-restriction). Attributes and simple content are held against the base by the
// clauses of the standard. Content models are held against each other by what they allow, child
// for child, as XML Schema 1.1 has it (§3.4.6.4 content type restricts): the table of 1.0 (§3.9.6)
// compares how the models are written, and refuses some that allow nothing new.

// beyond tells in what a type goes beyond the base that it restricts, "" in nothing.
func (s *Set) beyond(t *Complex) string {
	base, ok := t.Base.(*Complex)
	if !ok || t.Extends || base == AnyType() || t.ArrayOf != nil {
		return ""
	}
	if why := attributesBeyond(t, base); why != "" {
		return why
	}
	if t.Simple != nil {
		switch {
		case base.Simple == nil && base.Mixed && emptiable(base):
			return ""
		case base.Simple == nil:
			return "its content is text, and that of its base is not"
		case !derivedFrom(t.Simple, base.Simple, 0):
			return "its text is of another type than that of its base"
		}
		return ""
	}
	switch {
	case base.Simple != nil:
		return "its base has text as content, and it has not"
	case t.Mixed && !base.Mixed:
		return "text may stand between its children, and not between those of its base"
	case t.Content == nil && emptiable(base),
		t.Content != nil && base.Content != nil && within(t.Content, base.Content, 0):
		return ""
	case t.Content == nil:
		return "it has no children, and its base demands some"
	}
	return s.contentBeyond(t.Content, base.Content)
}

// attributesBeyond holds attributes against those of the base (derivation-ok-restriction.2 to 4).
func attributesBeyond(t, base *Complex) string {
	of := func(c *Complex, name QName) *Attribute {
		if i := slices.IndexFunc(c.Attrs, func(a *Attribute) bool { return a.Name == name }); i >= 0 {
			return c.Attrs[i]
		}
		return nil
	}
	for _, a := range t.Attrs {
		b := of(base, a.Name)
		switch {
		case b == nil && (base.AnyAttr == nil || !base.AnyAttr.Allows(a.Name.Space)):
			return fmt.Sprintf("the attribute %s is not one of its base", a.Name.Local)
		case b == nil || a == b:
		case b.Required && !a.Required:
			return fmt.Sprintf("the attribute %s may be left out, and its base demands it", a.Name.Local)
		case !derivedFrom(a.Type, b.Type, 0):
			return fmt.Sprintf("the attribute %s is of another type than in its base", a.Name.Local)
		case b.Fixed != nil && (a.Fixed == nil || !equal(b.Type, *a.Fixed, *b.Fixed)):
			return fmt.Sprintf("the attribute %s may have another value than the fixed one of its base", a.Name.Local)
		}
	}
	for _, b := range base.Attrs {
		if b.Required && of(t, b.Name) == nil {
			return fmt.Sprintf("the attribute %s is missing, and its base demands it", b.Name.Local)
		}
	}
	return wildcardBeyond(t, base)
}

func wildcardBeyond(t, base *Complex) string {
	switch {
	case t.AnyAttr == nil:
	case base.AnyAttr == nil:
		return "it allows any attribute, and its base does not"
	case !base.AnyAttr.includes(t.AnyAttr):
		return "it allows attributes of namespaces that its base does not"
	case strictness(t.AnyAttr) < strictness(base.AnyAttr):
		return "it checks further attributes less than its base"
	}
	return ""
}

func strictness(w *Wildcard) int { return slices.Index([]string{"skip", "lax", "strict"}, w.Process) }

// includes tells whether a wildcard allows all that another one does (part 1 §3.10.6 cos-ns-subset).
func (w *Wildcard) includes(o *Wildcard) bool {
	switch {
	case w.Any || w.same(o):
		return true
	case o.Any:
		return false
	case o.Not: // all namespaces but one, and not none
		return w.Not && w.Spaces[0] == ""
	}
	return !slices.ContainsFunc(o.Spaces, func(space string) bool { return !w.Allows(space) })
}

// derivedFrom tells whether a simple type is another one, or restricts it (part 1 §3.14.6
// cos-st-derived-ok).
func derivedFrom(t, base *Simple, depth int) bool {
	if t == base || base == Builtin("anySimpleType") || depth > maxDerivations {
		return true
	}
	for b, i := t, 0; b != nil && i < maxDerivations; b, i = b.Base, i+1 {
		if b == base || b.Name == base.Name && b.Name != (QName{}) {
			return true
		}
	}
	return base.Variety == Union &&
		slices.ContainsFunc(base.Members, func(m *Simple) bool { return derivedFrom(t, m, depth+1) })
}

// emptiable tells whether a type's content may be nothing (part 1 §3.9.6 cos-group-emptiable).
func emptiable(t *Complex) bool { return t.Content == nil || mayBeNothing(t.Content, 0) }

func mayBeNothing(p *Particle, depth int) bool {
	switch {
	case p.Min == 0 || depth > maxNesting:
		return true
	case p.Group == nil:
		return false
	case p.Group.Compositor == Choice:
		return slices.ContainsFunc(p.Group.Particles, func(q *Particle) bool { return mayBeNothing(q, depth+1) })
	}
	return !slices.ContainsFunc(p.Group.Particles, func(q *Particle) bool { return !mayBeNothing(q, depth+1) })
}

const maxNesting = 30

// within tells whether a particle is written as its base is, with bounds within those of it: the
// usual case, which needs no automaton (part 1 §3.9.6 rcase-Recurse).
func within(p, base *Particle, depth int) bool {
	if depth > maxNesting || p.Min < base.Min || base.Max != Unbounded && (p.Max == Unbounded || p.Max > base.Max) {
		return false
	}
	switch {
	case p.Element != nil:
		b := base.Element
		return b != nil && p.Element.Name == b.Name && elementBeyond(p.Element, b) == ""
	case p.Any != nil:
		return base.Any != nil && base.Any.includes(p.Any) && strictness(p.Any) >= strictness(base.Any)
	case base.Group == nil || p.Group.Compositor != base.Group.Compositor ||
		len(p.Group.Particles) != len(base.Group.Particles):
		return false
	}
	for i, q := range p.Group.Particles {
		if !within(q, base.Group.Particles[i], depth+1) {
			return false
		}
	}
	return true
}

// elementBeyond tells in what an element goes beyond the one of its name in the base, "" in nothing
// (part 1 §3.9.6 rcase-NameAndTypeOK).
func elementBeyond(e, base *Element) string {
	if e == base {
		return ""
	}
	switch t, b := e.TypeOf(), base.TypeOf(); {
	case e.Nillable && !base.Nillable:
		return "may be nil, and not in its base"
	case base.Fixed != nil && (e.Fixed == nil || *e.Fixed != *base.Fixed &&
		(SimpleOf(b) == nil || !equal(SimpleOf(b), *e.Fixed, *base.Fixed))):
		return "may have another value than the fixed one of its base"
	case base.Block&^e.Block != 0:
		return "blocks less than in its base"
	case !restricts(t, b):
		return "is of a type that does not restrict that of its base"
	}
	return ""
}

// restricts tells whether a type is another one, or derived from it by restriction alone.
func restricts(t, base Type) bool {
	if t == base || base == Type(AnyType()) {
		return true
	}
	simple, is := t.(*Simple)
	of, both := base.(*Simple)
	if is && both {
		return derivedFrom(simple, of, 0)
	}
	for i := 0; t != nil && i < maxDerivations; i++ {
		if t == base || t.TypeName() == base.TypeName() && t.TypeName() != (QName{}) {
			return true
		}
		if method(t) == ByExtension {
			return false
		}
		t = baseOf(t)
	}
	return false
}

// contentBeyond tells what a content model allows that its base does not, "" nothing, or more than
// is looked through.
func (s *Set) contentBeyond(content, base *Particle) string {
	own, of := machineOf(content), machineOf(base)
	if own == nil || of == nil {
		return ""
	}
	type pair struct {
		at   int
		base string
	}
	type step struct {
		at   int
		base []int
	}
	seen := map[pair]bool{}
	look := []step{{own.start(), []int{of.start()}}}
	for len(look) > 0 {
		one := look[len(look)-1]
		look = look[:len(look)-1]
		key := pair{one.at, fmt.Sprint(one.base)}
		if seen[key] {
			continue
		}
		if seen[key] = true; len(seen) > maxPairs {
			return ""
		}
		if own.ends(one.at) && !slices.ContainsFunc(one.base, of.ends) {
			return "its content may end where that of its base demands more"
		}
		for _, m := range own.moves(one.at) {
			tos, why := s.after(m.leaf, of, one.base)
			if why != "" {
				return why
			}
			for _, to := range tos {
				look = append(look, step{m.to, to})
			}
		}
	}
	return ""
}

// maxPairs is how many pairs of places are looked through.
const maxPairs = 20_000

// after is where the base is after a child of a leaf: at a set of places for each name that the
// leaf may have. why tells what the base does not allow.
func (s *Set) after(leaf *Particle, of machine, at []int) (tos [][]int, why string) {
	var moves []move
	for _, b := range at {
		moves = append(moves, of.moves(b)...)
	}
	take := func(fits func(base *Particle) bool) (to []int) {
		for _, m := range moves {
			if !slices.Contains(to, m.to) && fits(m.leaf) {
				to = append(to, m.to)
			}
		}
		slices.Sort(to)
		return to
	}
	if leaf.Any != nil {
		to := take(func(base *Particle) bool {
			return base.Any != nil && base.Any.includes(leaf.Any) && strictness(leaf.Any) >= strictness(base.Any)
		})
		if to == nil {
			return nil, "it allows any element where its base does not"
		}
		return [][]int{to}, ""
	}
	for _, e := range s.Substitutes(leaf.Element) {
		named := ""
		to := take(func(base *Particle) bool {
			if base.Any != nil {
				return base.Any.Allows(e.Name.Space)
			}
			for _, b := range s.Substitutes(base.Element) {
				if b.Name == e.Name {
					if named = elementBeyond(e, b); named == "" {
						return true
					}
				}
			}
			return false
		})
		switch {
		case to == nil && named != "":
			return nil, fmt.Sprintf("the element %s %s", e.Name.Local, named)
		case to == nil:
			return nil, fmt.Sprintf("it allows the element %s where its base does not", e.Name.Local)
		}
		tos = append(tos, to)
	}
	return tos, ""
}

// machine is an automaton of what a content model allows.
type machine interface {
	start() int
	ends(at int) bool
	moves(at int) []move
}

// move is a child, and where it leads.
type move struct {
	leaf *Particle
	to   int
}

// machineOf is the automaton of a content model, nil where that has too many places.
func machineOf(p *Particle) machine {
	if p == nil {
		return &places{empty: true}
	}
	if g := p.Group; g != nil && g.Compositor == All && p.Max == 1 {
		if len(g.Particles) > maxAll {
			return nil
		}
		return &allOf{g.Particles, p.Min == 0}
	}
	m := &places{}
	all := m.particle(p, 0)
	if m.many {
		return nil
	}
	m.first, m.empty = all.first, all.empty
	m.last = map[int]bool{}
	for _, l := range all.last {
		m.last[l] = true
	}
	return m
}

// maxAll is how many children of xs:all are held against others in any order.
const maxAll = 12

// allOf is xs:all: a place is the set of its particles that have come.
type allOf struct {
	particles []*Particle
	optional  bool
}

func (a *allOf) start() int { return 0 }

func (a *allOf) ends(at int) bool {
	if at == 0 && a.optional {
		return true
	}
	for i, p := range a.particles {
		if p.Min > 0 && at&(1<<i) == 0 {
			return false
		}
	}
	return true
}

func (a *allOf) moves(at int) (out []move) {
	for i, p := range a.particles {
		if p.Max != 0 && at&(1<<i) == 0 {
			out = append(out, move{p, at | 1<<i})
		}
	}
	return out
}

// places is a position automaton: each leaf stands at one place or, where it may come several
// times, at several. Place 0 is before all.
type places struct {
	leaves []*Particle // of place n at n-1
	next   [][]int     // what may follow a place, at n-1
	first  []int
	last   map[int]bool
	empty  bool
	many   bool // it has too many places
}

func (m *places) start() int { return 0 }

func (m *places) ends(at int) bool { return at == 0 && m.empty || m.last[at] }

func (m *places) moves(at int) (out []move) {
	next := m.first
	if at > 0 {
		next = m.next[at-1]
	}
	for _, n := range next {
		out = append(out, move{m.leaves[n-1], n})
	}
	return out
}

// spread is what a particle begins and ends with, by places.
type spread struct {
	first, last []int
	empty       bool
}

func (m *places) particle(p *Particle, depth int) spread {
	out := spread{empty: true}
	if depth > maxNesting {
		m.many = true
	}
	copies := p.Max
	if p.Max == Unbounded {
		copies = max(p.Min, 1)
	}
	for i := 0; i < copies && !m.many; i++ {
		one := m.once(p, depth)
		if p.Max == Unbounded && i == copies-1 {
			m.link(one.last, one.first)
		}
		one.empty = one.empty || i >= p.Min
		out = m.then(out, one)
	}
	return out
}

func (m *places) once(p *Particle, depth int) spread {
	if p.Group == nil {
		m.leaves, m.next = append(m.leaves, p), append(m.next, nil)
		m.many = m.many || len(m.leaves) > maxPositions
		at := []int{len(m.leaves)}
		return spread{first: at, last: at}
	}
	out := spread{empty: p.Group.Compositor != Choice || len(p.Group.Particles) == 0}
	if p.Group.Compositor == All { // within another group: 1.0 knows none
		m.many = true
	}
	for _, q := range p.Group.Particles {
		one := m.particle(q, depth+1)
		if p.Group.Compositor != Choice {
			out = m.then(out, one)
			continue
		}
		out = spread{slices.Concat(out.first, one.first), slices.Concat(out.last, one.last), out.empty || one.empty}
	}
	return out
}

// then is one after the other.
func (m *places) then(a, b spread) spread {
	m.link(a.last, b.first)
	out := spread{first: a.first, last: b.last, empty: a.empty && b.empty}
	if a.empty {
		out.first = slices.Concat(a.first, b.first)
	}
	if b.empty {
		out.last = slices.Concat(a.last, b.last)
	}
	return out
}

func (m *places) link(from, to []int) {
	for _, a := range from {
		for _, b := range to {
			if !slices.Contains(m.next[a-1], b) {
				m.next[a-1] = append(m.next[a-1], b)
			}
		}
	}
}
