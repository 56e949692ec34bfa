package state

import (
	"context"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/user"
)

// runner owns every goroutine that the application starts: calls, fetches, checks,
// and what is looked up for a view. It ends them and waits for them.
type runner struct {
	ctx    context.Context //nolint:containedctx // it lives as long as what it owns
	cancel context.CancelFunc
	mu     sync.Mutex       // for what begins against the end: nothing begins after it
	all    sync.WaitGroup   // what was begun
	fault  chan *user.Fault // the first panic of what runs in the background
}

func newRunner() *runner {
	r := &runner{fault: make(chan *user.Fault, 1)}
	r.ctx, r.cancel = context.WithCancel(context.Background())
	return r
}

// Go does something in the background. Its context ends when the application does,
// or when halt is called. Once the application has ended it is not begun.
func (r *runner) Go(do func(ctx context.Context)) (halt context.CancelFunc) {
	ctx, halt := context.WithCancel(r.ctx)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ctx.Err() != nil {
		return halt
	}
	r.all.Go(func() {
		defer halt()
		defer func() {
			if v := recover(); v != nil {
				select {
				case r.fault <- &user.Fault{Value: v, Stack: debug.Stack()}:
				default: // the first is told
				}
				r.End()
			}
		}()
		do(ctx)
	})
	return halt
}

// Fault gives the panic of something in the background, which ends the application.
func (s *State) Fault() <-chan *user.Fault { return s.run.fault }

// End halts everything. What has ended keeps what it has to keep, so Wait follows.
func (r *runner) End() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cancel()
}

// Wait waits after End until all has ended, but no longer than limit: false where something
// has not.
func (r *runner) Wait(limit time.Duration) bool {
	ended := make(chan struct{})
	go func() {
		r.all.Wait()
		close(ended)
	}()
	select {
	case <-ended:
		return true
	case <-time.After(limit):
		return false
	}
}

// Looked is what a look in the background found. The program's loop takes it.
type Looked struct{ take func() }

// known is what was looked up, and whether it still holds.
type known struct {
	value any
	holds bool
}

// Known gives what is known under a key, and has it looked up in the background
// where nothing is, or what is does not hold any more. Views draw with it: none of
// them waits for a disk, the journal or a call. A zero value comes until then.
func Known[T any](s *State, key string, find func(ctx context.Context) T) T {
	k := s.known[key]
	if !k.holds {
		s.look(key, func(ctx context.Context) func() {
			v := find(ctx)
			return func() { s.known[key] = known{v, true} }
		})
	}
	v, _ := k.value.(T)
	return v
}

// Stale has everything looked up again whose key begins so, the next time that it
// is asked for. Until it is found what was known is shown.
func (s *State) Stale(prefix string) {
	s.round++
	for key, k := range s.known {
		if strings.HasPrefix(key, prefix) {
			s.known[key] = known{k.value, false}
		}
	}
}

// look has something found out in the background, once at a time for a key: what
// find gives is taken in the program's loop.
func (s *State) look(key string, find func(ctx context.Context) (take func())) {
	if s.looking[key] {
		return
	}
	s.looking[key] = true
	round := s.round
	found := make(chan func(), 1)
	s.looks = append(s.looks, func() tea.Msg {
		s.run.Go(func(ctx context.Context) { found <- find(ctx) })
		var take func()
		select {
		case take = <-found:
		case <-s.run.ctx.Done(): // the application ends
		}
		return Looked{func() {
			delete(s.looking, key)
			if take != nil {
				take()
			}
			if k, is := s.known[key]; is && round != s.round { // it was asked for before the last change
				s.known[key] = known{k.value, false}
			}
		}}
	})
}

// Looks are what is to be looked up since it was asked last, for Bubble Tea to run.
func (s *State) Looks() tea.Cmd {
	if len(s.looks) == 0 {
		return nil
	}
	cmds := s.looks
	s.looks = nil
	return tea.Batch(cmds...)
}

// TakeLook takes what was looked up.
func (s *State) TakeLook(l Looked) { l.take() }
