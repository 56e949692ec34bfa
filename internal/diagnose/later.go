package diagnose

import (
	"fmt"
	"net/url"
	"slices"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Findings about answers that come later, over a connection of the service's own.

func answerMissing(c *Case) []exchange.Finding {
	e := c.onWire("wait.answer-missing")
	if e == nil || c.Later == nil {
		return nil
	}
	l, limit := c.Later, fell(e, "answer-time")
	f := exchange.Finding{
		Title:    "the answer that was to come later did not come",
		Evidence: append([]exchange.Evidence{c.inSettings("reply-to", 0, 1)}, c.inSettings(limit, 0, 1)),
		Remedies: c.moreTime(limit),
	}
	f.Why = fmt.Sprintf("The service took the message, and its answer was to come to %s. ", l.Address)
	switch {
	case len(l.Seen) == 0:
		f.Why += fmt.Sprintf("Nothing came to the listener at %s %s.%s", l.Listens,
			c.within(e, "answer-time"), c.total(e))
		f.Program = "check that the service can reach the address that the message names as ReplyTo, and that it " +
			"is the one that is listened on"
		if host := hostOf(l.Address); endpoint.IsLoopback(host) && !endpoint.IsLoopback(hostOf(c.X.AddressText())) {
			f.Why += fmt.Sprintf(" %s is this machine alone: the service, on another one, cannot reach it.", host)
			f.Side = exchange.Yours
		}
	default:
		var said []string
		for _, s := range l.Seen {
			text := s.From + " called " + s.Path + ": " + s.Wrong
			if s.Path == "" {
				text = s.From + " called: " + s.Wrong
			}
			if s.RelatesTo != "" {
				text += " (" + s.RelatesTo + ")"
			}
			said = append(said, text)
		}
		f.Why += "What came was not it: " + list(said, 3) + "."
		f.Side, f.Program = exchange.Theirs, "match answers by RelatesTo; the service answers another message, "+
			"or at another path"
		if l.Trust != "" && !slices.ContainsFunc(l.Seen, func(s exchange.CalledBack) bool { return s.Path != "" }) {
			f.Program = "the service has to trust the certificate of the listener: give its people the file " + l.Trust
		}
	}
	return one(f)
}

func answerEarly(c *Case) []exchange.Finding {
	if c.Later == nil || !c.Later.Early {
		return nil
	}
	return one(exchange.Finding{
		Title: "the answer came before the message was acknowledged",
		Why: "The service called back while the connection of the message was still open. A program that " +
			"begins to listen only then misses it.",
		Program:  "listen before the message is sent",
		Evidence: []exchange.Evidence{c.inSettings("reply-to", 0, 1)},
	})
}

func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}
