package diagnose

import (
	"bytes"
	"fmt"
	"mime"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// The shape of what came: whether it is XML, an envelope, and the answer to what was asked.

// NoXML tells whether a body that cannot be read as XML is something else, by its media type and its bytes: a
// page, JSON, a form, text, compressed or binary data.
func NoXML(contentType string, body []byte) bool {
	media, _, _ := mime.ParseMediaType(contentType)
	return looksLike(media, body).what != ""
}

// Blank tells whether a body holds nothing but white space, and perhaps a byte order mark.
func Blank(body []byte) bool {
	return len(bytes.TrimSpace(bytes.TrimPrefix(body, []byte("\ufeff")))) == 0
}

func readEmpty(c *Case) []exchange.Finding {
	if _, ok := c.Err.(EmptyError); !ok {
		return nil
	}
	line := c.response().Line
	f := exchange.Finding{
		Title:    "the reply has no body",
		Why:      fmt.Sprintf("The status is %q and nothing follows; the contract promises a reply.", line),
		Evidence: c.inHead(""),
		Program:  "nothing; ask the service's people why the reply is empty",
	}
	if l := c.leg(); !l.ResponseBody.IsZero() {
		f.Why = fmt.Sprintf("The status is %q and nothing but white space follows; the contract promises a reply.",
			line)
	} else if l.Behind > 0 {
		f.Why = fmt.Sprintf("The status is %q and by its head nothing follows; the contract promises a reply.",
			line)
	}
	if c.Description {
		f.Title = "what was fetched is empty"
		f.Why = strings.Replace(f.Why, "; the contract promises a reply.", ".", 1)
		f.Program = checkDescription
	}
	return one(f)
}

// syntax makes a rule of what a reader of XML found.
func syntax(code xmltree.Code, title, program string) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		e := c.ReplyErr
		if e == nil || c.ReplyDoc == nil || c.syntaxCode() != code {
			return nil
		}
		if _, empty := c.Err.(EmptyError); empty || len(notSOAP(c)) > 0 || c.notMarkup().what != "" ||
			c.errorStatus() || c.unsaidFraming() != "" {
			return nil
		}
		f := exchange.Finding{
			Title:   title,
			Program: program,
			Why:     fmt.Sprintf("Line %d, column %d: %s.", e.Line, e.Column, e.Msg),
		}
		if len(e.Open) > 0 {
			f.Why += " Open there: " + strings.Join(e.Open, " › ") + "."
		}
		ev := c.inReply(xmltree.Span{Start: e.Offset, End: min(e.Offset+1, len(c.ReplyDoc.Src))})
		ev.Line, ev.Column = e.Line, e.Column
		src := c.ReplyDoc.Src
		ev.Excerpt = cut(string(src[max(0, e.Offset-60):min(len(src), e.Offset+60)]), 160)
		f.Evidence = []exchange.Evidence{ev}
		c.syntaxWords(&f)
		return one(f)
	}
}

// syntaxCode is what kind of thing is wrong with a reply that cannot be read. To a reader of XML, UTF-16 that
// nothing tells of and what stands behind the envelope are characters that cannot be.
func (c *Case) syntaxCode() xmltree.Code {
	e, src := c.ReplyErr, c.ReplyDoc.Src
	switch {
	case e.Code == xmltree.Empty:
		return xmltree.NotWellFormed
	case e.Code != xmltree.NotWellFormed:
		return e.Code
	case wide(src):
		return xmltree.BadEncoding
	case c.behindTheEnd() > 0:
		return xmltree.TextOutside
	}
	return e.Code
}

// behindTheEnd is how many bytes stand behind the document element that are no markup, and no characters either.
func (c *Case) behindTheEnd() int {
	e, src := c.ReplyErr, c.ReplyDoc.Src
	if len(e.Open) > 0 || e.Offset >= len(src) || src[e.Offset] >= ' ' {
		return 0
	}
	before := bytes.TrimSpace(src[:e.Offset])
	if !bytes.HasSuffix(before, []byte(">")) || bytes.IndexByte(src[e.Offset:], '<') >= 0 {
		return 0
	}
	return len(src) - e.Offset
}

