// Package code writes programs that make a call that works here: a client with a function for
// each operation, in the idioms of a language and with its standard library alone, and an
// example that makes this very call.
package code

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"orenda/internal/contract"
	"orenda/internal/pattern"
	"orenda/internal/schema"
)

// Kind is what a value is in a program.
type Kind string

// The kinds of values. Int fits into 64 bits, Long may not; Decimal keeps its digits.
const (
	Struct  Kind = "struct"
	Enum    Kind = "enum"
	String  Kind = "string"
	Bool    Kind = "bool"
	Int     Kind = "int"
	Long    Kind = "long"
	Decimal Kind = "decimal"
	Float   Kind = "float"
	Date    Kind = "date"
	Time    Kind = "time"
	Moment  Kind = "dateTime"
	Bytes   Kind = "base64"
)

// Type is a structure or an enumeration of a program.
type Type struct {
	Kind   Kind     // Struct or Enum
	Name   string   // as its elements and types are called; the writers bring it into their form
	Doc    string   // in a sentence, "" none
	Fields []*Field // of a structure, in their order
	Values []Choice // of an enumeration
	Open   bool     // more may stand in it than the fields: it is not read
	Sent   bool     // it stands in a request: the program writes it
	Came   bool     // it stands in a reply or a fault: the program reads it
}

// Choice is a value of an enumeration.
type Choice struct {
	Text string // as it stands in a message
	ID   string // its name in the program, before a writer brings it into its form
}

// Field is a part of a structure.
type Field struct {
	Local    string // name of the element or of the attribute
	Space    string // its namespace, "" none
	ID       string // name in the program, before a writer brings it into its form
	Attr     bool   // it is an attribute
	Text     bool   // it is the text of the element itself
	Many     bool   // a list
	Optional bool   // it may be left out
	Nil      bool   // it may be nil
	Choice   string // "" or the names of which one stands
	Kind     Kind   // of a value
	Of       *Type  // of a structure or an enumeration
	Doc      string // in a sentence
}

// stands is how often an element stands: all of them, optional, or required; "" an attribute and a text.
func (f *Field) stands() string {
	switch {
	case f.Text, f.Attr:
		return ""
	case f.Many:
		return "all"
	case f.Optional || f.Nil:
		return "optional"
	}
	return "required"
}

// converted tells whether the text of an element is made a value of another type.
func (f *Field) converted() bool { return !f.Attr && f.Kind != Struct && f.Kind != String }

// Fault is a fault that an operation declares.
type Fault struct {
	Local, Space string // of the element in the detail
	Of           *Type  // what stands in it
}

// Operation is one that the program calls.
type Operation struct {
	Name, Doc, Action string   // of it; in a sentence; SOAP action
	In                *Type    // of the element in the body
	InLocal, InSpace  string   // name and namespace of that element
	Out               *Type    // nil: no reply is due
	OutLocal          string   // name of the element in the reply
	Faults            []*Fault // that it declares
}

// Program is what a client is written of.
type Program struct {
	Name       string       // of the service
	Source     string       // the description
	Operations []*Operation // that it calls
	Types      []*Type      // structures and enumerations, each before it is used where that can be
	Settings   Settings     // of the call
	Call       *Operation   // that the example makes
	Value      *Value       // with this message
	Missing    []string     // what the program does not do that the call did, in words
}

// Settings are those of the call, as far as a program takes them.
type Settings struct {
	Address     string   // of the service
	Prefix      string   // of the environment's variables
	SOAP12      bool     // else 1.1
	Header      string   // header blocks, as they are sent
	User        string   // of the identity
	Token       string   // "", text or digest
	Basic       bool     // HTTP authentication
	Bearer      bool     // its token is the secret
	Timestamp   int      // seconds that a timestamp holds; 0 none
	Sign        []string // body, timestamp: the parts that are signed (WS-Security 1.1 §8)
	SignHash    string   // sha256, sha384 or sha512
	ConnectTime int      // seconds
	AnswerTime  int      // seconds
	MaxReply    int64    // bytes
	Trust       string   // file beside the program, "" the system's
	ClientCert  string   // file, "" none
	ClientKey   string   // file, "" in the same
	Proxy       string   // address, "" by the environment
}

// Secret tells whether the program needs a secret.
func (s *Settings) Secret() bool { return s.Token != "" || s.Basic || s.Bearer }

// Signs tells whether a part is signed.
func (s *Settings) Signs(part string) bool { return slices.Contains(s.Sign, part) }

// maker makes types of a program out of a schema's.
type maker struct {
	set   *schema.Set
	types map[schema.Type]*Type
	names map[string]bool
	out   []*Type
}

