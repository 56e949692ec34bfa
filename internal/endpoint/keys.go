// Package endpoint is the model of the settings of a call: which there are, at
// which stage each takes effect, in which layers their values stand, and the
// variables in them.
package endpoint

import (
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/wssec"
)

// Kind is the kind of a setting's value.
type Kind uint8

// The kinds of values.
const (
	Text     Kind = iota
	Size          // bytes, as people write them: 65536, 64 KiB, 2 MB
	Duration      // 30s, 5 min
	Count         // a plain number
	Switch        // true or false
	Choice        // one of Key.Of
	List          // several texts
)

// Key is one setting: its name in the workspace file and on the command line.
type Key struct {
	Name    string         // in files, flags and JSON
	Stage   exchange.Stage // at which it takes effect, or happened
	Kind    Kind           // how its values are written
	Files   bool           // its values name files
	Of      []string       // the values of a choice
	Default string         // "" none
	Follows string         // the setting whose value it has unless set
	Doc     string         // what it is for, in a sentence
	Minor   bool           // shown only where it is set to something else than its default
	// OfPerson tells that its value names an identity of the person's: what that holds is
	// used for no place that was not approved.
	OfPerson bool

	place  int   // in Keys
	number int64 // what Default says, of a Size in bytes, of a Duration in nanoseconds
}

