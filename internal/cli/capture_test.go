package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packet is what one side of a connection sends: bytes, its end, or a reset; wait is how long before it nothing comes.
type packet struct {
	side     int // 0 the client, 1 the server
	data     string
	fin, rst bool
	wait     time.Duration
}

// packetsOf is a capture of one connection: what the client and the server sent, in turn.
func packetsOf(t *testing.T, said ...string) []byte {
	var all []packet
	for i, s := range said {
		all = append(all, packet{side: i % 2, data: s})
	}
	return capturing(t, append(all, packet{fin: true}, packet{side: 1, fin: true})...)
}

// capturing is a capture of one connection.
func capturing(t *testing.T, all ...packet) []byte {
	t.Helper()
	var out bytes.Buffer
	w := pcapgo.NewWriter(&out)
	require.NoError(t, w.WriteFileHeader(65536, layers.LinkTypeEthernet))
	at, seq := time.Date(2027, 5, 1, 8, 0, 0, 0, time.UTC), [2]uint32{}
	write := func(p packet, syn bool) {
		ip := layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolTCP, SrcIP: net.IP{10, 0, 0, 1}, DstIP: net.IP{10, 0, 0, 2}}
		tcp := layers.TCP{SYN: syn, FIN: p.fin, RST: p.rst, SrcPort: 40000, DstPort: 80}
		if p.side == 1 {
			ip.SrcIP, ip.DstIP, tcp.SrcPort, tcp.DstPort = ip.DstIP, ip.SrcIP, 80, 40000
		}
		tcp.Seq, tcp.ACK = seq[p.side], p.side == 1 || !tcp.SYN
		_ = tcp.SetNetworkLayerForChecksum(&ip)
		b := gopacket.NewSerializeBuffer()
		require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
			&layers.Ethernet{SrcMAC: make(net.HardwareAddr, 6), DstMAC: make(net.HardwareAddr, 6), EthernetType: layers.EthernetTypeIPv4},
			&ip, &tcp, gopacket.Payload(p.data)))
		at = at.Add(20*time.Millisecond + p.wait)
		n := len(b.Bytes())
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at, CaptureLength: n, Length: n}, b.Bytes()))
		if seq[p.side] += uint32(len(p.data)); tcp.SYN {
			seq[p.side]++
		}
	}
	write(packet{}, true)
	write(packet{side: 1}, true)
	for _, p := range all {
		write(p, false)
	}
	return out.Bytes()
}

