package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is removed is kept, and brought back as it was: a draft, an endpoint with its
// settings, a contract with all that belongs to it.
func TestWhatIsRemovedIsBroughtBack(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "w")
	must := func(args ...string) string {
		t.Helper()
		code, out, errOut := l.run(append([]string{"-w", dir}, args...)...)
		require.Zero(t, code, "%v %s", args, errOut)
		return out + errOut
	}
	all := func() map[string]string {
		out := map[string]string{}
		require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				b, rerr := os.ReadFile(p)
				require.NoError(t, rerr)
				out[p[len(dir):]] = string(b)
			}
			return err
		}))
		return out
	}
	assert.Contains(t, must("add", l.berths(), "--only", "FindBerths"), "berth")
	assert.Equal(t, 1, strings.Count(must("draft", "list"), "FindBerths"))
	assert.NotContains(t, must("draft", "list"), "HoldBerth", "drafts of the named operations alone")
	code, _, errOut := l.run("-w", dir, "add", l.callsigns(), "--only", "LookUpp")
	assert.Equal(t, 3, code, errOut)
	assert.Contains(t, errOut, "LookUp")
	must(
		"endpoint",
		"set",
		"BerthDesk11",
		"receive-limit=2 MiB",
		"header=X-Desk: north",
		"header=X-Pier: 2",
		"keep-alive=true",
	)
	must("draft", "expect", "FindBerths/first", "count(berth)>=1", "valid")
	before := all()

	must("draft", "remove", "FindBerths/first")
	assert.NotContains(t, must("draft", "list"), "FindBerths")
	assert.Contains(t, must("restore", "--list"), "FindBerths/first")
	assert.Contains(t, must("restore"), "back again: the draft FindBerths/first")
	assert.Equal(t, before, all())

	must("endpoint", "remove", "BerthDesk11")
	assert.NotContains(t, must("endpoint", "list"), "BerthDesk11")
	must("restore", "BerthDesk11")
	must("check", "FindBerths/first", "--endpoint", "BerthDesk11", "length=12")
	settings := must("endpoint", "list", "--json")

	name := strings.Fields(must("contract", "list"))[0]
	must("contract", "remove", name)
	assert.Empty(t, must("contract", "list"))
	assert.NotContains(t, must("endpoint", "list"), "BerthDesk")
	code, _, errOut = l.run("-w", dir, "restore", "nothing")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "nothing was removed")
	must("restore")
	assert.Equal(t, settings, must("endpoint", "list", "--json"))
	after := all()
	for f, text := range before {
		if filepath.Base(f) != "orenda.toml" {
			assert.Equal(t, text, after[f], f)
		}
	}
	assert.Contains(t, after["/orenda.toml"], "X-Pier: 2")
	assert.Contains(t, after["/orenda.toml"], "count(berth)>=1")
}

// A description that is kept already is refreshed; one of the same service from another
// place gives an endpoint.
func TestAddingWhatIsThereAlready(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "w")
	code, _, errOut := l.run("-w", dir, "add", l.berths())
	require.Zero(t, code, errOut)
	code, out, errOut := l.run("-w", dir, "add", l.berths())
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "kept already, and refreshed")
	other := at(t) // another harbour with the same service
	t.Setenv("ORENDA_HOME", filepath.Join(l.dir, "home"))
	code, out, errOut = l.run("-w", dir, "add", other.berths())
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "the same service is kept already")
	assert.Contains(t, out, "endpoint BerthDesk11-127.0.0.1-")
	_, list, _ := l.run("-w", dir, "contract", "list")
	assert.Equal(t, 1, strings.Count(list, "\n"))
	_, list, _ = l.run("-w", dir, "endpoint", "list")
	assert.Contains(t, list, other.h.Plain)
	code, _, errOut = l.run("-w", dir, "add", other.berths(), "--twice")
	require.Zero(t, code, errOut)
	_, list, _ = l.run("-w", dir, "contract", "list")
	assert.Equal(t, 2, strings.Count(list, "\n"))
}

// Two drafts differ in more than their fields: in what belongs to each.
func TestDraftsDifferInWhatBelongsToThem(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "w")
	must := func(args ...string) string {
		t.Helper()
		code, out, errOut := l.run(append([]string{"-w", dir}, args...)...)
		require.Zero(t, code, "%v %s", args, errOut)
		return out
	}
	must("add", l.berths())
	one := l.file("one.xml", `<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`)
	two := l.file("two.xml", `<FindBerths xmlns="urn:skerry:berths"><length> 12</length></FindBerths>`)
	must("draft", "import", one, "--name", "one")
	must("draft", "import", two, "--name", "two")
	must("draft", "header", "FindBerths/one", "X-Desk: north")
	must("draft", "header", "FindBerths/two", "X-Desk: south", "X-Pier: 2")
	must("draft", "attach", "FindBerths/two", "plan="+l.file("plan.pdf", "%PDF"))
	must("draft", "expect", "FindBerths/one", "valid")
	var got []draftDifference
	l.json(1, &got, "-w", dir, "draft", "differs", "FindBerths/one", "FindBerths/two")
	paths := map[string][2]string{}
	for _, d := range got {
		var pair [2]string
		for i, v := range []*string{d.A, d.B} {
			pair[i] = "-"
			if v != nil {
				pair[i] = *v
			}
		}
		paths[d.Path] = pair
	}
	assert.Equal(t, [2]string{"north", "south"}, paths["HTTP field X-Desk"])
	assert.Equal(t, [2]string{"-", "2"}, paths["HTTP field X-Pier"])
	assert.Equal(t, "-", paths["file plan"][0])
	assert.Equal(t, [2]string{"valid", "-"}, paths["expected"])
	_, out, _ := l.run("-w", dir, "draft", "differs", "FindBerths/one", "FindBerths/two")
	assert.Contains(t, out, "·12", "white space is seen")
}
