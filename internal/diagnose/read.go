package diagnose

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Rules of read and verify.
//
//nolint:gochecknoglobals // a table: it is never written to
var readRules = []Rule{
	{"read.empty", exchange.Stop, exchange.Theirs, readEmpty},
	{"read.timed-out", exchange.Stop, exchange.Yours, outOfTime("read.timed-out", "read")},
	{"verify.timed-out", exchange.Stop, exchange.Yours, outOfTime("verify.timed-out", "verified")},
	{
		"read.not-well-formed",
		exchange.Stop,
		exchange.Theirs,
		syntax(xmltree.NotWellFormed, "the reply is not well-formed XML", "nothing; the service sends broken XML"),
	},
	{
		"read.charset-differs",
		exchange.Stop,
		exchange.Theirs,
		syntax(
			xmltree.BadEncoding,
			"the reply is not in the encoding that it claims",
			"read the reply in the encoding that it really has",
		),
	},
	{"read.charset-doubtful", exchange.Warn, exchange.Theirs, charsetDoubtful},
	{
		"read.text-outside",
		exchange.Stop,
		exchange.Theirs,
		syntax(
			xmltree.TextOutside,
			"text stands outside the envelope",
			"nothing; the text is likely the server's own complaint",
		),
	},
	{
		"read.doctype-refused",
		exchange.Stop,
		exchange.Theirs,
		syntax(
			xmltree.Doctype,
			"the reply carries a document type declaration",
			"nothing; SOAP forbids it, and reading it would be dangerous",
		),
	},
	{"read.depth-over-limit", exchange.Stop, exchange.Yours, overRead(xmltree.DepthLimit, "depth-limit")},
	{"read.text-over-limit", exchange.Stop, exchange.Yours, overRead(xmltree.TextLimit, "text-limit")},
	{
		"read.repeats-over-limit",
		exchange.Stop,
		exchange.Yours,
		overRead(xmltree.RepeatLimit, "repeat-limit"),
	},
	{"read.names-over-limit", exchange.Stop, exchange.Yours, overRead(xmltree.NameLimit, "name-limit")},
	{"read.not-envelope", exchange.Stop, exchange.Theirs, notEnvelope},
	{"read.not-description", exchange.Stop, exchange.Unknown, notDescription},
	{"read.version-differs", exchange.Stop, exchange.Yours, readVersionDiffers},

	{
		"read.fault-must-understand",
		exchange.Stop,
		exchange.Yours,
		faultRule("read.fault-must-understand", tellMustUnderstand),
	},
	{"read.fault-version", exchange.Stop, exchange.Yours, faultRule("read.fault-version", tellVersion)},
	{
		"read.fault-security-missing",
		exchange.Stop,
		exchange.Yours,
		faultRule("read.fault-security-missing", tellSecurityMissing),
	},
	{
		"read.fault-security-expired",
		exchange.Stop,
		exchange.Yours,
		faultRule("read.fault-security-expired", tellSecurityExpired),
	},
	{
		"read.fault-security-refused",
		exchange.Stop,
		exchange.Yours,
		faultRule("read.fault-security-refused", tellSecurityRefused),
	},
	{
		"read.fault-security-invalid",
		exchange.Stop,
		exchange.Yours,
		faultRule("read.fault-security-invalid", tellSecurityInvalid),
	},
	{"read.fault-protocol", exchange.Stop, exchange.Yours, faultRule("read.fault-protocol", tellProtocol)},
	{"read.fault-addressing", exchange.Stop, exchange.Yours, faultRule("read.fault-addressing", tellAddressing)},
	{"read.fault-declared", exchange.Stop, exchange.Theirs, faultRule("read.fault-declared", tellDeclared)},
	{"read.fault-action", exchange.Stop, exchange.Yours, faultRule("read.fault-action", tellAction)},
	{"read.fault-operation", exchange.Stop, exchange.Yours, faultRule("read.fault-operation", tellOperation)},
	{"read.fault-client", exchange.Stop, exchange.Yours, faultRule("read.fault-client", tellClient)},
	{"read.fault-server", exchange.Stop, exchange.Theirs, faultRule("read.fault-server", tellServer)},
	{"read.fault-hidden", exchange.Warn, exchange.Theirs, faultHidden},
	{"read.envelope-malformed", exchange.Warn, exchange.Theirs, envelopeMalformed},
	{"read.must-understand", exchange.Warn, exchange.Theirs, replyMustUnderstand},
	{"read.relates-to-differs", exchange.Warn, exchange.Theirs, relatesToDiffers},
	{"read.addressing-differs", exchange.Warn, exchange.Theirs, addressingDiffers},

	{"read.encrypted", exchange.Stop, exchange.Yours, replySealed},
	{"verify.signature-broken", exchange.Stop, exchange.Theirs, signatureBroken},
	{"verify.certificate-untrusted", exchange.Stop, exchange.Yours, signerUntrusted},
	{"verify.unsigned", exchange.Stop, exchange.Theirs, replyUnsigned},
	{"verify.signature-weak", exchange.Note, exchange.Theirs, signatureWeak},
	{"verify.stale", exchange.Warn, exchange.Theirs, replyStale},
	{"verify.reply-differs", exchange.Stop, exchange.Theirs, replyDiffers},
	{"verify.invalid", exchange.Warn, exchange.Theirs, replyInvalid},
	{"verify.unexpected", exchange.Stop, exchange.Unknown, unexpected},
}

