package facade

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/data"
	"orenda/internal/schema"
)

// object is a JSON object whose keys keep their order.
type object []member

type member struct {
	key   string
	value any
}

func (o *object) add(key string, value any) { *o = append(*o, member{key, value}) }

// MarshalJSON writes the members in their order.
func (o object) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			b = append(b, ',')
		}
		k, err := json.Marshal(m.key)
		if err != nil {
			return nil, err
		}
		v, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, k...), ':'), v...)
	}
	return append(b, '}'), nil
}

// describing makes the JSON Schemas (2020-12) of declarations.
type describing struct {
	set   *schema.Set
	names map[schema.Type]string // of types in components
	taken map[string]bool
	parts object
}

// OpenAPI is the description of the façade: an OpenAPI 3.1 document.
func (f *Facade) OpenAPI() ([]byte, error) {
	paths := object{}
	components := object{}
	done := map[*schema.Set]*describing{}
	taken := map[string]bool{"Problem": true}
	for _, o := range f.ops {
		d := done[o.Contract.Schemas]
		if d == nil {
			d = &describing{set: o.Contract.Schemas, names: map[schema.Type]string{}, taken: taken}
			done[o.Contract.Schemas] = d
		}
		methods := object{{"post", f.operation(d, o)}}
		if o.Get {
			methods.add("get", f.query(d, o))
		}
		paths.add(o.path(), methods)
	}
	for _, o := range f.ops {
		if d := done[o.Contract.Schemas]; d != nil {
			components = append(components, d.parts...)
			delete(done, o.Contract.Schemas)
		}
	}
	components.add("Problem", object{
		{"type", "object"},
		{"description", "RFC 9457: what went wrong"},
		{"properties", object{
			{"type", object{{"type", "string"}}}, {"title", object{{"type", "string"}}},
			{"status", object{{"type", "integer"}}}, {"detail", object{{"type", "string"}}},
			{"finding", object{{"type", "string"}}}, {"stage", object{{"type", "string"}}},
			{"says", object{{"type", "string"}}}, {"exchange", object{{"type", "string"}}},
		}},
		{"required", []string{"title", "status"}},
	})
	doc := object{
		{"openapi", "3.1.0"},
		{"info", object{
			{"title", f.title()}, {"version", "1"},
			{"description", "JSON for SOAP operations, by the mapping of Orenda."},
		}},
		{"servers", []object{{{"url", "/"}}}},
		{"paths", paths},
		{"components", object{{"schemas", components}}},
	}
	if f.o.Token != "" {
		doc[len(doc)-1].value = object{
			{
				"schemas",
				components,
			}, {"securitySchemes", object{{"token", object{{"type", "http"}, {"scheme", "bearer"}}}}},
		}
		doc.add("security", []object{{{"token", []string{}}}})
	}
	return json.MarshalIndent(doc, "", "  ")
}

func (f *Facade) operation(d *describing, o *Operation) object {
	out := object{{"operationId", o.id()}}
	if doc := o.Operation.Documentation; doc != "" {
		out.add("description", doc)
	}
	body := object{{"schema", d.content(o.Operation.Input.Element)}}
	if example := o.example(); json.Valid(example) {
		body.add("example", json.RawMessage(example))
	}
	out.add("requestBody", object{{"required", true}, {"content", object{{"application/json", body}}}})
	out.add("responses", f.responses(d, o))
	return out
}

// query is an operation by GET, whose fields are plain.
func (f *Facade) query(d *describing, o *Operation) object {
	parameters := []object{}
	for _, k := range data.Fields(d.set, o.Operation.Input.Element) {
		parameters = append(parameters, object{
			{"name", k.Name}, {"in", "query"}, {"required", k.Required}, {"schema", d.simple(k.Type)},
		})
	}
	return object{{"operationId", o.id() + "ByQuery"}, {"parameters", parameters}, {"responses", f.responses(d, o)}}
}

