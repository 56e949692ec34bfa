package diagnose

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"compress/zlib"
	"errors"
	"fmt"
	"html"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/pattern"
	"orenda/internal/related"
	"orenda/internal/soap"
	"orenda/internal/wire"
)

// Rules of receive.
//
//nolint:gochecknoglobals // a table: it is never written to
var receiveRules = []Rule{
	{"receive.over-limit", exchange.Stop, exchange.Yours, overLimit},
	{"receive.over-buffer", exchange.Stop, exchange.Yours, overBuffer},
	{"receive.inflated-over-limit", exchange.Stop, exchange.Yours, inflatedOverLimit},
	{"receive.truncated", exchange.Stop, exchange.Theirs, truncated},
	{"receive.stalled", exchange.Stop, exchange.Theirs, stalled},
	{"receive.timed-out", exchange.Stop, exchange.Theirs, receiveTimedOut},
	{"receive.bad-chunk", exchange.Stop, exchange.Theirs, badChunk},
	{"receive.bad-compression", exchange.Stop, exchange.Theirs, badCompression},
	{"receive.not-http", exchange.Stop, exchange.Unknown, notHTTP},
	{"receive.head-too-large", exchange.Stop, exchange.Theirs, headTooLarge},

	{"receive.unauthorized", exchange.Stop, exchange.Yours, status(401, unauthorized)},
	{"receive.forbidden", exchange.Stop, exchange.Yours, status(403, func(_ *Case, f *exchange.Finding) {
		f.Title, f.Why = "the server forbids this call", "It answered 403: who calls is known well enough, and may not."
		f.Program = "ask the service's people for the right to call this operation"
	})},
	{"receive.not-found", exchange.Stop, exchange.Yours, notFound},
	{"receive.method-refused", exchange.Stop, exchange.Yours, status(405, func(c *Case, f *exchange.Finding) {
		allows := orNone(c.response().Get("Allow"))
		f.Title, f.Why = "the server takes no POST at this path", fmt.Sprintf(
			"It answered 405 and allows %s: the path is probably that of a web page, not of the service.",
			allows,
		)
		f.Program = "check the path in its endpoint address"
	})},
	{"receive.too-large", exchange.Stop, exchange.Theirs, status(413, func(c *Case, f *exchange.Finding) {
		f.Title, f.Why = "the message is larger than the server accepts", fmt.Sprintf(
			"It answered 413 to a body of %s bytes; that limit is the server's, not yours.",
			endpoint.Bytes(c.leg().Request.BodySize),
		)
		f.Program = "send less at a time, or have the service's people raise their limit"
	})},
	{"receive.coding-refused", exchange.Stop, exchange.Yours, codingRefused},
	{"receive.length-required", exchange.Stop, exchange.Yours, lengthRequired},
	{"receive.media-type-refused", exchange.Stop, exchange.Yours, mediaTypeRefused},
	{"receive.not-kept", exchange.Stop, exchange.Yours, notKept},
	{"receive.redirect-followed", exchange.Note, exchange.Theirs, followed},
	{"receive.expectation-refused", exchange.Stop, exchange.Yours, expectationRefused},
	{"receive.redirected", exchange.Stop, exchange.Yours, redirected},
	{"receive.gateway", exchange.Stop, exchange.Between, gateway},
	{"receive.server-error", exchange.Stop, exchange.Theirs, serverError},
	{"receive.client-error", exchange.Stop, exchange.Unknown, clientError},
	{"receive.accepted-only", exchange.Warn, exchange.Theirs, acceptedOnly},
	{"receive.length-differs", exchange.Warn, exchange.Theirs, replyLengthDiffers},
	{"receive.head-malformed", exchange.Warn, exchange.Theirs, headMalformed},
	{"receive.type-differs", exchange.Warn, exchange.Theirs, typeDiffers},
	{"receive.status-differs", exchange.Warn, exchange.Theirs, statusDiffers},
	{"receive.not-soap", exchange.Stop, exchange.Unknown, notSOAP},
}

