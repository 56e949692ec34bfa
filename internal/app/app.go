// Package app is the full-screen application: the views, the line above them
// and the line below, the list of commands and the help page.
package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/board"
	"orenda/internal/app/certificates"
	"orenda/internal/app/contracts"
	"orenda/internal/app/differences"
	"orenda/internal/app/draft"
	"orenda/internal/app/endpoints"
	"orenda/internal/app/environments"
	"orenda/internal/app/identities"
	"orenda/internal/app/musters"
	"orenda/internal/app/path"
	"orenda/internal/app/relays"
	"orenda/internal/app/reply"
	"orenda/internal/app/soundings"
	"orenda/internal/app/state"
	"orenda/internal/app/strip"
	"orenda/internal/app/traffic"
	"orenda/internal/app/ui"
	"orenda/internal/diagnose"
	"orenda/internal/draw"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/journal"
	"orenda/internal/marks"
	"orenda/internal/safe"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// Options are what the application opens with.
type Options struct {
	Home      *user.Home           // the person's folders
	Workspace *workspace.Workspace // that is opened
	Journal   journal.Journal      // where exchanges are kept
	Source    string               // a description to be loaded at once
	Version   string               // of the program, for the help page
	Notice    string               // what is to be told first
	Story     bool                 // the story of the demo is told
}

// Run runs the application until the person leaves it, or ctx ends. What they
// made in a workspace that was never saved is kept: kept is its folder then.
func Run(ctx context.Context, o Options) (kept string, err error) {
	m := newModel(o)
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithFPS(120))
	over := make(chan struct{})
	fault := make(chan *user.Fault, 1)
	go func() { // what panics in the background ends the program in its own order
		defer close(fault)
		select {
		case f := <-m.s.Fault():
			fault <- f
			p.Quit()
		case <-over:
		}
	}()
	_, err = p.Run()
	close(over)
	if ctx.Err() != nil {
		err = nil
	}
	if f := <-fault; f != nil {
		m.fault = f
	}
	m.keep()
	m.s.End()
	if !m.s.Wait(leaveTime) {
		err = errors.Join(err, errors.New("something under way did not end in time; what it sent may not be kept"))
	}
	kept, lost := o.Workspace.Rescue(time.Now())
	if m.fault != nil {
		err = errors.Join(err, m.fault)
	}
	return kept, errors.Join(err, lost)
}

// keep keeps what is being typed.
func (m *model) keep() {
	for _, p := range m.places {
		if k, ok := p.view.(keeper); ok {
			k.Keep()
		}
	}
}

// place is a view with its key.
type place struct {
	name, key, about string
	view             ui.View
}

// opener is a view that wants to know when it is shown.
type opener interface{ Open() tea.Cmd }

// keeper is a view with something that is being typed and must not be lost.
type keeper interface{ Keep() }

type overlay uint8

const (
	none overlay = iota
	helpPage
	commandList
	asking    // one line is asked for
	choosing  // one of several things is chosen
	heardPage // what an error text of another program speaks of
)

type model struct {
	o      Options
	s      *state.State
	places []place
	at     int
	w, h   int

	over   overlay
	in     ui.Input
	pick   int
	scroll int
	prompt string
	answer func(string)
	then   func(string) tea.Cmd // in its place
	hidden bool                 // what is typed is a secret
	heard  []diagnose.Heard
	picks  state.Pick

	fault   *user.Fault // the panic that ends the application
	leaving bool        // what is under way is being halted
	frame   string      // as it is drawn: View only gives it
	plain   bool        // the terminal knows ASCII only
	ground  string      // that is set: ask, dark or light
	light   bool        // the ground is light

	drag    ui.Dragging // the mouse on the bar of a list
	ticks   int
	beating bool // the next beat of the clock is on its way

	told  *told  // for which views the line is ended that says what they are for
	story []step // of the demo; none elsewhere
	step  int    // that is told now
}

// leaveTime is how long what is under way is waited for when the person leaves.
const leaveTime = 10 * time.Second

