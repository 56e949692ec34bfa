package diagnose

//revive:disable:line-length-limit a pattern is one line

import (
	"fmt"
	"regexp"
	resyntax "regexp/syntax"
	"slices"
	"strings"
	"sync"

	"orenda/internal/exchange"
	"orenda/internal/pattern"
)

// errorPatterns is the table of what programs say: SOAP stacks, runtimes, gateways, load
// balancers, identity services and firewalls, in general terms. Patterns are
// without regard to case; the rows are asked in order, the particular before the
// general. Fault codes are those of the standards (SOAP, WSS 1.0 §12, WS-Addressing
// 1.0 §6.4), so that they are found in texts of any language.
//
//nolint:gochecknoglobals // a table: it is never written to
var errorPatterns = []struct{ id, patterns string }{
	{
		"address.malformed",
		`malformed ?url|invalid uri|no protocol:|unsupported protocol scheme|missing protocol scheme`,
	},
	{
		"binding.endpoint-missing",
		`could not find.{0,40}endpoint element|(endpoint|port) .{0,60}(not found|could not be found|no such) .{0,60}(configuration|contract|wsdl)|no such (port|endpoint) in`,
	},
	{
		"binding.endpoint-ambiguous",
		`(more than one|multiple|several|two) .{0,40}(endpoint|port)s?\b.{0,80}(configur|contract|section|found)|(endpoint|port)\b.{0,60}(more than one|ambiguous)`,
	},
	{
		"binding.buffer-differs",
		`(receive|message)\w*.{0,40}size.{0,60}buffer\w*.{0,20}size.{0,60}(same|equal|match)|buffer\w*.{0,20}size.{0,60}(same|equal|match).{0,60}(receive|message)|buffer\w*.{0,10}size.{0,40}(receive|message)\w*.{0,20}size.{0,40}(same|equal|match)|(same|equal) .{0,60}(receive|message)\w*.{0,40}size.{0,40}buffer`,
	},

	{
		"connect.proxy-refused",
		`\b407\b|proxy authentication required|unable to (tunnel|connect to) .{0,20}proxy|proxyconnect|proxy error`,
	},
	{
		"connect.name-unknown",
		`unknown ?host|name or service not known|no such host|could ?n[o']t resolve host|getaddrinfo|nodename nor servname|remote name could not be resolved|name resolution|enotfound|eai_again`,
	},
	{"connect.refused", `connection refused|actively refused|econnrefused|connect: refused`},
	{"connect.unreachable", `no route to host|network is unreachable|ehostunreach|enetunreach`},
	{
		"connect.timed-out",
		`connect(ion)?( to \S+)?( attempt)? (has )?timed? ?-?out|connect timeout|dial.{0,60}i/o timeout|failed to connect .{0,40}tim(ed|eout)`,
	},

	{
		"tls.not-tls",
		`wrong version number|unrecognized ssl message|plaintext connection|first record does not look like a tls|ssl.{0,20}packet length too long|record layer version`,
	},
	{"send.plain-to-tls", `plain http request was sent|http request to an https server|requires? tls|use https`},
	{"tls.self-signed", `self[- _]?signed cert`},
	{
		"tls.chain-incomplete",
		`unable to verify the first certificate|incomplete (certificate )?chain|intermediate certificate`,
	},
	{
		"tls.authority-unknown",
		`unable to (get|find) (local )?(issuer|valid certification path)|path building failed|unknown authority|unknown[_ ]ca\b|trust anchor|untrusted root|could not establish (a )?trust|not trusted|certificate verify failed|unable to get issuer`,
	},
	{
		"tls.name-differs",
		`(host ?name|host|name).{0,60}(mismatch|does not match|doesn't match)|no (subject )?alternative (dns )?names?|certificate is (not )?valid for|altname|no name matching`,
	},
	{"tls.not-yet-valid", `certificate.{0,40}not yet valid|notbefore`},
	{"tls.expired", `certificate.{0,40}expired|notafter|certificate_expired`},
	{
		"tls.client-certificate-required",
		`certificate required|certificate_required|no required ssl certificate|peer did not return a certificate|no client certificate|client certificate (is )?(required|needed|missing)`,
	},
	{
		"tls.client-certificate-refused",
		`bad[_ ]certificate|certificate_unknown|certificate unknown|client certificate.{0,30}(refused|rejected|not accepted)`,
	},
	{"tls.name-unrecognized", `unrecognized[_ ]name`},
	{
		"tls.version-refused",
		`protocol[_ ]version|unsupported protocol\b|(unknown|unsupported|unrecognized|unrecognised|disabled).{0,30}(ssl|tls)\S{0,8}.{0,20}(protocol|version)|(ssl|tls)\S{0,8} ?(protocol|version).{0,40}(unknown|unsupported|not (supported|recognized|recognised)|disabled)|no protocol.{0,20}(in common|appropriate)|no appropriate protocol`,
	},
	{"tls.cipher-refused", `no (shared|common) cipher|no cipher suites|common algorithm|handshake[_ ]failure`},
	{"tls.closed", `(closed|terminated|reset|eof|dropped|ended).{0,60}handshake|handshake.{0,60}(closed|terminated|reset|eof|dropped)|could not create .{0,20}secure channel`},
	{
		"security.key-mismatch",
		`(private )?key.{0,30}(does not|do not|mismatch).{0,20}(match|certificate)|key values mismatch`,
	},
	{
		"security.key-unreadable",
		`key ?store.{0,40}(tampered|password|not be (loaded|opened))|mac verify (failure|error)|bad decrypt|cannot recover key|unable to load (private )?key`,
	},

	{
		"read.fault-security-expired",
		`messageexpired|message (has )?expired|timestamp.{0,40}(expired|in the future|invalid)|lies in the future|created.{0,30}future|clock skew|outside the (accepted|allowed) window|security semantics.{0,20}expired|(timestamp|message|security token|assertion)('s)? ([^\s.:;,]+ ){0,3}(too old|too new|stale|expired|no longer valid|not yet valid)|(creation time|timestamp).{0,60}(in the (past|future)|too far|stale)|(nachricht|zeitstempel|sicherheitstoken) ([^\s.:;,]+ ){0,3}(abgelaufen|zu alt|veraltet)|(message|jeton|horodatage) ([^\s.:;,]+ ){0,3}(expir[ée]|périmé|trop ancien)|(mensaje|token|marca de tiempo) ([^\s.:;,]+ ){0,3}(caducad|expirad|vencid)|(messaggio|timestamp) ([^\s.:;,]+ ){0,3}scadut|(bericht|tijdstempel) ([^\s.:;,]+ ){0,3}(verlopen|te oud)|mensagem ([^\s.:;,]+ ){0,3}expirad`,
	},
	{
		"read.fault-security-missing",
		`no (ws-?security|wsse:security|security|user ?name) (header|token)|security header (is )?(missing|was not found|not found|required)|missing (wsse:)?security|no wsse:security|does not contain a security header|no security token|requires security|an error was discovered processing the <?(wsse:)?security`,
	},
	{
		"read.fault-security-refused",
		`failedauthentication|could not be (authenticated|authorized)|authentication (failed|failure)|(invalid|bad|wrong|unknown) (user ?name|user|password|credentials?|log-?in)|log-?in (failed|(is |was )?incorrect)|(unable to|cannot|can not|could not|failed to) authenticate|error authenticating|not authorized|unauthorized|access (is )?denied|(user ?name|password|credentials?).{0,40}could not be (validated|verified)|(user ?name|user|password|credentials?).{0,40}(is |are |was )?(unknown|invalid|incorrect|wrong|not (known|valid|correct|recognized|recognised))|incorrect (user ?name|user|password)|unbekannter? benutzer|(benutzer(name)?|passwort|kennwort|anmeldedaten|zugangsdaten).{0,40}(unbekannt|ungültig|falsch|nicht (bekannt|gültig|korrekt))|(anmeldung|authentifizierung).{0,30}fehlgeschlagen|falsches (passwort|kennwort)|mot de passe.{0,30}(incorrect|invalide|erroné)|utilisateur.{0,30}(inconnu|invalide)|(authentification|connexion).{0,30}(échoué|refusée|échec)|échec de l.authentification|usuario.{0,30}(desconocido|inválido|incorrecto|no válido)|(contraseña|clave).{0,30}(incorrecta|inválida|errónea|no válida)|(autenticación|autenticazione|autenticação).{0,30}(fall|error|inválida)|utente.{0,30}(sconosciuto|non valido)|password.{0,30}(errata|non valida|onjuist|ongeldig)|(onbekende gebruiker|gebruiker.{0,30}onbekend|wachtwoord.{0,30}(onjuist|ongeldig))|(usuário desconhecido|senha (incorreta|inválida))`,
	},
	{
		"read.fault-security-invalid",
		`invalidsecurity|failedcheck|verifying security for the message|unsupportedsecuritytoken|unsupportedalgorithm|securitytokenunavailable|signature or decryption was invalid|nonce.{0,30}(replay|reused|already)|replay|(message|token|nonce).{0,30}already (been )?(used|received|processed|seen)|nonce.{0,40}(bereits|schon) (verwendet|benutzt)|(nonce|message).{0,40}déjà (été )?(utilisé|reçu|traité)|(nonce|mensaje).{0,40}ya (ha sido |fue )?(utilizado|usado|recibido)|nonce.{0,40}(già|al) (utilizzat|usat|gebruikt)`,
	},
	{
		"verify.signature-broken",
		`signature.{0,30}(verification|validation) failed|signature.{0,20}(is )?(not valid|invalid)|digest.{0,20}(mismatch|does not match)`,
	},

	{
		"read.fault-must-understand",
		`mustunderstand|(did|does|do) not understand.{0,60}header|header.{0,200}not understood|not understood.{0,60}header`,
	},
	{"read.fault-version", `versionmismatch|version mismatch|wrong soap version|unsupported soap version`},
	{
		"read.fault-addressing",
		`messageaddressingheaderrequired|messageinformationheaderrequired|invalidaddressingheader|destinationunreachable|onlyanonymousaddresssupported|addressing header.{0,40}(missing|required|not present)`,
	},
	{
		"read.fault-action",
		`soap ?action([ ,."']|$)|actionnotsupported|action not supported|unknown (soap ?)?action|no operation for (the )?(soap ?)?action|(soap ?)?action.{0,60}(not|cannot be) (recognized|recognised|processed|supported|found|known)|did not recognize the value of http header|given soapaction`,
	},
	{"message.namespace-differs", `namespace.{0,80}expected|expected.{0,80}namespace|element \(uri:`},
	{
		"read.fault-operation",
		`no such (operation|method)|operation.{0,30}not found|unknown (operation|method)|no operation|is not a valid (method|operation)|(method|operation|procedure|function)\b.{0,60}(not (defined|implemented|supported|present|available)|does(n't| not) exist|is unknown)|cannot find dispatch|unexpected (wrapper )?element|not found for the element`,
	},

	{
		"read.version-differs",
		`content[ -]type.{0,20}(application/soap\+xml|text/xml).{0,80}(response|reply|answer).{0,80}(not match|differ|mismatch|unexpected|expected)`,
	},
	{
		"receive.not-soap",
		`text/html|content[ -]type.{0,80}(response|reply|answer).{0,80}(not match|differ|mismatch|unexpected|expected)|(response|reply|answer).{0,40}content[ -]type.{0,80}(not match|differ|mismatch|unexpected|expected)`,
	},
	{"receive.media-type-refused", `\b415\b|(media|mime) type|content[ -]type([ ,.'"]|$)`},
	{"read.depth-over-limit", `max(imum)?.{0,10}(read )?depth|nest(ed|ing).{0,20}(deep|depth|limit)`},
	{
		"read.text-over-limit",
		`max(imum)?.{0,10}(string|text).{0,20}length|(string|text).{0,30}(content )?(length )?quota`,
	},
	{"read.names-over-limit", `name.{0,3}table.{0,20}(quota|limit|exceed)`},
	{
		"read.repeats-over-limit",
		`max(imum)?.{0,10}(array|child|element|items).{0,20}(length|count|number|graph|exceed)`,
	},
	{
		"receive.over-limit",
		`max(imum)?.{0,20}(message|received|response|reply|buffer).{0,20}(size|quota|length)|message size.{0,40}(exceed|quota|limit)|(response|reply|message) (is )?too (large|long)|exceed.{0,40}(maximum|size limit|size quota)`,
	},
	{
		"message.invalid",
		`cvc-[a-z]|is not a valid value (for|of)|invalid content was found|schema validation|(un)?marshal+ing (error|failed|failure)|(could not|cannot|unable to) (be )?deseriali[sz]e|element.{0,60}is (missing|required|not expected)`,
	},

	{"receive.unauthorized", `\b401\b`},
	{"receive.forbidden", `\b403\b|forbidden|request blocked|blocked by|web application firewall`},
	{"receive.not-found", `\b404\b|no endpoint (was |is )?listening|no \w+ (was |is )?listening at|service not found|endpoint (was )?not found`},
	{"receive.method-refused", `\b405\b|method not allowed`},
	{"receive.too-large", `\b413\b|(request )?entity too large|payload too large|request body too large`},
	{"receive.redirected", `\b30[12378]\b|(was|has been) (redirected|moved)`},
	{
		"receive.gateway",
		`\b50[234]\b|bad gateway|gateway time-?out|service (temporarily )?unavailable|upstream|no healthy|backend (server )?(is )?(down|error)`,
	},
	{"receive.head-too-large", `(header|head).{0,20}too (large|long|big)`},
	{
		"receive.bad-compression",
		`(incorrect|invalid|not in) (gzip )?(header|format|magic)|gzip.{0,20}(invalid|error|corrupt)`,
	},
	{
		"receive.truncated",
		`premature (eof|end of (chunk|content|stream|message))|content-length.{0,40}(mismatch|received|short)|unexpected end of (stream|data|content)|incomplete (read|body)|transfer closed with`,
	},
	{
		"read.doctype-refused",
		`doctype (is )?(disallowed|not allowed)|dtd.{0,30}(prohibited|forbidden|not allowed|disabled)`,
	},
	{
		"read.text-outside",
		`not allowed in prolog|data at the root level|junk after document|text (is )?not allowed (before|at)`,
	},
	{"read.charset-differs", `invalid byte \d|malformed (utf|byte|input)|invalid (utf-?8|encoding|character encoding)`},
	{
		"read.not-envelope",
		`(couldn't|could not|unable to) create.{0,20}(soap )?message|expected.{0,30}envelope|no envelope|not a soap (message|envelope)`,
	},
	{
		"read.not-well-formed",
		`not well-?formed|premature end of file|unexpected (end of|eof).{0,30}xml|xml.{0,20}(pars|syntax)|mismatched tag|must be well-formed|parsing error|end tag`,
	},
	{"read.empty", `(empty|no) (response|reply|body)|response (is|was) empty|no data received|no content`},

	{
		"wait.timed-out",
		`read timed? ?out|response timed? ?out|read timeout|timeout (expired|exceeded|awaiting|waiting)|operation (has )?timed out|request.{0,20}timed out|timed out (waiting|awaiting)|esockettimedout|etimedout|(request channel|reply|response|answer).{0,60}time-?d?[- ]?out`,
	},
	{
		"wait.closed",
		`socket hang up|connection (was )?(closed|aborted)( unexpectedly| by|$)|underlying connection was closed|server (closed|terminated)|no ?http ?response|failed to respond|unexpected end of file from server|empty reply from server|remote end closed`,
	},
	{"send.reset", `connection reset|econnreset|broken pipe|epipe|forcibly closed|reset by peer`},
	{"receive.server-error", `\b500\b|internal server error`},
	{"read.fault-client", `faultcode>[^<]*(client|sender)|fault: .{0,30}(client|sender)`},
	{"read.fault-server", `faultcode>[^<]*(server|receiver)|soap ?fault|fault(string|code)|faultexception`},
}

