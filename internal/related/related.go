// Package related reads and writes MIME messages of several parts that belong
// together (multipart/related, RFC 2387). It knows nothing of what the parts say.
package related

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net/textproto"
	"slices"
	"strings"
)

// Part is a part of a multipart/related message (RFC 2387).
type Part struct {
	ID       string `json:"id,omitempty"`       // Content-ID without its angle brackets
	Type     string `json:"type,omitempty"`     // Content-Type
	Coding   string `json:"coding,omitempty"`   // Content-Transfer-Encoding
	Location string `json:"location,omitempty"` // Content-Location
	Name     string `json:"name,omitempty"`     // file name of the Content-Disposition
	Root     bool   `json:"root,omitempty"`     // the envelope is in it
	Start    int    `json:"start"`              // where its content begins in the message's body
	End      int    `json:"end"`                // and where it ends
}

// Error is what is wrong with such a message, at an offset of its
// body.
type Error struct {
	Offset int    // in bytes, from 0
	Why    string // in plain words, without the place
}

func (e *Error) Error() string { return e.Why }

// Is tells whether a content type is multipart/related.
func Is(contentType string) bool {
	t, _, _ := mime.ParseMediaType(contentType)
	return t == "multipart/related" ||
		strings.HasPrefix(strings.ToLower(strings.TrimSpace(contentType)), "multipart/related")
}

// maxParts is how many parts a message may have.
const maxParts = 10000

// Split takes a multipart/related body apart (RFC 2046 §5.1.1, RFC 2387): its
// parts by their places, one of which is the root. Nothing is copied.
func Split(contentType string, body []byte) ([]Part, error) { return split(contentType, body, false) }

// Root is the part that holds the envelope, also of a body of which only the beginning is there: it may
// then end where that does.
func Root(contentType string, body []byte) (Part, error) {
	parts, err := split(contentType, body, true)
	for _, p := range parts {
		if p.Root {
			return p, nil
		}
	}
	return Part{}, err
}

// split takes it apart; of one that was cut off, as far as it is there, where that is asked for.
func split(contentType string, body []byte, cut bool) ([]Part, error) {
	_, params, err := mime.ParseMediaType(contentType)
	if err != nil {
		return nil, &Error{0, "the content type cannot be read: " + err.Error()}
	}
	if params["boundary"] == "" {
		return nil, &Error{0, "the content type names no boundary"}
	}
	line := []byte("--" + params["boundary"])
	at := bytes.Index(body, line)
	if at < 0 || at > 0 && body[at-1] != '\n' {
		return nil, &Error{0, fmt.Sprintf("the boundary %q is not in the body", params["boundary"])}
	}
	var parts []Part
	for {
		at += len(line)
		if bytes.HasPrefix(body[at:], []byte("--")) {
			break
		}
		end := bytes.IndexByte(body[at:], '\n')
		if end < 0 {
			return parts, &Error{at, "the last boundary is not there: the message was cut off"}
		}
		at += end + 1
		next := bytes.Index(body[at:], append([]byte("\n"), line...))
		if next < 0 && cut {
			parts = append(parts, part(body, at, len(body)))
			break
		}
		if next < 0 {
			return parts, &Error{at, fmt.Sprintf("part %d has no end: the message was cut off", len(parts)+1)}
		}
		next += at
		stop := next
		if stop > at && body[stop-1] == '\r' {
			stop--
		}
		if len(parts) == maxParts {
			return parts, &Error{at, fmt.Sprintf("there are more than %d parts", maxParts)}
		}
		parts = append(parts, part(body, at, stop))
		at = next + 1
	}
	if len(parts) == 0 {
		return nil, &Error{at, "there is no part in it"}
	}
	return parts, markRoot(parts, bare(params["start"]))
}

// markRoot finds the part in which the envelope is: the one that start names, or the first (RFC 2387 §3.2).
func markRoot(parts []Part, start string) error {
	root := 0
	if start != "" {
		if root = slices.IndexFunc(parts, func(p Part) bool { return p.ID == start }); root < 0 {
			return &Error{0, fmt.Sprintf("the part %q, in which the envelope is to be, is not there", start)}
		}
	}
	if other := envelopeElsewhere(parts, root); other > 0 {
		return &Error{parts[root].Start, fmt.Sprintf("the first part, in which the envelope is to be, is %s; "+
			"part %d is of the type of an envelope, and start does not name it", parts[root].Type, other+1)}
	}
	parts[root].Root = true
	return nil
}

// envelopeElsewhere is the index of the first part whose type is that of an envelope, where the one in which it is
// to be is of another; 0 else.
func envelopeElsewhere(parts []Part, root int) int {
	is := func(p Part) bool { return p.Type == "" || strings.Contains(strings.ToLower(p.Type), "xml") }
	if is(parts[root]) {
		return 0
	}
	return max(slices.IndexFunc(parts, func(p Part) bool { return p.Type != "" && is(p) }), 0)
}

