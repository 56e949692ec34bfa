package soap

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"mime"
	"strings"
)

// XOP is the namespace of the element that stands for a part (XOP 1.0 §2.1).
const XOP = "http://www.w3.org/2004/08/xop/include"

// The packagings of a message with attachments.
const (
	MTOM        = "mtom" // MTOM and XOP: binary values travel as parts of their own
	Attachments = "swa"  // SOAP Messages with Attachments: parts beside the envelope
)

// Attached is a part that is sent with an envelope.
type Attached struct {
	ID, Type string // Content-ID; media type
	Name     string // of the file
	Content  []byte // bytes of the file
}

// Package puts an envelope and its parts together, as MTOM or as SOAP with
// Attachments. It gives the content type, the body, and where the envelope begins
// in it. An action is a parameter of SOAP 1.2's media type.
func Package(
	kind string,
	v Version,
	charset, action string,
	envelope []byte,
	parts []Attached,
) (contentType string, body []byte, at int) {
	var r [12]byte
	_, _ = rand.Read(r[:])
	boundary, root := "orenda-"+hex.EncodeToString(r[:]), "envelope@"+hex.EncodeToString(r[:4])
	media := v.MediaType()
	inner, outer := media+"; charset="+charset, ""
	start := ""
	if v == V12 && action != "" {
		start = `; action="` + strings.ReplaceAll(action, `"`, `\"`) + `"`
	}
	if kind == MTOM {
		inner = fmt.Sprintf(`application/xop+xml; charset=%s; type="%s"`, charset, media)
		outer = fmt.Sprintf(
			`multipart/related; type="application/xop+xml"; start="<%s>"; start-info="%s"; boundary="%s"`,
			root,
			media,
			boundary,
		)
	} else {
		outer = fmt.Sprintf(`multipart/related; type="%s"; start="<%s>"; boundary="%s"`, media, root, boundary)
	}
	var b bytes.Buffer
	size := len(envelope) + 512
	for _, p := range parts {
		size += len(p.Content) + 512
	}
	b.Grow(size)
	fmt.Fprintf(
		&b,
		"--%s\r\nContent-Type: %s%s\r\nContent-Transfer-Encoding: 8bit\r\nContent-ID: <%s>\r\n\r\n",
		boundary,
		inner,
		start,
		root,
	)
	at = b.Len()
	b.Write(envelope)
	for _, p := range parts {
		fmt.Fprintf(
			&b,
			"\r\n--%s\r\nContent-Type: %s\r\nContent-Transfer-Encoding: binary\r\nContent-ID: <%s>\r\n",
			boundary,
			oneLine(p.Type),
			oneLine(p.ID),
		)
		if p.Name != "" {
			fmt.Fprintf(
				&b,
				"Content-Disposition: %s\r\n",
				mime.FormatMediaType("attachment", map[string]string{"filename": p.Name}),
			)
		}
		b.WriteString("\r\n")
		b.Write(p.Content)
	}
	fmt.Fprintf(&b, "\r\n--%s--\r\n", boundary)
	return outer + start, b.Bytes(), at
}

func oneLine(s string) string { return strings.NewReplacer("\r", "", "\n", "").Replace(s) }
