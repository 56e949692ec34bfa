// Package sounding finds the edges of what a service accepts, by sending: the least and
// the greatest length, number, date or count of a field, and which characters it takes.
// Both sides of an edge are really sent, and sent twice.
package sounding

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"orenda/internal/exchange"
	"orenda/internal/learned"
	"orenda/internal/pattern"
)

// Answer is what became of one call.
type Answer struct {
	Accepted bool          // as the person means it
	Says     string        // the words of the answer, "" where it passed without any
	Exchange string        // id
	Locked   bool          // the service will take no more: too many tries
	Took     time.Duration // of the call

	Answers int                // how often that which repeats most stands in the reply
	Call    *exchange.Exchange // the call itself; may be nil
}

// Send sends the draft with one value of the field; absent and nil say that it is left
// out, or nil.
type Send func(ctx context.Context, v Variant) (Answer, error)

// Variant is how the field is sent.
type Variant struct {
	Text   string // its value
	Absent bool   // it is left out
	Nil    bool   // it is nil
	Count  int    // of repeats; 0: as the draft has it

	Limit   time.Duration // how long the answer may take; 0: as it is set
	Without string        // path of another field, that is left out
	Set     [][2]string   // settings that it is sent with: names and values
	Label   string        // how it is shown
	At      int64         // where it lies on the scale that is sounded; 0 where there is none
}

// Sample is one call of a sounding.
type Sample struct {
	Value    string `json:"value"`    // that was sent, or what of it was tried
	At       int64  `json:"at"`       // where it lies on the scale: characters, steps of the last digit, days, times
	Accepted bool   `json:"accepted"` // as the person means it
	Says     string `json:"says"`     // the words of the answer
	Exchange string `json:"exchange"` // id
}

// Edge is a border between what is accepted and what is not.
type Edge struct {
	Side      string   `json:"side"`      // least or greatest
	Accepted  string   `json:"accepted"`  // the last that is accepted
	Refused   string   `json:"refused"`   // the first that is refused; "" where it was not found
	Says      string   `json:"says"`      // how it is refused
	Exchanges []string `json:"exchanges"` // the accepted and the refused call

	Open bool `json:"open,omitempty"` // it lies somewhere between the two: the search ended early
}

// Kind is a kind of answer, numbers and quoted input taken out.
type Kind struct {
	Says    string `json:"says"`    // "" a reply without any complaint
	Count   int    `json:"count"`   // how often it came
	Example string `json:"example"` // the id of an exchange
}

// Character is a kind of character, and whether it is taken.
type Character struct {
	Of    string `json:"of"`    // letters, hyphen, …
	Taken bool   `json:"taken"` // it is accepted
	Says  string `json:"says"`  // how it is refused
}

// Result is what was found.
type Result struct {
	Field      string      `json:"field"`                // that was sounded; "" the whole call
	By         string      `json:"by"`                   // length, value, date, count, size or characters
	Calls      int         `json:"calls"`                // that were sent
	Steady     bool        `json:"steady"`               // the same input gave the same kind of answer
	Edges      []Edge      `json:"edges"`                // that were found
	Kinds      []Kind      `json:"kinds"`                // of answers
	Characters []Character `json:"characters,omitempty"` // by characters
	Answered   []Answered  `json:"answered,omitempty"`   // by answers
	Samples    []Sample    `json:"samples"`              // every call, in order
	Sentence   string      `json:"sentence"`             // what was found, in words
	Stopped    string      `json:"stopped,omitempty"`    // why it ended early, "" it did not

	Failed *exchange.Exchange `json:"-"` // the call, where the draft as it stands did not pass
}

// Options say how a field is sounded.
type Options struct {
	Field    string        // its path
	By       string        // one of Ways
	Base     string        // the value that the draft has
	From, To string        // the ends of what is looked at; "" the usual ones
	Budget   int           // calls at most
	Pause    time.Duration // between two calls
	Schema   string        // what the schema says of the field, in words
	Values   []string      // that the schema lists, for by enumeration
	Optional []string      // fields that may be left out, for by optional
	Limit    time.Duration // how long an answer may take now; what is sounded by time
	Told     func(*Result) // what is known so far, after each call; may be nil
}

