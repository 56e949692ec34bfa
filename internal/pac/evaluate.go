package pac

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// kinds of values.
const (
	notKnown = iota
	aText
	aNumber
	aTruth
)

// value is what an expression is, as far as it is known.
type value struct {
	kind   int
	text   string
	number float64
	truth  bool
	why    string // it is not known
}

func text(s string) value      { return value{kind: aText, text: s} }
func number(n float64) value   { return value{kind: aNumber, number: n} }
func truth(b bool) value       { return value{kind: aTruth, truth: b} }
func unknown(why string) value { return value{why: why} }
func (v value) known() bool    { return v.kind != notKnown }
func (v value) equal(w value) bool {
	return v.kind == w.kind && v.text == w.text && v.number == w.number && v.truth == w.truth
}

func (v value) holds() Truth {
	yes := v.kind == aText && v.text != "" || v.kind == aNumber && v.number != 0 || v.kind == aTruth && v.truth
	switch {
	case !v.known():
		return Unknown
	case yes:
		return Yes
	}
	return No
}

// evaluation goes through the statements for one address.
type evaluation struct {
	out   *Reading
	names map[string]value
	steps int
}

// mostSteps bounds the work for one file.
const mostSteps = 1 << 20

// all goes through statements until one chooses.
func (e *evaluation) all(list []*node) (chosen value, line int, ended bool) {
	for _, n := range list {
		if chosen, line, ended = e.one(n); ended {
			return chosen, line, true
		}
	}
	return value{}, 0, false
}

func (e *evaluation) one(n *node) (chosen value, line int, ended bool) {
	switch n.op {
	case "block":
		return e.all(n.kids)
	case "return":
		if len(n.kids) == 0 {
			return unknown("nothing is chosen"), n.line, true
		}
		return e.of(n.kids[0]), n.line, true
	case "set":
		if len(n.kids) == 2 && n.kids[0].op == "name" {
			e.names[n.kids[0].text] = e.of(n.kids[1])
		}
		return value{}, 0, false
	case "if":
		return e.branch(n)
	}
	return value{}, 0, false
}

// branch notes a condition, and goes on where it leads. Where it is not known, what it would choose is
// noted, and the rest is read as if it did not hold.
func (e *evaluation) branch(n *node) (chosen value, line int, ended bool) {
	v := e.of(n.kids[0])
	r := Rule{Line: n.line, Condition: n.kids[0].src, Holds: v.holds(), Why: v.why}
	at := len(e.out.Rules)
	e.out.Rules = append(e.out.Rules, r)
	if r.Holds != No {
		was := *e.out
		chosen, line, ended = e.one(n.kids[1])
		if ended {
			e.out.Rules[at].Choice = chosen.text
		}
		if r.Holds == Yes {
			return chosen, line, ended
		}
		*e.out = Reading{Rules: e.out.Rules[: at+1 : at+1], Choice: was.Choice}
	}
	if len(n.kids) == 3 {
		return e.one(n.kids[2])
	}
	return value{}, 0, false
}

//revive:disable-next-line:cyclomatic one row for each kind of expression
func (e *evaluation) of(n *node) value {
	if e.steps++; e.steps > mostSteps {
		return unknown("the file is too long")
	}
	switch n.op {
	case "text":
		return text(n.text)
	case "number":
		f, _ := strconv.ParseFloat(n.text, 64)
		return number(f)
	case "name":
		switch v, known := e.names[n.text]; {
		case n.text == "true" || n.text == "false":
			return truth(n.text == "true")
		case n.text == "null" || n.text == "undefined":
			return text("")
		case known:
			return v
		}
		return unknown(n.text + " is not read")
	case "?:":
		switch c := e.of(n.kids[0]); c.holds() {
		case Yes:
			return e.of(n.kids[1])
		case No:
			return e.of(n.kids[2])
		default:
			return unknown(c.why)
		}
	case "un!":
		v := e.of(n.kids[0])
		if !v.known() {
			return v
		}
		return truth(v.holds() == No)
	case "un-":
		v := e.of(n.kids[0])
		v.number = -v.number
		return v
	case "||", "&&":
		return e.both(n)
	case "member":
		if v := e.of(n.kids[0]); n.text == "length" && v.kind == aText {
			return number(float64(len(v.text)))
		}
		return unknown("." + n.text + " is not read")
	case "call":
		return e.call(n)
	}
	a, b := e.of(n.kids[0]), e.of(n.kids[1])
	switch {
	case !a.known():
		return a
	case !b.known():
		return b
	}
	return compared(n.op, a, b)
}

// both is what two conditions are together: known where one of them settles it.
func (e *evaluation) both(n *node) value {
	settles := map[string]Truth{"||": Yes, "&&": No}[n.op]
	a := e.of(n.kids[0])
	if a.holds() == settles {
		return a
	}
	b := e.of(n.kids[1])
	if a.known() || b.holds() == settles {
		return b
	}
	return a
}