// EmptyError is a reply without a body where one is due.
type EmptyError struct{}

func (EmptyError) Error() string { return "there is no body where one is due" }

// NotEnvelopeError is XML that is no envelope.
type NotEnvelopeError struct{ Root xmltree.Name } // name of the root element

func (e NotEnvelopeError) Error() string { return "the document is not an envelope" }

// overRead is a limit of the reader that fell. What is proposed is what the reply takes,
// and a quarter more.
func overRead(code xmltree.Code, key string) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		e := c.ReplyErr
		if e == nil || e.Code != code {
			return nil
		}
		to := c.enough(code, key)
		return one(exchange.Finding{
			Title: "the reply goes beyond a limit of the reader", Why: e.Msg + ".",
			Evidence: []exchange.Evidence{
				c.inReply(xmltree.Span{Start: e.Offset, End: e.Offset + 1}),
				c.inSettings(key, 0, 1),
			},
			Remedies: c.remedies("raise it to "+to, []string{key}, to),
			Program:  "raise the same limit of its XML reader",
		})
	}
}

// enough is the value of a limit that the reply stays below: measured where all of it is
// at hand, else four times what is set.
func (c *Case) enough(code xmltree.Code, key string) string {
	l := c.leg()
	var need xmltree.Limits
	if l != nil && !l.Stored() && c.ReplyDoc != nil {
		need = xmltree.Measure(c.ReplyDoc.Src)
	}
	if code == xmltree.TextLimit {
		now, _ := c.Settings.Size(key)
		to := int64(1 << 10)
		for to < max(int64(need.Text)*5/4, now+1) {
			to *= 2
		}
		if need.Text == 0 {
			to = 4 * now
		}
		return endpoint.FormatSize(to)
	}
	now, _ := c.Settings.Count(key)
	n := map[xmltree.Code]int{xmltree.DepthLimit: need.Depth, xmltree.RepeatLimit: need.Repeats,
		xmltree.NameLimit: need.Names}[code]
	if n <= now {
		return strconv.Itoa(4 * now)
	}
	return strconv.Itoa(roundCount(n * 5 / 4))
}

// roundCount is the next of 1, 2, 5, 10, 20, …
func roundCount(n int) int {
	for power := 1; ; power *= 10 {
		for _, k := range []int{1, 2, 5} {
			if k*power >= n {
				return k * power
			}
		}
	}
}

// draftEnvelope is the envelope where the draft is a whole one, else nil.
func (c *Case) draftEnvelope() *soap.Envelope {
	if c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	return c.Draft.Envelope()
}

