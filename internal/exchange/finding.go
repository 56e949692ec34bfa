package exchange

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Severity is what a finding does to a call.
type Severity string

// Stop ends a call, Warn does not, Note is only odd.
const (
	Stop Severity = "stop"
	Warn Severity = "warn"
	Note Severity = "note"
)

// Side says who can mend it.
type Side string

// The sides.
const (
	Yours   Side = "yours"
	Theirs  Side = "theirs"
	Between Side = "between"
	Unknown Side = "unknown"
)

// Certainty tells what is known from what is guessed.
type Certainty string

// The certainties.
const (
	Certain Certainty = "certain"
	Likely  Certainty = "likely"
)

// Finding is a named cause. Stage is where the cause lives, which may be
// earlier than where the call was seen to stop.
type Finding struct {
	ID        string     `json:"id"`                 // stable name: stage.cause
	Stage     Stage      `json:"stage"`              // at which it takes effect, or happened
	Severity  Severity   `json:"severity"`           // stop, warn or note
	Side      Side       `json:"side"`               // who can mend it
	Certainty Certainty  `json:"certainty"`          // certain or likely
	By        By         `json:"by,omitempty"`       // on what ground it leads; "" where it does not
	Title     string     `json:"title"`              // one line for people
	Why       string     `json:"why"`                // what was seen, in sentences
	Program   string     `json:"program,omitempty"`  // what to change in the person's own program
	Because   string     `json:"because,omitempty"`  // the finding that this one follows from
	SetAside  string     `json:"setAside,omitempty"` // why the person set it aside for this endpoint
	About     string     `json:"about,omitempty"`    // in a check of many: the call or the endpoint
	Evidence  []Evidence `json:"evidence"`           // what it stands on; empty where nothing can be pointed at
	Remedies  []Remedy   `json:"remedies"`           // what can be done here, the best first

	Hypotheses []Hypothesis `json:"couldBe,omitempty"` // what may be behind it, the likeliest first
}

// By is the ground on which a finding leads.
type By string

// The grounds.
const (
	ByProof      By = "proven"     // two values contradict, a limit fell, a protocol says so
	ByName       By = "named"      // the other side names it
	ByDifference By = "difference" // nothing else differs from a call that passed
	ByAnswer     By = "answer"     // it is what was answered, and no more is known
)

// Hypothesis is one of several things that may be behind a failure.
type Hypothesis struct {
	ID       string  `json:"id"`                // stable name
	Cause    string  `json:"cause"`             // in words
	Predicts string  `json:"tells"`             // what holds if it is this one
	Check    string  `json:"check,omitempty"`   // the check that can decide
	Verdict  Verdict `json:"verdict,omitempty"` // what that made of it
	Answer   string  `json:"answer,omitempty"`  // what was seen in it
}

// Verdict is what a check makes of a possibility; "" where none was made, or
// where it could not decide.
type Verdict string

// The verdicts.
const (
	Confirmed Verdict = "likely"
	RuledOut  Verdict = "unlikely"
)

// Offers tells whether the finding has a remedy that makes the same changes.
func (f *Finding) Offers(r Remedy) bool {
	same := func(a, b Change) bool { return a.Key == b.Key && fmt.Sprint(a.To) == fmt.Sprint(b.To) }
	return slices.ContainsFunc(f.Remedies, func(o Remedy) bool { return slices.EqualFunc(o.All(), r.All(), same) })
}

// Unchecked tells whether a check could still decide about what is behind the
// finding.
func (f *Finding) Unchecked() bool {
	for _, p := range f.Hypotheses {
		if p.Check != "" && p.Answer == "" {
			return true
		}
	}
	return false
}

// Rank puts what is likely first and what is unlikely last.
func (f *Finding) Rank() {
	rank := map[Verdict]int{Confirmed: 0, "": 1, RuledOut: 2}
	slices.SortStableFunc(f.Hypotheses, func(a, b Hypothesis) int { return rank[a.Verdict] - rank[b.Verdict] })
}

// Evidence points at bytes or at a setting.
type Evidence struct {
	In      Part   `json:"in"`            // the part that it stands in
	Leg     int    `json:"leg,omitempty"` // number of the leg, from 1; 0 none
	Key     string `json:"key,omitempty"` // in settings: which
	Offset  int64  `json:"offset"`        // in bytes, from 0
	Length  int64  `json:"length"`        // in bytes
	Line    int    `json:"line"`          // from 1, in the part
	Column  int    `json:"column"`        // in characters, from 1
	Excerpt string `json:"excerpt"`       // the bytes themselves, in one line
}

// Remedy is a change that Orenda can make, shown before it is made.
type Remedy struct {
	Title   string   `json:"title"`             // one line for people
	Ask     string   `json:"ask,omitempty"`     // what the person must confirm, having compared it
	Change  *Change  `json:"change,omitempty"`  // the first change; nil none
	Changes []Change `json:"changes,omitempty"` // all of them, where there are several
	Costs   Costs    `json:"costs"`             // what doing it gives up
	Needs   Need     `json:"needs,omitempty"`   // what must be given first; its changes name NewIdentity
}

// Need is what the person gives before a remedy can be done.
type Need string

