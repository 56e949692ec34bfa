package app

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/app/state"
	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// person uses the application without a terminal: keys in, text out.
type person struct {
	t *testing.T
	m *model
	h *standin.Harbour

	late []chan tea.Msg // of commands that take their time
}

func sit(t *testing.T, w, h int) *person {
	t.Helper()
	harbour, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(harbour.Close)
	dir := t.TempDir()
	home := &user.Home{Config: dir + "/config", State: dir + "/state"}
	ws := workspace.New("harbour", home)
	for _, p := range []string{"berths", "tides"} {
		f, err := call.Fetch(
			context.Background(),
			"http://"+harbour.Plain+"/"+p+"?wsdl",
			call.Plan{Agent: "test"},
			nil,
		)
		require.NoError(t, err)
		_, err = ws.AddContract(f.Contract, f.Served)
		require.NoError(t, err)
	}
	p := &person{
		t: t,
		m: newModel(Options{Home: home, Workspace: ws, Journal: &journal.Memory{}, Version: "test"}),
		h: harbour,
	}
	p.size(w, h)
	return p
}

func (p *person) size(w, h int) { p.tell(tea.WindowSizeMsg{Width: w, Height: h}) }

// tell passes a message, and what comes of it, to the model.
func (p *person) tell(msg tea.Msg) {
	p.obey(p.update(msg))
}

// update passes a message to the model, and lets it look up what it wants to show.
func (p *person) update(msg tea.Msg) tea.Cmd {
	chosen := p.m.s.Chosen
	cmd := p.m.update(msg)
	p.m.s.Settle(chosen)
	p.steady()
	return cmd
}

// steady draws until nothing is looked up any more.
func (p *person) steady() {
	for range 20 {
		p.m.s.Take()
		p.m.frame = p.m.draw()
		looks := p.m.s.Looks()
		if looks == nil {
			return
		}
		p.looked(looks())
	}
}

func (p *person) looked(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.BatchMsg:
		for _, c := range msg {
			p.looked(c())
		}
	case state.Looked:
		p.m.update(msg)
	}
}

func (p *person) obey(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	done := make(chan tea.Msg, 1)
	go func() { done <- cmd() }()
	select {
	case msg := <-done:
		p.take(msg)
	case <-time.After(100 * time.Millisecond): // a listener, a tick, a blinking cursor; or a large reply
		p.late = append(p.late, done)
	}
}

// take passes on what a command came to.
func (p *person) take(msg tea.Msg) {
	switch msg := msg.(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			p.obey(c)
		}
	case state.Goto, state.Ask, state.Pick:
		p.tell(msg)
	default:
		if strings.HasPrefix(fmt.Sprintf("%T", msg), "reply.") {
			p.tell(msg)
		}
	}
}

var named = map[string]tea.KeyPressMsg{
	"shift+left": {Code: tea.KeyLeft, Mod: tea.ModShift}, "shift+up": {Code: tea.KeyUp, Mod: tea.ModShift},
	"enter": {
		Code: tea.KeyEnter,
	}, "esc": {Code: tea.KeyEscape}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "left": {Code: tea.KeyLeft},
	"right": {Code: tea.KeyRight},
	"tab": {
		Code: tea.KeyTab,
	}, "home": {Code: tea.KeyHome}, "end": {Code: tea.KeyEnd}, "pgdown": {Code: tea.KeyPgDown},
	"pgup":  {Code: tea.KeyPgUp},
	"space": {Code: tea.KeySpace, Text: " "},
	"ctrl+u": {
		Code: 'u',
		Mod:  tea.ModCtrl,
	}, "ctrl+s": {Code: 's', Mod: tea.ModCtrl}, "ctrl+z": {Code: 'z', Mod: tea.ModCtrl},
}

func (p *person) keys(keys ...string) {
	for _, k := range keys {
		msg, ok := named[k]
		if !ok {
			for _, r := range k { // text, letter by letter
				p.tellKey(tea.KeyPressMsg{Code: r, Text: string(r)})
			}
			continue
		}
		p.tellKey(msg)
	}
}

// tellKey is tell without waiting for what blinks.
func (p *person) tellKey(k tea.KeyPressMsg) {
	typing := p.m.view().Typing() || p.m.in.Active
	cmd := p.update(k)
	if !typing || k.Code == tea.KeyEnter || k.Code == tea.KeyEscape {
		p.obey(cmd)
	}
}

