package capture

import (
	"encoding/binary"
	"net/netip"
)

// linkType is how packets are framed (the registry of link types, www.tcpdump.org/linktypes.html).
type linkType uint16

// The framings that are read.
const (
	linkNull     linkType = 0 // of a loopback, in the order of bytes of the machine
	linkEthernet linkType = 1
	linkRawOld   linkType = 12
	linkRawBSD   linkType = 14
	linkRaw      linkType = 101
	linkLoop     linkType = 108
	linkCooked   linkType = 113 // of Linux, from any interface
	linkIPv4     linkType = 228
	linkIPv6     linkType = 229
	linkCooked2  linkType = 276
)

// What a packet holds, by the number of its protocol.
const (
	typeIPv4 = 0x0800
	typeIPv6 = 0x86dd

	protocolIPv4 = 4
	protocolTCP  = 6
	protocolIPv6 = 41
)

// header is what a packet of TCP says (RFC 9293 §3.1).
type header struct {
	src, dst           netip.AddrPort
	seq                uint32
	syn, ack, fin, rst bool
	payload            []byte
}

// headerOf takes a packet apart; ok is false where it is no TCP. why says what could not be read of
// one that may be.
func headerOf(data []byte, link linkType) (h header, ok bool, why string) {
	switch link {
	case linkEthernet:
		if len(data) < 14 {
			return h, false, ""
		}
		return within(data[12:])
	case linkCooked:
		if len(data) < 16 {
			return h, false, ""
		}
		return within(data[14:])
	case linkCooked2:
		if len(data) < 20 {
			return h, false, ""
		}
		return network(data[20:], binary.BigEndian.Uint16(data), 0)
	case linkNull, linkLoop:
		if len(data) < 4 {
			return h, false, ""
		}
		return bare(data[4:])
	case linkRaw, linkRawOld, linkRawBSD, linkIPv4, linkIPv6:
		return bare(data)
	}
	return h, false, "packets of a kind of network that is not known"
}

// bare takes a packet of IP apart, whose version its first bits say.
func bare(data []byte) (h header, ok bool, why string) {
	switch {
	case len(data) == 0:
		return h, false, ""
	case data[0]>>4 == 6:
		return ipv6(data, 0)
	}
	return ipv4(data, 0)
}

// within takes apart what follows the addresses of a frame, which may stand in virtual networks
// (IEEE 802.1Q) or a session of PPPoE (RFC 2516).
func within(data []byte) (h header, ok bool, why string) {
	for range 4 {
		kind := binary.BigEndian.Uint16(data)
		switch kind {
		case 0x8100, 0x88a8, 0x9100:
			if data = data[2:]; len(data) < 4 {
				return h, false, ""
			}
			data = data[2:]
			continue
		case 0x8864:
			const head = 8
			if len(data) < 2+head {
				return h, false, ""
			}
			return bare(data[2+head:])
		}
		return network(data[2:], kind, 0)
	}
	return h, false, ""
}

func network(data []byte, kind uint16, depth int) (h header, ok bool, why string) {
	switch kind {
	case typeIPv4:
		return ipv4(data, depth)
	case typeIPv6:
		return ipv6(data, depth)
	}
	return h, false, ""
}

const fragments = "packets that came in fragments (IP)"

// ipv4 takes a packet apart (RFC 791 §3.1).
func ipv4(data []byte, depth int) (h header, ok bool, why string) {
	if len(data) < 20 || data[0]>>4 != 4 {
		return h, false, ""
	}
	head, total := int(data[0]&0xf)*4, int(binary.BigEndian.Uint16(data[2:]))
	if total == 0 { // it is left open where the network card cuts packets
		total = len(data)
	}
	if head < 20 || head > len(data) || total < head {
		return h, false, ""
	}
	from, to := netip.AddrFrom4([4]byte(data[12:16])), netip.AddrFrom4([4]byte(data[16:20]))
	const more, offset = 0x2000, 0x1fff
	if part := binary.BigEndian.Uint16(data[6:]); part&(more|offset) != 0 {
		return h, false, fragments
	}
	return transport(data[head:min(total, len(data))], data[9], from, to, depth)
}

// ipv6 takes a packet apart, with the headers that extend it (RFC 8200 §3, §4).
func ipv6(data []byte, depth int) (h header, ok bool, why string) {
	const head = 40
	if len(data) < head || data[0]>>4 != 6 {
		return h, false, ""
	}
	from, to := netip.AddrFrom16([16]byte(data[8:24])), netip.AddrFrom16([16]byte(data[24:40]))
	next, rest := data[6], data[head:]
	if n := int(binary.BigEndian.Uint16(data[4:])); n > 0 && n < len(rest) {
		rest = rest[:n]
	}
	for range 8 {
		const hops, routing, fragment, authentication, destination = 0, 43, 44, 51, 60
		if len(rest) < 8 {
			break
		}
		long := 0
		switch next {
		case hops, routing, destination:
			long = 8 * (int(rest[1]) + 1)
		case authentication:
			long = 4 * (int(rest[1]) + 2)
		case fragment:
			if binary.BigEndian.Uint16(rest[2:])&0xfff9 != 0 {
				return h, false, fragments
			}
			long = 8
		default:
			return transport(rest, next, from, to, depth)
		}
		if long > len(rest) {
			break
		}
		next, rest = rest[0], rest[long:]
	}
	return h, false, ""
}

// transport takes apart what IP carries, also within another packet of IP.
func transport(data []byte, protocol byte, from, to netip.Addr, depth int) (h header, ok bool, why string) {
	const deepest = 3
	switch {
	case protocol == protocolIPv4 && depth < deepest:
		return ipv4(data, depth+1)
	case protocol == protocolIPv6 && depth < deepest:
		return ipv6(data, depth+1)
	case protocol != protocolTCP || len(data) < 20:
		return h, false, ""
	}
	head := int(data[12]>>4) * 4
	if head < 20 || head > len(data) {
		return h, false, ""
	}
	const fin, syn, rst, ack = 1, 2, 4, 16
	flags := data[13]
	return header{
		src: netip.AddrPortFrom(from, binary.BigEndian.Uint16(data)),
		dst: netip.AddrPortFrom(to, binary.BigEndian.Uint16(data[2:])),
		seq: binary.BigEndian.Uint32(data[4:]),
		syn: flags&syn != 0, ack: flags&ack != 0, fin: flags&fin != 0, rst: flags&rst != 0,
		payload: data[head:],
	}, true, ""
}