// syntaxWords adds what is known beyond what the reader of XML says.
func (c *Case) syntaxWords(f *exchange.Finding) {
	e, src, h := c.ReplyErr, c.ReplyDoc.Src, c.response()
	if e.Code == xmltree.NotWellFormed && wide(src) {
		f.Why = "It is UTF-16, and neither its head nor a byte order mark says so."
		return
	}
	if n := c.behindTheEnd(); n > 0 {
		f.Title = "something stands behind the envelope"
		f.Why = fmt.Sprintf("Behind it %s: % x.", counted(n, "byte follows", "bytes follow"),
			src[e.Offset:min(len(src), e.Offset+12)])
		f.Program = "nothing; the service sends more than the envelope: many programs refuse that"
		return
	}
	if kind := noText(src); kind != "" {
		f.Why += " " + kind
	}
	if e.Code != xmltree.NotWellFormed || e.Offset < len(src) || h == nil {
		return
	}
	f.Title = "the reply ends before its document does"
	f.Program = "nothing; the service, or something between, sends only a part of its reply"
	more := len(src) - utf8.RuneCount(src)
	switch {
	case h.Status == 206:
		f.Why += " The status is 206: by it, this is only a part of the reply, for which nobody asked."
		f.Evidence = append(f.Evidence, c.inHead("")...)
	case h.Declared < 0 && !h.Chunked:
		f.Why += " Its head declares neither length nor chunks, so that nobody can tell where it was cut."
	case h.Declared == h.WireSize && h.Coding == "" && more > 0:
		f.Why += fmt.Sprintf(" All %s bytes that its head declares came. They are %s than characters: a service that "+
			"declares the number of its characters cuts as many off.", endpoint.Bytes(h.Declared),
			counted(more, "more", "more"))
	}
}

// counted is a number of things in words.
func counted(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return endpoint.Bytes(int64(n)) + " " + more
}

// chunkFirst is how a body begins that is in chunks.
//
//nolint:gochecknoglobals // what never changes is compiled once
var chunkFirst = regexp.MustCompile(`^[0-9a-fA-F]{1,8}[ \t]*(;[^\r\n]*)?\r\n`)

// partFirst is how a body begins that is in parts.
//
//nolint:gochecknoglobals // what never changes is compiled once
var partFirst = regexp.MustCompile(`(?i)^\s*--[^\r\n]{1,200}\r?\n(content-|mime-)`)

// What a body is framed by, and its head does not say.
const (
	inChunks = "chunks"
	inParts  = "parts"
)

// unsaidFraming is how a body that cannot be read is framed where its head does not say so; "" it is not.
func (c *Case) unsaidFraming() string {
	h, l := c.response(), c.leg()
	if h == nil || len(h.Fields) == 0 || c.ReplyErr == nil || c.isAnswer() {
		return ""
	}
	switch head := l.ResponseBody.Range(0, 1024); {
	case !h.Chunked && chunkFirst.Match(head):
		return inChunks
	case partFirst.Match(head) && !strings.HasPrefix(strings.ToLower(h.Get("Content-Type")), "multipart/related"):
		return inParts
	}
	return ""
}

// errorStatus tells whether the status alone explains that no envelope came.
func (c *Case) errorStatus() bool {
	h := c.response()
	return h != nil && h.Status >= 300 && !c.isAnswer()
}

// charsetDoubtful is a reply that was read in an encoding of one byte for each character, and whose bytes are
// UTF-8: its letters come out wrong.
func charsetDoubtful(c *Case) []exchange.Finding {
	l, h := c.leg(), c.response()
	if !c.isAnswer() || h == nil || l.Stored() || len(l.Parts) > 0 {
		return nil
	}
	raw := l.ResponseBody.Bytes()
	_, params, _ := mime.ParseMediaType(h.Get("Content-Type"))
	said, evidence := params["charset"], c.inHead("Content-Type")
	if said == "" {
		said = xmltree.DeclaredEncoding(raw)
		evidence = []exchange.Evidence{c.inBody(0, min(len(raw), 60))}
	}
	switch low := strings.ToLower(said); {
	case !strings.HasPrefix(low, "iso-8859-") && !strings.HasPrefix(low, "windows-125") && low != "latin1":
		return nil
	case bytes.HasPrefix(raw, []byte("\ufeff")) || !utf8.Valid(raw):
		return nil
	}
	at := bytes.IndexFunc(raw, func(r rune) bool { return r >= utf8.RuneSelf })
	if at < 0 {
		return nil
	}
	r, n := utf8.DecodeRune(raw[at:])
	return one(exchange.Finding{
		Certainty: exchange.Likely,
		Title:     "the reply says " + said + ", and its bytes look like UTF-8",
		Why: fmt.Sprintf("The bytes % x are the letter %c in UTF-8; read as %s they are %s letters, and wrong ones.",
			raw[at:at+n], r, said, []string{"", "", "two", "three", "four"}[n]),
		Evidence: append([]exchange.Evidence{c.inBody(at, n)}, evidence...),
		Program:  "read this reply as UTF-8; the service's people have to say so in it",
	})
}

