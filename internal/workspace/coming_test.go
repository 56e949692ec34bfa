package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/identity"
	"orenda/internal/trust"
)

// All endpoints of a contract come from another workspace, with the variables that they use; what is
// new, what differs and what cannot come is said before.
func TestEndpointsComeFromAnotherWorkspace(t *testing.T) {
	of := file(t, `
[profile.desk]
answer-time = "90s"
[endpoint.winter]
contract = "tide-tables"
port = "TideTables"
profile = "desk"
address = "http://${tideHost}:${tidePort:-82}/tides"
client-cert = "keys/winter.pem"
identity = "clerk"
[environment.model]
tideHost = "127.0.0.1"
tidePort = "81"
unused = "x"
`)
	a, err := trust.Issue(trust.Wish{Name: "one"})
	require.NoError(t, err)
	b, err := trust.Issue(trust.Wish{Name: "two"})
	require.NoError(t, err)
	require.NoError(t, of.Apply(change("endpoint.TideTables.trust", string(trust.PEM(a.Cert))),
		change("endpoint.TideTables.timestamp", "5m"), change("endpoint.BerthDesk11.timestamp", "9m")))
	require.NoError(t, of.Apply(change("endpoint.TideTables.trust", string(trust.PEM(b.Cert)))))
	require.Len(t, of.Endpoint("TideTables").Values["trust"], 2)

	w := file(t, "\n[environment.model]\ntidePort = \"80\"\n")
	before := source(t, w)
	coming, err := w.Coming(of, "tide-tables")
	require.NoError(t, err)
	assert.Equal(t, before, source(t, w), "nothing is changed yet")
	var told []string
	for _, c := range coming.Changes {
		told = append(told, strings.SplitN(c.String(), "\n", 2)[0])
	}
	said, left := strings.Join(told, "\n"), strings.Join(coming.Left, "\n")
	for _, want := range []string{"endpoint.winter.port", "endpoint.winter.answer-time", "environment.model.tideHost",
		"endpoint.TideTables.timestamp"} {
		assert.Contains(t, said, want)
	}
	assert.NotContains(t, said, "unused")
	assert.NotContains(t, said, "BerthDesk11")
	assert.Contains(t, left, "client-cert of winter: its file belongs to the other workspace")
	assert.Contains(t, left, "tidePort of model stays 80; there it is 81")
	assert.Contains(t, left, "you have no identity clerk")

	require.NoError(t, w.Bring(coming))
	assert.Equal(t, []string{"90s"}, w.Endpoint("winter").Values["answer-time"])
	address, err := w.Resolved("winter", "model")
	require.NoError(t, err)
	assert.Equal(t, "http://127.0.0.1:80/tides", address)
	pem, err := w.certificatesOf(w.Endpoint("TideTables").Values["trust"])
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(pem, "BEGIN CERTIFICATE"), "both certificates came")
	again, err := w.Coming(of, "tide-tables")
	require.NoError(t, err)
	assert.Empty(t, again.Changes, "nothing is left to change")

	shared, _, err := w.Share(of, "TideTables", []string{"BerthDesk12"}, nil)
	require.NoError(t, err)
	require.NoError(t, w.Apply(shared...))
	pem, err = w.certificatesOf(w.Endpoint("BerthDesk12").Values["trust"])
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(pem, "BEGIN CERTIFICATE"), "both certificates are shared")
	require.NoError(t, w.Apply(change("environment.model.tideHost", nil)))
	gone, err := w.Coming(of, "tide-tables")
	require.NoError(t, err)
	require.Len(t, gone.Changes, 1, "a variable comes also where the address that uses it is here already")
	assert.Equal(t, "environment.model.tideHost", gone.Changes[0].Key)
	_, err = w.Coming(of, "nothing")
	assert.ErrorContains(t, err, "is not here")
}

// A workspace is made like another: all that a person set, and nothing that was allowed or kept.
func TestAWorkspaceIsMadeLikeAnother(t *testing.T) {
	w := file(t, "\n[environment.model]\ntideHost = \"h\"\n")
	require.NoError(t, w.Home.SaveIdentity(identity.Identity{Name: "desk", User: "u", Secret: "env:X"}))
	require.NoError(t, w.Apply(change("endpoint.TideTables.identity", "desk")))
	require.NoError(t, w.Home.Allow(w.ID(), "desk", "https://h:443"))
	require.NoError(t, w.WriteDraft(DraftRef{Contract: "tide-tables", PortType: "TideTables", Operation: "DayTable", Name: "spring"},
		[]byte("<DayTable/>")))
	require.NoError(t, os.MkdirAll(filepath.Join(w.Dir(), "musters"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(w.Dir(), "musters", "all.toml"), []byte("[[case]]\ndraft = \"DayTable/spring\"\n"), 0o600))

	dir := filepath.Join(t.TempDir(), "winter")
	made, left, err := w.MakeLike(dir)
	require.NoError(t, err)
	assert.Equal(t, "winter", made.Config().Name)
	assert.Equal(t, len(w.Drafts()), len(made.Drafts()))
	_, err = made.Muster("all")
	require.NoError(t, err)
	v, _ := made.Variables("model")
	assert.Equal(t, "h", v["tideHost"])
	_, err = made.Contract("tide-tables")
	require.NoError(t, err)
	assert.False(t, w.Home.Allowed(made.ID(), "desk", "https://h:443"), "approvals stay")
	assert.Contains(t, strings.Join(left, "\n"), "desk is asked for before it first goes out from here")
	_, _, err = w.MakeLike(dir)
	assert.ErrorContains(t, err, "holds a workspace already")
}
