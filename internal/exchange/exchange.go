package exchange

import (
	"time"

	"orenda/internal/soap"
	"orenda/internal/spool"
)

// Exchange is the record of one call.
type Exchange struct {
	ID          string    `json:"id"`
	Kind        string    `json:"kind,omitempty"` // "" a call; "fetch" a description being fetched
	Workspace   string    `json:"workspace,omitempty"`
	Contract    string    `json:"contract,omitempty"`
	Operation   string    `json:"operation"`
	Draft       string    `json:"draft,omitempty"`
	Endpoint    string    `json:"endpoint"`
	Environment string    `json:"environment"`
	Started     time.Time `json:"started"`
	TotalNs     int64     `json:"totalNs"`
	Outcome     Outcome   `json:"outcome"`
	StoppedAt   Stage     `json:"stoppedAt,omitempty"`

	Stages   []StageRecord `json:"stages"`
	Settings []Setting     `json:"settings"`
	Findings []Finding     `json:"findings"`
	Memory   *Memory       `json:"memory,omitempty"` // of calls like it, where it failed
	Moments  []Moment      `json:"moments"`
	Legs     []*Leg        `json:"legs"`

	Changes []Change `json:"changes,omitempty"` // what was changed since the attempt before
	Inputs  []Input  `json:"inputs,omitempty"`  // the values that the draft was filled with
	Result  string   `json:"result,omitempty"`  // what tells this attempt from its neighbours
	Secrets []string `json:"-"`                 // the secret values themselves; never written
}

// Input is one value of the draft, by its path.
type Input struct {
	Path  string `json:"path"`
	Value string `json:"value"`
}

// StageRecord is how one stage went.
type StageRecord struct {
	Stage      Stage  `json:"stage"`
	State      State  `json:"state"`
	StartedNs  int64  `json:"startedNs"` // since Exchange.Started
	DurationNs int64  `json:"durationNs"`
	Facts      Facts  `json:"facts,omitempty"`
	Note       string `json:"note,omitempty"` // the stage in a few words, for one line
}

// Facts are what was seen at a stage, in the order in which it was seen.
type Facts []Fact

// Fact is one thing seen. Part, where set, leads to the bytes.
type Fact struct {
	Name  string
	Value string
	Part  Part
	Span  Span
}

// Setting is one value that was in force, with the layer that it came from.
type Setting struct {
	Key      string `json:"key"`
	Stage    Stage  `json:"stage"`
	Value    string `json:"value"`
	Template string `json:"template,omitempty"` // the value as written, where variables stand in it
	Source   string `json:"source"`
}

// Span is a range of byte offsets in a part.
type Span struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// Part names where evidence stands. Bodies are counted after transfer and
// content codings are removed.
type Part string

// The parts that evidence can be in.
const (
	InSettings     Part = "settings"
	InContract     Part = "contract"
	InDraft        Part = "draft"
	InRequestHead  Part = "request-head"
	InRequestBody  Part = "request-body"
	InResponseHead Part = "response-head"
	InResponseBody Part = "response-body"
	InCertificate  Part = "certificate"
)

// Direction tells bytes that left from bytes that came.
type Direction uint8

// Out is towards the service.
const (
	Out Direction = iota
	In
)

// MomentKind says what happened.
type MomentKind string

// The moments of a call. A moment is taken when the thing named had happened.
const (
	StageBegan    MomentKind = "stage-began"
	StageEnded    MomentKind = "stage-ended"
	Lookup        MomentKind = "lookup"  // Text: name; Addrs in Text2
	Dialing       MomentKind = "dialing" // Text: address
	DialFailed    MomentKind = "dial-failed"
	Connected     MomentKind = "connected" // Text: local and remote address
	Reused        MomentKind = "reused"    // a kept-alive connection was taken
	HelloSent     MomentKind = "hello-sent"
	HelloReceived MomentKind = "hello-received"
	ChainReceived MomentKind = "chain-received"
	CertAsked     MomentKind = "certificate-asked"
	Alert         MomentKind = "alert"
	Handshaken    MomentKind = "handshaken"
	BytesOut      MomentKind = "bytes-out" // Offset and N in the leg's Out bytes
	HandedOver    MomentKind = "handed-over"
	FirstByte     MomentKind = "first-byte"
	BytesIn       MomentKind = "bytes-in" // Offset and N in the leg's In bytes
	HeadComplete  MomentKind = "head-complete"
	LimitFell     MomentKind = "limit" // a limit cut the reading off here
	Closed        MomentKind = "closed"
)

