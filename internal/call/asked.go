package call

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/icholy/digest"

	"orenda/internal/exchange"
)

var errNotOffered = errors.New("the server does not offer what is set")

// answer401 makes the Authorization field that a challenge asks for (RFC 7616,
// RFC 7617): digest where it is offered, else basic where that was set as good
// enough. method and target are those of the request.
func (c *Call) answer401(l *exchange.Leg, method, target string) error {
	h := http.Header{}
	for _, f := range l.Response.Fields {
		if strings.EqualFold(f.Name, "WWW-Authenticate") {
			h.Add("WWW-Authenticate", f.Value)
		}
	}
	if chal, err := digest.FindChallenge(h); err == nil {
		cred, err := digest.Digest(chal, digest.Options{Method: method, URI: target, Count: 1, Username: c.user, Password: c.word})
		if err != nil {
			return err
		}
		c.authorization = cred.String()
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
			both := base64.StdEncoding.EncodeToString([]byte(c.user + ":" + c.word))
			c.authorization = "Basic " + both
			c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, c.authorization, both) })
			c.rec.Fact(exchange.Security, "asked for", v)
			return nil
		}
	}
	return errNotOffered
}
