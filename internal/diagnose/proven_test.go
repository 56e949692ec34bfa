package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
)

// passedOnce is a history with one call that passed.
type passedOnce struct{ x *exchange.Exchange }

func (passedOnce) ReplySizes(string, *exchange.Exchange) []int64      { return nil }
func (h passedOnce) Passed(string, string, string) *exchange.Exchange { return h.x }
func (passedOnce) Repaired(string) []*exchange.Exchange               { return nil }

// An odd value in the message is the cause where the fault speaks of it, and nowhere
// else: many services take it.
func TestAnOddValueLeadsOnlyWhereTheFaultSpeaksOfIt(t *testing.T) {
	odd := exchange.Finding{ID: "message.invalid", Severity: exchange.Warn, Why: "remark is no date"}
	stop := exchange.Finding{ID: "read.fault-server", Severity: exchange.Stop}
	for said, want := range map[string]bool{
		"no vessel has the call sign SKAB":             false,
		"the disk is full":                             false,
		"Remark: not taken":                            true,
		"element 'remark' is not expected here":        true,
		"the remarkable vessel is not here":            false,
		"cvc-datatype-valid.1.2.1":                     true,
		"could not deserialize the request":            true,
		"user bob is unknown or the password is wrong": false,
	} {
		c := &Case{
			X:       &exchange.Exchange{Operation: "Assess"},
			Reply:   &soap.Envelope{Fault: &soap.Fault{Reason: said}},
			Invalid: []schema.Error{{Path: "Assess/cargo[2]/remark"}},
		}
		assert.Equal(t, want, c.ground(&odd, &stop) != "", said)
		c.History = passedOnce{&exchange.Exchange{ID: "before", Findings: []exchange.Finding{odd}}}
		assert.Empty(t, c.ground(&odd, &stop), "it was so in a call that passed: %s", said)
	}
}

// A header block that is left out is no cause by itself, whatever the fault: only where
// the answer speaks of a header, and of that block by its name.
func TestAHeaderLeftOutExplainsOnlyWhatNamesIt(t *testing.T) {
	left := exchange.Finding{ID: "message.header-left-out"}
	clerk := &schema.Element{Name: schema.QName{Space: "urn:s", Local: "Clerk"}, Type: schema.AnyType()}
	for said, want := range map[string]exchange.By{
		"the header block Clerk is due":       exchange.ByName,
		"SOAP header {urn:s}Clerk is missing": exchange.ByName,
		"no vessel has the call sign SKAB":    "",
		"the clerk is at lunch":               "",
		"a header is missing":                 "",
		"the header Clerkship is not known":   "",
	} {
		c := stopped(nil)
		c.Header = message.NewHeader(schema.New(nil), []*schema.Element{clerk}, nil)
		c.Reply = &soap.Envelope{Fault: &soap.Fault{Reason: said}}
		stop := exchange.Finding{ID: "read.fault-client"}
		assert.Equal(t, want, c.ground(&left, &stop), said)
	}
}
