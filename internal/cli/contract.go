package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/identity"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

func (t *commandLine) describeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "describe FILE|URL", Short: "Services, ports, operations, signatures and demands of a description",
		Args:    cobra.ExactArgs(1),
		Example: "  orenda describe https://host/service?wsdl --json",
	}
	t.jsonFlag(cmd)
	set := t.settingFlags(cmd, "address", "expect")
	user := cmd.Flags().String("user", "", "user name, with --secret-from and --http-auth")
	secret := cmd.Flags().String("secret-from", "", "where the user's secret is: env:VAR, file:PATH or command:CMD")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if *user != "" {
			t.as = &identity.Identity{Name: *user, User: *user, Secret: *secret}
		}
		f, err := t.contractFrom(cmd.Context(), args[0], set())
		if err != nil {
			return err
		}
		d := describe(f.Contract)
		if t.asJSON {
			return t.printJSON(d)
		}
		t.printDescription(d)
		return nil
	}
	return cmd
}

type description struct {
	Source          string             `json:"source"`
	TargetNamespace string             `json:"targetNamespace"`
	Documentation   string             `json:"documentation"`
	Services        []describedService `json:"services"`
	Demands         []describedDemand  `json:"demands"`
	Counts          map[string]int     `json:"counts"`
	Unread          []contract.Unread  `json:"unread"`
	Odd             []contract.Unread  `json:"odd"`
}

type describedDemand struct {
	Text      string `json:"text"`
	Assertion string `json:"assertion"`
	At        string `json:"at"`
}

type describedService struct {
	Name          string          `json:"name"`
	Namespace     string          `json:"namespace"`
	Documentation string          `json:"documentation"`
	Ports         []describedPort `json:"ports"`
}

type describedPort struct {
	Name        string               `json:"name"`
	Binding     string               `json:"binding"`
	Address     string               `json:"address"`
	Transport   string               `json:"transport"`
	SOAPVersion string               `json:"soapVersion"`
	Style       string               `json:"style"`
	Operations  []describedOperation `json:"operations"`
}

type describedOperation struct {
	Name          string   `json:"name"`
	Documentation string   `json:"documentation"`
	Style         string   `json:"style"`
	Use           string   `json:"use"`
	SOAPAction    string   `json:"soapAction"`
	OneWay        bool     `json:"oneWay"`
	Input         string   `json:"input"`
	Output        string   `json:"output"`
	Faults        []string `json:"faults"`
	Headers       []string `json:"headers"`
	Signature     string   `json:"signature"`
}

func describe(c *contract.Contract) description {
	d := description{
		Source:          c.Source,
		TargetNamespace: c.Target,
		Documentation:   c.Documentation,
		Services:        []describedService{},
		Demands:         []describedDemand{},
		Unread:          c.Unread,
	}
	d.Odd = c.Odd()
	if d.Unread == nil {
		d.Unread = []contract.Unread{}
	}
	operations := map[string]bool{}
	for _, s := range c.Services {
		ds := describedService{
			Name:          s.Name,
			Namespace:     s.Namespace,
			Documentation: s.Documentation,
			Ports:         []describedPort{},
		}
		for _, p := range s.Ports {
			dp := describedPort{
				Name:        p.Name,
				Binding:     p.Binding.Local,
				Address:     p.Address,
				Transport:   p.Transport,
				SOAPVersion: p.Version.String(),
				Style:       p.Style,
				Operations:  []describedOperation{},
			}
			for _, o := range p.Operations {
				operations[p.PortType.String()+"/"+o.Name] = true
				do := describedOperation{
					Name:          o.Name,
					Documentation: o.Documentation,
					Style:         o.Style,
					Use:           o.Use,
					SOAPAction:    o.Action,
					OneWay:        o.OneWay(),
					Input:         o.Name + "(" + o.Input.Fields() + ")",
					Faults:        []string{},
					Headers:       []string{},
					Signature:     o.Signature(),
				}
				if o.Output != nil {
					do.Output = o.Output.Fields()
				}
				for _, f := range o.Faults {
					do.Faults = append(do.Faults, f.Name+"("+f.Fields()+")")
				}
				for _, f := range o.HeaderFaults {
					do.Faults = append(do.Faults, "header: "+f.Name+"("+f.Fields()+")")
				}
				for _, h := range o.Headers {
					do.Headers = append(do.Headers, h.Name.String())
				}
				dp.Operations = append(dp.Operations, do)
			}
			ds.Ports = append(ds.Ports, dp)
		}
		d.Services = append(d.Services, ds)
	}
	for _, x := range c.Demands {
		d.Demands = append(d.Demands, describedDemand{x.Text, x.Assertion.String(), x.At})
	}
	elements, types := c.Schemas.Counts()
	d.Counts = map[string]int{
		"services":   len(c.Services),
		"ports":      len(c.Ports()),
		"portTypes":  c.PortTypes,
		"operations": len(operations),
		"elements":   elements,
		"types":      types,
	}
	return d
}

