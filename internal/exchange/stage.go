// Package exchange is the record of one call: its legs over the wire, the
// moments that happened, the stages they belong to, the raw bytes, and the
// findings. Everything else in the program reads this type; package call and
// the relay write it.
//
// Durations are nanoseconds, sizes bytes, offsets bytes from the start of the
// part they name.
package exchange

import (
	"fmt"
	"time"
)

// Stage is one of the eleven stages of the path that every call takes.
type Stage uint8

// The stages, in their fixed order; their numbers are part of the interface
// (the exit code of a stopped call is 10 + the number).
const (
	None Stage = iota
	Address
	Binding
	Message
	Security
	Connect
	TLS
	Send
	Wait
	Receive
	Read
	Verify
)

// Stages lists all of them in order.
//
//nolint:gochecknoglobals // a table: it is never written to
var Stages = []Stage{Address, Binding, Message, Security, Connect, TLS, Send, Wait, Receive, Read, Verify}

//nolint:gochecknoglobals // a table: it is never written to
var stageText = [...]struct{ name, question string }{
	{"", ""},
	{"address", "where does it go?"},
	{"binding", "by which rules?"},
	{"message", "what is said?"},
	{"security", "who says it?"},
	{"connect", "can we reach it?"},
	{"tls", "do we trust each other?"},
	{"send", "did all of it leave?"},
	{"wait", "did they think too long?"},
	{"receive", "did all of it arrive, and did we accept it?"},
	{"read", "is it an answer?"},
	{"verify", "is it the right answer?"},
}

func (s Stage) String() string { return stageText[s].name }

// Question is what the stage answers.
func (s Stage) Question() string { return stageText[s].question }

// ExitCode is the exit status of a call that stopped here.
func (s Stage) ExitCode() int { return 10 + int(s) }

// ParseStage finds a stage by its name.
func ParseStage(name string) (Stage, error) {
	for _, s := range Stages {
		if s.String() == name {
			return s, nil
		}
	}
	return None, fmt.Errorf(
		"there is no stage %q; the stages are address, binding, message, security, connect, tls, send, wait, "+
			"receive, read, verify",
		name,
	)
}

// MarshalText writes the stage's name.
func (s Stage) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the stage's name.
func (s *Stage) UnmarshalText(b []byte) (err error) {
	if len(b) == 0 {
		*s = None
		return nil
	}
	*s, err = ParseStage(string(b))
	return err
}

// State is how a stage went.
type State uint8

// A stage is Waiting until the call reaches it.
const (
	Waiting State = iota
	Open
	Passed
	Warned
	Stopped
	Skipped
	Cancelled
)

//nolint:gochecknoglobals // a table: it is never written to
var stateText = [...]string{"waiting", "open", "passed", "warned", "stopped", "skipped", "cancelled"}

func (s State) String() string { return stateText[s] }

// MarshalText writes the state's name.
func (s State) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the state's name.
func (s *State) UnmarshalText(b []byte) error {
	for i, t := range stateText {
		if t == string(b) {
			*s = State(i)
			return nil
		}
	}
	return fmt.Errorf("there is no state %q", b)
}

// Outcome is how a call ended.
type Outcome string

// A call under way has no outcome yet.
const (
	OutcomeUnderWay  Outcome = ""
	OutcomePassed    Outcome = "passed"
	OutcomeStopped   Outcome = "stopped"
	OutcomeCancelled Outcome = "cancelled"
)

// Took writes a duration for people: 0.4 ms, 12 ms, 12.3s; nothing for none.
func Took(ns int64) string {
	d := time.Duration(ns)
	switch {
	case ns <= 0:
		return ""
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(ns)/1e6)
	case d < 10*time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return d.Round(100 * time.Millisecond).String()
}

// Ending is how the call ended, in words.
func (x *Exchange) Ending() string {
	switch x.Outcome {
	case OutcomePassed:
		return "passed after " + Took(x.TotalNs)
	case OutcomeCancelled:
		return "halted after " + Took(x.TotalNs)
	case OutcomeStopped:
		return fmt.Sprintf("stopped at %s after %s", x.StoppedAt, Took(x.TotalNs))
	}
	return "under way"
}

// Age is how long ago something was, in a word: 40 s, 2 m, 3 h, 5 d.
func Age(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", max(int(d.Seconds()), 0))
	case d < time.Hour:
		return fmt.Sprintf("%d m", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}
