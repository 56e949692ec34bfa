package call

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/Azure/go-ntlmssp"
	"github.com/icholy/digest"

	"orenda/internal/exchange"
)

var errNotOffered = errors.New("the server does not offer what is set")

// answer401 makes the Authorization field that a challenge asks for (RFC 7616,
// RFC 7617): digest where it is offered, else basic where that was set as good
// enough. method and target are those of the request.
func (c *network) answer401(l *exchange.Leg, method, target string) error {
	h := http.Header{}
	for _, f := range l.Response.Fields {
		if strings.EqualFold(f.Name, "WWW-Authenticate") {
			h.Add("WWW-Authenticate", f.Value)
		}
	}
	if chal, err := digest.FindChallenge(h); err == nil {
		cred, err := digest.Digest(
			chal,
			digest.Options{
				Method:   method,
				URI:      target,
				Count:    1,
				Username: c.credentials.user,
				Password: c.credentials.password,
			},
		)
		if err != nil {
			return err
		}
		c.credentials.authorization = cred.String()
		algorithm := chal.Algorithm
		if algorithm == "" {
			algorithm = "MD5"
		}
		c.rec.Fact(exchange.Security, "asked for", fmt.Sprintf("digest, %s, realm %s", algorithm, chal.Realm))
		return nil
	}
	if c.plan.Settings.Text("http-auth") != "asked" {
		return errNotOffered
	}
	for _, v := range h.Values("WWW-Authenticate") {
		if strings.HasPrefix(strings.ToLower(v), "basic") {
			both := base64.StdEncoding.EncodeToString([]byte(c.credentials.user + ":" + c.credentials.password))
			c.credentials.authorization = "Basic " + both
			c.rec.Update(
				func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, c.credentials.authorization, both) },
			)
			c.rec.Fact(exchange.Security, "asked for", v)
			return nil
		}
	}
	if offersNTLM(l) {
		return c.credentials.negotiate()
	}
	return errNotOffered
}

// The steps of NTLM (MS-NLMP §1.3.1) on one connection.
type ntlmStep uint8

const (
	noNTLM ntlmStep = iota
	negotiating
	authenticating
)

func offersNTLM(l *exchange.Leg) bool {
	for _, f := range l.Response.Fields {
		if strings.EqualFold(f.Name, "WWW-Authenticate") &&
			strings.EqualFold(strings.Fields(f.Value + " -")[0], "NTLM") {
			return true
		}
	}
	return false
}

// negotiate begins NTLM: the first message carries no name, and the request that
// it goes with no body.
func (c *credentials) negotiate() error {
	m, err := ntlmssp.NewNegotiateMessage("", "")
	if err != nil {
		return err
	}
	c.ntlm, c.authorization = negotiating, "NTLM "+base64.StdEncoding.EncodeToString(m)
	return nil
}

// authenticate answers the challenge of NTLM. The user may be DOMAIN\user.
func (c *network) authenticate(l *exchange.Leg) error {
	for _, f := range l.Response.Fields {
		kind, text, _ := strings.Cut(f.Value, " ")
		if !strings.EqualFold(f.Name, "WWW-Authenticate") || !strings.EqualFold(kind, "NTLM") || text == "" {
			continue
		}
		challenge, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
		if err != nil {
			return err
		}
		m, err := ntlmssp.NewAuthenticateMessage(challenge, c.credentials.user, c.credentials.password, nil)
		if err != nil {
			return err
		}
		c.credentials.ntlm, c.credentials.authorization = authenticating, "NTLM "+base64.StdEncoding.EncodeToString(m)
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, c.credentials.authorization) })
		c.rec.Fact(exchange.Security, "asked for", "NTLM, on one connection")
		return nil
	}
	return errNotOffered
}

// challenged makes what a 401 asks for, where it can be made; false where the
// refusal stands.
func (c *network) challenged(l *exchange.Leg, method, target string) bool {
	switch {
	case l.Response.Status != http.StatusUnauthorized || c.credentials.user == "" && c.credentials.password == "" ||
		c.credentials.ntlm == authenticating:
		return false
	case c.credentials.ntlm == negotiating:
		return c.authenticate(l) == nil
	case c.credentials.authorization != "":
		return false // once: a second refusal is one of the user
	}
	return c.answer401(l, method, target) == nil
}
