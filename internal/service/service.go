// Package service runs relays as a service: several routes from one file, read again without
// dropping a connection, with metrics, probes and spans.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/relay"
	"orenda/internal/spans"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// Options are what a service runs with.
type Options struct {
	File      string               // of the relays
	Workspace *workspace.Workspace // whose endpoints they may lead to; nil: none
	Home      *user.Home           // the person's folders
	Journal   journal.Journal      // where exchanges are kept
	Log       *slog.Logger         // what happens
	Spans     *spans.Sender        // nil: none are sent

	// Describes loads the contract of a route.
	Describes func(ctx context.Context, source string) (*contract.Contract, error)
}

// Service runs relays.
type Service struct {
	o       Options
	head    workspace.Routes
	metrics *metrics
	behind  *journal.Behind
	probes  *http.Server

	mu       sync.Mutex
	running  map[string]*running
	ready    atomic.Bool
	draining sync.WaitGroup // relays that were taken out of the file
}

// running is a relay that runs.
type running struct {
	route *workspace.Route
	r     *relay.Relay
}

// Start reads the file and begins to listen.
func Start(ctx context.Context, o Options) (*Service, error) {
	head, routes, err := workspace.ReadService(o.File)
	if err != nil {
		return nil, err
	}
	if len(routes) == 0 {
		return nil, fmt.Errorf("%s holds no relay", o.File)
	}
	if os.Geteuid() == 0 {
		o.Log.Warn("it runs as root, and needs no such right")
	}
	s := &Service{o: o, head: head, running: map[string]*running{}}
	s.metrics = newMetrics(s)
	s.behind = journal.NewBehind(journal.Adding(o.Journal), s.kept)
	if head.Metrics != "" {
		if err := s.serveProbes(head.Metrics); err != nil {
			s.behind.Close()
			return nil, err
		}
	}
	if err := s.take(ctx, routes); err != nil {
		s.End(context.Background())
		return nil, err
	}
	s.ready.Store(true)
	return s, nil
}

// Addresses are where programs call, by the names of relays.
func (s *Service) Addresses() map[string][]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string][]string{}
	for name, one := range s.running {
		out[name] = one.r.Addresses()
	}
	return out
}

// Reload reads the file again. Where it cannot be read, or a relay cannot begin, all goes on as it
// was, and err says why.
func (s *Service) Reload(ctx context.Context) error {
	_, routes, err := workspace.ReadService(s.o.File)
	if err == nil && len(routes) == 0 {
		err = errors.New("it holds no relay")
	}
	if err == nil {
		err = s.take(ctx, routes)
	}
	if err != nil {
		s.o.Log.Error("the file was not taken; all goes on as it was", "file", s.o.File, "why", err.Error())
		return err
	}
	s.o.Log.Info("the file was read again", "file", s.o.File, "relays", len(routes))
	return nil
}

