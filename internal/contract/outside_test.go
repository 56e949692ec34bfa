package contract

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Policies may be attached from outside: by the identifier of a part, by an address, or to all of it.
func TestPoliciesAreAttachedFromOutside(t *testing.T) {
	const (
		wsp   = `xmlns:p="http://www.w3.org/ns/ws-policy" xmlns:sp="http://docs.oasis-open.org/ws-sx/ws-securitypolicy/200702"`
		stamp = `<p:Policy><w:Addressing xmlns:w="http://www.w3.org/2007/05/addressing/metadata"/></p:Policy>`
	)
	uri := func(text string) string { return "<p:URI>" + text + "</p:URI>" }
	attachment := func(to string) string {
		return `<p:PolicyAttachment ` + wsp + `><p:AppliesTo>` + to + `</p:AppliesTo>` + stamp + `</p:PolicyAttachment>`
	}
	c := read(t, twoPorts, nil)
	for _, tt := range []struct {
		file string
		at   string // as it is told; "" it is not attached
		plain,
		tell bool // whether a call of Ask over the port plain, and of Tell over it, is spoken of
		why string // of what is not read
	}{
		{`<p:Policy ` + wsp + `><w:Addressing xmlns:w="http://www.w3.org/2007/05/addressing/metadata"/></p:Policy>`, "the description", true, true, ""},
		{attachment(uri("urn:t")), "the description", true, true, ""},
		{attachment(uri("urn:t#wsdl11.definitions()")), "the description", true, true, ""},
		{attachment(uri("#wsdl11.service(S)")), "service S", true, true, ""},
		{attachment(uri("urn:t#wsdl11.port(S/plain)")), "port plain", true, true, ""},
		{attachment(uri("urn:t#wsdl11.port(S/safe)")), "port safe", false, false, ""},
		{attachment(uri("urn:t#wsdl11.bindingOperation(Plain/Ask)")), "operation Ask", true, false, ""},
		{attachment(uri("urn:t#wsdl11.bindingOperation.input(Plain/Ask)")), "input", true, false, ""},
		{attachment(uri("urn:t#wsdl11.portTypeOperation.output(P/Ask)")), "output", false, false, ""},
		{attachment(uri("urn:t#wsdl11.message(In)")), "message In", true, true, ""},
		{attachment(`<a:EndpointReference xmlns:a="http://www.w3.org/2005/08/addressing"><a:Address>http://h/p</a:Address></a:EndpointReference>`),
			"port plain", true, true, ""},
		{`<v:All xmlns:v="urn:v">` + attachment(uri("#wsdl11.port(S/plain)")) + `</v:All>`, "port plain", true, true, ""},
		{strings.ReplaceAll(attachment(uri("#wsdl11.port(S/plain)")), "http://www.w3.org/ns/ws-policy",
			"http://schemas.xmlsoap.org/ws/2004/09/policy"), "port plain", true, true, ""},
		{`<v:All xmlns:v="urn:v" ` + wsp + `><p:PolicyAttachment><p:AppliesTo>` + uri("#wsdl11.port(S/plain)") +
			`</p:AppliesTo><p:PolicyReference URI="#late"/></p:PolicyAttachment><p:Policy Name="late"><w:Addressing xmlns:w="http://www.w3.org/2007/05/addressing/metadata"/></p:Policy></v:All>`,
			"port plain", true, true, ""},

		{attachment(uri("urn:other#wsdl11.port(S/plain)")), "", false, false, "that is another description"},
		{attachment(uri("#wsdl11.port(S/plane)")), "", false, false, "there is no port plane"},
		{attachment(uri("#wsdl11.port(S)")), "", false, false, "no identifier of a part"},
		{attachment(uri("#xpointer(/1)")), "", false, false, "no identifier of a part"},
		{attachment(`<a:EndpointReference xmlns:a="http://www.w3.org/2005/08/addressing"><a:Address>http://h/x</a:Address></a:EndpointReference>`),
			"", false, false, "where the description has no port"},
		{attachment(`<v:Quay xmlns:v="urn:v"/>`), "", false, false, "by v:Quay, which is not known here"},
	} {
		with, err := c.WithPolicies(t.Context(), File{"house.xml", []byte(tt.file)})
		require.NoError(t, err, tt.file)
		port := with.Port("plain")
		assert.Equal(t, tt.plain, with.DemandsOf(port, port.Operation("Ask")).Addressing(), tt.file)
		assert.Equal(t, tt.tell, with.DemandsOf(port, port.Operation("Tell")).Addressing(), tt.file)
		var unread []string
		for _, u := range with.Unread {
			unread = append(unread, u.Why)
		}
		if tt.why != "" {
			assert.Contains(t, strings.Join(unread, "\n"), tt.why)
			assert.Len(t, with.Demands, len(c.Demands))
			continue
		}
		assert.Len(t, with.Unread, len(c.Unread), unread)
		assert.Equal(t, tt.at, with.Demands[len(with.Demands)-1].At, tt.file)
		assert.Equal(t, []string{"house.xml"}, with.Policies)
		again, err := with.WithPolicies(t.Context(), File{"more.xml", []byte(attachment(uri("urn:t")))})
		require.NoError(t, err)
		assert.Equal(t, []string{"house.xml", "more.xml"}, again.Policies)
	}
	for _, bad := range []string{"", "<a>", "<a/>", twoPorts} {
		_, err := c.WithPolicies(t.Context(), File{"house.xml", []byte(bad)})
		assert.Error(t, err)
	}

	// An attachment may stand in the description itself.
	own := strings.Replace(twoPorts, "<types>", attachment(uri("#wsdl11.port(S/plain)"))+"<types>", 1)
	c = read(t, own, nil)
	port := c.Port("plain")
	assert.True(t, c.DemandsOf(port, port.Operation("Ask")).Addressing())
	safe := c.Port("safe")
	assert.False(t, c.DemandsOf(safe, safe.Operation("Tell")).Addressing())
}
