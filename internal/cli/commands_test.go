package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// each goes through all commands that can be run.
func each(cmd *cobra.Command, do func(*cobra.Command)) {
	if cmd.Runnable() {
		do(cmd)
	}
	for _, sub := range cmd.Commands() {
		each(sub, do)
	}
}

// Every command has examples, which call it and use only flags that it has.
func TestEveryCommandHasExamples(t *testing.T) {
	flag := regexp.MustCompile(`\s--?([a-z][a-z-]*)`)
	each((&commandLine{}).wholeRoot(), func(cmd *cobra.Command) {
		assert.NotEmpty(t, cmd.Example, cmd.CommandPath())
		calls := false
		for _, line := range strings.Split(cmd.Example, "\n") {
			line, _, _ = strings.Cut(line, "|")
			calls = calls || strings.Contains(line, cmd.CommandPath())
			if !cmd.HasParent() || !strings.Contains(line, cmd.CommandPath()) {
				continue
			}
			for _, m := range flag.FindAllStringSubmatch(line, -1) {
				f := cmd.Flags().Lookup(m[1])
				if f == nil {
					f = cmd.InheritedFlags().Lookup(m[1])
				}
				if f == nil && len(m[1]) == 1 {
					f = cmd.InheritedFlags().ShorthandLookup(m[1])
				}
				assert.NotNil(t, f, "%s has no flag %s", cmd.CommandPath(), m[1])
			}
		}
		assert.True(t, calls, "%s: an example calls it", cmd.CommandPath())
	})
}

// What a shell completes: drafts, fields with their types, endpoints, settings, findings.
func TestCompletion(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run("-w", dir, "add", "http://"+l.h.Plain+"/berths?wsdl")
	require.Zero(t, code, errOut)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"call", "Find"}, "FindBerths/first\tberth-desk"},
		{[]string{"call", "FindBerths", "le"}, "length=\tdecimal"},
		{[]string{"sound", "FindBerths", "le"}, "length\tdecimal"},
		{[]string{"endpoint", "off", "Berth"}, "BerthDesk12\tberth-desk BerthDesk12"},
		{[]string{"endpoint", "set", "BerthDesk11", "receive-l"}, "receive-limit=\t"},
		{[]string{"call", "FindBerths", "--endpoint", "BerthDeskT"}, "BerthDeskTLS\t"},
		{[]string{"explain", "tls.self"}, "tls.self-signed\t"},
		{[]string{"repair", "la"}, "last\tthe newest"},
		{[]string{"identity", "set", "desk", "us"}, "user="},
		{[]string{"refresh", ""}, "berth-desk\t"},
	} {
		code, out, errOut := l.run(append([]string{"__complete", "-w", dir}, c.args...)...)
		assert.Zero(t, code, errOut)
		assert.Contains(t, out, c.want, c.args)
	}
}

// What a description writes reaches no shell as it is.
func TestCompletionIsSafe(t *testing.T) {
	l := at(t)
	file := l.file("tiny.wsdl", tinyDescription)
	dir := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run("-w", dir, "add", file)
	require.Zero(t, code, errOut)
	settings := filepath.Join(dir, "orenda.toml")
	b, err := os.ReadFile(settings)
	require.NoError(t, err)
	b = []byte(strings.Replace(string(b), "source = ", "source = \"\\u001b]0;caught\\u0007 \" #", 1))
	require.NoError(t, os.WriteFile(settings, b, 0o600))
	_, out, _ := l.run("__complete", "-w", dir, "refresh", "")
	assert.Contains(t, out, "caught")
	assert.NotContains(t, out, "\x1b")
}

func TestManualPages(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "man")
	code, _, errOut := l.run("manual", dir)
	require.Zero(t, code, errOut)
	b, err := os.ReadFile(filepath.Join(dir, "orenda-call.1"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "ORENDA")
	assert.Contains(t, string(b), "--endpoint")
	n := 0
	each((&commandLine{}).wholeRoot(), func(cmd *cobra.Command) {
		if !cmd.Hidden {
			n++
			assert.FileExists(t, filepath.Join(dir, strings.ReplaceAll(cmd.CommandPath(), " ", "-")+".1"))
		}
	})
	assert.Greater(t, n, 60)
}

