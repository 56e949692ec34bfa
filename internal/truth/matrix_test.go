package truth

import (
	"strings"
	"time"

	"orenda/internal/exchange"
)

// cause is one true cause of a failure, with the ways in which services tell of it.
type cause struct {
	name  string
	want  []string      // the findings that are true first ones; the first is the best
	side  exchange.Side // who can mend it; "" either
	set   []string      // settings: key, value, …
	body  string        // the body element; "" the usual one
	says  []said        // faults, one exchange each
	other []answer      // answers that are no faults, one exchange each
	own   bool          // only as an own call: what is set is the cause
	plain bool          // only without TLS
}

const usual = `<Moor xmlns="` + moorNS + `"><sign>SKAB</sign><length>42</length></Moor>`

// with puts more into the usual body.
func with(more string) string { return strings.Replace(usual, "</Moor>", more+"</Moor>", 1) }

func both(reasons ...string) (out []said) {
	for _, r := range reasons {
		out = append(out, said{code: "Sender", reason: r}, said{code: "Receiver", reason: r})
	}
	return out
}

func of(code string, reasons ...string) (out []said) {
	for _, r := range reasons {
		out = append(out, said{code: code, reason: r})
	}
	return out
}

func page(status int, contentType, body string, fields ...string) answer {
	return func(w *wire, _ string) { w.reply(status, contentType, body, fields...) }
}

// token sets a user name token.
func token(kind string) []string {
	return []string{"token", kind, "identity", "desk"}
}

const html = "text/html; charset=utf-8"

