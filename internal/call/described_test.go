package call_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"orenda/internal/call"
	"orenda/internal/soap"
)

// serving answers each path with the bytes that stand for it, and others with 404.
func serving(t *testing.T, answers map[string]string) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		out, ok := answers[r.URL.RequestURI()]
		if !ok {
			out = reply("404 Not Found", "", "", "")
		}
		_, _ = io.WriteString(conn, strings.ReplaceAll(out, "HERE", "http://"+r.Host))
	}))
	t.Cleanup(s.Close)
	return s.URL
}

const (
	quayTypes = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:skerry:quays">` +
		`<xs:element name="Open" type="xs:string"/><!-- Häfen --></xs:schema>`
	quayDesk = `<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:xs="http://www.w3.org/2001/XMLSchema" ` +
		`xmlns:q="urn:skerry:quays" targetNamespace="urn:skerry:quays"><w:types><xs:schema><xs:import ` +
		`namespace="urn:skerry:quays" schemaLocation="types"/></xs:schema></w:types>` +
		`<w:message name="in"><w:part name="p" element="q:Open"/></w:message></w:definitions>`
	logInHTML = `<html><head><title>Sign in</title></head><body>Who are you?</body></html>`
)

// TestWhatCameInThePlaceOfADescription: a GET is told of, not a call and its reply.
func TestWhatCameInThePlaceOfADescription(t *testing.T) {
	fault := inEnvelope(soap.NS11, "", `<s:Fault><faultcode>s:Client</faultcode><faultstring>no GET here</faultstring></s:Fault>`)
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().String("\n" + quayDesk)
	require.NoError(t, err)
	const noDescription = "read.not-description"
	for _, c := range []struct{ name, reply, id, says string }{
		{"a page that asks who comes", reply("200 OK", "text/html", "", logInHTML), noDescription,
			"It is an HTML page, not a service description. It says: “Sign in”. Where a page asks who comes"},
		{"sent on to it", reply("302 Found", "", "Location: /log-in\r\n", ""), noDescription, "The server sends there from"},
		{"JSON", reply("200 OK", "application/json", "", `{"openapi":"3.0.0"}`), noDescription, "It is JSON."},
		{"text", reply("200 OK", "text/plain", "", "Not here"), noDescription, "It is plain text. It says: “Not here”."},
		{"compressed untold", reply("200 OK", asXML, "", packed(quayDesk)), noDescription, "compressed (gzip)"},
		{"a fault", reply("200 OK", asXML, "", fault), noDescription, "as the service itself answers. It says: “no GET here”"},
		{"a fault at 500", reply("500 Internal Server Error", asXML, "", fault), "receive.server-error",
			"the service itself answers here. It says: “no GET here”."},
		{"401 with a fault", reply("401 Unauthorized", asXML, "WWW-Authenticate: Basic realm=\"quay\"\r\n", fault), "receive.unauthorized",
			`It answered 401 and offers: Basic realm="quay".`},
		{"a page that speaks of replies", reply("404 Not Found", "text/html", "", "<title>take the reply from the envelope</title>"),
			"receive.not-found", "It says: “take the reply from the envelope”."},
		{"a schema", reply("200 OK", asXML, "", quayTypes), noDescription, "it is an XML Schema, which has types"},
		{"another namespace", reply("200 OK", asXML, "", `<definitions xmlns="urn:skerry"/>`), noDescription,
			`its root element is definitions in the namespace "urn:skerry", and a description's is in`},
		{"a list of descriptions", reply("200 OK", asXML, "",
			`<discovery xmlns="http://schemas.xmlsoap.org/disco/"/>`), noDescription, "it is a list of descriptions"},
		{"plain HTTP", reply("200 OK", asXML, "", `<application xmlns="http://wadl.dev.java.net/2009/02"/>`),
			noDescription, "it describes a service of plain HTTP (WADL)"},
		{"broken", reply("200 OK", asXML, "", quayDesk[:200]), "read.not-well-formed", "the description ends before"},
		{"more behind it", reply("200 OK", asXML, "", quayDesk+"\x00"), "read.text-outside", "behind the description"},
		{"nothing", reply("200 OK", asXML, "", ""), "read.empty", "what was fetched is empty"},
		{"cut", reply("200 OK", asXML, "Content-Length: 9000\r\n", quayDesk), "receive.truncated",
			"the description ended too early"},
		{"404", reply("404 Not Found", "", "", ""), "receive.not-found", "there is nothing at this path"},
		{"403", reply("403 Forbidden", "", "", ""), "receive.forbidden", "does not give the description to you"},
		{"405", reply("405 Method Not Allowed", "", "Allow: POST\r\n", ""), "receive.method-refused",
			"to a GET and allows POST: the service is probably called here"},
		{"415", reply("415 Unsupported Media Type", "", "", ""), "receive.media-type-refused",
			"the server gives no description at this path"},
		{"400", reply("400 Bad Request", "", "", ""), "receive.client-error", "?wsdl at its end is usual"},
		{"500", reply("500 Internal Server Error", "", "", ""), "receive.server-error", "to a GET."},
		{"to a file", reply("302 Found", "", "Location: file:///etc/passwd\r\n", ""), "receive.redirected",
			"That is no address of HTTP"},
		{"in a circle", reply("302 Found", "", "Location: /quays\r\n", ""), "receive.redirected", "this has no end"},
		{"nowhere", reply("302 Found", "", "", ""), "receive.redirected", "the server sends elsewhere for the description"},
		{"right", reply("200 OK", asXML, "", quayDesk), "", ""},
		{"sent on to the right one", reply("307 Temporary Redirect", "", "Location: /right\r\n", ""), "", ""},
		{"UTF-16 by its head", reply("200 OK", "text/xml; charset=utf-16le", "", wide), "", ""},
	} {
		at := serving(t, map[string]string{"/quays": c.reply, "/log-in": reply("200 OK", "text/html", "", logInHTML),
			"/right": reply("200 OK", asXML, "", quayDesk)})
		f, err := call.Fetch(t.Context(), at+"/quays", call.Plan{}, nil)
		if c.id == "" {
			assert.NoError(t, err, c.name)
			continue
		}
		if !assert.ErrorIs(t, err, call.ErrStopped, c.name) {
			continue
		}
		x := f.Exchanges[len(f.Exchanges)-1]
		lead := x.Cause()
		require.NotNil(t, lead, c.name)
		assert.Equal(t, c.id, lead.ID, c.name)
		said := lead.Title + ". " + lead.Why + " " + lead.Program
		assert.Contains(t, said, c.says, c.name)
		assert.NotContains(t, strings.ReplaceAll(said, "take the reply", ""), "the reply", c.name)
	}
}

