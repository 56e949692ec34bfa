// Package state is what the views look at: the workspace, the calls under way
// and those that were made, and what is chosen. It has no screen of its own.
package state

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/user"
	"orenda/internal/wire"
	"orenda/internal/workspace"
)

// Wake tells the views to look again. However many things happened, there is
// one wake-up a frame.
type Wake struct{}

// Goto asks for a view by its name.
type Goto string

// Cell is a draft over an endpoint: what a call is made of.
type Cell struct {
	Draft    workspace.DraftRef
	Endpoint string
}

// State is the shared state. Everything but the calls' own records is touched
// from the program's loop only.
type State struct {
	W    *workspace.Workspace
	J    journal.Journal
	Home *user.Home

	Environment string
	Cell        Cell
	Attempts    []*exchange.Exchange // of the chosen cell, oldest first
	Shown       int                  // index into Attempts; len(Attempts) is the next call
	Kept        int                  // exchanges of this workspace that are kept
	Message     string               // the newest one, for the bottom line
	Fetching    *exchange.Exchange   // the description that is being fetched, or that failed

	Reveal bool // secrets are shown for the moment
	fetch  fetching
	Newer  *Newer // a description that was fetched again
	Copied string // a value, or a part of a message as XML

	Marked map[Target]bool // cells that are to be sent together
	queue  []Target        // of those, what waits
	many   struct{ total, left int }
	kept   *wire.Pool // connections that are kept alive

	as             string // an identity for the call that is about to begin
	finding        bool   // checks are under way
	next           func() // sends once what ended is kept
	sessions       call.Sessions
	AcceptAnything bool                          // whatever certificate is shown, for the next call only
	chains         map[string]*exchange.Exchange // of fetched chains, by endpoint

	clear   map[string]*exchange.Exchange // of this sitting, with their secrets, by id
	latest  map[Target]*exchange.Exchange // an environment of "" is any
	recent  []*exchange.Exchange          // newest first
	running map[string]*running           // by exchange id
	changes map[Cell][]exchange.Change
	draft   *message.Draft
	header  *message.Draft
	draftOf workspace.DraftRef
	base    [2][]byte // body and header blocks as they were read or kept last
	wake    chan struct{}
	check   *exchange.Exchange
	version int64
	gone    []removed
	inbox   struct {
		mu    sync.Mutex
		takes []func()
	}
}

type running struct {
	cell   Cell
	env    string
	many   bool // one of those that are sent together
	call   *call.Call
	cancel context.CancelFunc
	fetch  bool
}

// New makes the state of a workspace.
func New(w *workspace.Workspace, j journal.Journal, home *user.Home) *State {
	s := &State{W: w, J: j, Home: home, Environment: w.Config().Environment, wake: make(chan struct{}, 1), running: map[string]*running{}, latest: map[Target]*exchange.Exchange{}, Marked: map[Target]bool{}, chains: map[string]*exchange.Exchange{}, kept: &wire.Pool{}, clear: map[string]*exchange.Exchange{}, changes: map[Cell][]exchange.Change{}}
	s.Refresh()
	if cells := s.Rows(); len(cells) > 0 {
		s.Choose(Cell{cells[0], s.firstEndpoint(cells[0])})
	}
	return s
}

func (s *State) firstEndpoint(r workspace.DraftRef) string {
	if e, err := s.W.Settle(r, ""); err == nil {
		return e.Name
	}
	if e := s.W.Serving(r.Contract, r.Operation); len(e) > 0 {
		return e[0].Name
	}
	return ""
}

func (s *State) notify() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// frame is the least time between two wake-ups.
const frame = 16 * time.Millisecond

// Listen waits for the next wake-up.
func (s *State) Listen() tea.Cmd {
	return func() tea.Msg {
		<-s.wake
		time.Sleep(frame)
		return Wake{}
	}
}

// Say puts a message into the bottom line.
func (s *State) Say(format string, args ...any) { s.Message = fmt.Sprintf(format, args...) }

// Refresh reads from the journal what was made, also by other processes.
func (s *State) Refresh() {
	s.W.Relist()
	v := s.J.Version()
	if v == s.version && s.version != 0 {
		return
	}
	s.version = v
	list, err := s.J.List(journal.Query{Workspace: s.W.ID(), Most: 500})
	if err != nil {
		s.Say("the journal cannot be read: %v", err)
		return
	}
	s.Kept = len(list)
	for i := len(list) - 1; i >= 0; i-- {
		s.note(list[i])
	}
}

