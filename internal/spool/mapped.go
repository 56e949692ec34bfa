//go:build unix

package spool

import (
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// mapping is a file without a name, mapped for reading.
type mapping struct {
	f      *os.File
	mapped []byte
	once   *sync.Once // of closing it
}

func open(dir string, limit int64) (mapping, error) {
	f, err := os.CreateTemp(dir, ".orenda-spool-*")
	if err != nil {
		return mapping{}, err
	}
	if err := os.Remove(f.Name()); err != nil { // from here on only this process can reach it
		f.Close()
		return mapping{}, err
	}
	m, err := unix.Mmap(int(f.Fd()), 0, int(limit), unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		f.Close()
		return mapping{}, fmt.Errorf("mapping %d bytes: %w", limit, err)
	}
	return mapping{f, m, new(sync.Once)}, nil
}

func (m mapping) append(p []byte) (int, error) { return m.f.Write(p) }

func (m mapping) readAt(p []byte, offset int64) (int, error) { return m.f.ReadAt(p, offset) }

func (m mapping) bytes(length int64) []byte { return m.mapped[:length:length] }

// evict gives the memory back in which the file was looked at. What is looked at
// again is read again.
func (m mapping) evict() { _ = unix.Madvise(m.mapped, unix.MADV_DONTNEED) }

func (m mapping) close() (err error) {
	m.once.Do(func() {
		err = unix.Munmap(m.mapped)
		if cerr := m.f.Close(); err == nil {
			err = cerr
		}
	})
	return err
}
