package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/exchange"
)

// Text is what a finding means, how it is recognised and what helps, for those
// who met its id in a log.
type Text struct{ Means, Seen, Helps string } // what has happened; how it is recognised; what to do

// Explained is one row of the catalogue as it is explained.
type Explained struct {
	ID       string            `json:"id"`       // stable name: stage.cause
	Stage    exchange.Stage    `json:"stage"`    // at which it takes effect, or happened
	Severity exchange.Severity `json:"severity"` // stop, warn or note
	Side     exchange.Side     `json:"side"`     // who can mend it
	Means    string            `json:"means"`    // what has happened
	Seen     string            `json:"seen"`     // how it is recognised
	Helps    string            `json:"helps"`    // what to do
}

// Catalogue is all findings, in order of stages.
func Catalogue() []Explained {
	var out []Explained
	add := func(id string, stage exchange.Stage, sev exchange.Severity, side exchange.Side) {
		t := texts[id]
		out = append(out, Explained{id, stage, sev, side, t.Means, t.Seen, t.Helps})
	}
	for i := range Rules {
		add(Rules[i].ID, Rules[i].Stage(), Rules[i].Severity, Rules[i].Side)
	}
	for _, r := range SurveyRules {
		add(r.ID, r.Stage, r.Severity, exchange.Yours)
	}
	slices.SortStableFunc(out, func(a, b Explained) int { return int(a.Stage) - int(b.Stage) })
	return out
}

//nolint:gochecknoglobals // a table: it is never written to
var sideWords = map[exchange.Side]string{
	exchange.Yours:   "yours",
	exchange.Theirs:  "the service's",
	exchange.Between: "between: a proxy, a gateway, the network",
	exchange.Unknown: "not known from this alone",
}

// Whose says on whose side a finding is, in few words; "" where that is not known.
func Whose(s exchange.Side) string {
	return map[exchange.Side]string{exchange.Yours: "yours to fix", exchange.Theirs: "the service's to fix",
		exchange.Between: "between: proxy, gateway or network"}[s]
}

//nolint:gochecknoglobals // a table: it is never written to
var severityWords = map[exchange.Severity]string{
	exchange.Stop: "stops the call",
	exchange.Warn: "the call goes on",
	exchange.Note: "only told",
}

// Explain is the row of one finding, nil where there is none of that id.
func Explain(id string) *Explained {
	all := Catalogue()
	if i := slices.IndexFunc(all, func(e Explained) bool { return e.ID == id }); i >= 0 {
		return &all[i]
	}
	return nil
}

// Lines are what the row says beyond what it means, each under its heading.
func (e *Explained) Lines() [][2]string {
	return [][2]string{
		{"recognised by", e.Seen},
		{"what helps", e.Helps},
		{"side", sideWords[e.Side] + "; " + severityWords[e.Severity]},
	}
}

// Markdown is the catalogue as a page.
func Markdown() string {
	var b strings.Builder
	b.WriteString(
		//revive:disable-next-line:line-length-limit one literal
		"# Findings\n\nEach is named `stage.cause`; the names are stable. This page is made by `orenda explain --list --markdown`.\n",
	)
	last := exchange.None
	for _, e := range Catalogue() {
		if e.Stage != last {
			last = e.Stage
			fmt.Fprintf(&b, "\n## %d %s: %s\n", int(e.Stage), e.Stage, e.Stage.Question())
		}
		fmt.Fprintf(&b, "\n### %s\n\n%s\n\n", e.ID, e.Means)
		for _, l := range e.Lines() {
			fmt.Fprintf(&b, "- **%s:** %s\n", l[0], l[1])
		}
	}
	return b.String()
}

