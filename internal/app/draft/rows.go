package draft

import (
	"context"
	"fmt"
	"strings"
	"unicode/utf8"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/endpoint"
	"orenda/internal/message"
	"orenda/internal/safe"
	"orenda/internal/schema"
	"orenda/internal/workspace"
)

// wide is the width from which on something stands beside the outline.
const wide = 120

// View implements ui.View.
func (v *View) View(w, h int) string {
	d := v.s.Draft()
	if d == nil {
		return ui.Block([]string{"", "   " + ui.Soft("choose a call on the board first")}, w, h)
	}
	rows := []string{"", v.title(w), ""}
	if v.raw != nil {
		v.area.SetWidth(w - 4)
		v.area.SetHeight(max(h-len(rows)-1, 3))
		for _, l := range strings.Split(v.area.View(), "\n") {
			rows = append(rows, "   "+l)
		}
		return ui.Block(rows, w, h)
	}
	left := w
	var right []string
	switch {
	case v.beside == differences && w < wide:
		return ui.Block(append(rows, v.differing(w-6, h-len(rows))...), w, h)
	case v.beside != nothing && w >= wide:
		left = w*3/5 + 4
		if v.beside == differences {
			right = v.differing(w-left-2, h-len(rows))
		} else {
			right = v.expectedReply(w - left - 2)
		}
	}
	foot := v.foot(w)
	v.height = max(h-len(rows)-len(foot), 1)
	body := v.outline(left)
	v.Bar.First = len(rows)
	for i := range v.height {
		l, r := "", ""
		if i < len(body) {
			l = body[i]
		}
		if i < len(right) {
			r = right[i]
		}
		rows = append(rows, ui.Pad(l, left)+r)
	}
	return ui.Block(append(rows, foot...), w, h)
}

// title is the draft's name, its size and whether it will do.
func (v *View) title(w int) string {
	h, d := v.parts()
	unfilled, faults := len(d.Unfilled()), v.faults(d)
	size := len(d.Bytes())
	bad := d.Err() != nil
	if h != nil {
		unfilled += len(h.Unfilled())
		faults += v.faults(h)
		bad = bad || h.Err() != nil
		for _, b := range h.Blocks() {
			size += len(b)
		}
	}
	verdict := ui.Good("valid")
	switch {
	case bad:
		verdict = ui.Accent("not well-formed")
	case unfilled > 0:
		verdict = ui.Accent(fmt.Sprintf("%d to fill in", unfilled))
	case faults > 0:
		verdict = ui.Accent(
			fmt.Sprintf("%d %s", faults, map[bool]string{true: "fault", false: "faults"}[faults == 1]),
		)
	}
	c := v.s.Chosen.Draft
	s := "   " + ui.Strong(ui.Cut(c.Operation+" · "+c.Name, w/2)) + ui.Soft(
		fmt.Sprintf("   %s B · ", endpoint.Bytes(int64(size))),
	) + verdict
	if v.s.Variables() {
		s += ui.Soft(" · with variables")
	}
	if d.Cut() {
		s += ui.Soft(" · its first rows; x has all of it")
	}
	if v.find.Active {
		s += "   " + ui.Accent("/ ") + v.find.View(min(w-ui.Width(s)-6, 30))
	}
	return s
}

// faults is how often a part breaks its schema, as it will leave.
func (v *View) faults(d *message.Draft) int {
	if v.s.Variables() {
		d = message.NewDraft(d.Schemas, d.Decl, []byte(v.s.Expand(string(d.Bytes()))))
	}
	return len(d.Validate())
}

// outline are the rows in sight.
func (v *View) outline(w int) []string {
	h, d := v.parts()
	n, heads := v.count(), v.headers()
	v.cursor = min(v.cursor, max(n-1, 0))
	height := v.height
	if heads > 0 {
		height-- // the line between the two parts
	}
	v.top = ui.Window(v.cursor, v.top, height, n)
	v.Bar = ui.Bar{Height: height, Lines: n, At: v.cursor, Count: n}
	var out []string
	for i := v.top; i < n && i < v.top+v.height; i++ {
		if i == heads && heads > 0 {
			out = append(out, "   "+ui.Soft("body "+strings.Repeat("─", 12)))
		}
		_, it := v.at(i)
		out = append(out, v.row(it, i == v.cursor, i < heads, w))
		if i == v.cursor && v.picked != nil {
			if v.picked.typed != "" {
				out = append(out, strings.Repeat(" ", 32)+ui.Accent("› ")+v.picked.typed)
			}
			for k, o := range v.picked.options {
				mark, text := "  ", o.text
				if k == v.picked.at {
					mark, text = ui.Accent("› "), ui.Strong(o.text)
				}
				if o.about != "" {
					text += ui.Soft("  " + ui.Cut(o.about, w/2))
				}
				out = append(out, strings.Repeat(" ", 32)+mark+text)
			}
		}
	}
	if len(d.Items()) == 0 {
		text := "the message has no fields"
		if d.Err() != nil || h != nil && h.Err() != nil {
			text = "the outline is back when the XML is well-formed: x edits it, u undoes"
		}
		out = append(out, "   "+ui.Soft(text))
	}
	return out
}

