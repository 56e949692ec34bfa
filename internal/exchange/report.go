package exchange

import (
	"encoding/base64"
	"encoding/json"
	"time"
	"unicode/utf8"
)

// Report is the record as --json prints it (docs/cli.md).
type Report struct {
	ID          string        `json:"id"`
	Kind        string        `json:"kind,omitempty"`
	Contract    string        `json:"contract,omitempty"`
	Operation   string        `json:"operation"`
	Draft       string        `json:"draft,omitempty"`
	Endpoint    string        `json:"endpoint"`
	Environment string        `json:"environment"`
	Started     time.Time     `json:"started"`
	TotalNs     int64         `json:"totalNs"`
	Outcome     Outcome       `json:"outcome"`
	StoppedAt   Stage         `json:"stoppedAt,omitempty"`
	Result      string        `json:"result,omitempty"`
	Stages      []StageRecord `json:"stages"`
	Settings    []Setting     `json:"settings"`
	Findings    []Finding     `json:"findings"`
	Memory      *Memory       `json:"memory,omitempty"`
	Changes     []Change      `json:"changes,omitempty"`
	Request     *Sent         `json:"request,omitempty"`
	Response    *Received     `json:"response,omitempty"`
}

// Sent is the request of a report.
type Sent struct {
	Method   string `json:"method"`
	URL      string `json:"url"`
	Head     string `json:"head"`
	Size     int64  `json:"size"` // of the body
	Body     string `json:"body,omitempty"`
	Encoding string `json:"encoding,omitempty"`
}

// Received is the response of a report.
type Received struct {
	Status   int    `json:"status"`
	Head     string `json:"head"`
	Size     int64  `json:"size"` // of the body
	Body     string `json:"body,omitempty"`
	Encoding string `json:"encoding,omitempty"`
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
			Head:   string(l.In.Range(0, l.Response.Size)),
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
