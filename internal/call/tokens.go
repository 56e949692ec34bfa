package call

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Token services: log-ins whose messages a standard says.

// isTrust tells whether a log-in asks by WS-Trust.
func isTrust(in *identity.LogIn) bool {
	return in.Kind == identity.WSTrust13 || in.Kind == identity.WSTrust14
}

// samlType is the type of a SAML 2.0 assertion (WSS SAML Token Profile 1.1 §3.3.2).
const samlType = "http://docs.oasis-open.org/wss/oasis-wss-saml-token-profile-1.1#SAMLV2.0"

// clientCredentials is the request for a bearer token, and the field that says who asks (OAuth 2.0,
// RFC 6749 §4.4, §2.3.1).
func clientCredentials(id *identity.Identity, secret string) (body, authorization string) {
	form := url.Values{"grant_type": {"client_credentials"}}
	if id.LogIn.Scope != "" {
		form.Set("scope", id.LogIn.Scope)
	}
	who := url.QueryEscape(id.User) + ":" + url.QueryEscape(secret)
	return form.Encode(), "Basic " + base64.StdEncoding.EncodeToString([]byte(who))
}

// takeBearer finds the token in the answer of a token endpoint (RFC 6749 §5).
func (s *session) takeBearer(x *exchange.Exchange) error {
	l := x.Leg()
	if l == nil || !l.Response.Complete {
		if f := x.Cause(); f != nil {
			return errors.New(f.Title)
		}
		return errors.New("it was not answered")
	}
	var said struct {
		AccessToken      string      `json:"access_token"`
		TokenType        string      `json:"token_type"`
		ExpiresIn        json.Number `json:"expires_in"`
		Error            string      `json:"error"`
		ErrorDescription string      `json:"error_description"`
	}
	err := json.Unmarshal(l.ResponseBody.Bytes(), &said)
	switch {
	case err == nil && said.Error != "":
		why := said.Error
		if said.ErrorDescription != "" {
			why += ": " + said.ErrorDescription
		}
		return fmt.Errorf("the token service refused: %s", why)
	case l.Response.Status >= 400:
		return fmt.Errorf("the token service answered %s", l.Response.Line)
	case err != nil:
		return fmt.Errorf("what the token service answered is no JSON: %w", err)
	case said.AccessToken == "":
		return errors.New("the token service's answer has no access_token")
	case said.TokenType != "" && !strings.EqualFold(said.TokenType, "bearer"):
		return fmt.Errorf("the token is of the type %s, not bearer", said.TokenType)
	}
	s.field, s.value = "Authorization", "Bearer "+said.AccessToken
	if n, err := said.ExpiresIn.Int64(); err == nil && n > 0 {
		s.until = s.since.Add(time.Duration(n) * time.Second)
	}
	return nil
}

// askTrust asks a token service for an assertion about who calls (WS-Trust 1.3 §4): a call like any,
// with the identity's user name token, or signed with its certificate.
func (c *securing) askTrust(ctx context.Context, id *identity.Identity, u *url.URL) (s session, err error) {
	in := id.LogIn
	const ns = wssec.Trust
	keys, entropy, err := c.keyAskedFor(ctx, id, &s.key)
	if err != nil {
		return s, err
	}
	appliesTo := in.For
	if appliesTo == "" {
		v := *c.url
		v.RawQuery, v.User = "", nil
		appliesTo = v.String()
	}
	ask := `<t:RequestSecurityToken xmlns:t="` + ns + `"><t:TokenType>` + samlType + `</t:TokenType>` +
		`<t:RequestType>` + ns + `/Issue</t:RequestType>` + keys +
		`<p:AppliesTo xmlns:p="http://schemas.xmlsoap.org/ws/2004/09/policy">` +
		`<a:EndpointReference xmlns:a="http://www.w3.org/2005/08/addressing"><a:Address>` +
		xmltree.EscapeText(appliesTo) +
		`</a:Address></a:EndpointReference></p:AppliesTo></t:RequestSecurityToken>`
	p := *c.plan
	p.Sessions, p.Changes, p.History, p.Header, p.Candidates, p.Pool = nil, nil, nil, nil, nil, nil
	p.Until, p.Contract, p.Port, p.ContractName, p.Draft, p.AsItIs = exchange.None, nil, nil, "", nil, true
	p.Operation = "token for " + id.Name
	set := &p.Settings
	for key, value := range map[string]string{
		"address": strings.ReplaceAll(u.String(), "$", "$$"), "action": ns + "/RST/Issue",
		"addressing": soap.Addressing10, "session": "", "http-auth": "none", "redirects": "stop", "timestamp": "5m",
		"identity": id.Name, "validate": "false",
		"reply-to": "", "attachments": "none", "connect-to": "",
		"transfer": "length", "request-coding": "none", "expect-continue": "false",
	} {
		set.Set(key, value)
	}
	version := soap.V12
	if strings.HasPrefix(in.Type, "text/xml") {
		version = soap.V11
	}
	set.Set("soap", version.String())
	for _, key := range []string{"token-file", "sign", "encrypt", "header", "trailer", "expect"} {
		set.Set(key)
	}
	if id.Certificate != "" && (id.User == "" || in.KeyType == identity.KeyPublic) { // it shows that it has the key
		set.Set("sign", "body", "timestamp")
		set.Set("sign-identity", id.Name)
		set.Set("sign-key", string(wssec.Direct))
	}
	switch {
	case id.User == "" && id.Certificate != "":
		set.Set("token", "none")
	case u.Scheme == "https":
		set.Set("token", string(wssec.Text))
	default:
		set.Set("token", string(wssec.Digest))
	}
	p.SetDraft([]byte(ask))
	x := New(p, nil).Run(ctx)
	x.Kind = "log-in"
	s.since = time.Now()
	err = s.takeAssertion(x, in.KeyType, entropy)
	x.Secrets = append(x.Secrets, s.secrets()...)
	x.Secrets = append(x.Secrets, entropyIn(x)...)
	if c.plan.Keep != nil {
		c.plan.Keep(x)
	}
	return s, err
}

