package call_test

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"encoding/base64"
	"encoding/binary"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	//lint:ignore SA1019 NTLM is made of it
	"golang.org/x/crypto/md4"

	"orenda/internal/exchange"
	"orenda/internal/identity"
)

func wide(s string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

// ntlmGate is a server that wants NTLM (MS-NLMP), with the proof of version 2
// computed here and not by what is tested. A connection is let in, not a request.
type ntlmGate struct {
	user, domain, word string
	behind             http.Handler

	mu     sync.Mutex
	asked  map[string][]byte // challenges, by connection
	in     map[string]bool
	bodies []int // sizes of the bodies that came, in order
}

func (g *ntlmGate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.bodies = append(g.bodies, len(body))
	refuse := func(say string) {
		w.Header().Set("WWW-Authenticate", say)
		w.WriteHeader(http.StatusUnauthorized)
	}
	kind, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	m, err := base64.StdEncoding.DecodeString(text)
	switch {
	case g.in[r.RemoteAddr]:
	case kind != "NTLM" || err != nil || len(m) < 12 || string(m[:8]) != "NTLMSSP\x00":
		refuse("NTLM")
		return
	case m[8] == 1:
		challenge := []byte("ebbflood")
		g.asked[r.RemoteAddr] = challenge
		target := wide("HARBOUR")
		info := append(append([]byte{2, 0, byte(len(target)), 0}, target...), 0, 0, 0, 0) // MsvAvNbDomainName, MsvAvEOL
		var b bytes.Buffer
		b.WriteString("NTLMSSP\x00")
		_ = binary.Write(&b, binary.LittleEndian, uint32(2))
		_ = binary.Write(&b, binary.LittleEndian, []uint16{uint16(len(target)), uint16(len(target))})
		_ = binary.Write(&b, binary.LittleEndian, uint32(56))
		_ = binary.Write(&b, binary.LittleEndian, uint32(0x00800201|0x00010000)) // target info, Unicode, NTLM
		b.Write(challenge)
		b.Write(make([]byte, 8))
		_ = binary.Write(&b, binary.LittleEndian, []uint16{uint16(len(info)), uint16(len(info))})
		_ = binary.Write(&b, binary.LittleEndian, uint32(56+len(target)))
		b.Write(make([]byte, 8))
		b.Write(target)
		b.Write(info)
		refuse("NTLM " + base64.StdEncoding.EncodeToString(b.Bytes()))
		return
	case m[8] == 3 && g.asked[r.RemoteAddr] != nil:
		part := func(at int) []byte {
			n, from := int(binary.LittleEndian.Uint16(m[at:])), int(binary.LittleEndian.Uint32(m[at+4:]))
			return m[from : from+n]
		}
		nt := part(20)
		h := md4.New()
		h.Write(wide(g.word))
		owf := hmac.New(md5.New, h.Sum(nil))
		owf.Write(wide(strings.ToUpper(g.user) + g.domain))
		proof := hmac.New(md5.New, owf.Sum(nil))
		proof.Write(g.asked[r.RemoteAddr])
		proof.Write(nt[16:])
		if !bytes.Equal(part(36), wide(g.user)) || !hmac.Equal(nt[:16], proof.Sum(nil)) {
			refuse("NTLM")
			return
		}
		g.in[r.RemoteAddr] = true
	default:
		refuse("NTLM")
		return
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	g.behind.ServeHTTP(w, r)
}

// NTLM goes over one connection; the message leaves once it is known who calls.
func TestNTLM(t *testing.T) {
	h := harbour(t)
	for _, c := range []struct{ how, user, word, domain, want string }{
		{"ntlm", `HARBOUR\desk`, "slack water", "HARBOUR", ""},
		{"asked", `HARBOUR\desk`, "slack water", "HARBOUR", ""},
		{"ntlm", `HARBOUR\desk`, "high water", "HARBOUR", "receive.unauthorized"},
		{"digest", "desk", "slack water", "HARBOUR", "receive.unauthorized"},
	} {
		g := &ntlmGate{
			user:   "desk",
			domain: c.domain,
			word:   "slack water",
			behind: h,
			asked:  map[string][]byte{},
			in:     map[string]bool{},
		}
		srv := httptest.NewServer(g)
		t.Cleanup(srv.Close)
		p := berths(t, h, "/berths")
		p.Settings.Set("address", srv.URL+"/berths")
		p.Settings.Set("http-auth", c.how)
		p.Settings.Set("identity", "desk")
		t.Setenv("DESK_WORD", c.word)
		p.Identity = func(string) (*identity.Identity, error) {
			return &identity.Identity{Name: "desk", User: c.user, Secret: "env:DESK_WORD"}, nil
		}
		x := run(t, p)
		if c.want != "" {
			require.NotNil(t, x.Cause(), c.how)
			assert.Equal(t, c.want, x.Cause().ID)
			continue
		}
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%s: %+v", c.how, x.Findings)
		legs := map[string]int{"ntlm": 2, "asked": 3}[c.how]
		require.Len(t, x.Legs, legs)
		assert.True(t, x.Legs[legs-1].Conn.Reused, "one connection")
		assert.Zero(t, g.bodies[legs-2], "the first message of NTLM carries no body")
		assert.Positive(t, g.bodies[legs-1])
		assert.Len(t, g.in, 1)
		all := x.Redact(nil)
		assert.NotContains(
			t,
			string(all.Legs[legs-1].Out),
			strings.TrimPrefix(x.Legs[legs-1].Request.Get("Authorization"), "NTLM "),
		)
	}
}