func (c *Case) sent() soap.Version {
	if e := c.draftEnvelope(); e != nil {
		return e.Version
	}
	v, _ := soap.ParseVersion(c.Settings.Text("soap"))
	return v
}

func (c *Case) faultEvidence(f *soap.Fault) []exchange.Evidence {
	var out []exchange.Evidence
	if f.ReasonAt.Len() > 0 {
		out = append(out, c.inReply(f.ReasonAt))
	}
	if f.CodeAt.Len() > 0 {
		out = append(out, c.inReply(f.CodeAt))
	}
	if len(out) == 0 {
		out = append(out, c.inReply(f.Node.Span()))
	}
	return out
}

func reason(f *soap.Fault) string {
	if f.Reason == "" {
		return "It gives no reason."
	}
	return "It says: “" + cut(f.Reason, 300) + "”."
}

// ReplyDiffersError is a reply of another operation or shape.
type ReplyDiffersError struct{ Got, Want schema.QName } // what came; what the contract has

func (e ReplyDiffersError) Error() string { return "the reply is of another operation" }

func replyInvalid(c *Case) []exchange.Finding {
	if len(c.ReplyInvalid) == 0 {
		return nil
	}
	first := c.ReplyInvalid[0]
	f := exchange.Finding{
		Title:   "the reply breaks its own schema",
		Why:     fmt.Sprintf("%s: %s (%s).", first.Path, first.Message, first.Rule),
		Program: "be ready for replies that are not as the schema says",
	}
	if n := len(c.ReplyInvalid); n > 1 {
		f.Why += fmt.Sprintf(" There are %s.", Faults(n, "such place"))
	}
	for _, e := range c.ReplyInvalid[:min(len(c.ReplyInvalid), 10)] {
		if c.WholeJudged {
			f.Evidence = append(f.Evidence, c.inWhole(&e))
			continue
		}
		f.Evidence = append(f.Evidence, c.inReply(e.Span))
	}
	return one(f)
}

