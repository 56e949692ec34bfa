package diagnose

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// The headers of WS-Addressing, of what was sent and of what came (1.0 Core and SOAP Binding, and the submission
// of August 2004).

// addressed are the WS-Addressing headers of an envelope.
type addressed struct {
	version string                    // soap.Addressing10 or soap.Addressing2004; "" there are none
	blocks  map[string][]xmltree.Node // by their local names
}

// addressedBy are those of one version: the one that is asked for, where there are some, else of the other.
func addressedBy(header xmltree.Node, version string) (a addressed) {
	other := soap.Addressing10
	if version == soap.Addressing10 {
		other = soap.Addressing2004
	}
	for _, v := range []string{version, other} {
		for b := range header.Children() {
			if b.Name().Space != soap.AddressingNS[v] {
				continue
			}
			if a.blocks == nil {
				a.version, a.blocks = v, map[string][]xmltree.Node{}
			}
			a.blocks[b.Name().Local] = append(a.blocks[b.Name().Local], b)
		}
		if a.version != "" {
			break
		}
	}
	return a
}

// text is what a header says; "" it is not there.
func (a addressed) text(name string) string {
	if len(a.blocks[name]) == 0 {
		return ""
	}
	b := a.blocks[name][0]
	if to := b.Child(soap.AddressingNS[a.version], "Address"); !to.IsZero() {
		b = to
	}
	return strings.TrimSpace(b.Text())
}

// addressedSent are those of the message that was sent, of a version where it has them of both.
func (c *Case) addressedSent(version string) addressed {
	l := c.leg()
	if l == nil {
		return addressed{}
	}
	sent, _ := l.SentAt()
	if e := readHead(sent[:min(len(sent), maxSentHead)]); e != nil {
		return addressedBy(e.Header, version)
	}
	return addressed{}
}

// relatesToDiffers is an answer over the same connection that says that it belongs to another message
// (1.0 Core §3.4).
func relatesToDiffers(c *Case) []exchange.Finding {
	if c.Reply == nil || c.Later != nil || c.Reply.Header.IsZero() {
		return nil
	}
	came := addressedBy(c.Reply.Header, soap.Addressing10)
	var said []string
	var at xmltree.Node
	for _, b := range came.blocks["RelatesTo"] {
		kind, _ := b.Attr("", "RelationshipType")
		id := strings.TrimSpace(b.Text())
		if strings.HasSuffix(id, "/unspecified") { // as faults say that cannot know it (Core §3.1)
			return nil
		}
		if kind == "" || strings.HasSuffix(strings.ToLower(kind), "reply") {
			said, at = append(said, id), b
		}
	}
	if len(said) == 0 {
		return nil
	}
	id := c.addressedSent(came.version).text("MessageID")
	if id == "" || slices.Contains(said, id) {
		return nil
	}
	return one(exchange.Finding{
		Title: "the answer says that it belongs to another message",
		Why: fmt.Sprintf("Its RelatesTo is %q; the MessageID of what was sent is %q.",
			cut(said[len(said)-1], 80), cut(id, 80)),
		Evidence: []exchange.Evidence{c.inReply(at.Span())},
		Program: "do not take it for the answer to this call before the service's people have said why: a connection " +
			"that is kept, or a proxy, may have mixed up two",
	})
}

// addressingDiffers is an answer whose headers are not as its own standard has them.
func addressingDiffers(c *Case) []exchange.Finding {
	if c.Reply == nil || c.Later != nil || c.Reply.Header.IsZero() {
		return nil
	}
	came := addressedBy(c.Reply.Header, soap.Addressing10)
	if came.version == "" {
		return nil
	}
	sent := c.addressedSent(came.version)
	if sent.version == "" {
		return nil
	}
	at := c.Reply.Header
	var odd []string
	say := func(n xmltree.Node, format string, args ...any) {
		if len(odd) == 0 && !n.IsZero() {
			at = n
		}
		odd = append(odd, fmt.Sprintf(format, args...))
	}
	if came.version != sent.version {
		say(xmltree.Node{}, "They are of WS-Addressing %s; those of the request are of %s.", came.version, sent.version)
	}
	for _, name := range []string{"Action", "To", "MessageID", "ReplyTo", "FaultTo", "From"} {
		if all := came.blocks[name]; len(all) > 1 {
			say(all[1], "%s stands there %d times, and may once.", name, len(all))
		}
	}
	switch action := came.text("Action"); {
	case action == "":
		say(xmltree.Node{}, "Action is missing, which must be there.")
	case action == sent.text("Action"):
		say(came.blocks["Action"][0], "Its Action is that of the request, %q.", cut(action, 80))
	}
	if len(came.blocks["RelatesTo"]) == 0 && sent.text("MessageID") != "" {
		say(xmltree.Node{}, "RelatesTo is missing, which says to which message it is the answer.")
	}
	if len(odd) == 0 {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the WS-Addressing headers of the answer are not in order",
		Why:      strings.Join(odd, " "),
		Evidence: []exchange.Evidence{c.inTag(at)},
		Program:  "nothing; some programs check these headers and refuse such an answer: tell the service's people",
	})
}

