package cli

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/journal/disk"
)

const (
	sentHead = "POST /berths HTTP/1.1\nHost: berths.skerry.example\nAuthorization: Basic " +
		"cGlsb3Q6bmVhcCB0aWRl\nContent-Type: text/xml; charset=utf-8\nSOAPAction: \"urn:skerry:berths:FindBerths\"\n\n"
	sentBody = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>desk</w:Username><w:Password>slack water at ten</w:Password></w:UsernameToken></w:Security></s:Header><s:Body><FindBerths xmlns="urn:skerry:berths"><length>LENGTH</length></FindBerths></s:Body></s:Envelope>`
	faulted  = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>no berth for “slack water at ten”</faultstring></s:Fault></s:Body></s:Envelope>`
)

type explained struct {
	Operation, Outcome, StoppedAt string
	Findings                      []struct {
		ID, Why, Because string
		Severity         string
		Remedies         []any
		Evidence         []struct {
			In             string
			Offset, Length int
			Line           int
		}
	}
	Request, Response struct{ Body, Head string }
}

func (e *explained) ids() (out []string) {
	for _, f := range e.Findings {
		out = append(out, f.ID)
	}
	return out
}

// An exchange of another program is gone through as one made here, from files
// with and without heads; secrets in it are masked wherever they stand.
func TestAnExchangeMadeElsewhereIsExplained(t *testing.T) {
	l := at(t)
	good, bad := strings.Replace(sentBody, "LENGTH", "12", 1), strings.Replace(sentBody, "LENGTH", "long", 1)
	_, answer, _ := l.run(
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--reply",
		"exact",
	)
	require.Contains(t, answer, "FindBerthsResponse")
	crossed := func(status, kind, body string) string {
		return fmt.Sprintf("HTTP/1.1 %s\nContent-Type: %s\nContent-Length: %d\n\n%s", status, kind, len(body), body)
	}
	for name, c := range map[string]struct {
		request, reply string
		code           int
		first          string // "" nothing that stops or warns
		contract       bool
	}{
		"whole and healthy":     {sentHead + good, crossed("200 OK", "text/xml", answer), 0, "", true},
		"bodies alone, healthy": {strings.TrimSpace(good), answer, 0, "", true},
		"reply alone, healthy":  {"", answer, 0, "", true},
		"without a contract":    {sentHead + good, crossed("200 OK", "text/xml", answer), 0, "", false},
		"the fault speaks of the field": {sentHead + bad,
			strings.Replace(faulted, "no berth for “slack water at ten”", "Length: no number", 1), 20, "message.invalid", true},
		"the fault speaks of something else": {sentHead + bad, faulted, 20, "read.fault-client", true},
		"a fault alone":                      {"", faulted, 20, "read.fault-client", true},
		"a page": {sentHead + good, crossed("404 Not Found", "text/html", "<html><title>no such "+
			"quay</title></html>"), 19, "receive.not-found", true},
		"cut off": {sentHead + good, crossed("200 OK", "text/xml", answer)[:300], 19,
			"receive.truncated", true},
		"chunks written down whole": {sentHead + good, "HTTP/1.1 200 OK\nContent-Type: text/xml\nTransfer-Encoding: " +
			"chunked\nContent-Encoding: gzip\n\n" + answer, 0, "", true},
		"broken XML": {sentHead + good, strings.Replace(answer, "</", "<", 1), 20,
			"read.not-well-formed", true},
		"another action": {strings.Replace(sentHead, "FindBerths", "FindBerth", 1) + good, faulted, 20,
			"read.fault-client", true},
		"a request alone, of which no more is known": {sentHead + good, "", 0, "", true},
		"the reply of another": {sentHead + good, strings.ReplaceAll(answer, "FindBerthsResponse",
			"TideResponse"), 21, "verify.reply-differs", true},
	} {
		t.Run(name, func(t *testing.T) {
			args := []string{"explain"}
			if c.request != "" {
				args = append(args, "--request", l.file("sent.xml", c.request))
			}
			if c.reply != "" {
				args = append(args, "--response", l.file("came.xml", c.reply))
			}
			if c.contract {
				args = append(args, "--contract", l.berths())
			}
			var x explained
			l.json(c.code, &x, args...)
			var first string
			for _, f := range x.Findings {
				assert.Empty(t, f.Remedies, "nothing here could be changed")
				for _, e := range f.Evidence {
					if e.In == "response-body" {
						assert.LessOrEqual(t, e.Offset+e.Length, len(x.Response.Body)+1)
					}
				}
			}
			if len(x.Findings) > 0 && c.first != "" || c.code != 0 {
				first = x.Findings[0].ID
			}
			assert.Equal(t, c.first, first, "%v", x.ids())
			if c.code == 0 {
				assert.NotContains(t, strings.Join(x.ids(), " "), "verify")
				assert.NotContains(t, strings.Join(x.ids(), " "), "message")
			}
			if c.request == "" {
				return
			}
			_, out, errOut := l.run(args...)
			for _, secret := range []string{"slack water at ten", "cGlsb3Q6bmVhcCB0aWRl"} {
				assert.NotContains(t, out+errOut, secret)
				b, _ := json.Marshal(x)
				assert.NotContains(t, string(b), secret)
			}
		})
	}
	code, _, errOut := l.run("explain", "--request", l.file("none", " "), "--response", l.file("none2", ""))
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "neither a request nor a reply")
}

