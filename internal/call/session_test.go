package call_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
)

// gate is a service behind a log-in of many kinds.
type gate struct {
	*httptest.Server
	logIns atomic.Int32
	over   atomic.Bool // what was given before does not hold any more
	last   string      // body of the last call
}

const gateWord = "slack & water=7"

func newGate(t *testing.T) *gate {
	g := &gate{}
	mux := http.NewServeMux()
	pass := func() string { return fmt.Sprintf("tide-%d-abcdef", g.logIns.Load()) }
	mux.HandleFunc("/form", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("name") != "desk" || r.FormValue("word") != gateWord {
			http.Error(w, "no", http.StatusForbidden)
			return
		}
		g.logIns.Add(1)
		g.over.Store(false)
		http.SetCookie(w, &http.Cookie{Name: "quay", Value: pass(), HttpOnly: true})
		http.SetCookie(w, &http.Cookie{Name: "lang", Value: "en"})
		http.Redirect(w, r, "/welcome", http.StatusFound)
	})
	mux.HandleFunc("/soap", func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		if !strings.Contains(string(b), "<word>slack &amp; water=7</word>") ||
			r.Header.Get("SOAPAction") != `"urn:open"` {
			w.WriteHeader(500)
			return
		}
		g.logIns.Add(1)
		g.over.Store(false)
		w.Header().Set("X-Pass", pass())
		fmt.Fprintf(w, `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><Opened><pass>tide-
	%s</pass><t:Assertion xmlns:t="urn:oasis:names:tc:SAML:2.0:assertion" ID="a-7"><t:Issuer>gate</t:Issuer></t:Assertion></Opened></e:Body></e:Envelope>`, strings.TrimPrefix(pass(), "tide-"))
	})
	mux.HandleFunc("/berths", func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		g.last = string(b)
		said := r.Header.Get("X-Quay") + r.Header.Get("Authorization")
		if c, err := r.Cookie("quay"); err == nil {
			said += c.Value
		}
		if g.over.Load() || !strings.Contains(said, pass()) && !strings.Contains(g.last, `ID="a-7"`) {
			w.Header().Set("Content-Type", "text/html")
			_, _ = io.WriteString(w, "<html><title>Harbour log-in</title></html>")
			return
		}
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, someBerths(nil))
	})
	g.Server = httptest.NewServer(mux)
	t.Cleanup(g.Close)
	return g
}

const openSOAP = `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><Open><name>${user}</name><word>${secret}</word></Open></e:Body></e:Envelope>`

// A log-in goes before the call, what it gives goes with it, and with the next;
// once it does not hold any more it is made again.
func TestASessionIsOpenedKeptAndRenewed(t *testing.T) {
	h := harbour(t)
	for name, in := range map[string]identity.LogIn{
		"form":      {Address: "/form", Body: "name=${user}&word=${secret}"},
		"header":    {Address: "/soap", Body: openSOAP, Action: "urn:open", Gives: "header X-Pass", As: "X-Quay"},
		"element":   {Address: "/soap", Body: openSOAP, Action: "urn:open", Gives: "element pass"},
		"assertion": {Address: "/soap", Body: openSOAP, Action: "urn:open", Gives: "assertion"},
	} {
		t.Run(name, func(t *testing.T) {
			g := newGate(t)
			in.Address = g.URL + in.Address
			p := berths(t, h, "/berths")
			p.Settings.Set("address", g.URL+"/berths")
			p.Settings.Set("session", "desk")
			t.Setenv("DESK_WORD", gateWord)
			p.Identity = func(string) (*identity.Identity, error) {
				return &identity.Identity{Name: "desk", User: "desk", Secret: "env:DESK_WORD", LogIn: &in}, nil
			}
			var kept []*exchange.Exchange
			p.Sessions, p.Keep = &call.Sessions{}, func(x *exchange.Exchange) { kept = append(kept, x) }
			for range 3 {
				x := run(t, p)
				require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
				all := fmt.Sprintf("%s %+v", x.Redact(nil).Leg().Out, x.Redact(nil).Report(true))
				assert.NotContains(t, all, "tide-1-abcdef")
			}
			assert.EqualValues(t, 1, g.logIns.Load(), "once for all")
			require.Len(t, kept, 1)
			assert.Equal(t, "log-in", kept[0].Kind)
			masked := kept[0].Redact(nil)
			if name == "assertion" {
				return // the gate says its pass in other ways too
			}
			for _, secret := range []string{"tide-1-abcdef", "slack &amp; water=7", "slack+%26+water%3D7", gateWord} {
				assert.NotContains(
					t,
					string(masked.Leg().Out)+string(masked.Leg().In.Bytes())+fmt.Sprintf("%+v", masked.Report(true)),
					secret,
				)
			}
			g.over.Store(true)
			x := run(t, p)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
			assert.EqualValues(t, 2, g.logIns.Load(), "made again")
			assert.Len(t, x.Legs, 2)
			assert.Equal(t, "session", x.Legs[1].Purpose)
		})
	}
}

