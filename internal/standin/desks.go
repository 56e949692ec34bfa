package standin

//revive:disable:line-length-limit an answer is one line

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"orenda/internal/xmltree"
)

// quay is what the berth desk knows.
//
//nolint:gochecknoglobals // a table: it is never written to
var quay = []struct {
	code          string
	length, depth float64
	quay          string
	held          bool
}{
	{"N01", 18, 3.2, "North quay", false}, {"N02", 24, 3.8, "North quay", true}, {"N04", 40, 5.5, "North quay", false},
	{"E03", 65, 7.0, "East mole", false}, {"E07", 120, 9.5, "East mole", false}, {"S11", 12, 2.4, "South steps", false},
}

// first is the value of the first element below n of that name.
func first(n xmltree.Node, name string) string {
	for c := range n.Children() {
		if c.Name().Local == name {
			return strings.TrimSpace(c.Text())
		}
		if v := first(c, name); v != "" {
			return v
		}
	}
	return ""
}

func berths(h *Harbour, op string, body xmltree.Node) (string, *fault) {
	switch op {
	case "FindBerths":
		length, _ := strconv.ParseFloat(first(body, "length"), 64)
		draught := 3.0
		if d, err := strconv.ParseFloat(first(body, "draught"), 64); err == nil {
			draught = d
		}
		var b strings.Builder
		b.WriteString("    <FindBerthsResponse xmlns=\"urn:skerry:berths\">")
		for _, q := range quay {
			if q.length >= length && q.depth >= draught {
				fmt.Fprintf(
					&b,
					"\n      <berth "+
						"free=\"%t\"><code>%s</code><length>%g</length><depth>%g</depth><quay>%s</quay></berth>",
					!q.held,
					q.code,
					q.length,
					q.depth,
					q.quay,
				)
			}
		}
		b.WriteString("\n    </FindBerthsResponse>")
		return b.String(), nil
	case "ReserveBerth":
		nights, _ := strconv.Atoi(first(body, "nights"))
		until := time.Now().AddDate(0, 0, nights).Format("2006-01-02")
		for _, q := range quay {
			if q.code != first(body, "berth") {
				continue
			}
			if q.held {
				return "", &fault{code: "Client", reason: "the berth " + q.code + " is held already",
					detail: `<BerthTaken xmlns="urn:skerry:berths"><berth>` + q.code + `</berth><until>` + until +
						`</until></BerthTaken>`}
			}
			h.mu.Lock()
			h.orders++
			n := h.orders
			h.mu.Unlock()
			return fmt.Sprintf(
				"    <ReserveBerthResponse "+
					"xmlns=\"urn:skerry:berths\"><reservation>R-%04d-%s</reservation><until>%s</until></ReserveBerthResponse>",
				n,
				q.code,
				until,
			), nil
		}
		return "", &fault{code: "Client", reason: "the harbour has no berth " + first(body, "berth")}
	}
	return "", nil
}

// tide is the level at a station: two waves, the moon's and the sun's, with a
// height that the station's name sets.
func tide(station string, at time.Time) float64 {
	seed := 0
	for _, r := range station {
		seed = seed*31 + int(r)
	}
	mean := 2 + float64(uint(seed)%150)/100
	h := at.Sub(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).Hours()
	return mean + 1.4*math.Cos(2*math.Pi*h/12.4206) + 0.5*math.Cos(2*math.Pi*h/12)
}

func tides(_ *Harbour, op string, body xmltree.Node) (string, *fault) {
	station := first(body, "station")
	var from, until time.Time
	step := 372*time.Minute + 37*time.Second // a quarter of a lunar day, about
	switch op {
	case "YearTable":
		year, _ := strconv.Atoi(first(body, "year")[:4])
		from = time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC)
		until = from.AddDate(1, 0, 0)
		step /= 8 // the year's table has the levels between the tides as well
	default:
		day, err := time.Parse("2006-01-02", first(body, "day")[:10])
		if err != nil {
			return "", &fault{code: "Client", reason: "the day cannot be read"}
		}
		from, until = day, day.AddDate(0, 0, 1)
	}
	factor := 1.0
	if first(body, "unit") == "foot" {
		factor = 3.28084
	}
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"    <%sResponse xmlns=\"urn:skerry:tides\">\n      <station>%s</station>",
		op,
		xmltree.EscapeText(station),
	)
	for at := from; at.Before(until); at = at.Add(step) {
		level := tide(station, at)
		state := "low water"
		if tide(station, at.Add(time.Hour)) < level {
			state = "high water"
		}
		fmt.Fprintf(
			&b,
			"\n      <tide>\n        <time>%s</time>\n        <level>%.2f</level>\n        <state>%s</state>\n      "+
				"</tide>",
			at.Format("2006-01-02T15:04:05Z"),
			level*factor,
			state,
		)
	}
	fmt.Fprintf(&b, "\n    </%sResponse>", op)
	return b.String(), nil
}