func notEnvelope(c *Case) []exchange.Finding {
	e, ok := c.Err.(NotEnvelopeError)
	if !ok || c.errorStatus() || len(notSOAP(c)) > 0 {
		return nil
	}
	root := c.ReplyDoc.Root()
	f := exchange.Finding{
		Title:    "the reply is XML, and not an envelope",
		Why:      fmt.Sprintf("Its root element is %s in the namespace %s.", e.Root.Local, orNone(e.Root.Space)),
		Evidence: []exchange.Evidence{c.inTag(root)},
		Program:  "check the path in its endpoint address",
	}
	output := c.outputName()
	why, v := nearEnvelope(e.Root, c.sent())
	switch {
	case contract.IsDocument(e.Root):
		f.Title = "the reply is a service description"
		f.Why = fmt.Sprintf("Its root element is %s: the address is that of the description, not of the service.",
			e.Root.Local)
		f.Program = "call the address that the description names for its port"
	case why != "":
		f.Why, f.Program = why, "nothing; the service writes its envelope wrongly"
	case strings.EqualFold(e.Root.Local, "Fault"):
		f.Title = "the reply is a fault without its envelope"
		f.Why = reason(soap.ReadFault(v, root))
		f.Program = "nothing yet; tell the service's people the reason, and that the envelope is missing"
	case output != nil && schema.NameOf(e.Root) == *output:
		f.Title = "the reply is the answer without its envelope"
		f.Why = fmt.Sprintf("Its root element is %s, which belongs into the body of an envelope.", e.Root.Local)
		f.Program = "nothing; the service, or something between, takes the envelope off"
	}
	return one(f)
}

// outputName is the name of the element that the answer's body has by the contract; nil where none is known.
func (c *Case) outputName() *schema.QName {
	if c.Operation == nil || c.Operation.Output == nil || c.Operation.Output.Element == nil {
		return nil
	}
	return &c.Operation.Output.Element.Name
}

func readVersionDiffers(c *Case) []exchange.Finding {
	if c.Reply == nil || c.Fetch || c.Reply.Version == c.sent() || len(mediaTypeRefused(c)) > 0 ||
		c.Reply.Fault != nil && c.Reply.Fault.HasCode("VersionMismatch") {
		return nil
	}
	v := c.Reply.Version.String()
	root := c.ReplyDoc.Root()
	f := exchange.Finding{
		Title:    "the reply is of the other SOAP version",
		Why:      fmt.Sprintf("SOAP %s was sent, and SOAP %s came back.", c.sent(), v),
		Evidence: []exchange.Evidence{c.inTag(root)},
		Remedies: c.useVersion(v),
		Program:  "let your program send SOAP " + v,
	}
	if c.Port != nil && c.Port.Version == c.sent() {
		f.Why += fmt.Sprintf(" The port %s of the contract is for SOAP %s.", c.Port.Name, c.Port.Version)
		f.Side, f.Program = exchange.Theirs, "let your program send SOAP "+v+", where the service takes it"
	}
	if c.Reply.Fault != nil {
		f.Severity = exchange.Warn
	}
	return one(f)
}

//nolint:gochecknoglobals // a table: it is never written to
var errorNames = []string{"error", "errorcode", "errormessage", "errortext", "exception", "faultcode", "faultstring"}

func faultHidden(c *Case) []exchange.Finding {
	if c.Reply == nil || c.Reply.Fault != nil || c.Reply.Payload.IsZero() || c.nearFault() != nil {
		return nil
	}
	for n := c.Reply.Payload.Next(); !n.IsZero(); n = n.Next() {
		if strings.EqualFold(n.Name().Local, "Fault") {
			return one(exchange.Finding{
				Title:    "the body holds an answer, and a fault behind it",
				Why:      reason(soap.ReadFault(c.Reply.Version, n)) + " A fault is to stand alone in the body.",
				Evidence: []exchange.Evidence{c.inReply(n.Span())},
				Program:  "look for a fault in every reply, also behind the answer",
			})
		}
	}
	if !slices.ContainsFunc(
		c.ReplyDoc.Names(),
		func(n xmltree.Name) bool { return slices.Contains(errorNames, strings.ToLower(n.Local)) },
	) {
		return nil
	}
	fields, _ := message.Fields(c.Reply.Payload, 300)
	for _, f := range fields {
		if f.Leaf && f.Value != "" && f.Value != "0" && slices.Contains(errorNames, strings.ToLower(f.Name)) {
			return one(exchange.Finding{
				Certainty: exchange.Likely,
				Title:     "the reply looks like success, and holds an error",
				Why:       fmt.Sprintf("Its field %s says “%s”.", f.Name, cut(f.Value, 120)),
				Evidence:  []exchange.Evidence{c.inReply(f.Node.Span())},
				Program:   "look at this field in every reply",
			})
		}
	}
	return nil
}

