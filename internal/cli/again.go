package cli

import (
	"context"
	"sync"
)

// Again is how a service is asked to read its file again: SIGHUP.
type Again struct {
	mu sync.Mutex
	do func()
}

// Ask asks; false: nobody reads anything again.
func (a *Again) Ask() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.do != nil {
		a.do()
	}
	return a.do != nil
}

// on says what is done when it is asked.
func (a *Again) on(do func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.do = do
}

type againKey struct{}

// WithAgain is a context by which a command can be asked to read its file again.
func WithAgain(ctx context.Context, a *Again) context.Context {
	return context.WithValue(ctx, againKey{}, a)
}

func againOf(ctx context.Context) *Again {
	if a, ok := ctx.Value(againKey{}).(*Again); ok {
		return a
	}
	return &Again{}
}
