package diagnose

import (
	"bytes"
	"fmt"
	"mime"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/xmltree"
)

// Rules of what another program sent, and Orenda passed on or was shown.
//
//nolint:gochecknoglobals // a table: it is never written to
var relayedRules = []Rule{
	{"send.length-differs", exchange.Warn, exchange.Yours, lengthDiffers},
	{"send.charset-differs", exchange.Warn, exchange.Yours, charsetDiffers},
	{"receive.program-left", exchange.Warn, exchange.Yours, programLeft},
	{"security.password-type-differs", exchange.Warn, exchange.Yours, passwordTypeSent},
	{"security.header-differs", exchange.Warn, exchange.Yours, securityHeaderDiffers},
	{"security.token-malformed", exchange.Warn, exchange.Yours, tokenMalformed},
}

// lengthDiffers is a declared length that is not the number of bytes.
func lengthDiffers(c *Case) []exchange.Finding {
	declared, came, who := c.SentDeclared, c.SentCame, "The program"
	if !c.Imported {
		declared, came, who = c.lengthByHand()
	}
	if declared < 0 || declared == came {
		return nil
	}
	f := exchange.Finding{
		Title:    "the declared length is not the number of bytes",
		Why:      fmt.Sprintf("%s declared %s bytes and sent %s.", who, endpoint.Bytes(declared), endpoint.Bytes(came)),
		Evidence: c.inRequestHead("Content-Length"),
		Program:  "declare as many bytes as are sent; best, let what speaks HTTP count them",
	}
	if len(f.Evidence) == 0 {
		f.Evidence = []exchange.Evidence{named("Content-Length", fmt.Sprintf("Content-Length: %d", declared))}
	}
	if c.Draft != nil && came > declared {
		size := int64(len(c.Draft.Bytes())) // what was declared of it, or all
		if n := int64(utf8.RuneCount(c.Draft.Bytes())); n < size && n+came-size == declared {
			f.Why += " It is the number of its characters."
			f.Program = "count the bytes of the encoded message, not its characters"
		}
	}
	if c.Err != nil {
		f.Severity = exchange.Stop // two values contradict: whatever was answered follows from it
	}
	if came < declared {
		f.Severity = exchange.Stop
		f.Why += " Whoever reads it waits for the rest."
	} else {
		f.Why += " The service reads what was declared, and takes the rest for another request."
	}
	return one(f)
}

// programLeft is a program that did not take the whole answer.
func programLeft(c *Case) []exchange.Finding {
	l := c.leg()
	if c.ProgramLeft == nil || l == nil {
		return nil
	}
	return one(exchange.Finding{
		Title: "the program did not take the whole answer",
		Why: fmt.Sprintf("It took %s of %s bytes, then it closed its connection, or took nothing more for a minute.",
			endpoint.Bytes(*c.ProgramLeft), endpoint.Bytes(max(l.In.Len(), l.Whole))),
		Evidence: []exchange.Evidence{c.inBody(int(max(*c.ProgramLeft-l.BodyAt(), 0)), 1)},
		Program:  "look at its own time limits and size limits: one of them fell, or it ended",
	})
}

// lengthByHand is the length that an extra header declares, and that of the body as it
// left; -1 where none does.
func (c *Case) lengthByHand() (declared, came int64, who string) {
	l := c.leg()
	if l == nil || l.Request.Chunked {
		return -1, 0, ""
	}
	for _, r := range c.Replaced {
		if strings.EqualFold(r[0], "Content-Length") {
			n, err := strconv.ParseInt(strings.TrimSpace(r[2]), 10, 64)
			if err == nil {
				return n, int64(len(l.RequestBody)), "The extra header"
			}
		}
	}
	return -1, 0, ""
}

// passwordTypeSent is a password whose Type is none of those that WSS UsernameToken 1.0
// §3.1 has.
func passwordTypeSent(c *Case) []exchange.Finding {
	if !c.Imported { // ours is right, and need not be read again
		return nil
	}
	sent := c.sentFacts()
	if !sent.password || sent.passwordType == "" ||
		strings.HasSuffix(sent.passwordType, "#PasswordText") ||
		sent.digest() {
		return nil
	}
	return one(exchange.Finding{
		Title: "the password's Type is not in the standard",
		Why: fmt.Sprintf("Its Type is %q; the standard has …#PasswordText and …#PasswordDigest.",
			cut(sent.passwordType, 120)),
		Evidence: []exchange.Evidence{{
			In: exchange.InRequestBody, Leg: len(c.X.Legs), Offset: int64(sent.passwordAt.Start),
			Length: int64(sent.passwordAt.Len()), Line: 1, Column: 1, Excerpt: cut(sent.passwordType, 120),
		}},
		Program: "send the whole URI of the password type",
	})
}

// securityHeaderDiffers is security that stands where, or as what, a service does not find it. Others may have a
// header of that name for themselves.
func securityHeaderDiffers(c *Case) []exchange.Finding {
	if !c.Imported || c.Reply == nil || c.Reply.Fault == nil {
		return nil
	}
	class := c.faultClass(c.Reply.Fault)
	if class != "read.fault-must-understand" && !strings.HasPrefix(class, "read.fault-security") {
		return nil
	}
	sent := c.sentFacts()
	if sent.stray == nil {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the security of the message is not where services look for it",
		Why:      sent.stray.why,
		Evidence: []exchange.Evidence{c.inSent(sent.stray.at)},
		Program:  sent.stray.advice,
	})
}

