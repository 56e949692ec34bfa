package pac

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// house is a file as a company has it.
const house = `// the house's proxies
var OUT = "PROXY out.skerry.test:3128; DIRECT";
function FindProxyForURL(url, host) {
  host = host.toLowerCase(); /* names
     have no case */
  if (isPlainHostName(host) || dnsDomainIs(host, ".skerry.test") && !shExpMatch(host, "*.lab.skerry.test"))
    return "DIRECT";
  if (isInNet(host, "10.0.0.0", "255.0.0.0")) { return 'SOCKS inner:1080'; }
  else if (url.substring(0, 6) == "https:" && host.length > 30) return "HTTPS long.test:443";
  var lab = shExpMatch(host, "*.lab.*") ? "PROXY lab:8080" : OUT;
  return lab;
}
`

func TestWhichRuleChoosesWhat(t *testing.T) {
	for _, row := range []struct {
		address string
		choice  []string
		sure    bool
		line    int
	}{
		{"http://quay/berths", []string{"direct"}, true, 7},
		{"http://Berths.Skerry.test/x", []string{"direct"}, true, 7},
		{"http://a.lab.skerry.test/x", []string{"http://lab:8080"}, false, 11},
		{"http://10.4.5.6/x", []string{"socks5://inner:1080"}, true, 8},
		{"http://192.0.2.7/x", []string{"http://out.skerry.test:3128", "direct"}, true, 11},
		{"https://a-name-that-is-longer-than-thirty.example.net/", []string{"https://long.test:443"}, false, 9},
	} {
		r, err := Read([]byte(house), row.address)
		require.NoError(t, err, row.address)
		assert.Equal(t, row.choice, r.Choice, row.address)
		assert.Equal(t, row.sure, r.Sure, row.address)
		assert.Equal(t, row.line, r.Line, row.address)
	}
	r, err := Read([]byte(house), "http://a.example.net/")
	require.NoError(t, err)
	require.Len(t, r.Rules, 3)
	assert.Equal(t, Rule{
		Line: 8, Condition: `isInNet(host, "10.0.0.0", "255.0.0.0")`, Holds: Unknown,
		Why: "the address of a.example.net is not looked up", Choice: "SOCKS inner:1080",
	}, r.Rules[1], "what depends on the network is said, with what it would choose")
	assert.Equal(t, No, r.Rules[2].Holds)
}

func TestWhatIsNotReadIsSaid(t *testing.T) {
	for src, says := range map[string]string{
		"": "no function FindProxyForURL",
		"function FindProxyForURL(u, h) { for (;;) {} }":                    "line 1: for is not read",
		"function FindProxyForURL(u, h) {\n if (h == ) return 1; }":         `line 2: ")" is not understood`,
		"function FindProxyForURL(u, h) { if (h == 'x') return 'DIRECT'; }": "chooses nothing",
		"function FindProxyForURL(u, h) {":                                  `"}" was due`,
	} {
		_, err := Read([]byte(src), "http://quay/")
		assert.ErrorContains(t, err, says, src)
	}
	r, err := Read([]byte(`function FindProxyForURL(u, h) { if (weekdayRange("MON")) return "DIRECT"; return ours(h); }`), "http://quay/")
	require.NoError(t, err)
	assert.False(t, r.Sure)
	assert.Empty(t, r.Choice)
	assert.Equal(t, "it depends on the time", r.Rules[0].Why)
	r, err = Read([]byte("function FindProxyForURL(u, h) { return \"PROXY \x1b[31mx:1; PROXY quay:81; PROXY [::1]:8\"; }"), "http://quay/")
	require.NoError(t, err)
	assert.Equal(t, []string{"http://quay:81", "http://[::1]:8"}, r.Choice, "what is no host is no proxy")
	_, err = Read([]byte(house), "quay")
	assert.ErrorContains(t, err, "no address")
}

func FuzzRead(f *testing.F) {
	f.Add(house, "http://10.4.5.6/x")
	f.Add("function FindProxyForURL(a){return((((", "http://x")
	f.Add("/*", "http://x")
	f.Fuzz(func(t *testing.T, src, address string) {
		r, err := Read([]byte(src), address)
		if err == nil {
			assert.NotNil(t, r.Rules)
		}
	})
}
