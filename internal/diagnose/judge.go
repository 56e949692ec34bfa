package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Run applies the rules and judges what they find. What stops a call is not looked for
// in one that passed, unless another program made it.
//
// What leads is what is proven (two values contradict, a limit fell, a protocol says so)
// or named by the other side. A warning leads over an answer only where it is proven to be
// what the answer is about; one that held in a call that passed is refuted, and any other
// stands below the answer, as one of the things that may be behind it.
func Run(c *Case) []exchange.Finding {
	var out []exchange.Finding
	rules := Rules
	if c.Err == nil && !c.Imported {
		rules = nonStopping
	}
	for i := range rules {
		for _, f := range rules[i].Find(c) {
			out = append(out, c.filled(f, &rules[i]))
		}
	}
	return c.judge(out)
}

// filled is a finding with all that its rule says.
func (c *Case) filled(f exchange.Finding, r *Rule) exchange.Finding {
	if f.ID == "" {
		f.ID = r.ID
	}
	if f.Stage == exchange.None {
		f.Stage = r.Stage()
	}
	if f.Severity == "" {
		f.Severity = r.Severity
	}
	if f.Side == "" {
		f.Side = r.Side
	}
	if c.Imported && f.Severity == exchange.Stop && f.Stage < exchange.Connect && r.Stage() < exchange.Connect {
		f.Severity = exchange.Warn // it was sent all the same
	}
	f.Remedies = slices.DeleteFunc(f.Remedies, changesNothing)
	if c.Imported {
		f.Remedies = slices.DeleteFunc(f.Remedies, c.changesOursOnly)
	}
	if c.Description {
		c.ofDescription(&f)
	}
	complete(&f)
	if why := c.SetAside[f.ID]; why != "" && f.Severity != exchange.Stop {
		f.SetAside, f.Severity = why, exchange.Note
	}
	return f
}

// changesOursOnly tells whether a remedy changes what another program decides for itself: its message and by which
// rules it is sent. What is set here changes only the calls that are made here.
func (c *Case) changesOursOnly(r exchange.Remedy) bool {
	return slices.ContainsFunc(r.All(), func(ch exchange.Change) bool {
		k := endpoint.KeyOf(ch.Key[strings.LastIndexByte(ch.Key, '.')+1:])
		return ch.Where == "draft" || k != nil && (k.Name == "soap" || k.Name == "action" || k.Name == "addressing" ||
			k.Stage == exchange.Message || k.Stage == exchange.Security && !c.AddsSecurity)
	})
}

// changesNothing tells whether a remedy leaves everything as it is.
func changesNothing(r exchange.Remedy) bool {
	all := r.All()
	for _, ch := range all {
		if ch.From == nil || fmt.Sprint(ch.From) != fmt.Sprint(ch.To) {
			return false
		}
	}
	return len(all) > 0
}

// complete gives a finding what every one has.
func complete(f *exchange.Finding) {
	if f.Certainty == "" {
		f.Certainty = exchange.Certain
	}
	if f.Evidence == nil {
		f.Evidence = []exchange.Evidence{}
	}
	if f.Remedies == nil {
		f.Remedies = []exchange.Remedy{}
	}
}

// misshapen are the warnings that a message can hardly be read, or is none of SOAP: whatever a service answers
// to such a one may follow from that.
//
//nolint:gochecknoglobals // a table: it is never written to
var misshapen = []string{
	"message.not-xml", "send.charset-differs", "message.not-well-formed", "message.not-envelope", "message.body-empty",
}

// misread are the failures in which a service says that it could not take what was sent.
//
//nolint:gochecknoglobals // a table: it is never written to
var misread = []string{
	"read.fault-client", "read.fault-server", "read.fault-declared", "read.fault-operation", "read.fault-action",
	"read.fault-version", "read.version-differs", "receive.media-type-refused", "receive.server-error",
	"receive.client-error",
}

// mayExplain are the warnings that a failure may follow from, the likeliest first.
func mayExplain(id string) []string {
	if slices.Contains(misread, id) {
		return slices.Concat(misshapen, explains[id])
	}
	return explains[id]
}

// explains lists, for a failure, the warnings that it may follow from besides the misshapen.
//
//nolint:gochecknoglobals // a table: it is never written to
var explains = map[string][]string{
	"read.fault-client": {
		"send.length-differs",
		"message.invalid",
		"message.placeholder-left",
		"message.body-differs",
		"message.namespace-differs",
		"message.header-left-out",
		"message.header-misplaced",
		"message.body-several",
	},
	"read.fault-server":    {"message.invalid", "message.placeholder-left", "message.header-left-out"},
	"read.fault-declared":  {"message.invalid", "message.header-left-out"},
	"read.fault-operation": {"binding.action-differs", "message.body-differs", "message.namespace-differs"},
	"read.fault-action": {
		"binding.action-differs", "binding.action-unquoted", "message.body-differs", "message.namespace-differs",
	},
	"read.fault-version":          {"binding.version-differs", "binding.media-type-differs"},
	"read.version-differs":        {"binding.version-differs"},
	"receive.media-type-refused":  {"binding.version-differs", "binding.media-type-differs"},
	"receive.over-buffer":         {"binding.buffer-differs"},
	"read.not-well-formed":        {"receive.length-differs"},
	"read.empty":                  {"receive.length-differs"},
	"read.parts-broken":           {"receive.length-differs"},
	"read.fault-security-missing": {"security.header-differs", "security.token-demanded"},
	"read.fault-must-understand":  {"security.header-differs"},
	"read.fault-security-invalid": {
		"security.header-differs",
		"security.token-malformed",
		"security.password-type-differs",
		"security.algorithms-differ",
		"security.assertion-expired",
		"security.token-demanded",
		"message.security-in-draft",
	},
	"read.fault-security-refused": {
		"security.token-malformed", "security.assertion-expired", "security.password-type-differs",
	},
	"read.fault-security-expired": {"security.token-malformed", "security.assertion-expired"},
	"receive.server-error":        {"message.invalid", "message.placeholder-left"},
	"connect.name-unknown":        {"address.from-contract"},
	"connect.refused":             {"address.from-contract"},
	"connect.timed-out":           {"address.from-contract"},
	"connect.unreachable":         {"address.from-contract"},
	"receive.not-found":           {"address.from-contract"},
	"verify.unexpected":           {"message.placeholder-left"},
	"receive.client-error":        {"message.invalid", "message.placeholder-left", "binding.version-differs"},
}

