package diagnose

import (
	"regexp"
	"slices"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/schema"
)

// decodingWords are what services say that could not read a message.
//
//nolint:gochecknoglobals // a table: it is never written to
var decodingWords = []string{
	"schema", "unmarshal", "deserial", "cvc-", "parse", "unable to read request", "error in xml document",
	"encoding rules",
	"numberformat", "for input string", "not in a correct format", "invalid content", "is not a valid value",
}

// ground says why a warning about what was set or sent leads over the answer that may
// follow from it; "" where it does not. What contradicts the contract as a whole does. A
// value that is odd does not by itself: many services take it. It is where the answer's
// words quote it or its field, or say that the message could not be read; where nothing
// else differs from a call that passed; or where the answer says without any words that
// the message is at fault. Never where it was so in a call that passed.
func (c *Case) ground(warning, stop *exchange.Finding) exchange.By {
	if c.heldInAPass(warning) {
		return ""
	}
	if warning.ID == "message.header-left-out" {
		if c.leftOutNamed() {
			return exchange.ByName
		}
		return ""
	}
	if !c.mattersTo(warning, stop) {
		return ""
	}
	if warning.ID != "message.invalid" && warning.ID != "message.placeholder-left" {
		return exchange.ByProof
	}
	if stop.ID == "verify.unexpected" {
		return exchange.ByAnswer
	}
	said := c.answerWords()
	if slices.ContainsFunc(decodingWords, func(w string) bool { return strings.Contains(said, w) }) {
		return exchange.ByProof
	}
	fields, values := c.suspects(warning.ID)
	if slices.ContainsFunc(fields, func(f string) bool { return hasWord(said, f) }) ||
		slices.ContainsFunc(values, func(v string) bool { return len(v) > 2 && hasWord(said, v) }) {
		return exchange.ByProof
	}
	switch {
	case c.Reply != nil && c.Reply.Fault != nil:
		if c.Reply.Fault.FromSender() && strings.TrimSpace(c.Reply.Fault.Reason) == "" {
			return exchange.ByAnswer
		}
	case stop.ID == "receive.client-error":
		return exchange.ByAnswer
	}
	if c.onlyDifference(fields) {
		return exchange.ByDifference
	}
	return ""
}

// mattersTo tells whether who answered can be expected to mind what is wrong with the shape of the message: who
// is not known to be a SOAP service may take what is no envelope, and what can be read in spite of its encoding
// may be right.
func (c *Case) mattersTo(warning, stop *exchange.Finding) bool {
	soapy := c.Reply != nil && c.Reply.Fault != nil || c.Port != nil
	switch warning.ID {
	case "message.not-xml":
		return soapy || stop.ID == "receive.media-type-refused"
	case "message.not-envelope", "message.body-empty":
		return soapy
	case "send.charset-differs":
		return stop.ID == "read.fault-client" || c.Draft != nil && c.Draft.Err() != nil
	}
	return true
}

// leftOutNamed tells whether the answer speaks of a header, and of a declared block that
// was left out by its name.
func (c *Case) leftOutNamed() bool {
	said := c.answerWords()
	return strings.Contains(said, "header") && slices.ContainsFunc(c.leftOut(), func(q schema.QName) bool {
		return hasWord(said, q.Local)
	})
}

// answerWords are the words of the answer, in lower case.
func (c *Case) answerWords() string {
	if c.Reply != nil && c.Reply.Fault != nil {
		said := c.Reply.Fault.Reason
		if d := c.Reply.Fault.Detail; !d.IsZero() {
			said += " " + d.Text() + " " + schema.Words(d)
		}
		return strings.ToLower(said)
	}
	if l := c.leg(); l != nil {
		return strings.ToLower(string(l.ResponseBody.Range(0, 16<<10)))
	}
	return ""
}

// suspects are the names and the values of the fields that a warning is about.
func (c *Case) suspects(warning string) (fields, values []string) {
	if warning == "message.placeholder-left" {
		for _, it := range slices.Concat(c.Draft.Unfilled(), c.Header.Unfilled()) {
			fields = append(fields, it.Name)
		}
		return fields, nil
	}
	for _, e := range slices.Concat(c.Invalid, c.HeaderInvalid) {
		fields = append(fields, fieldOf(e.Path))
		for _, name := range e.Expected {
			if len(e.Expected) <= 3 {
				fields = append(fields, fieldOf(name))
			}
		}
		if c.Draft != nil && e.Span.End <= len(c.Draft.Bytes()) && e.Span.Start < e.Span.End {
			values = append(values, string(c.Draft.Bytes()[e.Span.Start:e.Span.End]))
		}
	}
	return fields, values
}

// onlyDifference tells whether one of the fields is all in which the call differs from
// the newest one that passed.
func (c *Case) onlyDifference(fields []string) bool {
	passed := c.passed()
	if passed == nil {
		return false
	}
	all := differs(passed, c.X, nil)
	return len(all) == 1 && slices.Contains(fields, fieldOf(all[0].Key))
}

// passed is the newest call that passed over the same operation and endpoint, or nil.
func (c *Case) passed() *exchange.Exchange {
	if c.History == nil {
		return nil
	}
	if p := c.History.Passed(c.X.Workspace, c.X.Operation, c.X.Endpoint); p != nil && p.ID != c.X.ID {
		return p
	}
	return nil
}

// heldInAPass tells whether the newest call that passed had the same warning, with the
// same words.
func (c *Case) heldInAPass(warning *exchange.Finding) bool {
	passed := c.passed()
	return passed != nil && slices.ContainsFunc(passed.Findings, func(f exchange.Finding) bool {
		return f.ID == warning.ID && f.Why == warning.Why
	})
}

// fieldOf is the name of the field that a path ends with.
func fieldOf(path string) string {
	name := strings.TrimPrefix(path[strings.LastIndexByte(path, '/')+1:], "@")
	name, _, _ = strings.Cut(name, "[")
	return name
}

// hasWord tells whether a text has a word, whatever its case.
func hasWord(said, word string) bool {
	word = strings.ToLower(strings.TrimSpace(word))
	if word == "" {
		return false
	}
	found, err := regexp.MatchString(`(^|[^\pL\pN_])`+regexp.QuoteMeta(word)+`($|[^\pL\pN_])`, said)
	return err == nil && found
}
