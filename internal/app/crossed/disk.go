package crossed

import (
	"bytes"
	"sort"

	"orenda/internal/exchange"
)

// run is the part of a reply that is on disk. It may have many millions of
// lines, so only the place of every 64th is known; the others are found from there.
type run struct {
	leg    int32
	after  int     // how many lines of the index come before it
	starts []start // of the lines 0, 64, 128, …
	whole  int     // lines that have ended
	pos    int64   // where the line begins that has not
	looked int64   // how far it was looked for its end
	end    int64
	marked map[int]bool
}

type start struct{ off, at int64 }

const every = 64

// feed takes what came up to end, at a time.
func (r *run) feed(src []byte, end, at int64) {
	r.end = min(end, int64(len(src)))
	for r.pos < r.end {
		limit := min(r.pos+widest, r.end)
		to := limit
		if n := bytes.IndexByte(src[r.looked:limit], '\n'); n >= 0 {
			to = r.looked + int64(n) + 1
		} else if limit == r.end && limit < r.pos+widest {
			r.looked = limit
			return // its end is still to come
		}
		r.pos, r.looked = to, to
		if r.whole++; r.whole%every == 0 {
			r.starts = append(r.starts, start{to, at})
		}
	}
}

func (r *run) count() int {
	if r == nil {
		return 0
	}
	if r.pos < r.end {
		return r.whole + 1
	}
	return r.whole
}

// next is where the line ends that begins at pos.
func (r *run) next(src []byte, pos int64) int64 {
	limit := min(pos+widest, r.end)
	if n := bytes.IndexByte(src[pos:limit], '\n'); n >= 0 {
		return pos + int64(n) + 1
	}
	return limit
}

// line is the j-th.
func (r *run) line(src []byte, j int) Line {
	s := r.starts[j/every]
	l := Line{leg: r.leg, dir: exchange.In, at: -1, mark: r.marked[j]}
	if j%every == 0 {
		l.at = s.at
	}
	l.from = s.off
	for k := j % every; k > 0; k-- {
		l.from = r.next(src, l.from)
	}
	l.to = r.next(src, l.from)
	return l
}

// of is the number of the line that holds an offset.
func (r *run) of(src []byte, off int64) int {
	i := sort.Search(len(r.starts), func(i int) bool { return r.starts[i].off > off }) - 1
	if i < 0 {
		return 0
	}
	j, pos := i*every, r.starts[i].off
	for to := r.next(src, pos); to <= off && to < r.end; to = r.next(src, pos) {
		pos = to
		j++
	}
	return j
}
