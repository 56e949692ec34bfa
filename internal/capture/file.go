package capture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"time"
)

// packet is one that a file holds.
type packet struct {
	link   linkType
	at     time.Time
	data   []byte
	length int // that it had on the wire; data is shorter where it was cut
}

// source gives the packets of a file in their order; io.EOF behind the last.
type source interface{ next() (packet, error) }

// maxPacket is the longest packet that is read, in bytes; so long is no frame of any network.
const maxPacket = 4 << 20

// errTorn is a file that ends within a packet, or is damaged from there on.
var errTorn = errors.New("the file ends within a packet")

func open(src io.Reader) (source, error) {
	var magic [4]byte
	if _, err := io.ReadFull(src, magic[:]); err != nil {
		return nil, errors.New("it is no capture: it is empty")
	}
	if bytes.Equal(magic[:], []byte{0x0a, 0x0d, 0x0d, 0x0a}) {
		ng := &pcapngFile{src: src}
		if err := ng.section(); err != nil {
			return nil, fmt.Errorf("it is no capture: %w", err)
		}
		return ng, nil
	}
	return openPcap(src, magic)
}

// pcapFile is a file of records (draft-ietf-opsawg-pcap).
type pcapFile struct {
	src   io.Reader
	order binary.ByteOrder
	link  linkType
	unit  time.Duration // of the fraction of a second
}

func openPcap(src io.Reader, magic [4]byte) (source, error) {
	r := &pcapFile{src: src, order: binary.LittleEndian, unit: time.Microsecond}
	switch binary.BigEndian.Uint32(magic[:]) {
	case 0xa1b2c3d4:
		r.order = binary.BigEndian
	case 0xd4c3b2a1:
	case 0xa1b23c4d:
		r.order, r.unit = binary.BigEndian, time.Nanosecond
	case 0x4d3cb2a1:
		r.unit = time.Nanosecond
	default:
		return nil, errors.New("it is no capture (pcap or pcapng)")
	}
	var rest [20]byte
	if _, err := io.ReadFull(src, rest[:]); err != nil {
		return nil, errors.New("it is no capture: it ends within its head")
	}
	r.link = linkType(r.order.Uint32(rest[16:]) & 0xffff) // above it stands the length of a check sum
	return r, nil
}

func (r *pcapFile) next() (packet, error) {
	var head [16]byte
	if _, err := io.ReadFull(r.src, head[:]); err != nil {
		return packet{}, torn(err)
	}
	n := r.order.Uint32(head[8:])
	if n > maxPacket {
		return packet{}, errTorn
	}
	p := packet{
		link: r.link, data: make([]byte, n), length: int(r.order.Uint32(head[12:])),
		at: time.Unix(int64(r.order.Uint32(head[0:])), int64(r.order.Uint32(head[4:]))*int64(r.unit)).UTC(),
	}
	if _, err := io.ReadFull(r.src, p.data); err != nil {
		return packet{}, errTorn
	}
	return p, nil
}

// torn is what an error at the beginning of a packet means.
func torn(err error) error {
	if errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return io.EOF
	}
	return errTorn
}

// pcapngFile is a file of blocks (draft-ietf-opsawg-pcapng).
type pcapngFile struct {
	src   io.Reader
	order binary.ByteOrder
	ports []port
	room  []byte
}

// port is an interface at which packets were captured.
type port struct {
	link   linkType
	snap   uint32 // the longest that is captured, 0 any
	units  uint64 // of time in a second
	offset int64  // seconds that are added
}

// The kinds of blocks.
const (
	sectionHead  = 0x0a0d0d0a
	portBlock    = 1
	oldPacket    = 2
	simplePacket = 3
	packetBlock  = 6
)

// section reads the head of a section behind its kind.
func (b *pcapngFile) section() error {
	var head [8]byte
	if _, err := io.ReadFull(b.src, head[:]); err != nil {
		return errTorn
	}
	switch binary.LittleEndian.Uint32(head[4:]) {
	case 0x1a2b3c4d:
		b.order = binary.LittleEndian
	case 0x4d3c2b1a:
		b.order = binary.BigEndian
	default:
		return errors.New("its head says no order of bytes")
	}
	b.ports = nil
	_, err := b.body(b.order.Uint32(head[:]), len(head)+4)
	return err
}

