package app

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/app/state"
	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/workspace"
)

// atDues is a person before the draft of a call to the dues.
func atDues(t *testing.T, w int, operation, body string) *person {
	p := sit(t, w, 47)
	f, err := call.Fetch(context.Background(), "http://"+p.h.Plain+"/dues?wsdl", call.Plan{Agent: "test"}, nil)
	require.NoError(t, err)
	name, err := p.m.s.W.AddContract(f.Contract, f.Served)
	require.NoError(t, err)
	ref := workspace.DraftRef{Contract: name, PortType: "Dues", Operation: operation, Name: "first"}
	if body != "" {
		require.NoError(t, p.m.s.W.WriteDraft(ref, []byte(body)))
	}
	p.m.s.Choose(state.CallKey{Draft: ref, Endpoint: "HarbourDues"})
	p.keys("d")
	return p
}

const landing = `<Assess xmlns="urn:skerry:dues" xmlns:i="http://www.w3.org/2001/XMLSchema-instance" xmlns:d="urn:skerry:dues">
  <vessel><name>Alder</name><callSign>SKAL4</callSign><grossTonnage>1200</grossTonnage></vessel>
  <nights>3</nights>
  <cargo i:type="d:Bulk"><goods>salt</goods><tonnes>10</tonnes></cargo>
  <cargo i:type="d:Bulk"><goods>peat</goods><tonnes>4</tonnes></cargo>
  <remark>none</remark>
</Assess>`

func (p *person) body() string {
	b, err := p.m.s.W.ReadDraft(p.m.s.Chosen.Draft)
	require.NoError(p.t, err)
	return string(b)
}

func TestRepeatsTypesAndFinding(t *testing.T) {
	p := atDues(t, 158, "Assess", landing)
	p.sees("Clerk", "header block", "body ─", "cargo", "up to 20", "expected reply")
	p.keys("/", "peat", "enter", "shift+up") // goods does not repeat
	p.sees("cargo[2]/goods does not repeat")
	p.keys("up", "up", "shift+up")
	assert.Less(t, index(t, p.body(), "peat"), index(t, p.body(), "salt"))
	p.sees("←→ one of 2 types, now Bulk")
	p.keys("right")
	p.sees("› Bulk", "Containers")
	p.keys("down", "enter")
	assert.Contains(t, p.body(), `xsi:type="t:Containers"`)
	assert.Contains(t, p.body(), "<goods>peat</goods>", "what both types have stays")
	p.sees("2 to fill in")
	p.keys("u")
	assert.NotContains(t, p.body(), "Containers")
	p.keys("/", "rebate", "enter", "enter")
	p.sees("home fleet", "half of the quay dues")
	p.keys("enter")
	assert.Contains(t, p.body(), "<rebate>home fleet</rebate>")
	p.keys("/", "nothing of the kind", "enter")
	p.sees(`no field here has "nothing of the kind"`)
	p.keys("/", "remark", "enter", "0")
	p.sees("nil")
	p.keys("/", "arrival", "enter") // a branch that is not chosen is a name only
	p.keys("home", "down", "down")
}

func TestHeaderBlocksAreOfferedAndSent(t *testing.T) {
	p := atDues(t, 158, "Assess", landing)
	p.keys("g")
	p.wait()
	p.sees("the header block Clerk is due", "a declared header block is left out", "put Clerk into the draft's header")
	p.keys("enter", "enter")
	p.keys("d")
	p.sees("to fill in")
	p.keys("home", "down", "enter", "Ines Hallam", "enter")
	h, err := p.m.s.W.ReadHeader(p.m.s.Chosen.Draft)
	require.NoError(t, err)
	assert.Contains(t, string(h), "<name>Ines Hallam</name>")
	p.keys("g")
	p.wait()
	p.sees("passed", "invoice D-1000")
	// Raw XML of the header; undo goes back where the last edit was.
	p.keys("d", "home", "x")
	p.sees("<headers>")
	p.keys("esc", "down", "enter", "ctrl+u", "Marit", "enter", "u")
	h, _ = p.m.s.W.ReadHeader(p.m.s.Chosen.Draft)
	assert.Contains(t, string(h), "Ines Hallam")
	// The header goes with a copy, and away with the draft, and comes back.
	from := p.m.s.Chosen.Draft
	p.m.s.Duplicate()
	copied := p.m.s.Chosen.Draft
	h, _ = p.m.s.W.ReadHeader(copied)
	assert.Contains(t, string(h), "Ines Hallam")
	p.m.s.Remove()
	h, _ = p.m.s.W.ReadHeader(copied)
	assert.Nil(t, h)
	p.m.s.Restore()
	h, _ = p.m.s.W.ReadHeader(copied)
	assert.Contains(t, string(h), "Ines Hallam")
	assert.NotEqual(t, from, copied)
}

