package exchange

import (
	"slices"
	"time"
)

// Memory is what is remembered of calls like one that failed.
type Memory struct {
	Passed   *LastPassed `json:"passed,omitempty"`   // the last that passed
	Repaired []Repaired  `json:"repaired,omitempty"` // the same failure before, and what repaired it; the newest first
}

// LastPassed is the last call of the same operation over the same endpoint that
// passed, and in what it differs from the one that failed.
type LastPassed struct {
	ID      string    `json:"id"`      // of the exchange
	Started time.Time `json:"started"` // when it began
	Differs []Differs `json:"differs"` // those that the cause is about first
}

// Differs is one setting, or one field of the message, that has another value
// than when the call last passed.
type Differs struct {
	Key     string `json:"key"`               // of the setting, "environment", or the path of the field
	Of      string `json:"of,omitempty"`      // "setting", "environment" or "field"
	Absent  string `json:"absent,omitempty"`  // of a field: "then" or "now", where it was not in the message
	Stage   Stage  `json:"stage"`             // at which it takes effect, or happened
	Was     string `json:"was"`               // then
	Is      string `json:"is"`                // now
	Suspect bool   `json:"suspect,omitempty"` // the cause is about it
}

// Repaired is a change after which a call passed that had failed in the same
// way.
type Repaired struct {
	ID        string    `json:"id"`        // of the call that passed
	Operation string    `json:"operation"` // name of the operation
	Endpoint  string    `json:"endpoint"`  // name of the endpoint
	Started   time.Time `json:"started"`   // when it began
	Changes   []Change  `json:"changes"`   // what was changed before it
}

func (m *Memory) clone() *Memory {
	if m == nil {
		return nil
	}
	c := *m
	if m.Passed != nil {
		last := *m.Passed
		last.Differs = slices.Clone(last.Differs)
		c.Passed = &last
	}
	c.Repaired = slices.Clone(m.Repaired)
	for i := range c.Repaired {
		c.Repaired[i].Changes = slices.Clone(c.Repaired[i].Changes)
	}
	return &c
}