// What was not answered, or not to its end, is an exchange too: how its connection ended says why it failed.
func TestACaptureOfACallThatFailed(t *testing.T) {
	l := at(t)
	const body = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths">` +
		`<length>12</length></FindBerths></s:Body></s:Envelope>`
	head := "POST /berths HTTP/1.1\r\nHost: berths.skerry.test\r\nContent-Type: text/xml; charset=utf-8\r\nSOAPAction: \"urn:skerry:berths:FindBerths\"\r\n"
	asked := packet{data: fmt.Sprintf("%sContent-Length: %d\r\n\r\n%s", head, len(body), body)}
	half := packet{data: fmt.Sprintf("%sContent-Length: 90000\r\n\r\n%s", head, body)}
	const found = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`
	answered := func(length int, body string) packet {
		return packet{side: 1, data: fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Type: text/xml; charset=utf-8\r\nContent-Length: %d\r\n\r\n%s", length, body)}
	}
	toEnd := packet{side: 1, data: "HTTP/1.1 200 OK\r\nContent-Type: text/xml; charset=utf-8\r\nConnection: close\r\n\r\n" + found}
	closed, reset := packet{side: 1, fin: true}, packet{side: 1, rst: true}
	left := packet{fin: true, wait: 30 * time.Second}
	for _, c := range []struct {
		name, id, says string
		packets        []packet
	}{
		{"closed without an answer", "wait.closed", "the connection was closed before a byte came back", []packet{asked, closed}},
		{"reset without an answer", "wait.closed", "the connection was closed before a byte came back", []packet{asked, reset}},
		{"an interim answer alone", "wait.closed", "which is no answer yet", []packet{asked, {side: 1, data: "HTTP/1.1 102 Processing\r\n\r\n"}, closed}},
		{"the program gave up", "wait.timed-out", "no answer began before the program gave up. The request was handed over whole; then nothing came for 30.02s",
			[]packet{asked, left, closed}},
		{"the program gave up within the reply", "receive.stalled", "then nothing for 30.02s. The program closed the connection.",
			[]packet{asked, answered(900, found), left, closed}},
		{"cut within the head", "receive.truncated", "within the head", []packet{asked, {side: 1, data: "HTTP/1.1 200 OK\r\nContent-"}, closed}},
		{"cut within the body", "receive.truncated", "900 bytes were announced", []packet{asked, answered(900, found), closed}},
		{"reset within the body", "receive.truncated", "The connection was reset after", []packet{asked, toEnd, reset}},
		{"closed behind the body", "", "", []packet{asked, toEnd, closed}},
		{"closed after the program was done", "", "", []packet{asked, {fin: true}, toEnd, closed}},
		{"more than was declared", "receive.length-differs", "more came than the reply's head declares", []packet{asked, answered(len(found), found+"<more/>"), closed}},
		{"no HTTP", "receive.not-http", "It greets like a server of mail", []packet{asked, {side: 1, data: "220 mail.quay.example ESMTP\r\n"}, closed}},
		{"TLS", "send.plain-to-tls", "speaks TLS", []packet{asked, {side: 1, data: "\x15\x03\x01\x00\x02\x02\x46"}, closed}},
		{"reset while it was leaving", "send.reset", "of 90 000 bytes had been handed over; then the connection broke (it was reset by the server)", []packet{half, reset}},
		{"left while it was leaving", "send.length-differs", "declared 90 000 bytes", []packet{half, left}},
	} {
		file := filepath.Join(l.dir, "quay.pcap")
		require.NoError(t, os.WriteFile(file, capturing(t, c.packets...), 0o600))
		var all []struct {
			TotalNs  int64
			Findings []struct{ ID, Title, Why string }
		}
		_, stdout, said := l.run("explain", "--capture", file, "--contract", l.berths(), "--json")
		require.NoError(t, json.Unmarshal([]byte(stdout), &all), "%s: %s%s", c.name, stdout, said)
		require.Len(t, all, 1, c.name)
		x := all[0]
		assert.Positive(t, x.TotalNs, c.name)
		if c.id == "" {
			assert.Empty(t, x.Findings, c.name)
			continue
		}
		if assert.NotEmpty(t, x.Findings, c.name) {
			assert.Equal(t, c.id, x.Findings[0].ID, c.name)
			assert.Contains(t, x.Findings[0].Title+". "+x.Findings[0].Why, c.says, c.name)
		}
	}
	file := filepath.Join(l.dir, "open.pcap") // it may have been answered after the capture
	require.NoError(t, os.WriteFile(file, capturing(t, asked), 0o600))
	_, _, stderr := l.run("explain", "--capture", file)
	assert.Contains(t, stderr, "answers that the capture does not hold whole")
}

// What was captured is explained like any call, and stands in the journal as of its own time.
func TestACaptureIsExplainedAndKept(t *testing.T) {
	l := at(t)
	ask := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths">` +
		`<length>12</length></FindBerths></s:Body></s:Envelope>`
	fault := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode>` +
		`<faultstring>the berth N02 is held already</faultstring></s:Fault></s:Body></s:Envelope>`
	post := func(body string) string {
		return fmt.Sprintf("POST /berths HTTP/1.1\r\nHost: berths.skerry.test\r\nContent-Type: text/xml; charset=utf-8\r\n"+
			"SOAPAction: \"urn:skerry:berths:FindBerths\"\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
	}
	said := func(status, body string) string {
		return fmt.Sprintf("HTTP/1.1 %s\r\nContent-Type: text/xml; charset=utf-8\r\nContent-Length: %d\r\n\r\n%s", status, len(body), body)
	}
	file := filepath.Join(l.dir, "quay.pcap")
	require.NoError(t, os.WriteFile(file, packetsOf(t, post(ask), said("500 Internal Server Error", fault),
		"GET /x HTTP/1.1\r\nHost: berths.skerry.test\r\n\r\n", said("200 OK", "plain")), 0o600))
	code, _, errOut := l.run("explain", "--capture", file, "--contract", l.berths())
	assert.Equal(t, 20, code, errOut)
	for _, want := range []string{"2 exchanges of HTTP, 1 of them without an envelope", "the berth N02 is held already", "http://berths.skerry.test/berths"} {
		assert.Contains(t, errOut, want)
	}
	var list []map[string]any
	l.json(0, &list, "journal", "list")
	require.Len(t, list, 1)
	assert.Equal(t, "captured", list[0]["kind"])
	assert.Equal(t, "2027-05-01T08:00:00.06Z", list[0]["started"])
	code, _, errOut = l.run("journal", "import", file)
	assert.Equal(t, 0, code, errOut)
	l.json(0, &list, "journal", "list")
	assert.Len(t, list, 2)
	code, _, errOut = l.run("explain", "--capture", l.file("no.pcap", "no capture at all"))
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "it is no capture")
}