// keyAskedFor says which kind of key is to confirm the assertion, and takes the identity's own where that is
// the one. entropy is what is given for a key that both make.
func (c *securing) keyAskedFor(ctx context.Context, id *identity.Identity, k *sessionKey) (
	xml string, entropy []byte, err error,
) {
	kind := func(of string) string { return `<t:KeyType>` + wssec.Trust + of + `</t:KeyType>` }
	switch id.LogIn.KeyType {
	case identity.KeySymmetric:
		entropy = make([]byte, wssec.ProofBits/8)
		_, _ = rand.Read(entropy)
		return kind(wssec.KeySymmetric) + fmt.Sprintf("<t:KeySize>%d</t:KeySize>", wssec.ProofBits) +
			wssec.Entropy(entropy), entropy, nil
	case identity.KeyPublic:
		if id.Certificate == "" {
			return "", nil, errors.New("an assertion that a public key confirms needs an identity with a certificate")
		}
		_, password, err := c.identityHere(ctx, id.Name)
		if err != nil {
			return "", nil, err
		}
		pair, bad, err := pairOf(ctx, id, password)
		if err != nil {
			return "", nil, fmt.Errorf("%s: %w", bad, err)
		}
		if k.own = decryptionKeyOf(pair); k.own == nil {
			return "", nil, fmt.Errorf("the key of %s signs nothing", id.Certificate)
		}
		return kind(wssec.KeyPublic) +
			`<t:UseKey><d:KeyInfo xmlns:d="` + wssec.DSIG + `"><d:X509Data><d:X509Certificate>` +
			base64.StdEncoding.EncodeToString(k.own.Cert.Raw) +
			`</d:X509Certificate></d:X509Data></d:KeyInfo></t:UseKey>`, nil, nil
	}
	return kind(wssec.KeyBearer), nil, nil
}

// entropyIn are the secrets that went both ways, as they stand in the messages.
func entropyIn(x *exchange.Exchange) (out []string) {
	l := x.Leg()
	if l == nil {
		return nil
	}
	for _, b := range [][]byte{l.Sent(), l.Readable()} {
		d, err := xmltree.Parse(b, xmltree.Limits{Depth: 512})
		if err != nil {
			continue
		}
		for i := 1; i <= d.Len(); i++ {
			if n := d.NodeAt(i); n.Kind() == xmltree.StartElement && n.Is(wssec.Trust, "BinarySecret") {
				out = append(out, strings.TrimSpace(n.Text()))
			}
		}
	}
	return out
}

// takeAssertion finds the assertion in what a token service answers.
func (s *session) takeAssertion(x *exchange.Exchange, keyType string, entropy []byte) error {
	l := x.Leg()
	if f := x.Cause(); f != nil && x.Outcome == exchange.OutcomeStopped {
		return errors.New(f.Title)
	}
	if l == nil || !l.Response.Complete {
		return errors.New("it was not answered")
	}
	d, err := xmltree.Parse(l.ResponseBody.Bytes(), xmltree.Limits{Depth: 512})
	if err != nil {
		return fmt.Errorf("what the token service answered cannot be read: %w", err)
	}
	given := named(d.Root(), "RequestedSecurityToken")
	n := named(given, "Assertion")
	switch {
	case given.IsZero():
		return errors.New("the token service's answer holds no RequestedSecurityToken")
	case n.IsZero():
		return errors.New("the token service gave another token than an assertion")
	}
	if s.key.secret, err = wssec.ProofKey(d.Root(), entropy); err != nil {
		return fmt.Errorf("the token service's key cannot be used: %w", err)
	}
	if keyType == identity.KeySymmetric && s.key.secret == nil {
		return errors.New("the token service agreed on no key, though a symmetric one was asked for")
	}
	s.field, s.token = "", []byte(message.Alone(n))
	if a, err := wssec.ReadAssertion(n); err == nil && a != nil {
		if a.Confirmed == "holder-of-key" && !s.key.is() {
			return errors.New("the assertion is to be confirmed by the holder of a key, and was asked for without " +
				"one: log-in.key-type says which kind of key")
		}
		if a.Confirmed != "" && a.Confirmed != "bearer" && a.Confirmed != "holder-of-key" {
			return fmt.Errorf("the assertion is to be confirmed by %s, which is not done here", a.Confirmed)
		}
		s.until = a.NotAfter
	}
	return nil
}
