package diagnose

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"unicode"
	"unicode/utf8"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/http1"
	"orenda/internal/pattern"
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

// challenged tells whether a fault came with a question for HTTP authentication, and says no more than that: neither
// its code nor its detail is one that a standard or the contract has.
func (c *Case) challenged() bool {
	h := c.response()
	if h == nil || h.Status != http.StatusUnauthorized || h.Get("WWW-Authenticate") == "" || c.Reply == nil ||
		c.Reply.Fault == nil || c.classByCode(c.Reply.Fault) != "" {
		return false
	}
	e, _ := c.declaredFault(c.Reply.Fault)
	return e == nil
}

func status(code int, fill func(*Case, *exchange.Finding)) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		h := c.response()
		if h == nil || h.Status != code || c.isAnswer() && !c.challenged() || !h.BodyWhole || c.certificatePage() {
			return nil
		}
		f := exchange.Finding{Evidence: c.inHead("")}
		fill(c, &f)
		if c.isAnswer() {
			f.Why += " " + reason(c.Reply.Fault)
			f.Evidence = append(f.Evidence, c.faultEvidence(c.Reply.Fault)...)
		} else if t := quoteTitle(c.leg().ResponseBody.Bytes()); t != "" {
			f.Why += " It says: " + t + "."
		}
		return one(f)
	}
}

// unauthorized tells of a question for HTTP authentication (RFC 9110 §11.6.1): what is offered, and what of it is set.
func unauthorized(c *Case, f *exchange.Finding) {
	f.Title = "the server asks for HTTP authentication"
	var all []string
	for _, field := range c.response().Fields {
		if strings.EqualFold(field.Name, "WWW-Authenticate") {
			all = append(all, field.Value)
		}
	}
	offered := strings.Join(all, "; ")
	f.Why = fmt.Sprintf("It answered 401 and offers: %s.", cut(offered, 160))
	f.Evidence = append(f.Evidence, c.inHead("WWW-Authenticate")...)
	f.Program = "let your program authenticate with HTTP: " + cut(offered, 80)
	if offered == "" {
		f.Why = "It answered 401, and does not say by which method (WWW-Authenticate is missing)."
		f.Program = "ask the service's people how programs are to authenticate"
	}
	if set := c.Settings.Text("http-auth"); set != "none" {
		sent := ""
		if l := c.leg(); l != nil {
			sent, _, _ = strings.Cut(l.Request.Get("Authorization"), " ")
		}
		switch {
		case sent == "":
			f.Why += fmt.Sprintf(" What is set is %s, which it does not offer; nothing was sent.", set)
			for _, kind := range []string{"basic", "digest", "ntlm"} {
				if strings.Contains(strings.ToLower(offered), kind) && set != kind {
					f.Remedies = append(
						f.Remedies,
						c.remedies("authenticate with HTTP "+kind, []string{"http-auth"}, kind)...)
				}
			}
		case offered != "" && !strings.Contains(strings.ToLower(offered), strings.ToLower(sent)):
			f.Why += fmt.Sprintf(" What was sent is %s, which it does not offer.", strings.ToLower(sent))
			if strings.Contains(strings.ToLower(offered), "digest") {
				f.Remedies = append(
					f.Remedies,
					c.remedies("authenticate with HTTP digest", []string{"http-auth"}, "digest")...)
			}
		case strings.EqualFold(sent, "negotiate"):
			f.Why += " A Kerberos ticket was sent, and the server does not take it: its own keytab may be " +
				"old or for another principal, " +
				"its clock may differ, or who calls may not."
			f.Side = exchange.Theirs
		default:
			f.Why += fmt.Sprintf(
				" What was sent is %s as %s: user or password is probably wrong.",
				strings.ToLower(sent),
				orNone(c.Settings.Text("identity")),
			)
		}
		return
	}
	f.Why += " None is set for this endpoint."
	for _, kind := range []string{"digest", "basic", "bearer", "ntlm"} {
		if strings.Contains(strings.ToLower(offered), kind) {
			f.Remedies = append(f.Remedies, c.authRemedies(kind)...)
		}
	}
}

// authRemedies set up HTTP authentication for each identity that the person has.
func (c *Case) authRemedies(kind string) []exchange.Remedy {
	u, err := url.Parse(c.address())
	if err != nil {
		return nil
	}
	host, port := endpoint.HostPort(u)
	place := u.Scheme + "://" + host + ":" + port
	var out []exchange.Remedy
	for _, id := range c.withNew() {
		r := exchange.NewRemedy(
			fmt.Sprintf("authenticate with HTTP %s as %s", kind, who(id)),
			c.changeHere("identity", id.Name),
			c.changeHere("http-auth", kind),
			exchange.Change{Where: "user", Key: "allow." + id.Name, To: place},
		)
		r.Ask, r.Needs = fmt.Sprintf("the identity %s will be used at %s", id.Name, place), needOf(id)
		out = append(out, r)
	}
	return out
}