// Keys is the table of all settings, in the order in which they are shown.
//
//nolint:gochecknoglobals // a table: it is never written to
var Keys = []Key{
	{
		Name:  "address",
		Stage: exchange.Address,
		Kind:  Text,
		Doc:   "where the port is; may hold ${variables}",
	},

	{
		Name:  "soap",
		Stage: exchange.Binding,
		Kind:  Choice,
		Of:    []string{"1.1", "1.2"},
		Doc:   "version of the envelope and of the media type",
	},
	{
		Name:  "action",
		Stage: exchange.Binding,
		Kind:  Text,
		Doc:   "the action; as the contract has it unless set; \"none\" sends none",
	},
	{
		Name:    "intake",
		Stage:   exchange.Binding,
		Kind:    Choice,
		Of:      []string{"whole", "flowing"},
		Default: "whole",
		Doc:     "whether a reply is taken in whole, in a buffer, or flowing",
	},
	{
		Name:    "addressing",
		Stage:   exchange.Binding,
		Kind:    Choice,
		Of:      []string{"none", soap.Addressing10, soap.Addressing2004},
		Default: "none",
		Minor:   true,
		Doc:     "WS-Addressing headers, by their version",
	},
	{
		Name:  "reply-to",
		Stage: exchange.Binding,
		Kind:  Text,
		Minor: true,
		Doc: "where the answer is to come later (WS-Addressing ReplyTo): here, for a free port of this machine, " +
			"or an address; " +
			"empty: over the same connection",
	},
	{
		Name:  "reply-listen",
		Stage: exchange.Binding,
		Kind:  Text,
		Minor: true,
		Doc:   "where an answer that comes later is listened for; beyond this machine only where it is said for a call",
	},
	{
		Name:    "reply-tls",
		Stage:   exchange.Binding,
		Kind:    Choice,
		Default: "as-addressed",
		Of:      []string{"as-addressed", "always", "never"},
		Minor:   true,
		Doc: "whether an answer that comes later is listened for over TLS, with a certificate of the local " +
			"authority; as-addressed: where reply-to is https",
	},
	{
		Name:    "strict-buffer",
		Stage:   exchange.Binding,
		Kind:    Switch,
		Default: "false",
		Minor:   true,
		Doc:     "the program insists that receive and buffer limit are equal",
	},

	{
		Name:    "send-limit",
		Stage:   exchange.Message,
		Kind:    Size,
		Default: "16 MiB",
		Minor:   true,
		Doc:     "largest envelope that is sent",
	},
	{
		Name:    "attachments",
		Stage:   exchange.Message,
		Kind:    Choice,
		Of:      []string{"none", soap.MTOM, soap.Attachments},
		Default: "none",
		Minor:   true,
		Doc:     "how files travel: mtom (binary values as parts of their own), swa (parts beside the envelope)",
	},
	{
		Name:  "attach",
		Files: true,
		Stage: exchange.Message,
		Kind:  List,
		Minor: true,
		Doc:   "files to send: FIELD=FILE puts one into a field of the message, NAME=FILE beside it (with swa)",
	},
	{
		Name:    "charset",
		Stage:   exchange.Message,
		Kind:    Choice,
		Of:      soap.Charsets,
		Default: "utf-8",
		Minor:   true,
		Doc:     "character encoding of the request",
	},
	{
		Name:    "validate",
		Stage:   exchange.Message,
		Kind:    Switch,
		Default: "true",
		Minor:   true,
		Doc:     "check messages against the schema",
	},

	{
		Name:     "identity",
		OfPerson: true,
		Stage:    exchange.Security,
		Kind:     Text,
		Doc:      "name of the identity in the user's configuration",
	},
	{
		Name:    "token",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      []string{"none", "text", "digest"},
		Default: "none",
		Doc:     "user name token, by the type of its password",
	},
	{
		Name:    "http-auth",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      []string{"none", "basic", "digest", "asked", "bearer", "ntlm", "negotiate"},
		Default: "none",
		Minor:   true,
		Doc: "HTTP authentication as the identity: basic, bearer and negotiate (Kerberos) with the first " +
			"request, digest, asked " +
			"(digest, basic or NTLM) and ntlm once the service asks",
	},
	{
		Name:  "service-principal",
		Stage: exchange.Security,
		Kind:  Text,
		Minor: true,
		Doc:   "of the service, for Kerberos: HTTP/HOST of the address unless set",
	},
	{
		Name:     "session",
		OfPerson: true,
		Stage:    exchange.Security,
		Kind:     Text,
		Minor:    true,
		Doc:      "name of the identity whose log-in goes before the call; what it gives goes with it",
	},
	{
		Name:  "timestamp",
		Stage: exchange.Security,
		Kind:  Duration,
		Doc:   "life time of the timestamp; none where it is not set",
	},

	{
		Name:    "token-nonce",
		Stage:   exchange.Security,
		Kind:    Text,
		Default: "new",
		Minor:   true,
		Doc:     "of the user name token: new, none, or a value that is sent as it stands",
	},
	{
		Name:    "token-created",
		Stage:   exchange.Security,
		Kind:    Text,
		Default: "now",
		Minor:   true,
		Doc:     "of the user name token: now, none, or a value that is sent as it stands",
	},
	{
		Name:  "clock-offset",
		Stage: exchange.Security,
		Kind:  Text,
		Minor: true,
		Doc:   "by how much the times in the security header differ from this machine's clock: 90s, -5m",
	},
	{
		Name:  "token-file",
		Files: true,
		Stage: exchange.Security,
		Kind:  List,
		Minor: true,
		Doc:   "files with a token in XML each, put into the security header: a SAML assertion, or another",
	},
	{
		Name:  "security-actor",
		Stage: exchange.Security,
		Kind:  Text,
		Minor: true,
		Doc:   "whom the security header is for (actor, role); the last receiver where it is not set",
	},
	{
		Name:    "must-understand",
		Stage:   exchange.Security,
		Kind:    Switch,
		Default: "true",
		Minor:   true,
		Doc:     "the receiver must understand the security header",
	},

	{
		Name:  "sign",
		Stage: exchange.Security,
		Kind:  List,
		Minor: true,
		Doc:   "parts that are signed: body, timestamp, token, addressing, or a path",
	},
	{
		Name:     "sign-identity",
		OfPerson: true,
		Stage:    exchange.Security,
		Kind:     Text,
		Minor:    true,
		Doc: "name of the identity whose key signs, and opens what is encrypted for it; the client certificate's " +
			"unless set",
	},
	{
		Name:    "signature",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      []string{"sha1", "sha256", "sha384", "sha512", "pss-sha256", "pss-sha384", "pss-sha512"},
		Default: "sha256",
		Minor:   true,
		Doc:     "hash of signature and digests; pss: RSASSA-PSS",
	},
	{
		Name:    "sign-key",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      wssec.KeyReferences,
		Default: string(wssec.Direct),
		Minor:   true,
		Doc:     "how the signature says which key it was made with",
	},
	{
		Name:    "sign-canonical",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      []string{"exclusive", "inclusive"},
		Default: "exclusive",
		Minor:   true,
		Doc:     "canonical form of what is signed",
	},
	{
		Name:  "encrypt",
		Stage: exchange.Security,
		Kind:  List,
		Minor: true,
		Doc:   "parts that are encrypted: body, token, or a path",
	},
	{
		Name:  "encrypt-to",
		Files: true,
		Stage: exchange.Security,
		Kind:  Text,
		Minor: true,
		Doc:   "file with the certificate of who is to read what is encrypted",
	},
	{
		Name:    "encrypt-data",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      wssec.DataMethods,
		Default: "aes256-gcm",
		Minor:   true,
		Doc:     "how the parts are encrypted",
	},
	{
		Name:    "encrypt-key",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      wssec.KeyTransports,
		Default: "rsa-oaep",
		Minor:   true,
		Doc:     "how their key is encrypted",
	},
	{
		Name:    "encrypt-reference",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      wssec.CertificateReferences,
		Default: string(wssec.Thumbprint),
		Minor:   true,
		Doc:     "how the message says whose key opens it",
	},
	{
		Name:    "protect-order",
		Stage:   exchange.Security,
		Kind:    Choice,
		Of:      []string{"sign-encrypt", "encrypt-sign"},
		Default: "sign-encrypt",
		Minor:   true,
		Doc:     "whether signing or encrypting comes first",
	},

	{
		Name:    "connect-time",
		Stage:   exchange.Connect,
		Kind:    Duration,
		Default: "10s",
		Doc:     "longest time to look up and connect",
	},

	{
		Name:  "connect-to",
		Stage: exchange.Connect,
		Kind:  Text,
		Minor: true,
		Doc: "host and port that is connected to in the place of the address's own, which stays the name for " +
			"Host and TLS; " +
			"not through a proxy",
	},
	{
		Name:  "resolver",
		Stage: exchange.Connect,
		Kind:  Text,
		Minor: true,
		Doc:   "name server that is asked in the place of this machine's: an IP address, with or without a port",
	},
	{
		Name:    "ip",
		Stage:   exchange.Connect,
		Kind:    Choice,
		Of:      []string{"any", "4", "6", "prefer-4", "prefer-6"},
		Default: "any",
		Minor:   true,
		Doc:     "version of IP: demanded, or tried first",
	},
	{
		Name:    "proxy",
		Stage:   exchange.Connect,
		Kind:    Text,
		Default: "environment",
		Minor:   true,
		Doc: "address of a proxy (http://, https:// or socks5://); environment: as HTTP_PROXY, HTTPS_PROXY and " +
			"NO_PROXY say; or none",
	},
	{
		Name:     "proxy-identity",
		OfPerson: true,
		Stage:    exchange.Connect,
		Kind:     Text,
		Minor:    true,
		Doc:      "name of the identity that the proxy asks for",
	},
	{
		Name:    "keep-alive",
		Stage:   exchange.Connect,
		Kind:    Switch,
		Default: "false",
		Minor:   true,
		Doc:     "keep the connection for the next call",
	},

	{
		Name:  "trust",
		Files: true,
		Stage: exchange.TLS,
		Kind:  List,
		Doc:   "files of certificates that are trusted besides the system's",
	},
	{
		Name:  "intermediates",
		Files: true,
		Stage: exchange.TLS,
		Kind:  List,
		Minor: true,
		Doc:   "files of certificates that complete the server's chain, and are not trusted themselves",
	},
	{
		Name:  "pin",
		Stage: exchange.TLS,
		Kind:  List,
		Minor: true,
		Doc:   "SHA-256 of public keys that are trusted, whatever certificate they come in",
	},
	{
		Name:    "system-trust",
		Stage:   exchange.TLS,
		Kind:    Switch,
		Default: "true",
		Minor:   true,
		Doc:     "trust what the system trusts",
	},
	{
		Name:  "server-name",
		Stage: exchange.TLS,
		Kind:  Text,
		Minor: true,
		Doc:   "name asked for and checked, where it is not the address's host",
	},
	{
		Name:  "accept-name",
		Stage: exchange.TLS,
		Kind:  Text,
		Minor: true,
		Doc:   "a name in the certificate that is accepted for this endpoint though the host has another",
	},
	{
		Name:  "accept-expired",
		Stage: exchange.TLS,
		Kind:  Text,
		Minor: true,
		Doc:   "SHA-256 fingerprint of the certificate that is accepted outside its dates",
	},
	{
		Name:    "revocation",
		Stage:   exchange.TLS,
		Kind:    Choice,
		Of:      []string{"off", "stapled", "asked"},
		Default: "off",
		Minor:   true,
		Doc: "whether it is found out that a certificate was revoked: from what the server staples (OCSP), or " +
			"by asking those that it names (OCSP, CRL)",
	},
	{
		Name:    "tls-min",
		Stage:   exchange.TLS,
		Kind:    Choice,
		Of:      []string{"1.0", "1.1", "1.2", "1.3"},
		Default: "1.2",
		Minor:   true,
		Doc:     "lowest TLS version",
	},
	{
		Name:    "tls-max",
		Stage:   exchange.TLS,
		Kind:    Choice,
		Of:      []string{"1.0", "1.1", "1.2", "1.3"},
		Default: "1.3",
		Minor:   true,
		Doc:     "highest TLS version",
	},
	{
		Name:  "ciphers",
		Stage: exchange.TLS,
		Kind:  List,
		Minor: true,
		Doc:   "cipher suites offered up to TLS 1.2, by their standard names; all that are sound unless set",
	},
	{
		Name:    "alpn",
		Stage:   exchange.TLS,
		Kind:    Text,
		Default: "http/1.1",
		Minor:   true,
		Doc:     "application protocol offered (ALPN); none offers none",
	},
	{
		Name:  "client-cert",
		Files: true,
		Stage: exchange.TLS,
		Kind:  Text,
		Minor: true,
		Doc:   "file with the client's certificate: PEM, DER, PKCS#12 or JKS",
	},
	{
		Name:  "client-key",
		Files: true,
		Stage: exchange.TLS,
		Kind:  Text,
		Minor: true,
		Doc:   "file with the client's private key, where it is not in the same file: PEM or PKCS#8, sealed or not",
	},
	{
		Name:     "client-identity",
		OfPerson: true,
		Stage:    exchange.TLS,
		Kind:     Text,
		Minor:    true,
		Doc:      "name of the identity whose certificate is sent, or whose secret opens the key",
	},
	{
		Name:  "key-log",
		Stage: exchange.TLS,
		Kind:  Text,
		Minor: true,
		Doc:   "file that the session's keys are added to, for other programs to read what crossed",
	},

	{
		Name:  "secret",
		Stage: exchange.Security,
		Kind:  List,
		Minor: true,
		Doc:   "fields, parameters and headers that are secret, by name; with a slash by path, as vessel/pin",
	},
	{
		Name:  "header",
		Stage: exchange.Send,
		Kind:  List,
		Minor: true,
		Doc:   "extra HTTP header fields, Name: value",
	},
	{
		Name:    "transfer",
		Stage:   exchange.Send,
		Kind:    Choice,
		Of:      []string{"length", "chunked"},
		Default: "length",
		Minor:   true,
		Doc:     "whether the length is declared or the request is sent in chunks",
	},
	{
		Name:  "trailer",
		Stage: exchange.Send,
		Kind:  List,
		Minor: true,
		Doc:   "fields behind the last chunk, Name: value; only where the request is sent in chunks",
	},
	{
		Name:    "request-coding",
		Stage:   exchange.Send,
		Kind:    Choice,
		Of:      []string{"none", "gzip"},
		Default: "none",
		Minor:   true,
		Doc:     "compression of the request (Content-Encoding); few services take one",
	},
	{
		Name:    "expect-continue",
		Stage:   exchange.Send,
		Kind:    Switch,
		Default: "false",
		Minor:   true,
		Doc:     "send Expect: 100-continue, and the body once the server says so",
	},
	{
		Name:    "trace-header",
		Stage:   exchange.Send,
		Kind:    Switch,
		Default: "false",
		Minor:   true,
		Doc:     "send traceparent, so that the service goes on with the trace of the call (W3C Trace Context)",
	},
	{
		Name:    "compression",
		Stage:   exchange.Send,
		Kind:    Choice,
		Of:      []string{"none", "gzip", "deflate", "any"},
		Default: "none",
		Minor:   true,
		Doc:     "compression that the reply may have (Accept-Encoding)",
	},
	{
		Name:    "send-time",
		Stage:   exchange.Send,
		Kind:    Duration,
		Default: "30s",
		Doc:     "longest time without progress while the request leaves",
	},

	{
		Name:    "answer-time",
		Stage:   exchange.Wait,
		Kind:    Duration,
		Default: "60s",
		Doc:     "longest time until the first byte of the answer",
	},
	{
		Name:    "total-time",
		Stage:   exchange.Wait,
		Kind:    Duration,
		Default: "5m",
		Doc:     "longest time for the whole call",
	},

	{
		Name:    "receive-limit",
		Stage:   exchange.Receive,
		Kind:    Size,
		Default: "16 MiB",
		Doc:     "largest reply that is accepted",
	},
	{
		Name:    "buffer-limit",
		Stage:   exchange.Receive,
		Kind:    Size,
		Follows: "receive-limit",
		Doc:     "largest reply that is buffered when taken in whole; follows the receive limit unless set",
	},
	{
		Name:    "inflated-limit",
		Stage:   exchange.Receive,
		Kind:    Size,
		Default: "64 MiB",
		Minor:   true,
		Doc:     "largest reply after decompression",
	},
	{
		Name:    "receive-time",
		Stage:   exchange.Receive,
		Kind:    Duration,
		Default: "30s",
		Minor:   true,
		Doc:     "longest time between two pieces of the reply",
	},

	{
		Name:    "redirects",
		Stage:   exchange.Receive,
		Kind:    Choice,
		Of:      []string{"stop", "follow"},
		Default: "stop",
		Minor:   true,
		Doc:     "whether the call goes on to where the server points, as the same POST",
	},

	{
		Name:    "depth-limit",
		Stage:   exchange.Read,
		Kind:    Count,
		Default: "256",
		Doc:     "deepest nesting of elements",
	},
	{
		Name:    "text-limit",
		Stage:   exchange.Read,
		Kind:    Size,
		Default: "8 MiB",
		Doc:     "longest single text",
	},
	{
		Name:    "repeat-limit",
		Stage:   exchange.Read,
		Kind:    Count,
		Default: "1000000",
		Doc:     "most children of one element",
	},
	{
		Name:    "name-limit",
		Stage:   exchange.Read,
		Kind:    Count,
		Default: "100000",
		Minor:   true,
		Doc:     "most different names",
	},

	{
		Name:    "reply-signature",
		Stage:   exchange.Verify,
		Kind:    Choice,
		Of:      []string{"ignore", "check", "demand"},
		Default: "check",
		Minor:   true,
		Doc:     "whether signatures of the reply are checked, and one over its body is demanded",
	},
	{
		Name:  "reply-trust",
		Files: true,
		Stage: exchange.Verify,
		Kind:  List,
		Minor: true,
		Doc:   "files of certificates whose signatures are trusted, besides the trust list",
	},
	{
		Name:  "expect",
		Stage: exchange.Verify,
		Kind:  List,
		Minor: true,
		Doc:   "what the answer must be: FIELD=VALUE, count(FIELD)>=1, valid, within=2s, fault, …",
	},
}

