package disk

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

func record(n int, body []byte) *exchange.Exchange {
	x := &exchange.Exchange{
		ID:        fmt.Sprintf("2701-%03d", n),
		Started:   time.Unix(int64(n), 0),
		Workspace: "/w",
		Operation: "YearTable",
		Endpoint:  "tides",
		Outcome:   exchange.OutcomePassed,
		Secrets:   []string{"slack water"},
	}
	r := exchange.NewRecorder(x, nil)
	l := r.NewLeg("", exchange.Spill{})
	r.Out(l, []byte("POST slack water"), 16)
	r.In(l, body)
	l.Response.Complete, l.Response.BodySize = true, int64(len(body))
	return x
}

func open(t testing.TB, dir string) *Journal {
	t.Helper()
	j, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	return j
}

func TestExchangesAreKeptAndFoundAgain(t *testing.T) {
	dir := t.TempDir()
	j := open(t, dir)
	big := make([]byte, 3<<20)
	_, _ = rand.Read(big)
	require.NoError(t, j.Add(record(1, []byte("small"))))
	before := j.Version()
	require.NoError(t, j.Add(record(2, big)))
	assert.NotEqual(t, before, j.Version())
	list, err := j.List(journal.Query{Workspace: "/w"})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "2701-002", list[0].ID, "newest first")
	assert.Empty(t, list[0].Leg().In.Bytes())
	x, err := j.Get("2701-002")
	require.NoError(t, err)
	assert.Equal(t, big, x.Leg().In.Bytes())
	assert.NoFileExists(t, filepath.Join(dir, "large", "2701-001.z"))
	assert.FileExists(t, filepath.Join(dir, "large", "2701-002.z"))
	x, err = j.Get("last")
	require.NoError(t, err)
	assert.Equal(t, "2701-002", x.ID)
	_, err = j.Get("2701-0")
	assert.ErrorContains(t, err, "several")
	_, err = j.Get("nope")
	assert.ErrorIs(t, err, journal.ErrNotFound)
	sizes := j.ReplySizes("YearTable")
	assert.Len(t, sizes, 2)
	assert.EqualValues(t, len(big), slices.Max(sizes))
}

func TestFilesArePrivateAndHoldNoSecret(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	j := open(t, dir)
	require.NoError(t, j.Add(record(1, []byte("you said slack water"))))
	require.NoError(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, p)
		if !info.IsDir() {
			b, _ := os.ReadFile(p)
			assert.NotContains(t, string(b), "slack")
		}
		return nil
	}))
	x, err := j.Get("last")
	require.NoError(t, err)
	assert.NotContains(t, string(x.Leg().Out)+string(x.Leg().In.Bytes()), "slack")
}

func TestOtherProcessesAreNoticed(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	before := a.Version()
	require.NoError(t, b.Add(record(1, nil)))
	assert.NotEqual(t, before, a.Version())
}

// What was reported as kept survives the kill of the process.
func TestKilledWhileKeeping(t *testing.T) {
	if dir := os.Getenv("ORENDA_KEEP_LOOP"); dir != "" {
		j, err := Open(dir)
		require.NoError(t, err)
		for i := 0; ; i++ {
			require.NoError(t, j.Add(record(i, []byte(strings.Repeat("x", i)))))
			fmt.Println("kept", i)
		}
	}
	for range 10 {
		dir := t.TempDir()
		cmd := exec.Command(os.Args[0], "-test.run", "TestKilledWhileKeeping$")
		cmd.Env = append(os.Environ(), "ORENDA_KEEP_LOOP="+dir)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		last := -1
		buf := make([]byte, 4096)
		for last < 20 {
			n, err := out.Read(buf)
			require.NoError(t, err)
			for _, line := range strings.Split(string(buf[:n]), "\n") {
				_, _ = fmt.Sscanf(line, "kept %d", &last)
			}
		}
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		j, err := Open(dir)
		require.NoError(t, err)
		_, err = j.Get(fmt.Sprintf("2701-%03d", last))
		assert.NoError(t, err, "exchange %d was reported as kept", last)
		j.Close()
	}
}

