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
	Name   string `json:"name"`             // out, in, requestBody, responseBody or decrypted
	Hash   string `json:"hash,omitempty"`   // by which it is kept; "" where it is a run of in, or of out
	From   int64  `json:"from,omitempty"`   // of such a run, or of what follows a packed record: where it begins
	Tail   bool   `json:"tail,omitempty"`   // it follows the packed record
	Joined bool   `json:"joined,omitempty"` // only the end of the run is apart: what the record has of it goes before
	Length int64  `json:"length"`           // bytes that are apart
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

// TakeApart takes bodies of more than bodies bytes out of the record, and other runs of more than others,
// and the record then says where they are: keep keeps one, and gives the hash by which it is found again. Of what
// crossed the body alone is taken, where it stands at the end: heads differ by their dates, and equal bodies are
// kept once.
func (x *Exchange) TakeApart(bodies, others int64, keep func(Body) (hash string, err error)) error {
	for _, l := range x.Legs {
		if err := l.takeBodies(bodies, keep); err != nil {
			return err
		}
		whole := l.In
		for _, r := range l.runs() {
			b, beyond := r.get(), bodies
			if r.name == "in" || r.name == "out" {
				beyond = others
			}
			inPlace := r.name == "requestBody" && bytes.HasSuffix(l.Out, b.Bytes()) ||
				r.name == "responseBody" && b.within(l.In, l.bodyAt)
			there := slices.ContainsFunc(l.Apart, func(a Apart) bool { return a.Name == r.name })
			if b.Len() <= beyond || inPlace || there {
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

// takeBodies takes the bodies at the ends of out and in.
func (l *Leg) takeBodies(beyond int64, keep func(Body) (hash string, err error)) error {
	apart := func(name string) bool {
		return slices.ContainsFunc(l.Apart, func(a Apart) bool { return a.Name == name })
	}
	take := func(of, body string, from, length int64, b Body) error {
		hash, err := keep(b)
		if err != nil {
			return err
		}
		l.Apart = append(l.Apart, Apart{Name: of, Hash: hash, Length: length, Joined: true},
			Apart{Name: body, From: from, Length: length})
		return nil
	}
	if n := int64(len(l.RequestBody)); n > beyond && bytes.HasSuffix(l.Out, l.RequestBody) && !apart("out") &&
		!apart("requestBody") {
		from := int64(len(l.Out)) - n
		if err := take("out", "requestBody", from, n, NewBody(l.RequestBody)); err != nil {
			return err
		}
		l.Out, l.RequestBody = l.Out[:from], nil
	}
	if b := l.ResponseBody; b.Len() > beyond && b.within(l.In, l.bodyAt) && l.bodyAt+b.Len() == l.In.Len() &&
		!apart("in") && !apart("responseBody") {
		if err := take("in", "responseBody", l.bodyAt, b.Len(), b); err != nil {
			return err
		}
		l.In, l.ResponseBody = l.In.Part(0, l.bodyAt), Body{}
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
			case i < 0 || a.Tail || a.From < 0 || a.Length < 0:
			case a.Hash == "" && a.Name == "requestBody":
				if a.From+a.Length <= int64(len(l.Out)) {
					l.RequestBody = l.Out[a.From : a.From+a.Length]
				}
			case a.Hash == "" && a.From+a.Length > l.In.Len():
			case a.Hash == "":
				l.bodyAt = a.From
				runs[i].set(l.In.Part(a.From, a.From+a.Length))
			default:
				b, err := find(a.Hash, a.Length)
				if err != nil {
					return err
				}
				if a.Joined {
					b = append(slices.Clip(runs[i].get().Bytes()), b...)
				}
				runs[i].set(NewBody(b))
			}
		}
		l.Apart = nil
	}
	return nil
}

// What a packed record begins with: packedBare without its head, packed with it, or what earlier versions began
// it with. One of the first is JSON alone. With packedWhole no body is apart from its HTTP head.
const (
	packedBare  = "\x00orenda4"
	packed      = "\x00orenda3"
	packedWhole = "\x00orenda2"
	packedAgain = "\x00orenda1"
)

// besides is what a packed record says besides its head.
type besides struct {
	Moments []Moment  `json:"moments,omitempty"` // when each piece crossed
	Tails   [][]Apart `json:"tails,omitempty"`   // of each leg: runs that stand in the tail
}

// Pack writes the record as it is kept, in two: its JSON without bytes and moments (the head), and its mark, the
// JSON of moments and of where runs are behind its length, and the runs of bytes that were not taken apart, each
// once, as they are. Whole puts both together. The record is given up then.
func (x *Exchange) Pack() (head, body []byte, err error) {
	var tail [][]byte // written once, where they stay
	long := int64(0)
	more := besides{Moments: x.Moments, Tails: make([][]Apart, len(x.Legs))}
	x.Moments = nil
	for i, l := range x.Legs {
		in, out, outAt := l.In, l.Out, long
		for _, r := range l.runs() {
			b := r.get()
			there := slices.ContainsFunc(l.Apart, func(a Apart) bool { return a.Name == r.name && !a.Joined })
			if b.Len() == 0 || there {
				continue
			}
			a := Apart{Name: r.name, Length: b.Len(), Tail: true, From: long}
			switch {
			case r.name == "responseBody" && b.within(in, l.bodyAt):
				a.Tail, a.From = false, l.bodyAt
			case r.name == "requestBody" && bytes.HasSuffix(out, b.Bytes()):
				a.From = outAt + int64(len(out)) - b.Len()
			default:
				tail = append(tail, b.Bytes())
				long += b.Len()
			}
			more.Tails[i] = append(more.Tails[i], a)
			r.set(Body{})
		}
	}
	if head, err = x.Marshal(); err != nil {
		return nil, nil, err
	}
	rest, err := json.Marshal(&more)
	if err != nil {
		return nil, nil, err
	}
	body = make([]byte, 0, len(packedBare)+binary.MaxVarintLen64+len(rest)+int(long))
	body = append(binary.AppendUvarint(append(body, packedBare...), uint64(len(rest))), rest...)
	for _, b := range tail {
		body = append(body, b...)
	}
	return head, body, nil
}

// Whole is a record of its two parts, as Unpack reads it. A body that an earlier version kept is whole by itself.
func Whole(head, body []byte) []byte {
	rest, is := bytes.CutPrefix(body, []byte(packedBare))
	if !is {
		return body
	}
	out := make([]byte, 0, len(packed)+binary.MaxVarintLen64+len(head)+len(rest))
	out = append(binary.AppendUvarint(append(out, packed...), uint64(len(head))), head...)
	return append(out, rest...)
}

var errPacked = errors.New("the record ends too early")

// part is what stands behind its length, and what follows.
func part(b []byte) (of, rest []byte, err error) {
	n, wide := binary.Uvarint(b)
	if wide <= 0 || n > uint64(len(b)-wide) {
		return nil, nil, errPacked
	}
	return b[wide : wide+int(n)], b[wide+int(n):], nil
}

// Unpack reads what Pack wrote and Whole put together, or an earlier version. The bytes belong to the record then.
func (x *Exchange) Unpack(b []byte) error {
	var more besides
	rest, is := bytes.CutPrefix(b, []byte(packed))
	if !is {
		rest, is = bytes.CutPrefix(b, []byte(packedWhole))
	}
	again, was := bytes.CutPrefix(b, []byte(packedAgain))
	switch {
	case was:
		rest = again
	case !is:
		return json.Unmarshal(b, x)
	}
	record, tail, err := part(rest)
	if err == nil {
		err = json.Unmarshal(record, x)
	}
	if err == nil && is {
		if record, tail, err = part(tail); err == nil {
			err = json.Unmarshal(record, &more)
		}
		x.Moments = more.Moments
	}
	if err != nil {
		return err
	}
	for i, l := range x.Legs {
		if i < len(more.Tails) {
			l.Apart = append(l.Apart, more.Tails[i]...)
		}
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
