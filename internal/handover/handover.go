// Package handover writes down what a program needs to make a call that works
// here: a sheet that is read by people, without any secret.
package handover

import (
	"crypto/x509"
	"fmt"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Sheet is everything that a working call needs.
type Sheet struct {
	Title    string    `json:"title"`    // one line for people
	Passed   bool      `json:"passed"`   // the call passed
	Said     string    `json:"said"`     // when and how it passed, or that it did not
	Sections []Section `json:"sections"` // in their order
}

// Section is a part of the sheet: rows of names and values, then text as it
// crossed.
type Section struct {
	Title string `json:"title"`          // one line for people
	Rows  []Row  `json:"rows"`           // labels and values
	Text  string `json:"text,omitempty"` // in the place of rows
}

// Row is a name with its value.
type Row struct {
	Name  string `json:"name"`  // label
	Value string `json:"value"` // as text
}

func (s *Section) add(name, format string, args ...any) {
	if v := fmt.Sprintf(format, args...); strings.TrimSpace(v) != "" {
		s.Rows = append(s.Rows, Row{name, v})
	}
}

// Settings makes the sheet of an exchange. The contract may be nil; sizes are
// those of the kept replies to the operation, in bytes. Secrets are cut out first.
func Settings(x *exchange.Exchange, c *contract.Contract, sizes []int64) *Sheet {
	x = x.Redact(nil)
	s := &Sheet{Title: x.Operation, Passed: x.Outcome == exchange.OutcomePassed}
	if x.Endpoint != "" {
		s.Title += " over " + x.Endpoint
	}
	at := x.Started.UTC().Format("2006-01-02 15:04 UTC")
	s.Said = fmt.Sprintf("It passed on %s, %s.", at, strings.TrimPrefix(x.Ending(), "passed "))
	if !s.Passed {
		s.Said = fmt.Sprintf("IT DID NOT PASS: on %s it %s.", at, x.Ending())
		if f := x.Cause(); f != nil {
			s.Said += " Why: " + f.Title + "."
		}
	}
	for _, part := range []func(*exchange.Exchange, *contract.Contract) Section{where, binding, security, tls} {
		if p := part(x, c); len(p.Rows) > 0 {
			s.Sections = append(s.Sections, p)
		}
	}
	s.Sections = append(s.Sections, limits(x, sizes), others(x))
	l := x.Leg()
	if l == nil || l.Request.Line == "" {
		return s
	}
	head := Section{
		Title: "HTTP head, as it was sent",
		Text:  strings.ReplaceAll(string(l.Out[:min(int64(len(l.Out)), l.Request.Size)]), "\r\n", "\n"),
	}
	body := Section{Title: "Envelope, as it was sent", Text: string(l.Sent())}
	s.Sections = append(s.Sections, head, body)
	if l.Response.Complete {
		reply := Section{Title: "Reply"}
		reply.add("status", "%s", l.Response.Line)
		reply.add("content type", "%s", l.Response.Get("Content-Type"))
		reply.add("size", "%s bytes", endpoint.Bytes(l.Response.BodySize))
		reply.add("body", "%s", x.Stage(exchange.Read).Facts.Get("body"))
		s.Sections = append(s.Sections, reply)
	}
	return s
}

func where(x *exchange.Exchange, c *contract.Contract) Section {
	s := Section{Title: "Where"}
	s.add("address", "%s", x.Stage(exchange.Address).Facts.Get("resolved"))
	if t := x.Stage(exchange.Address).Facts.Get("template"); t != "" && strings.Contains(t, "$") {
		s.add("address as it is set", "%s", t)
	}
	s.add("environment", "%s", x.Environment)
	if l := x.Leg(); l != nil {
		s.add("proxy", "%s", l.Conn.Proxy)
	}
	if c != nil {
		s.add("description", "%s", c.Source)
		s.add("target namespace", "%s", c.Target)
	}
	return s
}

func binding(x *exchange.Exchange, _ *contract.Contract) Section {
	s := Section{Title: "Binding"}
	facts := x.Stage(exchange.Binding).Facts
	s.add("SOAP version", "%s", x.Setting("soap"))
	s.add("port", "%s", facts.Get("port"))
	s.add("operation", "%s", facts.Get("operation"))
	action := facts.Get("action sent")
	if action == "" && x.Setting("action") == "none" {
		action = "none is sent"
	}
	s.add("action", "%s", action)
	if a := x.Setting("addressing"); a != "none" {
		s.add("WS-Addressing", "%s", a)
	}
	if l := x.Leg(); l != nil {
		s.add("content type", "%s", l.Request.Get("Content-Type"))
		if l.Request.Chunked {
			s.add("transfer", "in chunks")
		}
		if coding := l.Request.Get("Content-Encoding"); coding != "" {
			s.add("compression of requests", "%s", coding)
		}
	}
	return s
}

// security tells the token and its parts as they stand in what was sent.
func security(x *exchange.Exchange, _ *contract.Contract) Section {
	s := Section{Title: "Security"}
	for _, d := range x.Stage(exchange.Security).Facts {
		if strings.HasPrefix(d.Name, "demand") {
			s.add("the contract demands", "%s", d.Value)
		}
	}
	if a := x.Setting("http-auth"); a != "none" && a != "" {
		s.add("HTTP authentication", "%s", a)
		s.add("as", "%s", x.Setting("identity"))
	}
	l := x.Leg()
	if l == nil || len(l.RequestBody) == 0 {
		return s
	}
	doc, err := xmltree.ParseEncoded(l.Sent(), "", xmltree.Limits{})
	if err != nil {
		return s
	}
	e := soap.Read(doc)
	if e == nil {
		return s
	}
	for sec := range e.Header.Named(wssec.WSSE, "Security") {
		if v, _ := sec.Attr(e.Version.Namespace(), "mustUnderstand"); v != "" {
			s.add("must be understood", "%s", v)
		}
		for part := range sec.Children() {
			s.part(part)
		}
	}
	if len(s.Rows) == 0 {
		s.add("token", "none")
	}
	return s
}

func (s *Section) part(n xmltree.Node) {
	switch n.Name().Local {
	case "UsernameToken":
		s.add("user name token", "user %s", strings.TrimSpace(n.Find(wssec.WSSE, "Username").Text()))
		if p := n.Find(wssec.WSSE, "Password"); !p.IsZero() {
			kind, _ := p.Attr("", "Type")
			if kind == "" {
				kind = "not given: PasswordText"
			}
			s.add("password type", "%s", kind[strings.LastIndexByte(kind, '#')+1:])
			s.add(
				"password",
				"from the secret of %s; not written here",
				strings.TrimSpace(n.Find(wssec.WSSE, "Username").Text()),
			)
		}
		s.add(
			"nonce",
			"%s",
			map[bool]string{true: "16 random bytes in base64, new for each call", false: "none"}[!n.Find(wssec.WSSE,
				"Nonce").IsZero()],
		)
		s.add(
			"created",
			"%s",
			map[bool]string{true: "the time of the call, UTC", false: "none"}[!n.Find(wssec.WSU, "Created").IsZero()],
		)
	case "Timestamp":
		s.add(
			"timestamp",
			"%s to %s",
			strings.TrimSpace(n.Find(wssec.WSU, "Created").Text()),
			strings.TrimSpace(n.Find(wssec.WSU, "Expires").Text()),
		)
	case "BinarySecurityToken":
		kind, _ := n.Attr("", "ValueType")
		s.add("binary security token", "%s", kind[strings.LastIndexByte(kind, '#')+1:])
	case "Signature":
		s.add("signature", "%s", algorithm(n, "SignatureMethod"))
		s.add("canonical form", "%s", algorithm(n, "CanonicalizationMethod"))
		var parts []string
		for r := range n.Find(wssec.DSIG, "SignedInfo").Named(wssec.DSIG, "Reference") {
			uri, _ := r.Attr("", "URI")
			parts = append(parts, uri)
		}
		s.add("signed parts", "%s", strings.Join(parts, ", "))
	case "EncryptedKey":
		s.add("encrypted key", "%s", algorithm(n, "EncryptionMethod"))
	default:
		s.add("also in the security header", "%s", n.Name().Local)
	}
}

func algorithm(n xmltree.Node, element string) string {
	for _, space := range []string{wssec.DSIG, wssec.XENC} {
		if m := n.Find(space, element); !m.IsZero() {
			a, _ := m.Attr("", "Algorithm")
			return a
		}
	}
	return ""
}

// tls tells what was agreed and what must be trusted, with fingerprints to be
// compared.
func tls(x *exchange.Exchange, _ *contract.Contract) Section {
	s := Section{Title: "TLS"}
	l := x.Leg()
	if l == nil || l.Conn.TLS == nil {
		return s
	}
	t := l.Conn.TLS
	s.add("version", "%s", t.Version)
	s.add("cipher suite", "%s", t.Cipher)
	s.add("name asked for", "%s", t.ServerName)
	s.add("trusted because", "%s", t.Trusted)
	for i, raw := range t.Chain {
		cert, err := x509.ParseCertificate(raw)
		if err != nil {
			continue
		}
		s.add(fmt.Sprintf("certificate %d", i+1), "%s", cert.Subject)
		s.add("  issued by", "%s", cert.Issuer)
		s.add(
			"  valid",
			"%s to %s",
			cert.NotBefore.UTC().Format("2006-01-02"),
			cert.NotAfter.UTC().Format("2006-01-02"),
		)
		if i == 0 {
			s.add("  for", "%s", strings.Join(trust.Names(cert), ", "))
		}
		s.add("  SHA-256", "%s", trust.Grouped(trust.Fingerprint(cert)))
	}
	if t.CertSent {
		s.add("client certificate", "%s", x.Stage(exchange.TLS).Facts.Get("client certificate"))
	}
	if t.CertAsked && len(t.Issuers) > 0 {
		s.add("the service accepts certificates of", "%s", strings.Join(t.Issuers, "; "))
	}
	return s
}

// limits are those that held, and the number that would do for every kept reply.
func limits(x *exchange.Exchange, sizes []int64) Section {
	s := Section{Title: "Limits that held"}
	for _, key := range []string{"connect-time", "send-time", "answer-time", "receive-time", "total-time",
		"receive-limit", "buffer-limit", "inflated-limit", "depth-limit", "text-limit", "repeat-limit", "name-limit"} {
		k := endpoint.KeyOf(key)
		s.add(k.Label(), "%s", k.Spell(x.Setting(key)))
	}
	s.add("intake", "%s", x.Setting("intake"))
	if n := diagnose.SizesOf(sizes); n.Count > 0 {
		limit, why := n.Proposal()
		s.add("a receive limit that does", "%s: %s", endpoint.FormatSize(limit), why)
	}
	return s
}

// others are the settings that differ from their defaults and stand nowhere else
// on the sheet.
func others(x *exchange.Exchange) Section {
	s := Section{Title: "Other settings that are not the default"}
	told := map[string]bool{
		"address":    true,
		"soap":       true,
		"action":     true,
		"addressing": true,
		"http-auth":  true,
		"intake":     true,
	}
	for _, v := range x.Settings {
		k := endpoint.KeyOf(v.Key)
		if k == nil || told[v.Key] || v.Source == "default" || v.Value == "" || v.Value == k.Default ||
			strings.HasSuffix(v.Key, "-time") ||
			strings.HasSuffix(v.Key, "-limit") {
			continue
		}
		s.add(k.Label(), "%s", k.Spell(v.Value))
	}
	return s
}

// Markdown is the sheet as a page.
func (s *Sheet) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n", text(s.Title), text(s.Said))
	s.sections(&b, "##")
	return b.String()
}

// sections writes the parts of a sheet below headings of a level.
func (s *Sheet) sections(b *strings.Builder, level string) {
	for _, p := range s.Sections {
		if len(p.Rows) == 0 && p.Text == "" {
			continue
		}
		fmt.Fprintf(b, "\n%s %s\n\n", level, p.Title)
		for i, r := range p.Rows {
			if i == 0 {
				b.WriteString("| | |\n|---|---|\n")
			}
			fmt.Fprintf(b, "| %s | %s |\n", text(r.Name), text(r.Value))
		}
		if p.Text != "" {
			fence := "```"
			for strings.Contains(p.Text, fence) {
				fence += "`"
			}
			fmt.Fprintf(b, "%s\n%s\n%s\n", fence, safe.Block(strings.TrimRight(p.Text, "\n")), fence)
		}
	}
}

// text is outside text as one line of a page: no markup of it has an effect there.
func text(s string) string {
	return strings.NewReplacer("|", `\|`, "<", "&lt;", "`", "'", "[", `\[`).
		Replace(safe.Line(strings.Join(strings.Fields(s), " ")))
}
