package contract

import (
	"slices"
	"strings"

	"orenda/internal/xmltree"
)

// assertion takes one assertion of a policy into words. It tells whether those within it count
// by themselves.
//
//revive:disable-next-line:cyclomatic the assertions of the standards, in one place
func (l *loader) assertion(n xmltree.Node, at subject, optional bool, source string) (within bool) {
	name := n.Name()
	demand := func(text string) bool { l.demand(n, at, optional, "%s", text); return true }
	switch {
	case isPolicyNS(name.Space) && name.Local != mtom: // operators
		return true
	case isSecurityPolicyNS(name.Space):
		return l.securityAssertion(n, demand, source)
	case (name.Local == "Addressing" || name.Local == "UsingAddressing") && strings.Contains(name.Space, "/addressing"):
		return demand("WS-Addressing headers")
	case name.Local == mtom:
		return demand("MTOM attachments")
	case name.Local == "MTOM" && strings.Contains(name.Space, "/ws-mtom"), // MTOMPolicy 1.1
		strings.Contains(name.Space, "/addressing") && strings.HasSuffix(name.Local, "AnonymousResponses"):
		return true
	}
	for _, p := range protocols {
		if strings.HasPrefix(name.Space, p.space) {
			if name.Local == p.assertion {
				demand(p.words)
			}
			return false // what else it says is about how, and not about whether
		}
	}
	l.unread("policy assertion "+name.Qualified(), source, "it is not known here: {%s}%s at the %s", name.Space,
		name.Local, at)
	return false
}

const mtom = "OptimizedMimeSerialization"

// protocols are those that a policy can ask for, and that need more than one message of their own.
//
//nolint:gochecknoglobals // a table: it is never written to
var protocols = []struct{ space, assertion, words string }{
	{"http://docs.oasis-open.org/ws-rx/wsrmp/", "RMAssertion", "delivery in sequences (WS-ReliableMessaging)"},
	{"http://schemas.xmlsoap.org/ws/2005/02/rm", "RMAssertion", "delivery in sequences (WS-ReliableMessaging)"},
	{"http://docs.oasis-open.org/ws-rx/wsmc/", "MCSupported", "answers that are fetched (WS-MakeConnection)"},
	{"http://docs.oasis-open.org/ws-tx/wsat/", "ATAssertion", "a transaction (WS-AtomicTransaction)"},
	{"http://schemas.xmlsoap.org/ws/2004/10/wsat", "ATAssertion", "a transaction (WS-AtomicTransaction)"},
}

// securityWords are the assertions of WS-SecurityPolicy 1.1 to 1.3 that are told in these words.
//
//nolint:gochecknoglobals // a table: it is never written to
var securityWords = map[string]string{
	"IncludeTimestamp": "a timestamp", "TransportBinding": "TLS (https)", "X509Token": "an X.509 certificate token",
	"SamlToken":                    "a security token issued by another service",
	"IssuedToken":                  "a security token issued by another service",
	"HttpBasicAuthentication":      "HTTP basic authentication",
	"HttpDigestAuthentication":     "HTTP digest authentication",
	"RequireClientCertificate":     "a client certificate",
	"EncryptBeforeSigning":         "encrypting before signing",
	"EncryptSignature":             "an encrypted signature",
	"ProtectTokens":                "tokens that are signed too",
	"OnlySignEntireHeadersAndBody": "whole headers and a whole body where they are signed",
	"RequireSignatureConfirmation": "replies that confirm the signature",
	"KerberosToken":                "a Kerberos token in the message",
	"SpnegoContextToken":           "a security context that is negotiated first (SPNEGO)",
	"SecurityContextToken":         "a security context that was made before (WS-SecureConversation)",
	"SecureConversationToken":      "a security context that is asked for first (WS-SecureConversation)",
	"RelToken":                     "a licence token (REL)",
	"KeyValueToken":                "a key as token",
	"RequireDerivedKeys":           "keys that are derived (WS-SecureConversation)",
}

