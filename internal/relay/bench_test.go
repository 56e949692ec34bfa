package relay

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/journal/disk"
)

// quays describes an operation that takes and gives a list of berths.
const quays = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/"
	xmlns:t="urn:skerry:berths" targetNamespace="urn:skerry:berths"><types><schema xmlns="http://www.w3.org/2001/XMLSchema"
	targetNamespace="urn:skerry:berths" elementFormDefault="qualified"><complexType name="List"><sequence>
	<element name="berth" minOccurs="0" maxOccurs="unbounded"><complexType><sequence>
	<element name="code"><simpleType><restriction base="string"><pattern value="[A-Z][0-9]{2}"/></restriction></simpleType></element>
	<element name="length"><simpleType><restriction base="decimal"><minExclusive value="0"/><maxInclusive value="400"/>
	</restriction></simpleType></element></sequence><attribute name="free" type="boolean"/></complexType></element></sequence>
	</complexType><element name="FindBerths" type="t:List"/><element name="FindBerthsResponse" type="t:List"/></schema></types>
	<message name="in"><part name="p" element="t:FindBerths"/></message>
	<message name="out"><part name="p" element="t:FindBerthsResponse"/></message>
	<portType name="Q"><operation name="FindBerths"><input message="t:in"/><output message="t:out"/></operation></portType>
	<binding name="B" type="t:Q"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="FindBerths">
	<s:operation soapAction="urn:skerry:berths:FindBerths"/><input><s:body use="literal"/></input><output><s:body use="literal"/>
	</output></operation></binding>
	<service name="S"><port name="Q" binding="t:B"><s:address location="http://127.0.0.1/berths"/></port></service></definitions>`

// quayList is a message of 10 KB.
func quayList(name string) []byte {
	return []byte(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><` + name +
		` xmlns="urn:skerry:berths">` + strings.Repeat(`<berth free="true"><code>N07</code><length>40.00</length></berth>`, 160) +
		`</` + name + `></e:Body></e:Envelope>`)
}

// benchmarkThrough posts to an address over 16 connections that are kept.
func benchmarkThrough(b *testing.B, address string) {
	body := quayList("FindBerths")
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	defer client.CloseIdleConnections()
	b.SetParallelism(8) // on two cores: sixteen
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			q, err := http.NewRequest(http.MethodPost, address, bytes.NewReader(body))
			if err != nil {
				b.Error(err)
				return
			}
			q.Header.Set("Content-Type", "text/xml; charset=utf-8")
			q.Header.Set("SOAPAction", `"urn:skerry:berths:FindBerths"`)
			r, err := client.Do(q)
			if err != nil {
				b.Error(err)
				return
			}
			_, _ = io.Copy(io.Discard, r.Body)
			r.Body.Close()
		}
	})
}

func benchmarkService(b *testing.B) *url.URL {
	reply := quayList("FindBerthsResponse")
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		_, _ = w.Write(reply)
	}))
	b.Cleanup(s.Close)
	u, err := url.Parse(s.URL + "/berths")
	require.NoError(b, err)
	return u
}

// BenchmarkRelay is a relay that records, judges and keeps each exchange of 10 KB each way.
func BenchmarkRelay(b *testing.B) {
	to := benchmarkService(b)
	j, err := disk.Open(b.TempDir())
	require.NoError(b, err)
	defer j.Close()
	file := filepath.Join(b.TempDir(), "quays.wsdl")
	require.NoError(b, os.WriteFile(file, []byte(quays), 0o600))
	f, err := call.Fetch(b.Context(), file, call.Plan{ReadFile: os.ReadFile}, nil)
	require.NoError(b, err)
	var kept atomic.Int64
	behind := journal.NewBehind(j, func(x *exchange.Exchange, err error) {
		if err != nil {
			b.Error(err)
		}
		kept.Add(1)
		if x.Outcome != exchange.OutcomePassed || len(x.Findings) > 0 {
			b.Error(x.Result)
		}
	})
	base := call.Plan{Agent: call.Agent, Endpoint: "relay"}
	r, err := Listen(Options{
		To:   to,
		Plan: func(w *call.Imported) call.Plan { return against(base, f.Contract, w) },
		Keep: behind.Add,
	})
	require.NoError(b, err)
	benchmarkThrough(b, r.Address())
	r.Close()
	behind.Close()
	b.StopTimer()
	require.EqualValues(b, b.N, kept.Load())
}

// BenchmarkReverseProxy is the bare way: what net/http/httputil passes on, without a look at it.
func BenchmarkReverseProxy(b *testing.B) {
	to := benchmarkService(b)
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: to.Host})
	proxy.Transport = &http.Transport{MaxIdleConnsPerHost: 16}
	s := httptest.NewServer(proxy)
	defer s.Close()
	benchmarkThrough(b, s.URL+"/berths")
}
