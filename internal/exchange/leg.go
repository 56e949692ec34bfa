package exchange

import (
	"time"

	"orenda/internal/related"
)

// Leg is one crossing of the wire: one request and what came back for it.
type Leg struct {
	Purpose  string     `json:"purpose,omitempty"` // "" the call itself; "redirect", "challenge", …
	Conn     Connection `json:"connection"`        // the connection that it used
	Request  Head       `json:"request"`           // head of the request
	Response Head       `json:"response"`          // head of the response

	Out []byte `json:"out,omitempty"` // as written above TLS: head, then body
	In  Body   `json:"in,omitzero"`   // as read above TLS

	RequestBody  []byte `json:"requestBody,omitempty"` // without transfer coding
	ResponseBody Body   `json:"responseBody,omitzero"` // without transfer and content coding
	SecretSpans  []Span `json:"secretSpans,omitempty"` // in Out
	BodySecrets  []Span `json:"-"`                     // in RequestBody
	Cuts         []Cut  `json:"cuts,omitempty"`        // what was cut out there, in a record that is kept

	Parts     []related.Part `json:"parts,omitempty"`     // of ResponseBody, where it is multipart/related
	Decrypted []byte         `json:"decrypted,omitempty"` // the response body as it was before it was encrypted
	Whole     int64          `json:"whole,omitempty"`     // length of In as it came, where only its beginning is kept

	ChunkEnds []int64 `json:"chunkEnds,omitempty"` // offsets in In at which a chunk ended
	Truncated bool    `json:"truncated,omitempty"` // the body ended before its time
	HeadAt    int64   `json:"headAt,omitempty"`    // where the response's head begins in In: behind interim answers
	Behind    int64   `json:"behind,omitempty"`    // bytes of In that came behind the end that the response declares

	Apart []Apart `json:"apart,omitempty"` // runs of bytes that are kept beside the record

	spill  Spill // where what is too large for memory goes
	bodyAt int64 // where ResponseBody begins in In, below zero where it has bytes of its own
}

// AnswerHead is the head of the response as it came.
func (l *Leg) AnswerHead() []byte { return l.In.Range(l.HeadAt, l.BodyAt()) }

// BodyAt is where what follows the head of the response begins in In.
func (l *Leg) BodyAt() int64 { return l.HeadAt + l.Response.Size }

// Spill says where the bytes of a reply go that are too many for memory.
type Spill struct {
	Beyond int64                   // bytes that stay in memory; 0: all of them
	Own    int64                   // where Beyond is 0: the same of what came, once the body has bytes of its own
	Open   func() (Storage, error) // makes the place for the others
}

// Head is the head of a request or response as it crossed.
type Head struct {
	Line      string   `json:"line"`               // request line or status line
	Status    int      `json:"status,omitempty"`   // HTTP status code
	Proto     string   `json:"proto,omitempty"`    // protocol and version, HTTP/1.1
	Fields    []Header `json:"fields,omitempty"`   // in the order in which they crossed
	Size      int64    `json:"size"`               // bytes, the empty line included
	BodySize  int64    `json:"bodySize"`           // bytes of body delivered, codings removed
	WireSize  int64    `json:"wireSize,omitempty"` // bytes of body as they crossed
	Declared  int64    `json:"declared"`           // Content-Length, or -1
	Complete  bool     `json:"complete"`           // the head was read whole
	BodyWhole bool     `json:"bodyWhole"`          // the body was delivered whole
	Chunked   bool     `json:"chunked,omitempty"`  // sent in chunks
	Coding    string   `json:"coding,omitempty"`   // content coding that was removed

	Flaws []Flaw `json:"flaws,omitempty"` // what of a response's head is not as HTTP has it
}

// Flaw is something in a head that HTTP forbids, and that some programs read and some refuse.
type Flaw struct {
	What string `json:"what"` // a clause: "a line has no colon"
	Span Span   `json:"span"` // of its line in the head
}

// Header is one header field with the place of its line in the head.
type Header struct {
	Name  string `json:"name"`  // as spelled
	Value string `json:"value"` // without blanks around
	Span  Span   `json:"span"`  // of its line in the head
}