// slow is by how much a call may take longer than the first before the service is left
// alone.
const slow = 10

var (
	errBudget = errors.New("the budget of calls is spent")
	errLocked = errors.New("the service takes no more tries")
	errSlow   = errors.New("the service got slow")
)

type sounder struct {
	o     Options
	send  Send
	r     *Result
	first time.Duration
	kinds map[string]int
}

// Sound sounds a field.
func Sound(ctx context.Context, o Options, send Send) (*Result, error) {
	if Whole(o.By) {
		o.Field = ""
	}
	s := &sounder{o: o, send: send, kinds: map[string]int{}, r: &Result{
		Field: o.Field, By: o.By, Steady: true, Edges: []Edge{}, Kinds: []Kind{}, Samples: []Sample{},
	}}
	var err error
	switch o.By {
	case "characters":
		err = s.characters(ctx)
	case "enumeration", "optional":
		err = s.listed(ctx)
	case "answers":
		err = s.answers(ctx)
	case bySending:
		err = s.sendings(ctx)
	default:
		err = s.edges(ctx)
	}
	switch {
	case errors.Is(err, errBudget), errors.Is(err, errLocked), errors.Is(err, errSlow):
		s.r.Stopped, err = err.Error(), nil
	case err != nil:
		return nil, err
	}
	s.r.Sentence = s.sentence()
	return s.r, nil
}

func (s *sounder) try(ctx context.Context, v Variant) (Answer, error) {
	if s.r.Calls >= s.o.Budget {
		return Answer{}, errBudget
	}
	if s.r.Calls > 0 && s.o.Pause > 0 {
		select {
		case <-time.After(s.o.Pause):
		case <-ctx.Done():
			return Answer{}, ctx.Err()
		}
	}
	a, err := s.send(ctx, v)
	if err != nil {
		return a, err
	}
	s.r.Calls++
	kind := learned.Kind(a.Says, v.Text)
	i, known := s.kinds[kind]
	if !known {
		i = len(s.r.Kinds)
		s.kinds[kind] = i
		s.r.Kinds = append(s.r.Kinds, Kind{Says: kind, Example: a.Exchange})
	}
	s.r.Kinds[i].Count++
	s.r.Samples = append(s.r.Samples, Sample{
		Value: cmp.Or(v.Label, v.Text), At: v.At, Accepted: a.Accepted, Says: a.Says, Exchange: a.Exchange,
	})
	if s.o.Told != nil {
		so := *s.r
		so.Samples = slices.Clone(s.r.Samples)
		s.o.Told(&so)
	}
	switch {
	case a.Locked:
		return a, errLocked
	case s.first == 0:
		s.first = max(a.Took, 50*time.Millisecond)
	case a.Took > slow*s.first && a.Took > 2*time.Second:
		return a, errSlow
	}
	return a, nil
}

// LockedOut tells whether words say that there were too many tries.
func LockedOut(status int, says string) bool {
	return status == 429 || lockWords.MatchString(says)
}

var lockWords = pattern.New(`(?i)too many|locked out|(account|user|caller)\S* (is |was )?(locked|blocked)|` +
	`rate limit|try again later|temporarily blocked|quota exceeded`)

// edges looks for the least and the greatest that is accepted.
func (s *sounder) edges(ctx context.Context) error {
	sc, err := s.scale()
	if err != nil {
		return err
	}
	base, err := s.try(ctx, sc.variant(sc.base))
	if err != nil {
		return err
	}
	again, err := s.try(ctx, sc.variant(sc.base))
	if err != nil {
		return err
	}
	if base.Accepted != again.Accepted {
		s.r.Steady = false
		return nil
	}
	if !base.Accepted {
		s.refused(base)
		return nil
	}
	for _, side := range []struct {
		name string
		end  int64
	}{{"least", sc.from}, {"greatest", sc.to}} {
		if side.end == sc.base {
			continue
		}
		if err := s.edge(ctx, sc, side.name, side.end, base); err != nil || !s.r.Steady {
			return err
		}
	}
	return nil
}

// refused ends a sounding whose draft is not accepted as it stands.
func (s *sounder) refused(base Answer) {
	s.r.Failed = base.Call
	s.r.Stopped = "the draft as it stands is not accepted: " + base.Says
}

