package diagnose

import (
	"bytes"
	"crypto/sha1" //nolint:gosec // only its size
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"orenda/internal/exchange"
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
	created, expires time.Time    // of its timestamp, or else of its token; zero: none
	tokenMade        time.Time    // of its token
	odd              []oddity     // in its token or timestamp
	stray            *oddity      // security that stands where, or as what, nobody looks for it; nil: none
}

// oddity is something in the security of a message that is not as the standard has it.
type oddity struct {
	why, advice string
	at          xmltree.Span // in the request's body
	likely      bool         // a service may take it
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
	if wide := bytes.IndexByte(head, 0) >= 0; !wide && !bytes.Contains(head, []byte("Security")) &&
		!bytes.Contains(head, []byte("UsernameToken")) {
		return s // it has no such header, and most messages of other programs have none
	}
	e := readHead(head)
	if e == nil {
		return s
	}
	if s.stray = strayIn(e); s.stray != nil {
		s.stray.at.Start, s.stray.at.End = s.stray.at.Start+max(at, 0), s.stray.at.End+max(at, 0)
	}
	for sec := range e.Header.Named(wssec.WSSE, "Security") {
		s.header = true
		for n := range sec.Children() {
			switch n.Name().Local {
			case "UsernameToken":
				s.token = true
				s.usernameToken(n, max(at, 0))
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
					switch t.Name().Local {
					case "Created":
						s.created = s.time(t, max(at, 0))
					case "Expires":
						s.expires = s.time(t, max(at, 0))
					}
				}
			}
		}
	}
	if s.created.IsZero() {
		s.created = s.tokenMade
	}
	return s
}

// time is a time in the security header (WSS 1.0 §10); one that cannot be read is odd.
func (s *sentFacts) time(n xmltree.Node, begins int) time.Time {
	text := strings.TrimSpace(n.Text())
	at, err := time.Parse(time.RFC3339Nano, text)
	if err == nil {
		return at
	}
	why := fmt.Sprintf("Its %s is %q, which is no time of XML Schema.", n.Name().Local, cut(text, 60))
	if _, err := time.Parse("2006-01-02T15:04:05.999999999", text); err == nil {
		why = fmt.Sprintf("Its %s is %q, and says no time zone; the standard has times in UTC.", n.Name().Local, text)
	}
	s.add(why, "write times in UTC: 2006-01-02T15:04:05Z", n, begins, false)
	return time.Time{}
}

func (s *sentFacts) add(why, advice string, n xmltree.Node, begins int, likely bool) {
	s.odd = append(s.odd, oddity{why, advice,
		xmltree.Span{Start: begins + n.Span().Start, End: begins + n.Span().End}, likely})
}

// usernameToken looks at a user name token (WSS UsernameToken 1.0 §3.1).
func (s *sentFacts) usernameToken(n xmltree.Node, begins int) {
	p, nonce, created := n.Child(wssec.WSSE, "Password"), n.Child(wssec.WSSE, "Nonce"), n.Child(wssec.WSU, "Created")
	if !created.IsZero() {
		s.tokenMade = s.time(created, begins)
	}
	if p.IsZero() {
		return
	}
	if !nonce.IsZero() {
		if _, err := base64.StdEncoding.DecodeString(strings.TrimSpace(nonce.Text())); err != nil {
			s.add("Its Nonce is not in Base64.", "send the nonce in Base64, and make the digest of its bytes",
				nonce, begins, false)
		}
	}
	kind, _ := p.Attr("", "Type")
	value := strings.TrimSpace(p.Text())
	if strings.Trim(value, string(exchange.Masked)) == "" {
		return // it is not known
	}
	made, err := base64.StdEncoding.DecodeString(value)
	digest := err == nil && len(made) == sha1.Size
	switch said := strings.HasSuffix(kind, "#PasswordDigest"); {
	case said && !digest:
		s.add("Its type is PasswordDigest, and its value is none: a digest is 28 characters of Base64.",
			"send the digest of nonce, time and password, or say PasswordText", p, begins, false)
	case said && (nonce.IsZero() || created.IsZero()):
		s.add("Its digest comes without Nonce or Created, of which it is made; most services demand both.",
			"send Nonce and Created with the digest", p, begins, true)
	case !said && digest && !nonce.IsZero() && !created.IsZero():
		s.add("Its value looks like a digest, with its Nonce and Created, and its type does not say so.",
			"say the type …#PasswordDigest", p, begins, true)
	}
}

// strayIn is a security header in another namespace, or security in another place than that header.
func strayIn(e *soap.Envelope) *oddity {
	where := func(n xmltree.Node) xmltree.Span { return xmltree.Span{Start: n.Span().Start, End: n.Inner().Start} }
	for n := range e.Header.Children() {
		switch q := n.Name(); {
		case q.Local == "Security" && q.Space != wssec.WSSE:
			return &oddity{
				why:    fmt.Sprintf("Its namespace is %s; that of WS-Security 1.0 is %s.", orNone(q.Space), wssec.WSSE),
				advice: "put the security header into the namespace of WS-Security 1.0", at: where(n)}
		case q.Local == "UsernameToken", q.Local == "BinarySecurityToken" && q.Space == wssec.WSSE:
			return &oddity{
				why:    fmt.Sprintf("%s stands in the header by itself; it belongs into a Security header.", q.Local),
				advice: "put the token into a Security header", at: where(n)}
		}
	}
	if q := e.Payload.Name(); q.Space == wssec.WSSE || !e.Payload.IsZero() && q.Local == "Security" {
		return &oddity{why: q.Local + " stands in the Body; it belongs into the Header.",
			advice: "put the security header into the Header", at: where(e.Payload)}
	}
	return nil
}

// digest tells whether the password is sent as a digest (WSS UsernameToken 1.0 §3.1).
func (s *sentFacts) digest() bool { return strings.HasSuffix(s.passwordType, "#PasswordDigest") }

// credentials tells whether the message, or its head, says who sends it.
func (s *sentFacts) credentials() bool { return s.token || s.http }

// readHead reads an envelope of which perhaps only the beginning is there; nil where it is none.
func readHead(head []byte) *soap.Envelope {
	doc, _ := xmltree.Parse(head, xmltree.Limits{})
	if doc == nil {
		return nil
	}
	return soap.Read(doc)
}

// blocksSent are the names of the header blocks of the message that was sent; known tells whether it can be read.
func (c *Case) blocksSent() (names []string, known bool) {
	l := c.leg()
	if l == nil {
		return nil, false
	}
	sent, _ := l.SentAt()
	e := readHead(sent[:min(len(sent), maxSentHead)])
	if e == nil {
		return nil, false
	}
	for b := range e.Header.Children() {
		names = append(names, b.Name().Local)
	}
	return names, true
}