func notFound(c *Case) []exchange.Finding {
	return status(404, func(c *Case, f *exchange.Finding) {
		u, _ := url.Parse(c.address())
		f.Title = "there is no service at this path"
		path := ""
		if u != nil {
			path = u.RequestURI()
		}
		f.Why = fmt.Sprintf("The server answered 404 to %s.", path)
		f.Program = "check the path in its endpoint address"
		f.Evidence = append(f.Evidence, c.inAddress()...)
		if c.Port == nil || u == nil {
			return
		}
		if p, err := url.Parse(c.Port.Address); err == nil && p.Path != "" {
			if p.Path == u.Path {
				f.Why += " It is the path that the contract has."
				return
			}
			f.Why += fmt.Sprintf(" The contract has the path %s.", p.Path)
			v := c.Settings.Get("address").Text
			if i := strings.LastIndex(v, u.Path); i > 0 && u.Path != "" && u.Path != "/" {
				f.Remedies = append(
					f.Remedies,
					exchange.NewRemedy(
						"use the contract's path, "+p.Path,
						c.changeHere("address", v[:i]+p.Path+v[i+len(u.Path):]),
					),
				)
			} else {
				f.Remedies = append(f.Remedies, exchange.NewRemedy("use the contract's path, "+p.Path,
					c.changeHere("address", strings.TrimSuffix(v,
						"/")+p.Path)))
			}
		}
	})(c)
}

// codingRefused is a compressed request that the server does not take (RFC 9110 §15.5.16).
func codingRefused(c *Case) []exchange.Finding {
	h, l := c.response(), c.leg()
	if h == nil || h.Status != http.StatusUnsupportedMediaType || c.isAnswer() {
		return nil
	}
	if coding := l.Request.Get("Content-Encoding"); coding == "" || strings.EqualFold(coding, "identity") {
		if len(l.RequestBody) > 0 || h.Field("Accept-Encoding") == nil {
			return nil
		}
		return one(exchange.Finding{ // of the request nothing is known, and this is what such an answer says
			Title:    "the server does not take a compressed request",
			Why:      fmt.Sprintf("It answered %q and says which compressions it takes.", h.Line),
			Evidence: c.inHead("Accept-Encoding"), Certainty: exchange.Likely,
			Program: "switch the compression of its requests off",
		})
	}
	f := exchange.Finding{
		Title: "the server does not take a compressed request",
		Why: fmt.Sprintf("The request was compressed (%s), and it answered %q; few services take that.",
			l.Request.Get("Content-Encoding"), h.Line),
		Evidence:  append(c.inHead(""), c.inRequestHead("Content-Encoding")...),
		Remedies:  c.remedies("send it as it is", []string{"request-coding"}, "none"),
		Program:   "switch the compression of its requests off",
		Certainty: exchange.Likely,
	}
	if takes := h.Get("Accept-Encoding"); takes != "" || h.Field("Accept-Encoding") != nil {
		f.Certainty = exchange.Certain
		f.Why = fmt.Sprintf("The request was compressed (%s), and it answered %q and takes %q.",
			l.Request.Get("Content-Encoding"), h.Line, cmp.Or(takes, "none"))
		f.Evidence = append(c.inHead("Accept-Encoding"), f.Evidence...)
	}
	return one(f)
}

// lengthRequired is a request in chunks to a server that wants its length before (RFC 9110 §15.5.12), or that
// knows no chunks (RFC 9112 §6.1).
func lengthRequired(c *Case) []exchange.Finding {
	h, l := c.response(), c.leg()
	if h == nil || c.isAnswer() {
		return nil
	}
	chunked := l.Request.Chunked || http1.Says(l.Request.Get("Transfer-Encoding"), "chunked")
	if h.Status != http.StatusLengthRequired && (h.Status != http.StatusNotImplemented || !chunked) {
		return nil
	}
	f := exchange.Finding{
		Title:    "the server does not take a request in chunks",
		Why:      fmt.Sprintf("The request was sent in chunks, without its length, and it answered %q.", h.Line),
		Evidence: append(c.inHead(""), c.inRequestHead("Transfer-Encoding")...),
		Remedies: c.remedies("declare its length", []string{"transfer"}, "length"),
		Program:  "let it declare the length (Content-Length) in place of chunks; most programs have a switch for that",
	}
	switch {
	case h.Status == http.StatusNotImplemented:
		f.Certainty = exchange.Likely
	case !chunked:
		f.Title, f.Why = "the server wants the length of the request", fmt.Sprintf("It answered %q.", h.Line)
		f.Evidence, f.Remedies = c.inHead(""), nil
		if said := l.Request.Get("Content-Length"); said != "" {
			f.Why += fmt.Sprintf(" Its length was declared, %s: something between may take it off.", cut(said, 20))
			f.Side, f.Program = exchange.Between, "nothing; tell the service's people this status"
		}
	}
	return one(f)
}

