package capture

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Packets in all framings that are read, taken apart as another reader does.
func TestFramesAreTakenApart(t *testing.T) {
	mac := make(net.HardwareAddr, 6)
	v4 := &layers.IPv4{Version: 4, TTL: 9, Protocol: layers.IPProtocolTCP, SrcIP: net.IP{10, 0, 0, 1}, DstIP: net.IP{10, 0, 0, 2}}
	options := *v4
	options.Options = []layers.IPv4Option{{OptionType: 1, OptionLength: 1}, {OptionType: 1, OptionLength: 1}, {OptionType: 1, OptionLength: 1}, {OptionType: 0, OptionLength: 1}}
	v6 := &layers.IPv6{Version: 6, HopLimit: 9, NextHeader: layers.IPProtocolTCP, SrcIP: net.ParseIP("fd00::1"), DstIP: net.ParseIP("fd00::2")}
	tunnel := &layers.IPv4{Version: 4, TTL: 9, Protocol: layers.IPProtocolIPv4, SrcIP: net.IP{192, 0, 2, 1}, DstIP: net.IP{192, 0, 2, 2}}
	six := &layers.IPv4{Version: 4, TTL: 9, Protocol: layers.IPProtocolIPv6, SrcIP: net.IP{192, 0, 2, 1}, DstIP: net.IP{192, 0, 2, 2}}
	extended := *v6
	extended.NextHeader = layers.IPProtocolIPv6HopByHop
	hops := &raw{layers.LayerTypeIPv6HopByHop, []byte{6, 0, 1, 4, 0, 0, 0, 0}}
	eth := func(kind layers.EthernetType) *layers.Ethernet {
		return &layers.Ethernet{SrcMAC: mac, DstMAC: mac, EthernetType: kind}
	}
	vlan := func(kind layers.EthernetType) *layers.Dot1Q { return &layers.Dot1Q{VLANIdentifier: 7, Type: kind} }
	for name, c := range map[string]struct {
		link linkType
		at   []gopacket.SerializableLayer
	}{
		"ethernet":      {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypeIPv4), v4}},
		"options":       {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypeIPv4), &options}},
		"ipv6":          {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypeIPv6), v6}},
		"ipv6 extended": {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypeIPv6), &extended, hops}},
		"vlan":          {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypeDot1Q), vlan(layers.EthernetTypeIPv4), v4}},
		"vlan in vlan":  {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypeQinQ), vlan(layers.EthernetTypeDot1Q), vlan(layers.EthernetTypeIPv6), v6}},
		"pppoe":         {linkEthernet, []gopacket.SerializableLayer{eth(layers.EthernetTypePPPoESession), &layers.PPPoE{Version: 1, Type: 1}, &layers.PPP{PPPType: layers.PPPTypeIPv4}, v4}},
		"loopback":      {linkNull, []gopacket.SerializableLayer{&layers.Loopback{Family: layers.ProtocolFamilyIPv4}, v4}},
		"raw":           {linkRaw, []gopacket.SerializableLayer{v4}},
		"raw 6":         {linkRaw, []gopacket.SerializableLayer{v6}},
		"within ipv4":   {linkRaw, []gopacket.SerializableLayer{tunnel, v4}},
		"ipv6 in ipv4":  {linkRaw, []gopacket.SerializableLayer{six, v6}},
		"cooked":        {linkCooked, []gopacket.SerializableLayer{&raw{layers.LayerTypeLinuxSLL, append(make([]byte, 14), 8, 0)}, v4}},
		"cooked 2":      {linkCooked2, []gopacket.SerializableLayer{&raw{layers.LayerTypeLinuxSLL2, append([]byte{0x86, 0xdd}, make([]byte, 18)...)}, v6}},
	} {
		tcp := &layers.TCP{SrcPort: 40000, DstPort: 8080, Seq: 77, SYN: true, PSH: true, FIN: true,
			Options: []layers.TCPOption{{OptionType: layers.TCPOptionKindMSS, OptionLength: 4, OptionData: []byte{5, 180}}}}
		ip := c.at[len(c.at)-1]
		if ip == hops {
			ip = c.at[len(c.at)-2]
		}
		require.NoError(t, tcp.SetNetworkLayerForChecksum(ip.(gopacket.NetworkLayer)))
		buf := gopacket.NewSerializeBuffer()
		require.NoError(t, gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
			append(c.at, tcp, gopacket.Payload("ebb"))...), name)
		data := append(bytes.Clone(buf.Bytes()), make([]byte, 9)...) // frames are filled up
		h, ok, why := headerOf(data, c.link)
		require.True(t, ok, "%s %s", name, why)
		network := ip.(gopacket.NetworkLayer).NetworkFlow()
		want := header{seq: 77, syn: true, fin: true, payload: []byte("ebb")}
		want.src, want.dst = addrPort(network.Src(), 40000), addrPort(network.Dst(), 8080)
		assert.Equal(t, want, h, name)
		for n := range data {
			_, _, _ = headerOf(data[:n], c.link) // cut short, and no panic
		}
	}
	_, ok, why := headerOf(make([]byte, 60), 9999)
	assert.False(t, ok)
	assert.Contains(t, why, "not known")
	part := *v4
	part.Flags = layers.IPv4MoreFragments
	buf := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true}, &part, gopacket.Payload(make([]byte, 40))))
	_, ok, why = headerOf(buf.Bytes(), linkRaw)
	assert.False(t, ok)
	assert.Equal(t, fragments, why)
}

