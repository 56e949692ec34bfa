package disk

import (
	"bytes"
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
	files, err := filepath.Glob(filepath.Join(dir, "large", "*.z"))
	require.NoError(t, err)
	assert.Len(t, files, 1, "what is too large for the database is in a file")
	x, err = j.Get("last")
	require.NoError(t, err)
	assert.Equal(t, "2701-002", x.ID)
	_, err = j.Get("2701-0")
	assert.ErrorContains(t, err, "several")
	_, err = j.Get("nope")
	assert.ErrorIs(t, err, journal.ErrNotFound)
	sizes := j.ReplySizes("YearTable", nil)
	assert.Len(t, sizes, 2)
	assert.EqualValues(t, len(big), slices.Max(sizes))
	assert.Len(t, j.ReplySizes("YearTable", x), 2)
	other := *x
	other.Contract, other.Workspace = "another", "/another"
	assert.Empty(t, j.ReplySizes("YearTable", &other), "no number comes from another service")
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
	for name, damage := range map[string]func(b []byte) []byte{
		"not a database": func([]byte) []byte { return []byte(strings.Repeat("slack water at the north quay\n", 300)) },
		"cut short":      func(b []byte) []byte { return b[:len(b)/2] },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, "journal.db")
			first, err := Open(dir)
			require.NoError(t, err)
			assert.Empty(t, first.News())
			for i := range 40 {
				require.NoError(t, first.Add(record(i, []byte(strings.Repeat(fmt.Sprint(i), 2000)))))
			}
			require.NoError(t, first.Close())
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			was := damage(b)
			require.NoError(t, os.WriteFile(path, was, 0o600))

			var told []string
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
					if news := j.News(); news != "" {
						told = append(told, news)
					}
				})
			}
			all.Wait()
			require.Len(t, told, 1)
			put, err := filepath.Glob(filepath.Join(dir, "journal-damaged-*.db"))
			require.NoError(t, err)
			require.Len(t, put, 1)
			assert.Contains(t, told[0], put[0])
			got, err := os.ReadFile(put[0])
			require.NoError(t, err)
			assert.Equal(t, was, got)
			list, err := open(t, dir).List(journal.Query{})
			require.NoError(t, err)
			assert.GreaterOrEqual(t, len(list), 4)
		})
	}
}

// Damage that is met while the journal is open costs the exchanges that stood there,
// and none of the others: they are in the new journal, and so is what comes.
func TestADamagedPageCostsOnlyWhatStoodThere(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "journal.db")
	j := open(t, dir)
	const all = 300
	for i := range all {
		require.NoError(t, j.Add(record(i, []byte(strings.Repeat(fmt.Sprint(i), 3000)))))
	}
	require.NoError(t, j.Mark(record(0, nil).ID, journal.Mark{Pinned: true, Note: "the first"}))
	_, err := j.db.Exec(`PRAGMA wal_checkpoint(TRUNCATE)`)
	require.NoError(t, err)
	other := open(t, dir) // a second program has it open as well
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	for page := 20; page < 23; page++ {
		_, err = f.WriteAt(bytes.Repeat([]byte{0x5a}, 4096), int64(page)*4096)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	require.Greater(t, len(b), 40*4096)

	require.NoError(t, j.Close())
	j, err = Open(dir)
	require.NoError(t, err)
	defer j.Close()
	_, _ = j.List(journal.Query{Max: all}) // whoever reads all of it meets the damage
	for i := range all {
		_, _ = j.Get(record(i, nil).ID)
	}
	require.NoError(t, j.Add(record(all, nil)), "what is sent now is kept")
	require.NoError(t, other.Add(record(all+1, nil)), "by the other program too, in the same place")
	list, err := j.List(journal.Query{Max: 2 * all})
	require.NoError(t, err)
	assert.Greater(t, len(list), all-30)
	assert.Equal(t, record(all+1, nil).ID, list[0].ID)
	assert.Contains(t, j.News(), "was damaged")
	assert.Empty(t, j.News(), "it is told once")
	marks, err := j.Marks()
	require.NoError(t, err)
	assert.Equal(t, "the first", marks[record(0, nil).ID].Note, "what the person wrote is not lost")
}

// Long runs of bytes are kept beside the record, equal ones once, and come back as
// they were.
func TestLongBytesAreKeptOnce(t *testing.T) {
	dir := t.TempDir()
	j := open(t, dir)
	for _, size := range []int{apart + 1, inline + 1} {
		body := []byte(strings.Repeat("North quay ", size/11+1))
		for i := range 3 {
			require.NoError(t, j.Add(record(size+i, body)))
		}
		got, err := j.Get(record(size, nil).ID)
		require.NoError(t, err)
		assert.Equal(t, body, got.Leg().In.Bytes())
		assert.Empty(t, got.Leg().Apart)
		require.NoError(t, j.Add(got), "what was read again is the same exchange")
	}
	var runs int
	require.NoError(t, j.db.QueryRow(`SELECT count(*) FROM bytes`).Scan(&runs))
	assert.Equal(t, 2, runs)
}

// Bytes that several exchanges share are theirs in a journal that was salvaged too.
func TestWhatIsSalvagedKeepsItsHolders(t *testing.T) {
	dir := t.TempDir()
	j := open(t, dir)
	body := []byte(strings.Repeat("North quay ", apart/11+1))
	for i := range 3 {
		require.NoError(t, j.Add(record(i, body)))
	}
	require.NoError(t, j.Close())
	path := filepath.Join(t.TempDir(), "new.db")
	db, err := connect(path)
	require.NoError(t, err)
	defer db.Close()
	assert.Equal(t, 3, salvage(filepath.Join(dir, "journal.db"), db))
	var holders int
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM holds`).Scan(&holders))
	assert.Equal(t, 3, holders)
}

// A clock that was set wrongly once does not make an old exchange the last one.
func TestTheLastIsTheOneThatWasKeptLast(t *testing.T) {
	j := open(t, t.TempDir())
	future := record(1, nil)
	future.Started = time.Date(2090, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, j.Add(future))
	require.NoError(t, j.Add(record(2, nil)))
	last, err := j.Get("last")
	require.NoError(t, err)
	assert.Equal(t, record(2, nil).ID, last.ID)
	assert.Equal(t, last.ID, j.Passed("/w", "YearTable", "tides").ID)
	list, err := j.List(journal.Query{})
	require.NoError(t, err)
	assert.Equal(t, last.ID, list[0].ID)
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

// The newest are found by an index, however many there are.
func TestTheNewestAreFoundByAnIndex(t *testing.T) {
	j, err := Open(t.TempDir())
	require.NoError(t, err)
	defer j.Close()
	for _, query := range []string{
		"SELECT head FROM exchange ORDER BY place DESC, started DESC, id DESC LIMIT 50",
		"SELECT head FROM exchange WHERE workspace = 'w' ORDER BY place DESC, started DESC, id DESC LIMIT 50",
		"SELECT id FROM exchange ORDER BY place DESC, started DESC LIMIT 1",
		"SELECT id FROM exchange ORDER BY place, started LIMIT 10",
		"SELECT place, head FROM exchange WHERE place > 7 ORDER BY place LIMIT 10",
	} {
		rows, err := j.db.Query("EXPLAIN QUERY PLAN " + query)
		require.NoError(t, err)
		plan := ""
		for rows.Next() {
			var a, b, c int
			var step string
			require.NoError(t, rows.Scan(&a, &b, &c, &step))
			plan += step + "\n"
		}
		rows.Close()
		assert.Contains(t, plan, "INDEX", query)
		assert.NotContains(t, plan, "TEMP B-TREE", query)
	}
}
