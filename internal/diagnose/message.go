package diagnose

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

func draftVariableUnset(c *Case) []exchange.Finding {
	if c.Draft == nil {
		return nil
	}
	var e *endpoint.UnsetError
	if bad, ok := errors.AsType[*endpoint.TemplateError](c.Err); ok {
		return one(exchange.Finding{
			Title: "a variable in the draft is not written out",
			Why: "The draft says that variables stand in its values, and " + bad.Why + "; a dollar sign for " +
				"itself is written $$.",
			Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: bad.Offset, End: bad.Offset + 2})},
		})
	}
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title: fmt.Sprintf(
			"the variable %s in the draft is not set in the environment %s",
			e.Name,
			orNone(e.Environment),
		),
		Why: fmt.Sprintf(
			"The draft says that variables stand in its values, and %s has no value for %s.",
			orNone(e.Environment),
			e.Name,
		),
		Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: e.Offset, End: e.Offset + e.Length})},
	}
	if e.Near != "" {
		f.Why += fmt.Sprintf(" %s is set; names of variables are case-sensitive.", e.Near)
		f.Remedies = append(f.Remedies, exchange.NewRemedy(
			fmt.Sprintf("set %s to the value of %s", e.Name, e.Near),
			exchange.Change{
				Where: "workspace",
				Key:   "environment." + e.Environment + "." + e.Name,
				To:    c.Variables[e.Near],
			},
		))
	}
	return one(f)
}

func draftNotWellFormed(c *Case) []exchange.Finding {
	if c.Draft == nil || len(requestNotXML(c)) > 0 {
		return nil
	}
	var e *xmltree.SyntaxError
	f := exchange.Finding{Title: "the draft is not well-formed XML"}
	if c.Imported {
		f.Title = "the request is not well-formed XML"
	}
	at := c.inDraft
	switch {
	case errors.As(c.Draft.Err(), &e):
	case c.Header != nil && errors.As(c.Header.Err(), &e):
		f.Title, at = "the draft's header blocks are not well-formed XML", c.inHeader
	default:
		return nil
	}
	if e.Code == xmltree.BadEncoding && len(charsetDiffers(c)) > 0 {
		return nil
	}
	f.Why = fmt.Sprintf("Line %d, column %d: %s.", e.Line, e.Column, e.Msg)
	if c.Imported {
		f.Program = "make the XML with a library, never by joining texts"
		if wide(c.Draft.Bytes()) {
			f.Why += " It looks like UTF-16 without a byte order mark."
			f.Program = "send UTF-8, or UTF-16 with its byte order mark"
		}
	}
	f.Evidence = []exchange.Evidence{at(xmltree.Span{Start: e.Offset, End: e.Offset + 1})}
	if c.Imported && bytes.HasPrefix(c.Draft.Bytes()[min(max(e.Offset, 0), len(c.Draft.Bytes())):], []byte("\ufeff")) {
		f.Why += " It is a second byte order mark."
	}
	return one(f)
}

// headerLeftOut: WSDL 1.1 §3.7 does not say whether a header block that is
// declared must be sent, so this is a note until a fault comes.
func headerLeftOut(c *Case) []exchange.Finding {
	left := c.leftOut()
	if len(left) == 0 {
		return nil
	}
	var names []string
	var changes []exchange.Change
	for _, q := range left {
		names = append(names, q.Local)
		changes = append(changes, exchange.Change{Where: "draft", Key: "header", To: q.String()})
	}
	who := "the draft"
	if c.Imported {
		who = "the program"
	}
	insists := "Whether the service insists is not said."
	if c.leftOutNamed() {
		insists = "The answer names it."
	}
	f := exchange.Finding{
		Title: "a declared header block is left out",
		Why: fmt.Sprintf(
			"The contract declares %s in the header of %s, and %s leaves it out. %s",
			list(names, 5),
			c.Operation.Name,
			who,
			insists+c.nearBlock(left),
		),
		Evidence: []exchange.Evidence{c.inContract(c.Operation.At, c.Operation.Name)},
		Remedies: []exchange.Remedy{exchange.NewRemedy("put "+list(names, 5)+" into the draft's header", changes...)},
		Program:  "let your program send the header block " + list(names, 5),
	}
	if c.Reply != nil && c.Reply.Fault != nil {
		f.Severity, f.Certainty = exchange.Warn, exchange.Likely
		for _, n := range names {
			if strings.Contains(c.Reply.Fault.Reason, n) {
				f.Certainty = exchange.Certain
			}
		}
	}
	return one(f)
}