// operations makes the operations of a program.
func (m *maker) operations(port *contract.Port, only []string) (out []*Operation) {
	for _, o := range port.Operations {
		if len(only) > 0 && !slices.Contains(only, o.Name) || o.Input == nil || o.Input.Element == nil {
			continue
		}
		in := o.Input.Element
		op := &Operation{
			Name: o.Name, Doc: oneLine(o.Documentation), Action: o.Action,
			InLocal: in.Name.Local, InSpace: in.Name.Space, In: m.structOf(in.TypeOf(), in.Name.Local),
		}
		if o.Output != nil && o.Output.Element != nil {
			op.OutLocal = o.Output.Element.Name.Local
			op.Out = m.structOf(o.Output.Element.TypeOf(), op.OutLocal)
		}
		for _, f := range o.Faults {
			if f.Element != nil {
				name := f.Element.Name
				op.Faults = append(
					op.Faults,
					&Fault{name.Local, name.Space, m.structOf(f.Element.TypeOf(), name.Local)},
				)
			}
		}
		out = append(out, op)
	}
	return out
}

// oneLine is a text from outside as it may stand in a comment of any of the languages: in one
// line, and without what would end the comment.
func oneLine(s string) string {
	s = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, s)
	return comments.Replace(strings.Join(strings.Fields(s), " "))
}