func bare(id string) string {
	return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(id), "<"), ">")
}

// part reads the header fields of a part.
func part(body []byte, from, to int) Part {
	p := Part{Start: from, End: to}
	const maxHead = 16 << 10
	fields := textproto.MIMEHeader{}
	last := ""
	for at := from; at < to && at-from < maxHead; {
		n := bytes.IndexByte(body[at:to], '\n')
		l := body[at:to]
		if n >= 0 {
			l = body[at : at+n]
		}
		at += len(l) + 1
		l = bytes.TrimRight(l, "\r")
		if len(l) == 0 {
			p.Start = min(at, to)
			break
		}
		if (l[0] == ' ' || l[0] == '\t') && last != "" {
			fields[last][0] += " " + string(bytes.TrimSpace(l))
			continue
		}
		if name, value, ok := strings.Cut(string(l), ":"); ok {
			last = textproto.CanonicalMIMEHeaderKey(strings.TrimSpace(name))
			fields[last] = []string{strings.TrimSpace(value)}
		}
	}
	p.ID, p.Type, p.Location = bare(fields.Get("Content-ID")), fields.Get("Content-Type"), fields.Get(
		"Content-Location",
	)
	p.Coding = strings.ToLower(fields.Get("Content-Transfer-Encoding"))
	if _, params, err := mime.ParseMediaType(fields.Get("Content-Disposition")); err == nil {
		p.Name = params["filename"]
	}
	if _, params, err := mime.ParseMediaType(p.Type); err == nil && p.Name == "" {
		p.Name = params["name"]
	}
	return p
}

// Content is what a part holds, its transfer encoding removed (RFC 2045 §6).
func (p *Part) Content(body []byte) ([]byte, error) {
	if p.Start < 0 || p.End > len(body) || p.Start > p.End {
		return nil, errors.New("the part is not kept")
	}
	raw := body[p.Start:p.End]
	switch p.Coding {
	case "base64":
		return io.ReadAll(base64.NewDecoder(base64.StdEncoding, bytes.NewReader(bytes.Map(func(r rune) rune {
			if r == '\r' || r == '\n' || r == ' ' || r == '\t' {
				return -1
			}
			return r
		}, raw))))
	case "quoted-printable":
		return io.ReadAll(quotedprintable.NewReader(bytes.NewReader(raw)))
	}
	return raw, nil
}

// In is what the part holds, and where it begins in the body; -1 where it is encoded, and nothing where it cannot be
// decoded.
func (p *Part) In(body []byte) (content []byte, at int) {
	content, err := p.Content(body)
	switch {
	case err != nil:
		return nil, -1
	case len(content) > 0 && &content[0] != &body[p.Start]:
		return content, -1
	}
	return content, p.Start
}

// IsText tells whether the part is text of some kind by its media type.
func (p *Part) IsText() bool {
	media := strings.ToLower(p.Type)
	return strings.HasPrefix(media, "text/") || strings.Contains(media, "xml") || strings.Contains(media, "json") ||
		strings.Contains(media, "x-www-form-urlencoded")
}

// maxLine is how long a line of base64 is at most (RFC 2045 §6.8).
const maxLine = 76

// Write is a content as it stands in the part, in its transfer encoding.
func (p *Part) Write(content []byte) []byte {
	switch p.Coding {
	case "base64":
		var b bytes.Buffer
		for line := range slices.Chunk(base64.StdEncoding.AppendEncode(nil, content), maxLine) {
			if b.Len() > 0 {
				b.WriteString("\r\n")
			}
			b.Write(line)
		}
		return b.Bytes()
	case "quoted-printable":
		var b bytes.Buffer
		z := quotedprintable.NewWriter(&b)
		_, _ = z.Write(content) // into memory
		_ = z.Close()
		return b.Bytes()
	}
	return content
}

// Refers tells whether a reference names the part: by its Content-ID (RFC 2392) or
// its Content-Location (RFC 2557).
func (p *Part) Refers(href string) bool {
	if id, ok := strings.CutPrefix(href, "cid:"); ok {
		if p.ID == id {
			return true
		}
		plain, err := unescape(id)
		return err == nil && p.ID == plain
	}
	return href != "" && p.Location == href
}

func unescape(s string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b.WriteByte(s[i])
			continue
		}
		if i+2 >= len(s) {
			return "", errors.New("cut off")
		}
		c, err := hex.DecodeString(s[i+1 : i+3])
		if err != nil {
			return "", err
		}
		b.Write(c)
		i += 2
	}
	return b.String(), nil
}
