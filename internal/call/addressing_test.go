package call_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/soap"
)

// TestTheAddressingOfAnAnswer holds the WS-Addressing headers of an answer against those that were sent, and says of a
// fault about them what was sent. ID stands for the id of the message.
func TestTheAddressingOfAnAnswer(t *testing.T) {
	const action = `<a:Action>urn:skerry:berths:FindBerthsResponse</a:Action>`
	const relates = `<a:RelatesTo>ID</a:RelatesTo>`
	fault := func(code, detail string) string {
		return `<s:Fault xmlns:a="` + soap.AddressingNS[soap.Addressing10] + `"><faultcode>a:` + code + `</faultcode><faultstring>not so</faultstring>` +
			`<detail>` + detail + `</detail></s:Fault>`
	}
	var answer string
	ids := regexp.MustCompile(`MessageID[^>]*>([^<]*)<`)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", asXML)
		_, _ = io.WriteString(w, strings.ReplaceAll(answer, "ID<", string(ids.FindSubmatch(b)[1])+"<"))
	}))
	t.Cleanup(s.Close)
	plan := berths(t, harbour(t), "/berths")
	plan.Settings.Set("address", s.URL+"/berths")
	plan.Settings.Set("addressing", soap.Addressing10)
	for _, c := range []struct{ name, header, body, id, says string }{
		{"right", action + relates, oneFound, "", ""},
		{"right, with another relationship", action + `<a:RelatesTo RelationshipType="urn:other">x</a:RelatesTo>` + relates, oneFound, "", ""},
		{"to no message that is known", action + `<a:RelatesTo>` + soap.AddressingNS[soap.Addressing10] + `/unspecified</a:RelatesTo>`, oneFound, "", ""},
		{"of both versions", action + relates + `<b:Action xmlns:b="` + soap.AddressingNS[soap.Addressing2004] + `">x</b:Action>`, oneFound, "", ""},
		{"of another message", action + `<a:RelatesTo>urn:uuid:7</a:RelatesTo>`, oneFound, "read.relates-to-differs", `Its RelatesTo is "urn:uuid:7"`},
		{"a fault of another message", action + `<a:RelatesTo>urn:uuid:7</a:RelatesTo>`, fault("ActionNotSupported", ""), "read.relates-to-differs",
			`Its RelatesTo is "urn:uuid:7"`},
		{"of none", action, oneFound, "read.addressing-differs", "RelatesTo is missing"},
		{"without an action", relates, oneFound, "read.addressing-differs", "Action is missing"},
		{"with two", action + action + relates, oneFound, "read.addressing-differs", "Action stands there 2 times"},
		{"with the request's", relates + `<a:Action>urn:skerry:berths:FindBerths</a:Action>`, oneFound, "read.addressing-differs",
			"Its Action is that of the request"},
		{"of the other version", `<b:Action xmlns:b="` + soap.AddressingNS[soap.Addressing2004] + `">x</b:Action>`, oneFound, "read.addressing-differs",
			"They are of WS-Addressing 2004/08"},
		{"a header is missed", action + relates, fault("MessageAddressingHeaderRequired", "<a:ProblemHeaderQName>a:From</a:ProblemHeaderQName>"),
			"read.fault-addressing", "the service says that the WS-Addressing header From is missing. It says: “not so”. From was not sent."},
		{"one is missed, and not named", action + relates, fault("MessageAddressingHeaderRequired", ""),
			"read.fault-addressing", "Sent were Action, MessageID, ReplyTo, To."},
		{"a header is not taken", action + relates + `<a:FaultDetail><a:ProblemHeaderQName>a:To</a:ProblemHeaderQName></a:FaultDetail>`,
			fault("InvalidAddressingHeader", ""), "read.fault-addressing", `header To. It says: “not so”. To was sent as "` + s.URL + `/berths".`},
		{"no way", action + relates, fault("DestinationUnreachable", ""), "read.fault-addressing", `To was sent as "` + s.URL + `/berths".`},
		{"not available", action + relates, fault("EndpointUnavailable", ""), "read.fault-addressing", "is not available now"},
		{"two actions that are one", action + relates, fault("ActionMismatch", ""), "read.fault-addressing", "and they are the same"},
		{"anonymous already", action + relates, fault("OnlyAnonymousAddressSupported", ""), "read.fault-addressing", "that is what was sent"},
		{"not anonymous", action + relates, fault("OnlyNonAnonymousAddressSupported", ""), "read.fault-addressing",
			"send in ReplyTo an address at which your program listens"},
	} {
		answer = inEnvelope(soap.NS11, `<s:Header xmlns:a="`+soap.AddressingNS[soap.Addressing10]+`">`+c.header+`</s:Header>`, c.body)
		x := run(t, plan)
		if c.id == "" {
			assert.Empty(t, x.Findings, c.name)
			continue
		}
		found := false
		for _, f := range x.Findings {
			if f.ID == c.id {
				found = true
				assert.Contains(t, f.Title+". "+f.Why+" "+f.Program, c.says, c.name)
				require.NotEmpty(t, f.Evidence, c.name)
			}
		}
		assert.True(t, found, "%s: %v", c.name, x.Findings)
	}
}