func (t *commandLine) printDescription(d description) {
	w := t.out
	p := func(format string, args ...any) {
		for i, a := range args {
			if s, ok := a.(string); ok {
				args[i] = safe.Line(s)
			}
		}
		fmt.Fprintf(w, format, args...)
	}
	p("%s\n", d.Source)
	if d.Documentation != "" {
		for _, l := range wrap(d.Documentation, 90) {
			p("  %s\n", l)
		}
	}
	shown := map[string]string{} // the same operations over another binding are not repeated
	for _, s := range d.Services {
		p("\nservice %s\n", s.Name)
		for _, port := range s.Ports {
			kind := "SOAP " + port.SOAPVersion + ", " + port.Style
			if port.SOAPVersion == "" {
				kind = "not SOAP, cannot be called"
			}
			p("\n  port %s  (%s)\n       %s\n", port.Name, kind, port.Address)
			var all []string
			for _, o := range port.Operations {
				all = append(all, o.Signature)
			}
			if other, ok := shown[strings.Join(all, "\n")]; ok {
				p("       the same operations as %s\n", other)
				continue
			}
			shown[strings.Join(all, "\n")] = port.Name
			for _, o := range port.Operations {
				p("\n    %s\n", o.Signature)
				if o.Documentation != "" {
					for _, l := range wrap(o.Documentation, 86) {
						p("      %s\n", l)
					}
				}
				if o.SOAPAction != "" {
					p("      action %s\n", o.SOAPAction)
				}
				for _, f := range o.Faults {
					p("      fault %s\n", f)
				}
				for _, h := range o.Headers {
					p("      header %s\n", h)
				}
			}
		}
	}
	if len(d.Demands) > 0 {
		p("\ndemands\n")
		for _, x := range d.Demands {
			p("  %s  (%s)\n", x.Text, x.At)
		}
	}
	t.printParts("not used", d.Unread)
	t.printParts("used, and not as the standard wants it", d.Odd)
}

func (t *commandLine) printParts(title string, list []contract.Unread) {
	for i, u := range list {
		if i == 0 {
			fmt.Fprintf(t.out, "\n%s\n", title)
		}
		fmt.Fprintf(t.out, "  %s: %s  (%s)\n", safe.Line(u.What), safe.Line(u.Why), safe.Line(u.Where))
	}
}

// operation finds an operation, at a port where one is named.
func operation(c *contract.Contract, name, port string) (*contract.Operation, error) {
	for _, p := range c.Ports() {
		if port != "" && p.Name != port || p.Version == soap.Unset {
			continue
		}
		if o := p.Operation(name); o != nil {
			return o, nil
		}
	}
	if port != "" && c.Port(port) == nil {
		var names []string
		for _, p := range c.Ports() {
			names = append(names, p.Name)
		}
		return nil, fmt.Errorf("there is no port %s; there are %s", port, strings.Join(names, ", "))
	}
	names := c.OperationNames()
	return nil, &endpoint.OperationError{Name: name, Near: near.Miss(name, names), Others: names, Unread: c.NotRead()}
}