// Faults is a number of things that a schema found, no more of which than
// schema.MaxErrors are looked for; what is one of them.
func Faults(n int, what string) string {
	switch {
	case n == 1:
		return "1 " + what
	case n >= schema.MaxErrors:
		return fmt.Sprintf("at least %d %ss", n, what)
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// UnexpectedError is a reply that does not meet an expectation.
type UnexpectedError struct{}

func (UnexpectedError) Error() string { return "an expectation is not met" }

// SignatureError stops a call whose reply's signatures are not in order; the case
// says why.
type SignatureError struct{}

func (SignatureError) Error() string { return "the reply's signature is not in order" }

func replySealed(c *Case) []exchange.Finding {
	if c.NotDecrypted == nil || c.Reply == nil {
		return nil
	}
	f := exchange.Finding{
		Title: "the reply is encrypted, and cannot be opened",
		Why:   upperFirst(c.NotDecrypted.Error()) + ".",
		Evidence: []exchange.Evidence{
			c.inReply(c.Reply.Doc.Root().Find(wssec.XENC, "EncryptedData").Span()),
			c.inSettings("sign-identity", 0, 1),
		},
		Program: "give your program the private key that belongs to the certificate that the service encrypts for",
	}
	for _, id := range c.Identities {
		if id.Certificate != nil && id.Name != c.Settings.Text("sign-identity") {
			f.Remedies = append(
				f.Remedies,
				exchange.NewRemedy("open it with the key of "+id.Name, c.changeHere("sign-identity", id.Name)),
			)
		}
	}
	return one(f)
}

func signatureBroken(c *Case) []exchange.Finding {
	for _, s := range c.Signatures {
		if s.Holds() {
			continue
		}
		f := exchange.Finding{
			Title:   "the reply's signature is wrong",
			Program: "do not trust this reply; tell the service's people which reference differs",
		}
		if s.Why != "" {
			f.Why = "Of the signature itself: " + s.Why + "."
			f.Evidence = append(f.Evidence, c.inReply(s.Node.Span()))
		}
		for _, r := range s.References {
			if r.Why != "" {
				f.Why = strings.TrimSpace(f.Why + fmt.Sprintf(" The reference %s: %s.", r.URI, r.Why))
				f.Evidence = append(f.Evidence, c.inReply(r.At))
			}
		}
		return one(f)
	}
	return nil
}

func signerUntrusted(c *Case) []exchange.Finding {
	if c.Signer == nil {
		return nil
	}
	r := exchange.NewRemedy(
		"trust signatures of this certificate at this endpoint",
		exchange.Change{
			Where: "workspace",
			Key:   "endpoint." + c.X.Endpoint + ".reply-trust",
			From:  c.Settings.Text("reply-trust"),
			To:    string(trust.PEM(c.Signer)),
		},
	)
	r.Ask = "compare the fingerprint with one that the service's people give you: SHA-256 " + trust.Grouped(
		trust.Fingerprint(c.Signer),
	)
	f := exchange.Finding{
		Title: "the reply is signed by a key that is not trusted",
		Why: fmt.Sprintf(
			"Its signature holds, and was made by %s, issued by %s, which is on no trust list of this endpoint.",
			cut(c.Signer.Subject.String(), 80),
			cut(c.Signer.Issuer.String(), 80),
		),
		Remedies: []exchange.Remedy{r},
		Program:  "add this certificate, or its authority, to those whose signatures your program trusts",
	}
	for _, s := range c.Signatures {
		if s.Cert == c.Signer {
			f.Evidence = append(f.Evidence, c.inReply(s.Node.Span()))
		}
	}
	return one(f)
}

func replyUnsigned(c *Case) []exchange.Finding {
	if !c.Unsigned {
		return nil
	}
	why := "It carries no signature."
	if len(c.Signatures) > 0 {
		why = "It is signed, and no signature covers the body where it stands."
	}
	return one(
		exchange.Finding{Title: "the reply's body is not signed", Why: why + " A signature over it is demanded here.",
			Evidence: []exchange.Evidence{c.inReply(c.Reply.Body.Span()), c.inSettings("reply-signature", 0, 6)},
			Remedies: c.remedies(
				"check signatures, and demand none",
				[]string{"reply-signature"},
				"check",
			), Program: "nothing; the service is to sign its replies"},
	)
}

func signatureWeak(c *Case) (out []exchange.Finding) {
	for _, s := range c.Signatures {
		if s.Weak != "" && s.Holds() {
			out = append(
				out,
				exchange.Finding{
					Title:    "the reply's signature is weak",
					Why:      "Of the kind " + s.Method + ": " + s.Weak + ".",
					Evidence: []exchange.Evidence{c.inReply(s.Node.Span())},
				},
			)
		}
	}
	return out
}

func replyStale(c *Case) []exchange.Finding {
	if c.Stale == "" {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the reply's timestamp is out of date",
			Why: "Of the timestamp: " + c.Stale + "; this machine's clock says " + c.Now.
				UTC().
				Format(time.RFC3339) +
				".",
			Evidence: []exchange.Evidence{
				c.inReply(c.StaleAt),
			},
			Program: "compare the clocks; if they agree, the reply is an old one",
		},
	)
}

func unexpected(c *Case) []exchange.Finding {
	if len(c.Unmet) == 0 {
		return nil
	}
	f := exchange.Finding{Title: "the reply is not what was expected"}
	for _, u := range c.Unmet {
		if u.Found {
			f.Why += fmt.Sprintf("%s: expected %q, received %q. ", u.Path, u.Expected, cut(u.Received, 80))
			f.Evidence = append(f.Evidence, c.inReply(u.At))
		} else {
			f.Why += fmt.Sprintf("%s: expected %q, and the reply has no such field. ", u.Path, u.Expected)
			if u.Near != "" {
				f.Why += u.Near + " is meant, perhaps. "
			}
			f.Evidence = append(f.Evidence, c.inReply(u.At))
		}
	}
	f.Why = strings.TrimSpace(f.Why)
	return one(f)
}
