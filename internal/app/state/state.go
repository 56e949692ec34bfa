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
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/message"
	"orenda/internal/near"
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

// To is what a key does that leads to another view.
func To(view string) func(tea.KeyPressMsg) tea.Cmd {
	return func(tea.KeyPressMsg) tea.Cmd { return func() tea.Msg { return Goto(view) } }
}

// CallKey is a draft over an endpoint: what a call is made of.
type CallKey struct {
	Draft    workspace.DraftRef // what is said
	Endpoint string             // over what; "" none serves it
}

// State is the shared state. Everything but the calls' own records is touched
// from the program's loop only.
type State struct {
	W    *workspace.Workspace // the workspace
	J    journal.Journal      // where exchanges are kept
	Home *user.Home           // the person's folders

	Environment string               // that is chosen
	Chosen      CallKey              // what is chosen: keys act on it, and it is what is drawn as chosen
	Attempts    []*exchange.Exchange // of the chosen cell, oldest first
	Shown       int                  // index into Attempts; len(Attempts) is the next call
	Kept        int                  // exchanges of this workspace that are kept
	Message     string               // the newest one, for the bottom line
	Fetching    *exchange.Exchange   // the description that is being fetched, or that failed

	Reveal bool           // secrets are shown for the moment
	Stage  exchange.Stage // that the person went to on the path: the strip opens there; None: nowhere
	Copied string         // a value, or a part of a message as XML

	Compared   Compared        // two exchanges that are compared
	Sound      *Sounding       // the field that is sounded, or was; nil none
	Relays     []*Relay        // that run
	Marked     map[Target]bool // cells that are to be sent together
	SkipVerify bool            // whatever certificate is shown, for the next call only
	Newer      *Newer          // a description that was fetched again

	run       *runner
	inbox     inbox
	calls     calls
	drafts    drafts
	fetch     fetching
	musters   map[string]*Running            // by name
	chains    map[string]*exchange.Exchange  // of fetched chains, by endpoint
	standings map[string][]exchange.Standing // whether certificates of chains were revoked, by endpoint

	latest  map[Target]*exchange.Exchange // an environment of "" is any
	traffic traffic
	whole   map[string]*exchange.Exchange // attempts with their bytes, by id
	steps   steps
	version int64 // of the journal, as it was read last

	known   map[string]known // what was looked up for the views
	looking map[string]bool  // what is being looked up
	looks   []tea.Cmd        // what is to be looked up
	round   int              // counts the changes after which what is known may not hold
	hurry   chan struct{}    // a wake-up that waits to be taken
}

// calls are those that are under way, and what waits for them.
type calls struct {
	running  map[string]*running // by exchange id, or by what is fetched
	queue    []Target            // of those that are sent together, what waits
	many     struct{ total, left, sent int }
	pool     *wire.Pool // connections that are kept alive
	sessions call.Sessions
	clear    map[string]*exchange.Exchange // of this sitting, with their secrets, by id
	changes  map[CallKey][]exchange.Change // since the last attempt
	as       string                        // an identity for the call that is about to begin
	asItIs   bool                          // the call that is about to begin is not held back
	checking bool                          // checks are under way
	next     func()                        // sends once what ended is kept
}

// drafts are the draft that is open.
type drafts struct {
	body   *message.Draft
	header *message.Draft
	of     workspace.DraftRef
	base   [2][]byte // body and header blocks as they were read or kept last
}

type running struct {
	cell  CallKey
	env   string
	many  bool // one of those that are sent together
	fetch bool
	call  *call.Call
	halt  context.CancelFunc
}

// New makes the state of a workspace.
func New(w *workspace.Workspace, j journal.Journal, home *user.Home) *State {
	s := &State{
		W: w, J: j, Home: home, Environment: w.Config().Environment, run: newRunner(),
		calls: calls{
			running: map[string]*running{}, clear: map[string]*exchange.Exchange{},
			changes: map[CallKey][]exchange.Change{}, pool: &wire.Pool{},
		},
		latest: map[Target]*exchange.Exchange{}, whole: map[string]*exchange.Exchange{},
		Marked: map[Target]bool{}, chains: map[string]*exchange.Exchange{}, standings: map[string][]exchange.Standing{},
		steps: steps{}, known: map[string]known{}, looking: map[string]bool{}, hurry: make(chan struct{}, 1),
	}
	s.traffic.elsewhere = isShared(j) // a team looks at all that it keeps
	w.Remember()
	if w.Dir() != "" && home != nil {
		_ = home.RememberWorkspace(w.Dir()) // only a list to choose from
	}
	if rows := s.Rows(); len(rows) > 0 {
		s.Choose(CallKey{rows[0], s.firstEndpoint(rows[0])})
	}
	s.Refresh()
	return s
}

