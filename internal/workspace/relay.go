package workspace

import (
	"crypto/tls"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/trust"
	"orenda/internal/user"
)

// Traced is what calls of another program are passed on to, and held against.
type Traced struct {
	To        *url.URL             // the service
	Base      call.Plan            // how it is reached
	Contracts []*contract.Contract // that may describe it

	meant bool                   // they were named, or are the endpoint's
	here  atomic.Pointer[string] // the relay's own address
}

// Here says at which address the relay listens: a contract that it serves leads there.
func (t *Traced) Here(address string) { t.here.Store(&address) }

// describe answers a GET with the contract as the relay serves it: its addresses lead to the
// relay.
func (t *Traced) describe(w *call.Imported) (out []byte, ok bool) {
	here := t.here.Load()
	u, err := url.Parse(w.URL)
	if len(t.Contracts) == 0 || here == nil || err != nil {
		return nil, false
	}
	part := 0
	if n := u.Query().Get(contract.PartQuery); n != "" {
		if part, err = strconv.Atoi(n); err != nil {
			return nil, false
		}
	}
	document, ok := t.Contracts[0].ServedFrom(*here, part)
	if !ok {
		return nil, false
	}
	return response("200 OK", "text/xml; charset=utf-8", document), true
}

// Traced makes what a relay needs, for an address or an endpoint of the workspace; w may be
// nil where there is none. Where contracts are given, those of the workspace are left out.
func (w *Workspace) Traced(to, environment string, contracts ...*contract.Contract) (*Traced, error) {
	t := &Traced{
		Base:      call.Plan{Agent: call.Agent, Endpoint: "relay", Environment: environment, ReadFile: os.ReadFile},
		Contracts: contracts,
		meant:     len(contracts) > 0,
	}
	address := to
	if w != nil {
		t.Base.Workspace = w.ID()
		if environment == "" {
			environment = w.Config().Environment
		}
		if e := w.Endpoint(to); e != nil {
			t.Base.Endpoint, t.Base.ContractName, t.Base.Settings = e.Name, e.Contract, w.Settings(to)
			t.Base.ReadFile = w.ReadFile
			if w.Home != nil {
				w.lend(&t.Base) // but for what may be chosen by itself: a relay lends nothing unasked
			}
			vars, _ := w.Variables(environment)
			var err error
			if address, err = endpoint.Expand(t.Base.Settings.Text("address"), environment, vars); err != nil {
				return nil, err
			}
			if c, err := w.Contract(e.Contract); err == nil && len(contracts) == 0 {
				t.Contracts, t.meant = append(t.Contracts, c), true
			}
		} else if len(contracts) == 0 {
			for _, k := range w.Config().Contracts {
				if c, err := w.Contract(k.Name); err == nil {
					t.Contracts = append(t.Contracts, c)
				}
			}
		}
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("%s is neither an address nor an endpoint here", to)
	}
	t.To = u
	return t, nil
}

// Plan is the plan for one call of another program: with the contract that has its operation.
func (t *Traced) Plan(w *call.Imported) call.Plan {
	p := t.Base
	p.Operation = w.Method + " request"
	p.Against(w, t.Contracts, t.meant)
	return p
}

// ForwardCertificates make certificates of the local authority for the hosts whose TLS a forward
// proxy opens, and for no other. file is what the program has to trust.
func ForwardCertificates(h *user.Home, hosts []string) (of func(host string) *tls.Certificate, file string, err error) {
	file = filepath.Join(h.State, "authority.crt")
	if len(hosts) == 0 {
		return func(string) *tls.Certificate { return nil }, file, nil
	}
	key := filepath.Join(h.State, "authority.key")
	within := append([]string{"localhost", "127.0.0.1", "::1"}, hosts...)
	authority, err := trust.LocalAuthority(file, key, within, time.Now(), user.WriteFile)
	if err != nil {
		return nil, file, err
	}
	var mu sync.Mutex
	made := map[string]*tls.Certificate{}
	return func(host string) *tls.Certificate {
		if !slices.Contains(hosts, host) {
			return nil
		}
		mu.Lock()
		defer mu.Unlock()
		if made[host] == nil {
			c, err := authority.Serve([]string{host, "localhost"}, time.Now()) // OpenSSL wants a name beside an address
			if err != nil {
				return nil
			}
			made[host] = &c
		}
		return made[host]
	}, file, nil
}

// RelayCertificate is what a relay shows to programs that call over TLS: a certificate of the
// local authority, which is made where it is not there. file is what the program has to trust.
func RelayCertificate(
	h *user.Home, upstream string,
) (c tls.Certificate, authority *trust.Pair, file string, err error) {
	hosts := []string{"localhost", "127.0.0.1", "::1"}
	if upstream != "" && !slices.Contains(hosts, upstream) {
		hosts = append(hosts, upstream) // for programs that are led here by their hosts file
	}
	file = filepath.Join(h.State, "authority.crt")
	key := filepath.Join(h.State, "authority.key")
	authority, err = trust.LocalAuthority(file, key, hosts, time.Now(), user.WriteFile)
	if err != nil {
		return c, nil, file, err
	}
	c, err = authority.Serve(hosts, time.Now())
	return c, authority, file, err
}
