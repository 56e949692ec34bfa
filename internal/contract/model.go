// Package contract reads service descriptions: WSDL 1.1 and WSDL 2.0, with the
// schemas and policies in them. What it cannot use it names; the rest works.
package contract

import (
	"strings"
	"unicode"

	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Contract is a description with all that it imports.
type Contract struct {
	Source        string // URL or path that it was loaded from
	Target        string // target namespace
	Documentation string
	Services      []*Service
	Schemas       *schema.Set
	Demands       []Demand
	Unread        []Unread
	Files         []File // every document that was read, the description itself first
	PortTypes     int

	docs map[string]*xmltree.Document // parsed, by location
}

// File is a document as it was fetched.
type File struct {
	Location string // absolute URL or path
	Bytes    []byte
}

// Unread is something that could not be used.
type Unread struct {
	What  string `json:"what"`
	Where string `json:"where"`
	Why   string `json:"why"`

	document bool // it is a document that the description leads to
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

// Demand is a policy in words.
type Demand struct {
	Text      string       `json:"text"`
	Assertion schema.QName `json:"-"`
	At        string       `json:"at"` // what it is attached to
	Optional  bool         `json:"-"`  // one of several alternatives, or marked so
}

// Service is a wsdl:service.
type Service struct {
	Name, Namespace, Documentation string
	Ports                          []*Port
}

// Port is a wsdl:port with its binding.
type Port struct {
	Name       string
	Service    *Service
	Binding    schema.QName
	PortType   schema.QName
	Address    string
	Transport  string       // the binding's transport URI
	Version    soap.Version // Unset where the binding is not SOAP
	Style      string       // document or rpc
	Operations []*Operation
	At         schema.Place
}

// Operation is an operation of a port.
type Operation struct {
	Name, Documentation string
	Style, Use          string
	Action              string
	HasAction           bool
	Input, Output       *Message // Output is nil for one-way operations
	Faults              []*Message
	Headers             []*schema.Element // header blocks of the input
	HeaderFaults        []*Message        // about header blocks
	At                  schema.Place
	Port                *Port
}

// OneWay tells whether no reply is due.
func (o *Operation) OneWay() bool { return o.Output == nil }

// Message is an input, output or fault with the element that its body holds.
type Message struct {
	Name    string
	Action  string          // WS-Addressing action that the description gives, or ""
	Element *schema.Element // for rpc style, the wrapper (WSDL 1.1 §3.5)
	Parts   []Part
}

// Part is a part of a message.
type Part struct {
	Name    string
	Element *schema.Element
	Type    schema.Type
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
