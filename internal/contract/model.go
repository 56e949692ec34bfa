// Package contract reads service descriptions: WSDL 1.1 and WSDL 2.0, with the
// schemas and policies in them. What it cannot use it names; the rest works.
package contract

import (
	"slices"
	"strings"
	"unicode"

	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Contract is a description with all that it imports.
type Contract struct {
	Source        string      // URL or path that it was loaded from
	Target        string      // target namespace
	Documentation string      // as the description has it
	Services      []*Service  // in their order
	Schemas       *schema.Set // all that its types say
	Demands       []Demand    // of its policies
	Unread        []Unread    // parts that could not be read
	Files         []File      // every document that was read, the description itself first
	PortTypes     int         // names
	Policies      []string    // where policies are, among Files, that are attached to it from outside

	docs map[string]*xmltree.Document // parsed, by location
}

// File is a document as it was fetched.
type File struct {
	Location string // absolute URL or path
	Bytes    []byte // as they came
}

// Unread is something that could not be used.
type Unread struct {
	What  string `json:"what"`  // what it is
	Where string `json:"where"` // in what, or at which address
	Why   string `json:"why"`   // in plain words, without the place

	document bool // it is a document that the description leads to
}

// Odd are the parts of its schemas that are used, and are not as the standard wants them.
func (c *Contract) Odd() []Unread {
	out := []Unread{}
	for _, p := range c.Schemas.Odd() {
		out = append(out, Unread{What: p.What, Where: p.Where.Source, Why: p.Why})
	}
	return out
}

// NotRead are the documents that the description leads to and that could not be
// read, each with the reason.
func (c *Contract) NotRead() (out []string) {
	for _, u := range c.Unread {
		if u.document {
			out = append(out, u.What+": "+u.Why)
		}
	}
	return out
}

// OfWhole tells whether it is a port, a binding or a document that is missing, not a detail
// of an operation.
func (u Unread) OfWhole() bool {
	return u.document || strings.HasPrefix(u.What, "port ") || strings.HasPrefix(u.What, "binding ")
}

// Demand is a policy in words.
type Demand struct {
	Text      string       `json:"text"` // in words
	Assertion schema.QName `json:"-"`    // name of the assertion
	At        string       `json:"at"`   // what it is attached to
	Optional  bool         `json:"-"`    // one of several alternatives, or marked so

	of []subject // all that it is attached to; At is the first
}

// Service is a wsdl:service.
type Service struct {
	Name, Namespace, Documentation string  // its name; namespace URI; as the description has it
	Ports                          []*Port // in their order
}

// Port is a wsdl:port with its binding.
type Port struct {
	Name       string       // of the port
	Service    *Service     // name of the service
	Binding    schema.QName // name of the binding
	PortType   schema.QName // name of the port type
	Address    string       // as the contract names it
	Transport  string       // the binding's transport URI
	Version    soap.Version // Unset where the binding is not SOAP
	Style      string       // document or rpc
	Operations []*Operation // in their order
	At         schema.Place // where it stands
}

// Operation is an operation of a port.
type Operation struct {
	Name, Documentation string            // its name; as the description has it
	Style, Use          string            // document or rpc; literal or encoded
	Action              string            // SOAP action, "" none
	HasAction           bool              // an action is declared, be it empty
	Input, Output       *Message          // Output is nil for one-way operations
	Faults              []*Message        // that are declared
	Headers             []*schema.Element // header blocks of the input
	HeaderFaults        []*Message        // about header blocks
	At                  schema.Place      // where it stands
	Port                *Port             // that serves it
}

// OneWay tells whether no reply is due.
func (o *Operation) OneWay() bool { return o.Output == nil }

// Message is an input, output or fault with the element that its body holds.
type Message struct {
	Name    string          // its name
	Action  string          // WS-Addressing action that the description gives, or ""
	Element *schema.Element // for rpc style, the wrapper (WSDL 1.1 §3.5)
	Parts   []Part          // in their order
}

// Part is a part of a message.
type Part struct {
	Name    string          // its name
	Element *schema.Element // nil where it has a type
	Type    schema.Type     // nil where it has an element
}

// Ports are the ports of all services.
func (c *Contract) Ports() []*Port {
	var out []*Port
	for _, s := range c.Services {
		out = append(out, s.Ports...)
	}
	return out
}

// Port is the port of that name, or nil.
func (c *Contract) Port(name string) *Port {
	for _, p := range c.Ports() {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Operation is the port's operation of that name, or nil.
func (p *Port) Operation(name string) *Operation {
	for _, o := range p.Operations {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// Has says whether a port offers the operation.
func (c *Contract) Has(operation string) bool {
	return slices.ContainsFunc(c.Ports(), func(p *Port) bool {
		return p.Version != soap.Unset && p.Operation(operation) != nil
	})
}

// OperationNames are the names of all callable operations, each once, in the
// order of the description.
func (c *Contract) OperationNames() []string {
	var out []string
	seen := map[string]bool{}
	for _, p := range c.Ports() {
		if p.Version == soap.Unset {
			continue
		}
		for _, o := range p.Operations {
			if !seen[o.Name] {
				seen[o.Name] = true
				out = append(out, o.Name)
			}
		}
	}
	return out
}

// PortsWith are the SOAP ports that serve an operation.
func (c *Contract) PortsWith(operation string) []*Port {
	var out []*Port
	for _, p := range c.Ports() {
		if p.Version != soap.Unset && p.Operation(operation) != nil {
			out = append(out, p)
		}
	}
	return out
}

// ByBody is the operation whose input has that body element, or nil.
func (p *Port) ByBody(name schema.QName) *Operation {
	for _, o := range p.Operations {
		if o.Input != nil && o.Input.Element != nil && o.Input.Element.Name == name {
			return o
		}
	}
	return nil
}

// Inputs are the names of the elements that the bodies of its operations hold, in their order.
func (p *Port) Inputs() (out []schema.QName) {
	for _, o := range p.Operations {
		if o.Input != nil && o.Input.Element != nil {
			out = append(out, o.Input.Element.Name)
		}
	}
	return out
}

// Text is the source of a document of the contract.
func (c *Contract) Text(location string) []byte {
	for _, f := range c.Files {
		if f.Location == location {
			return f.Bytes
		}
	}
	return nil
}

// ShortName is a name for the contract made from its services: BerthDeskService
// becomes berth-desk.
func (c *Contract) ShortName() string {
	if len(c.Services) == 0 {
		return "contract"
	}
	name := strings.TrimSuffix(c.Services[0].Name, "Service")
	var b strings.Builder
	lower := false
	for _, r := range name {
		if unicode.IsUpper(r) && lower {
			b.WriteByte('-')
		}
		lower = unicode.IsLower(r) || unicode.IsDigit(r)
		b.WriteRune(unicode.ToLower(r))
	}
	if b.Len() == 0 {
		return "contract"
	}
	return b.String()
}