func (p *person) text() string {
	p.steady()
	return ansi.Strip(p.m.View().Content)
}

// wait waits until nothing is under way.
func (p *person) wait() {
	deadline := time.Now().Add(15 * time.Second)
	for p.m.s.UnderWay() > 0 {
		require.True(p.t, time.Now().Before(deadline))
		time.Sleep(2 * time.Millisecond)
		p.m.s.Take()
	}
	p.steady()
	p.obey(p.m.view().Update(state.Wake{}))
}

func (p *person) sees(texts ...string) {
	p.t.Helper()
	now := p.text()
	for _, x := range texts {
		assert.Contains(p.t, now, x)
	}
}

// fits checks that a frame has exactly the size of the screen.
func (p *person) fits() {
	p.t.Helper()
	p.steady()
	lines := strings.Split(p.m.View().Content, "\n")
	if !assert.Len(p.t, lines, p.m.h) {
		return
	}
	for i, l := range lines {
		if w := ansi.StringWidth(l); w > p.m.w {
			p.t.Errorf("line %d is %d cells wide on a screen of %d: %s", i, w, p.m.w, ansi.Strip(l))
		}
	}
}

func TestEveryViewFitsEveryScreen(t *testing.T) {
	p := sit(t, 158, 47)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	p.keys("g")
	p.wait()
	for _, size := range [][2]int{{158, 47}, {80, 24}, {100, 30}, {129, 40}, {40, 12}, {24, 8}, {300, 90}, {20, 6}} {
		p.size(size[0], size[1])
		for _, place := range p.m.places {
			p.keys(place.key)
			p.fits()
			for _, k := range []string{"down", "right", "pgdown", "end", "tab", "up", "left", "home"} {
				p.keys(k)
				p.fits()
			}
			if place.name == "path" {
				p.keys("left")
			}
		}
		for _, k := range []string{"?", "esc", ":"} {
			p.keys(k)
			p.fits()
		}
		p.keys("esc")
	}
}

func TestTheBoardMovesOnlyToCellsThatCanBe(t *testing.T) {
	p := sit(t, 120, 30)
	p.sees("berth-desk", "BerthDesk11", "BerthDesk12", "BerthDeskTLS", "tide-tables", "TideTablesTLS")
	assert.Equal(t, "FindBerths", p.m.s.Chosen.Draft.Operation)
	p.keys("right", "right", "right", "right")
	assert.Equal(t, "BerthDeskTLS", p.m.s.Chosen.Endpoint)
	p.keys("down", "down", "down")
	assert.Equal(t, "YearTable", p.m.s.Chosen.Draft.Operation)
	assert.Contains(t, []string{"TideTables", "TideTablesTLS"}, p.m.s.Chosen.Endpoint)
	p.keys("*")
	p.sees("is the default now")
	assert.True(t, p.m.s.W.Endpoint(p.m.s.Chosen.Endpoint).Default)
	p.keys("home", "up", "enter")
	assert.Equal(t, "draft", p.m.places[p.m.at].name, "what is not filled in yet opens in the draft")
}

func TestFillingInADraft(t *testing.T) {
	p := sit(t, 150, 40)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[1], Endpoint: "BerthDesk11"}) // ReserveBerth
	p.keys("d")
	p.sees("5 to fill in", "expected reply", "reservation", "Quay letter and number")
	p.keys("enter", "n04")
	p.sees("does not match the pattern")
	p.keys("ctrl+u", "N04", "enter", "enter", "Alder & Co", "enter", "enter", "SKAL4", "enter", "enter", "3", "enter")
	p.sees("1 to fill in", "Alder & Co", "account ◇ cash")
	p.keys("up", "right") // the other branch
	p.sees("cash")
	p.keys("down", "enter", "down", "up", "enter") // true or false
	p.sees("valid")
	p.keys("end", "up", "space") // need: put in
	p.sees("1 to fill in")
	p.keys("enter", "down", "enter", "up", "+")
	p.sees("need", "power", "1 to fill in")
	p.keys("u")
	p.sees("valid")
	p.keys("u", "u")
	p.keys("U", "U")
	p.sees("valid", "power")
	p.keys("end", "space", "0")
	p.sees("nil")
	src, err := p.m.s.W.ReadDraft(p.m.s.Chosen.Draft)
	require.NoError(t, err)
	for _, want := range []string{"<name>Alder &amp; Co</name>", "<cash>true</cash>", "<need>power</need>",
		`xsi:nil="true"`} {
		assert.Contains(t, string(src), want)
	}
	p.keys("g")
	p.wait()
	p.sees("passed after", "reservation R-0001-N04")
}

