package diagnose

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/xmltree"
)

func variableUnset(c *Case) []exchange.Finding {
	var e *endpoint.UnsetError
	if !errors.As(c.Err, &e) || c.Draft != nil || e.Withheld != "" {
		return nil
	}
	k := endpoint.KeyOf("address")
	if e.Key != "" {
		k = endpoint.KeyOf(e.Key)
	}
	f := exchange.Finding{
		Title: fmt.Sprintf("the variable %s is not set in the environment %s", e.Name, orNone(e.Environment)),
		Why: fmt.Sprintf(
			"The %s is written as %s, and %s has no value for %s.",
			k.Label(),
			e.Template,
			orNone(e.Environment),
			e.Name,
		),
		Evidence: []exchange.Evidence{c.inSettings(k.Name, e.Offset, e.Length)},
		Program:  "make sure that the address your program uses is put together from values that are set where it runs",
	}
	if e.Near != "" {
		f.Why = fmt.Sprintf(
			"`%s` is not set in %s; `%s` is, and names are case-sensitive.",
			e.Name,
			orNone(e.Environment),
			e.Near,
		)
		f.Remedies = append(
			f.Remedies,
			exchange.NewRemedy(
				fmt.Sprintf("set %s to the value of %s, %s", e.Name, e.Near, c.Variables[e.Near]),
				exchange.Change{
					Where: "workspace",
					Key:   "environment." + e.Environment + "." + e.Name,
					To:    c.Variables[e.Near],
				},
			),
		)
		f.Remedies = append(f.Remedies, exchange.NewRemedy(fmt.Sprintf("write ${%s} in the %s", e.Near, k.Label()),
			c.changeHere(k.Name, strings.ReplaceAll(e.Template, "${"+e.Name+"}", "${"+e.Near+"}"))))
	}
	return one(f)
}

func variableCyclic(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.CycleError](c.Err)
	if !ok {
		return nil
	}
	at := c.inSettings(cmp.Or(e.Key, "address"), e.Offset, e.Length)
	if c.Draft != nil {
		at = c.inDraft(xmltree.Span{Start: e.Offset, End: e.Offset + e.Length})
	}
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the variable %s leads back to itself", e.Names[0]),
		Why:      fmt.Sprintf("In %s, %s.", orNone(c.Environment), strings.Join(e.Names, " is made of ")),
		Evidence: []exchange.Evidence{at},
	})
}

func variableWithheld(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.UnsetError](c.Err)
	if !ok || e.Withheld == "" {
		return nil
	}
	r := exchange.NewRemedy(
		fmt.Sprintf("let this workspace read the environment variable %s", e.Withheld),
		exchange.Change{Where: "user", Key: "allow.env:" + e.Withheld, To: "value"},
	)
	r.Ask = fmt.Sprintf("the value of %s will be put into settings of this workspace, and may travel", e.Withheld)
	return one(exchange.Finding{
		Title: fmt.Sprintf(
			"the variable %s is to come from the process environment, which was not allowed yet",
			e.Name,
		),
		Why: fmt.Sprintf(
			"In %s it is written as env:%s. A workspace may come from somebody else; it reads only what you allowed "+
				"it to read.",
			orNone(e.Environment),
			e.Withheld,
		),
		Evidence: []exchange.Evidence{
			named("environment", "environment."+e.Environment+"."+e.Name+" = env:"+e.Withheld),
		},
		Remedies: []exchange.Remedy{r},
	})
}

func environmentUnknown(c *Case) []exchange.Finding {
	var e *endpoint.EnvironmentError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title:    "there is no environment " + e.Name,
		Why:      fmt.Sprintf("The workspace has %s.", orNone(strings.Join(e.Others, ", "))),
		Evidence: []exchange.Evidence{named("environment", "environment = "+e.Name)},
	}
	if e.Near != "" {
		f.Remedies = append(
			f.Remedies,
			exchange.NewRemedy(
				"use "+e.Near,
				exchange.Change{Where: "workspace", Key: "default-environment", From: e.Name, To: e.Near},
			),
		)
	}
	return one(f)
}