// leftOut are the header blocks that the contract declares and the message has not.
func (c *Case) leftOut() (out []schema.QName) {
	if !c.Imported {
		if out = c.Header.LeftOut(); len(out) > 0 && c.Header.Err() != nil {
			return nil
		}
		return out
	}
	e := c.draftEnvelope()
	if e == nil || c.Operation == nil {
		return nil
	}
	for _, declared := range c.Operation.Headers {
		q := declared.Name
		if !soap.IsAddressing(q.Space) && q.Space != wssec.WSSE && e.Header.Child(q.Space, q.Local).IsZero() {
			out = append(out, q)
		}
	}
	return out
}

// nearBlock tells of a block that has the name of one that is left out, and another namespace; "" there is none.
func (c *Case) nearBlock(left []schema.QName) string {
	e := c.draftEnvelope()
	if !c.Imported || e == nil {
		return ""
	}
	for b := range e.Header.Children() {
		for _, q := range left {
			if strings.EqualFold(b.Name().Local, q.Local) {
				return fmt.Sprintf(" %s was sent as %s, and is declared as %s.", q.Local,
					schema.NameOf(b.Name()), q)
			}
		}
	}
	return ""
}

// customary are placeholders that other programs leave in envelopes.
//
//nolint:gochecknoglobals // a table: it is never written to
var customary = []string{"?", "string", "int", "decimal", "boolean", "dateTime", "date"}

// maxShown bounds the places that one finding points at.
const maxShown = 100

func placeholderLeft(c *Case) []exchange.Finding {
	if c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	var paths []string
	f := exchange.Finding{Title: "values were never filled in"}
	for _, it := range c.Draft.Unfilled() {
		if paths = append(paths, it.Path); len(paths) <= maxShown {
			f.Evidence = append(f.Evidence, c.inDraft(it.Node.Span()))
		}
	}
	for _, it := range c.Header.Unfilled() {
		paths = append(paths, "header:"+it.Path)
		f.Evidence = append(f.Evidence, c.inHeader(it.Node.Span()))
	}
	certain := len(paths) > 0
	var others []message.Item
	if c.Draft.MayHold(customary...) {
		others = c.Draft.Items()
	}
	for _, it := range others {
		if it.Present && !it.Unfilled && slices.Contains(customary, it.Value) &&
			(it.Value == "?" || strings.HasPrefix(it.Type, it.Value)) {
			paths = append(paths, it.Path)
			f.Evidence = append(f.Evidence, c.inDraft(it.Node.Inner()))
		}
	}
	if len(paths) == 0 {
		return nil
	}
	goes := "; it goes out empty"
	if errors.Is(c.Held, ErrUnfilled) {
		goes = ""
	}
	f.Why = fmt.Sprintf("%s %s a placeholder%s.", list(paths, 5),
		map[bool]string{true: "holds", false: "hold"}[len(paths) == 1], goes)
	if !certain {
		f.Certainty = exchange.Likely
		f.Why = fmt.Sprintf("%s looks like a placeholder that another program leaves.", list(paths, 5))
	}
	f.Program = "fill in every required field before sending"
	return c.heldBack(&f, ErrUnfilled)
}

// bodyName is the expanded name of the draft's body element.
func (c *Case) bodyName() (xmltree.Node, bool) {
	if c.Draft == nil || c.Draft.Err() != nil || c.Draft.Decl == nil {
		return xmltree.Node{}, false
	}
	b := c.Draft.Body()
	return b, !b.IsZero()
}

func bodyDiffers(c *Case) []exchange.Finding {
	b, ok := c.bodyName()
	if !ok {
		return c.foreignBody()
	}
	if b.Name().Local == c.Draft.Decl.Name.Local {
		return nil
	}
	f := exchange.Finding{
		Title:    fmt.Sprintf("the body holds %s, and %s is called", b.Name().Local, c.X.Operation),
		Why:      fmt.Sprintf("The body of %s is the element %s.", c.X.Operation, c.Draft.Decl.Name.Local),
		Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: b.Span().Start, End: b.Inner().Start})},
	}
	if c.Port != nil {
		for _, o := range c.Port.Operations {
			if o.Input != nil && o.Input.Element != nil && o.Input.Element.Name.Local == b.Name().Local {
				f.Remedies = append(
					f.Remedies,
					exchange.NewRemedy(
						"call "+o.Name,
						exchange.Change{Where: "draft", Key: "operation", From: c.X.Operation, To: o.Name},
					),
				)
			}
		}
	}
	return c.heldBack(&f, ErrBreaksSchema)
}

