package state

import (
	"context"
	"slices"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/filter"
	"orenda/internal/journal"
)

// traffic is what is known of the journal: the newest exchanges, and as many older ones as
// were asked for. The rest stays in the journal.
type traffic struct {
	kept      []*exchange.Exchange // newest first
	ids       map[string]bool      // of those
	place     int64                // in the journal, of the newest that was read
	begun     bool                 // the newest were read
	ended     bool                 // there are no older ones
	elsewhere bool                 // exchanges of other folders too
	picked    picked
}

// picked are the exchanges that a filter picks, out of all that are kept.
type picked struct {
	filter *filter.Filter
	hits   []*exchange.Exchange // newest first
	looked int                  // how many were looked at
	done   bool                 // all were
	halt   context.CancelFunc
}

const (
	page    = 500    // exchanges that are read at once
	maxHeld = 10_000 // exchanges in sight; older ones are reached by a filter
	maxHits = 2_000
)

// query are the exchanges of this workspace, or of all folders.
func (s *State) query() journal.Query {
	if s.traffic.elsewhere {
		return journal.Query{}
	}
	return journal.Query{Workspace: s.W.ID()}
}

// sharedJournal is a journal that several keep exchanges in.
type sharedJournal interface{ Shared() bool }

// isShared tells whether others keep exchanges in the same journal.
func isShared(j journal.Journal) bool {
	s, ok := j.(sharedJournal)
	return ok && s.Shared()
}

// Traffic is every exchange in sight, newest first: those under way, then those kept; where a
// filter is set those that it picks.
func (s *State) Traffic() []*exchange.Exchange {
	var out []*exchange.Exchange
	f := s.traffic.picked.filter
	for _, r := range s.calls.running {
		if x := r.call.Snapshot(); f == nil || f.Fits(x, nil) {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b *exchange.Exchange) int { return b.Started.Compare(a.Started) })
	if f != nil {
		return append(out, s.traffic.picked.hits...)
	}
	return append(out, s.traffic.kept...)
}

// Elsewhere tells whether the traffic holds exchanges of other folders too.
func (s *State) Elsewhere() bool { return s.traffic.elsewhere }

// ShowElsewhere has the traffic hold exchanges of other folders too, or not.
func (s *State) ShowElsewhere() {
	words := s.FilterWords()
	s.endFilter()
	s.traffic = traffic{elsewhere: !s.traffic.elsewhere}
	s.Kept, s.version = 0, 0
	s.Refresh()
	if words != "" {
		_ = s.FilterTraffic(words) // it was read before
	}
}

// Refresh has read in the background what other programs made: exchanges, drafts,
// and what views looked up.
func (s *State) Refresh() {
	s.look("files", func(context.Context) func() {
		s.W.Relist()
		s.W.Drafts()
		return nil
	})
	s.Arrivals()
}

// Arrivals has read in the background what came into the journal since.
func (s *State) Arrivals() {
	version, q, place, begun := s.version, s.query(), s.traffic.place, s.traffic.begun
	s.look("journal", func(context.Context) func() {
		v, news := s.J.Version(), s.J.News()
		if v == version && version != 0 && news == "" {
			return nil
		}
		list, last, err := arrived(s.J, q, place, begun)
		count := 0
		if err == nil {
			count, err = s.J.Count(q)
		}
		return func() {
			if err != nil {
				s.Say("the journal cannot be read: %v", err)
				return
			}
			if news != "" {
				s.Say("%s", news)
			}
			if q != s.query() {
				return
			}
			s.version, s.Kept = v, count
			s.traffic.place, s.traffic.begun = last, true
			s.note(list...)
			s.attemptsAgain()
		}
	})
}

// arrived are the exchanges that came after a place, or the newest where none were read yet;
// the oldest first.
func arrived(
	j journal.Journal, q journal.Query, place int64, begun bool,
) (out []*exchange.Exchange, last int64, err error) {
	if !begun {
		if last, err = j.Last(); err != nil {
			return nil, 0, err
		}
		q.Max = page
		out, err = j.List(q)
		slices.Reverse(out)
		return out, last, err
	}
	for last = place; ; {
		some, to, err := j.After(last)
		if err != nil {
			return nil, 0, err
		}
		for _, x := range some {
			if q.Matches(x) {
				out = append(out, x)
			}
		}
		last = to
		if len(some) < journal.MaxAfter {
			return out[max(len(out)-maxHeld, 0):], last, nil
		}
	}
}

