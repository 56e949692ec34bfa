package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/journal/postgres/pgserver"
)

// served runs relays of a file as another user, who may write into its own folder only, and gives
// the address of each.
func served(t *testing.T, file, state string) (at map[string][]string, cmd *exec.Cmd) {
	t.Helper()
	cmd = exec.Command(binary(t), "relay", "--config", file)
	cmd.Dir = "/"
	cmd.Env = []string{"ORENDA_HOME=" + state, "TMPDIR=" + state, "PATH=/usr/bin:/bin"}
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(state, 65534, 65534))
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	log, err := os.CreateTemp(t.TempDir(), "log")
	require.NoError(t, err)
	cmd.Stderr = log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if b, err := os.ReadFile(log.Name()); err == nil && t.Failed() {
			t.Log(string(b))
		}
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	var said struct{ Listening map[string][]string }
	require.NoError(t, json.Unmarshal([]byte(line), &said))
	return said.Listening, cmd
}

// open to others: test folders are for one user only.
func shared(t *testing.T, name string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "orenda-team-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // the other user reads it
	sub := filepath.Join(dir, name)
	require.NoError(t, os.Mkdir(sub, 0o755)) //nolint:gosec // the same
	return sub
}

// Two relays, a PostgreSQL and two applications: a failing call of a program at one relay is seen in
// both, opened, explained and compared; and the server's end loses nothing.
func TestATeamLooksAtTheSameCalls(t *testing.T) {
	pg := pgserver.Start(t)
	h := harbour(t)
	quay := pg.Journal("quay")
	bin := filepath.Dir(binary(t))
	if info, err := os.Stat(bin); err != nil || info.Mode().Perm()&0o005 != 0o005 {
		t.Skip("the other user cannot reach the program")
	}
	var at []string
	var services []*exec.Cmd
	for _, name := range []string{"north", "south"} {
		dir := shared(t, "service")
		file := filepath.Join(filepath.Dir(dir), "relays.toml")
		text := fmt.Sprintf("journal = %q\n[relay.%s]\nto = \"http://%s/berths\"\ncontract = \"http://%s/berths?wsdl\"\n",
			quay, name, h.Plain, h.Plain)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) //nolint:gosec // the other user reads it
		addresses, cmd := served(t, file, dir)
		at, services = append(at, addresses[name][0]), append(services, cmd)
	}
	send := func(relay int, length string) int {
		q, err := http.NewRequest(http.MethodPost, at[relay], strings.NewReader(
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths">`+
				`<length>`+length+`</length></FindBerths></s:Body></s:Envelope>`))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "text/xml; charset=utf-8")
		q.Header.Set("SOAPAction", `"urn:skerry:berths:FindBerths"`)
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		r.Body.Close()
		return r.StatusCode
	}
	var people []*screen
	for range 2 {
		dir, env := workspace(t, "", "http://"+h.Plain+"/berths?wsdl")
		s := open(t, 158, 47, append(env, "ORENDA_JOURNAL="+quay), "-w", dir)
		s.sees("FindBerths")
		s.keys("t")
		s.sees("exchanges")
		people = append(people, s)
	}
	require.Equal(t, 200, send(1, "12"))
	for _, s := range people {
		s.sees("(south@", "1 kept")
	}
	require.Equal(t, 500, send(0, "9000"))
	for _, s := range people { // the cursor follows the newest
		s.sees("(north@", "(south@", "2 kept")
		s.keys("Enter")
		s.sees("stopped at read", "why")
		s.keys("t", "space", "Down", "space", "=")
		s.sees("differences", "9000")
		s.keys("t")
	}

	pg.Kill()
	for range 5 {
		require.Equal(t, 200, send(0, "14"))
	}
	people[0].sees("is away")
	pg.Run()
	for _, s := range people {
		s.sees("7 kept")
	}
	require.Eventually(t, func() bool {
		n, err := pg.Column("keeper", `SELECT count(*) FROM orenda.exchange`)
		return err == nil && n[0] == "7"
	}, patience(), 100*time.Millisecond)

	// What is asked to end does, having kept what passed; asked to read again, it goes on.
	require.NoError(t, services[0].Process.Signal(syscall.SIGHUP))
	time.Sleep(300 * time.Millisecond)
	require.Equal(t, 200, send(0, "16"))
	for _, cmd := range services {
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		require.NoError(t, cmd.Wait())
	}
	n, err := pg.Column("keeper", `SELECT count(*) FROM orenda.exchange`)
	require.NoError(t, err)
	assert.Equal(t, "8", n[0])
}

// The unit shuts the service in.
func TestTheUnitIsShutIn(t *testing.T) {
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("systemd-analyze is not installed here")
	}
	out, err := exec.Command("systemd-analyze", "security", "--offline=true", "../../deploy/orenda-relay.service").CombinedOutput()
	m := regexp.MustCompile(`exposure level for \S+: ([0-9.]+)`).FindSubmatch(out)
	require.NotNil(t, m, "%v: %s", err, out)
	level, err := strconv.ParseFloat(string(m[1]), 64)
	require.NoError(t, err)
	assert.Less(t, level, 2.0)
}
