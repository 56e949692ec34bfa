package capture

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// crossing is what one side sent at a time.
type crossing struct {
	out  bool
	data []byte
}

// tapped listens before a server, and writes down what crosses each connection.
func tapped(t *testing.T, to string) (address string, crossed func() [][]crossing) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	var all [][]crossing
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			mu.Lock()
			n := len(all)
			all = append(all, nil)
			mu.Unlock()
			pump := func(from, to net.Conn, out bool) {
				b := make([]byte, 4096)
				for {
					k, err := from.Read(b)
					if k > 0 {
						mu.Lock()
						all[n] = append(all[n], crossing{out, bytes.Clone(b[:k])})
						mu.Unlock()
						_, _ = to.Write(b[:k])
					}
					if err != nil {
						to.Close()
						return
					}
				}
			}
			wg.Go(func() { pump(c, s, true) })
			wg.Go(func() { pump(s, c, false) })
		}
	})
	return l.Addr().String(), func() [][]crossing {
		l.Close()
		wg.Wait()
		mu.Lock()
		defer mu.Unlock()
		return all
	}
}

// how a capture is written.
type how struct {
	ng, shuffled, doubled, open bool
	drop                        int // the number of the data packet that is missing, from 1
	v6                          bool
}

// written is a capture of what crossed.
func written(t *testing.T, all [][]crossing, o how) []byte {
	t.Helper()
	r := rand.New(rand.NewPCG(7, 11))
	type packet struct {
		at   time.Time
		data []byte
	}
	var packets []packet
	at := time.Date(2027, 5, 1, 8, 0, 0, 0, time.UTC)
	for n, list := range all {
		seq := [2]uint32{0xffffff00, 5} // it wraps around
		emit := func(out bool, flags string, data []byte) {
			side := map[bool]int{true: 0, false: 1}[out]
			tcp := &layers.TCP{SrcPort: layers.TCPPort(40000 + n), DstPort: 8080, Seq: seq[side], Ack: seq[1-side], Window: 60000,
				SYN: strings.Contains(flags, "S"), ACK: strings.Contains(flags, "A"), FIN: strings.Contains(flags, "F")}
			if !out {
				tcp.SrcPort, tcp.DstPort = tcp.DstPort, tcp.SrcPort
			}
			a, b := net.IP{10, 0, 0, 1}, net.IP{10, 0, 0, 2}
			if !out {
				a, b = b, a
			}
			var ip gopacket.SerializableLayer = &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolTCP, SrcIP: a, DstIP: b}
			kind := layers.EthernetTypeIPv4
			if o.v6 {
				ip, kind = &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: layers.IPProtocolTCP, SrcIP: append(make(net.IP, 12), a...),
					DstIP: append(make(net.IP, 12), b...)}, layers.EthernetTypeIPv6
			}
			eth := &layers.Ethernet{SrcMAC: make(net.HardwareAddr, 6), DstMAC: make(net.HardwareAddr, 6), EthernetType: kind}
			buf := gopacket.NewSerializeBuffer()
			_ = tcp.SetNetworkLayerForChecksum(ip.(gopacket.NetworkLayer))
			require.NoError(t, gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
				eth, ip, tcp, gopacket.Payload(data)))
			at = at.Add(time.Millisecond)
			packets = append(packets, packet{at, bytes.Clone(buf.Bytes())})
			seq[side] += uint32(len(data))
			if tcp.SYN || tcp.FIN {
				seq[side]++
			}
		}
		emit(true, "S", nil)
		emit(false, "SA", nil)
		k := 0
		for _, c := range list {
			for len(c.data) > 0 {
				m := min(len(c.data), 1+r.IntN(1400))
				if k++; k == o.drop {
					side := map[bool]int{true: 0, false: 1}[c.out]
					seq[side] += uint32(m)
				} else {
					emit(c.out, "A", c.data[:m])
				}
				c.data = c.data[m:]
			}
		}
		if !o.open {
			emit(true, "FA", nil)
			emit(false, "FA", nil)
		}
	}
	if o.doubled {
		for i := range len(packets) / 3 {
			packets = append(packets, packets[i*3])
		}
	}
	if o.shuffled {
		for i := 4; i+4 < len(packets); i += 4 {
			r.Shuffle(4, func(a, b int) { packets[i+a], packets[i+b] = packets[i+b], packets[i+a] })
		}
	}
	var out bytes.Buffer
	if o.ng {
		w, err := pcapgo.NewNgWriter(&out, layers.LinkTypeEthernet)
		require.NoError(t, err)
		for _, p := range packets {
			require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: p.at, CaptureLength: len(p.data), Length: len(p.data)}, p.data))
		}
		require.NoError(t, w.Flush())
		return out.Bytes()
	}
	w := pcapgo.NewWriter(&out)
	require.NoError(t, w.WriteFileHeader(65536, layers.LinkTypeEthernet))
	for _, p := range packets {
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: p.at, CaptureLength: len(p.data), Length: len(p.data)}, p.data))
	}
	return out.Bytes()
}

