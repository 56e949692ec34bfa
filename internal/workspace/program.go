package workspace

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/handover/code"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// maxReply is how many bytes of a reply a program reads where no limit is set.
const maxReply = 16 << 20

// ProgramOf is what a program needs to make a call as a plan makes it, with a message in the
// place of the plan's draft (a zero node: that of the draft). files are those that lie beside the
// program, by their names. What the call does and a program cannot is named in Missing.
func (w *Workspace) ProgramOf(p *call.Plan, body xmltree.Node, header string) (
	wish *code.Wish, files map[string][]byte, err error,
) {
	if p.Contract == nil || p.Port == nil {
		return nil, nil, fmt.Errorf("no port of a contract is known for %s", p.Operation)
	}
	address, err := endpoint.Expand(p.Settings.Text("address"), p.Environment, p.Variables)
	if err != nil {
		return nil, nil, err
	}
	name := cmp.Or(p.Port.Name, p.ContractName)
	wish = &code.Wish{
		Name: name, Service: p.ContractName, Contract: p.Contract, Port: p.Port, Call: p.Operation, Body: body,
	}
	s := &wish.Settings
	*s = code.Settings{
		Address: address, Prefix: code.Upper(name), Header: header,
		SOAP12:   p.Settings.Text("soap") == "1.2" || p.Settings.Text("soap") == "" && p.Port.Version == soap.V12,
		Token:    map[string]string{"text": "text", "digest": "digest"}[p.Settings.Text("token")],
		Basic:    p.Settings.Text("http-auth") == "basic",
		Bearer:   p.Settings.Text("http-auth") == "bearer",
		MaxReply: maxReply,
	}
	if id := p.Settings.Text("identity"); id != "" && p.Identity != nil {
		if who, err := p.Identity(id); err == nil {
			s.User = who.User
		}
	}
	seconds := func(key string, usual int) int {
		d, err := p.Settings.Duration(key)
		if err != nil || d <= 0 {
			return usual
		}
		return max(int(d.Round(time.Second)/time.Second), 1)
	}
	s.Sign, s.SignHash = signedParts(p), cmp.Or(p.Settings.Text("signature"), "sha256")
	s.ConnectTime, s.AnswerTime = seconds("connect-time", 10), seconds("answer-time", 60)
	if life := p.Settings.Text("timestamp"); life != "" && life != "none" {
		s.Timestamp = seconds("timestamp", 300)
	}
	if n, err := p.Settings.Size("receive-limit"); err == nil && n > 0 {
		s.MaxReply = n
	}
	if u, err := url.Parse(p.Settings.Text("proxy")); err == nil && u.Host != "" && u.User == nil {
		s.Proxy = u.String()
	}
	files = map[string][]byte{}
	trusted, err := trustedBy(p)
	if err != nil {
		return nil, nil, err
	}
	if len(trusted) > 0 {
		s.Trust, files["trust.pem"] = "trust.pem", trusted
	}
	s.ClientCert, s.ClientKey = absolute(
		w,
		p.Settings.Text("client-cert"),
	), absolute(
		w,
		p.Settings.Text("client-key"),
	)
	wish.Missing = missing(p)
	return wish, files, nil
}

// trustedBy are the certificates that a plan trusts besides the system's, as PEM.
func trustedBy(p *call.Plan) (out []byte, err error) {
	for _, f := range p.Settings.List("trust") {
		b, err := p.ReadFile(f)
		if err != nil {
			return nil, fmt.Errorf("trust: %w", err)
		}
		out = append(append(out, b...), '\n')
	}
	return out, nil
}