func addrPort(e gopacket.Endpoint, port uint16) netip.AddrPort {
	a, _ := netip.AddrFromSlice(e.Raw())
	return netip.AddrPortFrom(a, port)
}

// raw is a layer of which the other writer makes no bytes.
type raw struct {
	kind gopacket.LayerType
	b    []byte
}

func (r *raw) LayerType() gopacket.LayerType { return r.kind }

func (r *raw) SerializeTo(b gopacket.SerializeBuffer, _ gopacket.SerializeOptions) error {
	to, err := b.PrependBytes(len(r.b))
	copy(to, r.b)
	return err
}

// Files in both formats, in both orders of bytes and with any unit of time, are read as they were written.
func TestFilesOfPacketsAreRead(t *testing.T) {
	at := time.Date(2027, 5, 1, 8, 0, 0, 123_456_000, time.UTC)
	all := [][]byte{[]byte("high water"), {1}, bytes.Repeat([]byte{7}, 1501)}
	files := map[string][]byte{}
	var b bytes.Buffer
	w := pcapgo.NewWriter(&b)
	require.NoError(t, w.WriteFileHeader(65536, layers.LinkTypeRaw))
	for _, p := range all {
		require.NoError(t, w.WritePacket(gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(p), Length: len(p) + 3}, p))
	}
	files["pcap"] = bytes.Clone(b.Bytes())
	b.Reset()
	ng, err := pcapgo.NewNgWriter(&b, layers.LinkTypeRaw)
	require.NoError(t, err)
	for _, p := range all {
		require.NoError(t, ng.WritePacket(gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(p), Length: len(p) + 3}, p))
	}
	require.NoError(t, ng.Flush())
	files["pcapng"] = append(bytes.Clone(b.Bytes()), b.Bytes()...) // two sections
	for name, order := range map[string]binary.AppendByteOrder{"big": binary.BigEndian, "little": binary.LittleEndian} {
		one := order.AppendUint32(nil, 0xa1b23c4d) // nanoseconds
		one = order.AppendUint32(append(one, make([]byte, 12)...), 65536)
		one = order.AppendUint32(one, uint32(linkRaw))
		section := order.AppendUint32([]byte{0x0a, 0x0d, 0x0d, 0x0a}, 28)
		section = order.AppendUint32(order.AppendUint32(section, 0x1a2b3c4d), 1)
		section = order.AppendUint32(append(section, bytes.Repeat([]byte{0xff}, 8)...), 28)
		section = order.AppendUint32(order.AppendUint32(section, portBlock), 32)
		section = order.AppendUint32(order.AppendUint16(order.AppendUint16(section, uint16(linkRaw)), 0), 0)
		section = order.AppendUint16(order.AppendUint16(section, 9), 1)
		section = order.AppendUint32(append(section, 0x80|20, 0, 0, 0, 0, 0, 0, 0), 32) // units of 2⁻²⁰ seconds
		for _, p := range all {
			one = order.AppendUint32(order.AppendUint32(one, uint32(at.Unix())), uint32(at.Nanosecond()))
			one = append(order.AppendUint32(order.AppendUint32(one, uint32(len(p))), uint32(len(p)+3)), p...)
			pad := (4 - len(p)%4) % 4
			units := uint64(at.Unix())<<20 + uint64(at.Nanosecond())<<20/1e9
			long := uint32(32 + len(p) + pad)
			section = order.AppendUint32(order.AppendUint32(section, packetBlock), long)
			section = order.AppendUint32(order.AppendUint32(order.AppendUint32(section, 0), uint32(units>>32)), uint32(units))
			section = append(order.AppendUint32(order.AppendUint32(section, uint32(len(p))), uint32(len(p)+3)), p...)
			section = order.AppendUint32(append(section, make([]byte, pad)...), long)
		}
		files[name], files[name+" blocks"] = one, section
	}
	for name, file := range files {
		src, err := open(bytes.NewReader(file))
		require.NoError(t, err, name)
		times := 1
		if name == "pcapng" {
			times = 2
		}
		for range times {
			for _, want := range all {
				p, err := src.next()
				require.NoError(t, err, name)
				assert.Equal(t, want, p.data, name)
				assert.Equal(t, len(want)+3, p.length, name)
				assert.EqualValues(t, linkRaw, p.link, name)
				assert.WithinDuration(t, at, p.at, 2*time.Microsecond, name)
			}
		}
		_, err = src.next()
		require.ErrorIs(t, err, io.EOF, name)
		src, err = open(bytes.NewReader(file[:len(file)-5]))
		require.NoError(t, err)
		for err == nil {
			_, err = src.next()
		}
		assert.ErrorIs(t, err, errTorn, name)
	}
}
