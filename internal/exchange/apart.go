package exchange

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"slices"
)

// Apart is a run of bytes of a leg that is kept beside its record: a record that is
// read as one JSON document is to stay small.
type Apart struct {
	Name   string `json:"name"`           // out, in, requestBody, responseBody or decrypted
	Hash   string `json:"hash,omitempty"` // by which it is kept; "" where it is a run of in
	From   int64  `json:"from,omitempty"` // of a run of in, or of what follows a packed record: where it begins
	Tail   bool   `json:"tail,omitempty"` // it follows the packed record
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
			case i < 0 || a.Tail || a.Hash == "" && a.From+a.Length > l.In.Len():
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

// packed is what a packed record begins with. One of an earlier version is JSON alone.
//
//nolint:gochecknoglobals // it is never written to
var packed = []byte("\x00orenda1")

// Pack writes the record as it is kept: its mark, the length of its JSON, the JSON, and the runs
// of bytes that were not taken apart, each once, as they are. The record is given up then.
func (x *Exchange) Pack() ([]byte, error) {
	var tail []byte
	for _, l := range x.Legs {
		in, out, outAt := l.In, l.Out, int64(len(tail))
		for _, r := range l.runs() {
			b := r.get()
			if b.Len() == 0 || slices.ContainsFunc(l.Apart, func(a Apart) bool { return a.Name == r.name }) {
				continue
			}
			a := Apart{Name: r.name, Length: b.Len(), Tail: true, From: int64(len(tail))}
			switch {
			case r.name == "responseBody" && b.within(in, l.bodyAt):
				a.Tail, a.From = false, l.bodyAt
			case r.name == "requestBody" && bytes.HasSuffix(out, b.Bytes()):
				a.From = outAt + int64(len(out)) - b.Len()
			default:
				tail = append(tail, b.Bytes()...)
			}
			l.Apart = append(l.Apart, a)
			r.set(Body{})
		}
	}
	record, err := json.Marshal(x)
	if err != nil {
		return nil, err
	}
	all := make([]byte, 0, len(packed)+binary.MaxVarintLen64+len(record)+len(tail))
	all = binary.AppendUvarint(append(all, packed...), uint64(len(record)))
	return append(append(all, record...), tail...), nil
}

var errPacked = errors.New("the record ends too early")

// Unpack reads what Pack wrote, or the JSON of an earlier version. The bytes belong to the
// record then.
func (x *Exchange) Unpack(b []byte) error {
	rest, is := bytes.CutPrefix(b, packed)
	if !is {
		return json.Unmarshal(b, x)
	}
	n, wide := binary.Uvarint(rest)
	if wide <= 0 || n > uint64(len(rest)-wide) {
		return errPacked
	}
	record, tail := rest[wide:wide+int(n)], rest[wide+int(n):]
	if err := json.Unmarshal(record, x); err != nil {
		return err
	}
	for _, l := range x.Legs {
		runs := l.runs()
		for _, a := range l.Apart {
			i := slices.IndexFunc(runs, func(r run) bool { return r.name == a.Name })
			if i < 0 || !a.Tail {
				continue
			}
			if a.From < 0 || a.Length < 0 || a.Length > int64(len(tail)) || a.From > int64(len(tail))-a.Length {
				return errPacked
			}
			runs[i].set(NewBody(tail[a.From : a.From+a.Length : a.From+a.Length]))
		}
		l.Apart = slices.DeleteFunc(l.Apart, func(a Apart) bool { return a.Tail })
	}
	return nil
}
