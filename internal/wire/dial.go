package wire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"
	"time"

	"orenda/internal/exchange"
)

// dial looks a name up and tries its addresses, one after the other.
func (t *roundTrip) dial(ctx context.Context, host, port string) (net.Conn, error) {
	if to := t.cfg.ConnectTo; to != "" && t.cfg.Proxy == nil {
		h, p, err := net.SplitHostPort(to)
		if err != nil {
			return nil, t.fail(exchange.Connect, NameUnknown, err)
		}
		t.rec.Moment(
			exchange.Moment{Kind: exchange.Lookup, Stage: exchange.Connect,
				Text: "connect-to leads " + host + " to " + to},
		)
		host, port = h, p
	}
	addrs, err := t.lookUp(ctx, host)
	if err == nil && t.cfg.IP != "" && t.cfg.IP != "any" {
		addrs, err = t.ofVersion(host, addrs)
	}
	if err != nil {
		return nil, err
	}
	var last error
	for i, a := range addrs {
		to := net.JoinHostPort(a, port)
		t.rec.Moment(exchange.Moment{Kind: exchange.Dialing, Stage: exchange.Connect, Text: to})
		began := time.Now()
		one, cancel := ctx, context.CancelFunc(func() {})
		if deadline, ok := ctx.Deadline(); ok && i < len(addrs)-1 {
			// Each address has its share of the time that is left.
			one, cancel = context.WithDeadline(ctx, began.Add(time.Until(deadline)/time.Duration(len(addrs)-i)))
		}
		conn, err := (&net.Dialer{}).DialContext(one, "tcp", to)
		cancel()
		tried := exchange.Tried{Address: to, TookNs: int64(time.Since(began))}
		if err != nil {
			tried.Error = dialWords(err)
		}
		t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Tried = append(t.leg.Conn.Tried, tried) })
		if err == nil {
			local, remote := conn.LocalAddr().String(), conn.RemoteAddr().String()
			t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Local, t.leg.Conn.Remote = local, remote })
			t.rec.Moment(exchange.Moment{Kind: exchange.Connected, Stage: exchange.Connect, Text: to})
			return conn, nil
		}
		t.rec.Moment(exchange.Moment{Kind: exchange.DialFailed, Stage: exchange.Connect, Text: to + ": " + tried.Error})
		last = err
	}
	reason := Unreachable
	switch {
	case errors.Is(last, syscall.ECONNREFUSED):
		reason = Refused
	case isTimeout(last) || errors.Is(last, syscall.ETIMEDOUT):
		reason = ConnectTimeout
	}
	e := t.fail(exchange.Connect, reason, last)
	e.Limit = int64(t.cfg.ConnectTime)
	return nil, e
}

// lookUp gives the addresses of a host; an address is its own.
func (t *roundTrip) lookUp(ctx context.Context, host string) ([]string, error) {
	if net.ParseIP(host) != nil {
		return []string{host}, nil
	}
	resolver := t.cfg.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	found, err := resolver.LookupHost(ctx, host)
	if err != nil {
		if isTimeout(err) && ended(ctx) != nil {
			e := t.fail(exchange.Connect, ConnectTimeout, err)
			e.Limit = int64(t.cfg.ConnectTime)
			return nil, e
		}
		return nil, t.fail(exchange.Connect, NameUnknown, err)
	}
	from := t.origin(ctx, host, found)
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Resolved, t.leg.Conn.Origin = found, from })
	text := host + " is " + strings.Join(found, ", ")
	t.rec.Moment(exchange.Moment{Kind: exchange.Lookup, Stage: exchange.Connect, Text: text})
	return found, nil
}

// ofVersion puts addresses of a version of IP first, or leaves the others out.
func (t *roundTrip) ofVersion(host string, addrs []string) ([]string, error) {
	version, prefer := strings.CutPrefix(t.cfg.IP, "prefer-")
	var first, rest []string
	for _, a := range addrs {
		if four := net.ParseIP(a).To4() != nil; four == (version == "4") {
			first = append(first, a)
		} else {
			rest = append(rest, a)
		}
	}
	switch {
	case prefer:
		return append(first, rest...), nil
	case len(first) == 0:
		return nil, t.fail(exchange.Connect, NameUnknown, fmt.Errorf("%s has no address of IPv%s, "+
			"only %s", host, version,
			strings.Join(rest, ", ")))
	}
	return first, nil
}

// dialWords is a dial error without the parts that are said elsewhere.
func dialWords(err error) string {
	var se syscall.Errno
	switch {
	case errors.As(err, &se):
		return se.Error()
	case isTimeout(err):
		return "no answer in time"
	}
	var oe *net.OpError
	if errors.As(err, &oe) {
		return oe.Err.Error()
	}
	return err.Error()
}
