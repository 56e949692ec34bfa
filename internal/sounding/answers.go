package sounding

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Answered is what one input of a sounding by answers brought.
type Answered struct {
	Of       string `json:"of"`             // what was tried: the same again, a longer input, …
	Sent     string `json:"sent"`           // the value of the field
	Answers  int    `json:"answers"`        // how often that which repeats most stands in the reply; 0: it was refused
	Same     bool   `json:"same"`           // the reply is that to the draft's own value, but for what is set aside
	Says     string `json:"says,omitempty"` // how it was refused
	Exchange string `json:"exchange"`       // id
}

// answers asks how the answers follow from the input: does the same call give the same reply,
// does a longer input give fewer and a shorter one more, does the order of words matter?
func (s *sounder) answers(ctx context.Context) error {
	text := []rune(s.o.Base)
	if len(text) == 0 {
		return errors.New("the field is empty: give it a value that is accepted first")
	}
	var base Answer
	ask := func(of, value string) (Answered, error) {
		a, err := s.try(ctx, Variant{Text: value, Label: of})
		if err != nil {
			return Answered{}, err
		}
		if s.r.Calls == 1 {
			base = a
		}
		one := Answered{
			Of: of, Sent: value, Says: a.Says, Exchange: a.Exchange, Same: a.Accepted && same(base, a),
		}
		if a.Accepted {
			one.Answers = a.Answers
		}
		s.r.Answered = append(s.r.Answered, one)
		return one, nil
	}
	if _, err := ask("the draft's own value", s.o.Base); err != nil {
		return err
	}
	if !base.Accepted {
		s.refused(base)
		return nil
	}
	again, err := ask("the same again", s.o.Base)
	if err != nil {
		return err
	}
	if s.r.Steady = again.Same; !again.Same {
		return nil
	}
	tries := []struct{ of, value string }{{"a longer input", s.o.Base + string(text[len(text)-1:])}}
	for n := len(text) - 1; n > 0; n /= 2 {
		tries = append(tries, struct{ of, value string }{"a shorter input", string(text[:n])})
	}
	if words := strings.Fields(s.o.Base); len(words) > 1 {
		slices.Reverse(words)
		tries = append(tries, struct{ of, value string }{"its words in another order", strings.Join(words, " ")})
	}
	for _, one := range tries {
		if _, err := ask(one.of, one.value); err != nil {
			return err
		}
	}
	return nil
}

// same tells whether two replies are the same, but for what is set aside.
func same(a, b Answer) bool {
	return a.Call == nil || b.Call == nil || sameReply(a.Call, b.Call)
}

// answersSay says what was found by answers.
func (r *Result) answersSay() (parts []string) {
	if !r.Steady {
		return []string{"the same call gives another reply"}
	}
	own, taken, most := r.Answered[0], 0, 0
	for _, a := range r.Answered {
		switch {
		case a.Of == "the same again":
			parts = append(parts, "the same call gives the same reply")
		case a.Of == "a longer input" && a.Says != "":
			parts = append(parts, "a longer input is refused with “"+a.Says+"”")
		case a.Of == "a longer input":
			parts = append(parts, fmt.Sprintf("a longer input gives %s: %d against %d",
				compared(a.Answers, own.Answers), a.Answers, own.Answers))
		case a.Of == "a shorter input" && a.Says == "":
			taken++
			most = max(most, a.Answers)
		case a.Of == "its words in another order" && a.Says != "":
			parts = append(parts, "the order of its words matters: another one is refused with “"+a.Says+"”")
		case a.Of == "its words in another order" && a.Same:
			parts = append(parts, "the order of its words does not matter")
		case a.Of == "its words in another order":
			parts = append(parts, "the order of its words matters: another one gives another reply")
		}
	}
	switch {
	case taken == 0:
		parts = append(parts, "every shorter input is refused")
	case most <= 1 && own.Answers <= 1:
		parts = append(parts,
			"never more than one answer came, of shorter inputs too: it may give the first match only")
	default:
		parts = append(parts, fmt.Sprintf("a shorter input gives %s: up to %d against %d",
			compared(most, own.Answers), most, own.Answers))
	}
	return parts
}

// compared is a number against another one in words.
func compared(n, than int) string {
	switch {
	case n > than:
		return "more answers"
	case n < than:
		return "fewer answers"
	}
	return "as many answers"
}