// Moment is one thing that happened, with the time since Exchange.Started.
type Moment struct {
	At     int64      `json:"at"`
	Kind   MomentKind `json:"kind"`
	Leg    int        `json:"leg"`
	Stage  Stage      `json:"stage,omitempty"`
	Offset int64      `json:"offset,omitempty"`
	N      int64      `json:"n,omitempty"`
	Text   string     `json:"text,omitempty"`
}

// Leg is one crossing of the wire: one request and what came back for it.
type Leg struct {
	Purpose  string     `json:"purpose,omitempty"` // "" the call itself; "redirect", "challenge", …
	Conn     Connection `json:"connection"`
	Request  Head       `json:"request"`
	Response Head       `json:"response"`

	Out []byte `json:"out,omitempty"` // as written above TLS: head, then body
	In  []byte `json:"in,omitempty"`  // as read above TLS

	RequestBody  []byte `json:"requestBody,omitempty"`  // without transfer coding
	ResponseBody []byte `json:"responseBody,omitempty"` // without transfer and content coding
	SecretSpans  []Span `json:"secretSpans,omitempty"`  // in Out
	BodySecrets  []Span `json:"-"`                      // in RequestBody
	Cuts         []Cut  `json:"cuts,omitempty"`         // what was cut out there, in a record that is kept

	Spill     int64        `json:"-"`                   // bytes of In beyond which what comes is kept on disk; 0: never
	SpillMost int64        `json:"-"`                   // the most that is kept so
	Spool     *spool.Spool `json:"-"`                   // where In is, beyond that
	BodySpool *spool.Spool `json:"-"`                   // where ResponseBody is, where it is not a part of In
	Parts     []soap.Part  `json:"parts,omitempty"`     // of ResponseBody, where it is multipart/related
	Decrypted []byte       `json:"decrypted,omitempty"` // the response body as it was before it was encrypted
	Whole     int64        `json:"whole,omitempty"`     // length of In as it came, where only its beginning is kept

	ChunkEnds []int64 `json:"chunkEnds,omitempty"` // offsets in In at which a chunk ended
	Truncated bool    `json:"truncated,omitempty"` // the body ended before its time
}

// Head is the head of a request or response as it crossed.
type Head struct {
	Line       string   `json:"line"` // request line or status line
	Status     int      `json:"status,omitempty"`
	Proto      string   `json:"proto,omitempty"`
	Fields     []Header `json:"fields,omitempty"`
	Size       int64    `json:"size"`               // bytes, the empty line included
	BodySize   int64    `json:"bodySize"`           // bytes of body delivered, codings removed
	WireSize   int64    `json:"wireSize,omitempty"` // bytes of body as they crossed
	Declared   int64    `json:"declared"`           // Content-Length, or -1
	Complete   bool     `json:"complete"`           // the head was read whole
	BodyWhole  bool     `json:"bodyWhole"`          // the body was delivered whole
	Chunked    bool     `json:"chunked,omitempty"`
	Coding     string   `json:"coding,omitempty"` // content coding that was removed
	Announcing bool     `json:"-"`
}

// Header is one header field with the place of its line in the head.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Span  Span   `json:"span"`
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
	Host     string   `json:"host,omitempty"`  // name and port as asked for
	Proxy    string   `json:"proxy,omitempty"` // what was connected to in its place, without user and password
	Local    string   `json:"local,omitempty"`
	Remote   string   `json:"remote,omitempty"`
	Resolved []string `json:"resolved,omitempty"`
	Tried    []Tried  `json:"tried,omitempty"`
	Reused   bool     `json:"reused,omitempty"`
	TLS      *TLSInfo `json:"tls,omitempty"`
}

// Tried is an address that was dialled.
type Tried struct {
	Address string `json:"address"`
	Error   string `json:"error,omitempty"`
	TookNs  int64  `json:"tookNs"`
}

// TLSInfo is what a handshake showed.
type TLSInfo struct {
	Version     string   `json:"version,omitempty"`
	Cipher      string   `json:"cipher,omitempty"`
	ServerName  string   `json:"serverName,omitempty"`
	Chain       [][]byte `json:"chain,omitempty"` // DER, as sent, leaf first
	Trusted     string   `json:"trusted,omitempty"`
	CertAsked   bool     `json:"certificateAsked,omitempty"`
	Issuers     []string `json:"acceptedIssuers,omitempty"`
	CertSent    bool     `json:"certificateSent,omitempty"`
	Alert       string   `json:"alert,omitempty"`
	Protocol    string   `json:"protocol,omitempty"`   // ALPN
	Stapled     int      `json:"stapled,omitempty"`    // bytes of a stapled OCSP response
	Timestamps  int      `json:"timestamps,omitempty"` // signed certificate timestamps in the handshake
	Completed   [][]byte `json:"completed,omitempty"`  // the chain as it was completed, where it was
	HelloIn     []byte   `json:"helloIn,omitempty"`    // first bytes that came beneath TLS
	Unencrypted bool     `json:"-"`
}

