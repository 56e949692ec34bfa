package diagnose

import (
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Rules of the first four stages, which need no network.
var homeRules = []Rule{
	{"address.variable-unset", exchange.Stop, exchange.Yours, variableUnset},
	{"address.variable-cyclic", exchange.Stop, exchange.Yours, variableCyclic},
	{"address.variable-withheld", exchange.Stop, exchange.Yours, variableWithheld},
	{"address.environment-unknown", exchange.Stop, exchange.Yours, environmentUnknown},
	{"address.malformed", exchange.Stop, exchange.Yours, addressMalformed},
	{"address.scheme-unsupported", exchange.Stop, exchange.Yours, schemeUnsupported},
	{"address.from-contract", exchange.Note, exchange.Yours, fromContract},

	{"binding.endpoint-ambiguous", exchange.Stop, exchange.Yours, endpointAmbiguous},
	{"binding.endpoint-missing", exchange.Stop, exchange.Yours, endpointMissing},
	{"binding.operation-unknown", exchange.Stop, exchange.Yours, operationUnknown},
	{"binding.version-differs", exchange.Warn, exchange.Yours, versionDiffers},
	{"binding.action-differs", exchange.Warn, exchange.Yours, actionDiffers},
	{"binding.addressing-demanded", exchange.Warn, exchange.Yours, addressingDemanded},
	{"binding.buffer-differs", exchange.Warn, exchange.Yours, bufferDiffers},
	{"binding.limits-contradict", exchange.Warn, exchange.Yours, limitsContradict},
	{"binding.limit-too-small", exchange.Warn, exchange.Yours, limitTooSmall},
	{"binding.time-limits-contradict", exchange.Warn, exchange.Yours, timeLimitsContradict},
	{"binding.limit-invalid", exchange.Stop, exchange.Yours, limitInvalid},
	{"binding.time-limit-invalid", exchange.Stop, exchange.Yours, timeLimitInvalid},
	{"binding.value-invalid", exchange.Stop, exchange.Yours, valueInvalid},

	{"message.not-well-formed", exchange.Stop, exchange.Yours, draftNotWellFormed},
	{"message.variable-unset", exchange.Stop, exchange.Yours, draftVariableUnset},
	{"message.placeholder-left", exchange.Warn, exchange.Yours, placeholderLeft},
	{"message.body-differs", exchange.Warn, exchange.Yours, bodyDiffers},
	{"message.namespace-differs", exchange.Warn, exchange.Yours, namespaceDiffers},
	{"message.invalid", exchange.Warn, exchange.Yours, messageInvalid},
	{"message.header-left-out", exchange.Note, exchange.Yours, headerLeftOut},
	{"message.empty-value", exchange.Note, exchange.Yours, emptyValue},
	{"message.too-large", exchange.Stop, exchange.Yours, messageTooLarge},
	{"message.security-in-draft", exchange.Warn, exchange.Yours, securityInDraft},

	{"security.token-demanded", exchange.Warn, exchange.Yours, tokenDemanded},
	{"security.identity-unknown", exchange.Stop, exchange.Yours, identityUnknown},
	{"security.identity-host-new", exchange.Stop, exchange.Yours, identityHostNew},
	{"security.secret-unavailable", exchange.Stop, exchange.Yours, secretUnavailable},
	{"security.secret-locked", exchange.Stop, exchange.Yours, secretLocked},
	{"security.password-type-unknown", exchange.Stop, exchange.Yours, passwordTypeUnknown},
	{"security.key-unreadable", exchange.Stop, exchange.Yours, keyUnreadable},
	{"security.signing-key-missing", exchange.Stop, exchange.Yours, signingKeyMissing},
	{"security.part-missing", exchange.Stop, exchange.Yours, partMissing},
	{"security.signature-weak", exchange.Warn, exchange.Yours, ownSignatureWeak},
	{"security.key-mismatch", exchange.Stop, exchange.Yours, keyMismatch},
	{"security.certificate-expired", exchange.Stop, exchange.Yours, ownCertificateExpired},
	{"security.certificate-unfit", exchange.Warn, exchange.Yours, ownCertificateUnfit},
	{"security.secret-unverified", exchange.Stop, exchange.Yours, secretUnverified},
	{"security.key-log-new", exchange.Stop, exchange.Yours, keyLogNew},
	{"security.clear-text", exchange.Warn, exchange.Yours, clearText},
}

func variableUnset(c *Case) []exchange.Finding {
	var e *endpoint.UnsetError
	if !errors.As(c.Err, &e) || c.Draft != nil || e.Withheld != "" {
		return nil
	}
	k := endpoint.KeyOf("address")
	if e.Key != "" {
		k = endpoint.KeyOf(e.Key)
	}
	f := exchange.Finding{
		Title:    fmt.Sprintf("the variable %s is not set in the environment %s", e.Name, orNone(e.Environment)),
		Why:      fmt.Sprintf("The %s is written as %s, and %s has no value for %s.", k.Label, e.Template, orNone(e.Environment), e.Name),
		Evidence: []exchange.Evidence{c.inSettings(k.Name, e.Offset, e.Length)},
		Program:  "make sure that the address your program uses is put together from values that are set where it runs",
	}
	if e.Near != "" {
		f.Why = fmt.Sprintf("`%s` is not set in %s; `%s` is, and names are case-sensitive.", e.Name, orNone(e.Environment), e.Near)
		f.Remedies = append(f.Remedies, exchange.NewRemedy(fmt.Sprintf("set %s to the value of %s, %s", e.Name, e.Near, c.Variables[e.Near]),
			exchange.Change{Where: "workspace", Key: "environment." + e.Environment + "." + e.Name, To: c.Variables[e.Near]}))
		f.Remedies = append(f.Remedies, exchange.NewRemedy(fmt.Sprintf("write ${%s} in the %s", e.Near, k.Label),
			c.changeHere(k.Name, strings.ReplaceAll(e.Template, "${"+e.Name+"}", "${"+e.Near+"}"))))
	}
	return one(f)
}

func variableCyclic(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.CycleError](c.Err)
	if !ok {
		return nil
	}
	at := c.inSettings(cmp.Or(e.Key, "address"), e.Offset, e.Length)
	if c.Draft != nil {
		at = c.inDraft(xmltree.Span{Start: e.Offset, End: e.Offset + e.Length})
	}
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the variable %s leads back to itself", e.Names[0]),
		Why:      fmt.Sprintf("In %s, %s.", orNone(c.Environment), strings.Join(e.Names, " is made of ")),
		Evidence: []exchange.Evidence{at},
	})
}

