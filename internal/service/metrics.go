package service

import (
	"net/http"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"orenda/internal/contract"
	"orenda/internal/exchange"
)

// metrics are what a monitoring system reads. Names of operations come from contracts: what a
// program calls besides is “other”, so that no caller can make the series grow.
type metrics struct {
	registry *prometheus.Registry
	calls    *prometheus.CounterVec
	stages   *prometheus.HistogramVec
	lag      prometheus.Histogram
	unkept   prometheus.Counter

	mu      sync.Mutex
	waiting map[string]time.Time // exchanges that are not kept yet, by id: since when
}

func newMetrics(s *Service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		calls: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "orenda_calls_total",
			Help: "Calls that passed through, by relay, operation, outcome and the finding that leads."},
			[]string{"relay", "operation", "outcome", "finding"}),
		stages: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "orenda_stage_seconds",
			Help: "Time of each stage of a " +
				"call.", Buckets: prometheus.ExponentialBuckets(0.0005, 2, 16)}, //nolint:mnd // 0.5 ms to 16 s
			[]string{"relay", "stage"}),
		lag: prometheus.NewHistogram(prometheus.HistogramOpts{Name: "orenda_journal_lag_seconds",
			Help: "Time from the end of a call until it is " +
				"kept.", Buckets: prometheus.ExponentialBuckets(0.001, 2, 16)}),
		unkept: prometheus.NewCounter(
			prometheus.CounterOpts{Name: "orenda_journal_errors_total", Help: "Exchanges that could not be kept."},
		),
		waiting: map[string]time.Time{},
	}
	gauge := func(name, help string, value func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value)
	}
	m.registry.MustRegister(m.calls, m.stages, m.lag, m.unkept, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		gauge("orenda_journal_waiting", "Exchanges that wait in memory to be kept.", func() float64 {
			m.mu.Lock()
			defer m.mu.Unlock()
			return float64(len(m.waiting))
		}),
		gauge("orenda_spool_waiting", "Exchanges that wait on disk while the journal's server is "+
			"away.", func() float64 {
			if j, ok := s.o.Journal.(interface{ Waiting() int }); ok {
				return float64(j.Waiting())
			}
			return 0
		}),
		gauge("orenda_spans_dropped", "Spans that were not sent.", func() float64 {
			if s.o.Spans == nil {
				return 0
			}
			return float64(s.o.Spans.Dropped())
		}),
		gauge("orenda_connections", "Connections of programs that are open.", func() float64 {
			s.mu.Lock()
			defer s.mu.Unlock()
			n := 0
			for _, one := range s.running {
				n += one.r.Open()
			}
			return float64(n)
		}))
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

func (m *metrics) count(relay string, x *exchange.Exchange, contracts []*contract.Contract) {
	cause, operation := "", "other"
	if c := x.Cause(); c != nil && x.Outcome != exchange.OutcomePassed {
		cause = c.ID
	}
	for _, c := range contracts {
		for range c.PortsWith(x.Operation) {
			operation = x.Operation
		}
	}
	m.calls.WithLabelValues(relay, operation, string(x.Outcome), cause).Inc()
	for i := range x.Stages {
		if st := &x.Stages[i]; st.DurationNs > 0 {
			m.stages.WithLabelValues(relay, st.Stage.String()).Observe(float64(st.DurationNs) / 1e9)
		}
	}
}

// ended notes that an exchange waits to be kept.
func (m *metrics) ended(id string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.waiting[id] = time.Now()
}

// isKept notes that it does not any more.
func (m *metrics) isKept(id string, err error) {
	m.mu.Lock()
	since, there := m.waiting[id]
	delete(m.waiting, id)
	m.mu.Unlock()
	if err != nil {
		m.unkept.Inc()
	} else if there {
		m.lag.Observe(time.Since(since).Seconds())
	}
}