func (v *View) row(it message.Item, chosen, header bool, w int) string {
	lead := "   "
	if chosen {
		lead = ui.Accent(" ▌ ")
	}
	name := strings.Repeat("  ", it.Depth) + it.Name
	if it.Index > 1 {
		name += fmt.Sprintf(" [%d]", it.Index)
	}
	label := max(min(w/4, 30), 18)
	text := ui.Fit(name, label)
	tw := max(min(w*2/5, 46), 0)
	vw := w - label - tw - 8
	typ := kindOf(it, header)
	value := ui.Cut(safe.Visible(it.Value), vw)
	switch {
	case it.Kind == message.Fork:
		var parts []string
		for i, b := range it.Branches {
			if i == it.Chosen {
				b = ui.Strong(ui.Cut(b, 30))
			} else {
				b = ui.Soft(ui.Cut(b, 30))
			}
			parts = append(parts, b)
		}
		return lead + strings.Repeat("  ", it.Depth) + strings.Join(parts, " ◇ ") + "   " + ui.Soft(typ)
	case chosen && v.in.Active:
		value = ui.Accent("›") + v.in.View(max(vw-1, 6))
	case it.Nil:
		value = ui.Soft("nil")
	case it.Unfilled:
		value = ui.Accent("┄ to fill in")
	case !it.Present:
		value = ui.Soft("┄ left out")
		text = ui.Soft(text)
	case it.Kind == message.Branch:
		value = ""
	case it.Holds != 0:
		value = ui.Soft(it.Holds.String())
	case !header && it.Value != "" && !v.s.Reveal && v.s.SecretFields().Path(it.Path):
		value = "········ " + ui.Soft("secret")
	}
	if v.bad(it) != "" {
		value = ui.Accent("! ") + value
	}
	if chosen {
		text = ui.Strong(text)
	}
	return lead + text + "  " + ui.Pad(value, vw) + " " + ui.Soft(ui.Cut(typ, tw))
}

// kindOf is a row's type and how often it may stand.
func kindOf(it message.Item, header bool) string {
	var parts []string
	switch {
	case header && it.Depth == 0:
		return "header block"
	case it.Instance != "":
		parts = append(parts, it.Instance+", a "+it.Type)
	case it.Type != "":
		parts = append(parts, it.Type)
	}
	if !it.Required && it.Kind != message.Fork {
		parts = append(parts, "optional")
	}
	if it.Max == schema.Unbounded {
		parts = append(parts, "any number")
	} else if it.Max > 1 {
		parts = append(parts, fmt.Sprintf("up to %d", it.Max))
	}
	return strings.Join(parts, ", ")
}

// bad is what is wrong with a row's value, "" for nothing. A value with
// variables is judged by what they stand for.
func (v *View) bad(it message.Item) string {
	if len(it.Errors) == 0 || it.Unfilled {
		return ""
	}
	if r := v.resolved(it.Value); r != it.Value {
		return it.Wrong(r)
	}
	return it.Errors[0]
}