func TestExchangesOfAnArchive(t *testing.T) {
	l := at(t)
	entry := func(body, status, mime, text, encoding string) string {
		b, _ := json.Marshal(body)
		r, _ := json.Marshal(text)
		return `{"request":{"method":"POST","url":"https://berths.skerry.example/berths","headers":[{"name":":path","value":"/berths"},{"name":"SOAPAction","value":"\"urn:skerry:berths:FindBerths\""}],"postData":{"mimeType":"text/xml","text":` + string(
			b,
		) + `}},
			"response":{"status":` + status + `,"statusText":"","headers":[{"name":"content-type","value":"` + mime + `"},{"name":"content-encoding","value":"gzip"},{"name":"content-length","value":"7"}],"content":{"size":` + fmt.Sprint(
			len(text),
		) + `,"text":` + string(
			r,
		) + `,"encoding":"` + encoding + `"}}}`
	}
	good := strings.Replace(sentBody, "LENGTH", "12", 1)
	page := `{"request":{"method":"GET","url":"https://berths.skerry.example/","headers":[]},"response":{"status":200,"headers":[],"content":{"size":6,"text":"<html>"}}}`
	har := l.file("a.har", "\xef\xbb\xbf"+`{"log":{"version":"1.2","entries":[`+strings.Join([]string{page,
		entry(good, "500", "text/xml", base64.StdEncoding.EncodeToString([]byte(faulted)), "base64"),
		entry(good, "503", "text/html", "<html><title>quay closed</title></html>", ""),
		entry(good, "0", "", "", "")}, ",")+`]}}`)
	var all []explained
	l.json(20, &all, "explain", "--har", har, "--contract", l.berths())
	require.Len(t, all, 3, "the page carries no XML")
	assert.Equal(
		t,
		[]string{"read.fault-client", "receive.gateway", "wait.not-recorded"},
		[]string{all[0].Findings[0].ID, all[1].Findings[0].ID, all[2].Findings[0].ID},
	)
	var one explained
	l.json(19, &one, "explain", "--har", har, "--entry", "3")
	assert.Equal(t, "receive.gateway", one.Findings[0].ID)
	for args, says := range map[string]string{"--har " + har + " --entry 1": "carries no XML",
		"--har " + l.file("b.har", "{"): "no HTTP archive", "--har " + l.file("c.har",
			`{"log":{"version":"1.2","entries":[]}}`): "no entry carries XML"} {
		code, _, errOut := l.run(append([]string{"explain"}, strings.Fields(args)...)...)
		assert.Equal(t, 3, code, args)
		assert.Contains(t, errOut, says)
	}
}