func newModel(o Options) *model {
	s := state.New(o.Workspace, o.Journal, o.Home)
	m := &model{o: o, s: s, plain: marks.WantsPlain(), told: readTold(o.Home.State)}
	if o.Story {
		m.story = steps()
	}
	m.places = []place{
		{"board", "b", "what works where", board.New(s)},
		{"path", "p", "set and seen, stage by stage", path.New(s)},
		{"strip", "s", "the raw bytes in time", strip.New(s)},
		{"draft", "d", "the message, filled in", draft.New(s)},
		{"reply", "r", "the answer", reply.New(s)},
		{"contract", "c", "operations and source text", contracts.New(s)},
		{"compare", "=", "in what two calls differ", differences.New(s)},
		{"traffic", "t", "every exchange", traffic.New(s)},
		{"musters", "C", "many cases, with what is expected of each", musters.New(s)},
		{"sounding", "~", "the edge of what a service accepts", soundings.New(s)},
		{"relays", "B", "between a program and its service", relays.New(s)},
		{"trust", "T", "certificates, and what is trusted", certificates.New(s)},
		{"identities", "i", "who calls, and where each may go", identities.New(s)},
		{"endpoints", "o", "where calls go, arranged", endpoints.New(s)},
		{"environments", "V", "variables by environment", environments.New(s)},
	}
	for _, w := range s.W.Config().Warnings {
		s.Say("%s: %s", workspace.File, w)
	}
	set, err := o.Home.Settings()
	if err != nil {
		s.Say("%v", err)
	}
	m.ground, m.light = set.Ground, set.Ground == "light"
	if o.Notice != "" {
		s.Say("%s", o.Notice)
	}
	if o.Source != "" {
		s.Fetch(o.Source)
	}
	return m
}

// tick looks for what other processes kept, and lets ages grow.
type tick struct{}

func ticking() tea.Cmd {
	const each = 300 * time.Millisecond
	return tea.Tick(each, func(time.Time) tea.Msg { return tick{} })
}

// beat draws the clock of what is under way.
type beat struct{}

// beats has the next beat come, while anything is under way.
func (m *model) beats() tea.Cmd {
	if m.beating || m.s.UnderWay() == 0 {
		return nil
	}
	m.beating = true
	return tea.Tick(time.Second/10, func(time.Time) tea.Msg { return beat{} })
}

func (m *model) Init() tea.Cmd {
	if m.ground == "ask" { // the answer may never come, and is not waited for
		return tea.Batch(m.s.Listen(), ticking(), tea.RequestBackgroundColor)
	}
	return tea.Batch(m.s.Listen(), ticking())
}

func (m *model) view() ui.View { return m.places[m.at].view }

func (m *model) goTo(name string) tea.Cmd {
	for i, p := range m.places {
		if p.name == name {
			m.at = i
			if o, ok := p.view.(opener); ok {
				return o.Open()
			}
		}
	}
	return nil
}

// Update implements tea.Model. What is drawn is drawn here, once all that a message
// brings is taken; so views may move their scroll positions as they draw, and
// nothing is read or computed in View.
func (m *model) Update(msg tea.Msg) (_ tea.Model, cmd tea.Cmd) {
	defer func() { // a panic leaves the terminal as it was, and what was typed
		if v := recover(); v != nil {
			m.fault = &user.Fault{Value: v, Stack: debug.Stack()}
			cmd = tea.Quit
		}
	}()
	chosen := m.s.Chosen
	cmd = m.update(msg)
	if _, key := msg.(tea.KeyPressMsg); key {
		cmd = m.promptly(cmd)
	}
	m.s.Settle(chosen)
	m.goOn()
	if m.frame = m.draw(); m.plain {
		m.frame = marks.Plain(m.frame)
	}
	if m.light {
		m.frame = ui.OnLight(m.frame)
	}
	if looks := m.s.Looks(); looks != nil {
		cmd = tea.Batch(cmd, looks)
	}
	if next := m.beats(); next != nil {
		cmd = tea.Batch(cmd, next)
	}
	return m, cmd
}

// promptTime is how long the loop waits for what a key leads to.
const promptTime = 10 * time.Millisecond

// promptly takes a question or another view that a key leads to before the next key: else a
// word that is typed fast would run as commands. What takes longer comes as any message.
func (m *model) promptly(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	came := make(chan func() tea.Msg, 1)
	go func() {
		defer func() {
			if v := recover(); v != nil { // it is told where it is waited for
				came <- func() tea.Msg { panic(v) }
			}
		}()
		msg := cmd()
		came <- func() tea.Msg { return msg }
	}()
	select {
	case take := <-came:
		switch msg := take().(type) {
		case state.Ask, state.Pick, state.Goto:
			return m.update(msg)
		case state.Next:
			return m.promptly(m.update(msg))
		default:
			return func() tea.Msg { return msg }
		}
	case <-time.After(promptTime):
		return func() tea.Msg { return (<-came)() }
	}
}