// foot is what is known of the field at the cursor.
func (v *View) foot(w int) []string {
	out := []string{""}
	d, it, ok := v.item()
	note := ""
	if ok {
		note = v.s.Notes()[workspace.FieldOf(v.path(v.cursor))].String()
	}
	switch {
	case d.Err() != nil:
		out = append(out, "   "+ui.Accent(ui.Cut(d.Err().Error(), w-6)))
	case !ok:
	case v.in.Active && v.wrong != "":
		out = append(out, "   "+ui.Accent(ui.Cut(v.wrong, w-6)))
	case !v.in.Active && v.bad(it) != "":
		out = append(out, "   "+ui.Accent(ui.Cut(v.bad(it), w-6)))
	case note != "" && it.Doc != "":
		out = append(out, "   "+ui.Cut(it.Doc, w/2-4)+"   "+ui.Strong("learned ")+ui.Cut(note, w/2-14))
	case note != "":
		out = append(out, "   "+ui.Strong("learned ")+ui.Cut(note, w-14))
	default:
		out = append(out, "   "+ui.Cut(it.Doc, w-6))
	}
	if ok {
		line := v.path(v.cursor) + v.length(it) + "  " + it.Type
		if r := v.resolved(it.Value); r != it.Value {
			line += "  = " + r
		}
		if n := len(d.Types(it)); n > 0 {
			line += fmt.Sprintf("  ←→ one of %d types, now %s", n, d.TypeNow(it).Local)
		}
		out = append(out, "   "+ui.Soft(ui.Cut(line, w-6)))
	}
	for len(out) < 3 {
		out = append(out, "")
	}
	return out
}

// length is how long the value at the cursor is, as it is typed: in characters and, where
// that is another number, in bytes.
func (v *View) length(it message.Item) string {
	if !it.Present || it.Unfilled || it.Kind != message.Leaf && it.Kind != message.Attr {
		return ""
	}
	value := it.Value
	if v.in.Active {
		value = v.in.Value()
	}
	n := utf8.RuneCountInString(value)
	s := fmt.Sprintf("  %d characters", n)
	if n == 1 {
		s = "  1 character"
	}
	if len(value) != n {
		s += fmt.Sprintf(", %d bytes", len(value))
	}
	return s
}

// differing is what differs from the draft that is compared with.
func (v *View) differing(w, h int) []string {
	head, d := v.parts()
	other, err := v.s.OtherDraft(v.other)
	if other.Body == nil && err == nil {
		return nil
	}
	out := []string{ui.Strong("differs from ") + ui.Cut(v.other.Name, w-14)}
	if err != nil {
		return append(out, ui.Soft(ui.Cut(err.Error(), w)))
	}
	diff := v.s.W.Differences(v.s.Chosen.Draft, v.other, workspace.Opened{Body: d, Header: head}, other)
	if len(diff) == 0 {
		return append(out, ui.Soft("in nothing"))
	}
	value := func(s string, has bool, w int) string {
		if !has {
			return ui.Soft(ui.Fit("┄ left out", w))
		}
		return ui.Fit(safe.Visible(s), w)
	}
	third := (w - 4) / 3
	out = append(out, ui.Soft(ui.Fit("", third)+"  "+ui.Fit("here", third)+"  "+ui.Fit("there", third)))
	for _, x := range diff {
		if len(out) == h-1 && len(diff)+2 > h {
			out = append(out, ui.Soft(fmt.Sprintf("and %d more", len(diff)-h+3)))
			break
		}
		out = append(out, ui.Fit(x.Path, third)+"  "+value(x.A, x.HasA, third)+"  "+value(x.B, x.HasB, third))
	}
	return out
}

// expected is the outline of the reply that the contract promises, read once.
type expected struct {
	name  string
	items []message.Item
	none  bool
}

func (v *View) expectedReply(w int) []string {
	ref, ws := v.s.Chosen.Draft, v.s.W
	exp := state.Known(v.s, "expected "+ref.Contract+" "+ref.Operation, func(context.Context) expected {
		c, err := ws.Contract(ref.Contract)
		if err != nil {
			return expected{none: true}
		}
		o := state.Operation(c, ref.Operation)
		if o == nil || o.Output == nil || o.Output.Element == nil {
			return expected{none: true}
		}
		e := o.Output.Element
		d := message.NewDraft(c.Schemas, e, message.Sample(c.Schemas, e, message.Want{All: true}))
		return expected{name: e.Name.Local, items: d.Items()}
	})
	if exp.none {
		return []string{ui.Soft("no reply is due")}
	}
	out := []string{ui.Strong("expected reply") + ui.Soft("   "+ui.Cut(exp.name, w-20))}
	for _, it := range exp.items[:min(len(exp.items), 200)] {
		out = append(
			out,
			ui.Fit(strings.Repeat("  ", it.Depth)+it.Name, 20)+"  "+ui.Soft(ui.Cut(it.Type, max(w-22, 0))),
		)
	}
	return out
}