// securityAsides are those that say how something is done that others ask for, or what stands
// around it.
//
//nolint:gochecknoglobals // a table: it is never written to
var securityAsides = strings.Fields(`AsymmetricBinding SymmetricBinding TransportToken InitiatorToken RecipientToken
	ProtectionToken EncryptionToken SignatureToken InitiatorSignatureToken InitiatorEncryptionToken
	RecipientSignatureToken RecipientEncryptionToken HttpsToken Layout Strict Lax LaxTsFirst LaxTsLast LaxTimestampFirst
	LaxTimestampLast SupportingTokens SignedSupportingTokens EndorsingSupportingTokens SignedEndorsingSupportingTokens
	EncryptedSupportingTokens SignedEncryptedSupportingTokens EndorsingEncryptedSupportingTokens
	SignedEndorsingEncryptedSupportingTokens Wss10 Wss11 Trust10 Trust13 MustSupportRefKeyIdentifier
	MustSupportRefIssuerSerial MustSupportRefExternalURI MustSupportRefEmbeddedToken MustSupportRefThumbprint
	MustSupportRefEncryptedKey MustSupportClientChallenge MustSupportServerChallenge RequireClientEntropy
	RequireServerEntropy MustSupportIssuedTokens MustSupportInteractiveChallenge RequireRequestSecurityTokenCollection
	RequireAppliesTo RequireKeyIdentifierReference RequireIssuerSerialReference RequireEmbeddedTokenReference
	RequireThumbprintReference RequireExternalReference RequireInternalReference RequireExternalUriReference
	RequireImplicitDerivedKeys RequireExplicitDerivedKeys ScopePolicy15 Created Nonce`)

// securityQuiet are those whose content is for a token service, or for a bootstrap: it is no demand
// on the call itself.
//
//nolint:gochecknoglobals // a table: it is never written to
var securityQuiet = strings.Fields(`RequestSecurityTokenTemplate Issuer IssuerName Claims BootstrapPolicy
	SC10SecurityContextToken SC13SecurityContextToken MustNotSendCancel MustNotSendAmend MustNotSendRenew`)

func (l *loader) securityAssertion(n xmltree.Node, demand func(string) bool, source string) (within bool) {
	name := n.Name().Local
	switch name {
	case "UsernameToken":
		demand("a user name token" + passwordKind(n))
		return false
	case "SignedParts":
		demand("signed: " + partsOf(n))
		return false
	case "EncryptedParts":
		demand("encrypted: " + partsOf(n))
		return false
	case "RequiredParts":
		demand("headers that must be there: " + partsOf(n))
		return false
	case "SignedElements", "EncryptedElements", "ContentEncryptedElements", "RequiredElements":
		what := map[string]string{"SignedElements": "signed", "EncryptedElements": "encrypted",
			"ContentEncryptedElements": "encrypted within", "RequiredElements": "elements that must be there"}[name]
		var paths []string
		for c := range n.Children() {
			if strings.HasPrefix(c.Name().Local, "XPath") {
				paths = append(paths, strings.TrimSpace(c.Text()))
			}
		}
		demand(what + ": " + strings.Join(paths, ", "))
		return false
	case "AlgorithmSuite":
		if suite := suiteOf(n); suite != "" {
			demand("the algorithms " + suite)
		}
		return false
	}
	if words, known := securityWords[name]; known {
		demand(words)
		return name != "SecureConversationToken" // what is within it is for making the context
	}
	switch {
	case slices.Contains(securityQuiet, name):
		return false
	case strings.HasPrefix(name, "Wss"), // WssUsernameToken11, WssX509V3Token10, Wss10 …: of which version
		slices.Contains(securityAsides, name):
		return true
	}
	l.unread("policy assertion "+n.Name().Qualified(), source, "it is not known here")
	return true
}
