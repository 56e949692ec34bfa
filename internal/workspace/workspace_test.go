package workspace

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/learned"
	"orenda/internal/trust"
	"orenda/internal/user"
)

func load(t testing.TB, file string) *contract.Contract {
	t.Helper()
	path := "../standin/contracts/" + file
	src, err := os.ReadFile(path)
	require.NoError(t, err)
	c, err := contract.Load(
		context.Background(),
		path,
		src,
		func(_ context.Context, p string) ([]byte, error) { return os.ReadFile(p) },
	)
	require.NoError(t, err)
	return c
}

func fresh(t testing.TB) *Workspace {
	t.Helper()
	dir := t.TempDir()
	w := New("Skerry Harbour Trust", &user.Home{Config: dir + "/config", State: dir + "/state"})
	for _, f := range []string{"berths.wsdl", "tides.wsdl"} {
		_, err := w.AddContract(load(t, f), "")
		require.NoError(t, err)
	}
	require.NoError(t, w.SaveTo(dir+"/ws"))
	w, err := Open(dir+"/ws", w.Home)
	require.NoError(t, err)
	return w
}

func TestAddressInGivesEndpointsAndDrafts(t *testing.T) {
	w := fresh(t)
	assert.Equal(t, "Skerry Harbour Trust", w.Config().Name)
	var ends, drafts []string
	for _, e := range w.Config().Endpoints {
		ends = append(ends, e.Name)
	}
	for _, d := range w.Drafts() {
		drafts = append(drafts, d.String())
	}
	assert.Equal(t, []string{"BerthDesk11", "BerthDesk12", "BerthDeskTLS", "TideTables", "TideTablesTLS"}, ends)
	assert.Equal(
		t,
		[]string{"FindBerths/first", "ReserveBerth/first", "LogSighting/first", "YearTable/first", "DayTable/first"},
		drafts,
	)
	c, err := w.Contract("tide-tables")
	require.NoError(t, err, "the snapshot needs nothing else")
	assert.Len(t, c.OperationNames(), 2)
	assert.Empty(t, w.Config().Warnings)
}

func TestEndpointsAreSettled(t *testing.T) {
	w := fresh(t)
	r, err := w.FindDraft("FindBerths")
	require.NoError(t, err)
	_, err = w.ChooseEndpoint(r, "")
	var amb *endpoint.AmbiguousError
	require.ErrorAs(t, err, &amb)
	assert.Len(t, amb.Endpoints, 3)
	assert.Equal(t, "SOAP 1.2 · http · port BerthDesk12", amb.Endpoints[1].Differs)
	_, err = w.ChooseEndpoint(r, "BerthDesk1")
	assert.ErrorContains(t, err, "BerthDesk11 is meant")
	for _, name := range []string{"BerthDesk12", "BerthDesk11"} { // the second choice takes the first one's place
		require.NoError(t, w.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + name + ".default", To: true}))
		e, err := w.ChooseEndpoint(r, "")
		require.NoError(t, err)
		assert.Equal(t, name, e.Name)
	}
	_, err = w.FindDraft("findBerths")
	var op *endpoint.OperationError
	require.ErrorAs(t, err, &op)
	assert.Equal(t, "FindBerths", op.Near)
}

const written = `# kept by hand
[endpoint.tides-tls]
port = "TideTablesTLS"
receive-limit = 65536
recieve-limit = "1 MiB"
`

func TestHandEditedFilesAreReadOrRefusedWithThePlace(t *testing.T) {
	w := New("x", nil)
	require.NoError(t, w.parse([]byte(written)))
	require.Len(t, w.Config().Warnings, 1)
	assert.Contains(t, w.Config().Warnings[0], "line 5: the setting recieve-limit is not known; receive-limit is meant")
	assert.Equal(t, []string{"65536"}, w.Endpoint("tides-tls").Values["receive-limit"])
	for src, want := range map[string]string{
		"name = \"x\nenvironment = 1":             "orenda.toml (in memory):1:",
		"[endpoint.a]\nport = 3\ndefault = \"y\"": ":3:11: default must be true or false",
		"[endpoint.a]\nport = 'x'\nport = 'y'":    ":3:",
		"[endpoint.a]\ntrust = [[1, 2]]":          ":2:9: trust:",
		"a = {":                                   ":1:",
	} {
		err := w.parse([]byte(src))
		if assert.Error(t, err, src) {
			assert.Contains(t, err.Error(), want, src)
		}
		assert.NotNil(t, w.Endpoint("tides-tls"), "what was there stays")
	}
}