// The needs of remedies: an identity that is not there yet.
const (
	NeedUser        Need = "user"        // a user and a password
	NeedCertificate Need = "certificate" // a client certificate with its key
)

// NewIdentity stands in the changes of a remedy that needs an identity, for its name.
const NewIdentity = "a new identity"

// For is the remedy for an identity that was made for it.
func (r Remedy) For(identity string) Remedy {
	changes := slices.Clone(r.All())
	for i, c := range changes {
		if c.To == NewIdentity {
			changes[i].To = identity
		}
		changes[i].Key = strings.Replace(c.Key, NewIdentity, identity, 1)
	}
	out := NewRemedy(r.Title, changes...)
	out.Ask, out.Costs = strings.ReplaceAll(r.Ask, NewIdentity, identity), r.Costs
	return out
}

// Cost is what a remedy gives up; one without any does no harm.
type Cost string

// The costs of remedies.
const (
	CostTrust   Cost = "trust"   // trusts a certificate, weaker algorithms, another host
	CostSecrecy Cost = "secrecy" // shows what is secret: in clear, or to a new host
	CostLogIn   Cost = "log-in"  // sends credentials, or others
	CostMessage Cost = "message" // changes what is said
	CostRepeats Cost = "repeats" // sends again what changes things at the service
)

// Costs are those of a remedy, none where it does no harm.
type Costs []Cost

// MarshalJSON implements json.Marshaler: none is an empty list.
func (c Costs) MarshalJSON() ([]byte, error) {
	if c == nil {
		return []byte("[]"), nil
	}
	return json.Marshal([]Cost(c))
}

// Join is the costs in a line, "" none.
func (c Costs) Join(between string) string {
	words := make([]string, len(c))
	for i, cost := range c {
		words[i] = string(cost)
	}
	return strings.Join(words, between)
}

// Beyond are the costs that are not among those allowed.
func (c Costs) Beyond(allowed []Cost) (out Costs) {
	for _, cost := range c {
		if !slices.Contains(allowed, cost) {
			out = append(out, cost)
		}
	}
	return out
}

// All are the changes of a remedy.
func (r *Remedy) All() []Change {
	if len(r.Changes) > 0 {
		return r.Changes
	}
	if r.Change != nil {
		return []Change{*r.Change}
	}
	return nil
}

// NewRemedy makes a remedy of one or several changes.
func NewRemedy(title string, changes ...Change) Remedy {
	r := Remedy{Title: title}
	if len(changes) > 0 {
		r.Change = &changes[0]
	}
	if len(changes) > 1 {
		r.Changes = changes
	}
	return r
}

// Change is one change of settings, draft or user configuration.
type Change struct {
	Where string `json:"where"` // "workspace", "draft" or "user"
	Key   string `json:"key"`   // endpoint.tides-tls.receive-limit; vessel/name
	From  any    `json:"from"`  // what is set, nil nothing
	To    any    `json:"to"`    // what is to be set, nil nothing
}

// TextOf is a value of a change as text; a list, also as it is read back from JSON,
// is its items with commas between them.
func TextOf(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []string:
		return strings.Join(v, ", ")
	case []any:
		words := make([]string, len(v))
		for i := range v {
			words[i] = fmt.Sprint(v[i])
		}
		return strings.Join(words, ", ")
	}
	return fmt.Sprint(v)
}

// shown is a value of a change for people.
func shown(v any) string {
	s := TextOf(v)
	switch {
	case s == "":
		return "not set"
	case strings.Contains(s, "-----BEGIN CERTIFICATE"):
		return "one certificate more"
	}
	return s
}

// Was is what was set before the change, for people.
func (c Change) Was() string { return shown(c.From) }

// String is the change in one line.
func (c Change) String() string {
	return fmt.Sprintf("%s: %s → %s", c.Key, shown(c.From), shown(c.To))
}

// Set adds or replaces a fact.
func (f *Facts) Set(name, value string) { f.SetAt(name, value, "", Span{}) }

// SetAt is Set for a fact whose bytes are known.
func (f *Facts) SetAt(name, value string, part Part, span Span) {
	for i := range *f {
		if (*f)[i].Name == name {
			(*f)[i] = Fact{name, value, part, span}
			return
		}
	}
	if *f == nil {
		*f = make(Facts, 0, 3)
	}
	*f = append(*f, Fact{name, value, part, span})
}

// Get is the value of a fact, or "".
func (f Facts) Get(name string) string {
	for _, x := range f {
		if x.Name == name {
			return x.Value
		}
	}
	return ""
}

// MarshalJSON writes the facts as an object, in their order.
func (f Facts) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, x := range f {
		if i > 0 {
			b.WriteByte(',')
		}
		k, _ := json.Marshal(x.Name)
		v, _ := json.Marshal(x.Value)
		b.Write(k)
		b.WriteByte(':')
		b.Write(v)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (f *Facts) UnmarshalJSON(b []byte) error {
	dec := json.NewDecoder(bytes.NewReader(b))
	if _, err := dec.Token(); err != nil {
		return err
	}
	for dec.More() {
		k, err := dec.Token()
		if err != nil {
			return err
		}
		var v string
		if err := dec.Decode(&v); err != nil {
			return err
		}
		f.Set(fmt.Sprint(k), v)
	}
	return nil
}
