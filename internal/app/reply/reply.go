// Package reply reads the answer: as fields, as rows, as slim JSON, or as the
// exact bytes.
package reply

import (
	"bytes"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/data"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/message"
	"orenda/internal/related"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/workspace"
	"orenda/internal/xmltree"
)

type mode int

const (
	fields mode = iota
	rows
	slim
	out // laid out
	exact
	parts
	modes
)

//nolint:gochecknoglobals // a table: it is never written to
var modeNames = [modes]string{"fields", "rows", "JSON", "laid out", "exact", "parts"}

// View is the reply.
type View struct {
	ui.Bar

	s      *state.State
	wish   mode // how it was wished to be looked at last
	cursor [modes]int
	top    [modes]int
	height int
	width  int
	left   int // columns that long lines are moved by
	doc    reading
	in     ui.Input
	find   string
}

// reading is a reply that was read, with what each mode lists.
type reading struct {
	id      string
	doc     *xmltree.Document
	where   xmltree.Locator // of its fields
	err     error
	busy    bool
	rows    []uint32 // indexes of nodes, for fields
	depths  []uint8
	lines   []int64 // offsets of lines, for exact
	body    []byte
	values  int64 // bytes of values
	base    xmltree.Node
	isFault bool
	parts   []related.Part
	grid    *grid             // what repeats, for rows
	json    []string          // its lines, for JSON
	raw     *xmltree.Document // as it came: doc has the documents in its values opened
	opened  int               // how many those are
	laid    []laid            // lines, for laid out
	sizes   sizes
}

// New makes the reply view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.in.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.in.Active {
		return []ui.Key{{Show: "⏎", Does: "search"}, {Show: "esc", Does: "not now"}}
	}
	keys := []ui.Key{
		ui.Shown("up down", "↑↓", "move"),
		ui.On("tab", "tab", "fields, rows, JSON, laid out, bytes", ui.Do(v.turn)),
	}
	if m := v.mode(); m == exact || m == out || m == slim {
		keys = append(keys, ui.On("left right shift+left shift+right", "←→", "long lines (⇧ to their ends)", v.aside))
	}
	if v.mode() == rows {
		keys = append(keys,
			ui.On("left right h l", "←→", "column", func(k tea.KeyPressMsg) tea.Cmd { v.column(k); return nil }),
			ui.On("enter", "⏎", "order by it", ui.Do(v.doc.grid.sort)),
			ui.On("/", "/", "only rows with …", ui.Asks(v.filter)),
			ui.On("w", "w", "draw the column", ui.Asks(v.drawColumn)).InHelp())
		if len(v.doc.grid.all) > 1 {
			keys = append(keys, ui.On("]", "]", "next table", ui.Do(v.doc.grid.another)))
		}
	}
	take := ui.On("F", "F", "save its files: the parts, into a folder", ui.Asks(v.save))
	if v.mode() == parts {
		keys = append(keys, take)
	} else {
		keys = append(keys, ui.Shown("y", "y", "copy"), take.InHelp())
		if v.mode() != rows {
			keys = append(keys,
				ui.On("/", "/", "search", ui.Do(func() { v.in.Start(v.find) })),
				ui.On("n", "n", "next hit", ui.Do(func() { v.next(false) })),
				ui.On("N", "N", "hit before", ui.Do(func() { v.next(true) })).InHelp())
		}
		keys = append(keys, ui.On("W", "W", "save the body as a file", ui.Asks(v.write)))
	}
	return append(keys,
		ui.Shown("p", "p", "path"),
		ui.Shown("?", "?", "help"),
		ui.On("esc", "esc", "path", v.back).InHelp())
}

// back takes a filter off, or goes to the path.
func (v *View) back(k tea.KeyPressMsg) tea.Cmd {
	if v.mode() == rows && v.doc.grid.filter != "" {
		v.doc.grid.keep("")
		return nil
	}
	return state.To("path")(k)
}

