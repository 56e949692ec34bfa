package diagnose

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"

	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/pattern"
	"orenda/internal/schema"
	"orenda/internal/soap"
)

// A fault is of exactly one class, which is the finding that it leads to. The class is
// read from its codes where a standard has them; from its declared detail; and from its
// words only where these are about the message that was sent, and not about a value in
// it, or about something behind the service.

// faultRule makes a rule of the faults of one class.
func faultRule(id string, tell func(*Case, *soap.Fault) *exchange.Finding) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		if c.Reply == nil || c.Reply.Fault == nil || c.faultClass(c.Reply.Fault) != id {
			return nil
		}
		f := tell(c, c.Reply.Fault)
		if f.Evidence == nil {
			f.Evidence = c.faultEvidence(c.Reply.Fault)
		}
		return one(*f)
	}
}

// faultClass is the finding of a fault.
func (c *Case) faultClass(f *soap.Fault) string {
	if c.fault == "" {
		c.fault = cmp.Or(c.findFaultClass(f), "none")
	}
	return c.fault
}

func (c *Case) findFaultClass(f *soap.Fault) string {
	if id := c.classByCode(f); id != "" {
		return id
	}
	if len(mediaTypeRefused(c)) > 0 || c.challenged() {
		return ""
	}
	if e, _ := c.declaredFault(f); e != nil {
		return "read.fault-declared"
	}
	if id := c.classByWords(f); id != "" {
		return id
	}
	if f.FromSender() {
		return "read.fault-client"
	}
	return "read.fault-server"
}

// codeClasses are the fault codes of the standards: SOAP 1.1 §4.4.1 and 1.2 §5.4.6, WSS
// 1.0 §12, WS-Addressing 1.0 SOAP Binding §6.4.
//
//nolint:gochecknoglobals // a table: it is never written to
var codeClasses = map[string]string{
	"MustUnderstand":                   "read.fault-must-understand",
	"VersionMismatch":                  "read.fault-version",
	"MessageExpired":                   "read.fault-security-expired",
	"FailedAuthentication":             "read.fault-security-refused",
	"UnsupportedSecurityToken":         "read.fault-security-invalid",
	"UnsupportedAlgorithm":             "read.fault-security-invalid",
	"InvalidSecurity":                  "read.fault-security-invalid",
	"InvalidSecurityToken":             "read.fault-security-invalid",
	"FailedCheck":                      "read.fault-security-invalid",
	"SecurityTokenUnavailable":         "read.fault-security-invalid",
	"BadContextToken":                  "read.fault-security-invalid",
	"MessageAddressingHeaderRequired":  "read.fault-addressing",
	"MessageInformationHeaderRequired": "read.fault-addressing",
	"InvalidAddressingHeader":          "read.fault-addressing",
	"InvalidMessageInformationHeader":  "read.fault-addressing",
	"DestinationUnreachable":           "read.fault-addressing",
	"OnlyAnonymousAddressSupported":    "read.fault-addressing",
	"OnlyNonAnonymousAddressSupported": "read.fault-addressing",
	"EndpointUnavailable":              "read.fault-addressing",
	"ActionMismatch":                   "read.fault-addressing",
	"ActionNotSupported":               "read.fault-action",
}

func (c *Case) classByCode(f *soap.Fault) string {
	if faultProtocol(f) != "" {
		return "read.fault-protocol"
	}
	for _, code := range f.Codes() {
		id := codeClasses[code.Local]
		if id == "read.fault-security-invalid" || id == "read.fault-security-refused" {
			return c.securityClass(f, id)
		}
		if id != "" {
			return id
		}
	}
	return ""
}

// securityClass tells faults of security apart by their words, where a service uses one
// code for several.
func (c *Case) securityClass(f *soap.Fault, otherwise string) string {
	sent := c.sentFacts()
	switch {
	case says(f, "read.fault-security-missing") && !sent.token:
		return "read.fault-security-missing"
	case says(f, "read.fault-security-expired"):
		return "read.fault-security-expired"
	case says(f, "read.fault-security-refused"):
		return "read.fault-security-refused"
	}
	return otherwise
}

