package workspace

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/near"
	"orenda/internal/relay"
	"orenda/internal/tomledit"
	"orenda/internal/user"
)

// RelaysFile is the file in which a workspace keeps its relays.
const RelaysFile = "relays.toml"

// Route is a relay as a file keeps it, in its table [relay.NAME].
type Route struct {
	Name       string   `toml:"-"`           // of its table
	Listen     string   `toml:"listen"`      // address for plain HTTP; "" a free port on loopback
	ListenTLS  string   `toml:"listen-tls"`  // address for TLS; "" none
	To         string   `toml:"to"`          // address of the service, or
	Endpoint   string   `toml:"endpoint"`    // an endpoint of the workspace
	Contract   string   `toml:"contract"`    // description to hold the calls against, FILE or URL
	Keep       string   `toml:"keep"`        // which exchanges are kept: all, failed, or 1/N
	Add        []string `toml:"add"`         // "Name: value": fields that each request gets on its way
	Answers    bool     `toml:"answers"`     // answers that come later come through it too
	Secure     bool     `toml:"secure"`      // each request gets the endpoint's security on its way
	Identity   string   `toml:"identity"`    // whose security that is; "" the endpoint's
	Bodies     string   `toml:"bodies"`      // what is kept of bodies: whole, a size as 4 KiB, or none
	PathSecret bool     `toml:"path-secret"` // a part of the path that nobody guesses is demanded
	Trust      []string `toml:"trust"`       // files of certificates that are trusted at the service
	Outside    bool     `toml:"outside"`     // it may listen beyond loopback, over TLS
	Plain      bool     `toml:"plain"`       // and there without TLS too
	Allow      []string `toml:"allow"`       // networks from which programs may call, as 10.1.0.0/16
	Names      []string `toml:"names"`       // hosts by which programs reach it
	Cert       string   `toml:"certificate"` // that it shows over TLS, PEM; else one of the local authority
	Key        string   `toml:"key"`         // of that certificate, PEM
	Describe   bool     `toml:"describe"`    // a GET gets the contract, with the relay as its address
}

// Routes are a file of relays. Its head is for those that run as a service.
type Routes struct {
	Journal      string            `toml:"journal"`       // where exchanges are kept: a folder, or postgres://…
	PasswordFrom string            `toml:"password-from"` // where the password of the journal is
	OTLP         string            `toml:"otlp"`          // where spans are sent; "" nowhere
	Metrics      string            `toml:"metrics"`       // address of /metrics, /livez and /readyz; "" none
	DrainTime    string            `toml:"drain-time"`    // for calls under way at the end; "" 10s
	Relay        map[string]*Route `toml:"relay"`         // by their names
}

// ReadRoutes reads a file of relays, sorted by their names. What is not a key of it is an error.
func ReadRoutes(file string) ([]*Route, error) {
	_, out, err := ReadService(file)
	return out, err
}

// ReadService reads a file of relays with its head.
func ReadService(file string) (all Routes, out []*Route, err error) {
	src, err := os.ReadFile(file)
	if err != nil {
		return all, nil, err
	}
	if err := tomledit.Decode(file, src, &all); err != nil {
		return all, nil, err
	}
	if err := onlyKeys(file, src, all.keys()); err != nil {
		return all, nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(all.Relay)) {
		r := all.Relay[name]
		r.Name = name
		if err := r.check(); err != nil {
			return all, nil, fmt.Errorf("%s: relay.%s: %w", file, name, err)
		}
		out = append(out, r)
	}
	return all, out, nil
}

// Drain is how long calls under way have at the end.
func (r *Routes) Drain() (time.Duration, error) {
	if r.DrainTime == "" {
		return 10 * time.Second, nil
	}
	return endpoint.ParseDuration(r.DrainTime)
}

// keys are those of a route, in a file.
func (Routes) keys() (out []string) {
	t := reflect.TypeFor[Route]()
	for i := range t.NumField() {
		if name := t.Field(i).Tag.Get("toml"); name != "-" {
			out = append(out, name)
		}
	}
	return out
}

// onlyKeys tells of a key of a relay that there is not.
func onlyKeys(file string, src []byte, keys []string) error {
	var all struct {
		Relay map[string]map[string]any `toml:"relay"`
	}
	if err := tomledit.Decode(file, src, &all); err != nil {
		return err
	}
	for relay, set := range all.Relay {
		for key := range set {
			if slices.Contains(keys, key) {
				continue
			}
			said := fmt.Errorf("%s: relay.%s has no key %s", file, relay, key)
			if meant := near.Miss(key, keys); meant != "" {
				said = fmt.Errorf("%w; %s is one", said, meant)
			}
			return said
		}
	}
	return nil
}