// quay answers in several ways of framing.
func quay(w http.ResponseWriter, r *http.Request) {
	b, _ := io.ReadAll(r.Body)
	w.Header().Set("Content-Type", "text/xml")
	switch r.URL.Path {
	case "/chunked":
		for range 3 {
			fmt.Fprintf(w, "<a>%d</a>", len(b))
			w.(http.Flusher).Flush()
		}
	case "/close":
		w.Header().Set("Connection", "close")
		fmt.Fprint(w, "<a>closed</a>")
	default:
		fmt.Fprintf(w, "<a>%s</a>", strings.Repeat("slack water ", 400))
	}
}

func calls(t *testing.T, c *http.Client, base string, paths ...string) {
	t.Helper()
	for _, p := range paths {
		r, err := c.Post(base+p, "text/xml", strings.NewReader("<q>"+strings.Repeat("north ", 300)+p+"</q>"))
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, r.Body)
		r.Body.Close()
	}
	c.CloseIdleConnections()
}

func TestPlainStreamsArePutTogether(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(quay))
	defer s.Close()
	at, crossed := tapped(t, s.Listener.Addr().String())
	calls(t, &http.Client{Transport: &http.Transport{}}, "http://"+at, "/first", "/chunked", "/second", "/close")
	all := crossed()
	for _, o := range []how{{}, {ng: true}, {shuffled: true}, {doubled: true, shuffled: true, ng: true}, {v6: true}, {open: true}} {
		got, err := File(bytes.NewReader(written(t, all, o)), nil)
		require.NoError(t, err)
		require.Len(t, got.Exchanges, 4, "%+v %v", o, got.Unread)
		for i, path := range []string{"/first", "/chunked", "/second", "/close"} {
			x := got.Exchanges[i]
			assert.Equal(t, "http://"+at+path, x.URL)
			assert.True(t, strings.HasSuffix(string(x.Body), path+"</q>"))
			assert.Contains(t, string(x.Reply), "HTTP/1.1 200 OK")
			assert.Positive(t, x.Took)
			assert.False(t, x.Began.IsZero())
		}
		assert.Empty(t, got.Unread, "%+v", o)
	}
	for drop, most := range map[int]int{1: 3, 4: 4, 9: 4} {
		got, err := File(bytes.NewReader(written(t, all, how{drop: drop})), nil)
		require.NoError(t, err)
		assert.Less(t, len(got.Exchanges), most+1, drop)
		assert.NotEmpty(t, got.Unread, "what is missing is said")
		for _, x := range got.Exchanges {
			assert.True(t, strings.HasSuffix(string(x.Body), "</q>"), "nothing that has a gap is given")
		}
	}
	b := written(t, all, how{})
	got, err := File(bytes.NewReader(b[:len(b)-50]), nil)
	require.NoError(t, err)
	assert.NotEmpty(t, got.Unread)
	for _, bad := range []string{"", "not a capture at all"} {
		_, err := File(strings.NewReader(bad), nil)
		require.Error(t, err)
	}
}