func TestABrokenFileIsNeverOverwritten(t *testing.T) {
	w := fresh(t)
	broken := []byte("name = \"Skerry\n")
	require.NoError(t, os.WriteFile(filepath.Join(w.Dir(), File), broken, 0o600))
	err := w.Apply(exchange.Change{Where: "workspace", Key: "environment.model.a", To: "b"})
	assert.ErrorContains(t, err, "orenda.toml:1:")
	after, _ := os.ReadFile(filepath.Join(w.Dir(), File))
	assert.Equal(t, broken, after)
}

func TestTwoOnOneWorkspaceLoseNothing(t *testing.T) {
	w := fresh(t)
	other, err := Open(w.Dir(), w.Home)
	require.NoError(t, err)
	var wg sync.WaitGroup
	for i, x := range []*Workspace{w, other} {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for k := range 20 {
				assert.NoError(
					t,
					x.Apply(
						exchange.Change{
							Where: "workspace",
							Key:   "environment.model." + string(rune('a'+i)) + string(rune('a'+k)),
							To:    "v",
						},
					),
				)
			}
		}()
	}
	wg.Wait()
	require.NoError(t, w.Reload())
	vars, _ := w.Variables("model")
	assert.Len(t, vars, 40)
}

func TestTrustIsKeptAsAFile(t *testing.T) {
	w := fresh(t)
	p, err := trust.Issue(trust.Wish{Name: "../../tides", Hosts: []string{"x"}})
	require.NoError(t, err)
	ch := exchange.Change{Where: "workspace", Key: "endpoint.TideTablesTLS.trust", To: string(trust.PEM(p.Cert))}
	require.NoError(t, w.Apply(ch))
	require.NoError(t, w.Apply(ch), "twice is once")
	list := w.Endpoint("TideTablesTLS").Values["trust"]
	require.Len(t, list, 1)
	assert.True(t, strings.HasPrefix(list[0], "trust/"), list[0])
	b, err := w.ReadFile(list[0])
	require.NoError(t, err)
	certs, err := trust.Read(b)
	require.NoError(t, err)
	assert.True(t, certs[0].Equal(p.Cert))
}

func TestNothingLeadsOutOfTheFolder(t *testing.T) {
	w := fresh(t)
	for _, name := range []string{"../secret", "/etc/passwd", "a/../../x"} {
		_, err := w.ReadFile(name)
		assert.Error(t, err, name)
	}
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(w.Dir(), "link")))
	_, err := w.ReadFile("link")
	assert.Error(t, err)
}

// The process is killed while it saves, many times; the file is always whole.
func TestKilledWhileSaving(t *testing.T) {
	if os.Getenv("ORENDA_SAVE_LOOP") != "" {
		w, err := Open(os.Getenv("ORENDA_SAVE_LOOP"), &user.Home{Config: t.TempDir(), State: t.TempDir()})
		require.NoError(t, err)
		for i := 0; ; i++ {
			_ = w.Apply(
				exchange.Change{Where: "workspace", Key: "environment.model.value", To: strings.Repeat("x", i%5000)},
			)
		}
	}
	w := fresh(t)
	left := t.TempDir() // what the killed one cannot take away
	for range 30 {
		cmd := exec.Command(os.Args[0], "-test.run", "TestKilledWhileSaving$")
		cmd.Env = append(os.Environ(), "ORENDA_SAVE_LOOP="+w.Dir(), "TMPDIR="+left)
		require.NoError(t, cmd.Start())
		before, _ := os.ReadFile(filepath.Join(w.Dir(), File))
		for range 2000 { // until it is at work
			if now, _ := os.ReadFile(filepath.Join(w.Dir(), File)); !bytes.Equal(now, before) {
				break
			}
		}
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		require.NoError(t, w.Reload())
		assert.Len(t, w.Config().Endpoints, 5)
	}
}

