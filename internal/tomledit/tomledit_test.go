package tomledit

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const written = `# kept by hand
name = "Skerry Harbour Trust" # the trust
default-environment = "model"

[environment.model]
tidehost = "127.0.0.1:8443"   # where it runs

[endpoint.tides-tls] # over TLS
contract = "tides"
port = "TideTablesTLS"
trust = [
  "trust/a.pem", # the old one
]
receive-limit = 65536
recieve-limit = "1 MiB"

[profile.harbour-11]
strict-buffer = true
`

func TestChangesTouchNothingElse(t *testing.T) {
	for _, c := range []struct {
		path     []string
		value    any
		old, new string
	}{
		{[]string{"environment", "model", "tideHost"}, "127.0.0.1:8443", "# where it runs\n", "# where it " +
			"runs\ntideHost = '127.0.0.1:8443'\n"},
		{[]string{"endpoint", "tides-tls", "receive-limit"}, "2 MiB", "receive-limit = 65536", "receive-limit = '2 " +
			"MiB'"},
		{[]string{"endpoint", "tides-tls", "trust"}, []string{"trust/b.pem"}, "[\n  \"trust/a.pem\", # the old " +
			"one\n]", "['trust/b.pem']"},
		{[]string{"endpoint", "tides-tls", "port"}, nil, "port = \"TideTablesTLS\"\n", ""},
		{[]string{"profile", "harbour-11", "strict-buffer"}, false, "strict-buffer = true", "strict-buffer = false"},
		{[]string{"default-environment"}, "test", `environment = "model"`, `environment = 'test'`},
		{[]string{"endpoint", "new one", "port"}, "x\"y", "strict-buffer = true\n", "strict-buffer = " +
			"true\n\n[endpoint.\"new one\"]\nport = 'x\"y'\n"},
	} {
		got, err := Set([]byte(written), c.path, c.value)
		require.NoError(t, err, "%v", c.path)
		assert.Equal(t, strings.Replace(written, c.old, c.new, 1), string(got))
	}
}

// A table may be written inline; what else stands in it keeps its place.
func TestInlineTablesAreChangedWithinTheirLine(t *testing.T) {
	const src = "desk = { user = \"a, b\", log-in = {address = 'x', body = '}'} } # inline\nempty = {}\n"
	for _, c := range []struct {
		path  string
		value any
		want  string
	}{
		{"desk.user", "c", "desk = { user = 'c', log-in = {address = 'x', body = '}'} } # inline\nempty = {}\n"},
		{"desk.note", "n", "desk = { user = \"a, b\", log-in = {address = 'x', body = '}'}, note = 'n' } # " +
			"inline\nempty = {}\n"},
		{"desk.user", nil, "desk = { log-in = {address = 'x', body = '}'} } # inline\nempty = {}\n"},
		{"desk.none", nil, src},
		{"desk.log-in.body", "y", "desk = { user = \"a, b\", log-in = { address = 'x', body = 'y' } } # " +
			"inline\nempty = {}\n"},
		{"desk.log-in.gives", "cookies", "desk = { user = \"a, b\", log-in = { address = 'x', body = '}', gives = " +
			"'cookies' } } # inline\nempty = {}\n"},
		{"desk.sign.key", "k", "desk = { user = \"a, b\", log-in = {address = 'x', body = '}'}, sign.key = 'k' } # " +
			"inline\nempty = {}\n"},
		{"empty.user", "u", strings.Replace(src, "{}", "{ user = 'u' }", 1)},
	} {
		got, err := Set([]byte(src), strings.Split(c.path, "."), c.value)
		if assert.NoError(t, err, c.path) {
			assert.Equal(t, c.want, string(got), c.path)
		}
	}
}

func FuzzSet(f *testing.F) {
	f.Add([]byte(written), "endpoint", "tides-tls", "port", "v")
	f.Add([]byte("a = '''x'''\n[b.c]\n"), "b", "c", "d", "\"'\n\x00")
	f.Add([]byte("b = { c = {d = 'x', e.f = [1, {g = 2}]}, \"\" = 1 }\n"), "b", "c", "d", "v")
	f.Fuzz(func(_ *testing.T, src []byte, a, b, c, v string) {
		// Either the file changes as meant, which Set checks itself, or it is refused.
		_, _ = Set(src, []string{a, b, c}, v)
	})
}
