package schema

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"orenda/internal/xmltree"
)

// Error is one place in which a document breaks its schema.
type Error struct {
	Offset   int          `json:"offset"`             // in bytes, from 0
	Line     int          `json:"line"`               // from 1
	Column   int          `json:"column"`             // in characters, from 1
	Path     string       `json:"path"`               // where: its path
	Rule     string       `json:"rule"`               // name of the validation rule, e.g. cvc-enumeration-valid
	Message  string       `json:"message"`            // in plain words
	Expected []string     `json:"expected,omitempty"` // what could stand there
	Span     xmltree.Span // where it stands

	at xmltree.Node // while it is being made: whose path it has
}

func (e *Error) Error() string { return e.Message }

// MaxErrors is how many errors are looked for where nothing else is said.
const MaxErrors = 100

// Options steer a validation.
type Options struct {
	Max     int             // errors to report at most; 0: MaxErrors
	Context context.Context // ends it; nil never
	// Unfilled tells whether an element or attribute awaits a value; its
	// content is then not checked. nil: none does.
	Unfilled func(xmltree.Node) bool
}

type validator struct {
	set    *Set
	opts   Options
	errors []Error
	doc    *xmltree.Document
	count  int
	ids    map[string]xmltree.Node // the elements that have them
	refs   []idref
	part   bool // of another validator: the rest is looked at beside it

	// Stacks of the elements that are being matched, so that none needs slices
	// of its own.
	kids   []uint32    // their indices in the document
	places []*Particle // where each stands in the content model; nil: nowhere
	names  []int32     // the set's numbers of the document's names
	attrs  []xmltree.Attribute
	m      matching
	taken  [128]taken

	// For identity constraints, where there are any.
	types     map[int]*Simple // of elements, by their index
	attrTypes map[int]*Simple // of attributes, by their offset
	tables    map[QName][]keyTable
}

// taken is a value that a type took. Rows of a list have the same values again and again: of
// a list of 10 KB, it saves a quarter of the validation.
type taken struct {
	t     *Simple
	value string
}

// check is [Simple.Check], with those values remembered that were right.
func (v *validator) check(t *Simple, value string) *ValueError {
	const long = 64
	n := len(value)
	if n == 0 || n > long {
		return t.Check(value)
	}
	h := t.rules().number ^ uint32(n)<<1 ^ uint32(value[n-1]) ^ uint32(value[n/2])<<3 ^ uint32(value[0])<<5
	at := &v.taken[(h^h>>7)%uint32(len(v.taken))]
	if at.t == t && at.value == value {
		return nil
	}
	e := t.Check(value)
	if e == nil {
		*at = taken{t, value}
	}
	return e
}

type idref struct {
	value string
	at    xmltree.Node
}

// Validate checks an element against its declaration and reports every place
// in which it breaks it, in document order as far as one pass can.
func (s *Set) Validate(n xmltree.Node, decl *Element, opts Options) []Error {
	s.Resolve()
	if opts.Max == 0 {
		opts.Max = MaxErrors
	}
	s.mu.Lock()
	s.compile(decl)
	s.mu.Unlock()
	v := s.validator(n.Doc(), opts)
	v.element(n, decl)
	for _, r := range v.refs {
		if v.ids[r.value].IsZero() {
			v.fail(
				r.at,
				r.at.Span(),
				"cvc-id",
				nil,
				"no element has the identifier %q that is referred to here",
				r.value,
			)
		}
	}
	slices.SortStableFunc(v.errors, func(a, b Error) int { return a.Offset - b.Offset })
	errs := v.errors[:min(len(v.errors), opts.Max)]
	var l xmltree.Locator
	for i := range errs {
		e := &errs[i]
		e.Line, e.Column = l.Position(v.doc.Src, e.Offset)
		e.Path, e.at = l.Path(e.at), xmltree.Node{}
	}
	return errs
}

// validator is one for a document, by declarations that are compiled.
func (s *Set) validator(d *xmltree.Document, opts Options) *validator {
	v := &validator{set: s, opts: opts, doc: d, ids: map[string]xmltree.Node{}}
	s.mu.Lock()
	for _, name := range d.Names() {
		v.names = append(v.names, s.ids[NameOf(name)])
	}
	s.mu.Unlock()
	if s.constrained {
		v.types, v.attrTypes, v.tables = map[int]*Simple{}, map[int]*Simple{}, map[QName][]keyTable{}
	}
	return v
}