// limitEvidence is where a limit fell: the announcement, or the byte.
func (c *Case) limitEvidence(announced, got int64) []exchange.Evidence {
	if announced >= 0 {
		if ev := c.inHead("Content-Length"); ev != nil {
			return ev
		}
	}
	return []exchange.Evidence{c.inBody(int(got), 1)}
}

// proposal is a limit that would hold a reply, with the reasoning.
func (c *Case) proposal(size int64) (limit int64, reason string) {
	limit = endpoint.RoundLimit(size)
	if l := c.sizes(); l.Count > 1 {
		if l.Largest > size {
			limit = endpoint.RoundLimit(l.Largest)
		}
		return limit, fmt.Sprintf(
			"%s would hold it and every one of the %d kept replies to %s",
			endpoint.FormatSize(limit),
			l.Count,
			c.X.Operation,
		)
	}
	return limit, fmt.Sprintf("%s would hold it with room to spare", endpoint.FormatSize(limit))
}

func overLimit(c *Case) []exchange.Finding {
	e := c.onWire("receive.over-limit")
	if e == nil {
		return nil
	}
	return one(c.tooLarge(e.Announced, e.Got, e.Limit, "receive limit"))
}

// MaxAnnounced is the size of a reply, in bytes, beyond which no limit is
// offered for it.
const MaxAnnounced = 1 << 40

func (c *Case) tooLarge(announced, got, limit int64, what string) exchange.Finding {
	f := exchange.Finding{Title: "the reply is larger than the " + what, Evidence: c.limitEvidence(announced, got)}
	size := announced
	if announced > MaxAnnounced {
		f.Why = fmt.Sprintf(
			"It announces %s bytes; the %s is %s. No program takes that in: the announcement is damaged, or meant to "+
				"do harm.",
			endpoint.Bytes(announced),
			what,
			endpoint.Bytes(limit),
		)
		f.Program = "nothing: no limit of it would do; tell the service's people what their Content-Length says"
		f.Side = exchange.Theirs
		return f
	}
	if announced >= 0 {
		_, reason := c.proposal(size)
		f.Why = fmt.Sprintf("The reply is %s bytes; the %s is %s; %s.",
			endpoint.Bytes(announced), what, endpoint.Bytes(limit), reason)
	} else {
		size = limit * 4
		f.Why = fmt.Sprintf("%s bytes were accepted and more were coming; the reply does not announce its size.",
			endpoint.Bytes(got))
	}
	would, _ := c.proposal(size)
	w := endpoint.FormatSize(would)
	f.Program = fmt.Sprintf("raise its limit for received messages to %s or more, and its buffer to the same", w)
	f.Remedies = c.raise(would)
	return f
}

// raise lifts the receive limit, and the buffer limit with it where one is set.
func (c *Case) raise(to int64) []exchange.Remedy {
	w := endpoint.FormatSize(to)
	keys := []string{"receive-limit"}
	title := "raise the receive limit to " + w
	if c.Settings.Get("buffer-limit").IsSet() {
		keys = append(keys, "buffer-limit")
		title = "raise receive and buffer limit to " + w
	}
	if r, err := c.Settings.Size("receive-limit"); err == nil && r >= to {
		keys, title = []string{"buffer-limit"}, "raise the buffer limit to "+w
	}
	return c.remedies(title, keys, w)
}

func overBuffer(c *Case) []exchange.Finding {
	e := c.onWire("receive.over-buffer")
	if e == nil {
		return nil
	}
	f := c.tooLarge(e.Announced, e.Got, e.Limit, "buffer limit")
	f.Why += " The reply is taken in whole, so it must fit into the buffer."
	if r, err := c.Settings.Size("receive-limit"); err == nil && r > e.Limit && r >= e.Announced {
		w := endpoint.FormatSize(r)
		f.Remedies = append(
			c.remedies("set the buffer limit to the receive limit, "+w, []string{"buffer-limit"}, w),
			f.Remedies...)
	}
	f.Remedies = append(f.Remedies, c.remedies("take replies in flowing", []string{"intake"}, "flowing")...)
	return one(f)
}