func variableWithheld(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.UnsetError](c.Err)
	if !ok || e.Withheld == "" {
		return nil
	}
	r := exchange.NewRemedy(fmt.Sprintf("let this workspace read the environment variable %s", e.Withheld), exchange.Change{Where: "user", Key: "allow.env:" + e.Withheld, To: "value"})
	r.Ask = fmt.Sprintf("the value of %s will be put into settings of this workspace, and may travel", e.Withheld)
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the variable %s is to come from the process environment, which was not allowed yet", e.Name),
		Why:      fmt.Sprintf("In %s it is written as env:%s. A workspace may come from somebody else; it reads only what you allowed it to read.", orNone(e.Environment), e.Withheld),
		Evidence: []exchange.Evidence{named("environment", "environment."+e.Environment+"."+e.Name+" = env:"+e.Withheld)},
		Remedies: []exchange.Remedy{r},
	})
}

func addressingDemanded(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Settings == nil || c.Fetch || !c.Contract.DemandsAddressing() || c.Settings.Text("addressing") != "none" {
		return nil
	}
	if c.Draft != nil && c.Draft.Err() == nil {
		if e := c.Draft.Envelope(); e != nil && !e.Header.IsZero() {
			for h := range e.Header.Children() {
				if h.Name().Local == "Action" {
					return nil
				}
			}
		}
	}
	return one(exchange.Finding{
		Title:    "the contract demands WS-Addressing headers, and none are set",
		Why:      "Its policy asks for them: where the call goes, its action, and an id of its own.",
		Evidence: []exchange.Evidence{{In: exchange.InContract, Key: c.Contract.Source, Length: 1, Line: 1, Column: 1, Excerpt: "WS-Addressing headers"}},
		Remedies: c.remedies("send the headers of WS-Addressing 1.0", []string{"addressing"}, soap.Addressing10),
		Program:  "let your program send the WS-Addressing headers To, Action, MessageID and ReplyTo",
	})
}

func orNone(s string) string {
	if s == "" {
		return "(none)"
	}
	return s
}

func environmentUnknown(c *Case) []exchange.Finding {
	var e *endpoint.EnvironmentError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title:    "there is no environment " + e.Name,
		Why:      fmt.Sprintf("The workspace has %s.", orNone(strings.Join(e.Others, ", "))),
		Evidence: []exchange.Evidence{named("environment", "environment = "+e.Name)},
	}
	if e.Near != "" {
		f.Remedies = append(f.Remedies, exchange.NewRemedy("use "+e.Near, exchange.Change{Where: "workspace", Key: "default-environment", From: e.Name, To: e.Near}))
	}
	return one(f)
}

func addressMalformed(c *Case) []exchange.Finding {
	var e *endpoint.AddressError
	var t *endpoint.TemplateError
	switch {
	case c.Draft == nil && errors.As(c.Err, &t):
		return one(exchange.Finding{Title: "the address is not in order", Why: fmt.Sprintf("In %s, %s.", t.Template, t.Why),
			Evidence: []exchange.Evidence{c.inSettings(cmp.Or(t.Key, "address"), t.Offset, 2)}})
	case !errors.As(c.Err, &e) || e.Scheme != "":
		return nil
	}
	why := fmt.Sprintf("%s cannot be called: %s.", orNone(e.Address), e.Why)
	if c.Settings.Get("address").Source == "contract" && strings.Contains(e.Address, "${") {
		why += " Variables are put into settings, never into what a contract says: set the address at the endpoint."
	}
	return one(exchange.Finding{
		Title:    "the address is not a URL",
		Why:      why,
		Evidence: []exchange.Evidence{c.inSettings("address", e.Offset, e.Length)},
		Program:  "give your program an address of the form https://host:port/path",
	})
}

func schemeUnsupported(c *Case) []exchange.Finding {
	var e *endpoint.AddressError
	if !errors.As(c.Err, &e) || e.Scheme == "" {
		return nil
	}
	rest := e.Address[len(e.Scheme):]
	f := exchange.Finding{
		Title: fmt.Sprintf("%s addresses cannot be called", e.Scheme), Why: "SOAP calls go over http or https here.",
		Evidence: []exchange.Evidence{c.inSettings("address", 0, len(e.Scheme))},
	}
	for _, s := range []string{"https", "http"} {
		f.Remedies = append(f.Remedies, exchange.NewRemedy("use "+s, c.changeHere("address", s+rest)))
	}
	return one(f)
}

// suspectHost tells why a contract's own address cannot be right for a caller.
func (c *Case) suspectHost(u *url.URL) string {
	host := strings.ToLower(u.Hostname())
	if h, p := endpoint.HostPort(u); c.Served != "" && c.Served == h+":"+p {
		return ""
	}
	switch {
	case host == "localhost" || strings.HasPrefix(host, "127.") || host == "::1":
		return "it names the machine itself"
	case strings.HasSuffix(host, ".example") || strings.HasSuffix(host, ".test") || strings.HasSuffix(host, ".invalid") || strings.HasSuffix(host, ".localhost"):
		return "its host is of a kind that is never reachable"
	case !strings.Contains(host, "."):
		return "its host is a single label, known only where the service runs"
	case c.Served != "":
		served, _, _ := strings.Cut(c.Served, ":")
		if !strings.EqualFold(served, host) {
			return "another host, " + c.Served + ", served the description"
		}
	}
	return ""
}