// ValidateType is Validate for an element whose type alone is known.
func (s *Set) ValidateType(n xmltree.Node, t Type, opts Options) []Error {
	return s.Validate(n, &Element{Name: NameOf(n.Name()), Type: t, Nillable: true}, opts)
}

func (v *validator) fail(n xmltree.Node, at xmltree.Span, rule string, expected []string, format string, args ...any) {
	if len(v.errors) >= v.opts.Max {
		return
	}
	e := Error{
		Offset:   at.Start,
		Rule:     rule,
		Message:  fmt.Sprintf(format, args...),
		Expected: expected,
		Span:     at,
		at:       n,
	}
	v.errors = append(v.errors, e)
}

// tag is the span of an element's start tag.
func tag(n xmltree.Node) xmltree.Span {
	return xmltree.Span{Start: n.Span().Start, End: n.Inner().Start}
}

func (v *validator) stopped() bool {
	v.count++
	return len(v.errors) >= v.opts.Max || v.count%1024 == 0 && v.opts.Context != nil && v.opts.Context.Err() != nil
}

// head judges the start tag of an element, and gives its type.
func (v *validator) head(n xmltree.Node, decl *Element) (t Type, nilled bool) {
	if decl.Abstract {
		v.fail(n, tag(n), "cvc-elt.2", nil, "the element %s is abstract; one that stands for it is due", n.Name().Local)
	}
	t = decl.TypeOf()
	attrs := v.attrs[:0]
	for a := range n.Attrs() {
		switch {
		case a.Name.Space == xmltree.XMLNSNamespace:
		case a.Name.Local == "encodingStyle" && strings.Contains(a.Name.Space,
			"soap"): // SOAP 1.1 §4.1.1: it may stand on any element
		case a.Name.Space == XSI:
			switch a.Name.Local {
			case "type":
				t = v.instanceType(n, a, t, decl.Block)
			case "nil":
				val := strings.TrimSpace(a.Value)
				nilled = val == "true" || val == "1"
				if !decl.Nillable {
					v.fail(n, a.Span, "cvc-elt.3.1", nil, "the element %s may not be nil", n.Name().Local)
				}
			}
		default:
			attrs = append(attrs, a)
		}
	}
	v.attrs = attrs
	if c, ok := t.(*Complex); ok {
		if c.Abstract {
			v.fail(
				n,
				tag(n),
				"cvc-type.2",
				nil,
				"the type %s is abstract; xsi:type must name one derived from it",
				c.Name.Local,
			)
		}
		v.attributes(n, c, attrs)
	} else if len(attrs) > 0 {
		v.fail(n, attrs[0].Span, "cvc-type.3.1.1", nil, "the element %s has no attribute %s", n.Name().Local,
			attrs[0].Name.Qualified())
	}
	return t, nilled
}

//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (v *validator) element(n xmltree.Node, decl *Element) {
	if v.stopped() {
		return
	}
	if len(decl.keys) > 0 {
		defer v.constrain(n, decl)
	}
	t, nilled := v.head(n, decl)
	if nilled {
		if n.Inner().Len() > 0 && (!n.FirstChild().IsZero() || n.Text() != "") {
			v.fail(n, n.Inner(), "cvc-elt.3.2.1", nil, "the element %s is nil and must be empty", n.Name().Local)
		}
		return
	}
	if v.opts.Unfilled != nil && v.opts.Unfilled(n) {
		return
	}
	if st := SimpleOf(t); st != nil {
		if v.types != nil {
			v.types[n.Index()] = st
		}
		v.simple(n, decl, st)
		return
	}
	c := t.(*Complex)
	if c.Content == nil && !c.Mixed && n.Inner().Len() > 0 && n.FirstChild().IsZero() && n.Text() != "" {
		v.fail(n, n.Inner(), "cvc-complex-type.2.1", nil, "the element %s must be empty", n.Name().Local)
	} else if !c.Mixed {
		for k := range n.Nodes() {
			if kind := k.Kind(); (kind == xmltree.Text || kind == xmltree.CData) && strings.TrimFunc(k.Text(),
				isSpace) != "" {
				v.fail(n, k.Span(), "cvc-complex-type.2.3", nil, "text cannot stand in the element %s", n.Name().Local)
				break
			}
		}
		if n.FirstChild().IsZero() && strings.TrimFunc(n.Text(), isSpace) != "" && len(v.errors) == 0 {
			v.fail(n, n.Inner(), "cvc-complex-type.2.3", nil, "text cannot stand in the element %s", n.Name().Local)
		}
	}
	v.content(n, c)
}

