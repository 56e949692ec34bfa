package call

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/xmltree"
)

// Fetched is a description with the exchanges that brought it.
type Fetched struct {
	Contract  *contract.Contract   // nil where it could not be read
	Served    string               // host and port that served it, "" for a file
	Exchanges []*exchange.Exchange // none for a file; the last one is what counts
	Tried     []string             // addresses that were tried where a page came first

	began func(address string) // told of every document that is asked for
	meant string               // the place that secrets of the plan are meant for
}

// ErrStopped is a fetch that stopped on the path: the last exchange says why.
var ErrStopped = errors.New("the description could not be fetched")

const (
	maxRedirects = 5
	fetchLimit   = "128 MiB"
)

// Fetch loads a description from a file or an address. The plan's settings
// (trust, proxy, limits) serve for every document. began, which may be nil, is
// told the address of each as it is asked for.
func Fetch(ctx context.Context, source string, p Plan, began func(address string)) (*Fetched, error) {
	source = contract.Spelled(source)
	if began == nil {
		began = func(string) {}
	}
	f := &Fetched{began: began, meant: place(source)}
	if !contract.IsRemote(source) {
		src, err := os.ReadFile(source)
		if err != nil {
			return f, err
		}
		f.Contract, err = contract.Load(
			ctx,
			source,
			src,
			func(ctx context.Context, loc string) ([]byte, error) { return f.part(ctx, p, loc) },
		)
		return f, err
	}
	queue, meant := []string{source}, 0
	for tried := 0; len(queue) > 0 && tried < 8; tried++ {
		at := queue[0]
		queue = queue[1:]
		if tried > 0 {
			f.Tried = append(f.Tried, at)
		}
		x, page, err := f.one(ctx, at, p)
		if err == nil {
			return f, nil
		}
		if tried == 0 {
			meant = len(f.Exchanges) - 1
		}
		if page != nil && tried == 0 && len(contract.Linked(page, at)) < 2 { // else one is to be chosen
			queue = contract.Candidates(page, at)
		}
		if x.Outcome == exchange.OutcomeCancelled {
			break
		}
	}
	if n := len(f.Exchanges); n > 1 {
		// What the person asked for, and was sent on to, counts; the others were guesses.
		last := f.Exchanges[meant]
		f.Exchanges = append(slices.Delete(f.Exchanges, meant, meant+1), last)
		c := last.Cause()
		if c != nil && meant > 0 {
			c.Why += fmt.Sprintf(" The server sends there from %s.", source)
		}
		if c != nil && len(f.Tried) > 0 {
			c.Why += " Tried besides: " + strings.Join(f.Tried, ", ") + "."
		}
	}
	return f, ErrStopped
}

// one fetches a description from one address. page is what came where it was no description: a page, or what a
// service says that takes no GET.
func (f *Fetched) one(ctx context.Context, at string, p Plan) (x *exchange.Exchange, page []byte, err error) {
	p.Operation = "description"
	call, asked, err := f.get(ctx, at, p, nil, func(p Plan, body []byte, location string) error {
		c, err := contract.Load(
			ctx,
			location,
			body,
			func(ctx context.Context, loc string) ([]byte, error) { return f.part(ctx, p, loc) },
		)
		if err == nil {
			f.Contract = c
		}
		return err
	})
	f.Exchanges = append(f.Exchanges, asked...)
	x = asked[len(asked)-1]
	if err == nil {
		if u := call.outs.crossed.url; u != nil {
			h, port := endpoint.HostPort(u)
			f.Served = net.JoinHostPort(h, port)
		}
		return x, nil, nil
	}
	l := x.Leg()
	if l != nil && l.Response.Complete && maybeBeside(l.Response.Status, l.ResponseBody.Bytes()) {
		page = append([]byte{}, l.ResponseBody.Bytes()...) // a page, or the service that takes no GET
	}
	return x, page, err
}

