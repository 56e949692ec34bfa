package spool

import (
	"bytes"
	"io"
	"os"
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
	for i := range 100 {
		require.NoError(t, s.Append(bytes.Repeat([]byte{byte(i)}, 1000)))
	}
	assert.EqualValues(t, 100000, s.Len())
	require.NoError(t, s.Append([]byte("end")))
	s.Use(func(all []byte) {
		assert.Equal(t, byte(99), all[99999])
		assert.Equal(t, "end", string(all[100000:]))
		assert.Equal(t, 1000, bytes.Count(all, []byte{7}))
	})
	some := make([]byte, 10)
	n, err := s.ReadAt(some, 99999)
	require.NoError(t, err)
	assert.Equal(t, "cend", string(some[:n]))
	_, err = s.ReadAt(some, 200000)
	assert.ErrorIs(t, err, io.EOF)
	assert.ErrorContains(t, s.Append(make([]byte, 1<<20)), "room")
	require.NoError(t, s.Close())
	require.NoError(t, s.Close(), "once more does nothing")
}

func TestMuchIsLookedAtInLittleMemory(t *testing.T) {
	const size = 256 << 20
	s, err := New(t.TempDir(), size)
	require.NoError(t, err)
	defer s.Close()
	block := bytes.Repeat([]byte("slack water "), 1<<16)
	for s.Len()+int64(len(block)) <= size {
		require.NoError(t, s.Append(block))
	}
	before, most := resident(t), int64(0)
	s.Use(func(b []byte) {
		for at := 0; at < len(b); at += 1 << 20 {
			_ = bytes.Count(b[at:min(at+1<<20, len(b))], []byte("ebb"))
			most = max(most, resident(t))
			time.Sleep(500 * time.Microsecond)
		}
	})
	assert.Less(t, most-before, int64(96<<20))
}
