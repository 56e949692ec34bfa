package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/relay"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// forward is a relay that programs use as a proxy, until the command is interrupted.
func (t *commandLine) forward(ctx context.Context, f *relaying, w *workspace.Workspace) error {
	if f.To != "" || f.ListenTLS != "" || f.keepAs != "" {
		return errors.New("--forward goes wherever the program asks: --to, --listen-tls and --keep-as are for " +
			"another relay")
	}
	values := f.set()
	var contracts []*contract.Contract
	if f.Contract != "" {
		d, err := t.contractFrom(ctx, f.Contract, forDescription(values))
		if err != nil {
			return err
		}
		contracts = append(contracts, d.Contract)
	}
	traced, err := w.Traced("http://forward.invalid/", f.env, contracts...)
	if err != nil {
		return err
	}
	for key, v := range values {
		traced.Base.Settings.Set(key, v...)
	}
	traced.Base.Endpoint = "forward"
	h, err := t.home()
	if err != nil {
		return err
	}
	var hosts []string
	for _, host := range f.open {
		hosts = append(hosts, strings.ToLower(strings.TrimSpace(host)))
	}
	opens, authority, err := workspace.ForwardCertificates(h, hosts)
	if err != nil {
		return unread{err}
	}
	if len(hosts) > 0 {
		if err := t.authority(authority, f.authorityOut); err != nil {
			return unread{err}
		}
	}
	j, err := t.journal()
	if err != nil {
		return err
	}
	behind := journal.NewBehind(journal.Adding(j), func(x *exchange.Exchange, err error) {
		if err != nil {
			t.complain(fmt.Errorf("the exchange was not kept: %w", err))
		}
		t.relayed(x, f.bytesToo)
	})
	defer behind.Close()
	r, err := relay.Listen(relay.Options{
		Listen: f.Listen, Keep: behind.Add,
		TurnedAway: t.turnedAway(),
		Plan:       func(w *call.Imported) call.Plan { return traced.Plan(w) },
		Forward:    &relay.Forward{Opens: opens, Other: t.passedBy()},
	})
	if err != nil {
		return unread{err}
	}
	defer r.Close()
	t.lingers.Add(1)
	at := (&url.URL{Scheme: "http", Host: r.ListensAt()[0]}).String()
	fmt.Fprintf(t.aside(), "forward proxy at %s\n", at)
	if len(hosts) == 0 {
		fmt.Fprintln(t.aside(), "TLS passes through unread; --open HOST opens it")
	} else {
		fmt.Fprintf(t.aside(), "TLS is opened to %s; to other hosts it passes through "+
			"unread\n", safe.Line(strings.Join(hosts, ", ")))
	}
	if t.asJSON {
		b, _ := json.Marshal(map[string][]string{"listening": {at}})
		t.printing.Lock()
		fmt.Fprintf(t.out, "%s\n", b)
		t.printing.Unlock()
	}
	<-ctx.Done()
	return nil
}

// passedBy tells of what passed and was no call: the first time of each host, and then each time
// that there are ten times as many.
func (t *commandLine) passedBy() func(host string, bytes int64, read bool) {
	type seen struct{ n, bytes, told int64 }
	var mu sync.Mutex
	hosts := map[string]*seen{}
	const most = 1000 // hosts that are told apart
	return func(host string, bytes int64, read bool) {
		mu.Lock()
		defer mu.Unlock()
		if len(hosts) >= most && hosts[host] == nil {
			host = "others"
		}
		s := hosts[host]
		if s == nil {
			s = &seen{told: 1}
			hosts[host] = s
		}
		s.n++
		s.bytes += bytes
		if s.n < s.told {
			return
		}
		s.told *= 10
		how := "passed unread"
		if read {
			how = "was no call"
		}
		fmt.Fprintf(t.aside(), "%s %s: %d so far, %s bytes\n", safe.Line(host), how, s.n, endpoint.Bytes(s.bytes))
	}
}
