package relay

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
)

const wsa = "http://www.w3.org/2005/08/addressing"

func later(replyTo, more string) string {
	return `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" xmlns:a="` + wsa + `"><s:Header>` + more +
		`<a:ReplyTo><a:Address> ` + replyTo + ` </a:Address></a:ReplyTo><a:MessageID>urn:ebb</a:MessageID></s:Header>` +
		`<s:Body><FindBerths xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`
}

// An answer that comes later comes through the relay: the service is given the relay's address,
// and the program has its answer where it wants it.
func TestAnswersThatComeLaterComeThroughHere(t *testing.T) {
	var came bytes.Buffer
	var mu sync.Mutex
	program := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_, _ = io.WriteString(&came, q.URL.Path+"?"+q.URL.RawQuery+"|"+q.Header.Get("Authorization")+"|")
		_, _ = io.Copy(&came, q.Body)
		w.WriteHeader(http.StatusAccepted)
	}))
	defer program.Close()
	address := regexp.MustCompile(`<a:Address>\s*([^<\s]+)`)
	told := make(chan string, 10)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		b, err := io.ReadAll(q.Body)
		assert.NoError(t, err)
		told <- address.FindStringSubmatch(string(b))[1]
		w.WriteHeader(http.StatusAccepted)
	}))
	defer service.Close()
	to, err := url.Parse(service.URL + "/berths")
	require.NoError(t, err)
	var kept []*exchange.Exchange
	r, err := Listen(Options{
		To: to, Answers: true,
		Plan: func(*call.Imported) call.Plan {
			return call.Plan{Agent: call.Agent, Endpoint: "relay", Operation: "FindBerths"}
		},
		Change: func(w *call.Imported) { w.Header = append(w.Header, [2]string{"Authorization", "Basic c2xhY2s="}) },
		Keep: func(x *exchange.Exchange) {
			mu.Lock()
			defer mu.Unlock()
			kept = append(kept, x)
		},
	})
	require.NoError(t, err)
	defer r.Close()
	send := func(at, body string) int {
		resp, err := http.Post(at, "text/xml; charset=utf-8", strings.NewReader(body))
		require.NoError(t, err)
		defer resp.Body.Close()
		return resp.StatusCode
	}
	wants := program.URL + "/back?desk=7"
	require.Equal(t, http.StatusAccepted, send(r.Address(), later(strings.ReplaceAll(wants, "&", "&amp;"), "")))
	at := <-told
	assert.True(t, strings.HasPrefix(at, r.base()+answersPath), at)
	answer := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`
	require.Equal(t, http.StatusAccepted, send(at, answer))
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(kept) == 2 }, 20*time.Second, time.Millisecond)
	mu.Lock()
	assert.Equal(t, "/back?desk=7||"+answer, came.String(), "and nothing of the service goes to the program")
	assert.Contains(t, kept[0].Stage(exchange.Binding).Facts.Get("answers"), wants)
	assert.Equal(t, exchange.OutcomePassed, kept[1].Outcome)
	mu.Unlock()

	// The same place has the same address; words of the standard and signed messages stay; what nobody knows is not there.
	require.Equal(t, http.StatusAccepted, send(r.Address(), later(wants, "")))
	assert.Equal(t, at, <-told)
	require.Equal(t, http.StatusAccepted, send(r.Address(), later(wsa+"/anonymous", "")))
	assert.Equal(t, wsa+"/anonymous", <-told)
	require.Equal(t, http.StatusAccepted, send(r.Address(),
		later(wants, `<Security><Signature xmlns="http://www.w3.org/2000/09/xmldsig#"/></Security>`)))
	assert.Equal(t, wants, <-told)
	require.Equal(t, http.StatusAccepted, send(r.Address(), later("http://pier.skerry.test/x", "")))
	assert.NotEqual(t, at, <-told)
	assert.Equal(t, http.StatusNotFound, send(r.base()+answersPath+"nobody", answer))
	assert.Empty(t, told, "the service sees nothing of it")
}