func (t *commandLine) sampleCommand() *cobra.Command {
	var port string
	var all, reply, comments, example bool
	var seed int
	cmd := &cobra.Command{
		Use:     "sample FILE|URL OPERATION",
		Example: "  orenda sample berths.wsdl FindBerths\n  orenda sample berths.wsdl FindBerths --example --all",
		Short:   "A message that is ready to be filled in", Args: cobra.ExactArgs(2),
		Long: "Prints an envelope with every required field (--all: optional ones too). What is\nto be filled in is " +
			"a processing instruction, <?fill type?>.",
	}
	cmd.Flags().StringVar(&port, "port", "", "port whose version and style to use")
	cmd.Flags().BoolVar(&all, "all", false, "with optional parts and declared header blocks")
	cmd.Flags().BoolVar(&reply, "reply", false, "the expected reply instead")
	cmd.Flags().BoolVar(&comments, "comments", false, "type and bounds beside each field")
	cmd.Flags().
		BoolVar(&example, "example", false, "with example values that the types accept: nothing is to be filled in")
	cmd.Flags().IntVar(&seed, "seed", 0, "with --example: other values; the same for the same number")
	set := t.settingFlags(cmd, "address", "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		f, err := t.contractFrom(cmd.Context(), args[0], set())
		if err != nil {
			return err
		}
		o, err := operation(f.Contract, args[1], port)
		if err != nil {
			t.complain(err)
			return status(12)
		}
		m := o.Input
		if reply {
			if m = o.Output; m == nil {
				return fmt.Errorf("%s is one-way: no reply is due", o.Name)
			}
		}
		if m == nil || m.Element == nil {
			return unread{fmt.Errorf("the message of %s is not known", o.Name)}
		}
		want := message.Want{All: all, Comments: comments, Encoded: o.Use == "encoded"}
		if example {
			want.Example = &schema.Examples{Day: schema.ExampleDay(), Seed: max(seed, 0)}
		}
		body := message.Sample(f.Contract.Schemas, m.Element, want)
		var blocks [][]byte
		if all && !reply {
			h := message.NewHeader(f.Contract.Schemas, o.Headers, nil)
			for _, e := range o.Headers {
				h.Put(e.Name)
			}
			if blocks = h.Samples(); example {
				blocks = nil
				for _, e := range o.Headers {
					b := message.Sample(f.Contract.Schemas, e, want)
					blocks = append(
						blocks,
						append([]byte("    "), bytes.ReplaceAll(b, []byte("\n"), []byte("\n    "))...),
					)
				}
			}
		}
		env, _ := soap.Build(
			o.Port.Version,
			blocks,
			append([]byte("    "), bytes.ReplaceAll(body, []byte("\n"), []byte("\n    "))...),
		)
		if isTerminal(t.out) { // a terminal obeys what a description writes
			env = []byte(safe.Block(string(env)))
		}
		_, err = t.out.Write(env)
		return err
	}
	return cmd
}

type verdict struct {
	File   string         `json:"file"`
	Valid  bool           `json:"valid"`
	Errors []schema.Error `json:"errors"`
}

