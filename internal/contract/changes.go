package contract

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/soap"
)

// Change is one difference between two states of a description, as a client
// feels it.
type Change struct {
	What     string `json:"what"`     // operation gone, field added, type changed, …
	Where    string `json:"where"`    // Operation, or Operation input vessel/name
	Before   string `json:"before"`   // as text, "" it is new
	After    string `json:"after"`    // as text, "" it is gone
	Breaking bool   `json:"breaking"` // a client made for the old one may fail
}

// String is the change in one line.
func (c Change) String() string {
	s := c.Where + ": " + c.What
	switch {
	case c.Before != "" && c.After != "":
		s += ", " + c.Before + " → " + c.After
	case c.Before != "":
		s += ", it was " + c.Before
	case c.After != "":
		s += ", " + c.After
	}
	return s
}

// Changes are the differences from one state of a description to another,
// those that break a client first.
func Changes(before, after *Contract) []Change {
	var d differ
	d.operations(before, after)
	d.ports(before, after)
	d.demands(before, after)
	slices.SortStableFunc(d.out, func(a, b Change) int {
		switch {
		case a.Breaking == b.Breaking:
			return 0
		case a.Breaking:
			return -1
		}
		return 1
	})
	return d.out
}

type differ struct{ out []Change }

func (d *differ) add(breaking bool, what, where, before, after string) {
	d.out = append(d.out, Change{what, where, before, after, breaking})
}

func firstOf(c *Contract, name string) *Operation {
	for _, p := range c.Ports() {
		if o := p.Operation(name); o != nil && p.Version != soap.Unset {
			return o
		}
	}
	return nil
}

func (d *differ) operations(before, after *Contract) {
	for _, name := range before.OperationNames() {
		a, b := firstOf(before, name), firstOf(after, name)
		if b == nil {
			d.add(true, "operation gone", name, a.Signature(), "")
			continue
		}
		if a.Action != b.Action || a.HasAction != b.HasAction {
			d.add(true, "action changed", name, quoted(a), quoted(b))
		}
		if a.Style != b.Style || a.Use != b.Use {
			d.add(true, "style changed", name, a.Style+"/"+a.Use, b.Style+"/"+b.Use)
		}
		if a.OneWay() != b.OneWay() {
			words := map[bool]string{true: "no reply is due", false: "a reply is due"}
			d.add(true, "reply changed", name, words[a.OneWay()], words[b.OneWay()])
		}
		d.message(name+" input", a.Input, b.Input, true)
		if !a.OneWay() && !b.OneWay() {
			d.message(name+" reply", a.Output, b.Output, false)
		}
		d.named("fault", name, faultsOf(a), faultsOf(b), false, false)
		d.named("header block", name, headersOf(a), headersOf(b), false, true)
	}
	for _, name := range after.OperationNames() {
		if o := firstOf(before, name); o == nil {
			d.add(false, "operation new", name, "", firstOf(after, name).Signature())
		}
	}
}

func quoted(o *Operation) string {
	if !o.HasAction {
		return "none"
	}
	return fmt.Sprintf("%q", o.Action)
}

func faultsOf(o *Operation) map[string]string {
	m := map[string]string{}
	for _, f := range o.Faults {
		m[f.Name] = f.Fields()
	}
	return m
}

func headersOf(o *Operation) map[string]string {
	m := map[string]string{}
	for _, h := range o.Headers {
		m[h.Name.Local] = (&Message{Element: h}).Fields()
	}
	return m
}

// named compares things by their names.
func (d *differ) named(kind, where string, before, after map[string]string, goneBreaks, newBreaks bool) {
	for _, n := range sorted(before) {
		now, ok := after[n]
		switch {
		case !ok:
			d.add(goneBreaks, kind+" gone", where+" "+n, before[n], "")
		case now != before[n]:
			d.add(true, kind+" changed", where+" "+n, before[n], now)
		}
	}
	for _, n := range sorted(after) {
		if _, ok := before[n]; !ok {
			d.add(newBreaks, kind+" new", where+" "+n, "", after[n])
		}
	}
}

