package call

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Messages as people wrote them down: a file of a request, of a reply, with or without its head.

// ErrNothing is what holds neither a request nor a reply.
var ErrNothing = errors.New("there is neither a request nor a reply in it")

// ImportedFrom takes a request and a reply as files hold them, each with or
// without its head; either may be empty.
func ImportedFrom(request, reply []byte) (*Imported, error) {
	w := &Imported{alone: len(bytes.TrimSpace(reply)) == 0}
	request, reply = bytes.TrimPrefix(request, bom), bytes.TrimPrefix(reply, bom)
	if len(bytes.TrimSpace(request)) == 0 && len(bytes.TrimSpace(reply)) == 0 {
		return nil, ErrNothing
	}
	var made []string
	if len(bytes.TrimSpace(request)) > 0 {
		line, fields, body := cutHead(request)
		w.Header, w.Body = fields, body
		if line == "" {
			made = append(made, "request")
		} else if p := strings.Fields(line); len(p) >= 2 {
			w.Method, w.URL = p[0], p[1]
			if !strings.Contains(w.URL, "://") {
				w.URL = "http://" + field(fields, "Host") + p[1]
			}
		}
	}
	if len(bytes.TrimSpace(reply)) > 0 {
		if at := bytes.TrimLeft(reply, "\r\n"); bytes.HasPrefix(at, []byte("HTTP/")) {
			reply = at // a line was left before it as it was written down
		}
		line, fields, body := cutLines(reply)
		if w.madeHead = line == ""; w.madeHead {
			made = append(made, "reply")
		}
		w.Reply = replyOf(line, fields, body)
	}
	if len(made) > 0 {
		w.Made = "the head of the " + strings.Join(made, " and of the ")
	}
	return w, nil
}

//nolint:gochecknoglobals // a table: it is never written to
var bom = []byte("\xef\xbb\xbf")

// cutHead cuts an HTTP message: its first line and its fields, which are "" and
// nil where it begins with the body.
func cutHead(b []byte) (line string, fields [][2]string, body []byte) {
	line, lines, body := cutLines(b)
	for _, l := range lines {
		if l.name != "" {
			fields = append(fields, [2]string{l.name, l.value})
		}
	}
	return line, fields, body
}

// headLine is a line of a head, or a field of several lines.
type headLine struct {
	name, value string // "" it has no colon
	raw         string // as it is written, without its end
}

// cutLines is cutHead with each line as it is written.
func cutLines(b []byte) (line string, lines []headLine, body []byte) {
	first, rest, _ := bytes.Cut(b, []byte("\n"))
	if f := strings.TrimSpace(string(first)); !strings.HasPrefix(f, "HTTP/") && !strings.Contains(f, " HTTP/") {
		return "", nil, b
	}
	line = strings.TrimSpace(string(first))
	for {
		var l []byte
		var more bool
		l, rest, more = bytes.Cut(rest, []byte("\n"))
		text := strings.TrimRight(string(l), "\r")
		if text == "" {
			return line, lines, rest
		}
		name, value, ok := strings.Cut(text, ":")
		switch n := len(lines); {
		case n > 0 && (text[0] == ' ' || text[0] == '\t'): // RFC 9112 §5.2
			lines[n-1].raw += "\r\n" + text
			lines[n-1].value += " " + strings.TrimSpace(text)
		case ok:
			lines = append(lines, headLine{strings.TrimSpace(name), strings.TrimSpace(value), text})
		case more: // else the file ends within it
			lines = append(lines, headLine{raw: text})
		}
		if !more {
			return line, lines, nil
		}
	}
}

func field(fields [][2]string, name string) string {
	for _, f := range fields {
		if strings.EqualFold(f[0], name) {
			return f[1]
		}
	}
	return ""
}

// ReplyOf writes a reply as it crossed. Where there is no head, one is made that
// the body can have had; codings that the body does not have any more, as a tool
// took them off that wrote it down, are left out.
func ReplyOf(line string, fields [][2]string, body []byte) []byte {
	lines := make([]headLine, 0, len(fields))
	for _, f := range fields {
		lines = append(lines, headLine{f[0], f[1], f[0] + ": " + f[1]})
	}
	return replyOf(line, lines, body)
}

func replyOf(line string, lines []headLine, body []byte) []byte {
	var out bytes.Buffer
	if line == "" {
		line = "HTTP/1.1 200 OK"
		kind := "text/plain"
		doc, _ := xmltree.Parse(body, xmltree.Limits{})
		switch e := soap.Read(doc); {
		case contract.LooksLikeHTML(body):
			kind = "text/html"
		case e != nil:
			kind = e.Version.MediaType()
			if e.Fault != nil {
				line = "HTTP/1.1 500 Internal Server Error"
			}
		case bytes.HasPrefix(bytes.TrimSpace(body), []byte("<")):
			kind = "text/xml"
		}
		lines = []headLine{{"Content-Type", kind, "Content-Type: " + kind}}
	}
	fmt.Fprintf(&out, "%s\r\n", line)
	length := false
	coded := slices.ContainsFunc(lines, func(f headLine) bool {
		return strings.EqualFold(f.name, "Content-Encoding") && f.value != ""
	})
	for _, f := range lines {
		switch strings.ToLower(f.name) {
		case "transfer-encoding":
			if strings.EqualFold(f.value, "chunked") && !chunked(body) {
				continue
			}
			length = true
		case "content-encoding":
			if strings.Contains(strings.ToLower(f.value), "gzip") && !bytes.HasPrefix(body, []byte{0x1f, 0x8b}) ||
				!strings.EqualFold(f.value, "identity") && bytes.HasPrefix(bytes.TrimSpace(body), []byte("<")) {
				continue
			}
		case "content-length":
			length = true
			if coded && bytes.HasPrefix(bytes.TrimSpace(body), []byte("<")) {
				length = false // of the coded body
				continue
			}
		}
		fmt.Fprintf(&out, "%s\r\n", f.raw)
	}
	if !length {
		fmt.Fprintf(&out, "Content-Length: %d\r\n", len(body))
	}
	out.WriteString("\r\n")
	out.Write(body)
	return out.Bytes()
}

// chunked tells whether a body begins as one in chunks does (RFC 9112 §7.1).
func chunked(body []byte) bool {
	line, _, ok := bytes.Cut(body, []byte("\n"))
	size, _, _ := strings.Cut(strings.TrimSpace(string(line)), ";")
	_, err := strconv.ParseUint(size, 16, 63)
	return ok && err == nil
}