// body reads what of a block follows the bytes that were read, without the length at its end.
func (b *pcapngFile) body(length uint32, read int) ([]byte, error) {
	n := int64(length) - int64(read)
	if n < 4 || length%4 != 0 || n > maxPacket+64<<10 {
		return nil, errTorn
	}
	if int64(cap(b.room)) < n {
		b.room = make([]byte, n)
	}
	b.room = b.room[:n]
	if _, err := io.ReadFull(b.src, b.room); err != nil {
		return nil, errTorn
	}
	return b.room[:n-4], nil
}

func (b *pcapngFile) next() (packet, error) {
	for {
		var head [4]byte
		if _, err := io.ReadFull(b.src, head[:]); err != nil {
			return packet{}, torn(err)
		}
		kind := b.order.Uint32(head[:])
		if kind == sectionHead {
			if err := b.section(); err != nil {
				return packet{}, err
			}
			continue
		}
		var size [4]byte
		if _, err := io.ReadFull(b.src, size[:]); err != nil {
			return packet{}, errTorn
		}
		body, err := b.body(b.order.Uint32(size[:]), 8)
		if err != nil {
			return packet{}, err
		}
		switch kind {
		case portBlock:
			if err := b.port(body); err != nil {
				return packet{}, err
			}
		case packetBlock, oldPacket, simplePacket:
			return b.packet(kind, body)
		}
	}
}

// maxPorts is how many interfaces a section may have.
const maxPorts = 1 << 16

func (b *pcapngFile) port(body []byte) error {
	if len(body) < 8 || len(b.ports) == maxPorts {
		return errTorn
	}
	p := port{link: linkType(b.order.Uint16(body)), snap: b.order.Uint32(body[4:]), units: 1_000_000}
	const resolution, offset = 9, 14
	for o := body[8:]; len(o) >= 4; {
		code, n := b.order.Uint16(o), int(b.order.Uint16(o[2:]))
		if code == 0 || 4+n > len(o) {
			break
		}
		switch value := o[4 : 4+n]; {
		case code == resolution && n == 1 && value[0]&0x80 != 0 && value[0]&0x7f < 64:
			p.units = 1 << (value[0] & 0x7f)
		case code == resolution && n == 1 && value[0] < 20:
			p.units = uint64(math.Pow10(int(value[0])))
		case code == offset && n == 8:
			p.offset = int64(b.order.Uint64(value))
		}
		o = o[min(4+(n+3)&^3, len(o)):]
	}
	b.ports = append(b.ports, p)
	return nil
}

// packet reads the body of a block that holds one.
func (b *pcapngFile) packet(kind uint32, body []byte) (out packet, err error) {
	at, head := uint32(0), 20
	switch {
	case kind == simplePacket:
		head = 4
	case len(body) < head:
	case kind == oldPacket:
		at = uint32(b.order.Uint16(body))
	default:
		at = b.order.Uint32(body)
	}
	if len(body) < head || uint64(at) >= uint64(len(b.ports)) {
		return out, errTorn
	}
	p := b.ports[at]
	out.link = p.link
	n := uint32(len(body) - head)
	if kind == simplePacket {
		out.length = int(b.order.Uint32(body))
		if n = min(n, uint32(out.length)); p.snap > 0 {
			n = min(n, p.snap)
		}
	} else {
		out.length, n = int(b.order.Uint32(body[16:])), b.order.Uint32(body[12:])
		out.at = p.when(uint64(b.order.Uint32(body[4:]))<<32 | uint64(b.order.Uint32(body[8:])))
	}
	if uint64(n) > uint64(len(body)-head) {
		return out, errTorn
	}
	out.data = bytes.Clone(body[head : head+int(n)])
	return out, nil
}

// when is the time of a number of units.
func (p port) when(units uint64) time.Time {
	rest := float64(units%p.units) / float64(p.units)
	if p.units == 1_000_000 || p.units == 1_000_000_000 {
		return time.Unix(int64(units/p.units)+p.offset, int64(units%p.units*(1_000_000_000/p.units))).UTC()
	}
	return time.Unix(int64(units/p.units)+p.offset, int64(rest*1e9)).UTC()
}
