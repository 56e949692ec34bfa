package state

import (
	"context"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// Ask asks the person for a line of text.
type Ask struct {
	Prompt, Value string       // what is asked; what stands there first
	Hidden        bool         // what is typed is not shown
	Answer        func(string) // is told what was typed
	// Then is told what was typed, and asks on; in the place of Answer.
	Then func(string) tea.Cmd
}

// Pick lets the person choose one of several things.
type Pick struct {
	Prompt  string            // what is chosen
	Options []string          // in words
	Take    func(int) tea.Cmd // is told which
}

// AskFor asks for a line of text that everybody may see.
func AskFor(prompt, value string, answer func(string)) tea.Cmd {
	return func() tea.Msg { return Ask{Prompt: prompt, Value: value, Answer: answer} }
}

// Duplicate makes a copy of the chosen draft and chooses it.
func (s *State) Duplicate() {
	to := s.W.FreeDraft(s.Chosen.Draft, s.Chosen.Draft.Name)
	if err := s.W.CopyDraft(s.Chosen.Draft, to); err != nil {
		s.Say("%v", err)
		return
	}
	s.Choose(CallKey{to, s.Chosen.Endpoint})
	s.Say("a copy: %s", to)
}

// Rename gives the chosen draft another name. Attempts stay with the old name.
func (s *State) Rename(name string) {
	name = safe.FileName(name)
	to := s.Chosen.Draft
	to.Name = name
	if to == s.Chosen.Draft {
		return
	}
	if slices.Contains(s.Rows(), to) {
		s.Say("there is a draft %s already", to)
		return
	}
	err := s.W.CopyDraft(s.Chosen.Draft, to)
	if err == nil {
		err = s.W.DropDraft(s.Chosen.Draft)
	}
	if err != nil {
		s.Say("%v", err)
		return
	}
	s.Choose(CallKey{to, s.Chosen.Endpoint})
	s.Say("renamed: %s", to)
}

// Remove takes the chosen draft away.
func (s *State) Remove() {
	if err := s.W.RemoveDraft(s.Chosen.Draft); err != nil {
		s.Say("%v", err)
		return
	}
	gone := s.Chosen.Draft
	s.chooseAnother()
	s.Say("removed: %s; u takes it back", gone)
}

// chooseAnother chooses a draft near to the one that is gone.
func (s *State) chooseAnother() {
	rows := s.Rows()
	if slices.Contains(rows, s.Chosen.Draft) {
		return
	}
	if len(rows) == 0 {
		s.Chosen = CallKey{}
		return
	}
	next := rows[0]
	for _, r := range rows {
		if r.Contract == s.Chosen.Draft.Contract {
			next = r
		}
		if r.Contract == s.Chosen.Draft.Contract && r.Operation == s.Chosen.Draft.Operation {
			break
		}
	}
	s.Choose(CallKey{next, s.firstEndpoint(next)})
}

// ToggleDrafts makes the first draft of an operation, or removes those that it has.
func (s *State) ToggleDrafts(contract, operation string) {
	gone := 0
	for _, r := range s.Rows() {
		if r.Contract != contract || r.Operation != operation {
			continue
		}
		if err := s.W.RemoveDraft(r); err != nil {
			s.Say("%v", err)
			return
		}
		gone++
	}
	if gone > 0 {
		s.chooseAnother()
		s.Say("%s of %s removed; u takes it back", count(gone, "draft"), operation)
		return
	}
	ref, err := s.W.AddSample(contract, operation)
	if err != nil {
		s.Say("%v", err)
		return
	}
	s.Choose(CallKey{ref, s.firstEndpoint(ref)})
	s.Say("a draft of %s: %s", operation, ref)
}

// RemoveContract takes a contract away with all that belongs to it.
func (s *State) RemoveContract(name string) {
	if err := s.W.RemoveContract(name); err != nil {
		s.Say("%v", err)
		return
	}
	s.drafts.body = nil
	s.chooseAnother()
	s.Changed()
	s.Say("removed: %s with its endpoints and drafts; u takes it back", name)
}

// Restore brings back what was removed last, perhaps in an earlier sitting: a draft, an
// endpoint or a contract.
func (s *State) Restore() {
	r, err := s.W.BringBack("")
	if err != nil {
		s.Say("%v", err)
		return
	}
	s.Changed()
	if r.Kind == "draft" {
		s.Choose(CallKey{r.Draft, s.firstEndpoint(r.Draft)})
	}
	s.Say("back again: the %s %s", r.Kind, r.Name)
}

// Paste makes a draft of a message that came from elsewhere: an envelope, a
// body element, or an HTTP command line. False where it is none of these.
func (s *State) Paste(text string) bool {
	text = strings.TrimSpace(text)
	line := false
	for _, sign := range []string{"http://", "https://", " HTTP/1."} {
		line = line || strings.Contains(text, sign)
	}
	if !strings.HasPrefix(text, "<") && (!line || !strings.ContainsAny(text, " \n")) {
		return false
	}
	h, err := message.Take(text, s.W.ReadFile)
	if err != nil {
		s.Say("what was pasted: %v", err)
		return true
	}
	ref, _, err := s.W.TakeIn(h, "pasted")
	if err != nil {
		s.Say("%v", err)
		return true
	}
	s.Choose(CallKey{ref, s.firstEndpoint(ref)})
	with := ""
	if n := len(s.W.Config().DraftSettings[ref.ID()].Own["header"]); n > 0 {
		with = ", with " + count(n, "HTTP field")
	}
	s.Say("a draft of what was pasted: %s%s", ref, with)
	return true
}

// FromCatalogue takes a description of the catalogue into the workspace, where
// it is not in it yet, and chooses an operation of it.
func (s *State) FromCatalogue(c *workspace.Catalogue, name, operation string) bool {
	k, con, err := c.Entry(name)
	if err != nil {
		s.Say("%v", err)
		return false
	}
	in := ""
	for _, have := range s.W.Config().Contracts {
		if have.Source == k.Source {
			in = have.Name
		}
	}
	if in == "" {
		if in, err = s.W.AddContract(con, k.Served); err != nil {
			s.Say("%v", err)
			return false
		}
	}
	for _, r := range s.Rows() {
		if r.Contract == in && r.Operation == operation {
			s.Fetching = nil
			s.Choose(CallKey{r, s.firstEndpoint(r)})
			s.Say("%s is in this workspace", in)
			return true
		}
	}
	s.Say("%s has no draft of %s", in, operation)
	return false
}

// DraftOf makes a draft of what an exchange sent.
func (s *State) DraftOf(x *exchange.Exchange) bool {
	full, err := s.J.Get(x.ID)
	if err != nil {
		s.Say("%v", err)
		return false
	}
	l := full.Leg()
	if l == nil || x.Kind != "" && x.Kind != "relay" {
		s.Say("nothing was sent in it that could be a draft")
		return false
	}
	name := x.Draft
	if name == "" {
		name = "sent"
	}
	ref, err := s.W.ImportSent(l.Sent(), name)
	if err != nil {
		s.Say("%v", err)
		return false
	}
	s.Choose(CallKey{ref, s.firstEndpoint(ref)})
	s.Say("a draft of this: %s", ref)
	return true
}

// CallLine is the command line that sends the chosen call; "" where none is chosen, or the
// workspace is in memory only.
func (s *State) CallLine() string {
	c := s.Chosen
	if c.Draft.Operation == "" || s.W.Dir() == "" {
		return ""
	}
	words := []string{"orenda"}
	if cwd, err := os.Getwd(); err != nil || cwd != s.W.Dir() {
		words = append(words, "-w", s.W.Dir())
	}
	words = append(words, "call", c.Draft.String())
	if c.Endpoint != "" {
		words = append(words, "--endpoint", c.Endpoint)
	}
	if s.Environment != "" {
		words = append(words, "--env", s.Environment)
	}
	for i, w := range words {
		if strings.ContainsAny(w, " \t'\"$`\\&|;<>()*?#~!{}[]") {
			words[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}

// Others are the other drafts of the chosen operation.
func (s *State) Others() []workspace.DraftRef {
	var out []workspace.DraftRef
	for _, r := range s.Rows() {
		o := s.Chosen.Draft
		if r != o && r.Contract == o.Contract && r.PortType == o.PortType && r.Operation == o.Operation {
			out = append(out, r)
		}
	}
	return out
}

// Notes are what was learned of the chosen operation, by field.
func (s *State) Notes() map[string]workspace.Note {
	return s.NotesOf(s.Chosen.Draft.Contract, s.Chosen.Draft.Operation)
}

// NotesOf are what was learned of an operation, by field; "" is the operation itself.
func (s *State) NotesOf(contractName, operation string) map[string]workspace.Note {
	w := s.W
	return Known(s, ofFiles+"notes "+contractName+" "+operation, func(context.Context) map[string]workspace.Note {
		notes, err := w.Notes(contractName, operation)
		if err != nil {
			s.post(func() { s.Say("%v", err) })
		}
		return notes
	})
}

// Note keeps what was learned of a field of an operation, or of the operation
// itself where field is "".
func (s *State) Note(contractName, operation, field, text string) {
	s.noted(s.W.SetNote(contractName, operation, field, text))
}

func (s *State) noted(err error) {
	if err != nil {
		s.Say("%v", err)
		return
	}
	s.Stale(ofFiles)
	s.Say("kept in %s", workspace.NotesFile)
}

// CompareLearned chooses the two calls that showed the edge of a field for comparing: the one
// that was accepted, and the one that was refused. It tells whether there are any.
func (s *State) CompareLearned(field string) bool {
	e := s.Notes()[workspace.FieldOf(field)].Edges
	const both = 2
	if e == nil || len(e.Exchanges) < both {
		return false
	}
	s.Compare(e.Exchanges[0], e.Exchanges[1])
	return true
}

// keepOneOfMany keeps a call of many, and shows it in the lists.
func (s *State) keepOneOfMany(x *exchange.Exchange) {
	err := s.addCall(x)
	head := x.Redact(nil).WithoutBytes()
	s.post(func() {
		s.hold(head)
		if err != nil {
			s.Say("the exchange was not kept: %v", err)
		}
	})
}

// addCall keeps a call in the journal, and marks what was learned that it speaks against. It
// waits for the disk, and is not for Update.
func (s *State) addCall(x *exchange.Exchange) error {
	if x.Workspace == s.W.ID() {
		if field, how, err := s.W.Contradict(x); err != nil || how != "" {
			s.post(func() {
				if s.Stale(ofFiles); err != nil {
					s.Say("%v", err)
					return
				}
				s.Say("what was learned of %s is contradicted: %s", field, how)
			})
		}
	}
	return s.J.Add(x)
}

// Variables tells whether variables stand in the chosen draft's values.
func (s *State) Variables() bool { return s.W.Config().DraftSettings[s.Chosen.Draft.ID()].Variables }

// ToggleVariables lets variables stand in the chosen draft's values, or not.
func (s *State) ToggleVariables() {
	on := !s.Variables()
	settings := s.W.Config().DraftSettings[s.Chosen.Draft.ID()]
	settings.Variables = on
	if err := s.W.SetDraftSettings(s.Chosen.Draft, settings); err != nil {
		s.Say("%v", err)
		return
	}
	s.Changed()
	if on {
		s.Say("${name} stands for a variable in this draft now; $$ for a dollar")
		return
	}
	s.Say("a dollar is a dollar in this draft again")
}

// SecretFields are the fields that are secret in the chosen draft, besides those whose
// names say so.
func (s *State) SecretFields() exchange.SecretNames {
	if own := s.W.Config().DraftSettings[s.Chosen.Draft.ID()].Own["secret"]; own != nil {
		return own
	}
	return nil
}

// ToggleSecret marks a field of the chosen draft as secret, by its path, or takes the
// mark off.
func (s *State) ToggleSecret(path string) {
	path = "./" + exchange.WithoutNumbers(path)
	marks := slices.Clone(s.SecretFields())
	i := slices.Index(marks, path)
	if i >= 0 {
		marks = slices.Delete(marks, i, i+1)
	} else {
		marks = append(marks, path)
	}
	if err := s.W.SetDraftOwn(s.Chosen.Draft, "secret", marks); err != nil {
		s.Say("%v", err)
		return
	}
	s.Changed()
	if i >= 0 {
		s.Say("%s is no secret any more", path[2:])
		return
	}
	s.Say("%s is a secret: it is masked wherever it is shown or kept", path[2:])
}

// ToggleChanges says of the chosen draft that it changes things at the service,
// or no longer.
func (s *State) ToggleChanges() {
	settings := s.W.Config().DraftSettings[s.Chosen.Draft.ID()]
	settings.Changes = !settings.Changes
	if err := s.W.SetDraftSettings(s.Chosen.Draft, settings); err != nil {
		s.Say("%v", err)
		return
	}
	if settings.Changes {
		s.Say("%s changes things at the service: sending it again, or with others, asks first", s.Chosen.Draft)
		return
	}
	s.Say("%s may be sent freely", s.Chosen.Draft)
}

// Expand puts the variables of the environment in; what cannot be, stays.
func (s *State) Expand(text string) string {
	vars, _ := s.W.Variables(s.Environment)
	if out, err := endpoint.Expand(text, s.Environment, vars); err == nil {
		return out
	}
	return text
}
