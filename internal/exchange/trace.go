package exchange

import (
	"crypto/rand"
	"encoding/hex"
	"strings"
)

// Trace is the place of a call in a trace of several programs (W3C Trace Context).
type Trace struct {
	ID     string `json:"id"`               // of the trace, 32 hex digits
	Span   string `json:"span"`             // of this call, 16 hex digits
	Parent string `json:"parent,omitempty"` // of the program that called, "" none
	State  string `json:"state,omitempty"`  // tracestate, as it came
}

// NewTrace is the place of a call in a trace: that of the program that calls, by the fields
// traceparent and tracestate of its request, or a new one (W3C Trace Context §3.2).
func NewTrace(traceparent, tracestate string) *Trace {
	var id [24]byte
	_, _ = rand.Read(id[:])
	t := &Trace{ID: hex.EncodeToString(id[:16]), Span: hex.EncodeToString(id[16:])}
	p := strings.Split(strings.TrimSpace(traceparent), "-") // version, trace, parent, flags
	if len(p) >= 4 && isHex(p[0], 2) && p[0] != "ff" && isHex(p[1], 32) && isHex(p[2], 16) && isHex(p[3], 2) &&
		strings.Trim(p[1], "0") != "" && strings.Trim(p[2], "0") != "" && (p[0] != "00" || len(p) == 4) {
		t.ID, t.Parent, t.State = p[1], p[2], tracestate
	}
	return t
}

func isHex(s string, digits int) bool {
	if len(s) != digits {
		return false
	}
	for i := range len(s) {
		if (s[i] < '0' || s[i] > '9') && (s[i] < 'a' || s[i] > 'f') {
			return false
		}
	}
	return true
}

// Header is the field traceparent by which the next program goes on with the trace.
func (t *Trace) Header() string { return "00-" + t.ID + "-" + t.Span + "-01" }
