package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// How long the server is waited for. A call takes no more than three seconds longer while it is
// away: what is tried once and fails is not tried again for a while.
const (
	connectTime = 1200 * time.Millisecond
	answerTime  = 2500 * time.Millisecond // for what a call waits for
	readTime    = 20 * time.Second        // for what a person waits for
	restTime    = 30 * time.Second        // for which a server that is away is left alone, until it is heard of
	leaveTime   = 2 * time.Second         // at the end, for handing on what waits
)

// Journal is a journal in PostgreSQL.
type Journal struct {
	store *store
	wait  *waiting // what waits here while the server is away
	from  exchange.Origin

	away    atomic.Int64 // until when the server is left alone, nanoseconds since 1970; 0: it is there
	version atomic.Int64
	news    atomic.Pointer[string]
	adding  sync.Mutex // one at a time: what waits goes before what comes
	ctx     context.Context
	end     context.CancelFunc
	ended   sync.WaitGroup
}

// ErrAway means that the server of the journal cannot be reached now.
var ErrAway = errors.New("the server of the journal is away")

// Open opens the journal at an address. What cannot be handed to the server waits in a folder of
// the person's. A server that is away when it is opened is no error.
func Open(a *Address, folder string) (*Journal, error) {
	press, err := journal.NewPress()
	if err != nil {
		return nil, err
	}
	pool, err := pgxpool.NewWithConfig(context.Background(), a.config)
	if err != nil {
		return nil, err
	}
	j := &Journal{store: &store{pool: pool, a: a, press: press}, from: here()}
	if j.wait, err = openWaiting(filepath.Join(folder, "waiting"), a); err != nil {
		pool.Close()
		return nil, err
	}
	if key := j.wait.key(); key != nil {
		j.store.known.Store(&key)
	}
	j.ctx, j.end = context.WithCancel(context.Background())
	if err := j.begin(); err != nil && !isAway(err) {
		j.end()
		_ = j.wait.close()
		pool.Close()
		return nil, err
	} else if err != nil {
		j.isAway(err)
	}
	j.ended.Go(j.listen)
	j.ended.Go(j.handOn)
	return j, nil
}

// begin looks whether the server is there, and makes ready what has to be.
func (j *Journal) begin() error {
	ctx, cancel := context.WithTimeout(j.ctx, answerTime)
	defer cancel()
	if err := j.store.pool.Ping(ctx); err != nil {
		return err
	}
	ctx, cancel = context.WithTimeout(j.ctx, readTime) // another one may be making the tables
	defer cancel()
	return j.prepare(ctx)
}

// here is who keeps exchanges on this machine.
func here() (o exchange.Origin) {
	o.Machine, _ = os.Hostname()
	if u, err := user.Current(); err == nil {
		o.Person = u.Username
	}
	return o
}

// prepare makes sure that the tables are there, and learns the key of the space.
func (j *Journal) prepare(ctx context.Context) error {
	if err := migrate(ctx, j.store.pool); err != nil {
		return err
	}
	key, err := spaceKey(ctx, j.store.pool, j.store.a)
	if err != nil {
		return err
	}
	return j.wait.keepKey(key, func() { j.store.known.Store(&key) })
}

// Shared tells that several share it.
func (*Journal) Shared() bool { return true }

// String is where it is.
func (j *Journal) String() string { return j.store.a.String() }

// isAway notes that the server is away, and says so once.
func (j *Journal) isAway(err error) {
	if j.away.Swap(time.Now().Add(restTime).UnixNano()) == 0 {
		said := fmt.Sprintf("the journal at %s is away (%v); what is kept waits on this "+
			"machine", j.store.a.Host, short(err))
		j.news.Store(&said)
		j.version.Add(1)
	}
}

// isBack notes that it is there.
func (j *Journal) isBack() {
	if j.away.Swap(0) != 0 {
		said := fmt.Sprintf("the journal at %s is back", j.store.a.Host)
		j.news.Store(&said)
		j.version.Add(1)
	}
}

// short is an error in one line without what pgx repeats.
func short(err error) string {
	s := []rune(err.Error())
	return string(s[:min(len(s), 120)])
}

// ask asks the server, unless it is left alone.
func (j *Journal) ask(limit time.Duration, do func(ctx context.Context) error) error {
	if time.Now().UnixNano() < j.away.Load() {
		return ErrAway
	}
	ctx, cancel := context.WithTimeout(j.ctx, limit)
	defer cancel()
	err := do(ctx)
	switch {
	case err == nil:
		j.isBack()
	case isAway(err):
		j.isAway(err)
		return fmt.Errorf("%w: %s", ErrAway, short(err))
	}
	return err
}