// listed tries each value that the schema lists, or leaves each optional field out in turn.
func (s *sounder) listed(ctx context.Context) error {
	base, err := s.try(ctx, Variant{Text: s.o.Base})
	if err != nil {
		return err
	}
	if !base.Accepted {
		s.refused(base)
		return nil
	}
	all, what := s.o.Values, "the schema lists no values of this field"
	if s.o.By == "optional" {
		all, what = s.o.Optional, "the message has no field that may be left out"
	}
	if len(all) == 0 {
		return errors.New(what)
	}
	for _, one := range all {
		v := Variant{Text: one, Label: one}
		if s.o.By == "optional" {
			v = Variant{Without: one, Label: "without " + one}
		}
		a, err := s.try(ctx, v)
		if err != nil {
			return err
		}
		s.r.Characters = append(s.r.Characters, Character{Of: v.Label, Taken: a.Accepted, Says: a.Says})
	}
	return nil
}

// edge halves the distance between what is accepted and what is not.
func (s *sounder) edge(ctx context.Context, sc *scale, side string, end int64, base Answer) error {
	good, bad := sc.base, end
	was := base
	is, err := s.try(ctx, sc.variant(end))
	if err != nil || is.Accepted {
		return err // there is no edge on this side
	}
	open := func() {
		s.r.Edges = append(s.r.Edges, Edge{
			Side: side, Accepted: sc.text(good), Refused: sc.text(bad), Says: is.Says,
			Exchanges: []string{was.Exchange, is.Exchange},
		})
	}
	for good-bad > 1 || bad-good > 1 {
		mid := good + (bad-good)/2
		a, err := s.try(ctx, sc.variant(mid))
		if err != nil {
			open() // as far as it is known
			s.r.Edges[len(s.r.Edges)-1].Open = true
			return err
		}
		if a.Accepted {
			good, was = mid, a
		} else {
			bad, is = mid, a
		}
	}
	open()
	// The same once more, and a sample on either side: an edge is one.
	type look struct {
		at   int64
		want bool
	}
	looks := []look{{good, true}, {bad, false}, {good + (sc.base-good)/2, true}, {bad + (end-bad)/2, false}}
	if s.o.By == byTime { // no answer takes the same time twice: the steps beside the edge may be either
		looks = []look{{min(good+2*timeSteps, sc.base), true}, {max(bad-2*timeSteps, end), false}}
	}
	for _, look := range looks {
		a, err := s.try(ctx, sc.variant(look.at))
		if err != nil {
			return err
		}
		if a.Accepted == look.want {
			continue
		}
		if look.at == good || look.at == bad || s.o.By == byTime {
			s.r.Steady = false
			return nil
		}
		s.r.Stopped = fmt.Sprintf("the %s edge is not the only one: %s is %s", side, sc.text(look.at),
			map[bool]string{true: "accepted", false: "refused"}[a.Accepted])
	}
	return nil
}

// characters tries kinds of characters, each in the draft's own value.
func (s *sounder) characters(ctx context.Context) error {
	text := []rune(s.o.Base)
	if len(text) == 0 {
		return errors.New("the field is empty: give it a value that is accepted first")
	}
	base, err := s.try(ctx, Variant{Text: s.o.Base})
	if err != nil {
		return err
	}
	if !base.Accepted {
		s.refused(base)
		return nil
	}
	last := func(r rune) string { return string(text[:len(text)-1]) + string(r) }
	within := func(r string) string {
		mid := max(len(text)/2, 1)
		return string(text[:mid]) + r + string(text[mid:])
	}
	for _, k := range []struct {
		of string
		v  Variant
	}{
		{"letters", Variant{Text: last('B')}},
		{"digits", Variant{Text: last('7')}},
		{"hyphen", Variant{Text: within("-")}},
		{"space", Variant{Text: within(" ")}}, {"lower case", Variant{Text: strings.Map(unicode.ToLower, s.o.Base)}},
		{"accents", Variant{Text: last('É')}}, {"other scripts", Variant{Text: last('Ж')}},
		{"white space around", Variant{Text: " " + s.o.Base + " "}},
		{"empty", Variant{}},
		{"absent", Variant{Absent: true}},
		{"nil", Variant{Nil: true}},
	} {
		if k.v.Text == s.o.Base {
			s.r.Characters = append(s.r.Characters, Character{Of: k.of, Taken: true})
			continue
		}
		k.v.Label = k.of
		a, err := s.try(ctx, k.v)
		if err != nil {
			return err
		}
		s.r.Characters = append(s.r.Characters, Character{Of: k.of, Taken: a.Accepted, Says: a.Says})
	}
	return nil
}

