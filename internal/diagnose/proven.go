package diagnose

import (
	"regexp"
	"slices"
	"strings"

	"orenda/internal/exchange"
)

// decodingWords are what services say that could not read a message.
//
//nolint:gochecknoglobals // a table: it is never written to
var decodingWords = []string{"schema", "unmarshal", "deserial", "cvc-", "parse"}

// proves tells whether a warning about the message is proven to be what the answer is
// about. What contradicts the contract as a whole is. A value that is odd is not, by
// itself: many services take it. It is where the fault's words quote it or its field,
// or say that the message could not be read; never where it was so in a call that
// passed. An answer without words leaves it as the only thing that is known.
func (c *Case) proves(warning string, all []exchange.Finding) bool {
	if warning != "message.invalid" && warning != "message.placeholder-left" {
		return true
	}
	if c.heldInAPass(warning, all) {
		return false
	}
	if c.Reply == nil || c.Reply.Fault == nil {
		return true
	}
	said := strings.ToLower(c.Reply.Fault.Reason)
	if d := c.Reply.Fault.Detail; !d.IsZero() {
		said += " " + strings.ToLower(d.Text())
	}
	if slices.ContainsFunc(decodingWords, func(w string) bool { return strings.Contains(said, w) }) {
		return true
	}
	var fields, values []string
	if warning == "message.invalid" {
		for _, e := range slices.Concat(c.Invalid, c.HeaderInvalid) {
			fields = append(fields, fieldOf(e.Path))
			if c.Draft != nil && e.Span.End <= len(c.Draft.Bytes()) && e.Span.Start < e.Span.End {
				values = append(values, string(c.Draft.Bytes()[e.Span.Start:e.Span.End]))
			}
		}
	} else {
		for _, it := range slices.Concat(c.Draft.Unfilled(), c.Header.Unfilled()) {
			fields = append(fields, it.Name)
		}
	}
	return slices.ContainsFunc(fields, func(f string) bool { return hasWord(said, f) }) ||
		slices.ContainsFunc(values, func(v string) bool { return len(v) > 2 && hasWord(said, v) })
}

// heldInAPass tells whether the newest call that passed had the same warning, with the
// same words.
func (c *Case) heldInAPass(warning string, all []exchange.Finding) bool {
	i := slices.IndexFunc(all, func(f exchange.Finding) bool { return f.ID == warning })
	if c.History == nil || i < 0 {
		return false
	}
	passed := c.History.Passed(c.X.Workspace, c.X.Operation, c.X.Endpoint)
	return passed != nil && slices.ContainsFunc(passed.Findings, func(f exchange.Finding) bool {
		return f.ID == warning && f.Why == all[i].Why
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