func inflatedOverLimit(c *Case) []exchange.Finding {
	e := c.onWire("receive.inflated-over-limit")
	if e == nil {
		return nil
	}
	to := endpoint.FormatSize(e.Limit * 4)
	return one(exchange.Finding{
		Title: "the reply is too large once it is decompressed",
		Why: fmt.Sprintf(
			"%s bytes came; decompressed they are more than the limit of %s.",
			endpoint.Bytes(e.Announced),
			endpoint.Bytes(e.Limit),
		),
		Evidence: c.inHead(
			"Content-Encoding",
		), Remedies: c.remedies("raise the decompressed limit to "+to, []string{"inflated-limit"}, to),
		Program: "raise its limit for decompressed messages, or ask for no compression",
	})
}

func truncated(c *Case) []exchange.Finding {
	e := c.onWire("receive.truncated")
	if e == nil {
		return nil
	}
	f := exchange.Finding{
		Title:    "the reply ended too early",
		Evidence: []exchange.Evidence{c.inBody(int(e.Got), 1)},
		Program:  "nothing; the service or something in between cut its reply short",
	}
	switch {
	case e.Announced >= 0:
		f.Why = fmt.Sprintf(
			"%s bytes were announced and %s came before the connection was closed.",
			endpoint.Bytes(e.Announced),
			endpoint.Bytes(e.Got),
		)
		f.Evidence = append(f.Evidence, c.inHead("Content-Length")...)
	case c.response() == nil:
		f.Why = "The connection was closed within the head of the reply."
		f.Evidence = []exchange.Evidence{
			{
				In:      exchange.InResponseHead,
				Leg:     len(c.X.Legs),
				Offset:  max(e.Got-1, 0),
				Length:  1,
				Line:    1,
				Column:  1,
				Excerpt: cut(string(c.leg().In.Bytes()), 120),
			},
		}
	case !c.response().Chunked:
		f.Why = fmt.Sprintf("The connection was reset after %s bytes. The head declares neither length nor chunks, so "+
			"that nobody can tell whether more was to come.", endpoint.Bytes(e.Got))
	default:
		f.Why = fmt.Sprintf("The connection was closed after %s bytes, before the last chunk.", endpoint.Bytes(e.Got))
	}
	return one(f)
}

func stalled(c *Case) []exchange.Finding {
	e := c.onWire("receive.stalled")
	if e == nil {
		return nil
	}
	quiet := limitWords(c, "receive-time")
	if c.GivenUp {
		quiet = c.Waited.Round(time.Millisecond).String()
	}
	f := exchange.Finding{
		Title: "the reply stopped coming",
		Why: fmt.Sprintf("%s bytes of body came, then nothing for %s.",
			endpoint.Bytes(e.Got), quiet),
		Evidence: []exchange.Evidence{
			c.inBody(int(e.Got), 1),
			c.inSettings("receive-time", 0, 1),
		}, Remedies: c.moreTime("receive-time"),
		Program: "raise its idle time limit, or ask why the service pauses",
	}
	switch h := c.response(); {
	case h == nil:
		f.Why = fmt.Sprintf("%s bytes of its head came, then nothing for %s.",
			endpoint.Bytes(e.Got), quiet)
		f.Evidence = f.Evidence[1:]
	case h.Declared < 0 && !h.Chunked && c.endsLikeEnvelope():
		f.Title = "the reply does not say where it ends"
		f.Why = fmt.Sprintf("%s bytes of body came, the end of an envelope last, then nothing for %s. The head "+
			"declares neither length nor chunks, so that only the end of the connection would end the reply, and it "+
			"stays open.",
			endpoint.Bytes(e.Got), quiet)
		f.Remedies = nil
		f.Program = "nothing; the service has to declare the length of its reply, or to close the connection"
	}
	if c.GivenUp {
		f.Why += " The program closed the connection."
		f.Evidence = slices.DeleteFunc(f.Evidence, func(e exchange.Evidence) bool {
			return e.In == exchange.InSettings
		})
	}
	return one(f)
}

