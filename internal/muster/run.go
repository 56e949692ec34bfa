package muster

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/xmltree"
)

// Outcome is what became of a case.
type Outcome string

// The outcomes.
const (
	AsExpected Outcome = "asExpected"
	Unexpected Outcome = "unexpected"
	NotRun     Outcome = "notRun"
)

// Result is what became of one case.
type Result struct {
	Name      string   `json:"name"`              // of the case
	Exchange  string   `json:"exchange"`          // id of the exchange, "" where it was not sent
	Outcome   Outcome  `json:"outcome"`           // asExpected, unexpected or notRun
	Why       []string `json:"why"`               // what was not as expected, or why it was not run
	TotalNs   int64    `json:"totalNs"`           // nanoseconds of the call
	Operation string   `json:"operation"`         // that was called
	Endpoint  string   `json:"endpoint"`          // over which
	Cause     string   `json:"cause,omitempty"`   // the finding that leads, where it was unexpected
	Against   string   `json:"against,omitempty"` // the last run: newlyFailed, mended, or "" the same
	LeftOut   bool     `json:"-"`                 // not run because nobody asked for it
}

// Counts are how many cases had each outcome.
type Counts struct {
	AsExpected int `json:"asExpected"` // answered as expected
	Unexpected int `json:"unexpected"` // not so
	NotRun     int `json:"notRun"`     // not sent
}

// Run is a run of a muster.
type Run struct {
	Muster  string    `json:"muster"`  // its name
	ID      string    `json:"id"`      // of the run
	Started time.Time `json:"started"` // when it began
	TookNs  int64     `json:"tookNs"`  // nanoseconds of the whole run
	Counts  Counts    `json:"counts"`  // of outcomes
	Cases   Results   `json:"cases"`   // in the order of the muster
	Times   Times     `json:"times"`   // of the calls that were made

	Slower  []Slower `json:"slower,omitempty"`  // operations that took longer than in the last run
	Changed []Pair   `json:"changed,omitempty"` // cases that were answered otherwise than in the last run
}

// Times are nanoseconds of calls, and how many there were a second.
type Times struct {
	Median    int64   `json:"medianNs"`  // half took no longer
	P95       int64   `json:"p95Ns"`     // 95 of 100 took no longer
	P99       int64   `json:"p99Ns"`     // 99 of 100
	Worst     int64   `json:"worstNs"`   // the longest
	PerSecond float64 `json:"perSecond"` // calls a second, over the whole run
}

// MaxAtOnce is how many calls run at once at most: this is no tool for loads.
const MaxAtOnce = 64

// Options say how a muster is run.
type Options struct {
	Plan    func(c *Case) (call.Plan, error) // how a case is called; its draft is not filled yet
	Refuses func(c *Case) string             // why a case is not to be sent; "" nothing speaks against it
	Keep    func(x *exchange.Exchange)       // told of each exchange, from several goroutines; may be nil
	Told    func(done, all int, r *Result)   // of each case that ended, one at a time; may be nil
	Last    *Last                            // what came of the last run; may be nil
	// Wants says by its last result, which may be nil, whether a case is run; nil: all. A
	// case whose reply one of these uses is run too.
	Wants  func(last *Result) bool
	AtOnce int              // calls at a time; 0: one
	Rate   float64          // cases begun a second at most; 0: as fast as it goes
	StopAt int              // unexpected ones after which no more are begun; 0: never
	Now    func() time.Time // the clock
}

// Go runs the cases. A run that is halted by its context gives what it has.
func (m *Muster) Go(ctx context.Context, o Options) *Run {
	run := &Run{Muster: m.Name, ID: exchange.NewID(o.Now()), Started: o.Now()}
	run.Cases = Results{name: func(i int) string { return m.Cases.At(i).Name }, all: make([]brief, m.Cases.Len())}
	g := &going{m: m, o: o, run: run, replies: map[string][]byte{}, pools: make(chan *wire.Pool, MaxAtOnce)}
	for _, c := range m.Cases.All() {
		for _, v := range c.Values {
			if v.From != "" {
				g.replies[v.From] = nil // what is needed later
			}
		}
	}
	began := time.Now()
	g.all(ctx)
	run.TookNs = int64(time.Since(began))
	for len(g.pools) > 0 {
		(<-g.pools).Close()
	}
	run.Sum()
	return run
}