// classByWords reads the class from the words of a fault.
func (c *Case) classByWords(f *soap.Fault) string {
	if c.isBehind(f) {
		return "" // what fails there was not sent from here
	}
	sent := c.sentFacts()
	if says(f, "read.fault-security-missing") && !sent.token {
		return "read.fault-security-missing"
	}
	if sent.credentials() && !c.ofSomebodyElse(f, &sent) {
		for _, id := range []string{
			"read.fault-security-expired", "read.fault-security-refused", "read.fault-security-invalid",
		} {
			if says(f, id) && !(id == "read.fault-security-refused" && onlyDenied(f)) {
				return id
			}
		}
	}
	if c.aboutDispatch(f) {
		for _, id := range []string{"read.fault-action", "read.fault-operation"} {
			if says(f, id) {
				return id
			}
		}
	}
	return ""
}

// onlyDenied tells whether a fault says at length that something may not be, without a
// word about who may not: rules of all kinds deny.
func onlyDenied(f *soap.Fault) bool {
	return len(strings.Fields(f.Reason)) > fewWords && deniedWords.MatchString(f.Reason) &&
		!personWords.MatchString(f.Reason)
}

// fewWords is how many words a fault has at most that says no more than that.
const fewWords = 5

var (
	deniedWords = pattern.New(`(?i)access (is )?denied|not authori[sz]ed|unauthori[sz]ed`)
	personWords = pattern.New(
		`(?i)\b(users?|user ?names?|passwords?|credentials?|log-?ins?|authenti\w*|accounts?|` +
			`callers?|principals?|permissions?|roles?|tokens?|security|client)\b`,
	)
	dispatchWords = pattern.New(
		`(?i)\b(dispatch|wrapper|elements?|endpoints?|soap|wsdl|namespaces?|services?|methods?|` +
			`ports?|procedures?|functions?|handlers?|binding)\b`,
	)
)

// behindService are words for what a service itself depends on.
var behindService = pattern.New(
	`(?i)\b(data ?base|datenbank|base de donn[ée]es|base de datos|sql\w*|ora-\d+|jdbc|` +
		`odbc|ldap|active directory|up ?stream|back ?end|mainframe|host system|message (queue|broker)|smtp|sftp|` +
		`file ?share|token (source|service|provider|issuer|server)|identity provider|connection pool|data ?source|` +
		`third[- ]party|partner system|legacy system|no space left|disk (?:is |was )?full|out of memory|` +
		`(?:memory|heap)(?: \w+){0,3} exhausted|too many (?:open )?(?:files|connections)|deadlock\w*)\b`,
)

// isBehind tells whether a fault is about something that the service itself depends on.
func (c *Case) isBehind(f *soap.Fault) bool {
	return behindService.MatchString(f.Reason) || behind(f) != "" && len(c.spokenOf(f, false)) == 0
}

// namedUser finds whom a fault speaks of.
var namedUser = pattern.New(`(?i)\b(?:user ?name|user|principal|log-?in|account|benutzer(?:name)?|utilisateur|` +
	`usuario|utente|gebruiker)\s*[:=]?\s*["'‘’“”«»(\[]([^"'‘’“”«»)\]]{1,80})["'‘’“”«»)\]]`)

// otherThings are things besides people that are unknown, locked or without rights.
var otherThings = pattern.New(`(?i)\b(members?|groups?|vessels?|berths?|records?|files?|rows?|orders?|items?|` +
	`objects?|resources?|entit(?:y|ies)) \S{0,40} ?(?:is |are |was |has )?(?:un|not |no |locked|expired|denied)`)

// ofSomebodyElse tells whether a fault speaks of another one than the sender.
func (c *Case) ofSomebodyElse(f *soap.Fault, sent *sentFacts) bool {
	if m := namedUser.FindStringSubmatch(f.Reason); m != nil && sent.user != "" {
		return !strings.EqualFold(strings.TrimSpace(m[1]), sent.user)
	}
	if sent.user != "" && hasWord(strings.ToLower(f.Reason), sent.user) {
		return false
	}
	return otherThings.MatchString(f.Reason) || len(c.spokenOf(f, false)) > 0
}