// nearFault is a fault in the body that is written wrongly: another case, another namespace or none. Nil where
// there is none.
func (c *Case) nearFault() *soap.Fault {
	if c.Reply == nil || c.Reply.Fault != nil || !strings.EqualFold(c.Reply.Payload.Name().Local, "Fault") {
		return nil
	}
	return soap.ReadFault(c.Reply.Version, c.Reply.Payload)
}

// inTag is evidence that points at the start tag of an element of the reply.
func (c *Case) inTag(n xmltree.Node) exchange.Evidence {
	return c.inReply(xmltree.Span{Start: n.Span().Start, End: n.Inner().Start})
}

func replyDiffers(c *Case) []exchange.Finding {
	e, ok := c.Err.(ReplyDiffersError)
	if !ok {
		return nil
	}
	p := c.Reply.Payload
	if p.IsZero() {
		return one(c.noPayload(e.Want))
	}
	f := exchange.Finding{
		Title:    "the reply is not that of the operation",
		Why:      fmt.Sprintf("The body holds %s; due is %s.", orNone(e.Got.String()), e.Want),
		Evidence: []exchange.Evidence{c.inTag(p)},
		Program:  "check whether address and action belong to the operation that is called",
	}
	const wrong = "nothing, or read it as it comes; the service answers otherwise than its contract says"
	switch {
	case c.nearFault() != nil:
		f.Title = "the body holds a fault that is written wrongly"
		f.Why = fmt.Sprintf("It is %s; a fault is %s in %s. %s", orNone(e.Got.String()), "Fault",
			c.Reply.Version.Namespace(), reason(c.nearFault()))
		f.Program = "nothing yet; tell the service's people the reason, and that programs do not take this for a fault"
	case c.inputIs(e.Got):
		f.Title = "the service sent the request's element back"
		f.Why = fmt.Sprintf("The body holds %s, which is what was sent; due is %s.", e.Got, e.Want)
		f.Program = "check its endpoint address: what answers there is an echo, not the service"
	case e.Got.Local == e.Want.Local:
		f.Title = "the reply's body is in another namespace"
		f.Why = fmt.Sprintf("%s is in %s; due is %s.", e.Got.Local, orNone(e.Got.Space), e.Want.Space)
		f.Program = wrong
	case strings.EqualFold(e.Got.Local, e.Want.Local) && e.Got.Space == e.Want.Space:
		f.Title = "the name in the reply's body is written otherwise"
		f.Why = fmt.Sprintf("It is %s; due is %s, and names are case-sensitive.", e.Got.Local, e.Want.Local)
		f.Program = wrong
	default:
		if o := c.outputOf(e.Got); o != "" {
			f.Why += fmt.Sprintf(" It is the answer of %s.", o)
		}
	}
	return one(f)
}

// outputOf is the operation of the port that answers with an element; "" none does.
func (c *Case) outputOf(name schema.QName) string {
	if c.Port != nil {
		for _, o := range c.Port.Operations {
			if o.Output != nil && o.Output.Element != nil && o.Output.Element.Name == name {
				return o.Name
			}
		}
	}
	return ""
}

// noPayload is an envelope in whose body no element is.
func (c *Case) noPayload(want schema.QName) exchange.Finding {
	body := c.Reply.Body
	f := exchange.Finding{
		Title:    "the reply's body is empty",
		Why:      fmt.Sprintf("Due is %s.", want),
		Evidence: []exchange.Evidence{c.inReply(body.Span())},
		Program:  "nothing; ask the service's people why the body is empty",
	}
	if body.IsZero() {
		root := c.ReplyDoc.Root()
		f.Title, f.Evidence = "the reply's envelope has no Body", []exchange.Evidence{c.inTag(root)}
		f.Program = "nothing; the service sends an envelope without a body"
		for n := range root.Children() {
			if strings.EqualFold(n.Name().Local, "Body") {
				f.Why = fmt.Sprintf("It has %s in the namespace %s; it is Body in %s.", n.Name().Local,
					orNone(n.Name().Space), c.Reply.Version.Namespace())
				f.Evidence = []exchange.Evidence{c.inTag(n)}
			}
		}
		return f
	}
	if text := strings.TrimSpace(body.Text()); text != "" {
		f.Title = "the reply's body holds text, not an element"
		f.Why = fmt.Sprintf("It says “%s”; due is %s.", cut(text, 120), want)
		f.Program = "nothing; the service sends text where an element is due"
		if strings.HasPrefix(text, "<") {
			f.Why = "The text is XML that was escaped, or put into a CDATA section. " + f.Why
		}
	} else if fault := c.Reply.Header.Find(c.Reply.Version.Namespace(), "Fault"); !fault.IsZero() {
		f.Title = "the reply's fault stands in the Header"
		f.Why = reason(soap.ReadFault(c.Reply.Version, fault)) + " A fault is to stand in the body."
		f.Evidence = []exchange.Evidence{c.inReply(fault.Span())}
	}
	return f
}