func (v *validator) instanceType(n xmltree.Node, a xmltree.Attribute, declared Type, block Derivation) Type {
	q, ok := n.QName(a.Value)
	t := v.set.Type(NameOf(q))
	switch {
	case !ok || t == nil:
		v.fail(n, a.Span, "cvc-elt.4.2", nil, "the type %s that xsi:type names is not defined", a.Value)
		return declared
	case !DerivesFrom(t, declared):
		v.fail(
			n,
			a.Span,
			"cvc-elt.4.3",
			nil,
			"the type %s that xsi:type names is not derived from %s",
			a.Value,
			typeLabel(declared),
		)
		return declared
	case !mayStandFor(t, declared, (block|blockedBy(declared))&^BySubstitution):
		v.fail(n, a.Span, "cvc-elt.4.3", nil,
			"the type %s may not stand for %s: the schema blocks how it is derived", a.Value, typeLabel(declared))
	}
	return t
}

func typeLabel(t Type) string {
	if n := t.TypeName().Local; n != "" {
		return n
	}
	return "the type declared here"
}

//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (v *validator) attributes(n xmltree.Node, c *Complex, attrs []xmltree.Attribute) {
	have := 0
	for _, a := range attrs {
		name := NameOf(a.Name)
		var use *Attribute
		for _, u := range c.Attrs {
			if u.Name == name {
				use = u
				if u.Required {
					have++
				}
			}
		}
		if use == nil {
			if c.AnyAttr != nil && c.AnyAttr.Allows(name.Space) {
				if g := v.set.attribute(name); g != nil && c.AnyAttr.Process != "skip" {
					use = g
				} else if c.AnyAttr.Process == "strict" && g == nil {
					v.fail(n, a.Span, "cvc-wildcard", nil, "the attribute %s is not declared anywhere",
						a.Name.Qualified())
				}
			} else {
				var expected []string
				for _, u := range c.Attrs {
					expected = append(expected, u.Name.Local)
				}
				v.fail(n, a.Span, "cvc-complex-type.3.2.2", expected, "the element %s has no attribute %s",
					n.Name().Local, a.Name.Qualified())
			}
		}
		if use == nil || use.Type == nil {
			continue
		}
		if v.attrTypes != nil {
			v.attrTypes[a.Span.Start] = use.Type
		}
		if e := v.check(use.Type, a.Value); e != nil {
			v.fail(n, a.Inner, e.Rule, e.Expected, "attribute %s: %s", a.Name.Qualified(), e.Msg)
		} else if use.Fixed != nil && !equal(use.Type, a.Value, *use.Fixed) {
			v.fail(n, a.Inner, "cvc-attribute.4", []string{*use.Fixed}, "attribute %s must be %q", a.Name.Qualified(),
				*use.Fixed)
		}
		v.identity(n, use.Type, a.Value)
		v.prefixes(n, a.Inner, use.Type, a.Value)
	}
	if have == c.required {
		return
	}
	for _, u := range c.Attrs {
		if u.Required &&
			!slices.ContainsFunc(attrs, func(a xmltree.Attribute) bool { return NameOf(a.Name) == u.Name }) {
			v.fail(
				n,
				tag(n),
				"cvc-complex-type.4",
				[]string{u.Name.Local},
				"the element %s lacks its attribute %s",
				n.Name().Local,
				u.Name.Local,
			)
		}
	}
}