func TestPartsGoFromOneDraftToAnother(t *testing.T) {
	p := atDues(t, 158, "Assess", landing)
	p.keys("/", "cargo", "enter", "y")
	p.sees("copied: the element as XML")
	p.m.s.Duplicate()
	p.keys("d", "/", "peat", "enter", "up", "up", "P")
	assert.NotContains(t, p.body(), "peat")
	assert.Equal(t, 2, len(split(p.body(), "<goods>salt</goods>"))-1)
	p.keys("=")
	p.sees("differs from first", "cargo[2]/goods", "salt", "peat", "cargo[2]/tonnes")
	p.keys("=")
	p.sees("expected reply")
	p.size(80, 24)
	p.keys("=")
	p.sees("differs from first", "here", "there")
}

func TestWhatWasLearnedStandsAtItsField(t *testing.T) {
	p := atDues(t, 158, "Assess", landing)
	p.keys("/", "peat", "enter", "#")
	p.sees("learned of cargo/goods")
	p.keys("lower case only, though the schema does not say so", "enter")
	p.sees("learned lower case only")
	p.keys("up", "up", "up", "up") // goods of the first cargo has the same note
	p.sees("learned lower case only")
	p.keys("c")
	p.sees("learned", "cargo/goods: lower case only")
	p.keys("#", "PEN means pending", "enter")
	p.sees("PEN means pending")
	p.keys("#", "ctrl+u", "enter")
	n, err := p.m.s.W.Notes("harbour-dues", "Assess")
	require.NoError(t, err)
	assert.Equal(t, "lower case only, though the schema does not say so", n["cargo/goods"].Text)
}

func TestVariablesInADraft(t *testing.T) {
	p := atDues(t, 158, "CloseLedger", `<CloseLedger xmlns="urn:skerry:dues"><day>${day}</day></CloseLedger>`)
	p.sees("1 fault")
	p.keys("$")
	p.sees("with variables", "${name} stands for a variable")
	p.keys("g")
	p.wait()
	p.sees("the variable day in the draft is not set in the environment (none)")
	p.keys("d", "$")
	p.sees("a dollar is a dollar")
	p.keys("$")
	require.NoError(t, p.m.s.W.Reload())
	assert.True(t, p.m.s.Variables(), "it stands in the settings file")
	p.keys("enter", "ctrl+u", "${day:-2027-03-01}", "enter")
	p.sees("valid", "= 2027-03-01")
	p.keys("home", "space", "down", "enter", "Ines", "enter") // the header block
	p.keys("g")
	p.wait()
	p.sees("passed")
}

func TestPastedXMLReplacesTheDraft(t *testing.T) {
	p := atDues(t, 80, "CloseLedger", "")
	p.tell(tea.PasteMsg{Content: "<CloseLedger xmlns='urn:skerry:dues'><day>2027-03-01</day></CloseLedger>"})
	p.sees("the draft is what was pasted", "2027-03-01", "valid")
	p.keys("u")
	p.sees("to fill in")
}

func index(t *testing.T, s, part string) int {
	i := strings.Index(s, part)
	require.GreaterOrEqual(t, i, 0, part)
	return i
}

func split(s, by string) []string { return strings.Split(s, by) }

