package postgres

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/gofrs/flock"

	"orenda/internal/exchange"
	"orenda/internal/journal/disk"
	userfiles "orenda/internal/user"
)

// mostWaiting and mostWaitingBytes bound what waits on this machine.
const (
	mostWaiting      = 200_000
	mostWaitingBytes = 4 << 30
	handedAtOnce     = 64
)

// waiting is a journal on disk of what the server has not taken yet, shared by all that run on this
// machine. Secrets are cut out with the key of the space, which is kept beside it.
type waiting struct {
	dir     string
	handing *flock.Flock // one hands on at a time
	n       atomic.Int64 // how many wait, as far as this process knows

	mu sync.Mutex
	j  *disk.Journal // nil until something waits
}

func openWaiting(folder string, a *Address) (*waiting, error) {
	sum := sha256.Sum256([]byte(a.String()))
	w := &waiting{dir: filepath.Join(folder, hex.EncodeToString(sum[:8]))}
	if err := os.MkdirAll(w.dir, 0o700); err != nil {
		return nil, err
	}
	w.handing = flock.New(filepath.Join(w.dir, "handing"))
	if _, err := os.Stat(filepath.Join(w.dir, "journal.db")); err == nil { // of an earlier time
		j, err := w.open()
		if err != nil {
			return nil, err
		}
		w.recount(j)
	}
	return w, nil
}

func (w *waiting) keyFile() string { return filepath.Join(w.dir, "hash.key") }

// key is that of the space, as far as it is known here.
func (w *waiting) key() []byte {
	b, err := os.ReadFile(filepath.Join(w.dir, "known.key"))
	if err != nil || len(b) != 32 {
		return nil
	}
	return b
}

// keepKey keeps the key of the space for when the server is away.
func (w *waiting) keepKey(key []byte, then func()) error {
	then()
	if string(w.key()) == string(key) {
		return nil
	}
	err := userfiles.WriteFile(filepath.Join(w.dir, "known.key"), key)
	return errors.Join(err, userfiles.WriteFile(w.keyFile(), key))
}

func (w *waiting) open() (*disk.Journal, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.j != nil {
		return w.j, nil
	}
	if key := w.key(); key == nil { // the server was never there: hashes are of a key of this machine
		fresh := make([]byte, 32)
		_, _ = rand.Read(fresh)
		if _, err := os.Stat(w.keyFile()); err != nil {
			if err := userfiles.WriteFile(w.keyFile(), fresh); err != nil {
				return nil, err
			}
		}
	}
	j, err := disk.Open(w.dir)
	if err != nil {
		return nil, fmt.Errorf("what waits for the server cannot be kept here: %w", err)
	}
	w.j = j
	return j, nil
}

func (w *waiting) recount(j *disk.Journal) {
	if s, err := j.Size(); err == nil {
		w.n.Store(int64(s.Count))
	}
}

// lookAgain counts what other processes had wait.
func (w *waiting) lookAgain() {
	if _, err := os.Stat(filepath.Join(w.dir, "journal.db")); err != nil {
		return
	}
	if j, err := w.open(); err == nil {
		w.recount(j)
	}
}

func (w *waiting) empty() bool { return w.n.Load() == 0 }
func (w *waiting) count() int  { return int(w.n.Load()) }

func all(n int, err error) []error {
	out := make([]error, n)
	for i := range out {
		out[i] = err
	}
	return out
}

// add has exchanges wait.
func (w *waiting) add(list []*exchange.Exchange) []error {
	j, err := w.open()
	if err != nil {
		return all(len(list), err)
	}
	if w.n.Load() >= mostWaiting {
		return all(len(list), fmt.Errorf("%d exchanges wait for the server of the journal: no more "+
			"are kept", mostWaiting))
	}
	if s, err := j.Size(); err == nil && s.Bytes > mostWaitingBytes {
		return all(len(list), errors.New("too much waits for the server of the journal: no more is kept"))
	}
	errs := j.AddAll(list)
	for _, err := range errs {
		if err == nil {
			w.n.Add(1)
		}
	}
	return errs
}

// some gives the oldest of what waits to hand, and forgets what that kept.
func (w *waiting) some(hand func([]*exchange.Exchange) (kept []bool, err error)) error {
	j, err := w.open()
	if err != nil {
		return err
	}
	if ok, err := w.handing.TryLock(); err != nil || !ok {
		return errors.Join(err, errors.New("another process hands it on"))
	}
	defer func() { _ = w.handing.Unlock() }()
	list, err := j.Oldest(handedAtOnce)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		w.recount(j)
		return nil
	}
	kept, err := hand(list)
	var gone []string
	for i, k := range kept {
		if k {
			gone = append(gone, list[i].ID)
		}
	}
	if len(gone) > 0 {
		err = errors.Join(err, j.Forget(gone...))
	}
	w.recount(j)
	if err == nil && len(gone) == 0 {
		return errors.New("nothing of it was taken")
	}
	return err
}

func (w *waiting) close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.j == nil {
		return nil
	}
	return w.j.Close()
}
