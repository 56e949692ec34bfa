package call

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"errors"
	"fmt"
	"mime"
	"path/filepath"
	"strings"

	"orenda/internal/related"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/xmltree"
)

// attached is what a call sends beside its envelope.
type attached struct {
	kind  string // soap.MTOM or soap.Attachments; "" nothing is packed
	parts []soap.Attached
	text  []string // of MTOM: the value in base64 that each part stands for
	more  int64    // by how many bytes the message is larger than its envelope
}

// attach reads the files that are attached, and puts those into the draft that
// have a field there.
func (c *composing) attach(d *message.Draft) (*message.Draft, error) {
	s := &c.plan.Settings
	kind := s.Text("attachments")
	list := s.List("attach")
	if kind != "none" && kind != "" {
		c.attached.kind = kind
	}
	changed := false
	for i, a := range list {
		field, path, ok := strings.Cut(a, "=")
		v := s.Get("attach")
		if !ok || field == "" || path == "" {
			return d, &endpoint.ValueError{Key: v.Key, Value: v, Err: fmt.Errorf("%q is not FIELD=FILE", a)}
		}
		if c.plan.ReadFile == nil {
			return d, &diagnose.AttachmentMissingError{
				Field: field,
				Path:  path,
				Err:   errors.New("no file can be read here"),
			}
		}
		b, err := c.plan.ReadFile(path)
		if err != nil {
			return d, &diagnose.AttachmentMissingError{Field: field, Path: path, Err: err}
		}
		part := soap.Attached{
			ID:      fmt.Sprintf("part-%d@orenda", i+1),
			Name:    filepath.Base(path),
			Type:    typeOf(path),
			Content: b,
		}
		c.rec.Fact(
			exchange.Message,
			"attached "+field,
			fmt.Sprintf("%s, %s bytes, %s", part.Name, endpoint.Bytes(int64(len(b))), part.Type),
		)
		if kind == soap.Attachments {
			part.ID = field
			c.attached.parts = append(c.attached.parts, part)
			c.attached.more += int64(len(b)) + 300
			continue
		}
		if !changed {
			d, changed = message.NewDraft(d.Schemas, d.Decl, d.Bytes()), true
		}
		text := base64.StdEncoding.EncodeToString(b)
		if err := d.Set(field, text); err != nil {
			return d, &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
		}
		if kind == soap.MTOM {
			c.attached.parts, c.attached.text = append(c.attached.parts, part), append(c.attached.text, text)
			c.attached.more += int64(len(b)-len(text)) + 400
		}
	}
	if changed {
		c.draft = d
	}
	return d, nil
}

func typeOf(path string) string {
	if t := mime.TypeByExtension(filepath.Ext(path)); t != "" {
		return t
	}
	return "application/octet-stream"
}

// optimise lets the values that travel as parts leave the envelope (XOP 1.0
// §3.1). What is signed was signed with the values in it, as XOP wants.
func (c *securing) optimise() {
	for i, text := range c.attached.text {
		if len(text) == 0 {
			continue
		}
		include := fmt.Sprintf(`<xop:Include xmlns:xop="%s" href="cid:%s"/>`, soap.XOP, c.attached.parts[i].ID)
		c.envelope = bytes.Replace(c.envelope, []byte(">"+text+"<"), []byte(">"+include+"<"), 1)
	}
}

// packed puts envelope and parts together.
func (c *network) packed(req *wire.Request) {
	if c.attached.kind == "" {
		return
	}
	action := ""
	if c.hasAction {
		action = c.action
	}
	kind, body, at := soap.Package(
		c.attached.kind,
		sentVersion(&c.base, c.draft),
		c.plan.Settings.Text("charset"),
		action,
		c.envelope,
		c.attached.parts,
	)
	req.Body, req.Secret = body, nil
	for _, s := range c.secrets {
		req.Secret = append(req.Secret, exchange.Span{Offset: s.Offset + int64(at), Length: s.Length})
	}
	for i := range req.Header {
		if req.Header[i][0] == "Content-Type" {
			req.Header[i][1] = kind
		}
	}
	req.Header = append(req.Header, [2]string{"MIME-Version", "1.0"})
}

// related takes a reply in parts apart, and gives the part with the envelope.
func (c *reading) related() (root []byte, encoding string, err error) {
	l := c.leg
	parts, err := related.Split(l.Response.Get("Content-Type"), l.ResponseBody.Bytes())
	c.rec.Update(func(x *exchange.Exchange) {
		l.Parts = parts
		st := x.Stage(exchange.Read)
		for i, p := range parts {
			what := strings.TrimSpace(
				fmt.Sprintf(
					"%s bytes  %s  %s",
					endpoint.Bytes(int64(p.End-p.Start)),
					cmp.Or(p.Type, "of no type"),
					p.ID,
				),
			)
			if p.Root {
				what = fmt.Sprintf("the envelope, %s bytes", endpoint.Bytes(int64(p.End-p.Start)))
			}
			st.Facts.Set(fmt.Sprintf("part %d", i+1), what)
			if i == 20 {
				st.Facts.Set("more parts", fmt.Sprint(len(parts)-i-1))
				break
			}
		}
	})
	if err != nil {
		return nil, "", err
	}
	p := l.Root()
	c.replyAt = p.Start
	if root, err = p.Content(l.ResponseBody.Bytes()); err != nil {
		return nil, "", &related.Error{Offset: p.Start, Why: "the envelope's part cannot be decoded: " + err.Error()}
	}
	return root, charset(p.Type), nil
}

// resolve looks whether each part that the envelope refers to is there: those of
// XOP, and href attributes with a Content-ID.
func (c *reading) resolve(e *soap.Envelope) error {
	if !e.Doc.Has("", "href") && !e.Doc.Has(soap.XOP, "Include") {
		return nil
	}
	var missing error
	var walk func(n xmltree.Node)
	walk = func(n xmltree.Node) {
		for k := range n.Children() {
			if missing != nil {
				return
			}
			href, _ := k.Attr("", "href")
			included := k.Name().Space == soap.XOP && k.Name().Local == "Include"
			if included || strings.HasPrefix(href, "cid:") {
				if c.partOf(href) == nil {
					missing = &diagnose.UnresolvedError{Href: href, At: k.Span(), Element: n.Name().Local}
					return
				}
			}
			walk(k)
		}
	}
	walk(e.Doc.Root())
	return missing
}

func (c *reading) partOf(href string) *related.Part {
	for i := range c.leg.Parts {
		if c.leg.Parts[i].Refers(href) {
			return &c.leg.Parts[i]
		}
	}
	return nil
}
