package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/compare"
	"orenda/internal/contract"
	"orenda/internal/xmltree"
)

// killedApplication kills the application while it sends and keeps. What it has kept is
// there, and its files can be read.
func killedApplication(t *testing.T, r *rand.Rand, e *endured, dir string, env []string) {
	e.tries++
	cmd := exec.Command(binary(t), "-w", dir)
	cmd.Env = append(append(os.Environ(), "TERM=xterm-256color"), env...)
	screen, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 120})
	require.NoError(t, err)
	read := make(chan struct{})
	go func() {
		defer close(read)
		_, _ = io.Copy(io.Discard, screen)
	}()
	time.Sleep(100 * time.Millisecond)
	for _, k := range []string{"p", "g", "d", "D", "g", "b", "g"} {
		_, _ = io.WriteString(screen, k)
		time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	screen.Close()
	<-read
	for _, args := range [][]string{{"journal", "list"}, {"draft", "list"}, {"endpoint", "list"}} {
		if got := orenda(t, env, append([]string{"-w", dir}, args...)...); got.code != 0 || strings.Contains(got.err, "damaged") {
			e.failed("%v after a kill: %d %s", args, got.code, got.err)
		}
	}
}

// fullDisk fills the disk on which home and workspace are: what cannot be saved says so
// and changes nothing, and once there is room everything works again.
func fullDisk(t *testing.T, r *rand.Rand, e *endured, plain string) {
	const script = `
mount -t tmpfs -o size=2m none "$1" || exit 42
cd "$1"; export ORENDA_HOME="$1/home"
"$2" -w "$1/ws" add "http://$3/berths?wsdl" >/dev/null 2>&1 || exit 43
"$2" -w "$1/ws" endpoint set BerthDesk11 answer-time=7s >/dev/null || exit 44
dd if=/dev/zero of="$1/full" bs=1k >/dev/null 2>&1
cat "$1/ws/orenda.toml" >"$5"
"$2" -w "$1/ws" endpoint set BerthDesk11 "receive-limit=$4" "header=X-Long: $(printf %04000d 0)" >"$5.said" 2>"$5.err"
[ $? -ne 0 ] || exit 45
[ ! -s "$5.said" ] || exit 46
cmp -s "$1/ws/orenda.toml" "$5" || exit 47
"$2" -w "$1/ws" call FindBerths length=12 --endpoint BerthDesk11 --reply none 2>"$5.err" || exit 48
grep -q "not kept" "$5.err" || exit 49
rm "$1/full"
"$2" -w "$1/ws" endpoint set BerthDesk11 "receive-limit=$4" >/dev/null || exit 50
"$2" -w "$1/ws" call FindBerths length=12 --endpoint BerthDesk11 --reply none 2>"$5.err" || exit 51
[ "$("$2" -w "$1/ws" journal list --json | grep -c '"id"')" -ge 1 ] || exit 52
`
	const mayNot = 42
	e.tries++
	cmd := exec.Command("unshare", "-rm", "sh", "-c", script, "sh", t.TempDir(), binary(t), plain,
		fmt.Sprintf("%d KiB", 1024+r.IntN(1000)), t.TempDir()+"/out")
	out, err := cmd.CombinedOutput()
	switch code := cmd.ProcessState.ExitCode(); {
	case code == mayNot || code < 0 || code == 1:
		t.Logf("a full disk cannot be had here: %s", bytes.TrimSpace(out))
	case err != nil:
		e.failed("a full disk: step %d: %s", code, out)
	}
}

// clockSet calls while the clock is set back and forth: the last call is the last one, and
// none is lost.
func clockSet(t *testing.T, r *rand.Rand, e *endured, plain string, env []string, kept map[string]bool) {
	e.tries++
	by := time.Duration(r.IntN(20000)-10000) * time.Hour
	shifted := append([]string{"ORENDA_CLOCK_SHIFT=" + by.String()}, env...)
	got := orenda(t, shifted, callArgs(plain, "--json")...)
	var x, last struct{ ID string }
	if got.code != 0 || json.Unmarshal([]byte(got.out), &x) != nil {
		e.failed("a call with the clock set by %s: %d %s", by, got.code, got.err)
		return
	}
	kept[x.ID] = true
	got = orenda(t, env, "journal", "show", "last", "--json")
	if got.code != 0 || json.Unmarshal([]byte(got.out), &last) != nil || last.ID != x.ID {
		e.failed("the last call with the clock set by %s is %s, not %s: %s", by, last.ID, x.ID, got.err)
	}
}

// nowhere gives no file.
func nowhere(context.Context, string) ([]byte, error) { return nil, os.ErrNotExist }

// manyMutated gives changed bytes to the readers themselves.
func manyMutated(t *testing.T, r *rand.Rand, e *endured) {
	const many = 400
	b := []byte{}
	defer func() {
		if p := recover(); p != nil {
			e.failed("%q: %v", b, p)
		}
	}()
	for range many {
		b = mutation(r)
		e.tries++
		_, _ = xmltree.ParseEncoded(b, "", xmltree.Limits{})
		_, _ = call.FromHAR(b)
		_, _ = contract.Load(t.Context(), "input.wsdl", b, nowhere)
		if w, err := call.ImportedFrom(b, mutation(r)); err == nil {
			_ = call.Explain(t.Context(), call.Plan{Agent: "test"}, w)
		}
		compare.Sides(&compare.Side{Request: b}, &compare.Side{Request: mutation(r)}, true)
	}
}
