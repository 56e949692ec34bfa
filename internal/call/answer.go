package call

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"orenda/internal/related"
	"runtime/debug"
	"strconv"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// run reads the answer.
func (c *reading) run(ctx context.Context) (exchange.Stage, error) {
	h := &c.leg.Response
	oneWay := c.operation != nil && c.operation.OneWay()
	if c.leg.ResponseBody.IsZero() && (h.Status == 202 || h.Status == 204 || oneWay && h.Status < 300) {
		for _, s := range []exchange.Stage{exchange.Read, exchange.Verify} {
			c.rec.End(s, exchange.Skipped, "no reply is due")
		}
		c.rec.Update(func(x *exchange.Exchange) { x.Result = "accepted" })
		c.complete = true
		return exchange.Verify, nil
	}
	c.rec.Begin(exchange.Read)
	if ctx.Err() != nil {
		return exchange.Read, ctx.Err()
	}
	body, encoding := c.leg.ResponseBody.Bytes(), charset(h.Get("Content-Type"))
	switch {
	case related.Is(h.Get("Content-Type")):
		var err error
		body, encoding, err = c.related()
		c.secretsInParts()
		if err != nil {
			c.secretsInText(c.leg.ResponseBody.Bytes())
			if stop := c.noAnswer(); stop != nil {
				return exchange.Receive, stop
			}
			return exchange.Read, err
		}
	case c.leg.Stored():
		return c.flowing(ctx, c.limits())
	}
	if what := c.looked(body, encoding); what != "" {
		c.rec.End(exchange.Read, exchange.Passed, what)
		c.rec.End(exchange.Verify, exchange.Skipped, "no reply is due")
		c.rec.Update(func(x *exchange.Exchange) { x.Result = what })
		c.complete = true
		return exchange.Verify, nil
	}
	at, err := c.parse(ctx, body, encoding)
	c.secretsInReply(body)
	if err != nil {
		return at, err
	}
	return exchange.Read, c.envelopeRead()
}

// looked is what a program got that only looked, with GET: a description, or a page. It is no
// reply to a call, and nothing is wrong with it; "" it is one, or it failed.
func (c *reading) looked(body []byte, encoding string) string {
	w := c.plan.imported
	if w == nil || w.Method != http.MethodGet || len(w.Body) > 0 || c.leg.Response.Status >= 300 {
		return ""
	}
	if contract.LooksLikeHTML(body) {
		return "a page"
	}
	doc, err := xmltree.ParseContract(body, xmltree.Limits{})
	if err != nil {
		doc, err = xmltree.ParseEncoded(body, encoding, c.limits())
	}
	if err == nil && contract.IsDocument(doc.Root().Name()) {
		return "a description"
	}
	return ""
}

// secretsInReply notes what of the reply is secret by its name or place.
func (c *reading) secretsInReply(body []byte) {
	if c.reply == nil {
		c.secretsInText(body)
		return
	}
	found := message.SecretsIn(c.doc, c.reply.Payload, c.secretNames())
	if len(found) == 0 {
		return
	}
	c.rec.Update(func(x *exchange.Exchange) {
		for _, s := range found {
			x.Secrets = append(x.Secrets, s.Written, s.Meant)
		}
	})
}

// secretsInParts notes what is secret by its name in the files that came beside the envelope, as far as they are text.
func (c *reading) secretsInParts() {
	body, names := c.leg.ResponseBody.Bytes(), c.secretNames()
	var found []string
	for i := range c.leg.Parts {
		p := &c.leg.Parts[i]
		if p.Root || !p.IsText() {
			continue
		}
		content, _ := p.In(body)
		content = content[:min(len(content), maxSecretText)]
		for _, s := range names.InAnswer(content) {
			secret := content[s.Offset : s.Offset+s.Length]
			found = append(found, string(secret))
			if raw := body[p.Start:p.End]; p.Coding == "quoted-printable" && !bytes.Contains(raw, secret) {
				for line := range bytes.Lines(raw) { // its lines were broken, or it is written in another way
					found = append(found, string(bytes.TrimSpace(line)))
				}
				break
			}
		}
	}
	if len(found) > 0 {
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, found...) })
	}
}

