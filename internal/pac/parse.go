package pac

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// token is a piece of the file.
type token struct {
	kind     byte // 'n' name, 's' text, '#' number, 'o' sign, 'e' end
	text     string
	from, to int
	line     int
}

// signs are the operators, the longest first.
//
//nolint:gochecknoglobals // a table: it is never written to
var signs = []string{"===", "!==", "==", "!=", "<=", ">=", "&&", "||", "++", "--", "+=", "-="}

// scan parts the file into tokens; comments are left out.
//
//revive:disable-next-line:cyclomatic one row for each kind of token
func scan(src string) (out []token) {
	line := 1
	for i := 0; i < len(src); {
		c := src[i]
		from := i
		switch {
		case c == '\n':
			line++
			i++
			continue
		case c == ' ' || c == '\t' || c == '\r':
			i++
			continue
		case strings.HasPrefix(src[i:], "//"):
			i += strings.IndexByte(src[i:]+"\n", '\n')
			continue
		case strings.HasPrefix(src[i:], "/*"):
			end := strings.Index(src[i+2:], "*/")
			if end < 0 {
				end = len(src) - i - 4
			}
			line += strings.Count(src[i:i+end+4], "\n")
			i += end + 4
			continue
		case c == '"' || c == '\'':
			var b strings.Builder
			for i++; i < len(src) && src[i] != c && src[i] != '\n'; i++ {
				if src[i] == '\\' && i+1 < len(src) {
					i++
				}
				b.WriteByte(src[i])
			}
			i = min(i+1, len(src))
			out = append(out, token{'s', b.String(), from, i, line})
			continue
		case c >= '0' && c <= '9':
			for i < len(src) && (src[i] >= '0' && src[i] <= '9' || src[i] == '.') {
				i++
			}
			out = append(out, token{'#', src[from:i], from, i, line})
			continue
		case isName(rune(c)):
			for i < len(src) && (isName(rune(src[i])) || src[i] >= '0' && src[i] <= '9') {
				i++
			}
			out = append(out, token{'n', src[from:i], from, i, line})
			continue
		}
		sign := src[i : i+1]
		for _, s := range signs {
			if strings.HasPrefix(src[i:], s) {
				sign = s
				break
			}
		}
		i += len(sign)
		out = append(out, token{'o', sign, from, i, line})
	}
	return append(out, token{'e', "the end", len(src), len(src), line})
}

func isName(r rune) bool { return r == '_' || r == '$' || unicode.IsLetter(r) }

// node is a piece of the program: a statement or an expression.
type node struct {
	op   string // if, return, var, block, call, member, name, text, number, ?:, or a sign
	text string // name, text, number
	kids []*node
	line int
	src  string // as it is written
}

// parser reads the part of the language that such files are written in.
type parser struct {
	tokens []token
	at     int
	src    string
	depth  int
}

// deepest is how deep statements and expressions may lie in each other.
const deepest = 200

func (p *parser) is(text string) bool {
	t := p.tokens[p.at]
	return t.text == text && (t.kind == 'o' || t.kind == 'n')
}

func (p *parser) take(text string) bool {
	if p.is(text) {
		p.at++
		return true
	}
	return false
}

func (p *parser) must(text string) error {
	if p.take(text) {
		return nil
	}
	t := p.tokens[p.at]
	return fmt.Errorf("line %d: %q is not understood, %q was due", t.line, t.text, text)
}

// function finds a function, and reads it.
func (p *parser) function(name string) (body []*node, params []string, err error) {
	for p.at = 0; p.at+1 < len(p.tokens); p.at++ {
		if p.is("function") && p.tokens[p.at+1].text == name {
			p.at += 2
			if err := p.must("("); err != nil {
				return nil, nil, err
			}
			for !p.take(")") {
				if t := p.tokens[p.at]; t.kind == 'n' {
					params = append(params, t.text)
				} else if t.kind == 'e' {
					return nil, nil, p.must(")")
				}
				p.at++
			}
			block, err := p.statement()
			if err != nil {
				return nil, nil, err
			}
			return []*node{block}, params, nil
		}
	}
	return nil, nil, fmt.Errorf("it has no function %s", name)
}

// globals are the names that stand before the function with a plain value.
func (p *parser) globals([]*node) map[string]value {
	out := map[string]value{}
	for i := 0; i+3 < len(p.tokens); i++ {
		if p.tokens[i].text == "function" {
			break
		}
		if p.tokens[i].text == "var" && p.tokens[i+2].text == "=" && p.tokens[i+3].kind == 's' {
			out[p.tokens[i+1].text] = text(p.tokens[i+3].text)
		}
	}
	return out
}