// causes is the matrix's first axis, in the words of the common server stacks: terse ones,
// those with the name of an exception, those with a stack trace in the detail, those with
// another language.
//
//nolint:gochecknoglobals // a table: it is never written to
var causes = []cause{
	{
		name: "a value that the service's own rule refuses",
		want: []string{"read.fault-client", "read.fault-server"}, side: exchange.Yours,
		says: both(
			"no vessel has the call sign SKAB",
			"sign: SKAB is not registered",
			"Validation error: the call sign 'SKAB' is shorter than the minimum",
			"harbour.rules.RuleException: call sign SKAB unknown",
			"Das Rufzeichen SKAB ist nicht bekannt",
			"l'indicatif SKAB est inconnu",
			"Length 42 exceeds the berth",
			"access denied: the harbour is closed on Sundays to craft like SKAB",
			"Error message: the mooring permit of SKAB has expired",
			"no such operation can be planned for SKAB today",
			"The certificate of registry of SKAB is expired",
			"message 17: SKAB is not authorised to moor at this quay on this day",
		),
	},
	{
		name: "a header block that is declared is demanded",
		want: []string{"message.header-left-out"}, side: exchange.Yours, own: true,
		says: both("the header Caller is missing", "required SOAP header 'Caller' was not found",
			"harbour.soap.HeaderException: no header block Caller in the message", "Der Header Caller fehlt"),
	},
	{
		name: "a value whose field is called action",
		want: []string{"read.fault-client", "read.fault-server"}, side: exchange.Yours,
		body: strings.Replace(usual, "</Moor>", "<action>unload</action></Moor>", 1),
		says: both(
			"unknown action 'unload'",
			"action unload not supported for this berth",
			"The action unload is not recognized",
		),
	},
	{
		name: "something behind the service refuses it",
		want: []string{"read.fault-server"}, side: exchange.Theirs,
		says: of("Receiver",
			"Login failed for user 'moor_rw'. (database MOOR)",
			"ORA-01017: invalid username/password; logon denied",
			"the token service refused the client: invalid_client",
			"LDAP bind failed: invalid credentials",
			"Could not open JDBC connection: password authentication failed for user moor",
			"Internal error: access denied by upstream system",
			"java.sql.SQLException: Access denied for user 'app'@'10.1.0.4' (using password: YES)",
			"SMTP server refused: authentication failed",
			"Anmeldung an der Datenbank fehlgeschlagen",
		),
	},
	{
		name: "an inner failure of the service",
		want: []string{"read.fault-server"}, side: exchange.Theirs,
		says: append(
			of("Receiver", "No space left on device", "NullPointerException", "Object reference not set to an instance",
				"Unexpected error", "Internal Server Error", "deadlock detected, try again later",
				"Der Server konnte die Anfrage nicht verarbeiten"),
			said{
				"Receiver",
				"Error",
				"<trace>at moor.Desk.run(Desk.java:17) caused by: java.io.IOException: disk full</trace>",
			},
		),
	},
	{
		name: "a wrong password",
		want: []string{"read.fault-security-refused"}, set: token("text"),
		says: append(both(
			"The security token could not be authenticated or authorized",
			"Invalid user name or password",
			"Authentication failed",
			"unknown user 'mooring-desk'",
			"WSSecurityException: The security token could not be authenticated or authorized",
			"Benutzername oder Passwort ungültig",
			"Mot de passe incorrect",
			"usuario o contraseña incorrecta",
			"The username or password could not be validated.",
			"Unable to authenticate",
			"Bad credentials",
			"Access is denied.",
			"Login incorrect",
			"org.skerry.AuthException: Error authenticating user mooring-desk",
		), of("w:FailedAuthentication", "x", "The security token could not be authenticated or authorized",
			"Die Anmeldung ist fehlgeschlagen")...),
	},
	{
		name: "an expired message",
		want: []string{
			"read.fault-security-expired",
		}, set: append(token("text"), "timestamp", "5m", "clock-offset", "-2h"),
		says: append(
			both(
				"The message has expired",
				"timestamp is too old",
				"The security semantics of the message have expired",
				"message timestamp outside the allowed window",
				"Die Nachricht ist abgelaufen",
				"le message a expiré",
				"The message's creation time is too far in the past",
				"Security timestamp is stale",
			),
			of("w:MessageExpired", "The message has expired", "x")...),
	},
	{
		name: "a nonce that was used before",
		want: []string{"read.fault-security-invalid"}, set: token("digest"),
		says: append(
			both("A replay attack has been detected", "Nonce has already been used", "Nonce wurde bereits verwendet"),
			of("w:InvalidSecurity", "A replay attack has been detected")...),
	},
	{
		name: "no token is sent",
		want: []string{"read.fault-security-missing"},
		says: append(
			both("No WS-Security header found", "An error was discovered processing the &lt;wsse:Security&gt; header",
				"security header is missing", "the message does not contain a security header"),
			of("w:InvalidSecurity", "No WS-Security header found", "missing security header")...),
	},
	{
		name: "a header block that is not understood",
		want: []string{"read.fault-must-understand"},
		says: of(
			"MustUnderstand",
			"x",
			"The header was not understood by the recipient",
			"MustUnderstand headers: [Caller]",
		),
	},
	{
		name: "the action that is set is not the contract's",
		want: []string{
			"binding.action-differs",
		}, side: exchange.Yours, set: []string{"action", "urn:skerry:moor:Mooor"}, own: true,
		says: append(both("The SOAPAction urn:skerry:moor:Mooor was not recognized",
			"no operation for action urn:skerry:moor:Mooor",
			"Server did not recognize the value of HTTP Header SOAPAction: urn:skerry:moor:Mooor",
			"The given SOAPAction urn:skerry:moor:Mooor does not match an operation.",
			"unknown operation urn:skerry:moor:Mooor"), of("a:ActionNotSupported", "x")...),
	},
	{
		name: "the body is in another namespace",
		want: []string{
			"message.namespace-differs",
		}, side: exchange.Yours, body: strings.Replace(usual, moorNS, moorNS+"s", 1), own: true,
		says: both("Unexpected wrapper element {urn:skerry:moors}Moor found. Expected {urn:skerry:moor}Moor.",
			"Cannot find dispatch method for {urn:skerry:moors}Moor",
			"unexpected element (uri:\"urn:skerry:moors\", local:\"Moor\")",
			"The endpoint reference (EPR) for the Operation not found for the element Moor",
			"Procedure 'Moor' not present", "Function (\"Moor\") is not a valid method for this service"),
	},
	{
		name: "a value that breaks the schema",
		want: []string{
			"message.invalid",
		}, side: exchange.Yours, body: strings.Replace(usual, "42", "forty", 1), own: true,
		says: both("cvc-datatype-valid.1.2.1: 'forty' is not a valid value for 'integer'", "unmarshalling error: forty",
			"Input string was not in a correct format: length", "For input string: \"forty\"",
			"Element 'length': 'forty' is not a valid value of the atomic type 'xs:int'",
			"could not deserialize parameter length", "Unmarshalling Error: Not a number: forty",
			"Server was unable to read request. ---&gt; There is an error in XML document (4, 20).",
			"The string 'forty' is not a valid Int32 value."),
	},
	{
		name: "an element that the schema demands is not there",
		want: []string{
			"message.invalid",
		}, side: exchange.Yours, body: `<Moor xmlns="` + moorNS + `"><sign>SKAB</sign></Moor>`, own: true,
		says: both(
			"cvc-complex-type.2.4.b: The content of element 'Moor' is not complete",
			"required element length is missing",
			"length is required",
		),
	},
	{
		name: "a value was never filled in",
		want: []string{"message.placeholder-left", "message.invalid"}, side: exchange.Yours, own: true,
		body: `<Moor xmlns="` + moorNS + `"><sign><?fill string?></sign><length>42</length></Moor>`,
		says: both("sign must not be empty", "the sign is empty", "cvc-minLength-valid: '' with length 0"),
	},
	{
		name: "a sequence or a security context is demanded",
		want: []string{"read.fault-protocol"},
		says: append(of("r:WSRMRequired", "The RM Destination requires the use of WSRM"),
			of("sc:BadContextToken", "The requested context elements are insufficient or unsupported", "unknown token")...),
	},
	{
		name: "WS-Addressing is demanded",
		want: []string{"read.fault-addressing"},
		says: of(
			"a:MessageAddressingHeaderRequired",
			"x",
			"A required header representing a Message Addressing Property is not present",
		),
	},
	{
		name: "the SOAP version is not the port's",
		want: []string{
			"binding.version-differs",
			"receive.media-type-refused",
			"read.fault-version",
		}, own: true, set: []string{"soap", "other"},
		says: of("VersionMismatch", "x", "A SOAP 1.2 message is not valid when sent to a SOAP 1.1 only endpoint"),
		other: []answer{
			page(415, html, "<html><title>415</title></html>"), page(415, "", ""),
		},
	},
	{
		name: "a gateway has nobody behind it",
		want: []string{"receive.gateway"}, side: exchange.Between,
		other: []answer{
			page(502, html, "<html><head><title>502 Bad Gateway</title></head></html>"),
			page(503, html, "<html><body>Service Temporarily Unavailable</body></html>"),
			page(504, html, "<html><title>Gateway Time-out</title></html>"), page(503, "", "", "Retry-After: 30"),
			page(502, "text/plain", "no healthy upstream"),
		},
	},
	{
		name: "the service stands elsewhere",
		want: []string{"receive.not-found"},
		other: []answer{
			page(404, html, "<html><title>404 Not Found</title></html>"), page(404, "", ""),
			page(404, "text/plain", "no service was found at this path"),
		},
	},
	{
		name: "HTTP credentials are asked for",
		want: []string{"receive.unauthorized"},
		other: []answer{
			page(401, html, "<html><title>401</title></html>", `WWW-Authenticate: Basic realm="moor"`),
			page(401, "", "", `WWW-Authenticate: Basic realm="moor", Digest realm="moor", nonce="x"`),
		},
	},
	{
		name: "it is forbidden",
		want: []string{"receive.forbidden"},
		other: []answer{
			page(403, html, "<html><title>403 Forbidden</title></html>"), page(403, "text/plain", "request blocked"),
		},
	},
	{
		name: "a log-in page stands before it",
		want: []string{"receive.redirected", "receive.not-soap"},
		other: []answer{
			page(
				302,
				html,
				"",
				"Location: /login.html",
			), page(303, html, "", "Location: https://sso.skerry.test/login?next=/moor"),
			page(200, html, "<html><title>Sign in</title><form></form></html>"),
		},
	},
	{
		name: "an address that moved",
		want: []string{"receive.redirected"},
		other: []answer{
			page(301, "", "", "Location: /moor/v2"), page(308, "", "", "Location: /moor/v2"),
		},
	},
	{
		name: "a page where an envelope is due",
		want: []string{"receive.not-soap"},
		other: []answer{
			page(200, html, "<html><title>Welcome to the mooring office</title></html>"),
			page(200, "application/json", `{"status":"up"}`), page(200, "text/plain", "OK"),
		},
	},
	{
		name: "the answer is cut off",
		want: []string{"receive.truncated"},
		other: []answer{func(w *wire, ns string) {
			body := envelope(ns, "", `<MoorResponse xmlns="`+moorNS+`"><berth>N02</berth></MoorResponse>`)
			_, _ = w.Write(
				[]byte("HTTP/1.1 200 OK\r\nContent-Type: " + media(ns) + "\r\nContent-Length: 4000\r\n\r\n" + body),
			)
		}, func(w *wire, ns string) {
			_, _ = w.Write(
				[]byte(
					"HTTP/1.1 200 OK\r\nContent-Type: " + media(ns) + "\r\nTransfer-Encoding: chunked\r\n\r\n40\r\n<a",
				),
			)
		}},
	},
	{
		name: "the answer is broken XML",
		want: []string{"read.not-well-formed"}, side: exchange.Theirs,
		other: []answer{func(w *wire, ns string) {
			w.reply(200, media(ns), envelope(ns, "", "<MoorResponse><berth>N02</MoorResponse>"))
		}, func(w *wire, ns string) {
			w.reply(200, media(ns), envelope(ns, "", "<MoorResponse>a & b</MoorResponse>"))
		}},
	},
	{
		name: "nothing is answered",
		want: []string{"wait.closed"},
		other: []answer{
			func(*wire, string) {},
		},
	},
	{
		name: "the answer that was to come later does not",
		want: []string{"wait.answer-missing"}, set: []string{"reply-to", "here", "answer-time", "60ms"}, own: true,
		other: []answer{func(w *wire, _ string) { w.reply(202, "text/plain", "") }},
	},
	{
		name: "no answer in time",
		want: []string{"wait.timed-out"}, side: exchange.Theirs, set: []string{"answer-time", "60ms"}, own: true,
		other: []answer{
			func(*wire, string) { time.Sleep(120 * time.Millisecond) },
		},
	},
	{
		name: "more than the receive limit",
		want: []string{"receive.over-limit"}, side: exchange.Yours, set: []string{"receive-limit", "2000"}, own: true,
		other: []answer{func(w *wire, ns string) {
			w.reply(
				200,
				media(ns),
				envelope(ns, "", `<MoorResponse xmlns="`+moorNS+`"><berth>`+strings.Repeat("N02 ", 900)+
					`</berth></MoorResponse>`),
			)
		}},
	},
	{
		name: "a length that was counted by hand",
		want: []string{
			"send.length-differs",
		}, side: exchange.Yours, set: []string{"header", "Content-Length: 190"}, own: true,
		says: both("Premature end of file", "unexpected end of input", "The request could not be read"),
		other: []answer{
			page(400, "", ""),
			page(400, html, "<html><title>Bad Request</title></html>"),
			func(*wire, string) {},
		},
	},
	{
		name: "the reply of another operation",
		want: []string{"verify.reply-differs"},
		other: []answer{func(w *wire, ns string) {
			w.reply(200, media(ns), envelope(ns, "", `<CastOffResponse xmlns="`+moorNS+`"/>`))
		}},
	},
	{
		name: "no request in chunks",
		want: []string{"receive.length-required"}, side: exchange.Yours, set: []string{"transfer", "chunked"}, own: true,
		other: []answer{
			page(411, "text/html", "<html><title>411 Length Required</title></html>"),
			page(411, "text/plain", ""),
			page(501, "text/plain", "Transfer-Encoding is not implemented"),
		},
	},
	{
		name: "no compressed request",
		want: []string{"receive.coding-refused"}, side: exchange.Yours, set: []string{"request-coding", "gzip"}, own: true,
		other: []answer{
			page(415, "text/plain", "unsupported", "Accept-Encoding", "identity"),
			page(415, "text/html", "<html><title>Unsupported Media Type</title></html>"),
		},
	},
	{
		name: "an empty answer",
		want: []string{"read.empty", "receive.not-soap"}, side: exchange.Theirs,
		other: []answer{func(w *wire, ns string) { w.reply(200, media(ns), "") }},
	},
}