// maxSecretText is how much of a reply that is no envelope is looked through for secrets, in bytes.
const maxSecretText = 1 << 20

// secretsInText notes what is secret by its name in a reply that is no envelope: a page, JSON, broken XML.
func (c *reading) secretsInText(body []byte) {
	body = body[:min(len(body), maxSecretText)]
	names := c.secretNames()
	var found []string
	if c.doc != nil {
		for _, s := range message.SecretsIn(c.doc, xmltree.Node{}, names) {
			found = append(found, s.Written, s.Meant)
		}
	}
	for _, s := range names.InAnswer(body) {
		found = append(found, string(body[s.Offset:s.Offset+s.Length]))
	}
	if len(found) > 0 {
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, found...) })
	}
}

// limits are those of the reader.
func (c *reading) limits() (l xmltree.Limits) {
	s := &c.plan.Settings
	l.Depth, _ = s.Count("depth-limit")
	l.Repeats, _ = s.Count("repeat-limit")
	l.Names, _ = s.Count("name-limit")
	text, _ := s.Size("text-limit")
	l.Text = int(text)
	if w := c.plan.imported; w != nil && w.relayed { // the program has limits of its own
		for key, limit := range map[string]*int{
			"depth-limit": &l.Depth, "repeat-limit": &l.Repeats, "name-limit": &l.Names, "text-limit": &l.Text,
		} {
			if !s.Get(key).IsSet() {
				*limit = 0
			}
		}
	}
	return l
}

// From a message of largeMessage bytes on, garbage is collected when it is largeGarbage
// hundredths of what is in use: else the program takes twice what it needs. There are
// few pointers in what is large, so that this costs little.
const (
	largeMessage = 16 << 20
	largeGarbage = 15
)

// large has memory used sparingly where a message has that many bytes.
func large(size int) {
	if size > largeMessage {
		debug.SetGCPercent(largeGarbage)
		debug.FreeOSMemory() // what its bytes grew out of, before its tree is made
	}
}

// parse makes an envelope of a body, decrypted where it was encrypted. at is where the
// call stopped if it is none.
func (c *reading) parse(ctx context.Context, body []byte, encoding string) (at exchange.Stage, err error) {
	large(len(body))
	limits := c.limits()
	limits.Done = ctx.Done()
	doc, err := xmltree.ParseEncoded(body, encoding, limits)
	if ctx.Err() != nil {
		return exchange.Read, ctx.Err()
	}
	c.doc = doc
	var syntax *xmltree.SyntaxError
	if errors.As(err, &syntax) {
		c.syntax = syntax
	} else {
		c.reply = soap.Read(doc)
	}
	if c.reply != nil {
		c.opened(body, c.limits())
		if c.notOpened != nil && c.reply.Fault == nil {
			return exchange.Read, c.notOpened
		}
		return exchange.Read, nil
	}
	// What is no answer stops at receive where the head says so already.
	if stop := c.noAnswer(); stop != nil {
		c.rec.Update(func(x *exchange.Exchange) {
			*x.Stage(exchange.Read) = exchange.StageRecord{Stage: exchange.Read}
		})
		return exchange.Receive, stop
	}
	switch {
	case diagnose.Blank(body):
		return exchange.Read, diagnose.EmptyError{}
	case err != nil:
		return exchange.Read, err
	}
	return exchange.Read, diagnose.NotEnvelopeError{Root: doc.Root().Name()}
}