// endsLikeEnvelope tells whether the last bytes that came are the end of an envelope.
func (c *Case) endsLikeEnvelope() bool {
	l := c.leg()
	end := bytes.TrimSpace(l.ResponseBody.Range(max(l.ResponseBody.Len()-64, 0), l.ResponseBody.Len()))
	return bytes.HasSuffix(end, []byte("Envelope>"))
}

func receiveTimedOut(c *Case) []exchange.Finding {
	e := c.onWire("receive.timed-out")
	if e == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the whole call took too long",
			Why:   c.coming(e) + c.total(e),
			Evidence: []exchange.Evidence{
				c.inSettings("total-time", 0, 1),
			},
			Remedies: c.moreTime("total-time"),
			Program:  "raise its limit on the whole call",
		},
	)
}

// coming says what came until the whole call had to end: bytes to the end, or none any more for a while.
func (c *Case) coming(e *wire.Error) string {
	const pause = time.Second
	last, end := int64(0), int64(0)
	for _, m := range c.X.Moments {
		if m.Kind == exchange.BytesIn || m.Kind == exchange.FirstByte {
			last = m.At
		}
	}
	if st := c.X.Stage(exchange.Receive); st != nil {
		end = st.StartedNs + st.DurationNs
	}
	if quiet := time.Duration(end - last).Round(10 * time.Millisecond); last > 0 && c.X.Dropped == 0 && quiet >= pause {
		return fmt.Sprintf("%s bytes of body came, then nothing for %s.", endpoint.Bytes(e.Got), quiet)
	}
	return fmt.Sprintf("Bytes were still coming, %s so far.", endpoint.Bytes(e.Got))
}

// outOfTime is the limit on the whole call, where it falls after everything has come.
func outOfTime(id, done string) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		e := c.onWire(id)
		if e == nil {
			return nil
		}
		size := int64(0)
		if l := c.leg(); l != nil {
			size = l.ResponseBody.Len()
		}
		return one(exchange.Finding{
			Title: "the whole call took too long",
			Why: fmt.Sprintf("All %s bytes had come, and were being %s.%s",
				endpoint.Bytes(size), done, c.total(e)),
			Evidence: []exchange.Evidence{c.inSettings("total-time", 0, 1)},
			Remedies: c.moreTime("total-time"),
			Program:  "raise its limit on the whole call, or ask for less",
		})
	}
}

func badChunk(c *Case) []exchange.Finding {
	if c.unsaidFraming() == inChunks {
		return one(exchange.Finding{
			Title:    "the reply is in chunks, and its head does not say so",
			Why:      "Its body begins with the size of a chunk; Transfer-Encoding: chunked is missing.",
			Evidence: append([]exchange.Evidence{c.inBody(0, 8)}, c.inHead("")...),
			Program:  "nothing; the service, or something between, takes the field off and leaves the chunks",
		})
	}
	e := c.onWire("receive.bad-chunk")
	if e == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the chunks of the reply are not in order",
			Why:   fmt.Sprintf("After %s bytes of body, %v.", endpoint.Bytes(e.Got), e.Err),
			Evidence: []exchange.Evidence{
				c.inBody(int(e.Got), 1),
			},
			Program: "nothing; the service or a proxy breaks the transfer coding",
		},
	)
}