//nolint:gochecknoglobals // a table: it is never written to
var byName = func() map[string]*Key {
	m := map[string]*Key{}
	for i := range Keys {
		k := &Keys[i]
		m[k.Name], k.place = k, i
		switch k.Kind {
		case Size:
			k.number, _ = ParseSize(k.Default)
		case Duration:
			d, _ := ParseDuration(k.Default)
			k.number = int64(d)
		}
	}
	return m
}()

// following are the settings that follow another.
//
//nolint:gochecknoglobals // a table: it is never written to
var following = func() (out []*Key) {
	for i := range Keys {
		if Keys[i].Follows != "" {
			out = append(out, &Keys[i])
		}
	}
	return out
}()

// defaults are the settings where no layer holds a value.
//
//nolint:gochecknoglobals // a table: it is never written to
var defaults = func() (out []exchange.Setting) {
	for _, k := range Keys {
		out = append(out, exchange.Setting{Key: k.Name, Stage: k.Stage, Value: k.Default, Source: "default"})
	}
	return out
}()

// KeyOf is the setting of that name, or nil.
func KeyOf(name string) *Key { return byName[name] }

// Names are the names of all settings.
func Names() []string {
	out := make([]string, len(Keys))
	for i, k := range Keys {
		out[i] = k.Name
	}
	return out
}

// spelled are the words of names that people write in another way.
//
//nolint:gochecknoglobals // a table: it is never written to
var spelled = strings.NewReplacer("soap", "SOAP version", "http auth", "HTTP authentication", "tls", "TLS",
	"alpn", "ALPN", "client cert", "client certificate")

// Label is the name of the setting in a sentence: the same words as in the file and as a
// flag, with blanks.
func (k *Key) Label() string { return spelled.Replace(strings.ReplaceAll(k.Name, "-", " ")) }
