package diagnose

import (
	"bytes"
	"strings"
	"time"

	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// sentFacts are what the message that left says of its sender: read from its bytes,
// whoever made it, and never from what is set.
type sentFacts struct {
	user             string       // of the user name token; "" none
	password         bool         // it carries a password
	passwordType     string       // the Type as it stands; "" none
	passwordAt       xmltree.Span // where the password's start tag stands
	token            bool         // it carries a security token of any kind
	header           bool         // it carries a security header
	http             bool         // the head carries credentials
	created, expires time.Time    // of its timestamp; zero: none
}

// maxSentHead is how much of a message is looked at for its header blocks.
const maxSentHead = 256 << 10

// sentFacts reads them from the newest leg.
func (c *Case) sentFacts() (s sentFacts) {
	l := c.leg()
	if l == nil {
		return s
	}
	s.http = l.Request.Field("Authorization") != nil
	sent, at := l.SentAt()
	head := sent[:min(len(sent), maxSentHead)]
	if wide := bytes.IndexByte(head, 0) >= 0; !wide && !bytes.Contains(head, []byte("Security")) {
		return s // it has no such header, and most messages of other programs have none
	}
	doc, _ := xmltree.Parse(head, xmltree.Limits{})
	if doc == nil {
		return s
	}
	e := soap.Read(doc)
	if e == nil || e.Header.IsZero() {
		return s
	}
	for sec := range e.Header.Named(wssec.WSSE, "Security") {
		s.header = true
		for n := range sec.Children() {
			switch n.Name().Local {
			case "UsernameToken":
				s.token = true
				s.user = strings.TrimSpace(n.Child(wssec.WSSE, "Username").Text())
				if p := n.Child(wssec.WSSE, "Password"); !p.IsZero() {
					s.password = true
					s.passwordType, _ = p.Attr("", "Type")
					s.passwordAt = xmltree.Span{Start: max(at, 0) + p.Span().Start, End: max(at, 0) + p.Inner().Start}
				}
			case "BinarySecurityToken", "Assertion", "Signature", "EncryptedKey", "EncryptedData":
				s.token = true
			case "Timestamp":
				for t := range n.Children() {
					at, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(t.Text()))
					switch {
					case err != nil:
					case t.Name().Local == "Created":
						s.created = at
					case t.Name().Local == "Expires":
						s.expires = at
					}
				}
			}
		}
	}
	return s
}

// digest tells whether the password is sent as a digest (WSS UsernameToken 1.0 §3.1).
func (s *sentFacts) digest() bool { return strings.HasSuffix(s.passwordType, "#PasswordDigest") }

// credentials tells whether the message, or its head, says who sends it.
func (s *sentFacts) credentials() bool { return s.token || s.http }