// take has the relays of a file run: those that run already go on with what is new.
func (s *Service) take(ctx context.Context, routes []*workspace.Route) error {
	type made struct {
		route *workspace.Route
		o     relay.Options
		here  func(string)
	}
	var all []made
	for _, r := range routes { // all are looked at before anything changes
		o, here, err := s.options(ctx, r)
		if err != nil {
			return fmt.Errorf("relay.%s: %w", r.Name, err)
		}
		all = append(all, made{r, o, here})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	fresh := map[string]*running{}
	var begun []*relay.Relay
	for _, m := range all {
		was := s.running[m.route.Name]
		if was != nil && was.route.Listen == m.route.Listen && was.route.ListenTLS == m.route.ListenTLS {
			fresh[m.route.Name] = &running{m.route, was.r}
			continue
		}
		r, err := relay.Listen(m.o)
		if err != nil {
			for _, r := range begun {
				r.Close()
			}
			return fmt.Errorf("relay.%s: %w", m.route.Name, err)
		}
		begun = append(begun, r)
		fresh[m.route.Name] = &running{m.route, r}
	}
	for _, m := range all {
		one := fresh[m.route.Name]
		if was := s.running[m.route.Name]; was != nil && was.r == one.r && !reflect.DeepEqual(was.route, one.route) {
			one.r.Update(m.o)
		}
		m.here(one.r.Address())
		s.o.Log.Info("relay", "name", m.route.Name, "listens", one.r.Addresses(), "leads", m.o.To.Redacted())
	}
	for name, was := range s.running {
		if one := fresh[name]; one == nil || one.r != was.r {
			s.draining.Go(func() { s.drain(was.r) })
			s.o.Log.Info("relay ends", "name", name)
		}
	}
	s.running = fresh
	return nil
}

func (s *Service) drain(r *relay.Relay) {
	most, err := s.head.Drain()
	if err != nil {
		most = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	r.Drain(ctx)
}

// options are those of a relay, with what is kept and counted of its calls.
func (s *Service) options(ctx context.Context, r *workspace.Route) (o relay.Options, here func(string), err error) {
	var contracts []*contract.Contract
	if r.Contract != "" {
		c, err := s.o.Describes(ctx, r.Contract)
		if err != nil {
			return o, nil, err
		}
		contracts = append(contracts, c)
	}
	t, err := s.o.Workspace.Traced(r.Leads(), "", contracts...)
	if err != nil {
		return o, nil, err
	}
	if o, _, err = r.Options(s.o.Home, t); err != nil {
		return o, nil, err
	}
	wanted, err := r.Sampling()
	if err != nil {
		return o, nil, err
	}
	cut, err := r.Trimming()
	if err != nil {
		return o, nil, err
	}
	change, name := o.Change, r.Name
	o.Change = func(w *call.Imported) {
		change(w)
		w.Through = name
		s.continueTrace(w)
	}
	o.TurnedAway = func(why string) { s.o.Log.Warn("turned away", "relay", name, "why", why) }
	o.Keep = func(x *exchange.Exchange) {
		s.metrics.count(name, x, t.Contracts)
		s.tell(name, x)
		if s.o.Spans != nil {
			s.o.Spans.Send(x)
		}
		if wanted(x) {
			s.metrics.ended(x.ID)
			s.behind.Add(cut(x))
		}
	}
	return o, t.Here, nil
}

// continueTrace goes on with the trace of the program that calls, or begins one, where spans are
// sent; else the program's own fields pass as they are.
func (s *Service) continueTrace(w *call.Imported) {
	if s.o.Spans == nil {
		return
	}
	const parent = "traceparent"
	var came, state string
	for _, f := range w.Header {
		switch http.CanonicalHeaderKey(f[0]) {
		case "Traceparent":
			came = f[1]
		case "Tracestate":
			state = f[1]
		}
	}
	w.Trace = exchange.NewTrace(came, state)
	w.Header = slices.DeleteFunc(
		w.Header,
		func(f [2]string) bool { return http.CanonicalHeaderKey(f[0]) == "Traceparent" },
	)
	w.Header = append(w.Header, [2]string{parent, w.Trace.Header()})
}

// tell logs what did not pass; what passed is for those who want much.
func (s *Service) tell(name string, x *exchange.Exchange) {
	level, cause := slog.LevelDebug, ""
	if x.Outcome == exchange.OutcomeStopped {
		level = slog.LevelWarn
		if c := x.Cause(); c != nil {
			cause = c.ID
		}
	}
	if !s.o.Log.Enabled(context.Background(), level) {
		return
	}
	c := x.Redact(nil)
	s.o.Log.Log(context.Background(), level, "call", "relay", name, "exchange", c.ID, "operation", c.Operation,
		"outcome", string(c.Outcome), "finding", cause, "result", c.Result, "ms", float64(c.TotalNs)/1e6)
}

// kept is told of each exchange once it is kept.
func (s *Service) kept(x *exchange.Exchange, err error) {
	s.metrics.isKept(x.ID, err)
	if err != nil {
		s.o.Log.Error("an exchange was not kept", "exchange", x.ID, "why", err.Error())
	}
	if news := s.o.Journal.News(); news != "" {
		s.o.Log.Warn("journal", "news", news)
	}
}

// serveProbes serves /metrics, /livez and /readyz.
func (s *Service) serveProbes(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("metrics: %w", err)
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", s.metrics.handler())
	mux.HandleFunc("GET /livez", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") })
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, _ *http.Request) {
		if !s.ready.Load() {
			http.Error(w, "it begins, or it ends", http.StatusServiceUnavailable)
			return
		}
		fmt.Fprintln(w, "ok")
	})
	s.probes = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = s.probes.Serve(l) }()
	s.o.Log.Info("metrics and probes", "address", l.Addr().String())
	return nil
}

// End takes no more calls, lets those under way end for as long as the file says, and keeps what
// passed.
func (s *Service) End(ctx context.Context) {
	s.ready.Store(false)
	s.mu.Lock()
	all := s.running
	s.running = map[string]*running{}
	s.mu.Unlock()
	most, err := s.head.Drain()
	if err != nil {
		most = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	var wg sync.WaitGroup
	for _, one := range all {
		wg.Go(func() { one.r.Drain(ctx) })
	}
	wg.Wait()
	s.draining.Wait()
	s.behind.Close()
	if s.o.Spans != nil {
		s.o.Spans.Close()
	}
	if s.probes != nil {
		_ = s.probes.Close()
	}
}
