package code

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// layout is how the formatter of a language breaks a statement that is longer than a line. Templates
// write each statement in one line; what follows from the lengths of names is done here.
type layout struct {
	width  int    // columns of a line
	indent string // of what stands between brackets
	inner  bool   // all that stands between the brackets may go into one line of its own
	last   bool   // a list or an object that comes last stays behind its bracket
	hangs  bool   // what closes a bracket stays behind what it holds, without a comma
	quotes string // what begins and ends a text
	remark string // what begins a comment that goes to the end of the line
}

// fit breaks the lines of a program that are too long. What holds nothing to break stays.
func (l *layout) fit(text string) string {
	lines := strings.Split(text, "\n")
	out := make([]string, 0, len(lines))
	for _, line := range lines {
		out = append(out, l.line(line)...)
	}
	return strings.Join(out, "\n")
}

func (l *layout) fits(line string) bool { return utf8.RuneCountInString(line) <= l.width }

// line is a statement in as many lines as it needs.
func (l *layout) line(line string) []string {
	code := strings.TrimLeft(line, " ")
	if l.fits(line) || strings.HasPrefix(code, l.remark) {
		return []string{line}
	}
	lead := line[:len(line)-len(code)]
	head, inside, tail, ok := l.brackets(code)
	if !ok {
		return []string{line}
	}
	items := l.items(inside)
	if n := len(items); l.last && n > 0 && opens(items[n-1]) {
		first := append(items[:n-1:n-1], items[n-1][:1])
		if start := lead + head + strings.Join(first, ", "); l.fits(start) {
			within := items[n-1][1 : len(items[n-1])-1]
			return append(append([]string{start}, l.each(lead+l.indent, l.items(within))...),
				lead+items[n-1][len(items[n-1])-1:]+tail)
		}
	}
	defines := strings.HasPrefix(code, "def ")
	one := lead + l.indent + inside
	if l.inner && l.fits(one+l.behind(tail)) && calls(head) && !(defines && len(items) == 1) {
		if l.hangs {
			return l.ended([]string{lead + head, one}, tail)
		}
		return []string{lead + head, strings.TrimSuffix(one, ","), lead + tail}
	}
	if l.hangs {
		each := l.each(lead+l.indent, items)
		each[len(each)-1] = strings.TrimSuffix(each[len(each)-1], ",")
		return l.ended(append([]string{lead + head}, each...), tail)
	}
	return append(append([]string{lead + head}, l.each(lead+l.indent, items)...), lead+tail)
}

// behind is what stands behind the last part between brackets, in its line.
func (l *layout) behind(tail string) string {
	if l.hangs {
		return tail
	}
	return ""
}

// ended are lines of which the last ends with what closes the bracket.
func (l *layout) ended(lines []string, tail string) []string {
	lines[len(lines)-1] += tail
	return lines
}

// each are the parts of a list, a line each, with a comma.
func (l *layout) each(lead string, items []string) (out []string) {
	for _, one := range items {
		out = append(out, l.line(lead+one+",")...)
	}
	return out
}

// calls tells whether the bracket at the end of a text is that of a call, and of no list.
func calls(head string) bool {
	before, _ := utf8.DecodeLastRuneInString(head[:len(head)-1])
	return unicode.IsLetter(before) || unicode.IsDigit(before) || before == '_'
}

// opens tells whether a part is a list or an object that holds something.
func opens(part string) bool {
	return len(part) > 2 &&
		(part[0] == '[' && strings.HasSuffix(part, "]") || part[0] == '{' && strings.HasSuffix(part, "}"))
}

// brackets are the parts of a statement before, in, and after the last pair of its brackets that holds
// something; of a definition in Python the first pair.
func (l *layout) brackets(code string) (head, inside, tail string, ok bool) {
	at, end := -1, -1
	l.walk(code, func(i, depth int, c byte) {
		switch {
		case depth == 1 && strings.IndexByte("([{", c) >= 0:
			at, end = choose(code, at, end, i)
		case depth == 0 && strings.IndexByte(")]}", c) >= 0 && end < 0 && i > at+1:
			end = i
		}
	})
	if at < 0 || end <= at {
		return "", "", "", false
	}
	return code[:at+1], strings.TrimSuffix(strings.TrimSpace(code[at+1:end]), ","), code[end:], true
}

// choose goes on to the next pair of brackets, but in the head of a function.
func choose(code string, at, end, next int) (int, int) {
	if strings.HasPrefix(code, "def ") && end > 0 || next+1 == len(code) ||
		strings.IndexByte(")]}", code[next+1]) >= 0 {
		return at, end
	}
	return next, -1
}

// items are the parts between brackets, at the commas.
func (l *layout) items(inside string) (out []string) {
	from := 0
	l.walk(inside, func(i, depth int, c byte) {
		if depth == 0 && c == ',' {
			out, from = append(out, strings.TrimSpace(inside[from:i])), i+1
		}
	})
	if rest := strings.TrimSpace(inside[from:]); rest != "" {
		out = append(out, rest)
	}
	return out
}

// walk gives each byte that stands in no text, with how many brackets are open after it.
func (l *layout) walk(code string, told func(at, depth int, c byte)) {
	depth, quote := 0, byte(0)
	for i := 0; i < len(code); i++ {
		c := code[i]
		switch {
		case quote != 0 && c == '\\':
			i++
			continue
		case quote != 0:
			if c == quote {
				quote = 0
			}
			continue
		case strings.IndexByte(l.quotes, c) >= 0:
			quote = c
			continue
		case strings.IndexByte("([{", c) >= 0:
			depth++
		case strings.IndexByte(")]}", c) >= 0:
			depth--
		}
		told(i, depth, c)
	}
}