// envelopeRead looks at what the envelope holds: a fault, or a body.
func (c *reading) envelopeRead() error {
	e := c.reply
	c.rec.Fact(exchange.Read, "envelope", "SOAP "+e.Version.String()+" · "+strconv.Itoa(e.Doc.Len())+" nodes")
	if f := e.Fault; f != nil {
		c.rec.Update(func(x *exchange.Exchange) {
			st := x.Stage(exchange.Read)
			st.Facts.Set("fault code", f.Code.Qualified())
			for i, s := range f.Subcodes {
				st.Facts.Set(fmt.Sprintf("fault subcode %d", i+1), s.Qualified())
			}
			st.Facts.Set("fault reason", f.Reason)
			st.Note = "fault"
			x.Result = "fault: " + f.Reason
		})
		return errors.New("a fault: " + f.Reason)
	}
	if e.Version != sentVersion(&c.base, c.draft) {
		return errors.New("the envelope is of another SOAP version")
	}
	what := "an empty body"
	if !e.Payload.IsZero() {
		what = e.Payload.Name().Local
		c.rec.Fact(exchange.Read, "body", what)
	}
	if err := c.resolve(e); err != nil {
		return err
	}
	c.rec.End(exchange.Read, exchange.Passed, what)
	c.rec.Update(func(x *exchange.Exchange) { x.Result = message.Summary(e.Payload) })
	return nil
}

// charset is that of a media type; "" where it names none.
func charset(contentType string) string {
	_, params, err := mime.ParseMediaType(contentType)
	if err != nil {
		return ""
	}
	return params["charset"]
}

// noAnswer is the stop at receive where status or media type say that what
// came is no answer.
func (c *reading) noAnswer() error {
	h := &c.leg.Response
	switch {
	case h.Status >= 300:
		return fmt.Errorf("the status is %d", h.Status)
	case c.leg.ResponseBody.IsZero():
		return nil
	}
	ct := strings.ToLower(h.Get("Content-Type"))
	body := c.leg.ResponseBody.Bytes()
	if strings.Contains(ct, "html") || contract.LooksLikeHTML(body) || c.syntax != nil &&
		!strings.HasPrefix(ct, "multipart/") && !diagnose.Blank(body) &&
		(ct != "" && !strings.Contains(ct, "xml") || diagnose.NoXML(ct, body)) {
		return errors.New("the answer is not SOAP")
	}
	return nil
}

// run verifies what was read.
func (c *verifying) run(ctx context.Context) error {
	c.rec.Begin(exchange.Verify)
	if err := c.signatures(); err != nil {
		return err
	}
	note, err := c.schema(ctx)
	if err != nil {
		return err
	}
	if c.unmet = c.hold(c.expects(), c.answerOf(&c.answered, c.leg)); c.unmet != nil {
		return diagnose.UnexpectedError{}
	}
	c.rec.End(exchange.Verify, exchange.Passed, note)
	return nil
}

// schema holds the reply against the contract, and says the outcome in a word.
func (c *verifying) schema(ctx context.Context) (note string, err error) {
	e, o := c.reply, c.operation
	if o == nil || o.Output == nil || o.Output.Element == nil {
		return "", ctx.Err()
	}
	want, got := o.Output.Element, schema.NameOf(e.Payload.Name())
	differs := e.Payload.IsZero() || got != want.Name
	if differs && o.Style == "rpc" && !e.Payload.IsZero() && !strings.EqualFold(got.Local, "Fault") {
		differs = false // the name of an rpc wrapper is a convention (WSDL 1.1 §3.5)
	}
	if differs {
		return "", diagnose.ReplyDiffersError{Got: got, Want: want.Name}
	}
	if c.plan.Settings.Switch("validate") && o.Use != "encoded" {
		set, opts := c.plan.Contract.Schemas, schema.Options{Context: ctx}
		c.replyInvalid = append(set.Validate(e.Payload, want, opts), message.ValidateWithin(set, e.Payload, opts)...)
		note = "valid"
		if n := len(c.replyInvalid); n > 0 {
			note = faults(n)
		}
		c.rec.Fact(exchange.Verify, "schema", note)
	}
	return note, ctx.Err()
}
