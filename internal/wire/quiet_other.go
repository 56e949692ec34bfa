//go:build !unix

package wire

import "net"

// quiet tells whether a kept connection can be used again. Where a connection
// cannot be looked at without reading from it, none is.
func quiet(net.Conn) bool { return false }
