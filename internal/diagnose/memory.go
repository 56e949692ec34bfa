package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Remember tells what is known of calls like one that failed: what has changed
// since it last passed, and what repaired the same failure before. Remedies that
// follow from that are added to the first finding.
func Remember(c *Case, findings []exchange.Finding) *exchange.Memory {
	x := c.X
	if c.History == nil || x.Kind != "" || len(findings) == 0 {
		return nil
	}
	cause := &findings[0]
	m := &exchange.Memory{}
	if p := c.History.Passed(x.Workspace, x.Operation, x.Endpoint); p != nil && p.ID != x.ID {
		m.Passed = &exchange.LastPassed{ID: p.ID, Started: p.Started, Differs: differs(p, x, about(findings))}
		if r := c.back(m.Passed); r != nil && !cause.Offers(*r) {
			cause.Remedies = append(cause.Remedies, *r)
		}
	}
	for _, p := range c.History.Repaired(cause.ID) {
		var settings []exchange.Change
		for _, ch := range p.Changes {
			if ch.Where != "user" {
				settings = append(settings, ch)
			}
		}
		if len(settings) == 0 ||
			slices.ContainsFunc(
				m.Repaired,
				func(r exchange.Repaired) bool { return r.Endpoint == p.Endpoint && r.Operation == p.Operation },
			) {
			continue
		}
		m.Repaired = append(
			m.Repaired,
			exchange.Repaired{
				ID:        p.ID,
				Operation: p.Operation,
				Endpoint:  p.Endpoint,
				Started:   p.Started,
				Changes:   settings,
			},
		)
		if r := c.likewise(p, settings); r != nil && !cause.Offers(*r) {
			cause.Remedies = append(cause.Remedies, *r)
		}
	}
	if m.Passed == nil && m.Repaired == nil {
		return nil
	}
	return m
}

// about are the settings that findings are about: in their evidence or in their
// remedies.
func about(findings []exchange.Finding) map[string]bool {
	out := map[string]bool{}
	for _, f := range findings {
		if f.Severity == exchange.Note {
			continue
		}
		for _, e := range f.Evidence {
			if e.In == exchange.InSettings {
				out[e.Key] = true
			}
		}
		for _, r := range f.Remedies {
			for _, ch := range r.All() {
				out[ch.Key[strings.LastIndexByte(ch.Key, '.')+1:]] = true
			}
		}
	}
	return out
}

// differs compares a call that passed with one that did not: its environment,
// its settings and the fields of its message.
func differs(was, is *exchange.Exchange, about map[string]bool) []exchange.Differs {
	out := []exchange.Differs{}
	add := func(of, key string, stage exchange.Stage, a, b string) {
		if a != b {
			out = append(
				out,
				exchange.Differs{Key: key, Of: of, Stage: stage, Was: a, Is: b, Suspect: of != "field" && about[key]},
			)
		}
	}
	add("environment", "environment", exchange.Address, was.Environment, is.Environment)
	old := map[string]exchange.Setting{}
	for _, s := range was.Settings {
		old[s.Key] = s
	}
	for _, s := range is.Settings {
		o, known := old[s.Key]
		follows := o.Source == "default" && s.Source == "default" // another setting, which is told itself
		if known && !follows && !strings.Contains(o.Value+s.Value, masked8) {
			add("setting", s.Key, s.Stage, o.Value, s.Value)
		}
	}
	if st := is.Stage(exchange.Message); st != nil && st.State != exchange.Waiting && len(is.Inputs) > 0 {
		out = append(out, fieldsDiffer(was.Inputs, is.Inputs)...)
	}
	slices.SortStableFunc(out, func(a, b exchange.Differs) int {
		switch {
		case a.Suspect == b.Suspect:
			return 0
		case a.Suspect:
			return -1
		}
		return 1
	})
	return out
}

// fieldsDiffer compares what two messages were filled with. A field that is empty is
// another thing than one that is not there.
func fieldsDiffer(was, is []exchange.Input) (out []exchange.Differs) {
	old := map[string]string{}
	for _, in := range was {
		old[in.Path] = in.Value
	}
	for _, in := range is {
		d := exchange.Differs{Key: in.Path, Of: "field", Stage: exchange.Message, Was: old[in.Path], Is: in.Value}
		if _, there := old[in.Path]; !there {
			d.Absent = "then"
		} else if d.Was == d.Is {
			delete(old, in.Path)
			continue
		}
		out = append(out, d)
		delete(old, in.Path)
	}
	for _, in := range was {
		if v, left := old[in.Path]; left {
			out = append(out, exchange.Differs{
				Key: in.Path, Of: "field", Stage: exchange.Message, Was: v, Absent: "now",
			})
		}
	}
	return out
}