// phrase is a row of the table, ready to be looked for.
type phrase struct {
	id    string
	re    *regexp.Regexp
	needs []string // one of these stands in every text that matches, in lower case
}

//nolint:gochecknoglobals // made once, when it is first asked for
var phrases = sync.OnceValue(func() []phrase {
	out := make([]phrase, len(errorPatterns))
	for i, r := range errorPatterns {
		parsed, err := resyntax.Parse(r.patterns, resyntax.Perl)
		if err != nil {
			panic("diagnose: " + r.id + ": " + err.Error())
		}
		out[i] = phrase{r.id, regexp.MustCompile(`(?i)` + r.patterns), needs(parsed.Simplify())}
	}
	return out
})

// needs are literals of which one stands in whatever matches; nil where none must.
// With them a line is passed over without asking the expression.
func needs(re *resyntax.Regexp) []string {
	switch re.Op {
	case resyntax.OpLiteral:
		return []string{strings.ToLower(string(re.Rune))}
	case resyntax.OpCapture, resyntax.OpPlus:
		return needs(re.Sub[0])
	case resyntax.OpAlternate:
		var all []string
		for _, sub := range re.Sub {
			n := needs(sub)
			if n == nil {
				return nil
			}
			all = append(all, n...)
		}
		return all
	case resyntax.OpConcat:
		var best []string
		for _, sub := range re.Sub {
			if n := needs(sub); n != nil && (best == nil || shortest(n) > shortest(best)) {
				best = n
			}
		}
		return best
	}
	return nil
}

