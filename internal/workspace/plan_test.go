package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/message"
	"orenda/internal/tomledit"
	"orenda/internal/user"
)

func change(key string, to any) exchange.Change {
	return exchange.Change{Where: "workspace", Key: key, To: to}
}

func TestAPlanHasItsLayersInOrder(t *testing.T) {
	w := fresh(t)
	require.NoError(
		t,
		w.Apply(
			change("profile.harbour-11.receive-limit", "65536"),
			change("endpoint.TideTables.profile", "harbour-11"),
			change("endpoint.TideTables.answer-time", "5s"),
			change("environment.model.host", "127.0.0.1"),
		),
	)
	require.NoError(t, w.Apply(change("default-environment", "model")))
	r, err := w.FindDraft("YearTable")
	require.NoError(t, err)
	p, err := w.Plan(r, "TideTables", "")
	require.NoError(t, err)
	require.NoError(t, p.NoEndpoint)
	for key, want := range map[string][2]string{"receive-limit": {"65536", "profile harbour-11"}, "answer-time": {"5s",
		"endpoint"}, "address": {"http://tides.skerry.test/tides", "contract"}, "soap": {"1.1", "contract"},
		"intake": {"whole", "default"}} {
		v := p.Settings.Get(key)
		assert.Equal(t, want, [2]string{v.Text, v.Source}, key)
	}
	assert.Equal(t, "model", p.Environment)
	assert.Equal(t, map[string]string{"host": "127.0.0.1"}, p.Variables)
	assert.Equal(t, []string{"TideTables"}, p.Shares("harbour-11"))
	p, err = w.Plan(r, "TideTables", "Model")
	require.NoError(t, err)
	var env *endpoint.EnvironmentError
	require.ErrorAs(t, p.EnvError, &env)
	assert.Equal(t, "model", env.Near)
	p, _ = w.Plan(DraftRef{"tide-tables", "TideTables", "yearTable", "x"}, "", "")
	var op *endpoint.OperationError
	require.ErrorAs(t, p.NoEndpoint, &op)
	assert.Equal(t, "YearTable", op.Near)
}

func TestSwitchedOffEndpointsServeNothing(t *testing.T) {
	w := fresh(t)
	assert.Len(t, w.Serving("tide-tables", "YearTable"), 2)
	require.NoError(t, w.Apply(change("endpoint.TideTables.off", true)))
	assert.Len(t, w.Serving("tide-tables", "YearTable"), 1)
	r, _ := w.FindDraft("YearTable")
	e, err := w.ChooseEndpoint(r, "")
	require.NoError(t, err)
	assert.Equal(t, "TideTablesTLS", e.Name, "the one that is left needs no choosing")
	require.NoError(t, w.Apply(change("endpoint.TideTablesTLS.off", "true")))
	_, err = w.ChooseEndpoint(r, "")
	assert.ErrorContains(t, err, "no endpoint serves YearTable")
}

func TestChangesOfEveryKind(t *testing.T) {
	w := fresh(t)
	for _, c := range []struct {
		key  string
		to   any
		file string
	}{
		{"endpoint.TideTables.strict-buffer", "true", "strict-buffer = true"},
		{"endpoint.TideTables.header", []string{"X-A: 1", "X-B: 2"}, "header = ['X-A: 1', 'X-B: 2']"},
		{"endpoint.TideTables.header", "X-C: 3", "header = ['X-C: 3']"},
		{"endpoint.TideTables.trust", "trust/quay.pem", "trust = ['trust/quay.pem']"},
		{"endpoint.TideTables.port", "TideTablesTLS", "port = 'TideTablesTLS'"},
		{"name", "another name", "name = 'another name'"},
	} {
		require.NoError(t, w.Apply(change(c.key, c.to)), c.key)
		b, _ := os.ReadFile(filepath.Join(w.Dir(), File))
		assert.Contains(t, string(b), c.file, c.key)
	}
	require.NoError(t, w.Apply(change("endpoint.TideTables.header", "")))
	assert.NotContains(t, w.Endpoint("TideTables").Values, "header")
	for _, bad := range []exchange.Change{change("endpoint.Nope.soap", "1.1"), change("endpoint.TideTables.spoa",
		"1.1"), change("nonsense", "x"), change("contract.x.y", "z"), {Where: "elsewhere", Key: "x"}, {Where: "user",
		Key: "x"}} {
		before, _ := os.ReadFile(filepath.Join(w.Dir(), File))
		assert.Error(t, w.Apply(bad), bad.Key)
		after, _ := os.ReadFile(filepath.Join(w.Dir(), File))
		assert.Equal(t, before, after, "nothing is written")
	}
}

