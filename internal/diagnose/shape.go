package diagnose

import (
	"bytes"
	"fmt"
	"mime"
	"slices"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/near"
	"orenda/internal/related"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Rules of the shape of what was sent: whether it is XML, an envelope, and one of the contract's. They are for
// what other programs send, and for drafts that are whole envelopes.
//
//nolint:gochecknoglobals // a table: it is never written to
var shapeRules = []Rule{
	{"binding.media-type-differs", exchange.Warn, exchange.Yours, mediaTypeDiffers},
	{"binding.action-unquoted", exchange.Note, exchange.Yours, actionUnquoted},
	{"message.not-xml", exchange.Warn, exchange.Yours, requestNotXML},
	{"message.not-envelope", exchange.Warn, exchange.Yours, requestNotEnvelope},
	{"message.header-misplaced", exchange.Warn, exchange.Yours, headerMisplaced},
	{"message.body-empty", exchange.Warn, exchange.Yours, bodyEmpty},
	{"message.body-several", exchange.Warn, exchange.Yours, bodySeveral},
}

// requestNotXML is a message that cannot be read as XML, and looks like something else.
func requestNotXML(c *Case) []exchange.Finding {
	if !c.Imported || !c.Empty && (c.Draft == nil || c.Draft.Err() == nil || c.Draft.Envelope() != nil) {
		return nil
	}
	var sent []byte
	if !c.Empty {
		sent = c.Draft.Bytes()
	}
	media := ""
	if l := c.leg(); l != nil {
		media = l.SentMedia()
	}
	is := looksLike(media, sent)
	if is.what == "" {
		return nil
	}
	f := exchange.Finding{
		Title:    "the request is no XML",
		Why:      fmt.Sprintf("It is %s.", is.what),
		Evidence: c.inRequestHead("Content-Type"),
		Program:  is.advice,
	}
	if c.Empty {
		f.Title, f.Evidence = "the request has no body", c.inRequestHead("Content-Length")
		f.Why = "An envelope is due in it, and nothing was sent."
		if c.Undeclared {
			f.Why = "Its head declares no length, and no chunks: what follows it belongs to no request."
			f.Program, f.Evidence = "send Content-Length, or Transfer-Encoding: chunked", nil
		}
		if len(f.Evidence) == 0 {
			f.Evidence = []exchange.Evidence{c.inRequestLine()}
		}
	} else {
		f.Evidence = append([]exchange.Evidence{c.inDraft(xmltree.Span{End: min(len(sent), 40)})}, f.Evidence...)
	}
	return one(f)
}

// requestNotEnvelope is a message of XML that is no envelope (SOAP 1.1 §4, SOAP 1.2 part 1 §5).
func requestNotEnvelope(c *Case) []exchange.Finding {
	if !c.Imported || c.Draft == nil || c.Draft.Err() != nil || c.Draft.Envelope() != nil {
		return nil
	}
	root := c.Draft.Doc().Root()
	if root.IsZero() {
		return nil
	}
	n, want := root.Name(), soap.V11
	if c.Port != nil && c.Port.Version != soap.Unset {
		want = c.Port.Version
	}
	f := exchange.Finding{
		Title:    "the request is no SOAP envelope",
		Why:      fmt.Sprintf("Its document element is %s.", n.Local),
		Evidence: c.atTag(root),
		Program:  "send the message in the Body of an Envelope",
	}
	why, v := nearEnvelope(n, want)
	switch {
	case why != "" && soap.VersionOf(n.Space) != soap.Unset:
		f.Why, f.Program = why, "write Envelope, Header and Body with capitals"
	case why != "":
		f.Why, f.Program = why, "put Envelope, Header and Body into the namespace "+v.Namespace()
	case c.inputNamed(n.Local) != nil:
		f.Why = fmt.Sprintf("Its document element is %s, which belongs into the body.", n.Local)
	}
	return one(f)
}

// nearEnvelope says why an element that is nearly an envelope is none: the case of its name, or its namespace. v is the
// version that is meant, which else is otherwise; "" the element is something else.
func nearEnvelope(n xmltree.Name, otherwise soap.Version) (why string, v soap.Version) {
	if !strings.EqualFold(n.Local, "Envelope") {
		return "", otherwise
	}
	if v := soap.VersionOf(n.Space); v != soap.Unset {
		return fmt.Sprintf("Its root element is written %s; it is Envelope, and names are case-sensitive.", n.Local), v
	}
	v = otherwise
	if s := near.Miss(n.Space, []string{soap.NS11, soap.NS12}); s != "" {
		v = soap.VersionOf(s)
	}
	return fmt.Sprintf("Its root element is in the namespace %s; that of SOAP %s is %s.", orNone(n.Space), v,
		v.Namespace()), v
}

// elements is how many elements there are from one on, itself included.
func elements(n xmltree.Node) (count int) {
	for ; !n.IsZero(); n = n.Next() {
		count++
	}
	return count
}

// atTag is evidence that points at the start tag of an element of the message.
func (c *Case) atTag(n xmltree.Node) []exchange.Evidence {
	return []exchange.Evidence{c.inDraft(xmltree.Span{Start: n.Span().Start, End: n.Inner().Start})}
}

// inputNamed is the element of that name, whatever its namespace, that the body of an operation of the port
// holds; nil where there is none.
func (c *Case) inputNamed(local string) *schema.QName {
	if c.Port == nil {
		return nil
	}
	all := c.Port.Inputs()
	if i := slices.IndexFunc(all, func(q schema.QName) bool { return q.Local == local }); i >= 0 {
		return &all[i]
	}
	return nil
}

// headerMisplaced is a Header that is not the first child of its envelope (SOAP 1.1 §4.2, SOAP 1.2 part 1 §5.1).
func headerMisplaced(c *Case) []exchange.Finding {
	e := c.draftEnvelope()
	if e == nil || e.Header.IsZero() || e.Body.IsZero() || e.Header.Span().Start < e.Body.Span().Start {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the Header stands behind the Body",
		Why:      "It is to be the first element of the envelope; many services do not look for it elsewhere.",
		Evidence: c.atTag(e.Header),
		Program:  "write the Header before the Body",
	})
}