// note takes a finished exchange into what the views see.
func (s *State) note(x *exchange.Exchange) {
	if slices.ContainsFunc(s.recent, func(o *exchange.Exchange) bool { return o.ID == x.ID }) {
		return
	}
	s.recent = slices.Insert(s.recent, 0, x)
	if len(s.recent) > 2000 {
		s.recent = s.recent[:2000]
	}
	if x.Kind == "" {
		c := s.cellOf(x)
		s.latest[Target{c, ""}], s.latest[Target{c, x.Environment}] = x, x
	}
}

func (s *State) cellOf(x *exchange.Exchange) Cell {
	for _, r := range s.Rows() {
		if r.Contract == x.Contract && r.Operation == x.Operation && r.Name == x.Draft {
			return Cell{r, x.Endpoint}
		}
	}
	return Cell{workspace.DraftRef{Contract: x.Contract, Operation: x.Operation, Name: x.Draft}, x.Endpoint}
}

// Rows are the drafts.
func (s *State) Rows() []workspace.DraftRef { return s.W.Drafts() }

// Latest is how the last call of a cell went, or goes, in an environment ("" is
// any); nil where there was none.
func (s *State) Latest(c Cell, environment string) *exchange.Exchange {
	for _, r := range s.running {
		if r.cell == c && !r.fetch && (environment == "" || r.env == environment) {
			return r.call.Snapshot()
		}
	}
	return s.latest[Target{c, environment}]
}

// Traffic are the exchanges under way and the newest ones.
func (s *State) Traffic() []*exchange.Exchange {
	var out []*exchange.Exchange
	for _, r := range s.running {
		out = append(out, r.call.Snapshot())
	}
	slices.SortFunc(out, func(a, b *exchange.Exchange) int { return b.Started.Compare(a.Started) })
	return append(out, s.recent...)
}

// UnderWay is the number of calls under way.
func (s *State) UnderWay() int { return len(s.running) }

// Choose takes a cell into sight, with the attempts that were made of it.
func (s *State) Choose(c Cell) {
	s.Cell = c
	s.Attempts = nil
	for _, x := range slices.Backward(s.recent) {
		if x.Kind == "" && s.cellOf(x) == c {
			s.Attempts = append(s.Attempts, x)
		}
	}
	if n := len(s.Attempts); n > 12 {
		s.Attempts = s.Attempts[n-12:]
	}
	s.Shown = len(s.Attempts) - 1
	s.check = nil
	if s.Shown < 0 {
		s.Shown = 0
	}
}

// Running is the call of the chosen cell that is under way, or nil.
func (s *State) Running() *exchange.Exchange {
	for _, r := range s.running {
		if r.cell == s.Cell && !r.fetch {
			return r.call.Snapshot()
		}
	}
	return nil
}

// Exchange is what the views show: the call under way, the attempt that is
// chosen, or what can be told before the first one.
func (s *State) Exchange() *exchange.Exchange {
	if x := s.Running(); x != nil {
		return x
	}
	if s.Fetching != nil {
		return s.Fetching
	}
	if s.Shown < len(s.Attempts) {
		return s.whole(s.Shown)
	}
	return s.Check()
}

// whole is an attempt with its bytes.
func (s *State) whole(i int) *exchange.Exchange {
	x := s.Attempts[i]
	if c := s.clear[x.ID]; c != nil && s.Reveal {
		return c
	}
	if x.Moments == nil && len(x.Legs) > 0 {
		if full, err := s.J.Get(x.ID); err == nil {
			s.Attempts[i] = full
			return full
		}
	}
	return x
}

// Plan is the plan of the chosen cell.
func (s *State) Plan() (call.Plan, error) {
	return s.planOf(Target{s.Cell, s.Environment})
}

func (s *State) planOf(t Target) (call.Plan, error) {
	p, err := s.W.Plan(t.Draft, t.Endpoint, t.Environment)
	p.History, p.Sessions = s.J, &s.sessions
	p.Keep = func(x *exchange.Exchange) { _ = s.J.Add(x) } // a log-in; that it was not kept does not stop the call
	if p.Unsettled == nil && p.Settings.Switch("keep-alive") {
		p.Pool = s.kept
	}
	return p, err
}

// Check goes through the stages that need no network, without any secret.
func (s *State) Check() *exchange.Exchange {
	if s.check != nil {
		return s.check
	}
	p, err := s.Plan()
	if err != nil {
		return &exchange.Exchange{Operation: s.Cell.Draft.Operation, Findings: []exchange.Finding{{Title: err.Error()}}}
	}
	p.Until, p.Peek = exchange.Security, true
	x := call.New(p, nil).Run(context.Background())
	if x.Outcome == exchange.OutcomePassed {
		x.Outcome = exchange.OutcomeUnderWay // nothing was sent: it has no outcome
	}
	s.check = x.Redact(nil)
	return s.check
}

