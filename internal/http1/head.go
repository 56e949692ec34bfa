// Package http1 is the framing of HTTP/1.1 (RFC 9112): heads, lengths and chunks.
// It reads them as they came, with the place of each line, and writes nothing.
package http1

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/exchange"
)

// MaxHead is how many bytes of a head, or of the trailer section behind a body,
// are read.
const MaxHead = 64 << 10

// ErrTooLarge means that a head, a trailer section or a line between chunks is
// larger than is read.
var ErrTooLarge = errors.New("the head, or a line between chunks, is larger than is taken")

// HeadEnd is the length in bytes of the head that b begins with, its empty line
// included, or 0 where that has not come yet.
func HeadEnd(b []byte) int {
	crlf, head := bytes.Index(b, []byte("\r\n\r\n")), b
	if crlf >= 0 {
		head = b[:crlf] // what is behind it is no head
	}
	switch lf := bytes.Index(head, []byte("\n\n")); {
	case lf >= 0:
		return lf + 2
	case crlf >= 0:
		return crlf + 4
	}
	return 0
}

// lines gives the lines of a head with their places, without their ends.
func lines(text string, each func(line string, span exchange.Span) error) error {
	for at := 0; at < len(text); {
		end := strings.IndexByte(text[at:], '\n')
		if end < 0 {
			return nil
		}
		line := strings.TrimSuffix(text[at:at+end], "\r")
		if err := each(line, exchange.Span{Offset: int64(at), Length: int64(len(line))}); err != nil {
			return err
		}
		at += end + 1
	}
	return nil
}

// folded appends a line that goes on with the field before it (RFC 9112 §5.2).
func folded(h *exchange.Head, line string, span exchange.Span) bool {
	if line == "" || line[0] != ' ' && line[0] != '\t' || len(h.Fields) == 0 {
		return false
	}
	f := &h.Fields[len(h.Fields)-1]
	f.Value += " " + strings.TrimSpace(line)
	f.Span.Length = span.Offset + span.Length - f.Span.Offset
	return true
}

// Response reads a response head (RFC 9112 §4, §5) leniently: what is read is what a service said, right or
// wrong, and what is wrong with it is among its flaws. An error means that it has no status.
func Response(b []byte) (*exchange.Head, error) {
	text := string(b)
	h := &exchange.Head{Size: int64(len(b)), Declared: -1, Complete: true}
	h.Fields = make([]exchange.Header, 0, strings.Count(text, "\n"))
	first := true
	err := lines(text, func(line string, span exchange.Span) error {
		if first {
			first = false
			h.Line = line
			proto, rest, _ := strings.Cut(line, " ")
			code, _, _ := strings.Cut(rest, " ")
			status, err := strconv.Atoi(code)
			if err != nil || status < 100 || status > 999 {
				return fmt.Errorf("the status line %q holds no status", line)
			}
			h.Proto, h.Status = proto, status
			return nil
		}
		if line == "" {
			return nil
		}
		if folded(h, line, span) {
			flaw(h, span, "a line goes on with the field before it")
			return nil
		}
		h.Fields = append(h.Fields, field(h, line, span))
		return nil
	})
	if err != nil {
		return nil, err
	}
	measure(h)
	return h, nil
}

// field reads a line of a response's head.
func field(h *exchange.Head, line string, span exchange.Span) exchange.Header {
	name, value, ok := strings.Cut(line, ":")
	switch {
	case !ok:
		name, value = "", line
		flaw(h, span, "a line has no colon, and so is no field")
	case !isToken(name) && isToken(strings.TrimSpace(name)):
		flaw(h, span, "white space stands between a field's name and its colon")
	case !isToken(name):
		flaw(h, span, "a field's name has characters that no name has")
	case strings.ContainsAny(value, "\r\x00"):
		flaw(h, span, "a field's value holds a control character")
	}
	return exchange.Header{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value), Span: span}
}

// maxFlaws is how many flaws of one head are told apart.
const maxFlaws = 16

// flaw notes what is wrong with a head, each kind once.
func flaw(h *exchange.Head, at exchange.Span, what string) {
	if len(h.Flaws) < maxFlaws && !slices.ContainsFunc(h.Flaws, func(f exchange.Flaw) bool { return f.What == what }) {
		h.Flaws = append(h.Flaws, exchange.Flaw{What: what, Span: at})
	}
}

