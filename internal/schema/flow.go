package schema

import (
	"bytes"
	"cmp"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"orenda/internal/xmltree"
)

// A Flow validates a document that is too large for a tree, as a scanner goes over it: elements
// that are no longer than a piece are made into trees, many at once, beside the scanner; of those that
// are longer the start tag is judged, and the order of their children by an automaton. What only
// the whole could tell is not told: keys and identifiers that stand in several pieces, and values
// that are longer than one.
type Flow struct {
	set   *Set
	src   []byte
	decl  *Element // of the element that is validated
	piece int
	opts  Options

	open  []opened
	top   int // place in open of the element that is validated, -1 before it came
	ended bool
	scans *xmltree.Scanner

	pieces  chan func()
	working sync.WaitGroup
	failed  atomic.Int64

	mu      sync.Mutex
	errors  []Error
	without map[string]bool
	fault   any // of a piece's judge
}

// piece is how long an element is at most that is looked at as a tree, and about how much is
// looked at at once, in bytes.
const piece = 1 << 20

// opened is an element that is open.
type opened struct {
	name   xmltree.NameID
	start  int // of its start tag
	inner  int // behind its start tag
	kids   []kid
	large  *large // nil: it is not known to be longer than a piece
	behind int    // what follows was not looked at yet; of a large one
}

// kid is a child that is whole, and was not looked at yet.
type kid struct {
	name       xmltree.NameID
	start, end int
}

// large is what is known of an element that is longer than a piece.
type large struct {
	decl   *Element // nil: it is not checked
	typ    *Complex // nil: its content is not checked
	path   string
	model  *automaton
	at     int // the model's state
	counts map[xmltree.NameID]int
	broken bool // its content was told to be wrong
	nilled bool // it says that it is nil
}

// NewFlow begins to validate the element that Top is called for, by its declaration.
func (s *Set) NewFlow(src []byte, scanner *xmltree.Scanner, decl *Element, opts Options) *Flow {
	s.Resolve()
	if opts.Max == 0 {
		opts.Max = MaxErrors
	}
	s.mu.Lock()
	s.compile(decl)
	s.mu.Unlock()
	f := &Flow{set: s, src: src, scans: scanner, decl: decl, opts: opts, top: -1, piece: piece,
		pieces: make(chan func(), 1), without: map[string]bool{}}
	for range max(1, runtime.GOMAXPROCS(0)-1) { // one is busy with the scanner
		f.working.Go(func() {
			for do := range f.pieces {
				f.guarded(do)
			}
		})
	}
	return f
}

// guarded hands a fault of ours on to who waits for the pieces.
func (f *Flow) guarded(do func()) {
	defer func() {
		if v := recover(); v != nil {
			f.mu.Lock()
			defer f.mu.Unlock()
			f.fault = v
		}
	}()
	do()
}

// Top says that the next element is the one that is validated.
func (f *Flow) Top() {
	if f.top < 0 {
		f.top = len(f.open)
	}
}

// Start takes a start tag, of the document's first element on.
func (f *Flow) Start(t *xmltree.Token) {
	n := len(f.open)
	if n < cap(f.open) {
		f.open = f.open[:n+1] // with the room for children that was there
		f.open[n] = opened{name: t.Name, start: t.Span.Start, inner: t.Span.End, kids: f.open[n].kids[:0]}
	} else {
		f.open = append(f.open, opened{name: t.Name, start: t.Span.Start, inner: t.Span.End})
	}
	f.open[n].behind = t.Span.End
}

// End takes the end of the element that was opened last.
func (f *Flow) End(t *xmltree.Token) {
	n := len(f.open) - 1
	e := &f.open[n]
	inside := f.top >= 0 && n >= f.top && !f.ended
	if !inside {
		f.open = f.open[:n]
		return
	}
	f.ended = n == f.top
	end := t.Span.End
	switch {
	case e.large != nil:
		f.finish(n, t.Span.Start)
	case n == f.top || end-e.start > f.piece:
		f.longer(n)
		f.finish(n, t.Span.Start)
	default:
		up := &f.open[n-1]
		up.kids = append(up.kids, kid{e.name, e.start, end})
		switch {
		case up.large == nil && end-up.start > f.piece:
			f.longer(n - 1)
			f.take(n - 1)
		case up.large != nil && end-up.behind >= f.piece:
			f.take(n - 1)
		}
	}
	f.open = f.open[:n]
}

// longer has an element known to be longer than a piece, and those that it stands in.
func (f *Flow) longer(n int) {
	for i := f.top; i <= n; i++ {
		e := &f.open[i]
		if e.large != nil {
			continue
		}
		name := f.scans.NameOf(e.name)
		l := &large{counts: map[xmltree.NameID]int{}, path: name.Local}
		e.large = l
		if i == f.top {
			l.decl = f.decl
		} else {
			f.take(i - 1)
			f.between(i-1, e.start)
			up := f.open[i-1].large
			up.counts[e.name]++
			l.path = fmt.Sprintf("%s/%s[%d]", up.path, name.Local, up.counts[e.name])
			k := kid{e.name, e.start, e.inner}
			l.decl, _ = f.step(i-1, k)
		}
		if l.decl != nil {
			f.head(i)
		}
	}
}

