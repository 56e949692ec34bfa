package http1

import (
	"bytes"
	"io"
	"net/http/httputil"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFieldsKnowTheirPlace(t *testing.T) {
	head := "HTTP/1.1 200 OK\r\nX-A:  1 \r\nx-b: two\r\n  more\r\nContent-Length: 0\r\n\r\n"
	h, err := Response([]byte(head))
	require.NoError(t, err)
	assert.Equal(t, "1", h.Get("x-a"))
	assert.Equal(t, "two more", h.Get("X-B"))
	f := h.Field("X-B")
	assert.Equal(t, "x-b: two\r\n  more", head[f.Span.Offset:f.Span.Offset+f.Span.Length])
	assert.EqualValues(t, 0, h.Declared)
}

func TestAHeadEndsAtItsFirstEmptyLine(t *testing.T) {
	for in, want := range map[string]int{
		"a\r\n\r\nb": 5, "a\n\nb": 3, "a\n\nb\r\n\r\n": 3, "a\r\n\r\nb\n\n": 5, "a\r\n": 0, "": 0,
	} {
		assert.Equal(t, want, HeadEnd([]byte(in)), "%q", in)
	}
}

// A request that two programs could read in two ways is refused (RFC 9112 §6.3).
func TestARequestThatCanBeReadInTwoWaysIsRefused(t *testing.T) {
	for name, fields := range map[string]string{
		"two lengths":        "Content-Length: 5\r\nContent-Length: 6\r\n",
		"the same twice":     "Content-Length: 5\r\nContent-Length: 5\r\n",
		"a list of lengths":  "Content-Length: 5, 5\r\n",
		"a plus":             "Content-Length: +4\r\n",
		"negative":           "Content-Length: -1\r\n",
		"too large":          "Content-Length: 99999999999999999999\r\n",
		"length and chunks":  "Content-Length: 5\r\nTransfer-Encoding: chunked\r\n",
		"chunked twice":      "Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n",
		"another coding":     "Transfer-Encoding: gzip, chunked\r\n",
		"a blank in a name":  "Content-Length : 5\r\n",
		"a folded line":      "X-A: 1\r\n 2\r\n",
		"a bare return":      "X-A: 1\rContent-Length: 5\r\n",
		"no colon":           "X-A\r\n",
		"an empty name":      ": 1\r\n",
		"a NUL":              "X-A: 1\x00\r\n",
		"a length of spaces": "Content-Length: 1 2\r\n",
	} {
		_, _, err := Request([]byte("POST /x HTTP/1.1\r\nHost: h\r\n" + fields + "\r\n"))
		assert.Error(t, err, name)
	}
	line, h, err := Request([]byte("POST /x HTTP/1.1\r\nHost: h\r\nContent-Length: 5\r\n\r\n"))
	require.NoError(t, err)
	assert.Equal(t, RequestLine{"POST", "/x", "HTTP/1.1"}, line)
	assert.EqualValues(t, 5, h.Declared)
	_, _, err = Request([]byte("POST /x y HTTP/1.1\r\n\r\n"))
	assert.Error(t, err)
}

// take runs the decoder over bytes that come in pieces of a size.
func take(src []byte, size int) (out []byte, rest int, ends int, err error) {
	var c Chunks
	at, have := 0, 0
	for {
		p, err := c.Next(src[at:have])
		if err != nil {
			return out, len(src) - at, ends, err
		}
		out = append(out, src[at+p.Skip:at+p.Skip+p.Data]...)
		at += p.Skip + p.Data
		if p.Ended {
			ends++
		}
		if c.Done() {
			return out, len(src) - at, ends, nil
		}
		if p == (Piece{}) {
			if have == len(src) {
				return out, len(src) - at, ends, io.ErrUnexpectedEOF
			}
			have = min(have+size, len(src))
		}
	}
}

func TestChunksAreTakenOffHoweverTheyCome(t *testing.T) {
	src := "3\r\nhel\r\n2;ext=1\r\nlo\r\n0\r\nX-Trailer: 1\r\n\r\nmore"
	for size := 1; size <= len(src); size++ {
		out, rest, ends, err := take([]byte(src), size)
		require.NoError(t, err)
		assert.Equal(t, "hello", string(out))
		assert.LessOrEqual(t, rest, len("more"))
		assert.Equal(t, 2, ends)
	}
	for name, bad := range map[string]string{
		"no size": "hello\r\n", "negative": "-5\r\n", "longer than said": "2\r\nhello\r\n",
		"too large":          "ffffffffffffffffffff\r\n",
		"an endless size":    strings.Repeat("0", maxLine+2),
		"an endless trailer": "0\r\n" + strings.Repeat("X-A: 1\r\n", MaxHead/8+2),
		"a trailer line":     "0\r\n" + strings.Repeat("x", MaxHead+2),
	} {
		_, _, _, err := take([]byte(bad), 7)
		assert.Error(t, err, name)
		assert.NotErrorIs(t, err, io.ErrUnexpectedEOF, name)
	}
}

// What another implementation takes, this one reads the same way.
func FuzzChunks(f *testing.F) {
	f.Add([]byte("3\r\nhel\r\n0\r\n\r\n"), 1)
	f.Add([]byte("0\r\nA: b\r\n\r\n"), 3)
	f.Fuzz(func(t *testing.T, src []byte, size int) {
		mine, _, _, err := take(src, 1+size&0xff)
		other, oerr := io.ReadAll(httputil.NewChunkedReader(bytes.NewReader(src)))
		if err == nil && oerr == nil && !bytes.Equal(mine, other) {
			t.Fatalf("%q: %q, another reads %q", src, mine, other)
		}
	})
}

func FuzzHeads(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nA: b\r\n\r\n"))
	f.Add([]byte("POST / HTTP/1.1\r\nContent-Length: 3\r\n\r\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		if end := HeadEnd(src); end > len(src) {
			t.Fatal(end)
		}
		if h, err := Response(src); err == nil {
			for _, f := range h.Fields {
				_ = src[f.Span.Offset : f.Span.Offset+f.Span.Length]
			}
		}
		_, _, _ = Request(src)
	})
}