// envelopeMalformed is an envelope that can be read, and is not as SOAP has it (SOAP 1.1 §4, 1.2 part 1 §5).
func envelopeMalformed(c *Case) []exchange.Finding {
	e := c.Reply
	if e == nil || e.Body.IsZero() {
		return nil
	}
	ns := e.Version.Namespace()
	bodies := slices.Collect(c.ReplyDoc.Root().Named(ns, "Body"))
	f := exchange.Finding{Program: "nothing; some programs refuse such a reply, and others read only a part of it"}
	second := e.Payload.Next()
	switch {
	case len(bodies) > 1:
		f.Title, f.Why = "the reply's envelope has more than one Body", "It is to have one; the first was read."
		f.Evidence = []exchange.Evidence{c.inTag(bodies[1])}
	case !e.Header.IsZero() && e.Header.Span().Start > e.Body.Span().Start:
		f.Title, f.Why = "the reply's Header stands behind its Body", "It is to be the first element of the envelope."
		f.Evidence = []exchange.Evidence{c.inTag(e.Header)}
	case e.Fault != nil && e.Fault.OtherShape:
		other := soap.V11
		if e.Version == soap.V11 {
			other = soap.V12
		}
		f.Title = fmt.Sprintf("the fault is written as SOAP %s has it, in an envelope of SOAP %s", other, e.Version)
		f.Why = "Programs look for code and reason where the envelope's version has them, and find none."
		f.Evidence = []exchange.Evidence{c.inTag(e.Fault.Node)}
	case !second.IsZero() && !strings.EqualFold(second.Name().Local, "Fault") && c.onePart():
		f.Title = fmt.Sprintf("the reply's body holds %d elements, and the contract has one", elements(e.Payload))
		f.Why = fmt.Sprintf("Behind %s stands %s; only the first was read.",
			e.Payload.Name().Local, second.Name().Local)
		f.Evidence = []exchange.Evidence{c.inTag(second)}
	default:
		return nil
	}
	return one(f)
}

// onePart tells whether an answer's body has one element by the contract.
func (c *Case) onePart() bool {
	o := c.Operation
	return o != nil && o.Use != "encoded" && o.Output != nil && (o.Style == "rpc" || len(o.Output.Parts) < 2)
}

// replyMustUnderstand is a header block that a program has to understand or to refuse the reply (SOAP 1.1 §4.2.3,
// SOAP 1.2 part 1 §5.2.3). Of WS-Security it is said where nothing of it is set here, of WS-Addressing never.
func replyMustUnderstand(c *Case) []exchange.Finding {
	if c.Reply == nil || c.Fetch {
		return nil
	}
	ns := c.Reply.Version.Namespace()
	for b := range c.Reply.Header.Children() {
		must, _ := b.Attr(ns, "mustUnderstand")
		name := b.Name()
		if must != "1" && must != "true" || soap.IsAddressing(name.Space) {
			continue
		}
		role := "actor"
		if c.Reply.Version == soap.V12 {
			role = "role"
		}
		if to, has := b.Attr(ns, role); has && to != "" && !strings.HasSuffix(to, "/next") &&
			!strings.HasSuffix(to, "/ultimateReceiver") {
			continue // it is for somebody else
		}
		f := exchange.Finding{
			Title: fmt.Sprintf("the reply has a header that must be understood: %s", name.Local),
			Why: fmt.Sprintf("The block %s in %s is marked mustUnderstand: a program that does not know it has to "+
				"refuse the reply.", name.Local, orNone(name.Space)),
			Evidence: []exchange.Evidence{c.inTag(b)},
			Program:  "let it process the header " + name.Local + ", or have the service's people take the mark off",
		}
		if name.Is(wssec.WSSE, "Security") {
			if _, known := c.blocksSent(); !known || c.sentFacts().header {
				continue // who sends one is set up to read one
			}
			f.Severity = exchange.Note
			f.Program = "let it process WS-Security in replies too, or have the service's people take the mark off"
		}
		return one(f)
	}
	return nil
}