func fromContract(c *Case) []exchange.Finding {
	if c.Fetch || c.Settings == nil || c.Contract == nil || c.Port == nil || c.Settings.Get("address").Source != "contract" {
		return nil
	}
	u, err := url.Parse(c.Port.Address)
	if err != nil {
		return nil
	}
	why := c.suspectHost(u)
	if why == "" {
		return nil
	}
	f := exchange.Finding{
		Title:    "the address is the contract's own, and it is likely not the one to call",
		Why:      fmt.Sprintf("The description says %s; %s.", c.Port.Address, why),
		Evidence: []exchange.Evidence{c.inContract(c.Port.At, "location="+c.Port.Address)},
		Program:  "set the endpoint address in your program; do not take the one in the description",
	}
	if c.Served != "" {
		v := *u
		v.Host = c.Served
		if s, err := url.Parse(c.Contract.Source); err == nil {
			if h, p := endpoint.HostPort(s); h+":"+p == c.Served {
				v.Scheme = s.Scheme
			}
		}
		f.Remedies = append(f.Remedies, exchange.NewRemedy("call the host that served the description", c.changeHere("address", v.String())))
	}
	if c.wireKind("connect.name-unknown", "connect.refused", "connect.timed-out", "connect.unreachable") != nil {
		f.Certainty = exchange.Likely
		f.Severity = exchange.Warn
	}
	return one(f)
}

func endpointAmbiguous(c *Case) []exchange.Finding {
	var e *endpoint.AmbiguousError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title:   fmt.Sprintf("%d endpoints serve %s, and none is named", len(e.Endpoints), e.Operation),
		Why:     "Each of them could take the call; which one is meant cannot be told from the contract.",
		Program: "name the port or endpoint when your program makes its client for this service",
	}
	for _, a := range e.Endpoints {
		f.Evidence = append(f.Evidence, named("endpoint", a.Name+": "+a.Differs))
		f.Remedies = append(f.Remedies, exchange.NewRemedy(fmt.Sprintf("let %s be the default (%s)", a.Name, a.Differs),
			exchange.Change{Where: "workspace", Key: "endpoint." + a.Name + ".default", To: true}))
	}
	return one(f)
}

func endpointMissing(c *Case) []exchange.Finding {
	var e *endpoint.MissingError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{Title: e.Error(), Why: "These exist: " + orNone(strings.Join(e.Others, ", ")) + ".",
		Evidence: []exchange.Evidence{named("endpoint", "endpoint = "+orNone(e.Name))}, Program: "check which port of the service it calls"}
	for _, o := range e.Others[:min(len(e.Others), 4)] {
		r := exchange.NewRemedy("call it over "+o, exchange.Change{Where: "draft", Key: "endpoint", From: e.Name, To: o})
		if o == e.Near {
			f.Remedies = append([]exchange.Remedy{r}, f.Remedies...)
		} else {
			f.Remedies = append(f.Remedies, r)
		}
	}
	return one(f)
}

func operationUnknown(c *Case) []exchange.Finding {
	var e *endpoint.OperationError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title:    fmt.Sprintf("the contract has no operation %s", e.Name),
		Why:      "It has " + orNone(strings.Join(e.Others, ", ")) + ".",
		Evidence: []exchange.Evidence{named("operation", "operation = "+e.Name)},
		Program:  "check the name of the operation, letter by letter",
	}
	if e.Near != "" {
		f.Why = fmt.Sprintf("`%s` is not there; `%s` is, and names are case-sensitive.", e.Name, e.Near)
		f.Remedies = append(f.Remedies, exchange.NewRemedy("call "+e.Near, exchange.Change{Where: "draft", Key: "operation", From: e.Name, To: e.Near}))
	}
	return one(f)
}

func versionDiffers(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Port == nil || c.Port.Version == soap.Unset {
		return nil
	}
	v := c.Settings.Get("soap")
	set, err := soap.ParseVersion(v.Text)
	if c.Draft != nil {
		if e := c.Draft.Envelope(); e != nil {
			set, err = e.Version, nil
		}
	}
	if err != nil || set == c.Port.Version {
		return nil
	}
	return one(exchange.Finding{
		Title:    fmt.Sprintf("SOAP %s is set, and the port speaks %s", set, c.Port.Version),
		Why:      fmt.Sprintf("The binding of the port %s is for SOAP %s.", c.Port.Name, c.Port.Version),
		Evidence: []exchange.Evidence{c.inSettings("soap", 0, len(v.Text))},
		Remedies: c.remedies("use SOAP "+c.Port.Version.String(), []string{"soap"}, c.Port.Version.String()),
		Program:  "let your program send SOAP " + c.Port.Version.String() + " to this port",
	})
}

func actionDiffers(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Operation == nil || !c.Operation.HasAction {
		return nil
	}
	v := c.Settings.Get("action")
	if v.Source == "contract" || v.Source == "default" || v.Text == c.Operation.Action {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the action that is set is not the contract's",
		Why:      fmt.Sprintf("Set is %q; the contract has %q for %s.", v.Text, c.Operation.Action, c.Operation.Name),
		Evidence: []exchange.Evidence{c.inSettings("action", 0, len(v.Text))},
		Remedies: c.remedies("use the contract's action", []string{"action"}, c.Operation.Action),
		Program:  fmt.Sprintf("let your program send the action %q", c.Operation.Action),
	})
}

func bufferDiffers(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Fetch || c.Settings.Text("intake") != "whole" {
		return nil
	}
	buffer := c.Settings.Get("buffer-limit")
	b, err1 := c.Settings.Size("buffer-limit")
	r, err2 := c.Settings.Size("receive-limit")
	strict := c.Settings.Switch("strict-buffer")
	if err1 != nil || err2 != nil || !buffer.IsSet() || b == r || b > r && !strict {
		return nil
	}
	f := exchange.Finding{
		Title:    "the buffer limit is not the receive limit",
		Why:      fmt.Sprintf("A reply that is taken in whole must fit into the buffer: %s bytes are received, %s are buffered.", Bytes(r), Bytes(b)),
		Evidence: []exchange.Evidence{c.inSettings("buffer-limit", 0, len(buffer.Text)), c.inSettings("receive-limit", 0, 1)},
		Remedies: c.remedies("set the buffer limit to the receive limit, "+endpoint.FormatSize(r), []string{"buffer-limit"}, endpoint.FormatSize(r)),
		Program:  "set its buffer limit to the same number as its limit for received messages",
	}
	if strict {
		f.Severity = exchange.Stop
		f.Why += " The program whose limits these are insists that both are equal."
	}
	return one(f)
}

