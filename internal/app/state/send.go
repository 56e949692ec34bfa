package state

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/call"
	"orenda/internal/exchange"
)

// Target is a cell in an environment: what a call is sent from.
type Target struct {
	CallKey
	Environment string // name of the environment, "" none
}

// together is how many of many calls are under way at a time.
const together = 4

const underWay = "it is under way; h halts it"

// Send sends the chosen cell, or goes on with a fetch.
func (s *State) Send() { s.SendUntil(exchange.None) }

// SendUntil sends the chosen cell no further than a stage; None: to the end.
func (s *State) SendUntil(until exchange.Stage) {
	if s.Chosen.Draft.Operation == "" && s.Fetching == nil {
		s.Say("choose a call on the board first")
		return
	}
	if s.waits(func() { s.SendUntil(until) }) {
		return
	}
	if s.Fetching != nil && s.fetch.source != "" {
		s.FetchAgain()
		return
	}
	s.Message = ""
	changes := s.calls.changes[s.Chosen]
	if err := s.start(s.One()[0], changes, until, false); err != nil {
		s.Say("%v", err)
		return
	}
	delete(s.calls.changes, s.Chosen)
	s.Fetching = nil
}

// SendAsItIs sends the chosen cell although values are not filled in, or its message
// breaks its schema; for this call only.
func (s *State) SendAsItIs() {
	if s.waits(s.SendAsItIs) {
		return
	}
	s.calls.asItIs = true
	s.Send()
	s.calls.asItIs = false
}

// waits tells whether something must wait for the call of the chosen cell. Where
// that has ended, and is only being kept, it is done as soon as that is.
func (s *State) waits(do func()) bool {
	x := s.Running()
	if x == nil {
		return false
	}
	if x.Outcome == exchange.OutcomeUnderWay {
		s.Say(underWay)
		return true
	}
	at := s.One()[0]
	s.calls.next = func() {
		if s.Running() == nil && s.One()[0] == at {
			do()
		}
	}
	return true
}

// SendAs sends the chosen cell once as another identity: to see it refused, or
// taken. Nothing of that is kept in the settings.
func (s *State) SendAs(name string) {
	if s.Chosen.Draft.Operation == "" {
		s.Say("choose a call on the board first")
		return
	}
	if s.waits(func() { s.SendAs(name) }) {
		return
	}
	s.Message, s.Fetching = "", nil
	s.calls.as = name
	err := s.start(
		Target{s.Chosen, s.Environment},
		[]exchange.Change{
			{Where: "workspace", Key: "endpoint." + s.Chosen.Endpoint + ".identity", To: name + ", for this call only"},
		},
		exchange.None,
		false,
	)
	s.calls.as = ""
	if err != nil {
		s.Say("%v", err)
	}
}

// FindOut makes the checks that tell what is behind the failure of the attempt
// in sight.
func (s *State) FindOut() {
	if s.Fetching != nil || s.calls.checking {
		s.Say("it is under way; wait for its end")
		return
	}
	if s.waits(s.FindOut) {
		return
	}
	at := s.Shown
	if at >= len(s.Attempts) ||
		!slices.ContainsFunc(s.Attempts[at].Findings, func(f exchange.Finding) bool { return f.Unchecked() }) {
		s.Say("there is nothing here that a check could tell")
		return
	}
	p, err := s.Plan()
	if err != nil {
		s.Say("%v", err)
		return
	}
	x := s.attempt(s.Attempts[at]).Clone()
	s.calls.checking = true
	s.Say("finding out …")
	s.run.Go(func(ctx context.Context) {
		x := call.Check(ctx, p, x)
		err := s.J.Judge(x)
		s.post(func() {
			s.calls.checking = false
			delete(s.whole, x.ID)
			for i := range s.Attempts {
				if s.Attempts[i].ID == x.ID {
					s.Attempts[i] = x
				}
			}
			s.Say("")
			if err != nil {
				s.Say("the answers were not kept: %v", err)
			}
		})
	})
}

// start sends a target in the background.
func (s *State) start(t Target, changes []exchange.Change, until exchange.Stage, many bool) error {
	p, err := s.planOf(t)
	if err != nil {
		return err
	}
	if s.calls.as != "" {
		p.Settings.Set("identity", s.calls.as)
		if p.Settings.Text("token") == "none" && p.Settings.Text("http-auth") == "none" {
			p.Settings.Set("token", "digest")
		}
	}
	p.Changes, p.Until = changes, until
	p.AsItIs = s.calls.asItIs
	p.SkipVerify, s.SkipVerify = s.SkipVerify && !many, false
	c := call.New(p, s.notify)
	id := c.Snapshot().ID
	r := &running{cell: t.CallKey, env: t.Environment, call: c, many: many}
	s.calls.running[id] = r
	r.halt = s.run.Go(func(ctx context.Context) {
		x := c.Run(ctx)
		err := s.addCall(x)
		masked := x.Redact(nil)
		s.post(func() { s.ended(id, x, masked, err) })
	})
	return nil
}

