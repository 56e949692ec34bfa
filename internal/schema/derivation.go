package schema

import (
	"strings"

	"orenda/internal/xmltree"
)

// Derivation is a set of ways in which one component stands for another.
type Derivation uint8

// The ways (part 1 §3.3.1, §3.4.1).
const (
	ByExtension Derivation = 1 << iota
	ByRestriction
	BySubstitution
)

// derivations reads block or final of a component, or what the schema sets for all of them.
func derivations(n xmltree.Node, name, usual string) (out Derivation) {
	value, ok := n.Attr("", name)
	if !ok {
		value = usual
	}
	for _, w := range strings.Fields(value) {
		switch w {
		case "#all":
			out |= ByExtension | ByRestriction | BySubstitution
		case "extension":
			out |= ByExtension
		case "restriction":
			out |= ByRestriction
		case "substitution":
			out |= BySubstitution
		}
	}
	return out
}

// method is how a type is derived from its base.
func method(t Type) Derivation {
	if c, ok := t.(*Complex); ok && c.Extends {
		return ByExtension
	}
	return ByRestriction
}

// blockedBy are the ways in which a type may not be stood for by another one.
func blockedBy(t Type) Derivation {
	if c, ok := t.(*Complex); ok {
		return c.Block
	}
	return 0
}

// mayStandFor tells whether t, which derives from base, may stand in its place where some ways of
// derivation are blocked (part 1 §3.4.6 cos-ct-derived-ok, §3.14.6).
func mayStandFor(t, base Type, blocked Derivation) bool {
	for i := 0; t != nil && t != base && i < maxDerivations; i++ {
		if method(t)&blocked != 0 {
			return false
		}
		t = baseOf(t)
	}
	return true
}

const maxDerivations = 1000

// baseOf is the type that a type is derived from, nil where it is none.
func baseOf(t Type) Type {
	switch x := t.(type) {
	case *Complex:
		if x.Base != Type(x) {
			return x.Base
		}
	case *Simple:
		if x.Base != nil {
			return x.Base
		}
	}
	return nil
}

// substitutable tells whether an element of a substitution group may stand for its head (part 1
// §3.3.6 cos-equiv-derived-ok-rec): neither the head, nor its type, nor a type between them blocks
// how the member's type is derived.
func substitutable(e, head *Element) bool {
	if head.Block&BySubstitution != 0 {
		return false
	}
	base := head.TypeOf()
	blocked := head.Block | blockedBy(base)
	ways := Derivation(0)
	t := e.TypeOf()
	for i := 0; t != nil && t != base && i < maxDerivations; i++ {
		ways |= method(t)
		if t = baseOf(t); t != nil && t != base {
			blocked |= blockedBy(t)
		}
	}
	return ways&blocked == 0
}

// derives tells of a type that is derived from one that forbids it; it is used all the same.
func (s *Set) derives(d *document, n xmltree.Node, t *Complex) {
	base, ok := t.Base.(*Complex)
	if ok && base.Final&method(t) != 0 {
		way := map[Derivation]string{ByExtension: "extended", ByRestriction: "restricted"}[method(t)]
		s.warn(d, n, base.Name.String(), "the type may not be %s (final), and %s is", way, typeLabel(t))
	}
}