// aboutDispatch tells whether a fault's words can be about which operation is called. A
// rule about a value is not, also where the value's field is called action.
func (c *Case) aboutDispatch(f *soap.Fault) bool {
	said := strings.ToLower(f.Reason)
	if strings.Contains(said, "soapaction") || strings.Contains(said, "soap action") {
		return true
	}
	if action := c.actionSent(); action != "" && strings.Contains(said, strings.ToLower(action)) {
		return true
	}
	if b, ok := c.bodyName(); ok && (hasWord(said, b.Name().Local) ||
		b.Name().Space != "" && strings.Contains(said, strings.ToLower(b.Name().Space))) {
		return true
	}
	return len(c.spokenOf(f, true)) == 0 &&
		(len(strings.Fields(f.Reason)) < fewWords || dispatchWords.MatchString(f.Reason))
}

func (c *Case) actionSent() string {
	if st := c.X.Stage(exchange.Binding); st != nil {
		return strings.Trim(st.Facts.Get("action sent"), `"`)
	}
	return ""
}

// spokenOf are the fields of the message whose values a fault quotes, and, where names
// are wanted too, whose names it speaks of: those whose value is quoted first.
func (c *Case) spokenOf(f *soap.Fault, names bool) (out []message.Item) {
	if c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	said := f.Reason
	if !f.Detail.IsZero() {
		said += " " + schema.Words(f.Detail)
	}
	exact := said[:min(len(said), 16<<10)]
	said = strings.ToLower(exact)
	noDates := said
	if isoDate.MatchString(said) {
		// A date is one value, not three numbers.
		noDates = isoDate.ReplaceAllStringFunc(said, func(date string) string {
			return strings.NewReplacer("-", "_", ":", "_", ".", "_").Replace(date)
		})
	}
	var named []message.Item
	for i, it := range c.Draft.Items() {
		if i == maxSpoken {
			break
		}
		if it.Kind != message.Leaf && it.Kind != message.Attr || !it.Present || it.Unfilled {
			continue
		}
		v := strings.TrimSpace(it.Value)
		switch {
		case len(v) >= 2 && len(v) <= 200 && !slices.Contains(everyday, strings.ToLower(v)) &&
			hasWord(noDates, v) && (!isPlainWord(v) || strings.Contains(exact, v)):
			out = append(out, it)
		case names && len(it.Name) > 2 && hasWord(said, strings.TrimPrefix(it.Name, "@")):
			named = append(named, it)
		}
	}
	return append(out, named...)
}

// isoDate is a date, a time or both, as a text quotes them.
var isoDate = pattern.New(`\b\d{4}-\d\d-\d\d(?:[t ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?)?|\b\d{1,2}\.\d{1,2}\.\d{4}\b|` +
	`\b\d\d:\d\d(?::\d\d(?:\.\d+)?)?\b`)

// isPlainWord tells whether a value is letters alone: in words of another case it is hardly
// quoted. A service whose disk is full does not speak of the vessel DISK.
func isPlainWord(v string) bool {
	return !strings.ContainsFunc(v, func(r rune) bool { return !unicode.IsLetter(r) })
}

// maxSpoken bounds the fields that a fault's words are held against.
const maxSpoken = 2000

// everyday are values that words have without quoting anything.
//
//nolint:gochecknoglobals // a table: it is never written to
var everyday = []string{"true", "false", "yes", "no", "none", "null", "the", "is", "not", "of", "to", "in", "on", "10"}

// speaks adds the fields that a fault speaks of to a finding: in words, and as evidence
// that points into the draft.
func (c *Case) speaks(out *exchange.Finding, f *soap.Fault) *exchange.Finding {
	spoken := c.spokenOf(f, true)
	if len(spoken) == 0 || len(spoken) > 3 {
		return out // of everything is of nothing
	}
	var words []string
	out.Evidence = c.faultEvidence(f)
	for _, it := range spoken {
		value := cut(it.Value, 40)
		if strings.TrimSpace(it.Value) != it.Value || it.Value == "" {
			value = fmt.Sprintf("%q", value)
		}
		words = append(words, it.Path+" = "+value)
		if at := it.Node; it.Kind == message.Leaf && !at.IsZero() {
			out.Evidence = append(out.Evidence, c.inDraft(at.Span()))
		}
	}
	out.Why += " The service speaks of " + strings.Join(words, ", ") + "."
	return out
}

// says tells whether the fault's reason speaks of a finding's cause.
func says(f *soap.Fault, id string) bool { return speaksOf(f.Reason, id) }

