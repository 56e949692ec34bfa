package diagnose

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

func addressingDemanded(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Settings == nil || c.Fetch || !c.demands().Addressing() ||
		c.Settings.Text("addressing") != "none" {
		return nil
	}
	lacks := "none are set"
	if c.Imported {
		lacks = "none were sent"
	}
	if e := c.draftEnvelope(); e != nil && !e.Header.IsZero() {
		for h := range e.Header.Children() {
			q := h.Name()
			switch ours := soap.IsAddressing(q.Space); {
			case ours && q.Local == "Action":
				return nil
			case ours:
				lacks = "Action is not among those that were sent"
			case q.Local == "Action" && strings.Contains(strings.ToLower(q.Space), "addressing"):
				lacks = "those that were sent are in the namespace " + q.Space + ", which is not that of WS-Addressing"
			}
		}
	}
	return one(exchange.Finding{
		Title: "the contract demands WS-Addressing headers, and " + lacks,
		Why:   "Its policy asks for them: where the call goes, its action, and an id of its own.",
		Evidence: []exchange.Evidence{
			{
				In:      exchange.InContract,
				Key:     c.Contract.Source,
				Length:  1,
				Line:    1,
				Column:  1,
				Excerpt: "WS-Addressing headers",
			},
		},
		Remedies: c.remedies("send the headers of WS-Addressing 1.0", []string{"addressing"}, soap.Addressing10),
		Program:  "let your program send the WS-Addressing headers To, Action, MessageID and ReplyTo",
	})
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
		Evidence: []exchange.Evidence{
			named("endpoint", "endpoint = "+orNone(e.Name)),
		}, Program: "check which port of the service it calls"}
	if e.Name == "" {
		f.Why = "The workspace has none for the ports of its contract that have this operation."
	}
	if len(e.Off) > 0 {
		f.Why = "Switched off: " + strings.Join(e.Off, ", ") + "."
	}
	for _, o := range e.Off[:min(len(e.Off), 4)] {
		f.Remedies = append(
			f.Remedies,
			exchange.NewRemedy(
				"switch "+o+" on",
				exchange.Change{Where: "workspace", Key: "endpoint." + o + ".off", From: true, To: false},
			),
		)
	}
	for _, a := range e.Unmade[:min(len(e.Unmade), 4)] {
		f.Remedies = append(f.Remedies, exchange.NewRemedy(
			fmt.Sprintf("make the endpoint %s (%s)", a.Name, a.Differs),
			exchange.Change{
				Where: "workspace",
				Key:   "endpoint." + a.Name + ".contract",
				To:    e.Contract,
			},
			exchange.Change{Where: "workspace", Key: "endpoint." + a.Name + ".port", To: a.Port},
		))
	}
	for _, o := range e.Others[:min(len(e.Others), 4)] {
		r := exchange.NewRemedy(
			"call it over "+o,
			exchange.Change{Where: "draft", Key: "endpoint", From: e.Name, To: o},
		)
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
	if len(e.Unread) > 0 {
		f.Title = fmt.Sprintf("the contract, as far as it could be read, has no operation %s", e.Name)
		f.Why = "What it leads to could not be read: " + strings.Join(
			e.Unread,
			"; ",
		) + ". Fetch the description again (refresh)."
		f.Program = "nothing; the description that is kept here is not whole"
	}
	if e.Near != "" {
		f.Why = fmt.Sprintf("`%s` is not there; `%s` is, and names are case-sensitive.", e.Name, e.Near)
		f.Remedies = append(
			f.Remedies,
			exchange.NewRemedy(
				"call "+e.Near,
				exchange.Change{Where: "draft", Key: "operation", From: e.Name, To: e.Near},
			),
		)
	}
	return one(f)
}

func versionDiffers(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Port == nil || c.Port.Version == soap.Unset {
		return nil
	}
	v := c.Settings.Get("soap")
	set, err := soap.ParseVersion(v.Text)
	if e := c.draftEnvelope(); e != nil {
		if e.Version == c.Port.Version {
			return nil
		}
		root := c.Draft.Doc().Root()
		if c.Imported {
			return one(exchange.Finding{
				Title: fmt.Sprintf("the request is an envelope of SOAP %s, and the port speaks %s",
					e.Version, c.Port.Version),
				Why:      fmt.Sprintf("The binding of the port %s is for SOAP %s.", c.Port.Name, c.Port.Version),
				Evidence: c.atTag(root),
				Program:  "let your program send SOAP " + c.Port.Version.String() + " to this port",
			})
		}
		return one(exchange.Finding{
			Title: fmt.Sprintf(
				"the draft is an envelope of SOAP %s, and the port speaks %s",
				e.Version,
				c.Port.Version,
			),
			Why: fmt.Sprintf(
				"It is sent as it stands, whatever version is set. The binding of the port %s is for SOAP %s.",
				c.Port.Name,
				c.Port.Version,
			),
			Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: root.Span().Start, End: root.Inner().Start})},
			Program:  "let your program send SOAP " + c.Port.Version.String() + " to this port",
		})
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
	if l := c.leg(); c.Imported && l != nil && headKnown(l) {
		return c.sentActionDiffers(l)
	}
	v := c.Settings.Get("action")
	if v.Source == "contract" || v.Source == "default" || v.Text == c.Operation.Action {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the action that is set is not the contract's",
		Why:      fmt.Sprintf("%q is set; the contract has %q for %s.", v.Text, c.Operation.Action, c.Operation.Name),
		Evidence: []exchange.Evidence{c.inSettings("action", 0, len(v.Text))},
		Remedies: c.remedies("use the contract's action", []string{"action"}, c.Operation.Action),
		Program:  fmt.Sprintf("let your program send the action %q", c.Operation.Action),
	})
}

