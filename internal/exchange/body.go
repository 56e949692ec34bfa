package exchange

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"sync"
)

// ErrClosed means that the bytes of a record were given up by its owner.
var ErrClosed = errors.New("the bytes of this record were closed")

// Storage holds bytes outside the memory of the program. One goroutine appends;
// many may read.
type Storage interface {
	// Append adds bytes at the end; an error where there is no more room.
	Append(p []byte) error
	// Len is the number of bytes that were appended.
	Len() int64
	// ReadAt copies bytes, as io.ReaderAt does.
	ReadAt(p []byte, offset int64) (int, error)
	// Use gives all bytes as one slice, which must not be kept beyond do, and
	// must not be written to.
	Use(do func(all []byte))
	// Close gives the storage up. It waits for no reader: the caller does.
	Close() error
}

// shared is a storage with those who read it: it is closed when its owner gave
// it up and the last reader has left.
type shared struct {
	mu      sync.Mutex
	storage Storage
	readers int
	closed  bool
}

func (s *shared) enter() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return ErrClosed
	}
	s.readers++
	return nil
}

func (s *shared) leave() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.readers--; s.readers == 0 && s.closed {
		_ = s.storage.Close()
	}
}

func (s *shared) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return
	}
	if s.closed = true; s.readers == 0 {
		_ = s.storage.Close()
	}
}

// MaxKept is how many bytes of a body that lies in a storage are looked at where
// its beginning will do: in reports, in what is kept, by the rules.
const MaxKept = 1 << 20

// Body is a run of bytes of a record: in memory, where the bytes never change
// once they are there, or in a storage that belongs to the record. The zero Body
// is empty. A copy of a Body is the same run, and stays as long as it is.
type Body struct {
	memory []byte
	disk   *shared // nil: in memory
	from   int64   // of disk: where the run begins
	length int64   // of disk: its length in bytes
}

// NewBody is a body in memory. It takes the slice over.
func NewBody(b []byte) Body { return Body{memory: b} }

// StoredBody is a body of all that stands in a storage, which it takes over:
// Exchange.Close closes it.
func StoredBody(s Storage) Body {
	return Body{disk: &shared{storage: s}, length: s.Len()}
}

// Len is its length in bytes.
func (b Body) Len() int64 {
	if b.disk == nil {
		return int64(len(b.memory))
	}
	return b.length
}

// IsZero tells whether it is empty; it is left out of JSON then.
func (b Body) IsZero() bool { return b.Len() == 0 }

// Stored tells whether it lies in a storage, too large for memory.
func (b Body) Stored() bool { return b.disk != nil }

// Bytes are all bytes of a body in memory, and the first MaxKept bytes, copied, of
// one that lies in a storage. They must not be changed.
func (b Body) Bytes() []byte {
	if b.disk == nil {
		return b.memory[:len(b.memory):len(b.memory)]
	}
	return b.Range(0, MaxKept)
}

// Range are the bytes from one offset to another, as far as they are there:
// copied, where the body lies in a storage; none, where that was closed.
func (b Body) Range(from, to int64) []byte {
	from, to = min(max(from, 0), b.Len()), min(to, b.Len())
	if to <= from {
		return nil
	}
	if b.disk == nil {
		return b.memory[from:to:to]
	}
	if b.disk.enter() != nil {
		return nil
	}
	defer b.disk.leave()
	out := make([]byte, to-from)
	n, err := b.disk.storage.ReadAt(out, b.from+from)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil
	}
	return out[:n]
}

// Part is the run from one offset to another. It shares the bytes.
func (b Body) Part(from, to int64) Body {
	from, to = min(max(from, 0), b.Len()), min(to, b.Len())
	to = max(from, to)
	if b.disk == nil {
		return Body{memory: b.memory[from:to:to]}
	}
	return Body{disk: b.disk, from: b.from + from, length: to - from}
}

// Use gives all bytes as one slice for as long as do runs; it must neither be kept
// nor changed. The error is ErrClosed, or that of do.
func (b Body) Use(do func(all []byte) error) (err error) {
	if b.disk == nil {
		return do(b.memory)
	}
	if err := b.disk.enter(); err != nil {
		return err
	}
	defer b.disk.leave()
	b.disk.storage.Use(func(all []byte) {
		err = do(all[b.from : b.from+b.length : b.from+b.length])
	})
	return err
}

// WriteTo writes all bytes; it implements io.WriterTo.
func (b Body) WriteTo(w io.Writer) (n int64, err error) {
	err = b.Use(func(all []byte) error {
		// In pieces: a file that is mapped is not read into memory as a whole.
		n, err = io.CopyBuffer(struct{ io.Writer }{w}, bytes.NewReader(all), make([]byte, 256<<10))
		return err
	})
	return n, err
}

// same tells whether two bodies lie in the same storage.
func (b Body) same(o Body) bool { return b.disk != nil && b.disk == o.disk }

// manyBytes is from how many bytes on a body in memory gets much room at once.
const manyBytes = 4 << 20

// roomFor is the body with room for length bytes, where it is in memory: it does not
// grow by copying then. Memory that is never written to costs none.
func (b Body) roomFor(length int64) Body {
	if b.disk == nil && length > int64(cap(b.memory)) {
		b.memory = append(make([]byte, 0, length), b.memory...)
	}
	return b
}

// appended is the body with bytes more at its end. Beyond limit bytes it moves
// into a storage that open makes; a limit of 0 is none.
func (b Body) appended(p []byte, limit int64, open func() (Storage, error)) (Body, error) {
	if b.disk == nil {
		if limit == 0 || int64(len(b.memory)+len(p)) <= limit {
			if n := len(b.memory); n+len(p) > cap(b.memory) && n >= manyBytes {
				b = b.roomFor(4 * int64(n)) // else it is copied again and again, and all copies are in memory
			}
			b.memory = append(b.memory, p...)
			return b, nil
		}
		s, err := open()
		if err != nil {
			return b, err
		}
		if err := s.Append(b.memory); err != nil {
			_ = s.Close()
			return b, err
		}
		b = StoredBody(s)
	}
	if err := b.disk.enter(); err != nil {
		return b, err
	}
	defer b.disk.leave()
	if err := b.disk.storage.Append(p); err != nil {
		return b, err
	}
	b.length += int64(len(p))
	return b, nil
}

// copied is a copy of another body, where that belongs by its size.
func (Body) copied(of Body, spill Spill) (out Body, err error) {
	const piece = 256 << 10
	for at := int64(0); at < of.Len() && err == nil; at += piece {
		out, err = out.appended(of.Range(at, at+piece), spill.Beyond, spill.Open)
	}
	return out, err
}

// MarshalJSON writes the bytes in base64, as encoding/json writes a []byte.
func (b Body) MarshalJSON() ([]byte, error) { return json.Marshal(b.Bytes()) }

// UnmarshalJSON reads what MarshalJSON wrote.
func (b *Body) UnmarshalJSON(src []byte) error {
	var text string
	if err := json.Unmarshal(src, &text); err != nil {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	*b = NewBody(raw)
	return err
}
