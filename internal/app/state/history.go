package state

import (
	"slices"

	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// Settle makes a step, which can be taken back, of what was changed since the last time.
// before is what was chosen then.
func (s *State) Settle(before CallKey) {
	if step := s.W.Settle(); step != nil {
		s.steps[step] = [2]CallKey{before, s.Chosen}
	}
}

// TakeBack undoes the last change, whatever it was, and says what it was.
func (s *State) TakeBack() {
	step, err := s.W.TakeBack()
	if err != nil {
		s.Say("%v", err)
		return
	}
	back := slices.Clone(step.Changes)
	for i, c := range back {
		back[i].From, back[i].To = c.To, c.From
	}
	s.stepped(back, s.steps[step][0])
	s.Say("taken back: %s; U does it again", step.What)
}

// DoAgain makes the change again that was taken back last.
func (s *State) DoAgain() {
	step, err := s.W.DoAgain()
	if err != nil {
		s.Say("there is nothing that was taken back")
		return
	}
	s.stepped(step.Changes, s.steps[step][1])
	s.Say("done again: %s", step.What)
}

// stepped shows the workspace as it is after a step, with what was chosen then.
func (s *State) stepped(changes []exchange.Change, chosen CallKey) {
	s.drafts.body = nil
	s.Changed()
	if slices.Contains(s.Rows(), chosen.Draft) && chosen != s.Chosen {
		s.Choose(chosen)
	}
	s.chooseAnother()
	if len(changes) > 0 {
		s.remember(changes...)
	}
}

// steps are the cells that were chosen before and after a step.
type steps map[*workspace.Step][2]CallKey
