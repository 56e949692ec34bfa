package exchange

import (
	"encoding/base64"
	"encoding/json"
	"time"
	"unicode/utf8"
)

// Report is the record as --json prints it (docs/cli.md).
type Report struct {
	ID          string    `json:"id"`                 // of the exchange
	Kind        string    `json:"kind,omitempty"`     // "" a call, else relay, fetch, log-in or chain
	Contract    string    `json:"contract,omitempty"` // name of the contract
	Operation   string    `json:"operation"`          // name of the operation
	Draft       string    `json:"draft,omitempty"`    // name of the draft, "" none
	Endpoint    string    `json:"endpoint"`           // name of the endpoint
	Environment string    `json:"environment"`        // name of the environment, "" none
	Started     time.Time `json:"started"`            // when it began
	TotalNs     int64     `json:"totalNs"`            // nanoseconds from begin to end
	Outcome     Outcome   `json:"outcome"`            // how it ended
	// StoppedAt: the stage at which it was seen to stop; None where it passed.
	StoppedAt Stage         `json:"stoppedAt,omitempty"`
	Result    string        `json:"result,omitempty"`   // key result in a few words
	From      *Origin       `json:"from,omitempty"`     // who kept it, in a journal that several share
	Stages    []StageRecord `json:"stages"`             // one record for each stage, in their order
	Settings  []Setting     `json:"settings"`           // what was in force, in the order of the table
	Findings  []Finding     `json:"findings"`           // the cause first
	Memory    *Memory       `json:"memory,omitempty"`   // of calls like it; nil where it did not fail
	Changes   []Change      `json:"changes,omitempty"`  // what was changed before it
	Request   *Sent         `json:"request,omitempty"`  // as it was sent
	Response  *Received     `json:"response,omitempty"` // as it came
}

// Sent is the request of a report.
type Sent struct {
	Method   string `json:"method"`             // GET, POST
	URL      string `json:"url"`                // resolved address
	Head     string `json:"head"`               // as it crossed, its empty line included
	Size     int64  `json:"size"`               // of the body
	Body     string `json:"body,omitempty"`     // as text, else in base64
	Encoding string `json:"encoding,omitempty"` // "base64" where the body is no text
}

// Received is the response of a report.
type Received struct {
	Status   int    `json:"status"`             // HTTP status code
	Head     string `json:"head"`               // as it crossed, its empty line included
	Size     int64  `json:"size"`               // of the body
	Body     string `json:"body,omitempty"`     // as text, else in base64
	Encoding string `json:"encoding,omitempty"` // "base64" where the body is no text
}

// Report makes the report; without bodies where they are not wanted. Stages
// that were never reached are skipped there.
func (x *Exchange) Report(bodies bool) Report {
	r := Report{
		ID:          x.ID,
		Kind:        x.Kind,
		Contract:    x.Contract,
		Operation:   x.Operation,
		Draft:       x.Draft,
		Endpoint:    x.Endpoint,
		Environment: x.Environment,
		Started:     x.Started,
		TotalNs:     x.TotalNs,
		Outcome:     x.Outcome,
		StoppedAt:   x.StoppedAt,
		Result:      x.Result,
		From:        x.From,
		Settings:    x.Settings,
		Findings:    x.Findings,
		Memory:      x.Memory,
		Changes:     x.Changes,
	}
	if r.Findings == nil {
		r.Findings = []Finding{}
	}
	for _, s := range Stages {
		st := *x.Stage(s)
		if st.State == Waiting {
			st.State = Skipped
		}
		r.Stages = append(r.Stages, st)
	}
	l := x.Leg()
	if l == nil {
		return r
	}
	text := func(b []byte) (string, string) {
		if !bodies || len(b) == 0 {
			return "", ""
		}
		if utf8.Valid(b) {
			return string(b), ""
		}
		return base64.StdEncoding.EncodeToString(b), "base64"
	}
	if l.Request.Line != "" {
		r.Request = &Sent{
			URL:  x.Stage(Address).Facts.Get("resolved"),
			Size: l.Request.BodySize,
			Head: head(l.Out, l.Request.Size),
		}
		for i := range l.Request.Line {
			if l.Request.Line[i] == ' ' {
				r.Request.Method = l.Request.Line[:i]
				break
			}
		}
		r.Request.Body, r.Request.Encoding = text(l.RequestBody)
	}
	if l.Response.Complete {
		r.Response = &Received{
			Status: l.Response.Status,
			Size:   l.Response.BodySize,
			Head:   string(l.AnswerHead()),
		}
		// Where it lies in a storage its size is told, and the beginning will do.
		r.Response.Body, r.Response.Encoding = text(l.ResponseBody.Bytes())
	}
	return r
}

func head(b []byte, size int64) string {
	if int64(len(b)) < size {
		return string(b)
	}
	return string(b[:size])
}

// Marshal is the record as it is kept.
func (x *Exchange) Marshal() ([]byte, error) { return json.Marshal(x) }