func TestRawXMLAndOutlineStayInStep(t *testing.T) {
	p := sit(t, 120, 30)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	p.keys("d", "x")
	p.sees("<FindBerths", "<?fill Metres?>")
	p.keys("end", "<!-- mine -->", "esc")
	p.sees("length")
	src, _ := p.m.s.W.ReadDraft(p.m.s.Chosen.Draft)
	assert.Contains(t, string(src), `<FindBerths xmlns="urn:skerry:berths"><!-- mine -->`)
	p.keys("x", "home", "x", "ctrl+s")
	p.sees("not well-formed")
	p.keys("esc")
	p.sees("not well-formed", "the outline is back when the XML is well-formed")
	p.keys("u")
	p.sees("length", "to fill in")
}

func TestSettingsAreChangedInPlace(t *testing.T) {
	p := sit(t, 150, 40)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk12"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	p.keys("p")
	p.sees("ADDRESS", "where does it go?", "contract", "not sent yet")
	p.keys("down", "right")
	p.sees("BINDING", "›SOAP version")
	p.keys("enter", "down")
	p.sees("1.1, 1.2")
	p.keys("ctrl+u", "1.3")
	p.sees(`"1.3" is not one of 1.1, 1.2`)
	p.keys("enter")
	assert.NotContains(t, p.m.s.W.Endpoint("BerthDesk12").Values, "soap", "what will not do is not kept")
	p.keys("ctrl+u", "1.1", "enter")
	assert.Equal(t, []string{"1.1"}, p.m.s.W.Endpoint("BerthDesk12").Values["soap"])
	p.sees("SOAP 1.1 is set, and the port speaks 1.2", "endpoint")
	p.keys("left", "g")
	p.wait()
	p.sees(
		"attempt 1 · stopped at read",
		"SOAP 1.1 is set, and the port speaks 1.2",
		"the server does not take this media type",
		"⏎ use SOAP 1.2",
		"after soap 1.1",
	)
	p.keys("enter")
	p.sees("endpoint.BerthDesk12.soap: 1.1 → 1.2", "make this change")
	p.keys("enter", "g")
	p.wait()
	p.sees("attempt 2 · passed")
	p.keys("[")
	p.sees("attempt 1 · stopped at read")
	p.keys("]", "]")
	p.sees("attempt 3 is ready to go")
}

func TestTheStripMarksEvidenceAndFindsText(t *testing.T) {
	p := sit(t, 120, 60)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	require.NoError(t, p.m.s.SetSetting("receive-limit", "200 B"))
	p.keys("g")
	p.wait()
	p.keys("s")
	p.sees("Content-Length:", "◂ evidence", "the limit falls here", "POST /berths HTTP/1.1")
	p.keys("/", "SOAPAction", "enter")
	p.sees(`SOAPAction: "urn:skerry:berths:FindBerths"`)
	p.keys("/", "ctrl+u", "no such thing", "enter")
	p.sees("is not in these bytes")
	p.keys("]", "home", "end", "H", "H")
	p.fits()
}

