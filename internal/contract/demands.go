package contract

import (
	"slices"
	"strings"

	"orenda/internal/xmltree"
)

// subject is what a policy is attached to: a part of the description, and what it stands in,
// the innermost first (WS-PolicyAttachment 1.5 §4.1).
type subject []subjectPart

type subjectPart struct{ kind, name string }

func subjectOf(n xmltree.Node) subject {
	var out subject
	for ; !n.IsZero() && n.Name().Local != "definitions" && n.Name().Local != "description"; n = n.Parent() {
		name, _ := n.Attr("", "name")
		if ref, ok := n.Attr("", "ref"); ok && name == "" { // an operation of a binding (WSDL 2.0 §2.9)
			name = ref[strings.LastIndexByte(ref, ':')+1:]
		}
		out = append(out, subjectPart{n.Name().Local, name})
	}
	return out
}

func (s subject) String() string {
	if len(s) == 0 {
		return "the description"
	}
	return strings.TrimSpace(s[0].kind + " " + s[0].name)
}

// touches tells whether a request to an operation of a port is what it speaks of. What is
// attached to replies and faults is not; o may be nil.
func (s subject) touches(p *Port, o *Operation) bool {
	for _, part := range s {
		is := true
		switch part.kind {
		case "service":
			is = p.Service == nil || p.Service.Name == part.name
		case "port", "endpoint":
			is = p.Name == part.name
		case "binding":
			is = p.Binding.Local == part.name
		case "portType", "interface":
			is = p.PortType.Local == part.name
		case "operation":
			is = o != nil && o.Name == part.name
		case "output", "fault", "outfault", "infault":
			is = false
		case "message":
			is = o != nil && o.Input != nil && o.Input.Name == part.name
		}
		if !is {
			return false
		}
	}
	return true
}

// Demands are what policies ask for.
type Demands []Demand

// Protocols are the demands on the exchange of messages that need others before or after them:
// sequences, security contexts, transactions.
func (all Demands) Protocols() (out Demands) {
	for _, d := range all {
		switch d.Assertion.Local {
		case "RMAssertion", "ATAssertion", "SecureConversationToken", "SecurityContextToken", "SpnegoContextToken":
			if !d.Optional {
				out = append(out, d)
			}
		}
	}
	return out
}

// DemandsOf are what policies ask of a request to an operation of a port: what is attached to
// other ports, operations, replies and faults is left out. A port of nil is any, an operation of
// nil one that is not known.
func (c *Contract) DemandsOf(p *Port, o *Operation) (out Demands) {
	if p == nil {
		return c.Demands
	}
	for _, d := range c.Demands {
		if slices.ContainsFunc(d.of, func(s subject) bool { return s.touches(p, o) }) {
			out = append(out, d)
		}
	}
	return out
}

// Token tells whether a user name token is demanded, and of which kind:
// "text", "digest" or "none"; "" where none is.
func (all Demands) Token() string {
	for _, d := range all {
		if d.Assertion.Local == "UsernameToken" && !d.Optional {
			switch {
			case strings.Contains(d.Text, "digest"):
				return "digest"
			case strings.Contains(d.Text, "without"):
				return "none"
			}
			return "text"
		}
	}
	return ""
}

// Addressing tells whether WS-Addressing headers are demanded.
func (all Demands) Addressing() bool {
	return slices.ContainsFunc(all, func(d Demand) bool {
		return (d.Assertion.Local == "Addressing" || d.Assertion.Local == "UsingAddressing") && !d.Optional
	})
}

// Attachments tells whether messages must be MTOM (WS-MTOMPolicy 1.1).
func (all Demands) Attachments() bool {
	return slices.ContainsFunc(
		all,
		func(d Demand) bool { return d.Assertion.Local == "OptimizedMimeSerialization" && !d.Optional },
	)
}

// Parts are the parts that policies demand to be signed ("SignedParts") or
// encrypted ("EncryptedParts"), in the words of the settings: "body", "addressing".
func (all Demands) Parts(assertion string) []string {
	var out []string
	add := func(p string) {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	for _, d := range all {
		if d.Assertion.Local != assertion || d.Optional {
			continue
		}
		if strings.Contains(d.Text, "body") {
			add("body")
		}
		for _, header := range []string{"To", "Action", "MessageID", "ReplyTo", "RelatesTo"} {
			if strings.Contains(d.Text, "header "+header) {
				add("addressing")
			}
		}
	}
	return out
}

// Algorithms are the settings that an algorithm suite and the order of
// protection ask for, by their names; those that a suite here leaves open are left
// out.
func (all Demands) Algorithms() map[string]string {
	out := map[string]string{}
	for _, d := range all {
		switch {
		case d.Optional:
		case d.Assertion.Local == "EncryptBeforeSigning":
			out["protect-order"] = "encrypt-sign"
		case d.Assertion.Local == "AlgorithmSuite":
			suite := strings.TrimPrefix(d.Text, "the algorithms ")
			for name, data := range map[string]string{"Basic256": "aes256-cbc", "Basic192": "aes192-cbc",
				"Basic128": "aes128-cbc"} {
				if !strings.HasPrefix(suite, name) {
					continue
				}
				out["encrypt-data"], out["encrypt-key"], out["signature"] = data, "rsa-oaep", "sha1"
				if strings.Contains(suite, "Sha256") {
					out["signature"] = "sha256"
				}
				if strings.HasSuffix(suite, "Rsa15") {
					out["encrypt-key"] = "rsa-1_5"
				}
			}
		}
	}
	return out
}

// Timestamp tells whether a timestamp is demanded.
func (all Demands) Timestamp() bool {
	for _, d := range all {
		if d.Assertion.Local == "IncludeTimestamp" && !d.Optional {
			return true
		}
	}
	return false
}
