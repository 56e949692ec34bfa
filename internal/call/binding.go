package call

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"golang.org/x/net/http/httpproxy"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/expect"
	"orenda/internal/wire"
)

// values checks what is set, and finds the proxy.
func (c *binding) values() error {
	s := &c.plan.Settings
	for _, v := range s.Given() {
		if v.Text == "" || v.Key.Stage == exchange.Security {
			continue
		}
		if v.Key.Name == "expect" {
			for _, item := range v.Items {
				if _, err := expect.Parse(item); err != nil {
					return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
				}
			}
			continue
		}
		items := []string{v.Text}
		if v.Key.Kind == endpoint.List {
			items = v.Items
		}
		for _, item := range items {
			if err := v.Key.Check(item); err != nil {
				return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
			}
		}
	}
	return c.findProxy()
}

// run says by which rules the call goes.
func (c *binding) run() (string, error) {
	if err := c.values(); err != nil {
		return "", err
	}
	s := &c.plan.Settings
	if s.Get("buffer-limit").IsSet() && s.Text("intake") == "whole" && s.Switch("strict-buffer") {
		have, _ := s.Size("buffer-limit")
		want, _ := s.Size("receive-limit")
		if have != want {
			return "", errors.New("the buffer limit is not the receive limit")
		}
	}
	v := s.Get("action")
	c.hasAction, c.action = true, v.Text
	switch {
	case v.Text == "none":
		c.hasAction, c.action = false, ""
	case v.Source == "default" && c.operation != nil:
		c.hasAction, c.action = c.operation.HasAction, c.operation.Action
	}
	port := c.plan.Port
	if port != nil {
		c.rec.Fact(exchange.Binding, "port", port.Name+" · "+port.Style+" · SOAP "+port.Version.String())
		if o := c.operation; o != nil {
			c.rec.Fact(exchange.Binding, "operation", o.Signature())
			c.rec.Fact(exchange.Binding, "contract's action", o.Action)
		}
	}
	c.rec.Fact(exchange.Binding, "action sent", c.action)
	intake := "taken in whole"
	if s.Text("intake") == "flowing" {
		intake = "taken in flowing"
	}
	return "SOAP " + sentVersion(&c.base, c.plan.Draft).String() + " · " + intake, nil
}

// findProxy finds the proxy, if the call goes through one.
func (c *binding) findProxy() error {
	v := c.plan.Settings.Get("proxy")
	address := v.Text
	switch address {
	case "none", "":
		return nil
	case "environment":
		of := httpproxy.FromEnvironment()
		u, err := of.ProxyFunc()(c.url)
		if err != nil {
			return &endpoint.ProxyError{
				Value: address,
				Why:   fmt.Sprintf("the environment's proxy cannot be read: %v", err),
			}
		}
		if u == nil {
			if of.HTTPProxy != "" || of.HTTPSProxy != "" {
				c.rec.Fact(exchange.Connect, "proxy", "none: the environment makes an exception of this host")
			}
			return nil
		}
		address = u.String()
	}
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "socks5" {
		return &endpoint.ProxyError{
			Value: withoutPassword(address),
			Why: "a proxy is written http://host:port, https://host:port or socks5://host:port; or environment, or " +
				"none",
		}
	}
	p := &wire.Proxy{Scheme: u.Scheme, Host: u.Hostname(), Port: u.Port(), User: u.User.Username()}
	p.Password, _ = u.User.Password()
	if p.Port == "" {
		p.Port = map[string]string{"http": "80", "https": "443", "socks5": "1080"}[u.Scheme]
	}
	c.rec.Fact(exchange.Connect, "proxy", p.String()+", as "+v.Source+" says")
	if v.Text == "environment" {
		c.rec.Fact(exchange.Connect, "proxy", p.String()+", as the process environment says")
	}
	fromWorkspace := v.Source == "endpoint" ||
		strings.HasPrefix(v.Source, "profile ") && !strings.HasSuffix(v.Source, endpoint.Yours)
	if fromWorkspace && c.plan.ProxyOK != nil && !c.plan.ProxyOK(p.String()) {
		return &endpoint.ProxyNewError{Proxy: p.String()}
	}
	c.proxy = p
	return nil
}
