package schema

import (
	"fmt"
	"slices"

	"orenda/internal/xmltree"
)

// automaton is that of a content model, made deterministic as it is used: its states are sets
// of places.
type automaton struct {
	of     machine
	states [][]int
	known  map[string]int
	steps  map[edge]turn
}

type edge struct {
	state int
	name  xmltree.NameID
}

// turn is where a child leads, and by what it is judged.
type turn struct {
	state int
	decl  *Element
	wild  *Wildcard
	wrong bool // it cannot stand here
	known bool // and can elsewhere in the model
}

// manyTimes is how often a child may come that is counted; more is as if there were no bound.
const manyTimes = 64

// modelOf is the automaton of a content model, nil where it has too many places.
func modelOf(p *Particle) *automaton {
	if p != nil {
		p = unbounded(p, 0)
	}
	of := machineOf(p)
	if of == nil {
		return nil
	}
	m := &automaton{of: of, known: map[string]int{}, steps: map[edge]turn{}}
	m.state([]int{of.start()})
	return m
}

// unbounded is a particle whose great bounds are none.
func unbounded(p *Particle, depth int) *Particle {
	c := *p
	if c.Max > manyTimes {
		c.Max = Unbounded
	}
	c.Min = min(c.Min, manyTimes)
	if c.Group != nil && depth < maxNesting {
		g := &Group{Compositor: c.Group.Compositor}
		for _, q := range c.Group.Particles {
			g.Particles = append(g.Particles, unbounded(q, depth+1))
		}
		c.Group = g
	}
	return &c
}

func (m *automaton) state(places []int) int {
	slices.Sort(places)
	places = slices.Compact(places)
	key := fmt.Sprint(places)
	if n, is := m.known[key]; is {
		return n
	}
	m.states = append(m.states, places)
	m.known[key] = len(m.states) - 1
	return m.known[key]
}

// step is where a child of a name leads from a state.
func (m *automaton) step(s *Set, state int, id xmltree.NameID, name xmltree.Name) turn {
	if t, is := m.steps[edge{state, id}]; is {
		return t
	}
	t := m.turn(s, m.movesOf(m.states[state]), NameOf(name))
	if t.state < 0 { // it goes on behind any place at which the child may stand
		t = turn{state: state, wrong: true}
		if p, is := m.of.(*places); is {
			var all []move
			for i, leaf := range p.leaves {
				all = append(all, move{leaf, i + 1})
			}
			if again := m.turn(s, all, NameOf(name)); again.state >= 0 {
				again.wrong, again.known = true, true
				t = again
			}
		}
	}
	m.steps[edge{state, id}] = t
	return t
}

func (m *automaton) movesOf(places []int) (out []move) {
	for _, at := range places {
		out = append(out, m.of.moves(at)...)
	}
	return out
}

func (m *automaton) turn(s *Set, moves []move, name QName) turn {
	t := turn{state: -1}
	var to []int
	for _, mv := range moves {
		if mv.leaf.Any != nil {
			if mv.leaf.Any.Allows(name.Space) {
				to = append(to, mv.to)
				if t.decl == nil && t.wild == nil {
					t.wild = mv.leaf.Any
				}
			}
			continue
		}
		for _, e := range s.Substitutes(mv.leaf.Element) {
			if e.Name == name {
				to = append(to, mv.to)
				if t.decl == nil {
					t.decl, t.wild = e, nil
				}
				break
			}
		}
	}
	if len(to) > 0 {
		t.state = m.state(to)
	}
	return t
}

// ends tells whether the content may end at a state.
func (m *automaton) ends(state int) bool { return slices.ContainsFunc(m.states[state], m.of.ends) }

// wants are the names that may come at a state.
func (m *automaton) wants(s *Set, state int) (out []string) {
	for _, mv := range m.movesOf(m.states[state]) {
		if mv.leaf.Any != nil {
			out = append(out, "any element")
			continue
		}
		for _, e := range s.Substitutes(mv.leaf.Element) {
			out = append(out, e.Name.Local)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