// limitsContradict are limits of which one can never fall, because another falls
// before it.
func limitsContradict(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Fetch {
		return nil
	}
	inflated, v := c.Settings.Get("inflated-limit"), c.Settings.Get("receive-limit")
	a, err1 := c.Settings.Size("inflated-limit")
	r, err2 := c.Settings.Size("receive-limit")
	if err1 != nil || err2 != nil || a >= r || !inflated.IsSet() {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the decompressed limit is smaller than the receive limit",
		Why:      fmt.Sprintf("A reply of up to %s bytes is received, and refused above %s once it is decompressed, though decompressing makes it larger.", Bytes(r), Bytes(a)),
		Evidence: []exchange.Evidence{c.inSettings("inflated-limit", 0, len(inflated.Text)), c.inSettings("receive-limit", 0, len(v.Text))},
		Remedies: c.remedies("set the decompressed limit to the receive limit, "+endpoint.FormatSize(r), []string{"inflated-limit"}, endpoint.FormatSize(r)),
	})
}

// limitTooSmall is a limit that would have refused a reply that was kept.
func limitTooSmall(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Fetch || c.leg() != nil {
		return nil
	}
	limit, err := c.Settings.Size("receive-limit")
	l := c.sizes()
	if err != nil || limit <= 0 || l.Largest <= limit {
		return nil
	}
	would, _ := c.proposal(l.Largest)
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the receive limit would refuse replies that %s has sent", c.X.Operation),
		Why:      fmt.Sprintf("The largest of the %d kept replies was %s bytes, the limit is %s; %d of them were larger than that.", l.Count, Bytes(l.Largest), Bytes(limit), l.Over(limit)),
		Evidence: []exchange.Evidence{c.inSettings("receive-limit", 0, 1)},
		Remedies: c.raise(would),
		Program:  fmt.Sprintf("raise its limit for received messages to %s or more, and its buffer to the same", endpoint.FormatSize(would)),
	})
}

// timeLimitsContradict are time limits that cannot all hold: the whole call is
// given less than one part of it.
func timeLimitsContradict(c *Case) []exchange.Finding {
	if c.Settings == nil {
		return nil
	}
	total, err := c.Settings.Duration("total-time")
	if err != nil || total <= 0 {
		return nil
	}
	for _, key := range []string{"answer-time", "send-time", "receive-time"} {
		v := c.Settings.Get(key)
		part, err := c.Settings.Duration(key)
		if err != nil || part <= total || !v.IsSet() && !c.Settings.Get("total-time").IsSet() {
			continue
		}
		return one(exchange.Finding{
			Title:    fmt.Sprintf("the %s can never run out", v.Key.Label),
			Why:      fmt.Sprintf("It is %s, and the whole call is given %s.", v.Text, c.Settings.Text("total-time")),
			Evidence: []exchange.Evidence{c.inSettings(key, 0, len(v.Text)), c.inSettings("total-time", 0, 1)},
			Remedies: c.remedies(fmt.Sprintf("give the whole call %s", (part+total).String()), []string{"total-time"}, (part + total).String()),
		})
	}
	return nil
}

func limitInvalid(c *Case) []exchange.Finding { return badValue(c, endpoint.Size, endpoint.Count) }

func timeLimitInvalid(c *Case) []exchange.Finding { return badValue(c, endpoint.Duration) }

// valueInvalid is a choice or switch that is neither of its values; that of the
// token has a rule of its own.
func valueInvalid(c *Case) []exchange.Finding {
	var e *endpoint.ValueError
	if _, part := errors.AsType[*wssec.PartError](c.Err); part || errors.As(c.Err, &e) && e.Value.Key.Name == "token" {
		return nil
	}
	return badValue(c, endpoint.Choice, endpoint.Switch, endpoint.Text, endpoint.List)
}

func badValue(c *Case, kinds ...endpoint.Kind) []exchange.Finding {
	var e *endpoint.ValueError
	if !errors.As(c.Err, &e) || !slices.Contains(kinds, e.Value.Key.Kind) {
		return nil
	}
	f := exchange.Finding{
		Stage:    exchange.Binding,
		Title:    fmt.Sprintf("the %s cannot be used", e.Value.Key.Label),
		Why:      e.Err.Error() + ".",
		Evidence: []exchange.Evidence{c.inSettings(e.Value.Key.Name, 0, len(e.Value.Text))},
	}
	if d := e.Value.Key.Default; d != "" {
		f.Remedies = c.remedies("use the default, "+d, []string{e.Value.Key.Name}, d)
	}
	return one(f)
}

func draftVariableUnset(c *Case) []exchange.Finding {
	if c.Draft == nil {
		return nil
	}
	var e *endpoint.UnsetError
	if bad, ok := errors.AsType[*endpoint.TemplateError](c.Err); ok {
		return one(exchange.Finding{
			Title:    "a variable in the draft is not written out",
			Why:      "The draft says that variables stand in its values, and " + bad.Why + "; a dollar sign for itself is written $$.",
			Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: bad.Offset, End: bad.Offset + 2})},
		})
	}
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title:    fmt.Sprintf("the variable %s in the draft is not set in the environment %s", e.Name, orNone(e.Environment)),
		Why:      fmt.Sprintf("The draft says that variables stand in its values, and %s has no value for %s.", orNone(e.Environment), e.Name),
		Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: e.Offset, End: e.Offset + e.Length})},
	}
	if e.Near != "" {
		f.Why += fmt.Sprintf(" %s is set; names of variables are case-sensitive.", e.Near)
		f.Remedies = append(f.Remedies, exchange.NewRemedy(fmt.Sprintf("set %s to the value of %s", e.Name, e.Near),
			exchange.Change{Where: "workspace", Key: "environment." + e.Environment + "." + e.Name, To: c.Variables[e.Near]}))
	}
	return one(f)
}

func draftNotWellFormed(c *Case) []exchange.Finding {
	if c.Draft == nil {
		return nil
	}
	var e *xmltree.SyntaxError
	f := exchange.Finding{Title: "the draft is not well-formed XML"}
	at := c.inDraft
	switch {
	case errors.As(c.Draft.Err(), &e):
	case c.Header != nil && errors.As(c.Header.Err(), &e):
		f.Title, at = "the draft's header blocks are not well-formed XML", c.inHeader
	default:
		return nil
	}
	f.Why = fmt.Sprintf("Line %d, column %d: %s.", e.Line, e.Column, e.Msg)
	f.Evidence = []exchange.Evidence{at(xmltree.Span{Start: e.Offset, End: e.Offset + 1})}
	return one(f)
}

