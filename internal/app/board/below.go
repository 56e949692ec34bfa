package board

import (
	"fmt"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/exchange"
)

// below uses the room under the board: what stands in the way, each cause once; where nothing
// was sent yet, what the operations take and give, and what to do.
func (v *View) below(t table, w, room int) []string {
	const least = 5
	if room < least {
		return nil
	}
	var latest []*exchange.Exchange
	for i, r := range t.rows {
		for _, c := range t.of(i) {
			if x := v.s.Latest(state.CallKey{Draft: r, Endpoint: c.end.Name}, c.env); x != nil {
				latest = append(latest, x)
			}
		}
	}
	if len(latest) == 0 {
		return v.first(t, w, room)
	}
	out := []string{"", "   " + ui.Soft("what stands in the way")}
	for _, c := range state.Causes(latest) {
		if c.ID == "" || len(out) >= room {
			continue
		}
		calls := fmt.Sprintf("%d calls", len(c.Exchanges))
		if len(c.Exchanges) == 1 {
			calls = "1 call"
		}
		repair := ""
		if c.Remedy != "" {
			repair = ui.Soft("  repair ") + ui.Cut(c.Remedy, w/3)
		}
		title := min(w/2, 72)
		out = append(out, "     "+ui.Soft(ui.Pad(c.Stage.String(), 9))+ui.Fit(c.Title, title)+" "+
			ui.Soft(ui.Pad(calls, 9))+repair)
	}
	const headed = 2
	if len(out) == headed {
		return nil
	}
	return out
}

// first is shown before anything was sent: signatures, and what to do next.
func (v *View) first(t table, w, room int) []string {
	out := []string{"", "   " + ui.Soft("nothing was sent yet: ") + ui.Strong("d") +
		ui.Soft(" fills in the message, ") + ui.Strong("g") + ui.Soft(" sends it, ") + ui.Strong("⏎") +
		ui.Soft(" shows its path")}
	seen := map[string]bool{}
	for _, r := range t.rows {
		key := r.Contract + "\n" + r.Operation
		if seen[key] || len(out) >= room {
			continue
		}
		seen[key] = true
		con, err := v.s.W.Contract(r.Contract)
		if err != nil {
			continue
		}
		if o := state.Operation(con, r.Operation); o != nil {
			out = append(out, "     "+ui.Soft(ui.Cut(o.Signature(), w-8)))
		}
	}
	return out
}