// going is a run under way.
type going struct {
	m   *Muster
	o   Options
	run *Run

	mu       sync.Mutex
	done     int
	wrong    int
	replies  map[string][]byte // of cases whose values later ones use
	sessions call.Sessions
	pools    chan *wire.Pool // of kept connections that nobody uses now
}

// all begins the cases in their order. One that uses the reply of an earlier one waits
// until all before it have ended.
func (g *going) all(ctx context.Context) {
	var under sync.WaitGroup
	room := make(chan struct{}, min(max(g.o.AtOnce, 1), MaxAtOnce))
	next := time.Now()
	wanted := g.m.wanted(&g.o)
	for i, of := range g.m.Cases.All() {
		c := &of
		was := g.o.last(c)
		switch {
		case !wanted[i]:
			g.end(i, was, Result{Name: c.Name, Outcome: NotRun, Why: []string{"not asked for"}, LeftOut: true})
			continue
		case ctx.Err() != nil:
			g.end(i, was, Result{Name: c.Name, Outcome: NotRun, Why: []string{"the run was halted"}})
			continue
		case g.o.StopAt > 0 && g.failed() >= g.o.StopAt:
			g.end(i, was, Result{Name: c.Name, Outcome: NotRun, Why: []string{"the run ended before it"}})
			continue
		}
		if slices.ContainsFunc(c.Values, func(v Value) bool { return v.From != "" }) {
			under.Wait()
		}
		if g.o.Rate > 0 {
			select {
			case <-time.After(time.Until(next)):
			case <-ctx.Done():
			}
			next = next.Add(time.Duration(float64(time.Second) / g.o.Rate))
		}
		room <- struct{}{}
		under.Go(func() {
			defer func() { <-room }()
			g.end(i, was, g.one(ctx, c))
		})
		if g.o.StopAt > 0 && g.o.AtOnce <= 1 {
			under.Wait()
		}
	}
	under.Wait()
}

// last is the case's result in the last run, or nil.
func (o *Options) last(c *Case) *Result {
	if r, known := o.Last.Get(c.Name); known {
		return &r
	}
	return nil
}

// wanted tells of each case whether it is run: a case uses replies of earlier ones only.
func (m *Muster) wanted(o *Options) []bool {
	out, used := make([]bool, m.Cases.Len()), map[string]bool{}
	for i := len(out) - 1; i >= 0; i-- {
		c := m.Cases.At(i)
		out[i] = o.Wants == nil || o.Wants(o.last(&c)) || used[c.Name]
		if out[i] {
			for _, v := range c.Values {
				used[v.From] = true
			}
		}
	}
	return out
}

func (g *going) failed() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.wrong
}

func (g *going) end(i int, was *Result, r Result) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if r.Why == nil {
		r.Why = []string{}
	}
	if was != nil {
		switch {
		case was.Outcome == AsExpected && r.Outcome == Unexpected:
			r.Against = "newlyFailed"
		case was.Outcome == Unexpected && r.Outcome == AsExpected:
			r.Against = "mended"
		}
	}
	g.run.Cases.put(i, r)
	g.done++
	if r.Outcome == Unexpected {
		g.wrong++
	}
	if g.o.Told != nil {
		g.o.Told(g.done, g.m.Cases.Len(), &r)
	}
}

// one runs one case.
func (g *going) one(ctx context.Context, c *Case) Result {
	r := Result{Name: c.Name, Outcome: NotRun}
	not := func(why string, args ...any) Result {
		r.Why = []string{fmt.Sprintf(why, args...)}
		return r
	}
	p, err := g.o.Plan(c)
	if err != nil {
		return not("%v", err)
	}
	r.Operation, r.Endpoint = p.Operation, p.Endpoint
	if len(c.Expect) > 0 {
		p.Settings.Set("expect", c.Expect...)
	}
	if len(c.Values) > 0 && p.Draft != nil {
		d := message.NewDraft(p.Draft.Schemas, p.Draft.Decl, p.Draft.Bytes())
		for _, v := range c.Values {
			text, err := g.value(v)
			if err != nil {
				return not("%v", err)
			}
			if err := d.Set(v.Path, text); err != nil {
				return not("%v", err)
			}
		}
		p.Draft = d
	}
	if why := g.o.Refuses(c); why != "" {
		return not("%s", why)
	}
	p.Sessions, p.Keep = &g.sessions, g.o.Keep
	p.Pool = g.pool()
	x := call.New(p, nil).Run(ctx)
	g.pools <- p.Pool
	if g.o.Keep != nil {
		g.o.Keep(x)
	}
	g.remember(c, x)
	r.Exchange, r.TotalNs, r.Outcome = x.ID, x.TotalNs, AsExpected
	if x.Outcome == exchange.OutcomeCancelled {
		return not("the run was halted")
	}
	if x.Outcome != exchange.OutcomePassed {
		r.Outcome = Unexpected
		r.Why, r.Cause = why(x)
	}
	if diagnose.HeldBack(x) {
		r.Outcome, r.Cause = NotRun, ""
	}
	return r
}

