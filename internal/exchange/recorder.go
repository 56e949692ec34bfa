package exchange

import (
	"sync"
	"time"
)

// Recorder folds what happens into the record while a call runs. All methods
// may be called from several goroutines; readers take snapshots.
type Recorder struct {
	mu     sync.Mutex
	x      *Exchange
	start  time.Time
	notify func()
}

// usualMoments is about how many a call has.
const usualMoments = 32

// NewRecorder begins a record. notify, which may be nil, is called after every
// change, outside the lock; it must not block.
func NewRecorder(x *Exchange, notify func()) *Recorder {
	if x.Started.IsZero() {
		x.Started = time.Now()
	}
	r := &Recorder{x: x, start: x.Started, notify: notify}
	x.Stages, x.Moments = make([]StageRecord, len(Stages)), make([]Moment, 0, usualMoments)
	for i, s := range Stages {
		x.Stages[i].Stage = s
	}
	return r
}

// Now is the time since the call began.
func (r *Recorder) Now() int64 { return int64(time.Since(r.start)) }

// Update changes the record under the lock.
func (r *Recorder) Update(change func(x *Exchange)) {
	r.mu.Lock()
	change(r.x)
	r.mu.Unlock()
	if r.notify != nil {
		r.notify()
	}
}

// Snapshot is a copy of the record as it is now.
func (r *Recorder) Snapshot() *Exchange {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.x.Clone()
}

// Exchange is the record itself, for when the call has ended.
func (r *Recorder) Exchange() *Exchange { return r.x }

// Moment notes that something happened now.
func (r *Recorder) Moment(m Moment) {
	m.At = r.Now()
	r.Update(func(x *Exchange) {
		m.Leg = len(x.Legs)
		x.Moments = append(x.Moments, m)
	})
}

// Begin opens a stage.
func (r *Recorder) Begin(s Stage) {
	now := r.Now()
	r.Update(func(x *Exchange) {
		st := x.Stage(s)
		if st.State == Waiting {
			st.StartedNs = now
		}
		st.State = Open
		x.Moments = append(x.Moments, Moment{At: now, Kind: StageBegan, Stage: s, Leg: len(x.Legs)})
	})
}

// End closes a stage with a state, and a note for one line if there is one.
func (r *Recorder) End(s Stage, state State, note string) {
	now := r.Now()
	r.Update(func(x *Exchange) {
		st := x.Stage(s)
		if st.State == Open {
			st.DurationNs = now - st.StartedNs
		}
		st.State = state
		if note != "" {
			st.Note = note
		}
		x.Moments = append(x.Moments, Moment{At: now, Kind: StageEnded, Stage: s, Leg: len(x.Legs), Text: state.String()})
	})
}

// Fact notes something seen at a stage.
func (r *Recorder) Fact(s Stage, name, value string) {
	r.Update(func(x *Exchange) { x.Stage(s).Facts.Set(name, value) })
}

// NewLeg opens the next crossing of the wire.
func (r *Recorder) NewLeg(purpose string) *Leg {
	l := &Leg{Purpose: purpose}
	l.Response.Declared = -1
	r.Update(func(x *Exchange) { x.Legs = append(x.Legs, l) })
	return l
}

// Out notes that the first n bytes of payload were handed to the system. The
// record keeps payload itself, which must not be changed any more.
func (r *Recorder) Out(l *Leg, payload []byte, n int) {
	now := r.Now()
	r.Update(func(x *Exchange) {
		x.Moments = append(x.Moments, Moment{At: now, Kind: BytesOut, Leg: len(x.Legs), Stage: Send, Offset: int64(len(l.Out)), N: int64(n - len(l.Out))})
		l.Out = payload[:n:n]
	})
}

// In appends bytes that came; beyond Leg.Spill they are kept on disk, which may
// fail.
func (r *Recorder) In(l *Leg, b []byte) (err error) {
	now := r.Now()
	r.Update(func(x *Exchange) {
		x.Moments = append(x.Moments, Moment{At: now, Kind: BytesIn, Leg: len(x.Legs), Stage: Receive, Offset: int64(len(l.In)), N: int64(len(b))})
		switch {
		case l.Spool != nil:
			l.In, err = l.spilling(&l.Spool, b)
		case l.Spill > 0 && int64(len(l.In)+len(b)) > l.Spill:
			if _, err = l.spilling(&l.Spool, l.In); err == nil {
				l.In, err = l.spilling(&l.Spool, b)
			}
		default:
			l.In = append(l.In, b...)
		}
	})
	return err
}