// headerLeftOut: WSDL 1.1 §3.7 does not say whether a header block that is
// declared must be sent, so this is a note until a fault comes.
func headerLeftOut(c *Case) []exchange.Finding {
	left := c.Header.LeftOut()
	if len(left) == 0 || c.Header.Err() != nil {
		return nil
	}
	var names []string
	var changes []exchange.Change
	for _, q := range left {
		names = append(names, q.Local)
		changes = append(changes, exchange.Change{Where: "draft", Key: "header", To: q.String()})
	}
	f := exchange.Finding{
		Title:    "a declared header block is left out",
		Why:      fmt.Sprintf("The contract declares %s in the header of %s, and the draft leaves it out. Whether the service insists is not said.", list(names, 5), c.Operation.Name),
		Evidence: []exchange.Evidence{c.inContract(c.Operation.At, c.Operation.Name)},
		Remedies: []exchange.Remedy{exchange.NewRemedy("put "+list(names, 5)+" into the draft's header", changes...)},
		Program:  "let your program send the header block " + list(names, 5),
	}
	if c.Reply != nil && c.Reply.Fault != nil {
		f.Severity, f.Certainty = exchange.Warn, exchange.Likely
		for _, n := range names {
			if strings.Contains(c.Reply.Fault.Reason, n) {
				f.Certainty = exchange.Certain
			}
		}
	}
	return one(f)
}

// customary are placeholders that other programs leave in envelopes.
var customary = []string{"?", "string", "int", "decimal", "boolean", "dateTime", "date"}

func placeholderLeft(c *Case) []exchange.Finding {
	if c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	var paths []string
	f := exchange.Finding{Title: "values were never filled in"}
	for _, it := range c.Draft.Unfilled() {
		paths = append(paths, it.Path)
		f.Evidence = append(f.Evidence, c.inDraft(it.Node.Span()))
	}
	for _, it := range c.Header.Unfilled() {
		paths = append(paths, "header:"+it.Path)
		f.Evidence = append(f.Evidence, c.inHeader(it.Node.Span()))
	}
	certain := len(paths) > 0
	for _, it := range c.Draft.Items() {
		if it.Present && !it.Unfilled && slices.Contains(customary, it.Value) && (it.Value == "?" || strings.HasPrefix(it.Type, it.Value)) {
			paths = append(paths, it.Path)
			f.Evidence = append(f.Evidence, c.inDraft(it.Node.Inner()))
		}
	}
	if len(paths) == 0 {
		return nil
	}
	f.Why = fmt.Sprintf("%s %s a placeholder; it goes out empty.", list(paths, 5), map[bool]string{true: "holds", false: "hold"}[len(paths) == 1])
	if !certain {
		f.Certainty = exchange.Likely
		f.Why = fmt.Sprintf("%s looks like a placeholder that another program leaves.", list(paths, 5))
	}
	f.Program = "fill in every required field before sending"
	return one(f)
}

func list(items []string, most int) string {
	if len(items) > most {
		return strings.Join(items[:most], ", ") + fmt.Sprintf(" and %d more", len(items)-most)
	}
	return strings.Join(items, ", ")
}

// bodyName is the expanded name of the draft's body element.
func (c *Case) bodyName() (xmltree.Node, bool) {
	if c.Draft == nil || c.Draft.Err() != nil || c.Draft.Decl == nil {
		return xmltree.Node{}, false
	}
	b := c.Draft.Body()
	return b, !b.IsZero()
}

func bodyDiffers(c *Case) []exchange.Finding {
	b, ok := c.bodyName()
	if !ok || b.Name().Local == c.Draft.Decl.Name.Local {
		return nil
	}
	f := exchange.Finding{
		Title:    fmt.Sprintf("the body holds %s, and %s is called", b.Name().Local, c.X.Operation),
		Why:      fmt.Sprintf("The body of %s is the element %s.", c.X.Operation, c.Draft.Decl.Name.Local),
		Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: b.Span().Start, End: b.Inner().Start})},
	}
	if c.Port != nil {
		for _, o := range c.Port.Operations {
			if o.Input != nil && o.Input.Element != nil && o.Input.Element.Name.Local == b.Name().Local {
				f.Remedies = append(f.Remedies, exchange.NewRemedy("call "+o.Name, exchange.Change{Where: "draft", Key: "operation", From: c.X.Operation, To: o.Name}))
			}
		}
	}
	return one(f)
}

func namespaceDiffers(c *Case) []exchange.Finding {
	b, ok := c.bodyName()
	if !ok {
		return nil
	}
	want := c.Draft.Decl.Name
	if b.Name().Local == want.Local && b.Name().Space != want.Space {
		return one(exchange.Finding{
			Title:    fmt.Sprintf("%s is in the wrong namespace", want.Local),
			Why:      fmt.Sprintf("It is in %s; the contract has it in %s.", orNone(b.Name().Space), orNone(want.Space)),
			Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: b.Span().Start, End: b.Inner().Start})},
			Remedies: []exchange.Remedy{exchange.NewRemedy("put it into the contract's namespace", exchange.Change{Where: "draft", Key: "namespace", From: b.Name().Space, To: want.Space})},
			Program:  "put the element into the namespace " + orNone(want.Space),
		})
	}
	for _, e := range c.Invalid {
		if strings.Contains(e.Message, "right name in the wrong namespace") {
			return one(exchange.Finding{
				Title: "an element is in the wrong namespace", Why: fmt.Sprintf("%s: %s.", e.Path, e.Message),
				Evidence: []exchange.Evidence{c.inDraft(e.Span)}, Program: "qualify the element as the contract does",
			})
		}
	}
	return nil
}

func messageInvalid(c *Case) []exchange.Finding {
	all := slices.Concat(c.Invalid, c.HeaderInvalid)
	if len(all) == 0 || len(namespaceDiffers(c)) > 0 || len(bodyDiffers(c)) > 0 {
		return nil
	}
	first := all[0]
	f := exchange.Finding{
		Title:   "the message breaks its schema",
		Why:     fmt.Sprintf("%s: %s (%s).", first.Path, first.Message, first.Rule),
		Program: "let your program send what the schema allows: " + first.Message,
	}
	if n := len(all); n > 1 {
		f.Why += fmt.Sprintf(" There are %d such places.", n)
	}
	for _, e := range c.Invalid[:min(len(c.Invalid), 10)] {
		f.Evidence = append(f.Evidence, c.inDraft(e.Span))
	}
	for _, e := range c.HeaderInvalid[:min(len(c.HeaderInvalid), 10)] {
		f.Evidence = append(f.Evidence, c.inHeader(e.Span))
	}
	return one(f)
}