//nolint:gochecknoglobals // a table: it is never written to
var comments = strings.NewReplacer("*/", "* /", "?>", "? >", `"""`, "'''", `\`, "/", "`", "'", "{@", "{ @")

// enumWords are names that the types of enumerations have for their own in some language.
const enumWords = "class value values name names mro none cases from try_from value_of to_string"

// choices are the values of an enumeration, each with a name of its own.
func choices(values []string) (out []Choice) {
	seen := map[string]bool{}
	for _, w := range strings.Fields(enumWords) {
		seen[w] = true
	}
	for _, v := range values {
		id := v
		for n := 2; seen[Snake(id)]; n++ {
			id = fmt.Sprintf("%s %d", v, n)
		}
		seen[Snake(id)] = true
		out = append(out, Choice{v, id})
	}
	return out
}

// writable refuses names that XML does not have, and namespaces that cannot stand in the texts of
// a program: a description comes from outside, and is not to write code.
func (p *Program) writable() error {
	for _, q := range p.prefixes() {
		if strings.ContainsAny(q.Space, "\"'\\`$<>{}\n\r\t ") || strings.ContainsFunc(q.Space, unicode.IsControl) {
			return fmt.Errorf("the namespace %q cannot stand in a program", q.Space)
		}
	}
	var names []string
	for _, o := range p.Operations {
		names = append(names, o.Name, o.InLocal)
		if o.OutLocal != "" {
			names = append(names, o.OutLocal)
		}
		for _, f := range o.Faults {
			names = append(names, f.Local)
		}
	}
	for _, t := range p.Types {
		for _, f := range t.Fields {
			names = append(names, f.Local)
		}
	}
	for _, n := range names {
		if !ncName.MatchString(n) {
			return fmt.Errorf("%q is no name of XML, and stands in no program", n)
		}
	}
	return nil
}

var ncName = pattern.New(`^[\p{L}_][\p{L}\p{N}\p{M}_.\-]*$`)

// unique is a name that no type has yet.
func (m *maker) unique(name string) string {
	out := name
	for n := 2; m.names[Pascal(out)]; n++ {
		out = name + string(rune('0'+n))
	}
	m.names[Pascal(out)] = true
	return out
}

// structOf is the structure of an element's type; of a simple type, one with its text.
func (m *maker) structOf(t schema.Type, name string) *Type {
	if known := m.types[t]; known != nil {
		return known
	}
	of := &Type{Kind: Struct, Doc: oneLine(t.Documentation())}
	of.Name = m.unique(cmp.Or(t.TypeName().Local, name))
	m.types[t] = of
	c, ok := t.(*schema.Complex)
	if !ok {
		of.Fields = []*Field{m.simple(&Field{Local: "value", Text: true}, t.(*schema.Simple), name)}
		m.out = append(m.out, of)
		return of
	}
	for _, a := range c.Attrs {
		if a.Prohibited {
			continue
		}
		of.Fields = append(of.Fields, m.simple(&Field{
			Local: a.Name.Local, Space: a.Name.Space, Attr: true, Optional: !a.Required, Doc: oneLine(a.Doc),
		}, a.Type, of.Name+" "+a.Name.Local))
	}
	if c.Simple != nil {
		of.Fields = append(of.Fields, m.simple(&Field{Local: "value", Text: true}, c.Simple, of.Name+" value"))
	}
	of.Open = c.Mixed || c.ArrayOf != nil
	if c.Content != nil {
		m.particle(of, c.Content, false, false, "")
	}
	of.settle()
	m.out = append(m.out, of)
	return of
}

// settle gives the fields of a structure names of their own.
func (t *Type) settle() {
	seen := map[string]bool{}
	for _, f := range t.Fields {
		f.ID = f.Local
		for n := 2; seen[Snake(f.ID)]; n++ {
			f.ID = f.Local + string(rune('0'+n))
			if f.Attr {
				f.ID = f.Local + " attribute"
			}
		}
		seen[Snake(f.ID)] = true
	}
}

// particle adds the elements of a model group to a structure.
func (m *maker) particle(of *Type, p *schema.Particle, optional, many bool, choice string) {
	optional = optional || p.Min == 0
	many = many || p.Max != 1
	switch {
	case p.Any != nil:
		of.Open = true
	case p.Element != nil:
		m.element(of, p.Element, optional, many, choice)
	case p.Group != nil:
		if p.Group.Compositor == schema.Choice {
			var names []string
			for _, q := range p.Group.Particles {
				names = append(names, firstNames(q)...)
			}
			choice, optional = strings.Join(names, " or "), true
		}
		for _, q := range p.Group.Particles {
			m.particle(of, q, optional, many, choice)
		}
	}
}

func firstNames(p *schema.Particle) (out []string) {
	switch {
	case p.Element != nil:
		return []string{p.Element.Name.Local}
	case p.Group != nil:
		for _, q := range p.Group.Particles {
			out = append(out, firstNames(q)...)
		}
	}
	return out
}

func (m *maker) element(of *Type, e *schema.Element, optional, many bool, choice string) {
	for _, f := range of.Fields { // it may stand at two places: a list then
		if !f.Attr && f.Local == e.Name.Local && f.Space == e.Name.Space {
			f.Many = true
			return
		}
	}
	f := &Field{
		Local: e.Name.Local, Space: e.Name.Space, Many: many, Optional: optional, Nil: e.Nillable,
		Choice: choice, Doc: oneLine(e.Doc),
	}
	of.Fields = append(of.Fields, f)
	switch t := e.TypeOf().(type) {
	case *schema.Simple:
		m.simple(f, t, of.Name+" "+e.Name.Local)
	default:
		f.Kind, f.Of = Struct, m.structOf(t, of.Name+" "+e.Name.Local)
	}
}

// simple settles what the values of a field are.
func (m *maker) simple(f *Field, t *schema.Simple, name string) *Field {
	f.Kind = kindOf(t)
	if bounds := oneLine(schema.Bounds(t)); f.Doc == "" && strings.Contains(bounds, "‹") &&
		!strings.Contains(schema.Bounds(t), `\`) { // a pattern that a comment cannot hold as it is
		f.Doc = bounds
	}
	values := schema.Allowed(t)
	if f.Kind != String || len(values) == 0 || len(values) > 200 {
		return f
	}
	if m.types[t] == nil {
		m.types[t] = &Type{
			Kind: Enum, Name: m.unique(cmp.Or(t.Name.Local, name)), Doc: oneLine(t.Doc), Values: choices(values),
		}
		m.out = append(m.out, m.types[t])
	}
	f.Kind, f.Of, f.Doc = Enum, m.types[t], ""
	return f
}

// kindOf is what the values of a simple type are; lists and unions are text.
func kindOf(t *schema.Simple) Kind {
	if t.Variety != schema.Atomic {
		return String
	}
	switch t.Primitive {
	case "boolean":
		return Bool
	case "float", "double":
		return Float
	case "date":
		return Date
	case "time":
		return Time
	case "dateTime":
		return Moment
	case "base64Binary":
		return Bytes
	case "decimal":
		switch t.BuiltinName() {
		case "long", "int", "short", "byte", "unsignedInt", "unsignedShort", "unsignedByte":
			return Int
		case "integer",
			"nonNegativeInteger",
			"positiveInteger",
			"nonPositiveInteger",
			"negativeInteger",
			"unsignedLong":
			return Long
		}
		return Decimal
	}
	return String
}

// usedFrom are the types that are reached from some, in the order in which they were made.
func (m *maker) usedFrom(ops []*Operation) (out []*Type) {
	var reach func(t *Type, mark func(t *Type) *bool)
	reach = func(t *Type, mark func(t *Type) *bool) {
		if t == nil || *mark(t) {
			return
		}
		*mark(t) = true
		for _, f := range t.Fields {
			reach(f.Of, mark)
		}
	}
	sent, came := func(t *Type) *bool { return &t.Sent }, func(t *Type) *bool { return &t.Came }
	for _, o := range ops {
		reach(o.In, sent)
		reach(o.Out, came)
		for _, f := range o.Faults {
			reach(f.Of, came)
		}
	}
	for _, t := range m.out {
		if t.Sent || t.Came {
			out = append(out, t)
		}
	}
	return out
}