func shortest(words []string) int {
	n := len(words[0])
	for _, w := range words {
		n = min(n, len(w))
	}
	return n
}

// in tells whether a text, which is given in lower case too, holds the phrase.
func (p *phrase) in(text, lower string) bool {
	if p.needs != nil && !slices.ContainsFunc(p.needs, func(n string) bool { return strings.Contains(lower, n) }) {
		return false
	}
	return p.re.MatchString(text)
}

// speaksOf tells whether a text speaks of a finding's cause.
func speaksOf(text, id string) bool {
	lower := strings.ToLower(text)
	all := phrases()
	i := slices.IndexFunc(all, func(p phrase) bool { return p.id == id })
	return all[i].in(text, lower)
}

// Heard is a finding that a text speaks of. It is never certain: a text is what a
// program says, and not what crossed.
type Heard struct {
	ID         string         `json:"id"`                // stable name: stage.cause
	Stage      exchange.Stage `json:"stage"`             // at which it takes effect, or happened
	Side       exchange.Side  `json:"side"`              // who can mend it
	Line       int            `json:"line"`              // of the text, counted from 1
	Excerpt    string         `json:"excerpt"`           // the bytes themselves, in one line
	Means      string         `json:"means"`             // what has happened
	Helps      string         `json:"helps"`             // what to do
	Hypotheses []hypothesis   `json:"couldBe,omitempty"` // what may be behind it
	Try        string         `json:"try"`               // the command line that shows it
}