func emptyValue(c *Case) []exchange.Finding {
	if c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	var f exchange.Finding
	var paths []string
	for _, it := range c.Draft.Items() {
		if it.Present && it.Required && !it.Unfilled && !it.Nil && it.Value == "" && it.Kind == 0 && len(it.Errors) == 0 {
			if href, _ := it.Node.Attr("", "href"); strings.HasPrefix(href, "cid:") {
				continue // its value is a part beside the envelope
			}
			paths = append(paths, it.Path)
			f.Evidence = append(f.Evidence, c.inDraft(it.Node.Span()))
		}
	}
	if len(paths) == 0 {
		return nil
	}
	f.Title, f.Why = "a required value is empty", fmt.Sprintf("%s is valid by the schema, yet empty.", list(paths, 5))
	return one(f)
}

// TooLargeError is an envelope over the send limit.
type TooLargeError struct{ Size, Limit int64 }

func (e *TooLargeError) Error() string { return "the envelope is larger than the send limit" }

func messageTooLarge(c *Case) []exchange.Finding {
	var e *TooLargeError
	if !errors.As(c.Err, &e) {
		return nil
	}
	would := endpoint.FormatSize(endpoint.RoundLimit(e.Size))
	return one(exchange.Finding{
		Title:    "the message is larger than the send limit",
		Why:      fmt.Sprintf("The envelope is %s bytes; the limit is %s; %s would do.", Bytes(e.Size), Bytes(e.Limit), would),
		Evidence: []exchange.Evidence{c.inSettings("send-limit", 0, 1)},
		Remedies: c.remedies("raise the send limit to "+would, []string{"send-limit"}, would),
		Program:  "raise its limit for sent messages to " + would,
	})
}

func securityInDraft(c *Case) []exchange.Finding {
	if c.Witnessed || c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	e := c.Draft.Envelope()
	if e == nil || e.Header.IsZero() {
		return nil
	}
	for h := range e.Header.Children() {
		actor, _ := h.Attr(e.Version.Namespace(), "actor")
		role, _ := h.Attr(e.Version.Namespace(), "role")
		if h.Name().Local != "Security" || actor+role != c.Settings.Text("security-actor") { // one for another receiver stands beside it
			continue
		}
		set := c.Settings.Text("token") != "none"
		p := h.Find(h.Name().Space, "Password")
		password := !p.IsZero() && strings.TrimSpace(p.Text()) != ""
		switch {
		case set:
			return one(exchange.Finding{Title: "the draft carries its own security header, and a token is set as well",
				Why: "Two security headers for the same receiver are refused by most services.", Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: h.Span().Start, End: h.Inner().Start})},
				Remedies: []exchange.Remedy{exchange.NewRemedy("set no token", c.changeHere("token", "none"))}})
		case password:
			return one(exchange.Finding{Title: "a password stands in the draft", Why: "A draft is kept in clear; an identity is not.",
				Evidence: []exchange.Evidence{{In: exchange.InDraft, Offset: int64(h.Span().Start), Length: 1, Line: 1, Column: 1, Excerpt: "wsse:Security"}}})
		}
	}
	return nil
}

func tokenDemanded(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Settings == nil || c.Fetch {
		return nil
	}
	kind := c.Contract.DemandsToken()
	needToken := kind != "" && c.Settings.Text("token") == "none"
	needStamp := c.Contract.DemandsTimestamp() && c.Settings.Text("timestamp") == ""
	signed, sealed := c.Contract.DemandsParts("SignedParts"), c.Contract.DemandsParts("EncryptedParts")
	needSign, needSeal := len(signed) > 0 && c.Settings.Text("sign") == "", len(sealed) > 0 && c.Settings.Text("encrypt") == ""
	if c.Draft != nil && c.Draft.Err() == nil {
		if e := c.Draft.Envelope(); e != nil && !e.Header.IsZero() {
			for h := range e.Header.Children() {
				if h.Name().Local == "Security" {
					return nil
				}
			}
		}
	}
	if !needToken && !needStamp && !needSign && !needSeal {
		return nil
	}
	var texts []string
	for _, d := range c.Contract.Demands {
		texts = append(texts, d.Text)
	}
	remedies := c.tokenRemedies(kind, needToken, needStamp)
	if needSign || needSeal {
		remedies = c.protectRemedies(signed, sealed, needSign, needSeal, needStamp)
	}
	return one(exchange.Finding{
		Title:    "the contract demands a security token that is not set",
		Why:      "Its policy asks for " + strings.Join(texts, "; ") + ".",
		Evidence: []exchange.Evidence{{In: exchange.InContract, Key: c.Contract.Source, Length: 1, Line: 1, Column: 1, Excerpt: strings.Join(texts, "; ")}},
		Remedies: remedies,
		Program:  "let your program send " + strings.Join(texts, " and "),
	})
}

// protectRemedies set up signing and encryption as far as they can be: they ask
// for the rest, which is who signs and who reads.
func (c *Case) protectRemedies(signed, sealed []string, needSign, needSeal, needStamp bool) []exchange.Remedy {
	var base []exchange.Change
	what := []string{}
	if needStamp {
		base = append(base, c.changeHere("timestamp", "5m"))
		what = append(what, "send a timestamp")
	}
	if needSign {
		if c.Contract.DemandsTimestamp() {
			signed = append(signed, "timestamp")
		}
		base = append(base, c.changeHere("sign", signed))
		what = append(what, "sign "+strings.Join(signed, " and "))
	}
	if needSeal {
		base = append(base, c.changeHere("encrypt", sealed))
		what = append(what, "encrypt "+strings.Join(sealed, " and "))
	}
	title := strings.Join(what, ", ")
	var out []exchange.Remedy
	for _, id := range c.Identities {
		if id.Certificate == nil || !needSign {
			continue
		}
		changes := append(slices.Clone(base), c.changeHere("sign-identity", id.Name))
		if place := c.place(); place != "" {
			changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: place})
		}
		out = append(out, exchange.NewRemedy(title+", as "+id.Name, changes...))
	}
	if len(out) == 0 {
		out = append(out, exchange.NewRemedy(title, base...))
	}
	return out
}