func compared(op string, a, b value) value {
	switch op {
	case "==", "===":
		return truth(a.equal(b))
	case "!=", "!==":
		return truth(!a.equal(b))
	case "+":
		if a.kind == aNumber && b.kind == aNumber {
			return number(a.number + b.number)
		}
		return text(a.String() + b.String())
	case "-":
		return number(a.number - b.number)
	}
	less, more := a.number < b.number, a.number > b.number
	if a.kind == aText && b.kind == aText {
		less, more = a.text < b.text, a.text > b.text
	}
	return truth(op == "<" && less || op == ">" && more || op == "<=" && !more || op == ">=" && !less)
}

func (v value) String() string {
	if v.kind == aNumber {
		return strconv.FormatFloat(v.number, 'f', -1, 64)
	}
	return v.text
}

// call is what a function gives.
func (e *evaluation) call(n *node) value {
	args := make([]value, 0, len(n.kids))
	for _, k := range n.kids[1:] {
		v := e.of(k)
		if !v.known() {
			return v
		}
		args = append(args, v)
	}
	arg := func(i int) string {
		if i < len(args) {
			return args[i].String()
		}
		return ""
	}
	switch of := n.kids[0]; of.op {
	case "name":
		return called(of.text, arg)
	case "member":
		v := e.of(of.kids[0])
		if !v.known() {
			return v
		}
		return method(v.text, of.text, args, arg)
	}
	return unknown("a function is not read")
}

// called is a function of the format.
func called(name string, arg func(int) string) value {
	switch name {
	case "isPlainHostName":
		return truth(!strings.Contains(arg(0), "."))
	case "dnsDomainIs":
		return truth(strings.HasSuffix(strings.ToLower(arg(0)), strings.ToLower(arg(1))))
	case "localHostOrDomainIs":
		return truth(arg(0) == arg(1) || !strings.Contains(arg(0), ".") && strings.HasPrefix(arg(1), arg(0)+"."))
	case "dnsDomainLevels":
		return number(float64(strings.Count(arg(0), ".")))
	case "shExpMatch":
		return truth(matches(arg(0), arg(1)))
	case "isInNet":
		return inNet(arg(0), arg(1), arg(2))
	case "dnsResolve", "isResolvable":
		if ip, err := netip.ParseAddr(arg(0)); err == nil {
			if name == "isResolvable" {
				return truth(true)
			}
			return text(ip.String())
		}
		return unknown("the address of " + arg(0) + " is not looked up")
	case "myIpAddress":
		return unknown("it asks for the address of this machine")
	case "weekdayRange", "dateRange", "timeRange":
		return unknown("it depends on the time")
	case "alert":
		return text("")
	}
	return unknown(name + " is not read")
}

// inNet tells whether an address of version 4 is in a network.
func inNet(host, network, masked string) value {
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return unknown("the address of " + host + " is not looked up")
	}
	net, err1 := netip.ParseAddr(network)
	mask, err2 := netip.ParseAddr(masked)
	if err1 != nil || err2 != nil || !ip.Is4() || !net.Is4() || !mask.Is4() {
		return unknown(fmt.Sprintf("%s and %s are no network", network, masked))
	}
	a, b, m := ip.As4(), net.As4(), mask.As4()
	for i := range a {
		if a[i]&m[i] != b[i]&m[i] {
			return truth(false)
		}
	}
	return truth(true)
}

// method is a method of a text.
func method(of, name string, args []value, arg func(int) string) value {
	cut := func(i, usual int) int {
		if i < len(args) && args[i].kind == aNumber {
			usual = int(args[i].number)
		}
		return min(max(usual, 0), len(of))
	}
	switch name {
	case "toLowerCase":
		return text(strings.ToLower(of))
	case "toUpperCase":
		return text(strings.ToUpper(of))
	case "trim":
		return text(strings.TrimSpace(of))
	case "indexOf":
		return number(float64(strings.Index(of, arg(0))))
	case "startsWith":
		return truth(strings.HasPrefix(of, arg(0)))
	case "endsWith":
		return truth(strings.HasSuffix(of, arg(0)))
	case "includes":
		return truth(strings.Contains(of, arg(0)))
	case "substring", "slice":
		from, to := cut(0, 0), cut(1, len(of))
		return text(of[min(from, to):max(from, to)])
	case "substr":
		from := cut(0, 0)
		return text(of[from:min(from+max(cut(1, len(of)), 0), len(of))])
	case "charAt":
		from := cut(0, 0)
		return text(of[from:min(from+1, len(of))])
	}
	return unknown("." + name + " is not read")
}

// matches tells whether a text is as a pattern of the shell: * is any run, ? one sign.
func matches(s, pattern string) bool {
	star, mark, i, j := -1, 0, 0, 0
	for i < len(s) {
		switch {
		case j < len(pattern) && pattern[j] == '*':
			star, mark = j, i
			j++
		case j < len(pattern) && (pattern[j] == '?' || pattern[j] == s[i]):
			i++
			j++
		case star >= 0:
			mark++
			i, j = mark, star+1
		default:
			return false
		}
	}
	return strings.Trim(pattern[j:], "*") == ""
}
