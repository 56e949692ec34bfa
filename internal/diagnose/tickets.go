package diagnose

import (
	"errors"
	"fmt"
	"strings"

	"orenda/internal/exchange"
)

// Findings about Kerberos: why there was no ticket for the service.

// Reasons that are known before a key distribution centre is asked.
var (
	ErrNoTicket   = errors.New("there is no ticket")
	ErrTicketOver = errors.New("the tickets have ended")
	ErrNoRealm    = errors.New("the configuration of Kerberos cannot be read")
)

// TicketError is why no ticket was had for a service.
type TicketError struct {
	Identity  string // name of the identity
	Principal string // of the service that was asked for
	Finding   string // its id
	Err       error  // what a library said
}

func (e *TicketError) Error() string {
	return "no Kerberos ticket for " + e.Principal + ": " + e.Err.Error()
}

func (e *TicketError) Unwrap() error { return e.Err }

// ticketSigns are what answers of a key distribution centre are recognised by: codes of RFC 4120
// §7.5.9, as the library writes them.
//
//nolint:gochecknoglobals // a table: it is never written to
var ticketSigns = []struct{ finding, sign string }{
	{"security.ticket-clock", "KRB_AP_ERR_SKEW"},
	{"security.ticket-clock", "clock skew"},
	{"security.ticket-principal", "KDC_ERR_S_PRINCIPAL_UNKNOWN"},
	{"security.ticket-expired", "KRB_AP_ERR_TKT_EXPIRED"},
	{"security.ticket-expired", "TGT has expired"},
	{"security.ticket-expired", "ticket has expired"},
	{"security.ticket-refused", "KDC_ERR_PREAUTH_FAILED"},
	{"security.ticket-refused", "KDC_ERR_C_PRINCIPAL_UNKNOWN"},
	{"security.ticket-refused", "decrypting AS_REP"}, // by the key of the user
	{"security.ticket-refused", "EncPart of AS_REP"},
	{"security.ticket-realm", "KDC_ERR_WRONG_REALM"},
	{"security.ticket-realm", "no KDC SRV records"},
	{"security.ticket-realm", "cannot find KDC"},
	{"security.ticket-realm", "no KDCs"},
}

// NewTicketError sorts what went wrong.
func NewTicketError(id, principal string, err error) *TicketError {
	e := &TicketError{Identity: id, Principal: principal, Finding: "security.ticket-missing", Err: err}
	switch text := err.Error(); {
	case errors.Is(err, ErrNoTicket):
	case errors.Is(err, ErrTicketOver):
		e.Finding = "security.ticket-expired"
	case errors.Is(err, ErrNoRealm):
		e.Finding = "security.ticket-realm"
	default:
		for _, s := range ticketSigns {
			if strings.Contains(text, s.sign) {
				e.Finding = s.finding
				break
			}
		}
	}
	return e
}

// ticket is the rule for one of the findings.
func ticket(id string, of func(e *TicketError) exchange.Finding) Rule {
	return Rule{id, exchange.Stop, exchange.Yours, func(c *Case) []exchange.Finding {
		e, ok := errors.AsType[*TicketError](c.Err)
		if !ok || e.Finding != id {
			return nil
		}
		f := of(e)
		f.Why += " It was said: “" + cut(e.Err.Error(), 240) + "”."
		f.Evidence = []exchange.Evidence{c.inSettings("http-auth", 0, 1)}
		return one(f)
	}}
}

//nolint:gochecknoglobals // a table: it is never written to
var ticketRules = []Rule{
	ticket("security.ticket-missing", func(e *TicketError) exchange.Finding {
		f := exchange.Finding{Title: "there is no Kerberos ticket for " + e.Principal,
			Why:     "No ticket for the service was given.",
			Program: "get a ticket first (kinit), or give your program a keytab"}
		if errors.Is(e.Err, ErrNoTicket) {
			f.Why = fmt.Sprintf("The identity %s has no ticket by which one for the service can be asked for.",
				e.Identity)
		}
		return f
	}),
	ticket("security.ticket-expired", func(*TicketError) exchange.Finding {
		return exchange.Finding{Title: "the Kerberos ticket has expired", Why: "A ticket lasts some hours.",
			Program: "renew the ticket (kinit) before it calls, or use a keytab"}
	}),
	ticket("security.ticket-clock", func(*TicketError) exchange.Finding {
		return exchange.Finding{Title: "the clocks differ too much for Kerberos",
			Why:     "The clocks of this machine and of the key distribution centre may differ by five minutes.",
			Program: "set the clock of the machine that it runs on"}
	}),
	ticket("security.ticket-principal", func(e *TicketError) exchange.Finding {
		return exchange.Finding{Title: "Kerberos knows no service " + e.Principal,
			Why: "That principal was asked for. It is made of the host in the address, unless it is set; an " +
				"alias of the host often has none.",
			Program: "call the service by the host name that its principal has, or set the principal"}
	}),
	ticket("security.ticket-realm", func(*TicketError) exchange.Finding {
		return exchange.Finding{Title: "the Kerberos realm is not known here",
			Why:     "No key distribution centre was found for it in the configuration (krb5.conf) or in the DNS.",
			Program: "set up krb5.conf for the realm on the machine that it runs on"}
	}),
	ticket("security.ticket-refused", func(e *TicketError) exchange.Finding {
		return exchange.Finding{Title: "Kerberos does not accept who calls",
			Why: fmt.Sprintf("The user of the identity %s is not known in the realm, or its secret or keytab "+
				"is wrong.", e.Identity),
			Program: "check user, realm and secret; a keytab from before the last change of the password " +
				"does not work"}
	}),
}
