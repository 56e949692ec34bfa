package call

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// checkTime bounds all checks of a failed call together, stepTime one step.
const (
	checkTime = 30 * time.Second
	stepTime  = 3 * time.Second
)

// checking is what the checks of one failed call share.
type checking struct {
	plan     Plan
	cause    *exchange.Finding
	url      *url.URL // where the call went
	proxied  bool
	answers  map[string]answer
	remedies []exchange.Remedy
}

type answer struct {
	verdict exchange.Verdict
	words   string
}

//nolint:gochecknoglobals // a table: it is never written to
var checks = map[string]func(*checking, context.Context){
	diagnose.CheckLookup: (*checking).lookup, diagnose.CheckPorts: (*checking).ports,
	diagnose.CheckNames:    (*checking).names,
	diagnose.CheckVersions: (*checking).versions, diagnose.CheckProtocol: (*checking).protocol,
	diagnose.CheckDescription: (*checking).description, diagnose.CheckListener: (*checking).listener,
}

// Check asks what can decide between the possibilities of a failed call: each of
// its checks once. Nothing of the message is sent, and no secret. It gives the
// record with the answers, what is likely first, and the remedies that follow.
func Check(ctx context.Context, p Plan, x *exchange.Exchange) *exchange.Exchange {
	x = x.Clone()
	u, err := url.Parse(x.Stage(exchange.Address).Facts.Get("resolved"))
	i := slices.IndexFunc(x.Findings, func(f exchange.Finding) bool { return f.Unchecked() })
	if err != nil || u.Host == "" || i < 0 {
		return x
	}
	ctx, cancel := context.WithTimeout(ctx, checkTime)
	defer cancel()
	cause := &x.Findings[i]
	cause.Hypotheses = slices.Clone(cause.Hypotheses)
	c := &checking{plan: p, cause: cause, url: u, answers: map[string]answer{}}
	if l := x.Leg(); l != nil {
		c.proxied = l.Conn.Proxy != ""
	}
	done := map[string]bool{}
	for _, p := range cause.Hypotheses {
		if check := checks[p.Check]; check != nil && !done[p.Check] {
			done[p.Check] = true
			check(c, ctx)
		}
	}
	for i := range cause.Hypotheses {
		p := &cause.Hypotheses[i]
		if a, ok := c.answers[p.ID]; ok {
			p.Verdict, p.Answer = a.verdict, a.words
		} else if p.Check != "" {
			p.Answer = "it could not be decided"
		}
	}
	cause.Rank()
	for _, r := range slices.Backward(c.remedies) {
		if !cause.Offers(r) {
			cause.Remedies = slices.Insert(slices.Clone(cause.Remedies), 0, r)
		}
	}
	diagnose.Price(x)
	return x
}

func (c *checking) say(id string, v exchange.Verdict, format string, args ...any) {
	c.answers[id] = answer{v, fmt.Sprintf(format, args...)}
}

// either says that of two possibilities the first holds, or the second.
func (c *checking) either(first bool, a, b, words string) {
	va, vb := exchange.Confirmed, exchange.RuledOut
	if !first {
		va, vb = vb, va
	}
	c.say(a, va, "%s", words)
	c.say(b, vb, "%s", words)
}

// offer adds a remedy that changes one setting of the endpoint.
func (c *checking) offer(title, key, to string) {
	v := c.plan.Settings.Get(key)
	c.remedies = append(
		c.remedies,
		exchange.NewRemedy(
			title,
			exchange.Change{Where: "workspace", Key: "endpoint." + c.plan.Endpoint + "." + key, From: v.Text, To: to},
		),
	)
}

// reach goes to an address no further than a stage, and carries nothing.
func (c *checking) reach(ctx context.Context, address string, until exchange.Stage, set ...string) *exchange.Exchange {
	p := c.bare()
	p.Settings.Set("address", strings.ReplaceAll(address, "$", "$$"))
	for i := 0; i+1 < len(set); i += 2 {
		p.Settings.Set(set[i], set[i+1])
	}
	p.Until = until
	p.fetch = &fetching{read: func([]byte, string) error { return nil }}
	return New(p, nil).Run(ctx)
}

