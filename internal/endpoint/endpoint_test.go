package endpoint

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSizesAndTimesAsPeopleWriteThem(t *testing.T) {
	for in, want := range map[string]int64{"65536": 65536, "64 KiB": 65536, "64k": 65536, "2 MB": 2000000,
		"1.5MiB": 1572864,
		"65 536": 65536, "1g": 1 << 30} {
		got, err := ParseSize(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for _, bad := range []string{"", "many", "-1", "64 QiB", "99999999999 GiB", "1.2.3"} {
		n, err := ParseSize(bad)
		assert.Error(t, err, "%q gave %d", bad, n)
	}
	for in, want := range map[string]time.Duration{"30s": 30 * time.Second, "5 min": 5 * time.Minute,
		"1h30m": 90 * time.Minute,
		"250ms": 250 * time.Millisecond} {
		got, err := ParseDuration(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	assert.Equal(t, "2 MiB", FormatSize(RoundLimit(1482113)))
}

func TestEveryValueSaysItsLayer(t *testing.T) {
	s := Settings{Layers: []Layer{
		{"profile harbour-11", map[string][]string{"receive-limit": {"65536"}}},
		{"endpoint", map[string][]string{"soap": {"1.2"}, "trust": {"a.pem", "b.pem"}}},
	}}
	assert.Equal(
		t,
		Value{KeyOf("receive-limit"), "65536", []string{"65536"}, "profile harbour-11"},
		s.Get("receive-limit"),
	)
	assert.Equal(t, "default", s.Get("intake").Source)
	n, err := s.Size("buffer-limit")
	require.NoError(t, err)
	assert.EqualValues(t, 65536, n, "the buffer limit follows the receive limit")
	s.Set("receive-limit", "2 MiB")
	assert.Equal(t, "this call", s.Get("receive-limit").Source)
	assert.Equal(t, []string{"a.pem", "b.pem"}, s.List("trust"))
	assert.Len(t, s.Record(), len(Keys))
}

func TestVariables(t *testing.T) {
	vars := map[string]string{"tidehost": "127.0.0.1", "port": "8443"}
	got, err := Expand("https://${tidehost}:${port:-80}/${path:-tides}?cost=$$5", "model", vars)
	require.NoError(t, err)
	assert.Equal(t, "https://127.0.0.1:8443/tides?cost=$5", got)
	_, err = Expand("https://${tideHost}/", "model", vars)
	var unset *UnsetError
	require.ErrorAs(t, err, &unset)
	assert.Equal(t, "tidehost", unset.Near)
	assert.Equal(t, [2]int{8, 11}, [2]int{unset.Offset, unset.Length})
	assert.Equal(t, "the variable tideHost is not set in the environment model; tidehost is", err.Error())
	_, err = Expand("${open", "", vars)
	assert.ErrorContains(t, err, "not closed")
	assert.Equal(t, []string{"a", "b"}, Variables("${a}$${no}${b:-x}"))
}

func TestAddressesSayWhereTheyBreak(t *testing.T) {
	u, err := ParseAddress("https://[::1]/x")
	require.NoError(t, err)
	h, p := HostPort(u)
	assert.Equal(t, [2]string{"::1", "443"}, [2]string{h, p})
	for in, want := range map[string]string{"": "no address", "tides.test/x": "no scheme", "ftp://x/": "ftp is not a " +
		"scheme", "http://a b/": "' ' at position 9", "http:///x": "no host", "http://x:port/": "invalid port"} {
		_, err := ParseAddress(in)
		assert.ErrorContains(t, err, want, in)
	}
}

func TestValuesAreChecked(t *testing.T) {
	for key, bad := range map[string]string{"receive-limit": "0", "answer-time": "-3s", "token": "hunter2",
		"soap":        "1.3",
		"depth-limit": "x", "system-trust": "maybe"} {
		assert.Error(t, KeyOf(key).Check(bad), key)
	}
	assert.NoError(t, KeyOf("token").Check("Digest"), "case does not matter")
	assert.ErrorContains(t, KeyOf("token").Check("digset"), "digest is meant")
	assert.NoError(t, KeyOf("answer-time").Check("2 min"))
}

// What goes into a head holds no line break: it could begin another field.
func TestValuesOfHeadsAreOneLine(t *testing.T) {
	for key, bad := range map[string][]string{
		"header": {"X-A", "X-A: b\r\nX-Evil: c", "X A: b", ": b", "X-A: b\x00"},
		"action": {"a\nb"},
		"agent":  {"a\rb"},
	} {
		for _, v := range bad {
			if k := KeyOf(key); k != nil {
				assert.Error(t, k.Check(v), "%s %q", key, v)
			}
		}
	}
	assert.NoError(t, KeyOf("header").Check("X-Quay: north, and south"))
	assert.NoError(t, KeyOf("header").Check("X-Quay:"))
}
