package exchange

import (
	"net/url"
	"strings"
	"time"

	"orenda/internal/marks"
)

// Exchange is the record of one call.
type Exchange struct {
	ID          string    `json:"id"`                  // 26 characters, sorted by time
	Kind        string    `json:"kind,omitempty"`      // "" a call; "fetch" a description being fetched
	Workspace   string    `json:"workspace,omitempty"` // folder, "" in memory
	Contract    string    `json:"contract,omitempty"`  // name of the contract, "" none
	Operation   string    `json:"operation"`           // name of the operation
	Draft       string    `json:"draft,omitempty"`     // name of the draft, "" none
	Endpoint    string    `json:"endpoint"`            // name of the endpoint
	Environment string    `json:"environment"`         // name of the environment, "" none
	Started     time.Time `json:"started"`             // when it began
	TotalNs     int64     `json:"totalNs"`             // nanoseconds from begin to end
	Outcome     Outcome   `json:"outcome"`             // how it ended
	// StoppedAt: the stage at which it was seen to stop; None where it passed.
	StoppedAt Stage `json:"stoppedAt,omitempty"`

	Stages   []StageRecord `json:"stages"`            // one for each stage, in their order
	Settings []Setting     `json:"settings"`          // what was in force, in the order of the table
	Findings []Finding     `json:"findings"`          // the cause first
	Memory   *Memory       `json:"memory,omitempty"`  // of calls like it, where it failed
	Moments  []Moment      `json:"moments"`           // in the order of time; at most about MaxMoments
	Dropped  int64         `json:"dropped,omitempty"` // moments that were folded into others: see MaxMoments
	Legs     []*Leg        `json:"legs"`              // crossings of the wire, in their order

	Changes []Change `json:"changes,omitempty"` // what was changed since the attempt before
	Inputs  []Input  `json:"inputs,omitempty"`  // the values that the draft was filled with
	Result  string   `json:"result,omitempty"`  // what tells this attempt from its neighbours
	Secrets []string `json:"-"`                 // the secret values themselves; never written

	From *Origin `json:"from,omitempty"` // who kept it, in a journal that several share; nil elsewhere

	Trace *Trace `json:"trace,omitempty"` // nil: it is in none

	Seen *Seen `json:"seen,omitempty"` // facts that judging it again needs, nil in older records

	SecretNames SecretNames `json:"-"` // what else is secret by its name or place
}

// Input is one value of the draft, by its path.
type Input struct {
	Path  string `json:"path"`  // of the field
	Value string `json:"value"` // as text
}

// StageRecord is how one stage went.
type StageRecord struct {
	Stage      Stage  `json:"stage"`           // which
	State      State  `json:"state"`           // how it went
	StartedNs  int64  `json:"startedNs"`       // since Exchange.Started
	DurationNs int64  `json:"durationNs"`      // nanoseconds
	Facts      Facts  `json:"facts,omitempty"` // what was seen
	Note       string `json:"note,omitempty"`  // the stage in a few words, for one line
}

// Facts are what was seen at a stage, in the order in which it was seen.
type Facts []Fact

// Fact is one thing seen. Part, where set, leads to the bytes.
type Fact struct {
	Name  string // what was seen
	Value string // in words
	Part  Part   // where its bytes are, "" nowhere
	Span  Span   // in that part
}

// Setting is one value that was in force, with the layer that it came from.
type Setting struct {
	Key      string `json:"key"`                // name of the setting
	Stage    Stage  `json:"stage"`              // at which it takes effect, or happened
	Value    string `json:"value"`              // as text
	Template string `json:"template,omitempty"` // the value as written, where variables stand in it
	Source   string `json:"source"`             // the layer that it came from
}

// Span is a range of byte offsets in a part.
type Span struct {
	Offset int64 `json:"offset"` // in bytes
	Length int64 `json:"length"` // in bytes
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
	At     int64      `json:"at"`               // nanoseconds since Exchange.Started
	Kind   MomentKind `json:"kind"`             // what happened
	Leg    int        `json:"leg"`              // number of the leg, from 1
	Stage  Stage      `json:"stage,omitempty"`  // None where it is of none
	Offset int64      `json:"offset,omitempty"` // in bytes, in Out or In of the leg
	N      int64      `json:"n,omitempty"`      // bytes
	Text   string     `json:"text,omitempty"`   // what belongs to it, in words
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

// Ticks draws how far an exchange got: eleven ticks in four groups, with a sign of its own
// where it stopped. It can be counted, and reads without colour.
func (x *Exchange) Ticks() string {
	var b strings.Builder
	reach := -1
	if x != nil {
		reach = x.Reach()
	}
	for i := range Stages {
		if i == 4 || i == 7 || i == 9 {
			b.WriteByte(' ')
		}
		switch {
		case i < reach:
			b.WriteString(marks.Passed)
		case i == reach && x.Outcome == OutcomeUnderWay:
			b.WriteString(marks.UnderWay)
		case i == reach && x.Outcome == OutcomeStopped:
			b.WriteString(marks.Stopped)
		default:
			b.WriteString(marks.NotReached)
		}
	}
	return b.String()
}

// AddressText is the resolved address of a call, "" it is not known.
func (x *Exchange) AddressText() string {
	if st := x.Stage(Address); st != nil {
		for _, f := range st.Facts {
			if f.Name == "resolved" {
				return f.Value
			}
		}
	}
	return ""
}

// Host is the host and port that a call went to, as far as its address tells; "" it does not.
func (x *Exchange) Host() string {
	u, err := url.Parse(x.AddressText())
	if err != nil {
		return ""
	}
	return u.Host
}