// News implements journal.Journal.
func (j *Journal) News() string {
	if s := j.news.Swap(nil); s != nil {
		return *s
	}
	return ""
}

// Version implements journal.Journal.
func (j *Journal) Version() int64 { return j.version.Load() }

// listen is told of what others keep.
func (j *Journal) listen() {
	for j.ctx.Err() == nil {
		err := j.hear()
		if j.ctx.Err() != nil {
			return
		}
		if err != nil {
			j.isAway(err)
		}
		select {
		case <-j.ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (j *Journal) hear() error {
	conn, err := pgx.ConnectConfig(j.ctx, j.store.a.config.ConnConfig)
	if err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = conn.Close(ctx)
	}()
	if _, err := conn.Exec(j.ctx, "LISTEN "+pgx.Identifier{j.store.a.channel()}.Sanitize()); err != nil {
		return err
	}
	j.isBack()       // nobody has to try it first
	j.version.Add(1) // something may have come before
	for {
		if _, err := conn.WaitForNotification(j.ctx); err != nil {
			return err
		}
		j.version.Add(1)
	}
}

// Add implements journal.Journal.
func (j *Journal) Add(x *exchange.Exchange) error { return j.AddAll([]*exchange.Exchange{x})[0] }

// AddAll keeps several exchanges at once: at the server, or, while it is away or others wait
// already, on this machine until it is back.
func (j *Journal) AddAll(all []*exchange.Exchange) []error {
	errs := make([]error, len(all))
	cut := make([]*exchange.Exchange, len(all))
	for i, x := range all {
		c := *x
		if c.From == nil {
			c.From = &exchange.Origin{}
		}
		from := j.from
		from.Relay = c.From.Relay
		if c.From.Machine == "" {
			c.From = &from
		}
		cut[i] = &c
	}
	j.adding.Lock()
	defer j.adding.Unlock()
	if j.wait.empty() {
		err := j.ask(answerTime, func(ctx context.Context) (err error) { errs, err = j.put(ctx, cut); return err })
		if err == nil {
			j.version.Add(1)
			return errs
		}
		if !errors.Is(err, ErrAway) {
			for i := range errs {
				errs[i] = err
			}
			return errs
		}
	}
	errs = j.wait.add(cut)
	j.version.Add(1)
	return errs
}

// put keeps exchanges at the server.
func (j *Journal) put(ctx context.Context, all []*exchange.Exchange) ([]error, error) {
	if j.store.key() == nil {
		if err := j.prepare(ctx); err != nil {
			return make([]error, len(all)), err
		}
	}
	records := make([]journal.Record, len(all))
	errs := make([]error, len(all))
	var good []journal.Record
	var at []int
	for i, x := range all {
		if records[i], errs[i] = journal.NewRecord(x, j.store.key(), true, nil); errs[i] == nil {
			good, at = append(good, records[i]), append(at, i)
		}
	}
	said, err := j.store.add(ctx, good)
	for i, e := range said {
		errs[at[i]] = e
	}
	return errs, err
}

// handOn hands on what waits, in its order, whenever the server is there.
func (j *Journal) handOn() {
	const look = 20 // times, for what another process left
	for n := 1; ; n++ {
		if n%look == 0 {
			j.wait.lookAgain()
		}
		select {
		case <-j.ctx.Done():
			return
		case <-time.After(300 * time.Millisecond):
		}
		for !j.wait.empty() && j.ctx.Err() == nil {
			if j.handSome() != nil {
				break
			}
		}
	}
}

// handSome hands on some of what waits.
func (j *Journal) handSome() error {
	return j.wait.some(func(all []*exchange.Exchange) (kept []bool, err error) {
		kept = make([]bool, len(all))
		err = j.ask(readTime, func(ctx context.Context) error {
			errs, err := j.put(ctx, all)
			for i, e := range errs {
				kept[i] = err == nil && (e == nil || errors.Is(e, journal.ErrTaken))
			}
			return err
		})
		return kept, err
	})
}

// Waiting is how many exchanges wait on this machine.
func (j *Journal) Waiting() int { return j.wait.count() }

// Close implements journal.Journal. What waits is handed on, if the server is there; else it
// waits for the next time.
func (j *Journal) Close() error {
	for until := time.Now().Add(leaveTime); !j.wait.empty() && time.Now().Before(until); {
		if j.handSome() != nil {
			break
		}
	}
	j.end()
	j.ended.Wait()
	j.store.pool.Close()
	return j.wait.close()
}