// Get is the first value of a field, by its case-insensitive name.
func (h *Head) Get(name string) string {
	for _, f := range h.Fields {
		if equalFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}

// Field is the first field of that name, or nil.
func (h *Head) Field(name string) *Header {
	for i := range h.Fields {
		if equalFold(h.Fields[i].Name, name) {
			return &h.Fields[i]
		}
	}
	return nil
}

func equalFold(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range len(a) {
		x, y := a[i], b[i]
		if 'A' <= x && x <= 'Z' {
			x += 32
		}
		if 'A' <= y && y <= 'Z' {
			y += 32
		}
		if x != y {
			return false
		}
	}
	return true
}

// Connection is what is known of the connection that a leg used.
type Connection struct {
	Host     string   `json:"host,omitempty"`     // name and port as asked for
	Proxy    string   `json:"proxy,omitempty"`    // what was connected to in its place, without user and password
	Local    string   `json:"local,omitempty"`    // own address
	Remote   string   `json:"remote,omitempty"`   // address of the peer
	Resolved []string `json:"resolved,omitempty"` // addresses of the name
	Origin   string   `json:"origin,omitempty"`   // from where these are, where no name server gave them
	Tried    []Tried  `json:"tried,omitempty"`    // addresses in the order of trying
	Reused   bool     `json:"reused,omitempty"`   // a kept connection was taken
	TLS      *TLSInfo `json:"tls,omitempty"`      // what the handshake showed; nil without TLS
}

// Tried is an address that was dialled.
type Tried struct {
	Address string `json:"address"`         // as the contract names it
	Error   string `json:"error,omitempty"` // why not, "" it connected
	TookNs  int64  `json:"tookNs"`          // nanoseconds
}

// TLSInfo is what a handshake showed.
type TLSInfo struct {
	Version    string     `json:"version,omitempty"`          // "TLS 1.3"
	Cipher     string     `json:"cipher,omitempty"`           // IANA name of the cipher suite
	ServerName string     `json:"serverName,omitempty"`       // name that was asked for
	Chain      [][]byte   `json:"chain,omitempty"`            // DER, as sent, leaf first
	Trusted    string     `json:"trusted,omitempty"`          // by what the chain is trusted, "" it is not
	CertAsked  bool       `json:"certificateAsked,omitempty"` // the server asked for a certificate
	Issuers    []string   `json:"acceptedIssuers,omitempty"`  // authorities that the server accepts
	CertSent   bool       `json:"certificateSent,omitempty"`  // one was sent
	Alert      string     `json:"alert,omitempty"`            // the peer's, in words
	Protocol   string     `json:"protocol,omitempty"`         // ALPN
	Stapled    int        `json:"stapled,omitempty"`          // bytes of a stapled OCSP response
	Standing   []Standing `json:"standing,omitempty"`         // of the certificates, where it was asked for
	Timestamps int        `json:"timestamps,omitempty"`       // signed certificate timestamps in the handshake
	Completed  [][]byte   `json:"completed,omitempty"`        // the chain as it was completed, where it was
	HelloIn    []byte     `json:"helloIn,omitempty"`          // first bytes that came beneath TLS
}

// Standing is whether a certificate was revoked.
type Standing struct {
	Subject string    `json:"subject"`          // of the certificate
	Serial  string    `json:"serial"`           // hexadecimal
	State   string    `json:"state"`            // good, revoked, unknown, unreached or nowhere
	How     string    `json:"how,omitempty"`    // stapled, asked or list
	From    string    `json:"from,omitempty"`   // address of the responder, or of the list
	When    time.Time `json:"when,omitzero"`    // it was revoked
	Reason  string    `json:"reason,omitempty"` // why, in words
	Until   time.Time `json:"until,omitzero"`   // the answer is good
	Why     string    `json:"why,omitempty"`    // why it is not known
}

// The states of a certificate.
const (
	StandingGood      = "good"
	StandingRevoked   = "revoked"
	StandingUnknown   = "unknown"   // the answer says nothing about it, or cannot be believed
	StandingUnreached = "unreached" // who could tell does not answer
	StandingNowhere   = "nowhere"   // nobody is named who could tell
)

// String is the standing in words.
func (s *Standing) String() string {
	by := map[string]string{"stapled": "as the server's stapled answer says", "asked": "as " + s.From + " says",
		"list": "as the list at " + s.From + " says"}[s.How]
	switch s.State {
	case StandingGood:
		if !s.Until.IsZero() {
			by += ", until " + s.Until.Format("2006-01-02 15:04 UTC")
		}
		return "not revoked, " + by
	case StandingRevoked:
		return "revoked on " + s.When.Format("2006-01-02 15:04 UTC") + " (" + s.Reason + "), " + by
	case StandingUnreached:
		return "not known: " + s.From + " was not reached: " + s.Why
	}
	return "not known: " + s.Why
}

// Readable is the response body as people read it: decrypted where it was
// encrypted, the envelope's part where there are several.
func (l *Leg) Readable() []byte {
	if l.Decrypted != nil {
		return l.Decrypted
	}
	body := l.ResponseBody.Bytes()
	if root := l.Root(); root != nil {
		if b, err := root.Content(body); err == nil {
			return b
		}
	}
	return body
}

// Sent is the message that was sent: the envelope's part where there are several.
func (l *Leg) Sent() []byte {
	message, _ := l.SentAt()
	return message
}

// SentAt is Sent, and where it begins in RequestBody; -1 where it does not stand there as it is, as its
// part is encoded.
func (l *Leg) SentAt() (message []byte, at int) {
	media := l.Request.Get("Content-Type")
	if !related.Is(media) {
		return l.RequestBody, 0
	}
	p, err := related.Root(media, l.RequestBody)
	if err != nil {
		return l.RequestBody, 0
	}
	return p.In(l.RequestBody)
}

// SentMedia is the media type of that message, with its charset.
func (l *Leg) SentMedia() string {
	media := l.Request.Get("Content-Type")
	if related.Is(media) {
		if p, err := related.Root(media, l.RequestBody); err == nil {
			return p.Type
		}
	}
	return media
}

// Root is the part of the response that holds the envelope, nil where it is not
// in parts.
func (l *Leg) Root() *related.Part {
	for i := range l.Parts {
		if l.Parts[i].Root {
			return &l.Parts[i]
		}
	}
	return nil
}

// Stored tells whether the response body lies in a storage: too large for a tree.
func (l *Leg) Stored() bool { return l.ResponseBody.Stored() }

// BodyCut tells whether only the beginning of the response body is kept.
func (l *Leg) BodyCut() bool { return l.Whole > 0 && l.ResponseBody.Len() < l.Response.BodySize }