// tellAddressing says what a fault of WS-Addressing means (1.0 SOAP Binding §6.4; 2004/08 §4).
func tellAddressing(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{Why: reason(f)}
	codes := map[string]bool{}
	version := soap.Addressing10
	for _, code := range f.Codes() {
		codes[code.Local] = true
		if code.Space == soap.AddressingNS[soap.Addressing2004] {
			version = soap.Addressing2004
		}
	}
	sent := c.addressedSent(version)
	problem := c.problem(f, version)
	header := problem
	if i := strings.LastIndexByte(problem, ':'); i >= 0 && !strings.Contains(problem, "/") {
		header = problem[i+1:]
	}
	if c.addressingRefused(out, codes, &sent) {
		return out
	}
	switch {
	case sent.version == version && (codes["InvalidAddressingHeader"] || codes["InvalidMessageInformationHeader"]):
		out.Title = "the service does not take a WS-Addressing header"
		out.Program = "check this header in what your program sends"
	case sent.version == version:
		out.Title = "the service says that a WS-Addressing header is missing"
		out.Program = "send this header too"
		if header == "" {
			out.Program = "send the headers that its description, or its people, ask for"
			out.Why += fmt.Sprintf(" Sent were %s.", strings.Join(slices.Sorted(maps.Keys(sent.blocks)), ", "))
		}
	default:
		out.Title = "the service wants WS-Addressing headers"
		out.Program = "send the WS-Addressing headers that the service asks for"
	}
	if header != "" {
		out.Title = strings.Replace(out.Title, "a WS-Addressing header", "the WS-Addressing header "+cut(header, 40), 1)
		out.Why += sentAs(&sent, header)
	}
	if c.Settings.Text("addressing") != version {
		out.Remedies = c.remedies("send the headers of WS-Addressing "+version, []string{"addressing"}, version)
	}
	return out
}

// addressingRefused tells of the faults that are about what a header says, not about the header; it may be none.
func (c *Case) addressingRefused(out *exchange.Finding, codes map[string]bool, sent *addressed) bool {
	switch {
	case codes["EndpointUnavailable"]:
		out.Title, out.Side = "the service says that it is not available now", exchange.Theirs
		out.Program = "try again later; tell the service's people the time"
	case codes["DestinationUnreachable"]:
		out.Title = "the service knows no way to where the message is to go"
		out.Why += sentAs(sent, "To")
		out.Program = "check what your program sends as To: usually the address that the service has in its description"
	case codes["ActionMismatch"]:
		head := c.actionSent()
		out.Title = "the action in the head and in the message are not the same"
		out.Program = "send the same action in both"
		out.Why += fmt.Sprintf(" The head says %q.", cut(head, 120)) + sentAs(sent, "Action")
		if head != "" && head == sent.text("Action") {
			out.Title, out.Side = "the service says that two actions differ, and they are the same", exchange.Between
			out.Program = "nothing; tell the service's people: something between may change the one in the head"
		}
	case codes["OnlyAnonymousAddressSupported"]:
		out.Title = "the service answers over the same connection only"
		out.Why += sentAs(sent, "ReplyTo")
		out.Program = "leave ReplyTo out, or send the anonymous address in it"
		if strings.HasSuffix(sent.text("ReplyTo"), "/anonymous") && strings.HasSuffix(cmp.Or(sent.text("FaultTo"),
			"/anonymous"), "/anonymous") {
			out.Side, out.Program = exchange.Theirs, "nothing; that is what was sent: tell the service's people"
		}
		if c.Settings.Text("reply-to") != "" {
			out.Remedies = c.remedies("take the answer over the same connection", []string{"reply-to"}, "")
		}
	case codes["OnlyNonAnonymousAddressSupported"]:
		out.Title = "the service answers only to an address of its own"
		out.Why += sentAs(sent, "ReplyTo")
		out.Program = "send in ReplyTo an address at which your program listens"
		out.Remedies = c.remedies("listen here for the answer", []string{"reply-to"}, "here")
	default:
		return false
	}
	return true
}

// sentAs says in a sentence what was sent as a header.
func sentAs(sent *addressed, name string) string {
	if len(sent.blocks[name]) == 0 {
		return fmt.Sprintf(" %s was not sent.", cut(name, 40))
	}
	return fmt.Sprintf(" %s was sent as %q.", cut(name, 40), cut(sent.text(name), 120))
}

// problem is the header that a fault names: in its detail, or in a header block of the fault's message.
func (c *Case) problem(f *soap.Fault, version string) string {
	ns := soap.AddressingNS[version]
	found := f.Detail.Child(ns, "ProblemHeaderQName")
	for b := range c.Reply.Header.Named(ns, "FaultDetail") {
		if found.IsZero() {
			found = b.Child(ns, "ProblemHeaderQName")
		}
	}
	return strings.TrimSpace(found.Text())
}
