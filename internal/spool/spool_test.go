package spool

import (
	"bytes"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// resident is this process's resident memory in bytes.
func resident(t *testing.T) int64 {
	b, err := os.ReadFile("/proc/self/status")
	require.NoError(t, err)
	_, rest, ok := strings.Cut(string(b), "VmRSS:")
	require.True(t, ok)
	n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
	require.NoError(t, err)
	return n << 10
}

func TestBytesAreWhatWasWritten(t *testing.T) {
	dir := t.TempDir()
	s, err := New(dir, 1<<20)
	require.NoError(t, err)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left, "the file has no name")
	first := s.Bytes()
	assert.Empty(t, first)
	for i := range 100 {
		_, err := s.Write(bytes.Repeat([]byte{byte(i)}, 1000))
		require.NoError(t, err)
	}
	assert.EqualValues(t, 100000, s.Len())
	early := s.Bytes()
	_, err = s.Write([]byte("end"))
	require.NoError(t, err)
	assert.Len(t, early, 100000, "a slice that was given stays what it was")
	assert.Equal(t, byte(99), early[99999])
	assert.Equal(t, "end", string(s.Bytes()[100000:]))
	_, err = s.Write(make([]byte, 1<<20))
	assert.ErrorContains(t, err, "room")
	s.Calm(func() { assert.Equal(t, 1000, bytes.Count(s.Bytes(), []byte{7})) })
	(*Spool)(nil).Calm(func() {})
	runtime.KeepAlive(s)
}

func TestMuchIsLookedAtInLittleMemory(t *testing.T) {
	const size = 256 << 20
	s, err := New(t.TempDir(), size)
	require.NoError(t, err)
	block := bytes.Repeat([]byte("slack water "), 1<<16)
	for s.Len()+int64(len(block)) <= size {
		_, err := s.Write(block)
		require.NoError(t, err)
	}
	before, most := resident(t), int64(0)
	s.Calm(func() {
		b := s.Bytes()
		for at := 0; at < len(b); at += 1 << 20 {
			_ = bytes.Count(b[at:min(at+1<<20, len(b))], []byte("ebb"))
			most = max(most, resident(t))
			time.Sleep(500 * time.Microsecond)
		}
	})
	assert.Less(t, most-before, int64(96<<20))
	runtime.KeepAlive(s)
}