// filter asks what the rows must hold that are shown.
func (v *View) filter() tea.Cmd {
	g := v.doc.grid
	return state.AskFor("only rows with", g.filter, func(text string) {
		g.keep(text)
		v.cursor[rows] = 0
	})
}

// drawColumn asks for a file, and draws the chosen column there.
func (v *View) drawColumn() tea.Cmd {
	x, g := v.s.Exchange(), v.doc.grid
	return v.s.AskDrawing("column-"+x.ID, func() (state.Drawing, error) { return g.drawing(x.Operation) })
}

// turn goes to the next way to look at the reply.
func (v *View) turn() {
	at := v.place(v.mode())
	for v.wish = (v.mode() + 1) % modes; !v.has(v.wish); {
		v.wish = (v.wish + 1) % modes
	}
	v.left = 0
	if at >= 0 && v.place(v.wish) >= 0 {
		v.goTo(v.wish, at)
	}
}

// mode is how the reply is looked at: as was wished for last, where it can be.
func (v *View) mode() mode {
	if v.has(v.wish) {
		return v.wish
	}
	return fields
}

// has tells whether the reply can be looked at in that way.
func (v *View) has(m mode) bool {
	switch m {
	case rows:
		return v.doc.grid != nil && len(v.doc.grid.all) > 0
	case slim:
		return len(v.doc.json) > 0
	case out:
		return len(v.doc.laid) > 0
	case parts:
		return v.doc.parts != nil
	}
	return true
}

// column goes to the column beside the chosen one.
func (v *View) column(k tea.KeyPressMsg) {
	by := 1
	if ui.Is(k, "left", "h") {
		by = -1
	}
	v.doc.grid.move(by)
}

// read is what a reading in the background brings.
type read struct{ r reading }

// prepare reads a reply that was not read yet, apart from the program's loop.
func (v *View) prepare() tea.Cmd {
	x := v.s.Exchange()
	l := x.Leg()
	if v.doc.id == x.ID || l == nil || l.Stored() || l.BodyCut() || x.Outcome == exchange.OutcomeUnderWay {
		return nil
	}
	v.doc = reading{id: x.ID, busy: true}
	v.cursor, v.top = [modes]int{}, [modes]int{}
	id, body, all, w := x.ID, l.Readable(), l.Parts, v.s.W
	name, operation := x.Contract, x.Operation
	return func() tea.Msg {
		r := readBody(id, body)
		r.parts = all
		r.lay(declared(w, name, operation))
		return read{r}
	}
}

// declared are the schemas of a contract, and what an operation answers by them.
func declared(w *workspace.Workspace, name, operation string) (*schema.Set, *schema.Element) {
	c, err := w.Contract(name)
	if err != nil {
		return nil, nil
	}
	if o := state.Operation(c, operation); o != nil && o.Output != nil {
		return c.Schemas, o.Output.Element
	}
	return c.Schemas, nil
}

// maxLaid is how large a reply may be to be laid out as JSON here.
const maxLaid = 16 << 20

// lay makes rows and JSON of a reply, by its declaration where there is one.
func (r *reading) lay(set *schema.Set, decl *schema.Element) {
	if r.base.IsZero() || r.isFault || r.err != nil {
		return
	}
	r.grid = newGrid(set, decl, r.base)
	if len(r.body) <= maxLaid {
		r.json = strings.Split(strings.TrimRight(string(data.JSON(set, decl, r.base)), "\n"), "\n")
		r.weigh()
	}
}

