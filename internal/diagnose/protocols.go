package diagnose

import (
	"slices"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Some services want messages before and after the one that is meant: a sequence is opened, a
// security context is made, a transaction is begun. They are recognised here, and not spoken.

func protocolDemanded(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Fetch || c.Imported {
		return nil
	}
	all := c.demands().Protocols()
	if len(all) == 0 {
		return nil
	}
	var words []string
	at := all[0].At
	for _, d := range all {
		words = append(words, d.Text)
	}
	f := exchange.Finding{
		Title: "the contract demands what needs more messages than this call: " + strings.Join(words, "; "),
		Why: "Its policy at the " + at + " asks for it. Orenda sends the one message that is meant, and no others " +
			"around it.",
		Evidence: []exchange.Evidence{{
			In: exchange.InContract, Key: c.Contract.Source, Length: 1, Line: 1, Column: 1,
			Excerpt: strings.Join(words, "; "),
		}},
		Program: "let the SOAP library of your program do it, or ask for a port without it",
	}
	if p := c.plainPort(); p != nil {
		f.Why += " The port " + p.Name + " offers the same operation without it."
		f.Program = "call the port " + p.Name + ", or let the SOAP library of your program do it"
	}
	return one(f)
}

// plainPort is another port with the operation that demands no such protocol.
func (c *Case) plainPort() *contract.Port {
	if c.Operation == nil || c.Port == nil {
		return nil
	}
	for _, p := range c.Contract.Ports() {
		if o := p.Operation(c.Operation.Name); p != c.Port && o != nil && p.Version != soap.Unset &&
			len(c.Contract.DemandsOf(p, o).Protocols()) == 0 {
			return p
		}
	}
	return nil
}

// protocolSpaces are the namespaces of fault codes and header blocks, and what they belong to.
//
//nolint:gochecknoglobals // a table: it is never written to
var protocolSpaces = []struct{ has, name string }{
	{"/ws-rx/wsrm/", "WS-ReliableMessaging"},
	{"/ws/2005/02/rm", "WS-ReliableMessaging"},
	{"/ws-sx/ws-secureconversation/", "WS-SecureConversation"},
	{"/ws/2005/02/sc", "WS-SecureConversation"},
	{"/ws-tx/wscoor/", "WS-Coordination"},
	{"/ws-tx/wsat/", "WS-AtomicTransaction"},
	{"/ws/2004/10/wsat", "WS-AtomicTransaction"},
}

// protocolOf is the protocol that a name belongs to, "" none of these.
func protocolOf(n xmltree.Name) string {
	i := slices.IndexFunc(protocolSpaces, func(p struct{ has, name string }) bool {
		return strings.Contains(n.Space, p.has)
	})
	if i < 0 {
		return ""
	}
	return protocolSpaces[i].name
}

// faultProtocol is the protocol whose code a fault has.
func faultProtocol(f *soap.Fault) string {
	for _, code := range f.Codes() {
		if p := protocolOf(code); p != "" {
			return p
		}
	}
	return ""
}

func tellProtocol(c *Case, f *soap.Fault) *exchange.Finding {
	name := faultProtocol(f)
	out := &exchange.Finding{
		Title: "the service wants " + name,
		Why: reason(f) + " The fault's code is one of " + name + ": messages before this one are missing, or what " +
			"they made has ended.",
		Program: "let the SOAP library of your program do it, or ask for an address without it",
	}
	if c.Contract != nil {
		if p := c.plainPort(); p != nil && len(c.demands().Protocols()) > 0 {
			out.Why += " The port " + p.Name + " offers the same operation without it."
		}
	}
	return out
}