func tellMustUnderstand(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Title:   "the service does not understand a header that it must",
		Why:     reason(f),
		Program: "leave the header out that the service does not know",
	}
	ns := c.Reply.Version.Namespace()
	for b := range c.Reply.Header.Children() { // SOAP 1.2 part 1 §5.4.8 names it
		if q, ok := b.Attr("", "qname"); ok && b.Is(ns, "NotUnderstood") {
			if name, ok := b.QName(q); ok {
				out.Why += fmt.Sprintf(" It names %s in %s.", name.Local, orNone(name.Space))
				out.Evidence = append(c.faultEvidence(f), c.inReply(b.Span()))
			}
		}
	}
	if blocks, known := c.blocksSent(); known && len(blocks) == 0 {
		out.Why += " No header was sent: something between may add one, or the service speaks of what it called itself."
		out.Side, out.Program = exchange.Unknown, "nothing yet; ask the service's people which header it speaks of"
	} else if known {
		out.Why += " Sent were " + list(blocks, 5) + "."
	}
	return out
}

func tellVersion(c *Case, f *soap.Fault) *exchange.Finding {
	v := "1.1"
	if c.sent() == soap.V11 {
		v = "1.2"
	}
	if c.Imported && c.draftEnvelope() == nil {
		return &exchange.Finding{
			Title: "the service found no envelope of its SOAP version", Why: reason(f),
			Program: "send an envelope of the SOAP version that the service speaks",
		}
	}
	return &exchange.Finding{
		Title:    "the service does not take this SOAP version",
		Why:      reason(f),
		Remedies: c.useVersion(v),
		Program:  "let your program send SOAP " + v,
	}
}

// useVersion sets the SOAP version, where that changes what is sent: a draft that is a
// whole envelope has its own.
func (c *Case) useVersion(v string) []exchange.Remedy {
	if c.draftEnvelope() != nil {
		return nil
	}
	return c.remedies("use SOAP "+v, []string{"soap"}, v)
}

func tellSecurityMissing(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Stage: exchange.Security, Title: "the service found no security header, and none was sent",
		Why:      reason(f) + " No token is set for this endpoint.",
		Remedies: c.tokenRemedies(c.demanded(), true, c.demands().Timestamp()),
		Program:  "let your program send a WS-Security user name token; try a digest password first",
	}
	if c.Imported {
		sent := c.sentFacts()
		out.Why = reason(f) + " The message carries no token."
		switch {
		case sent.stray != nil:
			out.Title, out.Why = "the service found no security header", reason(f)+" One was sent in another way."
			out.Program = sent.stray.advice
		case sent.token: // of another kind than is asked for
			out.Title, out.Why = "the service does not find the token that it wants", reason(f)
		case sent.header:
			out.Title = "the service found no token in the security header"
		}
	} else {
		out.Evidence = append(c.faultEvidence(f), c.inSettings("token", 0, 4))
	}
	switch asked := tokenDemanded(c); {
	case asked != nil:
		out.Why += " The contract demands one."
		out.Remedies, out.Program = asked[0].Remedies, asked[0].Program
	case c.Contract != nil && c.demanded() == "":
		out.Why += " The contract does not mention it."
	}
	return out
}

func (c *Case) demanded() string { return c.demands().Token() }

// sameTime is how far two clocks may be apart and still be told the same time.
const sameTime = time.Minute

