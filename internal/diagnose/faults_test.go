package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// moor is a message with fields whose names and values faults speak of.
const moor = `<Moor xmlns="urn:skerry:berths"><sign>SKAB</sign><action>unload</action><operation>dredge</operation>` +
	`<berth>N02</berth><length>42</length></Moor>`

func moorDraft(t *testing.T) *message.Draft {
	t.Helper()
	d, err := xmltree.Parse([]byte(`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:skerry:berths" elementFormDefault="qualified"><xs:element name="Moor"><xs:complexType><xs:sequence>`+
		`<xs:element name="sign" type="xs:string"/><xs:element name="action" type="xs:string"/><xs:element name="operation" type="xs:string"/><xs:element name="berth" type="xs:string"/><xs:element name="length" type="xs:int"/>`+
		`</xs:sequence></xs:complexType></xs:element></xs:schema>`), xmltree.Limits{})
	require.NoError(t, err)
	s := schema.New(nil)
	s.Add(d.Root(), "s.xsd")
	s.Resolve()
	return message.NewDraft(s, s.Element(schema.QName{Space: "urn:skerry:berths", Local: "Moor"}), []byte(moor))
}

// What fails behind the service, for somebody else, or by a rule about a value is not
// taken for the caller's own log-in, action or operation; and what is, in whatever words
// and language, is named.
func TestAFaultIsOfTheClassThatItsWordsAreAbout(t *testing.T) {
	for _, k := range []struct{ code, reason, want string }{
		// behind the service
		{"s:Server", "Login failed for user 'berth_rw' (database BERTHS)", "read.fault-server"},
		{"s:Server", "ORA-01017: invalid username/password; logon denied", "read.fault-server"},
		{"s:Server", "The token service refused the client: invalid credentials", "read.fault-server"},
		{"s:Server", "LDAP: authentication failed", "read.fault-server"},
		{"s:Client", "the upstream said: access denied", "read.fault-client"},
		// somebody or something else
		{"s:Client", "unknown user 'harbour master' in crew list", "read.fault-client"},
		{"s:Server", "the berth N02 is locked", "read.fault-server"},
		{"s:Client", "member 'SKAB' is unauthorized", "read.fault-client"},
		// rules about values
		{"s:Client", "unknown action 'unload'", "read.fault-client"},
		{"s:Client", "Unknown operation: dredge", "read.fault-client"},
		{"s:Client", "no such operation as dredge is planned", "read.fault-client"},
		{"s:Client", "no vessel has the call sign SKAB", "read.fault-client"},
		// the caller's own
		{"s:Client", "unknown user 'berth-desk'", "read.fault-security-refused"},
		{"s:Server", "Invalid user name or password", "read.fault-security-refused"},
		{"s:Client", "Benutzername oder Passwort ungültig", "read.fault-security-refused"},
		{"s:Client", "Unbekannter Benutzer berth-desk", "read.fault-security-refused"},
		{"s:Client", "Mot de passe incorrect", "read.fault-security-refused"},
		{"s:Client", "Utilisateur inconnu", "read.fault-security-refused"},
		{"s:Client", "usuario desconocido", "read.fault-security-refused"},
		{"s:Client", "contraseña incorrecta", "read.fault-security-refused"},
		{"s:Client", "autenticazione fallita", "read.fault-security-refused"},
		{"s:Client", "Die Nachricht ist abgelaufen", "read.fault-security-expired"},
		{"s:Client", "le message a expiré", "read.fault-security-expired"},
		{"s:Client", "el mensaje ha caducado", "read.fault-security-expired"},
		{"s:Client", "The message's timestamp is too old", "read.fault-security-expired"},
		{"s:Client", "Nonce has already been used", "read.fault-security-invalid"},
		{"s:Client", "Nonce wurde bereits verwendet", "read.fault-security-invalid"},
		{"w:FailedAuthentication", "???", "read.fault-security-refused"},
		// dispatch
		{"s:Client", "no operation Moor is offered here: unknown operation", "read.fault-operation"},
		{"s:Client", "Cannot find dispatch method for {urn:skerry:berths}Moor", "read.fault-operation"},
		{"s:Client", "the SOAPAction is not recognized", "read.fault-action"},
	} {
		c := answered(500, "text/xml", fault11(k.code, k.reason, ""), "token", "text", "address", "https://q/")
		c.Draft = moorDraft(t)
		fs := Run(c)
		require.NotEmpty(t, fs, k.reason)
		assert.Equal(t, k.want, fs[0].ID, "%s %s", k.code, k.reason)
		if k.want == "read.fault-client" || k.want == "read.fault-server" {
			assert.Equal(t, exchange.ByAnswer, fs[0].By, k.reason)
		} else {
			assert.Equal(t, exchange.ByName, fs[0].By, k.reason)
		}
	}
}

// Without credentials nobody's log-in was refused.
func TestWithoutCredentialsNoLogInIsRefused(t *testing.T) {
	c := answered(500, "text/xml", fault11("s:Server", "log-in failed", ""))
	assert.Equal(t, "read.fault-server", Run(c)[0].ID)
}

// What a fault quotes is pointed at in the draft, and is then the message's to mend,
// whatever the fault's code blames.
func TestWhatAFaultQuotesIsPointedAt(t *testing.T) {
	for _, code := range []string{"s:Client", "s:Server"} {
		c := answered(500, "text/xml", fault11(code, "no vessel has the call sign SKAB", ""))
		c.Draft = moorDraft(t)
		f := Run(c)[0]
		assert.Contains(t, f.Why, "The service speaks of sign = SKAB.", code)
		assert.Equal(t, exchange.Yours, f.Side, code)
		last := f.Evidence[len(f.Evidence)-1]
		assert.Equal(t, exchange.InDraft, last.In)
		assert.Equal(t, "<sign>SKAB</sign>", last.Excerpt)
	}
}

// Whom a message was sent as is read from the message.
func TestWhomAMessageWasSentAsIsReadFromIt(t *testing.T) {
	c := answered(500, "text/xml", fault11("w:FailedAuthentication", "unknown user 'bob'", ""), "token", "text",
		"identity", "pilot-desk", "address", "https://q/")
	c.leg().RequestBody = []byte(withToken("bob", "digest"))
	c.Imported = true
	f := Run(c)[0]
	assert.Equal(t, "read.fault-security-refused", f.ID)
	assert.Contains(t, f.Why, "digest password was sent, as bob")
	assert.NotContains(t, f.Why, "pilot-desk")
	assert.Empty(t, f.Remedies, "what another program sends is not mended here")
}