func (v *validator) identity(n xmltree.Node, t *Simple, value string) {
	switch t.rules().builtin {
	case "ID":
		v.identified(n, strings.Clone(t.Normalize(value)))
	case "IDREF":
		v.refs = append(v.refs, idref{t.Normalize(value), n})
	case "IDREFS":
		for _, r := range strings.Fields(value) {
			v.refs = append(v.refs, idref{r, n})
		}
	case "ENTITY", "ENTITIES": // only a document type declares entities, and a message has none
		v.fail(n, tag(n), "cvc-simple-type.2.2", nil, "no entity %s is declared", quote(value))
	}
}

// identified notes an identifier, which may stand once (part 1 §3.15.4).
func (v *validator) identified(n xmltree.Node, id string) {
	if !v.ids[id].IsZero() {
		v.fail(n, tag(n), "cvc-id", nil, "the identifier %q stands a second time", id)
	}
	v.ids[id] = n
}

func (v *validator) simple(n xmltree.Node, decl *Element, st *Simple) {
	if c := n.FirstChild(); !c.IsZero() {
		if st.Primitive == "base64Binary" && c.Name().Space == xop && c.Name().Local == "Include" {
			return // its value travels as a part of its own (XOP 1.0 §2.1)
		}
		v.fail(c, tag(c), "cvc-type.3.1.2", nil, "the element %s holds a value, not elements", n.Name().Local)
		return
	}
	value := n.Peek()
	if value == "" {
		switch {
		case decl.Fixed != nil:
			value = *decl.Fixed
		case decl.Default != nil:
			value = *decl.Default
		}
	}
	if e := v.check(st, value); e != nil {
		v.fail(n, n.Inner(), e.Rule, e.Expected, "%s: %s", n.Name().Local, e.Msg)
	} else if decl.Fixed != nil && !equal(st, value, *decl.Fixed) {
		v.fail(n, n.Inner(), "cvc-elt.5.2.2", []string{*decl.Fixed}, "%s must be %q", n.Name().Local, *decl.Fixed)
	}
	v.identity(n, st, value)
	v.prefixes(n, n.Inner(), st, value)
}

// xop is the namespace of the element that stands in a binary value for the part
// that holds it.
const xop = "http://www.w3.org/2004/08/xop/include"

// qualified tells whether values of the type are QNames.
func (s *Simple) qualified() bool { return s.Primitive == "QName" || s.Primitive == "NOTATION" }

// named tells whether values of the type are QNames, or hold some.
func (s *Simple) named(depth int) bool {
	switch {
	case depth > maxNesting:
		return false
	case s.Variety == List:
		return s.Item != nil && s.Item.named(depth+1)
	case s.Variety == Union:
		return slices.ContainsFunc(s.Members, func(m *Simple) bool { return m.named(depth + 1) })
	}
	return s.qualified()
}

// prefixes checks that the prefixes of QNames in a value are bound (part 2 §3.2.18), and that they
// are of those that are enumerated.
func (v *validator) prefixes(n xmltree.Node, at xmltree.Span, t *Simple, value string) {
	if !t.rules().names || v.check(t, value) != nil {
		return
	}
	if rule, expected, why := bound(n, t, value); why != "" {
		v.fail(n, at, rule, expected, "%s", why)
	}
}

// bound tells what is wrong with QNames in a value that is right by its form, where why is not "".
func bound(n xmltree.Node, t *Simple, value string) (rule string, expected []string, why string) {
	switch {
	case !t.rules().names:
		return "", nil, ""
	case t.Variety == List:
		for item := range strings.FieldsSeq(value) {
			if rule, expected, why = bound(n, t.Item, item); why != "" {
				return rule, expected, why
			}
		}
		return "", nil, ""
	case t.Variety == Union:
		for _, m := range t.Members {
			if m.Check(value) != nil {
				continue
			}
			r, e, w := bound(n, m, value)
			if w == "" {
				return "", nil, ""
			}
			if why == "" {
				rule, expected, why = r, e, w
			}
		}
		return rule, expected, why
	}
	q, ok := n.QName(t.Normalize(value))
	if !ok {
		return "cvc-datatype-valid", nil, fmt.Sprintf("the prefix of %s is not bound to a namespace", quote(value))
	}
	for _, f := range t.rules().steps {
		if len(f.names) > 0 && !slices.Contains(f.names, NameOf(q)) {
			return "cvc-enumeration-valid", f.Enumeration,
				fmt.Sprintf("%s is not one of %s", quote(value), listed(f.Enumeration))
		}
	}
	return "", nil, ""
}

