//go:build unix

package wire

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// quiet tells whether a kept connection is open and has nothing to say: a peer
// that closed it, or that sent something unasked, has spoilt it.
func quiet(conn net.Conn) bool {
	sc, ok := beneathTLS(conn).(syscall.Conn)
	if !ok {
		return false
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return false
	}
	alive := false
	err = raw.Read(func(fd uintptr) bool {
		var b [1]byte
		n, _, rerr := unix.Recvfrom(int(fd), b[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
		alive = n < 0 && (rerr == unix.EAGAIN || rerr == unix.EWOULDBLOCK)
		return true
	})
	return err == nil && alive
}
