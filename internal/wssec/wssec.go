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
	User      string       // user name
	Password  string       // secret
	Type      PasswordType // text or digest
	Nonce     []byte       // nil: none is sent
	NonceText string       // sent as it stands in the place of Nonce's base64
	Created   time.Time    // zero: it is not sent
	CreatedAs string       // sent as it stands in Created's place
	Derive    *Derived     // a key is derived from the password, which is not sent
	id        string       // wsu:Id, where one is needed
}

// Derived is how a key is derived from a password (UsernameToken Profile 1.1 §4).
type Derived struct {
	Salt       []byte // 16 bytes, the first of which says what the key is for
	Iterations int    // of the derivation
}

// NewDerived is a fresh way to derive a key that makes HMACs.
func NewDerived() *Derived {
	d := &Derived{Salt: make([]byte, 16), Iterations: 1000}
	_, _ = rand.Read(d.Salt)
	d.Salt[0] = 1 // for a MAC
	return d
}

// maxIterations bounds what a message can make a reader do.
const maxIterations = 1_000_000

// Key is the key, 20 bytes: SHA-1 over password and salt, and again over that.
func (d *Derived) Key(password string) []byte {
	h := sha1.Sum(append([]byte(password), d.Salt...))
	for i := 1; i < min(d.Iterations, maxIterations); i++ {
		h = sha1.Sum(h[:])
	}
	return h[:]
}

// NewToken makes a token with a fresh nonce of 16 bytes, created now.
func NewToken(user, password string, kind PasswordType, now time.Time) *Token {
	t := &Token{User: user, Password: password, Type: kind, Nonce: make([]byte, 16), Created: now}
	_, _ = rand.Read(t.Nonce)
	return t
}

// ID is the token's identifier, by which a signature refers to it.
func (t *Token) ID() string {
	if t.id == "" {
		t.id = id("usernametoken")
	}
	return t.id
}

func (t *Token) nonce() string {
	if t.NonceText != "" || t.Nonce == nil {
		return t.NonceText
	}
	return base64.StdEncoding.EncodeToString(t.Nonce)
}

func (t *Token) created() string {
	if t.CreatedAs != "" || t.Created.IsZero() {
		return t.CreatedAs
	}
	return stamp(t.Created)
}

// digest is the password's, over what is sent of nonce and created.
func (t *Token) digest() string {
	nonce := t.Nonce
	if t.NonceText != "" {
		nonce, _ = decodeBase64(t.NonceText) // what is no base64 is sent all the same, and digested as none
	}
	return PasswordDigest(nonce, t.created(), t.Password)
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
	Created time.Time     // when it was made
	Life    time.Duration // how long it holds
}

