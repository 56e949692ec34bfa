package call

import (
	"fmt"
	"strings"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// clock is what time it is in the security header.
func (c *securing) clock() (time.Time, error) {
	now := time.Now()
	v := c.plan.Settings.Get("clock-offset")
	if v.Text == "" {
		return now, nil
	}
	d, err := time.ParseDuration(v.Text)
	if err != nil {
		return now, &endpoint.ValueError{
			Key:   v.Key,
			Value: v,
			Err:   fmt.Errorf("%q is no difference of times, such as 90s or -5m", v.Text),
		}
	}
	return now.Add(d), nil
}

// userToken is the user name token as the settings have it.
func (c *securing) userToken(user, password string, kind wssec.PasswordType, now time.Time) *wssec.Token {
	s := &c.plan.Settings
	t := wssec.NewToken(user, password, kind, now)
	c.spaced = password != strings.TrimSpace(password)
	switch v := s.Text("token-nonce"); v {
	case "new", "":
	case "none":
		t.Nonce = nil
	default:
		t.NonceText = v
	}
	switch v := s.Text("token-created"); v {
	case "now", "":
	case "none":
		t.Created = time.Time{}
	default:
		t.CreatedAs = v
	}
	if s.Text("sign-key") == string(wssec.FromPassword) && len(c.named("sign")) > 0 {
		t.Derive = wssec.NewDerived()
	}
	c.token = t
	return t
}

// tokenFiles are the tokens that files hold, each an element that stands on its
// own.
func (c *securing) tokenFiles() (out [][]byte, err error) {
	s := &c.plan.Settings
	for _, path := range s.List("token-file") {
		fail := func(err error) ([][]byte, error) {
			return nil, &endpoint.FileError{Key: endpoint.KeyOf("token-file"), Path: path, Err: err}
		}
		if c.plan.ReadFile == nil {
			return fail(fmt.Errorf("no file can be read here"))
		}
		b, err := c.plan.ReadFile(path)
		if err != nil {
			return fail(err)
		}
		d, err := xmltree.Parse(b, xmltree.Limits{})
		if err != nil {
			return fail(fmt.Errorf("it is no XML: %w", err))
		}
		root := d.Root()
		if err := c.asserted(root.Bytes()); err != nil {
			return fail(err)
		}
		out = append(out, root.Bytes())
		c.rec.Update(func(x *exchange.Exchange) {
			for _, span := range wssec.SecretsOf(root.Bytes()) {
				x.Secrets = append(x.Secrets, string(root.Bytes()[span.Start:span.End]))
			}
		})
	}
	return out, nil
}

// asserted looks at a token that is sent, which may be an assertion.
func (c *securing) asserted(token []byte) error {
	d, err := xmltree.Parse(token, xmltree.Limits{})
	if err != nil {
		return err
	}
	a, err := wssec.ReadAssertion(d.Root())
	if a == nil {
		return err
	}
	c.assertion = a
	c.rec.Fact(exchange.Security, "assertion", a.String())
	c.assertionOver = a.Outside(time.Now())
	return nil
}