// content matches the children against the model. Models are deterministic
// (part 1 §3.8.6), so each child decides its place alone.
func (v *validator) content(n xmltree.Node, c *Complex) {
	base, count := len(v.kids), 0
	for range n.Children() {
		count++
	}
	v.kids, v.places = slices.Grow(v.kids, count), slices.Grow(v.places, count) // at once: there may be millions
	for k := range n.Children() {
		v.kids, v.places = append(v.kids, uint32(k.Index())), append(v.places, nil)
	}
	end := len(v.kids)
	defer func() { v.kids, v.places = v.kids[:base], v.places[:base] }()
	v.m = matching{
		v:      v,
		kids:   v.kids[base:end],
		places: v.places[base:end],
		passed: v.m.passed[:0],
	}
	m := &v.m
	ok := true
	if c.Content != nil {
		var at int
		at, ok = m.particle(c.Content, 0)
		if ok && at < len(m.kids) {
			m.at, ok = at, false
			m.want = m.couldFollow(at)
		}
		ok = ok || c.counted && m.counted(c.Content)
	} else if len(m.kids) > 0 {
		ok = false
	}
	if !ok {
		m.report(n)
	}
	at := m.at
	if !ok && c.Content != nil {
		// Beyond an error, what can be told by its name alone is still checked.
		for i := base + at + 1; i < end; i++ {
			if v.places[i] == nil {
				v.places[i] = declared(c.Content, v.names[v.node(v.kids[i]).NameID()], 0)
			}
		}
	}
	if end-base >= worthSharing && !v.part && v.types == nil {
		v.share(v.kids[base:end], v.places[base:end])
		return
	}
	// The stacks grow while the children are looked at, so that each is taken
	// from them anew.
	for i := base; i < end; i++ {
		v.child(v.kids[i], v.places[i])
	}
}

func (v *validator) node(i uint32) xmltree.Node { return v.doc.NodeAt(int(i)) }

func (v *validator) child(i uint32, p *Particle) {
	n := v.node(i)
	switch {
	case p == nil:
	case p.Any != nil:
		v.wildcard(n, p.Any)
	default:
		if decl := p.starts.element(v.names[n.NameID()]); decl != nil {
			v.element(n, decl)
		}
	}
}

// worthSharing is how many children are looked at by several processors.
const worthSharing = 2048

// share looks at many children with all processors, each at its share of them.
// Only identifiers and constraints reach from one child to another: identifiers
// are put together at the end, and where there are constraints nothing is
// shared.
func (v *validator) share(kids []uint32, places []*Particle) {
	n := min(runtime.GOMAXPROCS(0), 8)
	parts := make([]*validator, n)
	var wait sync.WaitGroup
	for p := range parts {
		parts[p] = &validator{
			set:   v.set,
			opts:  v.opts,
			doc:   v.doc,
			names: v.names,
			ids:   map[string]xmltree.Node{},
			part:  true,
		}
		from, to := len(kids)*p/n, len(kids)*(p+1)/n
		wait.Go(func() {
			for i := from; i < to; i++ {
				parts[p].child(kids[i], places[i])
			}
		})
	}
	wait.Wait()
	for _, p := range parts {
		v.errors = append(v.errors, p.errors...)
		v.refs = append(v.refs, p.refs...)
		for _, id := range slices.SortedFunc(maps.Keys(p.ids), func(a,
			b string) int {
			return p.ids[a].Index() - p.ids[b].Index()
		}) {
			v.identified(p.ids[id], id)
		}
	}
}

// declared is the particle of an element that may have that name, nil where there is
// none.
func declared(p *Particle, id int32, depth int) *Particle {
	if depth > 30 {
		return nil
	}
	if p.Element != nil {
		if p.starts.element(id) == nil {
			return nil
		}
		return p
	}
	if p.Group != nil {
		for _, q := range p.Group.Particles {
			if d := declared(q, id, depth+1); d != nil {
				return d
			}
		}
	}
	return nil
}