// bodyEmpty is a body without an element, where no operation of the port has such a one.
func bodyEmpty(c *Case) []exchange.Finding {
	e := c.draftEnvelope()
	if e == nil || !e.Payload.IsZero() || c.Err == nil && c.leg() != nil {
		return nil
	}
	at := e.Body
	if at.IsZero() {
		at = c.Draft.Doc().Root()
	}
	f := exchange.Finding{
		Title:    "the body is empty",
		Why:      "An element is due in it that says what is asked for.",
		Evidence: c.atTag(at),
		Program:  "put the element of the operation into the Body",
	}
	text := ""
	if !e.Body.IsZero() {
		text = strings.TrimSpace(e.Body.Text())
	}
	switch {
	case e.Body.IsZero():
		f.Title, f.Why = "the envelope has no Body", "It holds what is asked for, and has to be there."
		for n := range at.Children() {
			if strings.EqualFold(n.Name().Local, "Body") {
				f.Why = fmt.Sprintf("It has the element %s in the namespace %s; it is Body in %s.",
					n.Name().Local, orNone(n.Name().Space), e.Version.Namespace())
				f.Evidence = c.atTag(n)
				f.Program = "write the Body as the envelope is written, in its namespace"
			}
		}
	case strings.HasPrefix(text, "<"):
		f.Title = "the body holds text, not an element"
		f.Why = "The text is XML that was escaped, or put into a CDATA section."
		f.Program = "put the element into the Body as XML, not as text"
	case text != "":
		f.Title = "the body holds text, not an element"
	case c.Port != nil && len(c.Port.Inputs()) < len(c.Port.Operations):
		return nil // an operation has an empty body
	}
	if c.Port != nil {
		if all := c.Port.Inputs(); len(all) > 0 {
			f.Why += " The contract has " + listNames(all) + "."
		}
	}
	return one(f)
}

func listNames(all []schema.QName) string {
	var names []string
	for _, q := range all {
		names = append(names, q.Local)
	}
	return list(names, 5)
}

// bodySeveral is a body of several elements where the contract has one: services take the first.
func bodySeveral(c *Case) []exchange.Finding {
	e := c.draftEnvelope()
	if e == nil || e.Payload.IsZero() || c.Operation == nil || c.Operation.Use == "encoded" ||
		c.Operation.Style != "rpc" && c.Operation.Input != nil && len(c.Operation.Input.Parts) > 1 {
		return nil
	}
	second := e.Payload.Next()
	if second.IsZero() {
		return nil
	}
	return one(exchange.Finding{
		Title: fmt.Sprintf("the body holds %d elements, and the contract has one", elements(e.Payload)),
		Why: fmt.Sprintf("Behind %s stands %s; services take the first, or none.",
			e.Payload.Name().Local, second.Name().Local),
		Evidence: c.atTag(second),
		Program:  "send one element in the body, and a call for each",
	})
}

// foreignBody is the body of another program's message that no operation of the port has.
func (c *Case) foreignBody() []exchange.Finding {
	e := c.draftEnvelope()
	if !c.Imported || c.Err == nil || c.Operation != nil || c.Port == nil || e == nil || e.Payload.IsZero() {
		return nil
	}
	n := e.Payload.Name()
	f := exchange.Finding{
		Title:    fmt.Sprintf("the body holds %s, with which no operation is called", n.Local),
		Evidence: c.atTag(e.Payload),
		Program:  "check the name of the body's element, letter by letter",
	}
	all := c.Port.Inputs()
	var names []string
	for _, q := range all {
		names = append(names, q.Local)
	}
	meant := near.Miss(n.Local, names)
	if len(all) > 0 {
		f.Why = fmt.Sprintf("The port %s has %s.", c.Port.Name, listNames(all))
	}
	switch {
	case n.Local == "Envelope" && soap.VersionOf(n.Space) != soap.Unset:
		f.Why = "It is a whole envelope: the message was put into an envelope twice."
		f.Program = "hand the body's element to what makes the envelope, or send the envelope as it is"
	case e.Fault != nil:
		f.Why = "A fault is an answer, and no request. " + f.Why
		f.Program = "send the element of an operation"
	case meant != "":
		f.Why = fmt.Sprintf("`%s` is not there; `%s` is.", n.Local, meant)
		f.Program = fmt.Sprintf("write the body's element %s", meant)
	default:
		for _, o := range c.Port.Operations {
			if o.Output != nil && o.Output.Element != nil && o.Output.Element.Name.Local == n.Local && o.Input != nil &&
				o.Input.Element != nil {
				f.Why = fmt.Sprintf("It is what %s answers with; a call sends %s.", o.Name, o.Input.Element.Name.Local)
				f.Program = "send " + o.Input.Element.Name.Local
			}
		}
	}
	return one(f)
}