func TestRemediesOfADraft(t *testing.T) {
	w := fresh(t)
	r, err := w.FindDraft("DayTable")
	require.NoError(t, err)
	to, err := w.ChangeDraft(r, exchange.Change{Where: "draft", Key: "namespace", To: "urn:else"})
	require.NoError(t, err)
	b, _ := w.ReadDraft(to)
	assert.Contains(t, string(b), `<DayTable xmlns="urn:else">`)
	to, err = w.ChangeDraft(r, exchange.Change{Where: "draft", Key: "operation", To: "YearTable"})
	require.NoError(t, err)
	assert.Equal(t, "YearTable/first 2", to.String())
}

func TestMessagesFromElsewhereBecomeDrafts(t *testing.T) {
	w := fresh(t)
	env := `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><DayTable xmlns="urn:skerry:tides"/></e:Body></e:Envelope>`
	r, err := w.Import([]byte(env), "from/elsewhere")
	require.NoError(t, err)
	assert.Equal(t, "DayTable", r.Operation)
	b, err := w.ReadDraft(r)
	require.NoError(t, err)
	assert.Equal(t, env, string(b))
	again, err := w.Import([]byte(env), "from/elsewhere")
	require.NoError(t, err)
	assert.NotEqual(t, r, again)
	_, err = w.Import([]byte(`<DayTabel xmlns="urn:skerry:tides"/>`), "x")
	assert.ErrorContains(
		t,
		err,
		"no operation here has the body element {urn:skerry:tides}DayTabel; DayTable has one like it",
	)

	// What was sent comes back without its envelope and its security header.
	sent := `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/" xmlns:t="urn:skerry:tides" xmlns:k="urn:k"><e:Header><s:Security xmlns:s="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><s:Secret/></s:Security><k:Clerk>Ines</k:Clerk></e:Header><e:Body><t:DayTable><t:station>Sound</t:station></t:DayTable></e:Body></e:Envelope>`
	r, err = w.ImportSent([]byte(sent), "sent")
	require.NoError(t, err)
	b, _ = w.ReadDraft(r)
	assert.Equal(t, `<t:DayTable xmlns:t="urn:skerry:tides"><t:station>Sound</t:station></t:DayTable>`+"\n", string(b))
	h, _ := w.ReadHeader(r)
	assert.Contains(t, string(h), `<k:Clerk xmlns:k="urn:k">Ines</k:Clerk>`)
	assert.NotContains(t, string(h), "Security")
	_, err = w.ImportSent([]byte("<a/>"), "x")
	assert.Error(t, err)
}