func namespaceDiffers(c *Case) []exchange.Finding {
	b, ok := c.bodyName()
	if !ok {
		return nil
	}
	want := c.Draft.Decl.Name
	if b.Name().Local == want.Local && b.Name().Space != want.Space {
		f := exchange.Finding{
			Title: fmt.Sprintf("%s is in the wrong namespace", want.Local),
			Why: fmt.Sprintf("It is in %s; the contract has it in %s.",
				orNone(b.Name().Space), orNone(want.Space)),
			Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: b.Span().Start, End: b.Inner().Start})},
			Remedies: []exchange.Remedy{
				exchange.NewRemedy(
					"put it into the contract's namespace",
					exchange.Change{Where: "draft", Key: "namespace", From: b.Name().Space, To: want.Space},
				),
			},
			Program: "put the element into the namespace " + orNone(want.Space),
		}
		return c.heldBack(&f, ErrBreaksSchema)
	}
	for _, e := range c.Invalid {
		if strings.Contains(e.Message, "right name in the wrong namespace") {
			f := exchange.Finding{
				Title: "an element is in the wrong namespace", Why: fmt.Sprintf("%s: %s.", e.Path, e.Message),
				Evidence: []exchange.Evidence{c.inDraft(e.Span)}, Program: "qualify the element as the contract does",
			}
			return c.heldBack(&f, ErrBreaksSchema)
		}
	}
	return nil
}

func messageInvalid(c *Case) []exchange.Finding {
	all := slices.Concat(c.Invalid, c.HeaderInvalid)
	if len(all) == 0 || len(namespaceDiffers(c)) > 0 || len(bodyDiffers(c)) > 0 {
		return nil
	}
	first := all[0]
	f := exchange.Finding{
		Title:   "the message breaks its schema",
		Why:     fmt.Sprintf("%s: %s (%s).", first.Path, first.Message, first.Rule),
		Program: "let your program send what the schema allows: " + first.Message,
	}
	if n := len(all); n > 1 {
		f.Why += fmt.Sprintf(" There are %s.", Faults(n, "such place"))
	}
	for _, e := range c.Invalid[:min(len(c.Invalid), 10)] {
		f.Evidence = append(f.Evidence, c.inDraft(e.Span))
	}
	for _, e := range c.HeaderInvalid[:min(len(c.HeaderInvalid), 10)] {
		f.Evidence = append(f.Evidence, c.inHeader(e.Span))
	}
	return c.heldBack(&f, ErrBreaksSchema)
}

func emptyValue(c *Case) []exchange.Finding {
	if c.Draft == nil || c.Draft.Err() != nil || !c.Draft.MayBeEmpty() {
		return nil
	}
	var f exchange.Finding
	var paths []string
	for _, it := range c.Draft.Items() {
		if it.Present && it.Required && !it.Unfilled && !it.Nil && it.Value == "" && it.Kind == 0 &&
			len(it.Errors) == 0 {
			if href, _ := it.Node.Attr("", "href"); strings.HasPrefix(href, "cid:") {
				continue // its value is a part beside the envelope
			}
			paths = append(paths, it.Path)
			f.Evidence = append(f.Evidence, c.inDraft(it.Node.Span()))
		}
	}
	if len(paths) == 0 {
		return nil
	}
	f.Title, f.Why = "a required value is empty", fmt.Sprintf("%s is valid by the schema, yet empty.", list(paths, 5))
	return one(f)
}

// A message that is not sent unasked.
var (
	ErrUnfilled     = errors.New("a required value was never filled in")
	ErrBreaksSchema = errors.New("the message breaks its schema")
)

// HeldBack tells whether a message was not sent because of what it says.
func HeldBack(x *exchange.Exchange) bool {
	return x.StoppedAt == exchange.Message && slices.ContainsFunc(x.Findings, Holds)
}

// Holds tells whether a finding keeps a message from being sent unasked.
func Holds(f exchange.Finding) bool {
	if f.Severity != exchange.Stop {
		return false
	}
	switch f.ID {
	case "message.placeholder-left", "message.invalid", "message.body-differs", "message.namespace-differs":
		return true
	}
	return false
}

// heldBack makes the finding the one that stops the call, where the message was held
// back for that reason.
func (c *Case) heldBack(f *exchange.Finding, reason error) []exchange.Finding {
	if errors.Is(c.Held, reason) {
		f.Severity = exchange.Stop
		f.Why += " The message is not sent unless you say so."
	}
	return one(*f)
}

// TooLargeError is an envelope over the send limit.
type TooLargeError struct{ Size, Limit int64 } // in bytes

func (e *TooLargeError) Error() string { return "the envelope is larger than the send limit" }

func messageTooLarge(c *Case) []exchange.Finding {
	var e *TooLargeError
	if !errors.As(c.Err, &e) {
		return nil
	}
	would := endpoint.FormatSize(endpoint.RoundLimit(e.Size))
	return one(exchange.Finding{
		Title: "the message is larger than the send limit",
		Why: fmt.Sprintf(
			"The envelope is %s bytes; the limit is %s; %s would do.",
			endpoint.Bytes(e.Size),
			endpoint.Bytes(e.Limit),
			would,
		),
		Evidence: []exchange.Evidence{c.inSettings("send-limit", 0, 1)},
		Remedies: c.remedies("raise the send limit to "+would, []string{"send-limit"}, would),
		Program:  "raise its limit for sent messages to " + would,
	})
}
