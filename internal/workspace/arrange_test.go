package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// file writes a workspace file over that of a fresh workspace.
func file(t *testing.T, text string) *Workspace {
	t.Helper()
	w := fresh(t)
	src, err := os.ReadFile(filepath.Join(w.Dir(), File))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Dir(), File), append(src, text...), 0o600))
	require.NoError(t, w.Reload())
	return w
}

func source(t *testing.T, w *Workspace) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(w.Dir(), File))
	require.NoError(t, err)
	return string(b)
}

func TestRenamingTakesReferencesAlong(t *testing.T) {
	w := file(t, `
# of the harbour
[endpoint."sea wall"] # stays
contract = "tide-tables"
port = "TideTables"
profile = "old-desk"
address = "http://${tideHost}/x?${tideHost:-y}&$${tideHost}" # who knows
[profile.old-desk]
receive-limit = "64 KiB"
header = ["X-From: ${tideHost}"]
[set-aside."sea wall"]
"security.clear-text" = "closed network"
[environment.model]
tideHost = "127.0.0.1"
`)
	require.NoError(t, w.Apply(change("default-environment", "model")))
	require.NoError(t, w.Rename("endpoint", "sea wall", "pier"))
	require.NoError(t, w.Rename("profile", "old-desk", "desk"))
	require.NoError(t, w.Rename("environment", "model", "testbed"))
	require.NoError(t, w.RenameVariable("tideHost", "host"))
	got := source(t, w)
	for _, want := range []string{"# of the harbour\n[endpoint.pier] # stays\n", `profile = "desk"`,
		`"http://${host}/x?${host:-y}&$${tideHost}"`, "# who knows", "[profile.desk]", `["X-From: ${host}"]`,
		"[set-aside.pier]", "[environment.testbed]\nhost =", `default-environment = "testbed"`} {
		assert.Contains(t, strings.ReplaceAll(got, "'", `"`), want)
	}
	assert.Equal(t, "testbed", w.Config().Environment)
	assert.Equal(t, "closed network", w.Config().SetAside["pier"]["security.clear-text"])
	assert.ErrorContains(t, w.Rename("endpoint", "pier", "TideTables"), "already")
	assert.ErrorContains(t, w.Rename("endpoint", "nobody", "x"), "there is no")
	assert.Equal(t, got, source(t, w), "what cannot be done changes nothing")

	require.NoError(t, w.RemoveEndpoint("pier"))
	assert.NotContains(t, source(t, w), "pier]\n\ncontract")
	assert.Nil(t, w.Endpoint("pier"))
	assert.Contains(t, source(t, w), "# of the harbour")
}

func TestSharingSettings(t *testing.T) {
	w := file(t, `
[profile.desk]
receive-limit = "64 KiB"
`)
	issued, err := trust.Issue(trust.Wish{Name: "tides", Hosts: []string{"tides.test"}})
	require.NoError(t, err)
	pem := string(trust.PEM(issued.Cert))
	require.NoError(
		t,
		w.Apply(
			change("endpoint.TideTablesTLS.trust", pem),
			change("endpoint.TideTablesTLS.answer-time", "90s"),
			change("endpoint.TideTablesTLS.address", "https://127.0.0.1:1/tides"),
			change("endpoint.TideTablesTLS.profile", "desk"),
			change("endpoint.TideTablesTLS.keep-alive", true),
			change("endpoint.BerthDesk11.timestamp", "5m"),
			change("endpoint.BerthDesk11.answer-time", "1s"),
		),
	)
	changes, skipped, err := w.Share(w, "TideTablesTLS", []string{"BerthDesk11", "BerthDesk12"}, nil)
	require.NoError(t, err)
	assert.Empty(t, skipped)
	before := source(t, w)
	var told []string
	for _, c := range changes {
		told = append(told, c.String())
	}
	assert.Equal(t, before, source(t, w), "the preview changes nothing")
	assert.Contains(t, strings.Join(told, "\n"), "endpoint.BerthDesk11.answer-time: 1s → 90s")
	require.NoError(t, w.Apply(changes...))
	a, b := w.Endpoint("TideTablesTLS"), w.Endpoint("BerthDesk11")
	assert.Equal(t, a.Values["trust"], b.Values["trust"])
	assert.Equal(t, "desk", b.Profile)
	assert.Nil(t, b.Values["timestamp"], "what the one has not, the other has no longer")
	assert.Nil(t, b.Values["address"], "an address stays where it is")
	again, _, err := w.Share(w, "TideTablesTLS", []string{"BerthDesk11", "BerthDesk12"}, nil)
	require.NoError(t, err)
	assert.Empty(t, again, "nothing is left to change")

	// One stage only, and from another workspace: its profile's values and its
	// certificates come along.
	o := fresh(t)
	changes, _, err = o.Share(
		w,
		"TideTablesTLS",
		[]string{"BerthDesk12"},
		[]exchange.Stage{exchange.TLS, exchange.Receive},
	)
	require.NoError(t, err)
	require.NoError(t, o.Apply(changes...))
	e := o.Endpoint("BerthDesk12")
	assert.Equal(t, []string{"64 KiB"}, e.Values["receive-limit"])
	assert.Nil(t, e.Values["answer-time"])
	_, err = o.ReadFile(e.Values["trust"][0])
	assert.NoError(t, err)
}

