package exchange

import "time"

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
	Dropped  int64         `json:"dropped,omitempty"` // moments that were folded into others: see MaxMoments
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
