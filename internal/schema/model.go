// Package schema loads, resolves and applies XML Schema 1.0 (parts 1 and 2).
//
// A Set holds the components of any number of schema documents that refer to
// each other. Components are resolved once, when they are first asked for, so
// that recursion and references across documents need no order.
package schema

import (
	"cmp"
	"sync/atomic"

	"orenda/internal/xmltree"
)

// Namespaces of the standard.
const (
	XSD = "http://www.w3.org/2001/XMLSchema"
	XSI = "http://www.w3.org/2001/XMLSchema-instance"
)

// QName is an expanded name.
type QName struct{ Space, Local string } // namespace URI, "" none; local name

func (q QName) String() string {
	if q.Space == "" {
		return q.Local
	}
	return "{" + q.Space + "}" + q.Local
}

func (q QName) less(o QName) int {
	return cmp.Or(cmp.Compare(q.Space, o.Space), cmp.Compare(q.Local, o.Local))
}

// NameOf is the expanded name of a name in a document.
func NameOf(n xmltree.Name) QName { return QName{n.Space, n.Local} }

// Unbounded is the value of Max for maxOccurs="unbounded".
const Unbounded = -1

// Type is a *Simple or a *Complex.
type Type interface {
	// TypeName is the name, empty for an anonymous type.
	TypeName() QName
	// Documentation is the text of xs:documentation, white space folded.
	Documentation() string
}

// Element is an element declaration (part 1 §3.3).
type Element struct {
	Name     QName    // Space is empty where the element is unqualified
	Type     Type     // its type
	Nillable bool     // xsi:nil is allowed
	Abstract bool     // it cannot stand itself
	Default  *string  // the value where it is empty, nil none
	Fixed    *string  // the only value, nil none
	Head     *Element // of the substitution group that it belongs to
	Doc      string   // what it is for, in a sentence
	Global   bool     // it is declared at the top

	Block Derivation // ways in which nothing may stand for it
	Final Derivation // ways in which the type of one that stands for it may not be derived
	At    Place      // where it stands

	keys []*constraint
}

// Place is where a component stands in its source.
type Place struct {
	Source string // address of the document
	Offset int    // in bytes, from 0
}

// Compositor is the kind of a model group.
type Compositor uint8

// The model groups (part 1 §3.8).
const (
	Sequence Compositor = iota
	Choice
	All
)

func (c Compositor) String() string { return [...]string{"sequence", "choice", "all"}[c] }

// Particle is a term with its bounds (part 1 §3.9). Exactly one of Element,
// Group and Any is set.
type Particle struct {
	Min, Max int       // Max may be Unbounded
	Element  *Element  // one of Element, Group and Any is set
	Group    *Group    // a model group
	Any      *Wildcard // a wildcard

	starts *startSet
}

// Group is a model group.
type Group struct {
	Compositor Compositor  // sequence, choice or all
	Particles  []*Particle // in their order
}

// Wildcard is xs:any or xs:anyAttribute (part 1 §3.10).
type Wildcard struct {
	Process   string   // strict, lax or skip
	Any       bool     // ##any
	Not       bool     // ##other: any namespace but Spaces[0] and none
	Spaces    []string // the namespaces that are allowed
	Namespace string   // as written
}

// Allows tells whether the wildcard takes a name of that namespace.
func (w *Wildcard) Allows(space string) bool {
	if w.Any {
		return true
	}
	if w.Not {
		return space != "" && space != w.Spaces[0]
	}
	for _, s := range w.Spaces {
		if s == space {
			return true
		}
	}
	return false
}

// Attribute is an attribute with the use that a type makes of it.
type Attribute struct {
	Name       QName   // its name
	Type       *Simple // its type
	Required   bool    // it must be there
	Prohibited bool    // it must not be there
	Default    *string // the value where it is empty, nil none
	Fixed      *string // the only value, nil none
	Doc        string  // what it is for, in a sentence
}

// Complex is a complex type (part 1 §3.4).
type Complex struct {
	Name     QName        // its name
	Base     Type         // that it is derived from
	Extends  bool         // derived by extension; else by restriction
	Abstract bool         // it cannot stand itself
	Mixed    bool         // text may stand between elements
	Content  *Particle    // nil: no child elements
	Simple   *Simple      // simple content, else nil
	Attrs    []*Attribute // its attributes
	AnyAttr  *Wildcard    // nil none but those named
	ArrayOf  Type         // of the members, where it is an array of SOAP encoding; else nil
	Doc      string       // what it is for, in a sentence
	At       Place        // where it stands
	Block    Derivation   // ways in which no type may stand for it
	Final    Derivation   // ways in which no type may be derived from it

	compiled bool
	counted  bool // repeats groups of repeated things: how often each came is open
	required int  // attributes that are
}

// TypeName implements Type.
func (c *Complex) TypeName() QName { return c.Name }

// Documentation implements Type.
func (c *Complex) Documentation() string { return c.Doc }

// Variety tells atomic types from lists and unions (part 2 §2.5.1).
type Variety uint8

// The varieties.
const (
	Atomic Variety = iota
	List
	Union
)

// Simple is a simple type (part 2 §4.1).
type Simple struct {
	Name      QName     // its name
	Base      *Simple   // that it is derived from
	Variety   Variety   // atomic, list or union
	Primitive string    // of atomic types: string, decimal, dateTime, …
	Item      *Simple   // type of a list's items
	Members   []*Simple // types of a union
	Facets    Facets    // what restricts it
	Doc       string    // what it is for, in a sentence

	check func(string) string // lexical rule of a built-in type; "" is right
	known atomic.Pointer[rules]
}

// TypeName implements Type.
func (s *Simple) TypeName() QName { return s.Name }

// Documentation implements Type.
func (s *Simple) Documentation() string { return s.Doc }

// Facets are the constraints of one step of derivation and, for those that
// are set to nil or empty, of none (part 2 §4.3). Patterns of one step are
// alternatives; those of different steps must all match.
type Facets struct {
	Length, MinLength, MaxLength *int              // nil none; so are the others; characters, bytes or items
	TotalDigits, FractionDigits  *int              // of decimals
	MinInclusive, MaxInclusive   *string           // in the value space
	MinExclusive, MaxExclusive   *string           // in the value space
	Enumeration                  []string          // nil every value
	EnumDocs                     map[string]string // what each value means
	Patterns                     [][]*Pattern      // each group by a step of derivation
	names                        []QName           // what the enumeration means, where its values are names
	WhiteSpace                   string            // preserve, replace or collapse
}

// SimpleOf is the simple type of an element's content: its own, that of its
// simple content, or nil.
func SimpleOf(t Type) *Simple {
	switch t := t.(type) {
	case *Simple:
		return t
	case *Complex:
		return t.Simple
	}
	return nil
}

// BuiltinName is the nearest built-in type, by its local name.
func (s *Simple) BuiltinName() string {
	for t := s; t != nil; t = t.Base {
		if t.Name.Space == XSD && (s.Variety == Atomic || t.Name.Local != "anySimpleType") {
			return t.Name.Local
		}
	}
	switch s.Variety {
	case List:
		return "list of " + s.Item.BuiltinName()
	case Union:
		return "union"
	}
	return s.Primitive
}
