package diagnose

import (
	"fmt"
	"net/http"
	"strings"
	"unicode"
	"unicode/utf8"

	"orenda/internal/exchange"
	"orenda/internal/soap"
)

// What the status of an answer says that is no envelope (RFC 9110 §15, RFC 6585).

// statusWords are what a status says: a title, and in a sentence why; what the program has to do.
type statusWords struct {
	title, why, program string
	side                exchange.Side // "" as the rule has it
}

const askLog = "nothing yet; ask the service's people what their log says at this time"

// statuses are those that say more than that something is wrong.
//
//nolint:gochecknoglobals // a table: it is never written to
var statuses = map[int]statusWords{
	304: {
		"the server says that nothing has changed",
		"That answers a GET with a condition, which the request is not: something between may " +
			"have kept an older answer.",
		"nothing; tell the service's people this status", exchange.Between,
	},
	406: {
		"the server has no answer of the type that is asked for",
		"The request's field Accept may leave its type out.",
		"ask for text/xml and application/soap+xml in Accept, or leave the field out", exchange.Yours,
	},
	407: {
		"something between wants to know who calls",
		"Proxies answer like that, and the call went through none: it stands in front of the service.",
		"nothing; tell the people of the service, or of your network, this status", exchange.Between,
	},
	408: {
		"the server waited too long for the request",
		"The request did not arrive whole in the time that it gives.",
		"send the request at once; look for something between that holds it back", "",
	},
	410: {
		"there is no service at this path any more",
		"There was one, and it is gone for good.",
		"ask the service's people for the new address", exchange.Yours,
	},
	414: {
		"the address is too long for the server",
		"What stands behind the path is likely too much.",
		"check the path in its endpoint address", exchange.Yours,
	},
	421: {
		"the server does not serve this host name",
		"The name in the address, or in the field Host, is not one of its own.",
		"check the host name in its endpoint address", exchange.Yours,
	},
	422: {
		"the server can read the message, and does not take what it says",
		"A value in it is likely one that it does not accept.",
		"compare what your program sends with what works here", exchange.Yours,
	},
	426: {
		"the server wants another protocol",
		"It does not take the request as it was sent.",
		"use the protocol that it names", exchange.Yours,
	},
	429: {
		"the server gets too many calls",
		"Who calls may do so less often.",
		"call less often, and wait before the next call", exchange.Yours,
	},
	431: {
		"the request's header fields are too large for the server",
		"Long tokens, and cookies, are the usual reason.",
		"send fewer or shorter header fields", exchange.Yours,
	},
	501: {
		"the server does not know how to take this request",
		"It takes no POST at all, or none here.",
		"check the path in its endpoint address", "",
	},
	505: {
		"the server does not take this version of HTTP",
		"It takes another one than that of the request.",
		askLog, "",
	},
	507: {
		"the server has no room",
		"What it was to keep does not fit.",
		askLog, "",
	},
	508: {
		"the server turns in a circle",
		"What it calls leads back to it.",
		askLog, "",
	},
	511: {
		"the network wants a log-in before it lets calls through",
		"It is not the service that answered.",
		"log in to the network, or call from another one", exchange.Between,
	},
}

// statusFinding is what is said of the status of an answer that is no envelope.
func (c *Case) statusFinding(f exchange.Finding) exchange.Finding {
	h := c.response()
	f.Evidence = c.inHead("")
	if w, ok := statuses[h.Status]; ok {
		f.Title, f.Why, f.Program = w.title, fmt.Sprintf("It answered %q. %s", h.Line, w.why), w.program
		if w.side != "" {
			f.Side = w.side
		}
	}
	switch up := strings.ToUpper(h.Get("Upgrade")); {
	case h.Status == 426 && up != "":
		f.Why += fmt.Sprintf(" It names %s.", cut(h.Get("Upgrade"), 60))
		f.Evidence = append(c.inHead("Upgrade"), f.Evidence...)
		if strings.HasPrefix(up, "TLS") {
			f.Program = "use an https address"
		}
	case h.Status >= 512:
		f.Title = fmt.Sprintf("the answer has the status %d, which no standard has", h.Status)
		f.Why = fmt.Sprintf("It answered %q. Such a status comes mostly from something in front of the service.",
			h.Line)
		f.Side, f.Certainty = exchange.Between, exchange.Likely
		f.Program = "nothing; tell the service's people the time and this status"
	}
	if after := h.Get("Retry-After"); after != "" {
		f.Why += " " + retryAfter(after)
		f.Evidence = append(f.Evidence, c.inHead("Retry-After")...)
	}
	if root := c.replyRoot(); strings.EqualFold(root, "Fault") {
		f.Why = fmt.Sprintf("It answered %q with a fault without its envelope. %s", h.Line,
			reason(soap.ReadFault(c.sent(), c.ReplyDoc.Root())))
		f.Evidence = append(f.Evidence, c.inReply(c.ReplyDoc.Root().Span()))
	} else if t := quoteTitle(c.leg().ResponseBody.Bytes()); t != "" {
		f.Why += " It says: " + t + "."
		f.Evidence = append(f.Evidence, c.inBody(0, min(int(c.leg().ResponseBody.Len()), 200)))
	}
	return f
}

// replyRoot is the name of the root element of an answer that can be read.
func (c *Case) replyRoot() string {
	if c.ReplyDoc == nil || c.ReplyErr != nil {
		return ""
	}
	return c.ReplyDoc.Root().Name().Local
}

