// Package learned holds what was found out of a field by sending, and tells of an exchange
// whether it speaks against it.
package learned

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"orenda/internal/exchange"
	"orenda/internal/pattern"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Edges are the least and the greatest that a service accepts in a field.
type Edges struct {
	By       string `toml:"by"`                 // length, value or date
	Least    string `toml:"least,omitempty"`    // that is accepted; "" none was found
	Greatest string `toml:"greatest,omitempty"` // the same
	// Refused are the kinds of answers to what lies outside.
	Refused []string `toml:"refused,omitempty"`
	// Exchanges are the ids of the calls that showed it, accepted and refused in turn.
	Exchanges []string `toml:"exchanges,omitempty"`
}

// Against tells in words how an exchange speaks against what was learned of a field: it took
// what lies outside, or refused what lies inside with the same words. "": it does not.
func (e *Edges) Against(field string, x *exchange.Exchange) string {
	l := x.Leg()
	if l == nil || x.Kind != "" {
		return ""
	}
	passed, says, all := x.Outcome == exchange.OutcomePassed, Says(x), values(l.Sent(), field)
	for _, v := range all {
		in, ok := e.inside(v)
		switch {
		case !ok:
		case passed && !in:
			return e.shown(v) + " was accepted"
		case x.Outcome == exchange.OutcomeStopped && in && len(all) == 1 && slices.Contains(e.Refused, Kind(says, v)):
			return fmt.Sprintf("%s was refused with “%s”", e.shown(v), says)
		}
	}
	return ""
}

func (e *Edges) shown(value string) string {
	const most = 40
	short := value
	if r := []rune(value); len(r) > most {
		short = string(r[:most-1]) + "…"
	}
	if e.By == "length" {
		return fmt.Sprintf("%q (%d characters)", short, utf8.RuneCountInString(value))
	}
	return short
}

// inside tells whether a value lies between the edges; ok whether that can be told.
func (e *Edges) inside(value string) (in, ok bool) {
	at, ok := e.measure(value, true)
	if !ok {
		return false, false
	}
	in = true
	if least, there := e.measure(e.Least, false); there && at.Cmp(least) < 0 {
		in = false
	}
	if most, there := e.measure(e.Greatest, false); there && at.Cmp(most) > 0 {
		in = false
	}
	return in, true
}

// measure is where a value, or an edge, lies on the scale.
func (e *Edges) measure(text string, isValue bool) (*big.Rat, bool) {
	switch e.By {
	case "length":
		if isValue {
			return new(big.Rat).SetInt64(int64(utf8.RuneCountInString(text))), true
		}
		n, err := strconv.ParseInt(text, 10, 64)
		return new(big.Rat).SetInt64(n), err == nil
	case "value":
		if len(text) > 400 {
			return nil, false
		}
		return new(big.Rat).SetString(strings.TrimSpace(text))
	case "date":
		day, err := time.Parse("2006-01-02", strings.TrimSpace(text))
		return new(big.Rat).SetInt64(day.Unix()), err == nil
	}
	return nil, false
}

var step = pattern.New(`\[[0-9]+\]`)

// values are those of a field in a request, by its path below the payload, without positions.
func values(request []byte, field string) (out []string) {
	d, err := xmltree.ParseEncoded(request, "", xmltree.Limits{})
	if err != nil {
		return nil
	}
	env := soap.Read(d)
	if env == nil || env.Payload.IsZero() {
		return nil
	}
	at := []xmltree.Node{env.Payload}
	for _, name := range strings.Split(step.ReplaceAllString(field, ""), "/") {
		if name == "" {
			continue
		}
		if attr, is := strings.CutPrefix(name, "@"); is {
			for _, n := range at {
				for a := range n.Attrs() {
					if a.Name.Local == attr {
						out = append(out, a.Value)
					}
				}
			}
			return out
		}
		var below []xmltree.Node
		for _, n := range at {
			for c := range n.Children() {
				if c.Name().Local == name {
					below = append(below, c)
				}
			}
		}
		at = below
	}
	for _, n := range at {
		if n.FirstChild().IsZero() {
			out = append(out, n.Text())
		}
	}
	return out
}

// Says are the words with which a call was answered: the fault's reason, else the finding that
// stopped it. "": it passed without any.
func Says(x *exchange.Exchange) string {
	if reason := x.Stage(exchange.Read).Facts.Get("fault reason"); reason != "" {
		return reason
	}
	i := slices.IndexFunc(x.Findings, func(f exchange.Finding) bool { return f.Severity == exchange.Stop })
	if i < 0 {
		return ""
	}
	says := x.Findings[i].Title
	if l := x.Leg(); l == nil || !l.Response.Complete {
		says += " (" + x.Findings[i].ID + ")"
	}
	return says
}

var (
	quoted  = pattern.New(`["'‘’“”«»][^"'‘’“”«»]{0,200}["'‘’“”«»]`)
	numbers = pattern.New(`[0-9]+([.,][0-9]+)*`)
)

// Kind is an answer's words without numbers, quoted texts and input: answers of one kind have
// the same.
func Kind(says, input string) string {
	if len(strings.TrimSpace(input)) > 1 {
		says = strings.ReplaceAll(says, strings.TrimSpace(input), "…")
		says = strings.ReplaceAll(says, strings.ToUpper(strings.TrimSpace(input)), "…")
	}
	says = quoted.ReplaceAllString(says, "“…”")
	return strings.TrimSpace(numbers.ReplaceAllString(says, "N"))
}