func (r *Route) check() error {
	if (r.To == "") == (r.Endpoint == "") {
		return errors.New("it leads to an address (to) or to an endpoint (endpoint), one of them")
	}
	fields, err := r.fields()
	if err != nil {
		return err
	}
	for _, f := range fields {
		if exchange.SecretName(f[0]) {
			return fmt.Errorf("add: %s holds a secret, which stands in no file; give it with --add", f[0])
		}
	}
	if _, err := r.networks(); err != nil {
		return err
	}
	if (r.Cert == "") != (r.Key == "") {
		return errors.New("certificate and key belong together")
	}
	if _, err = r.Sampling(); err == nil {
		_, err = r.Trimming()
	}
	return err
}

// networks are those from which programs may call.
func (r *Route) networks() (out []netip.Prefix, err error) {
	for _, text := range r.Allow {
		p, err := netip.ParsePrefix(text)
		if a, aerr := netip.ParseAddr(text); err != nil && aerr == nil {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return nil, fmt.Errorf("allow: %q is no network; it is like 10.1.0.0/16", text)
		}
		out = append(out, p)
	}
	return out, nil
}

// Trimming cuts what is kept of the bodies of an exchange; it is the identity where they are kept
// whole.
func (r *Route) Trimming() (cut func(*exchange.Exchange) *exchange.Exchange, err error) {
	most := int64(0)
	switch r.Bodies {
	case "", "whole":
		return func(x *exchange.Exchange) *exchange.Exchange { return x }, nil
	case "none":
	default:
		if most, err = endpoint.ParseSize(r.Bodies); err != nil {
			return nil, fmt.Errorf("bodies = %q; it is whole, none, or a size as 4 KiB", r.Bodies)
		}
	}
	return func(x *exchange.Exchange) *exchange.Exchange { return x.WithBodies(most) }, nil
}

// Leads is where it leads: an endpoint or an address.
func (r *Route) Leads() string {
	if r.Endpoint != "" {
		return r.Endpoint
	}
	return r.To
}

// fields are those that are added.
func (r *Route) fields() (out [][2]string, err error) {
	for _, text := range r.Add {
		f, err := Field(text)
		if err != nil {
			return nil, fmt.Errorf("add: %w", err)
		}
		out = append(out, f)
	}
	return out, nil
}

// Sampling tells which of the exchanges are kept, from several goroutines: all, those that
// failed, or one in so many and all that failed.
func (r *Route) Sampling() (wanted func(*exchange.Exchange) bool, err error) {
	failed := func(x *exchange.Exchange) bool { return x.Outcome != exchange.OutcomePassed }
	switch {
	case r.Keep == "" || r.Keep == "all":
		return func(*exchange.Exchange) bool { return true }, nil
	case r.Keep == "failed":
		return failed, nil
	}
	if of, ok := strings.CutPrefix(r.Keep, "1/"); ok {
		if n, err := strconv.ParseInt(of, 10, 32); err == nil && n > 0 {
			var count atomic.Int64
			return func(x *exchange.Exchange) bool { return count.Add(1)%n == 1%n || failed(x) }, nil
		}
	}
	return nil, fmt.Errorf("keep = %q; it is all, failed, or one in so many as 1/100", r.Keep)
}

// Answering is what the relay does besides passing on.
func (r *Route) Answering() (a Answering, err error) {
	a.Add, err = r.fields()
	a.Secure = r.Secure || r.Identity != ""
	a.Describe, a.Answers = r.Describe, r.Answers
	return a, err
}

// Options are what a relay listens with, for a route to what it is traced against. What it
// shows over TLS is made where it is asked for; authority is the file that programs have to trust.
func (r *Route) Options(h *user.Home, t *Traced) (o relay.Options, authority string, err error) {
	a, err := r.Answering()
	if err != nil {
		return o, "", err
	}
	o = relay.Options{Listen: r.Listen, To: t.To, Plan: t.Plan, Change: a.Change, Answers: r.Answers}
	o.Answer = func(w *call.Imported) ([]byte, time.Duration, bool) {
		out, ok := t.Answer(&a, w)
		return out, a.After, ok
	}
	set := &t.Base.Settings
	if t.Base.AddSecurity = a.Secure; r.Identity != "" {
		set.Set("identity", r.Identity)
	}
	named := slices.ContainsFunc(a.Add, func(f [2]string) bool { return exchange.SecretName(f[0]) })
	if r.PathSecret || named || a.Secure || set.Text("client-cert") != "" || set.Text("client-identity") != "" {
		o.Secret = relay.NewSecret()
	}
	if o.Allow, err = r.networks(); err != nil {
		return o, "", err
	}
	o.Beyond, o.Plain, o.Names = r.Outside, r.Plain, r.Names
	if len(r.Trust) > 0 {
		set.Set("trust", r.Trust...)
	}
	if r.ListenTLS != "" && r.Cert != "" {
		c, err := tls.LoadX509KeyPair(r.Cert, r.Key)
		if err != nil {
			return o, "", err
		}
		o.ListenTLS, o.Certificate = r.ListenTLS, &c
	} else if r.ListenTLS != "" {
		c, _, file, err := RelayCertificate(h, t.To.Hostname())
		if err != nil {
			return o, "", err
		}
		o.ListenTLS, o.Certificate, authority = r.ListenTLS, &c, file
	}
	return o, authority, nil
}