// retryAfter says when to try again (RFC 9110 §10.2.3).
func retryAfter(value string) string {
	if strings.Trim(value, "0123456789") == "" {
		return "It says to try again after " + cut(value, 12) + " s."
	}
	return "It says to try again after " + cut(value, 40) + "."
}

func gateway(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || h.Status < 502 || h.Status > 504 || c.isAnswer() || !h.BodyWhole {
		return nil
	}
	f := exchange.Finding{
		Title:   "something in front of the service answered, not the service",
		Program: "nothing; tell the service's people the time and this status",
	}
	switch h.Status {
	case http.StatusBadGateway:
		f.Why = "It answered 502: it got no sensible answer from the service behind it."
	case http.StatusGatewayTimeout:
		f.Why = "It answered 504: it got no answer in time from the service behind it."
	default: // a server says so of itself too
		f.Title, f.Certainty = "the service is not available now", exchange.Likely
		f.Why = "It answered 503: what is in front of the service finds nobody there, or the service itself takes " +
			"no more."
		f.Program = "try again later; tell the service's people the time and this status"
	}
	if s := h.Get("Server") + h.Get("Via"); s != "" {
		f.Why += fmt.Sprintf(" It calls itself %s.", cut(s, 60))
	}
	return one(c.statusFinding(f))
}

func serverError(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || h.Status < 500 || h.Status >= 502 && h.Status <= 504 || c.isAnswer() || !h.BodyWhole {
		return nil
	}
	return one(c.statusFinding(exchange.Finding{
		Title:   fmt.Sprintf("the server failed with %d and no fault", h.Status),
		Why:     "An error of the service should come as a SOAP fault; this came without one.",
		Program: askLog,
	}))
}

func clientError(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || h.Status != 304 && h.Status < 400 || h.Status > 499 || c.isAnswer() || !h.BodyWhole ||
		c.certificatePage() || c.refusalPage() != "" || len(plainToTLS(c)) > 0 {
		return nil
	}
	switch h.Status {
	case 401, 403, 404, 405, 411, 413, 415, 417:
		return nil
	case 407:
		if len(proxyRefused(c)) > 0 {
			return nil
		}
	}
	return one(c.statusFinding(exchange.Finding{
		Title:   fmt.Sprintf("the server refused the request with %d", h.Status),
		Why:     fmt.Sprintf("It answered %q.", h.Line),
		Program: "compare what your program sends with what works here",
	}))
}

// headMalformed is a head that can be read, and is not as HTTP has it (RFC 9112 §5, §6.3).
func headMalformed(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || len(h.Flaws) == 0 {
		return nil
	}
	f := exchange.Finding{
		Title:   "the reply's head is not as HTTP has it",
		Program: "nothing; some programs refuse such an answer: tell the service's people what is wrong with it",
	}
	var said []string
	for _, x := range h.Flaws {
		said = append(said, x.What)
		e := c.inHead("")[0]
		e.Offset, e.Length, e.Line, e.Excerpt = x.Span.Offset, x.Span.Length, 1, ""
		for i, field := range h.Fields {
			if field.Span.Offset <= x.Span.Offset {
				e.Line = i + 2
			}
			if field.Span == x.Span {
				e.Excerpt = cut(strings.TrimPrefix(field.Name+": "+field.Value, ": "), 200)
			}
		}
		if x.Span.Offset == 0 {
			e.Line, e.Excerpt = 1, cut(h.Line, 200)
		}
		f.Evidence = append(f.Evidence, e)
	}
	f.Why = upperFirst(list(said, 3)) + "."
	return one(f)
}

// replyLengthDiffers is a reply behind the declared end of which more came.
func replyLengthDiffers(c *Case) []exchange.Finding {
	l, h := c.leg(), c.response()
	if h == nil || l.Behind == 0 || l.Behind > l.In.Len() || l.Whole > 0 { // it came, and is kept
		return nil
	}
	from := l.In.Len() - l.Behind
	text := string(l.In.Range(from, min(l.In.Len(), from+200)))
	f := exchange.Finding{
		Title:    "more came than the reply's head declares",
		Evidence: c.inHead("Content-Length"),
		Program:  "nothing; the service, or something between, declares a length that is too small",
	}
	came := counted(int(l.Behind), "byte more came", "bytes more came") + " behind it: “" + cut(text, 80) + "”."
	switch {
	case h.Status == http.StatusNoContent || h.Status == http.StatusNotModified:
		f.Why = fmt.Sprintf("An answer of the status %d has no body; %s", h.Status, came)
	case strings.HasPrefix(text, "HTTP/1."):
		f.Title, f.Why = "another answer came behind the reply", "Nobody asked for it: "+came
		f.Program = "nothing; some programs take it for the answer to their next call: let yours close the connection"
	case h.Declared >= 0:
		f.Why = fmt.Sprintf("It declares %s; %s", counted(int(h.Declared), "byte", "bytes"), came)
		body := l.ResponseBody.Bytes()
		if more := len(body) - utf8.RuneCount(body); more > 0 && h.Coding == "" {
			f.Why += fmt.Sprintf(" The body has %s than characters: the service may count these.",
				counted(more, "byte more", "bytes more"))
		}
	default:
		f.Title = "more came behind the last chunk of the reply"
		f.Why, f.Evidence = upperFirst(came), c.inHead("Transfer-Encoding")
	}
	if len(f.Evidence) == 0 {
		f.Evidence = c.inHead("")
	}
	return one(f)
}

// upperFirst is a text that begins with a capital.
func upperFirst(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}