// head judges the start tag of a large element, and settles its type.
func (f *Flow) head(i int) {
	e := &f.open[i]
	l := e.large
	text, own := f.wrapped(i, nil)
	d, err := xmltree.Parse(text, xmltree.Limits{})
	if err != nil {
		return
	}
	n := deepest(d, i)
	v := f.set.validator(d, f.opts)
	t, nilled := v.head(n, l.decl)
	f.keep(v.errors, own-(e.inner-e.start), e.start, func(string) string { return l.path })
	if l.nilled = nilled; nilled {
		return
	}
	if len(l.decl.keys) > 0 {
		f.leave("keys over the whole of " + l.decl.Name.Local)
	}
	if c, ok := t.(*Complex); ok && c.Simple == nil {
		l.typ = c
		if l.model = modelOf(c.Content); l.model == nil {
			f.leave("the order of the children of " + l.decl.Name.Local)
		}
		return
	}
	f.leave("values of more than 1 MiB")
}

// wrapped is a text within the start tags of the elements up to one, and how long those are.
func (f *Flow) wrapped(upTo int, text []byte) (doc []byte, before int) {
	var b bytes.Buffer
	for i := range upTo + 1 {
		tag := f.src[f.open[i].start:f.open[i].inner]
		if bytes.HasSuffix(tag, []byte("/>")) {
			tag = append(bytes.Clone(tag[:len(tag)-2]), ' ', '>')
		}
		b.Write(tag)
	}
	before = b.Len()
	b.Write(text)
	for i := upTo; i >= 0; i-- {
		b.WriteString("</" + f.scans.NameOf(f.open[i].name).Qualified() + ">")
	}
	return b.Bytes(), before
}

// deepest is the element of a wrapped text that stands so deep.
func deepest(d *xmltree.Document, depth int) xmltree.Node {
	n := d.Root()
	for range depth {
		n = n.FirstChild()
	}
	return n
}

// step takes a child in the model of its parent: the declaration that it is judged by, or the
// wildcard; neither where it is not checked.
func (f *Flow) step(parent int, k kid) (*Element, *Wildcard) {
	l := f.open[parent].large
	if l.typ == nil || l.model == nil {
		return nil, nil
	}
	to := l.model.step(f.set, l.at, k.name, f.scans.NameOf(k.name))
	if name := f.scans.NameOf(k.name).Local; to.wrong && !l.broken {
		l.broken = !to.known
		want := l.model.wants(f.set, l.at)
		f.wrong("cvc-complex-type.2.4", fmt.Sprintf("%s/%s[%d]", l.path, name, l.counts[k.name]),
			xmltree.Span{Start: k.start, End: f.tagEnd(k)}, want, "the element %s cannot stand here%s", name,
			dueOf(want))
	}
	l.at = to.state
	return to.decl, to.wild
}

func (f *Flow) tagEnd(k kid) int {
	if i := bytes.IndexByte(f.src[k.start:k.end], '>'); i >= 0 {
		return k.start + i + 1
	}
	return k.end
}

func dueOf(want []string) string {
	if len(want) == 0 {
		return ""
	}
	return "; due is " + listed(want)
}

// take has the children of a large element that are whole judged, all in one.
func (f *Flow) take(n int) {
	e := &f.open[n]
	l := e.large
	if len(e.kids) == 0 {
		return
	}
	type judged struct {
		decl  *Element
		wild  *Wildcard
		place int // among those of its name
	}
	all := make([]judged, len(e.kids))
	for i, k := range e.kids {
		l.counts[k.name]++
		decl, wild := f.step(n, k)
		all[i] = judged{decl, wild, l.counts[k.name]}
	}
	from, to := e.behind, e.kids[len(e.kids)-1].end
	e.behind, e.kids = to, e.kids[:0]
	if l.typ == nil || f.over() {
		return
	}
	text, before := f.wrapped(n, f.src[from:to])
	path, mixed, label := l.path, l.typ.Mixed, l.decl.Name.Local
	f.pieces <- func() {
		d, err := xmltree.Parse(text, xmltree.Limits{})
		if err != nil || f.over() {
			return // it is the scanner that tells
		}
		v := f.set.validator(d, f.opts)
		i := 0
		parent := deepest(d, n)
		for c := range parent.Nodes() {
			switch c.Kind() {
			case xmltree.StartElement:
				if i < len(all) && all[i].decl != nil {
					v.element(c, all[i].decl)
				} else if i < len(all) && all[i].wild != nil {
					v.wildcard(c, all[i].wild)
				}
				i++
			case xmltree.Text, xmltree.CData:
				if !mixed && strings.TrimFunc(c.Text(), isSpace) != "" {
					v.fail(parent, c.Span(), "cvc-complex-type.2.3", nil, "text cannot stand in the element %s", label)
				}
			}
		}
		if len(v.errors) == 0 {
			return
		}
		paths := map[int]string{} // of the children, by their nodes
		i = 0
		for c := range parent.Children() {
			paths[c.Index()] = fmt.Sprintf("%s/%s[%d]", path, c.Name().Local, all[min(i, len(all)-1)].place)
			i++
		}
		var l xmltree.Locator
		for i := range v.errors {
			v.errors[i].Path = pathBelow(&l, v.errors[i].at, parent, paths, path)
		}
		f.keep(v.errors, before, from, nil)
	}
}

