package call

import (
	"errors"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// run puts the variables in, and finds out where the call goes.
func (c *addressing) run() (string, error) {
	if c.plan.EnvError != nil {
		return "", c.plan.EnvError
	}
	v := c.plan.Settings.Get("address")
	c.rec.Fact(exchange.Address, "template", v.Text)
	set, err := c.plan.Settings.Expand(c.plan.Environment, c.plan.Variables)
	if err != nil {
		return v.Text, c.withheld(err)
	}
	expanded := *c.plan
	expanded.Settings = set
	c.plan = &expanded
	c.rec.Update(func(x *exchange.Exchange) {
		written := x.Settings
		if !slices.ContainsFunc(written, func(s exchange.Setting) bool { return strings.Contains(s.Value, "$") }) {
			return
		}
		x.Settings, x.Secrets = record(&c.plan.Settings), append(x.Secrets, headerSecrets(&c.plan.Settings)...)
		for i, s := range written { // both are in the order of the table
			if x.Settings[i].Value != s.Value {
				x.Settings[i].Template = s.Value
			}
		}
	})
	for _, name := range endpoint.Variables(v.Text) {
		if value, set := c.plan.Variables[name]; set {
			c.rec.Fact(exchange.Address, name, value)
		}
	}
	resolved, err := endpoint.Expand(v.Text, c.plan.Environment, c.plan.Variables)
	if err != nil {
		return v.Text, c.withheld(err)
	}
	u, err := endpoint.ParseAddress(resolved)
	c.rec.Fact(exchange.Address, "resolved", withoutPassword(resolved))
	if err != nil {
		return withoutPassword(resolved), err
	}
	c.url = u
	return withoutPassword(resolved), nil
}

// withheld says of a variable without a value whether one was kept back.
func (c *addressing) withheld(err error) error {
	if e, ok := errors.AsType[*endpoint.UnsetError](err); ok {
		e.Withheld = c.plan.Withheld[e.Name]
	}
	return err
}

func withoutPassword(address string) string {
	if !strings.Contains(address, "@") {
		return address
	}
	if u, err := url.Parse(address); err == nil && u.User != nil {
		return u.Redacted()
	}
	return address
}