func sorted(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (d *differ) message(where string, before, after *Message, input bool) {
	if before == nil || after == nil || before.Element == nil || after.Element == nil {
		return
	}
	if before.Element.Name != after.Element.Name {
		d.add(true, "body element renamed", where, before.Element.Name.String(), after.Element.Name.String())
	}
	a, b := fieldsOf(before.Element), fieldsOf(after.Element)
	for _, path := range a.order {
		d.field(where+" "+path, a.fields[path], b.fields[path], input)
	}
	for _, path := range b.order {
		if _, ok := a.fields[path]; ok || b.above(path, a) {
			continue // told with the field that it is in
		}
		f := b.fields[path]
		d.add(input && f.least > 0, "field added", where+" "+path, "", f.occurs()+f.words)
	}
}

// field compares one field. Of an input it matters what a client sends, of a
// reply what it must be able to read.
func (d *differ) field(where string, a, b *field, input bool) {
	switch {
	case b == nil:
		if !a.below {
			d.add(true, "field gone", where, a.words, "")
		}
		return
	case a.least == 0 && b.least > 0:
		d.add(input, "field required now", where, "", b.words)
	case a.least > 0 && b.least == 0:
		d.add(!input, "field optional now", where, "", b.words)
	}
	if a.most != b.most {
		fewer := b.most != schema.Unbounded && (a.most == schema.Unbounded || b.most < a.most)
		d.add(fewer == input, "repeats changed", where, most(a.most), most(b.most))
	}
	if a.nillable != b.nillable {
		d.add(
			b.nillable != input,
			"nil changed",
			where,
			map[bool]string{true: "may be nil", false: "never nil"}[a.nillable],
			map[bool]string{true: "may be nil", false: "never nil"}[b.nillable],
		)
	}
	if a.words != b.words {
		d.add(true, "type changed", where, a.words, b.words)
	}
	for _, v := range a.allowed {
		if len(b.allowed) > 0 && !slices.Contains(b.allowed, v) {
			d.add(input, "value gone", where, v, "")
		}
	}
	for _, v := range b.allowed {
		if len(a.allowed) > 0 && !slices.Contains(a.allowed, v) {
			d.add(!input, "value new", where, "", v)
		}
	}
}

func most(n int) string {
	if n == schema.Unbounded {
		return "any number"
	}
	return fmt.Sprintf("up to %d", n)
}

// field is what a client needs to know of a field.
type field struct {
	least, most int
	nillable    bool
	words       string // type and bounds, or the fields within
	allowed     []string
	below       bool // within another field
}

func (f *field) occurs() string {
	switch {
	case f.most == schema.Unbounded || f.most > 1:
		return most(f.most) + ", "
	case f.least == 0:
		return "optional, "
	}
	return ""
}

type fieldList struct {
	order  []string
	fields map[string]*field
}

// Paths are the fields of a message: vessel/name, @unit. A type that contains
// itself is followed once.
func (m *Message) Paths() []string {
	if m == nil || m.Element == nil {
		return nil
	}
	return fieldsOf(m.Element).order
}

// above tells whether a field lies within one that another message has not.
func (f *fieldList) above(path string, other *fieldList) bool {
	for i := strings.LastIndexByte(path, '/'); i > 0; i = strings.LastIndexByte(path[:i], '/') {
		if _, ok := other.fields[path[:i]]; !ok {
			return true
		}
	}
	return false
}

const maxFields = 20000

// fieldsOf lists the fields of an element by their paths. A type that contains
// itself is followed once.
func fieldsOf(e *schema.Element) *fieldList {
	f := &fieldList{fields: map[string]*field{}}
	f.content(e.TypeOf(), "", map[schema.Type]bool{})
	return f
}

func (f *fieldList) put(path string, x *field) {
	if _, ok := f.fields[path]; ok || len(f.order) >= maxFields {
		return
	}
	x.below = strings.Contains(path, "/")
	f.fields[path] = x
	f.order = append(f.order, path)
}

func (f *fieldList) content(t schema.Type, path string, within map[schema.Type]bool) {
	c, ok := t.(*schema.Complex)
	if !ok || within[t] || len(f.order) >= maxFields {
		return
	}
	within[t] = true
	for _, a := range c.Attrs {
		least := 0
		if a.Required {
			least = 1
		}
		f.put(
			under(path, "@"+a.Name.Local),
			&field{least: least, most: 1, words: bounds(a.Type), allowed: schema.Allowed(a.Type)},
		)
	}
	f.particle(c.Content, path, 1, 1, within)
	delete(within, t)
}

func (f *fieldList) particle(p *schema.Particle, path string, least, most int, within map[schema.Type]bool) {
	if p == nil || p.Max == 0 {
		return
	}
	least, most = min(least, p.Min), times(most, p.Max)
	switch {
	case p.Element != nil:
		e := p.Element
		x := &field{least: least, most: most, nillable: e.Nillable}
		if st := schema.SimpleOf(e.TypeOf()); st != nil {
			x.words, x.allowed = bounds(st), schema.Allowed(st)
		} else {
			x.words = "fields"
		}
		at := under(path, e.Name.Local)
		if f.fields[at] != nil {
			return
		}
		f.put(at, x)
		f.content(e.TypeOf(), at, within)
	case p.Any != nil:
		f.put(under(path, "any element"), &field{least: least, most: most, words: "any element"})
	default:
		if p.Group.Compositor == schema.Choice && len(p.Group.Particles) > 1 {
			least = 0
		}
		for _, q := range p.Group.Particles {
			f.particle(q, path, least, most, within)
		}
	}
}

// bounds is a type in words without its list of values, which are compared one
// by one.
func bounds(t *schema.Simple) string {
	w := schema.Bounds(t)
	if n := len(schema.Allowed(t)); n > 0 {
		w = strings.Replace(w, fmt.Sprintf("one of %d", n), "one of a list", 1)
	}
	return w
}

func under(path, name string) string {
	if path == "" {
		return name
	}
	return path + "/" + name
}

func (d *differ) ports(before, after *Contract) {
	for _, a := range before.Ports() {
		if a.Version == soap.Unset {
			continue
		}
		b := after.Port(a.Name)
		if b == nil {
			d.add(true, "port gone", a.Name, a.Address, "")
			continue
		}
		if a.Version != b.Version {
			d.add(true, "SOAP version changed", a.Name, a.Version.String(), b.Version.String())
		}
		if a.Address != b.Address {
			d.add(true, "address changed", a.Name, a.Address, b.Address)
		}
	}
	for _, b := range after.Ports() {
		if before.Port(b.Name) == nil && b.Version != soap.Unset {
			d.add(false, "port new", b.Name, "", b.Address)
		}
	}
}

func (d *differ) demands(before, after *Contract) {
	texts := func(c *Contract) map[string]string {
		m := map[string]string{}
		for _, x := range c.Demands {
			m[x.Text] = ""
		}
		return m
	}
	d.named("demand", "security", texts(before), texts(after), false, true)
}
