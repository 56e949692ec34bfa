package app

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"orenda/internal/app/ui"
	"orenda/internal/exchange"
)

// Two things are told in the free line below the head: what a view is for, until the
// person ends it with esc, and in the demo a story that waits for the person.

// forViews says in one line what each view is for.
//
//nolint:gochecknoglobals // a table: it is never written to
var forViews = map[string]string{
	"board":        "each row is a message, each column an endpoint: the marks show how far that call came",
	"path":         "a call goes through eleven stages; × marks where it stopped, and the right side says why",
	"strip":        "every byte that crossed, in the order of time; what proves the cause is marked",
	"draft":        "the message as fields: ⏎ fills one in, and g sends the call",
	"reply":        "the answer as fields, rows, JSON or bytes: tab changes the form",
	"contract":     "what the service offers, by its description: ⏎ fills in a message",
	"compare":      "two calls under each other: the most telling difference first, ⏎ takes it over",
	"traffic":      "every call that was kept, newest first, also those of your own program through a relay",
	"musters":      "many cases in one run: what came back as expected, what did not, and why",
	"sounding":     "every value that was sent in search of the edge, and what the service said to it",
	"relays":       "your program calls here, each call is passed on, kept and explained",
	"trust":        "the certificates that a server shows, and which of them you trust",
	"identities":   "who you are towards services: names and where the secrets are, never the secrets",
	"endpoints":    "where calls go, and by which settings: mark some and give them the same",
	"environments": "values that differ between test and live, as ${names} in settings and messages",
}

// told keeps for which views the line was ended, in a file of the person's.
type told struct {
	file string
	ends []string
}

func readTold(state string) *told {
	t := &told{file: filepath.Join(state, "told")}
	b, _ := os.ReadFile(t.file) // none is there before the first
	t.ends = strings.Fields(string(b))
	return t
}

// end ends the line of a view for ever.
func (t *told) end(view string) {
	if slices.Contains(t.ends, view) {
		return
	}
	t.ends = append(t.ends, view)
	if os.MkdirAll(filepath.Dir(t.file), 0o700) == nil {
		_ = os.WriteFile(t.file, []byte(strings.Join(t.ends, "\n")+"\n"), 0o600) // told again, at worst
	}
}

// step is a line of the story; done tells whether the person did what it says.
type step struct {
	call, says string
	done       func(m *model, x *exchange.Exchange) bool
}

// steps are the story of the demo: three calls, each failing in another way.
func steps() []step {
	on := func(view string) func(*model, *exchange.Exchange) bool {
		return func(m *model, _ *exchange.Exchange) bool { return m.places[m.at].name == view }
	}
	chosen := func(operation, end string) func(*model, *exchange.Exchange) bool {
		return func(m *model, _ *exchange.Exchange) bool {
			c := m.s.Chosen
			return c.Draft.Operation == operation && c.Endpoint == end && m.places[m.at].name == "path"
		}
	}
	stopped := func(at exchange.Stage) func(*model, *exchange.Exchange) bool {
		return func(m *model, x *exchange.Exchange) bool {
			return len(m.s.Attempts) > 0 && x.Outcome == exchange.OutcomeStopped && x.StoppedAt == at
		}
	}
	changed := func(m *model, _ *exchange.Exchange) bool { return len(m.s.Pending()) > 0 }
	return []step{
		{"first", "go with ↓ and → to YearTable below tides-tls, and press ⏎", chosen("YearTable", "tides-tls")},
		{"first", "press g: the call is sent", stopped(exchange.Address)},
		{"first", "× marks where it stopped; why and repair stand on the right. ⏎ shows the change, ⏎ makes it",
			changed},
		{"first", "the change is made, nothing was sent yet: g tries again", stopped(exchange.TLS)},
		{"first", "it came five stages further, and the next thing is wrong. b leads back to the board", on("board")},
		{"second", "go to FindBerths, deep draught, below berths-tls, and press ⏎", chosen("FindBerths", "berths-tls")},
		{"second", "g sends it", stopped(exchange.TLS)},
		{"second", "the server's certificate is not trusted here: T shows it, with its fingerprint", on("trust")},
		{"second", "f fetches the chain again, ⏎ would trust it; p leads back to the path", on("path")},
		{"second", "⏎ repairs it: compare the fingerprint, and press ⏎ again", changed},
		{"second", "g, and the call passes", func(_ *model, x *exchange.Exchange) bool {
			return x.Outcome == exchange.OutcomePassed
		}},
		{"second", "r shows the answer; b leads back to the board", on("board")},
		{"third", "go to ReserveBerth below berths-11, and press ⏎", chosen("ReserveBerth", "berths-11")},
		{"third", "g sends it", stopped(exchange.Read)},
		{"third", "the service says no, in its own words. s shows its bytes, the evidence marked", on("strip")},
		{"third", "that is all there is to it: ? shows every key, and your own service begins with a on the board",
			func(*model, *exchange.Exchange) bool { return false }},
	}
}

// goOn goes to the next line of the story where the person did what this one says.
func (m *model) goOn() {
	for m.step < len(m.story) {
		if m.s.UnderWay() > 0 || !m.story[m.step].done(m, m.s.Exchange()) {
			return
		}
		m.step++
	}
}

// endsTelling ends the line that is told, for esc.
func (m *model) endsTelling() {
	if m.step < len(m.story) {
		if m.places[m.at].name == "board" {
			m.story = nil
			m.s.Say("the story is left; orenda demo tells it again")
		}
		return
	}
	m.told.end(m.places[m.at].name)
}

// telling is the line that is told now, "" none.
func (m *model) telling() string {
	if m.over != none {
		return ""
	}
	if m.step < len(m.story) {
		s := m.story[m.step]
		leave := ""
		if m.places[m.at].name == "board" {
			leave = "   esc leaves the story"
		}
		return ui.Accent(" ▸ ") + ui.Strong("the "+s.call+" of three calls: ") + s.says + ui.Soft(leave)
	}
	name := m.places[m.at].name
	if b, ok := m.view().(interface{ Waits() bool }); ok && b.Waits() || slices.Contains(m.told.ends, name) {
		return ""
	}
	return ui.Soft("   " + forViews[name] + "   esc: told enough")
}

// tell puts the line that is told into the free line of a view.
func (m *model) tell(inner string) string {
	line := m.telling()
	first, rest, _ := strings.Cut(inner, "\n")
	if line == "" || strings.TrimSpace(first) != "" {
		return inner
	}
	return ui.Pad(ansi.Truncate(line, m.w, "…"), m.w) + "\n" + rest
}
