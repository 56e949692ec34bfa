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
	return map[exchange.Side]string{exchange.Yours: "yours to mend", exchange.Theirs: "the service's to mend",
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
		"The setting holds ${name}, and the environment sets no such name; names are case-sensitive, and a near miss " +
			"is named.",
		"Set the variable, write the name that is set, or give a default: ${name:-value}.",
	},
	"address.variable-cyclic": {
		"A variable's value leads back to the variable.",
		"The values were followed until one came a second time.",
		"Write one of them out.",
	},
	"address.variable-withheld": {
		"A variable is to come from the process environment, and this workspace was not allowed to read it.",
		"Its value is written env:NAME, and that was not allowed for this workspace yet.",
		"Allow it once, having looked at where the value goes.",
	},
	"address.variable-unused": {
		"A variable is set and nothing uses it.",
		"No setting and no draft holds ${name}.",
		"Remove it, or look whether a name elsewhere was meant to be this one.",
	},
	"address.unresolved-elsewhere": {
		"An endpoint's address is no URL in some environment.",
		"The address was resolved in every environment.",
		"Set the missing variables before that environment is used.",
	},
	"address.environment-unknown": {
		"The environment that is named does not exist.",
		"The workspace has no environment of that name.",
		"Use one that exists; a near miss is offered.",
	},
	"address.malformed": {
		"The address is no URL once the variables are in.",
		"The place where it breaks is shown.",
		"Write https://host:port/path.",
	},
	"address.scheme-unsupported": {
		"The address is neither http nor https.",
		"The scheme before :// is another.",
		"Use http or https.",
	},
	"address.from-contract": {
		"The address is the description's own, and it can hardly be the one to call.",
		"Its host is this machine, a single label, a name that is never reachable, or not the host that served the " +
			"description.",
		"Set the address at the endpoint, and in your program.",
	},

	"binding.endpoint-ambiguous": {
		"Several endpoints serve the operation and none is named.",
		"More than one endpoint of the contract has a port with this operation, and none is the default.",
		"Name one, or make one the default.",
	},
	"binding.endpoint-missing": {
		"No endpoint serves the operation, or the one that is named does not exist.",
		"The endpoints of the contract were looked through.",
		"Make an endpoint for a port that has the operation, or correct the name.",
	},
	"binding.operation-unknown": {
		"The contract has no operation of that name.",
		"Names are case-sensitive; a near miss is named.",
		"Use the contract's name, letter by letter.",
	},
	"binding.version-differs": {
		"The SOAP version that is set is not the port's.",
		"The port's binding says another version.",
		"Send the port's version, from your program too.",
	},
	"binding.action-differs": {
		"The action that is set is not the contract's.",
		"The description gives another soapAction for the operation.",
		"Send the contract's action.",
	},
	"binding.addressing-demanded": {
		"The contract demands WS-Addressing headers and none are set.",
		"A policy or the binding says so.",
		"Send To, Action, MessageID and ReplyTo.",
	},
	"binding.buffer-differs": {
		"The reply is taken in whole, and the buffer limit is not the receive limit.",
		"The two settings differ; a program may insist that they do not.",
		"Set both to the same number.",
	},
	"binding.limits-contradict": {
		"One size limit can never fall, because another falls before it.",
		"The decompressed limit is smaller than the receive limit.",
		"Raise the decompressed limit.",
	},
	"binding.limit-too-small": {
		"The receive limit would refuse replies that this operation has sent.",
		"The sizes of the kept replies are known.",
		"Raise the limit to the number that is proposed, in your program too.",
	},
	"binding.limit-invalid": {
		"A limit is no size or number that can be.",
		"It is zero, negative, too large or no number.",
		"Write 65536, 64 KiB or 2 MB.",
	},
	"binding.time-limit-invalid": {
		"A time limit is no time.",
		"It cannot be read as a time, or is not above zero.",
		"Write 30s, 5m or 250ms.",
	},
	"binding.time-limits-contradict": {
		"A time limit can never run out.",
		"The whole call is given less than one part of it: the limit of the whole call falls first.",
		"Nothing must be done; to let the part run out, give the whole call more.",
	},
	"binding.value-invalid": {
		"A setting has a value that it cannot have.",
		"It is not one of those that exist.",
		"Use one of them.",
	},
	"binding.port-gone": {
		"An endpoint is for a port that the contract does not have any more.",
		"The contract has no port of that name.",
		"Take another port, or switch the endpoint off.",
	},
	"binding.endpoints-same": {
		"Two endpoints are the same.",
		"They have the same port and the same settings.",
		"One of them is enough.",
	},
	"binding.setting-unknown": {
		"The settings file holds something that nobody knows.",
		"A near miss is named where there is one.",
		"Correct the name; what is not known is kept and has no effect.",
	},

	"message.not-well-formed": {"The draft's XML is broken.", "The place is shown.", "Mend it there."},
	"message.variable-unset": {
		"A variable in the draft has no value.",
		"The draft says that variables stand in its values.",
		"Set it, or write $$ for a dollar sign.",
	},
	"message.placeholder-left": {
		"A value was never filled in.",
		"The draft holds a placeholder. What is required is not sent unasked; what is optional is left out.",
		"Fill it in, or leave the element out where it may be.",
	},
	"message.body-differs": {
		"The body is of another operation than the one that is called.",
		"Its element is not the one that the operation's input names.",
		"Call the operation that it belongs to, or change the body.",
	},
	"message.namespace-differs": {
		"An element has the right name in the wrong namespace.",
		"The schema has the same local name in another namespace.",
		"Qualify it, or do not, as the schema says.",
	},
	"message.invalid": {
		"The message breaks its schema.",
		"The element, the rule and what was expected are named.",
		"Send what the schema allows, unless you mean to see how the service answers.",
	},
	"message.header-left-out": {
		"A header block that the contract declares is left out.",
		"The binding declares it for the operation's input.",
		"Put it into the draft's header, if the service insists.",
	},
	"message.empty-value": {
		"A required value is empty, and valid.",
		"The type allows an empty value.",
		"Fill it in, if the service wants it.",
	},
	"message.file-new": {
		"The message takes a file outside the workspace.",
		"The workspace comes from somebody else, or the path was written into its file by hand.",
		"Allow it only where you know the file and why it is sent.",
	},
	"message.too-large": {
		"The message is larger than the send limit.",
		"The envelope as built was measured.",
		"Raise the limit, or send less.",
	},
	"message.security-in-draft": {
		"The draft carries a security header of its own.",
		"A token is set as well, or a password stands in the draft.",
		"Leave one of them away; passwords belong to identities.",
	},

	"security.token-demanded": {
		"The contract demands a token, a timestamp, a signature or encryption that is not set.",
		"Its policy says so.",
		"Set it up; the remedy does all that can be done and asks for the rest.",
	},
	"security.identity-unknown": {
		"There is no identity of that name.",
		"Identities are looked for in your own configuration; a near miss is named.",
		"Correct the name, or make the identity.",
	},
	"security.identity-host-new": {
		"An identity was not used at this host before.",
		"This identity was not allowed for this host in this workspace yet.",
		"Allow it once, if it is the right host.",
	},
	"security.secret-unavailable": {
		"The secret of an identity cannot be read.",
		"Its source gave none, and why.",
		"Mend the source: set the variable, make the file readable, unlock the keyring.",
	},
	"security.secret-locked": {
		"The secret is sealed, and its pass phrase was not given or is wrong.",
		"The file is encrypted with age.",
		"Give the pass phrase, once a sitting.",
	},
	"security.password-type-differs": {
		"The Type of the password that another program sent is none that the standard has.",
		"The attribute in its user name token.",
		"The program has to send the whole URI of the type.",
	},
	"security.password-type-unknown": {
		"The token's password type is none.",
		"People put the password where its type belongs; it is not shown.",
		"Set text or digest, and keep the password with the identity.",
	},
	"security.key-unreadable": {
		"A certificate or key file cannot be used.",
		"It is not there, in another format, sealed, or damaged.",
		"Name the right file; the secret of the client identity opens a sealed one.",
	},
	"security.key-mismatch": {
		"Private key and certificate do not belong together.",
		"Their public keys differ.",
		"Take the certificate that was issued for this key.",
	},
	"security.certificate-expired": {
		"Your client certificate is outside its dates.",
		"Its dates were compared with this machine's clock.",
		"Have it renewed.",
	},
	"security.certificate-unfit": {
		"Your client certificate is hardly one for clients.",
		"Its uses do not name client authentication.",
		"Have one issued with that use.",
	},
	"security.secret-unverified": {
		"A secret would go to a server whose certificate is not looked at.",
		"Any certificate is accepted for this call.",
		"Trust the right certificate.",
	},
	"security.file-new": {
		"A setting names a file outside the workspace.",
		"The workspace comes from somebody else, or the path was written into its file by hand.",
		"Allow it only where you know the file and why it is needed.",
	},
	"security.key-log-new": {
		"The workspace wants session keys written to a file.",
		"That was not allowed for this workspace yet.",
		"Allow it only where you know why.",
	},
	"security.signing-key-missing": {
		"Parts are to be signed and no key is set.",
		"Neither an identity that signs nor a client certificate is set.",
		"Name the identity that signs.",
	},
	"security.part-missing": {
		"A part that is to be signed or encrypted is not in the message.",
		"The envelope as built has no such element.",
		"Add the part, or do not name it.",
	},
	"security.signature-weak": {
		"What protects the message is weak.",
		"SHA-1, CBC or RSA 1.5 is set.",
		"Use SHA-256, GCM and OAEP where the service takes them.",
	},
	"security.algorithms-differ": {
		"The contract asks for other algorithms than those that are set.",
		"Its algorithm suite, and the order of signing and encrypting (WS-SecurityPolicy).",
		"Set what it asks for; what is weak of that is told, too.",
	},
	"security.log-in-failed": {
		"The log-in before the call gave no session.",
		"Its answer, or what is missing in it.",
		"Look at the log-in, which is an exchange of its own; correct it with orenda identity set NAME " +
			"log-in.KEY=VALUE, or in identities.toml.",
	},
	"security.assertion-expired": {
		"The assertion that is sent does not hold now.",
		"Its own conditions against this machine's clock.",
		"Have a new one issued.",
	},
	"verify.certificate-expired": {
		"The certificate that signed the reply is outside its dates.",
		"Its dates against this machine's clock.",
		"The service's people must renew it.",
	},
	"verify.confirmation-differs": {
		"The reply confirms another signature than the one that was sent.",
		"The values were compared (WSS 1.1, signature confirmation).",
		"The reply may be to another request; do not trust it.",
	},
	"security.clear-text": {
		"A text password would travel without TLS.",
		"The address is http, and not on this machine.",
		"Use https, or a digest.",
	},

	"connect.name-unknown": {
		"The host name does not resolve here.",
		"The resolver's answer.",
		"Check the name, and which network this machine is in.",
	},
	"connect.refused": {
		"Nobody listens at that host and port.",
		"The connection was refused at once.",
		"Check the port, and whether the service runs.",
	},
	"connect.timed-out": {
		"Nothing answered within the connect limit.",
		"No refusal came either: packets are likely dropped.",
		"Check firewalls and routes; raise the limit only if the network is slow.",
	},
	"connect.unreachable": {
		"There is no route to the host.",
		"The system's answer.",
		"Check the network: route, VPN, proxy.",
	},
	"connect.proxy-refused": {
		"The proxy is not there, or does not pass the call on.",
		"It refused the connection, answered 407 or with a page of its own.",
		"Give it the right identity, or connect without it.",
	},
	"connect.proxy-invalid": {
		"The proxy that is set is none.",
		"Its address cannot be read.",
		"Write http://host:port, https://host:port or socks5://host:port.",
	},
	"connect.proxy-new": {
		"The workspace names a proxy that was not allowed before.",
		"That was not allowed for this workspace yet.",
		"Allow it, if calls may pass through it.",
	},

	"tls.not-tls": {
		"The port speaks no TLS.",
		"What came instead of a handshake is shown.",
		"Use http, or the port that speaks TLS.",
	},
	"tls.version-refused": {
		"There is no TLS version that both speak.",
		"An alert, or the end of the handshake.",
		"Offer what the service speaks; `orenda trust versions` asks it.",
	},
	"tls.cipher-refused": {
		"There is no cipher suite that both accept.",
		"The handshake ended with an alert.",
		"Offer a suite that the service accepts.",
	},
	"tls.client-certificate-required": {
		"The service wants a client certificate and none is set.",
		"It asked for one in the handshake and refused, by an alert or by a page.",
		"Send a certificate of an authority that it accepts.",
	},
	"tls.client-certificate-refused": {
		"The service refused the client certificate.",
		"One was sent, and an alert came back.",
		"Send one that is valid and from an authority that it accepts.",
	},
	"tls.client-certificate-chosen": {
		"One of your client certificates was chosen.",
		"The service asked, none was set, and one fits and may go there.",
		"Set it, so that it stays so.",
	},
	"tls.name-unrecognized": {
		"The server does not know the name that it was asked for.",
		"Its alert says so.",
		"Call it by its name.",
	},
	"tls.protocol-refused": {
		"The server speaks none of the protocols that were offered.",
		"Its alert says so.",
		"Offer http/1.1.",
	},
	"tls.self-signed": {
		"The certificate is its own issuer, and is not trusted here.",
		"Issuer and subject are the same, and no trust list has it.",
		"Compare its fingerprint, then trust it; in your program too.",
	},
	"tls.chain-incomplete": {
		"The server did not send an intermediate certificate.",
		"The last one sent was issued by another that is not there; where it says where that is, it was fetched.",
		"Complete the chain here; the service's people should send it.",
	},
	"tls.authority-unknown": {
		"The certificate comes from an authority that is not trusted here.",
		"No trust list has it.",
		"Trust the authority, having compared its fingerprint.",
	},
	"tls.expired": {
		"The certificate has expired.",
		"Its dates against this machine's clock, and the server's where it was asked.",
		"The service's people must renew it; or set this machine's clock right.",
	},
	"tls.not-yet-valid": {
		"The certificate is not valid yet.",
		"As above.",
		"Check this machine's clock first.",
	},
	"tls.name-differs": {
		"The certificate is for other names.",
		"The name that was asked for is not among them.",
		"Call the service by a name that it is for.",
	},
	"tls.key-weak": {
		"Key or signature of the certificate is too weak.",
		"A short RSA key, or SHA-1 or MD5.",
		"The service's people must replace it.",
	},
	"tls.expires-soon": {
		"The server's certificate ends within thirty days.",
		"Its dates.",
		"Be ready for the new one.",
	},
	"tls.not-verified": {
		"Any certificate was accepted.",
		"It was asked for, for this call.",
		"Trust the right certificate instead.",
	},
	"tls.keys-logged": {
		"The session's keys were written to a file.",
		"A key log is set.",
		"Delete the file when it has served.",
	},
	"tls.timed-out": {
		"The handshake was not finished in time.",
		"The connection was accepted and nothing more came.",
		"Look at what stands between; a firewall may hold TLS back.",
	},
	"tls.certificate-unreadable": {
		"A certificate of the server cannot be read.",
		"Its bytes are no X.509 certificate that can be parsed.",
		"The service's people have to issue it anew.",
	},
	"tls.closed": {
		"The peer dropped the handshake without a word.",
		"The connection ended within it.",
		"A plain port, another protocol version, or a filter on the name are the usual causes.",
	},
	"tls.alert": {
		"The peer ended TLS with an alert.",
		"Its alert in words.",
		"The alert says what it does not like.",
	},

	"send.header-replaced": {
		"An extra header replaces one that the call would send.",
		"Both values are shown.",
		"Leave it away, unless it is meant.",
	},
	"send.length-differs": {
		"The declared length is not the number of bytes.",
		"What a program sent through a relay was counted.",
		"Count the bytes of the encoded message, not its characters.",
	},
	"send.charset-differs": {
		"Head, XML declaration and bytes of a request do not say the same of its encoding.",
		"Of what a program sent, all three were looked at.",
		"Write the message in the encoding that both name.",
	},
	"send.reset": {
		"The peer closed while the request was being written.",
		"How much had left is shown.",
		"Look at its limits and its log.",
	},
	"send.timed-out": {
		"The peer stopped reading.",
		"No byte was taken within the limit.",
		"Send less, or give it more time.",
	},
	"send.plain-to-tls": {"Plain HTTP was sent to a port that speaks TLS.", "The answer says so.", "Use https."},
	"wait.timed-out": {
		"No byte of an answer came within the limit.",
		"The request had left whole.",
		"Ask whether the service is slow or hangs; give it more time if it is slow.",
	},
	"wait.closed": {
		"The connection was closed before an answer.",
		"Not one byte came back.",
		"A crash, or a proxy without a service behind it; look at the service's log.",
	},

	"receive.over-limit": {
		"The reply is larger than the receive limit.",
		"Its announced size, or the byte at which the limit fell.",
		"Raise the limit to the number that is proposed, in your program too.",
	},
	"receive.over-buffer": {
		"The reply is larger than the buffer limit.",
		"It is taken in whole, and the buffer is smaller.",
		"Raise it, or take replies in flowing.",
	},
	"receive.inflated-over-limit": {
		"The reply is small when compressed, and over the limit when not.",
		"Both sizes are shown.",
		"Raise the decompressed limit, if so much is expected.",
	},
	"receive.truncated": {
		"Fewer bytes came than were announced.",
		"The connection ended early.",
		"Look at proxies on the way and at the service's log.",
	},
	"receive.stalled": {
		"Bytes stopped coming.",
		"None came within the receive time.",
		"Ask the service's people; raise the limit only if pauses are usual.",
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
		"Nothing: the service or a proxy breaks it.",
	},
	"receive.bad-compression": {
		"What is marked as compressed is not, or is broken.",
		"It cannot be unpacked.",
		"Ask for no compression.",
	},
	"receive.unauthorized": {
		"The server wants to know who calls.",
		"It answered 401, and offers ways.",
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
		"The server takes no POST there.",
		"It answered 405.",
		"Check the path: it is likely that of a page.",
	},
	"receive.too-large": {
		"The server does not take so large a message.",
		"It answered 413.",
		"Send less, or ask the service's people to raise their limit.",
	},
	"receive.media-type-refused": {
		"The server does not take the media type.",
		"It answered 415, or a fault says so.",
		"Send the SOAP version that it speaks.",
	},
	"receive.expectation-refused": {
		"The server does not say that the body may be sent.",
		"It answered 417.",
		"Send the body at once.",
	},
	"receive.redirected": {
		"The server sends the call elsewhere.",
		"A status of 300 to 399, with the place.",
		"Call the new place; a POST must not become a GET.",
	},
	"receive.redirect-followed": {
		"A redirect was followed.",
		"The setting says to follow.",
		"Call the new place directly.",
	},
	"receive.gateway": {
		"A proxy answered, and not the service.",
		"A status of 502, 503 or 504.",
		"The service's people must look behind their gateway.",
	},
	"receive.server-error": {
		"The server failed without a fault.",
		"A status of 500 and above, and no envelope.",
		"Look at the service's log.",
	},
	"receive.client-error": {
		"The server refused the request.",
		"A status of 400 and above.",
		"Compare with what works.",
	},
	"receive.not-http": {"What answers speaks no HTTP.", "Its first bytes are shown.", "Check the port."},
	"receive.head-too-large": {
		"The answer's head is larger than is accepted.",
		"More than 64 KiB of header fields.",
		"Ask the service's people.",
	},
	"receive.accepted-only": {
		"The message was accepted, and a reply was due.",
		"A status of 202 or 204 for an operation that has an output.",
		"Ask whether the reply comes in another way.",
	},
	"receive.type-differs": {
		"Media type and envelope are of different SOAP versions.",
		"Both are shown.",
		"Nothing, if your program reads it.",
	},
	"receive.status-differs": {
		"An answer came under an error status.",
		"The envelope is no fault.",
		"Nothing, if your program reads it.",
	},
	"receive.not-soap": {
		"Something else than SOAP came.",
		"Its media type and its title.",
		"Check the path; a log-in page may stand before the service.",
	},
	"receive.not-kept": {
		"A large reply could not be kept on this machine's disk.",
		"The system's answer.",
		"Make room, or set TMPDIR.",
	},

	"read.empty": {
		"The reply is empty where one is due.",
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
		"Name a file that is there; those of a workspace lie in it.",
	},
	"read.parts-broken": {
		"The reply says that it has parts, and cannot be taken apart.",
		"A boundary or a part's end is missing, or the part of the envelope is not there.",
		"The service's people must mend it; look at what stands between.",
	},
	"read.attachment-unresolved": {
		"A part that the reply refers to is not there.",
		"The reference and the parts that came are shown.",
		"The service's people must send it; look whether a proxy takes parts off.",
	},
	"read.not-well-formed": {
		"The reply's XML is broken.",
		"The byte, and the elements that are open there.",
		"The service's people must mend it.",
	},
	"read.charset-differs": {
		"The bytes are not in the encoding that is declared.",
		"The first byte that is not.",
		"The service's people must mend it.",
	},
	"read.text-outside": {
		"Text stands before or after the envelope.",
		"It is shown: often it is the server's own complaint.",
		"Read it.",
	},
	"read.doctype-refused": {
		"The reply has a document type declaration.",
		"SOAP forbids it.",
		"Nothing; it is not read.",
	},
	"read.not-envelope": {"The reply is XML and no envelope.", "Its root element.", "Check the path."},
	"read.not-description": {
		"What came is no description.",
		"Its root element, or why it cannot be used.",
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
		"Raise the limit, if the reply is meant so.",
	},
	"read.text-over-limit": {
		"One text of the reply is longer than the reader accepts.",
		"The place.",
		"Raise the limit, if the reply is meant so.",
	},
	"read.repeats-over-limit": {
		"One element has more children than the reader accepts.",
		"The place.",
		"Raise the limit, if the reply is meant so.",
	},
	"read.names-over-limit": {
		"The reply has more different names than the reader accepts.",
		"The place.",
		"Raise the limit, if the reply is meant so.",
	},
	"read.encrypted": {
		"The reply is encrypted and cannot be opened.",
		"No key that is set opens it.",
		"Set the identity whose certificate the service encrypts for.",
	},
	"read.fault-must-understand": {
		"The service does not understand a header block that it must.",
		"The fault's code.",
		"Leave the block away, or its mustUnderstand.",
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
		"The service finds the message too old, or from the future.",
		"The fault's code; the clocks are compared by the HTTP Date.",
		"Set the clock right; give the timestamp a longer life.",
	},
	"read.fault-security-invalid": {
		"The service does not accept the security header.",
		"A fault about token, nonce or signature.",
		"Compare the header with one that is accepted.",
	},
	"read.fault-addressing": {
		"A WS-Addressing header is missing or wrong.",
		"The fault's code.",
		"Send the headers of that version.",
	},
	"read.fault-declared": {
		"A fault that the contract declares.",
		"Its detail is an element that the contract names.",
		"Read its fields: it is an answer.",
	},
	"read.fault-client": {
		"A fault that blames the message.",
		"The fault's code.",
		"Change what the reason says.",
	},
	"read.fault-server": {
		"A fault by which the service blames itself.",
		"The fault's code.",
		"Send its words and its time to the service's people.",
	},
	"read.fault-hidden": {
		"A reply that looks like success holds an error.",
		"An element named like an error that has a text.",
		"Read it; let your program look for it.",
	},

	"verify.invalid": {
		"The reply breaks its own schema.",
		"The place and the rule.",
		"Let your program be lenient there, or tell the service's people.",
	},
	"verify.reply-differs": {
		"The reply is of another operation.",
		"Its element is not the one that the output names.",
		"Check the path and the action.",
	},
	"verify.unexpected": {
		"What was expected is not there.",
		"Expected and received are shown.",
		"Look at the message that was sent, or change what is expected.",
	},
	"verify.unsigned": {
		"The reply's body is not signed.",
		"No signature covers it where it stands.",
		"The service must sign its replies; or demand it no longer.",
	},
	"verify.signature-broken": {
		"The reply's signature does not hold.",
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
		"Trust it, having compared its fingerprint.",
	},
	"verify.stale": {
		"The reply's timestamp is out of date.",
		"It is compared with this machine's clock.",
		"Compare the clocks; else the reply is an old one.",
	},
}
