package wire

import (
	"bufio"
	"context"
	"io"
	"net"
	"os"
	"runtime"
	"strings"
)

// ResolverAt is a resolver that asks one name server, at an IP address and a port (RFC 1035
// §4.2). The hosts file goes before it, as before every other.
func ResolverAt(server string) *net.Resolver {
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, server)
	}}
}

// hostsFile holds names that are asked for before any name server is.
const hostsFile = "/etc/hosts"

// origin says in words from where the addresses of a name come, where that is not plain: from
// the hosts file, or of a longer name that a search domain makes. "": by a name server.
func (t *roundTrip) origin(ctx context.Context, host string, found []string) string {
	if runtime.GOOS == "windows" {
		return ""
	}
	const most = 1 << 20
	if f, err := os.Open(hostsFile); err == nil {
		defer f.Close()
		if address := inHosts(io.LimitReader(f, most), host); address != "" {
			return "from the hosts file, " + hostsFile + ", which goes before every name server"
		}
	}
	if t.cfg.Resolver != nil || strings.Contains(host, ".") || host == "localhost" || len(found) == 0 {
		return ""
	}
	if _, err := net.DefaultResolver.LookupHost(ctx, host+"."); err == nil {
		return ""
	}
	return "of a longer name: a search domain of this machine (resolv.conf) was put behind it"
}

// inHosts is the address of a name in a hosts file, "" where it is not there.
func inHosts(r io.Reader, host string) string {
	lines := bufio.NewScanner(r)
	for lines.Scan() {
		line, _, _ := strings.Cut(lines.Text(), "#")
		fields := strings.Fields(line)
		for _, name := range fields[min(len(fields), 1):] {
			if strings.EqualFold(strings.TrimSuffix(name, "."), strings.TrimSuffix(host, ".")) {
				return fields[0]
			}
		}
	}
	return ""
}