//nolint:gochecknoglobals // a table: it is never written to
var texts = map[string]Text{
	"address.variable-unset": {
		"A variable in a setting of the endpoint has no value in the chosen environment.",
		"The setting holds ${name}, and the environment sets no such name; names are case-sensitive, and a similar " +
			"name is shown.",
		"Set the variable, write the name that is set, or give a default: ${name:-value}.",
	},
	"address.variable-cyclic": {
		"A variable's value leads back to the variable.",
		"The values were followed until one came a second time.",
		"Give one of them a value of its own.",
	},
	"address.variable-withheld": {
		"A variable takes its value from the process environment, and this workspace may not read that yet.",
		"Its value is written as env:NAME, and nobody allowed that for this workspace.",
		"Look where the value goes, then allow it once.",
	},
	"address.variable-unused": {
		"A variable is set and nothing uses it.",
		"No setting and no draft holds ${name}.",
		"Remove it, or check whether a misspelled name elsewhere should be this one.",
	},
	"address.unresolved-elsewhere": {
		"In one of the environments, an endpoint's address is not a URL.",
		"The address was resolved in every environment.",
		"Set the missing variables before that environment is used.",
	},
	"address.environment-unknown": {
		"The environment that is named does not exist.",
		"The workspace has no environment of that name.",
		"Use one that exists; a similar name is offered.",
	},
	"address.malformed": {
		"The address is not a URL, after the variables were put in.",
		"The place of the error is shown.",
		"Write https://host:port/path.",
	},
	"address.scheme-unsupported": {
		"The address is neither http nor https.",
		"The scheme before :// is another.",
		"Use http or https.",
	},
	"address.from-contract": {
		"The address comes from the description, and it is unlikely to be the right one.",
		"Its host is this machine, a name without a dot, a name that is never reachable, or not the host that " +
			"served the description.",
		"Set the address of the endpoint, and in your program.",
	},

	"binding.endpoint-ambiguous": {
		"Several endpoints serve the operation, and the call names none of them.",
		"More than one endpoint of the contract has a port with this operation, and none is the default.",
		"Name one of them, or make one the default.",
	},
	"binding.endpoint-missing": {
		"No endpoint serves the operation, or the one that is named does not exist.",
		"No endpoint of the contract fits.",
		"Make an endpoint for a port that has the operation, or correct the name.",
	},
	"binding.operation-unknown": {
		"The contract has no operation of that name.",
		"Names are case-sensitive; a similar name is shown.",
		"Use exactly the name in the contract.",
	},
	"binding.version-differs": {
		"The SOAP version that is set, or was sent, is not the port's.",
		"The port's binding says another version.",
		"Send the port's version, from your program too.",
	},
	"binding.action-differs": {
		"The action that is set, or was sent, is not the contract's.",
		"The description gives another soapAction for the operation.",
		"Send the contract's action.",
	},
	"binding.action-unquoted": {
		"The SOAPAction that a program sent does not stand in quotes.",
		"SOAP 1.1 writes it in double quotes; some services refuse it without them.",
		"Put the action into double quotes.",
	},
	"binding.media-type-differs": {
		"The media type of the request is not that of its envelope.",
		"SOAP 1.1 is text/xml, SOAP 1.2 application/soap+xml. The Content-Type says another, none, or cannot be read.",
		"Send the media type of the SOAP version, with the charset.",
	},
	"binding.addressing-demanded": {
		"The contract demands WS-Addressing headers and none are set.",
		"A policy or the binding demands them.",
		"Send To, Action, MessageID and ReplyTo.",
	},
	"binding.protocol-demanded": {
		"The contract demands messages before or after this one.",
		"Its policy asks for sequences, a security context or a transaction.",
		"Let the SOAP library of your program do it, or call a port without it.",
	},
	"binding.buffer-differs": {
		"The reply is taken in whole, and the buffer limit is not the receive limit.",
		"The two settings differ; some programs refuse to start then.",
		"Set both to the same number.",
	},
	"binding.limits-contradict": {
		"One size limit never has an effect, because another one is reached first.",
		"The decompressed limit is smaller than the receive limit.",
		"Raise the decompressed limit.",
	},
	"binding.limit-too-small": {
		"The receive limit would refuse replies that this operation sent before.",
		"The sizes of the kept replies are known.",
		"Raise the limit to the number that is proposed, in your program too.",
	},
	"binding.limit-invalid": {
		"A size limit cannot be read.",
		"It is zero, negative, too large, or not a number.",
		"Write 65536, 64 KiB or 2 MB.",
	},
	"binding.time-limit-invalid": {
		"A time limit cannot be read.",
		"It is not a time, or it is not above zero.",
		"Write 30s, 5m or 250ms.",
	},
	"binding.time-limits-contradict": {
		"One time limit never has an effect.",
		"The limit of the whole call is shorter than the limit of one part, so it always ends first.",
		"Nothing needs to be done. To make the limit of the part work, raise the limit of the whole call.",
	},
	"binding.value-invalid": {
		"A setting has a value that it cannot have.",
		"It is not one of the values that exist.",
		"Use one of them.",
	},
	"binding.port-gone": {
		"The contract no longer has the port of this endpoint.",
		"The contract has no port of that name.",
		"Choose another port, or switch the endpoint off.",
	},
	"binding.endpoints-same": {
		"Two endpoints are the same.",
		"They have the same port and the same settings.",
		"One of them is enough.",
	},
	"binding.setting-unknown": {
		"The settings file holds an unknown name.",
		"A similar name is shown where there is one.",
		"Correct the name. An unknown name is kept in the file, and has no effect.",
	},

	"message.not-well-formed": {
		"The XML of the draft, or of what a program sent, is broken.",
		"The place is shown.",
		"Correct it there. A program makes its XML with a library, never by joining texts.",
	},
	"message.not-xml": {
		"What a program sent is no XML, or nothing.",
		"Its bytes look like something else: JSON, a form, a page, compressed data, binary XML, Base64, or XML that " +
			"was escaped once more.",
		"Let the program send the envelope as it is.",
	},
	"message.not-envelope": {
		"What a program sent is XML, and no SOAP envelope.",
		"Its document element has another name, or stands in another namespace.",
		"Send the message in the Body of an Envelope, in the namespace of the SOAP version.",
	},
	"message.header-misplaced": {
		"The Header stands behind the Body.",
		"SOAP wants it first; many services do not look for it elsewhere.",
		"Write the Header before the Body.",
	},
	"message.body-empty": {
		"The envelope has no Body, or no element in it.",
		"The contract has an element for each operation. Text in the Body is often XML that was escaped.",
		"Put the element of the operation into the Body, as XML.",
	},
	"message.body-several": {
		"The body holds several elements where the contract has one.",
		"Services take the first of them, or refuse the message.",
		"Send one element in the body, and a call for each.",
	},
	"message.variable-unset": {
		"A variable in the draft has no value.",
		"The draft has variables switched on, and a value holds ${name}.",
		"Set the variable, or write $$ for a dollar sign.",
	},
	"message.placeholder-left": {
		"A value was never filled in.",
		"The draft holds a placeholder. A message with a required one is not sent unless you say so; an optional " +
			"one is left out.",
		"Fill it in, or leave the element out where it is optional.",
	},
	"message.body-differs": {
		"The body belongs to another operation than the one that is called.",
		"Its element is not the one that the operation's input names.",
		"Call the operation that it belongs to, or change the body.",
	},
	"message.namespace-differs": {
		"An element has the right name in the wrong namespace.",
		"The schema has the same local name in another namespace.",
		"Use the namespace of the schema, or none where the schema has none.",
	},
	"message.invalid": {
		"The message breaks its schema.",
		"The element, the rule and what was expected are named.",
		"Send what the schema allows, unless you mean to see how the service answers.",
	},
	"message.header-left-out": {
		"A header block that the contract declares is left out.",
		"The binding declares it for the operation's input.",
		"Put it into the draft's header if the service needs it.",
	},
	"message.empty-value": {
		"A required value is empty. That is valid.",
		"The type allows an empty value.",
		"Fill it in if the service needs it.",
	},
	"message.file-new": {
		"The message reads a file outside the workspace.",
		"The path stands in the workspace's file, and nobody allowed it yet.",
		"Allow it only if you know the file, and why it is sent.",
	},
	"message.too-large": {
		"The message is larger than the send limit.",
		"The size of the finished envelope is shown.",
		"Raise the limit, or send less.",
	},
	"message.security-in-draft": {
		"The draft carries a security header of its own.",
		"A token is set as well, or a password stands in the draft.",
		"Remove one of them. A password belongs into an identity.",
	},

	"security.token-demanded": {
		"The contract demands a token, a timestamp, a signature or encryption that is not set.",
		"Its policy says so.",
		"Set it up. The repair does what it can, and asks for the rest.",
	},
	"security.identity-unknown": {
		"There is no identity of that name.",
		"Identities are looked for in your own configuration; a similar name is shown.",
		"Correct the name, or add the identity.",
	},
	"security.identity-host-new": {
		"An identity was not used at this host before.",
		"This identity was not allowed for this host in this workspace yet.",
		"Allow it once, if it is the right host.",
	},
	"security.secret-unavailable": {
		"The secret of an identity cannot be read.",
		"Its source gave no secret; the reason is shown.",
		"Correct the source: set the variable, make the file readable, unlock the keyring.",
	},
	"security.secret-locked": {
		"The secret is encrypted, and its pass phrase is missing or wrong.",
		"The file is encrypted with age.",
		"Give the pass phrase; Orenda asks once each time it is started.",
	},
	"security.header-differs": {
		"The security of a message is not where services look for it.",
		"A Security header in another namespace, a token outside it, or one in the Body was sent.",
		"Put the token into a Security header of WS-Security 1.0, in the Header.",
	},
	"security.token-malformed": {
		"A token or timestamp that a program sent is not as the standard has it.",
		"A time that cannot be read or has no zone, a digest that is none or lacks its Nonce, a Nonce that is not in " +
			"Base64.",
		"Write it as the standard has it; the sentence says what is wrong.",
	},
	"security.password-type-differs": {
		"The password Type that another program sent is not in the standard.",
		"The attribute in its user name token.",
		"The program has to send the full URI of the type.",
	},
	"security.password-type-unknown": {
		"The token's password type is unknown.",
		"Perhaps the password stands where its type belongs; so it is not shown.",
		"Set text or digest, and keep the password with the identity.",
	},
	"security.signer-failed": {
		"The program that signs with a key in hardware gives no signature.",
		"It ended with an error, wrote nothing, or what it wrote does not fit the certificate.",
		"Run it by hand with the same variables; see whether the PIN and the key are the right ones.",
	},
	"security.key-unreadable": {
		"A certificate or key file cannot be used.",
		"It is missing, in another format, encrypted, or damaged.",
		"Name the right file. An encrypted one is opened by the secret of the client identity.",
	},
	"security.key-mismatch": {
		"The private key does not belong to the certificate.",
		"Their public keys differ.",
		"Use the certificate that was issued for this key.",
	},
	"security.certificate-expired": {
		"Your client certificate has expired, or is not valid yet.",
		"Its dates were compared with this machine's clock.",
		"Ask for a new one.",
	},
	"security.certificate-unfit": {
		"Your client certificate is probably not made for clients.",
		"Its uses do not name client authentication.",
		"Ask for a certificate with that use.",
	},
	"security.secret-unverified": {
		"A secret would go to a server whose certificate is not checked.",
		"Any certificate is accepted for this call.",
		"Trust the right certificate.",
	},
	"security.file-new": {
		"A setting names a file outside the workspace.",
		"The path stands in the workspace's file, and nobody allowed it yet.",
		"Allow it only if you know the file, and why it is needed.",
	},
	"security.key-log-new": {
		"The workspace wants to write session keys to a file.",
		"That was not allowed for this workspace yet.",
		"Allow it only if you know why.",
	},
	"security.signing-key-missing": {
		"Parts are to be signed and no key is set.",
		"Neither an identity that signs nor a client certificate is set.",
		"Name the identity that signs.",
	},
	"security.part-missing": {
		"A part that is to be signed or encrypted is not in the message.",
		"The finished envelope has no such element.",
		"Add the part, or do not name it.",
	},
	"security.signature-weak": {
		"The protection of the message is weak.",
		"SHA-1, CBC or RSA 1.5 is set.",
		"Use SHA-256, GCM and OAEP where the service takes them.",
	},
	"security.algorithms-differ": {
		"The contract asks for other algorithms than those that are set.",
		"Its algorithm suite, and the order of signing and encrypting (WS-SecurityPolicy).",
		"Set what it asks for. If that is weak, Orenda says so.",
	},
	"security.log-in-failed": {
		"The log-in before the call did not give a session.",
		"Its answer, or what is missing in it.",
		"Look at the log-in: it is an exchange of its own. Correct it with orenda identity set NAME " +
			"log-in.KEY=VALUE, or in identities.toml.",
	},
	"security.ticket-missing": {
		"There is no Kerberos ticket by which one for the service can be asked for.",
		"The file of tickets is not there, or holds none of the realm.",
		"Get a ticket (kinit), or give the identity a keytab or a secret.",
	},
	"security.ticket-expired": {
		"The Kerberos ticket has expired.",
		"Its times.",
		"Get a new one (kinit).",
	},
	"security.ticket-clock": {
		"This machine's clock and that of the Kerberos servers differ too much.",
		"The key distribution centre says so.",
		"Set the clock.",
	},
	"security.ticket-principal": {
		"Kerberos does not know the service by the name that was asked for.",
		"The key distribution centre says so; the name is shown.",
		"Call the service by its own host name, or set service-principal.",
	},
	"security.ticket-realm": {
		"The Kerberos realm is not known on this machine.",
		"No key distribution centre is found for it.",
		"Set up krb5.conf (KRB5_CONFIG) for the realm.",
	},
	"security.ticket-refused": {
		"Kerberos does not accept the user, the secret or the keytab.",
		"The key distribution centre says so.",
		"Check user, realm and secret; make a new keytab.",
	},
	"security.assertion-expired": {
		"The assertion that is sent is not valid now.",
		"Its own time limits, compared with this machine's clock.",
		"Get a new one.",
	},
	"verify.certificate-expired": {
		"The certificate that signed the reply has expired, or is not valid yet.",
		"Its dates, compared with this machine's clock.",
		"The service's people must renew it.",
	},
	"verify.confirmation-differs": {
		"The reply confirms a signature that was not sent.",
		"The values were compared (WSS 1.1, signature confirmation).",
		"The reply may answer another request. Do not trust it.",
	},
	"security.clear-text": {
		"A text password would travel without TLS.",
		"The address is http, and not on this machine.",
		"Use https, or a digest.",
	},

	"connect.name-unknown": {
		"The host name does not resolve here.",
		"The resolver's answer.",
		"Check the name, and the network of this machine (VPN?).",
	},
	"connect.refused": {
		"Nothing listens at that host and port.",
		"The connection was refused at once.",
		"Check the port, and whether the service runs.",
	},
	"connect.timed-out": {
		"Nothing answered within the connect limit.",
		"No refusal came either, so packets are probably dropped.",
		"Check firewalls and routes; raise the limit only if the network is slow.",
	},
	"connect.unreachable": {
		"There is no route to the host.",
		"The system's answer.",
		"Check the network: route, VPN, proxy.",
	},
	"connect.proxy-refused": {
		"The proxy does not answer, or does not pass the call on.",
		"It refused the connection, answered 407, or sent a page of its own.",
		"Give it the right identity, or connect without it.",
	},
	"connect.proxy-invalid": {
		"The proxy setting is not an address.",
		"Its address cannot be read.",
		"Write http://host:port, https://host:port or socks5://host:port.",
	},
	"connect.proxy-new": {
		"The workspace names a proxy that was not allowed before.",
		"That was not allowed for this workspace yet.",
		"Allow it if your calls may go through it.",
	},

	"tls.not-tls": {
		"The port does not speak TLS.",
		"What came instead of a handshake is shown.",
		"Use http, or the port that speaks TLS.",
	},
	"tls.version-refused": {
		"Client and server have no TLS version in common.",
		"An alert, or the end of the handshake.",
		"Offer a version that the service speaks; `orenda trust versions` finds it.",
	},
	"tls.cipher-refused": {
		"Client and server have no cipher suite in common.",
		"The handshake ended with an alert.",
		"Offer a suite that the service accepts.",
	},
	"tls.client-certificate-required": {
		"The service wants a client certificate and none is set.",
		"It asked for one in the handshake, then refused by an alert or a page.",
		"Send a certificate of an authority that it accepts.",
	},
	"tls.client-certificate-refused": {
		"The service refused the client certificate.",
		"One was sent, and an alert came back.",
		"Send one that is valid and from an authority that it accepts.",
	},
	"tls.client-certificate-chosen": {
		"One of your client certificates was chosen.",
		"The service asked for one, none was set, and exactly one of yours fits and may be used there.",
		"Set it, so that it stays the same.",
	},
	"tls.name-unrecognized": {
		"The server does not know the name it was called by.",
		"Its alert says so.",
		"Call it by its own name.",
	},
	"tls.protocol-refused": {
		"The server speaks none of the protocols that were offered.",
		"Its alert says so.",
		"Offer http/1.1.",
	},
	"tls.self-signed": {
		"The certificate is self-signed, and not trusted here.",
		"Issuer and subject are the same, and no trust list has it.",
		"Compare its fingerprint, then trust it. Do the same in your program.",
	},
	"tls.chain-incomplete": {
		"The server did not send an intermediate certificate.",
		"The issuer of the last certificate was not sent. If the certificate says where the issuer is, it was fetched.",
		"Complete the chain here; the service's people should send it.",
	},
	"tls.chain-broken": {
		"A certificate in the server's chain may not do what it does there.",
		"Which one, and the rule that it breaks: it is no authority, has another key, may not vouch for the name, or " +
			"says something that must be understood.",
		"The service's people must send the right chain.",
	},
	"tls.authority-unknown": {
		"The certificate comes from an authority that is not trusted here.",
		"No trust list has it.",
		"Compare its fingerprint, then trust the authority.",
	},
	"tls.expired": {
		"The certificate has expired.",
		"Its dates, compared with this machine's clock, and with the server's where that is known.",
		"The service's people must renew it. If this machine's clock is wrong, set it.",
	},
	"tls.not-yet-valid": {
		"The certificate is not valid yet.",
		"Its dates, compared with this machine's clock.",
		"Check this machine's clock first.",
	},
	"tls.name-differs": {
		"The certificate is for other names.",
		"The name that was called is not among its names.",
		"Call the service by one of these names.",
	},
	"tls.revoked": {
		"The certificate, or one above it, was revoked.",
		"The stapled answer, the responder or the list says so, with the time and the reason.",
		"The service's people must put another certificate in its place.",
	},
	"tls.standing-unknown": {
		"Nobody says whether the certificate was revoked.",
		"No answer is stapled, the responder was not reached, or the answer cannot be believed.",
		"Let the way to the responder be opened, or set revocation to off.",
	},
	"tls.usage-differs": {
		"The server's certificate is not for servers.",
		"What it is for, as its extensions say.",
		"The service's people must put a certificate for servers in its place; other programs refuse this one too.",
	},
	"tls.key-weak": {
		"The key or the signature of the certificate is too weak.",
		"A short RSA key, or SHA-1 or MD5.",
		"The service's people must replace it.",
	},
	"tls.expires-soon": {
		"The server's certificate ends within thirty days.",
		"Its dates.",
		"Expect a new certificate soon.",
	},
	"tls.not-verified": {
		"The server's certificate was not checked.",
		"You asked for that, for this call.",
		"Trust the right certificate instead.",
	},
	"tls.keys-logged": {
		"The session's keys were written to a file.",
		"A key log is set.",
		"Delete the file when you no longer need it.",
	},
	"tls.timed-out": {
		"The handshake was not finished in time.",
		"The connection was accepted and nothing more came.",
		"Look at what is between: a firewall may stop TLS.",
	},
	"tls.certificate-unreadable": {
		"A certificate of the server cannot be read.",
		"Its bytes are not a readable X.509 certificate.",
		"The service's people must issue it again.",
	},
	"tls.closed": {
		"The server closed the connection during the handshake, without a reason.",
		"The connection ended before the handshake did.",
		"Usual causes: a port without TLS, another TLS version, a filter on the name.",
	},
	"tls.alert": {
		"The server ended TLS with an alert.",
		"Its alert in words.",
		"The alert says what the server refuses.",
	},

	"send.header-replaced": {
		"An extra header replaces one that the call would send.",
		"Both values are shown.",
		"Remove it, unless you want it.",
	},
	"send.length-differs": {
		"The declared length is not the number of bytes.",
		"The bytes that a program sent through a relay were counted.",
		"Count the bytes of the encoded message, not its characters.",
	},
	"send.charset-differs": {
		"Head, XML declaration and bytes of a request disagree about its encoding.",
		"All three were compared in what a program sent.",
		"Write the message in the encoding that both name.",
	},
	"send.reset": {
		"The server closed the connection while the request was being sent.",
		"How much was sent is shown.",
		"Look at its limits and its log.",
	},
	"send.timed-out": {
		"The server stopped reading the request.",
		"It took no byte within the limit.",
		"Send less, or give it more time.",
	},
	"send.plain-to-tls": {"Plain HTTP was sent to a port that speaks TLS.", "The answer says so.", "Use https."},
	"wait.timed-out": {
		"No byte of an answer came within the limit.",
		"The whole request had been sent.",
		"Ask whether the service is slow or hangs; give it more time if it is slow.",
	},
	"wait.answer-missing": {
		"The service took the message, and the answer that was to come later did not come.",
		"What came to the listener within the limit: nothing, or something else.",
		"Check that the service can reach the address in ReplyTo; look at what came instead.",
	},
	"wait.answer-early": {
		"The answer came before the message was acknowledged.",
		"The times of both.",
		"Nothing, if your program listens before it sends.",
	},
	"wait.closed": {
		"The connection was closed before an answer.",
		"Not one byte came back.",
		"Perhaps the service crashed, or a proxy has no service behind it: look at the service's log.",
	},
	"wait.not-recorded": {
		"An archive holds the call, and no answer to it.",
		"Its entry has no status.",
		"Trace the call with a relay or a capture: then it is seen where it ended.",
	},

	"receive.over-limit": {
		"The reply is larger than the receive limit.",
		"Its announced size, or the byte at which the limit was reached.",
		"Raise the limit to the number that is proposed, in your program too.",
	},
	"receive.over-buffer": {
		"The reply is larger than the buffer limit.",
		"It is taken in as a whole, and the buffer is too small.",
		"Raise the limit, or take replies in as they flow.",
	},
	"receive.inflated-over-limit": {
		"The reply is small when compressed, and over the limit when not.",
		"Both sizes are shown.",
		"Raise the decompressed limit if replies of that size are right.",
	},
	"receive.truncated": {
		"Fewer bytes came than were announced.",
		"The connection ended early.",
		"Look at the proxies on the way, and at the service's log.",
	},
	"receive.stalled": {
		"Bytes stopped coming.",
		"None came within the receive time.",
		"Ask the service's people. Raise the limit only if such pauses are normal.",
	},
	"receive.timed-out": {
		"The limit on the whole call ran out while bytes were coming.",
		"The last bytes and their time are shown.",
		"Raise the limit on the whole call.",
	},
	"read.timed-out": {
		"The limit on the whole call ran out while the reply was read.",
		"All of it had come.",
		"Raise the limit on the whole call, or ask for less.",
	},
	"verify.timed-out": {
		"The limit on the whole call ran out while the reply was verified.",
		"All of it had come and was read.",
		"Raise the limit on the whole call, or ask for less.",
	},
	"receive.program-left": {
		"The program whose call was passed on did not take the whole answer.",
		"It closed its connection, or took nothing more, while bytes were still passed on to it.",
		"Look at its time limits and its size limits.",
	},
	"receive.bad-chunk": {
		"The chunked coding is broken.",
		"The place is shown.",
		"Nothing on your side: the service or a proxy has to correct it.",
	},
	"receive.bad-compression": {
		"The reply is marked as compressed, but it is not, or it is broken.",
		"It cannot be unpacked.",
		"Ask for no compression.",
	},
	"receive.unauthorized": {
		"The server wants to know who calls.",
		"It answered 401, and says which ways it offers.",
		"Authenticate in a way that it offers.",
	},
	"receive.forbidden": {
		"The server knows who calls and forbids it.",
		"It answered 403.",
		"Ask for the right to call.",
	},
	"receive.not-found": {
		"There is no service at this path.",
		"It answered 404; the contract's path is compared.",
		"Check the path.",
	},
	"receive.method-refused": {
		"The server does not accept POST at this path.",
		"It answered 405.",
		"Check the path: it is probably that of a web page.",
	},
	"receive.too-large": {
		"The message is too large for the server.",
		"It answered 413.",
		"Send less, or ask the service's people to raise their limit.",
	},
	"receive.media-type-refused": {
		"The server does not accept the media type.",
		"It answered 415, or a fault says so.",
		"Send the SOAP version that it speaks.",
	},
	"receive.coding-refused": {
		"The server does not take a compressed request.",
		"It answered 415 to a request with a Content-Encoding.",
		"Send it uncompressed.",
	},
	"receive.length-required": {
		"The server does not take a request in chunks.",
		"It answered 411, or 501 to a request in chunks.",
		"Declare the length of the request.",
	},
	"receive.expectation-refused": {
		"The server refuses to let the body be sent.",
		"It answered 417.",
		"Send the body without waiting.",
	},
	"receive.redirected": {
		"The server sends the call elsewhere.",
		"A status of 300 to 399, with the new address.",
		"Call the new address; a POST must not become a GET.",
	},
	"receive.redirect-followed": {
		"A redirect was followed.",
		"The setting says to follow.",
		"Call the new address directly.",
	},
	"receive.gateway": {
		"A proxy answered, and not the service.",
		"A status of 502, 503 or 504.",
		"The service's people must look behind their gateway.",
	},
	"receive.server-error": {
		"The server failed, and sent no fault.",
		"A status of 500 and above, and no envelope.",
		"Look at the service's log.",
	},
	"receive.client-error": {
		"The server refused the request.",
		"A status of 400 and above.",
		"Compare with what works.",
	},
	"receive.not-http": {"The answer is not HTTP.", "Its first bytes are shown.", "Check the port."},
	"receive.head-too-large": {
		"The answer's head is larger than is accepted.",
		"More than 64 KiB of header fields.",
		"Ask the service's people.",
	},
	"receive.accepted-only": {
		"The message was accepted, but the expected reply did not come.",
		"A status of 202 or 204 for an operation that has an output.",
		"Ask whether the reply comes another way.",
	},
	"receive.type-differs": {
		"Media type and envelope belong to different SOAP versions.",
		"Both are shown.",
		"Nothing, if your program can read it.",
	},
	"receive.status-differs": {
		"A normal answer came with an error status.",
		"The envelope is not a fault.",
		"Nothing, if your program can read it.",
	},
	"receive.length-differs": {
		"More bytes came than the reply's head declares, or an answer that nobody asked for.",
		"Bytes of the connection stand behind the declared end of the reply.",
		"Tell the service's people: the length is too small, or counts characters in the place of bytes.",
	},
	"receive.head-malformed": {
		"The head of the reply can be read, and is not as HTTP has it.",
		"Two lengths, a length that is none, a line without a colon, a folded line, white space before a colon.",
		"Tell the service's people; some programs refuse such an answer.",
	},
	"receive.not-soap": {
		"The answer is not SOAP.",
		"Its media type and its title.",
		"Check the path; a log-in page may stand before the service.",
	},
	"receive.not-kept": {
		"A large reply could not be kept on this machine's disk.",
		"The system's answer.",
		"Free some space, or set TMPDIR.",
	},

	"read.empty": {
		"The reply is empty, and should not be.",
		"No byte of body came.",
		"Look at the service's log.",
	},
	"binding.attachments-demanded": {
		"The contract demands MTOM and it is not set.",
		"Its policy says so (OptimizedMimeSerialization).",
		"Send MTOM.",
	},
	"message.attachment-missing": {
		"A file that is to be attached cannot be read.",
		"The system's answer.",
		"Name a file that exists; files of a workspace are inside its folder.",
	},
	"read.parts-broken": {
		"The reply says that it has parts, but they cannot be read.",
		"A boundary or a part's end is missing, or the part of the envelope is not there.",
		"The service's people must correct it; look also at proxies between.",
	},
	"read.attachment-unresolved": {
		"A part that the reply refers to is not there.",
		"The reference and the parts that came are shown.",
		"The service's people must send it; check whether a proxy removes parts.",
	},
	"read.not-well-formed": {
		"The reply's XML is broken.",
		"The byte is shown, and the elements that are open there.",
		"The service's people must correct it.",
	},
	"read.charset-differs": {
		"The bytes are not in the encoding that is declared.",
		"The first wrong byte is shown.",
		"The service's people must correct it.",
	},
	"read.text-outside": {
		"Text stands before or after the envelope.",
		"It is shown. Often it is an error message of the server.",
		"Read it.",
	},
	"read.doctype-refused": {
		"The reply has a document type declaration.",
		"SOAP forbids it.",
		"The service's people must remove it; Orenda does not read such a reply.",
	},
	"read.not-envelope": {"The reply is XML, but not an envelope.", "Its root element.", "Check the path."},
	"read.not-description": {
		"The answer is not a description.",
		"Its root element is shown, or why it cannot be used.",
		"Give the address of the WSDL.",
	},
	"read.version-differs": {
		"The reply is an envelope of the other SOAP version.",
		"Its namespace.",
		"Send the other version.",
	},
	"read.depth-over-limit": {
		"The reply nests deeper than the reader accepts.",
		"The place.",
		"Raise the limit if the reply is right.",
	},
	"read.text-over-limit": {
		"One text of the reply is longer than the reader accepts.",
		"The place.",
		"Raise the limit if the reply is right.",
	},
	"read.repeats-over-limit": {
		"One element has more children than the reader accepts.",
		"The place.",
		"Raise the limit if the reply is right.",
	},
	"read.names-over-limit": {
		"The reply has more different names than the reader accepts.",
		"The place.",
		"Raise the limit if the reply is right.",
	},
	"read.encrypted": {
		"The reply is encrypted and cannot be opened.",
		"No key that is set opens it.",
		"Set the identity whose certificate the service encrypts for.",
	},
	"read.fault-must-understand": {
		"The service does not understand a header block that is marked mustUnderstand.",
		"The fault's code.",
		"Remove the block, or its mustUnderstand.",
	},
	"read.fault-version": {
		"The service wants the other SOAP version.",
		"The fault VersionMismatch.",
		"Send that version.",
	},
	"read.fault-action": {
		"The service does not know the action.",
		"The fault's code or its words.",
		"Send the contract's action.",
	},
	"read.fault-operation": {
		"The service does not know the body's element.",
		"The fault's words.",
		"Check its name and namespace.",
	},
	"read.fault-security-missing": {
		"The service found no security header.",
		"The fault's code or its words.",
		"Send the token that it asks for.",
	},
	"read.fault-security-refused": {
		"The service does not accept who calls.",
		"A fault of failed authentication.",
		"Check user, password, and the type of the password.",
	},
	"read.fault-security-expired": {
		"The service says that the message is too old, or from the future.",
		"The fault's code; the clocks are compared by the HTTP Date.",
		"Set the clock, or give the timestamp a longer life.",
	},
	"read.fault-security-invalid": {
		"The service does not accept the security header.",
		"A fault about token, nonce or signature.",
		"Compare the header with one that is accepted.",
	},
	"read.fault-protocol": {
		"The service wants WS-ReliableMessaging, WS-SecureConversation or the like.",
		"The fault's code is one of that standard.",
		"Let the SOAP library of your program do it, or call an address without it.",
	},
	"read.fault-addressing": {
		"A WS-Addressing header is missing or wrong, or the service cannot do what it says.",
		"The fault's code, the header that it names, and what was sent in it.",
		"Send the headers of that version, with what the service takes.",
	},
	"read.fault-declared": {
		"A fault that the contract declares.",
		"Its detail is an element that the contract names.",
		"Read its fields: it is an answer.",
	},
	"read.fault-client": {
		"The service says that the message is wrong.",
		"The fault's code.",
		"Read the reason, and change the message.",
	},
	"read.fault-server": {
		"The service says that it failed itself.",
		"The fault's code.",
		"Send its words and its time to the service's people.",
	},
	"read.fault-hidden": {
		"A reply that looks like success holds an error.",
		"An element named like an error that has a text.",
		"Read it, and let your program check for it.",
	},
	"read.charset-doubtful": {
		"The reply was read in one encoding, and its bytes look like UTF-8: its letters come out wrong.",
		"It says an encoding of one byte for each letter, and every byte of it is right as UTF-8.",
		"Let your program read it as UTF-8; the service's people have to say so in it.",
	},
	"read.envelope-malformed": {
		"The envelope of the reply can be read, and is not as SOAP has it.",
		"Two Bodies, a Header behind the Body, more elements in the body than the contract has, a fault in the " +
			"shape of the other version.",
		"Tell the service's people; some programs refuse such a reply, or read a part of it.",
	},
	"read.must-understand": {
		"The reply has a header block that a program must understand, or refuse the reply.",
		"A block is marked mustUnderstand, and is for the one who called.",
		"Let your program process the header, or have the service's people take the mark off.",
	},
	"read.relates-to-differs": {
		"The answer says that it belongs to another message.",
		"Its RelatesTo is not the MessageID that was sent.",
		"Do not take it for the answer before the service's people have said why.",
	},
	"read.addressing-differs": {
		"The WS-Addressing headers of the answer are not in order.",
		"One is missing or stands there twice, or they are of another version than the request's.",
		"Tell the service's people; some programs refuse such an answer.",
	},

	"verify.invalid": {
		"The reply breaks its own schema.",
		"The place and the rule.",
		"Let your program accept it there, or tell the service's people.",
	},
	"verify.reply-differs": {
		"The reply belongs to another operation.",
		"Its element is not the one that the output names.",
		"Check the path and the action.",
	},
	"verify.unexpected": {
		"The reply is not what was expected.",
		"Expected and received are shown.",
		"Look at the message that was sent, or change what is expected.",
	},
	"verify.unsigned": {
		"The reply's body is not signed.",
		"No signature covers it at its place.",
		"The service must sign its replies, or you stop demanding it.",
	},
	"verify.signature-broken": {
		"The reply's signature is wrong.",
		"Which reference differs is shown.",
		"Do not trust the reply.",
	},
	"verify.signature-weak": {
		"The reply's signature is weak.",
		"SHA-1, or a short key.",
		"Tell the service's people.",
	},
	"verify.certificate-untrusted": {
		"The reply is signed by a key that is not trusted.",
		"No trust list has its certificate.",
		"Compare its fingerprint, then trust it.",
	},
	"verify.stale": {
		"The reply's timestamp is out of date.",
		"It is compared with this machine's clock.",
		"Compare the clocks. If they agree, the reply is an old one.",
	},
}
