package wssec

import (
	"encoding/base64"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

func envelope(t testing.TB, header []byte) *soap.Envelope {
	t.Helper()
	var headers [][]byte
	if header != nil {
		headers = append(headers, header)
	}
	src, _ := soap.Build(soap.V11, headers, []byte("<x/>"))
	d, err := xmltree.Parse(src, xmltree.Limits{})
	require.NoError(t, err, "%s", src)
	return soap.Read(d)
}

func checker() *Checker {
	return &Checker{
		Types:    []PasswordType{Digest, Text},
		Window:   5 * time.Minute,
		Password: func(u string) (string, bool) { return "low<tide", u == "desk" },
	}
}

func TestTokensAreAcceptedAndRefusedForTheirReasons(t *testing.T) {
	now := time.Now()
	token := func(user, password string, kind PasswordType, at time.Time) []byte {
		return Build(NewToken(user, password, kind, at), nil).XML
	}
	c := checker()
	replayed := token("desk", "low<tide", Digest, now)
	for _, x := range []struct {
		name   string
		header []byte
		code   string
	}{
		{"digest", replayed, ""},
		{"text", token("desk", "low<tide", Text, now), ""},
		{"replay", replayed, "InvalidSecurityToken"},
		{"none", nil, "InvalidSecurity"},
		{"wrong password", token("desk", "high", Digest, now), "FailedAuthentication"},
		{"wrong user", token("mate", "low<tide", Text, now), "FailedAuthentication"},
		{"old", token("desk", "low<tide", Digest, now.Add(-time.Hour)), "MessageExpired"},
		{"no password", token("desk", "", None, now), "UnsupportedSecurityToken"},
		{"expired", Build(NewToken("desk", "low<tide", Text, now), &Timestamp{now.Add(-time.Hour), time.Minute}).XML,
			"MessageExpired"},
		{"in time", Build(NewToken("desk", "low<tide", Text, now), &Timestamp{now, time.Minute}).XML, ""},
		{"timestamp alone", Build(nil, &Timestamp{now, 0}).XML, "InvalidSecurity"},
	} {
		_, r := c.Check(envelope(t, x.header))
		if x.code == "" {
			assert.Nil(t, r, x.name)
		} else if assert.NotNil(t, r, x.name) {
			assert.Equal(t, x.code, r.Code, x.name)
		}
	}
	c.Timestamp = true
	_, r := c.Check(envelope(t, token("desk", "low<tide", Text, now)))
	assert.ErrorContains(t, r, "no timestamp")
}

func TestSecretSpansAreThePasswords(t *testing.T) {
	h := Build(NewToken("desk", "low<tide", Text, time.Now()), &Timestamp{time.Now(), time.Minute})
	require.Len(t, h.Secrets, 1)
	assert.Equal(t, "low&lt;tide", string(h.XML[h.Secrets[0].Start:h.Secrets[0].End]))
}

// The digest is computed a second time by openssl.
func TestDigestAgreesWithOpenSSL(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed (make test installs it)")
	}
	nonce, created, password := []byte("skerry\x00nonce\xff"), "2027-01-01T00:00:00.000Z", "lów tide"
	cmd := exec.Command("sh", "-c", "openssl dgst -sha1 -binary | openssl base64 -A")
	cmd.Stdin = strings.NewReader(string(nonce) + created + password)
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, string(out), PasswordDigest(nonce, created, password))
}

func FuzzCheck(f *testing.F) {
	f.Add(string(Build(NewToken("desk", "low<tide", Digest, time.Now()), &Timestamp{time.Now(), time.Minute}).XML))
	f.Add(
		fmt.Sprintf(
			`<s:Security xmlns:s="%s"><s:UsernameToken><s:Nonce>%s</s:Nonce></s:UsernameToken></s:Security>`,
			WSSE,
			base64.StdEncoding.EncodeToString(make([]byte, 2000)),
		),
	)
	f.Fuzz(func(t *testing.T, header string) {
		src, _ := soap.Build(soap.V11, [][]byte{[]byte(header)}, nil)
		if d, err := xmltree.Parse(src, xmltree.Limits{Depth: 50}); err == nil {
			if e := soap.Read(d); e != nil {
				checker().Check(e)
			}
		}
	})
}