// A journal that is damaged is put aside as it is, and another begun, once, also
// where several programs meet it at the same time.
func TestADamagedJournalIsPutAside(t *testing.T) {
	for name, damage := range map[string]func(path string) []byte{
		"not a database": func(path string) []byte {
			return []byte(strings.Repeat("slack water at the north quay\n",
				300))
		},
		"cut short": func(path string) []byte {
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			return b[:len(b)/2]
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, "journal.db")
			first, err := Open(dir)
			require.NoError(t, err)
			assert.Empty(t, first.Damaged)
			for i := range 40 {
				require.NoError(t, first.Add(record(i, []byte(strings.Repeat(fmt.Sprint(i), 2000)))))
			}
			require.NoError(t, first.Close())
			was := damage(path)
			require.NoError(t, os.WriteFile(path, was, 0o600))

			var put []string
			var mu sync.Mutex
			var all sync.WaitGroup
			for i := range 4 {
				all.Go(func() {
					j, err := Open(dir)
					if !assert.NoError(t, err) {
						return
					}
					defer j.Close()
					assert.NoError(t, j.Add(record(100+i, nil)))
					mu.Lock()
					defer mu.Unlock()
					if j.Damaged != "" {
						put = append(put, j.Damaged)
					}
				})
			}
			all.Wait()
			require.Len(t, put, 1)
			got, err := os.ReadFile(put[0])
			require.NoError(t, err)
			assert.Equal(t, was, got)
			list, err := open(t, dir).List(journal.Query{})
			require.NoError(t, err)
			assert.Len(t, list, 4)
		})
	}
}

// The same id with other content is an error, never a replacement; the same
// exchange again is kept once.
func TestAnIDIsNeverTakenTwice(t *testing.T) {
	for name, j := range map[string]journal.Journal{"disk": open(t, t.TempDir()), "memory": &journal.Memory{}} {
		first := record(1, []byte("the first"))
		require.NoError(t, j.Add(first))
		require.NoError(t, j.Add(first), "%s: once more is no change", name)
		other := record(1, []byte("another"))
		assert.ErrorIs(t, j.Add(other), journal.ErrTaken, name)
		kept, err := j.Get(first.ID)
		require.NoError(t, err)
		assert.Equal(t, "the first", string(kept.Leg().In.Bytes()), name)
		list, err := j.List(journal.Query{})
		require.NoError(t, err)
		assert.Len(t, list, 1)

		first.Findings = []exchange.Finding{{ID: "wait.closed", Title: "judged"}}
		require.NoError(t, j.Judge(first))
		kept, err = j.Get(first.ID)
		require.NoError(t, err)
		assert.Equal(t, "judged", kept.Findings[0].Title, name)
		assert.Equal(t, "the first", string(kept.Leg().In.Bytes()), name)
		assert.ErrorIs(t, j.Judge(record(77, nil)), journal.ErrNotFound)
	}
}

// Many writers of one moment lose nothing: ids do not meet.
func TestManyAtOnceAreAllKept(t *testing.T) {
	j := open(t, t.TempDir())
	now := time.Now()
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 50 {
				x := record(1, nil)
				x.ID, x.Started = exchange.NewID(now), now
				assert.NoError(t, j.Add(x))
			}
		})
	}
	all.Wait()
	list, err := j.List(journal.Query{Max: 1000})
	require.NoError(t, err)
	require.Len(t, list, 400)
	for _, x := range list {
		n := j.Tail(x.ID)
		assert.GreaterOrEqual(t, n, exchange.MinIDPart)
		got, err := j.Get(x.ID[len(x.ID)-n:])
		if assert.NoError(t, err, "what a list shows stronger is enough") {
			assert.Equal(t, x.ID, got.ID)
		}
	}
}
