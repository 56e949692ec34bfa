// Package spool keeps bytes that are too many for memory in a private file that
// has no name, and lets them be read as one slice. The slice is the file itself,
// mapped: what is not looked at takes no memory, and Calm gives back what was.
package spool

import (
	"fmt"
	"os"
	"runtime"
	"sync"
	"syscall"
	"time"
)

// Spool is a growing run of bytes on disk. It is written by one goroutine; the
// slices that Bytes gave stay valid as long as the Spool is reachable.
type Spool struct {
	mu     sync.Mutex
	f      *os.File
	mapped []byte
	n      int64
}

// New makes a spool for at most most bytes in a folder; "" is the system's for
// temporary files.
func New(dir string, most int64) (*Spool, error) {
	f, err := os.CreateTemp(dir, ".orenda-spool-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil { // from here on only this process can reach it
		f.Close()
		return nil, err
	}
	m, err := syscall.Mmap(int(f.Fd()), 0, int(most), syscall.PROT_READ, syscall.MAP_SHARED)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("mapping %d bytes: %w", most, err)
	}
	s := &Spool{f: f, mapped: m}
	runtime.AddCleanup(s, func(k struct {
		f *os.File
		m []byte
	}) {
		_ = syscall.Munmap(k.m)
		k.f.Close()
	}, struct {
		f *os.File
		m []byte
	}{f, m})
	return s, nil
}

// Write appends bytes.
func (s *Spool) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.n+int64(len(p)) > int64(len(s.mapped)) {
		return 0, fmt.Errorf("more than the %d bytes that there is room for", len(s.mapped))
	}
	n, err := s.f.Write(p)
	if s.n>>24 != (s.n+int64(n))>>24 {
		s.Forget() // what follows the writing looks at it too
	}
	s.n += int64(n)
	return n, err
}

// Bytes are all bytes that were written. They are only to be read.
func (s *Spool) Bytes() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mapped[:s.n:s.n]
}

// Len is the number of bytes that were written.
func (s *Spool) Len() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.n
}

// Forget gives the memory back in which the file was looked at. What is looked at
// again is read again.
func (s *Spool) Forget() { _ = syscall.Madvise(s.mapped, syscall.MADV_DONTNEED) }

// breath is how often Calm gives memory back.
const breath = 2 * time.Millisecond

// Calm does something that looks at much of the bytes, while little of them stays
// in memory. A nil spool only does it.
func (s *Spool) Calm(do func()) {
	if s == nil {
		do()
		return
	}
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		t := time.NewTicker(breath)
		defer t.Stop()
		for {
			select {
			case <-stop:
				s.Forget()
				return
			case <-t.C:
				s.Forget()
			}
		}
	}()
	defer func() { close(stop); <-done; runtime.KeepAlive(s) }()
	do()
}
