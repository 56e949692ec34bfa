package wssec

import (
	"encoding/hex"
	"os/exec"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Keys are made as OpenSSL makes them: its TLS1-PRF by SHA-1 alone is P_SHA-1.
func TestKeysAreMadeAsOthersMakeThem(t *testing.T) {
	for _, c := range []struct{ secret, seed string }{
		{"a word of the gate", "a word of the desk"},
		{strings.Repeat("ebb", 40), "flow"},
	} {
		for _, n := range []int{1, 16, 20, 32, 64, 100} {
			out, err := exec.Command("openssl", "kdf", "-keylen", strconv.Itoa(n), "-kdfopt", "digest:SHA1",
				"-kdfopt", "hexsecret:"+hex.EncodeToString([]byte(c.secret)),
				"-kdfopt", "hexseed:"+hex.EncodeToString([]byte(c.seed)), "TLS1-PRF").CombinedOutput()
			require.NoError(t, err, string(out))
			want := strings.ToLower(strings.ReplaceAll(strings.TrimSpace(string(out)), ":", ""))
			assert.Equal(t, want, hex.EncodeToString(PSHA1([]byte(c.secret), []byte(c.seed), n)))
		}
	}
}
