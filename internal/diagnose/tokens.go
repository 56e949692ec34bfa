package diagnose

import (
	"errors"
	"fmt"

	"orenda/internal/exchange"
	"orenda/internal/xmltree"
)

// Rules of tokens from elsewhere, and of what a service confirms.
//
//nolint:gochecknoglobals // a table: it is never written to
var tokenRules = []Rule{
	{"security.assertion-expired", exchange.Warn, exchange.Yours, assertionExpired},
	{"security.log-in-failed", exchange.Stop, exchange.Yours, logInFailed},
	{"verify.certificate-expired", exchange.Warn, exchange.Theirs, signerExpired},
	{"verify.confirmation-differs", exchange.Stop, exchange.Theirs, confirmationDiffers},
}

func assertionExpired(c *Case) []exchange.Finding {
	if c.AssertionOver == "" {
		return nil
	}
	return one(exchange.Finding{
		Title: "the assertion that is sent is not valid now",
		Why: fmt.Sprintf(
			"By its own conditions %s; this machine's clock says %s.",
			c.AssertionOver,
			c.Now.UTC().Format("2006-01-02 15:04:05 UTC"),
		),
		Evidence: []exchange.Evidence{c.inSettings("token-file", 0, 1)},
		Program:  "have a new assertion issued before it calls",
	})
}

// ConfirmationError is a signature confirmation that is not of what was sent.
type ConfirmationError struct {
	At     xmltree.Span // where it stands
	Signed int          // how many signatures were sent
}

func (e *ConfirmationError) Error() string {
	return "the reply confirms a signature that was not sent"
}

func confirmationDiffers(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*ConfirmationError](c.Err)
	if !ok {
		return nil
	}
	why := "The value that it confirms is of no signature that was sent: the reply may be to another request, or " +
		"something between replaced the signature."
	if e.Signed == 0 {
		why = "It confirms a signature, and none was sent."
	}
	return one(
		exchange.Finding{
			Title:    "the reply confirms another signature than the one that was sent",
			Why:      why,
			Evidence: []exchange.Evidence{c.inReply(e.At)},
			Program:  "check that it compares the confirmation with its own signature",
		},
	)
}

// LogInError is a log-in before a call that gave no session.
type LogInError struct {
	Identity string // name of the identity
	Err      error  // what the system or a library said
}

func (e *LogInError) Error() string {
	return "the log-in of " + e.Identity + " gave no session: " + e.Err.Error()
}

func (e *LogInError) Unwrap() error { return e.Err }

func logInFailed(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*LogInError](c.Err)
	if !ok {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the log-in of " + e.Identity + " gave no session",
		Why:      e.Err.Error() + ". The log-in is an exchange of its own: traffic (t) shows it.",
		Evidence: []exchange.Evidence{c.inSettings("session", 0, 1)},
		Program:  "look whether its log-in works, and what it takes from the answer",
	})
}

func signerExpired(c *Case) []exchange.Finding {
	if c.SignerOver == "" {
		return nil
	}
	f := exchange.Finding{
		Title:   "the certificate that signed the reply is outside its dates",
		Why:     "Its signature holds, and is trusted; of the certificate: " + c.SignerOver + ".",
		Program: "be ready to refuse it; the service's people must renew the certificate",
	}
	for _, s := range c.Signatures {
		f.Evidence = append(f.Evidence, c.inReply(s.Node.Span()))
	}
	return one(f)
}