//nolint:gochecknoglobals // a table: it is never written to
var severityRank = map[exchange.Severity]int{exchange.Stop: 0, exchange.Warn: 1, exchange.Note: 2}

// within tls, in this order.
//
//nolint:gochecknoglobals // a table: it is never written to
var tlsRank = []string{
	"tls.not-tls",
	"tls.version-refused",
	"tls.cipher-refused",
	"tls.client-certificate-required",
	"tls.client-certificate-refused",
	"tls.name-unrecognized",
	"tls.protocol-refused",
	"tls.self-signed",
	"tls.chain-incomplete",
	"tls.authority-unknown",
	"tls.expired",
	"tls.not-yet-valid",
	"tls.name-differs",
	"tls.key-weak",
}

// judge puts findings in order: what stops first, the earliest first, and before it the
// warning that it is proven to follow from.
func (c *Case) judge(fs []exchange.Finding) []exchange.Finding {
	sorted(fs)
	if len(fs) == 0 || fs[0].Severity != exchange.Stop {
		return fs
	}
	stop := 0
	var possible []exchange.Hypothesis
	for _, id := range mayExplain(fs[0].ID) {
		i := slices.IndexFunc(fs, func(f exchange.Finding) bool { return f.ID == id && f.Severity != exchange.Stop })
		if i < 0 || fs[0].Because != "" {
			continue
		}
		by := c.ground(&fs[i], &fs[0])
		if by == "" {
			if id != "message.header-left-out" && !c.heldInAPass(&fs[i]) {
				possible = append(possible, exchange.Hypothesis{
					ID: id, Cause: fs[i].Title,
					Predicts: "once that is fixed, the call passes, or the answer is another",
				})
			}
			continue
		}
		cause := fs[i]
		cause.By = by
		if by == exchange.ByDifference || cause.By == exchange.ByAnswer {
			cause.Certainty = exchange.Likely
		}
		fs[0].Because = id
		fs = slices.Insert(slices.Delete(fs, i, i+1), 0, cause)
		stop = 1
		break
	}
	f := &fs[stop]
	f.By = byOf(f.ID)
	f.Hypotheses = slices.Concat(c.theDifference(f), possible, c.hypothesesOf(f.ID))
	return fs
}

// theDifference is what leads the possible causes of an answer: the one thing in which
// the call differs from the newest that passed.
func (c *Case) theDifference(f *exchange.Finding) []exchange.Hypothesis {
	passed := c.passed()
	if passed == nil || f.By == exchange.ByProof || f.By == exchange.ByName && f.ID != "read.fault-operation" {
		return nil
	}
	all := differs(passed, c.X, nil)
	if len(all) != 1 {
		return nil
	}
	d := all[0]
	if d.Of == "field" && f.Side == exchange.Theirs {
		f.Side = exchange.Yours // the same call passed with another value
	}
	return []exchange.Hypothesis{{
		ID:       "difference",
		Cause:    DifferenceLabel(d) + ": " + DifferenceWords(d) + "; nothing else differs from the call that passed",
		Predicts: "with what it was then, the call passes",
	}}
}

func sorted(fs []exchange.Finding) {
	slices.SortStableFunc(fs, func(a, b exchange.Finding) int {
		if d := severityRank[a.Severity] - severityRank[b.Severity]; d != 0 {
			return d
		}
		if d := int(a.Stage) - int(b.Stage); d != 0 {
			return d
		}
		return slices.Index(tlsRank, a.ID) - slices.Index(tlsRank, b.ID)
	})
}

// byAnswer are the findings that only give the answer's own words.
//
//nolint:gochecknoglobals // a table: it is never written to
var byAnswer = []string{
	"read.fault-client", "read.fault-server", "read.fault-declared", "receive.server-error", "receive.client-error",
	"receive.gateway", "receive.not-soap", "receive.forbidden", "receive.unauthorized", "receive.not-found",
	"receive.unavailable",
}

// byOf says on what ground a finding leads that stops a call.
func byOf(id string) exchange.By {
	switch {
	case slices.Contains(byAnswer, id):
		return exchange.ByAnswer
	case len(id) > len("read.fault-") && id[:len("read.fault-")] == "read.fault-":
		return exchange.ByName
	}
	return exchange.ByProof
}
