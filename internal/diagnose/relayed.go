package diagnose

import (
	"fmt"
	"mime"
	"strings"
	"unicode/utf8"

	"orenda/internal/exchange"
	"orenda/internal/xmltree"
)

// Rules of what another program sent, and Orenda passed on or was shown.
//
//nolint:gochecknoglobals // a table: it is never written to
var relayedRules = []Rule{
	{"send.length-differs", exchange.Warn, exchange.Yours, lengthDiffers},
	{"send.charset-differs", exchange.Warn, exchange.Yours, charsetDiffers},
}

// lengthDiffers is a declared length that is not the number of bytes.
func lengthDiffers(c *Case) []exchange.Finding {
	if !c.Imported || c.SentDeclared < 0 || c.SentDeclared == c.SentCame {
		return nil
	}
	f := exchange.Finding{
		Title:    "the declared length is not the number of bytes",
		Why:      fmt.Sprintf("The program declared %s bytes and sent %s.", Bytes(c.SentDeclared), Bytes(c.SentCame)),
		Evidence: c.inRequestHead("Content-Length"),
		Program:  "count the bytes of the encoded message, not its characters",
	}
	if len(f.Evidence) == 0 {
		f.Evidence = []exchange.Evidence{named("Content-Length", fmt.Sprintf("Content-Length: %d", c.SentDeclared))}
	}
	if c.Draft != nil && c.SentCame > c.SentDeclared {
		if n := int64(utf8.RuneCount(c.Draft.Bytes())); n == c.SentDeclared ||
			n+c.SentCame-int64(len(c.Draft.Bytes())) == c.SentDeclared {
			f.Why += " It is the number of its characters."
		}
	}
	if c.SentCame < c.SentDeclared {
		f.Severity = exchange.Stop
		f.Why += " Whoever reads it waits for the rest."
	} else {
		f.Why += " The service reads what was declared, and takes the rest for another request."
	}
	return one(f)
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
	if !c.Imported || l == nil || len(l.RequestBody) == 0 {
		return nil
	}
	_, params, _ := mime.ParseMediaType(l.Request.Get("Content-Type"))
	said := strings.ToLower(params["charset"])
	declared := strings.ToLower(xmltree.DeclaredEncoding(l.RequestBody))
	alias := func(s string) string {
		return strings.ReplaceAll(strings.TrimSuffix(strings.TrimSuffix(s, "le"), "be"), "utf8", "utf-8")
	}
	f := exchange.Finding{
		Title:    "the request does not say truly in which encoding it is",
		Program:  "write the message in the encoding that head and declaration name, both the same",
		Evidence: c.inRequestHead("Content-Type"),
	}
	switch {
	case said != "" && declared != "" && alias(said) != alias(declared):
		f.Why = fmt.Sprintf(
			"Its head says %s and its XML declaration %s; many services believe the head.",
			said,
			declared,
		)
	case (alias(said) == "utf-8" || said == "" && (declared == "" || alias(declared) == "utf-8")) &&
		!utf8.Valid(l.RequestBody) && !strings.HasPrefix(string(l.RequestBody),
		"\xff\xfe") && !strings.HasPrefix(string(l.RequestBody), "\xfe\xff"):
		at := 0
		for at < len(l.RequestBody) {
			r, n := utf8.DecodeRune(l.RequestBody[at:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		line, col := xmltree.Position(l.RequestBody, at)
		f.Why = fmt.Sprintf("It is to be UTF-8, and its byte %d, 0x%02x, cannot be that.", at, l.RequestBody[at])
		f.Evidence = append(
			[]exchange.Evidence{
				{
					In:      exchange.InRequestBody,
					Leg:     len(c.X.Legs),
					Offset:  int64(at),
					Length:  1,
					Line:    line,
					Column:  col,
					Excerpt: cut(string(l.RequestBody[max(at-20, 0):min(at+20, len(l.RequestBody))]), 80),
				},
			},
			f.Evidence...)
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
