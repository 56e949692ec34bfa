package call

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tickets that are no file are not taken for tickets that are not there.
func TestTicketsInTheKeyringAreNotMissing(t *testing.T) {
	t.Setenv("KRB5CCNAME", "KEYRING:persistent:0")
	_, err := ticketFile()
	require.ErrorContains(t, err, "read from files alone")
	for is, want := range map[string]string{"FILE:/run/t": "/run/t", "/run/t": "/run/t", "/run/a:b": "/run/a:b"} {
		t.Setenv("KRB5CCNAME", is)
		got, err := ticketFile()
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}