// Handed are the message and the header blocks that a program is to send: those of an exchange as
// they left, or those of the plan's draft, with the values of their variables, and with example
// values where none is filled in. sent may be nil.
func Handed(p *call.Plan, sent *exchange.Exchange) (body xmltree.Node, header string, err error) {
	d := p.Draft.WithExamples(schema.ExampleDay())
	src := string(d.Bytes())
	if p.Header != nil {
		header = string(bytes.Join(p.Header.Blocks(), nil))
	}
	if p.Expand {
		escaped := map[string]string{}
		for name, value := range p.Variables {
			escaped[name] = xmltree.EscapeText(value)
		}
		if src, err = endpoint.Expand(src, p.Environment, escaped); err != nil {
			return body, "", err
		}
		if header, err = endpoint.Expand(header, p.Environment, escaped); err != nil {
			return body, "", err
		}
	}
	body = message.NewDraft(d.Schemas, d.Decl, []byte(src)).Body()
	masked := strings.Repeat(string(exchange.Masked), 4)
	if sent != nil && sent.Leg() != nil && !strings.Contains(string(sent.Leg().RequestBody), masked) {
		if doc, err := xmltree.Parse(sent.Leg().Sent(), xmltree.Limits{}); err == nil {
			if e := soap.Read(doc); e != nil && !e.Payload.IsZero() {
				body = e.Payload
			}
		}
	}
	if body.IsZero() {
		return body, "", errors.New("the draft is no well-formed message")
	}
	return body, header, nil
}

func absolute(w *Workspace, path string) string {
	if path == "" || filepath.IsAbs(path) || w == nil || w.Dir() == "" {
		return path
	}
	return filepath.Join(w.Dir(), path)
}

// signedParts are the parts that a call signs, where a program may sign them: body and timestamp, with
// a key that goes along as a token, in the exclusive canonical form, and nothing is encrypted.
func signedParts(p *call.Plan) []string {
	set := &p.Settings
	signs, hash := set.List("sign"), cmp.Or(set.Text("signature"), "sha256")
	for _, s := range signs {
		if s != "body" && (s != "timestamp" || set.Text("timestamp") == "") {
			return nil
		}
	}
	if !slices.Contains([]string{"", "direct"}, set.Text("sign-key")) || len(set.List("encrypt")) > 0 ||
		!slices.Contains([]string{"", "exclusive"}, set.Text("sign-canonical")) ||
		!slices.Contains([]string{"sha256", "sha384", "sha512"}, hash) {
		return nil
	}
	return signs
}