//revive:disable-next-line:cyclomatic one screen, or the keys of one
//revive:disable-next-line:function-length the same
func (m *model) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
		return nil
	case state.Looked:
		m.s.TakeLook(msg)
		return m.view().Update(state.Wake{})
	case left:
		return tea.Quit
	case state.Wake:
		m.s.Take()
		return tea.Batch(m.s.Listen(), m.view().Update(msg))
	case tick:
		const rare = 6 // files are looked at more rarely than the journal
		if m.s.Arrivals(); m.ticks%rare == 0 {
			m.s.Refresh()
		}
		if m.ticks++; m.ticks%rare != 0 {
			return ticking()
		}
		if !m.view().Typing() && m.over == none {
			m.s.Reread()
		}
		return ticking()
	case beat:
		m.beating = false
		return nil
	case state.Goto:
		return m.goTo(string(msg))
	case state.Ask:
		cmd := m.ask(msg.Prompt, msg.Value, msg.Answer)
		m.then, m.hidden = msg.Then, msg.Hidden
		if msg.Hidden {
			m.in.Hide()
		}
		return cmd
	case state.Next:
		return msg()
	case state.Pick:
		m.picks = msg
		m.open(choosing)
		return nil
	case ui.Completed:
		if m.over == asking && m.in.Value() == msg.Text {
			m.in.SetValue(msg.Whole)
			if len(msg.Choices) > 0 {
				m.s.Say("%s", strings.Join(msg.Choices, "  "))
			}
			return nil
		}
	case tea.KeyPressMsg:
		return m.key(msg)
	case tea.PasteMsg:
		if m.over == none && !m.view().Typing() && isErrorText(msg.Content) && m.hear(msg.Content) {
			return nil
		}
	case tea.MouseMsg:
		if cmd, taken := m.drags(msg); taken {
			return cmd
		}
		if c, ok := msg.(tea.MouseClickMsg); ok {
			return m.click(c)
		}
	case tea.BackgroundColorMsg:
		if m.ground == "ask" {
			m.light = !msg.IsDark()
		}
		return nil
	}
	if m.over != none && m.in.Active {
		return m.in.Update(msg)
	}
	// What a view asked for in the background may come when another is shown.
	var cmds []tea.Cmd
	switch msg.(type) {
	case tea.MouseMsg, tea.PasteMsg:
		return m.view().Update(msg)
	}
	for _, p := range m.places {
		cmds = append(cmds, p.view.Update(msg))
	}
	return tea.Batch(cmds...)
}

// left is told once all that was under way has ended, and is kept.
type left struct{}

// leave ends the program. What is under way is halted and waited for, so that what
// left is kept; asked for once more, it ends at once.
func (m *model) leave() tea.Cmd {
	if m.leaving || m.s.Busy() == 0 {
		return tea.Quit
	}
	m.leaving = true
	m.s.Say("halting %d under way, to keep what they sent; q leaves at once", m.s.Busy())
	m.s.End()
	return func() tea.Msg {
		m.s.Wait(leaveTime)
		return left{}
	}
}

func (m *model) key(k tea.KeyPressMsg) tea.Cmd {
	m.s.Message = "" // what was said gives way
	if ui.Is(k, "ctrl+c") || m.leaving && ui.Is(k, "q") {
		return m.leave()
	}
	if m.over != none {
		return m.overKey(k)
	}
	if m.view().Typing() {
		return m.view().Update(k)
	}
	if ui.Is(k, "esc") {
		m.endsTelling()
	}
	// A view that draws or compares something else than the call in sight comes first.
	if ui.Is(k, "w", "=", "~") && ui.Has(m.view().Keys(), k) {
		return m.view().Update(k)
	}
	for _, p := range m.places {
		if ui.Is(k, p.key) {
			return m.goTo(p.name)
		}
	}
	for _, c := range m.commands() {
		if c.key != "" && ui.Is(k, c.key) {
			return c.do()
		}
	}
	return m.view().Update(k)
}

// command is one thing that can be done, from its key or from the list.
type command struct {
	name, key, show string
	do              func() tea.Cmd
}