// pool is a pool of kept connections for one call at a time.
func (g *going) pool() *wire.Pool {
	select {
	case p := <-g.pools:
		return p
	default:
		return &wire.Pool{}
	}
}

// why are the reasons of a call that did not pass, each a line, and the first finding.
func why(x *exchange.Exchange) (lines []string, cause string) {
	for _, f := range x.Findings {
		if f.Severity == exchange.Note {
			continue
		}
		if cause == "" {
			cause = f.ID
		}
		if len(lines) < 3 {
			lines = append(lines, f.Title+" ("+f.ID+"): "+f.Why)
		}
	}
	if lines == nil {
		lines = []string{"it stopped at " + x.StoppedAt.String()}
	}
	return lines, cause
}

// remember keeps the reply of a case whose values later ones use.
func (g *going) remember(c *Case, x *exchange.Exchange) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, wanted := g.replies[c.Name]; !wanted {
		return
	}
	if l := x.Leg(); l != nil {
		g.replies[c.Name] = l.Readable()
	}
}

// value is what a field is set to.
func (g *going) value(v Value) (string, error) {
	if v.From == "" {
		return v.Text, nil
	}
	g.mu.Lock()
	reply := g.replies[v.From]
	g.mu.Unlock()
	d, err := xmltree.Parse(reply, xmltree.Limits{})
	if err != nil || len(reply) == 0 {
		return "", fmt.Errorf("the case %q gave no reply to take %s from", v.From, v.Field)
	}
	n := d.Root()
	if e := soap.Read(d); e != nil && !e.Payload.IsZero() {
		n = e.Payload
	}
	text, _, ok := message.Lookup(n, v.Field)
	if !ok {
		return "", fmt.Errorf("the reply of %q has no %s", v.From, v.Field)
	}
	return text, nil
}

// Sum counts, and finds the times.
func (r *Run) Sum() {
	r.Counts = Counts{}
	took := make([]int64, 0, r.Cases.Len())
	for c := range r.Cases.All() {
		switch c.Outcome {
		case AsExpected:
			r.Counts.AsExpected++
		case Unexpected:
			r.Counts.Unexpected++
		default:
			r.Counts.NotRun++
			continue
		}
		took = append(took, c.TotalNs)
	}
	if len(took) == 0 {
		return
	}
	slices.Sort(took)
	at := func(share float64) int64 { return took[min(int(share*float64(len(took))), len(took)-1)] }
	r.Times = Times{Median: at(0.5), P95: at(0.95), P99: at(0.99), Worst: took[len(took)-1]}
	if r.TookNs > 0 {
		r.Times.PerSecond = float64(len(took)) / (float64(r.TookNs) / 1e9)
	}
}

// Asked takes the cases away that nobody asked for.
func (r *Run) Asked() {
	r.Cases.drop(func(c *Result) bool {
		if c.LeftOut {
			r.Counts.NotRun--
		}
		return c.LeftOut
	})
}

// ByCause are the unexpected cases, grouped by what led to them, the commonest first.
func (r *Run) ByCause() (causes []string, of map[string][]Result) {
	of = map[string][]Result{}
	for c := range r.Cases.All() {
		if c.Outcome != Unexpected {
			continue
		}
		if of[c.Cause] == nil {
			causes = append(causes, c.Cause)
		}
		of[c.Cause] = append(of[c.Cause], c)
	}
	slices.SortStableFunc(causes, func(a, b string) int { return len(of[b]) - len(of[a]) })
	return causes, of
}
