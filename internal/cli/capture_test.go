package cli

import (
	"bytes"
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

// packetsOf is a capture of one connection: what the client and the server sent, in turn.
func packetsOf(t *testing.T, said ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := pcapgo.NewWriter(&out)
	require.NoError(t, w.WriteFileHeader(65536, layers.LinkTypeEthernet))
	at, seq := time.Date(2027, 5, 1, 8, 0, 0, 0, time.UTC), [2]uint32{}
	packet := func(side int, tcp layers.TCP, data string) {
		ip := layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolTCP, SrcIP: net.IP{10, 0, 0, 1}, DstIP: net.IP{10, 0, 0, 2}}
		if tcp.SrcPort, tcp.DstPort = 40000, 80; side == 1 {
			ip.SrcIP, ip.DstIP, tcp.SrcPort, tcp.DstPort = ip.DstIP, ip.SrcIP, 80, 40000
		}
		tcp.Seq, tcp.ACK = seq[side], side == 1 || !tcp.SYN
		_ = tcp.SetNetworkLayerForChecksum(&ip)
		b := gopacket.NewSerializeBuffer()
		require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
			&layers.Ethernet{SrcMAC: make(net.HardwareAddr, 6), DstMAC: make(net.HardwareAddr, 6), EthernetType: layers.EthernetTypeIPv4},
			&ip, &tcp, gopacket.Payload(data)))
		at = at.Add(20 * time.Millisecond)
		n := len(b.Bytes())
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at, CaptureLength: n, Length: n}, b.Bytes()))
		if seq[side] += uint32(len(data)); tcp.SYN {
			seq[side]++
		}
	}
	packet(0, layers.TCP{SYN: true}, "")
	packet(1, layers.TCP{SYN: true}, "")
	for i, s := range said {
		packet(i%2, layers.TCP{}, s)
	}
	packet(0, layers.TCP{FIN: true}, "")
	packet(1, layers.TCP{FIN: true}, "")
	return out.Bytes()
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