func (v *validator) wildcard(n xmltree.Node, w *Wildcard) {
	if w.Process == "skip" || v.stopped() {
		return
	}
	if decl := v.set.Element(NameOf(n.Name())); decl != nil {
		v.element(n, decl)
		return
	}
	if t, ok := n.Attr(XSI, "type"); ok {
		if q, ok := n.QName(t); ok && v.set.Type(NameOf(q)) != nil {
			v.element(n, &Element{Name: NameOf(n.Name()), Type: AnyType(), Nillable: true})
			return
		}
	}
	if w.Process == "strict" {
		v.fail(n, tag(n), "cvc-wildcard", nil, "the element %s is not declared anywhere", n.Name().Local)
		return
	}
	// It is looked at as far as it is known (part 1 §3.3.4 cvc-assess-elt.2): as of any type.
	attrs := v.attrs[:0]
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace && a.Name.Space != XSI {
			attrs = append(attrs, a)
		}
	}
	v.attrs = attrs
	v.attributes(n, AnyType(), attrs)
	for k := range n.Children() {
		v.wildcard(k, w)
	}
}

// matching is the run of one element's children through its content model.
type matching struct {
	v        *validator
	kids     []uint32
	places   []*Particle
	at       int
	want     []string    // what could have stood at the error
	passed   []*startSet // optional things passed over at passedAt
	passedAt int
}

func (m *matching) kid(i int) xmltree.Node { return m.v.node(m.kids[i]) }

// has tells whether a child may begin a particle.
func (m *matching) has(st *startSet, i int) bool {
	if st.element(m.v.names[m.kid(i).NameID()]) != nil {
		return true
	}
	for _, w := range st.wild {
		if w.Allows(m.kid(i).Name().Space) {
			return true
		}
	}
	return false
}

// pass notes what was optional at position i and did not come.
func (m *matching) pass(st *startSet, i int) {
	if m.passedAt != i {
		m.passed, m.passedAt = m.passed[:0], i
	}
	m.passed = append(m.passed, st)
}

// couldFollow are the optional things that were passed over at position i.
func (m *matching) couldFollow(i int) (out []string) {
	if m.passedAt == i {
		for _, st := range m.passed {
			out = append(out, st.labels()...)
		}
	}
	return out
}

func (m *matching) particle(p *Particle, i int) (int, bool) {
	st := p.starts
	count := 0
	for (p.Max < 0 || count < p.Max) && i < len(m.kids) && m.has(st, i) {
		j, ok := m.term(p, st, i)
		if !ok {
			return j, false
		}
		if j == i {
			break
		}
		i = j
		count++
	}
	if count < p.Min && !(p.Group != nil && m.emptiable(p)) {
		m.at = i
		m.want = append(m.couldFollow(i), st.labels()...)
		return i, false
	}
	if p.Max < 0 || count < p.Max {
		m.pass(st, i)
	}
	return i, true
}

func (m *matching) emptiable(p *Particle) bool {
	if p.Group.Compositor == Choice {
		for _, q := range p.Group.Particles {
			if q.starts.empty {
				return true
			}
		}
		return len(p.Group.Particles) == 0
	}
	for _, q := range p.Group.Particles {
		if !q.starts.empty {
			return false
		}
	}
	return true
}

func (m *matching) term(p *Particle, st *startSet, i int) (int, bool) {
	switch {
	case p.Element != nil, p.Any != nil:
		m.places[i] = p
		return i + 1, true
	}
	switch p.Group.Compositor {
	case Choice:
		for _, q := range p.Group.Particles {
			if m.has(q.starts, i) {
				return m.particle(q, i)
			}
		}
		return i, true
	case All:
		return m.all(p, i)
	}
	for _, q := range p.Group.Particles {
		var ok bool
		if i, ok = m.particle(q, i); !ok {
			return i, false
		}
	}
	return i, true
}

func (m *matching) all(p *Particle, i int) (int, bool) {
	done := make([]bool, len(p.Group.Particles))
next:
	for i < len(m.kids) {
		for k, q := range p.Group.Particles {
			if !done[k] && m.has(q.starts, i) {
				done[k] = true
				m.places[i] = q
				i++
				continue next
			}
		}
		break
	}
	var missing []string
	for k, q := range p.Group.Particles {
		if !done[k] && q.Min > 0 {
			missing = append(missing, q.starts.labels()...)
		}
	}
	if missing != nil {
		m.at, m.want = i, missing
		return i, false
	}
	return i, true
}

