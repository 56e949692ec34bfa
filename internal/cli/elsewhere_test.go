package cli

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// carried is what a server saw of secrets, and of another field.
type carried struct {
	mu  sync.Mutex
	all []string
}

func (c *carried) see(r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = append(c.all, fmt.Sprintf("%s %s|%s|%s", r.URL.Path, r.Header.Get("Authorization"), r.Header.Get("X-Api-Key"),
		r.Header.Get("X-Quay")))
}

const tinyDescription = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:t="urn:skerry:tiny" targetNamespace="urn:skerry:tiny"
 xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:x="http://www.w3.org/2001/XMLSchema">
<types><x:schema targetNamespace="urn:skerry:tiny"><x:import namespace="urn:skerry:types" schemaLocation="%s"/>
<x:element name="Look" type="x:string"/></x:schema></types>
<message name="In"><part name="p" element="t:Look"/></message>
<portType name="P"><operation name="Look"><input message="t:In"/></operation></portType>
<binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="Look"><soap:operation soapAction=""/><input><soap:body use="literal"/></input></operation></binding>
<service name="S"><port name="P" binding="t:B"><soap:address location="http://127.0.0.1/x"/></port></service></definitions>`

// What is secret goes to the host that the person named, neither where that redirects
// to nor where its description points to. A header that is no secret goes along.
func TestSecretsOfAFetchStayWithItsHost(t *testing.T) {
	l := at(t)
	var here, there carried
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		there.see(r)
		if r.URL.Path == "/types.xsd" {
			_, _ = io.WriteString(w, `<x:schema xmlns:x="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:skerry:types"/>`)
			return
		}
		_, _ = fmt.Fprintf(w, tinyDescription, "http://"+r.Host+"/types.xsd")
	}))
	t.Cleanup(other.Close)
	named := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		here.see(r)
		if r.URL.Path == "/moved" {
			http.Redirect(w, r, other.URL+"/wsdl", http.StatusFound)
			return
		}
		_, _ = fmt.Fprintf(w, tinyDescription, other.URL+"/types.xsd")
	}))
	t.Cleanup(named.Close)
	t.Setenv("DESK_SECRET", "slack water")
	for _, path := range []string{"/wsdl", "/moved"} {
		code, out, errs := l.run("describe", named.URL+path, "--user", "desk", "--secret-from", "env:DESK_SECRET",
			"--http-auth", "basic", "--header", "X-API-Key: harbour-key-12", "--header", "X-Quay: north")
		require.Equal(t, 0, code, errs)
		assert.Contains(t, out, "Look")
	}
	require.NotEmpty(t, here.all)
	require.NotEmpty(t, there.all)
	for _, s := range here.all {
		assert.Contains(t, s, "Basic ", "the host that was named")
		assert.True(t, strings.HasSuffix(s, "|harbour-key-12|north"), s)
	}
	for _, s := range there.all {
		assert.True(t, strings.HasSuffix(s, " ||north"), "another host: %s", s)
	}
}

// What was announced and never came is no measure of what a limit should be.
func TestNoLimitIsMadeOfAnAnnouncement(t *testing.T) {
	l := at(t)
	for _, length := range []string{"9223372036854775807", "900000000"} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = listener.Close() })
		go func() {
			for {
				c, err := listener.Accept()
				if err != nil {
					return
				}
				_, _ = http.ReadRequest(bufio.NewReader(c))
				_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nContent-Length: "+length+"\r\n\r\n<a>")
				_ = c.Close()
			}
		}()
		code, _, errs := l.run("call", "FindBerths", "length=20", "--contract", l.berths(), "--port", "BerthDesk11",
			"--address", "http://"+listener.Addr().String()+"/berths", "--receive-limit", "1 GiB", "--buffer-limit", "1 GiB")
		require.NotEqual(t, 0, code)
		assert.NotContains(t, errs, "4294967296 GiB")
		code, out, errs := l.run("limits", "FindBerths")
		assert.NotContains(t, out+errs, "4294967296")
		assert.NotContains(t, out+errs, "2 GiB", "%s never came", length)
		_ = code
	}
}

// A redirect to where people log in, or to itself, is not followed and not proposed;
// a GET that is not taken is no POST.
func TestRedirectsAndMethodsAreNamedForWhatTheyAre(t *testing.T) {
	l := at(t)
	var to string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			w.Header().Set("Allow", "POST")
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		w.Header().Set("Location", to)
		w.WriteHeader(http.StatusFound)
	}))
	t.Cleanup(s.Close)
	for _, c := range []struct{ location, says string }{
		{"/login.html", "a page where people log in"},
		{"/portal?ReturnUrl=%2Fberths", "a page where people log in"},
		{"/berths", "to where it was made"},
	} {
		to = c.location
		_, out, errs := l.run("call", "FindBerths", "length=20", "--contract", l.berths(), "--port", "BerthDesk11",
			"--address", s.URL+"/berths", "--repair", "--allow", "trust,message")
		assert.Contains(t, out+errs, c.says, c.location)
		assert.NotContains(t, out+errs, "repair: ", c.location)
	}
	_, out, errs := l.run("describe", s.URL+"/berths")
	assert.Contains(t, out+errs, "gives no description at this path")
	assert.NotContains(t, out+errs, "takes no POST")
}
