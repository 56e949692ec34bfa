package compare

import (
	"bytes"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// trees compares two documents.
type trees struct {
	c      *comparing
	a, b   *xmltree.Document
	seed   maphash.Seed
	hashes [2]map[int]uint64
	lines  [2][]int // where lines begin
}

// fresh are elements and attributes in which any two messages differ: of WS-Security,
// WS-Addressing and XML Signature.
//
//nolint:gochecknoglobals // a table: it is never written to
var fresh = []string{
	"Nonce", "Created", "Expires", "MessageID", "RelatesTo", "SignatureValue", "DigestValue", "CipherValue", "Id", "ID",
	"AssertionID", "InResponseTo", "IssueInstant", "NotBefore", "NotOnOrAfter",
}

// freshSpaces are the namespaces in which those names mean that.
//
//nolint:gochecknoglobals // a table: it is never written to
var freshSpaces = []string{
	"oasis-200401-wss", "www.w3.org/2005/08/addressing", "xmlsoap.org/ws/2004/08/addressing",
	"www.w3.org/2000/09/xmldsig#",
	"www.w3.org/2001/04/xmlenc#", "oasis:names:tc:SAML",
}

// isFresh tells whether a name is one of those, in an element of such a namespace.
func isFresh(name xmltree.Name, space string) bool {
	return slices.Contains(fresh, name.Local) &&
		slices.ContainsFunc(freshSpaces, func(s string) bool { return strings.Contains(space, s) })
}

// isReference tells whether an attribute refers to an id that is made anew each time: of an
// element, or of a part beside the message (RFC 2392).
func isReference(a xmltree.Attribute, space string) bool {
	return a.Name.Local == "href" && strings.HasPrefix(a.Value, "cid:") ||
		a.Name.Local == "URI" && strings.HasPrefix(a.Value, "#") &&
			slices.ContainsFunc(freshSpaces, func(s string) bool { return strings.Contains(space, s) })
}

// digestPassword tells whether an element is a password whose value is made anew.
func digestPassword(n xmltree.Node) bool {
	if n.Name().Local != "Password" {
		return false
	}
	kind, _ := n.Attr("", "Type")
	return strings.HasSuffix(kind, "#PasswordDigest")
}

func (t *trees) place(inA bool, n xmltree.Node, value string) *Place {
	d := t.b
	if inA {
		d = t.a
	}
	s := n.Span()
	line := t.line(inA, d.Src, s.Start)
	at := int64(d.SourceOffset(s.Start))
	return &Place{Value: value, Offset: at, Length: int64(d.SourceOffset(s.End)) - at, Line: line}
}

// line is the number of the line at an offset, from 1.
func (t *trees) line(inA bool, src []byte, offset int) int {
	side := 1
	if inA {
		side = 0
	}
	if t.lines[side] == nil {
		all := []int{0}
		for at := 0; ; {
			i := bytes.IndexByte(src[at:], '\n')
			if i < 0 {
				break
			}
			at += i + 1
			all = append(all, at)
		}
		t.lines[side] = all
	}
	n, found := slices.BinarySearch(t.lines[side], offset)
	if found {
		n++
	}
	return n
}

// content is what stands in an element, in one line.
func content(n xmltree.Node) string {
	if n.FirstChild().IsZero() {
		return n.Text()
	}
	var parts []string
	for c := range n.Children() {
		if len(parts) == 12 {
			parts = append(parts, "…")
			break
		}
		if c.FirstChild().IsZero() {
			parts = append(parts, c.Name().Local+" "+c.Text())
		} else {
			parts = append(parts, c.Name().Local+" {"+content(c)+"}")
		}
	}
	return strings.Join(parts, ", ")
}

// hash is that of a subtree without what is set aside.
func (t *trees) hash(inA bool, n xmltree.Node) uint64 {
	side := 1
	if inA {
		side = 0
	}
	if t.hashes[side] == nil {
		t.hashes[side] = map[int]uint64{}
	}
	if h, ok := t.hashes[side][n.Index()]; ok {
		return h
	}
	var h maphash.Hash
	h.SetSeed(t.seed)
	name := n.Name()
	h.WriteString(t.space(inA, name.Space))
	h.WriteByte(0)
	h.WriteString(name.Local)
	for _, a := range t.attrs(n) {
		h.WriteByte(1)
		h.WriteString(a.Name.Space + "\x00" + a.Name.Local + "\x00" + t.meant(inA, n, a.Value))
	}
	if n.FirstChild().IsZero() {
		h.WriteByte(2)
		if !isFresh(name, name.Space) && !digestPassword(n) {
			h.WriteString(t.meant(inA, n, n.Peek()))
		}
	}
	t.beside(n, func(kind xmltree.Kind, text string) {
		if kind != xmltree.Comment {
			h.WriteByte(4)
			h.WriteString(text)
		}
	})
	for c := range n.Children() {
		h.WriteByte(3)
		var b [8]byte
		v := t.hash(inA, c)
		for i := range b {
			b[i] = byte(v >> (8 * i))
		}
		h.Write(b[:])
	}
	sum := h.Sum64()
	t.hashes[side][n.Index()] = sum
	return sum
}

// beside gives what stands in an element besides its child elements or its value: texts between
// elements, processing instructions, comments. Who looks at a text sees behind how many elements it stands.
func (*trees) beside(n xmltree.Node, each func(kind xmltree.Kind, text string)) {
	mixed, behind := !n.FirstChild().IsZero(), 0
	for k := range n.Nodes() {
		switch kind := k.Kind(); {
		case kind == xmltree.StartElement:
			behind++
		case kind == xmltree.ProcInst || kind == xmltree.Comment:
			each(kind, strings.TrimSpace(k.Text()))
		case mixed:
			if text := strings.TrimSpace(k.Text()); text != "" {
				each(kind, strconv.Itoa(behind)+" "+text)
			}
		}
	}
}

// besides compares that of two elements. Comments are set aside.
func (t *trees) besides(a, b xmltree.Node, path string) {
	said := func(n xmltree.Node) (out [2]string, texts string) {
		var text []string
		t.beside(n, func(kind xmltree.Kind, v string) {
			switch kind {
			case xmltree.Comment:
				out[1] += "<!--" + v + "-->"
			case xmltree.ProcInst:
				out[0] += "<?" + v + "?>"
			default:
				text = append(text, v)
			}
		})
		return out, strings.Join(text, "\n")
	}
	wa, ta := said(a)
	wb, tb := said(b)
	if ta != tb {
		t.c.add(Difference{
			Kind: Value, Path: child(path, "text()"),
			A: t.place(true, a, strings.TrimSpace(a.Text())), B: t.place(false, b, strings.TrimSpace(b.Text())),
		})
	}
	for i, name := range []string{"processing-instruction()", "comment()"} {
		if wa[i] != wb[i] {
			t.c.add(Difference{
				Kind: Value, Path: child(path, name), Aside: i == 1,
				A: t.place(true, a, wa[i]), B: t.place(false, b, wb[i]),
			})
		}
	}
}

// meant is a value with its prefix resolved, where it can be a name with one that is bound.
func (t *trees) meant(inA bool, n xmltree.Node, v string) string {
	if strings.IndexByte(v, ':') <= 0 || strings.ContainsAny(strings.TrimSpace(v), " \t\r\n") {
		return v
	}
	q, ok := n.QName(v)
	if !ok || q.Space == "" {
		return v
	}
	return "{" + t.space(inA, q.Space) + "}" + q.Local
}

// space is a namespace; those of a that were renamed are taken for those of b.
func (t *trees) space(inA bool, space string) string {
	if inA {
		for pair := range t.c.spaces {
			if pair[0] == space {
				return pair[1]
			}
		}
	}
	return space
}

// attrs are the attributes that count, in the order of their names.
func (t *trees) attrs(n xmltree.Node) (out []xmltree.Attribute) {
	for a := range n.Attrs() {
		if a.Name.Space == xmltree.XMLNSNamespace || isFresh(a.Name, n.Name().Space+a.Name.Space) ||
			isReference(a, n.Name().Space) {
			continue
		}
		out = append(out, a)
	}
	if len(out) > 1 {
		slices.SortFunc(out, func(x, y xmltree.Attribute) int {
			return strings.Compare(x.Name.Local+x.Name.Space, y.Name.Local+y.Name.Space)
		})
	}
	return out
}

func child(path, name string) string {
	if path == "" {
		return name
	}
	return path + "/" + name
}

// envelope compares two envelopes: what is said of the whole, the header blocks, the body and what
// stands behind it. One that has no header has no blocks.
func (t *trees) envelope(a, b *soap.Envelope) {
	ra, rb := a.Doc.Root(), b.Doc.Root()
	t.attributes(ra, rb, "Envelope")
	if !a.Header.IsZero() && !b.Header.IsZero() {
		t.element(a.Header, b.Header, "Header")
	} else {
		t.level(kids(a.Header), kids(b.Header), "Header")
	}
	t.element(a.Body, b.Body, "Body")
	rest := func(e *soap.Envelope, root xmltree.Node) []xmltree.Node {
		return slices.DeleteFunc(kids(root), func(n xmltree.Node) bool {
			return n == e.Header || n == e.Body
		})
	}
	t.level(rest(a, ra), rest(b, rb), "Envelope")
}

// element compares two elements that stand for one another.
func (t *trees) element(a, b xmltree.Node, path string) {
	if a.IsZero() || b.IsZero() {
		return
	}
	if na, nb := a.Name(), b.Name(); na.Local == nb.Local && t.space(true, na.Space) != nb.Space {
		pair := [2]string{na.Space, nb.Space}
		t.c.add(Difference{
			Kind: Namespace, Path: path, A: t.place(true, a, na.Space), B: t.place(false, b, nb.Space),
			Why: "the same names in two namespaces are two things to a service",
		})
		t.c.spaces[pair] = true
		clear(t.hashes[0]) // what follows from it is not told again
	}
	t.attributes(a, b, path)
	t.besides(a, b, path)
	leafA, leafB := a.FirstChild().IsZero(), b.FirstChild().IsZero()
	if leafA && leafB {
		t.leaf(a, b, path)
		return
	}
	if leafA != leafB && strings.TrimSpace(a.Text()+b.Text()) != "" {
		t.c.add(Difference{Kind: Type, Path: path, A: t.place(true, a, content(a)), B: t.place(false, b, content(b))})
		return
	}
	t.level(kids(a), kids(b), path)
}

func (t *trees) leaf(a, b xmltree.Node, path string) {
	va, vb := a.Text(), b.Text()
	ma, mb := t.meant(true, a, va), t.meant(false, b, vb)
	if va == vb && ma == mb {
		return
	}
	d := Difference{Kind: Value, Path: path, A: t.value(true, a, va), B: t.value(false, b, vb)}
	d.Aside = isFresh(a.Name(), a.Name().Space) || digestPassword(a) && digestPassword(b)
	t.names(&d, va, vb, ma, mb)
	t.c.add(d)
}

// names says of a difference of two values whether it lies in their prefixes, or in what these mean.
func (*trees) names(d *Difference, va, vb, ma, mb string) {
	switch {
	case ma == mb:
		d.Kind, d.Aside = Namespace, true // another prefix for the same
	case va == vb:
		d.Kind, d.A.Value, d.B.Value = Namespace, ma, mb
		d.Why = "its prefix stands for another namespace"
	}
}

// value is a leaf's value with its place: that of the text, or of the element where it
// is empty.
func (t *trees) value(inA bool, n xmltree.Node, v string) *Place {
	p := t.place(inA, n, v)
	d := t.b
	if inA {
		d = t.a
	}
	if in := n.Inner(); in.End > in.Start {
		p.Offset = int64(d.SourceOffset(in.Start))
		p.Length = int64(d.SourceOffset(in.End)) - p.Offset
	}
	return p
}

func (t *trees) attributes(a, b xmltree.Node, path string) {
	other := map[schema.QName]xmltree.Attribute{}
	for x := range b.Attrs() {
		other[schema.NameOf(x.Name)] = x
	}
	tell := func(name xmltree.Name, va, vb *string) {
		if name.Space == xmltree.XMLNSNamespace {
			return
		}
		d := Difference{Kind: Value, Path: child(path, "@"+name.Local)}
		space := a.Name().Space + name.Space
		d.Aside = isFresh(name, space)
		if va != nil {
			d.A = t.place(true, a, *va)
			d.Aside = d.Aside || isReference(xmltree.Attribute{Name: name, Value: *va}, a.Name().Space)
		} else {
			d.Kind = Added
		}
		if vb != nil {
			d.B = t.place(false, b, *vb)
		} else {
			d.Kind = Missing
		}
		if name.Space == schema.XSI && name.Local == "type" {
			d.Kind = Type
		}
		if va != nil && vb != nil {
			t.names(&d, *va, *vb, t.meant(true, a, *va), t.meant(false, b, *vb))
		}
		t.c.add(d)
	}
	for x := range a.Attrs() {
		name := schema.NameOf(x.Name)
		y, there := other[name]
		delete(other, name)
		switch {
		case !there:
			tell(x.Name, &x.Value, nil)
		case x.Value != y.Value || t.meant(true, a, x.Value) != t.meant(false, b, y.Value):
			tell(x.Name, &x.Value, &y.Value)
		}
	}
	for x := range b.Attrs() {
		if _, left := other[schema.NameOf(x.Name)]; left {
			tell(x.Name, nil, &x.Value)
		}
	}
}

// level aligns what stands in two elements, and compares those that stand for one another.
func (t *trees) level(ca, cb []xmltree.Node, path string) {
	names := steps(ca)
	ha, hb := make([]uint64, len(ca)), make([]uint64, len(cb))
	for i, n := range ca {
		ha[i] = t.hash(true, n)
	}
	for i, n := range cb {
		hb[i] = t.hash(false, n)
	}
	var leftA, leftB []int // of each gap between what is equal
	var lostA, lostB []int
	flush := func() {
		if leftA == nil && leftB == nil {
			return
		}
		x, y := t.pairUp(names, ca, cb, leftA, leftB, path)
		lostA, lostB = append(lostA, x...), append(lostB, y...)
		leftA, leftB = nil, nil
	}
	i, j := 0, 0
	for _, m := range common(ha, hb) {
		for ; i < m[0]; i++ {
			leftA = append(leftA, i)
		}
		for ; j < m[1]; j++ {
			leftB = append(leftB, j)
		}
		flush()
		i, j = m[0]+1, m[1]+1
		t.countAside(ca[m[0]], cb[m[1]])
	}
	for ; i < len(ca); i++ {
		leftA = append(leftA, i)
	}
	for ; j < len(cb); j++ {
		leftB = append(leftB, j)
	}
	flush()
	t.lost(ca, cb, ha, hb, lostA, lostB, path)
}

func kids(n xmltree.Node) (out []xmltree.Node) {
	for c := range n.Children() {
		out = append(out, c)
	}
	return out
}

// countAside notes what is set aside within two subtrees that are equal without it.
func (t *trees) countAside(a, b xmltree.Node) {
	if string(a.Bytes()) == string(b.Bytes()) {
		return
	}
	na, nb := a.Name(), b.Name()
	if na.Prefix != nb.Prefix {
		t.c.add(Difference{
			Kind: Namespace, Path: na.Local, Aside: true,
			A: t.place(true, a, na.Qualified()), B: t.place(false, b, nb.Qualified()),
		})
	}
	t.attributes(a, b, na.Local)
	t.besides(a, b, na.Local)
	x, y := kids(a), kids(b)
	if len(x) == 0 && len(y) == 0 {
		t.leaf(a, b, na.Local)
		return
	}
	for i := range min(len(x), len(y)) {
		t.countAside(x[i], y[i])
	}
}

// keyNames are names of children and attributes that tell rows apart.
//
//nolint:gochecknoglobals // a table: it is never written to
var keyNames = []string{"id", "key", "code", "no", "nr", "number", "name", "sign", "date", "ref", "uuid", "time"}

// key is what tells an element from its siblings: a key-like attribute or child.
func key(n xmltree.Node) string {
	for _, want := range keyNames {
		for a := range n.Attrs() {
			if strings.EqualFold(a.Name.Local, want) {
				return want + "=" + a.Value
			}
		}
		for c := range n.Children() {
			if strings.EqualFold(c.Name().Local, want) && c.FirstChild().IsZero() {
				return want + "=" + c.Text()
			}
		}
	}
	return ""
}

// pairUp finds which of the children between two that are equal stand for one another:
// those of the same name and key, then those of the same name in their order, then one of
// another name or namespace with the same content. What is left has no counterpart.
func (t *trees) pairUp(
	names []string,
	ca, cb []xmltree.Node,
	left, right []int,
	path string,
) (restA, restB []int) {
	type pair struct{ i, j int }
	var pairs []pair
	take := func(fits func(x, y xmltree.Node) bool) {
		if len(left)*len(right) > maxPairs {
			return // too many to be looked at one by one
		}
		for li := 0; li < len(left); li++ {
			for rj := range right {
				if fits(ca[left[li]], cb[right[rj]]) {
					pairs = append(pairs, pair{left[li], right[rj]})
					left, right = slices.Delete(left, li, li+1), slices.Delete(right, rj, rj+1)
					li--
					break
				}
			}
		}
	}
	sameName := func(x, y xmltree.Node) bool {
		return x.Name().Local == y.Name().Local && t.space(true, x.Name().Space) == y.Name().Space
	}
	take(func(x, y xmltree.Node) bool { k := key(x); return sameName(x, y) && k != "" && k == key(y) })
	take(func(x, y xmltree.Node) bool { return sameName(x, y) && (key(x) == "" || key(y) == "" || t.alike(x, y)) })
	if len(left) == len(right) {
		take(sameName)
	}
	take(func(x, y xmltree.Node) bool {
		return x.Name().Local == y.Name().Local && x.Name().Space != y.Name().Space
	})
	slices.SortFunc(pairs, func(x, y pair) int { return x.i - y.i })
	for _, p := range pairs {
		t.element(ca[p.i], cb[p.j], child(path, names[p.i]))
	}
	return left, right
}

// maxPairs bounds how many pairs of children are looked at one by one.
const maxPairs = 4 << 20

// alike tells whether two elements have more children in common than not.
func (t *trees) alike(a, b xmltree.Node) bool {
	x, y := kids(a), kids(b)
	same := 0
	for i := range min(len(x), len(y)) {
		if t.hash(true, x[i]) == t.hash(false, y[i]) {
			same++
		}
	}
	return 2*same >= max(len(x), len(y)) && same > 0
}

// steps are the names of children in a path, each with its number where it has siblings
// of that name.
func steps(all []xmltree.Node) []string {
	out, total, seen := make([]string, len(all)), map[string]int{}, map[string]int{}
	for _, n := range all {
		total[n.Name().Local]++
	}
	for i, n := range all {
		name := n.Name().Local
		if out[i] = name; total[name] > 1 {
			seen[name]++
			out[i] = name + "[" + strconv.Itoa(seen[name]) + "]"
		}
	}
	return out
}

// lost tells what has no counterpart: it stands elsewhere, under another name, or is on
// one side only.
func (t *trees) lost(ca, cb []xmltree.Node, ha, hb []uint64, left, right []int, path string) {
	for li := 0; li < len(left); li++ {
		i := left[li]
		rj := slices.IndexFunc(right, func(j int) bool { return ha[i] == hb[j] })
		kind := Moved
		if rj < 0 && len(left) == len(right) {
			kind = Renamed
			rj = slices.IndexFunc(right, func(j int) bool {
				return ca[i].Name().Space == cb[j].Name().Space && content(ca[i]) == content(cb[j]) &&
					content(ca[i]) != ""
			})
		}
		if rj < 0 {
			continue
		}
		j := right[rj]
		d := Difference{Kind: kind, Path: child(path, ca[i].Name().Local), A: t.place(true, ca[i], content(ca[i])),
			B: t.place(false, cb[j], content(cb[j]))}
		if kind == Renamed {
			d.A.Value, d.B.Value = ca[i].Name().Local, cb[j].Name().Local
		}
		t.c.add(d)
		left, right = slices.Delete(left, li, li+1), slices.Delete(right, rj, rj+1)
		li--
	}
	for _, i := range left {
		t.c.add(Difference{
			Kind: Missing, Path: child(path, ca[i].Name().Local),
			A: t.place(true, ca[i], content(ca[i])), Why: t.whyMissing(ca[i], true),
		})
	}
	for _, j := range right {
		t.c.add(Difference{
			Kind: Added, Path: child(path, cb[j].Name().Local),
			B: t.place(false, cb[j], content(cb[j])), Why: t.whyMissing(cb[j], false),
		})
	}
}

// whyMissing says which side has something, where one of them passed and the other did
// not.
func (t *trees) whyMissing(n xmltree.Node, inA bool) string {
	passed := func(s *Side) bool { return s.Outcome == "passed" }
	a, b := passed(t.c.a), passed(t.c.b)
	name := n.Name().Local
	switch {
	case a == b || t.c.a.Outcome == "" || t.c.b.Outcome == "":
		return ""
	case inA == a:
		return "the one that passes has " + article(name)
	}
	return "the one that passes has none"
}

func article(name string) string {
	if strings.ContainsRune("AEIOUaeiou", rune(name[0])) {
		return "an " + name
	}
	return "a " + name
}

// common are the pairs of places of a longest run that two lists have in common, by the
// linear variant of Myers' algorithm: fast where they differ in little. Where they differ
// in very much, the ends that are equal are taken alone.
func common(a, b []uint64) (out [][2]int) {
	start := 0
	for start < len(a) && start < len(b) && a[start] == b[start] {
		out = append(out, [2]int{start, start})
		start++
	}
	endA, endB := len(a), len(b)
	for endA > start && endB > start && a[endA-1] == b[endB-1] {
		endA--
		endB--
	}
	for _, m := range myers(a[start:endA], b[start:endB]) {
		out = append(out, [2]int{m[0] + start, m[1] + start})
	}
	for i := endA; i < len(a); i++ {
		out = append(out, [2]int{i, endB + i - endA})
	}
	return out
}

// maxEdits bounds how many edits are looked for between two lists.
const maxEdits = 2000

func myers(a, b []uint64) (out [][2]int) {
	n, m := len(a), len(b)
	if n == 0 || m == 0 {
		return nil
	}
	limit := min(n+m, maxEdits)
	var trace [][]int
	v := make([]int, 2*limit+4)
	at := func(k int) int { return k + limit + 1 }
	for d := 0; d <= limit; d++ {
		trace = append(trace, slices.Clone(v[at(-d)-1:at(d)+2]))
		for k := -d; k <= d; k += 2 {
			x := 0
			if k == -d || k != d && v[at(k-1)] < v[at(k+1)] {
				x = v[at(k+1)]
			} else {
				x = v[at(k-1)] + 1
			}
			y := x - k
			for x < n && y < m && a[x] == b[y] {
				x++
				y++
			}
			v[at(k)] = x
			if x >= n && y >= m {
				return backtrack(trace, n, m, d)
			}
		}
	}
	return byOrder(a, b)
}

// backtrack reads the pairs from the traces of a search that ended after d edits.
func backtrack(trace [][]int, x, y, d int) (out [][2]int) {
	for ; d > 0; d-- {
		v := trace[d]
		get := func(k int) int { // the trace of d holds k from -d-1 to d+1
			if i := k + d + 1; i >= 0 && i < len(v) {
				return v[i]
			}
			return 0
		}
		k := x - y
		prev := k - 1
		if k == -d || k != d && get(k-1) < get(k+1) {
			prev = k + 1
		}
		px := get(prev)
		py := px - prev
		for x > px && y > py && x > 0 && y > 0 {
			x--
			y--
			out = append(out, [2]int{x, y})
		}
		x, y = px, py
	}
	for x > 0 && y > 0 {
		x--
		y--
		out = append(out, [2]int{x, y})
	}
	slices.Reverse(out)
	return out
}

// byOrder pairs what is equal greedily: for lists that differ in very much.
func byOrder(a, b []uint64) (out [][2]int) {
	places := map[uint64][]int{}
	for j, h := range b {
		places[h] = append(places[h], j)
	}
	last := -1
	for i, h := range a {
		for _, j := range places[h] {
			if j > last {
				out = append(out, [2]int{i, j})
				last = j
				break
			}
		}
	}
	return out
}