// maxCounted is how many children are tried in all the ways to count them.
const maxCounted = 1000

// counted matches once more where a repeated group holds repeated things, as in
// (a{2,3}){2,3}: then each child still has one particle, but how many of them
// belong to one turn of the group only the whole can tell, and taking as many
// as there are was one way of several.
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (m *matching) counted(p *Particle) bool {
	if len(m.kids) > maxCounted {
		return false
	}
	type place struct {
		p *Particle
		i int
	}
	known := map[place][]int{}
	union := func(a, b []int) []int {
		a = append(slices.Clip(a), b...)
		slices.Sort(a)
		return slices.Compact(a)
	}
	var ends func(p *Particle, i int) []int
	once := func(p *Particle, i int) []int {
		switch {
		case p.Group == nil:
			if i < len(m.kids) && m.has(p.starts, i) {
				return []int{i + 1}
			}
			return nil
		case p.Group.Compositor == All:
			if j, ok := m.all(p, i); ok {
				return []int{j}
			}
			return nil
		case p.Group.Compositor == Choice:
			var out []int
			for _, q := range p.Group.Particles {
				out = union(out, ends(q, i))
			}
			return out
		}
		at := []int{i}
		for _, q := range p.Group.Particles {
			var next []int
			for _, j := range at {
				next = union(next, ends(q, j))
			}
			at = next
		}
		return at
	}
	// ends are the places at which p may end that begins at i.
	ends = func(p *Particle, i int) []int {
		if out, ok := known[place{p, i}]; ok {
			return out
		}
		at, out := []int{i}, []int(nil)
		if p.Min == 0 {
			out = at
		}
		for count := 1; (p.Max < 0 || count <= p.Max) && len(at) > 0; count++ {
			var next []int
			for _, j := range at {
				next = union(next, once(p, j))
			}
			if slices.Equal(next, at) { // it may be empty: any count is reached
				out = union(out, at)
				break
			}
			if at = next; count >= p.Min {
				at = slices.DeleteFunc(at, func(j int) bool { return slices.Contains(out, j) })
				out = union(out, at)
			}
		}
		known[place{p, i}] = out
		return out
	}
	if !slices.Contains(ends(p, 0), len(m.kids)) {
		return false
	}
	for i := range m.kids {
		k := m.kid(i)
		if m.places[i] = declared(p, m.v.names[k.NameID()], 0); m.places[i] == nil {
			m.places[i] = allowing(p, k.Name().Space)
		}
	}
	return true
}

// allowing is the particle of a wildcard that allows a namespace.
func allowing(p *Particle, space string) *Particle {
	if p.Group != nil {
		for _, q := range p.Group.Particles {
			if w := allowing(q, space); w != nil {
				return w
			}
		}
	} else if p.Any != nil && p.Any.Allows(space) {
		return p
	}
	return nil
}

// report says what stands at the place of the error and what could have.
func (m *matching) report(n xmltree.Node) {
	want := slices.Compact(slices.Clone(m.want))
	due := ""
	if len(want) > 0 {
		due = "; expected: " + listed(want)
	}
	if m.at >= len(m.kids) {
		at := xmltree.Span{Start: n.Inner().End, End: n.Span().End}
		if at.Len() == 0 {
			at = tag(n)
		}
		m.v.fail(n, at, "cvc-complex-type.2.4", want, "the element %s ends too early%s", n.Name().Local, due)
		return
	}
	k := m.kid(m.at)
	name := k.Name()
	for _, w := range want {
		if w != name.Local {
			continue
		}
		m.v.fail(
			k,
			tag(k),
			"cvc-complex-type.2.4",
			want,
			"the element %s has the right name in the wrong namespace (%s)",
			name.Local,
			orNone(name.Space),
		)
		return
	}
	m.v.fail(k, tag(k), "cvc-complex-type.2.4", want, "the element %s cannot stand here%s", name.Local, due)
}

func orNone(space string) string {
	if space == "" {
		return "none"
	}
	return space
}