// NewID is a fresh identifier: the time in a sortable form, and a few letters.
func NewID(now time.Time, random uint32) string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789"
	tail := make([]byte, 4)
	for i := range tail {
		tail[i] = letters[random%uint32(len(letters))]
		random /= uint32(len(letters))
	}
	return now.UTC().Format("060102-150405") + "-" + string(tail)
}

// Stage is the record of a stage; there is always one.
func (x *Exchange) Stage(s Stage) *StageRecord {
	for i := range x.Stages {
		if x.Stages[i].Stage == s {
			return &x.Stages[i]
		}
	}
	x.Stages = append(x.Stages, StageRecord{Stage: s})
	return &x.Stages[len(x.Stages)-1]
}

// Leg is the newest leg, or nil.
func (x *Exchange) Leg() *Leg {
	if len(x.Legs) == 0 {
		return nil
	}
	return x.Legs[len(x.Legs)-1]
}

// Cause is the first finding that stopped the call, or the warning that
// explains it, or nil.
func (x *Exchange) Cause() *Finding {
	if x.Outcome == OutcomePassed || len(x.Findings) == 0 {
		return nil
	}
	return &x.Findings[0]
}

// Reach is how many stages the call passed, from 0 to 11. A stage that is not
// used counts once one beyond it was passed, or the call was.
func (x *Exchange) Reach() int {
	n, skipped := 0, 0
	for _, s := range Stages {
		switch x.Stage(s).State {
		case Passed, Warned:
			n += skipped + 1
			skipped = 0
			continue
		case Skipped:
			skipped++
			continue
		}
		break
	}
	if x.Outcome == OutcomePassed {
		n += skipped
	}
	return n
}

// Setting is the value in force for a key, or "".
func (x *Exchange) Setting(key string) string {
	for _, s := range x.Settings {
		if s.Key == key {
			return s.Value
		}
	}
	return ""
}

// Readable is the response body as people read it: decrypted where it was
// encrypted, the envelope's part where there are several.
func (l *Leg) Readable() []byte {
	if l.Decrypted != nil {
		return l.Decrypted
	}
	if root := l.Root(); root != nil {
		if b, err := root.Content(l.ResponseBody); err == nil {
			return b
		}
	}
	return l.ResponseBody
}

// Root is the part of the response that holds the envelope, nil where it is not
// in parts.
func (l *Leg) Root() *soap.Part {
	for i := range l.Parts {
		if l.Parts[i].Root {
			return &l.Parts[i]
		}
	}
	return nil
}

// Spilled tells whether what came, or what it was unpacked to, is on disk: too
// large for a tree.
func (l *Leg) Spilled() bool { return l.Spool != nil || l.BodySpool != nil }

// Spilling writes bytes to a spool that is made when it is first needed.
func (l *Leg) spilling(to **spool.Spool, b []byte) (all []byte, err error) {
	if *to == nil {
		if *to, err = spool.New("", l.SpillMost); err != nil {
			return nil, err
		}
	}
	_, err = (*to).Write(b)
	return (*to).Bytes(), err
}

// AddBody appends to a body that is not a part of In.
func (l *Leg) AddBody(b []byte) (err error) {
	if l.Spool == nil && l.BodySpool == nil && (l.Spill == 0 || int64(len(l.ResponseBody)+len(b)) <= l.Spill) {
		l.ResponseBody = append(l.ResponseBody, b...)
		return nil
	}
	if l.BodySpool == nil && len(l.ResponseBody) > 0 {
		if _, err := l.spilling(&l.BodySpool, l.ResponseBody); err != nil {
			return err
		}
	}
	l.ResponseBody, err = l.spilling(&l.BodySpool, b)
	return err
}

// Clone copies the record so that a reader may keep it while the call goes
// on; the byte slices are shared, as they are only ever appended to.
func (x *Exchange) Clone() *Exchange {
	c := *x
	c.Stages = append([]StageRecord(nil), x.Stages...)
	for i := range c.Stages {
		c.Stages[i].Facts = append(Facts(nil), c.Stages[i].Facts...)
	}
	c.Moments = x.Moments[:len(x.Moments):len(x.Moments)]
	c.Findings = append([]Finding(nil), x.Findings...)
	c.Legs = make([]*Leg, len(x.Legs))
	for i, l := range x.Legs {
		leg := *l
		c.Legs[i] = &leg
	}
	return &c
}