func readBody(id string, body []byte) reading {
	r := reading{id: id, body: body}
	for at := int64(0); at < int64(len(body)); {
		r.lines = append(r.lines, at)
		n := bytes.IndexByte(body[at:min(at+2000, int64(len(body)))], '\n')
		if n < 0 {
			at += min(2000, int64(len(body))-at)
		} else {
			at += int64(n) + 1
		}
	}
	r.doc, r.err = xmltree.Parse(body, xmltree.Limits{Depth: 100000})
	r.raw = r.doc
	r.laid = layOut(r.raw)
	if r.err == nil {
		r.doc, r.opened = data.Unfold(r.doc)
	}
	if e := soap.Read(r.doc); e != nil {
		r.base, r.isFault = e.Payload, e.Fault != nil
		if r.base.IsZero() {
			r.base = e.Body
		}
	} else {
		r.base = r.doc.Root()
	}
	var walk func(n xmltree.Node, depth int)
	walk = func(n xmltree.Node, depth int) {
		for c := range n.Children() {
			r.rows = append(r.rows, uint32(c.Index()))
			r.depths = append(r.depths, uint8(min(depth, 255)))
			if c.FirstChild().IsZero() {
				r.values += int64(c.Inner().Len())
			} else if depth < 5000 {
				walk(c, depth+1)
			}
		}
	}
	if !r.base.IsZero() {
		walk(r.base, 0)
	}
	return r
}

// Open tells the view that it is shown; it reads what is to be read.
func (v *View) Open() tea.Cmd { return v.prepare() }

func (v *View) count() int { return v.countOf(v.mode()) }

func (v *View) countOf(m mode) int {
	switch m {
	case exact:
		return len(v.doc.lines)
	case parts:
		return len(v.doc.parts)
	case rows:
		return len(v.doc.grid.order)
	case slim:
		return len(v.doc.json)
	case out:
		return len(v.doc.laid)
	}
	return len(v.doc.rows)
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if r, ok := msg.(read); ok {
		if r.r.id == v.doc.id {
			v.doc = r.r
			if len(v.doc.rows) == 0 {
				v.wish = exact
			}
		}
		return nil
	}
	if v.in.Active {
		end, cmd := v.in.Type(msg)
		if end == ui.Kept {
			v.find = v.in.Value()
			v.next(false)
		}
		return cmd
	}
	v.move(ui.Rows(msg, v.height, v.count()))
	switch msg := msg.(type) {
	case state.Wake:
		return v.prepare()
	case tea.KeyPressMsg:
		return ui.Press(v.Keys(), msg)
	}
	return nil
}

func (v *View) move(d int) {
	v.cursor[v.mode()] = min(max(v.cursor[v.mode()]+d, 0), max(v.count()-1, 0))
}

func (v *View) node(i int) xmltree.Node { return v.doc.doc.NodeAt(int(v.doc.rows[i])) }

// Copies implements ui.Copier.
func (v *View) Copies() (out []ui.Copy) {
	if text, ok := v.chosenText(); ok {
		what := "the line"
		if v.mode() == rows {
			what = "the cell"
		}
		out = append(out, ui.Text(what, text))
	}
	if v.mode() == fields && v.count() > 0 {
		n := v.node(v.cursor[fields])
		if n.FirstChild().IsZero() {
			out = append(out, ui.Copy{What: "the value", Text: n.Text})
		}
		out = append(out,
			ui.Copy{What: "the element as XML", Text: func() string { return message.Alone(n) }},
			ui.Copy{What: "its path", Text: func() string {
				return strings.TrimPrefix(n.Path(), v.doc.base.Path()+"/")
			}})
	}
	if len(v.doc.body) > 0 {
		out = append(out, ui.Copy{What: "the whole body", Text: func() string { return string(v.doc.body) }})
	}
	return out
}

// chosenText is the cell or the line at the cursor, where there are such.
func (v *View) chosenText() (string, bool) {
	at := v.cursor[v.mode()]
	switch {
	case at >= v.count():
	case v.mode() == rows:
		return v.doc.grid.cells[v.doc.grid.order[at]][v.doc.grid.column].Text, true
	case v.mode() == slim, v.mode() == out, v.mode() == exact:
		return strings.TrimSpace(v.plain(at)), true
	}
	return "", false
}