// note takes finished exchanges, the oldest first, into what the views see.
func (s *State) note(list ...*exchange.Exchange) {
	t := &s.traffic
	if t.ids == nil {
		t.ids = map[string]bool{}
	}
	var fresh []*exchange.Exchange
	for _, x := range list {
		if t.ids[x.ID] {
			t.fill(x)
			continue
		}
		t.ids[x.ID] = true
		fresh = append(fresh, x)
		if x.Kind == "" && x.Workspace == s.W.ID() {
			c := s.cellOf(x)
			s.latest[Target{c, ""}], s.latest[Target{c, x.Environment}] = x, x
		}
	}
	slices.Reverse(fresh)
	t.kept = slices.Concat(fresh, t.kept)
	for len(t.kept) > maxHeld {
		last := t.kept[len(t.kept)-1]
		delete(t.ids, last.ID)
		t.kept, t.ended = t.kept[:len(t.kept)-1], false
	}
	if f := t.picked.filter; f != nil && len(fresh) > 0 {
		s.pickFresh(f, fresh)
	}
}

// pickFresh adds those that came, the newest first, and that the filter picks. Where their
// bytes decide, the journal is asked in the background.
func (s *State) pickFresh(f *filter.Filter, fresh []*exchange.Exchange) {
	add := func(fit []*exchange.Exchange) {
		p := &s.traffic.picked
		if p.filter != f {
			return
		}
		fit = slices.DeleteFunc(fit, func(x *exchange.Exchange) bool { // it was among what was looked through
			return slices.ContainsFunc(p.hits, func(o *exchange.Exchange) bool { return o.ID == x.ID })
		})
		p.hits = slices.Concat(fit, p.hits)
		p.hits = p.hits[:min(len(p.hits), maxHits)]
	}
	if !f.AsksForBytes() {
		add(slices.DeleteFunc(slices.Clone(fresh), func(x *exchange.Exchange) bool { return !f.Fits(x, nil) }))
		return
	}
	s.run.Go(func(ctx context.Context) {
		fit, err := f.Pick(ctx, s.J, fresh)
		s.post(func() {
			if err != nil && ctx.Err() == nil {
				s.Say("the journal cannot be read: %v", err)
			}
			add(fit)
		})
	})
}

// hold takes an exchange of this application that was kept. It is counted, unless what was
// read of the journal meanwhile has counted it.
func (s *State) hold(x *exchange.Exchange) {
	if !s.traffic.ids[x.ID] {
		s.Kept++
	}
	s.note(x)
}

// fill puts an exchange with its bytes in the place of its head, which came first: the journal
// had it before the one who sent it was told.
func (t *traffic) fill(x *exchange.Exchange) {
	if x.Moments == nil {
		return
	}
	for i, o := range t.kept {
		if o.ID == x.ID {
			t.kept[i] = x
			return
		}
	}
}

// Older has a page of older exchanges read, in the background.
func (s *State) Older() { s.older(page) }

// Oldest has as many older ones read as are held in sight.
func (s *State) Oldest() { s.older(maxHeld) }

func (s *State) older(most int) {
	t := &s.traffic
	if t.ended || len(t.kept) == 0 || len(t.kept) >= maxHeld || t.picked.filter != nil {
		return
	}
	q := s.query()
	q.Before, q.Max = t.kept[len(t.kept)-1].ID, min(most, maxHeld-len(t.kept))
	s.look("older", func(context.Context) func() {
		list, err := s.J.List(q)
		return func() {
			if err != nil {
				s.Say("the journal cannot be read: %v", err)
				return
			}
			t := &s.traffic
			t.ended = len(list) < q.Max
			for _, x := range list {
				if !t.ids[x.ID] {
					t.ids[x.ID] = true
					t.kept = append(t.kept, x)
				}
			}
		}
	})
}