func expectationRefused(c *Case) []exchange.Finding {
	h, l := c.response(), c.leg()
	if h == nil || h.Status != 417 || c.isAnswer() {
		return nil
	}
	f := exchange.Finding{
		Title: "the server does not allow the body to be sent", Why: "It answered 417 to the Expect header; many " +
			"servers and proxies do not know it.",
		Evidence: append(
			c.inHead(""),
			c.inSettings("expect-continue", 0, 4),
		), Remedies: c.remedies("send the body at once", []string{"expect-continue"}, "false"),
		Program: "switch its waiting for 100-continue off",
	}
	if headKnown(l) && l.Request.Get("Expect") == "" {
		f.Title = "the server expects something that nobody asked for"
		f.Why = "It answered 417, which is about the field Expect, and none was sent: something between may add it."
		f.Side, f.Evidence, f.Remedies = exchange.Between, c.inHead(""), nil
		f.Program = "nothing; tell the service's people this status"
	}
	return one(f)
}

// logInPage is the address of a page where people log in.
var logInPage = pattern.New(`(?i)(log|sign)[-_]?(in|on)\b|/sso\b|[?&]return(url|to)=`)

func redirected(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || h.Status < 300 || h.Status > 399 || h.Status == 304 {
		return nil
	}
	to := h.Get("Location")
	f := exchange.Finding{
		Title: "the server sends the call elsewhere", Evidence: append(c.inHead("Location"), c.inHead("")...),
		Why:     fmt.Sprintf("It answered %d and points to %s.", h.Status, cut(to, 160)),
		Program: "call the new address directly",
	}
	if c.Description {
		f.Title, f.Program = "the server sends elsewhere for the description", checkDescription
	}
	if to == "" {
		f.Why = fmt.Sprintf("It answered %d, and does not say where (Location is missing).", h.Status)
		f.Side, f.Program = exchange.Theirs, askAddress
		return one(f)
	}
	base, err := url.Parse(c.address())
	if err != nil {
		return one(f)
	}
	u, err := base.Parse(to)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		f.Why += " That is no address of HTTP, and nobody can follow it."
		f.Side, f.Program = exchange.Theirs, askAddress
	case u.String() == base.String():
		f.Title, f.Side = "the server sends the call to where it was made", exchange.Theirs
		if c.Description {
			f.Title = "the server sends on to the same address"
		}
		f.Why = fmt.Sprintf("It answered %d and points to %s, which is what was asked: this has no end.",
			h.Status, cut(to, 160))
		f.Program = "nothing; tell the service's people that the address points to itself"
	case logInPage.MatchString(u.Path + "?" + u.RawQuery):
		f.Title = "the server sends to a page where people log in"
		f.Why = fmt.Sprintf("It answered %d and points to %s. A page is no service: calling it brings no answer. "+
			"Who calls is not known to the server, or no longer.", h.Status, cut(to, 160))
		f.Program = "log in as the service wants programs to: a security token, HTTP authentication or a session"
	default:
		f.Why += c.notFollowed(h.Status, base, u)
		r := exchange.NewRemedy("call "+u.String(), c.changeHere("address", strings.ReplaceAll(u.String(), "$", "$$")))
		if u.Host != base.Host {
			r.Ask = "calls will go to another host: " + u.Host
		}
		f.Remedies = append(f.Remedies, r)
	}
	return one(f)
}

const askAddress = "nothing; ask the service's people what its address is now"

// notFollowed says what becomes of an answer that sends elsewhere.
func (c *Case) notFollowed(status int, from, to *url.URL) string {
	switch {
	case c.Description && from.Scheme == "https" && to.Scheme == "http":
		return " That is without TLS, and is not followed unasked."
	case c.Description:
		return " Such answers were followed, and led no further."
	case status == 301 || status == 302 || status == 303:
		return " Many programs follow that with a GET, and the message is lost."
	}
	return ""
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

const noFault = "An error of the service should come as a SOAP fault; this came without one."

func serverError(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || h.Status < 500 || h.Status >= 502 && h.Status <= 504 || c.isAnswer() || !h.BodyWhole {
		return nil
	}
	return one(c.statusFinding(exchange.Finding{
		Title:   fmt.Sprintf("the server failed with %d and no fault", h.Status),
		Why:     noFault,
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