func tellSecurityExpired(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Stage:   exchange.Security,
		Title:   "the service finds the message too old or too new",
		Why:     reason(f),
		Program: "check the clock of the machine that it runs on, and the life time of its timestamp",
	}
	sent := c.sentFacts()
	theirs, apart := time.Time{}, time.Duration(0)
	if h := c.response(); h != nil {
		if at, err := http.ParseTime(h.Get("Date")); err == nil {
			theirs = at
			out.Evidence = append(c.faultEvidence(f), c.inHead("Date")...)
		}
	}
	switch {
	case theirs.IsZero():
	case !sent.created.IsZero():
		apart = sent.created.Truncate(time.Second).Sub(theirs)
		out.Why += fmt.Sprintf(" The message says that it was made at %s; the service's clock said %s: %s apart.",
			sent.created.UTC().Format("15:04:05 UTC"), theirs.UTC().Format("15:04:05 UTC"), apart.Abs())
	default:
		apart = c.X.Started.Sub(theirs).Round(time.Second)
		out.Why += fmt.Sprintf(
			" Its clock said %s, ours is %s apart.",
			theirs.UTC().Format("15:04:05 UTC"),
			apart.Abs(),
		)
	}
	if !sent.expires.IsZero() && !theirs.IsZero() && sent.expires.Before(theirs) {
		out.Why += fmt.Sprintf(" It was to hold until %s.", sent.expires.UTC().Format("15:04:05 UTC"))
	}
	if c.Imported {
		return out
	}
	switch offset := c.Settings.Text("clock-offset"); {
	case offset != "":
		out.Why += fmt.Sprintf(" A clock offset of %s is set here.", offset)
		out.Evidence = append(c.faultEvidence(f), c.inSettings("clock-offset", 0, len(offset)))
		out.Remedies = c.remedies("send the times of this machine's clock", []string{"clock-offset"}, "")
	case apart.Abs() > sameTime:
		by := (-apart).String()
		out.Remedies = c.remedies("go by the service's clock: "+by, []string{"clock-offset"}, by)
	case c.Settings.Text("timestamp") != "":
		out.Remedies = c.remedies("let the timestamp hold for 30 minutes", []string{"timestamp"}, "30m")
	}
	return out
}

func tellSecurityRefused(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Stage:   exchange.Security,
		Title:   "the service refused the user or the password",
		Why:     reason(f),
		Program: "check user, password and password type",
	}
	sent := c.sentFacts()
	switch {
	case sent.user != "":
		kind := "text"
		if sent.digest() {
			kind = "digest"
		}
		if sent.password {
			out.Why += fmt.Sprintf(" A %s password was sent, as %s.", kind, sent.user)
		} else {
			out.Why += fmt.Sprintf(" The user name %s was sent, without a password.", sent.user)
		}
		if c.Imported {
			break
		}
		out.Evidence = append(c.faultEvidence(f), c.inSettings("identity", 0, 1))
		if c.Settings.Text("token") == kind {
			out.Remedies = c.otherPassword(kind)
		}
	case sent.token:
		out.Title, out.Program = "the service refused the token", "compare its token with one that is accepted"
		out.Why += " A token without a user name was sent."
	default:
		out.Title = "the service does not know who calls: no token was sent"
		out.Program = "let your program send a WS-Security user name token"
		if sent.http {
			out.Why += " HTTP credentials were sent, and no token."
		} else {
			out.Why += " No token was sent."
		}
		if asked := tokenDemanded(c); asked != nil {
			out.Remedies, out.Program = asked[0].Remedies, asked[0].Program
		} else if !c.Imported {
			out.Remedies = c.tokenRemedies(c.demanded(), true, false)
		}
	}
	return out
}

// otherPassword sends the password in the other of its two forms (Username Token Profile
// 1.1.1 §3.1); what it costs is said where it is weaker.
func (c *Case) otherPassword(kind string) []exchange.Remedy {
	other := "text"
	if kind == "text" {
		other = "digest"
	}
	return c.remedies("send a "+other+" password", []string{"token"}, other)
}

func tellSecurityInvalid(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Stage:   exchange.Security,
		Title:   "the service does not accept the security header",
		Why:     reason(f),
		Program: "compare its security header with one that is accepted",
	}
	sent := c.sentFacts()
	_, known := c.blocksSent()
	switch token := c.Settings.Text("token"); {
	case known && !sent.header && sent.stray == nil:
		out.Title = "the service does not accept the message without a security header"
		out.Why += " None was sent."
		out.Certainty = exchange.Likely
		out.Program = "let your program send the security header that the service asks for"
		if asked := tokenDemanded(c); asked != nil {
			out.Remedies, out.Program = asked[0].Remedies, asked[0].Program
		} else if !c.Imported {
			out.Remedies = c.tokenRemedies(c.demanded(), true, c.demands().Timestamp())
		}
	case c.Imported:
	case f.HasCode("UnsupportedSecurityToken") && (token == "text" || token == "digest"):
		out.Remedies = c.otherPassword(token)
	case strings.Contains(strings.ToLower(f.Reason), "timestamp") && c.Settings.Text("timestamp") == "":
		out.Remedies = c.remedies("send a timestamp that holds for 5 minutes", []string{"timestamp"}, "5m")
	}
	return out
}