// bare is the call's plan without anything secret and with short time limits.
func (c *checking) bare() Plan {
	p := c.plan
	p.probing = true
	p.NoEndpoint, p.EnvError, p.Pool, p.History, p.Changes, p.KeyLogOK, p.Candidates, p.Until = nil, nil, nil, nil, nil,
		nil, nil, exchange.None
	for _, key := range []string{"client-cert", "client-key", "client-identity", "key-log"} {
		p.Settings.Set(key, "")
	}
	p.Settings.Set("header")
	p.Settings.Set("trailer")
	p.Settings.Set("token", "none")
	p.Settings.Set("http-auth", "none")
	for _, limit := range []string{"connect-time", "answer-time", "receive-time"} {
		p.Settings.Set(limit, stepTime.String())
	}
	p.Settings.Set("total-time", (3 * stepTime).String())
	return p
}

// at is the call's address with another port, or another scheme.
func (c *checking) at(scheme, port string) string {
	u := *c.url
	host, had := endpoint.HostPort(c.url)
	if port == "" {
		port = had
	}
	u.Scheme, u.Host, u.User = scheme, net.JoinHostPort(host, port), nil
	return u.String()
}

// elsewhere are addresses of the workspace and of the contract.
func (c *checking) elsewhere() []*url.URL {
	var all []string
	if c.plan.Known != nil {
		all = c.plan.Known()
	}
	if c.plan.Contract != nil {
		for _, s := range c.plan.Contract.Services {
			for _, p := range s.Ports {
				all = append(all, p.Address)
			}
		}
		all = append(all, c.plan.Contract.Source)
	}
	var out []*url.URL
	for _, a := range all {
		if u, err := url.Parse(a); err == nil && u.Hostname() != "" && (u.Scheme == "http" || u.Scheme == "https") {
			out = append(out, u)
		}
	}
	return out
}

// most is how many names, ports or hosts a check asks for at most.
const most = 8

func (c *checking) lookup(ctx context.Context) {
	r := c.plan.Resolver
	if r == nil {
		r = net.DefaultResolver
	}
	// found tells whether a name is found, and answered whether anybody said so.
	look := func(name string) (found, answered bool) {
		ctx, cancel := context.WithTimeout(ctx, stepTime)
		defer cancel()
		a, err := r.LookupHost(ctx, name)
		unknown, _ := errors.AsType[*net.DNSError](err)
		return err == nil && len(a) > 0, err == nil || unknown != nil && unknown.IsNotFound
	}
	host := c.url.Hostname()
	now, answered := look(host)
	if now {
		c.say("passing", exchange.Confirmed, "%s is found now", host)
		return
	}
	c.say("passing", exchange.RuledOut, "%s is still not found", host)
	var names []string
	for _, u := range c.elsewhere() {
		if h := u.Hostname(); h != host && net.ParseIP(h) == nil && !slices.Contains(names, h) && len(names) < most {
			names = append(names, h)
		}
	}
	for _, n := range names {
		if found, _ := look(n); found {
			c.either(true, "misspelt", "no-lookup", n+" is found")
			return
		}
	}
	if answered {
		c.either(true, "misspelt", "no-lookup", "the name service answers, and knows no "+host)
	} else {
		c.either(false, "misspelt", "no-lookup", "the name service does not answer")
	}
}

func (c *checking) ports(ctx context.Context) {
	if c.proxied {
		return // what is dialled is the proxy
	}
	host, had := endpoint.HostPort(c.url)
	ports := []string{}
	add := func(p string) {
		if p != had && !slices.Contains(ports, p) && len(ports) < most {
			ports = append(ports, p)
		}
	}
	for _, u := range c.elsewhere() {
		if h, p := endpoint.HostPort(u); strings.EqualFold(h, host) {
			add(p)
		}
	}
	for _, p := range []string{"443", "80", "8443", "8080"} {
		add(p)
	}
	var open []string
	for _, p := range ports {
		ctx, cancel := context.WithTimeout(ctx, stepTime/2)
		conn, err := (&net.Dialer{Resolver: c.plan.Resolver}).DialContext(ctx, "tcp", net.JoinHostPort(host, p))
		cancel()
		if err == nil {
			conn.Close()
			open = append(open, p)
		}
	}
	if len(open) == 0 {
		c.either(false, "other-port", "host-silent", "nothing answers on "+strings.Join(ports, ", "))
		return
	}
	c.either(
		true,
		"other-port",
		"host-silent",
		map[bool]string{true: "port ", false: "ports "}[len(open) == 1]+strings.Join(
			open,
			", ",
		)+map[bool]string{true: " answers", false: " answer"}[len(open) == 1],
	)
	for _, p := range open[:min(len(open), 2)] {
		c.offer("call it on port "+p, "address", c.at(c.url.Scheme, p))
	}
}