func TestEndpointsAreMadeAndDuplicated(t *testing.T) {
	w := fresh(t)
	require.NoError(t, w.RemoveEndpoint("TideTables"))
	made, err := w.AddEndpoints("tide-tables")
	require.NoError(t, err)
	assert.Equal(t, []string{"TideTables"}, made)
	require.NoError(
		t,
		w.Apply(
			change("endpoint.TideTables.header", []string{"X-A: 1", "X-B: 2"}),
			change("endpoint.TideTables.default", true),
		),
	)
	require.NoError(t, w.DuplicateEndpoint("TideTables", "tides-live"))
	assert.Equal(t, w.Endpoint("TideTables").Values, w.Endpoint("tides-live").Values)
	assert.False(t, w.Endpoint("tides-live").Default)
	assert.ErrorContains(t, w.DuplicateEndpoint("TideTables", "tides-live"), "already")
	assert.ErrorContains(t, w.AddEndpoint("x", "tide-tables", "TideTable"), "no port")
}

func TestAddressesAreLiftedIntoVariables(t *testing.T) {
	w := fresh(t)
	require.NoError(
		t,
		w.Apply(
			change("endpoint.TideTables.address", "http://127.0.0.1:8080/tides"),
			change("endpoint.TideTablesTLS.address", "https://127.0.0.1:8443/tides?x=$$1"),
			change("endpoint.BerthDesk11.address", "https://${there}/b"),
			change("environment.model.there", "x"),
			change("environment.live.there", "y"),
		),
	)
	for _, e := range []string{"BerthDesk12", "BerthDeskTLS"} {
		if w.Endpoint(e) != nil {
			require.NoError(t, w.RemoveEndpoint(e))
		}
	}
	changes, err := w.Lift()
	require.NoError(t, err)
	require.NoError(t, w.Apply(changes...))
	for _, env := range []string{"model", "live"} {
		for end, want := range map[string]string{"TideTables": "http://127.0.0.1:8080/tides",
			"TideTablesTLS": "https://127.0.0.1:8443/tides?x=$1"} {
			got, err := w.Resolved(end, env)
			require.NoError(t, err)
			assert.Equal(t, want, got, "%s in %s", end, env)
		}
	}
	assert.Equal(
		t,
		"${tideTablesScheme}://${host}:${tideTablesPort}/tides",
		w.Endpoint("TideTables").Values["address"][0],
	)
	changes, err = w.Lift()
	require.NoError(t, err)
	assert.Empty(t, changes)
	names := map[string]Variable{}
	for _, v := range w.AllVariables() {
		names[v.Name] = v
	}
	assert.Equal(t, []string{"TideTables", "TideTablesTLS"}, names["host"].UsedBy)
	assert.Equal(t, []string{"BerthDesk11"}, names["there"].UsedBy)
	assert.Equal(t, map[string]string{"model": "x", "live": "y"}, names["there"].Values)
}