func (c *Case) declaredFault(f *soap.Fault) (*schema.Element, string) {
	if c.Operation == nil || f.Detail.IsZero() {
		return nil, ""
	}
	var els []*schema.Element
	for _, m := range c.Operation.Faults {
		els = append(els, m.Element)
	}
	e := message.DetailElement(f.Detail, els)
	for _, m := range c.Operation.Faults {
		if e != nil && m.Element == e {
			return e, m.Name
		}
	}
	return nil, ""
}

func tellDeclared(c *Case, f *soap.Fault) *exchange.Finding {
	e, name := c.declaredFault(f)
	var parts []string
	fields, _ := message.Fields(f.Detail.Child(e.Name.Space, e.Name.Local), 12)
	for _, x := range fields {
		if x.Leaf {
			parts = append(parts, x.Name+" "+cut(x.Value, 40))
		}
	}
	out := c.speaks(&exchange.Finding{
		Title:   "the service answered with its declared fault " + name,
		Why:     reason(f) + " Its detail: " + orNone(strings.Join(parts, ", ")) + ".",
		Program: "handle the fault " + name + "; the contract announces it",
	}, f)
	out.Evidence = append([]exchange.Evidence{c.inReply(f.Detail.Span())}, out.Evidence...)
	if len(out.Evidence) == 1 {
		out.Evidence = append(out.Evidence, c.faultEvidence(f)...)
	}
	return out
}

func tellAction(c *Case, f *soap.Fault) *exchange.Finding {
	sent := c.actionSent()
	out := &exchange.Finding{
		Stage:   exchange.Binding,
		Title:   "the service does not know this action",
		Why:     reason(f) + fmt.Sprintf(" Sent was %q.", sent),
		Program: "send the action that the contract has for this operation",
	}
	if c.Operation != nil && sent == c.Operation.Action && sent != "" && missingWords.MatchString(f.Reason) {
		out.Title = "the service does not find the action that was sent"
		out.Why += " It is the contract's: something between may take it off."
		out.Side = exchange.Between
		out.Program = "ask the service's people what arrives there; the contract has this action"
		return out
	}
	switch {
	case c.Operation == nil:
	case sent == c.Operation.Action:
		out.Why += " It is the contract's."
		out.Program = "ask the service's people which action it knows; the contract has this one"
	default:
		out.Why += fmt.Sprintf(" The contract has %q.", c.Operation.Action)
		out.Remedies = c.remedies(
			"send the contract's action, "+c.Operation.Action,
			[]string{"action"},
			c.Operation.Action,
		)
	}
	return out
}

// missingWords say that something is not there.
var missingWords = pattern.New(`(?i)\b(missing|absent|not (?:set|found|present|specified|supplied|given)|` +
	`no soap ?action|empty)\b`)

// inputIs tells whether an element is what the operation's body holds by the contract.
func (c *Case) inputIs(name schema.QName) bool {
	return c.Operation != nil && c.Operation.Input != nil && c.Operation.Input.Element != nil &&
		c.Operation.Input.Element.Name == name
}

func tellOperation(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Stage:     exchange.Message,
		Title:     "the service does not know the element in the body",
		Why:       reason(f),
		Program:   "check the name, case and namespace of the body's element",
		Certainty: exchange.Likely,
	}
	if b, ok := c.bodyName(); ok && c.inputIs(schema.NameOf(b.Name())) {
		out.Why += fmt.Sprintf(" Sent was %s, which is the contract's.", schema.NameOf(b.Name()))
		out.Program = "check whether the contract is that of this service, and the address that of this port"
	}
	return out
}

// Words that blame the one or the other, whatever the code says. Those of the service are about what goes on in it
// and not about the message.
var (
	blamesService = pattern.New(`(?i)null ?(?:pointer|reference)|object reference not set|` +
		`\b(?:out of service|maintenance|overload(?:ed)?|unavailable|internal (?:server )?error|timed? ?-?out|` +
		`stack ?trace|segmentation|assertion failed|not implemented)\b|index ?out ?of ?(?:bounds|range)`)
	blamesMessage = pattern.New(`(?i)cvc-|schema valid|validation (?:failed|error)|\bunmarshal|\bdeseriali[sz]|` +
		`\bnot (?:a )?valid\b|\binvalid (?:value|format|element|argument|parameter|input|request|xml)\b|` +
		`\bpars(?:e|ing) (?:the )?(?:request|message|xml|input)|\b(?:is|are) (?:required|mandatory)\b|` +
		`\bmust (?:not )?(?:be|have|contain)\b|premature end of file`)
)