//revive:disable-next-line:cyclomatic one row for each kind of statement
func (p *parser) statement() (*node, error) {
	if p.depth++; p.depth > deepest {
		return nil, fmt.Errorf("line %d: it lies too deep", p.tokens[p.at].line)
	}
	defer func() { p.depth-- }()
	t := p.tokens[p.at]
	n := &node{line: t.line}
	switch {
	case p.take(";"):
		n.op = "block"
		return n, nil
	case p.take("{"):
		n.op = "block"
		for !p.take("}") {
			if p.tokens[p.at].kind == 'e' {
				return nil, p.must("}")
			}
			one, err := p.statement()
			if err != nil {
				return nil, err
			}
			n.kids = append(n.kids, one)
		}
		return n, nil
	case p.take("if"):
		return p.ifs(n)
	case p.take("return"):
		n.op = "return"
		if p.take(";") {
			return n, nil
		}
		one, err := p.expression()
		n.kids = append(n.kids, one)
		p.take(";")
		return n, err
	case slices.Contains([]string{"for", "while", "do", "switch", "function", "try"}, t.text):
		return nil, fmt.Errorf("line %d: %s is not read", t.line, t.text)
	}
	p.take("var")
	p.take("let")
	p.take("const")
	for {
		one, err := p.expression()
		if err != nil {
			return nil, err
		}
		set := &node{op: "set", line: t.line, kids: []*node{one}}
		if p.take("=") {
			to, err := p.expression()
			if err != nil {
				return nil, err
			}
			set.kids = append(set.kids, to)
		}
		n.op, n.kids = "block", append(n.kids, set)
		if !p.take(",") {
			break
		}
	}
	p.take(";")
	return n, nil
}

func (p *parser) ifs(n *node) (*node, error) {
	n.op = "if"
	if err := p.must("("); err != nil {
		return nil, err
	}
	condition, err := p.expression()
	if err != nil {
		return nil, err
	}
	if err := p.must(")"); err != nil {
		return nil, err
	}
	then, err := p.statement()
	if err != nil {
		return nil, err
	}
	n.kids = []*node{condition, then}
	if p.take("else") {
		other, err := p.statement()
		if err != nil {
			return nil, err
		}
		n.kids = append(n.kids, other)
	}
	return n, nil
}

// levels are the operators with two sides, those that bind least first.
//
//nolint:gochecknoglobals // a table: it is never written to
var levels = [][]string{{"||"}, {"&&"}, {"==", "!=", "===", "!=="}, {"<", ">", "<=", ">="}, {"+", "-"}}

func (p *parser) expression() (*node, error) {
	if p.depth++; p.depth > deepest {
		return nil, fmt.Errorf("line %d: it lies too deep", p.tokens[p.at].line)
	}
	defer func() { p.depth-- }()
	from := p.tokens[p.at]
	n, err := p.binary(0)
	if err != nil {
		return nil, err
	}
	if p.take("?") {
		yes, err := p.expression()
		if err != nil {
			return nil, err
		}
		if err := p.must(":"); err != nil {
			return nil, err
		}
		no, err := p.expression()
		if err != nil {
			return nil, err
		}
		n = &node{op: "?:", kids: []*node{n, yes, no}, line: from.line}
	}
	n.src = strings.Join(strings.Fields(p.src[from.from:p.tokens[p.at-1].to]), " ")
	return n, nil
}

func (p *parser) binary(level int) (*node, error) {
	if level == len(levels) {
		return p.unary()
	}
	left, err := p.binary(level + 1)
	if err != nil {
		return nil, err
	}
	for {
		op := ""
		for _, s := range levels[level] {
			if p.is(s) {
				op = s
			}
		}
		if op == "" {
			return left, nil
		}
		line := p.tokens[p.at].line
		p.at++
		right, err := p.binary(level + 1)
		if err != nil {
			return nil, err
		}
		left = &node{op: op, kids: []*node{left, right}, line: line}
	}
}

func (p *parser) unary() (*node, error) {
	t := p.tokens[p.at]
	if p.take("!") || p.take("-") {
		one, err := p.unary()
		return &node{op: "un" + t.text, kids: []*node{one}, line: t.line}, err
	}
	n, err := p.primary()
	if err != nil {
		return nil, err
	}
	for {
		switch {
		case p.take("."):
			name := p.tokens[p.at]
			p.at++
			n = &node{op: "member", text: name.text, kids: []*node{n}, line: name.line}
		case p.take("("):
			n = &node{op: "call", kids: []*node{n}, line: t.line}
			for !p.take(")") {
				one, err := p.expression()
				if err != nil {
					return nil, err
				}
				if n.kids = append(n.kids, one); !p.take(",") && !p.is(")") {
					return nil, p.must(")")
				}
			}
		default:
			return n, nil
		}
	}
}

func (p *parser) primary() (*node, error) {
	t := p.tokens[p.at]
	p.at++
	switch {
	case t.kind == 's':
		return &node{op: "text", text: t.text, line: t.line}, nil
	case t.kind == '#':
		return &node{op: "number", text: t.text, line: t.line}, nil
	case t.kind == 'n':
		return &node{op: "name", text: t.text, line: t.line}, nil
	case t.text == "(" && t.kind == 'o':
		n, err := p.expression()
		if err != nil {
			return nil, err
		}
		return n, p.must(")")
	}
	p.at--
	return nil, fmt.Errorf("line %d: %q is not understood", t.line, t.text)
}