// shows is the leaf of the chain that a handshake brought, nil where none came.
func shows(x *exchange.Exchange) *x509.Certificate {
	l := x.Leg()
	if l == nil || l.Conn.TLS == nil || len(l.Conn.TLS.Chain) == 0 {
		return nil
	}
	cert, err := x509.ParseCertificate(l.Conn.TLS.Chain[0])
	if err != nil {
		return nil
	}
	return cert
}

// noName is asked for where no name is to be asked for: addresses are not sent
// (RFC 6066 §3).
const noName = "192.0.2.1"

// names asks the server for other names: of the endpoints, and of those on the
// certificates that it shows.
//
//revive:disable-next-line:cyclomatic one stage, in the order of what it does
func (c *checking) names(ctx context.Context) {
	host := c.url.Hostname()
	names := []string{host, noName}
	for _, u := range c.elsewhere() {
		names = append(names, u.Hostname())
	}
	asked := c.plan.Settings.Text("server-name")
	if asked == "" {
		asked = host
	}
	seen := map[string]string{} // by fingerprint: the name that was asked for first
	var order, said, tried []string
	good := ""
	for i := 0; i < len(names) && len(tried) < most; i++ {
		name := names[i]
		if slices.Contains(tried, name) || name != noName && net.ParseIP(name) != nil && name != host {
			continue
		}
		tried = append(tried, name)
		x := c.reach(ctx, c.url.String(), exchange.TLS, "server-name", name)
		cert := shows(x)
		if cert == nil {
			continue
		}
		for _, n := range trust.Names(cert) {
			if !strings.ContainsAny(n, "* ") && net.ParseIP(n) == nil && len(names) < 3*most {
				names = append(names, n)
			}
		}
		if fingerprint := trust.Fingerprint(cert); seen[fingerprint] == "" {
			seen[fingerprint] = name
			order = append(order, fingerprint)
			said = append(
				said,
				fmt.Sprintf(
					"asked for %s it shows one for %s",
					map[bool]string{true: "no name", false: name}[name == noName],
					strings.Join(trust.Names(cert)[:min(len(trust.Names(cert)), 3)], ", "),
				),
			)
		}
		if x.Outcome == exchange.OutcomePassed && good == "" && name != asked && name != noName {
			good = name
		}
	}
	switch len(order) {
	case 0:
		c.say("other-name", exchange.RuledOut, "it shows no certificate, whatever it is asked for")
	case 1:
		c.either(false, "other-name", "other-server", "it shows the same certificate whatever it is asked for")
	default:
		c.either(true, "other-name", "other-server", strings.Join(said[:min(len(said), 4)], "; "))
	}
	if good != "" {
		c.say("other-name", exchange.Confirmed, "asked for %s, it shows a certificate that is trusted here", good)
		c.offer("ask the server for "+good, "server-name", good)
	}
}

func (c *checking) versions(ctx context.Context) {
	var spoken []string
	least, greatest := c.plan.Settings.Text("tls-min"), c.plan.Settings.Text("tls-max")
	outside := ""
	for _, v := range []string{"1.0", "1.1", "1.2", "1.3"} {
		x := c.reach(ctx, c.url.String(), exchange.TLS, "tls-min", v, "tls-max", v)
		if l := x.Leg(); l != nil && l.Conn.TLS != nil && l.Conn.TLS.Version != "" {
			spoken = append(spoken, v)
			if v < least || v > greatest {
				outside = v
			}
		}
	}
	if len(spoken) == 0 {
		c.either(false, "other-version", "ciphers", "it finishes no handshake in any of them")
		return
	}
	said := "it speaks TLS " + strings.Join(spoken, ", ")
	c.either(outside != "", "other-version", "ciphers", said)
	switch {
	case outside != "" && outside < least:
		c.offer("offer TLS "+outside+" to this endpoint", "tls-min", outside)
	case outside != "":
		c.offer("offer TLS "+outside+" to this endpoint", "tls-max", outside)
	}
}

