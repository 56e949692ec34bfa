// Package expect reads and checks what a person expects of an answer: values of fields,
// counts, validity, a time, a size, or a refusal. The forms are in docs/cli.md.
package expect

import (
	"errors"
	"fmt"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"time"

	"orenda/internal/data"
	"orenda/internal/endpoint"
	"orenda/internal/message"
	"orenda/internal/pattern"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Expectation is one thing that is expected of an answer.
type Expectation struct {
	Text  string // as it was written
	about about
	field string // path, of what is about a field
	op    string // = ~ *= < <= > >= ? !
	value string
	plus  *big.Rat       // how far a number may be off; nil: not at all
	like  *regexp.Regexp // of ~
	limit int64          // nanoseconds of within, bytes of size
}

type about uint8

const (
	aField about = iota
	aCount
	aFault
	aFinding
	aTime
	aSize
	aValidity
)

// Answer is what expectations are held against.
type Answer struct {
	Payload xmltree.Node    // of the reply; zero where none came
	Set     *schema.Set     // nil where no contract is known
	Decl    *schema.Element // of the payload, nil where it is not known
	Fault   *soap.Fault     // nil where none came
	Total   time.Duration   // of the call so far
	Size    int64           // of the reply's body in bytes
	Finding string          // the id of the finding that leads, "" none
}

// Result is what became of an expectation.
type Result struct {
	Met      bool         // it holds
	Path     string       // of what it is about
	Expected string       // in words
	Received string       // in words
	Found    bool         // what it is about is there
	At       xmltree.Node // where it stands; zero: nowhere
}

var countOf = pattern.New(`^count\(([^)]+)\)`)

// Parse reads an expectation.
func Parse(text string) (*Expectation, error) {
	e := &Expectation{Text: text}
	s := strings.TrimSpace(text)
	switch {
	case s == "":
		return nil, errors.New("an expectation is empty")
	case s == "valid":
		e.about = aValidity
		return e, nil
	case s == "fault":
		e.about, e.op = aFault, "?"
		return e, nil
	case s[0] == '!':
		e.field, e.op = clean(s[1:]), "!"
		return e, e.hasField()
	}
	if m := countOf.FindStringSubmatch(s); m != nil {
		e.about, e.field = aCount, clean(m[1])
		s = s[len(m[0]):]
	}
	at := strings.IndexAny(s, "=~<>*")
	if at < 0 || at+1 == len(s) && s[at] == '*' {
		if name, is := strings.CutSuffix(s, "?"); is && e.about == aField {
			e.field, e.op = clean(name), "?"
			return e, e.hasField()
		}
		return nil, fmt.Errorf(
			"%q does not say what is expected: write FIELD=VALUE, FIELD?, !FIELD, valid or fault",
			text,
		)
	}
	name := strings.TrimSpace(s[:at])
	for _, op := range []string{"*=", "<=", ">=", "=", "~", "<", ">"} {
		if rest, is := strings.CutPrefix(s[at:], op); is {
			e.op, e.value = op, strings.TrimSpace(rest)
			break
		}
	}
	if e.op == "" {
		return nil, fmt.Errorf("%q has no comparison that is known", text)
	}
	return e, e.settle(name)
}

// clean is a path without what sets it off from the words that mean something else.
func clean(path string) string { return strings.TrimPrefix(strings.TrimSpace(path), "./") }

func (e *Expectation) hasField() error {
	if e.field == "" {
		return fmt.Errorf("%q names no field", e.Text)
	}
	return nil
}

// settle finds out what the name before the comparison is.
func (e *Expectation) settle(name string) (err error) {
	switch {
	case e.about == aCount:
		if _, cerr := strconv.Atoi(e.value); name != "" || cerr != nil || e.op == "~" || e.op == "*=" {
			return fmt.Errorf("%q: a count is compared with a whole number", e.Text)
		}
		return nil
	case name == "fault" && (e.op == "=" || e.op == "*="):
		e.about = aFault
		return nil
	case name == "finding" && e.op == "=":
		e.about = aFinding
		return nil
	case name == "within" && e.op == "=":
		e.about = aTime
		d, err := endpoint.ParseDuration(e.value)
		if err != nil || d <= 0 {
			return fmt.Errorf("%q: %q is no time, such as 2s or 500ms", e.Text, e.value)
		}
		e.limit = int64(d)
		return nil
	case name == "size" && strings.ContainsAny(e.op, "<>"):
		e.about = aSize
		e.limit, err = endpoint.ParseSize(e.value)
		return err
	}
	e.field = clean(name)
	if err := e.hasField(); err != nil {
		return err
	}
	return e.settleValue()
}

// settleValue reads the value that a field is compared with.
func (e *Expectation) settleValue() (err error) {
	switch e.op {
	case "~":
		if e.like, err = regexp.Compile(`^(?:` + e.value + `)$`); err != nil {
			return fmt.Errorf("%q: %w", e.Text, err)
		}
	case "=":
		for _, mark := range []string{"±", "+-"} {
			number, off, found := strings.Cut(e.value, mark)
			_, isNumber := rat(number)
			b, isOff := rat(off)
			if found && isNumber && isOff {
				e.value, e.plus = strings.TrimSpace(number), b
			}
		}
	}
	return nil
}

// Refusal tells whether it is a refusal that is expected: a fault, or a finding with
// which the call ends.
func (e *Expectation) Refusal() bool { return e.about == aFault || e.about == aFinding }

// OfFinding tells whether it is about the finding with which the call ends.
func (e *Expectation) OfFinding() bool { return e.about == aFinding }

// Check holds it against an answer.
func (e *Expectation) Check(a *Answer) Result {
	r := Result{Path: e.Text, Expected: e.words(), At: a.Payload, Found: true}
	switch e.about {
	case aValidity:
		if a.Set == nil || a.Decl == nil || a.Payload.IsZero() {
			r.Received = "no schema is known, or no reply came"
			return r
		}
		opts := schema.Options{Max: 1}
		errs := append(a.Set.Validate(a.Payload, a.Decl, opts), message.ValidateWithin(a.Set, a.Payload, opts)...)
		if r.Met, r.Received = len(errs) == 0, "valid"; !r.Met {
			r.Received = errs[0].Path + ": " + errs[0].Message
		}
	case aFault:
		e.fault(a, &r)
	case aFinding:
		r.Received = a.Finding
		if a.Finding == "" {
			r.Received = "nothing is wrong"
		}
		r.Met = a.Finding == e.value
	case aTime:
		r.Received, r.Met = a.Total.Round(time.Microsecond).String(), int64(a.Total) <= e.limit
	case aSize:
		r.Received = strconv.FormatInt(a.Size, 10) + " bytes"
		r.Met = holds(big.NewRat(a.Size, 1).Cmp(big.NewRat(e.limit, 1)), e.op)
	case aCount:
		r.Path = e.field
		n := len(find(a.Payload, e.field))
		want, _ := strconv.ParseInt(e.value, 10, 64)
		r.Received, r.Met = strconv.Itoa(n), holds(big.NewRat(int64(n), 1).Cmp(big.NewRat(want, 1)), e.op)
	default:
		e.ofField(a, &r)
	}
	return r
}

// words are what is expected.
func (e *Expectation) words() string {
	switch {
	case e.op == "?" && e.about == aFault:
		return "a fault"
	case e.op == "?":
		return "it is there"
	case e.op == "!":
		return "it is not there"
	case e.about == aField && e.op == "=" && e.plus == nil:
		return e.value
	case e.plus != nil:
		f, _ := e.plus.Float64()
		return fmt.Sprintf("%s ± %v", e.value, f)
	case e.about == aValidity:
		return "valid"
	case e.about == aTime:
		return "within " + e.value
	}
	return strings.TrimSpace(e.op + " " + e.value)
}

func (e *Expectation) fault(a *Answer, r *Result) {
	r.Path = "fault"
	if a.Fault == nil {
		r.Received = "a reply that is no fault"
		return
	}
	r.Received = a.Fault.Code.Local + ": " + a.Fault.Reason
	if !a.Fault.Node.IsZero() {
		r.At = a.Fault.Node
	}
	switch e.op {
	case "?":
		r.Met = true
	case "*=":
		r.Met = strings.Contains(strings.ToLower(a.Fault.Reason), strings.ToLower(e.value))
	default:
		local := e.value[strings.LastIndexByte(e.value, ':')+1:]
		for i, c := range a.Fault.Codes() {
			r.Met = r.Met || c.Local == local || i > 0 && a.Fault.Code.Local+"."+c.Local == local
		}
	}
}

// match is a place that a path leads to.
type match struct {
	node  xmltree.Node // the element, or that which has the attribute
	attr  string       // "" the element's own value
	value string
}

// find are the places that a path leads to below an element: names without prefixes,
// positions in brackets, an attribute as @name. A single name is looked for at any depth.
func find(n xmltree.Node, path string) []match {
	if n.IsZero() {
		return nil
	}
	parts := strings.Split(strings.Trim(path, "/"), "/")
	at := []xmltree.Node{n}
	for i, p := range parts {
		if name, is := strings.CutPrefix(p, "@"); is {
			return attributes(at, name)
		}
		name, index := p, 0
		if b := strings.IndexByte(p, '['); b > 0 && strings.HasSuffix(p, "]") {
			name = p[:b]
			index, _ = strconv.Atoi(p[b+1 : len(p)-1])
		}
		var next []xmltree.Node
		for _, from := range at {
			var here []xmltree.Node
			if i == 0 && len(parts) == 1 {
				here = anywhere(from, name, nil)
			} else {
				for c := range from.Children() {
					if c.Name().Local == name {
						here = append(here, c)
					}
				}
			}
			switch {
			case index == 0:
				next = append(next, here...)
			case index <= len(here):
				next = append(next, here[index-1])
			}
		}
		at = next
	}
	out := make([]match, 0, len(at))
	for _, m := range at {
		out = append(out, match{node: m, value: m.Text()})
	}
	return out
}

func attributes(at []xmltree.Node, name string) (out []match) {
	for _, n := range at {
		for a := range n.Attrs() {
			if a.Name.Local == name {
				out = append(out, match{n, name, a.Value})
			}
		}
	}
	return out
}

func anywhere(n xmltree.Node, name string, out []xmltree.Node) []xmltree.Node {
	for c := range n.Children() {
		if c.Name().Local == name {
			out = append(out, c)
		}
		out = anywhere(c, name, out)
	}
	return out
}

// ofField checks what is about a field. Where it stands more than once, one that is equal
// is enough; a comparison has to hold for each.
func (e *Expectation) ofField(a *Answer, r *Result) {
	r.Path = e.field
	all := find(a.Payload, e.field)
	switch e.op {
	case "?", "!":
		r.Found = len(all) > 0
		r.Met = r.Found == (e.op == "?")
		r.Received = "it is there"
		if !r.Found {
			r.Received = "it is not there"
		} else {
			r.At = all[0].node
		}
		return
	}
	if r.Found = len(all) > 0; !r.Found {
		return
	}
	types := data.TypesOf(a.Set, a.Decl, a.Payload)
	every := strings.ContainsAny(e.op, "<>")
	r.Received, r.At, r.Met = all[0].value, all[0].node, every
	for _, m := range all {
		switch met := e.holdsFor(m.value, types(m.node, m.attr)); {
		case met && !every:
			r.Received, r.At, r.Met = m.value, m.node, true
			return
		case !met && every:
			r.Received, r.At, r.Met = m.value, m.node, false
			return
		}
	}
}

// holdsFor tells whether it holds for one value of a type, which may be nil.
func (e *Expectation) holdsFor(v string, t *schema.Simple) bool {
	switch {
	case e.op == "*=":
		return strings.Contains(v, e.value)
	case e.op == "~":
		return e.like.MatchString(v)
	case e.plus != nil:
		a, ok := rat(v)
		b, _ := rat(e.value)
		return ok && new(big.Rat).Abs(new(big.Rat).Sub(a, b)).Cmp(e.plus) <= 0
	case e.op == "=":
		return v == e.value || sameValue(v, e.value, t)
	}
	order, ok := compare(v, e.value)
	return ok && holds(order, e.op)
}

// sameValue compares in the value space of a type (part 2 §2.2).
func sameValue(a, b string, t *schema.Simple) bool {
	if t == nil || t.Variety != schema.Atomic {
		return false
	}
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	truth := map[string]string{"1": "true", "0": "false"}
	switch t.Primitive {
	case "decimal", "float", "double":
		x, ok := rat(a)
		y, also := rat(b)
		return a == b || ok && also && x.Cmp(y) == 0
	case "boolean":
		if v := truth[a]; v != "" {
			a = v
		}
		if v := truth[b]; v != "" {
			b = v
		}
		return a == b
	case "dateTime", "date", "time":
		x, ok := moment(a)
		y, also := moment(b)
		return ok && also && x.Equal(y)
	case "hexBinary":
		return strings.EqualFold(a, b)
	}
	return false
}

// compare orders two numbers, dates or times.
func compare(a, b string) (order int, ok bool) {
	x, isNumber := rat(a)
	y, too := rat(b)
	if isNumber && too {
		return x.Cmp(y), true
	}
	s, isTime := moment(a)
	u, too := moment(b)
	return s.Compare(u), isTime && too
}

func holds(order int, op string) bool {
	switch op {
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	case ">=":
		return order >= 0
	}
	return order == 0
}

// rat is a number with all its digits.
func rat(s string) (*big.Rat, bool) {
	n, ok := data.Number(strings.TrimSpace(s))
	if !ok || len(n) > 400 {
		return nil, false
	}
	if i := strings.IndexAny(n, "eE"); i >= 0 {
		if x, err := strconv.Atoi(strings.TrimPrefix(n[i+1:], "+")); err != nil || x > 400 || x < -400 {
			return nil, false
		}
	}
	return new(big.Rat).SetString(n)
}

// moment is a date, a time or both, as XML Schema writes them.
func moment(s string) (time.Time, bool) {
	for _, layout := range []string{
		"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999", "2006-01-02Z07:00", "2006-01-02",
		"15:04:05.999999999Z07:00", "15:04:05.999999999",
	} {
		if t, err := time.Parse(layout, strings.TrimSpace(s)); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}