func TestTLSIsOpenedWithItsKeys(t *testing.T) {
	for _, c := range []struct {
		name    string
		version uint16
		suites  []uint16
	}{
		{"1.3", tls.VersionTLS13, nil},
		{"gcm 128", tls.VersionTLS12, []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256}},
		{"gcm 256", tls.VersionTLS12, []uint16{tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384}},
		{"chacha", tls.VersionTLS12, []uint16{tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256}},
		{"cbc", tls.VersionTLS12, []uint16{tls.TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA}},
		{"cbc 256", tls.VersionTLS12, []uint16{tls.TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA}},
		{"cbc sha256", tls.VersionTLS12, []uint16{tls.TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := httptest.NewUnstartedServer(http.HandlerFunc(quay))
			s.TLS = &tls.Config{MinVersion: c.version, MaxVersion: c.version, CipherSuites: c.suites}
			s.StartTLS()
			defer s.Close()
			at, crossed := tapped(t, s.Listener.Addr().String())
			var keys bytes.Buffer
			roots := x509.NewCertPool()
			roots.AddCert(s.Certificate())
			client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, KeyLogWriter: &keys,
				MinVersion: c.version, MaxVersion: c.version, CipherSuites: c.suites}}}
			calls(t, client, "https://"+at, "/first", "/chunked", "/close")
			capture := written(t, crossed(), how{shuffled: true, doubled: true})
			got, err := File(bytes.NewReader(capture), keys.Bytes())
			require.NoError(t, err)
			require.Len(t, got.Exchanges, 3, "%v", got.Unread)
			assert.Equal(t, "https://"+at+"/first", got.Exchanges[0].URL)
			assert.True(t, strings.HasSuffix(string(got.Exchanges[2].Body), "/close</q>"))
			assert.Contains(t, got.Exchanges[0].TLS, tls.VersionName(c.version))

			got, err = File(bytes.NewReader(capture), nil)
			require.NoError(t, err)
			assert.Empty(t, got.Exchanges)
			assert.Contains(t, fmt.Sprint(got.Unread), "there is no log of its keys")
			got, err = File(bytes.NewReader(capture), []byte("CLIENT_RANDOM 00 11\n"))
			require.NoError(t, err)
			assert.Contains(t, fmt.Sprint(got.Unread), "no keys of this session")
		})
	}
}

// A handshake that failed says who ended it and why, without a log of keys.
func TestWhoEndedAHandshakeIsTold(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(quay))
	defer plain.Close()
	s := httptest.NewUnstartedServer(http.HandlerFunc(quay))
	s.TLS, s.Config.ErrorLog = &tls.Config{MinVersion: tls.VersionTLS12}, log.New(io.Discard, "", 0)
	s.StartTLS()
	defer s.Close()
	for _, c := range []struct {
		to      string
		version uint16
		says    string
	}{
		{s.Listener.Addr().String(), tls.VersionTLS11, "the server ended the handshake: protocol version not supported"},
		{s.Listener.Addr().String(), tls.VersionTLS12, "the program ended the handshake: bad certificate"},
		{plain.Listener.Addr().String(), tls.VersionTLS12, "the server answered in plain HTTP"},
	} {
		at, crossed := tapped(t, c.to)
		_, err := tls.Dial("tcp", at, &tls.Config{MinVersion: tls.VersionTLS10, MaxVersion: c.version, ServerName: "quay"})
		require.Error(t, err)
		require.Eventually(t, func() bool {
			all := crossed()
			if len(all) == 0 {
				return false
			}
			got, err := File(bytes.NewReader(written(t, all, how{})), nil)
			return err == nil && strings.Contains(fmt.Sprint(got.Unread), c.says)
		}, 5*time.Second, 10*time.Millisecond, c.says)
	}
}

// FuzzCapture looks for captures on which reading panics.
func FuzzCapture(f *testing.F) {
	f.Add([]byte{0xd4, 0xc3, 0xb2, 0xa1, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 1, 0, 0, 0}, []byte("CLIENT_RANDOM 00 11"))
	f.Fuzz(func(_ *testing.T, b, keys []byte) { _, _ = File(bytes.NewReader(b), keys) })
}

// FuzzStream looks for streams on which opening or splitting panics.
func FuzzStream(f *testing.F) {
	f.Add([]byte("POST / HTTP/1.1\r\nContent-Length: 2\r\n\r\nab"), []byte("HTTP/1.1 200 OK\r\n\r\nx"), []byte(""))
	f.Add([]byte{22, 3, 1, 0, 4, 1, 0, 0, 0}, []byte{22, 3, 3, 0, 4, 2, 0, 0, 0}, []byte("CLIENT_RANDOM 00 11"))
	f.Fuzz(func(_ *testing.T, out, in, keys []byte) {
		r := &Read{Unread: map[string]int{}}
		c := &tcp{}
		c.dirs[0].segments = []segment{{0, time.Time{}, out}}
		c.dirs[1].segments = []segment{{0, time.Time{}, in}}
		c.dirs[1].ended = true
		r.stream(c, parseKeys(keys))
	})
}