// SendMany sends cells together, a few at a time.
func (s *State) SendMany(targets []Target) {
	for _, t := range targets {
		if !slices.Contains(s.calls.queue, t) {
			s.calls.queue = append(s.calls.queue, t)
			s.calls.many.total++
			s.calls.many.left++
		}
	}
	s.pump()
}

// pump begins what waits, as far as there is room.
func (s *State) pump() {
	under := 0
	for _, r := range s.calls.running {
		if r.many {
			under++
		}
	}
	for ; under < together && len(s.calls.queue) > 0; under++ {
		t := s.calls.queue[0]
		s.calls.queue = s.calls.queue[1:]
		if err := s.start(t, nil, exchange.None, true); err != nil {
			s.Say("%s: %v", t.Draft, err)
			s.oneLess(nil)
		}
	}
}

// oneLess counts one of many that has ended; nil where it could not begin.
func (s *State) oneLess(x *exchange.Exchange) {
	m := &s.calls.many
	if x != nil && x.Reach() > int(exchange.Send)-1 {
		m.sent++
	}
	if m.left--; m.left > 0 {
		return
	}
	switch {
	case m.sent == m.total:
		s.Say("%d calls were sent", m.total)
	default:
		s.Say("%d of %d calls were sent", m.sent, m.total)
	}
	m.total, m.left, m.sent = 0, 0, 0
}

// Progress is how many of the calls that are sent together have ended.
func (s *State) Progress() (ended, total int) {
	return s.calls.many.total - s.calls.many.left, s.calls.many.total
}

// Halt cancels the call in sight, the fetch, or all that were sent together.
func (s *State) Halt() {
	if s.calls.many.total > 0 {
		s.calls.many.total, s.calls.many.left, s.calls.queue = 0, 0, nil
		for _, r := range s.calls.running {
			r.halt()
			r.many = false
		}
		s.Say("all of them halted")
		return
	}
	for _, r := range s.calls.running {
		if r.cell == s.Chosen || r.fetch {
			r.halt()
			s.Say("halted")
			return
		}
	}
	s.Say("nothing is under way here")
}

// Busy is how many calls and fetches are under way, or wait to be sent.
func (s *State) Busy() int { return len(s.calls.running) + len(s.calls.queue) }

// End halts everything; for the end of the program. Wait follows it.
func (s *State) End() {
	s.calls.queue, s.calls.next = nil, nil
	s.run.End()
}

// Wait waits until what was under way has ended, and what left is kept, but no
// longer than limit: false where something has not ended.
func (s *State) Wait(limit time.Duration) bool {
	ended := s.run.Wait(limit)
	s.calls.pool.Close()
	return ended
}

// Mark marks a cell to be sent with others, or takes the mark back.
func (s *State) Mark(t Target) {
	if s.Marked[t] {
		delete(s.Marked, t)
		return
	}
	s.Marked[t] = true
}

// MarkedTargets are the marked cells, in the order of the drafts.
func (s *State) MarkedTargets() []Target {
	var out []Target
	place := map[string]int{}
	for i, r := range s.Rows() {
		place[r.ID()] = i
	}
	for t := range s.Marked {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b Target) int {
		if d := place[a.Draft.ID()] - place[b.Draft.ID()]; d != 0 {
			return d
		}
		return strings.Compare(a.Endpoint+" "+a.Environment, b.Endpoint+" "+b.Environment)
	})
	return out
}

// Careful does what sends targets at once, or gives what must be asked before.
func (s *State) Careful(targets []Target, send func()) *Ask {
	why := s.asks(targets)
	if why == "" {
		send()
		return nil
	}
	return &Ask{Prompt: why + " (yes or no)", Answer: func(answer string) {
		if a := strings.ToLower(answer); a == "y" || a == "yes" {
			send()
			return
		}
		s.Say("nothing was sent")
	}}
}

// One is the chosen cell alone, in the environment that is chosen.
func (s *State) One() []Target { return []Target{{s.Chosen, s.Environment}} }

// asks is what must be asked before targets are sent: those that change things
// at the service, many at once or once more. "" where nothing must be.
func (s *State) asks(targets []Target) string {
	var careful []string
	for _, t := range targets {
		if !s.W.Config().DraftSettings[t.Draft.ID()].Changes {
			continue
		}
		x := s.Latest(t.CallKey, t.Environment)
		if len(targets) > 1 || x != nil && x.Stage(exchange.Send).State != exchange.Waiting {
			if !slices.Contains(careful, t.Draft.String()) {
				careful = append(careful, t.Draft.String())
			}
		}
	}
	switch len(careful) {
	case 0:
		return ""
	case 1:
		if len(targets) == 1 {
			return careful[0] + " changes things at the service, and was sent before. Send it again?"
		}
	}
	return fmt.Sprintf("%s change things at the service. Send all %d?", strings.Join(careful, ", "), len(targets))
}
