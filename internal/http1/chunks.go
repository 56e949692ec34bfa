package http1

import (
	"bytes"
	"errors"
	"fmt"
	"math"
)

// Chunks takes the chunked transfer coding off (RFC 9112 §7.1), as bytes come.
// The zero value is at the beginning of a body.
type Chunks struct {
	state   chunkState
	left    int64 // of the chunk that is being read, in bytes
	trailer int   // bytes of the trailer section so far
}

type chunkState uint8

const (
	atSize chunkState = iota
	inData
	atEnd
	inTrailer
	finished
)

// maxLine is how long the line with a chunk's size may be, its extensions
// included, in bytes.
const maxLine = 4096

// Piece is what was taken of the bytes that came.
type Piece struct {
	Skip  int  // bytes of framing
	Data  int  // bytes of the body, after those
	Ended bool // a chunk ended here
}

// Next takes what it can of p, which begins with the first byte that was not taken
// yet. An empty piece means that more must come, or that Done is true.
func (c *Chunks) Next(p []byte) (Piece, error) {
	switch c.state {
	case atSize:
		return c.size(p)
	case inData:
		n := int(min(int64(len(p)), c.left))
		if c.left -= int64(n); c.left == 0 {
			c.state = atEnd
		}
		return Piece{Data: n}, nil
	case atEnd:
		return c.end(p)
	case inTrailer:
		return c.trailerLine(p)
	}
	return Piece{}, nil
}

// Left is how many bytes of the chunk that is being read are still to come.
func (c *Chunks) Left() int64 { return c.left }

// Done tells whether the body has ended.
func (c *Chunks) Done() bool { return c.state == finished }

func (c *Chunks) size(p []byte) (Piece, error) {
	end := bytes.IndexByte(p, '\n')
	if end < 0 {
		if len(p) > maxLine {
			return Piece{}, ErrTooLarge
		}
		if p := bytes.TrimLeft(p, " \t"); len(p) > 0 {
			if _, ok := hex(p[:1]); !ok { // no size will come of it, however much more does
				return Piece{}, fmt.Errorf("%.40q is not a chunk size", p)
			}
		}
		return Piece{}, nil
	}
	if end > maxLine {
		return Piece{}, ErrTooLarge
	}
	text, _, _ := bytes.Cut(p[:end], []byte{';'})
	n, ok := hex(bytes.TrimSpace(text))
	if !ok {
		return Piece{}, fmt.Errorf("%.40q is not a chunk size", text)
	}
	c.left, c.state = n, inData
	if n == 0 {
		c.state = inTrailer
	}
	return Piece{Skip: end + 1}, nil
}

// hex reads a number of hexadecimal digits (RFC 9112 §7.1, chunk-size), up to 2^63-1.
func hex(digits []byte) (n int64, ok bool) {
	for _, d := range digits {
		switch {
		case n > math.MaxInt64>>4:
			return 0, false
		case '0' <= d && d <= '9':
			d -= '0'
		case 'a' <= d|0x20 && d|0x20 <= 'f':
			d = d | 0x20 - 'a' + 10
		default:
			return 0, false
		}
		n = n<<4 | int64(d)
	}
	return n, len(digits) > 0
}

func (c *Chunks) end(p []byte) (Piece, error) {
	n := 1
	if len(p) > 0 && p[0] == '\r' {
		n = 2
	}
	if len(p) < n {
		return Piece{}, nil
	}
	if p[n-1] != '\n' {
		return Piece{}, errors.New("a chunk is longer than its size says")
	}
	c.state = atSize
	return Piece{Skip: n, Ended: true}, nil
}

func (c *Chunks) trailerLine(p []byte) (Piece, error) {
	end := bytes.IndexByte(p, '\n')
	length := end + 1
	if end < 0 {
		length = len(p)
	}
	if c.trailer+length > MaxHead {
		return Piece{}, ErrTooLarge
	}
	if end < 0 {
		return Piece{}, nil
	}
	c.trailer += end + 1
	if len(bytes.TrimSpace(p[:end])) == 0 {
		c.state = finished
	}
	return Piece{Skip: end + 1}, nil
}