// tokenMalformed is a token or a timestamp that is not as the standard has it.
func tokenMalformed(c *Case) []exchange.Finding {
	if !c.Imported {
		return nil
	}
	sent := c.sentFacts()
	if c.Err == nil { // what was taken is no more than unusual, unless it is plainly wrong
		sent.odd = slices.DeleteFunc(sent.odd, func(o oddity) bool { return o.likely })
	}
	if len(sent.odd) == 0 {
		return nil
	}
	first := sent.odd[0]
	f := exchange.Finding{
		Title: "the security header is not as the standard has it", Why: first.why, Program: first.advice,
	}
	if first.likely {
		f.Certainty = exchange.Likely
	}
	for _, o := range sent.odd {
		f.Evidence = append(f.Evidence, c.inSent(o.at))
	}
	return one(f)
}

// inSent is evidence that points at the start tag of what stands at a place of the request's body.
func (c *Case) inSent(at xmltree.Span) exchange.Evidence {
	l := c.leg()
	e := exchange.Evidence{In: exchange.InRequestBody, Leg: len(c.X.Legs), Offset: int64(at.Start),
		Length: int64(at.Len()), Line: 1, Column: 1}
	if at.End <= len(l.RequestBody) {
		e.Line, e.Column = xmltree.Position(l.RequestBody, at.Start)
		tag, _, _ := bytes.Cut(l.RequestBody[at.Start:at.End], []byte(">")) // what it holds may be a secret
		e.Excerpt = cut(string(tag)+">", 120)
	}
	return e
}

// inRequestHead is evidence that points at a field of the request's head.
func (c *Case) inRequestHead(name string) []exchange.Evidence {
	l := c.leg()
	if l == nil {
		return nil
	}
	f := l.Request.Field(name)
	if f == nil {
		return nil
	}
	return []exchange.Evidence{
		{
			In:      exchange.InRequestHead,
			Leg:     len(c.X.Legs),
			Offset:  f.Span.Offset,
			Length:  f.Span.Length,
			Line:    1,
			Column:  1,
			Excerpt: cut(f.Name+": "+f.Value, 200),
		},
	}
}

// charsetDiffers is a request whose head, XML declaration and bytes do not say the
// same of its encoding (RFC 7303 §3: the head has the last word).
func charsetDiffers(c *Case) []exchange.Finding {
	l := c.leg()
	if !c.Imported || l == nil || len(l.RequestBody) == 0 || c.Draft == nil || // nil: nothing of it could be read
		len(requestNotXML(c)) > 0 {
		return nil
	}
	sent, begins := l.SentAt()
	_, params, _ := mime.ParseMediaType(l.SentMedia())
	said := strings.ToLower(params["charset"])
	declared := strings.ToLower(xmltree.DeclaredEncoding(sent))
	alias := func(s string) string {
		return strings.ReplaceAll(strings.TrimSuffix(strings.TrimSuffix(s, "le"), "be"), "utf8", "utf-8")
	}
	f := exchange.Finding{
		Title:    "the request names the wrong encoding",
		Program:  "write the message in the encoding that head and declaration name, both the same",
		Evidence: c.inRequestHead("Content-Type"),
	}
	switch {
	case said != "" && !xmltree.Known(said):
		nameless(&f, said)
	case said != "" && declared != "" && alias(said) != alias(declared):
		f.Why = fmt.Sprintf(
			"Its head says %s and its XML declaration %s; many services believe the head.",
			said,
			declared,
		)
	case (alias(said) == "utf-8" || said == "" && (declared == "" || alias(declared) == "utf-8")) &&
		!utf8.Valid(sent) && !bytes.HasPrefix(sent, []byte("\xff\xfe")) && !bytes.HasPrefix(sent, []byte("\xfe\xff")):
		at := notUTF8(sent)
		f.Why = fmt.Sprintf("It is to be UTF-8, and its byte %d, 0x%02x, cannot be that.", at, sent[at])
		f.Evidence = append([]exchange.Evidence{c.sentByte(l, sent, begins, at)}, f.Evidence...)
	default:
		return nil
	}
	if len(f.Evidence) == 0 {
		f.Evidence = []exchange.Evidence{
			{
				In:      exchange.InRequestBody,
				Leg:     len(c.X.Legs),
				Length:  1,
				Line:    1,
				Column:  1,
				Excerpt: cut(string(l.RequestBody[:min(60, len(l.RequestBody))]), 60),
			},
		}
	}
	return one(f)
}

// sentByte is evidence that points at a byte of a message, which begins in the request's body where begins says.
func (c *Case) sentByte(l *exchange.Leg, sent []byte, begins, at int) exchange.Evidence {
	e := exchange.Evidence{In: exchange.InRequestBody, Leg: len(c.X.Legs), Length: 1,
		Offset: int64(max(begins, 0) + at), Excerpt: cut(string(sent[max(at-20, 0):min(at+20, len(sent))]), 80)}
	e.Line, e.Column = xmltree.Position(sent, at)
	if begins > 0 {
		e.Line, e.Column = xmltree.Position(l.RequestBody, begins+at)
	}
	return e
}

// nameless tells of a charset that is none.
func nameless(f *exchange.Finding, said string) {
	f.Why = fmt.Sprintf("Its head says %q, and no encoding has that name.", cut(said, 60))
	if bare := strings.Trim(said, "'"); bare != said && xmltree.Known(bare) {
		f.Why = fmt.Sprintf(
			"Its head says %s: the apostrophes count as part of the name; only double quotes may stand round it.", said)
		f.Program = "write charset=" + bare
	}
}

// notUTF8 is where the first byte stands that is not UTF-8.
func notUTF8(b []byte) (at int) {
	for at < len(b) {
		r, n := utf8.DecodeRune(b[at:])
		if r == utf8.RuneError && n == 1 {
			break
		}
		at += n
	}
	return at
}