func badCompression(c *Case) []exchange.Finding {
	e := c.onWire("receive.bad-compression")
	if e == nil {
		return nil
	}
	f := exchange.Finding{
		Title:    "the reply cannot be decompressed",
		Why:      fmt.Sprintf("It is marked %s: %s.", c.leg().Response.Coding, codingWords(e.Err)),
		Evidence: c.inHead("Content-Encoding"),
		Program:  "ask for no compression, or ask the service's people to correct it",
	}
	if asked := c.leg().Request.Get("Accept-Encoding"); asked == "" || strings.EqualFold(asked, "identity") {
		f.Why += " Nobody asked for a compression."
		f.Program = "nothing; the service's people have to send it as it is to programs that ask for nothing else"
	}
	if strings.HasPrefix(strings.ToLower(c.leg().Response.Coding), "utf-") {
		f.Title = "the reply names an encoding of characters as its compression"
		f.Program = "nothing; the service's people have to move it: it belongs into Content-Type, as its charset"
	}
	return one(f)
}

// codingWords says what is wrong with compressed bytes.
func codingWords(err error) string {
	switch {
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, zlib.ErrHeader):
		return "its bytes do not begin like that, or others stand behind"
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return "it ends too early, or other bytes stand behind"
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, zlib.ErrChecksum):
		return "its checksum is wrong"
	}
	return err.Error()
}

func notHTTP(c *Case) []exchange.Finding {
	e := c.onWire("receive.not-http")
	if e == nil || len(plainToTLS(c)) > 0 {
		return nil
	}
	in := c.leg().In.Bytes()
	why := fmt.Sprintf("It answered with %q.", cut(string(in), 80))
	title := fmt.Sprintf("what answers at %s is not an HTTP server", c.host())
	program := "check the port in its endpoint address"
	const broken = "nothing; the service, or something between, breaks the head of its reply"
	switch at := bytes.TrimLeft(in, " \t\r\n"); {
	case e.Err != nil:
		title, program = "the first line of the reply is no status line", broken
		why = upperFirst(e.Err.Error()) + "."
	case bytes.HasPrefix(at, []byte("HTTP/1.")):
		title, program = "something stands before the status line of the reply", broken
		why = fmt.Sprintf("%s before it.", upperFirst(counted(len(in)-len(at), "byte of white space stands",
			"bytes of white space stand")))
	case bytes.HasPrefix(at, []byte("<")):
		title, program = "the reply has no head", broken
		why += " It is XML without a status line and fields, which no HTTP/1.1 has."
	}
	if is := namedPeer(in); is != "" {
		why += " " + is
	}
	return one(exchange.Finding{Title: title, Why: why,
		Evidence: []exchange.Evidence{
			{
				In:      exchange.InResponseHead,
				Leg:     len(c.X.Legs),
				Length:  int64(min(len(in), 64)),
				Line:    1,
				Column:  1,
				Excerpt: cut(string(in), 120),
			},
		},
		Program: program})
}

func headTooLarge(c *Case) []exchange.Finding {
	e := c.onWire("receive.head-too-large")
	if e == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the reply's head is too large",
			Why:   fmt.Sprintf("More than %s bytes of header came without an end.", endpoint.Bytes(e.Limit)),
			Evidence: []exchange.Evidence{
				{
					In:      exchange.InResponseHead,
					Leg:     len(c.X.Legs),
					Offset:  e.Limit,
					Length:  1,
					Line:    1,
					Column:  1,
					Excerpt: cut(string(c.leg().In.Range(0, 200)), 120),
				},
			},
			Program: "nothing; the service sends too many header fields",
		},
	)
}

// isAnswer tells whether an envelope came, whatever the status says.
func (c *Case) isAnswer() bool { return c.Reply != nil }