func (c *checking) protocol(ctx context.Context) {
	if c.url.Scheme == "https" {
		x := c.reach(ctx, c.at("http", ""), exchange.Receive)
		if l := x.Leg(); l != nil && l.Response.Complete && l.Response.Status != 400 {
			c.say("plain-port", exchange.Confirmed, "it answered plain HTTP: %s", l.Response.Line)
			c.offer("call it over http", "address", c.at("http", ""))
			return
		}
		c.say("plain-port", exchange.RuledOut, "plain HTTP is not answered")
		return
	}
	x := c.reach(ctx, c.at("https", ""), exchange.TLS)
	if cert := shows(x); cert != nil {
		c.say(
			"tls-port",
			exchange.Confirmed,
			"it shook hands and showed a certificate for %s",
			strings.Join(trust.Names(cert)[:min(len(trust.Names(cert)), 2)], ", "),
		)
		c.offer("call it over https", "address", c.at("https", ""))
		return
	}
	c.say("tls-port", exchange.RuledOut, "no TLS handshake is answered")
}

// description fetches the service's description: whether the service is there,
// where it says that it is, and whether it is the one that is known here.
func (c *checking) description(ctx context.Context) {
	u := *c.url
	u.User, u.RawQuery, u.Fragment = nil, "wsdl", ""
	at := u.String()
	if k := c.plan.Contract; k != nil && contract.IsRemote(k.Source) {
		at = k.Source
	}
	f, err := Fetch(ctx, at, c.bare(), nil)
	if err != nil {
		why := "what came is none"
		alive := false
		if n := len(f.Exchanges); n > 0 {
			last := f.Exchanges[n-1]
			if k := last.Cause(); k != nil {
				why = k.Title
			}
			if l := last.Leg(); l != nil && l.Response.Complete && l.Response.Status < 500 {
				alive = true
			}
		}
		words := "its description cannot be had from " + at + ": " + why
		for _, id := range []string{"service-down", "log-in"} {
			v := exchange.Confirmed
			if alive && id == "service-down" {
				v = ""
			}
			c.say(id, v, "%s", words)
		}
		for _, id := range []string{"this-message", "slow", "contract-changed", "other-path"} {
			c.say(id, "", "%s", words)
		}
		return
	}
	words := "its description comes from " + at
	for _, id := range []string{"service-down", "log-in"} {
		c.say(id, exchange.RuledOut, "%s", words)
	}
	for _, id := range []string{"this-message", "slow"} {
		c.say(id, exchange.Confirmed, "%s", words)
	}
	c.compare(f.Contract)
}

// compare holds the description that was fetched against the one that is kept,
// and against where the call went.
func (c *checking) compare(now *contract.Contract) {
	k := c.plan.Contract
	if k == nil {
		return
	}
	var about []string
	for _, ch := range contract.Changes(k, now) {
		if ch.Where == c.plan.Operation || strings.HasPrefix(ch.Where, c.plan.Operation+" ") {
			about = append(about, ch.String())
		}
	}
	if len(about) == 0 {
		c.say("contract-changed", exchange.RuledOut, "the description there says the same about %s", c.plan.Operation)
	} else {
		c.say("contract-changed", exchange.Confirmed, "%s", strings.Join(about[:min(len(about), 3)], "; "))
	}
	if c.plan.Port == nil {
		return
	}
	port := now.Port(c.plan.Port.Name)
	if port == nil || port.Address == "" {
		return
	}
	to, err := url.Parse(port.Address)
	switch same := err == nil && to.Path == c.url.Path; {
	case err != nil:
	case same:
		c.say("other-path", exchange.RuledOut, "its description names the path %s too", to.Path)
	default:
		c.say("other-path", exchange.Confirmed, "its description names %s", port.Address)
		moved := *c.url
		moved.Path, moved.RawQuery = to.Path, to.RawQuery
		c.offer("call it at "+to.Path, "address", withoutPassword(moved.String()))
	}
}