func TestTheReplyReadsAsFieldsAndBytes(t *testing.T) {
	p := sit(t, 120, 30)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	p.keys("r")
	p.sees("no answer yet")
	require.NoError(t, p.m.s.Draft().Set("length", "100"))
	p.m.s.SaveDraft()
	p.keys("g")
	p.wait()
	p.sees("fields", "code", "E07", "@free true")
	p.keys("/", "quay", "enter")
	p.sees("berth/quay")
	p.keys("y")
	p.sees("copied: East mole")

	// What repeats is a table, one row for each, ordered by the chosen column.
	p.keys("tab")
	p.sees("@free", "code", "length", "rows of berth", "E07")
	p.keys("right", "right", "enter")
	p.sees("length ↑", "sum 120")
	p.keys("enter", "y")
	p.sees("length ↓", "copied: 120")
	p.keys("/", "no such thing", "enter")
	p.sees("0 of 1 rows of berth", "esc takes the filter off")
	p.keys("esc")
	p.sees("sum 120")
	p.keys("/", "EAST", "enter")
	p.sees("1 of 1 rows of berth", `with "EAST"`)
	p.keys("esc", "w", "ctrl+u", filepath.Join(t.TempDir(), "c.svg"), "enter")
	p.sees("written: ")
	// The next reply is looked at in the same way, while it is being read too.
	p.keys("p", "g")
	p.wait()
	p.keys("r")
	p.wait()
	p.sees("rows of berth")
	p.keys("tab")
	p.sees(`"berth": [`, `"@free": true,`, "XML ", "gzip ", "JSON ")
	// Laid out and exact are two views of the same bytes, and agree on where one is.
	p.keys("tab")
	p.sees("<FindBerthsResponse", "    <code>E07</code>")
	p.keys("/", "ctrl+u", "east MOLE", "enter")
	p.sees(`"east MOLE": 1 of `)
	p.keys("n", "N")
	p.sees(`"east MOLE": 1 of `)
	p.keys("y")
	p.sees("copied: <quay>East mole</quay>")
	p.keys("tab")
	p.sees("exact", "<FindBerthsResponse")
	p.keys("right", "right", "shift+left", "Y", "whole", "enter")
	p.sees("copied: the whole body, ")
	dir := t.TempDir()
	p.keys("W", "ctrl+u", filepath.Join(dir, "reply.xml"), "enter")
	p.sees("saved: ")
	b, err := os.ReadFile(filepath.Join(dir, "reply.xml"))
	require.NoError(t, err)
	assert.Equal(t, string(p.m.s.Exchange().Leg().ResponseBody.Bytes()), string(b))
	p.keys("W", "ctrl+u", filepath.Join(dir, "reply.xml"), "enter")
	p.sees("is there already")
	p.fits()
}

func TestTheContractViewJumpsIntoTheSource(t *testing.T) {
	p := sit(t, 150, 40)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[3], Endpoint: "TideTables"}) // YearTable
	p.keys("c")
	p.sees(
		"YearTable(station: Station",
		"All tides of a year",
		"urn:skerry:tides:YearTable",
		"TideTablesTLS (SOAP 1.1, document)",
	)
	p.keys("x")
	p.sees("tides-abstract.wsdl", `<operation name="YearTable">`, "document 2 of 2")
	p.keys("tab")
	p.sees("document 1 of 2")
	p.keys("x", "home", "up", "up", "up", "enter")
	assert.Equal(t, "draft", p.m.places[p.m.at].name)
	assert.Equal(t, "FindBerths", p.m.s.Chosen.Draft.Operation)
}

func TestTrafficIsFilteredAndOpens(t *testing.T) {
	p := sit(t, 150, 40)
	for _, row := range []int{0, 3} {
		p.m.s.Choose(
			state.CallKey{
				Draft:    p.m.s.Rows()[row],
				Endpoint: map[int]string{0: "BerthDesk11", 3: "TideTablesTLS"}[row],
			},
		)
		p.keys("g")
		p.wait()
	}
	p.keys("t")
	p.sees("exchanges   2 kept", "YearTable", "FindBerths")
	p.keys("/", "findb", "enter")
	p.settles(func() bool { return strings.Contains(p.text(), "only: findb   1 of them") })
	p.keys("esc")
	p.sees("YearTable", "FindBerths")
	p.keys("/", "nothing", "enter")
	p.settles(func() bool { return strings.Contains(p.text(), "nothing that is kept fits") })
	p.keys("esc", "z")
	p.sees("2 ×", "never filled in", "FindBerths")
	p.keys("z", "/", "findb", "enter")
	p.settles(func() bool { return strings.Contains(p.text(), "only: findb   1 of them") })
	p.keys("enter")
	assert.Equal(t, "path", p.m.places[p.m.at].name)
	assert.Equal(t, "FindBerths", p.m.s.Chosen.Draft.Operation)
}