// save asks for a folder, and puts the parts there.
func (v *View) save() tea.Cmd {
	x := v.s.Exchange()
	l := x.Leg()
	if l == nil || len(l.Parts) < 2 {
		v.s.Say("this reply has no parts beside its envelope")
		return nil
	}
	return func() tea.Msg {
		return state.Ask{Prompt: "save the parts into the folder", Value: "parts-" + x.ID, Answer: func(dir string) {
			saved, err := handover.SaveParts(l, dir)
			if err != nil {
				v.s.Say("%v", err)
				return
			}
			v.s.Say("saved: %s", strings.Join(saved, ", "))
		}}
	}
}

func (v *View) lineBytes(i int) []byte {
	end := int64(len(v.doc.body))
	if i+1 < len(v.doc.lines) {
		end = v.doc.lines[i+1]
	}
	return v.doc.body[v.doc.lines[i]:end]
}

// View implements ui.View.
//
//revive:disable-next-line:cyclomatic one screen, or the keys of one
func (v *View) View(w, h int) string {
	x := v.s.Exchange()
	l := x.Leg()
	title := "   " + ui.Strong(ui.Cut(x.Operation+" → "+x.Endpoint, w/2))
	if l == nil || x.Outcome == exchange.OutcomeUnderWay || v.doc.id != x.ID && !l.Stored() && !l.BodyCut() {
		text := "no answer yet: g sends the call"
		if x.Outcome == exchange.OutcomeUnderWay && l != nil {
			text = "it is coming; s shows it arriving"
		}
		return ui.Block([]string{"", title, "", "   " + ui.Soft(text)}, w, h)
	}
	if l.Stored() || l.BodyCut() {
		return ui.Block([]string{"", title, "", "   " + ui.Strong(ui.Cut(x.Result, w-6)), "",
			"   " + ui.Soft(
				ui.Cut(
					fmt.Sprintf(
						"%s bytes, taken in flowing and kept on disk: too many for fields and rows.",
						endpoint.Bytes(l.Response.BodySize),
					),
					w-6,
				),
			),
			"   " + ui.Strong("s") + ui.Soft(" scrolls and searches them")}, w, h)
	}
	if v.doc.busy {
		return ui.Block(
			[]string{"", title, "", "   " + ui.Soft("reading "+endpoint.Bytes(l.ResponseBody.Len())+" bytes …")},
			w,
			h,
		)
	}
	size := int64(len(v.doc.body))
	over := ""
	if size > 0 && v.doc.values > 0 {
		over = fmt.Sprintf(" · %d %% of it values", v.doc.values*100/size)
	}
	tabs := ""
	for m, n := range modeNames {
		if !v.has(mode(m)) {
			continue
		}
		if mode(m) == v.mode() {
			tabs += ui.Strong(n) + "  "
		} else {
			tabs += ui.Soft(n) + "  "
		}
	}
	lines := []string{"", title + ui.Soft(fmt.Sprintf("   %s B%s   ", endpoint.Bytes(size), over)) + tabs}
	if v.doc.err != nil {
		lines = append(lines, "   "+ui.Accent(ui.Cut("readable so far; then: "+v.doc.err.Error(), w-6)))
	} else {
		lines = append(lines, "")
	}
	if v.mode() == rows {
		lines = append(lines, v.doc.grid.head(w))
	}
	v.height, v.width = h-len(lines)-1, w
	c := min(v.cursor[v.mode()], max(v.count()-1, 0))
	v.top[v.mode()] = ui.Window(c, v.top[v.mode()], v.height, v.count())
	v.Bar = ui.Bar{First: len(lines), Height: v.height, Lines: v.count(), At: c, Count: v.count()}
	for i := v.top[v.mode()]; i < v.count() && i < v.top[v.mode()]+v.height; i++ {
		lines = append(lines, v.row(i, i == c, w))
	}
	if v.count() == 0 {
		text := "the body is empty"
		if v.mode() == rows {
			text = "no row has that; esc takes the filter off"
		}
		lines = append(lines, "   "+ui.Soft(text))
	}
	for len(lines) < h-1 {
		lines = append(lines, "")
	}
	return ui.Block(append(lines, v.foot(c, w)), w, h)
}