// Changed forgets what was told before a change of settings or draft.
func (s *State) Changed() { s.check = nil }

// ApplyRemedy makes the changes of a remedy.
func (s *State) ApplyRemedy(r *exchange.Remedy) error {
	changes := r.All()
	if s.Fetching != nil && s.Fetching.Kind == "fetch" {
		return s.repairFetch(changes)
	}
	var settings []exchange.Change
	for _, c := range changes {
		if c.Where != "draft" {
			settings = append(settings, c)
			continue
		}
		if c.Key == "endpoint" {
			s.Choose(Cell{s.Cell.Draft, fmt.Sprint(c.To)})
			continue
		}
		ref, err := s.W.ChangeDraft(s.Cell.Draft, c)
		if err != nil {
			return err
		}
		s.Cell.Draft = ref
		s.draft = nil
	}
	if len(settings) > 0 {
		if err := s.W.Apply(settings...); err != nil {
			return err
		}
	}
	if e, err := s.W.Settle(s.Cell.Draft, ""); err == nil && s.Cell.Endpoint == "" { // it has one now
		s.Choose(Cell{s.Cell.Draft, e.Name})
	}
	s.remember(changes...)
	return nil
}

// Change makes changes that a person asked for.
func (s *State) Change(changes ...exchange.Change) error {
	if err := s.W.Apply(changes...); err != nil {
		return err
	}
	s.remember(changes...)
	return nil
}

func (s *State) remember(changes ...exchange.Change) {
	s.changes[s.Cell] = append(s.changes[s.Cell], changes...)
	s.Changed()
	s.Shown = len(s.Attempts)
}

// Pending are the changes since the last attempt of the chosen cell.
func (s *State) Pending() []exchange.Change { return s.changes[s.Cell] }

// SetSetting gives a setting of the chosen endpoint a value; "" takes it out.
func (s *State) SetSetting(key, value string) error {
	k := endpoint.KeyOf(key)
	value = strings.TrimSpace(value)
	if s.Fetching != nil {
		return s.setFetch(k, value)
	}
	if value != "" {
		if err := k.Check(value); err != nil && k.Kind != endpoint.List {
			return err
		}
	}
	set := s.W.Settings(s.Cell.Endpoint)
	old := set.Get(key)
	if old.Text == value {
		return nil
	}
	c := exchange.Change{Where: "workspace", Key: "endpoint." + s.Cell.Endpoint + "." + key, From: old.Text, To: value}
	if k.Kind == endpoint.List {
		var items []string
		for _, p := range strings.Split(value, ",") {
			if p = strings.TrimSpace(p); p != "" {
				items = append(items, p)
			}
		}
		c.To = items
	}
	return s.Change(c)
}

// Lift moves a value of the chosen endpoint to a profile, which the endpoint has
// from then on: one of the person's own, or of the workspace.
func (s *State) Lift(v endpoint.Value, profile string) error {
	end := s.W.Endpoint(s.Cell.Endpoint)
	yours, err := s.W.Personal()
	if err != nil {
		return err
	}
	to := exchange.Change{Where: "workspace", Key: "profile." + profile + "." + v.Key.Name, To: v.Text}
	if v.Key.Kind == endpoint.List {
		to.To = v.Items
	}
	if profile == workspace.Everywhere || s.W.Config().Profiles[profile] == nil && yours[profile] != nil {
		to.Where = "user"
	}
	changes := []exchange.Change{to, {Where: "workspace", Key: "endpoint." + end.Name + "." + v.Key.Name, From: v.Text}}
	if profile != workspace.Everywhere && end.Profile != profile {
		if end.Profile != "" {
			return fmt.Errorf("%s has the profile %s; one endpoint has one", end.Name, end.Profile)
		}
		changes = append(changes, exchange.Change{Where: "workspace", Key: "endpoint." + end.Name + ".profile", To: profile})
	}
	return s.Change(changes...)
}

// PushDown writes a value that the chosen endpoint shares into the endpoint.
func (s *State) PushDown(v endpoint.Value) error {
	c := exchange.Change{Where: "workspace", Key: "endpoint." + s.Cell.Endpoint + "." + v.Key.Name, To: v.Text}
	if v.Key.Kind == endpoint.List {
		c.To = v.Items
	}
	return s.Change(c)
}

// NextEnvironment goes on to the next environment.
func (s *State) NextEnvironment() {
	n := len(s.W.Config().Environments)
	if n == 0 {
		s.Say("the workspace has no environment")
		return
	}
	at := slices.IndexFunc(s.W.Config().Environments, func(e workspace.Environment) bool { return e.Name == s.Environment })
	s.UseEnvironment(s.W.Config().Environments[(at+1)%n].Name)
	affected := 0
	for _, e := range s.W.Config().Endpoints {
		if set := s.W.Settings(e.Name); !e.Off && strings.Contains(set.Text("address"), "${") {
			affected++
		}
	}
	s.Say("environment %s: it changes %d of %d endpoints (V shows how)", s.Environment, affected, len(s.W.Config().Endpoints))
}