// InText finds what an error text or the lines of a log speak of: the likeliest
// first, which is what the innermost cause names where there are several.
func InText(text string) []Heard {
	out := hear(text)
	at := address.FindString(text)
	for i := range out {
		h := &out[i]
		if e := Explain(h.ID); e != nil {
			h.Side, h.Means, h.Helps = e.Side, e.Means, e.Helps
		}
		h.Hypotheses, h.Try = slices.Clone(hypotheses[h.ID]), tryOf(*h, at)
	}
	return out
}

// hear finds what a text speaks of: id, stage and place alone.
func hear(text string) []Heard {
	const maxLine, maxLines = 4000, 20000
	lines := strings.Split(lineEnds.Replace(text), "\n") // a paste ends its lines as a keyboard does
	if len(lines) > maxLines {                           // the newest are the last
		lines = lines[len(lines)-maxLines:]
	}
	type hit struct {
		Heard
		depth int // how many causes were named before it
	}
	var hits []hit
	depth, last := 0, 0
	all := phrases()
	for i, l := range lines {
		l = l[:min(len(l), maxLine)]
		parts := inner.Split(l, -1)
		if len(parts) == 1 && began.MatchString(l) && i > last+maxApart {
			depth = 0
		}
		for k, part := range parts {
			depth += min(k, 1)
			lower := strings.ToLower(part)
			for k := range all {
				if all[k].in(part, lower) {
					last = i
					hits = append(hits, hit{Heard{ID: all[k].id, Line: i + 1, Excerpt: cut(part, 160)}, depth})
					break // the particular before the general
				}
			}
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return b.depth - a.depth })
	var out []Heard
	for _, h := range hits {
		if slices.ContainsFunc(out, func(o Heard) bool { return o.ID == h.ID }) {
			continue
		}
		name, _, _ := strings.Cut(h.ID, ".")
		h.Stage, _ = exchange.ParseStage(name)
		out = append(out, h.Heard)
	}
	// What only says that something failed comes after what says why.
	slices.SortStableFunc(out, func(a, b Heard) int { return vague(a.ID) - vague(b.ID) })
	return out
}

