package call_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/identity"
)

// lighttpd asks for HTTP authentication in front of the harbour.
func lighttpd(t *testing.T, method, algorithm, behind string) string {
	dir := t.TempDir()
	return daemon(t, "lighttpd", func(port string) []string {
		host, behindPort, _ := strings.Cut(behind, ":")
		require.NoError(t, os.WriteFile(filepath.Join(dir, "users"), []byte("desk:slack water\n"), 0o600))
		conf := fmt.Sprintf(`server.modules = ( "mod_auth", "mod_authn_file", "mod_proxy" )
server.document-root = "%[1]s"
server.bind = "127.0.0.1"
server.port = %[2]s
server.errorlog = "%[1]s/log"
auth.backend = "plain"
auth.backend.plain.userfile = "%[1]s/users"
auth.require = ( "/" => ( "method" => "%[3]s", "realm" => "Skerry Harbour", "require" => "valid-user", "algorithm" => "%[4]s" ) )
proxy.server = ( "" => ( ( "host" => "%[5]s", "port" => %[6]s ) ) )
`, dir, port, method, algorithm, host, behindPort)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), []byte(conf), 0o600))
		return []string{"-D", "-f", filepath.Join(dir, "conf")}
	})
}

// A server that asks for digest is answered, and its refusal is explained.
func TestAuthenticationThatIsAskedFor(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", "slack water")
	t.Setenv("WRONG_WORD", "high water")
	for _, c := range []struct{ method, algorithm, set, says string }{
		{"digest", "MD5", "digest", "digest, MD5"}, {"digest", "SHA-256", "digest", "digest, SHA-256"}, {"digest",
			"SHA-256", "asked", "digest, SHA-256"}, {"basic", "", "asked", "Basic"},
	} {
		p := berths(t, h, "/berths")
		p.Settings.Set("address", "http://"+lighttpd(t, c.method, c.algorithm, h.Plain)+"/berths")
		p.Identities = []diagnose.Identity{{Name: "desk", User: "desk"}}
		x := run(t, p)
		require.NotEmpty(t, x.Findings)
		assert.Equal(t, "receive.unauthorized", x.Findings[0].ID)
		assert.Equal(t, "endpoint.berths.http-auth", x.Findings[0].Remedies[0].All()[1].Key)
		assert.Equal(t, c.method, x.Findings[0].Remedies[0].All()[1].To)

		word := "DESK_WORD"
		p.Identity = func(string) (*identity.Identity, error) {
			return &identity.Identity{Name: "desk", User: "desk", Secret: "env:" + word}, nil
		}
		p.Settings.Set("identity", "desk")
		p.Settings.Set("http-auth", c.set)
		x = run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%v %+v", c, x.Findings)
		require.Len(t, x.Legs, 2)
		assert.Equal(t, "challenge", x.Legs[1].Purpose)
		assert.Contains(t, x.Stage(exchange.Security).Facts.Get("asked for"), c.says)
		assert.NotContains(t, string(x.Legs[0].Out), "Authorization")
		kept := x.Redact(nil)
		assert.NotContains(t, string(kept.Legs[1].Out), "response=", "what stands for the password is cut out")

		word = "WRONG_WORD"
		x = run(t, p)
		assert.Equal(t, "receive.unauthorized", x.Findings[0].ID)
		assert.Contains(t, x.Findings[0].Why, "user or password is probably wrong")
		assert.Len(t, x.Legs, 2, "it is asked once")
	}
	// What is set and not offered is told, and nothing is sent.
	p := berths(t, h, "/berths")
	p.Settings.Set("address", server(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Add("WWW-Authenticate", `Basic realm="Skerry"`)
		w.Header().Add("WWW-Authenticate", `Negotiate`)
		w.WriteHeader(401)
	}))
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: "desk", Secret: "env:DESK_WORD"}, nil
	}
	p.Settings.Set("identity", "desk")
	p.Settings.Set("http-auth", "digest")
	x := run(t, p)
	assert.Contains(t, x.Findings[0].Why, "Negotiate")
	assert.Contains(t, x.Findings[0].Why, "does not offer; nothing was sent")
	assert.Equal(t, "basic", x.Findings[0].Remedies[0].All()[0].To)
}