func TestThePersonsOwnProfilesServeEveryWorkspace(t *testing.T) {
	w := fresh(t)
	path := filepath.Join(w.Home.Config, "profiles.toml")
	require.NoError(t, os.MkdirAll(w.Home.Config, 0o700))
	require.NoError(
		t,
		os.WriteFile(
			path,
			[]byte(
				"# mine\n[everywhere]\nproxy = \"http://gate.test:3128\" # the gate\nanswer-time = "+
					"\"5s\"\n[slow]\nanswer-time = \"5m\"\n",
			),
			0o600,
		),
	)
	s := w.Settings("TideTables")
	assert.Equal(t, "http://gate.test:3128", s.Text("proxy"))
	assert.Equal(t, "profile everywhere (yours)", s.Get("proxy").Source)
	require.NoError(t, w.Apply(change("endpoint.TideTables.profile", "slow")))
	s = w.Settings("TideTables")
	assert.Equal(t, "5m", s.Text("answer-time"))
	assert.Equal(t, "profile slow (yours)", s.Get("answer-time").Source)
	require.NoError(t, w.Apply(exchange.Change{Where: "user", Key: "profile.everywhere.receive-limit", To: "1 MiB"}))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(b), "# the gate")
	s = w.Settings("TideTables")
	assert.Equal(t, "1 MiB", s.Text("receive-limit"))

	require.NoError(t, os.WriteFile(path, []byte("[everywhere]\nprxy = \"x\"\n"), 0o600))
	require.NoError(t, w.Reload())
	assert.Contains(t, strings.Join(w.Config().Warnings, "\n"), "prxy is not known")
}

func TestTheProcessEnvironmentIsReadByLeaveOnly(t *testing.T) {
	w := fresh(t)
	t.Setenv("HARBOUR_LANTERN", "green")
	require.NoError(
		t,
		w.Apply(
			change("environment.model.lantern", "env:HARBOUR_LANTERN"),
			change("default-environment", "model"),
			change("endpoint.TideTables.header", []string{"X-Lantern: ${lantern}"}),
		),
	)
	r, err := w.FindDraft("YearTable")
	require.NoError(t, err)
	p, err := w.Plan(r, "TideTables", "")
	require.NoError(t, err)
	assert.NotContains(t, p.Variables, "lantern")
	assert.Equal(t, "HARBOUR_LANTERN", p.Withheld["lantern"])
	require.NoError(t, w.Apply(exchange.Change{Where: "user", Key: "allow.env:HARBOUR_LANTERN", To: "value"}))
	p, err = w.Plan(r, "TideTables", "")
	require.NoError(t, err)
	assert.Equal(t, "green", p.Variables["lantern"])
}

// Default and off are set on and off, and nothing else.
func TestDefaultAndOffAreSwitches(t *testing.T) {
	w := file(t, "\n[endpoint.pier]\ncontract = \"tide-tables\"\nport = \"TideTables\"\n"+
		"[endpoint.quay]\ncontract = \"tide-tables\"\nport = \"TideTables\"\n")
	require.NoError(t, w.Apply(change("endpoint.pier.default", "true")))
	require.NoError(t, w.Apply(change("endpoint.quay.default", "false")))
	assert.True(t, w.Endpoint("pier").Default, "it was not taken from pier")
	assert.False(t, w.Endpoint("quay").Default)
	require.NoError(t, w.Apply(change("endpoint.pier.default", false)))
	assert.False(t, w.Endpoint("pier").Default)
	require.NoError(t, w.Apply(change("endpoint.pier.off", "true")))
	assert.True(t, w.Endpoint("pier").Off)
	require.NoError(t, w.Apply(change("endpoint.pier.off", nil)))
	assert.False(t, w.Endpoint("pier").Off)
	assert.ErrorContains(t, w.Apply(change("endpoint.pier.default", "perhaps")), "default is true or false, not perhaps")
	assert.ErrorContains(t, w.Apply(change("endpoint.pier.off", "yes")), "off is true or false")
}