// masked8 is how a secret stands in a record that was kept.
//
//nolint:gochecknoglobals // a table: it is never written to
var masked8 = strings.Repeat(string(exchange.Masked), 8)

// personal are settings that are not carried from one endpoint to another: where a
// call goes, whom it trusts and who calls.
//
//nolint:gochecknoglobals // a table: it is never written to
var personal = []string{
	"address",
	"trust",
	"pin",
	"intermediates",
	"reply-trust",
	"accept-expired",
	"accept-name",
	"identity",
	"sign-identity",
	"client-identity",
	"proxy-identity",
	"client-cert",
	"client-key",
	"proxy",
	"key-log",
	"header",
	"trailer",
}

// back is the remedy that takes the suspects back to what they were.
func (c *Case) back(p *exchange.LastPassed) *exchange.Remedy {
	var changes []exchange.Change
	var words []string
	for _, d := range p.Differs {
		k := endpoint.KeyOf(d.Key)
		if !d.Suspect || d.Of == "field" || k == nil || k.Kind == endpoint.List {
			continue
		}
		changes = append(changes, c.change(d.Key, d.Was))
		words = append(words, k.Label())
	}
	if changes == nil {
		return nil
	}
	r := exchange.NewRemedy(
		fmt.Sprintf("take the %s back to what was set when this call passed, %s", list(words, 4), onDay(p.Started)),
		changes...)
	return &r
}

// likewise is the remedy that does here what repaired the same failure there.
func (c *Case) likewise(p *exchange.Exchange, there []exchange.Change) *exchange.Remedy {
	var changes []exchange.Change
	for _, ch := range there {
		parts := strings.SplitN(ch.Key, ".", 3)
		if ch.Where != "workspace" || len(parts) != 3 || parts[0] != "endpoint" && parts[0] != "profile" ||
			endpoint.KeyOf(parts[2]) == nil ||
			slices.Contains(personal, parts[2]) {
			return nil
		}
		if fmt.Sprint(ch.To) != c.Settings.Text(parts[2]) {
			changes = append(changes, c.changeHere(parts[2], ch.To))
		}
	}
	if changes == nil || p.Endpoint == c.X.Endpoint && p.Operation == c.X.Operation {
		return nil
	}
	r := exchange.NewRemedy(
		fmt.Sprintf("do what repaired the same failure of %s → %s, %s", p.Operation, p.Endpoint, onDay(p.Started)),
		changes...)
	return &r
}

func onDay(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// MemoryLines are what is remembered, each line under its heading.
func MemoryLines(m *exchange.Memory, now time.Time) (out [][2]string) {
	if m == nil {
		return nil
	}
	if p := m.Passed; p != nil {
		said := exchange.Age(p.Started, now) + " ago; nothing that is set here differs from then"
		if len(p.Differs) > 0 {
			said = exchange.Age(p.Started, now) + " ago; what differs from then:"
		}
		out = append(out, [2]string{"last passed", said})
		for _, d := range p.Differs {
			out = append(out, [2]string{DifferenceLabel(d), DifferenceWords(d)})
		}
	}
	for _, r := range m.Repaired {
		var words []string
		for _, ch := range r.Changes {
			_, to, _ := strings.Cut(ch.String(), "→ ")
			words = append(words, ch.Key[strings.LastIndexByte(ch.Key, '.')+1:]+" → "+to)
		}
		out = append(
			out,
			[2]string{
				"seen before",
				fmt.Sprintf(
					"%s → %s, %s ago: repaired by %s",
					r.Operation,
					r.Endpoint,
					exchange.Age(r.Started, now),
					list(words, 3),
				),
			},
		)
	}
	return out
}

// DifferenceLabel names what differs.
func DifferenceLabel(d exchange.Differs) string {
	if k := endpoint.KeyOf(d.Key); k != nil && d.Of != "field" {
		return k.Label()
	}
	if d.Of == "field" {
		return "field " + d.Key
	}
	return d.Key
}

// DifferenceWords say what it was and what it is.
func DifferenceWords(d exchange.Differs) string {
	if d.Of != "field" {
		return orUnset(d.Was) + " → " + orUnset(d.Is)
	}
	value := func(v, when string) string {
		switch {
		case d.Absent == when:
			return "not there"
		case v == "":
			return "empty"
		case strings.TrimSpace(v) != v:
			return fmt.Sprintf("%q", cut(v, 80))
		}
		return cut(v, 80)
	}
	return value(d.Was, "then") + " → " + value(d.Is, "now")
}

func orUnset(s string) string {
	if s == "" {
		return "not set"
	}
	return cut(s, 80)
}
