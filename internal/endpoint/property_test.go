package endpoint

import (
	"errors"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The number that is offered holds what did not fit, reads back as the same
// number, and is not needlessly large.
func TestTheLimitThatIsOfferedHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	for range 5000 {
		n := r.Int64N(1 << (4 + r.IntN(40)))
		limit := RoundLimit(n)
		assert.GreaterOrEqual(t, limit, n)
		if n > 1<<16 {
			assert.LessOrEqual(t, limit, 4*n, "%d", n)
		}
		back, err := ParseSize(FormatSize(limit))
		require.NoError(t, err)
		assert.Equal(t, limit, back, FormatSize(limit))
		assert.NoError(t, KeyOf("receive-limit").Check(FormatSize(limit)))
	}
}

// A server may announce any number: there is a limit to what is offered.
func TestNoLimitHoldsWhatCannotBe(t *testing.T) {
	for _, n := range []int64{4e18, 8e18, math.MaxInt64, math.MaxInt64 - 1} {
		assert.Equal(t, int64(1)<<62, RoundLimit(n), "%d", n)
	}
}

// What went wrong in choosing says what was meant, where that can be known.
func TestErrorsNameTheNearMiss(t *testing.T) {
	for _, c := range []struct {
		err   error
		words []string
	}{
		{&AmbiguousError{Operation: "FindBerths", Endpoints: []Alternative{{Name: "plain"}, {Name: "tls"}}},
			[]string{"FindBerths",
				"plain", "tls"}},
		{&MissingError{Operation: "FindBerths", Name: "bertsh", Near: "berths"}, []string{"bertsh", "berths"}},
		{&OperationError{Name: "findBerths", Near: "FindBerths"}, []string{"findBerths", "FindBerths"}},
		{&EnvironmentError{Name: "modell"}, []string{"modell"}},
		{&IdentityError{Name: "dsek", Near: "desk"}, []string{"dsek", "desk"}},
		{&HostNewError{Identity: "desk", Scheme: "https", Host: "quay.skerry.test", Port: "443"}, []string{"desk",
			"quay.skerry.test"}},
		{&FileError{Key: KeyOf("client-cert"), Path: "desk.pem", Err: errors.New("it is damaged")}, []string{"desk.pem",
			"it is damaged"}},
	} {
		for _, w := range c.words {
			assert.Contains(t, c.err.Error(), w)
		}
	}
	damaged := errors.New("it is damaged")
	assert.ErrorIs(t, &FileError{Path: "x", Err: damaged}, damaged)
}

// FuzzAddress holds that any template ends in an address or in an error whose
// place lies in the template.
func FuzzAddress(f *testing.F) {
	for _, s := range []string{"https://${host}:${port:-443}/x", "${", "$$", "${a:-${b}}", "http://a b/", "ftp://x",
		"http://[::1", "http://x:99999/", "${host", "é${h}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, template string) {
		vars := map[string]string{"host": "quay.skerry.test", "h": "", "port": "80"}
		address, err := Expand(template, "model", vars)
		var unset *UnsetError
		var broken *TemplateError
		switch {
		case errors.As(err, &unset):
			require.True(t, unset.Offset >= 0 && unset.Offset+unset.Length <= len(template), "%q: %+v", template, unset)
			require.Contains(t, template[unset.Offset:unset.Offset+unset.Length], unset.Name)
			require.Contains(t, Variables(template), unset.Name)
			return
		case errors.As(err, &broken):
			return
		}
		require.NoError(t, err)
		if !strings.Contains(template, "$") {
			require.Equal(t, template, address)
		}
		u, err := ParseAddress(address)
		if err != nil {
			var bad *AddressError
			require.ErrorAs(t, err, &bad)
			return
		}
		host, port := HostPort(u)
		require.NotEmpty(t, host)
		require.NotEmpty(t, port)
	})
}