func (f *Facade) responses(d *describing, o *Operation) object {
	ok := object{{"description", "the reply"}}
	if o.Operation.Output != nil && o.Operation.Output.Element != nil {
		ok.add("content", object{{"application/json", object{{"schema", d.content(o.Operation.Output.Element)}}}})
	}
	problem := object{
		{"description", "what went wrong"},
		{"content", object{{"application/problem+json", object{{"schema", ref("Problem")}}}}},
	}
	return object{{"200", ok}, {"default", problem}}
}

func ref(name string) object { return object{{"$ref", "#/components/schemas/" + name}} }

// content is the schema of an element's content.
func (d *describing) content(e *schema.Element) any {
	if e == nil {
		return object{{"type", "object"}}
	}
	s := d.of(e.TypeOf(), e.Name.Local)
	if e.Nillable {
		return object{{"anyOf", []any{s, object{{"type", "null"}}}}}
	}
	return s
}

// of is the schema of a type; a complex one stands in the components, and is referred to.
func (d *describing) of(t schema.Type, hint string) any {
	c, ok := t.(*schema.Complex)
	if !ok {
		if st, is := t.(*schema.Simple); is && st != nil {
			return d.simple(st)
		}
		return true
	}
	if c == schema.AnyType() {
		return true
	}
	if c.ArrayOf != nil {
		return object{{"type", "array"}, {"items", d.of(c.ArrayOf, hint)}}
	}
	if name := d.names[t]; name != "" {
		return ref(name)
	}
	name := d.name(cmp.Or(c.Name.Local, hint))
	d.names[t] = name
	at := len(d.parts)
	d.parts.add(name, nil)
	d.parts[at].value = d.complex(c)
	return ref(name)
}

// name is a free name for a type in the components: its own, or that of its element.
func (d *describing) name(wanted string) string {
	name := strings.Map(func(r rune) rune {
		if r < 0x80 &&
			(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' || r == '.') {
			return r
		}
		return '_'
	}, wanted)
	if name == "" {
		name = "Part"
	}
	free := name
	for n := 2; d.taken[free]; n++ {
		free = name + strconv.Itoa(n)
	}
	d.taken[free] = true
	return free
}

func (d *describing) complex(c *schema.Complex) object {
	out := object{{"type", "object"}}
	if c.Doc != "" {
		out.add("description", c.Doc)
	}
	props, required := object{}, []string{}
	for _, a := range c.Attrs {
		props.add("@"+a.Name.Local, d.simple(a.Type))
		if a.Required {
			required = append(required, "@"+a.Name.Local)
		}
	}
	switch {
	case c.Simple != nil:
		props.add("#text", d.simple(c.Simple))
	case c.Mixed:
		return object{{"type", []string{"string", "object"}}, {"description", "XML, as text"}}
	}
	open := false
	for _, k := range data.Kids(d.set, c) {
		if k.Element == nil {
			open = true
			continue
		}
		s := d.content(k.Element)
		if k.Element.Doc != "" {
			s = described(s, k.Element.Doc)
		}
		if k.Repeats {
			array := object{{"type", "array"}, {"items", s}}
			if k.Min > 0 {
				array.add("minItems", k.Min)
			}
			if k.Max > 0 {
				array.add("maxItems", k.Max)
			}
			s = array
		}
		if slices.ContainsFunc(props, func(m member) bool { return m.key == k.Element.Name.Local }) {
			continue
		}
		props.add(k.Element.Name.Local, s)
		if k.Required {
			required = append(required, k.Element.Name.Local)
		}
	}
	out.add("properties", props)
	if len(required) > 0 {
		out.add("required", required)
	}
	if !open {
		out.add("additionalProperties", false)
	}
	if c.Simple != nil { // without attributes it is the bare value
		return object{{"anyOf", []any{out, d.simple(c.Simple)}}}
	}
	return out
}

// described is a schema with what it is for beside it.
func described(s any, doc string) any {
	o, ok := s.(object)
	if !ok {
		return s
	}
	if slices.ContainsFunc(o, func(m member) bool { return m.key == "description" }) {
		return s
	}
	return append(slices.Clone(o), member{"description", doc})
}