// pathBelow is the path of a node in a piece, of which the paths of the first are known.
func pathBelow(l *xmltree.Locator, n, parent xmltree.Node, paths map[int]string, path string) string {
	if n.IsZero() || n.Index() == parent.Index() {
		return path
	}
	first := n
	for up := n.Parent(); !up.IsZero() && up.Index() != parent.Index(); up = up.Parent() {
		first = up
	}
	whole, head := l.Path(n), l.Path(first)
	return paths[first.Index()] + strings.TrimPrefix(whole, head)
}

// between judges text between the children of a large element, which pieces do not hold, up to a place.
func (f *Flow) between(n, to int) {
	e := &f.open[n]
	if l := e.large; l.typ == nil || l.typ.Mixed || e.behind >= to {
		return
	}
	rest := f.src[e.behind:to]
	if text := bytes.TrimSpace(rest); len(text) > 0 && bytes.IndexByte(text, '<') < 0 {
		f.wrong("cvc-complex-type.2.3", e.large.path, xmltree.Span{Start: e.behind, End: to}, nil,
			"text cannot stand in the element %s", f.scans.NameOf(e.name).Local)
	}
}

// finish ends a large element, whose end tag begins at a place.
func (f *Flow) finish(n, at int) {
	f.take(n)
	e := &f.open[n]
	l, name := e.large, f.scans.NameOf(e.name).Local
	inside := xmltree.Span{Start: e.inner, End: at}
	if l.typ != nil && l.typ.Content == nil && !l.typ.Mixed && len(l.counts) == 0 && at > e.inner {
		f.wrong("cvc-complex-type.2.1", l.path, inside, nil, "the element %s must be empty", name)
	} else {
		f.between(n, at)
	}
	if l.nilled && at > e.inner {
		f.wrong("cvc-elt.3.2.1", l.path, inside, nil, "the element %s is nil and must be empty", name)
	}
	if l.model != nil && l.typ != nil && !l.broken && !l.model.ends(l.at) {
		want := l.model.wants(f.set, l.at)
		f.wrong("cvc-complex-type.2.4", l.path, xmltree.Span{Start: e.start, End: e.inner}, want,
			"the element %s ends too early%s", name, dueOf(want))
	}
	if n > f.top {
		f.open[n-1].behind = max(f.open[n-1].behind, at)
		if end := bytes.IndexByte(f.src[at:], '>'); end >= 0 && at < len(f.src) && f.src[at] == '<' {
			f.open[n-1].behind = at + end + 1
		}
	}
}

func (f *Flow) over() bool {
	return f.failed.Load() >= int64(f.opts.Max) || f.opts.Context != nil && f.opts.Context.Err() != nil
}

func (f *Flow) wrong(rule, path string, at xmltree.Span, expected []string, format string, args ...any) {
	f.fail(Error{Offset: at.Start, Span: at, Path: path, Rule: rule, Expected: expected,
		Message: fmt.Sprintf(format, args...)})
}

func (f *Flow) fail(e Error) {
	f.failed.Add(1)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.errors = append(f.errors, e)
}

// keep takes the errors of a piece, which stands in its text behind some bytes, and in the document
// at a place.
func (f *Flow) keep(errs []Error, before, at int, path func(string) string) {
	for _, e := range errs {
		e.Offset += at - before
		e.Span = xmltree.Span{Start: e.Span.Start + at - before, End: e.Span.End + at - before}
		if path != nil {
			e.Path = path(e.Path)
		}
		e.at = xmltree.Node{}
		f.fail(e)
	}
}

func (f *Flow) leave(what string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.without[what] = true
}

// Done waits for all pieces, and gives what is wrong, in the order of places. without is what was
// not checked.
func (f *Flow) Done() (errs []Error, without []string) {
	close(f.pieces)
	f.working.Wait()
	if f.fault != nil {
		panic(f.fault)
	}
	slices.SortStableFunc(f.errors, func(a, b Error) int { return cmp.Compare(a.Offset, b.Offset) })
	texts := map[string]bool{} // of the text in an element the first is told
	f.errors = slices.DeleteFunc(f.errors, func(e Error) bool {
		again := e.Rule == "cvc-complex-type.2.3" && texts[e.Path]
		texts[e.Path] = texts[e.Path] || e.Rule == "cvc-complex-type.2.3"
		return again
	})
	errs = f.errors[:min(len(f.errors), f.opts.Max)]
	var l xmltree.Locator
	for i := range errs {
		errs[i].Line, errs[i].Column = l.Position(f.src, errs[i].Offset)
	}
	for what := range f.without {
		without = append(without, what)
	}
	slices.Sort(without)
	return errs, without
}
