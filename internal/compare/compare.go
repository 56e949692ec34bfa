// Package compare tells in what two calls differ: their settings, how far they came,
// their heads, and their messages as trees. What differs between any two calls, such as
// times, ids and prefixes, is set aside, and counted.
package compare

import (
	"bytes"
	"cmp"
	"fmt"
	"hash/maphash"
	"mime"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/related"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Kind is a kind of difference.
type Kind string

// The kinds.
const (
	Setting   Kind = "setting"
	Reach     Kind = "reach"
	Status    Kind = "status"
	Field     Kind = "field" // of HTTP
	Value     Kind = "value"
	Missing   Kind = "missing" // in b
	Added     Kind = "added"   // in b
	Moved     Kind = "moved"
	Renamed   Kind = "renamed"
	Namespace Kind = "namespace"
	Type      Kind = "type"
)

// InPath is the part of a difference that stands in no bytes: how far the calls came.
const InPath exchange.Part = "path"

// Place is one side of a difference: a value, and where it stands in its part.
type Place struct {
	Value  string `json:"value"`  // as it stands, or what stands in it in one line
	Offset int64  `json:"offset"` // in bytes, from 0
	Length int64  `json:"length"` // in bytes
	Line   int    `json:"line"`   // from 1; 0 where there are no lines
	// Template is a setting as it is written, where variables stand in it.
	Template string `json:"template,omitempty"`
}

// Said is a side in one line: what is not there is told apart from what is empty, and white
// space at the ends is seen.
func (p *Place) Said() string {
	switch {
	case p == nil:
		return "┄ not there"
	case p.Value == "":
		return "(empty)"
	case strings.TrimSpace(p.Value) != p.Value:
		return strconv.Quote(p.Value)
	}
	return strings.Join(strings.Fields(p.Value), " ")
}

// Difference is one difference. A side that is not there is nil.
type Difference struct {
	Kind  Kind          `json:"kind"`            // what differs
	Where exchange.Part `json:"where"`           // in which part
	Path  string        `json:"path"`            // of the element, the field or the setting
	A     *Place        `json:"a"`               // of the first side, nil where it is not there
	B     *Place        `json:"b"`               // of the second side
	Why   string        `json:"why,omitempty"`   // why it matters, where that is known
	Aside bool          `json:"aside,omitempty"` // it is set aside: any two calls differ in it
}

// Report is what was found.
type Report struct {
	Same        bool         `json:"same"`        // but for what is set aside
	Nothing     bool         `json:"-"`           // is known of both, so that nothing could be compared
	SetAside    int          `json:"setAside"`    // how many differences are
	Differences []Difference `json:"differences"` // the most telling first
}

// Side is one of two that are compared. What is not known of it is empty.
type Side struct {
	Name     string             // in words
	Settings []exchange.Setting // nil: not known
	Reach    int                // stages; 0: not known
	Outcome  exchange.Outcome   // "" not known

	RequestHead  *exchange.Head // nil: not known; so are the others
	Request      []byte         // the message that was sent
	ResponseHead *exchange.Head // of the answer
	Response     []byte         // the message that came

	RequestFiles  []File // what travels beside the message, in its order; nil: not known
	ResponseFiles []File // and beside the one that came
}

// File is what travels beside a message (RFC 2387).
type File struct {
	Type    string // Content-Type
	Content []byte // without its coding
}

// apart is a body as the message in it, and the files beside it, where there are several parts.
func apart(head *exchange.Head, body []byte) (message []byte, files []File) {
	files = []File{}
	if head == nil || !related.Is(head.Get("Content-Type")) {
		return body, files
	}
	parts, err := related.Split(head.Get("Content-Type"), body)
	if err != nil {
		return body, nil
	}
	message = body
	for i := range parts {
		content, err := parts[i].Content(body)
		switch {
		case err != nil:
			return body, nil
		case parts[i].Root:
			message = content
		default:
			files = append(files, File{parts[i].Type, content})
		}
	}
	return message, files
}

// Exchange is an exchange as a side.
func Exchange(x *exchange.Exchange) *Side {
	s := &Side{Name: x.ID, Settings: x.Settings, Reach: x.Reach(), Outcome: x.Outcome}
	if l := x.Leg(); l != nil {
		if l.Request.Line != "" {
			s.RequestHead = &l.Request
		}
		s.Request, s.RequestFiles = apart(s.RequestHead, l.RequestBody)
		if l.Response.Complete {
			s.ResponseHead = &l.Response
			s.Response = l.Readable()
			if !l.Stored() {
				_, s.ResponseFiles = apart(s.ResponseHead, l.ResponseBody.Bytes())
			}
		}
	}
	return s
}

// comparing is a comparison under way.
type comparing struct {
	out   []Difference
	where exchange.Part
	a, b  *Side
	held  int // how many things are known of both
	// renamed namespaces were told once, and are taken for the same from then on.
	spaces map[[2]string]bool
}

// Sides compares two sides. all gives what is set aside too.
func Sides(a, b *Side, all bool) *Report {
	c := &comparing{a: a, b: b, spaces: map[[2]string]bool{}}
	c.settings()
	c.path()
	c.where = exchange.InRequestHead
	c.heads(a.RequestHead, b.RequestHead)
	c.where = exchange.InRequestBody
	c.bodies(a.Request, b.Request)
	c.files(a.RequestFiles, b.RequestFiles)
	c.where = exchange.InResponseHead
	c.heads(a.ResponseHead, b.ResponseHead)
	c.where = exchange.InResponseBody
	switch answered := func(s *Side) bool { return s.ResponseHead != nil || len(s.Response) > 0 }; {
	case answered(a) && answered(b) && (len(a.Response) == 0) != (len(b.Response) == 0):
		c.noBody()
	case answered(a) || answered(b):
		c.bodies(a.Response, b.Response)
	}
	c.files(a.ResponseFiles, b.ResponseFiles)
	if one, other := a.alone(), b.alone(); c.held == 0 {
		c.bodies(one, other)
	}
	r := &Report{Differences: []Difference{}, Nothing: c.held == 0}
	slices.SortStableFunc(c.out, func(x, y Difference) int { return x.rank() - y.rank() })
	for _, d := range c.out {
		if d.Aside {
			r.SetAside++
		}
		if !d.Aside || all {
			r.Differences = append(r.Differences, d)
		}
	}
	r.Same = r.SetAside == len(c.out) && !r.Nothing
	return r
}

// Count says how many differences there are, and how many more are set aside.
func (r *Report) Count() string {
	n := 0
	for i := range r.Differences {
		if !r.Differences[i].Aside {
			n++
		}
	}
	return counted(n) + fmt.Sprintf(", %d set aside", r.SetAside)
}

func counted(n int) string {
	if n == 1 {
		return "1 difference"
	}
	return strconv.Itoa(n) + " differences"
}

// Aside says in words what was set aside.
func (r *Report) Aside() string {
	if r.SetAside == 0 {
		return "nothing was set aside"
	}
	return counted(r.SetAside) + " of the kind that any two calls have set aside"
}

// alone is the one message of a side of which no other is known, whichever way it went; else nil.
func (s *Side) alone() []byte {
	switch {
	case len(s.Request) == 0:
		return s.Response
	case len(s.Response) == 0:
		return s.Request
	}
	return nil
}

// noBody tells that one of two answers says nothing.
func (c *comparing) noBody() {
	c.held++
	if len(c.b.Response) == 0 {
		c.add(Difference{Kind: Missing, Path: "body", A: excerpt(c.a.Response, 0)})
	} else {
		c.add(Difference{Kind: Added, Path: "body", B: excerpt(c.b.Response, 0)})
	}
}

// rank puts the most telling first: how the message is made, then its values, what went
// with it, what is set, and what came of it.
func (d *Difference) rank() int {
	rank := map[exchange.Part]int{
		exchange.InRequestBody: 0, exchange.InRequestHead: 20, exchange.InSettings: 30, InPath: 40,
		exchange.InResponseHead: 50, exchange.InResponseBody: 60,
	}[d.Where]
	switch d.Kind {
	case Namespace:
	case Missing, Added:
		rank++
	case Renamed, Moved:
		rank += 2
	case Type:
		rank += 3
	default:
		rank += 4
	}
	if d.Aside {
		rank += 100
	}
	return rank
}

func (c *comparing) add(d Difference) {
	d.Where = c.where
	c.out = append(c.out, d)
}

func text(v string) *Place { return &Place{Value: v, Length: int64(len(v))} }

func (c *comparing) settings() {
	if c.a.Settings == nil || c.b.Settings == nil {
		return
	}
	c.held++
	c.where = exchange.InSettings
	other := map[string]exchange.Setting{}
	for _, s := range c.b.Settings {
		other[s.Key] = s
	}
	for _, s := range c.a.Settings {
		o := other[s.Key]
		if s.Value == o.Value {
			continue
		}
		d := Difference{Kind: Setting, Path: s.Key}
		if s.Source != "default" || s.Value != "" {
			d.A = text(s.Value)
			d.A.Template = s.Template
		}
		if o.Source != "default" || o.Value != "" {
			d.B = text(o.Value)
			d.B.Template = o.Template
		}
		c.add(d)
	}
}

func (c *comparing) path() {
	c.where = InPath
	known := func(s *Side) bool { return s.Reach > 0 || s.Outcome != "" } // what stopped first of all reached none
	if known(c.a) && known(c.b) {
		c.held++
	}
	if known(c.a) && known(c.b) && c.a.Reach != c.b.Reach {
		stage := func(n int) string {
			if n >= len(exchange.Stages) {
				return "passed"
			}
			return exchange.Stages[n].String()
		}
		c.add(Difference{Kind: Reach, Path: "reach", A: text(stage(c.a.Reach)), B: text(stage(c.b.Reach))})
	}
	if c.a.ResponseHead != nil && c.b.ResponseHead != nil && c.a.ResponseHead.Status != c.b.ResponseHead.Status {
		c.add(Difference{
			Kind: Status, Path: "status",
			A: text(strconv.Itoa(c.a.ResponseHead.Status)), B: text(strconv.Itoa(c.b.ResponseHead.Status)),
		})
	}
}

// asideFields are fields of HTTP in which any two calls differ.
//
//nolint:gochecknoglobals // a table: it is never written to
var asideFields = []string{
	"date", "user-agent", "accept", "accept-encoding", "connection", "host", "content-length", "keep-alive", "age",
	"expires", "last-modified", "etag", "traceparent", "x-request-id", "x-correlation-id",
}

func fieldsOf(h *exchange.Head) (names []string, by map[string][]exchange.Header) {
	by = map[string][]exchange.Header{}
	for _, f := range h.Fields {
		name := strings.ToLower(f.Name)
		if by[name] == nil {
			names = append(names, name)
		}
		by[name] = append(by[name], f)
	}
	return names, by
}

// heads compares fields by their names, order and spelling apart.
func (c *comparing) heads(a, b *exchange.Head) {
	if a == nil || b == nil {
		return
	}
	c.held++
	names, inA := fieldsOf(a)
	more, inB := fieldsOf(b)
	for _, n := range more {
		if inA[n] == nil {
			names = append(names, n)
		}
	}
	for _, n := range names {
		was, is := joined(inA[n]), joined(inB[n])
		d := Difference{Kind: Field, A: was, B: is, Aside: slices.Contains(asideFields, n)}
		for _, side := range [][]exchange.Header{inB[n], inA[n]} {
			if len(side) > 0 {
				d.Path = side[0].Name
			}
		}
		switch {
		case was != nil && is != nil && was.Value == is.Value:
			if inA[n][0].Name == inB[n][0].Name {
				continue
			}
			d.Aside = true // only spelled otherwise
		case n == "content-type" && was != nil && is != nil && sameMedia(was.Value, is.Value):
			d.Aside = true
		}
		c.add(d)
	}
}

// sameMedia tells whether two media types differ in nothing but boundaries and spelling.
func sameMedia(a, b string) bool {
	norm := func(s string) string {
		media, params, err := mime.ParseMediaType(s)
		if err != nil {
			return s
		}
		delete(params, "boundary")
		delete(params, "start")
		if cs := params["charset"]; cs != "" {
			params["charset"] = strings.ToLower(cs)
		}
		return mime.FormatMediaType(media, params)
	}
	return norm(a) == norm(b)
}

func joined(fs []exchange.Header) *Place {
	if len(fs) == 0 {
		return nil
	}
	p := &Place{Offset: fs[0].Span.Offset, Length: fs[0].Span.Length, Line: 1}
	var values []string
	for _, f := range fs {
		values = append(values, f.Value)
	}
	p.Value = strings.Join(values, ", ")
	return p
}

// bodies compares two messages as trees, or as bytes where one is none.
func (c *comparing) bodies(a, b []byte) {
	if len(a) == 0 || len(b) == 0 {
		return
	}
	c.held++
	da, errA := xmltree.Parse(a, xmltree.Limits{})
	db, errB := xmltree.Parse(b, xmltree.Limits{})
	if errA != nil || errB != nil {
		if string(a) != string(b) {
			i := 0
			for i < min(len(a), len(b)) && a[i] == b[i] {
				i++
			}
			d := Difference{Kind: Value, A: excerpt(a, i), B: excerpt(b, i)}
			switch {
			case i == len(b):
				d.Kind, d.B, d.Why = Missing, nil, "b is as a so far, and ends here: no more of it came, or is known"
			case i == len(a):
				d.Kind, d.A, d.Why = Added, nil, "a is as b so far, and ends here: no more of it came, or is known"
			}
			c.add(d)
		}
		return
	}
	t := &trees{c: c, a: da, b: db, seed: maphash.MakeSeed()}
	ea, eb := soap.Read(da), soap.Read(db)
	switch {
	case ea != nil && eb != nil:
		if ea.Version != eb.Version {
			c.add(Difference{
				Kind: Namespace, Path: "Envelope", A: t.place(true, da.Root(), ea.Version.Namespace()),
				B: t.place(false, db.Root(), eb.Version.Namespace()), Why: "they are of two SOAP versions",
			})
			c.spaces[[2]string{ea.Version.Namespace(), eb.Version.Namespace()}] = true
		}
		t.envelope(ea, eb)
	case ea != nil:
		t.element(ea.Payload, db.Root(), "Body/"+db.Root().Name().Local)
	case eb != nil:
		t.element(da.Root(), eb.Payload, "Body/"+da.Root().Name().Local)
	default:
		if na, nb := da.Root().Name(), db.Root().Name(); na.Local != nb.Local {
			c.add(Difference{
				Kind: Renamed, Path: na.Local,
				A: t.place(true, da.Root(), na.Local), B: t.place(false, db.Root(), nb.Local),
			})
		}
		t.element(da.Root(), db.Root(), da.Root().Name().Local)
	}
}

// files compares what travels beside two messages, in its order. How it is named is made anew each time.
func (c *comparing) files(a, b []File) {
	if a == nil || b == nil {
		return
	}
	for i := range max(len(a), len(b)) {
		d := Difference{Kind: Value, Path: fmt.Sprintf("file %d", i+1)}
		switch {
		case i >= len(a):
			d.Kind, d.B = Added, b[i].place()
		case i >= len(b):
			d.Kind, d.A = Missing, a[i].place()
		case sameMedia(a[i].Type, b[i].Type) && bytes.Equal(a[i].Content, b[i].Content):
			continue
		default:
			d.A, d.B = a[i].place(), b[i].place()
			if len(a[i].Content) == len(b[i].Content) && sameMedia(a[i].Type, b[i].Type) {
				d.Why = "they are as long, and other bytes"
			}
		}
		c.add(d)
	}
}

func (f *File) place() *Place {
	return text(fmt.Sprintf("%s, %d bytes", cmp.Or(f.Type, "no type"), len(f.Content)))
}

func excerpt(b []byte, at int) *Place {
	line, _ := xmltree.Position(b, at)
	return &Place{
		Value:  string(b[at:min(len(b), at+80)]),
		Offset: int64(at),
		Length: int64(min(len(b)-at, 80)),
		Line:   line,
	}
}

// IsReply tells whether a message is a reply, as far as it says itself: a fault, or an
// element whose name ends so.
func IsReply(b []byte) bool {
	d, err := xmltree.Parse(b, xmltree.Limits{})
	if err != nil {
		return false
	}
	n := d.Root()
	if e := soap.Read(d); e != nil {
		if e.Fault != nil {
			return true
		}
		n = e.Payload
	}
	return !n.IsZero() && strings.HasSuffix(n.Name().Local, "Response")
}

// String is the difference in a line.
func (d *Difference) String() string {
	short := func(p *Place) string {
		const most = 40
		if r := []rune(p.Said()); len(r) > most {
			return string(r[:most-1]) + "…"
		}
		return p.Said()
	}
	what := string(d.Kind) + " " + d.Path
	if string(d.Kind) == d.Path {
		what = d.Path
	}
	return fmt.Sprintf("%s: %s → %s", what, short(d.A), short(d.B))
}
