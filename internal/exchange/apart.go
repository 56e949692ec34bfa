package exchange

import "slices"

// Apart is a run of bytes of a leg that is kept beside its record: a record that is
// read as one JSON document is to stay small.
type Apart struct {
	Name   string `json:"name"`           // out, in, requestBody, responseBody or decrypted
	Hash   string `json:"hash,omitempty"` // by which it is kept; "" where it is a run of in
	From   int64  `json:"from,omitempty"` // of a run of in: where it begins
	Length int64  `json:"length"`         // bytes
}

// run is one of the runs of bytes of a leg.
type run struct {
	name string
	get  func() Body
	set  func(Body)
}

// runs are the leg's runs of bytes. In comes before what may be a run of it.
func (l *Leg) runs() []run {
	bytes := func(name string, of *[]byte) run {
		return run{name, func() Body { return NewBody(*of) }, func(b Body) { *of = b.Bytes() }}
	}
	body := func(name string, of *Body) run {
		return run{name, func() Body { return *of }, func(b Body) { *of = b }}
	}
	return []run{
		bytes("out", &l.Out), body("in", &l.In), bytes("requestBody", &l.RequestBody),
		body("responseBody", &l.ResponseBody), bytes("decrypted", &l.Decrypted),
	}
}

// within tells where a body begins in another one whose bytes it shares.
func (b Body) within(of Body, from int64) bool {
	return b.disk == nil && of.disk == nil && len(b.memory) > 0 && from >= 0 &&
		from+b.Len() <= of.Len() && &of.memory[from] == &b.memory[0]
}

// TakeApart takes the runs of more than beyond bytes out of the record, which then
// says where they are: keep keeps one, and gives the hash by which it is found again.
func (x *Exchange) TakeApart(beyond int64, keep func(Body) (hash string, err error)) error {
	for _, l := range x.Legs {
		whole := l.In
		for _, r := range l.runs() {
			b := r.get()
			if b.Len() <= beyond || slices.ContainsFunc(l.Apart, func(a Apart) bool { return a.Name == r.name }) {
				continue
			}
			a := Apart{Name: r.name, Length: b.Len()}
			if r.name == "responseBody" && b.within(whole, l.bodyAt) {
				a.From = l.bodyAt
			} else {
				var err error
				if a.Hash, err = keep(b); err != nil {
					return err
				}
			}
			l.Apart = append(l.Apart, a)
			r.set(Body{})
		}
	}
	return nil
}

// PutTogether undoes TakeApart: find gives what was kept by a hash.
func (x *Exchange) PutTogether(find func(hash string, length int64) ([]byte, error)) error {
	for _, l := range x.Legs {
		runs := l.runs()
		for _, a := range l.Apart {
			i := slices.IndexFunc(runs, func(r run) bool { return r.name == a.Name })
			switch {
			case i < 0:
			case a.Hash == "":
				l.bodyAt = a.From
				runs[i].set(l.In.Part(a.From, a.From+a.Length))
			default:
				b, err := find(a.Hash, a.Length)
				if err != nil {
					return err
				}
				runs[i].set(NewBody(b))
			}
		}
		l.Apart = nil
	}
	return nil
}