func addressMalformed(c *Case) []exchange.Finding {
	var e *endpoint.AddressError
	var t *endpoint.TemplateError
	switch {
	case c.Draft == nil && errors.As(c.Err, &t):
		return one(
			exchange.Finding{Title: "the address is not in order", Why: fmt.Sprintf("In %s, %s.", t.Template, t.Why),
				Evidence: []exchange.Evidence{c.inSettings(cmp.Or(t.Key, "address"), t.Offset, 2)}},
		)
	case !errors.As(c.Err, &e) || e.Scheme != "":
		return nil
	}
	why := fmt.Sprintf("%s cannot be called: %s.", orNone(e.Address), e.Why)
	if c.Settings.Get("address").Source == "contract" && strings.Contains(e.Address, "${") {
		why += " Variables are put into settings, never into what a contract says: set the address at the endpoint."
	}
	return one(exchange.Finding{
		Title:    "the address is not a URL",
		Why:      why,
		Evidence: []exchange.Evidence{c.inSettings("address", e.Offset, e.Length)},
		Program:  "give your program an address of the form https://host:port/path",
	})
}

func schemeUnsupported(c *Case) []exchange.Finding {
	var e *endpoint.AddressError
	if !errors.As(c.Err, &e) || e.Scheme == "" {
		return nil
	}
	rest := e.Address[len(e.Scheme):]
	f := exchange.Finding{
		Title: fmt.Sprintf("%s addresses cannot be called", e.Scheme), Why: "SOAP calls go over http or https here.",
		Evidence: []exchange.Evidence{c.inSettings("address", 0, len(e.Scheme))},
	}
	if is := transports[strings.ToLower(e.Scheme)]; is != "" {
		f.Why = fmt.Sprintf("It leads to %s, and SOAP calls go over http or https here.", is)
		f.Program = "ask the service's people for an http or https endpoint of the same service"
		return one(f)
	}
	for _, s := range []string{"https", "http"} {
		f.Remedies = append(f.Remedies, exchange.NewRemedy("use "+s, c.changeHere("address", s+rest)))
	}
	return one(f)
}

// suspectHost tells why a contract's own address cannot be right for a caller.
func (c *Case) suspectHost(u *url.URL) string {
	host := strings.ToLower(u.Hostname())
	if h, p := endpoint.HostPort(u); c.Served != "" && c.Served == h+":"+p {
		return ""
	}
	served, _, _ := net.SplitHostPort(c.Served)
	if strings.EqualFold(served, host) || machineItself(strings.ToLower(served)) && machineItself(host) {
		return "" // another port of the host that served the description
	}
	switch {
	case machineItself(host):
		return "it names the machine itself"
	case strings.HasSuffix(host, ".example") || strings.HasSuffix(host, ".test") || strings.HasSuffix(host,
		".invalid") || strings.HasSuffix(host, ".localhost"):
		return "its host is of a kind that is never reachable"
	case !strings.Contains(host, "."):
		return "its host is a single label, known only where the service runs"
	case c.Served != "":
		return "another host, " + c.Served + ", served the description"
	}
	return ""
}

// machineItself tells whether a host name means the machine that asks (RFC 6761 §6.3).
func machineItself(host string) bool {
	return host == "localhost" || strings.HasPrefix(host, "127.") || host == "::1"
}

func fromContract(c *Case) []exchange.Finding {
	if c.Fetch || c.Settings == nil || c.Contract == nil || c.Port == nil ||
		c.Settings.Get("address").Source != "contract" {
		return nil
	}
	u, err := url.Parse(c.Port.Address)
	if err != nil {
		return nil
	}
	why := c.suspectHost(u)
	if why == "" {
		return nil
	}
	f := exchange.Finding{
		Title:    "the address is the contract's own, and probably not the one to call",
		Why:      fmt.Sprintf("The description says %s; %s.", c.Port.Address, why),
		Evidence: []exchange.Evidence{c.inContract(c.Port.At, "location="+c.Port.Address)},
		Program:  "set the endpoint address in your program; do not take the one in the description",
	}
	if c.Served != "" {
		v := *u
		v.Host = c.Served
		if s, err := url.Parse(c.Contract.Source); err == nil {
			if h, p := endpoint.HostPort(s); h+":"+p == c.Served {
				v.Scheme = s.Scheme
			}
		}
		if u.Scheme != "https" || v.Scheme == "https" { // no remedy takes a call out of TLS
			f.Remedies = append(
				f.Remedies,
				exchange.NewRemedy("call the host that served the description", c.changeHere("address", v.String())),
			)
		}
	}
	if c.onWire("connect.name-unknown", "connect.refused", "connect.timed-out", "connect.unreachable") != nil {
		f.Certainty = exchange.Likely
		f.Severity = exchange.Warn
	}
	return one(f)
}