func TestSeveralChangesAreMadeTogetherOrNotAtAll(t *testing.T) {
	w := fresh(t)
	before, _ := os.ReadFile(filepath.Join(w.Dir(), File))
	require.Error(t, w.Apply(change("endpoint.TideTables.answer-time", "5s"), change("endpoint.Nope.soap", "1.1")))
	after, _ := os.ReadFile(filepath.Join(w.Dir(), File))
	assert.Equal(t, before, after)
}

func TestAnIdentityGoesOnlyWhereItWasAllowed(t *testing.T) {
	w := fresh(t)
	require.NoError(t, w.Home.SaveIdentity(identity.Identity{Name: "desk", User: "d", Secret: "env:X"}))
	r, _ := w.FindDraft("YearTable")
	p, err := w.Plan(r, "TideTables", "")
	require.NoError(t, err)
	assert.False(t, p.Allowed("desk", "https", "h", "443"))
	require.NoError(t, w.Apply(exchange.Change{Where: "user", Key: "allow.desk", To: "https://h:443"}))
	assert.True(t, p.Allowed("desk", "https", "h", "443"))
	assert.Equal(t, "desk", p.Identities[0].Name)
	other, err := Open(w.Dir(), w.Home)
	require.NoError(t, err)
	p, _ = other.Plan(r, "TideTables", "")
	assert.True(t, p.Allowed("desk", "https", "h", "443"), "it is kept on the person's side")
	b, _ := os.ReadFile(filepath.Join(w.Dir(), File))
	assert.NotContains(t, string(b), "allow", "and never in the workspace")
}

func TestWhatWasMadeAndNotSavedIsKept(t *testing.T) {
	home := &user.Home{Config: t.TempDir(), State: t.TempDir()}
	now := time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)
	w := New("new workspace", home)
	dir, err := w.Rescue(now)
	require.NoError(t, err)
	assert.Empty(t, dir, "nothing is in it")
	_, err = w.AddContract(load(t, "pilots.wsdl"), "h:80")
	require.NoError(t, err)
	dir, err = w.Rescue(now)
	require.NoError(t, err)
	assert.Empty(t, dir, "a description can be loaded again")
	assert.NoDirExists(t, home.State+"/unsaved")

	ref := w.Drafts()[0]
	require.NoError(t, w.WriteDraft(ref, []byte("<mine/>")))
	dir, err = w.Rescue(now)
	require.NoError(t, err)
	assert.Equal(t, home.State+"/unsaved/2026-11-25-093000-new-workspace", dir)
	again, err := Open(dir, home)
	require.NoError(t, err)
	b, err := again.ReadDraft(ref)
	require.NoError(t, err)
	assert.Equal(t, "<mine/>", string(b))
	dir, err = w.Rescue(now)
	require.NoError(t, err)
	assert.Empty(t, dir, "it is on disk by now")

	second := New("new workspace", home)
	_, err = second.AddContract(load(t, "pilots.wsdl"), "h:80")
	require.NoError(t, err)
	require.NoError(t, second.Apply(change("endpoint.PilotOrders.answer-time", "3s")))
	dir, err = second.Rescue(now)
	require.NoError(t, err)
	assert.Equal(
		t,
		home.State+"/unsaved/2026-11-25-093000-new-workspace-2",
		dir,
		"another of the same moment stands beside it",
	)
}

func TestAWorkspaceInMemoryIsSavedOnRequest(t *testing.T) {
	w := New("harbour", &user.Home{Config: t.TempDir(), State: t.TempDir()})
	_, err := w.AddContract(load(t, "pilots.wsdl"), "h:80")
	require.NoError(t, err)
	require.NoError(t, w.Apply(change("endpoint.PilotOrders.answer-time", "3s")))
	assert.Contains(t, w.Where(), "in memory")
	dir := filepath.Join(t.TempDir(), "kept")
	require.NoError(t, w.SaveTo(dir))
	assert.Error(t, w.SaveTo(dir), "it is on disk already")
	again, err := Open(dir, w.Home)
	require.NoError(t, err)
	assert.Equal(t, "h:80", again.ContractNamed("pilot-orders").Served)
	c, err := again.Contract("pilot-orders")
	require.NoError(t, err)
	assert.Equal(t, "digest", c.DemandsOf(nil, nil).Token())
	fresh := New("x", w.Home)
	assert.ErrorContains(t, fresh.SaveTo(dir), "holds a workspace already")
	_, err = Open(t.TempDir(), w.Home)
	assert.ErrorIs(t, err, ErrNone)
	_, err = again.Contract("nope")
	assert.Error(t, err)
}

