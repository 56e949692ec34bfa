package diagnose

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/related"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Rules of what travels beside an envelope.
//
//nolint:gochecknoglobals // a table: it is never written to
var attachmentRules = []Rule{
	{"binding.attachments-demanded", exchange.Warn, exchange.Yours, attachmentsDemanded},
	{"message.attachment-missing", exchange.Stop, exchange.Yours, attachmentMissing},
	{"read.parts-broken", exchange.Stop, exchange.Theirs, partsBroken},
	{"read.attachment-unresolved", exchange.Stop, exchange.Theirs, attachmentUnresolved},
}

// AttachmentMissingError is a file to be sent that cannot be read.
type AttachmentMissingError struct {
	Field, Path string // path of the field; of the file
	Err         error  // what the system or a library said
}

func (e *AttachmentMissingError) Error() string { return e.Path + ": " + e.Err.Error() }

// Unwrap gives the error of the file.
func (e *AttachmentMissingError) Unwrap() error { return e.Err }

// UnresolvedError is a reference to a part that is not there.
type UnresolvedError struct {
	Href    string       // the reference as written
	Element string       // that refers
	At      xmltree.Span // where the reference stands
}

func (e *UnresolvedError) Error() string { return "the part " + e.Href + " is not there" }

func attachmentsDemanded(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Settings == nil || c.Fetch || c.Imported || !c.demands().Attachments() ||
		c.Settings.Text("attachments") == soap.MTOM {
		return nil
	}
	return one(exchange.Finding{
		Title: "the contract demands messages in MTOM, and it is not set",
		Why: "Its policy asks for it: the envelope travels as the first part of a multipart message, and binary " +
			"values as others.",
		Evidence: []exchange.Evidence{
			{
				In:      exchange.InContract,
				Key:     c.Contract.Source,
				Length:  1,
				Line:    1,
				Column:  1,
				Excerpt: "MTOM attachments",
			},
		},
		Remedies: c.remedies("send messages in MTOM", []string{"attachments"}, soap.MTOM),
		Program:  "let your program send MTOM",
	})
}

func attachmentMissing(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*AttachmentMissingError](c.Err)
	if _, asks := errors.AsType[*endpoint.FileNewError](c.Err); !ok || asks {
		return nil
	}
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the file that is to be attached as %s cannot be read", e.Field),
		Why:      fmt.Sprintf("%s: %v.", e.Path, e.Err),
		Evidence: []exchange.Evidence{c.inSettings("attach", 0, 1)},
		Program:  "look whether the file is there when your program sends",
	})
}

func partsBroken(c *Case) []exchange.Finding {
	if c.unsaidFraming() == inParts {
		h := c.response()
		return one(exchange.Finding{
			Title: "the reply is in parts, and its head says something else",
			Why: fmt.Sprintf("Its body begins with the border of a part, and its Content-Type is %q: of parts that "+
				"belong together it is multipart/related.", cut(h.Get("Content-Type"), 80)),
			Evidence: append([]exchange.Evidence{c.inBody(0, 40)}, c.inHead("Content-Type")...),
			Program:  "nothing; the service, or something between, writes a wrong Content-Type",
		})
	}
	e, ok := errors.AsType[*related.Error](c.Err)
	if !ok {
		return nil
	}
	f := exchange.Finding{
		Title:    "the reply's parts cannot be taken apart",
		Why:      "The reply says that it is multipart/related, and " + e.Why + ".",
		Evidence: append([]exchange.Evidence{c.inBody(e.Offset, 60)}, c.inHead("Content-Type")...),
		Program:  "nothing; the service, or something between, breaks the message",
	}
	if l := c.leg(); l != nil && bytes.HasPrefix(bytes.TrimSpace(l.ResponseBody.Range(0, 1024)), []byte("<")) {
		f.Title, f.Program = "the reply says that it is in parts, and is not", "nothing; the service, or something "+
			"between, takes the parts apart and leaves the Content-Type"
		f.Why = "Its Content-Type is multipart/related, and its body begins with XML, not with the border of a part."
	}
	return one(f)
}

func attachmentUnresolved(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*UnresolvedError](c.Err)
	if !ok {
		return nil
	}
	said := "the reply has no other part"
	if l := c.leg(); l != nil && len(l.Parts) > 1 {
		var ids []string
		for _, p := range l.Parts {
			if !p.Root {
				ids = append(ids, orNone(p.ID))
			}
		}
		said = "its parts are " + list(ids, 5)
		if slices.Contains(ids, strings.Trim(e.Href, "<>")) {
			said = "the part is there, and a reference to it begins with cid: (RFC 2392)"
		}
	}
	return one(exchange.Finding{
		Title:    "a part that the reply refers to is not there",
		Why:      fmt.Sprintf("%s refers to %s; %s.", e.Element, orNone(cut(e.Href, 100)), said),
		Evidence: []exchange.Evidence{c.inReply(e.At)},
		Program:  "nothing; the service sends a reference without its part (a proxy may have taken it off)",
	})
}