func (s *State) firstEndpoint(r workspace.DraftRef) string {
	if e, err := s.W.ChooseEndpoint(r, ""); err == nil {
		return e.Name
	}
	if e := s.W.Serving(r.Contract, r.Operation); len(e) > 0 {
		return e[0].Name
	}
	return ""
}

func (s *State) notify() {
	select {
	case s.hurry <- struct{}{}:
	default:
	}
}

// frame is the least time between two wake-ups.
const frame = 16 * time.Millisecond

// Listen waits for the next wake-up.
func (s *State) Listen() tea.Cmd {
	return func() tea.Msg {
		select {
		case <-s.hurry:
		case <-s.run.ctx.Done():
			return nil
		}
		time.Sleep(frame)
		return Wake{}
	}
}

// Say puts a message into the bottom line.
func (s *State) Say(format string, args ...any) { s.Message = fmt.Sprintf(format, args...) }

// attemptsAgain looks for attempts of the chosen cell that came from elsewhere.
// The one that is shown stays, also where it is older than those in sight.
func (s *State) attemptsAgain() {
	none := len(s.Attempts) == 0
	var shown *exchange.Exchange // nil where the next call is in sight
	if s.Shown < len(s.Attempts) {
		shown = s.Attempts[s.Shown]
	}
	s.Attempts = s.attemptsOf(s.Chosen)
	switch {
	case shown != nil:
		s.show(shown)
	case none:
		s.Shown = max(len(s.Attempts)-1, 0)
	default:
		s.Shown = len(s.Attempts)
	}
}

// show takes an attempt of the chosen cell into sight.
func (s *State) show(x *exchange.Exchange) {
	same := func(a *exchange.Exchange) bool { return a.ID == x.ID }
	if s.Shown = slices.IndexFunc(s.Attempts, same); s.Shown < 0 {
		s.Attempts, s.Shown = append([]*exchange.Exchange{x}, s.Attempts...), 0 // older than those in sight
	}
}

// is tells whether an exchange is of a cell.
func is(x *exchange.Exchange, c CallKey) bool {
	return x.Contract == c.Draft.Contract && x.Operation == c.Draft.Operation && x.Draft == c.Draft.Name &&
		x.Endpoint == c.Endpoint
}

func (s *State) cellOf(x *exchange.Exchange) CallKey {
	for _, r := range s.Rows() {
		if r.Contract == x.Contract && r.Operation == x.Operation && r.Name == x.Draft {
			return CallKey{r, x.Endpoint}
		}
	}
	return CallKey{workspace.DraftRef{Contract: x.Contract, Operation: x.Operation, Name: x.Draft}, x.Endpoint}
}

// Rows are the drafts.
func (s *State) Rows() []workspace.DraftRef { return s.W.Drafts() }

// Latest is how the last call of a cell went, or goes, in an environment ("" is
// any); nil where there was none.
func (s *State) Latest(c CallKey, environment string) *exchange.Exchange {
	for _, r := range s.calls.running {
		if r.cell == c && !r.fetch && (environment == "" || r.env == environment) {
			return r.call.Snapshot()
		}
	}
	return s.latest[Target{c, environment}]
}

// UnderWay is the number of calls under way.
func (s *State) UnderWay() int { return len(s.calls.running) }

// maxAttempts is how many attempts of a cell are in sight.
const maxAttempts = 12

// Choose takes a cell into sight, with the attempts that were made of it.
func (s *State) Choose(c CallKey) {
	s.Chosen = c
	s.Attempts = s.attemptsOf(c)
	s.Shown = max(len(s.Attempts)-1, 0)
}