// tokenRemedies set up a token for each identity that the person has.
// nobody says what to do first where there is no identity that could be offered.
func (c *Case) nobody() string {
	if c.Witnessed || slices.ContainsFunc(c.Identities, func(id Identity) bool { return id.User != "" }) {
		return ""
	}
	return " You have no identity yet; make one (i), and it is offered here."
}

func (c *Case) tokenRemedies(kind string, needToken, needStamp bool) []exchange.Remedy {
	var out []exchange.Remedy
	kinds := []string{kind}
	if kind == "" || kind == "none" {
		kinds = []string{"digest"}
		if u, err := url.Parse(c.address()); err == nil && u.Scheme == "https" {
			kinds = append(kinds, "text")
		}
	}
	if !needToken {
		return []exchange.Remedy{exchange.NewRemedy("send a timestamp that holds for 5 minutes", c.changeHere("timestamp", "5m"))}
	}
	u, err := url.Parse(c.address())
	for _, k := range kinds {
		for _, id := range c.Identities {
			if id.User == "" {
				continue // it has a key, and no name to call by
			}
			changes := []exchange.Change{c.changeHere("identity", id.Name), c.changeHere("token", k)}
			if needStamp {
				changes = append(changes, c.changeHere("timestamp", "5m"))
			}
			r := exchange.Remedy{}
			if err == nil && u.Host != "" {
				host, port := endpoint.HostPort(u)
				changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: u.Scheme + "://" + host + ":" + port})
				r.Ask = fmt.Sprintf("the identity %s will be used at %s://%s:%s", id.Name, u.Scheme, host, port)
			}
			ask := r.Ask
			r = exchange.NewRemedy(fmt.Sprintf("send a user name token as %s (%s), %s password", id.Name, id.User, k), changes...)
			r.Ask = ask
			out = append(out, r)
		}
	}
	return out
}

// address is the resolved address, as recorded.
func (c *Case) address() string {
	if v := c.X.Stage(exchange.Address).Facts.Get("resolved"); v != "" {
		return v
	}
	return c.Settings.Text("address")
}

func identityUnknown(c *Case) []exchange.Finding {
	var e *endpoint.IdentityError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{Title: e.Error(), Why: "Identities are kept in your own configuration; you have " + orNone(strings.Join(e.Others, ", ")) + ".",
		Evidence: []exchange.Evidence{c.inSettings("identity", 0, len(e.Name))}}
	if e.Near != "" {
		f.Remedies = c.remedies("use "+e.Near, []string{"identity"}, e.Near)
	} else {
		for _, id := range c.Identities {
			f.Remedies = append(f.Remedies, c.remedies(fmt.Sprintf("use %s (%s)", id.Name, id.User), []string{"identity"}, id.Name)...)
		}
	}
	return one(f)
}

func identityHostNew(c *Case) []exchange.Finding {
	var e *endpoint.HostNewError
	if !errors.As(c.Err, &e) {
		return nil
	}
	to := fmt.Sprintf("%s://%s:%s", e.Scheme, e.Host, e.Port)
	r := exchange.NewRemedy(fmt.Sprintf("allow %s to be used at %s", e.Identity, to), exchange.Change{Where: "user", Key: "allow." + e.Identity, To: to})
	r.Ask = fmt.Sprintf("the identity %s will be used at %s", e.Identity, to)
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the identity %s has not been used at %s before", e.Identity, to),
		Why:      "A workspace may come from somebody else; an identity goes only to hosts that you allowed for it.",
		Evidence: []exchange.Evidence{c.inSettings("identity", 0, len(e.Identity))},
		Remedies: []exchange.Remedy{r},
	})
}

func secretUnavailable(c *Case) []exchange.Finding {
	var e *identity.UnavailableError
	if !errors.As(c.Err, &e) {
		return nil
	}
	return one(exchange.Finding{Title: "the secret of " + e.Identity + " cannot be read", Why: fmt.Sprintf("Its source is %s: %s.", e.Source, e.Why),
		Evidence: []exchange.Evidence{named("secret", "secret = "+e.Source)}})
}

func secretLocked(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*identity.LockedError](c.Err)
	if !ok {
		return nil
	}
	return one(exchange.Finding{Title: "the secret of " + e.Identity + " is locked", Why: e.Error() + "; it is asked for once a sitting, or taken from " + identity.PassphraseVariable + ".",
		Evidence: []exchange.Evidence{named("secret", "secret = age:"+e.Path)}})
}

func passwordTypeUnknown(c *Case) []exchange.Finding {
	var e *endpoint.ValueError
	if !errors.As(c.Err, &e) || e.Value.Key.Name != "token" {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the token's password type is neither text nor digest",
		Why:      "The setting token names the type of the password (text or digest); the password itself belongs to the identity.",
		Evidence: []exchange.Evidence{named("token", "token = (a value that is no type, not shown)")},
		Remedies: append(c.remedies("use a digest password", []string{"token"}, "digest"), c.remedies("use a text password", []string{"token"}, "text")...),
		Program:  "set the password type to text or digest, and the password apart from it",
	})
}

func keyUnreadable(c *Case) []exchange.Finding {
	var e *endpoint.FileError
	if _, mismatch := errors.AsType[*trust.MismatchError](c.Err); mismatch || !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{Title: "the file " + e.Path + " cannot be used", Why: e.Err.Error() + ".", Evidence: []exchange.Evidence{c.inSettings(e.Key.Name, 0, len(e.Path))}}
	if e.Key.Name == "trust" || e.Key.Name == "intermediates" {
		f.Stage = exchange.TLS
	}
	if p, ok := errors.AsType[*trust.PasswordError](c.Err); ok {
		f.Why += " The password is the secret of the client identity."
		for _, id := range c.Identities {
			if !p.Given || id.Name != c.Settings.Text("client-identity") {
				f.Remedies = append(f.Remedies, exchange.NewRemedy("open it with the secret of "+id.Name, c.changeHere("client-identity", id.Name)))
			}
		}
	}
	return one(f)
}

