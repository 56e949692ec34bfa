// Package capture reads what people of the network hand over: files of packets (pcap, pcapng). It
// puts streams of TCP together, opens TLS where there is a log of its keys, and takes the exchanges
// of HTTP/1.1 out of them. What cannot be read is counted, and nothing is made up for it.
package capture

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"time"

	"orenda/internal/call"
)

// Limits of what is read of a file.
const (
	maxBytes = 2 << 30 // of payload that is held
)

// Exchange is an exchange of HTTP that was found.
type Exchange struct {
	*call.Imported
	Began  time.Time      // when the first packet of the request passed
	Took   time.Duration  // until the last packet of the answer
	Client netip.AddrPort // who called
	Server netip.AddrPort // who answered
	TLS    string         // version and cipher suite, where it was opened; "" plain
}

// Read is what a file held.
type Read struct {
	Packets   int            // of all kinds
	Streams   int            // connections of TCP
	Exchanges []Exchange     // whole ones of HTTP, in the order of time
	Unread    map[string]int // what could not be read, and how often
}

// File reads a file of packets. keys is a log of TLS keys (SSLKEYLOGFILE), or empty.
func File(src io.Reader, keys []byte) (*Read, error) {
	r := &Read{Unread: map[string]int{}}
	streams, err := r.packets(src)
	if err != nil {
		return nil, err
	}
	log := parseKeys(keys)
	for _, s := range streams {
		r.Streams++
		r.stream(s, log)
	}
	slices.SortStableFunc(r.Exchanges, func(a, b Exchange) int { return a.Began.Compare(b.Began) })
	return r, nil
}

// segment is what one packet carried of one direction.
type segment struct {
	seq  uint32
	at   time.Time
	data []byte
}

// direction is what one side sent.
type direction struct {
	segments []segment
	first    uint32 // number of its first byte
	begun    bool   // by its SYN; else by the first packet that was seen
	ended    bool   // FIN or RST was seen
	reset    bool   // and it was RST, before any FIN
	over     time.Time
}

// tcp is a connection.
type tcp struct {
	client, server netip.AddrPort
	dirs           [2]direction // what the client sent, what the server sent
}

// packets reads all packets, and sorts what they carry by connection.
func (r *Read) packets(src io.Reader) ([]*tcp, error) {
	from, err := open(src)
	if err != nil {
		return nil, err
	}
	all := connections{byPair: map[[2]netip.AddrPort]*tcp{}}
	held := 0
	for {
		p, err := from.next()
		if err != nil {
			if !errors.Is(err, io.EOF) {
				r.Unread[errTorn.Error()]++
			}
			return all.list, nil
		}
		r.Packets++
		if len(p.data) < p.length {
			r.Unread["packets that were cut short as they were captured"]++
		}
		h, ok, why := headerOf(p.data, p.link)
		if why != "" {
			r.Unread[why]++
		}
		if !ok {
			continue
		}
		if held += len(h.payload); held > maxBytes {
			return nil, fmt.Errorf("more than %d bytes of payload are too many", maxBytes)
		}
		c, side := all.of(&h)
		c.take(side, &h, p.at)
	}
}

// connections are those of a capture, by their two ends.
type connections struct {
	byPair map[[2]netip.AddrPort]*tcp
	list   []*tcp // in the order in which they were seen first
}

// of is the connection that a packet is of, and which side sent it: 0 the client, 1 the server.
func (all *connections) of(h *header) (c *tcp, side int) {
	src, dst := h.src, h.dst
	if c = all.byPair[[2]netip.AddrPort{src, dst}]; c == nil {
		if c = all.byPair[[2]netip.AddrPort{dst, src}]; c != nil {
			side = 1
		}
	}
	if c != nil && !(h.syn && !h.ack && c.over() && h.seq+1 != c.dirs[0].first) {
		return c, side
	}
	c, side = &tcp{client: src, server: dst}, 0
	if h.syn && h.ack || !h.syn && src.Port() < dst.Port() { // its beginning was not seen
		c.client, c.server, side = dst, src, 1
	}
	all.byPair[[2]netip.AddrPort{c.client, c.server}] = c
	all.list = append(all.list, c)
	return c, side
}

// over tells whether one of its ends has closed it.
func (c *tcp) over() bool { return c.dirs[0].ended || c.dirs[1].ended }

// take takes a packet of one side.
func (c *tcp) take(side int, h *header, at time.Time) {
	d := &c.dirs[side]
	switch {
	case h.syn:
		d.first, d.begun = h.seq+1, true
	case !d.begun && (len(d.segments) == 0 || int32(h.seq-d.first) < 0):
		d.first = h.seq
	}
	if (h.fin || h.rst) && !d.ended {
		d.ended, d.reset, d.over = true, h.rst, at
	}
	if len(h.payload) > 0 {
		d.segments = append(d.segments, segment{h.seq, at, h.payload})
	}
}

// piece says when a run of a stream passed, from an offset on.
type piece struct {
	offset int
	at     time.Time
}

// bytesOf are what one side sent, put in order, with doubled parts once; as far as nothing is
// missing. lost is whether more came after a gap.
type bytesOf struct {
	data   []byte
	pieces []piece
	lost   bool
	ended  bool      // its sender closed
	reset  bool      // without finishing
	over   time.Time // when
}

// last is when its last byte passed.
func (b *bytesOf) last() time.Time { return when(b.pieces, len(b.data)) }

func (d *direction) assemble() (out bytesOf) {
	out.ended, out.reset, out.over = d.ended, d.reset, d.over
	slices.SortStableFunc(d.segments, func(a, b segment) int {
		return cmp.Compare(int32(a.seq-d.first), int32(b.seq-d.first))
	})
	for _, s := range d.segments {
		from := int(int32(s.seq - d.first))
		end := from + len(s.data)
		switch {
		case end <= len(out.data): // it was sent again
			continue
		case from > len(out.data):
			out.lost = true
			return out
		}
		out.pieces = append(out.pieces, piece{len(out.data), s.at})
		out.data = append(out.data, s.data[max(len(out.data)-from, 0):]...)
	}
	return out
}

// when is when the byte at an offset passed.
func when(pieces []piece, offset int) time.Time {
	i, _ := slices.BinarySearchFunc(pieces, offset+1, func(p piece, at int) int { return cmp.Compare(p.offset, at) })
	if i == 0 {
		return time.Time{}
	}
	return pieces[i-1].at
}

// stream takes the exchanges out of a connection.
func (r *Read) stream(c *tcp, keys keyLog) {
	out, in := c.dirs[0].assemble(), c.dirs[1].assemble()
	if len(out.data) == 0 && len(in.data) == 0 {
		return
	}
	if out.lost || in.lost {
		r.Unread["connections of which packets are missing: read as far as the first gap"]++
	}
	secure := ""
	if looksLikeTLS(out.data) || looksLikeTLS(in.data) {
		var err error
		if secure, err = openTLS(&out, &in, keys); err != nil {
			r.Unread["connections over TLS: "+err.Error()]++
			return
		}
	}
	if bytes.HasPrefix(out.data, []byte("PRI * HTTP/2.0")) {
		r.Unread["connections that speak HTTP/2"]++
		return
	}
	r.split(c, out, in, secure)
}
