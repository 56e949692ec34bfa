package call

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	ccache "github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/spnego"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
)

// HTTP authentication by Kerberos (RFC 4559: SPNEGO over HTTP, RFC 4120).

// negotiateAs makes the token for the service: of the tickets that a person has, of a keytab, or
// of a user and a secret. What stands in the way is a *diagnose.TicketError.
func (c *securing) negotiateAs(ctx context.Context, id *identity.Identity) error {
	host, _ := endpoint.HostPort(c.url)
	principal := c.plan.Settings.Text("service-principal")
	if principal == "" {
		principal = "HTTP/" + host
	}
	fail := func(err error) error { return diagnose.NewTicketError(id.Name, principal, err) }
	conf, err := kerberosConfig()
	if err != nil {
		return fail(err)
	}
	user, realm, _ := strings.Cut(id.User, "@")
	if realm == "" {
		realm = conf.LibDefaults.DefaultRealm
	}
	var cl *client.Client
	var said string
	switch {
	case id.Keytab != "":
		k, err := keytab.Load(id.Keytab)
		if err != nil {
			return fail(fmt.Errorf("the keytab cannot be read: %w", err))
		}
		cl, said = client.NewWithKeytab(user, realm, k, conf, client.DisablePAFXFAST(true)), "keytab of "+id.User
	case id.Secret != "":
		secret, err := id.Reveal(ctx)
		if err != nil {
			return err
		}
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, secret) })
		cl, said = client.NewWithPassword(user, realm, secret, conf, client.DisablePAFXFAST(true)), "user "+id.User
	default:
		file := id.Tickets
		if file == "" {
			if file, err = ticketFile(); err != nil {
				return fail(err)
			}
		}
		cache, err := ccache.LoadCCache(file)
		if err != nil {
			return fail(fmt.Errorf("%w in %s: %w", diagnose.ErrNoTicket, file, err))
		}
		if ended := lastEnd(cache); !ended.IsZero() && ended.Before(time.Now()) {
			return fail(fmt.Errorf("%w: those in %s "+
				"ended %s", diagnose.ErrTicketOver, file, ended.UTC().Format("2006-01-02 15:04:05 UTC")))
		}
		if cl, err = client.NewFromCCache(cache, conf, client.DisablePAFXFAST(true)); err != nil {
			return fail(err)
		}
		said = "tickets in " + file
	}
	defer cl.Destroy()
	if err := cl.AffirmLogin(); err != nil {
		return fail(err)
	}
	s := spnego.SPNEGOClient(cl, principal)
	if err := s.AcquireCred(); err != nil {
		return fail(err)
	}
	token, err := s.InitSecContext()
	if err != nil {
		return fail(err)
	}
	b, err := token.Marshal()
	if err != nil {
		return fail(err)
	}
	c.credentials.authorization = "Negotiate " + base64.StdEncoding.EncodeToString(b)
	c.rec.Update(func(x *exchange.Exchange) {
		x.Secrets = append(
			x.Secrets,
			c.credentials.authorization,
			strings.TrimPrefix(c.credentials.authorization, "Negotiate "),
		)
	})
	c.rec.Fact(exchange.Security, "Kerberos", said+", for "+principal)
	return nil
}

// lastEnd is when the last of the tickets in a file ends; zero: there is none.
func lastEnd(cache *ccache.CCache) (last time.Time) {
	for _, c := range cache.Credentials {
		if c.EndTime.After(last) {
			last = c.EndTime
		}
	}
	return last
}

// kerberosFile is the configuration of the system, or that of KRB5_CONFIG.
func kerberosFile() string { return cmp.Or(os.Getenv("KRB5_CONFIG"), "/etc/krb5.conf") }

// kerberosConfig reads it.
func kerberosConfig() (*config.Config, error) {
	conf, err := config.Load(kerberosFile())
	if err != nil {
		var unsupported config.UnsupportedDirective
		if errors.As(err, &unsupported) {
			return conf, nil
		}
		return nil, fmt.Errorf("%w: %w", diagnose.ErrNoRealm, err)
	}
	return conf, nil
}

// ticketFile is where a person's tickets are: by KRB5CCNAME, by default_ccache_name of the configuration, or in
// the usual file.
func ticketFile() (string, error) {
	name, said := os.Getenv("KRB5CCNAME"), "KRB5CCNAME"
	if name == "" {
		name, said = defaultTickets(), "default_ccache_name in "+kerberosFile()
	}
	if name == "" {
		return "/tmp/krb5cc_" + strconv.Itoa(os.Getuid()), nil
	}
	kind, rest, typed := strings.Cut(name, ":")
	switch {
	case !typed || strings.Contains(kind, "/"):
		return name, nil
	case kind == "FILE":
		return rest, nil
	case kind == "DIR" && strings.HasPrefix(rest, ":"): // one of them
		return rest[1:], nil
	case kind == "DIR": // the one that its file primary names
		b, err := os.ReadFile(filepath.Join(rest, "primary"))
		if err != nil {
			return filepath.Join(rest, "tkt"), nil
		}
		return filepath.Join(rest, filepath.Base(strings.TrimSpace(string(b)))), nil
	}
	return "", fmt.Errorf("%s is %s, and tickets are read from files alone: use kinit -c FILE, and "+
		"tickets = FILE in the identity", said, name)
}

// defaultTickets is default_ccache_name of the configuration; "" it says none.
func defaultTickets() string {
	b, err := os.ReadFile(kerberosFile())
	if err != nil {
		return ""
	}
	section := ""
	for line := range strings.Lines(string(b)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			section = strings.Trim(line, "[] ")
			continue
		}
		key, value, is := strings.Cut(line, "=")
		if !is || section != "libdefaults" || strings.TrimSpace(key) != "default_ccache_name" {
			continue
		}
		uid := strconv.Itoa(os.Getuid())
		who := ""
		if u, err := user.Current(); err == nil {
			who = u.Username
		}
		return strings.NewReplacer("%{uid}", uid, "%{euid}", uid, "%{USERID}", uid, "%{username}", who,
			"%{TEMP}", strings.TrimSuffix(os.TempDir(), "/"), "%{null}", "").Replace(strings.TrimSpace(value))
	}
	return ""
}