func signingKeyMissing(c *Case) []exchange.Finding {
	if !errors.Is(c.Err, endpoint.ErrNoSigningKey) {
		return nil
	}
	f := exchange.Finding{Title: "parts are to be signed, and no key is set", Why: "The setting sign names " + c.Settings.Text("sign") + "; neither an identity that signs nor a client certificate is set.",
		Evidence: []exchange.Evidence{c.inSettings("sign", 0, 1), c.inSettings("sign-identity", 0, 1)}, Program: "give your program a key and its certificate to sign with"}
	for _, id := range c.Identities {
		if id.Certificate != nil {
			changes := []exchange.Change{c.changeHere("sign-identity", id.Name)}
			if place := c.place(); place != "" {
				changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: place})
			}
			f.Remedies = append(f.Remedies, exchange.NewRemedy("sign as "+id.Name, changes...))
		}
	}
	return one(f)
}

func partMissing(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*wssec.PartError](c.Err)
	if !ok {
		return nil
	}
	key := "sign"
	if v, ok := errors.AsType[*endpoint.ValueError](c.Err); ok {
		key = v.Value.Key.Name
	}
	f := exchange.Finding{Title: "the message has no " + e.Part + " that could be signed or encrypted", Why: fmt.Sprintf("The setting %s names it.", key), Evidence: []exchange.Evidence{c.inSettings(key, 0, len(e.Part))}}
	switch e.Part {
	case "timestamp":
		f.Remedies = c.remedies("send a timestamp that holds for 5 minutes", []string{"timestamp"}, "5m")
	case "addressing":
		f.Remedies = c.remedies("send the headers of WS-Addressing 1.0", []string{"addressing"}, soap.Addressing10)
	}
	return one(f)
}

// ownSignatureWeak warns of what should not be used any more.
func ownSignatureWeak(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Fetch {
		return nil
	}
	var why, keys []string
	if c.Settings.Text("sign") != "" && c.Settings.Text("signature") == "sha1" {
		why, keys = append(why, "the signature is made with SHA-1"), append(keys, "signature")
	}
	if c.Settings.Text("encrypt") != "" {
		if strings.HasSuffix(c.Settings.Text("encrypt-data"), "cbc") {
			why, keys = append(why, "AES in CBC mode does not show whether it was changed on the way"), append(keys, "encrypt-data")
		}
		if c.Settings.Text("encrypt-key") == "rsa-1_5" {
			why, keys = append(why, "RSA 1.5 lets an attacker who can ask often read the key"), append(keys, "encrypt-key")
		}
	}
	if len(why) == 0 {
		return nil
	}
	f := exchange.Finding{Title: "what protects the message is weak", Why: strings.Join(why, "; ") + "."}
	for _, k := range keys {
		f.Evidence = append(f.Evidence, c.inSettings(k, 0, len(c.Settings.Text(k))))
	}
	return one(f)
}

func keyMismatch(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*trust.MismatchError](c.Err)
	if !ok {
		return nil
	}
	return one(exchange.Finding{
		Title:    "private key and client certificate do not belong together",
		Why:      fmt.Sprintf("The public key in the certificate of %s is not that of the private key.", cut(e.Cert.Subject.String(), 80)),
		Evidence: []exchange.Evidence{c.inSettings("client-cert", 0, 1), c.inSettings("client-key", 0, 1)},
		Program:  "give your program the certificate that was issued for its key, or the key that the certificate was asked for with",
	})
}

func ownCertificateExpired(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.CertificateDateError](c.Err)
	if !ok {
		return nil
	}
	return one(exchange.Finding{
		Title:    "your client certificate is outside its dates",
		Why:      fmt.Sprintf("%s: %s; this machine's clock says %s.", cut(e.Subject, 80), e.Why, time.Now().UTC().Format("2006-01-02 15:04 UTC")),
		Evidence: []exchange.Evidence{c.inSettings(e.Key.Name, 0, 1)},
		Program:  "have the certificate renewed; the service would refuse it",
	})
}

func ownCertificateUnfit(c *Case) []exchange.Finding {
	if c.Unfit == "" || c.Err != nil && c.Settings == nil {
		return nil
	}
	if _, ok := errors.AsType[*endpoint.CertificateDateError](c.Err); ok {
		return nil
	}
	return one(exchange.Finding{
		Title:    "your client certificate is hardly one for clients",
		Why:      "Of its uses: " + c.Unfit + ". Most services refuse it.",
		Evidence: []exchange.Evidence{c.inSettings("client-cert", 0, 1)},
		Program:  "have a certificate issued with the use clientAuth",
	})
}

func secretUnverified(c *Case) []exchange.Finding {
	if !errors.Is(c.Err, endpoint.ErrSecretUnverified) {
		return nil
	}
	return one(exchange.Finding{
		Title:    "no secret is sent to a server whose certificate is not looked at",
		Why:      "Any certificate is accepted for this call, so anybody may answer it; and it would carry a token or HTTP authentication.",
		Evidence: []exchange.Evidence{c.inSettings("token", 0, 1), c.inSettings("http-auth", 0, 1)},
		Program:  "never switch the checking of certificates off; trust the right one",
	})
}

func keyLogNew(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.KeyLogNewError](c.Err)
	if !ok {
		return nil
	}
	r := exchange.NewRemedy("allow this workspace to write keys to "+e.Path, exchange.Change{Where: "user", Key: "allow.key-log", To: e.Path})
	r.Ask = "whoever reads that file can read everything that crosses"
	return one(exchange.Finding{Title: "the key log was not allowed for this workspace before", Why: "A workspace may come from somebody else; it writes no keys without your leave.",
		Evidence: []exchange.Evidence{c.inSettings("key-log", 0, len(e.Path))}, Remedies: []exchange.Remedy{r}})
}

func clearText(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Settings.Text("token") != "text" {
		return nil
	}
	u, err := url.Parse(c.address())
	if err != nil || u.Scheme != "http" {
		return nil
	}
	if h := u.Hostname(); h == "localhost" || strings.HasPrefix(h, "127.") || h == "::1" {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the password would travel in the clear",
		Why:      "A text password over http can be read by everybody on the way.",
		Evidence: []exchange.Evidence{c.inSettings("token", 0, 4), c.inSettings("address", 0, 4)},
		Remedies: c.remedies("send a digest instead", []string{"token"}, "digest"),
		Program:  "use https, or a digest password",
	})
}