func (m *model) commands() []command {
	out := []command{
		{"send the call (go)", "g", "g", m.send},
		{"halt the call under way", "h", "h", func() tea.Cmd { m.s.Halt(); return nil }},
		{"take back the last change, whatever it was", "u", "u", func() tea.Cmd { m.s.TakeBack(); return nil }},
		{"make it again", "U", "U", func() tea.Cmd { m.s.DoAgain(); return nil }},
		{"copy what is at the cursor", "y", "y", m.copyFirst},
		{"copy something else of it", "Y", "Y", m.copyOne},
		{"next environment", "v", "v", func() tea.Cmd { m.s.NextEnvironment(); return nil }},
		{"write a drawing of the path (SVG or PDF)", "w", "w", m.drawing},
		{
			"hand over: write the sheet of all that this call needs",
			"",
			"",
			m.handOver("write the sheet to", "call", m.settingsOf),
		},
		{"hand over: write a program that makes this call", "O", "O", m.handOverProgram},
		{"add this call, or those that are marked, to a muster as cases", "A", "A", m.addCases},
		{"expect of this draft what came back", "", "", m.expectAsCame},
		{
			"hand over: write a ticket for the service's people",
			"",
			"",
			m.handOver("write the ticket to", "ticket", handover.Ticket),
		},
		{"explain an error text of another program, or paste it", "", "", m.explainText},
		{"read a proxy file (PAC): which proxy it chooses for this endpoint", "", "", m.readPAC},
		{"bring back what was removed, also before", "", "", func() tea.Cmd { m.s.Restore(); return nil }},
		{"ground of the terminal: light, dark, or as it says", "", "", m.chooseGround},
		{"list of commands", ":", ":", func() tea.Cmd { m.open(commandList); return nil }},
		{"help", "?", "?", func() tea.Cmd { m.open(helpPage); return nil }},
		{"leave", "q", "q", m.leave},
	}
	if m.s.W.Dir() == "" {
		out = append(out, command{"save the workspace into a folder", "S", "S", m.save})
	} else {
		out = append(out, command{"make a new workspace like this one", "", "", m.makeLike})
	}
	return out
}

// send sends the chosen call, or on the board those that are marked; what
// changes things at the service asks first.
func (m *model) send() tea.Cmd {
	var then tea.Cmd
	targets := m.s.One()
	send := func() {
		m.s.Send()
		if name := m.places[m.at].name; name != "board" && name != "strip" && name != "reply" {
			then = m.goTo("path")
		}
	}
	if marked := m.s.MarkedTargets(); m.places[m.at].name == "board" && len(marked) > 0 {
		targets, send = marked, func() {
			clear(m.s.Marked)
			m.s.SendMany(marked)
		}
	}
	if m.s.Fetching != nil {
		send()
	} else if a := m.s.Careful(targets, send); a != nil {
		return func() tea.Msg { return *a }
	}
	return then
}

func (m *model) open(o overlay) {
	m.over, m.pick, m.scroll = o, 0, 0
	if o != heardPage {
		m.in.Start("")
	}
}

func (m *model) ask(prompt, value string, answer func(string)) tea.Cmd {
	m.over, m.prompt, m.answer, m.then, m.hidden = asking, prompt, answer, nil, false
	m.in.Start(value)
	return nil
}

func (m *model) drawing() tea.Cmd {
	x := m.s.Exchange()
	if x.Outcome == "" {
		m.s.Say("send the call first; its path is drawn then")
		return nil
	}
	return m.s.AskDrawing("path-"+x.ID, func() (state.Drawing, error) { return draw.Path(x), nil })
}

// handOver writes down the call in sight: what a program needs to do what it did,
// or what the service's people need to look into it.
func (m *model) handOver(prompt, name string, sheet func(*exchange.Exchange) *handover.Sheet) func() tea.Cmd {
	return func() tea.Cmd {
		x := m.s.Exchange()
		if x.Outcome == "" {
			m.s.Say("send the call first; what was sent is written down")
			return nil
		}
		return m.ask(prompt+" (Markdown)", name+"-"+x.ID+".md", func(file string) {
			if err := user.WriteNew(file, []byte(sheet(x).Markdown())); err != nil {
				m.s.Say("%v", err)
				return
			}
			m.s.Say("written: %s", file)
		})
	}
}

func (m *model) settingsOf(x *exchange.Exchange) *handover.Sheet {
	c, _ := m.s.W.Contract(x.Contract)
	return handover.Settings(x, c, m.s.J.ReplySizes(x.Operation, x))
}

func (m *model) save() tea.Cmd {
	cwd, _ := os.Getwd()
	return m.ask(
		"save the workspace into the folder",
		filepath.Join(cwd, safe.FileName(m.s.W.Config().Name)),
		func(dir string) {
			if err := m.s.W.SaveTo(dir); err != nil {
				m.s.Say("%v", err)
				return
			}
			m.s.Say("saved: %s", m.s.W.Where())
		},
	)
}