// UseEnvironment goes over to an environment.
func (s *State) UseEnvironment(name string) {
	if name == s.Environment {
		return
	}
	s.Environment = name
	s.Changed()
	s.Shown = len(s.Attempts)
}

// Draft is the chosen draft, opened for editing.
func (s *State) Draft() *message.Draft {
	if s.draft != nil && s.draftOf == s.Cell.Draft {
		return s.draft
	}
	if s.Cell.Draft.Operation == "" {
		return nil
	}
	body, header, err := s.Read(s.Cell.Draft)
	if err != nil {
		s.Say("%v", err)
		return nil
	}
	s.draftOf, s.draft, s.header = s.Cell.Draft, body, header
	s.base = [2][]byte{body.Bytes(), nil}
	if header != nil {
		s.base[1] = header.Bytes()
	}
	return s.draft
}

// Read parses a draft and its header blocks, which may be nil.
func (s *State) Read(r workspace.DraftRef) (body, header *message.Draft, err error) {
	c, err := s.W.Contract(r.Contract)
	if err != nil {
		return nil, nil, err
	}
	src, err := s.W.ReadDraft(r)
	if err != nil {
		return nil, nil, err
	}
	blocks, err := s.W.ReadHeader(r)
	if err != nil {
		return nil, nil, err
	}
	p := call.Plan{Contract: c, Operation: r.Operation}
	if o := Operation(c, r.Operation); o != nil {
		p.Port = o.Port
	}
	p.SetDraft(src)
	p.SetHeader(blocks)
	return p.Draft, p.Header, nil
}

// Header are the header blocks of the chosen draft, opened for editing; nil
// where there can be none.
func (s *State) Header() *message.Draft {
	if d := s.Draft(); d == nil || d.Envelope() != nil {
		return nil
	}
	return s.header
}

// Operation is the first SOAP operation of that name in a contract.
func Operation(c *contract.Contract, name string) *contract.Operation {
	for _, p := range c.Ports() {
		if o := p.Operation(name); o != nil && p.Version != soap.Unset {
			return o
		}
	}
	return nil
}

// Reread takes in what other programs wrote: the settings file, and the draft
// that is open. It is not called while something is being typed.
func (s *State) Reread() {
	if s.W.Stale() {
		if err := s.W.Reload(); err != nil {
			s.Say("%v", err)
			return
		}
		s.Changed()
		s.Say("%s was changed on disk, and is read again", workspace.File)
	}
	if s.draft == nil || s.draftOf != s.Cell.Draft {
		return
	}
	if src, err := s.W.ReadDraft(s.draftOf); err == nil && !bytes.Equal(src, s.base[0]) && bytes.Equal(s.draft.Bytes(), s.base[0]) {
		s.draft = nil
		s.Changed()
		s.Say("%s was changed on disk, and is read again", s.Cell.Draft)
	}
}

// SaveDraft keeps the draft as it stands.
func (s *State) SaveDraft() {
	if s.draft == nil {
		return
	}
	mine := [2][]byte{s.draft.Bytes(), nil}
	if s.header != nil {
		mine[1] = s.header.Bytes()
	}
	body, header, err := s.W.SaveDraft(s.draftOf, s.base[0], mine[0], s.base[1], mine[1])
	conflict, ok := errors.AsType[*workspace.ConflictError](err)
	switch {
	case ok:
		s.draft = nil
		s.Choose(Cell{conflict.Kept, s.Cell.Endpoint})
		s.Say("%v", conflict)
		return
	case err != nil:
		s.Say("the draft could not be saved: %v", err)
		return
	case !bytes.Equal(body, mine[0]) || !bytes.Equal(header, mine[1]):
		s.draft = nil // read again, with what others wrote
		s.Say("put together with what was changed on disk")
	}
	s.base = [2][]byte{body, header}
	s.Changed()
	s.Shown = len(s.Attempts)
}

// Open takes an exchange into sight, in its cell.
func (s *State) Open(x *exchange.Exchange) {
	if x.Kind != "" {
		s.Fetching = x
		if full, err := s.J.Get(x.ID); err == nil {
			s.Fetching = full
		}
		return
	}
	s.Fetching = nil
	s.Choose(s.cellOf(x))
	for i, a := range s.Attempts {
		if a.ID == x.ID {
			s.Shown = i
		}
	}
}