// attemptsOf are the newest attempts of a cell, the oldest first.
func (s *State) attemptsOf(c CallKey) (out []*exchange.Exchange) {
	for _, x := range slices.Backward(s.traffic.kept) {
		if x.Kind == "" && is(x, c) {
			out = append(out, x)
		}
	}
	return out[max(len(out)-maxAttempts, 0):]
}

// Running is the call of the chosen cell that is under way, or nil.
func (s *State) Running() *exchange.Exchange {
	for _, r := range s.calls.running {
		if r.cell == s.Chosen && !r.fetch {
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
		return s.attempt(s.Attempts[s.Shown])
	}
	return s.Check()
}

// attempt is an attempt with its bytes, as soon as they were read from the journal.
func (s *State) attempt(x *exchange.Exchange) *exchange.Exchange {
	if c := s.calls.clear[x.ID]; c != nil && s.Reveal {
		return c
	}
	if x.Moments != nil || len(x.Legs) == 0 {
		return x
	}
	if full := s.whole[x.ID]; full != nil {
		return full
	}
	s.look("attempt "+x.ID, func(context.Context) func() {
		full, err := s.J.Get(x.ID)
		return func() {
			if err != nil {
				s.Say("%v", err)
				full = x
			}
			s.whole[x.ID] = full
		}
	})
	return x
}

// AllVariables are those of the workspace, with who uses each.
func (s *State) AllVariables() []workspace.Variable {
	w := s.W
	return Known(s, "variables", func(context.Context) []workspace.Variable { return w.AllVariables() })
}

// Plan is the plan of the chosen cell.
func (s *State) Plan() (call.Plan, error) {
	return s.planOf(Target{s.Chosen, s.Environment})
}

func (s *State) planOf(t Target) (call.Plan, error) { return s.planning()(t) }

// planning makes plans, in any goroutine.
func (s *State) planning() func(Target) (call.Plan, error) {
	w, j, pool, sessions := s.W, s.J, s.calls.pool, &s.calls.sessions
	return func(t Target) (call.Plan, error) {
		p, err := w.Plan(t.Draft, t.Endpoint, t.Environment)
		p.History, p.Sessions = j, sessions
		p.Keep = func(x *exchange.Exchange) { _ = j.Add(x) } // a log-in; that it was not kept does not stop the call
		if p.NoEndpoint == nil && p.Settings.Switch("keep-alive") {
			p.Pool = pool
		}
		return p, err
	}
}

// Check goes through the stages that need no network, without any secret, in the
// background. Until it has, what is known is which call it is about.
func (s *State) Check() *exchange.Exchange {
	t := Target{s.Chosen, s.Environment}
	plan := s.planning()
	x := Known(s, checkKey(t), func(ctx context.Context) *exchange.Exchange {
		p, err := plan(t)
		if err != nil {
			return &exchange.Exchange{
				Operation: t.Draft.Operation,
				Findings:  []exchange.Finding{{Title: err.Error()}},
			}
		}
		p.Until, p.Peek = exchange.Security, true
		x := call.New(p, nil).Run(ctx)
		if x.Outcome == exchange.OutcomePassed {
			x.Outcome = exchange.OutcomeUnderWay // nothing was sent: it has no outcome
		}
		return x.Redact(nil)
	})
	if x == nil {
		return &exchange.Exchange{Operation: t.Draft.Operation, Endpoint: t.Endpoint, Environment: t.Environment}
	}
	return x
}

func checkKey(t Target) string {
	return fmt.Sprintf("check %s %s %s", t.Draft.ID(), t.Endpoint, t.Environment)
}

// Changed has told again what was told before a change of settings or draft.
func (s *State) Changed() { s.Stale("") }

// Fits tells whether a repair of what is in sight fits what is set now.
func (s *State) Fits(x *exchange.Exchange, r *exchange.Remedy) error {
	if s.Fetching != nil {
		return nil // its settings are those that it was planned for
	}
	return s.W.Fits(x, r)
}

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
			s.Choose(CallKey{s.Chosen.Draft, fmt.Sprint(c.To)})
			continue
		}
		ref, err := s.W.ChangeDraft(s.Chosen.Draft, c)
		if err != nil {
			return err
		}
		s.Chosen.Draft = ref
		s.drafts.body = nil
	}
	if len(settings) > 0 {
		if err := s.W.Apply(settings...); err != nil {
			return err
		}
	}
	if e, err := s.W.ChooseEndpoint(s.Chosen.Draft, ""); err == nil && s.Chosen.Endpoint == "" { // it has one now
		s.Choose(CallKey{s.Chosen.Draft, e.Name})
	}
	s.remember(changes...)
	return nil
}