// makeLike makes a workspace from this one, and says what has to be given or allowed there.
func (m *model) makeLike() tea.Cmd {
	usual := filepath.Join(filepath.Dir(m.s.W.Dir()), filepath.Base(m.s.W.Dir())+"-2")
	return m.ask("a new workspace like this one, in the folder", usual, func(dir string) {
		made, left, err := m.s.W.MakeLike(dir)
		switch {
		case err != nil:
			m.s.Say("%v", err)
		case len(left) > 0:
			m.s.Say("made: %s; %s", made.Dir(), left[0])
		default:
			m.s.Say("made: %s; orenda -w opens it", made.Dir())
		}
	})
}

// View implements tea.Model.
func (m *model) View() tea.View {
	return tea.View{AltScreen: true, MouseMode: tea.MouseModeCellMotion, WindowTitle: "Orenda", Content: m.frame}
}

// draw draws the whole screen.
func (m *model) draw() string {
	if m.w < 20 || m.h < 6 {
		return "too small"
	}
	inner := ""
	switch m.over {
	case helpPage:
		inner = m.help(m.w, m.h-2)
	case heardPage:
		inner = m.heardView(m.w, m.h-2)
	case commandList:
		inner = m.list(m.w, m.h-2)
	case choosing:
		inner = m.offer(m.w, m.h-2)
	default:
		inner = m.tell(m.inRoom(m.view()))
	}
	return m.head() + "\n" + inner + "\n" + m.foot()
}

func (m *model) head() string {
	name := m.s.W.Config().Name
	if m.s.W.Dir() == "" {
		name += " (in memory)"
	}
	left := " " + ui.Strong(ui.Cut(name, m.w/3)) + ui.Soft("  "+m.places[m.at].name)
	env := ""
	if m.s.Environment != "" {
		env = ui.Soft("environment ") + ui.Cut(m.s.Environment, 20)
	}
	right := ui.Soft(endpoint.Bytes(int64(m.s.Kept)) + " kept ")
	for _, r := range m.s.Relays {
		if !r.Answering.Plain() {
			right = ui.Accent("A RELAY DOES MORE THAN PASS ON ") + ui.Soft("· ") + right
			break
		}
	}
	if j, ok := m.o.Journal.(interface{ Waiting() int }); ok && j.Waiting() > 0 {
		right = ui.Accent(endpoint.Bytes(int64(j.Waiting()))+" wait for the journal's server ") + ui.Soft("· ") + right
	}
	if n := len(m.s.Relays); n > 0 {
		right = ui.Soft(fmt.Sprintf("%d listening · ", n)) + right
	}
	if m.s.SkipVerify {
		right = ui.Accent("THE NEXT CALL ACCEPTS ANY CERTIFICATE ")
	}
	if n := m.s.UnderWay(); n > 0 {
		right = ui.Accent(fmt.Sprintf("%d under way", n)) + ui.Soft(" · ") + right
	}
	gap := m.w - ui.Width(left) - ui.Width(env) - ui.Width(right)
	if gap < 4 {
		return ui.Pad(left+"  "+right, m.w)
	}
	return left + strings.Repeat(" ", gap/2) + env + strings.Repeat(" ", gap-gap/2) + right
}

func (m *model) foot() string {
	if m.over == asking {
		p := " " + ui.Strong(ui.Cut(m.prompt, m.w*2/3)) + " " + ui.Accent("› ")
		return ui.Pad(p+m.in.View(max(m.w-ui.Width(p)-1, 10)), m.w)
	}
	said := ui.Cut(m.s.Message, m.w/2)
	help := ui.Help(m.hints(), m.hintsWidth())
	gap := m.w - ui.Width(help) - ui.Width(said) - 2
	return " " + help + strings.Repeat(" ", max(gap, 1)) + said + " "
}

// hintsWidth is the room for the key hints beside what is said.
func (m *model) hintsWidth() int { return m.w - ui.Width(ui.Cut(m.s.Message, m.w/2)) - 5 }

// hints are the keys that the bottom line shows.
func (m *model) hints() []ui.Key {
	switch m.over {
	case commandList:
		return []ui.Key{{Show: "↑↓", Does: "choose"}, {Show: "⏎", Does: "do it"}, {Show: "esc", Does: "back"}}
	case choosing:
		return []ui.Key{{Show: "↑↓", Does: "choose"}, {Show: "abc", Does: "narrow"}, {Show: "⏎", Does: "take it"},
			{Show: "esc", Does: "not now"}}
	case helpPage:
		return []ui.Key{{Show: "abc", Does: "search"}, {Show: "↑↓", Does: "scroll"}, {Show: "esc", Does: "back"}}
	case heardPage:
		return []ui.Key{{Show: "↑↓", Does: "scroll"}, {Show: "esc", Does: "back"}}
	}
	return m.view().Keys()
}