func TestTheListOfCommandsIsSearched(t *testing.T) {
	p := sit(t, 100, 50)
	p.keys(":", "strip")
	p.sees("strip: the raw bytes in time")
	p.keys("enter")
	assert.Equal(t, "strip", p.m.places[p.m.at].name)
	p.keys("?")
	p.sees("Every call travels one path", "send the call (go)", "halt the call under way", "Orenda test")
	p.keys("/halt") // letters search, and run nothing
	p.sees("halt the call under way")
	assert.NotContains(t, p.text(), "send the call (go)")
	p.keys("xyzzy")
	p.sees("no key does anything with these letters")
	p.keys("esc")
	assert.Equal(t, "strip", p.m.places[p.m.at].name)
	dir := t.TempDir()
	p.keys("S", "ctrl+u", filepath.Join(dir, "kept"), "enter")
	p.sees("saved: ")
	assert.FileExists(t, filepath.Join(dir, "kept", "orenda.toml"))
	p.keys("p", "w")
	p.sees("send the call first")
}

func TestTheMouseChoosesWhereOneWouldExpect(t *testing.T) {
	p := sit(t, 158, 47)
	lines := strings.Split(p.text(), "\n")
	click := func(text string) {
		for y, l := range strings.Split(p.text(), "\n") {
			if i := strings.Index(l, text); i >= 0 {
				p.tell(tea.MouseClickMsg{X: ansi.StringWidth(l[:i]) + 1, Y: y, Button: tea.MouseLeft})
				return
			}
		}
		t.Fatalf("%q is not on the screen", text)
	}
	require.NotEmpty(t, lines)
	click("DayTable")
	assert.Equal(t, "DayTable", p.m.s.Chosen.Draft.Operation)
	p.tell(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	assert.Equal(t, "YearTable", p.m.s.Chosen.Draft.Operation)
	p.keys("p")
	click("receive")
	p.sees("RECEIVE")
	p.keys("d")
	click("datum")
	p.sees("string ‹one of 3›")
}

func TestAPastedAddressIsLoaded(t *testing.T) {
	p := sit(t, 158, 47)
	p.tell(tea.PasteMsg{Content: "  http://" + p.h.Plain + "/pilots\n"})
	p.sees("Address or path of a description")
	p.keys("enter")
	p.wait()
	p.sees("pilot-orders", "OrderPilot")
	p.keys("p")
	p.sees("the contract demands a security token that is not set")
}

func TestYourOwnEditorIsHandedTheDraft(t *testing.T) {
	p := sit(t, 100, 30)
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "")
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDesk11"})
	p.keys("d", "E")
	p.sees("$EDITOR is not set")
	assert.Equal(t, exchange.OutcomeUnderWay, p.m.s.Exchange().Outcome)
}

func TestDraftsAreCopiedNamedRemovedAndBroughtBack(t *testing.T) {
	p := sit(t, 150, 40)
	p.keys("D")
	p.sees("a copy: FindBerths/first 2")
	p.keys("R", "ctrl+u", "small craft", "enter")
	p.sees("renamed: FindBerths/small craft")
	p.keys("R", "ctrl+u", "first", "enter")
	p.sees("there is a draft FindBerths/first already")
	p.keys("X")
	p.sees("removed: FindBerths/small craft")
	assert.Len(t, p.m.s.Rows(), 5)
	p.keys("u")
	p.sees("taken back: draft FindBerths/small craft removed")
	assert.Equal(t, "small craft", p.m.s.Chosen.Draft.Name)
	p.keys("U")
	p.sees("done again: draft FindBerths/small craft removed")
	assert.Len(t, p.m.s.Rows(), 5)
	p.keys("u", "u", "u")
	assert.Len(t, p.m.s.Rows(), 5, "the copy was never made")
	p.keys("u")
	p.sees("there is no change to take back")
}