func TestTheCatalogueAndANewerDescription(t *testing.T) {
	p := sit(t, 158, 47)
	p.keys("c", "K")
	p.sees("your catalogue", "nothing is in it yet")
	p.keys("esc", "home", "+")
	p.sees("in your catalogue: berth-desk")
	p.keys("K")
	p.sees("FindBerths(length", "1 descriptions · 3 operations")
	p.keys("/", "nights", "enter")
	p.sees("fields nights", "ReserveBerth")
	p.fits()
	p.keys("enter")
	assert.Equal(t, "ReserveBerth", p.m.s.Chosen.Draft.Operation)
	assert.Equal(t, "draft", p.m.places[p.m.at].name)
	p.keys("c", "f")
	p.wait()
	p.sees("nothing changed for a client")

	// Somebody else's workspace takes it from there, without the service.
	other := workspace.New("another", p.m.s.Home)
	c, err := workspace.OpenCatalogue(p.m.s.Home)
	require.NoError(t, err)
	q := &person{t: t, m: newModel(Options{Home: p.m.s.Home, Workspace: other, Journal: p.m.s.J}), h: p.h}
	q.size(80, 24)
	q.keys("esc", "c", "K", "enter")
	assert.Equal(t, "FindBerths", q.m.s.Chosen.Draft.Operation)
	assert.Equal(t, []string{"berth-desk"}, c.Names())

	// A description that changed is shown before it is taken over.
	con, err := p.m.s.W.Contract("berth-desk")
	require.NoError(t, err)
	for _, port := range con.Ports() {
		port.Operations = port.Operations[1:]
	}
	con.Ports()[0].Address = "http://berths.skerry.test/old"
	p.keys("f")
	p.wait()
	p.sees(
		"what changed for a client: 2, of which 1 may break it",
		"! address changed",
		"operation new",
		"FindBerths(length",
	)
	p.fits()
	p.keys("esc")
	p.sees("the old one stays")
	p.keys("f")
	p.wait()
	p.keys("enter")
	p.sees("berth-desk is the newer one now", "FindBerths(length")
}

// An import from a host that never answers is told, and can be halted.
func TestAnImportThatNeverAnswersIsHalted(t *testing.T) {
	p := sit(t, 120, 30)
	hang := make(chan struct{})
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/part.xsd" {
			select {
			case <-hang:
			case <-r.Context().Done():
			}
			return
		}
		_, _ = io.WriteString(
			w,
			`<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t"><types><xs:schema><xs:import namespace="urn:p" schemaLocation="part.xsd"/></xs:schema></types></definitions>`,
		)
	}))
	defer srv.Close()
	defer close(hang)
	p.keys("b", "a", srv.URL+"/q.wsdl", "enter")
	require.Eventually(t, func() bool {
		p.m.s.Take()
		return strings.Contains(p.text(), "/part.xsd")
	}, 10*time.Second, 5*time.Millisecond)
	p.sees("1 under way")
	p.keys("h")
	p.wait()
	assert.Zero(t, p.m.s.UnderWay())
}

// A kept description that is damaged says so where descriptions are, and is
// fetched again from there.
func TestADamagedDescriptionIsFetchedAgain(t *testing.T) {
	p := sit(t, 120, 40)
	dir := t.TempDir()
	require.NoError(t, p.m.s.W.SaveTo(dir))
	require.NoError(t, os.WriteFile(dir+"/contracts/tide-tables/00-tides", []byte("<<<<<<< HEAD\n"), 0o600))
	ws, err := workspace.Open(dir, p.m.s.W.Home)
	require.NoError(t, err)
	p.m = newModel(Options{Home: ws.Home, Workspace: ws, Journal: &journal.Memory{}, Version: "test"})
	p.size(120, 40)

	p.keys("end")
	assert.Contains(t, p.text(), "the kept description of tide-tables is not whole: c, then f, fetches it again")
	p.keys("c", "end")
	assert.Contains(t, p.text(), "the kept description of tide-tables cannot be read")
	assert.Contains(t, p.text(), "f fetches it again")
	p.keys("x", "enter", "+", "#", "tab") // nothing of it is there to be looked at
	assert.Contains(t, p.text(), "f fetches it again")
	p.keys("f")
	p.wait()
	assert.Contains(t, p.text(), "what changed for a client")
	p.keys("enter")
	assert.Contains(t, p.text(), "YearTable(station: Station")
	assert.Len(t, ws.Config().Endpoints, 5)
	assert.Len(t, ws.Drafts(), 5)
}

// An operation that no endpoint serves has a path too, whose repair makes one;
// the call is then over it.
func TestAnEndpointIsMadeFromThePath(t *testing.T) {
	p := sit(t, 120, 40)
	for _, name := range []string{"TideTables", "TideTablesTLS"} {
		require.NoError(t, p.m.s.W.RemoveEndpoint(name))
	}
	p.m.s.Changed()
	p.keys("end", "up")
	p.sees("no endpoint serves it")
	p.keys("p")
	p.sees("YearTable · first → no endpoint")
	p.keys("g")
	p.wait()
	p.sees("stopped at binding", "make the endpoint TideTables (SOAP 1.1")
	p.keys("enter", "enter")
	assert.Equal(t, "TideTables", p.m.s.Chosen.Endpoint)
	p.sees("YearTable · first → TideTables")
	p.keys("g")
	p.wait()
	assert.Greater(t, p.m.s.Attempts[len(p.m.s.Attempts)-1].StoppedAt, exchange.Binding)
}
