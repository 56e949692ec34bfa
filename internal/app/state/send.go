package state

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/call"
	"orenda/internal/exchange"
)

// Target is a cell in an environment: what a call is sent from.
type Target struct {
	Cell
	Environment string
}

// together is how many of many calls are under way at a time.
const together = 4

const underWay = "it is under way; h halts it"

// Send sends the chosen cell, or goes on with a fetch.
func (s *State) Send() { s.SendUntil(exchange.None) }

// SendUntil sends the chosen cell no further than a stage; None: to the end.
func (s *State) SendUntil(until exchange.Stage) {
	if s.Cell.Draft.Operation == "" && s.Fetching == nil {
		s.Say("choose a call on the board first")
		return
	}
	if s.waits(func() { s.SendUntil(until) }) {
		return
	}
	if s.Fetching != nil && s.fetch.source != "" {
		s.fetchAgain()
		return
	}
	s.Message = ""
	changes := s.changes[s.Cell]
	if err := s.start(s.One()[0], changes, until, false); err != nil {
		s.Say("%v", err)
		return
	}
	delete(s.changes, s.Cell)
	s.Fetching = nil
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
	s.next = func() {
		if s.Running() == nil && s.One()[0] == at {
			do()
		}
	}
	return true
}

// SendAs sends the chosen cell once as another identity: to see it refused, or
// taken. Nothing of that is kept in the settings.
func (s *State) SendAs(name string) {
	if s.Cell.Draft.Operation == "" {
		s.Say("choose a call on the board first")
		return
	}
	if s.waits(func() { s.SendAs(name) }) {
		return
	}
	s.Message, s.Fetching = "", nil
	s.as = name
	err := s.start(Target{s.Cell, s.Environment}, []exchange.Change{{Where: "workspace", Key: "endpoint." + s.Cell.Endpoint + ".identity", To: name + ", for this call only"}}, exchange.None, false)
	s.as = ""
	if err != nil {
		s.Say("%v", err)
	}
}

// FindOut makes the checks that tell what is behind the failure of the attempt
// in sight.
func (s *State) FindOut() {
	if s.Fetching != nil || s.finding {
		s.Say("it is under way; wait for its end")
		return
	}
	if s.waits(s.FindOut) {
		return
	}
	at := s.Shown
	if at >= len(s.Attempts) || !slices.ContainsFunc(s.Attempts[at].Findings, func(f exchange.Finding) bool { return f.Unchecked() }) {
		s.Say("there is nothing here that a check could tell")
		return
	}
	p, err := s.Plan()
	if err != nil {
		s.Say("%v", err)
		return
	}
	x := s.whole(at)
	s.finding = true
	s.Say("finding out …")
	go func() {
		x := call.Check(context.Background(), p, x)
		err := s.J.Judge(x)
		s.post(func() {
			s.finding = false
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
	}()
}

// start sends a target in the background.
func (s *State) start(t Target, changes []exchange.Change, until exchange.Stage, many bool) error {
	p, err := s.planOf(t)
	if err != nil {
		return err
	}
	if s.as != "" {
		p.Settings.Set("identity", s.as)
		if p.Settings.Text("token") == "none" && p.Settings.Text("http-auth") == "none" {
			p.Settings.Set("token", "digest")
		}
	}
	p.Changes, p.Until = changes, until
	p.AcceptAnything, s.AcceptAnything = s.AcceptAnything && !many, false
	c := call.New(p, s.notify)
	ctx, cancel := context.WithCancel(context.Background())
	id := c.Snapshot().ID
	s.running[id] = &running{cell: t.Cell, env: t.Environment, call: c, cancel: cancel, many: many}
	go func() {
		x := c.Run(ctx)
		err := s.J.Add(x)
		s.done(id, x, err)
	}()
	return nil
}

// SendMany sends cells together, a few at a time.
func (s *State) SendMany(targets []Target) {
	for _, t := range targets {
		if !slices.Contains(s.queue, t) {
			s.queue = append(s.queue, t)
			s.many.total++
			s.many.left++
		}
	}
	s.pump()
}

// pump begins what waits, as far as there is room.
func (s *State) pump() {
	under := 0
	for _, r := range s.running {
		if r.many {
			under++
		}
	}
	for ; under < together && len(s.queue) > 0; under++ {
		t := s.queue[0]
		s.queue = s.queue[1:]
		if err := s.start(t, nil, exchange.None, true); err != nil {
			s.Say("%s: %v", t.Draft, err)
			s.ended(true)
		}
	}
}

// ended counts one of many that has ended.
func (s *State) ended(many bool) {
	if !many {
		return
	}
	if s.many.left--; s.many.left <= 0 {
		s.Say("%d calls were sent", s.many.total)
		s.many.total, s.many.left = 0, 0
	}
}

// Progress is how many of the calls that are sent together have ended.
func (s *State) Progress() (ended, total int) { return s.many.total - s.many.left, s.many.total }

// Halt cancels the call in sight, the fetch, or all that were sent together.
func (s *State) Halt() {
	if s.many.total > 0 {
		s.many.total, s.many.left, s.queue = 0, 0, nil
		for _, r := range s.running {
			r.cancel()
			r.many = false
		}
		s.Say("all of them halted")
		return
	}
	for _, r := range s.running {
		if r.cell == s.Cell || r.fetch {
			r.cancel()
			s.Say("halted")
			return
		}
	}
	s.Say("nothing is under way here")
}

// HaltAll cancels everything; for the end of the program.
func (s *State) HaltAll() {
	s.queue = nil
	for _, r := range s.running {
		r.cancel()
	}
	s.kept.Close()
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
func (s *State) One() []Target { return []Target{{s.Cell, s.Environment}} }

// asks is what must be asked before targets are sent: those that change things
// at the service, many at once or once more. "" where nothing must be.
func (s *State) asks(targets []Target) string {
	var careful []string
	for _, t := range targets {
		if !s.W.Config().DraftSettings[t.Draft.ID()].Changes {
			continue
		}
		x := s.Latest(t.Cell, t.Environment)
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