func TestASessionThatCannotBeOpened(t *testing.T) {
	h := harbour(t)
	g := newGate(t)
	file := filepath.Join(t.TempDir(), "in")
	require.NoError(t, os.WriteFile(file, []byte("name=${user}&word=wrong"), 0o600))
	for want, in := range map[string]*identity.LogIn{
		"no log-in":           nil,
		"403":                 {Address: g.URL + "/form", Body: "file:" + file},
		"no cookie":           {Address: g.URL + "/berths", Body: "x"},
		"X-None is not in it": {Address: g.URL + "/berths", Body: "x", Gives: "header X-None"},
		"pass is not in it":   {Address: g.URL + "/berths", Body: "x", Gives: "element pass"},
		"gives is cookies":    {Address: g.URL + "/berths", Body: "x", Gives: "everything"},
		"nobody listens":      {Address: "http://" + silent(t) + "/", Body: "x"},
		"no such file":        {Address: g.URL + "/form", Body: "file:/nowhere"},
	} {
		p := berths(t, h, "/berths")
		p.Settings.Set("session", "desk")
		t.Setenv("DESK_WORD", gateWord)
		p.Identity = func(string) (*identity.Identity, error) {
			return &identity.Identity{Name: "desk", User: "desk", Secret: "env:DESK_WORD", LogIn: in}, nil
		}
		x := run(t, p)
		require.NotNil(t, x.Cause(), want)
		assert.Equal(t, "security.log-in-failed", x.Cause().ID, want)
		assert.Contains(t, x.Cause().Why, want)
		assert.Equal(t, exchange.Security, x.StoppedAt)

		// Nothing leaves for a place that was not allowed.
		p.Allowed = func(_, _, host, port string) bool {
			return in != nil && !strings.Contains(in.Address,
				host+":"+port)
		}
		if in != nil {
			assert.Equal(t, "security.identity-host-new", run(t, p).Cause().ID, want)
		}
	}
}

const requestToken = `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Header><w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>${user}</w:Username><w:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordText">${secret}</w:Password></w:UsernameToken></w:Security></e:Header><e:Body><t:RequestSecurityToken xmlns:t="http://docs.oasis-open.org/ws-sx/ws-trust/200512"><t:RequestType>http://docs.oasis-open.org/ws-sx/ws-trust/200512/Issue</t:RequestType><t:TokenType>urn:oasis:names:tc:SAML:2.0:assertion</t:TokenType></t:RequestSecurityToken></e:Body></e:Envelope>`

// A token service is asked first (WS-Trust 1.3 §4); its assertion lets the manifest
// in, and is refused once it has ended or was changed.
func TestAnAssertionOfTheTokenService(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
	p.Settings.Set("session", "desk")
	t.Setenv("DESK_WORD", standin.Password)
	in := &identity.LogIn{Address: "http://" + h.Plain + "/gate", Body: requestToken, Gives: "assertion"}
	user := standin.User
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: user, Secret: "env:DESK_WORD", LogIn: in}, nil
	}
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Contains(t, x.Result+string(x.Leg().Readable()), "<clerk>"+standin.User+"</clerk>")
	assert.Contains(
		t,
		x.Stage(exchange.Security).Facts.Get("assertion"),
		"SAML 2.0 of urn:skerry:gate about "+standin.User+", bearer",
	)
	user = "mate"
	x = run(t, p)
	assert.Equal(t, "security.log-in-failed", x.Cause().ID)
	assert.Contains(t, x.Cause().Why, "could not be authenticated")

	p.Settings.Set("session", "")
	for want, made := range map[string]func() []byte{
		"read.fault-security-invalid": func() []byte {
			b, err := h.Desk.Gate.Issue("desk", time.Now(), time.Hour)
			require.NoError(t, err)
			return []byte(strings.Replace(string(b), ">desk<", ">harbour master<", 1))
		},
		"security.assertion-expired": func() []byte {
			b, err := h.Desk.Gate.Issue("desk", time.Now().Add(-2*time.Hour), time.Hour)
			require.NoError(t, err)
			return b
		},
	} {
		file := filepath.Join(dir, "assertion.xml")
		require.NoError(t, os.WriteFile(file, made(), 0o600))
		p.Settings.Set("token-file", file)
		x := run(t, p)
		var all []string
		for _, f := range x.Findings {
			if f.ID != "security.token-demanded" {
				all = append(all, f.ID)
			}
		}
		require.NotEmpty(t, all)
		assert.Equal(t, want, all[0], "%v", ids(x))
	}
}

// An assertion that is about to end is not sent once more: another is asked for.
func TestAnAssertionIsAskedForAnewBeforeItEnds(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
	p.Settings.Set("session", "desk")
	t.Setenv("DESK_WORD", standin.Password)
	var logIns atomic.Int32
	lives := []time.Duration{5 * time.Second, time.Hour}
	address := server(t, func(w http.ResponseWriter, r *http.Request) {
		n := logIns.Add(1)
		b, err := h.Desk.Gate.Issue(standin.User, time.Now(), lives[min(int(n), len(lives))-1])
		if err != nil {
			w.WriteHeader(500)
			return
		}
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprintf(
			w,
			`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>%s</e:Body></e:Envelope>`,
			b,
		)
	})
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{
			Name:   "desk",
			User:   standin.User,
			Secret: "env:DESK_WORD",
			LogIn:  &identity.LogIn{Address: address, Body: requestToken, Gives: "assertion"},
		}, nil
	}
	p.Sessions = &call.Sessions{}
	for i, want := range []int32{1, 2, 2} {
		x := run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%d: %+v", i, x.Findings)
		assert.Equal(t, want, logIns.Load(), "call %d", i+1)
	}
}
