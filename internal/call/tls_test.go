package call_test

import (
	"crypto/tls"
	"net"

	"orenda/internal/trust"
)

func tlsListener(l net.Listener, pair *trust.Pair) net.Listener {
	return tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair.TLS()}})
}
