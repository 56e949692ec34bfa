package call

import (
	"os"
	"path/filepath"
	"strconv"
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

// Where no variable says it, the configuration says where tickets are.
func TestTicketsWhereTheConfigurationSays(t *testing.T) {
	dir := t.TempDir()
	conf := filepath.Join(dir, "krb5.conf")
	t.Setenv("KRB5_CONFIG", conf)
	t.Setenv("KRB5CCNAME", "")
	uid := strconv.Itoa(os.Getuid())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "primary"), []byte("tktdesk\n"), 0o600))
	for said, want := range map[string]string{
		"FILE:/run/user/%{uid}/tickets": "/run/user/" + uid + "/tickets",
		"/run/t_%{USERID}":              "/run/t_" + uid,
		"DIR:" + dir:                    filepath.Join(dir, "tktdesk"),
		"DIR::" + dir + "/tktother":     dir + "/tktother",
		"DIR:" + dir + "/none":          dir + "/none/tkt",
	} {
		require.NoError(t, os.WriteFile(conf, []byte("[realms]\n default_ccache_name = /no\n[libdefaults]\n # default_ccache_name = /neither\n"+
			" default_ccache_name = "+said+"\n"), 0o600))
		got, err := ticketFile()
		require.NoError(t, err)
		assert.Equal(t, want, got, said)
	}
	require.NoError(t, os.WriteFile(conf, []byte("[libdefaults]\ndefault_ccache_name=KEYRING:persistent:%{uid}\n"), 0o600))
	_, err := ticketFile()
	require.ErrorContains(t, err, "default_ccache_name in "+conf+" is KEYRING:persistent:"+uid)
	require.NoError(t, os.Remove(conf))
	got, err := ticketFile()
	require.NoError(t, err)
	assert.Equal(t, "/tmp/krb5cc_"+uid, got)
}