// simple is the schema of a simple type: its kind, bounds, lengths, patterns and values.
func (d *describing) simple(t *schema.Simple) object {
	out := object{}
	switch {
	case t == nil:
		return object{{"type", "string"}}
	case t.Variety == schema.List:
		return object{{"type", "array"}, {"items", d.simple(t.Item)}}
	case t.Variety == schema.Union:
		var members []object
		for _, m := range t.Members {
			members = append(members, d.simple(m))
		}
		return object{{"anyOf", members}}
	case t.Primitive == "boolean":
		out.add("type", "boolean")
	case data.IsNumber(t):
		kind := "number"
		if isInteger(t) {
			kind = "integer"
		}
		out.add("type", kind)
	default:
		out.add("type", "string")
		formats := map[string]string{"dateTime": "date-time", "date": "date", "anyURI": "uri-reference"}
		if f := formats[t.Primitive]; f != "" {
			out.add("format", f)
		}
		if t.Primitive == "base64Binary" {
			out.add("contentEncoding", "base64")
		}
	}
	d.facets(&out, t)
	return out
}

func isInteger(t *schema.Simple) bool {
	for s := t; s != nil; s = s.Base {
		if s.Name.Space == schema.XSD && s.Name.Local == "integer" {
			return true
		}
	}
	return false
}

func (d *describing) facets(out *object, t *schema.Simple) {
	if all := schema.Allowed(t); len(all) > 0 && t.Primitive != "boolean" {
		var values []any
		for _, v := range all {
			if n, ok := data.Number(v); ok && data.IsNumber(t) {
				values = append(values, json.RawMessage(n))
			} else {
				values = append(values, v)
			}
		}
		out.add("enum", values)
		return
	}
	seen := map[string]bool{}
	once := func(key string, value any) {
		if !seen[key] {
			seen[key] = true
			out.add(key, value)
		}
	}
	number := func(key string, text *string) {
		if text == nil {
			return
		}
		if n, ok := data.Number(*text); ok && data.IsNumber(t) {
			once(key, json.RawMessage(n))
		}
	}
	text := !data.IsNumber(t) && t.Primitive != "boolean" && t.Primitive != "base64Binary" && t.Primitive != "hexBinary"
	for s := t; s != nil; s = s.Base {
		f := s.Facets
		number("minimum", f.MinInclusive)
		number("maximum", f.MaxInclusive)
		number("exclusiveMinimum", f.MinExclusive)
		number("exclusiveMaximum", f.MaxExclusive)
		if text {
			lengths(f, once)
		}
	}
	if t.Doc != "" {
		once("description", t.Doc)
	}
}

// lengths adds how long a text may be, and what it looks like.
func lengths(f schema.Facets, once func(key string, value any)) {
	if f.Length != nil {
		once("minLength", *f.Length)
		once("maxLength", *f.Length)
	}
	if f.MinLength != nil {
		once("minLength", *f.MinLength)
	}
	if f.MaxLength != nil {
		once("maxLength", *f.MaxLength)
	}
	if len(f.Patterns) == 1 && len(f.Patterns[0]) == 1 && plainPattern(f.Patterns[0][0].Source) {
		once("pattern", "^(?:"+f.Patterns[0][0].Source+")$")
	}
}

// plainPattern tells whether a pattern of XML Schema means the same in JSON Schema (ECMA
// 262): no classes of its own, and nothing that anchors there.
func plainPattern(src string) bool {
	return !strings.ContainsAny(src, "^$") && !strings.Contains(src, `\i`) && !strings.Contains(src, `\c`) &&
		!strings.Contains(src, `\p`) && !strings.Contains(src, `\P`) && !strings.Contains(src, "-[") &&
		!strings.Contains(src, `\I`) && !strings.Contains(src, `\C`)
}

func (f *Facade) title() string {
	var names []string
	for _, o := range f.ops {
		if !slices.Contains(names, o.Name) {
			names = append(names, o.Name)
		}
	}
	return fmt.Sprintf("%s as JSON", strings.Join(names, ", "))
}