// measure finds how long the body of a response is (RFC 9112 §6.3): the first length that can be one, and no
// length beside chunks.
func measure(h *exchange.Head) {
	lengths, first := 0, ""
	for _, f := range h.Fields {
		switch {
		case strings.EqualFold(f.Name, "Content-Length"):
			n, err := strconv.ParseInt(f.Value, 10, 64)
			if lengths++; err != nil || n < 0 || strings.Trim(f.Value, "0123456789") != "" {
				flaw(h, f.Span, fmt.Sprintf("a length of %.40q is none", f.Value))
				continue
			}
			if h.Declared < 0 {
				h.Declared, first = n, f.Value
			} else if n != h.Declared {
				flaw(h, f.Span, fmt.Sprintf("two lengths are declared, %s and %.40s", first, f.Value))
			}
		case strings.EqualFold(f.Name, "Transfer-Encoding"):
			if Says(f.Value, "chunked") {
				h.Chunked = true
			}
			if !strings.EqualFold(f.Value, "chunked") {
				flaw(h, f.Span, fmt.Sprintf("the transfer coding is %.40q; programs know chunked", f.Value))
			}
		}
	}
	if !h.Chunked {
		return
	}
	if h.Declared = -1; lengths > 0 {
		flaw(h, h.Field("Content-Length").Span, "a length is declared beside chunks")
	}
}

// RequestLine is the first line of a request.
type RequestLine struct {
	Method, Target, Proto string // as written; protocol and version, HTTP/1.1
}

// ParseRequestLine reads the first line of a request, without its end.
func ParseRequestLine(text string) (RequestLine, error) {
	parts := strings.Split(text, " ")
	if len(parts) != 3 || !isToken(parts[0]) || parts[1] == "" || !strings.HasPrefix(parts[2], "HTTP/1.") {
		return RequestLine{}, fmt.Errorf("%.80q is no request line of HTTP/1.1", text)
	}
	return RequestLine{parts[0], parts[1], parts[2]}, nil
}

// Request reads a request head strictly (RFC 9112 §3, §5, §6.3): one that two
// programs could read in two ways is refused, so that nothing is smuggled through.
func Request(b []byte) (line RequestLine, h *exchange.Head, err error) {
	h = &exchange.Head{Size: int64(len(b)), Declared: -1, Complete: true}
	first := true
	err = lines(string(b), func(text string, span exchange.Span) error {
		switch {
		case strings.ContainsAny(text, "\r\x00"): // a bare CR: RFC 9112 §2.2
			return fmt.Errorf("%.80q is no header field", text)
		case first:
			first = false
			line, err = ParseRequestLine(text)
			h.Line, h.Proto = text, line.Proto
			return err
		case text == "":
			return nil
		}
		name, value, ok := strings.Cut(text, ":")
		if !ok || !isToken(name) { // a folded line and a name with blanks too (§5.1, §5.2)
			return fmt.Errorf("%.80q is no header field", text)
		}
		h.Fields = append(h.Fields, exchange.Header{Name: name, Value: strings.TrimSpace(value), Span: span})
		return nil
	})
	if err != nil {
		return line, nil, err
	}
	return line, h, frame(h)
}

// frame finds how long the body of a request is.
func frame(h *exchange.Head) error {
	var lengths []string
	codings := 0
	for _, f := range h.Fields {
		switch strings.ToLower(f.Name) {
		case "content-length":
			lengths = append(lengths, f.Value)
		case "transfer-encoding":
			if codings++; !strings.EqualFold(f.Value, "chunked") {
				return fmt.Errorf("the transfer coding %.40q is not taken", f.Value)
			}
			h.Chunked = true
		}
	}
	switch {
	case codings > 1:
		return errors.New("the transfer coding is named twice")
	case h.Chunked && len(lengths) > 0:
		return errors.New("a length and chunks together are not taken")
	case h.Chunked || len(lengths) == 0:
		return nil
	case len(lengths) > 1:
		return fmt.Errorf("%d lengths are declared; one is taken", len(lengths))
	case lengths[0] == "" || strings.Trim(lengths[0], "0123456789") != "":
		return fmt.Errorf("a length of %.40q is not taken", lengths[0])
	}
	n, err := strconv.ParseInt(lengths[0], 10, 64)
	if err != nil {
		return fmt.Errorf("a length of %.40q is not taken", lengths[0])
	}
	h.Declared = n
	return nil
}

// isToken tells whether a text is a token (RFC 9110 §5.6.2).
func isToken(s string) bool {
	for i := range len(s) {
		c := s[i]
		letter := 'a' <= c|0x20 && c|0x20 <= 'z'
		if !letter && (c < '0' || c > '9') && strings.IndexByte("!#$%&'*+-.^_`|~", c) < 0 {
			return false
		}
	}
	return s != ""
}

// Says tells whether a field whose value is a list of words has one of them.
func Says(value, word string) bool {
	return slices.ContainsFunc(strings.Split(value, ","), func(s string) bool {
		return strings.EqualFold(strings.TrimSpace(s), word)
	})
}