// foot is the last line: where the cursor stands, and what is told of it.
func (v *View) foot(c, w int) string {
	foot := ui.Soft(fmt.Sprintf("   %s of %s", endpoint.Bytes(int64(c+1)), endpoint.Bytes(int64(v.count()))))
	if v.in.Active {
		foot = "   " + ui.Accent("/ ") + v.in.View(w-8)
	} else if v.mode() == slim {
		foot += ui.Soft("   " + ui.Cut(v.doc.sizes.weights(), w-30))
	} else if v.mode() == fields && v.count() > 0 {
		foot += ui.Soft("   " + ui.Cut(strings.TrimPrefix(v.doc.where.Path(v.node(c)), v.doc.base.Path()+"/"), w-40))
	}
	if v.mode() == rows && !v.in.Active {
		foot += ui.Soft("   "+ui.Cut(v.doc.grid.about(), w/3)) + "   " + ui.Cut(v.doc.grid.totals(), w/2)
	}
	return foot
}

// part is the number of the part that an element refers to, -1 where it does to
// none.
func (v *View) part(n xmltree.Node) int {
	href, ok := n.Attr("", "href")
	for i := range v.doc.parts {
		if ok && v.doc.parts[i].Refers(href) {
			return i
		}
	}
	return -1
}

func (v *View) row(i int, chosen bool, w int) string {
	lead := "   "
	if chosen {
		lead = ui.Accent(" ▌ ")
	}
	switch v.mode() {
	case rows:
		return v.doc.grid.line(i, chosen, w)
	case slim:
		text := ui.Cut(ansi.Cut(v.doc.json[i], v.left, v.left+w), w-6)
		if chosen {
			text = ui.Strong(text)
		}
		return lead + text
	case exact, out:
		text, place := v.plain(i), int64(0)
		if v.mode() == exact {
			place = v.doc.lines[i]
		} else {
			place = int64(v.doc.raw.SourceOffset(v.doc.laid[i].from))
		}
		return lead + ui.Soft(fmt.Sprintf("%9d  ", place)) + v.written(text, w-16)
	}
	if v.mode() == parts {
		p := v.doc.parts[i]
		name := handover.PartName(&p, i)
		if p.Root {
			name = "the envelope"
		}
		text := fmt.Sprintf(
			"%2d  %s %14s B  %s",
			i+1,
			ui.Fit(name, 32),
			endpoint.Bytes(int64(p.End-p.Start)),
			ui.Fit(p.Type, max(w/4, 12)),
		)
		if chosen {
			text = ui.Strong(text)
		}
		return lead + text + ui.Soft("  "+ui.Cut(p.ID, max(w-ui.Width(text)-8, 8)))
	}
	n := v.node(i)
	name := strings.Repeat("  ", min(int(v.doc.depths[i]), 20)) + n.Name().Local
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace {
			name += "  @" + a.Name.Local + " " + a.Value
		}
	}
	width := max(min(w/3, 40), 24)
	label := ui.Fit(name, width)
	value := ""
	switch p := v.part(n); {
	case p >= 0:
		value = ui.Cut(
			fmt.Sprintf(
				"→ part %d, %s, %s bytes",
				p+1,
				v.doc.parts[p].Type,
				endpoint.Bytes(int64(v.doc.parts[p].End-v.doc.parts[p].Start)),
			),
			w-width-6,
		)
	case n.FirstChild().IsZero():
		value = ui.Cut(n.Text(), w-width-6)
	}
	if chosen {
		return lead + ui.Strong(label) + " " + ui.Strong(value)
	}
	return lead + ui.Soft(label) + " " + value
}