// mediaTypeDiffers is a Content-Type that is not that of the envelope's version (SOAP 1.1 §6, RFC 3902 §2).
func mediaTypeDiffers(c *Case) []exchange.Finding {
	e, l := c.draftEnvelope(), c.leg()
	if e == nil || l == nil || len(l.RequestBody) == 0 || !headKnown(l) {
		return nil
	}
	said := l.Request.Get("Content-Type")
	if related.Is(said) || c.Imported && len(versionDiffers(c)) > 0 { // that one says what is to be sent
		return nil
	}
	due := e.Version.MediaType()
	media, _, err := mime.ParseMediaType(said)
	f := exchange.Finding{
		Title:    fmt.Sprintf("the request's media type is not that of SOAP %s", e.Version),
		Why:      fmt.Sprintf("Its Content-Type is %q; an envelope of SOAP %s is %s.", cut(said, 120), e.Version, due),
		Evidence: c.inRequestHead("Content-Type"),
		Program:  "send Content-Type: " + due + "; charset=utf-8",
	}
	switch {
	case said == "":
		f.Title = "the request says no media type"
		f.Why = fmt.Sprintf("It has no Content-Type; an envelope of SOAP %s is %s.", e.Version, due)
		f.Evidence = []exchange.Evidence{c.inRequestLine()}
	case strings.EqualFold(media, due):
		if err == nil {
			return nil
		}
		f.Title = "the request's Content-Type cannot be read"
		f.Why = fmt.Sprintf("It is %q: what follows the media type is no parameter.", cut(said, 120))
	case soap.V11.MediaType() == media || soap.V12.MediaType() == media:
		f.Why = fmt.Sprintf("Its Content-Type is %q, and its envelope is of SOAP %s, which is %s.",
			cut(said, 120), e.Version, due)
	case strings.HasPrefix(strings.ToLower(said), due):
		f.Title = "the request's Content-Type cannot be read"
		f.Why = fmt.Sprintf("It is %q; a parameter follows a semicolon.", cut(said, 120))
	}
	return one(f)
}

// headKnown tells whether the head of a request is what was sent: of one of which nothing is known, a head is made
// up that has no more than a host and a length.
func headKnown(l *exchange.Leg) bool {
	return slices.ContainsFunc(l.Request.Fields, func(f exchange.Header) bool {
		return !strings.EqualFold(f.Name, "Host") && !strings.EqualFold(f.Name, "Content-Length")
	})
}

// inRequestLine is evidence that points at the first line of the request.
func (c *Case) inRequestLine() exchange.Evidence {
	l := c.leg()
	return exchange.Evidence{In: exchange.InRequestHead, Leg: len(c.X.Legs), Length: int64(len(l.Request.Line)),
		Line: 1, Column: 1, Excerpt: cut(l.Request.Line, 200)}
}

// actionUnquoted is an action without the quotes that it has to stand in (SOAP 1.1 §6.1.1).
func actionUnquoted(c *Case) []exchange.Finding {
	l := c.leg()
	if !c.Imported || l == nil {
		return nil
	}
	v := strings.TrimSpace(l.Request.Get("SOAPAction"))
	if v == "" || len(v) > 1 && v[0] == '"' && v[len(v)-1] == '"' {
		return nil
	}
	return one(exchange.Finding{
		Title: "the SOAPAction does not stand in quotes",
		Why: fmt.Sprintf("Sent was %s; it is written %q. Some services refuse it without them.",
			cut(v, 120), strings.Trim(v, `"'`)),
		Evidence: c.inRequestHead("SOAPAction"),
		Program:  "put the action into double quotes",
	})
}

// sameAsSent is a place of the request's body, for one of the message in it.
func (c *Case) sameAsSent(e exchange.Evidence) exchange.Evidence {
	l := c.leg()
	if !c.Imported || l == nil || len(l.RequestBody) == 0 {
		return e
	}
	e.In, e.Leg = exchange.InRequestBody, len(c.X.Legs)
	if _, at := l.SentAt(); at > 0 {
		e.Offset += int64(at)
		e.Line += bytes.Count(l.RequestBody[:at], []byte("\n"))
	}
	return e
}
