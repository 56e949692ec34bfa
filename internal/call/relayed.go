package call

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"orenda/internal/exchange"
)

// addSecurity gives a request of another program the endpoint's security: the WS-Security header
// of its settings, and basic, bearer or session fields of HTTP. The program's own security header
// stays, and where it has one, nothing is added to the message. stopped is the exchange that says
// why it could not be done; nil: it was.
func addSecurity(ctx context.Context, p Plan, w *Imported) (stopped *exchange.Exchange) {
	d := w.document()
	if d == nil || !w.Rest.IsZero() || w.Envelope() == nil {
		return nil // no message that could carry one: it is passed on, and judged, as it is
	}
	p.imported, p.fetch, p.Changes, p.History, p.Pool = nil, nil, nil, nil, nil
	p.Until, p.AsItIs, p.Header = exchange.Security, true, nil
	p.Settings.Set("address", strings.ReplaceAll(w.URL, "$", "$$"))
	p.Settings.Set("validate", "false")
	p.Settings.Set("attachments", "none")
	p.Settings.Set("soap", w.Envelope().Version.String())
	if name, _, _ := strings.Cut(strings.ToLower(d.Encoding), " "); name != "" {
		p.Settings.Set("charset", name)
	}
	if tokenIn(w.Envelope()) != "none" {
		p.Settings.Set("token", "none")
	}
	p.setDraft(w.Readable(), d)
	c := New(p, nil)
	x := c.Run(ctx)
	if x.Outcome != exchange.OutcomePassed {
		x.Kind = "relay"
		return x
	}
	w.SetMessage(c.outs.secured.envelope)
	var set [][2]string
	if auth := c.outs.secured.credentials.authorization; auth != "" {
		set = append(set, [2]string{"Authorization", auth})
	}
	for _, f := range set {
		w.Header = slices.DeleteFunc(w.Header, func(h [2]string) bool { return strings.EqualFold(h[0], f[0]) })
	}
	w.Header = append(w.Header, set...)
	w.added = cmp.Or(x.Stage(exchange.Security).Note, noToken)
	return nil
}