func TestNotesAreKeptAndNeverLost(t *testing.T) {
	w := fresh(t)
	require.NoError(t, w.SetNote("tide-tables", "DayTable", "tide[3]/state", "  PEN means pending "))
	require.NoError(t, w.SetNote("tide-tables", "DayTable", "", "slow before nine"))
	n, err := w.Notes("tide-tables", "DayTable")
	require.NoError(t, err)
	require.Len(t, n, 2)
	assert.Equal(t, "slow before nine", n[""].String())
	assert.Equal(t, "PEN means pending", n["tide/state"].String())

	// What was found by sounding is marked where a call speaks against it, and once only.
	require.NoError(t, w.Learn("tide-tables", "DayTable", "tide/state", "at least 3 characters",
		&learned.Edges{By: "length", Least: "3"}))
	x := &exchange.Exchange{ID: "01x", Contract: "tide-tables", Operation: "DayTable", Outcome: exchange.OutcomePassed,
		Legs: []*exchange.Leg{{RequestBody: []byte(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>` +
			`<D><tide><state>PE</state></tide></D></e:Body></e:Envelope>`)}}}
	field, how, err := w.Contradict(x)
	require.NoError(t, err)
	assert.Equal(t, []string{"tide/state", `"PE" (2 characters) was accepted`}, []string{field, how})
	_, how, err = w.Contradict(x)
	require.NoError(t, err)
	assert.Empty(t, how)
	n, err = w.Notes("tide-tables", "DayTable")
	require.NoError(t, err)
	assert.Equal(t, `contradicted: "PE" (2 characters) was accepted (01x); before: at least 3 characters`, n["tide/state"].String())
	require.NoError(t, w.SetNote("tide-tables", "DayTable", "tide/state", "at least 2"))
	n, _ = w.Notes("tide-tables", "DayTable")
	assert.Nil(t, n["tide/state"].Edges, "what a person writes is theirs")
	file := filepath.Join(w.Dir(), NotesFile)
	require.NoError(t, os.WriteFile(file, []byte("[[note]\nbroken"), 0o600))
	_, err = w.Notes("tide-tables", "DayTable")
	assert.ErrorContains(t, err, "notes.toml:1:")
	assert.Error(t, w.SetNote("tide-tables", "DayTable", "", "x"), "what cannot be read is not overwritten")
	b, _ := os.ReadFile(file)
	assert.Equal(t, "[[note]\nbroken", string(b))
}

// The last change of settings can be taken back, as long as nobody changed them since.
func TestTheLastChangeIsTakenBack(t *testing.T) {
	w := fresh(t)
	before, err := w.store().read(File)
	require.NoError(t, err)
	end := w.Config().Endpoints[0].Name
	change := func(to string) exchange.Change {
		return exchange.Change{Where: "workspace", Key: "endpoint." + end + ".answer-time", To: to}
	}
	back := func() *Step {
		t.Helper()
		s, err := w.TakeBack()
		require.NoError(t, err)
		return s
	}
	require.NoError(t, w.Apply(change("5s")))
	w.Remember()
	_, err = w.TakeBack()
	require.ErrorIs(t, err, ErrNoStep, "nothing was done since")
	require.NoError(t, w.Apply(change("7s")))
	w.Settle()
	require.NoError(t, w.Apply(change("9s")))
	w.Settle()
	s := back()
	assert.Contains(t, s.What, end+".answer-time")
	assert.Equal(t, "7s", s.Changes[0].From)
	assert.Equal(t, "9s", s.Changes[0].To)
	set := w.Settings(end)
	assert.Equal(t, "7s", set.Text("answer-time"))
	_, err = w.DoAgain()
	require.NoError(t, err)
	set = w.Settings(end)
	assert.Equal(t, "9s", set.Text("answer-time"))
	back()
	back()
	require.NoError(t, w.Apply(change("")))
	now, err := w.store().read(File)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(now))

	require.NoError(t, w.Apply(change("7s")))
	w.Settle()
	require.NoError(t, w.place.Load().store.write(File, append(now, "# by hand\n"...)))
	_, err = w.TakeBack()
	assert.ErrorContains(t, err, "changed since")
}

// Whatever a person does is taken back, and done again: drafts, removals, notes, trust,
// identities and approvals, each as one step.
func TestEveryChangeIsTakenBack(t *testing.T) {
	w := fresh(t)
	w.Remember()
	ref := w.Drafts()[0]
	files := func() map[string]string {
		out := map[string]string{}
		for _, dir := range []string{"drafts", "contracts", "trust"} {
			all, err := w.store().list(dir)
			require.NoError(t, err)
			for _, f := range all {
				b, err := w.store().read(f)
				require.NoError(t, err)
				out[f] = string(b)
			}
		}
		for _, f := range []string{File, NotesFile} {
			b, _ := w.store().read(f)
			out[f] = string(b)
		}
		for _, f := range []string{"identities.toml", "approvals.toml"} {
			b, _ := os.ReadFile(filepath.Join(w.Home.Config, f))
			out[f] = string(b)
		}
		return out
	}
	name := w.Config().Endpoints[0].Name
	doings := map[string]func() error{
		"draft":    func() error { return w.WriteDraft(ref, []byte("<a/>")) },
		"removal":  func() error { return w.RemoveDraft(ref) },
		"contract": func() error { return w.RemoveContract(ref.Contract) },
		"endpoint": func() error { return w.RemoveEndpoint(name) },
		"note":     func() error { return w.SetNote(ref.Contract, ref.Operation, "", "learned") },
		"approval": func() error { return w.Home.Allow(w.ID(), "pilot-desk", "https://x.test:443") },
		"copy":     func() error { return w.CopyDraft(ref, w.FreeDraft(ref, ref.Name)) },
	}
	for what, do := range doings {
		before := files()
		require.NoError(t, do(), what)
		require.NotNil(t, w.Settle(), what)
		after := files()
		require.NotEqual(t, before, after, what)
		step, err := w.TakeBack()
		require.NoError(t, err, what)
		assert.NotEmpty(t, step.What, what)
		assert.Equal(t, before, files(), what)
		_, err = w.DoAgain()
		require.NoError(t, err, what)
		assert.Equal(t, after, files(), what)
		_, err = w.TakeBack()
		require.NoError(t, err, what)
	}
	require.NotNil(t, w.Endpoint(name))
	require.NotEmpty(t, w.Drafts())
}