//nolint:gochecknoglobals // a table: it is never written to
var pilots = []string{"Marit Skjold", "Tomas Vane", "Ines Hallam"}

func pilotOrders(h *Harbour, _ string, body xmltree.Node) (string, *fault) {
	h.mu.Lock()
	h.orders++
	n := h.orders
	h.mu.Unlock()
	return fmt.Sprintf(
		"    <OrderPilotResponse "+
			"xmlns=\"urn:skerry:pilots\"><order>P-%04d-%s</order><pilot>%s</pilot></OrderPilotResponse>",
		n,
		xmltree.EscapeText(first(body, "callSign")),
		pilots[n%len(pilots)],
	), nil
}

// register is what the call sign service knows.
//
//nolint:gochecknoglobals // a table: it is never written to
var register = []struct{ sign, vessel, since string }{
	{
		"SKAL4",
		"Alder",
		"2011",
	}, {"SKAL4-B", "Alder's tender", "2019"}, {"SKBR1", "Bramble", "1998"}, {"SKCO7", "Corncrake", "2023"},
}

// nextCallSigns is the next version of the register. It differs in three small ways: names are
// in capitals, a hyphen in a sign is passed over, and the refusal says something else.
func nextCallSigns(h *Harbour, op string, body xmltree.Node) (string, *fault) {
	reply, f := callSigns(h, op, body)
	if f != nil && strings.HasPrefix(f.reason, "no vessel") {
		f.reason = "unknown call sign"
		if sign, _, hyphen := strings.Cut(first(body, "sign"), "-"); hyphen && len(sign) >= 4 {
			return registered(op, strings.ToUpper(sign), true), nil
		}
	}
	for _, r := range register {
		name := xmltree.EscapeText(r.vessel)
		reply = strings.ReplaceAll(reply, "<vessel>"+name+"<", "<vessel>"+strings.ToUpper(name)+"<")
	}
	return reply, f
}

// unsteadyCallSigns answers every second call as if the register were away.
func unsteadyCallSigns(h *Harbour, op string, body xmltree.Node) (string, *fault) {
	h.mu.Lock()
	h.turns++
	away := h.turns%2 == 0
	h.mu.Unlock()
	if away {
		return "", &fault{code: "Server", reason: "the register is away"}
	}
	return callSigns(h, op, body)
}

// lockedCallSigns locks out after ten tries that found nothing.
func lockedCallSigns(h *Harbour, op string, body xmltree.Node) (string, *fault) {
	const most = 10
	h.mu.Lock()
	locked := h.tries >= most
	h.mu.Unlock()
	if locked {
		return "", &fault{code: "Client", reason: "too many tries; the clerk is locked out"}
	}
	reply, f := callSigns(h, op, body)
	if f != nil {
		h.mu.Lock()
		h.tries++
		h.mu.Unlock()
	}
	return reply, f
}

// callSigns has rules that its description does not mention: at least four
// letters, the hyphen counts, and only the first match is given.
func callSigns(_ *Harbour, op string, body xmltree.Node) (string, *fault) {
	sign := strings.ToUpper(first(body, "sign"))
	if len(sign) < 4 {
		return "", &fault{code: "Client", reason: "give at least four letters of the call sign"}
	}
	exact := first(body, "exact") == "true" || first(body, "exact") == "1"
	if reply := registered(op, sign, exact); reply != "" {
		return reply, nil
	}
	return "", &fault{code: "Client", reason: "no vessel has the call sign " + sign}
}

// registered is the reply with the first entry that fits; "" there is none.
func registered(op, sign string, exact bool) string {
	for _, r := range register {
		if r.sign == sign || !exact && strings.HasPrefix(r.sign, sign) {
			return fmt.Sprintf(
				`<c:%sResponse xmlns:c="urn:skerry:callsigns"><entry><sign>%s</sign><vessel>%s</vessel><since>%s</since></entry></c:%sResponse>`,
				op,
				r.sign,
				xmltree.EscapeText(r.vessel),
				r.since,
				op,
			)
		}
	}
	return ""
}
