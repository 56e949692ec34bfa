package exchange

import (
	"math"
	"os"
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

// ClockShift is the variable of the environment that moves the clock by which exchanges
// are dated, as -40h: what is kept has to stand a clock that is set.
const ClockShift = "ORENDA_CLOCK_SHIFT"

// Now is the time of day by which exchanges are dated.
func Now() time.Time {
	now := time.Now()
	if by, err := time.ParseDuration(os.Getenv(ClockShift)); err == nil {
		now = now.Add(by)
	}
	return now
}

// usualMoments is about how many a call has.
const usualMoments = 32

// NewRecorder begins a record; one that has a total time goes on after it. notify, which
// may be nil, is called after every change, outside the lock; it must not block.
func NewRecorder(x *Exchange, notify func()) *Recorder {
	if x.Started.IsZero() {
		x.Started = Now()
	}
	r := &Recorder{x: x, start: time.Now().Add(-time.Duration(x.TotalNs)), notify: notify}
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

// MaxMoments is how many moments a record holds. Beyond it, bytes that come or
// leave make the newest of their kind longer. What else happens is told twice as far,
// and then only counted: Exchange.Dropped.
const MaxMoments = 4096

// add appends a moment, or folds it into what is there.
func (x *Exchange) add(m Moment) {
	m.Leg = len(x.Legs)
	bytes := m.Kind == BytesIn || m.Kind == BytesOut
	if len(x.Moments) < MaxMoments || !bytes && len(x.Moments) < 2*MaxMoments {
		x.Moments = append(x.Moments, m)
		return
	}
	x.Dropped++
	if !bytes {
		return
	}
	for i := len(x.Moments) - 1; i >= 0; i-- {
		last := &x.Moments[i]
		if last.Kind == m.Kind && last.Leg == m.Leg {
			last.N += m.N
			return
		}
		if last.Kind == BytesIn || last.Kind == BytesOut {
			break // the other direction spoke in between
		}
	}
	x.Moments = append(x.Moments, m)
}

// Moment notes that something happened now.
func (r *Recorder) Moment(m Moment) {
	m.At = r.Now()
	r.Update(func(x *Exchange) { x.add(m) })
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
		x.add(Moment{At: now, Kind: StageBegan, Stage: s})
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
		x.add(Moment{At: now, Kind: StageEnded, Stage: s, Text: state.String()})
	})
}

// Fact notes something seen at a stage.
func (r *Recorder) Fact(s Stage, name, value string) {
	r.Update(func(x *Exchange) { x.Stage(s).Facts.Set(name, value) })
}

// NewLeg opens the next crossing of the wire. What is too large for memory of its
// reply goes where spill says.
func (r *Recorder) NewLeg(purpose string, spill Spill) *Leg {
	l := &Leg{Purpose: purpose, spill: spill}
	l.Response.Declared = -1
	r.Update(func(x *Exchange) { x.Legs = append(x.Legs, l) })
	return l
}

// Out notes that the first n bytes of payload were handed to the system. The
// record keeps payload itself, which must not be changed any more.
func (r *Recorder) Out(l *Leg, payload []byte, n int) {
	now := r.Now()
	r.Update(func(x *Exchange) {
		before := len(l.Out)
		l.Out = payload[:n:n]
		x.add(Moment{At: now, Kind: BytesOut, Stage: Send, Offset: int64(before), N: int64(n - before)})
	})
}

// In appends bytes that came. The error is that of the storage that they go to.
func (r *Recorder) In(l *Leg, b []byte) (err error) {
	now := r.Now()
	r.Update(func(x *Exchange) {
		x.add(Moment{At: now, Kind: BytesIn, Stage: Receive, Offset: l.In.Len(), N: int64(len(b))})
		l.In = l.In.roomFor(l.expected())
		beyond := l.spill.Beyond
		if beyond == 0 && l.bodyAt < 0 {
			beyond = l.spill.Own
		}
		l.In, err = l.In.appended(b, beyond, l.spill.Open)
	})
	return err
}

// expected is how long In will be, as far as that was announced and can be believed:
// an announced length counts once a part of it came.
func (l *Leg) expected() int64 {
	const believed = 1 << 20
	d := l.Response.Declared
	if d <= 0 || d > math.MaxInt32 || l.In.Len() < believed || l.spill.Beyond > 0 && d > l.spill.Beyond {
		return 0
	}
	return l.BodyAt() + d
}

// Delivered appends the bytes of In from one offset to another to the response
// body, to which they belong: shared, as long as the body is one run of In.
func (r *Recorder) Delivered(l *Leg, from, to int64) (err error) {
	r.Update(func(*Exchange) {
		n := l.ResponseBody.Len()
		switch start := from - n; {
		case n == 0:
			l.ResponseBody, l.bodyAt = l.In.Part(from, to), from
		case start == l.bodyAt:
			l.ResponseBody = l.In.Part(l.bodyAt, to)
		default:
			err = l.addBody(l.In.Range(from, to))
		}
		l.Response.BodySize = l.ResponseBody.Len()
		l.Response.WireSize = l.Response.BodySize
	})
	return err
}

// addBody appends to a response body that is not a run of In any more.
func (l *Leg) addBody(b []byte) (err error) {
	body := l.ResponseBody
	if l.bodyAt >= 0 { // it was a run of In until now: it begins a life of its own
		l.bodyAt = -1
		body, err = Body{}.copied(l.ResponseBody, l.spill)
		if err != nil {
			return err
		}
	}
	l.ResponseBody, err = body.appended(b, l.spill.Beyond, l.spill.Open)
	return err
}

// Rewrite gives the response body other bytes, as they come from fill: without
// its content coding, or in another encoding. size is how many came.
func (r *Recorder) Rewrite(l *Leg, fill func(add func([]byte) error) error) (size int64, err error) {
	var body Body
	err = fill(func(b []byte) (err error) {
		body, err = body.appended(b, l.spill.Beyond, l.spill.Open)
		return err
	})
	r.Update(func(*Exchange) {
		old := l.ResponseBody
		l.ResponseBody, l.bodyAt = body, -1
		l.Response.BodySize = body.Len()
		if old.disk != nil && !old.same(l.In) {
			old.disk.close()
		}
	})
	return body.Len(), err
}