// FilterWords are the words of the filter that is set, "" none.
func (s *State) FilterWords() string {
	if f := s.traffic.picked.filter; f != nil {
		return f.Words
	}
	return ""
}

// Filtered is how many exchanges the filter looked at, and whether these are all.
func (s *State) Filtered() (looked int, done bool) {
	return s.traffic.picked.looked, s.traffic.picked.done
}

func (s *State) endFilter() {
	if p := &s.traffic.picked; p.halt != nil {
		p.halt()
	}
	s.traffic.picked = picked{}
}

// FilterTraffic picks exchanges by words out of all that are kept, in the background; no
// words pick all.
func (s *State) FilterTraffic(words string) error {
	f, err := filter.Parse(words, time.Now())
	if err != nil {
		return err
	}
	s.endFilter()
	if words == "" {
		return nil
	}
	s.traffic.picked.filter = f
	q := s.query()
	s.traffic.picked.halt = s.run.Go(func(ctx context.Context) { s.pick(ctx, f, q) })
	return nil
}

// pick looks at all that is kept, the newest first, and posts what a filter picks.
func (s *State) pick(ctx context.Context, f *filter.Filter, q journal.Query) {
	q.Max = page
	for hits := 0; ctx.Err() == nil && hits < maxHits; {
		list, err := s.J.List(q)
		var fit []*exchange.Exchange
		if err == nil {
			fit, err = f.Pick(ctx, s.J, list)
		}
		if ctx.Err() != nil {
			return
		}
		hits += len(fit)
		done := err != nil || len(list) < page || hits >= maxHits
		s.post(func() {
			p := &s.traffic.picked
			if p.filter != f {
				return
			}
			if err != nil {
				s.Say("the journal cannot be read: %v", err)
			}
			p.hits, p.looked, p.done = append(p.hits, fit...), p.looked+len(list), done
		})
		if done {
			return
		}
		q.Before = list[len(list)-1].ID
	}
}

// Whole is a kept exchange with its bytes, nil until they are read.
func (s *State) Whole(x *exchange.Exchange) *exchange.Exchange {
	full := s.attempt(x)
	if full.Moments == nil && len(full.Legs) > 0 {
		return nil
	}
	return full
}

// Cause is a cause that several exchanges have.
type Cause struct {
	Stage      exchange.Stage       // of the finding
	ID, Title  string               // of the finding; an ID of "" is what passed, or was halted
	Exchanges  []*exchange.Exchange // that it stopped, newest first
	Operations []string             // of these
	Endpoints  []string             // of these
	Remedy     string               // the first that is offered, in words
}

// Causes folds exchanges, newest first, into their causes: those with most exchanges first,
// what passed last.
func Causes(list []*exchange.Exchange) []Cause {
	type key struct{ id, title string }
	var out []*Cause
	by := map[key]*Cause{}
	for _, x := range list {
		f, k := x.Cause(), key{title: "passed"}
		switch {
		case f != nil && x.Outcome == exchange.OutcomeStopped:
			k = key{f.ID, f.Title}
		case x.Outcome != exchange.OutcomePassed:
			k.title = string(x.Outcome)
		}
		c := by[k]
		if c == nil {
			c = &Cause{ID: k.id, Title: k.title}
			if k.id != "" {
				c.Stage = f.Stage
				if len(f.Remedies) > 0 {
					c.Remedy = f.Remedies[0].Title
				}
			}
			by[k] = c
			out = append(out, c)
		}
		c.Exchanges = append(c.Exchanges, x)
		if x.Operation != "" && !slices.Contains(c.Operations, x.Operation) {
			c.Operations = append(c.Operations, x.Operation)
		}
		if x.Endpoint != "" && !slices.Contains(c.Endpoints, x.Endpoint) {
			c.Endpoints = append(c.Endpoints, x.Endpoint)
		}
	}
	slices.SortStableFunc(out, func(a, b *Cause) int {
		if (a.ID == "") != (b.ID == "") {
			return len(b.ID) - len(a.ID)
		}
		return len(b.Exchanges) - len(a.Exchanges)
	})
	causes := make([]Cause, len(out))
	for i, c := range out {
		causes[i] = *c
	}
	return causes
}
