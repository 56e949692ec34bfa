package reply

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/safe"
	"orenda/internal/user"
	"orenda/internal/xmltree"
)

// laid is a line of the reply laid out: a run of its bytes at a depth.
type laid struct {
	from, to int // in the document
	depth    int
}

// maxLines bounds what is laid out.
const maxLines = 1 << 20

// layOut puts each tag, each element that holds a value alone, and each text beside
// elements on a line of its own. The bytes of the lines are those of the reply.
func layOut(d *xmltree.Document) (out []laid) {
	if d == nil {
		return nil
	}
	var walk func(n xmltree.Node, depth int)
	walk = func(n xmltree.Node, depth int) {
		for k := range n.Nodes() {
			if len(out) >= maxLines {
				return
			}
			s := k.Span()
			if k.Kind() != xmltree.StartElement || k.FirstChild().IsZero() {
				out = append(out, laid{s.Start, s.End, depth})
				continue
			}
			inner := k.Inner()
			out = append(out, laid{s.Start, inner.Start, depth})
			walk(k, depth+1)
			out = append(out, laid{inner.End, s.End, depth})
		}
	}
	walk(d.Document(), 0)
	return out
}

// styled tells markup from values by weight. inside tells whether it begins in a tag.
func styled(text string) string {
	var b strings.Builder
	for text != "" {
		i := strings.IndexByte(text, '<')
		if i < 0 {
			i = len(text)
		}
		b.WriteString(text[:i])
		text = text[i:]
		end := strings.IndexByte(text, '>') + 1
		if end == 0 {
			end = len(text)
		}
		if end > 0 {
			b.WriteString(ui.Soft(text[:end]))
		}
		text = text[end:]
	}
	return b.String()
}

// written is a line as it is drawn: moved to the left, markup told apart.
func (v *View) written(text string, w int) string {
	text = safe.Line(strings.NewReplacer("\r\n", "↵", "\n", "↵", "\r", "↵", "\t", "  ").Replace(text))
	if v.left > 0 {
		text = ansi.Cut(text, v.left, v.left+w)
	}
	return styled(ui.Cut(text, w))
}

// aside moves long lines.
func (v *View) aside(k tea.KeyPressMsg) tea.Cmd {
	const by = 8
	switch {
	case ui.Is(k, "left"):
		v.left = max(v.left-by, 0)
	case ui.Is(k, "right"):
		v.left += by
	case ui.Is(k, "shift+left"):
		v.left = 0
	case ui.Is(k, "shift+right"):
		v.left = max(v.longest()-v.width+16, 0)
	}
	v.left = min(v.left, max(v.longest()-by, 0))
	return nil
}

// longest is the width of the longest line in sight.
func (v *View) longest() (most int) {
	top := v.top[v.mode()]
	for i := top; i < min(v.count(), top+v.height); i++ {
		most = max(most, ui.Width(v.plain(i)))
	}
	return most
}

// plain is the text of a line of exact, laid out or JSON.
func (v *View) plain(i int) string {
	switch v.mode() {
	case exact:
		return strings.TrimRight(string(v.lineBytes(i)), "\r\n")
	case out:
		l := v.doc.laid[i]
		return strings.Repeat("  ", min(l.depth, 40)) + string(v.doc.raw.Src[l.from:l.to])
	case slim:
		return v.doc.json[i]
	}
	return ""
}

// place is where in the reply the cursor of a mode stands, in bytes; -1 where that is not
// known.
func (v *View) place(m mode) int64 {
	c := v.cursor[m]
	switch {
	case m == exact && c < len(v.doc.lines):
		return v.doc.lines[c]
	case m == out && c < len(v.doc.laid):
		return int64(v.doc.raw.SourceOffset(v.doc.laid[c].from))
	case m == fields && c < len(v.doc.rows) && v.doc.opened == 0:
		return int64(v.doc.doc.SourceOffset(v.node(c).Span().Start))
	}
	return -1
}

