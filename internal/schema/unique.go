package schema

import (
	"fmt"
	"slices"
)

// maxPositions is up to how many elements of a content model are held against each other.
const maxPositions = 400

// spots are what a particle can begin and end with: leaves of a content model, which are elements
// or wildcards.
type spots struct {
	first, last []*Particle
	empty       bool
}

// Odd are the parts of the schemas that are used and are not as the standard wants them: what was
// noticed while they were read, and content models in which a child may belong to two particles
// (part 1 §3.8.6 cos-nonambig), of which ours takes the first; and types that restrict another one
// and allow what that does not.
func (s *Set) Odd() []Problem {
	s.Resolve()
	out := slices.Clone(s.Warnings)
	seen := map[*Complex]bool{}
	var look func(t Type)
	look = func(t Type) {
		c, ok := t.(*Complex)
		if !ok || seen[c] {
			return
		}
		seen[c] = true
		if a, b := s.clash(c); a != nil {
			why := fmt.Sprintf("a child may be %s or %s of its content: the model is not unique "+
				"(unique particle attribution)", leafLabel(a), leafLabel(b))
			out = append(out, Problem{What: typeLabel(c), Why: why, Where: c.At})
		}
		if why := s.beyond(c); why != "" {
			why = "it restricts " + typeLabel(c.Base) + " and goes beyond it: " + why
			out = append(out, Problem{What: typeLabel(c), Why: why, Where: c.At})
		}
		each(c.Content, 0, func(e *Element) { look(e.TypeOf()) })
	}
	for _, k := range s.order {
		switch k.kind {
		case "element":
			if e := s.Element(k.name); e != nil {
				look(e.TypeOf())
			}
		case "type":
			look(s.Type(k.name))
		}
	}
	return out
}

// each gives the elements of a content model to do.
func each(p *Particle, depth int, do func(*Element)) {
	if p == nil || depth > 30 {
		return
	}
	if p.Element != nil {
		do(p.Element)
	}
	if p.Group != nil {
		for _, q := range p.Group.Particles {
			each(q, depth+1, do)
		}
	}
}

// clash are two leaves of a content model that one child may belong to, nil where there are none.
func (s *Set) clash(t *Complex) (a, b *Particle) {
	if t.Content == nil {
		return nil, nil
	}
	if s.allDiffer(t.Content) {
		return nil, nil
	}
	u := &uniqueness{set: s, follow: map[*Particle][]*Particle{}}
	all := u.walk(t.Content, 0)
	if u.count > maxPositions {
		return nil, nil
	}
	if a, b := u.clash(all.first); a != nil {
		return a, b
	}
	for _, p := range u.order {
		if a, b := u.clash(u.follow[p]); a != nil {
			return a, b
		}
	}
	return nil, nil
}

// allDiffer tells that a content model has no wildcard and no two elements of one name, nor any
// that another may stand for: whatever repeats in it, a child has one place only.
func (s *Set) allDiffer(p *Particle) bool {
	const few = 24 // names are held against each other one by one: most models have fewer
	var names [few]QName
	n := 0
	var look func(p *Particle, depth int) bool
	look = func(p *Particle, depth int) bool {
		switch {
		case p.Any != nil || n == few || depth > 30:
			return false
		case p.Element != nil:
			if slices.Contains(names[:n], p.Element.Name) || p.Element.Global && len(s.members[p.Element.Name]) > 0 {
				return false
			}
			names[n] = p.Element.Name
			n++
		case p.Group != nil:
			for _, q := range p.Group.Particles {
				if !look(q, depth+1) {
					return false
				}
			}
		}
		return true
	}
	return look(p, 0)
}

func leafLabel(p *Particle) string {
	if p.Element != nil {
		return "the element " + p.Element.Name.Local
	}
	return "any element"
}

type uniqueness struct {
	set    *Set
	follow map[*Particle][]*Particle
	order  []*Particle
	count  int
}

// walk finds what a particle begins and ends with, and notes what may follow what.
func (u *uniqueness) walk(p *Particle, depth int) spots {
	if depth > 30 || u.count > maxPositions {
		return spots{empty: true}
	}
	var out spots
	switch {
	case p.Max == 0:
		return spots{empty: true}
	case p.Group == nil:
		leaf := &Particle{Element: p.Element, Any: p.Any} // one for each place at which it stands
		u.count++
		u.order = append(u.order, leaf)
		out = spots{first: []*Particle{leaf}, last: []*Particle{leaf}}
	case p.Group.Compositor == Choice:
		out.empty = len(p.Group.Particles) == 0
		for _, q := range p.Group.Particles {
			in := u.walk(q, depth+1)
			out.first, out.last = append(out.first, in.first...), append(out.last, in.last...)
			out.empty = out.empty || in.empty
		}
	case p.Group.Compositor == All:
		out.empty = true
		for _, q := range p.Group.Particles {
			in := u.walk(q, depth+1)
			out.first, out.last = append(out.first, in.first...), append(out.last, in.last...)
			out.empty = out.empty && in.empty
		}
	default:
		out = u.sequence(p.Group, depth)
	}
	if p.Max != 1 && p.Min != p.Max { // it may come again, or be left
		u.link(out.last, out.first)
	}
	out.empty = out.empty || p.Min == 0
	return out
}

func (u *uniqueness) sequence(g *Group, depth int) spots {
	out := spots{empty: true}
	for _, q := range g.Particles {
		in := u.walk(q, depth+1)
		u.link(out.last, in.first)
		if out.empty {
			out.first = append(out.first, in.first...)
		}
		if in.empty {
			out.last = append(out.last, in.last...)
		} else {
			out.last = in.last
		}
		out.empty = out.empty && in.empty
	}
	return out
}

func (u *uniqueness) link(from, to []*Particle) {
	for _, a := range from {
		u.follow[a] = append(u.follow[a], to...)
	}
}

// clash are two leaves that one child may belong to, nil where there are none.
func (u *uniqueness) clash(all []*Particle) (a, b *Particle) {
	names := map[QName]*Particle{}
	var wild []*Particle
	for _, p := range all {
		if p.Any != nil {
			for _, o := range wild {
				if both, ok := p.Any.intersect(o.Any); p != o &&
					(!ok || both.Any || both.Not || len(both.Spaces) > 0) {
					return o, p
				}
			}
			wild = append(wild, p)
			continue
		}
		for _, e := range u.set.Substitutes(p.Element) {
			if o := names[e.Name]; o != nil && o != p {
				return o, p
			}
			names[e.Name] = p
		}
	}
	for _, w := range wild {
		for _, p := range all {
			if p.Any == nil && w.Any.Allows(p.Element.Name.Space) {
				return p, w
			}
		}
	}
	return nil, nil
}
