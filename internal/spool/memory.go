//go:build !unix

package spool

import "io"

// mapping stands for a mapped file where there is none: the bytes are in memory.
type mapping struct{ held *[]byte }

func open(string, int64) (mapping, error) { return mapping{new([]byte)}, nil }

func (m mapping) append(p []byte) (int, error) {
	*m.held = append(*m.held, p...)
	return len(p), nil
}

func (m mapping) readAt(p []byte, offset int64) (int, error) {
	n := copy(p, (*m.held)[offset:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (m mapping) bytes(length int64) []byte { return (*m.held)[:length:length] }

func (m mapping) evict() {}

func (m mapping) close() error { return nil }