func mediaTypeRefused(c *Case) []exchange.Finding {
	h := c.response()
	var f *soap.Fault
	if c.Reply != nil {
		f = c.Reply.Fault
	}
	if h == nil || h.Status != 415 && (f == nil || !mediaTypeFault(f)) || c.isAnswer() && f == nil ||
		f == nil && len(codingRefused(c)) > 0 {
		return nil
	}
	set := c.sent()
	other := soap.V12
	if set == soap.V12 {
		other = soap.V11
	}
	if c.Port != nil && c.Port.Version != soap.Unset && c.Port.Version != set {
		other = c.Port.Version
	}
	out := exchange.Finding{
		Title: "the server does not take this media type",
		Why: fmt.Sprintf("It answered %d to %s, the media type of SOAP %s; services that speak only SOAP %s do that.",
			h.Status, set.MediaType(), set, other),
		Evidence: c.inHead(""), Remedies: c.useVersion(other.String()),
		Program: "let your program send SOAP " + other.String(), Certainty: exchange.Likely,
	}
	if said, odd := c.oddMedia(set); odd {
		out.Why = fmt.Sprintf("It answered %d to %s; SOAP %s is sent as %s.",
			h.Status, cmp.Or(said, "a request that says none"), set, set.MediaType())
		out.Remedies, out.Program = nil, "send Content-Type: "+set.MediaType()+"; charset=utf-8"
		out.Evidence = append(c.inHead(""), c.inRequestHead("Content-Type")...)
	}
	if f != nil {
		out.Why += " " + reason(f)
		if other := c.otherMedia(f); other != "" {
			out.Why = fmt.Sprintf("%s What was sent is %s.", reason(f), cut(c.leg().Request.Get("Content-Type"), 80))
			out.Title = "the server speaks of a media type that was not sent: " + other
			out.Side, out.Remedies = exchange.Between, nil
			out.Program = "nothing; something between changes the request, or the service speaks of what it called " +
				"itself"
		}
	}
	return one(out)
}

// mediaWord is a media type of messages as a text names it.
var mediaWord = pattern.New(`(?i)\b(application|text|multipart)/[a-z0-9.+-]+`)

// otherMedia is the media type that a fault speaks of and that was not sent, where it does not speak of the one that
// was; "" there is none. That it expects another is what every such fault says.
func (c *Case) otherMedia(f *soap.Fault) string {
	l := c.leg()
	all := mediaWord.FindAllString(f.Reason, -1)
	if l == nil || !headKnown(l) || len(all) != 1 || expectsWords.MatchString(f.Reason) ||
		strings.Contains(strings.ToLower(l.Request.Get("Content-Type")), strings.ToLower(all[0])) {
		return ""
	}
	return all[0]
}

// expectsWords introduce what a service wants.
var expectsWords = pattern.New(`(?i)\b(expect\w*|only|supports?|supported|accepts?|must be|should be|use|requires?)\b`)

// oddMedia is the media type of the request, and whether it is another than that of the SOAP version.
func (c *Case) oddMedia(v soap.Version) (said string, odd bool) {
	l := c.leg()
	if l == nil || !headKnown(l) {
		return "", false
	}
	said = l.Request.Get("Content-Type")
	media, _, err := mime.ParseMediaType(said)
	return cut(said, 120), !related.Is(said) && (err != nil || !strings.EqualFold(media, v.MediaType()))
}

// mediaTypeFault tells whether a fault is about the content type of the request.
func mediaTypeFault(f *soap.Fault) bool {
	return says(f, "receive.media-type-refused")
}

// followed tells of redirects that were followed, so that none is silent.
func followed(c *Case) []exchange.Finding {
	if len(c.Followed) == 0 {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the server sent the call elsewhere, and it was followed",
		Why:      fmt.Sprintf("It went on to %s, as the same POST.", strings.Join(c.Followed, ", then ")),
		Evidence: []exchange.Evidence{c.inSettings("redirects", 0, 6)},
		Remedies: []exchange.Remedy{
			exchange.NewRemedy(
				"call "+c.Followed[len(c.Followed)-1]+" directly",
				c.changeHere("address", strings.ReplaceAll(c.Followed[len(c.Followed)-1], "$", "$$")),
			),
		},
		Program: "call the new address directly; many programs follow such an answer with a GET, and lose the message",
	})
}