// get asks for a document with GET, and follows where it is sent on. There is at least one exchange, and the last
// one is what counts; call is its call. may says whether a place that an answer points to may be asked, and why not.
func (f *Fetched) get(ctx context.Context, at string, p Plan, may func(at string) error,
	read func(p Plan, body []byte, location string) error,
) (call *Call, asked []*exchange.Exchange, err error) {
	p.Endpoint = "description"
	for hop := 0; ; hop++ {
		p := f.only(p, at)
		p.Settings.Set("address", strings.ReplaceAll(at, "$", "$$"))
		if !p.Settings.Get("receive-limit").IsSet() {
			p.Settings.Set("receive-limit", fetchLimit)
		}
		p.fetch = &fetching{read: func(body []byte, location string) error { return read(p, body, location) }}
		call = New(p, nil)
		f.began(at)
		x := call.Run(ctx)
		asked = append(asked, x)
		if x.Outcome == exchange.OutcomePassed {
			return call, asked, nil
		}
		if at = sentOn(at, x.Leg()); at == "" || hop == maxRedirects {
			return call, asked, ErrStopped
		}
		if may != nil {
			if err := may(at); err != nil {
				return call, asked, fmt.Errorf("the server sends on to %s: %w", at, err)
			}
		}
	}
}

// sentOn is where an answer sends a fetch on to (RFC 9110 §15.4); "" where it does not, or where that is no address
// of HTTP, or one without TLS after one with it.
func sentOn(at string, l *exchange.Leg) string {
	if l == nil || l.Response.Status < 300 || l.Response.Status > 399 || l.Response.Get("Location") == "" {
		return ""
	}
	base, err := url.Parse(at)
	if err != nil {
		return ""
	}
	to, err := base.Parse(l.Response.Get("Location"))
	if err != nil || !contract.IsRemote(to.String()) || base.Scheme == "https" && to.Scheme == "http" ||
		to.String() == base.String() {
		return ""
	}
	return to.String()
}

// maybeBeside tells whether an answer leads one to look for the description beside the
// address: a page, or the service itself, which takes no GET, or answers it with nothing, with
// plain text, or with an envelope.
func maybeBeside(status int, body []byte) bool {
	switch status {
	case http.StatusBadRequest, http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusUnsupportedMediaType,
		http.StatusInternalServerError, http.StatusNotImplemented:
		return true
	}
	body = bytes.TrimSpace(body)
	if status >= 300 || contract.LooksLikeHTML(body) {
		return contract.LooksLikeHTML(body)
	}
	d, err := xmltree.ParseEncoded(body, "", xmltree.Limits{})
	return !bytes.HasPrefix(body, []byte("<")) ||
		err == nil && slices.Contains([]string{"Envelope", "discovery"}, d.Root().Name().Local)
}

// place is the scheme, host and port of an address; "" it has none.
func place(address string) string {
	u, err := endpoint.ParseAddress(address)
	if err != nil {
		return ""
	}
	host, port := endpoint.HostPort(u)
	return u.Scheme + "://" + net.JoinHostPort(host, port)
}

// only is the plan for an address: what is secret in it goes to the place that it was
// meant for, and neither where that redirects to nor where a description points to.
func (f *Fetched) only(p Plan, address string) Plan {
	if place(address) == f.meant {
		return p
	}
	for _, k := range endpoint.Keys {
		if k.OfPerson {
			p.Settings.Set(k.Name)
		}
	}
	for name, none := range map[string]string{"token": "none", "http-auth": "none", "connect-to": "", "reply-to": ""} {
		p.Settings.Set(name, none)
	}
	for _, name := range []string{"client-cert", "client-key", "sign", "token-file"} {
		p.Settings.Set(name)
	}
	names := exchange.SecretNames(p.Settings.List("secret"))
	p.Settings.Set("header", slices.DeleteFunc(slices.Clone(p.Settings.List("header")), func(h string) bool {
		name, _, _ := strings.Cut(h, ":")
		return names.Name(strings.TrimSpace(name))
	})...)
	p.Candidates = nil
	return p
}