func TestAPastedEnvelopeBecomesADraftOfItsOperation(t *testing.T) {
	p := sit(t, 150, 40)
	env := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><!-- theirs --><s:Body><t:DayTable xmlns:t="urn:skerry:tides"><t:station>Sound</t:station><t:day>2027-03-01</t:day></t:DayTable></s:Body></s:Envelope>`
	p.tell(tea.PasteMsg{Content: "\n" + env + "\n"})
	p.sees("a draft of what was pasted: DayTable/pasted")
	src, err := p.m.s.W.ReadDraft(p.m.s.Chosen.Draft)
	require.NoError(t, err)
	assert.Equal(t, env, string(src), "byte for byte")
	p.keys("d")
	p.sees("Sound", "valid")
	p.keys("g")
	p.wait()
	p.sees("passed after")
	assert.Contains(t, string(p.m.s.Exchange().Leg().Out), env)
	p.keys("b")
	p.tell(tea.PasteMsg{Content: "<unknown/>"})
	p.sees("no operation here has the body element unknown")
	p.tell(tea.PasteMsg{Content: "<broken>"})
	p.sees("not well-formed")
}

// On the smallest screen what is to be confirmed is seen whole.
func TestTheRepairIsSeenWholeOnASmallScreen(t *testing.T) {
	p := sit(t, 80, 24)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[0], Endpoint: "BerthDeskTLS"})
	require.NoError(t, p.m.s.Draft().Set("length", "20"))
	p.m.s.SaveDraft()
	p.keys("p", "g")
	p.wait()
	p.sees("self-signed, and not trusted here", "⏎ trust this certificate", "attempts")
	p.keys("enter")
	fingerprint := trust.Grouped(trust.Fingerprint(p.h.Cert.Cert))
	first, second, _ := strings.Cut(fingerprint, " ")
	p.sees(first, second, "make this change")
	p.fits()
}

// slow is a journal on a disk that takes its time.
type slow struct {
	journal.Journal
	open chan struct{}
}

func (j slow) Add(x *exchange.Exchange) error {
	<-j.open
	return j.Journal.Add(x)
}

// What was never filled in is not sent, and ! sends it all the same.
func TestAMessageIsHeldBackUntilItIsAskedFor(t *testing.T) {
	p := sit(t, 130, 44)
	p.keys("end", "up", "right", "p", "g")
	p.wait()
	p.sees("stopped at message", "not sent unless you say so", "! send it all the same")
	p.keys("!")
	p.wait()
	require.Len(t, p.m.s.Attempts, 2)
	assert.Equal(t, exchange.TLS, p.m.s.Attempts[1].StoppedAt)
	assert.NotContains(t, p.text(), "send it all the same")
	p.keys("g")
	p.wait()
	assert.Equal(t, exchange.Message, p.m.s.Attempts[2].StoppedAt, "for that call only")
}

// A repair is taken, and the call goes again, while the attempt that it is of is
// still being kept.
func TestARepairIsTakenWhileTheAttemptIsBeingKept(t *testing.T) {
	p := sit(t, 130, 44)
	disk := slow{p.m.s.J, make(chan struct{})}
	p.m.s.J = disk
	p.keys("end", "up", "right", "p") // the year's tides, over TLS
	require.Equal(t, "TideTablesTLS", p.m.s.Chosen.Endpoint)
	for field, value := range map[string]string{"station": "Skerry", "year": "2027", "datum": "chart datum", "heights/unit": "metre"} {
		require.NoError(t, p.m.s.Draft().Set(field, value))
	}
	p.m.s.SaveDraft()
	p.keys("g")
	require.Eventually(t, func() bool {
		x := p.m.s.Running()
		return x != nil && x.Outcome == exchange.OutcomeStopped
	}, 5*time.Second, time.Millisecond)
	p.sees("self-signed")
	p.keys("enter")
	p.sees("compare the fingerprint")
	p.keys("enter", "g")
	assert.NotContains(t, p.text(), "under way already")
	set := p.m.s.W.Settings("TideTablesTLS")
	assert.Len(t, set.List("trust"), 1)
	close(disk.open)
	p.wait()
	require.Len(t, p.m.s.Attempts, 2)
	assert.Equal(t, exchange.TLS, p.m.s.Attempts[0].StoppedAt)
	assert.Greater(t, p.m.s.Attempts[1].StoppedAt, exchange.TLS)
	assert.NotEmpty(t, p.m.s.Attempts[1].Changes, "what was changed before it")
}

func TestAFieldIsMarkedAsSecret(t *testing.T) {
	p := sit(t, 150, 40)
	p.keys("d", "enter", "ctrl+u", "13.75", "esc")
	p.keys("home", "enter", "ctrl+u", "13.75", "enter", "home")
	p.sees("13.75")
	p.keys("H")
	p.sees("length is a secret", "········ secret")
	assert.NotContains(t, p.text(), "13.75")
	p.keys("p", "g")
	p.wait()
	p.keys("!")
	p.wait()
	j, err := json.Marshal(p.m.s.Exchange().Redact(nil).Report(true))
	require.NoError(t, err)
	assert.NotContains(t, string(j), "13.75")
	p.keys("d", "H")
	p.sees("length is no secret any more", "13.75")
}

func TestOperationsAreGivenDraftsAndContractsAreRemoved(t *testing.T) {
	p := sit(t, 150, 40)
	p.keys("c")
	p.sees("FindBerths(")
	p.keys("space")
	p.sees("1 draft of FindBerths removed; u takes it back")
	assert.NotContains(t, drafts(p), "FindBerths/first")
	p.keys("space")
	p.sees("a draft of FindBerths: FindBerths/first")
	assert.Contains(t, drafts(p), "FindBerths/first")
	before := drafts(p)
	p.keys("X")
	p.sees("with its endpoints and drafts; u takes it back")
	assert.NotContains(t, drafts(p), "FindBerths/first")
	p.keys("u")
	p.sees("taken back: ")
	assert.ElementsMatch(t, before, drafts(p))
}

func drafts(p *person) (out []string) {
	for _, r := range p.m.s.Rows() {
		out = append(out, r.String())
	}
	return out
}

// What is typed narrows a list, and takes the place of what stands in a field.
func TestTypingNarrowsListsAndReplacesValues(t *testing.T) {
	p := sit(t, 150, 40)
	p.m.s.Choose(state.CallKey{Draft: p.m.s.Rows()[1], Endpoint: "BerthDesk11"}) // ReserveBerth
	p.keys("d", "enter", "N04", "enter", "enter", "Alder", "enter")
	p.keys("home", "enter", "E07", "enter")
	src, err := p.m.s.W.ReadDraft(p.m.s.Chosen.Draft)
	require.NoError(t, err)
	assert.Contains(t, string(src), "<berth>E07</berth>", "the first letter takes the place of all")
	p.keys("home")
	for range 5 {
		p.keys("down")
	}
	p.keys("right", "down", "enter", "fal")
	p.sees("› fal", "false")
	p.keys("enter")
	src, err = p.m.s.W.ReadDraft(p.m.s.Chosen.Draft)
	require.NoError(t, err)
	assert.Contains(t, string(src), "<cash>false</cash>")
	p.keys("up", "enter", "x", "enter")
	p.sees(`"x" is none of them`)
	p.keys("esc", "esc")
}

// A question that a key leads to is there before the next key: a word that is typed fast
// never runs as commands.
func TestAQuestionIsThereBeforeTheNextKey(t *testing.T) {
	p := sit(t, 120, 30)
	for _, k := range "ia" {
		_, _ = p.m.Update(tea.KeyPressMsg{Code: k, Text: string(k)})
	}
	assert.Equal(t, asking, p.m.over)
	for _, k := range "quit" {
		_, _ = p.m.Update(tea.KeyPressMsg{Code: k, Text: string(k)})
	}
	assert.Equal(t, "quit", p.m.in.Value())
}

// A page that leads to several descriptions offers them where its address was typed.
func TestAPageOfSeveralDescriptionsIsChosenFrom(t *testing.T) {
	p := sit(t, 100, 30)
	home := p.m.s.Home
	p.m = newModel(Options{Home: home, Workspace: workspace.New("new", home), Journal: &journal.Memory{}, Version: "test"})
	p.size(100, 30)
	p.keys("http://"+p.h.Plain+"/", "enter")
	p.wait()
	p.sees("the page leads to", "take http://"+p.h.Plain+"/berths?wsdl", "⏎ take it")
	p.fits()
	p.keys("down", "down", "up", "up", "enter")
	p.wait()
	p.sees("what works where")
	assert.Len(t, p.m.s.W.Config().Contracts, 1)
}

// Of a description that is not whole, the contract view says what is missing.
func TestTheContractViewSaysWhatCouldNotBeRead(t *testing.T) {
	p := sit(t, 100, 30)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../standin/contracts")))
	file := filepath.Join(dir, "berths.wsdl")
	src, err := os.ReadFile(file)
	require.NoError(t, err)
	half := strings.Replace(string(src), `binding="b:BerthDesk12"`, `binding="b:Gone"`, 1)
	require.NotEqual(t, string(src), half)
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, os.WriteFile(file, []byte(half), 0o600))
	p.tell(tea.PasteMsg{Content: file})
	p.keys("enter")
	p.wait()
	p.keys("c")
	p.sees("! port BerthDesk12: its binding", "Gone is not defined anywhere")
}