// Change makes changes that a person asked for.
func (s *State) Change(changes ...exchange.Change) error {
	changes, err := s.W.Typed(changes...)
	if err != nil {
		return err
	}
	if err := s.W.Apply(changes...); err != nil {
		return err
	}
	s.remember(changes...)
	return nil
}

func (s *State) remember(changes ...exchange.Change) {
	s.calls.changes[s.Chosen] = append(s.calls.changes[s.Chosen], changes...)
	s.Changed()
	s.Shown = len(s.Attempts)
}

// Pending are the changes since the last attempt of the chosen cell.
func (s *State) Pending() []exchange.Change { return s.calls.changes[s.Chosen] }

// SetSetting gives a setting of the chosen endpoint a value; "" takes it out.
func (s *State) SetSetting(key, value string) error {
	k := endpoint.KeyOf(key)
	value = strings.TrimSpace(value)
	if s.Fetching != nil {
		return s.setFetch(k, value)
	}
	if value != "" {
		if err := k.Check(value); err != nil {
			return err
		}
	}
	set := s.W.Settings(s.Chosen.Endpoint)
	old := set.Get(key)
	if old.Text == value {
		return nil
	}
	c := exchange.Change{
		Where: "workspace",
		Key:   "endpoint." + s.Chosen.Endpoint + "." + key,
		From:  old.Text,
		To:    value,
	}
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

// SetNamed is SetSetting for a name that a person typed: that of the file, or the label on
// the screen.
func (s *State) SetNamed(name, value string) error {
	k := endpoint.KeyOf(name)
	for i := range endpoint.Keys {
		if k == nil && strings.EqualFold(strings.ReplaceAll(endpoint.Keys[i].Label(), " ", "-"), name) {
			k = &endpoint.Keys[i]
		}
	}
	if k == nil {
		meant := near.Miss(name, endpoint.Names())
		if meant != "" {
			meant = "; " + meant + " is meant, perhaps"
		}
		return fmt.Errorf("there is no setting %s%s", name, meant)
	}
	return s.SetSetting(k.Name, value)
}

// ChooseNamed chooses the first call whose name has the words.
func (s *State) ChooseNamed(words string) bool {
	all := strings.Fields(strings.ToLower(words))
	for _, r := range s.Rows() {
		name := strings.ToLower(r.Contract + " " + r.String())
		if !slices.ContainsFunc(all, func(w string) bool { return !strings.Contains(name, w) }) {
			s.Choose(CallKey{r, s.firstEndpoint(r)})
			return true
		}
	}
	return false
}

// Lift moves a value of the chosen endpoint to a profile, which the endpoint has
// from then on: one of the person's own, or of the workspace.
func (s *State) Lift(v endpoint.Value, profile string) error {
	end := s.W.Endpoint(s.Chosen.Endpoint)
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
	changes := []exchange.Change{
		to,
		{Where: "workspace", Key: "endpoint." + end.Name + "." + v.Key.Name, From: v.Text},
	}
	if profile != workspace.Everywhere && end.Profile != profile {
		if end.Profile != "" {
			return fmt.Errorf("%s has the profile %s; one endpoint has one", end.Name, end.Profile)
		}
		changes = append(
			changes,
			exchange.Change{Where: "workspace", Key: "endpoint." + end.Name + ".profile", To: profile},
		)
	}
	return s.Change(changes...)
}

// PushDown writes a value that the chosen endpoint shares into the endpoint.
func (s *State) PushDown(v endpoint.Value) error {
	c := exchange.Change{Where: "workspace", Key: "endpoint." + s.Chosen.Endpoint + "." + v.Key.Name, To: v.Text}
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
	at := slices.IndexFunc(
		s.W.Config().Environments,
		func(e workspace.Environment) bool { return e.Name == s.Environment },
	)
	s.UseEnvironment(s.W.Config().Environments[(at+1)%n].Name)
	affected := 0
	for _, e := range s.W.Config().Endpoints {
		if set := s.W.Settings(e.Name); !e.Off && strings.Contains(set.Text("address"), "${") {
			affected++
		}
	}
	s.Say(
		"environment %s: it changes %d of %d endpoints (V shows how)",
		s.Environment,
		affected,
		len(s.W.Config().Endpoints),
	)
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
	if s.drafts.body != nil && s.drafts.of == s.Chosen.Draft {
		return s.drafts.body
	}
	if s.Chosen.Draft.Operation == "" {
		return nil
	}
	body, header, err := s.Read(s.Chosen.Draft)
	if err != nil {
		s.Say("%v", err)
		return nil
	}
	s.drafts.of, s.drafts.body, s.drafts.header = s.Chosen.Draft, body, header
	s.drafts.base = [2][]byte{body.Bytes(), nil}
	if header != nil {
		s.drafts.base[1] = header.Bytes()
	}
	return s.drafts.body
}

// OtherDraft is the body of a draft that is looked at beside the chosen one; nil
// until it was read.
func (s *State) OtherDraft(r workspace.DraftRef) (workspace.Opened, error) {
	type read struct {
		workspace.Opened
		err error
	}
	w := s.W
	other := Known(s, ofFiles+"draft "+r.ID(), func(context.Context) read {
		o, err := w.OpenDraft(r)
		return read{o, err}
	})
	return other.Opened, other.err
}

// Read parses a draft and its header blocks, which may be nil.
func (s *State) Read(r workspace.DraftRef) (body, header *message.Draft, err error) {
	o, err := s.W.OpenDraft(r)
	return o.Body, o.Header, err
}

// Header are the header blocks of the chosen draft, opened for editing; nil
// where there can be none.
func (s *State) Header() *message.Draft {
	if d := s.Draft(); d == nil || d.Envelope() != nil {
		return nil
	}
	return s.drafts.header
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

// Reread takes in, in the background, what other programs wrote: the settings file,
// the draft that is open, and what views read of files. It is not called while
// something is being typed.
func (s *State) Reread() {
	s.Stale(ofFiles)
	w, of, open := s.W, s.drafts.of, s.drafts.body != nil && s.drafts.of == s.Chosen.Draft
	s.look("files", func(context.Context) func() {
		stale := w.Stale()
		var err error
		if stale {
			err = w.Reload()
		}
		var src []byte
		if open {
			src, _ = w.ReadDraft(of)
		}
		return func() { s.reread(stale, err, of, src) }
	})
}

func (s *State) reread(stale bool, err error, of workspace.DraftRef, src []byte) {
	switch {
	case err != nil:
		s.Say("%v", err)
		return
	case stale:
		s.Changed()
		s.Say("%s was changed on disk, and is read again", workspace.File)
	}
	d := &s.drafts
	if src == nil || d.body == nil || d.of != of || bytes.Equal(src, d.base[0]) ||
		!bytes.Equal(d.body.Bytes(), d.base[0]) {
		return
	}
	d.body = nil
	s.Changed()
	s.Say("%s was changed on disk, and is read again", of)
}

// ofFiles begins the keys of what is known of files that other programs may write.
const ofFiles = "file "

// SaveDraft keeps the draft as it stands.
func (s *State) SaveDraft() {
	if s.drafts.body == nil {
		return
	}
	mine := [2][]byte{s.drafts.body.Bytes(), nil}
	if s.drafts.header != nil {
		mine[1] = s.drafts.header.Bytes()
	}
	body, header, err := s.W.SaveDraft(s.drafts.of, s.drafts.base[0], mine[0], s.drafts.base[1], mine[1])
	conflict, ok := errors.AsType[*workspace.ConflictError](err)
	switch {
	case ok:
		s.drafts.body = nil
		s.Choose(CallKey{conflict.Kept, s.Chosen.Endpoint})
		s.Say("%v", conflict)
		return
	case err != nil:
		s.Say("the draft could not be saved: %v", err)
		return
	case !bytes.Equal(body, mine[0]) || !bytes.Equal(header, mine[1]):
		s.drafts.body = nil // read again, with what others wrote
		s.Say("put together with what was changed on disk")
	}
	s.drafts.base = [2][]byte{body, header}
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
	s.show(x)
}