// part fetches what a description points to.
func (f *Fetched) part(ctx context.Context, p Plan, location string) ([]byte, error) {
	if !contract.IsRemote(location) {
		return contract.ReadLocal(location)
	}
	from := f.origin(p)
	may := func(at string) error { return f.mayLead(from, at, p.Also) }
	if err := may(location); err != nil {
		return nil, err
	}
	var body []byte
	p.Operation = "part of the description"
	_, asked, err := f.get(ctx, location, p, may, func(_ Plan, b []byte, _ string) error {
		body = b
		return contract.NoPart(b)
	})
	switch c := asked[len(asked)-1].Cause(); {
	case err == nil:
		return body, nil
	case !errors.Is(err, ErrStopped):
		return nil, err
	case c != nil && c.ID == "read.not-description":
		return nil, errors.New("i" + strings.TrimSuffix(strings.TrimPrefix(c.Why, "I"), "."))
	case c != nil:
		return nil, errors.New(c.Title)
	}
	return nil, err
}

// mayLead tells whether what a host served may lead to a place, and why not.
func (f *Fetched) mayLead(from, location string, also []string) error {
	u, err := url.Parse(location)
	if err != nil {
		return err
	}
	if f.isPrivate(u.Hostname()) && !f.isPrivate(from) {
		return fmt.Errorf("a description from outside may not lead to the private address %s", u.Host)
	}
	if from != "" && !strings.EqualFold(u.Hostname(), from) && !slices.Contains(also, u.Hostname()) {
		return fmt.Errorf("it lies on another host, %s, and is not fetched: --also %s allows it",
			u.Hostname(), u.Hostname())
	}
	return nil
}

func (f *Fetched) origin(p Plan) string {
	u, err := url.Parse(p.Settings.Text("address"))
	if err != nil {
		return ""
	}
	return u.Hostname()
}

func (f *Fetched) isPrivate(host string) bool {
	if host == "localhost" || !strings.Contains(host, ".") && net.ParseIP(host) == nil {
		return true
	}
	return endpoint.IsPrivate(net.ParseIP(host))
}

// description is the read stage of a fetch.
func (c *reading) description(ctx context.Context) (exchange.Stage, error) {
	h := &c.leg.Response
	if h.Status >= 300 {
		return exchange.Receive, fmt.Errorf("the status is %d", h.Status)
	}
	c.rec.Begin(exchange.Read)
	if c.leg.ResponseBody.IsZero() {
		return exchange.Read, diagnose.EmptyError{}
	}
	body := inUTF8(c.leg.ResponseBody.Bytes(), charset(h.Get("Content-Type")))
	c.doc = &xmltree.Document{Src: body}
	if err := c.plan.fetch.read(body, c.url.String()); err != nil {
		if ctx.Err() != nil {
			return exchange.Read, ctx.Err()
		}
		var syntax *xmltree.SyntaxError
		if errors.As(err, &syntax) {
			c.syntax = syntax
			return exchange.Read, err
		}
		stop := diagnose.NotDescriptionError{Err: err}
		if contract.LooksLikeHTML(c.leg.ResponseBody.Bytes()) {
			stop.Links = contract.Linked(c.leg.ResponseBody.Bytes(), c.url.String())
		}
		return exchange.Read, stop
	}
	c.rec.End(exchange.Read, exchange.Passed, "a description")
	c.rec.End(exchange.Verify, exchange.Skipped, "")
	c.rec.Update(func(x *exchange.Exchange) { x.Result = endpoint.Bytes(c.leg.ResponseBody.Len()) + " bytes" })
	return exchange.Verify, nil
}

// inUTF8 is a document of which only the head says its encoding (RFC 7303 §3), written so that it can be read
// without the head; any other is given back as it is.
func inUTF8(body []byte, said string) []byte {
	if own, _, err := xmltree.Recoding(body, ""); err != nil || own != nil || xmltree.DeclaredEncoding(body) != "" {
		return body
	}
	r, _, err := xmltree.Recoding(body, said)
	if err != nil || r == nil {
		return body
	}
	out, err := io.ReadAll(r)
	if err != nil {
		return body
	}
	return out
}

// Chain goes to an address as far as TLS, to see the chain that is sent. Nothing
// that is secret is needed for it, and none is read.
func Chain(ctx context.Context, p Plan) *exchange.Exchange {
	p.Until = exchange.TLS
	p.Settings.Set("token", "none")
	p.Settings.Set("http-auth", "none")
	p.fetch = &fetching{}
	x := New(p, nil).Run(ctx)
	x.Kind = "chain"
	return x
}