func (t *commandLine) validateCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "validate FILE|URL MESSAGE.xml...",
		Example: "  orenda validate berths.wsdl sent.xml",
		Short:   "Check messages against a description or an XML Schema",
		Args:    cobra.MinimumNArgs(2),
		Long: "Checks envelopes, or bare body elements, against a WSDL; or any documents\nagainst an .xsd. Exit " +
			"status 1 where one is invalid.",
	}
	t.jsonFlag(cmd)
	set := t.settingFlags(cmd, "address", "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		check, err := t.validator(cmd.Context(), args[0], set())
		if err != nil {
			return err
		}
		out := []verdict{}
		bad := false
		for _, name := range args[1:] {
			src, err := os.ReadFile(name)
			if err != nil {
				return unread{err}
			}
			v := verdict{File: name, Errors: check(src)}
			v.Valid = len(v.Errors) == 0
			if v.Errors == nil {
				v.Errors = []schema.Error{}
			}
			bad = bad || !v.Valid
			out = append(out, v)
			if t.asJSON {
				continue
			}
			if v.Valid {
				fmt.Fprintf(t.out, "%s: valid\n", safe.Line(name))
			}
			for _, e := range v.Errors {
				fmt.Fprintf(
					t.out,
					"%s:%d:%d: %s: %s\n",
					safe.Line(name),
					e.Line,
					e.Column,
					e.Rule,
					safe.Line(e.Message),
				)
			}
		}
		if t.asJSON {
			if err := t.printJSON(out); err != nil {
				return err
			}
		}
		if bad {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

// validator checks against a schema document, or against a description.
func (t *commandLine) validator(
	ctx context.Context,
	source string,
	set map[string][]string,
) (func([]byte) []schema.Error, error) {
	var c *contract.Contract
	alone := schema.New(func(loc, base string) ([]byte, string, error) {
		p := filepath.Join(filepath.Dir(base), loc)
		b, err := contract.ReadLocal(p)
		return b, p, err
	})
	if src, err := os.ReadFile(source); err == nil && !contract.IsRemote(source) {
		d, perr := xmltree.ParseContract(src, xmltree.Limits{Depth: 512})
		if perr == nil && d.Root().Is(schema.XSD, "schema") {
			alone.Add(d.Root(), source)
			alone.Resolve()
			for _, p := range alone.Problems {
				fmt.Fprintf(t.err, "%s: %s\n", safe.Line(source), safe.Line(p.String()))
			}
			return func(src []byte) []schema.Error { return validate(alone, nil, src) }, nil
		}
	}
	f, err := t.contractFrom(ctx, source, set)
	if err != nil {
		return nil, err
	}
	c = f.Contract
	return func(src []byte) []schema.Error { return validate(c.Schemas, c, src) }, nil
}

func validate(set *schema.Set, c *contract.Contract, src []byte) []schema.Error {
	d, err := xmltree.ParseAlone(src, xmltree.Limits{Depth: 1024})
	if err != nil {
		e := schema.Error{Rule: "well-formed", Message: err.Error(), Expected: nil, Line: 1, Column: 1}
		if se, ok := err.(*xmltree.SyntaxError); ok {
			e.Offset, e.Line, e.Column, e.Message = se.Offset, se.Line, se.Column, se.Msg
		}
		return []schema.Error{e}
	}
	n := d.Root()
	if e := soap.Read(d); e != nil && c != nil {
		if e.Fault != nil {
			return validateFault(set, e.Fault)
		}
		n = e.Payload
		if n.IsZero() {
			return nil
		}
	}
	name := schema.NameOf(n.Name())
	decl := set.Element(name)
	if c != nil {
		for _, p := range c.Ports() {
			for _, o := range p.Operations {
				for _, m := range []*contract.Message{o.Input, o.Output} {
					if decl == nil && m != nil && m.Element != nil && m.Element.Name == name {
						decl = m.Element
					}
				}
			}
		}
	}
	if decl == nil {
		var names []string
		for _, q := range set.Elements() {
			names = append(names, q.Local)
		}
		msg := fmt.Sprintf("the element %s is not declared", name)
		if m := near.Miss(name.Local, names); m != "" {
			msg += "; " + m + " is"
		}
		e := schema.Error{Offset: n.Span().Start, Path: n.Path(), Rule: "cvc-elt.1", Message: msg}
		e.Line, e.Column = xmltree.Position(d.Src, e.Offset)
		return []schema.Error{e}
	}
	return set.Validate(n, decl, schema.Options{})
}

// validateFault checks what a fault's detail holds, as far as it is declared: SOAP lets a
// service put there what it likes (SOAP 1.1 §4.4, SOAP 1.2 part 1 §5.4.5).
func validateFault(set *schema.Set, f *soap.Fault) (out []schema.Error) {
	if f.Detail.IsZero() {
		return nil
	}
	for n := range f.Detail.Children() {
		if decl := set.Element(schema.NameOf(n.Name())); decl != nil {
			out = append(out, set.Validate(n, decl, schema.Options{})...)
		}
	}
	return out
}