// charactersSay says which are taken, and which are not.
func (r *Result) charactersSay() (parts []string) {
	var taken, refused []string
	for _, c := range r.Characters {
		if c.Taken {
			taken = append(taken, c.Of)
		} else {
			refused = append(refused, c.Of)
		}
	}
	if len(taken) > 0 {
		parts = append(parts, "taken: "+strings.Join(taken, ", "))
	}
	if len(refused) > 0 {
		parts = append(parts, "refused: "+strings.Join(refused, ", "))
	}
	return parts
}

// unsteady says that nothing can be found, and why.
func (r *Result) unsteady() string {
	if r.By == byTime {
		return "the service is not steady: it answered within " + r.Samples[len(r.Samples)-1].Value +
			" once, and once not"
	}
	return "the service is not steady: the same input gave two answers"
}

// sentence says what was found.
func (s *sounder) sentence() string {
	r := s.r
	var parts []string
	unit := map[string]string{"length": " characters", "size": " characters", "count": " times"}[r.By]
	switch {
	case !r.Steady && len(r.Answered) == 0:
		return r.unsteady()
	case r.Failed != nil:
		return r.Stopped
	case len(r.Answered) > 1:
		parts = r.answersSay()
	case len(r.Characters) > 0:
		parts = r.charactersSay()
	case len(r.Edges) == 0 && r.Stopped == "":
		parts = append(parts, "no edge was found: all that was sent is accepted")
	}
	for _, e := range r.Edges {
		word := map[string]string{"least": "at least", "greatest": "at most"}[e.Side]
		said := ""
		if e.Says != "" {
			said = " with “" + e.Says + "”"
		}
		if e.Open {
			parts = append(parts, fmt.Sprintf("the %s lies between %s, which is accepted, and %s, which is refused%s",
				e.Side, e.Accepted, e.Refused, said))
			continue
		}
		of := unit
		if e.Accepted == "1" {
			of = strings.TrimSuffix(unit, "s")
		}
		parts = append(parts, fmt.Sprintf("%s %s%s; %s is refused%s", word, e.Accepted, of, e.Refused, said))
	}
	if s.o.Schema != "" && len(r.Edges) > 0 {
		parts = append(parts, "the schema says: "+s.o.Schema)
	}
	if r.Stopped != "" {
		parts = append(parts, r.Stopped)
	}
	return strings.Join(slices.Compact(parts), "; ")
}

// Learned are the edges that were found, to hold later exchanges against; nil where there is
// none that could be.
func (r *Result) Learned() *learned.Edges {
	if r.By != "length" && r.By != "value" && r.By != "date" || !r.Steady || len(r.Edges) == 0 || r.Stopped != "" {
		return nil
	}
	out := &learned.Edges{By: r.By}
	for _, e := range r.Edges {
		if e.Open {
			return nil
		}
		if e.Side == "least" {
			out.Least = e.Accepted
		} else {
			out.Greatest = e.Accepted
		}
		if e.Says != "" {
			out.Refused = append(out.Refused, learned.Kind(e.Says, e.Refused))
		}
		out.Exchanges = append(out.Exchanges, e.Exchanges...)
	}
	return out
}

// Ordered are the samples by their place on the scale, each value once; in the order of the
// calls where there is no scale.
func (r *Result) Ordered() []Sample {
	out := slices.Clone(r.Samples)
	if len(r.Characters) == 0 && r.By != "characters" && r.By != "enumeration" && r.By != "optional" {
		slices.SortStableFunc(out, func(a, b Sample) int { return cmp.Compare(a.At, b.At) })
		out = slices.CompactFunc(out, func(a, b Sample) bool { return a.At == b.At && a.Accepted == b.Accepted })
	}
	return out
}