// goTo puts the cursor of a mode at a place in the reply.
func (v *View) goTo(m mode, at int64) {
	if at < 0 {
		return
	}
	last := 0
	for i := range v.countOf(m) {
		was := v.cursor[m]
		v.cursor[m] = i
		here := v.place(m)
		v.cursor[m] = was
		if here < 0 || here > at {
			break
		}
		last = i
	}
	v.cursor[m] = last
}

// hits are the lines of a mode that hold what is searched for.
func (v *View) hits() (all []int) {
	want := strings.ToLower(v.find)
	has := func(s string) bool { return strings.Contains(strings.ToLower(s), want) }
	for i := range v.count() {
		found := false
		switch v.mode() {
		case exact, out, slim:
			found = has(v.plain(i))
		case rows:
			for _, c := range v.doc.grid.cells[v.doc.grid.order[i]] {
				found = found || has(c.Text)
			}
		case fields:
			found = v.fieldHas(v.node(i), has)
		}
		if found {
			all = append(all, i)
		}
	}
	return all
}

// fieldHas tells whether a field's name, value, attributes or path hold something.
func (v *View) fieldHas(n xmltree.Node, has func(string) bool) bool {
	if has(n.Name().Local) || n.FirstChild().IsZero() && has(n.Text()) {
		return true
	}
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace && (has(a.Name.Local) || has(a.Value)) {
			return true
		}
	}
	return strings.Contains(v.find, "/") && has(n.Path())
}

// next goes to the next hit, or with N to the one before, and says which of how many.
func (v *View) next(back bool) {
	if v.find == "" || v.count() == 0 || v.mode() == parts {
		return
	}
	all := v.hits()
	if len(all) == 0 {
		v.s.Say("%q is not in this reply", v.find)
		return
	}
	at := 0
	for at < len(all) && all[at] <= v.cursor[v.mode()] {
		at++
	}
	if back {
		at = 0
		for at < len(all) && all[at] < v.cursor[v.mode()] {
			at++
		}
		at += len(all) - 1
	}
	at %= len(all)
	v.cursor[v.mode()] = all[at]
	v.s.Say("%q: %d of %d", v.find, at+1, len(all))
}

// write asks for a file, and puts the body there.
func (v *View) write() tea.Cmd {
	body := v.doc.body
	if len(body) == 0 {
		v.s.Say("there is no body")
		return nil
	}
	return state.AskFor("save the body as", "reply-"+v.doc.id+".xml", func(name string) {
		if _, err := os.Stat(name); err == nil {
			v.s.Say("%s is there already", filepath.Base(name))
			return
		}
		if err := user.WriteFile(name, body); err != nil {
			v.s.Say("%v", err)
			return
		}
		v.s.Say("saved: %s, %s bytes", filepath.Base(name), endpoint.Bytes(int64(len(body))))
	})
}

// packed is how many bytes something takes compressed with gzip.
func packed(b []byte) int64 {
	var n counted
	z := gzip.NewWriter(&n)
	_, _ = z.Write(b)
	_ = z.Close()
	return int64(n)
}

type counted int64

func (c *counted) Write(p []byte) (int, error) {
	*c += counted(len(p))
	return len(p), nil
}

// sizes are what the reply takes in each of its forms.
type sizes struct {
	reply, json       int64 // bytes
	replyZip, jsonZip int64 // compressed with gzip
}

func (r *reading) weigh() {
	json := []byte(strings.Join(r.json, "\n"))
	r.sizes = sizes{int64(len(r.body)), int64(len(json)), packed(r.body), packed(compactJSON(json))}
	r.sizes.json = int64(len(compactJSON(json)))
}

// compactJSON is JSON without the white space of its layout.
func compactJSON(b []byte) []byte {
	var out bytes.Buffer
	for l := range bytes.Lines(b) {
		out.Write(bytes.TrimSpace(l))
	}
	return out.Bytes()
}

// weights are the sizes in words.
func (s *sizes) weights() string {
	if s.json == 0 {
		return ""
	}
	return fmt.Sprintf("XML %s B, gzip %s · JSON %s B, gzip %s", endpoint.Bytes(s.reply), endpoint.Bytes(s.replyZip),
		endpoint.Bytes(s.json), endpoint.Bytes(s.jsonZip))
}
