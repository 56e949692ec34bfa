package diagnose

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// proxyRefused is a proxy that is not there, or that will not pass the call on.
func proxyRefused(c *Case) []exchange.Finding {
	l, e := c.leg(), c.onWire("connect.proxy-refused")
	status := 0
	switch {
	case l == nil || l.Conn.Proxy == "":
		return nil
	case e != nil:
		status = int(e.Got)
	case l.Response.Status == 407:
		status = 407
	default:
		return nil
	}
	key := c.inSettings("proxy", 0, 1)
	f := exchange.Finding{
		Title:    fmt.Sprintf("the proxy %s cannot be used", l.Conn.Proxy),
		Evidence: []exchange.Evidence{key},
		Program:  "check the proxy that it uses, and whether it uses one at all",
	}
	switch {
	case status == 407:
		f.Title = fmt.Sprintf("the proxy %s wants to know who calls", l.Conn.Proxy)
		f.Why = fmt.Sprintf("It answered 407 and offers %s.", orNone(l.Response.Get("Proxy-Authenticate")))
		if name := c.Settings.Text("proxy-identity"); name != "" {
			f.Why += fmt.Sprintf(" The identity %s was refused.", name)
		}
		f.Evidence = append(c.inHead("Proxy-Authenticate"), c.inHead("")...)
		f.Side = exchange.Yours
		f.Program = "give your program the proxy's user and password"
		for _, id := range c.withNew() {
			if id.Name != c.Settings.Text("proxy-identity") {
				changes := []exchange.Change{c.changeHere("proxy-identity", id.Name)}
				if allow := c.proxyPlace(l.Conn.Proxy); allow != "" {
					changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: allow})
				}
				r := exchange.NewRemedy("tell the proxy that it is "+who(id)+" who calls", changes...)
				r.Needs = needOf(id)
				f.Remedies = append(f.Remedies, r)
			}
		}
	case status > 0:
		f.Title = fmt.Sprintf("the proxy %s will not pass the call on", l.Conn.Proxy)
		f.Why = fmt.Sprintf(
			"Asked to connect to %s, it answered %s.",
			l.Conn.Host,
			strings.TrimPrefix(l.Response.Line, l.Response.Proto+" "),
		)
		if t := quoteTitle(l.ResponseBody.Bytes()); t != "" {
			f.Why += " It says: " + t + "."
		}
		f.Evidence = append(c.inHead(""), key)
	default:
		f.Why = fmt.Sprintf("The call was to go through it, and %v.", e.Err)
	}
	f.Remedies = append(f.Remedies, c.remedies("connect without a proxy", []string{"proxy"}, "none")...)
	return one(f)
}

// proxyPlace is a proxy's address as approvals have it.
func (c *Case) proxyPlace(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Hostname() + ":" + u.Port()
}

func proxyInvalid(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.ProxyError](c.Err)
	if !ok {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the proxy setting is not an address",
			Why:   fmt.Sprintf("It is %s: %s.", orNone(e.Value), e.Why),
			Evidence: []exchange.Evidence{
				c.inSettings("proxy", 0, len(e.Value)),
			},
			Remedies: c.remedies("connect without a proxy", []string{"proxy"}, "none"),
		},
	)
}

func proxyNew(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.ProxyNewError](c.Err)
	if !ok {
		return nil
	}
	r := exchange.NewRemedy(
		"allow calls of this workspace through "+e.Proxy,
		exchange.Change{Where: "user", Key: "allow.proxy", To: e.Proxy},
	)
	r.Ask = "calls of this workspace, with what they carry, will pass through " + e.Proxy
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the proxy %s was not used for this workspace before", e.Proxy),
		Why:      "A workspace may come from somebody else; calls go only through proxies that you allowed for it.",
		Evidence: []exchange.Evidence{c.inSettings("proxy", 0, len(e.Proxy))},
		Remedies: append([]exchange.Remedy{r}, c.remedies("connect without a proxy", []string{"proxy"}, "none")...),
	})
}

func (c *Case) tried() string {
	var out []string
	if l := c.leg(); l != nil {
		for _, t := range l.Conn.Tried {
			if t.Error != "" {
				out = append(out, t.Address+": "+t.Error)
			}
		}
	}
	return strings.Join(out, "; ")
}

func nameUnknown(c *Case) []exchange.Finding {
	e := c.onWire("connect.name-unknown")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the host name %s does not resolve", hostOnly(c.host())),
		Why:      fmt.Sprintf("No address was found for it here: %v.", e.Err),
		Evidence: c.inAddress(),
		Program:  "check the host in its endpoint address, and whether this machine can resolve it",
	})
}

func hostOnly(hostPort string) string {
	if i := strings.LastIndexByte(hostPort, ':'); i >= 0 {
		return strings.Trim(hostPort[:i], "[]")
	}
	return hostPort
}

func refused(c *Case) []exchange.Finding {
	if c.onWire("connect.refused") == nil {
		return nil
	}
	return one(exchange.Finding{
		Title: fmt.Sprintf("nobody listens at %s", c.host()),
		Why: fmt.Sprintf(
			"The connection was refused at once (%s): the host is there, and no program accepts connections on that "+
				"port.",
			c.tried(),
		),
		Evidence: c.inAddress(),
		Program:  "check host and port in its endpoint address, and whether the service is running",
	})
}

func connectTimedOut(c *Case) []exchange.Finding {
	e := c.onWire("connect.timed-out")
	if e == nil {
		return nil
	}
	f := exchange.Finding{
		Title: fmt.Sprintf("%s did not answer %s", c.host(), c.within(e, "connect-time")),
		Why: "No refusal came either: packets are probably dropped on the way, by a firewall or because the host " +
			"is down." + c.total(e),
		Evidence: append(c.inAddress(), c.inSettings(fell(e, "connect-time"), 0, 1)),
		Program:  "check whether this machine may reach that host and port",
	}
	f.Remedies = c.moreTime(fell(e, "connect-time"))
	return one(f)
}

func unreachable(c *Case) []exchange.Finding {
	e := c.onWire("connect.unreachable")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title:    fmt.Sprintf("%s cannot be reached from here", c.host()),
		Why:      fmt.Sprintf("The system found no way there: %s.", orNone(c.tried())),
		Evidence: c.inAddress(),
		Program:  "check the network that it runs in: route, VPN, or proxy",
	})
}
