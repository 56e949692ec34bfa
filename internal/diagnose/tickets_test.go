package diagnose

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where the key distribution centre cannot be asked, nothing is said about the tickets that there are.
func TestNoCauseIsMadeUpForATicket(t *testing.T) {
	for err, want := range map[error]string{
		ErrNoTicket: "has no ticket by which", errors.New("failed to communicate with KDC"): "No ticket for the service",
	} {
		c := answered(200, "text/xml", "<a/>")
		c.ReplyDoc, c.Reply = nil, nil
		c.Err = NewTicketError("ines", "HTTP/quay.skerry.test", err)
		assert.Contains(t, Run(c)[0].Why, want)
	}
}

// What a key distribution centre answers is sorted by its codes.
func TestWhyThereIsNoTicket(t *testing.T) {
	for said, want := range map[string]string{
		"KRB Error: (37) KRB_AP_ERR_SKEW Clock skew too great":                              "security.ticket-clock",
		"KRB Error: (7) KDC_ERR_S_PRINCIPAL_UNKNOWN Server not found in Kerberos database":  "security.ticket-principal",
		"KRB Error: (24) KDC_ERR_PREAUTH_FAILED Pre-authentication information was invalid": "security.ticket-refused",
		"KRB Error: (32) KRB_AP_ERR_TKT_EXPIRED Ticket expired":                             "security.ticket-expired",
		"no KDC SRV records found for realm NOWHERE.TEST":                                   "security.ticket-realm",
		"could not find TGT session for SKERRY.TEST":                                        "security.ticket-missing",
		"error decrypting AS_REP encrypted part: integrity verification failed":             "security.ticket-refused",
		"error decrypting TGS_REP EncPart":                                                  "security.ticket-missing",
		"something that nobody knows":                                                       "security.ticket-missing",
	} {
		c := answered(200, "text/xml", "<a/>")
		c.ReplyDoc, c.Reply = nil, nil
		c.Err = NewTicketError("ines", "HTTP/quay.skerry.test", errors.New(said))
		fs := Run(c)
		require.NotEmpty(t, fs, said)
		assert.Equal(t, want, fs[0].ID)
		assert.Contains(t, fs[0].Why, said)
	}
}