// Routes are the relays that the workspace keeps, by their names; none where there is no file.
func (w *Workspace) Routes() ([]*Route, error) {
	if w.Dir() == "" {
		return nil, nil
	}
	all, err := ReadRoutes(filepath.Join(w.Dir(), RelaysFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return all, err
}

// Route is the kept relay of that name.
func (w *Workspace) Route(name string) (*Route, error) {
	all, err := w.Routes()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range all {
		if r.Name == name {
			return r, nil
		}
		names = append(names, r.Name)
	}
	if meant := near.Miss(name, names); meant != "" {
		return nil, fmt.Errorf("the workspace keeps no relay %s; %s is kept", name, meant)
	}
	return nil, fmt.Errorf("the workspace keeps no relay %s", name)
}

// KeepRoute keeps a relay in the workspace; what else stands in the file stays.
func (w *Workspace) KeepRoute(r *Route) error {
	if w.Dir() == "" {
		return errors.New("save the workspace first: relays are kept in its folder")
	}
	if err := r.check(); err != nil {
		return err
	}
	return w.editRoutes(func(src []byte) (_ []byte, err error) {
		for _, set := range []struct {
			key   string
			value any
			is    bool
		}{
			{"listen", r.Listen, r.Listen != ""}, {"listen-tls", r.ListenTLS, r.ListenTLS != ""},
			{"to", r.To, r.To != ""}, {"endpoint", r.Endpoint, r.Endpoint != ""},
			{"contract", r.Contract, r.Contract != ""}, {"keep", r.Keep, r.Keep != ""},
			{"add", r.Add, len(r.Add) > 0}, {"secure", r.Secure, r.Secure},
			{"answers", r.Answers, r.Answers}, {"identity", r.Identity, r.Identity != ""},
			{"bodies", r.Bodies, r.Bodies != ""},
			{"path-secret", r.PathSecret, r.PathSecret}, {"describe", r.Describe, r.Describe},
		} {
			if !set.is {
				src, err = tomledit.Remove(src, []string{"relay", r.Name, set.key})
			} else {
				src, err = tomledit.Set(src, []string{"relay", r.Name, set.key}, set.value)
			}
			if err != nil {
				return nil, err
			}
		}
		return src, nil
	})
}

// DropRoute takes a relay out of the workspace.
func (w *Workspace) DropRoute(name string) error {
	return w.editRoutes(func(src []byte) ([]byte, error) {
		return tomledit.Remove(src, []string{"relay", name})
	})
}

func (w *Workspace) editRoutes(change func(src []byte) ([]byte, error)) error {
	file := filepath.Join(w.Dir(), RelaysFile)
	src, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if src, err = change(src); err != nil {
		return err
	}
	return w.store().write(RelaysFile, src)
}

// relayApproval is for what a relay that a workspace keeps is approved: to listen, and to lead
// where its file says.
const relayApproval = "relay"

// RouteApproved tells whether the person let the workspace's relay listen and lead where it does.
func (w *Workspace) RouteApproved(r *Route) bool {
	return w.Home != nil && w.Home.Allowed(w.ID(), relayApproval, r.approval())
}

// ApproveRoute lets the workspace's relay listen and lead where it does now.
func (w *Workspace) ApproveRoute(r *Route) error {
	return w.Home.Allow(w.ID(), relayApproval, r.approval())
}

func (r *Route) approval() string {
	return strings.Join([]string{r.Listen, r.ListenTLS, r.Leads(), r.Contract, strings.Join(r.Add, "\n"),
		fmt.Sprint(r.Secure, r.Outside, r.Plain, r.Allow, r.Trust, r.Cert), r.Identity}, " → ")
}
