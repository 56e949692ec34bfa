package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A policy that a house hands over in a file is attached to a contract: what it demands is told, held against
// what is set, and stays when the description is fetched again.
func TestAPolicyFromOutside(t *testing.T) {
	l := at(t)
	ws := filepath.Join(l.t.TempDir(), "w")
	require.Zero(t, first(l.run("-w", ws, "add", l.berths())))
	house := filepath.Join(l.dir, "house.xml")
	require.NoError(t, os.WriteFile(house, []byte(`<r:Rules xmlns:r="urn:skerry:house" xmlns:p="http://www.w3.org/ns/ws-policy"
	xmlns:sp="http://docs.oasis-open.org/ws-sx/ws-securitypolicy/200702"><p:PolicyAttachment><p:AppliesTo>
	<p:URI>#wsdl11.port(BerthDeskService/BerthDesk11)</p:URI></p:AppliesTo><p:Policy><sp:UsernameToken/></p:Policy></p:PolicyAttachment></r:Rules>`), 0o600))
	demanded := func() string {
		_, out, errs := l.run("-w", ws, "check", "FindBerths", "length=12", "--endpoint", "BerthDesk11")
		return out + errs
	}
	assert.NotContains(t, demanded(), "security.token-demanded")
	code, out, errs := l.run("-w", ws, "contract", "policy", "berth-desk", house)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "demands added: 1")
	assert.Contains(t, demanded(), "security.token-demanded")
	_, other, told := l.run("-w", ws, "check", "FindBerths", "length=12", "--endpoint", "BerthDesk12")
	assert.NotContains(t, other+told, "security.token-demanded", "it is another port")
	code, out, errs = l.run("-w", ws, "refresh", "berth-desk", "--take")
	require.Zero(t, code, "%s%s", out, errs)
	assert.NotContains(t, out, "UsernameToken", "nothing changed")
	assert.Contains(t, demanded(), "security.token-demanded")

	code, out, errs = l.run("--policy", house, "describe", l.berths())
	require.Zero(t, code, errs)
	assert.Contains(t, out, "user name token")
	for _, bad := range []string{filepath.Join(l.dir, "none.xml"), l.dir} {
		code, _, errs = l.run("-w", ws, "contract", "policy", "berth-desk", bad)
		assert.NotZero(t, code)
		assert.NotEmpty(t, errs)
	}
	// What of it applies to nothing here is told.
	other = filepath.Join(l.dir, "other.xml")
	require.NoError(t, os.WriteFile(other, []byte(`<p:PolicyAttachment xmlns:p="http://www.w3.org/ns/ws-policy"><p:AppliesTo>
	<p:URI>#wsdl11.port(BerthDeskService/BerthDesk10)</p:URI></p:AppliesTo><p:Policy/></p:PolicyAttachment>`), 0o600))
	code, out, errs = l.run("-w", ws, "contract", "policy", "berth-desk", other)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "demands added: 0")
	assert.Contains(t, errs, "there is no port BerthDesk10")
	require.NoError(t, os.WriteFile(house, []byte(`<a/>`), 0o600))
	code, _, errs = l.run("-w", ws, "contract", "policy", "berth-desk", house)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "holds no policy")
}