// missing are what a call does and a program with the standard library alone does not.
func missing(p *call.Plan) (out []string) {
	set := &p.Settings
	add := func(is bool, format string, args ...any) {
		if is {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	signs, auth := set.List("sign"), set.Text("http-auth")
	add(len(signs) > 0 && signedParts(p) == nil, "it signs the message (%s): add a library for XML signatures",
		strings.Join(signs, ", "))
	add(len(set.List("encrypt")) > 0, "it encrypts the message: add a library for XML encryption")
	add(set.Text("token-file") != "", "it sends a token from a file")
	add(slices.Contains([]string{"digest", "ntlm", "asked"}, auth), "it authenticates by HTTP %s", auth)
	add(set.Text("session") != "", "it logs in first, by the session %s", set.Text("session"))
	add(!slices.Contains([]string{"", "none"}, set.Text("addressing")), "it sends WS-Addressing headers")
	add(len(set.List("attach")) > 0, "it sends attachments")
	add(set.Text("request-coding") == "gzip", "it compresses its requests (gzip)")
	add(set.Text("transfer") == "chunked" && len(set.List("trailer")) > 0, "it sends fields behind the last chunk")
	shown := set.Text("client-identity")
	add(shown != "", "it shows the client certificate of the identity %s", shown)
	add(len(set.List("pin")) > 0, "it pins the server's certificate")
	add(set.Text("accept-name") != "", "it accepts a certificate for another name")
	return out
}

// WriteBatch writes a program that calls for each row of a table into a folder, never over edits.
// deliver are the parts that are wanted, none: all. A name that ends with .py in the place of a folder
// has all of it in that one file.
func (w *Workspace) WriteBatch(
	dir string, p *call.Plan, sent *exchange.Exchange, only, deliver []string, show bool,
) (kept *code.Kept, missing []string, err error) {
	name := ""
	if strings.HasSuffix(dir, ".py") {
		if dir, name = filepath.Dir(dir), filepath.Base(dir); len(deliver) > 0 {
			return nil, nil, errors.New("in one file there are client and program alone; name a folder for other parts")
		}
	}
	return w.written(dir, p, sent, only, show, func(wish *code.Wish) (*code.Result, error) {
		made, err := code.Batch(wish, deliver, w.recorded(p, sent), w.mayRepeat)
		if err == nil && name != "" {
			made = code.OneFile(made, name)
		}
		return made, err
	})
}

// DraftOf is a draft of an operation, the last by its name; its name is "" where there is none.
func (w *Workspace) DraftOf(contractName, operation string) DraftRef {
	ref := DraftRef{Contract: contractName, Operation: operation}
	for _, d := range w.Drafts() {
		if d.Contract == contractName && d.Operation == operation {
			ref = d
		}
	}
	return ref
}

// Shown is what a draft of an operation holds, as an example for others; nil where there is none.
func (w *Workspace) Shown(c *contract.Contract, contractName string, op *contract.Operation) *message.Draft {
	src, err := w.ReadDraft(w.DraftOf(contractName, op.Name))
	if err != nil || op.Input == nil {
		return nil
	}
	return message.NewDraft(c.Schemas, op.Input.Element, src)
}

// WriteFacade writes a façade in Go for the port of the call into a folder, never over edits. pages
// are the files that it serves.
func (w *Workspace) WriteFacade(
	dir string, p *call.Plan, only []string, show bool, pages map[string][]byte,
) (kept *code.Kept, missing []string, err error) {
	return w.written(dir, p, nil, only, show, func(wish *code.Wish) (*code.Result, error) {
		return code.Facade(wish, pages)
	})
}

// written writes what is made of the call into a folder.
func (w *Workspace) written(
	dir string, p *call.Plan, sent *exchange.Exchange, only []string, show bool,
	makes func(wish *code.Wish) (*code.Result, error),
) (kept *code.Kept, missing []string, err error) {
	body, header, err := Handed(p, sent)
	if err != nil {
		return nil, nil, err
	}
	wish, files, err := w.ProgramOf(p, body, header)
	if err != nil {
		return nil, nil, err
	}
	wish.Only = only
	made, err := makes(wish)
	if err != nil {
		return nil, nil, err
	}
	for name, b := range files {
		made.Files = append(made.Files, code.File{Name: name, Text: string(b)})
	}
	kept, err = code.Keep(dir, made.Name, made.Files, show)
	if kept != nil {
		kept.Program = made
	}
	return kept, made.Missing, err
}

// mayRepeat tells whether no draft of an operation is marked as one that changes things.
func (w *Workspace) mayRepeat(operation string) bool {
	for _, d := range w.Drafts() {
		if d.Operation == operation && w.Config().DraftSettings[d.ID()].Changes {
			return false
		}
	}
	return true
}

// recorded is the reply of an exchange, masked, or an example that the contract allows.
func (w *Workspace) recorded(p *call.Plan, sent *exchange.Exchange) []byte {
	if sent != nil {
		if l := sent.Redact(nil).Leg(); l != nil && l.Response.Complete && len(l.Readable()) > 0 {
			return l.Readable()
		}
	}
	version := p.Port.Version
	o := p.Port.Operation(p.Operation)
	if o == nil || o.Output == nil || o.Output.Element == nil {
		return nil
	}
	reply := message.Sample(p.Contract.Schemas, o.Output.Element, message.Want{
		Encoded: o.Use == "encoded", Example: &schema.Examples{Day: schema.ExampleDay()},
	})
	envelope, _ := soap.Build(version, nil, reply)
	return envelope
}

// WriteProgram writes a program that makes a call into a folder, never over edits. only are
// operations besides the one that is called, none: all. With show nothing is written.
func (w *Workspace) WriteProgram(
	language, dir string, p *call.Plan, sent *exchange.Exchange, only []string, show bool,
) (kept *code.Kept, missing []string, err error) {
	return w.written(dir, p, sent, only, show, func(wish *code.Wish) (*code.Result, error) {
		return code.Make(language, wish)
	})
}
