package expect

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Bounds of what is expected of a reply as it came.
const (
	maxCame     = 40
	longestCame = 120
)

// AsCame writes expectations from replies to the same call: what was the same in all of them. Values
// that change from call to call are left out; one reply tells nothing of that, two or more do. Of
// what repeats only the count is expected. Of faults it is their code, and the reason where it is
// always the same. It gives nothing where the replies are of both kinds.
func AsCame(replies []*soap.Envelope) (out []string) {
	if len(replies) == 0 {
		return nil
	}
	if slices.ContainsFunc(replies, func(e *soap.Envelope) bool { return e.Fault != nil }) {
		return faultsAsCame(replies)
	}
	var first []came
	for i, e := range replies {
		if e.Payload.IsZero() {
			return nil
		}
		all := cameIn(e.Payload, "", nil)
		if i == 0 {
			first = all
			continue
		}
		first = slices.DeleteFunc(first, func(c came) bool { return !slices.Contains(all, c) })
	}
	for _, c := range first {
		if len(out) < maxCame {
			out = append(out, c.expectation())
		}
	}
	return out
}

func faultsAsCame(replies []*soap.Envelope) []string {
	f := replies[0].Fault
	for _, e := range replies {
		if e.Fault == nil {
			return nil
		}
	}
	code := f.Code.Local
	if len(f.Subcodes) > 0 {
		code = f.Subcodes[len(f.Subcodes)-1].Local
	}
	out := []string{"fault=" + code}
	same := !slices.ContainsFunc(replies, func(e *soap.Envelope) bool { return e.Fault.Reason != f.Reason })
	if same && f.Reason != "" && len(f.Reason) <= longestCame && !strings.ContainsAny(f.Reason, "\r\n") {
		out = append(out, "fault*="+strings.TrimSpace(f.Reason))
	}
	return out
}

// came is a value that stands once in a reply, or how often an element stands.
type came struct {
	path, value string
	count       int // of an element that repeats; 0: it is a value
}

func (c came) expectation() string {
	if c.count > 0 {
		return fmt.Sprintf("count(%s)=%d", c.path, c.count)
	}
	path := c.path
	if slices.Contains([]string{"valid", "fault", "within", "size", "finding"}, path) {
		path = "./" + path
	}
	return path + "=" + c.value
}

// cameIn are the values below an element, and the counts of what repeats.
func cameIn(n xmltree.Node, path string, out []came) []came {
	for a := range n.Attrs() {
		if a.Name.Space == "" && canStand(a.Value) {
			out = append(out, came{path: at(path, "@"+a.Name.Local), value: a.Value})
		}
	}
	counts := map[string]int{}
	for c := range n.Children() {
		counts[c.Name().Local]++
	}
	told := map[string]bool{}
	for c := range n.Children() {
		name := c.Name().Local
		if counts[name] > 1 {
			if !told[name] {
				told[name] = true
				out = append(out, came{path: at(path, name), count: counts[name]})
			}
			continue
		}
		if text := strings.TrimSpace(c.Text()); c.FirstChild().IsZero() && canStand(text) {
			out = append(out, came{path: at(path, name), value: text})
		}
		out = cameIn(c, at(path, name), out)
	}
	return out
}

func at(path, name string) string {
	if path == "" {
		return name
	}
	return path + "/" + name
}

// canStand tells whether a value can be written as an expectation: in one line, not too long, and
// not masked.
func canStand(value string) bool {
	return value != "" && len(value) <= longestCame && !strings.ContainsAny(value, "\r\n±") &&
		!strings.Contains(value, "+-") && !strings.Contains(value, "****")
}