func notKept(c *Case) []exchange.Finding {
	e := c.onWire("receive.not-kept")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title: "the reply could not be kept on this machine's disk",
		Why: fmt.Sprintf(
			"After %s bytes: %v. A flowing reply that is large is kept in the folder for temporary files (TMPDIR).",
			endpoint.Bytes(e.Got),
			e.Err,
		),
		Evidence: []exchange.Evidence{c.inSettings("intake", 0, 7), c.inSettings("receive-limit", 0, 1)},
		Program:  "nothing: the service sends, and this machine has no room",
	})
}

func acceptedOnly(c *Case) []exchange.Finding {
	if c.Later != nil {
		return nil // that is how it is meant
	}
	h := c.response()
	if h == nil || h.Status != 202 && h.Status != 204 || c.Operation == nil || c.Operation.OneWay() || c.isAnswer() {
		return nil
	}
	return one(
		exchange.Finding{
			Title:    "the call was accepted, and no reply came",
			Why:      fmt.Sprintf("The server answered %d; the contract promises a reply.", h.Status),
			Evidence: c.inHead(""),
			Program:  "do not wait for a reply here, or ask where it is sent",
		},
	)
}

func typeDiffers(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || c.Reply == nil {
		return nil
	}
	said := h.Get("Content-Type")
	v := soap.VersionOfMedia(said)
	media, _, err := mime.ParseMediaType(said)
	if v == c.Reply.Version && err == nil {
		return nil
	}
	if v == soap.Unset && (media == "application/xml" || strings.HasPrefix(media, "multipart/")) {
		return nil
	}
	f := exchange.Finding{Title: "content type and envelope do not agree", Evidence: c.inHead("Content-Type"),
		Why: fmt.Sprintf("The reply is marked %s, and holds an envelope of SOAP %s.", cut(said, 80),
			c.Reply.Version),
		Program: "be ready for a reply whose content type is wrong"}
	switch {
	case said == "":
		f.Title, f.Evidence = "the reply says no content type", c.inHead("")
		f.Why = fmt.Sprintf("It holds an envelope of SOAP %s, which is %s.", c.Reply.Version,
			c.Reply.Version.MediaType())
	case err != nil:
		f.Title = "the reply's content type cannot be read"
		f.Why = fmt.Sprintf("It is %q: what follows the media type is no parameter.", cut(said, 80))
	}
	return one(f)
}

func statusDiffers(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || c.Reply == nil {
		return nil
	}
	switch {
	case c.Reply.Fault == nil && h.Status >= 400 && c.nearFault() == nil:
		return one(
			exchange.Finding{
				Title:    "an answer came under an error status",
				Evidence: c.inHead(""),
				Why:      fmt.Sprintf("The status is %d, and the envelope holds no fault.", h.Status),
				Program:  "read the envelope before judging by the status",
			},
		)
	case c.Reply.Fault != nil && h.Status == 200:
		return one(
			exchange.Finding{
				Severity: exchange.Note,
				Title:    "a fault came under the status 200",
				Evidence: c.inHead(""),
				Why:      "Programs that judge by the status alone take it for success.",
				Program:  "look for a fault in every reply",
			},
		)
	}
	return nil
}