// -q says only what went wrong; -v shows what was set and the heads too.
func TestQuietAndVerbose(t *testing.T) {
	l := at(t)
	call := []string{"call", "FindBerths", "length=12", "--contract", l.berths(), "--port", "BerthDesk11",
		"--address", "http://" + l.h.Plain + "/berths"}
	code, out, errOut := l.run(append(call, "-q")...)
	assert.Zero(t, code)
	assert.Contains(t, out, "North quay", "the result stays")
	assert.Empty(t, errOut)
	_, _, errOut = l.run(append(call, "-v")...)
	for _, want := range []string{"receive-limit      16 777 216 B · 16 MiB", "out  POST /berths HTTP/1.1",
		"Content-Type: text/xml", "in   HTTP/1.1 200 OK"} {
		assert.Contains(t, errOut, want)
	}
	code, _, errOut = l.run("call", "FindBerths", "length=12", "--contract", l.berths(), "--port", "BerthDesk11",
		"--address", "http://"+l.h.Plain+"/berths/~wait.closed", "-q")
	assert.NotZero(t, code)
	assert.Equal(t, 1, strings.Count(errOut, "\n"), errOut)
	assert.Contains(t, errOut, "stopped at wait")
	code, _, _ = l.run("doctor", "-q", "-v")
	assert.Equal(t, 2, code)
}

// What is kept is searched, pinned, noted, exported, imported again, reported and pruned.
func TestLookingAfterTheJournal(t *testing.T) {
	l := at(t)
	dir := filepath.Join(l.dir, "ws")
	do := func(want int, args ...string) string {
		t.Helper()
		code, out, errOut := l.run(append([]string{"-w", dir}, args...)...)
		require.Equal(t, want, code, errOut)
		return out
	}
	do(0, "add", "http://"+l.h.Plain+"/berths?wsdl")
	do(0, "call", "FindBerths", "length=12", "--endpoint", "BerthDesk11", "--address", "http://"+l.h.Plain+"/berths")
	do(20, "call", "FindBerths", "length=13", "--endpoint", "BerthDesk11", "--address",
		"http://"+l.h.Plain+"/berths/~read.fault-server")
	assert.Contains(t, do(0, "journal", "search", "North", "quay"), "FindBerths")
	assert.NotContains(t, do(0, "journal", "search", "disk", "full"), "× berth")
	do(1, "journal", "search", "nowhere-at-all")
	do(0, "journal", "note", "last", "since", "the", "new", "version")
	do(0, "journal", "pin", "last")
	assert.Contains(t, do(0, "journal", "size"), "2 exchanges")
	har := filepath.Join(l.dir, "calls.har")
	do(0, "journal", "export", "last", "--out", har)
	assert.Contains(t, do(0, "journal", "import", har), "1 exchanges kept")
	assert.Contains(t, do(0, "journal", "list", "--json"), "read.fault-server")
	folder := filepath.Join(l.dir, "calls")
	do(0, "journal", "export", "last", "--folder", folder)
	files, err := filepath.Glob(filepath.Join(folder, "*", "request.xml"))
	require.NoError(t, err)
	assert.Len(t, files, 1)

	var list []map[string]any
	l.json(0, &list, "-w", dir, "journal", "list")
	ids := []string{list[2]["id"].(string), list[1]["id"].(string)}
	page := filepath.Join(l.dir, "report.md")
	do(0, append(append([]string{"handover", "report"}, ids...), "--out", page)...)
	b, err := os.ReadFile(page)
	require.NoError(t, err)
	for _, want := range []string{"> since the new version", "read.fault-server", "report-3.svg", "1 differences", "disk full"} {
		if want == "1 differences" {
			assert.Regexp(t, `\d+ differences, \d+ set aside`, string(b))
			continue
		}
		assert.Contains(t, string(b), want)
	}
	assert.FileExists(t, filepath.Join(l.dir, "report-3.svg"))
	do(0, append(append([]string{"handover", "report"}, ids...), "--out", filepath.Join(l.dir, "report.pdf"))...)
	b, err = os.ReadFile(filepath.Join(l.dir, "report.pdf"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(b), "%PDF-"))
	assert.Contains(t, do(0, "journal", "prune", "--older", "0s"), "1 exchanges taken away", "one is pinned, one the newest")
	do(2, "journal", "prune")
}