// TestWhatCameInThePlaceOfAPart: it is told with the import that leads there, and the rest is read.
func TestWhatCameInThePlaceOfAPart(t *testing.T) {
	latin, err := charmap.ISO8859_1.NewEncoder().String(quayTypes)
	require.NoError(t, err)
	for _, c := range []struct{ name, reply, says string }{
		{"right", reply("200 OK", asXML, "", quayTypes), ""},
		{"sent on", reply("301 Moved Permanently", "", "Location: /types-2\r\n", ""), ""},
		{"Latin 1 by its head", reply("200 OK", "text/xml; charset=iso-8859-1", "", latin), ""},
		{"Latin 1, and nothing says so", reply("200 OK", "text/xml", "", latin), "the byte 0xE4 is not UTF-8 here"},
		{"sent to another host", reply("302 Found", "", "Location: http://quay.skerry.example/types\r\n", ""),
			"the server sends on to http://quay.skerry.example/types: it lies on another host"},
		{"not there", reply("404 Not Found", "", "", ""), "there is nothing at this path"},
		{"a page", reply("200 OK", "text/html", "", logInHTML), "it is an HTML page. It says: “Sign in”"},
		{"JSON", reply("200 OK", "application/json", "", "{}"), "it is JSON"},
		{"nothing", reply("200 OK", asXML, "", ""), "what was fetched is empty"},
		{"another namespace", reply("200 OK", asXML, "", strings.Replace(quayTypes, "urn:skerry:quays", "urn:skerry:tugs", 1)),
			`its namespace is "urn:skerry:tugs", and it is taken in for "urn:skerry:quays"`},
		{"a description", reply("200 OK", asXML, "", quayDesk), "it is not an XML Schema document"},
	} {
		at := serving(t, map[string]string{"/quays": reply("200 OK", asXML, "", quayDesk), "/types": c.reply,
			"/types-2": reply("200 OK", asXML, "", quayTypes)})
		f, err := call.Fetch(t.Context(), at+"/quays", call.Plan{}, nil)
		require.NoError(t, err, c.name)
		var all []string
		for _, p := range f.Contract.Unread {
			all = append(all, p.Why)
		}
		if c.says == "" {
			assert.NotContains(t, strings.Join(all, "\n"), "declared", c.name)
			assert.Len(t, f.Contract.Files, 2, c.name)
			continue
		}
		assert.Contains(t, strings.Join(all, "\n"), c.says, c.name)
	}
}
