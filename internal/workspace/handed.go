package workspace

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// UnrecognisedError is a message that no operation of the workspace has.
type UnrecognisedError struct {
	Body schema.QName // name of the body element
	Near string       // an operation whose body element has a name like it
}

func (e *UnrecognisedError) Error() string {
	s := fmt.Sprintf("no operation here has the body element %s", e.Body)
	if e.Body == (schema.QName{}) {
		s = "there is no body element"
	}
	if e.Near != "" {
		s += "; " + e.Near + " has one like it"
	}
	return s
}

// Recognise is the operation that a body element belongs to.
func (w *Workspace) Recognise(body schema.QName) (DraftRef, error) {
	var names []string
	for _, k := range w.Config().Contracts {
		c, err := w.Contract(k.Name)
		if err != nil {
			continue
		}
		for _, p := range c.Ports() {
			if p.Version == soap.Unset {
				continue
			}
			if o := p.ByBody(body); o != nil {
				return DraftRef{Contract: k.Name, PortType: p.PortType.Local, Operation: o.Name}, nil
			}
			for _, o := range p.Operations {
				names = append(names, o.Name)
			}
		}
	}
	return DraftRef{}, &UnrecognisedError{body, near.Miss(body.Local, names)}
}

// FreeDraft is a name for a draft that is not taken: base, or base 2 and so on.
func (w *Workspace) FreeDraft(r DraftRef, base string) DraftRef {
	r.Name = safe.FileName(base)
	for i := 2; w.hasDraft(r); i++ {
		r.Name = safe.FileName(fmt.Sprintf("%s %d", base, i))
	}
	return r
}

// hasDraft looks at the file: another program may have just made it.
func (w *Workspace) hasDraft(r DraftRef) bool {
	_, err := w.ReadDraft(r)
	return err == nil
}

// Import makes a draft of a message that came from elsewhere, kept byte for
// byte. The operation is recognised by its body element.
func (w *Workspace) Import(body []byte, name string) (DraftRef, error) {
	d := message.NewDraft(schema.New(nil), nil, body)
	if err := d.Err(); err != nil {
		return DraftRef{}, fmt.Errorf("it is not well-formed: %w", err)
	}
	var q schema.QName
	if b := d.Body(); !b.IsZero() {
		q = schema.NameOf(b.Name())
	}
	r, err := w.Recognise(q)
	if err != nil {
		return r, err
	}
	r = w.FreeDraft(r, name)
	return r, w.WriteDraft(r, body)
}

// TakeIn makes a draft of a message that was handed over, with the HTTP fields that are
// its own. left is what is no part of a draft, in words.
func (w *Workspace) TakeIn(h *message.Handed, name string) (r DraftRef, left []string, err error) {
	if r, err = w.Import(h.Body, name); err != nil {
		return r, nil, err
	}
	if h.Address != "" {
		left = append(left, "the address "+h.Address)
	}
	var own []string
	for _, f := range h.Headers {
		switch field := strings.ToLower(f[0]); {
		case exchange.SecretName(f[0]):
			left = append(left, "the header field "+f[0]+": (a secret, not kept)")
		case strings.HasPrefix(field, "accept") || slices.Contains(madeAnew, field):
			left = append(left, "the header field "+f[0]+": "+f[1])
		case f[0] != "" && !strings.ContainsAny(f[0]+f[1], "\r\n"):
			own = append(own, f[0]+": "+f[1])
		}
	}
	if h.User {
		left = append(left, "the user; an identity carries that")
	}
	if len(own) > 0 {
		err = w.SetDraftOwn(r, "header", own)
	}
	return r, left, err
}

// madeAnew are the fields that settings and the message make anew, in lower case.
//
//nolint:gochecknoglobals // a table: it is never written to
var madeAnew = []string{"host", "content-length", "content-type", "soapaction", "connection", "user-agent",
	"transfer-encoding", "expect", "te", "keep-alive"}

// ImportSent makes a draft of a request that was sent: its body element, and
// its header blocks without the security header, which settings make again.
func (w *Workspace) ImportSent(request []byte, name string) (DraftRef, error) {
	doc, err := xmltree.Parse(request, xmltree.Limits{Depth: 512})
	e := soap.Read(doc)
	if e == nil || e.Payload.IsZero() {
		if err == nil {
			err = &UnrecognisedError{}
		}
		return DraftRef{}, err
	}
	r, err := w.Recognise(schema.NameOf(e.Payload.Name()))
	if err != nil {
		return r, err
	}
	r = w.FreeDraft(r, name)
	var blocks strings.Builder
	for b := range e.Header.Children() {
		if b.Name().Space != wssec.WSSE {
			blocks.WriteString("  " + message.Alone(b) + "\n")
		}
	}
	if blocks.Len() > 0 {
		if err := w.WriteHeader(r, []byte("<headers>\n"+blocks.String()+"</headers>\n")); err != nil {
			return r, err
		}
	}
	return r, w.WriteDraft(r, []byte(message.Alone(e.Payload)+"\n"))
}