// Header is a security header as built.
type Header struct {
	XML     []byte         // the header block
	Secrets []xmltree.Span // where in XML a secret or its digest stands
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// HeaderOptions are what a header says besides its tokens.
type HeaderOptions struct {
	Version   soap.Version // for the name of Actor's attribute; Unset is 1.1
	Actor     string       // whom it is for: actor (SOAP 1.1 §4.2.2) or role (SOAP 1.2 §5.2.2); "" the last receiver
	MayIgnore bool         // mustUnderstand is left out
	Tokens    [][]byte     // in XML: assertions and others, each standing on its own
}

// Build writes the header block. The prefix soap must be bound where it goes.
func Build(t *Token, ts *Timestamp) Header { return BuildHeader(t, ts, HeaderOptions{}) }

// BuildHeader is Build with options.
func BuildHeader(t *Token, ts *Timestamp, o HeaderOptions) Header {
	var b bytes.Buffer
	var h Header
	b.WriteString(`    <wsse:Security xmlns:wsse="` + WSSE + `" xmlns:wsu="` + WSU + `"`)
	if !o.MayIgnore {
		b.WriteString(` soap:mustUnderstand="1"`)
	}
	if o.Actor != "" {
		name := "actor"
		if o.Version == soap.V12 {
			name = "role"
		}
		b.WriteString(` soap:` + name + `="` + xmltree.EscapeAttr(o.Actor) + `"`)
	}
	b.WriteString(">")
	if ts != nil {
		b.WriteString("\n      <wsu:Timestamp>\n        <wsu:Created>" + stamp(ts.Created) + "</wsu:Created>")
		if ts.Life > 0 {
			b.WriteString("\n        <wsu:Expires>" + stamp(ts.Created.Add(ts.Life)) + "</wsu:Expires>")
		}
		b.WriteString("\n      </wsu:Timestamp>")
	}
	if t != nil {
		t.write(&b, &h)
	}
	for _, x := range o.Tokens {
		b.WriteString("\n      ")
		at := b.Len()
		b.Write(x)
		for _, s := range SecretsOf(x) {
			h.Secrets = append(h.Secrets, xmltree.Span{Start: at + s.Start, End: at + s.End})
		}
	}
	b.WriteString("\n    </wsse:Security>")
	h.XML = b.Bytes()
	return h
}

// write writes the token, and says where its secrets are.
func (t *Token) write(b *bytes.Buffer, h *Header) {
	b.WriteString("\n      <wsse:UsernameToken")
	if t.id != "" || t.Derive != nil {
		b.WriteString(` wsu:Id="` + t.ID() + `"`)
	}
	b.WriteString(">\n        <wsse:Username>" + xmltree.EscapeText(t.User) + "</wsse:Username>")
	switch {
	case t.Derive != nil:
		b.WriteString(
			"\n        <wsse11:Salt xmlns:wsse11=\"" + WSSE11 + "\">" + base64.StdEncoding.EncodeToString(
				t.Derive.Salt,
			) + "</wsse11:Salt>",
		)
		fmt.Fprintf(
			b,
			"\n        <wsse11:Iteration xmlns:wsse11=\"%s\">%d</wsse11:Iteration>",
			WSSE11,
			t.Derive.Iterations,
		)
	case t.Type != None:
		uri, secret := TypeText, xmltree.EscapeText(t.Password)
		if t.Type == Digest {
			uri, secret = TypeDigest, t.digest()
		}
		b.WriteString("\n        <wsse:Password Type=\"" + uri + "\">")
		h.Secrets = append(h.Secrets, xmltree.Span{Start: b.Len(), End: b.Len() + len(secret)})
		b.WriteString(secret + "</wsse:Password>")
		if nonce := t.nonce(); nonce != "" {
			b.WriteString(
				"\n        <wsse:Nonce EncodingType=\"" + base64Encoding + "\">" + xmltree.EscapeText(
					nonce,
				) + "</wsse:Nonce>",
			)
		}
		if created := t.created(); created != "" {
			b.WriteString("\n        <wsu:Created>" + xmltree.EscapeText(created) + "</wsu:Created>")
		}
	}
	b.WriteString("\n      </wsse:UsernameToken>")
}

// SecretsOf says where the secrets of a token in XML are: the values of its
// signatures, without which nobody takes it; all that is in it where it has none.
func SecretsOf(token []byte) (out []xmltree.Span) {
	d, err := xmltree.Parse(token, xmltree.Limits{})
	if err != nil {
		return []xmltree.Span{{Start: 0, End: len(token)}}
	}
	return secretsIn(d.Root())
}

func secretsIn(n xmltree.Node) (out []xmltree.Span) {
	var walk func(n xmltree.Node)
	walk = func(n xmltree.Node) {
		for c := range n.Children() {
			if c.Is(DSIG, "SignatureValue") {
				out = append(out, c.Inner())
			}
			walk(c)
		}
	}
	if walk(n); out == nil {
		out = append(out, n.Inner())
	}
	return out
}

// Secrets says where in the security headers of an envelope a secret stands:
// passwords, and tokens that are neither certificates nor signed by anybody here.
func Secrets(e *soap.Envelope) (out []xmltree.Span) {
	if e.Header.IsZero() {
		return nil
	}
	for sec := range e.Header.Named(WSSE, "Security") {
		for n := range sec.Children() {
			switch kind, _ := n.Attr("", "ValueType"); {
			case n.Is(WSSE, "UsernameToken"):
				for p := range n.Named(WSSE, "Password") {
					out = append(out, p.Inner())
				}
			case n.Name().Space == DSIG,
				n.Name().Space == XENC,
				n.Is(WSU, "Timestamp"),
				n.Is(WSSE11, "SignatureConfirmation"),
				n.Is(WSSE, "SecurityTokenReference"),
				n.Is(WSSE, "BinarySecurityToken") && strings.Contains(kind, "x509-token-profile"):
			default:
				out = append(out, secretsIn(n)...)
			}
		}
	}
	return out
}

// Refusal is why a header is not accepted, with the fault code of WSS 1.0 §12.
type Refusal struct {
	Code string // local name in the WSSE namespace
	Why  string // in words
}

func (r *Refusal) Error() string { return r.Why }

// Checker checks the headers of requests, as a service does.
type Checker struct {
	Password  func(user string) (password string, ok bool) // gives that of a user
	Types     []PasswordType                               // those that are accepted
	Timestamp bool                                         // a timestamp is demanded
	Window    time.Duration                                // how far created may be from now
	Now       func() time.Time                             // what time it is

	mu   sync.Mutex
	seen map[string]time.Time // nonces, for replay
}

// Check checks the security header of an envelope and gives the user's name.
//
//revive:disable-next-line:cyclomatic the steps of the standard, in its order
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
		return user, &Refusal{
			"UnsupportedSecurityToken",
			fmt.Sprintf("a password of type %s is not accepted here", kind),
		}
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
			return user, &Refusal{
				"MessageExpired",
				"the token was created outside the accepted window of " + c.Window.String(),
			}
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