// sentActionDiffers is an action of another program that is not the contract's. SOAP 1.2 leaves it to
// the sender whether there is one (part 2 §6.5.3).
func (c *Case) sentActionDiffers(l *exchange.Leg) []exchange.Finding {
	sent := c.actionSent()
	has := l.Request.Field("SOAPAction") != nil
	if sent == c.Operation.Action || !has && sent == "" && c.sent() == soap.V12 {
		return nil
	}
	f := exchange.Finding{
		Title:    "the action that was sent is not the contract's",
		Why:      fmt.Sprintf("Sent was %q; the contract has %q for %s.", sent, c.Operation.Action, c.Operation.Name),
		Evidence: c.inRequestHead("SOAPAction"),
		Remedies: c.remedies("use the contract's action", []string{"action"}, c.Operation.Action),
		Program:  fmt.Sprintf("let your program send the action %q", c.Operation.Action),
	}
	switch {
	case !has && sent == "":
		f.Title = "no action was sent"
		f.Why = fmt.Sprintf("The request has no SOAPAction; the contract has %q for %s.",
			c.Operation.Action, c.Operation.Name)
		f.Evidence = []exchange.Evidence{c.inRequestLine()}
	case !has:
		f.Evidence = c.inRequestHead("Content-Type")
	case sent == "":
		f.Title = "the action that was sent is empty"
	}
	return one(f)
}

func bufferDiffers(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Fetch {
		return nil
	}
	buffer := c.Settings.Get("buffer-limit")
	if !buffer.IsSet() || c.Settings.Text("intake") != "whole" {
		return nil
	}
	b, err1 := c.Settings.Size("buffer-limit")
	r, err2 := c.Settings.Size("receive-limit")
	strict := c.Settings.Switch("strict-buffer")
	if err1 != nil || err2 != nil || b == r || b > r && !strict {
		return nil
	}
	f := exchange.Finding{
		Title: "the buffer limit is not the receive limit",
		Why: fmt.Sprintf(
			"A reply that is taken in whole must fit into the buffer: %s bytes are received, %s are buffered.",
			endpoint.Bytes(r),
			endpoint.Bytes(b),
		),
		Evidence: []exchange.Evidence{
			c.inSettings("buffer-limit", 0, len(buffer.Text)),
			c.inSettings("receive-limit", 0, 1),
		},
		Remedies: c.remedies(
			"set the buffer limit to the receive limit, "+endpoint.FormatSize(r),
			[]string{"buffer-limit"},
			endpoint.FormatSize(r),
		),
		Program: "set its buffer limit to the same number as its limit for received messages",
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
	if !inflated.IsSet() {
		return nil
	}
	a, err1 := c.Settings.Size("inflated-limit")
	r, err2 := c.Settings.Size("receive-limit")
	if err1 != nil || err2 != nil || a >= r {
		return nil
	}
	return one(exchange.Finding{
		Title: "the decompressed limit is smaller than the receive limit",
		Why: fmt.Sprintf(
			"A reply of up to %s bytes is received, and refused above %s once it is decompressed, though "+
				"decompressing makes it larger.",
			endpoint.Bytes(r),
			endpoint.Bytes(a),
		),
		Evidence: []exchange.Evidence{
			c.inSettings("inflated-limit", 0, len(inflated.Text)),
			c.inSettings("receive-limit", 0, len(v.Text)),
		},
		Remedies: c.remedies(
			"set the decompressed limit to the receive limit, "+endpoint.FormatSize(r),
			[]string{"inflated-limit"},
			endpoint.FormatSize(r),
		),
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
		Title: fmt.Sprintf("the receive limit would refuse replies that %s has sent", c.X.Operation),
		Why: fmt.Sprintf(
			"The largest of the %d kept replies was %s bytes, the limit is %s; %d of them were larger than that.",
			l.Count,
			endpoint.Bytes(l.Largest),
			endpoint.Bytes(limit),
			l.Over(limit),
		),
		Evidence: []exchange.Evidence{c.inSettings("receive-limit", 0, 1)},
		Remedies: c.raise(would),
		Program: fmt.Sprintf(
			"raise its limit for received messages to %s or more, and its buffer to the same",
			endpoint.FormatSize(would),
		),
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
	whole := c.Settings.Get("total-time").IsSet()
	for _, key := range []string{"connect-time", "answer-time", "send-time", "receive-time"} {
		v := c.Settings.Get(key)
		if !whole && !v.IsSet() {
			continue
		}
		part, err := c.Settings.Duration(key)
		if err != nil || part <= total {
			continue
		}
		return one(exchange.Finding{
			Title:    fmt.Sprintf("the %s can never run out", v.Key.Label()),
			Why:      fmt.Sprintf("It is %s, and the whole call is given %s.", v.Text, c.Settings.Text("total-time")),
			Evidence: []exchange.Evidence{c.inSettings(key, 0, len(v.Text)), c.inSettings("total-time", 0, 1)},
			Remedies: c.remedies(
				fmt.Sprintf("give the whole call %s", (part+total).String()),
				[]string{"total-time"},
				(part + total).String(),
			),
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
		Title:    fmt.Sprintf("the %s cannot be used", e.Value.Key.Label()),
		Why:      e.Err.Error() + ".",
		Evidence: []exchange.Evidence{c.inSettings(e.Value.Key.Name, 0, len(e.Value.Text))},
	}
	if d := e.Value.Key.Default; d != "" {
		f.Remedies = c.remedies("use the default, "+d, []string{e.Value.Key.Name}, d)
	}
	return one(f)
}
