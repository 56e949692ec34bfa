// Package spool keeps bytes that are too many for memory in a private file that
// has no name. They are read as one slice: the file itself, mapped, so that what
// is not looked at takes no memory. Where files cannot be mapped (Windows), the
// bytes stay in memory.
package spool

import (
	"fmt"
	"io"
	"runtime"
	"sync"
	"time"
)

// Spool is a growing run of bytes on disk; it is an exchange.Storage.
type Spool struct {
	mu     sync.Mutex
	file   mapping
	length int64 // bytes written
	limit  int64 // bytes that there is room for
	since  int64 // bytes written since memory was given back
}

// New makes a spool for at most limit bytes in a folder; "" is the system's for
// temporary files. It is closed with Close, or once nobody can reach it.
func New(dir string, limit int64) (*Spool, error) {
	f, err := open(dir, limit)
	if err != nil {
		return nil, err
	}
	s := &Spool{file: f, limit: limit}
	runtime.AddCleanup(s, func(f mapping) { f.close() }, f)
	return s, nil
}

// evictEach is after how many bytes written memory is given back.
const evictEach = 16 << 20

// Append adds bytes at the end.
func (s *Spool) Append(p []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.length+int64(len(p)) > s.limit {
		return fmt.Errorf("more than the %d bytes that there is room for", s.limit)
	}
	n, err := s.file.append(p)
	s.length += int64(n)
	if s.since += int64(n); s.since >= evictEach { // what follows the writing looks at it too
		s.since = 0
		s.file.evict()
	}
	return err
}

// Len is the number of bytes that were written.
func (s *Spool) Len() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.length
}

// ReadAt implements io.ReaderAt.
func (s *Spool) ReadAt(p []byte, offset int64) (int, error) {
	if offset >= s.Len() {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), s.Len()-offset)]
	defer runtime.KeepAlive(s)
	return s.file.readAt(p, offset)
}

// evictEvery is how often Use gives memory back.
const evictEvery = 2 * time.Millisecond

// quick is how many bytes are looked at without giving memory back.
const quick = 4 << 20

// Use gives all bytes as one slice, for as long as do runs. Little of them stays
// in memory, however much is looked at.
func (s *Spool) Use(do func(all []byte)) {
	defer runtime.KeepAlive(s)
	all := s.file.bytes(s.Len())
	if len(all) <= quick {
		do(all)
		return
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		t := time.NewTicker(evictEvery)
		defer t.Stop()
		for {
			select {
			case <-stop:
				s.file.evict()
				return
			case <-t.C:
				s.file.evict()
			}
		}
	}()
	defer func() { close(stop); <-stopped }()
	do(all)
}

// Close gives the file up. Nobody may look at the bytes any more.
func (s *Spool) Close() error { return s.file.close() }
