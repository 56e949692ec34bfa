package code

import (
	"bytes"
	"embed"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"text/template"

	"orenda/internal/contract"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

//go:embed templates/*.tmpl
var templates embed.FS

// Wish is what a program is to be.
type Wish struct {
	Name     string             // of the service
	Service  string             // name of the contract, as paths of a façade have it
	Contract *contract.Contract // that describes it
	Port     *contract.Port     // that is called
	Only     []string           // operations besides the one that is called; none: all of the port
	Call     string             // the operation that the example calls
	Body     xmltree.Node       // with this message
	Settings Settings           // of the call
	Missing  []string           // what the call does and a program cannot, in words
}

// File is a file of a program.
type File struct {
	Name string // relative, with slashes
	Text string // its content
}

// Result is a program that was written.
type Result struct {
	Name    string     // tells it from other programs in the same folder
	Files   []File     // of it
	Build   [][]string // commands, in its folder
	Run     []string   // the example
	Secret  string     // variable of the environment that holds the secret, "" none is needed
	Address string     // variable of the environment that changes the address
	Missing []string   // what the call does and the program does not, in words
}

// page is what a template is given.
type page struct {
	*Program
	Package string // as the language names its unit
	lang    *Language
}

// Language is a language in which programs are written.
type Language struct {
	Name     string                                            // as it is asked for
	files    func(p *Program) (unit string, files [][2]string) // name of a file, and its template
	build    func(p *Program) [][]string
	run      func(p *Program) []string
	signs    bool // its standard library can sign XML
	closed   bool // its enumerations hold no other value than those that are listed
	quote    func(string) string
	reserved []string
	funcs    template.FuncMap
	tidy     func(name, text string) (string, error)
}

// Names are the languages, in the order in which they are named.
func Names() (out []string) {
	for _, l := range languages() {
		out = append(out, l.Name)
	}
	return out
}

// Make writes the program of a wish in a language.
func Make(language string, w *Wish) (*Result, error) {
	all := languages()
	i := slices.IndexFunc(all, func(l *Language) bool { return l.Name == language })
	if i < 0 {
		return nil, fmt.Errorf("%q is none of the languages; they are %s", language, strings.Join(Names(), ", "))
	}
	return written(all[i], w)
}

// written writes the program of a wish by what a language is.
func written(l *Language, w *Wish) (*Result, error) {
	p, err := program(w, l.reserved)
	if err != nil {
		return nil, err
	}
	if signs := p.Settings.Sign; len(signs) > 0 && !l.signs {
		p.Missing = append(p.Missing, fmt.Sprintf("it signs the message (%s): add a library for XML signatures",
			strings.Join(signs, ", ")))
		p.Settings.Sign = nil
	}
	if l.closed {
		p.Missing = append(p.Missing, unlisted(p.Value)...)
	}
	out := &Result{
		Name: l.Name + "-" + Kebab(p.Name), Build: l.build(p), Run: l.run(p), Address: p.Settings.Prefix + "_ADDRESS",
		Missing: p.Missing,
	}
	if p.Settings.Secret() {
		out.Secret = p.Settings.Prefix + "_SECRET"
	}
	unit, files := l.files(p)
	data := &page{p, unit, l}
	t := template.New("").Funcs(data.funcs()).Funcs(l.funcs)
	parts := []string{"templates/shared.tmpl"}
	for _, f := range files {
		parts = append(parts, "templates/"+f[1]+".tmpl")
	}
	if t, err = t.ParseFS(templates, parts...); err != nil {
		return nil, err
	}
	for _, f := range files {
		var b bytes.Buffer
		if err := t.ExecuteTemplate(&b, f[1]+".tmpl", data); err != nil {
			return nil, err
		}
		text := b.String()
		if l.tidy != nil {
			if text, err = l.tidy(f[0], text); err != nil {
				return nil, fmt.Errorf("%s: %w\n%s", f[0], err, b.String())
			}
		}
		out.Files = append(out.Files, File{f[0], text})
	}
	return out, nil
}

// program makes the model that the templates are given.
func program(w *Wish, reserved []string) (*Program, error) {
	m := &maker{set: w.Contract.Schemas, types: map[schema.Type]*Type{}, names: map[string]bool{}}
	for _, name := range slices.Concat(taken, reserved, []string{w.Name}) {
		m.names[Pascal(name)] = true
	}
	only := w.Only
	if len(only) > 0 && !slices.Contains(only, w.Call) {
		only = append([]string{w.Call}, only...)
	}
	p := &Program{
		Name: oneLine(
			w.Name,
		), Source: oneLine(redacted(w.Contract.Source)), Operations: m.operations(w.Port, only), Settings: w.Settings,
	}
	for _, m := range w.Missing {
		p.Missing = append(p.Missing, oneLine(m))
	}
	for _, name := range only {
		if !slices.ContainsFunc(p.Operations, func(o *Operation) bool { return o.Name == name }) {
			return nil, fmt.Errorf("the port %s has no operation %s", w.Port.Name, name)
		}
	}
	for _, o := range p.Operations {
		if o.Name == w.Call {
			p.Call = o
		}
	}
	if p.Call == nil {
		return nil, fmt.Errorf("the port %s has no operation %s", w.Port.Name, w.Call)
	}
	p.Types = m.usedFrom(p.Operations)
	if err := p.writable(); err != nil {
		return nil, err
	}
	p.Value = valueOf(w.Body, p.Call.In)
	for _, o := range w.Port.Operations {
		if o.Use == "encoded" {
			p.Missing = append(p.Missing, "the types that SOAP encoding writes into each element (xsi:type)")
			break
		}
	}
	return p, nil
}

// redacted is an address without the password in it.
func redacted(source string) string {
	if u, err := url.Parse(source); err == nil && u.User != nil {
		return u.Redacted()
	}
	return source
}

// taken are names that the programs have for their own.
//
//nolint:gochecknoglobals // a table: it is never written to
var taken = []string{
	"client",
	"fault",
	"decimal",
	"date",
	"time",
	"date time",
	"to",
	"new",
	"node",
	"reader",
	"writer",
	"settings",
	"element",
	"example",
	"string",
	"object",
	"list",
	"error",
	"exception",
	"soap fault",
	"integer",
	"boolean",
}

// prefixed is a namespace with the prefix that the messages give it.
type prefixed struct{ Prefix, Space string }

// prefixes are the namespaces of what is sent.
func (p *Program) prefixes() (out []prefixed) {
	add := func(space string) {
		if space != "" && !slices.ContainsFunc(out, func(q prefixed) bool { return q.Space == space }) {
			out = append(out, prefixed{fmt.Sprintf("n%d", len(out)+1), space})
		}
	}
	for _, o := range p.Operations {
		add(o.InSpace)
	}
	for _, t := range p.Types {
		for _, f := range t.Fields {
			add(f.Space)
		}
	}
	for _, t := range p.Types {
		if slices.ContainsFunc(t.Fields, func(f *Field) bool { return f.Nil && !f.Optional }) {
			return append(out, prefixed{"xsi", schema.XSI})
		}
	}
	return out
}

// funcs are what all templates share.
func (p *page) funcs() template.FuncMap {
	prefixes := p.prefixes()
	return template.FuncMap{
		"pascal": Pascal, "camel": Camel, "snake": Snake, "upper": Upper, "kebab": Kebab,
		"str":      p.lang.quote,
		"prefixes": func() []prefixed { return prefixes },
		"tag": func(space, local string) string {
			for _, q := range prefixes {
				if q.Space == space {
					return q.Prefix + ":" + local
				}
			}
			return local
		},
		"attr": func(space string) string { return `"` + xmltree.EscapeAttr(space) + `"` },
		"envelopeNS": func() string {
			return map[bool]string{true: soap.V12.Namespace(), false: soap.V11.Namespace()}[p.Settings.SOAP12]
		},
		"passwordType": func(kind string) string { return tokenProfile + "#Password" + kind },
		"base64Binary": func() string { return messageSecurity + "#Base64Binary" },
		"wsseNS":       func() string { return wsse },
		"wsuNS":        func() string { return wsu },
		"sends":        func(q *Program, kinds ...Kind) bool { return q.uses(sent, kinds...) },
		"reads":        func(q *Program, kinds ...Kind) bool { return q.uses(came, kinds...) },
		"uses": func(q *Program, kinds ...Kind) bool {
			return q.uses(func(*Type) bool { return true }, kinds...)
		},
		"readsHow": func(q *Program, how string) bool {
			return q.has(came, func(f *Field) bool { return f.stands() == how })
		},
		"converts":  func(q *Program) bool { return q.has(came, (*Field).converted) },
		"readsAttr": func(q *Program) bool { return q.has(came, func(f *Field) bool { return f.Attr }) },
		"sendsAttr": func(q *Program) bool { return q.has(sent, func(f *Field) bool { return f.Attr }) },
		"sendsNil":  func(q *Program) bool { return q.has(sent, func(f *Field) bool { return f.Nil && !f.Optional }) },
		"after": func(doc string) string {
			if doc == "" {
				return ""
			}
			return " " + strings.TrimSuffix(doc, ".") + "."
		},
		"about":      about,
		"attributes": attributes,
		"comment":    comment,
		"plain":      oneLine,
		"percent":    func(s string) string { return strings.ReplaceAll(s, "%", "%%") },
		"note":       note,
		"indent": func(by int, text string) string {
			return strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", by))
		},
	}
}

const (
	wsse            = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	wsu             = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
	tokenProfile    = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0"
	messageSecurity = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0"
)

// uses tells whether a field of a type that passes has one of the kinds.
func (p *Program) uses(of func(t *Type) bool, kinds ...Kind) bool {
	return p.has(of, func(f *Field) bool { return slices.Contains(kinds, f.Kind) })
}

// has tells whether a field that passes stands in a type that passes.
func (p *Program) has(of func(t *Type) bool, passes func(f *Field) bool) bool {
	return slices.ContainsFunc(p.Types, func(t *Type) bool { return of(t) && slices.ContainsFunc(t.Fields, passes) })
}

func sent(t *Type) bool { return t.Sent }
func came(t *Type) bool { return t.Came }

// about says what a structure is.
func about(t *Type) string {
	switch {
	case t.Doc != "":
		return t.Doc
	case t.Sent && t.Came:
		return Pascal(t.Name) + " stands in requests and in replies."
	case t.Sent:
		return Pascal(t.Name) + " stands in requests."
	}
	return Pascal(t.Name) + " stands in replies."
}

// attributes are the fields of a structure that are attributes.
func attributes(t *Type) (out []*Field) {
	for _, f := range t.Fields {
		if f.Attr {
			out = append(out, f)
		}
	}
	return out
}

// commentWidth is how long the lines of comments are.
const commentWidth = 78

// comment is a text in lines that begin as comments do.
func comment(lead, text string) string {
	var lines []string
	line := lead
	for _, w := range strings.Fields(text) {
		if len(line)+len(w) > commentWidth && line != lead {
			lines = append(lines, strings.TrimRight(line, " "))
			line = lead
		}
		line += w + " "
	}
	return strings.Join(append(lines, strings.TrimRight(line, " ")), "\n")
}

// note says of a field what its type does not.
func note(f *Field) string {
	var parts []string
	switch {
	case f.Choice != "":
		parts = append(parts, "one of "+f.Choice)
	case f.Optional && !f.Many:
		parts = append(parts, "may be left out")
	}
	if f.Nil {
		parts = append(parts, "may be nil")
	}
	if f.Doc != "" {
		parts = append(parts, f.Doc)
	}
	return strings.Join(parts, "; ")
}
