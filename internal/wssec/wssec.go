// Package wssec builds and checks WS-Security headers: user name tokens
// (OASIS UsernameToken Profile 1.0) and timestamps (WSS 1.0 §10).
package wssec

import (
	"bytes"
	"crypto/rand"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"sync"
	"time"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Namespaces and type URIs of the OASIS documents.
const (
	WSSE = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	WSU  = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"

	profile        = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#"
	TypeText       = profile + "PasswordText"
	TypeDigest     = profile + "PasswordDigest"
	base64Encoding = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"
)

// PasswordType is how a token carries its password.
type PasswordType string

// The password types, in the words of the settings.
const (
	None   PasswordType = "none"
	Text   PasswordType = "text"
	Digest PasswordType = "digest"
)

// Token is a user name token.
type Token struct {
	User     string
	Password string
	Type     PasswordType
	Nonce    []byte
	Created  time.Time
}

// NewToken makes a token with a fresh nonce of 16 bytes, created now.
func NewToken(user, password string, kind PasswordType, now time.Time) *Token {
	t := &Token{User: user, Password: password, Type: kind, Nonce: make([]byte, 16), Created: now}
	_, _ = rand.Read(t.Nonce)
	return t
}

// PasswordDigest is Base64(SHA-1(nonce + created + password)), the nonce being
// its decoded bytes (UsernameToken Profile 1.0 §3.1).
func PasswordDigest(nonce []byte, created, password string) string {
	h := sha1.New()
	h.Write(nonce)
	h.Write([]byte(created))
	h.Write([]byte(password))
	return base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// Timestamp is a wsu:Timestamp with a life time; 0 leaves Expires out.
type Timestamp struct {
	Created time.Time
	Life    time.Duration
}

// Header is a security header as built.
type Header struct {
	XML     []byte
	Secrets []xmltree.Span // where in XML a secret or its digest stands
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// Build writes the header block. The prefix soap must be bound where it goes.
func Build(t *Token, ts *Timestamp) Header {
	var b bytes.Buffer
	var h Header
	b.WriteString(`    <wsse:Security xmlns:wsse="` + WSSE + `" xmlns:wsu="` + WSU + `" soap:mustUnderstand="1">`)
	if ts != nil {
		b.WriteString("\n      <wsu:Timestamp>\n        <wsu:Created>" + stamp(ts.Created) + "</wsu:Created>")
		if ts.Life > 0 {
			b.WriteString("\n        <wsu:Expires>" + stamp(ts.Created.Add(ts.Life)) + "</wsu:Expires>")
		}
		b.WriteString("\n      </wsu:Timestamp>")
	}
	if t != nil {
		created := stamp(t.Created)
		b.WriteString("\n      <wsse:UsernameToken>\n        <wsse:Username>" + xmltree.EscapeText(t.User) + "</wsse:Username>")
		if t.Type != None {
			uri, secret := TypeText, xmltree.EscapeText(t.Password)
			if t.Type == Digest {
				uri, secret = TypeDigest, PasswordDigest(t.Nonce, created, t.Password)
			}
			b.WriteString("\n        <wsse:Password Type=\"" + uri + "\">")
			h.Secrets = append(h.Secrets, xmltree.Span{Start: b.Len(), End: b.Len() + len(secret)})
			b.WriteString(secret + "</wsse:Password>")
			b.WriteString("\n        <wsse:Nonce EncodingType=\"" + base64Encoding + "\">" + base64.StdEncoding.EncodeToString(t.Nonce) + "</wsse:Nonce>")
			b.WriteString("\n        <wsu:Created>" + created + "</wsu:Created>")
		}
		b.WriteString("\n      </wsse:UsernameToken>")
	}
	b.WriteString("\n    </wsse:Security>")
	h.XML = b.Bytes()
	return h
}

// Refusal is why a header is not accepted, with the fault code of WSS 1.0 §12.
type Refusal struct {
	Code string // local name in the WSSE namespace
	Why  string
}

func (r *Refusal) Error() string { return r.Why }

// Checker checks the headers of requests, as a service does.
type Checker struct {
	Password  func(user string) (password string, ok bool)
	Types     []PasswordType // those that are accepted
	Timestamp bool           // a timestamp is demanded
	Window    time.Duration  // how far created may be from now
	Now       func() time.Time

	mu   sync.Mutex
	seen map[string]time.Time // nonces, for replay
}

// Check checks the security header of an envelope and gives the user's name.
func (c *Checker) Check(e *soap.Envelope) (user string, refusal *Refusal) {
	var sec xmltree.Node
	if !e.Header.IsZero() {
		sec = e.Header.Child(WSSE, "Security")
	}
	if sec.IsZero() {
		return "", &Refusal{"InvalidSecurity", "no security header found"}
	}
	now := time.Now()
	if c.Now != nil {
		now = c.Now()
	}
	if r := c.timestamp(sec, now); r != nil {
		return "", r
	}
	token := sec.Child(WSSE, "UsernameToken")
	if token.IsZero() {
		return "", &Refusal{"InvalidSecurity", "the security header holds no user name token"}
	}
	user = strings.TrimSpace(token.Child(WSSE, "Username").Text())
	password, known := c.Password(user)
	given := token.Child(WSSE, "Password")
	kind := Text
	if typ, _ := given.Attr("", "Type"); typ == TypeDigest {
		kind = Digest
	} else if given.IsZero() {
		kind = None
	}
	accepted := false
	for _, t := range c.Types {
		accepted = accepted || t == kind
	}
	if !accepted {
		return user, &Refusal{"UnsupportedSecurityToken", fmt.Sprintf("a password of type %s is not accepted here", kind)}
	}
	created := strings.TrimSpace(token.Child(WSU, "Created").Text())
	nonceText := strings.TrimSpace(token.Child(WSSE, "Nonce").Text())
	nonce, err := base64.StdEncoding.DecodeString(nonceText)
	if err != nil || len(nonce) > 1024 {
		return user, &Refusal{"InvalidSecurityToken", "the nonce is not base64 text of a sensible length"}
	}
	want := password
	if kind == Digest {
		want = PasswordDigest(nonce, created, password)
	}
	if !known || subtle.ConstantTimeCompare([]byte(want), []byte(strings.TrimSpace(given.Text()))) != 1 {
		return user, &Refusal{"FailedAuthentication", "the security token could not be authenticated or authorized"}
	}
	if kind == Digest {
		at, err := time.Parse(time.RFC3339Nano, created)
		if err != nil {
			return user, &Refusal{"InvalidSecurityToken", "the time of creation cannot be read"}
		}
		if d := now.Sub(at); c.Window > 0 && (d > c.Window || d < -c.Window) {
			return user, &Refusal{"MessageExpired", "the token was created outside the accepted window of " + c.Window.String()}
		}
		if !c.fresh(nonceText, now) {
			return user, &Refusal{"InvalidSecurityToken", "the nonce was used before; the message is a replay"}
		}
	}
	return user, nil
}

// most is how many nonces a service remembers.
const most = 100_000

func (c *Checker) fresh(nonce string, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.seen == nil || len(c.seen) > most {
		c.seen = map[string]time.Time{}
	}
	if _, ok := c.seen[nonce]; ok {
		return false
	}
	c.seen[nonce] = now
	return true
}

func (c *Checker) timestamp(sec xmltree.Node, now time.Time) *Refusal {
	ts := sec.Child(WSU, "Timestamp")
	if ts.IsZero() {
		if c.Timestamp {
			return &Refusal{"InvalidSecurity", "the security header holds no timestamp"}
		}
		return nil
	}
	created, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(ts.Child(WSU, "Created").Text()))
	if err != nil {
		return &Refusal{"InvalidSecurity", "the timestamp's time of creation cannot be read"}
	}
	if created.After(now.Add(c.Window)) {
		return &Refusal{"MessageExpired", "the timestamp lies in the future"}
	}
	if x := ts.Child(WSU, "Expires"); !x.IsZero() {
		at, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(x.Text()))
		if err != nil || now.After(at) {
			return &Refusal{"MessageExpired", "the timestamp has expired"}
		}
	}
	return nil
}