func TestTheSameDescriptionTwiceHasTwoNames(t *testing.T) {
	w := fresh(t)
	name, err := w.AddContract(load(t, "tides.wsdl"), "")
	require.NoError(t, err)
	assert.Equal(t, "tide-tables-2", name)
	assert.NotNil(t, w.Endpoint("TideTables-2"))
	n := 0
	for _, d := range w.Drafts() {
		if d.Operation == "YearTable" {
			n++
		}
	}
	assert.Equal(t, 2, n)
}

func TestDraftsAreFoundByWhatPeopleType(t *testing.T) {
	w := fresh(t)
	require.NoError(t, w.WriteDraft(DraftRef{"tide-tables", "TideTables", "YearTable", "Skerry 2027"}, []byte("<x/>")))
	for text, want := range map[string]string{"YearTable/Skerry 2027": "YearTable/Skerry 2027",
		"Skerry 2027": "YearTable/Skerry 2027",
		"DayTable":    "DayTable/first", "DayTable/first": "DayTable/first"} {
		r, err := w.FindDraft(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, r.String())
	}
	_, err := w.FindDraft("YearTable/Skery 2027")
	assert.ErrorContains(t, err, "there is no draft YearTable/Skery 2027; there are")
	for _, r := range w.Drafts() {
		src, err := w.ReadDraft(r)
		require.NoError(t, err)
		if r.Name == "first" {
			assert.NotEmpty(t, message.NewDraft(nil, nil, src).Bytes())
			assert.Contains(t, string(src), "<?fill ")
		}
	}
}

func TestAReadOnlyFolderIsSaidAndTheOldFileIntact(t *testing.T) {
	w := fresh(t)
	before, _ := os.ReadFile(filepath.Join(w.Dir(), File))
	// A file where a folder is due: also the superuser cannot write there.
	require.NoError(t, os.WriteFile(filepath.Join(w.Dir(), "trust"), nil, 0o600))
	err := w.Apply(change("endpoint.TideTables.trust", "-----BEGIN CERTIFICATE-----\nx"))
	assert.Error(t, err)
	require.Error(t, w.store().write("trust/x.pem", []byte("x")))
	after, _ := os.ReadFile(filepath.Join(w.Dir(), File))
	assert.Equal(t, before, after)
	left, _ := filepath.Glob(filepath.Join(w.Dir(), ".orenda*"))
	assert.Empty(t, left)
	assert.False(t, strings.Contains(string(after), "BEGIN"))
}

// Where no endpoint serves an operation, one that is switched off or that could
// be made for a port of the contract is offered, and the offer holds.
func TestAnEndpointIsMadeWhereNoneServes(t *testing.T) {
	w := fresh(t)
	ref := DraftRef{"tide-tables", "TideTables", "YearTable", "first"}
	require.NoError(t, w.Apply(exchange.Change{Where: "workspace", Key: "endpoint.TideTables.off", To: true}))
	require.NoError(
		t,
		w.edit(func(src []byte) ([]byte, error) { return tomledit.Remove(src, []string{"endpoint", "TideTablesTLS"}) }),
	)
	offers := func() (out []exchange.Remedy) {
		p, err := w.Plan(ref, "", "")
		require.NoError(t, err)
		x := call.New(p, nil).Run(t.Context())
		require.Equal(t, "binding.endpoint-missing", x.Findings[0].ID)
		return x.Findings[0].Remedies
	}
	got := offers()
	require.Len(t, got, 2)
	assert.Equal(t, "switch TideTables on", got[0].Title)
	assert.Equal(t, "make the endpoint TideTablesTLS (SOAP 1.1 · https · port TideTablesTLS)", got[1].Title)
	for i, want := range []string{"TideTables", "TideTablesTLS"} {
		require.NoError(t, w.Apply(got[i].All()...))
		p, err := w.Plan(ref, want, "")
		require.NoError(t, err)
		assert.NoError(t, p.NoEndpoint)
		assert.Equal(t, want, p.Endpoint)
	}
	assert.Len(t, w.Config().Endpoints, 5)
}