func tellClient(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Title:   "the service refused the message" + said(f),
		Why:     reason(f) + " The fault's code says that the message is at fault, not the service." + detailWords(f),
		Program: "change what your program sends as the reason says",
	}
	if strings.TrimSpace(f.Reason) == "" {
		out.Program = "compare what your program sends with what works here; ask the service's people for the reason"
	} else if len(c.spokenOf(f, true)) == 0 && !blamesMessage.MatchString(f.Reason) &&
		(c.isBehind(f) || blamesService.MatchString(f.Reason)) {
		out.Side = exchange.Unknown
		out.Why = reason(f) + " Its code blames the message, and its words the service." + detailWords(f) + behind(f)
		out.Program = "nothing yet; tell the service's people the time and the reason"
		return out
	}
	return c.speaks(out, f)
}

// said is a fault's reason as a title goes on with it.
func said(f *soap.Fault) string {
	if strings.TrimSpace(f.Reason) == "" {
		return ", and gives no reason"
	}
	return ": " + cut(f.Reason, 100)
}

func tellServer(c *Case, f *soap.Fault) *exchange.Finding {
	out := &exchange.Finding{
		Title: "the service failed" + said(f),
		Why: reason(f) + " The fault's code says that the service is at fault, not the message." +
			detailWords(f) + behind(f),
		Program: "nothing yet; tell the service's people the time and the reason",
	}
	if !f.FromReceiver() { // a code of the service's own, or none (SOAP 1.1 §4.4.1, 1.2 part 1 §5.4.6)
		out.Title, out.Side = "the service answered with a fault"+said(f), exchange.Unknown
		code := "It has no code, and so does not say"
		if f.Code.Local != "" {
			code = fmt.Sprintf("Its code is %s, which does not say", cut(f.Code.Local, 60))
		}
		out.Why = reason(f) + " " + code + " whether the message or the service is at fault." + detailWords(f) +
			behind(f)
	}
	if c.isBehind(f) {
		return out
	}
	spoken := c.spokenOf(f, true)
	switch {
	case len(spoken) > 0 && len(spoken) <= 3: // whatever its code says, it is about the message
		out.Side = exchange.Yours
		out.Title = "the service refused the message" + said(f)
		out.Why = reason(f) + " Its code blames the service, and its words the message." + detailWords(f)
		if !f.FromReceiver() {
			out.Why = reason(f) + " Its words blame the message." + detailWords(f)
		}
		out.Program = "change what your program sends as the reason says"
	case blamesMessage.MatchString(f.Reason) && !blamesService.MatchString(f.Reason):
		out.Side = exchange.Unknown
		if f.FromReceiver() {
			out.Why = reason(f) + " Its code blames the service, and its words perhaps the message." + detailWords(f)
		}
		out.Program = "compare what your program sends with what works here; ask the service's people what the " +
			"reason is about"
	}
	return c.speaks(out, f)
}

func detailWords(f *soap.Fault) string {
	if f.Detail.IsZero() {
		return ""
	}
	w := schema.Words(f.Detail)
	if i := strings.LastIndex(strings.ToLower(w), "caused by"); i >= 0 {
		w = w[i:]
	}
	if w == "" {
		return ""
	}
	return " Its detail: “" + cut(w, 200) + "”."
}

// behind says what the words of a fault tell of something that the service itself
// called and did not reach.
func behind(f *soap.Fault) string {
	text := f.Reason
	if !f.Detail.IsZero() {
		text += "\n" + schema.Words(f.Detail)
	}
	for _, h := range hear(text) {
		if h.Stage >= exchange.Connect && h.Stage <= exchange.Wait {
			return " Its words speak of something behind the service that it could not reach: “" + cut(
				h.Excerpt,
				100,
			) + "”."
		}
	}
	return ""
}