//nolint:gochecknoglobals // a table: it is never written to
var lineEnds = strings.NewReplacer("\r\n", "\n", "\r", "\n")

// maxApart is how many lines a trace may go on without a word that is known.
const maxApart = 60

var (
	inner   = pattern.New(`(?i)caused by:?|root cause:?|inner exception:?|---> |nested exception is:?|due to:`)
	began   = pattern.New(`^\S`)
	address = pattern.New(`https?://[^\s"'<>()\]]+`)
)

func vague(id string) int {
	switch id {
	case "read.fault-server", "read.fault-client", "receive.server-error":
		return 1
	}
	return 0
}

// tryOf is the call that shows what a text speaks of.
func tryOf(h Heard, at string) string {
	to := ""
	if at != "" {
		to = " --address " + strings.TrimRight(at, ".,;:")
	}
	switch {
	case h.Stage == exchange.TLS && at != "":
		return "orenda trust show " + strings.TrimRight(at, ".,;:")
	case h.Stage <= exchange.Security:
		return "orenda check OPERATION"
	case h.Stage <= exchange.TLS:
		return "orenda call OPERATION" + to + " --until " + h.Stage.String() + " --checks"
	}
	return "orenda call OPERATION" + to + " --checks"
}

// Lines are what is told of it, each under its heading.
func (h *Heard) Lines() [][2]string {
	out := [][2]string{
		{fmt.Sprintf("line %d", h.Line), h.Excerpt},
		{"side", sideWords[h.Side]},
		{"what helps", h.Helps},
	}
	for i, p := range h.Hypotheses {
		out = append(
			out,
			[2]string{map[bool]string{true: "may be", false: "or"}[i == 0], p.Cause + ", if " + p.Predicts},
		)
	}
	return append(out, [2]string{"to see it", h.Try})
}