func notSOAP(c *Case) []exchange.Finding {
	h := c.response()
	if h == nil || c.Fetch || c.isAnswer() || h.Status >= 300 || !h.BodyWhole || h.BodySize == 0 {
		return nil
	}
	media, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	status, head := fmt.Sprintf("The status is %d.", h.Status), c.inHead("Content-Type")
	if c.HeadMade {
		media, status, head = "", "", nil
	}
	body := c.leg().ResponseBody.Bytes()
	if kind, helps := namedKind(media, body); kind != "" {
		return one(exchange.Finding{
			Title: "the answer is " + kind + ", which is not read here",
			Why: strings.TrimSpace(status + " It may be a right answer, in an encoding that this program " +
				"does not read."),
			Evidence: append([]exchange.Evidence{c.inBody(0, min(len(body), 16))}, head...),
			Program:  helps,
		})
	}
	is := c.insteadOfSOAP(media, body)
	if is.what == "" {
		return nil
	}
	f := exchange.Finding{
		Title:    "the answer is " + is.short() + ", not SOAP",
		Evidence: append([]exchange.Evidence{c.inBody(0, min(len(body), 120))}, head...),
		Why:      status,
		Program:  "check the path in its endpoint address; a log-in or error page may stand in front of the service",
	}
	insteadWords(&f, is)
	if is.what != is.short() {
		f.Why += fmt.Sprintf(" It is %s.", is.what)
	}
	kind := noText(body)
	if kind != "" && (is.what == inBinary || is.kind == typedKind) {
		f.Why += " " + kind
	} else if t := quoteTitle(body); t != "" && kind == "" && is.kind != packedKind {
		f.Why += " It says: " + t + "."
	}
	if f.Why = strings.TrimSpace(f.Why); f.Why == "" {
		f.Why = "It has no head: of what it is, only its bytes tell."
	}
	return one(f)
}

// insteadWords says what the program has to do about an answer that is something else.
func insteadWords(f *exchange.Finding, is likeness) {
	switch {
	case is.kind == packedKind:
		f.Title, f.Side = "the answer is compressed, and its head does not say so", exchange.Theirs
		f.Program = "nothing; the service, or something between, has to say Content-Encoding, or to send it as it is"
	case is.kind == writtenKind:
		f.Side, f.Program = exchange.Theirs, "nothing; the service sends its envelope written in another way"
	case is.what == "JSON":
		f.Program = "check the path in its endpoint address; what answers there speaks JSON"
	}
}

// insteadOfSOAP tells what an answer is that is no XML, or a page: by its bytes, else by its media type.
func (c *Case) insteadOfSOAP(media string, body []byte) likeness {
	readable := c.ReplyErr == nil && c.ReplyDoc != nil
	switch {
	case media == "text/html" || contract.LooksLikeHTML(body):
		return likeness{what: "an HTML page"}
	case readable || strings.HasPrefix(media, "multipart/") || Blank(body):
		return likeness{}
	}
	is := looksLike(media, body)
	if is.what == "" && media != "" && !strings.Contains(media, "xml") {
		is = likeness{what: "something of the type " + media, kind: typedKind}
	}
	return is
}

// noText says in a sentence what bytes are that are no text; "" where they may be.
func noText(body []byte) string {
	b := body[:min(len(body), 512)]
	switch kind := http.DetectContentType(b); {
	case strings.HasPrefix(kind, "text/"),
		bytes.HasPrefix(bytes.TrimLeft(b, "\x00 \t\r\n"), []byte("<")): // markup, perhaps with a byte that cannot be
		return ""
	case kind == "application/x-gzip":
		return "It is compressed (gzip), and no Content-Encoding says so."
	case kind != "application/octet-stream":
		return "It is " + kind + "."
	}
	return fmt.Sprintf("It is not text: % x.", b[:min(len(b), 12)])
}

var (
	titleTag = pattern.New(`(?is)<title[^>]*>(.*?)</title>`)
	anyTag   = pattern.New(`(?s)<(script|style)[^>]*>.*?</(script|style)>|<[^>]*>`)
)

// quoteTitle is the title of a page, or its first words, in quotes.
func quoteTitle(body []byte) string {
	s := string(body[:min(len(body), 8192)])
	if m := titleTag.FindStringSubmatch(s); m != nil && strings.TrimSpace(m[1]) != "" {
		return "“" + cut(html.UnescapeString(m[1]), 120) + "”"
	}
	s = cut(html.UnescapeString(anyTag.ReplaceAllString(s, " ")), 120)
	if s == "" {
		return ""
	}
	return "“" + s + "”"
}