func TestAKeptExchangeIsExplainedOnceMore(t *testing.T) {
	l := at(t)
	l.run(
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--address",
		"http://"+l.h.Plain+"/berths/~receive.gateway",
	)
	code, out, errOut := l.run("explain", "last")
	assert.Equal(t, 0, code)
	assert.Contains(t, errOut, "receive.gateway")
	assert.Contains(t, out, "A proxy answered, and not the service.")
	code, _, errOut = l.run("explain", "tls.self-singed")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "tls.self-signed")
}

// A kept exchange is judged by today's rules: what an older Orenda, or one with other
// rules, took for the cause is told and does not lead any more.
func TestAKeptExchangeIsJudgedAgain(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "w")
	code, _, errOut := l.run("-w", dir, "add", l.berths())
	require.Zero(t, code, errOut)
	for path, id := range map[string]string{
		"/berths/~receive.gateway": "receive.gateway", "/berths/~wait.closed": "wait.closed",
		"/berths/~read.fault-server": "read.fault-server",
	} {
		l.run("-w", dir, "call", "FindBerths", "length=12", "--endpoint", "BerthDesk11", "--address", "http://"+l.h.Plain+path)
		j, err := disk.Open(filepath.Join(l.dir, "home", "state"))
		require.NoError(t, err)
		x, err := j.Get("last")
		require.NoError(t, err)
		require.Equal(t, id, x.Cause().ID)
		x.Findings[0].ID, x.Findings[0].Title = "read.fault-client", "something else was taken for the cause"
		require.NoError(t, j.Judge(x))
		require.NoError(t, j.Close())
		var got explained
		l.json(0, &got, "-w", dir, "explain", "last")
		assert.Equal(t, id, got.ids()[0])
		_, _, errOut = l.run("-w", dir, "explain", "last")
		assert.Contains(t, errOut, "judged again; when it was made the cause was read.fault-client")
		assert.NotContains(t, errOut, "taken for the cause")
	}
	l.run("-w", dir, "call", "FindBerths", "length=far", "--endpoint", "BerthDesk11")
	_, _, errOut = l.run("-w", dir, "explain", "last")
	assert.Contains(t, errOut, "judged when it was made")
	assert.Contains(t, errOut, "message.invalid")
}

// A proxy file is read, and never run: which rule would choose what, for an address or an endpoint.
func TestAProxyFileIsRead(t *testing.T) {
	l := at(t)
	file := l.file("house.pac", `function FindProxyForURL(url, host) {
  if (isInNet(dnsResolve(host), "10.0.0.0", "255.0.0.0")) return "DIRECT";
  if (shExpMatch(host, "127.*")) return "PROXY near.skerry.test:3128; DIRECT";
  return "DIRECT";
}`)
	code, out, errOut := l.run("explain", "--pac", file, "http://127.0.0.1:1/x")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "line 3    yes")
	assert.Contains(t, out, "line 3 chooses http://near.skerry.test:3128, else direct for http://127.0.0.1:1/x")
	code, out, _ = l.run("explain", "--pac", file, "http://quay.skerry.test/x")
	assert.Zero(t, code)
	assert.Contains(t, out, "the address of quay.skerry.test is not looked up")
	assert.Contains(t, out, "if it holds: DIRECT")
	assert.Contains(t, out, "unless a rule before it holds that could not be decided")

	ws := filepath.Join(t.TempDir(), "w")
	require.Zero(t, first(l.run("-w", ws, "add", l.berths())))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "BerthDesk11", "address=http://127.0.0.1:1/berths")))
	code, out, errOut = l.run("-w", ws, "explain", "--pac", file, "BerthDesk11")
	assert.Zero(t, code, errOut)
	assert.Contains(t, out, "orenda endpoint set BerthDesk11 'proxy=http://near.skerry.test:3128'")
	var r struct {
		Choice []string
		Sure   bool
		Rules  []struct{ Line int }
	}
	l.json(0, &r, "explain", "--pac", file, "http://127.0.0.1:1/x")
	assert.True(t, r.Sure)
	assert.Len(t, r.Rules, 2)
	code, _, errOut = l.run("explain", "--pac", l.file("bad.pac", "while (true) {}"), "http://127.0.0.1:1/x")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "no function FindProxyForURL")
}
